//! Equipment classes: what a kind of equipment has. A place that is of a class is an *instance* of it and gets a tag for each
//! property, an alarm rule for each of a property's rules, and a place for each part ([`super::instances`]).
//!
//! Settings of tags, rules and parts may hold parameters in double brackets ([`super::instances::fill`]); what they are stands on
//! the instance. Another class may extend this one: its own settings lie over this one's, property by property.

use super::{
    Item, Kind, Level, Own, Plant, Settings, Table,
    check::{self, Wrong},
    formula_texts, instances,
    kind::{Checking, Reference},
    tag::named_in,
};
use crate::formula::Parsed;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use std::collections::{BTreeMap, HashMap, HashSet};
use uuid::Uuid;

/// The most items (places, tags, rules) that one instance may have with all its parts.
pub const MOST_ITEMS: usize = 5_000;
/// What to tell where a class would nest without an end.
const PART_OF_ITSELF: &str = "The class would be a part of itself, or nests more than 12 deep.";
/// The most parts of one name.
const MOST_COUNT: u32 = 500;
/// How many classes may extend each other, or nest as parts.
pub(super) const DEEPEST: usize = 12;

/// The name of the instance, which every class knows as a parameter.
pub const NAME: &str = "Name";
/// Which of the like parts an instance is, counted from 1.
pub const NUMBER: &str = "Number";

/// A kind of equipment.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Class {
    pub name: String,
    #[serde(default)]
    pub note: String,
    #[serde(default)]
    pub order: f64,
    /// The class whose settings lie beneath.
    #[serde(default)]
    pub extends: Option<Uuid>,
    /// The level of its instances in the plant tree.
    #[serde(default)]
    pub level: Option<Level>,
    /// What differs from instance to instance.
    #[serde(default)]
    pub parameters: BTreeMap<Uuid, Parameter>,
    /// The values that it has.
    #[serde(default)]
    pub properties: BTreeMap<Uuid, Property>,
    /// The equipment that it is made of.
    #[serde(default)]
    pub parts: BTreeMap<Uuid, Part>,
}

/// Something that differs from instance to instance: a base address, a topic, a serial number.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Parameter {
    pub name: String,
    #[serde(default)]
    pub kind: ParameterKind,
    /// What holds where the instance does not say it.
    #[serde(default)]
    pub default: Option<Json>,
    #[serde(default)]
    pub note: String,
    #[serde(default)]
    pub order: f64,
}

/// What a parameter may be.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum ParameterKind {
    Number,
    #[default]
    Text,
    /// A connection of the plant, by its identity.
    Connection,
}

/// What a property is to whoever works with the equipment.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum PropertyKind {
    /// Read and never written.
    #[default]
    Measured,
    /// A value that stays as it is set, such as a setpoint.
    Setting,
    /// A value that makes the equipment do something.
    Command,
    /// Computed by a formula.
    Computed,
}

/// How the values of like equipment come to one figure.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum RollUp {
    /// They do not.
    #[default]
    None,
    Sum,
    Average,
    Lowest,
    Highest,
    /// How many are on, or are not zero.
    Count,
}

/// A value that each instance has, as a tag.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Property {
    #[serde(default)]
    pub kind: PropertyKind,
    /// Settings of the tag, its name among them. A setpoint is another property, a formula names others by `own("…")`.
    pub tag: Own,
    /// Settings of alarm rules.
    #[serde(default)]
    pub rules: BTreeMap<Uuid, Own>,
    /// Stands first where the equipment is shown in short.
    #[serde(default)]
    pub main: bool,
    /// How the values of all such equipment in an area come to one figure.
    #[serde(default)]
    pub roll_up: RollUp,
}

/// Equipment that each instance is made of.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Part {
    /// What its places are called; with `[[Number]]` where there are several.
    pub name: String,
    pub class: Uuid,
    #[serde(default = "one")]
    pub count: u32,
    /// What the parameters of its class are, by the id of the parameter. One that is not said is that of the same name here.
    #[serde(default)]
    pub parameters: Own,
    #[serde(default)]
    pub order: f64,
}

impl Property {
    /// What it is called.
    pub fn name(&self) -> &str {
        self.tag.get("name").and_then(Json::as_str).unwrap_or_default()
    }

    fn order(&self) -> f64 {
        self.tag.get("order").and_then(Json::as_f64).unwrap_or(0.0)
    }

