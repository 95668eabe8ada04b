//! What formulas name by paths and names is stored by identity, when all edits of a batch are in place.

use super::{Item, Kind, Paths, Plant, Problem, ProblemKind, Settings, Tag, instances};
use crate::{
    formula::Formula,
    plant::{Rule, class},
};
use serde_json::Value as Json;
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};
use uuid::Uuid;

/// Properties and tags that formulas of classes name by what people call them are from now on named by their identity.
pub(super) fn name_properties(next: &mut Plant, order: &[(Kind, Uuid)], touched: &HashMap<Uuid, usize>) -> Vec<Problem> {
    let mut problems = Vec::new();
    // What is inherited is known only when the classes below have been asked.
    let classes: Vec<Uuid> = order.iter().filter(|(kind, _)| *kind == Kind::Class).map(|(_, id)| *id).collect();
    if !classes.is_empty() {
        instances::inherit(next, &classes);
    }
    for id in classes {
        let Some(item) = next.classes.get(&id).cloned() else { continue };
        let mut own = item.own.clone();
        let mut renamed = false;
        let properties = own.get_mut("properties").and_then(Json::as_object_mut);
        for (property, said) in properties.into_iter().flatten() {
            for (field, text) in class::formulas_of(said) {
                match next.class_formula_stored(id, text) {
                    Ok(stored) if stored == *text => {}
                    Ok(stored) => {
                        *text = stored;
                        renamed = true;
                    }
                    Err(wrong) => {
                        let edit = touched.get(&id).copied().unwrap_or(0);
                        let field = format!("properties.{property}.{field}.text");
                        problems.push(Problem { kind: ProblemKind::Invalid, edit, field, message: wrong.to_string() });
                    }
                }
            }
        }
        if renamed && let Err((field, message)) = next.put(Kind::Class, id, 0, item.revision, own) {
            let edit = touched.get(&id).copied().unwrap_or(0);
            problems.push(Problem { kind: ProblemKind::Invalid, edit, field, message });
        }
    }
    problems
}

/// Tags that formulas name by their path are from now on named by their identity.
pub(super) fn name_tags(next: &mut Plant, order: &[(Kind, Uuid)], touched: &HashMap<Uuid, usize>) -> Vec<Problem> {
    let mut problems = name_tags_of::<Tag>(next, order, touched);
    problems.extend(name_tags_of::<Rule>(next, order, touched));
    problems
}

fn name_tags_of<T: Settings>(next: &mut Plant, order: &[(Kind, Uuid)], touched: &HashMap<Uuid, usize>) -> Vec<Problem> {
    let mut problems = Vec::new();
    let mut named: Vec<(Uuid, &'static str)> = Vec::new();
    let mut names = HashSet::new();
    for (_, id) in order.iter().filter(|(kind, _)| *kind == T::KIND) {
        let Some(item) = T::table(next).get(id) else { continue };
        for &field in T::FORMULAS {
            let Some(formula) = item.set.formula(field) else { continue };
            if formula.parsed().mentions().any(|(named, ..)| named.parse::<Uuid>().is_err()) {
                named.push((*id, field));
                names.extend(Paths::wanted(formula.parsed()));
            }
        }
    }
    if named.is_empty() {
        return problems;
    }
    let paths = Paths::of(next, &names);
    for (id, field) in named {
        let Some(item) = T::table(next).get(&id).cloned() else { continue };
        let Some(formula) = item.set.formula(field) else { continue };
        let place = next.path(item.set.place(next));
        let put = Formula::named(formula.text(), |path| paths.find(path, &place)).map_err(|w| w.to_string()).and_then(|text| {
            let mut own = item.own.clone();
            let mut said = own.get(field).and_then(Json::as_object).cloned().unwrap_or_default();
            said.insert("text".into(), text.as_str().into());
            own.insert(field.into(), Json::Object(said));
            let mut whole = serde_json::to_value(&item.set).map_err(|error| error.to_string())?;
            whole[field]["text"] = text.into();
            let set: T = serde_json::from_value(whole).map_err(|error| error.to_string())?;
            let named = Item { own, set, ..(*item).clone() };
            Arc::make_mut(T::table_mut(next)).insert(id, named.into());
            Ok(())
        });
        if let Err(message) = put {
            let edit = touched.get(&id).copied().unwrap_or(0);
            problems.push(Problem { kind: ProblemKind::Invalid, edit, field: format!("{field}.text"), message });
        }
    }
    problems
}
