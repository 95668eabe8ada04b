//! Finding anything by words: places, tags, connections and reports.

use super::{Kind, Plant};
use memchr::memmem;
use std::{collections::HashMap, ops::Range};
use uuid::Uuid;

struct Entry {
    kind: Kind,
    id: Uuid,
    /// Where its path lies in the text of all.
    path: Range<usize>,
    /// Where the name begins in it.
    name: usize,
}

/// An index over one revision of the plant.
pub struct Finder {
    pub revision: i64,
    /// In the order of their paths.
    entries: Vec<Entry>,
    /// Every path in lower case, one behind the other, so that a search runs through memory in one go.
    text: String,
}

/// How well an entry fits; less is better. Ties go to the shorter path, then to the one that comes first.
type Rank = (u8, usize, usize, usize);

impl Finder {
    /// Makes the index. For a hundred thousand tags that takes tenths of a second, once for each revision.
    pub fn of(plant: &Plant) -> Finder {
        let mut paths: HashMap<Uuid, String> = HashMap::with_capacity(plant.places.len());
        for &id in plant.places.keys() {
            paths.insert(id, plant.path(Some(id)).to_lowercase());
        }
        // Path, length of the name at its end, and what it is.
        let mut all: Vec<(String, usize, Kind, Uuid)> =
            Vec::with_capacity(plant.places.len() + plant.tags.len() + plant.connections.len() + plant.reports.len());
        for place in plant.places.values() {
            all.push((paths[&place.id].clone(), place.set.name.to_lowercase().len(), Kind::Place, place.id));
        }
        for tag in plant.tags.values() {
            let (place, name) = (paths.get(&tag.set.place).map_or("", String::as_str), tag.set.name.to_lowercase());
            all.push((format!("{place}/{name}"), name.len(), Kind::Tag, tag.id));
        }
        let connections = plant.connections.values().map(|c| (&c.set.name, Kind::Connection, c.id));
        for (name, kind, id) in connections.chain(plant.reports.values().map(|r| (&r.set.name, Kind::Report, r.id))) {
            let name = name.to_lowercase();
            all.push((name.clone(), name.len(), kind, id));
        }
        all.sort_unstable_by(|a, b| a.0.cmp(&b.0));
        let mut text = String::with_capacity(all.iter().map(|(path, ..)| path.len()).sum());
        let entries = all.iter().map(|(path, name, kind, id)| {
            let start = text.len();
            text.push_str(path);
            Entry { kind: *kind, id: *id, path: start..text.len(), name: text.len().saturating_sub(*name).max(start) }
        });
        let entries = entries.collect();
        Finder { revision: plant.revision, entries, text }
    }

    /// The best `most` entries that are wanted and hold every word of the text, whatever its case, and how many there are in
    /// all. Words are parted by spaces or “/”. Names that begin with the text come first, then names that hold all words, then
    /// paths; without any words all come in the order of their paths.
    pub fn find(&self, text: &str, most: usize, wanted: impl Fn(Kind, Uuid) -> bool) -> (Vec<(Kind, Uuid)>, usize) {
        let text = text.trim().to_lowercase();
        let words: Vec<&str> = text.split([' ', '/']).filter(|w| !w.is_empty()).take(12).collect();
        if words.is_empty() {
            let all = self.entries.iter().filter(|e| wanted(e.kind, e.id)).map(|e| (e.kind, e.id));
            return (all.clone().take(most).collect(), all.count());
        }
        let sought: Vec<memmem::Finder<'_>> = words.iter().map(memmem::Finder::new).collect();
        let mut found: Vec<Rank> = Vec::new();
        for (index, entry) in self.entries.iter().enumerate() {
            let path = &self.text.as_bytes()[entry.path.clone()];
            if !sought.iter().all(|w| w.find(path).is_some()) || !wanted(entry.kind, entry.id) {
                continue;
            }
            let name = &self.text[entry.name..entry.path.end];
            let fit = match () {
                () if name == text => 0,
                () if name.starts_with(&text) => 1,
                () if words.iter().all(|w| name.contains(w)) => 2,
                () if words.iter().any(|w| name.starts_with(w)) => 3,
                () if words.iter().any(|w| name.contains(w)) => 4,
                () => 5,
            };
            let kind = Kind::ALL.iter().position(|k| *k == entry.kind).unwrap_or(0);
            found.push((fit, kind, path.len(), index));
        }
        let total = found.len();
        if total > most && most > 0 {
            found.select_nth_unstable(most - 1);
            found.truncate(most);
        }
        found.sort_unstable();
        (found.into_iter().take(most).map(|(.., i)| (self.entries[i].kind, self.entries[i].id)).collect(), total)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plant::Stored;
    use rstest::rstest;
    use serde_json::json;

    fn plant() -> Plant {
        let id = Uuid::from_u128;
        let item = |kind, n: u128, own: serde_json::Value| {
            let own = own.as_object().unwrap().clone();
            Stored { kind, id: id(n), no: n as u32, revision: 1, own }
        };
        let stored = vec![
            item(Kind::Place, 1, json!({"name": "Extraction"})),
            item(Kind::Place, 2, json!({"name": "EX-1", "parent": id(1)})),
            item(Kind::Place, 3, json!({"name": "EX-2", "parent": id(1)})),
            item(Kind::Tag, 4, json!({"name": "Level", "place": id(2)})),
            item(Kind::Tag, 5, json!({"name": "Level setpoint", "place": id(2)})),
            item(Kind::Tag, 6, json!({"name": "Level", "place": id(3)})),
            item(Kind::Tag, 7, json!({"name": "Überlauf", "place": id(3)})),
            item(Kind::Report, 8, json!({"name": "Levels of the night"})),
        ];
        let (plant, broken) = Plant::from_stored(3, stored);
        assert!(broken.is_empty());
        plant
    }

    #[rstest]
    #[case::name("level", &[4, 6, 5, 8])]
    #[case::place_and_name("ex-2 level", &[6])]
    #[case::as_a_path("EX-1/Level", &[4, 5])]
    #[case::words_in_any_order("set ex-1", &[5])]
    #[case::places_before_what_they_hold("ex-1", &[2, 4, 5])]
    #[case::beginnings_before_middles("ex-2 l", &[6, 7])]
    #[case::other_letters("überl", &[7])]
    #[case::nothing("valve", &[])]
    #[case::blank("  / ", &[])]
    fn words_find(#[case] text: &str, #[case] expected: &[u128]) {
        let (found, total) = Finder::of(&plant()).find(text, 10, |_, _| !text.trim_matches([' ', '/']).is_empty());
        let found: Vec<u128> = found.into_iter().map(|(_, id)| id.as_u128()).collect();
        assert_eq!((found.as_slice(), total), (expected, expected.len()));
    }

    #[test]
    fn only_what_is_wanted_is_found() {
        let finder = Finder::of(&plant());
        let tags = |text| finder.find(text, 2, |kind, _| kind == Kind::Tag);
        assert_eq!((tags("level").0[0].1.as_u128(), tags("level").1), (4, 3));
        // Without words they come in the order of their paths.
        assert_eq!((tags(" ").0.iter().map(|(_, id)| id.as_u128()).collect::<Vec<_>>(), tags(" ").1), (vec![4, 5], 4));
    }

    #[test]
    fn only_the_best_are_given_but_all_are_counted() {
        let (found, total) = Finder::of(&plant()).find("level", 2, |_, _| true);
        assert_eq!((found.len(), total), (2, 4));
        assert_eq!(found[0].1.as_u128(), 4);
    }
}
