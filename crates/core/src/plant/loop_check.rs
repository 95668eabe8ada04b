//! Loop checks: the proof that a point shows what its source does (after IEC 62382, *Electrical and instrumentation loop check*).
//!
//! Somebody moves the source while somebody watches the point. What was seen meanwhile is kept together with the way that the
//! value took then, so that a later change of that way shows that the point has to be proven again.

use super::{Connection, Own, Plant, Tag};
use crate::{number::Number, sample::Value, time::Nanos};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use std::{collections::HashMap, sync::Arc};
use uuid::Uuid;

/// Most steps that are noted during one check.
pub const MOST_STEPS: usize = 40;

/// What is known of devices beyond the settings of their connections.
pub trait Wire: Sync {
    /// Under which addresses the device of a connection is reached, in words; `None` where nothing outside of Havrel speaks
    /// through it, so that there is no source to be moved.
    fn leads_to(&self, connection: &Connection) -> Option<String>;
    /// Where a point is read, in words: the address as it goes on the wire, with type and order.
    fn read_at(&self, connection: &Connection, point: &Own) -> String;
}

/// The way of a value from its source to the tag.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Way {
    pub connection: Uuid,
    /// Addresses of the device.
    pub device: String,
    pub point: String,
    /// In words, which keep every digit where numbers in JSON may not; empty where there is none.
    pub scaling: String,
    /// The engineering unit.
    pub unit: String,
}

impl Way {
    /// The way that a tag's value takes; `None` where no device is its source.
    pub fn of(plant: &Plant, tag: &Tag, wire: &dyn Wire) -> Option<Way> {
        let id = tag.connection?;
        let connection = &plant.connections.get(&id)?.set;
        let device = wire.leads_to(connection)?;
        let source = plant.source(connection, tag).ok()?;
        let point = wire.read_at(connection, &source.point);
        let scaling = source.scaling.map(|scaling| scaling.words("")).unwrap_or_default();
        Some(Way { connection: id, device, point, scaling, unit: tag.unit.clone() })
    }

    /// What of it differs from another one, in words.
    pub fn differs(&self, other: &Way) -> Vec<&'static str> {
        let parts = [
            (self.connection != other.connection, "connection"),
            (self.connection == other.connection && self.device != other.device, "device"),
            (self.point != other.point, "point"),
            (self.scaling != other.scaling, "scaling"),
            (self.unit != other.unit, "unit"),
        ];
        parts.into_iter().filter_map(|(differs, words)| differs.then_some(words)).collect()
    }
}

/// How a value went while somebody watched.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Movement {
    pub first: Json,
    pub last: Json,
    /// The lowest and the highest; null where it was no number.
    pub lowest: Json,
    pub highest: Json,
    /// How often it became another one.
    pub changes: u32,
}

impl Movement {
    fn see(&mut self, value: &Value) {
        let json = value.to_json();
        if self.first.is_null() {
            self.first = json.clone();
        } else if self.last != json {
            self.changes += 1;
        }
        if let Some(number) = value.exact().filter(|number| number.float().is_finite()) {
            if shown(&self.lowest).is_none_or(|lowest| number.order(lowest).is_lt()) {
                self.lowest = json.clone();
            }
            if shown(&self.highest).is_none_or(|highest| number.order(highest).is_gt()) {
                self.highest = json.clone();
            }
        }
        self.last = json;
    }
}

/// How wide the range of a tag is.
fn range_of(tag: &Tag) -> Option<f64> {
    let (low, high) = tag.range_low.zip(tag.range_high)?;
    Some((high - low).abs()).filter(|range| *range > 0.0)
}

/// The number that a value in JSON stands for: large whole numbers travel as text.
fn shown(json: &Json) -> Option<Number> {
    match json {
        Json::Bool(on) => Some(f64::from(u8::from(*on)).into()),
        Json::Number(number) => Value::of_json(number)?.exact(),
        Json::String(digits) => Value::of_digits(digits)?.exact(),
        _ => None,
    }
}

/// What was applied at the source, and what was seen at that moment.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Step {
    pub at: Nanos,
    /// In the engineering unit of the tag.
    pub applied: f64,
    /// As the device sent it; null where it could not be asked.
    pub sent: Json,
    pub value: Json,
    /// The value less what was applied.
    pub deviation: Option<f64>,
    /// The same as a share of the tag's range, in per cent.
    pub share: Option<f64>,
}

