//! The settings of each kind of item, with their defaults and what makes a value wrong.

use super::{Block, Group, Own};
use crate::{alarm::LimitKind, sample::Value, scale::Scaling, text};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// The longest name, in characters.
pub const NAME_LENGTH: usize = 120;

/// The connection kind whose tags keep what they are told, and so are never old.
pub const MEMORY: &str = "memory";

/// Levels of the plant tree, after the open enterprise and batch standards (IEC 62264-1, IEC 61512-1).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Level {
    Site,
    Area,
    Line,
    #[default]
    Unit,
    Equipment,
    Device,
}

/// A node of the plant tree.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Place {
    #[serde(default)]
    pub parent: Option<Uuid>,
    pub name: String,
    #[serde(default)]
    pub level: Level,
    /// Sorts siblings; the engineer's order, not the alphabet's.
    #[serde(default)]
    pub order: f64,
    #[serde(default)]
    pub note: String,
    /// Off: nothing under it is polled and nothing alarms.
    #[serde(default = "yes")]
    pub in_service: bool,
    /// How what is wrong under it counts above; by its level where not set.
    #[serde(default)]
    pub counts: Option<Counting>,
}

/// How what is wrong at a place counts at the places above it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Counting {
    /// Each alarm and each bad tag by itself.
    Each,
    /// As one, however many they are.
    One,
}

impl Place {
    /// How it counts above: equipment and devices as one, so that units and what lies above them count things and not tags.
    pub fn counting(&self) -> Counting {
        self.counts.unwrap_or(match self.level {
            Level::Equipment | Level::Device => Counting::One,
            Level::Site | Level::Area | Level::Line | Level::Unit => Counting::Each,
        })
    }
}

/// A controller or device and how to reach it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Connection {
    pub name: String,
    /// Which driver, for example `modbus`.
    pub kind: String,
    #[serde(default = "yes")]
    pub enabled: bool,
    /// Whether values may be written through it; off until somebody switches it on.
    #[serde(default)]
    pub writing: bool,
    /// How often its tags are read, in milliseconds, 100 to 3,600,000.
    #[serde(default = "second")]
    pub interval_ms: u32,
    /// How long to wait for an answer, in milliseconds, 50 to 60,000.
    #[serde(default = "second")]
    pub timeout_ms: u32,
    /// What the driver needs to know.
    #[serde(default)]
    pub settings: Own,
    /// Rhythms of its own for some of its tags.
    #[serde(default)]
    pub groups: Vec<Group>,
    /// Layouts mapped onto it.
    #[serde(default)]
    pub blocks: Vec<Block>,
    #[serde(default)]
    pub order: f64,
}

impl Connection {
    /// How often the tags of a group are read; those of none with the connection's own rhythm. 0 while paused.
    pub fn interval_of(&self, group: Option<Uuid>) -> u32 {
        match group.and_then(|id| self.groups.iter().find(|g| g.id == id)) {
            _ if !self.enabled || self.kind == MEMORY => 0,
            Some(group) if !group.enabled => 0,
            Some(group) => group.interval_ms,
            None => self.interval_ms,
        }
    }
}

/// When a recorded tag's value is stored.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RecordMode {
    /// Every value that comes.
    EachPoll,
    /// When it differs by more than the deadband from the one stored last, or its quality changes.
    #[default]
    OnChange,
}

/// One value of the plant.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Tag {
    pub place: Uuid,
    pub name: String,
    #[serde(default)]
    pub note: String,
    #[serde(default)]
    pub order: f64,
    #[serde(default)]
    pub connection: Option<Uuid>,
    /// The polling group of that connection; its own rhythm where none is named.
    #[serde(default)]
    pub group: Option<Uuid>,
    /// Where in the connection: the driver's own fields, or a member of a block.
    #[serde(default)]
    pub point: Own,
    #[serde(default)]
    pub scaling: Option<Scaling>,
    /// Engineering unit as it is printed, for example `°C`; one of [`crate::unit::UNITS`] can be converted.
    #[serde(default)]
    pub unit: String,
    /// Names for what its whole numbers mean.
    #[serde(default)]
    pub states: Option<Uuid>,
    /// Digits after the point on screens and in reports, 0 to 9; [`Tag::usual_decimals`] where not set.
    #[serde(default = "one")]
    pub decimals: u8,
    /// The range the value is drawn over.
    #[serde(default)]
    pub range_low: Option<f64>,
    #[serde(default)]
    pub range_high: Option<f64>,
    #[serde(default)]
    pub writable: bool,
    /// Least and greatest value that may be written; the drawn range where not set.
    #[serde(default)]
    pub write_low: Option<f64>,
    #[serde(default)]
    pub write_high: Option<f64>,
    /// The tag that holds this one's setpoint.
    #[serde(default)]
    pub setpoint: Option<Uuid>,
    #[serde(default)]
    pub record: bool,
    #[serde(default)]
    pub record_mode: RecordMode,
    /// In engineering units, not negative.
    #[serde(default)]
    pub record_deadband: f64,
}

