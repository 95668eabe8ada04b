//! Tags: the values of the plant.

use super::{
    Connection, Item, Kind, Own, Plant, Settings, Source, Table,
    check::{self, Wrong},
    kind::{Checking, Reference, Triggered},
};
use crate::{formula::Formula, sample::Value, scale::Scaling};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use std::borrow::Cow;
use uuid::Uuid;

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
    /// The property that it is of its place's class.
    #[serde(default)]
    pub property: Option<Uuid>,
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
    /// Computes its value, in place of a connection.
    #[serde(default)]
    pub formula: Option<Formula>,
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

impl Settings for Tag {
    const KIND: Kind = Kind::Tag;
    const LAYERED: &'static [&'static str] = &["property"];
    const ALONE: &'static [&'static str] = &["name", "place", "property"];
    const FORMULAS: &'static [&'static str] = &["formula"];

    fn table(plant: &Plant) -> &Table<Tag> {
        &plant.tags
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Tag> {
        &mut plant.tags
    }

    fn complete(&mut self, own: &Own) {
        if own.get("decimals").is_none_or(Json::is_null) {
            self.decimals = self.usual_decimals();
        }
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (Some(self.place), &self.name)
    }

    fn clash(name: &str) -> (&'static str, String) {
        ("name", format!("There is already a tag “{name}” here."))
    }

    fn title(item: &Item<Tag>, plant: &Plant) -> String {
        plant.tag_path(&item.set)
    }

    fn order(&self) -> f64 {
        self.order
    }

    fn formula(&self, _field: &str) -> Option<&Formula> {
        self.formula.as_ref()
    }

    fn place(&self, _plant: &Plant) -> Option<Uuid> {
        Some(self.place)
    }

    fn references(&self) -> Vec<Reference> {
        let mut all = vec![Reference::inside("place", Kind::Place, self.place)];
        // Where the class of its equipment binds it, it does not go with the connection.
        all.extend(
            self.connection
                .map(|to| Reference { inside: self.property.is_none(), ..Reference::to("connection", Kind::Connection, to) }),
        );
        all.extend(self.states.map(|to| Reference::to("states", Kind::States, to)));
        all.extend(self.setpoint.map(|to| Reference::to("setpoint", Kind::Tag, to)));
        named_in("point", &self.point, &mut all);
        let read = self.formula.iter().flat_map(Formula::references);
        all.extend(read.map(|to| Reference::to("formula.text", Kind::Tag, to)));
        all
    }

    fn uses(item: &Item<Tag>, reference: &Reference, plant: &Plant) -> String {
        let path = plant.tag_path(&item.set);
        match reference.field.as_str() {
            "setpoint" => format!("it is the setpoint of “{path}”"),
            "states" => format!("it names the states of “{path}”"),
            "formula.text" => format!("the formula of “{path}” reads it"),
            "connection" => format!("the class of its equipment binds “{path}” to it"),
            _ => format!("the address of “{path}” names it"),
        }
    }

    fn check(item: &Item<Tag>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let (set, plant) = (&item.set, checking.plant);
        if let Some(property) = set.property
            && !plant.class_of(set.place).is_some_and(|class| class.properties.contains_key(&property))
        {
            wrong.push(("property".into(), "The class of the equipment has no such property.".into()));
            return;
        }
        check::name(wrong, &set.name);
        check::text(wrong, "note", &set.note);
        check::between(wrong, "decimals", set.decimals, 0, 9);
        check::between(wrong, "record_deadband", set.record_deadband, 0.0, f64::MAX);
        if set.unit.chars().count() > 24 {
            wrong.push(("unit".into(), "An engineering unit has at most 24 characters.".into()));
        }
        for (low, high, field) in [(set.range_low, set.range_high, "range_high"), (set.write_low, set.write_high, "write_high")] {
            if let (Some(low), Some(high)) = (low, high)
                && low >= high
            {
                wrong.push((field.into(), format!("The upper end must lie above {low}.")));
            }
        }
        if let Some((field, message)) = set.scaling.and_then(|s| s.check()) {
            wrong.push((format!("scaling.{field}"), message.into()));
        }
        if let Some(connection) = set.connection.and_then(|id| plant.connections.get(&id)) {
            wrong.extend(set.wrong_source(&connection.set, checking));
        }
        if set.holds_text(plant)
            && let Some(limits) = checking.limits_of(item.id)
        {
            let message = format!("This tag has limits ({}), and a limit needs numbers. Remove them first.", limits.join(", "));
            wrong.push(("point.type".into(), message));
        }
        if set.setpoint == Some(item.id) {
            wrong.push(("setpoint".into(), "The setpoint must be another tag.".into()));
        }
        if let Some(formula) = &set.formula {
            set.check_formula(item.id, formula, checking, wrong);
        }
        // What a formula knows of this tag may have changed.
        for reader in checking.readers_of(item.id) {
            if let Some(Err(found)) = reader.set.formula.as_ref().map(|f| plant.program(f, &reader.set.unit)) {
                let words = found.first().map_or_else(String::new, |w| w.words.clone());
                wrong.push((
                    "unit".into(),
                    format!("The formula of “{}” does not go with it: {words}", plant.tag_path(&reader.set)),
                ));
            }
        }
        for rule in checking.judges_of(item.id) {
            if let Err(found) = plant.rule_programs(&rule.set) {
                let words = found.first().map_or_else(String::new, |(_, words)| words.clone());
                let title = plant.title(Kind::Rule, rule.id);
                wrong.push(("unit".into(), format!("The alarm rule “{title}” does not go with it: {words}")));
            }
        }
        for Triggered { kind, name, trigger } in checking.triggered_by(item.id) {
            if let Err(found) = plant.trigger_program(Some(trigger)) {
                let words = found.into_iter().next().unwrap_or_default();
                wrong.push(("unit".into(), format!("The trigger of {} “{name}” does not go with it: {words}", kind.words())));
            }
        }
    }
}

