//! Connections: how controllers and devices are reached.

use super::{
    Block, Group, Item, Kind, Own, Plant, Settings, Table, Tag,
    check::{self, Wrong},
    kind::{Checking, Reference},
    layout::MOST_OF_BLOCK,
};
use crate::arrival::Mapping;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// The connection kind whose tags keep what they are told, and so are never old.
pub const MEMORY: &str = "memory";

/// A controller or device and how to reach it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Connection {
    pub name: String,
    /// Which kind, as `link` knows it.
    pub kind: String,
    #[serde(default = "yes")]
    pub enabled: bool,
    /// Whether values may be written through it; off until somebody switches it on.
    #[serde(default)]
    pub writing: bool,
    /// How often its tags are read, in milliseconds, 100 to 3,600,000.
    #[serde(default = "second")]
    pub interval_ms: u32,
    /// How long to wait for an answer, in milliseconds, 50 to 60,000.
    #[serde(default = "second")]
    pub timeout_ms: u32,
    /// What the driver needs to know.
    #[serde(default)]
    pub settings: Own,
    /// Rhythms of its own for some of its tags.
    #[serde(default)]
    pub groups: Vec<Group>,
    /// Layouts mapped onto it.
    #[serde(default)]
    pub blocks: Vec<Block>,
    /// What it makes of whatever it meets by itself.
    #[serde(default)]
    pub mappings: Vec<Mapping>,
    #[serde(default)]
    pub order: f64,
}

impl Connection {
    /// How often the tags of a group are read; those of none with the connection's own rhythm. 0 while paused.
    pub fn interval_of(&self, group: Option<Uuid>) -> u32 {
        match group.and_then(|id| self.groups.iter().find(|g| g.id == id)) {
            _ if !self.enabled || self.kind == MEMORY => 0,
            Some(group) if !group.enabled => 0,
            Some(group) => group.interval_ms,
            None => self.interval_ms,
        }
    }
}

impl Settings for Connection {
    const KIND: Kind = Kind::Connection;
    /// Everything else about a connection means what its kind makes of it.
    const FIXED: &'static [(&'static str, &'static str)] =
        &[("kind", "The kind of a connection stays as it was created. Add another connection and assign its tags to that one.")];

    fn table(plant: &Plant) -> &Table<Connection> {
        &plant.connections
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Connection> {
        &mut plant.connections
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (None, &self.name)
    }

    fn order(&self) -> f64 {
        self.order
    }

    fn references(&self) -> Vec<Reference> {
        let used = |(i, block): (usize, &Block)| Reference::to(format!("blocks[{i}].layout"), Kind::Layout, block.layout);
        self.blocks.iter().enumerate().map(used).collect()
    }

    fn uses(item: &Item<Connection>, reference: &Reference, _: &Plant) -> String {
        let block = item.set.blocks.iter().find(|block| block.layout == reference.to);
        format!("block “{}” of {} uses it", block.map_or("", |b| b.name.as_str()), item.set.name)
    }

    fn check(item: &Item<Connection>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let set = &item.set;
        check::name(wrong, &set.name);
        check::between(wrong, "interval_ms", set.interval_ms, 100, 3_600_000);
        check::between(wrong, "timeout_ms", set.timeout_ms, 50, 60_000);
        for (i, group) in set.groups.iter().enumerate() {
            group.check(&format!("groups[{i}]"), wrong);
            if set.groups[..i].iter().any(|g| g.name == group.name || g.id == group.id) {
                wrong.push((format!("groups[{i}].name"), format!("There is already a group “{}”.", group.name)));
            }
        }
        for (i, block) in set.blocks.iter().enumerate() {
            block.check(&format!("blocks[{i}]"), wrong);
            if set.blocks[..i].iter().any(|b| b.name == block.name || b.id == block.id) {
                wrong.push((format!("blocks[{i}].name"), format!("There is already a block “{}”.", block.name)));
            }
        }
        if set.groups.len() > 1000 || set.blocks.len() > 1000 {
            wrong.push(("groups".into(), "A connection has at most 1,000 groups and 1,000 blocks.".into()));
        }
        wrong.extend(checking.source.connection(set));
        if wrong.is_empty() {
            wrong.extend(wrong_blocks(item, checking));
        }
        if wrong.is_empty() {
            wrong.extend(spoilt_tags(item, checking));
        }
    }
}

/// Whether every value of every block can be read: the first and the last instance tell for those between.
fn wrong_blocks(connection: &Item<Connection>, checking: &Checking<'_>) -> Wrong {
    let mut wrong: Wrong = Vec::new();
    for (i, block) in connection.set.blocks.iter().enumerate() {
        let leaves = match checking.plant.leaves(block.layout) {
            Err(words) => {
                wrong.push((format!("blocks[{i}].layout"), words));
                continue;
            }
            Ok(leaves) => leaves,
        };
        if leaves.len() * block.count as usize > MOST_OF_BLOCK {
            wrong.push((format!("blocks[{i}].count"), format!("A block has at most {MOST_OF_BLOCK} values.")));
            continue;
        }
        let mut instances = vec![0, block.count - 1];
        instances.dedup();
        let first = instances.into_iter().find_map(|index| {
            leaves.iter().find_map(|leaf| {
                let point = block.place(leaf.member, leaf.offset.saturating_add(index.saturating_mul(block.stride)));
                let told = checking.source.point(&connection.set, &Tag::at(point)).into_iter().next()?;
                Some((told, leaf.names.join(" "), index))
            })
        });
        if let Some(((field, words), name, index)) = first {
            let own = field.strip_prefix("point.").filter(|f| block.point.contains_key(*f) && *f != "address");
            let at = own.map_or_else(|| format!("blocks[{i}].address"), |f| format!("blocks[{i}].{f}"));
            wrong.push((at, format!("“{name}” of instance {}: {words}", index + 1)));
        }
    }
    wrong
}

/// A changed connection can spoil where tags are read that were not touched.
fn spoilt_tags(connection: &Item<Connection>, checking: &Checking<'_>) -> Option<(String, String)> {
    let of_it = checking.plant.tags.values().filter(|t| t.set.connection == Some(connection.id));
    let spoilt = of_it.filter(|t| !t.set.wrong_source(&connection.set, checking).is_empty());
    let names: Vec<String> = spoilt.map(|t| checking.plant.tag_path(&t.set)).collect();
    let first = names.iter().min()?;
    Some((String::new(), format!("{} of its tags could not be read any more, first “{first}”.", names.len())))
}

fn yes() -> bool {
    true
}
fn second() -> u32 {
    1000
}
