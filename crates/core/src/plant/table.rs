//! Places, tags and alarm rules as tables: what a cell says of an item, and what writing in it changes.
//!
//! Sheets on the screen and files in CSV share these columns. A column has a stable name, which is the head in a file; what
//! a cell holds is text that a person can read and type: names and paths instead of identities, `yes` and `no`, numbers
//! with a decimal point. [`plan`] turns written cells into edits for the one door.

pub mod template;
mod write;

use super::{Item, Kind, Message, Own, Plant, Rule};
use crate::alarm::LimitKind;
use serde_json::Value as Json;
use std::collections::HashMap;
use uuid::Uuid;

pub use write::{Known, Planned, Row, Trouble, Written, clean_path, column_for, number, plan, plan_watched, troubles};

/// What a cell takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Cell {
    Text,
    Number,
    /// A number in the unit of the row's tag, or the name of one of its states.
    Level,
    /// States of the row's tag by their names or numbers, with a comma between.
    StateList,
    /// A whole number, not negative.
    Whole,
    YesNo,
    /// One of these words.
    Choice(&'static [&'static str]),
    /// A place by its path.
    Place,
    /// An engineering unit: as it is printed, or by its code.
    Unit,
    /// An item of this kind by its name.
    Named(Kind),
    /// A polling group of the row's connection, by its name.
    Group,
    /// A tag by its path; one of the same place by its name alone.
    Tag,
    /// A message or values that go with events, with chips in double brackets.
    Message,
    /// A formula, with tags by their paths.
    Formula,
    /// A part of the row's plain limit of this kind; empty where it has none.
    Limit(LimitKind, LimitPart),
    /// What is left of an object beyond its own columns, as JSON.
    Rest(&'static [&'static str]),
}

/// What the sheet of tags shows of an alarm rule.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LimitPart {
    /// Without it there is no rule.
    Level,
    Priority,
    Deadband,
    /// In seconds.
    OnDelay,
    OffDelay,
}

impl LimitPart {
    /// The setting of the rule that holds it.
    pub const fn field(self) -> &'static str {
        match self {
            LimitPart::Level => "level",
            LimitPart::Priority => "priority",
            LimitPart::Deadband => "deadband",
            LimitPart::OnDelay => "on_delay_s",
            LimitPart::OffDelay => "off_delay_s",
        }
    }
}

/// A column of a table.
#[derive(Debug)]
pub struct Column {
    /// Its name in files and requests; never changes.
    pub key: &'static str,
    /// What stands at its head on the screen.
    pub title: &'static str,
    pub cell: Cell,
    /// The setting it shows: a field, or a field of an object; nothing where it is another item's.
    at: &'static [&'static str],
}

const LEVELS: &[&str] = &["site", "area", "line", "unit", "equipment", "device"];
const RULE_KINDS: &[&str] =
    &["low_low", "low", "high", "high_high", "deviation", "rate", "state", "expression", "bad_quality", "no_change"];
const SIDES: &[&str] = &["either", "above", "below"];
const PERS: &[&str] = &["second", "minute", "hour"];
const DEADBANDS: &[&str] = &["unit", "range"];
const UNCERTAIN: &[&str] = &["good", "bad"];
const TYPES: &[&str] = &["u16", "i16", "u32", "i32", "u64", "i64", "f32", "f64", "bcd", "bool", "text", "number", "switch"];
const MODES: &[&str] = &["on_change", "each_poll"];
const COUNTS: &[&str] = &["each", "one"];
const CURVES: &[&str] = &["linear", "root"];
const MIXED: &[&str] = &["convert", "refuse"];
/// Fields of a tag's point that have columns of their own.
const POINT: &[&str] = &["address", "type", "order", "length", "bit", "bits", "unit"];

const fn column(key: &'static str, title: &'static str, cell: Cell, at: &'static [&'static str]) -> Column {
    Column { key, title, cell, at }
}

