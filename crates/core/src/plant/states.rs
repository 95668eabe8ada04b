//! Names for the states of a value: 0 Stopped, 1 Running. A set is made once and used by any number of tags.

use super::{
    Item, Kind, Plant, Settings, Table, Tag,
    check::{Wrong, name, name_of, text},
    kind::{Checking, Reference},
};
use crate::{report, sample::Value};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use std::collections::HashSet;
use uuid::Uuid;

/// Most states in one set.
pub const MOST_STATES: usize = 500;
/// The longest name of a state, in characters.
const STATE_LENGTH: usize = 60;

/// One state.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct State {
    /// The whole number that means it; switches count 0 and 1. Within ±2^53, so that every client reads it exactly.
    pub value: i64,
    pub name: String,
}

/// A set of state names.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct States {
    pub name: String,
    #[serde(default)]
    pub note: String,
    pub states: Vec<State>,
    #[serde(default)]
    pub order: f64,
}

impl Settings for States {
    const KIND: Kind = Kind::States;

    fn table(plant: &Plant) -> &Table<States> {
        &plant.states
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<States> {
        &mut plant.states
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (None, &self.name)
    }

    fn order(&self) -> f64 {
        self.order
    }

    fn references(&self) -> Vec<Reference> {
        Vec::new()
    }

    fn check(item: &Item<States>, _: &Checking<'_>, wrong: &mut Wrong) {
        let set = &item.set;
        name(wrong, &set.name);
        text(wrong, "note", &set.note);
        if set.states.is_empty() || set.states.len() > MOST_STATES {
            wrong.push(("states".into(), format!("A set names 1 to {MOST_STATES} states.")));
        }
        let (mut values, mut names) = (HashSet::new(), HashSet::new());
        for (i, state) in set.states.iter().enumerate().take(MOST_STATES) {
            let at = |field: &str| format!("states[{i}].{field}");
            let before = wrong.len();
            name_of(wrong, &at("name"), &state.name);
            if wrong.len() > before {
                continue;
            }
            if state.name.chars().count() > STATE_LENGTH {
                wrong.push((at("name"), format!("The name of a state has at most {STATE_LENGTH} characters.")));
            } else if state.name.parse::<f64>().is_ok() {
                wrong.push((at("name"), "A state needs a name that is not a number.".into()));
            } else if !names.insert(state.name.to_lowercase()) {
                wrong.push((at("name"), format!("“{}” appears twice.", state.name)));
            }
            if state.value.unsigned_abs() > 1 << 53 {
                wrong.push((at("value"), "A state's number lies within ±9,007,199,254,740,992.".into()));
            } else if !values.insert(state.value) {
                wrong.push((at("value"), format!("{} appears twice.", state.value)));
            }
        }
    }
}

impl States {
    /// The name of a number; none where it is not whole or not in the set. What scaling leaves of a whole number counts as
    /// that number.
    pub fn name_of(&self, number: f64) -> Option<&str> {
        self.states.iter().find(|s| (s.value as f64 - number).abs() < 1e-6).map(|s| s.name.as_str())
    }

    /// The number that a name stands for, whatever its case.
    pub fn value_of(&self, name: &str) -> Option<f64> {
        let name = name.trim().to_lowercase();
        self.states.iter().find(|s| s.name.to_lowercase() == name).map(|s| s.value as f64)
    }
}

impl Plant {
    /// The state names that a tag uses.
    pub fn states_of(&self, tag: &Tag) -> Option<&States> {
        tag.states.and_then(|id| self.states.get(&id)).map(|s| &s.set)
    }

    /// The names of what a tag's value stands for, by number; a switch without names of its own is off or on, and of a quantity there
    /// are none.
    pub fn state_names(&self, tag: &Tag) -> Vec<(i64, String)> {
        match self.states_of(tag) {
            Some(set) => set.states.iter().map(|state| (state.value, state.name.clone())).collect(),
            None if ["bool", "switch"].contains(&self.type_of(tag).as_str()) => vec![(0, "off".into()), (1, "on".into())],
            None => Vec::new(),
        }
    }

    /// A value as the tag prints it, without its unit: by the name of its state, or with the tag's digits.
    pub fn print(&self, tag: &Tag, value: &Value) -> String {
        let named = value.number().and_then(|n| self.states_of(tag)?.name_of(n));
        match (named, value) {
            (Some(name), _) => name.to_owned(),
            (None, Value::Text(text)) => text.clone(),
            (None, Value::Bool(on)) => if *on { "on" } else { "off" }.into(),
            (None, other) => report::number(other.exact(), tag.decimals),
        }
    }

