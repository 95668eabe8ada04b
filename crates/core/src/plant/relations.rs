//! How items hang together: what an item contains, and what refers to it. Worked out once for a revision, so that thousands of
//! items can be asked about.

use super::{Kind, Plant};
use std::collections::{HashMap, HashSet};
use uuid::Uuid;

/// Something that refers to an item.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Referrer {
    pub kind: Kind,
    pub id: Uuid,
    /// How, as the rest of a sentence: “it is the setpoint of …”.
    pub words: String,
}

/// The relations of one revision.
pub struct Relations {
    /// What lies directly in an item: places and tags of a place, tags of a connection, rules of a tag.
    inside: HashMap<Uuid, Vec<(Kind, Uuid)>>,
    referrers: HashMap<Uuid, Vec<Referrer>>,
}

impl Relations {
    /// Works them out.
    pub fn of(plant: &Plant) -> Relations {
        let mut inside: HashMap<Uuid, Vec<(Kind, Uuid)>> = HashMap::new();
        let mut put = |top: Option<Uuid>, kind, id| {
            if let Some(top) = top {
                inside.entry(top).or_default().push((kind, id));
            }
        };
        for place in plant.places.values() {
            put(place.set.parent, Kind::Place, place.id);
        }
        for tag in plant.tags.values() {
            put(Some(tag.set.place), Kind::Tag, tag.id);
            put(tag.set.connection, Kind::Tag, tag.id);
        }
        for rule in plant.rules.values() {
            put(Some(rule.set.tag), Kind::Rule, rule.id);
        }
        let mut relations = Relations { inside, referrers: HashMap::new() };
        relations.refer(plant);
        for list in relations.referrers.values_mut() {
            list.sort_by(|a, b| a.words.cmp(&b.words));
        }
        relations
    }

    fn refer(&mut self, plant: &Plant) {
        let mut add = |to: Uuid, kind, id, words: String| {
            self.referrers.entry(to).or_default().push(Referrer { kind, id, words });
        };
        for report in plant.reports.values() {
            let name = &report.set.name;
            let shown: HashSet<Uuid> = report.set.sections.iter().flat_map(|s| s.tags().iter().copied()).collect();
            for tag in shown {
                let path = plant.tags.get(&tag).map_or_else(String::new, |t| plant.tag_path(&t.set));
                let what = if path.is_empty() { "this tag".to_owned() } else { format!("“{path}”") };
                add(tag, Kind::Report, report.id, format!("report “{name}” uses {what}"));
            }
            if let Some(place) = report.set.place {
                add(place, Kind::Report, report.id, format!("report “{name}” is about it"));
            }
        }
        for tag in plant.tags.values() {
            if let Some(setpoint) = tag.set.setpoint {
                add(setpoint, Kind::Tag, tag.id, format!("it is the setpoint of “{}”", plant.tag_path(&tag.set)));
            }
        }
        for tag in plant.tags.values() {
            if let Some(states) = tag.set.states {
                add(states, Kind::Tag, tag.id, format!("it names the states of “{}”", plant.tag_path(&tag.set)));
            }
        }
        for layout in plant.layouts.values() {
            let nested: HashSet<Uuid> = layout.set.members.iter().filter_map(|m| m.layout).collect();
            for within in nested {
                add(within, Kind::Layout, layout.id, format!("layout “{}” holds it", layout.set.name));
            }
            let naming: HashSet<Uuid> = layout.set.members.iter().filter_map(|m| m.states).collect();
            for states in naming {
                add(states, Kind::Layout, layout.id, format!("it names states in the layout “{}”", layout.set.name));
            }
        }
        for connection in plant.connections.values() {
            for block in &connection.set.blocks {
                let words = format!("block “{}” of {} uses it", block.name, connection.set.name);
                add(block.layout, Kind::Connection, connection.id, words);
            }
        }
    }

    /// What is contained in an item at any depth, and goes when it goes.
    pub fn contents(&self, kind: Kind, id: Uuid) -> Vec<(Kind, Uuid)> {
        let mut found = Vec::new();
        let mut open = vec![(kind, id)];
        // Edits not yet checked may have bent the tree into a ring.
        let mut seen = HashSet::from([id]);
        while let Some((_, id)) = open.pop() {
            for &(kind, id) in self.inside.get(&id).into_iter().flatten() {
                if seen.insert(id) {
                    found.push((kind, id));
                    open.push((kind, id));
                }
            }
        }
        found
    }

    /// What refers to an item from outside: reports that show a tag, a tag whose setpoint it is, and so on.
    pub fn referrers(&self, id: Uuid) -> &[Referrer] {
        self.referrers.get(&id).map_or(&[], Vec::as_slice)
    }
}