/// An alarm rule: one limit on one tag.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rule {
    pub tag: Uuid,
    pub kind: LimitKind,
    /// The limit, in the tag's engineering unit.
    pub level: f64,
    /// 4 = act now, 3 = act soon, 2 = this shift, 1 = for the record.
    #[serde(default = "two")]
    pub priority: u8,
    #[serde(default)]
    pub deadband: f64,
    /// Seconds, 0 to 86,400.
    #[serde(default)]
    pub on_delay_s: f64,
    #[serde(default)]
    pub off_delay_s: f64,
    #[serde(default = "yes")]
    pub enabled: bool,
    #[serde(default)]
    pub cause: String,
    /// What the operator should do.
    #[serde(default)]
    pub action: String,
}

/// One part of a report.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Section {
    Text {
        text: String,
    },
    /// A table of statistics, one row each tag.
    Summary {
        tags: Vec<Uuid>,
    },
    /// What the tags were at the end of the period, texts too.
    Values {
        tags: Vec<Uuid>,
    },
    /// A picture of the tags over the period.
    Trend {
        tags: Vec<Uuid>,
    },
    /// What the alarms did in the period, under the report's place.
    Alarms {},
}

impl Section {
    /// The tags it shows.
    pub fn tags(&self) -> &[Uuid] {
        match self {
            Section::Summary { tags } | Section::Values { tags } | Section::Trend { tags } => tags,
            Section::Text { .. } | Section::Alarms {} => &[],
        }
    }
}

/// A report: a period that ends when it is made, and sections.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Report {
    pub name: String,
    #[serde(default)]
    pub place: Option<Uuid>,
    /// Length of the period in minutes, 1 to 44,640 (31 days).
    #[serde(default = "quarter")]
    pub minutes: u32,
    /// IANA time zone in which times are printed.
    #[serde(default = "utc")]
    pub zone: String,
    #[serde(default)]
    pub sections: Vec<Section>,
    /// Printed on labels of this size instead of pages.
    #[serde(default)]
    pub label: Option<Label>,
    #[serde(default)]
    pub order: f64,
}

/// The size of a label, in millimetres; 20 to 300 each.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Label {
    pub width: f64,
    pub height: f64,
}

fn yes() -> bool {
    true
}
fn second() -> u32 {
    1000
}
fn one() -> u8 {
    1
}
fn two() -> u8 {
    2
}
fn quarter() -> u32 {
    15
}
fn utc() -> String {
    "UTC".into()
}

/// Collects what is wrong: field and sentence.
pub(super) type Wrong = Vec<(String, String)>;

pub(super) fn name(wrong: &mut Wrong, name: &str) {
    name_of(wrong, "name", name);
}

/// Whether a name will do, for the field that holds it.
pub(super) fn name_of(wrong: &mut Wrong, field: &str, name: &str) {
    let mut say = |words: String| wrong.push((field.into(), words));
    if !text::is_visible(name) {
        say("Enter a name.".into());
    } else if name.trim() != name {
        say("A name must not begin or end with a space.".into());
    } else if name.chars().count() > NAME_LENGTH {
        say(format!("A name has at most {NAME_LENGTH} characters."));
    } else if name.contains('/') || name.chars().any(text::is_control) {
        say("A name must not contain “/” or control characters; “/” separates places in a path.".into());
    }
}

