//! Formulas in a plant: what they know of the tags that they name, in which order they are computed, and whether they run in a
//! circle.

use super::{Item, Kind, Own, Plant, Tag, message};
use crate::formula::{Facts, Formula, Parsed, Places, Program, Wrong, compile};
use serde_json::Value as Json;
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};
use uuid::Uuid;

/// The texts of all formulas in stored settings of a kind, each behind the field that holds it: of those that are a setting, and of
/// those in messages.
pub fn texts(kind: Kind, own: &mut Own) -> Vec<(String, &mut String)> {
    let mut all = Vec::new();
    for (field, value) in own.iter_mut() {
        if kind.formulas().contains(&field.as_str()) {
            if let Some(Json::String(text)) = value.get_mut("text") {
                all.push((format!("{field}.text"), text));
            }
        } else if kind.messages().contains(&field.as_str()) {
            all.extend(message::texts(value).map(|text| (field.clone(), text)));
        }
    }
    all
}

/// Computed tags in the order of dependence.
pub(crate) struct Order<'a> {
    /// What is read stands before what reads it.
    pub ready: Vec<&'a Arc<Item<Tag>>>,
    /// These run in a circle, or read one that does.
    pub circular: Vec<&'a Arc<Item<Tag>>>,
}

impl Plant {
    /// What a formula must know of a tag.
    pub fn facts(&self, id: Uuid) -> Option<Facts> {
        let tag = self.tags.get(&id)?;
        let states = self.states_of(&tag.set).map(|set| set.states.iter().map(|s| (s.value, s.name.as_str().into())).collect());
        Some(Facts { unit: tag.set.unit.clone(), holds_text: tag.set.holds_text(self), states })
    }

    /// A formula made ready for a tag of this unit. Places in its text are those of the text with paths.
    ///
    /// # Errors
    /// Everything that is wrong with it.
    pub fn program(&self, formula: &Formula, unit: &str) -> Result<Program, Vec<Wrong>> {
        let places = formula.places(|id| self.tags.get(&id).map(|tag| self.tag_path(&tag.set)));
        self.program_at(formula, unit, &places)
    }

    /// The same with places of another text.
    ///
    /// # Errors
    /// Everything that is wrong with it.
    pub fn program_at(&self, formula: &Formula, unit: &str, places: &Places) -> Result<Program, Vec<Wrong>> {
        compile(formula, &|id| self.facts(id), unit, places)
    }

    /// A formula's text with tags by their paths, as people read and write it.
    pub fn formula_shown(&self, text: &str) -> String {
        Formula::shown(text, |id| self.tags.get(&id).map(|tag| self.tag_path(&tag.set)))
    }

