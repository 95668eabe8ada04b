//! What formulas name by paths and names is stored by identity, when all edits of a batch are in place.

use super::{Item, Kind, Paths, Plant, Problem, ProblemKind, instances};
use crate::formula::Formula;
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
            let Some(Json::String(text)) = said.pointer_mut("/tag/formula/text") else { continue };
            match next.class_formula_stored(id, text) {
                Ok(stored) if stored == *text => {}
                Ok(stored) => {
                    *text = stored;
                    renamed = true;
                }
                Err(wrong) => {
                    let edit = touched.get(&id).copied().unwrap_or(0);
                    let field = format!("properties.{property}.tag.formula.text");
                    problems.push(Problem { kind: ProblemKind::Invalid, edit, field, message: wrong.to_string() });
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
    let mut problems = Vec::new();
    let by_path = |id: &Uuid| {
        let formula = next.tags.get(id)?.set.formula.as_ref()?;
        formula.parsed().mentions().any(|(named, ..)| named.parse::<Uuid>().is_err()).then_some(*id)
    };
    let named: Vec<Uuid> = order.iter().filter(|(kind, _)| *kind == Kind::Tag).filter_map(|(_, id)| by_path(id)).collect();
    if named.is_empty() {
        return problems;
    }
    let mut names = HashSet::new();
    for formula in named.iter().filter_map(|id| next.tags.get(id)?.set.formula.as_ref()) {
        names.extend(Paths::wanted(formula.parsed()));
    }
    let paths = Paths::of(next, &names);
    for id in named {
        let Some(item) = next.tags.get(&id).cloned() else { continue };
        let Some(formula) = &item.set.formula else { continue };
        let place = next.path(Some(item.set.place));
        let put = Formula::named(formula.text(), |path| paths.find(path, &place)).map_err(|w| w.to_string()).and_then(|text| {
            let mut own = item.own.clone();
            let mut formula = own.get("formula").and_then(Json::as_object).cloned().unwrap_or_default();
            formula.insert("text".into(), text.into());
            let mut set = item.set.clone();
            let mut whole = formula.clone();
            whole.insert("mixed".into(), serde_json::json!(set.formula.as_ref().map(Formula::mixed).unwrap_or_default()));
            set.formula = Some(serde_json::from_value(Json::Object(whole)).map_err(|error| error.to_string())?);
            own.insert("formula".into(), Json::Object(formula));
            let named = Item { own, set, ..(*item).clone() };
            Arc::make_mut(&mut next.tags).insert(id, named.into());
            Ok(())
        });
        if let Err(message) = put {
            let edit = touched.get(&id).copied().unwrap_or(0);
            problems.push(Problem { kind: ProblemKind::Invalid, edit, field: "formula.text".into(), message });
        }
    }
    problems
}