pub(super) fn between<T: PartialOrd + std::fmt::Display>(wrong: &mut Wrong, field: &str, value: T, low: T, high: T) {
    // Written so that a value which is not a number fails too.
    if !(value >= low && value <= high) {
        wrong.push((field.into(), format!("This must lie between {low} and {high}.")));
    }
}

pub(super) fn text(wrong: &mut Wrong, field: &str, value: &str) {
    if value.len() > 4000 {
        wrong.push((field.into(), "This text may have at most 4,000 bytes.".into()));
    }
}

impl Place {
    pub(super) fn check(&self, wrong: &mut Wrong) {
        name(wrong, &self.name);
        text(wrong, "note", &self.note);
    }
}

impl Connection {
    pub(super) fn check(&self, wrong: &mut Wrong) {
        name(wrong, &self.name);
        between(wrong, "interval_ms", self.interval_ms, 100, 3_600_000);
        between(wrong, "timeout_ms", self.timeout_ms, 50, 60_000);
        for (i, group) in self.groups.iter().enumerate() {
            group.check(&format!("groups[{i}]"), wrong);
            if self.groups[..i].iter().any(|g| g.name == group.name || g.id == group.id) {
                wrong.push((format!("groups[{i}].name"), format!("There is already a group “{}”.", group.name)));
            }
        }
        for (i, block) in self.blocks.iter().enumerate() {
            block.check(&format!("blocks[{i}]"), wrong);
            if self.blocks[..i].iter().any(|b| b.name == block.name || b.id == block.id) {
                wrong.push((format!("blocks[{i}].name"), format!("There is already a block “{}”.", block.name)));
            }
        }
        if self.groups.len() > 1000 || self.blocks.len() > 1000 {
            wrong.push(("groups".into(), "A connection has at most 1,000 groups and 1,000 blocks.".into()));
        }
    }
}

impl Tag {
    pub(super) fn check(&self, wrong: &mut Wrong) {
        name(wrong, &self.name);
        text(wrong, "note", &self.note);
        between(wrong, "decimals", self.decimals, 0, 9);
        between(wrong, "record_deadband", self.record_deadband, 0.0, f64::MAX);
        if self.unit.chars().count() > 24 {
            wrong.push(("unit".into(), "An engineering unit has at most 24 characters.".into()));
        }
        for (low, high, field) in
            [(self.range_low, self.range_high, "range_high"), (self.write_low, self.write_high, "write_high")]
        {
            if let (Some(low), Some(high)) = (low, high)
                && low >= high
            {
                wrong.push((field.into(), format!("The upper end must lie above {low}.")));
            }
        }
        if let Some((field, message)) = self.scaling.and_then(|s| s.check()) {
            wrong.push((format!("scaling.{field}"), message.into()));
        }
    }

    /// Digits after the point where nobody says: none for whole numbers as a device holds them, otherwise one.
    pub fn usual_decimals(&self) -> u8 {
        let whole = ["u16", "i16", "u32", "i32", "u64", "i64", "bcd", "bool"];
        let kind = self.point.get("type").and_then(serde_json::Value::as_str).unwrap_or_default();
        u8::from(self.scaling.is_some() || !whole.contains(&kind))
    }

    /// A tag of no importance that is read at this point, to be checked.
    pub fn at(point: Own) -> Tag {
        Tag {
            place: Uuid::nil(),
            name: String::new(),
            note: String::new(),
            order: 0.0,
            connection: None,
            group: None,
            point,
            scaling: None,
            unit: String::new(),
            states: None,
            decimals: 0,
            range_low: None,
            range_high: None,
            writable: false,
            write_low: None,
            write_high: None,
            setpoint: None,
            record: false,
            record_mode: RecordMode::default(),
            record_deadband: 0.0,
        }
    }

    /// The span within which a value may be written.
    pub fn write_span(&self) -> (Option<f64>, Option<f64>) {
        (self.write_low.or(self.range_low), self.write_high.or(self.range_high))
    }

    /// Whether a value in engineering units may be written; numbers must lie within the span.
    ///
    /// # Errors
    /// A sentence for the person who typed it.
    pub fn check_write(&self, value: &Value) -> Result<(), String> {
        if !self.writable {
            return Err(format!("“{}” is not writable.", self.name));
        }
        let Some(number) = value.number() else { return Ok(()) };
        if !number.is_finite() {
            return Err("A value must be a finite number.".into());
        }
        self.within(number, self.write_span())
    }

