//! Which tags: those that are chosen singly, and those that are chosen by what they are.

use super::{
    Item, Plant, Tag,
    check::{self, Wrong},
};
use serde::{Deserialize, Serialize};
use std::{collections::HashSet, sync::Arc};
use uuid::Uuid;

/// Most tags that are chosen singly, and most choices.
const MOST_TAGS: usize = 10_000;
const MOST_CHOICES: usize = 50;

/// Tags for which everything that is said holds.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Choice {
    /// Under this place, at any depth.
    pub place: Option<Uuid>,
    /// Of equipment of this class, or of one that extends it.
    pub class: Option<Uuid>,
    /// Read from this connection.
    pub connection: Option<Uuid>,
    /// With this engineering unit.
    pub unit: String,
    /// Called so, whatever the case.
    pub name: String,
    /// With all these words in the path, whatever their case.
    pub words: String,
}

impl Choice {
    /// Whether a tag is chosen. For many tags ask [`Plant::chosen`].
    pub fn fits(&self, plant: &Plant, tag: &Tag) -> bool {
        Ready::of(plant, self).fits(plant, tag)
    }

    /// Whether every tag would fit.
    fn says_nothing(&self) -> bool {
        let texts = [&self.unit, &self.name, &self.words];
        self.place.or(self.class).or(self.connection).is_none() && texts.into_iter().all(|text| text.trim().is_empty())
    }
}

/// What is wrong with choices of tags.
pub(crate) fn check(tags: &[Uuid], choices: &[Choice], wrong: &mut Wrong) {
    if tags.len() > MOST_TAGS {
        wrong.push(("tags".into(), "At most 10,000 tags are chosen singly; choose them by place instead.".into()));
    }
    if choices.len() > MOST_CHOICES {
        wrong.push(("choices".into(), format!("At most {MOST_CHOICES} of these are taken.")));
    }
    for (index, choice) in choices.iter().enumerate() {
        let field = |name: &str| format!("choices.{index}.{name}");
        if choice.says_nothing() {
            wrong.push((field("place"), "Say which tags these are: choose a place, a class, a unit, or type a name.".into()));
        }
        for (name, text) in [("unit", &choice.unit), ("name", &choice.name), ("words", &choice.words)] {
            check::text(wrong, &field(name), text);
        }
    }
}

/// A choice with what is worked out of it once.
struct Ready<'a> {
    choice: &'a Choice,
    below: Option<HashSet<Uuid>>,
    of_class: Option<HashSet<Uuid>>,
    name: String,
    words: Vec<String>,
}

impl<'a> Ready<'a> {
    fn of(plant: &Plant, choice: &'a Choice) -> Ready<'a> {
        let places = |fits: &dyn Fn(Uuid) -> bool| plant.places.keys().copied().filter(|&id| fits(id)).collect::<HashSet<_>>();
        Ready {
            choice,
            below: choice.place.map(|top| places(&|id| plant.lies_under(id, top))),
            of_class: choice.class.map(|class| places(&|id| plant.is_of_class(id, class))),
            name: choice.name.trim().to_lowercase(),
            words: choice.words.to_lowercase().split([' ', '/']).filter(|w| !w.is_empty()).map(str::to_owned).collect(),
        }
    }

    fn fits(&self, plant: &Plant, tag: &Tag) -> bool {
        let has = |set: &Option<HashSet<Uuid>>| set.as_ref().is_none_or(|set| set.contains(&tag.place));
        let unit = self.choice.unit.trim();
        has(&self.below)
            && has(&self.of_class)
            && self.choice.connection.is_none_or(|id| tag.connection == Some(id))
            && (unit.is_empty() || tag.unit == unit)
            && (self.name.is_empty() || tag.name.to_lowercase() == self.name)
            && (self.words.is_empty() || {
                let path = plant.tag_path(tag).to_lowercase();
                self.words.iter().all(|word| path.contains(word))
            })
    }
}

impl Plant {
    /// Whether a place is equipment of a class, or of one that extends it.
    pub fn is_of_class(&self, place: Uuid, class: Uuid) -> bool {
        let own = self.places.get(&place).and_then(|item| item.set.class);
        own.is_some_and(|own| own == class || self.lineage(own).is_some_and(|line| line.contains(&class)))
    }

    /// The tags that are chosen, in the order of their numbers.
    pub fn chosen(&self, tags: &[Uuid], choices: &[Choice]) -> Vec<&Arc<Item<Tag>>> {
        let singly: HashSet<Uuid> = tags.iter().copied().collect();
        let ready: Vec<Ready<'_>> = choices.iter().map(|choice| Ready::of(self, choice)).collect();
        let fits = |tag: &&Arc<Item<Tag>>| singly.contains(&tag.id) || ready.iter().any(|r| r.fits(self, &tag.set));
        let mut all: Vec<_> = self.tags.values().filter(fits).collect();
        all.sort_by_key(|tag| tag.no);
        all
    }
}
