//! The plant's configuration: items that hold only their own settings, and the effective ones resolved from them.
//!
//! A [`Plant`] is one revision of everything. Edits ([`edit::apply`]) make the next one beside it; nothing is ever
//! changed in place, so whoever still works with the old revision is not disturbed.

pub mod alarm_class;
pub mod board;
pub mod call_plan;
pub mod check;
pub mod choice;
pub mod class;
pub mod connection;
pub mod copy;
pub mod dispatch;
pub mod edit;
pub mod find;
pub mod follow;
mod formulas;
pub mod guide;
pub mod instances;
pub mod kind;
pub mod layers;
pub mod layout;
pub mod loop_check;
pub mod matching;
pub mod message;
pub mod pattern;
pub mod place;
pub mod publication;
pub mod recorder;
pub mod relations;
pub mod report;
pub mod rule;
pub mod schedule;
pub mod secret;
mod seen;
pub mod shifts;
pub mod source;
pub mod states;
pub mod table;
pub mod tag;
mod trigger;
pub mod undo;
pub mod view;
pub mod week;

use serde::de::DeserializeOwned;
use serde_json::{Map, Value as Json};
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};
use uuid::Uuid;

pub use alarm_class::AlarmClass;
pub use call_plan::{CallPlan, CallTo, Carrier};
pub use choice::Choice;
pub use class::{Class, Parameter, ParameterKind, Part, Property, PropertyKind, RollUp};
pub use connection::Connection;
pub use dispatch::{Covers, Delivery, Dispatch, DispatchWhen, Missed};
pub use edit::{Change, Edit, Op, Problem, ProblemKind, SourceCheck};
pub use formulas::{Named, texts as formula_texts};
pub use guide::{Concern, Consequences, Guide};
pub use kind::{Kind, Settings};
pub use layout::{Block, Group, Layout, Member};
pub use message::Message;
pub use place::{Level, Place};
pub use publication::{PayloadFormat, Publication, When};
pub use recorder::{Edge, RecordWhen, Recorder, Track};
pub use relations::{Referrer, Relations};
pub use report::{Report, Section};
pub(crate) use rule::Role;
pub use rule::{Checked, DeadbandIn, Per, Rule, Side, Uncertain};
pub use secret::Secret;
pub use shifts::ShiftPattern;
pub use source::Source;
pub use states::{State, States};
pub use tag::{RecordMode, Tag};

/// An item's own settings, or a patch of them: field name to value.
pub type Own = Map<String, Json>;

/// One item of one kind.
#[derive(Clone, Debug)]
pub struct Item<T> {
    pub id: Uuid,
    /// The tag's number; 0 for other kinds.
    pub no: u32,
    /// The revision that changed it last.
    pub revision: i64,
    pub own: Own,
    /// The effective settings.
    pub set: T,
}

/// All items of one kind. Revisions share the kinds that they have in common.
pub type Table<T> = Arc<HashMap<Uuid, Arc<Item<T>>>>;

/// One revision of the whole configuration.
#[derive(Clone, Debug, Default)]
pub struct Plant {
    pub revision: i64,
    pub classes: Table<Class>,
    pub places: Table<Place>,
    pub layouts: Table<Layout>,
    pub states: Table<States>,
    pub connections: Table<Connection>,
    pub tags: Table<Tag>,
    pub rules: Table<Rule>,
    pub reports: Table<Report>,
    pub publications: Table<Publication>,
    pub recorders: Table<Recorder>,
    pub dispatches: Table<Dispatch>,
    pub guides: Table<Guide>,
    pub shift_patterns: Table<ShiftPattern>,
    pub alarm_classes: Table<AlarmClass>,
    pub call_plans: Table<CallPlan>,
}

/// A stored item as the database gives it.
#[derive(Clone, Debug)]
pub struct Stored {
    pub kind: Kind,
    pub id: Uuid,
    pub no: u32,
    pub revision: i64,
    pub own: Own,
}