    /// Whether a value in engineering units lies in the range of the tag, where it is a number and there is a range.
    ///
    /// # Errors
    /// A sentence for the person who typed it.
    pub fn check_range(&self, value: &Value) -> Result<(), String> {
        value.number().map_or(Ok(()), |number| self.within(number, (self.range_low, self.range_high)))
    }

    fn within(&self, number: f64, (low, high): (Option<f64>, Option<f64>)) -> Result<(), String> {
        if low.is_none_or(|low| number >= low) && high.is_none_or(|high| number <= high) {
            return Ok(());
        }
        let unit = if self.unit.is_empty() { String::new() } else { format!(" {}", self.unit) };
        let words = match (low, high) {
            (Some(low), Some(high)) => format!("between {low} and {high}"),
            (Some(low), None) => format!("at least {low}"),
            (None, high) => format!("at most {}", high.unwrap_or(f64::INFINITY)),
        };
        Err(format!("The value must be {words}{unit}."))
    }
}

impl Rule {
    pub(super) fn check(&self, wrong: &mut Wrong) {
        between(wrong, "priority", self.priority, 1, 4);
        between(wrong, "level", self.level, f64::MIN, f64::MAX);
        between(wrong, "deadband", self.deadband, 0.0, f64::MAX);
        between(wrong, "on_delay_s", self.on_delay_s, 0.0, 86_400.0);
        between(wrong, "off_delay_s", self.off_delay_s, 0.0, 86_400.0);
        text(wrong, "cause", &self.cause);
        text(wrong, "action", &self.action);
    }
}

impl Report {
    pub(super) fn check(&self, wrong: &mut Wrong) {
        name(wrong, &self.name);
        between(wrong, "minutes", self.minutes, 1, 44_640);
        if jiff::tz::TimeZone::get(&self.zone).is_err() {
            wrong.push(("zone".into(), format!("“{}” is not a time zone; write it like Europe/Oslo.", self.zone)));
        }
        if let Some(label) = self.label
            && ![label.width, label.height].iter().all(|side| (20.0..=300.0).contains(side))
        {
            wrong.push(("label".into(), "A label is 20 to 300 mm wide and high.".into()));
        }
        if self.sections.len() > 50 {
            wrong.push(("sections".into(), "A report has at most 50 sections.".into()));
        }
        for (i, section) in self.sections.iter().enumerate() {
            if let Section::Text { text: words } = section {
                text(wrong, &format!("sections[{i}].text"), words);
            }
            if section.tags().len() > 500 {
                wrong.push((format!("sections[{i}].tags"), "A section shows at most 500 tags.".into()));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::json;

    fn tag(more: serde_json::Value) -> Tag {
        let mut set = json!({"place": Uuid::nil(), "name": "Temperature setpoint", "unit": "°C", "writable": true});
        set.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        serde_json::from_value(set).unwrap()
    }

    #[rstest]
    #[case::within(json!({"range_low": 20.0, "range_high": 95.0}), Value::F64(20.0), None)]
    #[case::below(json!({"range_low": 20.0, "range_high": 95.0}), Value::F64(19.9), Some("The value must be between 20 and 95 °C."))]
    #[case::own_span_wins(json!({"range_high": 95.0, "write_high": 60.0}), Value::F64(61.0), Some("The value must be at most 60 °C."))]
    #[case::only_low(json!({"write_low": 5.0}), Value::F64(4.0), Some("The value must be at least 5 °C."))]
    #[case::no_span(json!({}), Value::F64(1e9), None)]
    #[case::no_number(json!({}), Value::F64(f64::NAN), Some("A value must be a finite number."))]
    #[case::switch(json!({}), Value::Bool(true), None)]
    #[case::text(json!({}), Value::Text("MV".into()), None)]
    #[case::not_writable(json!({"writable": false}), Value::F64(1.0), Some("“Temperature setpoint” is not writable."))]
    fn a_value_is_checked_before_it_goes_anywhere(
        #[case] more: serde_json::Value,
        #[case] value: Value,
        #[case] refusal: Option<&str>,
    ) {
        let told = tag(more).check_write(&value).err();
        assert_eq!(told.as_deref(), refusal);
    }
}