/// What was seen of a point while its source was moved.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Seen {
    pub from: Nanos,
    pub to: Nanos,
    /// As the device sent it; null where it could not be asked.
    pub sent: Option<Movement>,
    /// The good values of the tag; null where there was none.
    pub value: Option<Movement>,
    pub steps: Vec<Step>,
}

impl Seen {
    /// A look that begins now.
    pub fn since(at: Nanos) -> Seen {
        Seen { from: at, to: at, ..Seen::default() }
    }

    /// Takes in what the device sent and what the tag says; a value that is not good is not given.
    pub fn see(&mut self, at: Nanos, sent: Option<&Value>, value: Option<&Value>) {
        self.to = self.to.max(at);
        for (movement, value) in [(&mut self.sent, sent), (&mut self.value, value)] {
            if let Some(value) = value {
                movement.get_or_insert_default().see(value);
            }
        }
    }

    /// Notes what is applied at the source now, beside what was seen last.
    ///
    /// # Errors
    /// A sentence for whoever typed it.
    pub fn note(&mut self, at: Nanos, applied: f64, tag: &Tag) -> Result<(), String> {
        if !applied.is_finite() {
            return Err("Enter what is applied as a number.".into());
        }
        if self.steps.len() >= MOST_STEPS {
            return Err(format!("A check has at most {MOST_STEPS} steps. Save it, and begin another one."));
        }
        let Some(value) = &self.value else {
            return Err("There is no good value yet to hold against what is applied.".into());
        };
        let last = |movement: Option<&Movement>| movement.map_or(Json::Null, |m| m.last.clone());
        let deviation = value.last.as_f64().map(|value| value - applied);
        let share = deviation.zip(range_of(tag)).map(|(deviation, range)| deviation / range * 100.0);
        let (sent, value) = (last(self.sent.as_ref()), value.last.clone());
        self.steps.push(Step { at, applied, sent, value, deviation, share });
        Ok(())
    }

    /// Over how much of the tag's range its value moved, in per cent; `None` where it has no range, or is no number.
    pub fn covered(&self, tag: &Tag) -> Option<f64> {
        let value = self.value.as_ref()?;
        let (low, high) = (shown(&value.lowest)?.float(), shown(&value.highest)?.float());
        Some((high - low) / range_of(tag)? * 100.0)
    }

    /// Whether the value of the tag moved, without which nothing is proven.
    pub fn moved(&self) -> bool {
        self.value.as_ref().is_some_and(|movement| movement.changes > 0)
    }
}

/// A loop check that was made.
#[derive(Clone, Debug, PartialEq)]
pub struct LoopCheck {
    pub id: Uuid,
    pub tag: Uuid,
    pub at: Nanos,
    pub account: Uuid,
    /// By the name of then.
    pub actor: String,
    /// Whether the point followed its source.
    pub passed: bool,
    pub remark: String,
    pub seen: Seen,
    pub way: Way,
}

/// How far a point is proven.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Proof {
    /// Nobody has checked it.
    Never,
    /// The last check failed.
    Failed,
    /// The way of its value is another one since it was proven.
    Changed,
    Proven,
}

impl Proof {
    /// Every one, what is open before what is done.
    pub const ALL: [Proof; 4] = [Proof::Never, Proof::Failed, Proof::Changed, Proof::Proven];

    /// What the last check is worth for a value that goes this way.
    pub fn of(last: Option<&LoopCheck>, way: &Way) -> Proof {
        match last {
            None => Proof::Never,
            Some(check) if !check.passed => Proof::Failed,
            Some(check) if check.way != *way => Proof::Changed,
            Some(_) => Proof::Proven,
        }
    }

    /// Reads its name in the API.
    pub fn from_name(name: &str) -> Option<Proof> {
        serde_json::from_value(name.into()).ok()
    }

    /// As tables show it.
    pub fn words(self) -> &'static str {
        match self {
            Proof::Never => "never checked",
            Proof::Failed => "failed",
            Proof::Changed => "changed since proven",
            Proof::Proven => "proven",
        }
    }
}