    /// The type that a tag holds at its source, where that says one.
    pub fn type_of(&self, tag: &Tag) -> String {
        if tag.formula.as_ref().is_some_and(|formula| formula.gives_text()) {
            return "text".into();
        }
        let words = || {
            let connection = self.connections.get(&tag.connection?)?;
            let source = self.source(&connection.set, tag).ok()?;
            Some(source.point.get("type")?.as_str()?.to_owned())
        };
        words().unwrap_or_default()
    }

    /// The value that is said for a tag: on or off, a number, or a text, which may be the name of one of its states.
    ///
    /// # Errors
    /// A sentence for whoever said it.
    pub fn said(&self, tag: &Tag, json: &Json) -> Result<Value, String> {
        let value = match json {
            Json::Bool(on) => Value::Bool(*on),
            Json::Number(n) => Value::of_json(n).ok_or("This number is too large.")?,
            Json::String(text) if text.len() <= 1000 => {
                let number = Value::of_digits(text).filter(|_| self.type_of(tag) != "text");
                number.unwrap_or_else(|| Value::Text(text.clone()))
            }
            _ => return Err("A value is on or off, a number or a text.".into()),
        };
        Ok(self.meant(tag, value))
    }

    /// What somebody means who gives a text for a tag's value: the number of the state of that name, where there is one.
    pub fn meant(&self, tag: &Tag, value: Value) -> Value {
        match &value {
            Value::Text(text) => match self.states_of(tag).and_then(|s| s.value_of(text)) {
                Some(number) => Value::F64(number),
                None => value,
            },
            _ => value,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::json;

    fn set(states: serde_json::Value) -> States {
        serde_json::from_value(json!({"name": "Motor", "states": states})).unwrap()
    }

    #[rstest]
    #[case(json!([{"value": 0, "name": "Stopped"}, {"value": -3, "name": "Jammed"}]), None)]
    #[case(json!([]), Some(("states", "A set names 1 to 500 states.")))]
    #[case(json!([{"value": 0, "name": "A"}, {"value": 0, "name": "B"}]), Some(("states[1].value", "0 appears twice.")))]
    #[case(json!([{"value": 0, "name": "on"}, {"value": 1, "name": "On"}]), Some(("states[1].name", "“On” appears twice.")))]
    #[case(json!([{"value": 0, "name": ""}]), Some(("states[0].name", "Enter a name.")))]
    #[case(json!([{"value": 0, "name": "12"}]), Some(("states[0].name", "A state needs a name that is not a number.")))]
    #[case(json!([{"value": i64::MIN, "name": "Low"}]),
        Some(("states[0].value", "A state's number lies within ±9,007,199,254,740,992.")))]
    fn a_set_is_checked(#[case] states: serde_json::Value, #[case] wanted: Option<(&str, &str)>) {
        let mut wrong = Vec::new();
        let item = Item { id: Uuid::nil(), no: 0, revision: 1, own: Default::default(), set: set(states) };
        States::check(&item, &Checking::new(&Plant::default(), &()), &mut wrong);
        let told = wrong.first().map(|(field, words)| (field.as_str(), words.as_str()));
        assert_eq!(told, wanted);
    }

    #[rstest]
    #[case(Value::U64(1), "Running")]
    #[case(Value::F32(1.0), "Running")]
    #[case(Value::Bool(true), "Running")]
    #[case(Value::Bool(false), "off")]
    #[case(Value::F64(0.999_999_999_999), "Running")]
    #[case(Value::F64(1.5), "1.5")]
    #[case(Value::F64(f64::NAN), "NaN")]
    #[case(Value::I64(7), "7.0")]
    #[case(Value::Text("as it is".into()), "as it is")]
    fn a_value_is_printed_by_the_name_of_its_state(#[case] value: Value, #[case] words: &str) {
        let mut plant = Plant::default();
        let id = uuid::Uuid::from_u128(1);
        let own = json!({"name": "Motor", "states": [{"value": 1, "name": "Running"}]}).as_object().unwrap().clone();
        plant.put(crate::plant::Kind::States, id, 0, 1, own).unwrap();
        let tag: Tag = serde_json::from_value(json!({"place": id, "name": "Motor", "states": id})).unwrap();
        assert_eq!(plant.print(&tag, &value), words);
        assert_eq!(plant.meant(&tag, Value::Text(" running".into())), Value::F64(1.0));
        assert_eq!(plant.meant(&tag, Value::Text("walking".into())), Value::Text("walking".into()));
    }
}