    /// Every formula that it says as it is stored, each behind the field that holds it: of its tag and of its rules.
    pub fn formulas(&self) -> Vec<(String, String)> {
        let mut all = Vec::new();
        let mut add = |of: String, kind: Kind, own: &Own| {
            let mut own = own.clone();
            all.extend(formula_texts(kind, &mut own).into_iter().map(|(field, text)| (format!("{of}.{field}"), text.clone())));
        };
        add("tag".into(), Kind::Tag, &self.tag);
        self.rules.iter().for_each(|(rule, own)| add(format!("rules.{rule}"), Kind::Rule, own));
        all
    }

    /// Its formula as it is stored: properties by their identity.
    pub fn formula(&self) -> Option<&str> {
        self.tag.get("formula")?.get("text")?.as_str()
    }
}

impl Class {
    /// Its properties in the engineer's order.
    pub fn in_order(&self) -> Vec<(Uuid, &Property)> {
        let mut all: Vec<_> = self.properties.iter().map(|(&id, property)| (id, property)).collect();
        all.sort_by(|(_, a), (_, b)| a.order().total_cmp(&b.order()).then_with(|| a.name().cmp(b.name())));
        all
    }

    /// Checks names that must be told apart, each with its field.
    fn check_names(&self, wrong: &mut Wrong) {
        let mut taken: HashSet<String> = HashSet::new();
        let mut once = |wrong: &mut Wrong, field: String, name: &str| {
            if !name.is_empty() && !taken.insert(name.to_lowercase()) {
                wrong.push((field, format!("The class has “{name}” already.")));
            }
        };
        for (id, parameter) in &self.parameters {
            let field = format!("parameters.{id}.name");
            if !is_parameter_name(&parameter.name) {
                let words = "A parameter is named by letters, digits and spaces, beginning with a letter.";
                wrong.push((field.clone(), words.into()));
            } else if [NAME, NUMBER].iter().any(|known| known.eq_ignore_ascii_case(&parameter.name)) {
                wrong.push((field.clone(), format!("Every class knows “{}” already; enter another name.", parameter.name)));
            }
            once(wrong, field, &parameter.name);
        }
        for (id, property) in &self.properties {
            let field = format!("properties.{id}.tag.name");
            check::name_of(wrong, &field, property.name());
            if property.name().contains("[[") {
                wrong.push((field.clone(), "A property has the same name on every instance.".into()));
            }
            once(wrong, field, property.name());
        }
        for (id, part) in &self.parts {
            let field = format!("parts.{id}.name");
            check::name_of(wrong, &field, &part.name);
            if part.count > 1 && !part.name.contains("[[") {
                wrong.push((field.clone(), "Several parts need names of their own: write [[Number]] where they differ.".into()));
            }
            once(wrong, field, &part.name);
        }
    }

    fn check_parameters(&self, wrong: &mut Wrong) {
        for (id, parameter) in &self.parameters {
            check::text(wrong, &format!("parameters.{id}.note"), &parameter.note);
            if let Some(words) = parameter.default.as_ref().and_then(|value| parameter.kind.refuses(value)) {
                wrong.push((format!("parameters.{id}.default"), words.into()));
            }
        }
    }

    fn check_properties(&self, wrong: &mut Wrong) {
        for (id, property) in &self.properties {
            let field = |name: &str| format!("properties.{id}.{name}");
            let computes = property.formula().is_some();
            match property.kind {
                PropertyKind::Computed if !computes => {
                    wrong.push((field("tag.formula.text"), "A computed property needs a formula.".into()));
                }
                PropertyKind::Measured | PropertyKind::Setting | PropertyKind::Command if computes => {
                    wrong.push((field("kind"), "What has a formula is computed.".into()));
                }
                _ => {}
            }
            for name in ["place", "property", "writable"].into_iter().filter(|name| property.tag.contains_key(*name)) {
                wrong.push((field(&format!("tag.{name}")), "A class does not say this; it follows from the rest.".into()));
            }
            let known = ["tag", "class_rule"];
            for (rule, own) in &property.rules {
                for name in known.into_iter().filter(|name| own.contains_key(*name)) {
                    wrong.push((field(&format!("rules.{rule}.{name}")), "A class does not say this.".into()));
                }
            }
        }
    }