const PLACES: &[Column] = &[
    column("parent", "Under", Cell::Place, &["parent"]),
    column("name", "Name", Cell::Text, &["name"]),
    column("level", "Level", Cell::Choice(LEVELS), &["level"]),
    column("order", "Order", Cell::Number, &["order"]),
    column("in_service", "In service", Cell::YesNo, &["in_service"]),
    column("counts", "Counts above as", Cell::Choice(COUNTS), &["counts"]),
    column("operator_area", "Operator area", Cell::Text, &["operator_area"]),
    column("shift_pattern", "Shift pattern", Cell::Named(Kind::ShiftPattern), &["shift_pattern"]),
    column("latitude", "Latitude", Cell::Number, &["latitude"]),
    column("longitude", "Longitude", Cell::Number, &["longitude"]),
    column("note", "Note", Cell::Text, &["note"]),
];

const TAGS: &[Column] = &[
    column("place", "Place", Cell::Place, &["place"]),
    column("name", "Tag", Cell::Text, &["name"]),
    column("unit", "Unit", Cell::Unit, &["unit"]),
    column("states", "State names", Cell::Named(Kind::States), &["states"]),
    column("decimals", "Decimals", Cell::Whole, &["decimals"]),
    column("range_low", "Range from", Cell::Number, &["range_low"]),
    column("range_high", "Range to", Cell::Number, &["range_high"]),
    column("connection", "Connection", Cell::Named(Kind::Connection), &["connection"]),
    column("group", "Group", Cell::Group, &["group"]),
    column("address", "Address", Cell::Text, &["point", "address"]),
    column("type", "Type", Cell::Choice(TYPES), &["point", "type"]),
    column("byte_order", "Byte order", Cell::Text, &["point", "order"]),
    column("length", "Length", Cell::Whole, &["point", "length"]),
    column("bit", "Bit", Cell::Whole, &["point", "bit"]),
    column("bits", "Bits", Cell::Whole, &["point", "bits"]),
    column("device", "Unit id", Cell::Whole, &["point", "unit"]),
    column("source", "Source, more", Cell::Rest(POINT), &["point"]),
    column("formula", "Formula", Cell::Formula, &["formula", "text"]),
    column("mixed_units", "Mixed units", Cell::Choice(MIXED), &["formula", "mixed"]),
    column("raw_low", "Raw from", Cell::Number, &["scaling", "raw_low"]),
    column("raw_high", "Raw to", Cell::Number, &["scaling", "raw_high"]),
    column("low", "Reads from", Cell::Number, &["scaling", "low"]),
    column("high", "Reads to", Cell::Number, &["scaling", "high"]),
    column("clamp", "Hold at ends", Cell::YesNo, &["scaling", "clamp"]),
    column("curve", "Curve", Cell::Choice(CURVES), &["scaling", "curve"]),
    column("record", "Record", Cell::YesNo, &["record"]),
    column("record_mode", "Record when", Cell::Choice(MODES), &["record_mode"]),
    column("record_deadband", "Deadband", Cell::Number, &["record_deadband"]),
    column("writable", "Writable", Cell::YesNo, &["writable"]),
    column("write_low", "Write from", Cell::Number, &["write_low"]),
    column("write_high", "Write to", Cell::Number, &["write_high"]),
    column("setpoint", "Setpoint", Cell::Tag, &["setpoint"]),
    column("limit_high_high", "Limit high high", Cell::Limit(LimitKind::HighHigh, LimitPart::Level), &[]),
    column("limit_high_high_priority", "Limit high high, priority", Cell::Limit(LimitKind::HighHigh, LimitPart::Priority), &[]),
    column("limit_high_high_deadband", "Limit high high, deadband", Cell::Limit(LimitKind::HighHigh, LimitPart::Deadband), &[]),
    column(
        "limit_high_high_on_delay_s",
        "Limit high high, on-delay, s",
        Cell::Limit(LimitKind::HighHigh, LimitPart::OnDelay),
        &[],
    ),
    column(
        "limit_high_high_off_delay_s",
        "Limit high high, off-delay, s",
        Cell::Limit(LimitKind::HighHigh, LimitPart::OffDelay),
        &[],
    ),
    column("limit_high", "Limit high", Cell::Limit(LimitKind::High, LimitPart::Level), &[]),
    column("limit_high_priority", "Limit high, priority", Cell::Limit(LimitKind::High, LimitPart::Priority), &[]),
    column("limit_high_deadband", "Limit high, deadband", Cell::Limit(LimitKind::High, LimitPart::Deadband), &[]),
    column("limit_high_on_delay_s", "Limit high, on-delay, s", Cell::Limit(LimitKind::High, LimitPart::OnDelay), &[]),
    column("limit_high_off_delay_s", "Limit high, off-delay, s", Cell::Limit(LimitKind::High, LimitPart::OffDelay), &[]),
    column("limit_low", "Limit low", Cell::Limit(LimitKind::Low, LimitPart::Level), &[]),
    column("limit_low_priority", "Limit low, priority", Cell::Limit(LimitKind::Low, LimitPart::Priority), &[]),
    column("limit_low_deadband", "Limit low, deadband", Cell::Limit(LimitKind::Low, LimitPart::Deadband), &[]),
    column("limit_low_on_delay_s", "Limit low, on-delay, s", Cell::Limit(LimitKind::Low, LimitPart::OnDelay), &[]),
    column("limit_low_off_delay_s", "Limit low, off-delay, s", Cell::Limit(LimitKind::Low, LimitPart::OffDelay), &[]),
    column("limit_low_low", "Limit low low", Cell::Limit(LimitKind::LowLow, LimitPart::Level), &[]),
    column("limit_low_low_priority", "Limit low low, priority", Cell::Limit(LimitKind::LowLow, LimitPart::Priority), &[]),
    column("limit_low_low_deadband", "Limit low low, deadband", Cell::Limit(LimitKind::LowLow, LimitPart::Deadband), &[]),
    column("limit_low_low_on_delay_s", "Limit low low, on-delay, s", Cell::Limit(LimitKind::LowLow, LimitPart::OnDelay), &[]),
    column("limit_low_low_off_delay_s", "Limit low low, off-delay, s", Cell::Limit(LimitKind::LowLow, LimitPart::OffDelay), &[]),
    column("order", "Order", Cell::Number, &["order"]),
    column("note", "Note", Cell::Text, &["note"]),
];

