//! Publications: which values a connection sends out, where to, and when.

use super::{
    Item, Kind, Plant, Settings, Table,
    check::{self, Wrong},
    kind::{Checking, Reference},
};
use crate::publish::{Payload, Topic};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// Most tags or places that a publication names.
const MOST_CHOSEN: usize = 10_000;

/// Values that leave through a connection.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Publication {
    pub name: String,
    /// The connection through which they leave.
    pub connection: Uuid,
    #[serde(default = "yes")]
    pub enabled: bool,
    /// Tags chosen singly.
    #[serde(default)]
    pub tags: Vec<Uuid>,
    /// Places of which every tag is chosen, at any depth.
    #[serde(default)]
    pub places: Vec<Uuid>,
    /// Of the tags below those places only the ones whose path holds all these words, whatever their case.
    #[serde(default)]
    pub words: String,
    /// See [`Topic`].
    pub topic: String,
    /// Whether names in the topic are written in small letters, digits and “-” only.
    #[serde(default)]
    pub plain: bool,
    #[serde(default)]
    pub format: PayloadFormat,
    /// See [`Payload`]; empty where metrics leave, see [`crate::publish::METRIC`].
    #[serde(default)]
    pub payload: String,
    #[serde(default)]
    pub when: When,
    /// Whether a message with several tags holds all of them, and not only those that changed.
    #[serde(default = "yes")]
    pub all: bool,
    #[serde(default)]
    pub retain: bool,
    /// Quality of service, 0 to 2 (MQTT 5.0, 4.3).
    #[serde(default = "once")]
    pub qos: u8,
    /// Whether messages wait on disk while the connection is lost; otherwise the newest values are sent once it is back.
    #[serde(default = "yes")]
    pub keep: bool,
    /// Tags that others may write; each is named here on purpose.
    #[serde(default)]
    pub write_tags: Vec<Uuid>,
    /// On which topics they do; see [`Topic`].
    #[serde(default)]
    pub write_topic: String,
    /// Where in their messages the value stands (JSON Pointer, RFC 6901); empty: the message is the value.
    #[serde(default)]
    pub write_member: String,
    #[serde(default)]
    pub order: f64,
}

/// How a payload is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum PayloadFormat {
    #[default]
    Json,
    Text,
}

/// When a publication sends.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "on", rename_all = "lowercase", deny_unknown_fields)]
pub enum When {
    /// When a value or its quality changes.
    Change {
        /// A number that differs no more than this from the one sent last is no change.
        #[serde(default)]
        deadband: f64,
        /// The deadband is in percent of the range of each tag; a tag without a range has none.
        #[serde(default)]
        percent: bool,
        /// The shortest time between two messages on a topic, in milliseconds, 0 to 3,600,000.
        #[serde(default)]
        shortest_ms: u32,
        /// After so many seconds without a change it is sent all the same, 0 (never) to 86,400.
        #[serde(default)]
        longest_s: u32,
    },
    /// In a rhythm that is aligned to the clock.
    Interval {
        /// In milliseconds, 100 to 86,400,000.
        every_ms: u32,
    },
}

impl Default for When {
    fn default() -> When {
        When::Change { deadband: 0.0, percent: false, shortest_ms: 0, longest_s: 0 }
    }
}

impl Settings for Publication {
    const KIND: Kind = Kind::Publication;
    const FIXED: &'static [(&'static str, &'static str)] =
        &[("connection", "A publication stays with its connection. Add another one to the other connection.")];