    fn check_parts(&self, id: Uuid, plant: &Plant, wrong: &mut Wrong) {
        for (part_id, part) in &self.parts {
            check::between(wrong, &format!("parts.{part_id}.count"), part.count, 1, MOST_COUNT);
            let Some(class) = plant.classes.get(&part.class) else { continue };
            for (parameter, value) in &part.parameters {
                let known = parameter.parse().ok().and_then(|id: Uuid| class.set.parameters.get(&id));
                let words = match known {
                    None => Some(format!("The class “{}” has no such parameter.", class.set.name)),
                    Some(known) => known.kind.refuses(value).filter(|_| !instances::fill::has_brackets(value)).map(String::from),
                };
                wrong.extend(words.map(|words| (format!("parts.{part_id}.parameters.{parameter}"), words)));
            }
        }
        wrong.extend(plant.endless(id).map(|words| ("parts".to_owned(), words)));
    }
}

impl ParameterKind {
    /// Why a value does not go with it.
    pub(super) fn refuses(self, value: &Json) -> Option<&'static str> {
        match (self, value) {
            (_, Json::Null)
            | (ParameterKind::Number, Json::Number(_))
            | (ParameterKind::Text | ParameterKind::Connection, Json::String(_)) => None,
            (ParameterKind::Number, _) => Some("This must be a number."),
            (ParameterKind::Text, _) => Some("This must be text."),
            (ParameterKind::Connection, _) => Some("This must be a connection."),
        }
    }
}

/// The text of the formula in a field.
/// The texts of the formulas that a property says as it is stored, each behind the name of its field.
pub fn formulas_of(property: &mut Json) -> Vec<(String, &mut String)> {
    let Some(property) = property.as_object_mut() else { return Vec::new() };
    let mut all = Vec::new();
    for (part, said) in property.iter_mut() {
        match (part.as_str(), said) {
            ("tag", said) => all.extend(texts_of(part.clone(), said, Kind::Tag)),
            ("rules", Json::Object(rules)) => {
                for (rule, said) in rules.iter_mut() {
                    all.extend(texts_of(format!("rules.{rule}"), said, Kind::Rule));
                }
            }
            _ => {}
        }
    }
    all
}

fn texts_of(of: String, said: &mut Json, kind: Kind) -> impl Iterator<Item = (String, &mut String)> {
    let texts = said.as_object_mut().map(|own| formula_texts(kind, own)).unwrap_or_default();
    texts.into_iter().map(move |(field, text)| (format!("{of}.{field}"), text))
}

/// The messages that a property says, each behind the name of its field.
pub fn messages_of(property: &mut Json) -> Vec<(String, &mut Json)> {
    let rules = property.get_mut("rules").and_then(Json::as_object_mut).into_iter().flatten();
    let said = rules.filter_map(|(rule, said)| Some((rule, said.as_object_mut()?)));
    let messages = said.flat_map(|(rule, own)| own.iter_mut().map(move |(field, value)| (rule, field, value)));
    let messages = messages.filter(|(_, field, _)| Kind::Rule.messages().contains(&field.as_str()));
    messages.map(|(rule, field, value)| (format!("rules.{rule}.{field}"), value)).collect()
}

fn is_parameter_name(name: &str) -> bool {
    let fits = |c: char| c.is_alphanumeric() || c == ' ' || c == '_';
    name.starts_with(char::is_alphabetic) && name.chars().all(fits) && name.trim() == name && name.len() <= 60
}