const RULES: &[Column] = &[
    column("tag", "Tag", Cell::Tag, &["tag"]),
    column("name", "Name", Cell::Text, &["name"]),
    column("kind", "Kind", Cell::Choice(RULE_KINDS), &["kind"]),
    column("level", "Level", Cell::Level, &["level"]),
    column("level_formula", "Level from formula", Cell::Formula, &["level_formula", "text"]),
    column("setpoint", "Setpoint", Cell::Formula, &["setpoint", "text"]),
    column("side", "Side", Cell::Choice(SIDES), &["side"]),
    column("window_s", "Over, s", Cell::Number, &["window_s"]),
    column("per", "Per", Cell::Choice(PERS), &["per"]),
    column("states", "States", Cell::StateList, &["states"]),
    column("when", "When", Cell::Formula, &["when", "text"]),
    column("priority", "Priority", Cell::Whole, &["priority"]),
    column("deadband", "Deadband", Cell::Number, &["deadband"]),
    column("deadband_in", "Deadband in", Cell::Choice(DEADBANDS), &["deadband_in"]),
    column("on_delay_s", "On-delay, s", Cell::Number, &["on_delay_s"]),
    column("off_delay_s", "Off-delay, s", Cell::Number, &["off_delay_s"]),
    column("only_while", "Only while", Cell::Formula, &["only_while", "text"]),
    column("uncertain", "Uncertain counts as", Cell::Choice(UNCERTAIN), &["uncertain"]),
    column("enabled", "Enabled", Cell::YesNo, &["enabled"]),
    column("class", "Alarm class", Cell::Named(Kind::AlarmClass), &["class"]),
    column("acknowledge", "Acknowledge", Cell::YesNo, &["acknowledge"]),
    column("latch", "Latch", Cell::YesNo, &["latch"]),
    column("first_out", "First-out group", Cell::Text, &["first_out"]),
    column("message", "Message", Cell::Message, &["message"]),
    column("values_with", "Values with it", Cell::Message, &["values_with"]),
    column("if_ignored", "If nobody acts", Cell::Text, &["if_ignored"]),
    column("safety", "Safety", Cell::Whole, &["consequences", "safety"]),
    column("environment", "Environment", Cell::Whole, &["consequences", "environment"]),
    column("production", "Production", Cell::Whole, &["consequences", "production"]),
    column("quality", "Quality", Cell::Whole, &["consequences", "quality"]),
    column("equipment", "Equipment", Cell::Whole, &["consequences", "equipment"]),
    column("respond_min", "Act within, min", Cell::Number, &["respond_min"]),
    column("overruled", "Other priority because", Cell::Text, &["overruled"]),
    column("cause", "Cause", Cell::Text, &["cause"]),
    column("action", "Action", Cell::Text, &["action"]),
];