/// The effective settings of an item: what its class says, and over that what it says itself ([`layers`]).
///
/// # Errors
/// The field that is wrong, and a sentence.
pub fn resolve<T: DeserializeOwned>(class: Option<&Own>, own: &Own) -> Result<T, (String, String)> {
    read(&match class {
        Some(class) => layers::merged(&[class, own]),
        None => layers::merged(&[own]),
    })
}

/// Settings out of merged layers.
pub(crate) fn read<T: DeserializeOwned>(merged: &Own) -> Result<T, (String, String)> {
    // To follow where it is takes its time, which only a mistake is worth.
    if let Ok(set) = T::deserialize(merged) {
        return Ok(set);
    }
    serde_path_to_error::deserialize(merged).map_err(|e| {
        let field = e.path().to_string();
        let message = e.inner().to_string();
        (if field == "." { String::new() } else { field }, plain_words(&message))
    })
}

/// Whether an `f64` prints a whole number with other digits.
pub(crate) fn loses_digits(whole: i128) -> bool {
    let float = whole as f64;
    float as i128 != whole && float.to_string() != whole.to_string()
}

/// Turns the parser's message into a sentence for the person at the form.
fn plain_words(message: &str) -> String {
    if let Some(field) = message.strip_prefix("missing field `") {
        return format!("“{}” is missing.", field.trim_end_matches('`'));
    }
    if let Some(rest) = message.strip_prefix("unknown field `") {
        return format!("There is no field “{}”.", rest.split('`').next().unwrap_or_default());
    }
    if let Some((Some(digits), _)) =
        message.split_once("\", expected ").map(|(before, after)| (before.split_once("string \"").map(|b| b.1), after))
        && digits.parse::<i128>().is_ok()
    {
        return format!("{digits} has more digits than a setting keeps.");
    }
    let Some((_, expected)) = message.split_once(", expected ") else { return format!("{message}.") };
    let expected = match expected.trim_end_matches('.') {
        "u8" => "a whole number from 0 to 255",
        "u16" => "a whole number from 0 to 65535",
        "u32" | "u64" => "a whole number, not negative",
        "f64" => "a number",
        "a boolean" => "on or off",
        "a sequence" => "a list",
        "a string" => "text",
        "a UUID string" => "the id of an item",
        other => return format!("This must be {}.", other.replace('`', "")),
    };
    format!("This must be {expected}.")
}

impl Plant {
    /// Builds a revision from what is stored. Items whose settings no longer resolve are left out and returned.
    pub fn from_stored(revision: i64, stored: Vec<Stored>) -> (Plant, Vec<(Uuid, String)>) {
        let mut plant = Plant { revision, ..Plant::default() };
        let mut broken = Vec::new();
        for item in stored {
            if let Err((field, message)) = plant.put(item.kind, item.id, item.no, item.revision, item.own) {
                broken.push((item.id, format!("{field}: {message}")));
            }
        }
        let classes: Vec<(Kind, Uuid)> = plant.classes.keys().map(|&id| (Kind::Class, id)).collect();
        let touched = instances::Touched { items: &classes, old: &Plant::default() };
        let settled = instances::settle(&mut plant, &touched, instances::Mode::Load);
        for (told, _) in settled.wrong {
            plant.remove(told.kind, told.id);
            broken.push((told.id, format!("{}: {}", told.field, told.words)));
        }
        (plant, broken)
    }

    /// The names from the top down to a place, joined by “/”.
    pub fn path(&self, place: Option<Uuid>) -> String {
        let mut names = Vec::new();
        let mut at = place;
        // Bounded, so that not even a damaged tree can hold it up.
        while let Some(item) = at.and_then(|id| self.places.get(&id)).filter(|_| names.len() < 64) {
            names.push(item.set.name.as_str());
            at = item.set.parent;
        }
        names.reverse();
        names.join("/")
    }

    /// A tag's path: its place's and its own name.
    pub fn tag_path(&self, tag: &Tag) -> String {
        format!("{}/{}", self.path(Some(tag.place)), tag.name)
    }