impl Settings for Class {
    const KIND: Kind = Kind::Class;
    const LAYERED: &'static [&'static str] = &["extends"];
    const ALONE: &'static [&'static str] = &["name", "extends"];

    fn table(plant: &Plant) -> &Table<Class> {
        &plant.classes
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Class> {
        &mut plant.classes
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (None, &self.name)
    }

    fn order(&self) -> f64 {
        self.order
    }

    fn references(&self) -> Vec<Reference> {
        let mut all: Vec<Reference> = self.extends.map(|to| Reference::to("extends", Kind::Class, to)).into_iter().collect();
        for (id, parameter) in &self.parameters {
            if let (ParameterKind::Connection, Some(Json::String(to))) = (parameter.kind, &parameter.default) {
                let field = format!("parameters.{id}.default");
                all.extend(to.parse().ok().map(|to| Reference::to(field, Kind::Connection, to)));
            }
        }
        for (id, property) in &self.properties {
            named_in(&format!("properties.{id}.tag"), &property.tag, &mut all);
            for (rule, own) in &property.rules {
                let class = own.get("class").and_then(Json::as_str).and_then(|to| to.parse().ok());
                all.extend(class.map(|to| Reference::to(format!("properties.{id}.rules.{rule}.class"), Kind::AlarmClass, to)));
            }
            for (field, text) in property.formulas() {
                let field = format!("properties.{id}.{field}");
                let parsed = Parsed::of(&text).ok();
                let tags = parsed.iter().flat_map(|parsed| parsed.mentions().filter_map(|(named, ..)| named.parse().ok()));
                all.extend(tags.map(|to| Reference::to(field.clone(), Kind::Tag, to)));
            }
        }
        for (id, part) in &self.parts {
            all.push(Reference::to(format!("parts.{id}.class"), Kind::Class, part.class));
            named_in(&format!("parts.{id}.parameters"), &part.parameters, &mut all);
        }
        all
    }

    fn uses(item: &Item<Class>, reference: &Reference, _plant: &Plant) -> String {
        let name = &item.set.name;
        if reference.field == "extends" {
            format!("the class “{name}” extends it")
        } else if reference.field.starts_with("parts.") && reference.field.ends_with(".class") {
            format!("the class “{name}” has it as a part")
        } else {
            format!("the class “{name}” names it")
        }
    }

    fn check(item: &Item<Class>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let (set, plant) = (&item.set, checking.plant);
        check::name(wrong, &set.name);
        check::text(wrong, "note", &set.note);
        if plant.lineage(item.id).is_none() {
            wrong.push(("extends".into(), "A class cannot extend itself, and at most 12 may extend each other.".into()));
            return;
        }
        set.check_names(wrong);
        set.check_parameters(wrong);
        set.check_properties(wrong);
        set.check_parts(item.id, plant, wrong);
        if wrong.is_empty() {
            instances::check_sample(item, checking, wrong);
        }
    }
}

impl Plant {
    /// A class and those that it extends, the outermost base first; none where they extend each other in a circle.
    pub fn lineage(&self, class: Uuid) -> Option<Vec<Uuid>> {
        let mut line = vec![class];
        let extends = |id: &Uuid| {
            let own = &self.classes.get(id)?.own;
            own.get("extends")?.as_str()?.parse::<Uuid>().ok()
        };
        while let Some(base) = line.last().and_then(extends) {
            if line.contains(&base) || line.len() == DEEPEST {
                return None;
            }
            line.push(base);
        }
        line.reverse();
        Some(line)
    }

    /// Why instances of a class cannot be made at all.
    pub(super) fn endless(&self, class: Uuid) -> Option<String> {
        match self.items_of_class(class) {
            None => Some(PART_OF_ITSELF.into()),
            Some(items) => (items > MOST_ITEMS).then(|| too_many(items)),
        }
    }

    /// Whether a class is another one, or extends it at any depth.
    pub fn is_a(&self, class: Uuid, base: Uuid) -> bool {
        self.lineage(class).is_some_and(|line| line.contains(&base))
    }

    /// How many items an instance has with all its parts; none where it would be a part of itself, or nests too deep.
    pub(super) fn items_of_class(&self, class: Uuid) -> Option<usize> {
        self.count_items(class, 0, &mut HashMap::new())
    }

    /// Each class is counted once, however many others have it as a part.
    fn count_items(&self, class: Uuid, depth: usize, counted: &mut HashMap<Uuid, Option<usize>>) -> Option<usize> {
        if depth > DEEPEST {
            return None;
        }
        if let Some(&known) = counted.get(&class) {
            return known;
        }
        let Some(item) = self.classes.get(&class) else { return Some(0) };
        // One that is met again while it is counted is a part of itself.
        counted.insert(class, None);
        let own: usize = 1 + item.set.properties.values().map(|p| 1 + p.rules.len()).sum::<usize>();
        let count = item.set.parts.values().try_fold(own, |sum, part| {
            let inside = self.count_items(part.class, depth + 1, counted)?;
            Some(sum.saturating_add(inside.saturating_mul(part.count as usize)))
        });
        counted.insert(class, count);
        count
    }
}

fn too_many(items: usize) -> String {
    format!("An instance would have {items} items; at most {MOST_ITEMS} are possible.")
}

fn one() -> u32 {
    1
}

mod names;