/// What tells how far points are proven: the last check of each tag, and the ways of the values now.
#[derive(Clone, Copy)]
pub struct Checks<'a> {
    /// The whole plant: to who sees a part of it, settings of connections are hidden, on which the ways rest.
    pub plant: &'a Plant,
    pub last: &'a HashMap<Uuid, Arc<LoopCheck>>,
    pub wire: &'a dyn Wire,
}

impl Checks<'_> {
    /// The way of a tag's value now; `None` where no device is its source.
    pub fn way(&self, tag: Uuid) -> Option<Way> {
        Way::of(self.plant, &self.plant.tags.get(&tag)?.set, self.wire)
    }

    /// How far a tag is proven; `None` where no device is its source.
    pub fn proof(&self, tag: Uuid) -> Option<Proof> {
        Some(Proof::of(self.last.get(&tag).map(Arc::as_ref), &self.way(tag)?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plant::{Kind, Stored};
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::json;

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    /// Everything but memory leads outside; a point is read where its address says.
    struct Plain;

    impl Wire for Plain {
        fn leads_to(&self, connection: &Connection) -> Option<String> {
            let host = connection.settings.get("host").and_then(Json::as_str).unwrap_or_default();
            (connection.kind != "memory").then(|| host.to_owned())
        }

        fn read_at(&self, _: &Connection, point: &Own) -> String {
            Json::Object(point.clone()).to_string()
        }
    }

    fn plant(change: &[(Kind, u128, Json)]) -> Plant {
        let mut rows = vec![
            (Kind::Place, 1, json!({"name": "Works"})),
            (Kind::Connection, 2, json!({"name": "Wash", "kind": "modbus", "settings": {"host": "10.0.4.20"}})),
            (Kind::Connection, 3, json!({"name": "Notes", "kind": "memory"})),
            (
                Kind::Tag,
                10,
                json!({"name": "Level", "place": id(1), "unit": "%", "connection": id(2), "point": {"address": "40001"}}),
            ),
            (Kind::Tag, 11, json!({"name": "Note", "place": id(1), "connection": id(3)})),
            (Kind::Tag, 12, json!({"name": "Open", "place": id(1)})),
        ];
        for (kind, n, own) in change {
            let at = rows.iter().position(|row| (row.0, row.1) == (*kind, *n)).unwrap();
            rows[at].2.as_object_mut().unwrap().extend(own.as_object().unwrap().clone());
        }
        let stored = |(kind, n, own): (Kind, u128, Json)| Stored {
            kind,
            id: id(n),
            no: n as u32,
            revision: 1,
            own: own.as_object().unwrap().clone(),
        };
        let (plant, broken) = Plant::from_stored(1, rows.into_iter().map(stored).collect());
        assert!(broken.is_empty(), "{broken:?}");
        plant
    }

    fn check(passed: bool) -> LoopCheck {
        let way = Way::of(&plant(&[]), &plant(&[]).tags[&id(10)].set, &Plain).unwrap();
        LoopCheck {
            id: id(90),
            tag: id(10),
            at: 5,
            account: id(91),
            actor: "Plant engineer".into(),
            passed,
            remark: String::new(),
            seen: Seen::default(),
            way,
        }
    }

    #[rstest]
    #[case::as_it_was(&[], Proof::Proven, &[])]
    #[case::renamed(&[(Kind::Tag, 10, json!({"name": "Tank level"})), (Kind::Connection, 2, json!({"name": "Washing"}))], Proof::Proven, &[])]
    #[case::another_range(&[(Kind::Tag, 10, json!({"range_low": 0, "range_high": 10}))], Proof::Proven, &[])]
    #[case::another_rhythm(&[(Kind::Connection, 2, json!({"interval_ms": 250}))], Proof::Proven, &[])]
    #[case::another_register(&[(Kind::Tag, 10, json!({"point": {"address": "40002"}}))], Proof::Changed, &["point"])]
    #[case::another_device(&[(Kind::Connection, 2, json!({"settings": {"host": "10.0.4.21"}}))], Proof::Changed, &["device"])]
    #[case::another_scale(
        &[(Kind::Tag, 10, json!({"unit": "m", "scaling": {"raw_low": 0, "raw_high": 100, "low": 0, "high": 5}}))],
        Proof::Changed, &["scaling", "unit"]
    )]
    fn a_proof_holds_for_the_way_it_was_made_on(
        #[case] change: &[(Kind, u128, Json)],
        #[case] wanted: Proof,
        #[case] differs: &[&str],
    ) {
        let now = plant(change);
        let way = Way::of(&now, &now.tags[&id(10)].set, &Plain).unwrap();
        let passed = check(true);
        assert_eq!((Proof::of(Some(&passed), &way), passed.way.differs(&way)), (wanted, differs.to_vec()));
        assert_eq!(Proof::of(Some(&check(false)), &way), Proof::Failed);
        assert_eq!(Proof::of(None, &way), Proof::Never);
    }

    #[test]
    fn only_what_has_a_source_outside_is_to_be_proven() {
        let plant = plant(&[]);
        let last = HashMap::from([(id(10), Arc::new(check(true)))]);
        let checks = Checks { plant: &plant, last: &last, wire: &Plain };
        assert_eq!([10, 11, 12, 77].map(|n| checks.proof(id(n))), [Some(Proof::Proven), None, None, None]);
    }

    #[test]
    fn what_is_applied_is_held_against_what_comes_out() {
        let mut seen = Seen::since(100);
        let tag: Tag =
            serde_json::from_value(json!({"place": id(1), "name": "Level", "range_low": 0.0, "range_high": 50.0})).unwrap();
        assert!(seen.note(101, 10.0, &tag).is_err(), "nothing was seen yet");
        seen.see(101, Some(&Value::U64(4000)), Some(&Value::F64(10.5)));
        assert!(!seen.moved());
        seen.note(102, 10.0, &tag).unwrap();
        seen.see(110, None, Some(&Value::F64(25.0)));
        assert!(seen.moved());
        seen.note(111, 25.0, &tag).unwrap();
        let steps: Vec<_> = seen.steps.iter().map(|s| (s.applied, s.sent.clone(), s.deviation, s.share)).collect();
        assert_eq!(steps, [(10.0, json!(4000), Some(0.5), Some(1.0)), (25.0, json!(4000), Some(0.0), Some(0.0))]);
        assert_eq!(
            seen.value,
            Some(Movement { first: json!(10.5), last: json!(25.0), lowest: json!(10.5), highest: json!(25.0), changes: 1 })
        );
        assert_eq!((seen.from, seen.to, seen.covered(&tag).map(f64::round)), (100, 110, Some(29.0)));
        assert_eq!(Seen::since(1).covered(&tag), None);
        assert!(seen.note(112, f64::NAN, &tag).is_err());
        for n in seen.steps.len()..MOST_STEPS {
            seen.note(200 + n as i64, 1.0, &tag).unwrap();
        }
        assert!(seen.note(300, 1.0, &tag).unwrap_err().contains("at most 40 steps"));
    }

    #[test]
    fn large_numbers_texts_and_switches_are_seen_as_they_are() {
        let large = |n: u64| Value::U64(u64::MAX - n);
        let mut counter = Movement::default();
        [large(1), large(0), large(2)].iter().for_each(|v| counter.see(v));
        assert_eq!((counter.lowest, counter.highest), (large(2).to_json(), large(0).to_json()));
        let mut text = Movement::default();
        ["KX-2611-0184", "KX-2611-0185"].iter().for_each(|t| text.see(&Value::Text((*t).into())));
        assert_eq!((text.changes, text.lowest), (1, Json::Null));
        let mut switch = Movement::default();
        [true, false].iter().for_each(|on| switch.see(&Value::Bool(*on)));
        assert_eq!((switch.lowest, switch.highest, switch.last), (json!(false), json!(true), json!(false)));
    }

    proptest! {
        /// Whatever comes: first and last are the ends, lowest and highest bound all, and it moved if two neighbours differ.
        #[test]
        fn a_movement_says_what_a_plain_look_says(values in prop::collection::vec(-5i64..5, 1..30)) {
            let mut seen = Seen::since(0);
            values.iter().for_each(|v| seen.see(1, None, Some(&Value::I64(*v))));
            let changes = values.windows(2).filter(|w| w[0] != w[1]).count() as u32;
            prop_assert_eq!(seen.moved(), changes > 0);
            let wanted = Movement {
                first: json!(values[0]),
                last: json!(values[values.len() - 1]),
                lowest: json!(values.iter().min()),
                highest: json!(values.iter().max()),
                changes,
            };
            prop_assert_eq!(seen.value, Some(wanted));
        }
    }
}
