//! What a class says of one instance: settings of its place, its tags and their rules, with parameters filled in. An instance's own
//! settings lie over that.

use super::{
    fill::{self, Scope},
    members::Members,
};
use crate::{
    formula::Formula,
    plant::{
        Class, Kind, Own, Plant, Property, PropertyKind,
        class::{NAME, NUMBER},
        layers,
        place::PartOf,
    },
};
use serde_json::{Value as Json, json};
use uuid::Uuid;

/// The field that cannot be filled in, and a sentence.
pub(super) type Unfilled = (String, String);

/// Fields of a tag without which it is not read at all.
const SOURCE: [&str; 3] = ["connection", "group", "point"];

impl Plant {
    /// The class of a place, where it has one.
    pub fn class_of(&self, place: Uuid) -> Option<&Class> {
        let class = self.places.get(&place)?.set.class?;
        self.classes.get(&class).map(|item| &item.set)
    }

    /// What the parameters of an instance are.
    pub fn scope_of(&self, place: Uuid) -> Scope {
        let mut scope = Scope::default();
        let Some(item) = self.places.get(&place) else { return scope };
        for (id, parameter) in self.class_of(place).into_iter().flat_map(|class| &class.parameters) {
            let said = item.set.parameters.get(&id.to_string()).filter(|value| !value.is_null());
            scope.set(&parameter.name, said.or(parameter.default.as_ref()).cloned().unwrap_or_default());
        }
        scope.set(NAME, item.set.name.as_str().into());
        scope.set(NUMBER, item.set.part.map_or(Json::Null, |part| part.number.into()));
        scope
    }

    /// What its class, or the class that it is a part of, says of a place.
    pub(super) fn place_layer(&self, place: Uuid) -> Result<Own, Unfilled> {
        let mut layer = Own::new();
        let Some(item) = self.places.get(&place) else { return Ok(layer) };
        let mut class = item.own.get("class").and_then(Json::as_str).and_then(|id| id.parse::<Uuid>().ok());
        if let (Some(part), Some(parent)) = (item.set.part, item.set.parent)
            && let Some(said) = self.class_of(parent).and_then(|class| class.parts.get(&part.of))
        {
            let mut scope = self.scope_of(parent);
            scope.set(NUMBER, part.number.into());
            let fill = |name: &str, value: &Json| {
                fill::filled(value, &scope, &mut false).map_err(|(at, words)| (format!("{name}{at}"), words))
            };
            let name = fill("name", &Json::String(said.name.clone()))?;
            // A name needs something to be called by.
            let name = name.map_or_else(
                || format!("Part {}", part.number),
                |name| name.as_str().map_or_else(|| name.to_string(), String::from),
            );
            class = class.or(Some(said.class));
            let mut parameters = Own::new();
            for (id, parameter) in self.classes.get(&said.class).into_iter().flat_map(|class| &class.set.parameters) {
                let id = id.to_string();
                let value = match said.parameters.get(&id).filter(|value| !value.is_null()) {
                    Some(value) => fill("parameters", value)?,
                    None => scope.get(&parameter.name).cloned(),
                };
                parameters.extend(value.filter(|value| !value.is_null()).map(|value| (id, value)));
            }
            layer.insert("name".into(), name.into());
            layer.insert("class".into(), said.class.to_string().into());
            layer.insert("parameters".into(), Json::Object(parameters));
            layer.insert("order".into(), json!(said.order + f64::from(part.number) / 1000.0));
        }
        if let Some(level) = class.and_then(|id| self.classes.get(&id)).and_then(|class| class.set.level) {
            layer.insert("level".into(), json!(level));
        }
        Ok(layer)
    }

    /// What the class of its place says of a tag.
    pub(super) fn tag_layer(&self, place: Uuid, property: &Property, scope: &Scope, members: &Members) -> Result<Own, Unfilled> {
        let mut layer = Own::new();
        let mut bound = true;
        for (name, value) in &property.tag {
            let mut unsaid = false;
            let value = match (name.as_str(), value) {
                ("formula", Json::Object(formula)) => Some(self.own_formula(place, name, formula, scope, members)?),
                ("setpoint", Json::String(of)) => of.parse().ok().and_then(|of| members.tag(place, of)).map(|tag| json!(tag)),
                _ => fill::filled(value, scope, &mut unsaid).map_err(|(at, words)| (format!("{name}{at}"), words))?,
            };
            bound &= !(unsaid && SOURCE.contains(&name.as_str()));
            layer.extend(value.map(|value| (name.clone(), value)));
        }
        // Half an address is none.
        if !bound {
            SOURCE.iter().for_each(|field| drop(layer.shift_remove(*field)));
        }
        if matches!(property.kind, PropertyKind::Setting | PropertyKind::Command) {
            layer.insert("writable".into(), true.into());
        }
        Ok(layer)
    }