    /// The place at or above this one that is out of service, if any: nothing under it is polled, and nothing alarms.
    pub fn out_of_service(&self, place: Uuid) -> Option<Uuid> {
        let mut at = self.places.get(&place);
        for _ in 0..64 {
            match at {
                Some(item) if !item.set.in_service => return Some(item.id),
                Some(item) => at = item.set.parent.and_then(|id| self.places.get(&id)),
                None => return None,
            }
        }
        None
    }

    /// Every place that is out of service by itself or by a place above it.
    pub fn idle_places(&self) -> HashSet<Uuid> {
        if self.places.values().all(|p| p.set.in_service) {
            return HashSet::new();
        }
        self.places.keys().copied().filter(|&id| self.out_of_service(id).is_some()).collect()
    }

    /// The operator's area that watches the alarms of a place, if any does.
    pub fn operator_area(&self, place: Uuid) -> Option<&str> {
        let above = |item: &&Arc<Item<Place>>| item.set.parent.and_then(|id| self.places.get(&id));
        let mut line = std::iter::successors(self.places.get(&place), above).take(64);
        line.find(|item| !item.set.operator_area.is_empty()).map(|item| item.set.operator_area.as_str())
    }

    /// How many steps in the plant tree lie between two places; more than any tree has where they have nothing in common.
    pub fn steps_between(&self, a: Uuid, b: Uuid) -> usize {
        let above = |item: &&Arc<Item<Place>>| item.set.parent.and_then(|id| self.places.get(&id));
        let line =
            |place: Uuid| std::iter::successors(self.places.get(&place), above).take(64).map(|item| item.id).collect::<Vec<_>>();
        let (of_a, of_b) = (line(a), line(b));
        let met = of_a.iter().enumerate().find_map(|(up, id)| Some(up + of_b.iter().position(|other| other == id)?));
        met.unwrap_or(usize::MAX)
    }

    /// The outermost equipment that a place is, or is a part of.
    pub fn equipment_around(&self, place: Uuid) -> Option<Uuid> {
        let above = |item: &&Arc<Item<Place>>| item.set.parent.and_then(|id| self.places.get(&id));
        let line = std::iter::successors(self.places.get(&place), above).take(64);
        line.filter(|item| matches!(item.set.level, Level::Equipment | Level::Device)).last().map(|item| item.id)
    }

    /// Whether `place` is `top` or lies under it.
    pub fn lies_under(&self, place: Uuid, top: Uuid) -> bool {
        let mut at = Some(place);
        for _ in 0..64 {
            match at {
                Some(id) if id == top => return true,
                Some(id) => at = self.places.get(&id).and_then(|p| p.set.parent),
                None => return false,
            }
        }
        false
    }

    /// What is contained in an item and goes when it goes. For many items ask [`Relations`].
    pub fn contents(&self, kind: Kind, id: Uuid) -> Vec<(Kind, Uuid)> {
        Relations::of(self).contents(kind, id)
    }

    /// What refers to an item from outside. For many items ask [`Relations`].
    pub fn referrers(&self, id: Uuid) -> Vec<Referrer> {
        Relations::of(self).referrers(id).to_vec()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::json;

    #[rstest]
    #[case(json!({"name": "c", "kind": "m", "interval_ms": "often"}), "interval_ms", "This must be a whole number, not negative.")]
    #[case(json!({"name": "c", "kind": "m", "enabled": 3}), "enabled", "This must be on or off.")]
    #[case(json!({"name": "c"}), "", "“kind” is missing.")]
    #[case(json!({"name": "c", "kind": "m", "colour": 1}), "colour", "There is no field “colour”.")]
    fn what_does_not_resolve_is_told_in_words(#[case] own: Json, #[case] field: &str, #[case] message: &str) {
        let wrong = resolve::<Connection>(None, own.as_object().unwrap()).unwrap_err();
        assert_eq!((wrong.0.as_str(), wrong.1.as_str()), (field, message));
    }
}
