//! Recorders: which values go into history, and when.

use super::{
    Choice, Item, Kind, Plant, Settings, Table, Tag,
    check::{self, Wrong},
    choice,
    kind::{Checking, Reference},
    trigger,
};
use crate::{
    engine::RecordRule,
    formula::Formula,
    plant::RecordMode,
    time::{MILLI, Nanos, SECOND},
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};
use uuid::Uuid;

/// The shortest and the longest interval, in milliseconds: spans of an hour and shorter are aligned to the clock everywhere.
const SHORTEST_MS: u32 = 100;
const LONGEST_MS: u32 = 3_600_000;
/// The most days for which values are kept before they are removed.
const MOST_DAYS: u32 = 36_500;

/// Which values go into history, and when.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Recorder {
    pub name: String,
    #[serde(default)]
    pub note: String,
    /// It records; otherwise it is paused.
    #[serde(default = "yes")]
    pub running: bool,
    /// Tags chosen singly.
    #[serde(default)]
    pub tags: Vec<Uuid>,
    /// Tags chosen by what they are; those that fit later join by themselves.
    #[serde(default)]
    pub choices: Vec<Choice>,
    #[serde(default)]
    pub when: RecordWhen,
    /// Whose turning it records at, where it records at an event.
    #[serde(default)]
    pub trigger: Option<Formula>,
    /// After how many days what it recorded is removed; never where nothing is said.
    #[serde(default)]
    pub keep_days: Option<u32>,
    #[serde(default)]
    pub order: f64,
}

/// When a recorder records.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "on", rename_all = "lowercase", deny_unknown_fields)]
pub enum RecordWhen {
    /// In a rhythm that is aligned to the clock.
    Interval {
        /// In milliseconds, 100 to 3,600,000; a whole number of them makes an hour.
        every_ms: u32,
        /// So much after the full span, in milliseconds; less than the interval.
        #[serde(default)]
        offset_ms: u32,
        /// What is kept of each span.
        keep: Vec<Track>,
    },
    /// When a value differs from the one stored last, or its quality changes.
    Change {
        /// A number that differs no more than this is no change.
        #[serde(default)]
        deadband: f64,
        /// The deadband is in percent of the range of each tag; a tag without a range has none.
        #[serde(default)]
        percent: bool,
    },
    /// When the trigger turns: a row of all values as of that instant.
    Event {
        #[serde(default)]
        edge: Edge,
    },
    /// When somebody says so: a row of all values as of that instant.
    Hand {},
}

impl Default for RecordWhen {
    fn default() -> RecordWhen {
        RecordWhen::Interval { every_ms: 60_000, offset_ms: 0, keep: vec![Track::Value] }
    }
}

/// What is kept of a tag.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[repr(u8)]
pub enum Track {
    /// The value at an instant. Whatever records values records them here.
    Value = 0,
    /// Of a span, weighted by the time each value held.
    Average = 1,
    Minimum = 2,
    Maximum = 3,
    /// Of the values that came within a span.
    Sum = 4,
}

impl Track {
    /// Every track, in the order in which people list them.
    pub const ALL: [Track; 5] = [Track::Value, Track::Average, Track::Minimum, Track::Maximum, Track::Sum];

    /// Reads the stored code.
    pub fn from_code(code: u8) -> Option<Track> {
        Track::ALL.get(usize::from(code)).copied()
    }

    /// As it is written in settings and addresses.
    pub const fn name(self) -> &'static str {
        match self {
            Track::Value => "value",
            Track::Average => "average",
            Track::Minimum => "minimum",
            Track::Maximum => "maximum",
            Track::Sum => "sum",
        }
    }

    /// Reads the name.
    pub fn from_name(name: &str) -> Option<Track> {
        Track::ALL.into_iter().find(|track| track.name() == name)
    }
}

/// Which turning of a condition counts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Edge {
    /// It becomes true.
    #[default]
    Rise,
    /// It becomes false.
    Fall,
    Either,
}

impl Edge {
    /// Whether turning to `now` counts.
    pub fn counts(self, now: bool) -> bool {
        match self {
            Edge::Rise => now,
            Edge::Fall => !now,
            Edge::Either => true,
        }
    }
}

fn yes() -> bool {
    true
}

/// What is known of how often the value of a tag is stored or told.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Rhythm {
    /// Samples of the last day, where its value is recorded at least as closely.
    pub stored_a_day: Option<f64>,
    /// How often it is asked for in a day, where it is.
    pub asked_a_day: Option<f64>,
}

/// How many samples a recorder stores in a day.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Estimate {
    pub samples: f64,
    /// Tags that are counted by what was stored of them, and those that count with the most that there can be.
    pub by_history: usize,
    pub at_most: usize,
    /// Tags of which nothing is known beforehand.
    pub unknown: usize,
}