/// The columns of a kind's table; none where the kind has no table.
pub fn columns(kind: Kind) -> &'static [Column] {
    match kind {
        Kind::Place => PLACES,
        Kind::Tag => TAGS,
        Kind::Rule => RULES,
        _ => &[],
    }
}

/// The column of a table with this name.
pub fn column_of(kind: Kind, key: &str) -> Option<&'static Column> {
    columns(kind).iter().find(|c| c.key == key)
}

/// What a column says of effective settings.
fn text_of(plant: &Plant, column: &Column, set: &Own) -> String {
    let value = match column.at {
        [field] => set.get(*field),
        [object, field] => set.get(*object).and_then(|o| o.get(*field)),
        _ => None,
    };
    let Some(value) = value.filter(|v| !v.is_null()) else { return String::new() };
    let id = || value.as_str().and_then(|s| Uuid::parse_str(s).ok());
    match column.cell {
        Cell::Text if column.key == "address" => value.as_str().map_or_else(|| value.to_string(), lasting),
        Cell::Text | Cell::Unit | Cell::Choice(_) => value.as_str().map_or_else(|| value.to_string(), str::to_owned),
        Cell::Formula => plant.formula_shown(value.as_str().unwrap_or_default()),
        Cell::Message => {
            let place = reference(set, "tag").and_then(|tag| Some(plant.tags.get(&tag)?.set.place));
            let message = serde_json::from_value::<Message>(value.clone()).unwrap_or_default();
            if column.key == "values_with" { plant.values_shown(&message, place) } else { plant.message_shown(&message, place) }
        }
        Cell::Number | Cell::Level | Cell::Limit(..) | Cell::Whole => number_text(value),
        Cell::StateList => {
            let names = reference(set, "tag").and_then(|tag| plant.states_of(&plant.tags.get(&tag)?.set));
            let name = |state: &Json| {
                let known = names.and_then(|names| names.name_of(state.as_f64()?));
                known.map_or_else(|| number_text(state), str::to_owned)
            };
            value.as_array().into_iter().flatten().map(name).collect::<Vec<_>>().join(", ")
        }
        Cell::YesNo => if value == &Json::Bool(true) { "yes" } else { "no" }.into(),
        Cell::Place => plant.path(id()),
        Cell::Named(kind) => plant.title(kind, id().unwrap_or_default()),
        Cell::Group => {
            let groups = reference(set, "connection").and_then(|c| plant.connections.get(&c)).map(|c| &c.set.groups);
            let group = groups.and_then(|groups| groups.iter().find(|g| Some(g.id) == id()));
            group.map_or_else(String::new, |g| g.name.clone())
        }
        Cell::Tag => match id().and_then(|id| plant.tags.get(&id)) {
            Some(tag) if Some(tag.set.place) == reference(set, "place") => tag.set.name.clone(),
            Some(tag) => plant.tag_path(&tag.set),
            None => String::new(),
        },
        Cell::Rest(known) => {
            let rest: Own = value
                .as_object()
                .into_iter()
                .flatten()
                .filter(|(k, _)| !known.contains(&k.as_str()))
                .map(|(k, v)| (k.clone(), v.clone()))
                .collect();
            if rest.is_empty() { String::new() } else { Json::Object(rest).to_string() }
        }
    }
}

