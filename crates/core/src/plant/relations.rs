//! How items hang together: what an item contains, and what refers to it. Worked out once for a revision, so that thousands of
//! items can be asked about.

use super::{Kind, Plant, Settings, kind::of_kind};
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
        let mut relations = Relations { inside: HashMap::new(), referrers: HashMap::new() };
        for kind in Kind::ALL {
            of_kind!(kind, T => relations.add::<T>(plant));
        }
        for list in relations.referrers.values_mut() {
            list.sort_by(|a, b| a.words.cmp(&b.words));
            list.dedup();
        }
        relations
    }

    fn add<T: Settings>(&mut self, plant: &Plant) {
        for item in T::table(plant).values() {
            for reference in item.set.references() {
                if reference.inside {
                    self.inside.entry(reference.to).or_default().push((T::KIND, item.id));
                } else {
                    let words = T::uses(item, &reference, plant);
                    self.referrers.entry(reference.to).or_default().push(Referrer { kind: T::KIND, id: item.id, words });
                }
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