const DAY_S: f64 = 86_400.0;

impl Recorder {
    /// What it stores in a day. Of a recorder that takes rows it is known when it has taken some: `rows_a_day`.
    pub fn estimate(&self, tags: &[Rhythm], rows_a_day: Option<f64>) -> Estimate {
        let mut sum = Estimate::default();
        if let Some(every) = self.every() {
            let spans = DAY_S / (every as f64 / SECOND as f64);
            sum.samples = spans * self.tracks().len() as f64 * tags.len() as f64;
            return sum;
        }
        if !matches!(self.when, RecordWhen::Change { .. }) {
            match rows_a_day {
                Some(rows) => sum.samples = rows * tags.len() as f64,
                None => sum.unknown = tags.len(),
            }
            return sum;
        }
        for tag in tags {
            match (tag.stored_a_day, tag.asked_a_day) {
                (Some(stored), _) => (sum.samples, sum.by_history) = (sum.samples + stored, sum.by_history + 1),
                (None, Some(asked)) => (sum.samples, sum.at_most) = (sum.samples + asked, sum.at_most + 1),
                (None, None) => sum.unknown += 1,
            }
        }
        sum
    }
}

impl Settings for Recorder {
    const KIND: Kind = Kind::Recorder;
    const FORMULAS: &'static [&'static str] = &["trigger"];

    fn table(plant: &Plant) -> &Table<Recorder> {
        &plant.recorders
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Recorder> {
        &mut plant.recorders
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (None, &self.name)
    }

    fn order(&self) -> f64 {
        self.order
    }

    fn formula(&self, _field: &str) -> Option<&Formula> {
        self.trigger.as_ref()
    }

    fn references(&self) -> Vec<Reference> {
        let tags = self.tags.iter().map(|&tag| Reference::to("tags", Kind::Tag, tag));
        let mut all: Vec<Reference> = tags.collect();
        for (index, choice) in self.choices.iter().enumerate() {
            let named = [
                ("place", Kind::Place, choice.place),
                ("class", Kind::Class, choice.class),
                ("connection", Kind::Connection, choice.connection),
            ];
            all.extend(
                named
                    .into_iter()
                    .filter_map(|(field, kind, to)| Some(Reference::to(format!("choices.{index}.{field}"), kind, to?))),
            );
        }
        let read = self.trigger.iter().flat_map(Formula::references);
        all.extend(read.map(|to| Reference::to("trigger.text", Kind::Tag, to)));
        all
    }

    fn uses(item: &Item<Recorder>, reference: &Reference, plant: &Plant) -> String {
        let name = &item.set.name;
        let title = reference.kind.map(|kind| plant.title(kind, reference.to)).filter(|title| !title.is_empty());
        let title = title.map_or_else(|| "it".into(), |title| format!("“{title}”"));
        match reference.field.as_str() {
            "trigger.text" => format!("the trigger of recorder “{name}” reads it"),
            "tags" => format!("recorder “{name}” records {title}"),
            _ => format!("recorder “{name}” chooses tags by {title}"),
        }
    }

    fn check(item: &Item<Recorder>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let set = &item.set;
        check::name(wrong, &set.name);
        check::text(wrong, "note", &set.note);
        if set.tags.is_empty() && set.choices.is_empty() {
            wrong.push(("tags".into(), "Choose at least one tag, or say which tags it records.".into()));
        }
        choice::check(&set.tags, &set.choices, wrong);
        set.check_when(wrong);
        if let Some(days) = set.keep_days {
            check::between(wrong, "keep_days", days, 1, MOST_DAYS);
        }
        let at_event = matches!(set.when, RecordWhen::Event { .. });
        trigger::check(set.trigger.as_ref(), at_event, ("a recorder", "records"), checking, wrong);
    }
}

impl Recorder {
    fn check_when(&self, wrong: &mut Wrong) {
        match &self.when {
            RecordWhen::Interval { every_ms, offset_ms, keep } => {
                check::between(wrong, "when.every_ms", *every_ms, SHORTEST_MS, LONGEST_MS);
                if *every_ms > 0 && !LONGEST_MS.is_multiple_of(*every_ms) {
                    wrong.push(("when.every_ms".into(), "A whole number of these must make an hour.".into()));
                }
                if offset_ms >= every_ms {
                    wrong.push(("when.offset_ms".into(), "This must be shorter than the interval.".into()));
                }
                if keep.is_empty() {
                    wrong.push(("when.keep".into(), "Choose at least one thing to keep.".into()));
                }
                if keep.iter().collect::<HashSet<_>>().len() < keep.len() {
                    wrong.push(("when.keep".into(), "Each of these is kept once.".into()));
                }
            }
            RecordWhen::Change { deadband, percent } => {
                let most = if *percent { 100.0 } else { f64::MAX };
                check::between(wrong, "when.deadband", *deadband, 0.0, most);
            }
            RecordWhen::Event { .. } | RecordWhen::Hand {} => {}
        }
    }