/// An address in a form that survives a spreadsheet: of `00001` (a coil, in the notation in which the first digit is the table)
/// it would leave `1`, which is another address.
fn lasting(address: &str) -> String {
    match address.strip_prefix('0') {
        Some(rest) if matches!(rest.len(), 4 | 5) && rest.bytes().all(|b| b.is_ascii_digit()) => format!("0x{rest}"),
        _ => address.to_owned(),
    }
}

fn number_text(value: &Json) -> String {
    // The shortest text that reads back as the same number, without an empty fraction.
    value.as_f64().map_or_else(|| value.to_string(), |n| format!("{n}"))
}

fn reference(set: &Own, field: &str) -> Option<Uuid> {
    set.get(field)?.as_str().and_then(|s| Uuid::parse_str(s).ok())
}

/// Reads the cells of many items.
pub struct Reader<'a> {
    plant: &'a Plant,
    /// The plain limits.
    rules: HashMap<(Uuid, LimitKind), &'a Item<Rule>>,
}

impl<'a> Reader<'a> {
    /// Makes ready to read the items that are wanted.
    pub fn of(plant: &'a Plant, wanted: impl Fn(Uuid) -> bool) -> Reader<'a> {
        let plain = plant.rules.values().filter(|r| r.set.name.is_empty() && wanted(r.set.tag));
        let rules = plain.filter_map(|r| Some(((r.set.tag, r.set.kind.limit()?), r.as_ref()))).collect();
        Reader { plant, rules }
    }

    fn text(&self, column: &Column, id: Uuid, set: &Own) -> String {
        match column.cell {
            Cell::Limit(kind, part) => {
                let rule = self.rules.get(&(id, kind)).map(|r| &r.set).filter(|rule| !rule.is_left_out());
                let Some(rule) = rule else { return String::new() };
                let number = match (part, &rule.level_formula) {
                    (LimitPart::Level, Some(formula)) => return format!("= {}", self.plant.formula_shown(formula.text())),
                    (LimitPart::Level, None) => rule.level,
                    (LimitPart::Priority, _) => Some(rule.priority.into()),
                    (LimitPart::Deadband, _) => Some(rule.deadband),
                    (LimitPart::OnDelay, _) => Some(rule.on_delay_s),
                    (LimitPart::OffDelay, _) => Some(rule.off_delay_s),
                };
                number.map_or_else(String::new, |number| number_text(&number.into()))
            }
            _ => text_of(self.plant, column, set),
        }
    }

    /// One cell of an item.
    pub fn cell(&self, column: &Column, kind: Kind, id: Uuid) -> String {
        self.text(column, id, &self.plant.effective(kind, id))
    }

    /// All cells of an item, in the order of [`columns`].
    pub fn cells(&self, kind: Kind, id: Uuid) -> Vec<String> {
        let set = self.plant.effective(kind, id);
        columns(kind).iter().map(|c| self.text(c, id, &set)).collect()
    }
}

/// All cells of one item, in the order of [`columns`]; for many use a [`Reader`].
pub fn cells(plant: &Plant, kind: Kind, id: Uuid) -> Vec<String> {
    Reader::of(plant, |tag| tag == id).cells(kind, id)
}

#[cfg(test)]
mod tests;
