//! A class made of equipment that is there: of one place as the model, and of others that are alike. Nothing of what they do changes:
//! what is the same everywhere becomes the class's, addresses that differ by a number become a parameter, and the rest stays
//! each one's own.

use super::{Members, STANDS, plain};
use crate::{
    formula::Formula,
    plant::{Edit, Item, Kind, Op, Own, Plant, Rule, Tag, edit, formula_texts, layers},
};
use serde_json::{Value as Json, json};
use std::{
    collections::{BTreeMap, HashMap, HashSet},
    sync::Arc,
};
use uuid::Uuid;

/// The most parameters that are made of addresses that differ.
const MOST_PARAMETERS: usize = 6;

/// Equipment that is like another one.
#[derive(Clone, Debug, PartialEq)]
pub struct Alike {
    pub place: Uuid,
    /// Tags of the same name.
    pub shared: usize,
    /// Tags that it has not, and tags that only it has.
    pub missing: usize,
    pub more: usize,
}

/// What becomes of equipment that is to be of a class.
#[derive(Debug)]
pub struct Made {
    pub class: Uuid,
    /// The whole as one revision.
    pub edits: Vec<Edit>,
    /// Settings of tags and rules that stay each one's own.
    pub kept: usize,
}

fn tags_of(plant: &Plant, place: Uuid) -> BTreeMap<String, Arc<Item<Tag>>> {
    let tags = plant.tags.values().filter(|tag| tag.set.place == place && tag.set.property.is_none());
    tags.map(|tag| (tag.set.name.clone(), tag.clone())).collect()
}

fn rules_of(plant: &Plant, tag: Uuid) -> BTreeMap<String, Arc<Item<Rule>>> {
    let rules = plant.rules.values().filter(|rule| rule.set.tag == tag && rule.set.class_rule.is_none());
    rules.map(|rule| (rule.set.known_as().to_owned(), rule.clone())).collect()
}

impl Plant {
    /// Equipment without a class that has at least half of the tags of a place, the likest first.
    pub fn alike(&self, model: Uuid) -> Vec<Alike> {
        let names: HashSet<String> = tags_of(self, model).into_keys().collect();
        let mut found: HashMap<Uuid, (usize, usize)> = HashMap::new();
        for tag in self.tags.values().filter(|tag| tag.set.place != model) {
            let (shared, more) = found.entry(tag.set.place).or_default();
            *(if names.contains(&tag.set.name) { shared } else { more }) += 1;
        }
        let free = |place: &Uuid| self.places.get(place).is_some_and(|p| p.set.class.is_none());
        let alike =
            |(place, (shared, more)): (Uuid, (usize, usize))| Alike { place, shared, missing: names.len() - shared, more };
        let mut all: Vec<Alike> = found.into_iter().filter(|(place, _)| free(place)).map(alike).collect();
        all.retain(|a| a.shared > 0 && a.shared * 2 >= names.len());
        all.sort_by(|a, b| {
            (a.missing + a.more).cmp(&(b.missing + b.more)).then_with(|| self.path(Some(a.place)).cmp(&self.path(Some(b.place))))
        });
        all
    }

