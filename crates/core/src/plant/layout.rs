//! Groups of a connection, and layouts: a block of registers described once and mapped wherever it stands.
//!
//! A [`Layout`] names members and where each begins; a [`Block`] maps a layout onto a connection, once or many times with
//! a fixed stride. A tag of a block names the block, the instance and the member, never an address: moving the block
//! moves all its tags.

use super::{
    Item, Kind, Own, Plant, Settings, Table,
    check::{Wrong, between, name_of, text},
    kind::{Checking, Reference},
};
use crate::scale::Scaling;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// How deep layouts may be nested.
pub(super) const DEEPEST: usize = 8;
/// Most members that one instance of a layout may come to.
const MOST_LEAVES: usize = 10_000;
/// Most members that are looked at for that, those that hold nothing included.
const MOST_STEPS: usize = 4 * MOST_LEAVES;
/// Most values that all instances of a block may come to.
pub const MOST_OF_BLOCK: usize = 100_000;

/// Tags of a connection that are read together, in a rhythm of their own.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Group {
    pub id: Uuid,
    pub name: String,
    /// Milliseconds, 100 to 3,600,000.
    pub interval_ms: u32,
    /// Off: paused, its tags are not read.
    #[serde(default = "yes")]
    pub enabled: bool,
}

/// A layout mapped onto a connection.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Block {
    pub id: Uuid,
    pub name: String,
    pub layout: Uuid,
    /// Where the first instance begins, and what all members share: the driver's own fields.
    pub point: Own,
    /// How many instances there are.
    #[serde(default = "once")]
    pub count: u32,
    /// Addresses from the beginning of one instance to that of the next.
    #[serde(default)]
    pub stride: u32,
}

/// What a block of registers holds.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Layout {
    pub name: String,
    #[serde(default)]
    pub note: String,
    #[serde(default)]
    pub members: Vec<Member>,
    #[serde(default)]
    pub order: f64,
}

/// One value of a layout, an array of them, or a layout within.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Member {
    pub id: Uuid,
    pub name: String,
    /// Addresses from the beginning of the layout.
    pub offset: u32,
    /// More than one makes an array.
    #[serde(default = "once")]
    pub count: u32,
    /// Addresses from one element of an array to the next.
    #[serde(default)]
    pub stride: u32,
    /// A layout within; `point` and what follows are then of no use.
    #[serde(default)]
    pub layout: Option<Uuid>,
    /// How it is read: the driver's own fields but the address.
    #[serde(default)]
    pub point: Own,
    #[serde(default)]
    pub scaling: Option<Scaling>,
    #[serde(default)]
    pub unit: String,
    /// Names for its whole numbers, for tags that are made of it.
    #[serde(default)]
    pub states: Option<Uuid>,
    #[serde(default)]
    pub decimals: u8,
    #[serde(default)]
    pub range_low: Option<f64>,
    #[serde(default)]
    pub range_high: Option<f64>,
}

/// A value of one instance of a layout.
#[derive(Clone, Debug)]
pub struct Leaf<'a> {
    pub steps: Vec<(Uuid, u32)>,
    /// A name for each step; elements of arrays are counted from 1.
    pub names: Vec<String>,
    pub offset: u32,
    pub member: &'a Member,
}

fn yes() -> bool {
    true
}
fn once() -> u32 {
    1
}

impl Group {
    pub(super) fn check(&self, at: &str, wrong: &mut Wrong) {
        name_of(wrong, &format!("{at}.name"), &self.name);
        between(wrong, &format!("{at}.interval_ms"), self.interval_ms, 100, 3_600_000);
    }
}

impl Block {
    pub(super) fn check(&self, at: &str, wrong: &mut Wrong) {
        name_of(wrong, &format!("{at}.name"), &self.name);
        between(wrong, &format!("{at}.count"), self.count, 1, 10_000);
        if self.count > 1 {
            between(wrong, &format!("{at}.stride"), self.stride, 1, 65_535);
        }
    }
}

impl Settings for Layout {
    const KIND: Kind = Kind::Layout;

