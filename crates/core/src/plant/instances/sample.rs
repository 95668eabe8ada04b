//! A class is checked on an instance that nobody has: what is wrong there is wrong with the class, at the field that says it.

use super::{Mode, Told, Touched, identity, settle};
use crate::plant::{Class, Item, Kind, Own, ParameterKind, Plant, check::Wrong, kind::Checking};
use serde_json::{Value as Json, json};
use uuid::Uuid;

/// Checks a class; what it says by itself is checked already.
pub(in crate::plant) fn check_sample(item: &Item<Class>, checking: &Checking<'_>, wrong: &mut Wrong) {
    let mut plant = checking.plant.clone();
    let place = identity((item.id, item.id, 0), 0);
    let mut parameters = Own::new();
    for (id, parameter) in item.set.parameters.iter().filter(|(_, parameter)| parameter.default.is_none()) {
        let value = match parameter.kind {
            ParameterKind::Number => json!(1),
            // Nobody can tell whether it would be an address or a topic; each instance is checked with what it says.
            ParameterKind::Text | ParameterKind::Connection => Json::Null,
        };
        parameters.insert(id.to_string(), value);
    }
    let own = json!({"name": item.set.name, "class": item.id, "parameters": parameters});
    let Json::Object(own) = own else { return };
    let revision = plant.revision;
    if let Err(told) = plant.put(Kind::Place, place, 0, revision, own) {
        wrong.push(told);
        return;
    }
    let touched = Touched { items: &[(Kind::Place, place)], old: &Plant::default() };
    let settled = settle(&mut plant, &touched, Mode::Edit(&mut || u32::MAX));
    let mut told: Vec<Told> = settled.wrong.into_iter().map(|(told, _)| told).collect();
    if told.is_empty() {
        let checking = Checking::new(&plant, checking.source);
        for (kind, id, _) in settled.changed {
            told.extend(checking.item(kind, id).into_iter().map(|(field, words)| Told { kind, id, field, words }));
        }
    }
    for Told { kind, id, field, words } in told {
        let Some((at, direct)) = at_class(&plant, kind, id, place) else { continue };
        let told = if direct { (format!("{at}.{field}"), words) } else { (at, format!("{}: {words}", plant.title(kind, id))) };
        if !wrong.contains(&told) {
            wrong.push(told);
        }
    }
}

/// The field of a class that says what an item of an instance is; and whether it does so itself, not the class of a part.
pub(in crate::plant) fn at_class(plant: &Plant, kind: Kind, id: Uuid, instance: Uuid) -> Option<(String, bool)> {
    let (place, field) = match kind {
        Kind::Place => (id, String::new()),
        Kind::Tag => {
            let set = &plant.tags.get(&id)?.set;
            (set.place, format!("properties.{}.tag", set.property?))
        }
        Kind::Rule => {
            let set = &plant.rules.get(&id)?.set;
            let tag = &plant.tags.get(&set.tag)?.set;
            (tag.place, format!("properties.{}.rules.{}", tag.property?, set.class_rule?))
        }
        _ => return None,
    };
    if place == instance {
        return (kind != Kind::Place).then_some((field, true));
    }
    // Up to the part that lies directly in the instance.
    let mut at = plant.places.get(&place)?;
    for _ in 0..64 {
        let parent = at.set.parent?;
        if parent == instance {
            return Some((format!("parts.{}", at.set.part?.of), kind == Kind::Place && at.id == id));
        }
        at = plant.places.get(&parent)?;
    }
    None
}