    /// Makes a class of the first of these places, and all of them its instances.
    ///
    /// # Errors
    /// A sentence where that cannot be done.
    pub fn class_made_of(&self, name: &str, places: &[Uuid], mut new_id: impl FnMut() -> Uuid) -> Result<Made, String> {
        let Some(&model) = places.first() else { return Err("Choose the equipment to make the class of.".into()) };
        for place in places {
            let item = self.places.get(place).ok_or("One of these places does not exist any more.")?;
            if item.set.class.is_some() || item.set.part.is_some() {
                return Err(format!("“{}” is of a class already.", self.path(Some(*place))));
            }
        }
        let tags: Vec<BTreeMap<String, Arc<Item<Tag>>>> = places.iter().map(|&place| tags_of(self, place)).collect();
        if tags[0].is_empty() {
            return Err(format!("“{}” has no tags to make a class of.", self.path(Some(model))));
        }
        let class = new_id();
        let properties: HashMap<Uuid, Uuid> = tags[0].values().map(|tag| (tag.id, new_id())).collect();
        let mut work = Work { plant: self, tags: &tags, properties: &properties, parameters: Vec::new() };
        let mut said = Own::new();
        let mut rule_ids: HashMap<(Uuid, String), Uuid> = HashMap::new();
        for tag in tags[0].values() {
            let mut rules = Own::new();
            for (known, rule) in rules_of(self, tag.id) {
                let id = new_id();
                rule_ids.insert((tag.id, known), id);
                let mut own = without(&rule.own, &["tag", "class_rule"]);
                for (_, text) in formula_texts(Kind::Rule, &mut own) {
                    *text = work.own_formula(text);
                }
                rules.insert(id.to_string(), Json::Object(own));
            }
            let property = json!({"kind": kind_of(&tag.set), "tag": work.property(tag), "rules": rules, "main": false});
            said.insert(properties[&tag.id].to_string(), property);
        }
        let mut parameters = Own::new();
        let mut values: Vec<Own> = vec![Own::new(); places.len()];
        for (order, parameter) in work.parameters.into_iter().enumerate() {
            let id = new_id().to_string();
            for (own, value) in values.iter_mut().zip(parameter.values) {
                own.insert(id.clone(), value);
            }
            parameters.insert(id, json!({"name": parameter.name, "kind": "number", "order": order}));
        }
        let level = self.places[&model].set.level;
        let own = json!({"name": name, "level": level, "parameters": parameters, "properties": said});
        let Json::Object(own) = own else { return Err(String::new()) };
        let edit = |kind, id, op| Edit { kind, id, op, seen: Some(self.revision) };
        let mut edits = vec![edit(Kind::Class, class, Op::Create(own, None))];
        let mut joined: Vec<(Kind, Uuid, &str, Uuid, Option<Uuid>)> = Vec::new();
        for (index, &place) in places.iter().enumerate() {
            let missing: Vec<Uuid> =
                tags[0].iter().filter(|(name, _)| !tags[index].contains_key(*name)).map(|(_, tag)| properties[&tag.id]).collect();
            let set = json!({"class": class, "parameters": values[index], "without": missing});
            let Json::Object(mut set) = set else { continue };
            set.retain(|_, value| {
                value.as_array().is_none_or(|a| !a.is_empty()) && value.as_object().is_none_or(|o| !o.is_empty())
            });
            edits.push(edit(Kind::Place, place, Op::Patch(set)));
            for (name, tag) in &tags[0] {
                let Some(own) = tags[index].get(name) else { continue };
                joined.push((Kind::Tag, own.id, "property", properties[&tag.id], None));
                let rules = rules_of(self, own.id);
                for (known, rule) in rules_of(self, tag.id).keys().filter_map(|known| Some((known.clone(), rules.get(known)?.id)))
                {
                    joined.push((Kind::Rule, rule, "class_rule", rule_ids[&(tag.id, known)], None));
                }
            }
        }
        let mut kept = 0;
        let join = |patches: &HashMap<Uuid, Own>| -> Vec<Edit> {
            let one = |(kind, id, field, of, _): &(Kind, Uuid, &str, Uuid, Option<Uuid>)| {
                let mut set = patches.get(id).cloned().unwrap_or_default();
                set.insert((*field).to_owned(), json!(of));
                edit(*kind, *id, Op::Patch(set))
            };
            edits.iter().cloned().chain(joined.iter().map(one)).collect()
        };
        // What each would inherit shows once it belongs to the class with all its own settings.
        let told = |problems: Vec<edit::Problem>| problems.into_iter().next().map_or_else(String::new, |p| p.message);
        let (tried, changes) = edit::apply(self, &join(&HashMap::new()), &(), || 0).map_err(told)?;
        let members = Members::of(&tried);
        let mut patches: HashMap<Uuid, Own> = HashMap::new();
        for (kind, id, ..) in &joined {
            let (Some((own, ..)), Some(below)) = (self.own(*kind, *id), tried.inherited(*kind, *id, &members)) else { continue };
            let mut over = layers::over(&below, &without(own, &STANDS));
            // What would hold anyhow need not be said, and tags of equipment stand in the order of their class.
            let effective = self.effective(*kind, *id);
            let plain = plain(*kind, &below, own);
            over.retain(|field, _| field != "order" && !layers::same(plain.get(field), effective.get(field)));
            kept += over.len();
            let mut set: Own = without(own, &STANDS).keys().map(|field| (field.clone(), Json::Null)).collect();
            set.extend(over);
            patches.insert(*id, set);
        }
        // A rule that only the model has comes to the others switched off, so that nothing alarms that did not.
        let known: HashSet<Uuid> = joined.iter().map(|(_, id, ..)| *id).collect();
        let edits = join(&patches);
        let new_rules = changes.iter().filter(|c| c.kind == Kind::Rule && c.before.is_none() && !known.contains(&c.id));
        let off: Vec<Uuid> = new_rules.map(|c| c.id).collect();
        let mut edits = edits;
        for id in off {
            let Some((own, ..)) = tried.own(Kind::Rule, id) else { continue };
            let mut own = own.clone();
            own.insert("enabled".into(), false.into());
            kept += 1;
            edits.push(edit(Kind::Rule, id, Op::Create(own, None)));
        }
        Ok(Made { class, edits, kept })
    }
}