    /// A formula of a class on one instance: its properties are tags there, and its parameters numbers or texts.
    fn own_formula(&self, place: Uuid, field: &str, formula: &Own, scope: &Scope, members: &Members) -> Result<Json, Unfilled> {
        let mut made = formula.clone();
        let Some(text) = formula.get("text").and_then(Json::as_str) else { return Ok(Json::Object(made)) };
        let parameters = self.class_of(place).map(|class| &class.parameters);
        let meant = |path: &str| {
            let parameter = path.parse().ok().and_then(|id: Uuid| parameters?.get(&id));
            match parameter {
                Some(parameter) => match scope.get(&parameter.name)? {
                    Json::String(text) => serde_json::to_string(text).ok(),
                    Json::Number(number) => Some(number.to_string()),
                    _ => None,
                },
                None => members.owned(place, path).map(|tag| Formula::call("at", &tag.to_string())),
            }
        };
        let text = Formula::with_own(text, meant).map_err(|wrong| {
            let words = "It names a property or a parameter that this equipment does not have.";
            let told = if wrong.words.starts_with("The class has no") { words.into() } else { wrong.to_string() };
            (format!("{field}.text"), told)
        })?;
        made.insert("text".into(), text.into());
        Ok(Json::Object(made))
    }

    /// What the class of its place says of an alarm rule.
    pub(super) fn rule_layer(&self, place: Uuid, own: &Own, scope: &Scope, members: &Members) -> Result<Own, Unfilled> {
        let mut layer = Own::new();
        for (name, value) in own {
            let value = match value {
                Json::Object(formula) if Kind::Rule.formulas().contains(&name.as_str()) => {
                    Some(self.own_formula(place, name, formula, scope, members)?)
                }
                Json::Array(parts) if Kind::Rule.messages().contains(&name.as_str()) => {
                    let part = |part: &Json| match part.get("formula") {
                        Some(Json::Object(formula)) => {
                            Ok(json!({"formula": self.own_formula(place, name, formula, scope, members)?}))
                        }
                        _ => fill::filled(part, scope, &mut false)
                            .map(Option::unwrap_or_default)
                            .map_err(|(_, words)| (name.clone(), words)),
                    };
                    Some(Json::Array(parts.iter().map(part).collect::<Result<_, Unfilled>>()?))
                }
                _ => fill::filled(value, scope, &mut false).map_err(|(at, words)| (format!("{name}{at}"), words))?,
            };
            layer.extend(value.map(|value| (name.clone(), value)));
        }
        Ok(layer)
    }

    /// What an item of an instance inherits from its class; none where it belongs to no class.
    pub fn inherited(&self, kind: Kind, id: Uuid, members: &Members) -> Option<Own> {
        match kind {
            Kind::Place => {
                let set = &self.places.get(&id)?.set;
                (set.class.is_some() || set.part.is_some()).then(|| self.place_layer(id).ok())?
            }
            Kind::Tag => {
                let set = &self.tags.get(&id)?.set;
                let property = self.class_of(set.place)?.properties.get(&set.property?)?;
                self.tag_layer(set.place, property, &self.scope_of(set.place), members).ok()
            }
            Kind::Rule => {
                let set = &self.rules.get(&id)?.set;
                let tag = &self.tags.get(&set.tag)?.set;
                let own = self.class_of(tag.place)?.properties.get(&tag.property?)?.rules.get(&set.class_rule?)?;
                self.rule_layer(tag.place, own, &self.scope_of(tag.place), members).ok()
            }
            Kind::Class => {
                let line = self.lineage(id)?;
                let (_, bases) = line.split_last()?;
                let said: Vec<&Own> = bases.iter().filter_map(|id| Some(&self.classes.get(id)?.own)).collect();
                let mut below = layers::merged(&said);
                // What it is called is its own, and what its base extends is seen to.
                ["name", "note", "order", "extends"].iter().for_each(|field| drop(below.shift_remove(*field)));
                Some(below)
            }
            _ => None,
        }
    }

    /// The parts that an instance is to have.
    pub(super) fn parts_wanted(&self, place: Uuid) -> Vec<PartOf> {
        let Some(class) = self.class_of(place) else { return Vec::new() };
        let without = &self.places[&place].set.without;
        let parts = class.parts.iter().filter(|(id, _)| !without.contains(id));
        parts.flat_map(|(&of, part)| (1..=part.count).map(move |number| PartOf { of, number })).collect()
    }
}