    fn table(plant: &Plant) -> &Table<Publication> {
        &plant.publications
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Publication> {
        &mut plant.publications
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (Some(self.connection), &self.name)
    }

    fn order(&self) -> f64 {
        self.order
    }

    fn references(&self) -> Vec<Reference> {
        let tags = self.tags.iter().map(|&tag| Reference::to("tags", Kind::Tag, tag));
        let places = self.places.iter().map(|&place| Reference::to("places", Kind::Place, place));
        let written = self.write_tags.iter().map(|&tag| Reference::to("write_tags", Kind::Tag, tag));
        let connection = Reference::inside("connection", Kind::Connection, self.connection);
        std::iter::once(connection).chain(tags).chain(places).chain(written).collect()
    }

    fn uses(item: &Item<Publication>, reference: &Reference, plant: &Plant) -> String {
        let path = match reference.kind {
            Some(Kind::Tag) => plant.tags.get(&reference.to).map(|t| plant.tag_path(&t.set)),
            _ => plant.places.get(&reference.to).map(|_| plant.path(Some(reference.to))),
        };
        let does = if reference.field == "write_tags" { "lets others write" } else { "sends" };
        format!("publication “{}” {does} {}", item.set.name, path.map_or_else(|| "it".into(), |path| format!("“{path}”")))
    }

    fn check(item: &Item<Publication>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let set = &item.set;
        check::name(wrong, &set.name);
        if set.tags.is_empty() && set.places.is_empty() {
            wrong.push(("tags".into(), "Choose at least one tag or place.".into()));
        }
        for (field, chosen) in [("tags", &set.tags), ("places", &set.places), ("write_tags", &set.write_tags)] {
            if chosen.len() > MOST_CHOSEN {
                wrong.push((field.into(), "At most 10,000 are chosen singly; choose their place instead.".into()));
            }
        }
        check::text(wrong, "words", &set.words);
        if let Err(words) = Topic::parse(&set.topic, set.plain) {
            wrong.push(("topic".into(), words));
        }
        let connection = checking.plant.connections.get(&set.connection);
        if connection.is_some_and(|connection| checking.source.metrics(&connection.set)) {
            check_metrics(set, wrong);
        } else if let Err(words) = Payload::parse(set.format, &set.payload) {
            wrong.push(("payload".into(), words));
        }
        if !set.write_tags.is_empty() || !set.write_topic.trim().is_empty() {
            if let Err(words) = Topic::parse(&set.write_topic, set.plain) {
                wrong.push(("write_topic".into(), words));
            } else if set.write_topic.trim() == set.topic.trim() {
                wrong.push((
                    "write_topic".into(),
                    "Others must write on another topic than the one on which values leave.".into(),
                ));
            }
        }
        if !set.write_member.is_empty() && !set.write_member.starts_with('/') {
            wrong.push(("write_member".into(), "A member begins with a slash, like /value.".into()));
        }
        check::text(wrong, "write_member", &set.write_member);
        match set.when {
            When::Change { deadband, shortest_ms, longest_s, .. } => {
                check::between(wrong, "when.deadband", deadband, 0.0, f64::MAX);
                check::between(wrong, "when.shortest_ms", shortest_ms, 0, 3_600_000);
                check::between(wrong, "when.longest_s", longest_s, 0, 86_400);
                if longest_s > 0 && shortest_ms > longest_s.saturating_mul(1000) {
                    wrong.push(("when.longest_s".into(), "This must not be shorter than the shortest time.".into()));
                }
            }
            When::Interval { every_ms } => check::between(wrong, "when.every_ms", every_ms, 100, 86_400_000),
        }
        check::between(wrong, "qos", set.qos, 0, 2);
        if connection.is_some_and(|connection| !checking.source.publishes(&connection.set)) {
            wrong.push(("connection".into(), "Only a connection to a broker publishes.".into()));
        }
    }
}

/// Of a publication that sends metrics: the protocol says how.
fn check_metrics(set: &Publication, wrong: &mut Wrong) {
    if !set.payload.trim().is_empty() {
        wrong.push(("payload".into(), "The protocol says how a metric is written; leave the payload empty.".into()));
    }
    if set.retain {
        wrong.push(("retain".into(), "Metrics are not retained.".into()));
    }
    if !set.write_tags.is_empty() {
        wrong.push(("write_tags".into(), "Other hosts cannot write over this connection.".into()));
    }
}

fn yes() -> bool {
    true
}
fn once() -> u8 {
    1
}