    /// What it keeps of each tag.
    pub fn tracks(&self) -> &[Track] {
        match &self.when {
            RecordWhen::Interval { keep, .. } => keep,
            _ => &[Track::Value],
        }
    }

    /// Its interval, where it has one.
    pub fn every(&self) -> Option<Nanos> {
        match self.when {
            RecordWhen::Interval { every_ms, .. } => Some(Nanos::from(every_ms) * MILLI),
            _ => None,
        }
    }

    /// The deadband that holds for a tag, in its engineering unit; none where it does not record when values change.
    pub fn deadband_on(&self, tag: &Tag) -> Option<f64> {
        match self.when {
            RecordWhen::Change { deadband, percent: false } => Some(deadband),
            RecordWhen::Change { deadband, .. } => {
                let range = tag.range_low.zip(tag.range_high).map_or(0.0, |(low, high)| high - low);
                Some(deadband / 100.0 * range)
            }
            _ => None,
        }
    }
}

/// What the recorders of a plant record.
#[derive(Clone, Debug, Default)]
pub struct Recording {
    /// Tags of which values go into history by themselves: those that say so, and those of running recorders, of which the value is
    /// kept and not only a figure of spans.
    pub by_themselves: HashSet<Uuid>,
    /// The tags of each recorder, in the order of their numbers.
    pub of: HashMap<Uuid, Vec<Arc<Item<Tag>>>>,
}

impl Plant {
    /// The tags of a recorder, in the order of their numbers.
    pub fn recorded_by(&self, recorder: &Recorder) -> Vec<&Arc<Item<Tag>>> {
        self.chosen(&recorder.tags, &recorder.choices)
    }

    /// How the values of tags are recorded when they change, for those that are: as the tag itself says, or as closely as any running
    /// recorder does.
    pub fn record_rules(&self) -> HashMap<Uuid, RecordRule> {
        let own = self.tags.values().filter(|tag| tag.set.record);
        let mut rules: HashMap<Uuid, RecordRule> = own.map(|tag| (tag.id, RecordRule::of(&tag.set))).collect();
        for recorder in self.recorders.values().filter(|r| r.set.running && matches!(r.set.when, RecordWhen::Change { .. })) {
            for tag in self.recorded_by(&recorder.set) {
                let Some(deadband) = recorder.set.deadband_on(&tag.set) else { continue };
                let rule = rules.entry(tag.id).or_insert(RecordRule { mode: RecordMode::OnChange, deadband });
                rule.deadband = rule.deadband.min(deadband);
            }
        }
        rules
    }

    /// What all recorders record. For a hundred thousand tags that takes tenths of a second, once for each revision.
    pub fn recording(&self) -> Recording {
        let mut recording = Recording {
            by_themselves: self.tags.values().filter(|tag| tag.set.record).map(|tag| tag.id).collect(),
            of: HashMap::with_capacity(self.recorders.len()),
        };
        for recorder in self.recorders.values() {
            let tags: Vec<_> = self.recorded_by(&recorder.set).into_iter().cloned().collect();
            if recorder.set.running && recorder.set.tracks().contains(&Track::Value) {
                recording.by_themselves.extend(tags.iter().map(|tag| tag.id));
            }
            recording.of.insert(recorder.id, tags);
        }
        recording
    }

    /// Whether the value of a tag goes into history by itself. For many tags ask [`Plant::recording`].
    pub fn is_recorded(&self, tag: &Item<Tag>) -> bool {
        tag.set.record || self.recorders_of(tag).iter().any(|r| r.set.running && r.set.tracks().contains(&Track::Value))
    }

    /// The recorders of a tag, in their order.
    pub fn recorders_of(&self, tag: &Item<Tag>) -> Vec<&Arc<Item<Recorder>>> {
        let chooses = |r: &&Arc<Item<Recorder>>| {
            r.set.tags.contains(&tag.id) || r.set.choices.iter().any(|choice| choice.fits(self, &tag.set))
        };
        let mut all: Vec<_> = self.recorders.values().filter(chooses).collect();
        all.sort_by(|a, b| a.set.order.total_cmp(&b.set.order).then(a.id.cmp(&b.id)));
        all
    }
}

#[cfg(test)]
mod tests;