    /// The tags with formulas in the order in which they are computed.
    pub(crate) fn in_order(&self) -> Order<'_> {
        let mut computed: Vec<&Arc<Item<Tag>>> = self.tags.values().filter(|tag| tag.set.formula.is_some()).collect();
        computed.sort_by_key(|tag| tag.no);
        let index: HashMap<Uuid, usize> = computed.iter().enumerate().map(|(i, tag)| (tag.id, i)).collect();
        let mut readers: Vec<Vec<usize>> = vec![Vec::new(); computed.len()];
        let mut waits = vec![0usize; computed.len()];
        for (i, tag) in computed.iter().enumerate() {
            for read in tag.set.formula.iter().flat_map(Formula::references).filter_map(|id| index.get(&id)) {
                readers[*read].push(i);
                waits[i] += 1;
            }
        }
        let mut order: Vec<usize> = (0..computed.len()).filter(|&i| waits[i] == 0).collect();
        let mut next = 0;
        while let Some(&done) = order.get(next) {
            next += 1;
            for &reader in &readers[done] {
                waits[reader] -= 1;
                if waits[reader] == 0 {
                    order.push(reader);
                }
            }
        }
        let ready: HashSet<usize> = order.iter().copied().collect();
        let left = (0..computed.len()).filter(|i| !ready.contains(i)).map(|i| computed[i]).collect();
        Order { ready: order.into_iter().map(|i| computed[i]).collect(), circular: left }
    }

    /// The circle that a tag's formula runs in, from the tag to itself; none where it does not.
    pub fn circle(&self, tag: Uuid, formula: &Formula) -> Option<Vec<Uuid>> {
        // Depth first over what is read, each tag once.
        let reads = |id: Uuid| -> Vec<Uuid> {
            if id == tag {
                return formula.references().collect();
            }
            self.tags.get(&id).and_then(|t| t.set.formula.as_ref()).map_or_else(Vec::new, |f| f.references().collect())
        };
        let mut seen = HashSet::new();
        let mut path: Vec<(Uuid, Vec<Uuid>)> = vec![(tag, reads(tag))];
        while let Some((_, open)) = path.last_mut() {
            match open.pop() {
                Some(next) if next == tag => {
                    return Some(path.iter().map(|(id, _)| *id).chain([tag]).collect());
                }
                Some(next) if seen.insert(next) => path.push((next, reads(next))),
                Some(_) => {}
                None => drop(path.pop()),
            }
        }
        None
    }

    /// A circle in words: “A reads B, which reads A”.
    pub fn circle_words(&self, circle: &[Uuid]) -> String {
        let title = |id: &Uuid| self.tags.get(id).map_or_else(|| "this tag".to_owned(), |tag| self.tag_path(&tag.set));
        let names: Vec<String> = circle.iter().skip(1).map(title).collect();
        format!("It would read itself: it reads {}.", names.join(", which reads "))
    }
}

/// A formula in which every tag is named by its identity.
pub struct Named {
    pub text: String,
    /// The tags, as often as they are named, in the order of the text.
    pub named: Vec<Uuid>,
    /// How its places lie to those of what was written.
    pub places: Places,
}

impl Plant {
    /// A formula as somebody writes it, with every tag named by its identity; tags of `place` may be named by their name alone.
    ///
    /// # Errors
    /// What cannot be read, or a tag that there is not.
    pub fn formula_named(&self, text: &str, place: Option<Uuid>) -> Result<Named, Wrong> {
        let written = Parsed::of(text)?;
        let paths = Paths::of(self, &Paths::wanted(&written));
        let here = self.path(place);
        let text = Formula::named(text, |named| paths.find(named, &here))?;
        let stored = Parsed::of(&text)?;
        let mut mentions: Vec<(usize, Option<Uuid>)> = stored.mentions().map(|(name, at, _)| (at, name.parse().ok())).collect();
        mentions.sort_unstable();
        let mut lengths: Vec<(usize, usize)> = written.mentions().map(|(_, at, to)| (at, to - at - 2)).collect();
        lengths.sort_unstable();
        let mut lengths = lengths.into_iter();
        let places = stored.moved(|_| lengths.next().map(|(_, length)| length));
        Ok(Named { text, named: mentions.into_iter().filter_map(|(_, id)| id).collect(), places })
    }
}

/// Finds tags by what formulas name them by: the path, or the name alone of a tag in the same place.
pub(super) struct Paths {
    paths: HashMap<String, Uuid>,
}

impl Paths {
    /// The last names of what a formula names by paths.
    pub fn wanted(formula: &Parsed) -> HashSet<String> {
        formula.mentions().map(|(named, ..)| named.rsplit('/').next().unwrap_or(named).trim().to_owned()).collect()
    }

    /// The tags of these names.
    pub fn of(plant: &Plant, names: &HashSet<String>) -> Paths {
        let wanted = plant.tags.values().filter(|tag| names.contains(&tag.set.name));
        Paths { paths: wanted.map(|tag| (plant.tag_path(&tag.set), tag.id)).collect() }
    }

    pub fn find(&self, named: &str, place: &str) -> Option<Uuid> {
        let clean = named.split('/').map(str::trim).filter(|part| !part.is_empty()).collect::<Vec<_>>().join("/");
        let beside = || if clean.contains('/') { None } else { self.paths.get(&format!("{place}/{clean}")) };
        self.paths.get(&clean).or_else(beside).copied()
    }
}

#[cfg(test)]
mod tests;