/// What an address names: drivers write the identity of an item there as text.
pub(super) fn named_in(field: &str, settings: &Own, all: &mut Vec<Reference>) {
    for (name, value) in settings {
        let field = format!("{field}.{name}");
        match value {
            Json::String(text) if text.len() == 36 => all.extend(text.parse().ok().map(|to| Reference::somewhere(field, to))),
            Json::Object(inner) => named_in(&field, inner, all),
            _ => {}
        }
    }
}

impl Tag {
    fn check_formula(&self, id: Uuid, formula: &Formula, checking: &Checking<'_>, wrong: &mut Wrong) {
        let plant = checking.plant;
        let mut tell = |field: &str, words: String| wrong.push((field.into(), words));
        if self.connection.is_some() {
            tell(
                "formula",
                "A tag is either read from a connection or computed. Take the connection away, or the formula.".into(),
            );
        }
        if self.writable {
            tell("writable", "A computed value cannot be written.".into());
        }
        if self.scaling.is_some() {
            tell("scaling", "A computed value is not scaled; calculate in the formula.".into());
        }
        if let Some(circle) = checking.is_circular(id).then(|| plant.circle(id, formula)).flatten() {
            tell("formula.text", plant.circle_words(&circle));
        } else if let Err(found) = plant.program(formula, &self.unit) {
            // That what it names exists is seen to elsewhere.
            let there = |id: Uuid| plant.tags.contains_key(&id);
            if formula.references().all(there) {
                found.into_iter().for_each(|w| tell("formula.text", w.to_string()));
            }
        }
    }

    /// Whether what it reads or computes is text.
    pub fn holds_text(&self, plant: &Plant) -> bool {
        if let Some(formula) = &self.formula {
            return formula.gives_text();
        }
        let connection = self.connection.and_then(|id| plant.connections.get(&id));
        let source = connection.and_then(|connection| plant.source(&connection.set, self).ok());
        source.is_some_and(|source| source.point.get("type").and_then(Json::as_str) == Some("text"))
    }

    /// What is wrong with where it is read.
    pub(super) fn wrong_source(&self, connection: &Connection, checking: &Checking<'_>) -> Wrong {
        if self.group.is_some_and(|id| !connection.groups.iter().any(|g| g.id == id)) {
            return vec![("group".into(), "The connection has no such group.".into())];
        }
        match checking.plant.source(connection, self) {
            Err((field, message)) => vec![(format!("point.{field}"), message)],
            Ok(Source { point: Cow::Borrowed(_), .. }) => checking.source.point(connection, self),
            Ok(Source { point: Cow::Owned(point), scaling }) => {
                checking.source.point(connection, &Tag { point, scaling, ..self.clone() })
            }
        }
    }

    /// Digits after the point where nobody says: none for whole numbers as a device holds them, otherwise one.
    pub fn usual_decimals(&self) -> u8 {
        let whole = ["u16", "i16", "u32", "i32", "u64", "i64", "bcd", "bool"];
        let kind = self.point.get("type").and_then(Json::as_str).unwrap_or_default();
        u8::from(self.scaling.is_some() || !whole.contains(&kind))
    }

    /// A tag of no importance that is read at this point, to be checked.
    pub fn at(point: Own) -> Tag {
        Tag {
            place: Uuid::nil(),
            property: None,
            name: String::new(),
            note: String::new(),
            order: 0.0,
            connection: None,
            group: None,
            point,
            formula: None,
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

fn one() -> u8 {
    1
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