fn without(own: &Own, fields: &[&str]) -> Own {
    own.iter()
        .filter(|(field, value)| !fields.contains(&field.as_str()) && !value.is_null())
        .map(|(f, v)| (f.clone(), v.clone()))
        .collect()
}

fn kind_of(tag: &Tag) -> &'static str {
    match (&tag.formula, tag.writable) {
        (Some(_), _) => "computed",
        (None, true) => "setting",
        (None, false) => "measured",
    }
}

/// A parameter that is being made.
struct Parameter {
    name: String,
    /// By how much each instance lies from the model.
    differs: Vec<Json>,
    values: Vec<Json>,
    /// The number that is the model's, and what stands before it; addresses are counted from it.
    base: i64,
    before: String,
}

struct Work<'a> {
    plant: &'a Plant,
    /// By place, the model first, and name.
    tags: &'a [BTreeMap<String, Arc<Item<Tag>>>],
    /// By tag of the model.
    properties: &'a HashMap<Uuid, Uuid>,
    parameters: Vec<Parameter>,
}

impl Work<'_> {
    /// What the class says of a tag of the model.
    fn property(&mut self, tag: &Item<Tag>) -> Own {
        let mut own = without(&tag.own, &["place", "property", "writable"]);
        own.insert("name".into(), tag.set.name.as_str().into());
        let before = |other: &&Arc<Item<Tag>>| (other.set.order, &other.set.name) < (tag.set.order, &tag.set.name);
        own.insert("order".into(), self.tags[0].values().filter(before).count().into());
        for (_, text) in formula_texts(Kind::Tag, &mut own) {
            *text = self.own_formula(text);
        }
        if let Some(property) = tag.set.setpoint.and_then(|id| self.properties.get(&id)) {
            own.insert("setpoint".into(), json!(property));
        }
        let alike: Vec<Option<Arc<Item<Tag>>>> = self.tags.iter().map(|tags| tags.get(&tag.set.name).cloned()).collect();
        if let Some(Json::Object(point)) = own.get("point").cloned() {
            let point = point.into_iter().map(|(field, value)| {
                let all: Vec<Option<Json>> =
                    alike.iter().map(|t| t.as_ref().and_then(|t| t.set.point.get(&field).cloned())).collect();
                let value = self.parameter(&field, &value, &all).unwrap_or(value);
                (field, value)
            });
            let point: Own = point.collect();
            own.insert("point".into(), Json::Object(point));
        }
        own
    }

    fn own_formula(&self, text: &str) -> String {
        let mut text = text.to_owned();
        for (tag, property) in self.properties {
            let (at, own) = (Formula::call("at", &tag.to_string()), Formula::call("own", &property.to_string()));
            text = text.replace(&at, &own);
        }
        text
    }

    /// A field of an address with a parameter in it, where the instances differ in a way that one can say.
    fn parameter(&mut self, field: &str, model: &Json, all: &[Option<Json>]) -> Option<Json> {
        let there: Vec<&Json> = all.iter().flatten().collect();
        let alone = there.len() == 1 && self.tags.len() == 1;
        if !alone && there.iter().all(|value| *value == model) {
            return None;
        }
        if let (Some(name), Json::String(text)) = (self.named(all), model) {
            return Some(text.replace(&name, "[[Name]]").into());
        }
        let numbers: Vec<Option<(&str, i64)>> = all.iter().map(|value| counted(value.as_ref()?)).collect();
        let (before, first) = counted(model)?;
        if numbers.iter().zip(all).any(|(number, value)| value.is_some() && number.is_none_or(|(text, _)| text != before)) {
            return None;
        }
        if alone && !["address", "offset"].contains(&field) {
            return None;
        }
        let differs: Vec<Json> = numbers.iter().map(|n| n.map_or(Json::Null, |(_, n)| (n - first).into())).collect();
        let fits = |a: &Json, b: &Json| a.is_null() || b.is_null() || a == b;
        // One alone does not tell what moves together; addresses of one sort do.
        let sort = |p: &Parameter| !alone || p.before == before;
        let known = self.parameters.iter().position(|p| sort(p) && p.differs.iter().zip(&differs).all(|(a, b)| fits(a, b)));
        let index = match known {
            Some(index) => index,
            None if self.parameters.len() == MOST_PARAMETERS => return None,
            None => {
                let name = self.free_name(if field == "index" { "Index" } else { "Base" });
                let values = differs.clone();
                let (differs, before) = (differs.clone(), before.to_owned());
                self.parameters.push(Parameter { name, differs, values, base: first, before });
                self.parameters.len() - 1
            }
        };
        let parameter = &mut self.parameters[index];
        for (place, (known, number)) in parameter.differs.iter_mut().zip(&differs).enumerate() {
            if known.is_null() {
                *known = number.clone();
            }
            let value = known.as_i64().map_or(Json::Null, |differs| (parameter.base + differs).into());
            parameter.values[place] = value;
        }
        let said = match first - parameter.base {
            0 => format!("[[{}]]", parameter.name),
            more if more > 0 => format!("[[{} + {more}]]", parameter.name),
            less => format!("[[{} - {}]]", parameter.name, -less),
        };
        Some(format!("{before}{said}").into())
    }

    /// The name of the model, where each address is that of the model with the other's name in its place.
    fn named(&self, all: &[Option<Json>]) -> Option<String> {
        let place = |tags: &BTreeMap<String, Arc<Item<Tag>>>| {
            tags.values().next().and_then(|tag| self.plant.places.get(&tag.set.place)).map(|place| place.set.name.clone())
        };
        let names: Vec<String> = self.tags.iter().map(place).collect::<Option<_>>()?;
        let model = names.first()?.clone();
        let text = all.first()?.as_ref()?.as_str()?;
        let fits = |(name, value): (&String, &Option<Json>)| {
            value.as_ref().is_none_or(|value| value.as_str() == Some(text.replace(&model, name).as_str()))
        };
        (text.contains(&model) && names.iter().zip(all).all(fits)).then_some(model)
    }

    fn free_name(&self, name: &str) -> String {
        let taken = |name: &str| {
            self.parameters.iter().any(|p| p.name == name) || self.tags[0].keys().any(|tag| tag.eq_ignore_ascii_case(name))
        };
        let numbered = (2..).map(|n| format!("{name} {n}"));
        [name.to_owned(), format!("{name} address")].into_iter().chain(numbered).find(|name| !taken(name)).unwrap_or_default()
    }
}

/// A number, or a text that ends in one: what stands before it, and the number.
fn counted(value: &Json) -> Option<(&str, i64)> {
    match value {
        Json::Number(number) => Some(("", number.as_i64()?)),
        Json::String(text) => {
            let before = text.trim_end_matches(|c: char| c.is_ascii_digit());
            let digits = &text[before.len()..];
            // Leading zeros would be lost.
            let plain = !digits.is_empty() && (digits == "0" || !digits.starts_with('0')) && digits.len() < 16;
            plain.then(|| digits.parse().ok().map(|n| (before, n)))?
        }
        _ => None,
    }
}