    fn table(plant: &Plant) -> &Table<Layout> {
        &plant.layouts
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Layout> {
        &mut plant.layouts
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (None, &self.name)
    }

    fn order(&self) -> f64 {
        self.order
    }

    fn references(&self) -> Vec<Reference> {
        let named = |(i, member): (usize, &Member)| {
            let states = member.states.map(|to| Reference::to(format!("members[{i}].states"), Kind::States, to));
            let layout = member.layout.map(|to| Reference::to(format!("members[{i}].layout"), Kind::Layout, to));
            states.into_iter().chain(layout)
        };
        self.members.iter().enumerate().flat_map(named).collect()
    }

    fn uses(item: &Item<Layout>, reference: &Reference, _: &Plant) -> String {
        match reference.kind {
            Some(Kind::States) => format!("it names states in the layout “{}”", item.set.name),
            _ => format!("layout “{}” holds it", item.set.name),
        }
    }

    fn check(item: &Item<Layout>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let set = &item.set;
        name_of(wrong, "name", &set.name);
        text(wrong, "note", &set.note);
        if set.members.len() > 1000 {
            wrong.push(("members".into(), "A layout has at most 1,000 members.".into()));
        }
        for (i, member) in set.members.iter().enumerate() {
            let at = |field: &str| format!("members[{i}].{field}");
            name_of(wrong, &at("name"), &member.name);
            between(wrong, &at("offset"), member.offset, 0, 65_535);
            between(wrong, &at("count"), member.count, 1, 10_000);
            between(wrong, &at("decimals"), member.decimals, 0, 9);
            if member.count > 1 {
                between(wrong, &at("stride"), member.stride, 1, 65_535);
            }
            if set.members[..i].iter().any(|m| m.name == member.name || m.id == member.id) {
                wrong.push((at("name"), format!("There is already a member “{}”.", member.name)));
            }
            if let (Some(low), Some(high)) = (member.range_low, member.range_high)
                && low >= high
            {
                wrong.push((at("range_high"), "A range must end above its beginning.".into()));
            }
            if let Some((field, message)) = member.scaling.and_then(|s| s.check()) {
                wrong.push((at(&format!("scaling.{field}")), message.into()));
            }
        }
        if let Err(words) = checking.plant.leaves(item.id) {
            wrong.push(("members".into(), words));
        }
    }

    /// The connections onto which it is mapped.
    fn dependents(item: &Item<Layout>, plant: &Plant) -> Vec<(Kind, Uuid, &'static str)> {
        let uses = plant.connections.values().filter(|c| c.set.blocks.iter().any(|b| plant.layout_holds(b.layout, item.id)));
        uses.map(|connection| (Kind::Connection, connection.id, "members")).collect()
    }
}

/// What was found of a layout so far, and how many members were looked at.
struct Gathered<'a> {
    leaves: Vec<Leaf<'a>>,
    steps: usize,
}

impl Plant {
    /// Every value of one instance of a layout, in the order of its members.
    ///
    /// # Errors
    /// A layout that does not exist, holds itself, is nested too deep, or comes to too much; in words.
    pub fn leaves(&self, layout: Uuid) -> Result<Vec<Leaf<'_>>, String> {
        let mut found = Gathered { leaves: Vec::new(), steps: 0 };
        self.gather(layout, (&[], &[], 0), &mut found)?;
        Ok(found.leaves)
    }

    fn gather<'a>(
        &'a self,
        layout: Uuid,
        (steps, names, offset): (&[(Uuid, u32)], &[String], u32),
        found: &mut Gathered<'a>,
    ) -> Result<(), String> {
        let item = self.layouts.get(&layout).ok_or("The layout it names does not exist.")?;
        if steps.len() >= DEEPEST {
            return Err(format!("The layout “{}” holds itself, or layouts are nested more than {DEEPEST} deep.", item.set.name));
        }
        for member in &item.set.members {
            for element in 0..member.count {
                found.steps += 1;
                if found.leaves.len() >= MOST_LEAVES || found.steps > MOST_STEPS {
                    return Err(format!("One instance has more than {MOST_LEAVES} values."));
                }
                let steps: Vec<_> = steps.iter().copied().chain([(member.id, element)]).collect();
                let name = if member.count > 1 { format!("{} {}", member.name, element + 1) } else { member.name.clone() };
                let names: Vec<_> = names.iter().cloned().chain([name]).collect();
                let offset = offset.saturating_add(member.offset).saturating_add(element.saturating_mul(member.stride));
                match member.layout {
                    Some(inner) => self.gather(inner, (&steps, &names, offset), found)?,
                    None => found.leaves.push(Leaf { steps, names, offset, member }),
                }
            }
        }
        Ok(())
    }

    /// Whether a layout is, or holds at any depth, another.
    pub fn layout_holds(&self, layout: Uuid, other: Uuid) -> bool {
        let mut open = vec![layout];
        let mut seen = std::collections::HashSet::new();
        while let Some(id) = open.pop() {
            if id == other {
                return true;
            }
            if let Some(item) = self.layouts.get(&id).filter(|_| seen.insert(id)) {
                open.extend(item.set.members.iter().filter_map(|m| m.layout));
            }
        }
        false
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plant::{Kind, Stored, Tag};
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    /// A dryer with three zones, each with a temperature and two fans.
    fn plant() -> Plant {
        let item = |kind, n, own: Json| Stored { kind, id: id(n), no: 0, revision: 1, own: own.as_object().unwrap().clone() };
        let fans = json!({"id": id(12), "name": "Fan", "offset": 2, "count": 2, "stride": 3, "point": {"type": "u16"},
            "scaling": {"raw_low": 0.0, "raw_high": 1000.0, "low": 0.0, "high": 100.0}});
        let zone = json!({"name": "Zone", "members": [
            {"id": id(11), "name": "Temperature", "offset": 0, "point": {"type": "f32"}}, fans]});
        let dryer = json!({"name": "Dryer", "members": [
            {"id": id(21), "name": "Running", "offset": 0, "point": {"type": "bool"}},
            {"id": id(22), "name": "Zone", "offset": 10, "count": 3, "stride": 20, "layout": id(1)}]});
        let block = json!({"id": id(31), "name": "Dryers", "layout": id(2), "point": {"address": "40101", "unit": 3},
            "count": 2, "stride": 100});
        let connection = json!({"name": "Line", "kind": "modbus", "blocks": [block]});
        let (plant, broken) = Plant::from_stored(
            1,
            vec![item(Kind::Layout, 1, zone), item(Kind::Layout, 2, dryer), item(Kind::Connection, 3, connection)],
        );
        assert!(broken.is_empty(), "{broken:?}");
        plant
    }

    fn source(point: Json) -> Result<(u64, bool), String> {
        let plant = plant();
        let tag: Tag = serde_json::from_value(json!({"place": id(9), "name": "t", "point": point})).unwrap();
        let found = plant.source(&plant.connections[&id(3)].set, &tag).map_err(|(field, _)| field)?;
        assert_eq!((&found.point["address"], &found.point["unit"]), (&json!("40101"), &json!(3)));
        Ok((found.point["offset"].as_u64().unwrap(), found.scaling.is_some()))
    }

    #[rstest]
    #[case(json!({"block": id(31), "member": [[id(21), 0]]}), Ok((0, false)))]
    #[case(json!({"block": id(31), "index": 1, "member": [[id(21), 0]]}), Ok((100, false)))]
    #[case(json!({"block": id(31), "index": 1, "member": [[id(22), 2], [id(12), 1]]}), Ok((100 + 10 + 40 + 2 + 3, true)))]
    #[case(json!({"block": id(99), "member": [[id(21), 0]]}), Err("block"))]
    #[case(json!({"block": id(31), "index": 2, "member": [[id(21), 0]]}), Err("index"))]
    #[case(json!({"block": id(31), "member": [[id(22), 3], [id(12), 1]]}), Err("member"))]
    #[case(json!({"block": id(31), "member": [[id(22), 0]]}), Err("member"))]
    #[case(json!({"block": id(31), "member": []}), Err("member"))]
    fn a_member_of_a_block_finds_its_own_address(#[case] point: Json, #[case] expected: Result<(u64, bool), &str>) {
        assert_eq!(source(point), expected.map_err(str::to_owned));
    }

    #[test]
    fn every_leaf_of_a_layout_is_the_source_it_names() {
        let plant = plant();
        let leaves = plant.leaves(id(2)).unwrap();
        assert_eq!(leaves.len(), 1 + 3 * 3);
        assert_eq!(leaves[6].names.join(" "), "Zone 2 Fan 2");
        for leaf in leaves {
            let point = json!({"block": id(31), "index": 1, "member": leaf.steps});
            assert_eq!(source(point).unwrap().0, u64::from(100 + leaf.offset));
        }
    }

    #[test]
    fn a_layout_that_holds_itself_is_refused_in_words() {
        let mut plant = plant();
        let own = json!({"name": "Ring", "members": [{"id": id(1), "name": "r", "offset": 0, "layout": id(7)}]});
        plant.put(Kind::Layout, id(7), 0, 2, own.as_object().unwrap().clone()).unwrap();
        assert!(plant.leaves(id(7)).unwrap_err().contains("holds itself"));
        assert!(plant.layout_holds(id(2), id(1)) && !plant.layout_holds(id(1), id(2)));
    }
}
