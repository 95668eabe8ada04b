//! What formulas name by paths and names is stored by identity, when all edits of a batch are in place.

use super::{Item, Kind, Own, Paths, Plant, Problem, ProblemKind, Settings, Tag, instances};
use crate::{
    formula::Formula,
    plant::{Dispatch, Message, Recorder, Rule, class, formula_texts},
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
        let edit = touched.get(&id).copied().unwrap_or(0);
        let wrong = |field: String, message: String| Problem { kind: ProblemKind::Invalid, edit, field, message };
        for (property, said) in properties.into_iter().flatten() {
            for (field, message) in class::messages_of(said) {
                let Json::String(text) = message else { continue };
                match next.class_message_parts(id, text) {
                    Ok(parts) => {
                        *message = parts;
                        renamed = true;
                    }
                    Err(words) => problems.push(wrong(format!("properties.{property}.{field}"), format!("{words}."))),
                }
            }
            for (field, text) in class::formulas_of(said) {
                match next.class_formula_stored(id, text) {
                    Ok(stored) if stored == *text => {}
                    Ok(stored) => {
                        *text = stored;
                        renamed = true;
                    }
                    Err(found) => problems.push(wrong(format!("properties.{property}.{field}"), found.to_string())),
                }
            }
        }
        if renamed && let Err((field, message)) = next.put(Kind::Class, id, 0, item.revision, own) {
            problems.push(wrong(field, message));
        }
    }
    problems
}

/// Tags that formulas name by their path are from now on named by their identity.
pub(super) fn name_tags(next: &mut Plant, order: &[(Kind, Uuid)], touched: &HashMap<Uuid, usize>) -> Vec<Problem> {
    let mut problems = name_tags_of::<Tag>(next, order, touched);
    problems.extend(name_tags_of::<Rule>(next, order, touched));
    problems.extend(name_tags_of::<Recorder>(next, order, touched));
    problems.extend(name_tags_of::<Dispatch>(next, order, touched));
    problems
}

fn name_tags_of<T: Settings>(next: &mut Plant, order: &[(Kind, Uuid)], touched: &HashMap<Uuid, usize>) -> Vec<Problem> {
    let mut problems = Vec::new();
    let mut named: Vec<Uuid> = Vec::new();
    let mut names = HashSet::new();
    let is_written = |own: &Own, field: &&str| own.get(*field).is_some_and(Json::is_string);
    for (_, id) in order.iter().filter(|(kind, _)| *kind == T::KIND) {
        let Some(item) = T::table(next).get(id) else { continue };
        let of_messages = T::MESSAGES.iter().filter_map(|field| item.set.message(field)).flat_map(Message::formulas);
        let formulas = T::FORMULAS.iter().filter_map(|field| item.set.formula(field)).chain(of_messages);
        // A message may be written as a text; it is kept in its parts.
        let mut changes = T::MESSAGES.iter().any(|field| is_written(&item.own, field));
        for formula in formulas {
            if formula.parsed().mentions().any(|(named, ..)| named.parse::<Uuid>().is_err()) {
                changes = true;
                names.extend(Paths::wanted(formula.parsed()));
            }
        }
        if changes {
            named.push(*id);
        }
    }
    if named.is_empty() {
        return problems;
    }
    let paths = Paths::of(next, &names);
    for id in named {
        let Some(item) = T::table(next).get(&id).cloned() else { continue };
        let mut own = item.own.clone();
        for field in T::MESSAGES.iter().filter(|field| is_written(&item.own, field)) {
            own.extend(item.set.message(field).map(|message| ((*field).to_owned(), message.to_json())));
        }
        let place = next.path(item.set.place(next));
        let edit = touched.get(&id).copied().unwrap_or(0);
        let mut wrong =
            |field: String, message: String| problems.push(Problem { kind: ProblemKind::Invalid, edit, field, message });
        let before = own.clone();
        let mut found = true;
        for (field, text) in formula_texts(T::KIND, &mut own) {
            match Formula::named(text, |path| paths.find(path, &place)) {
                Ok(named) => *text = named,
                // The position counts from the beginning of one formula, and a message can hold several: only the words are shown.
                Err(mistake) if T::MESSAGES.contains(&field.as_str()) => (found, _) = (false, wrong(field, mistake.words)),
                Err(mistake) => (found, _) = (false, wrong(field, mistake.to_string())),
            }
        }
        if !found {
            continue;
        }
        // What became different is the same in the settings as they hold.
        let whole = serde_json::to_value(&item.set).map(|mut whole| {
            let fields = T::FORMULAS.iter().chain(T::MESSAGES);
            for field in fields.filter(|field| own.get(**field) != before.get(**field)) {
                match (own.get(*field), whole.get_mut(*field)) {
                    (Some(Json::Object(said)), Some(Json::Object(held))) => held.extend(said.clone()),
                    (Some(said), _) => whole[*field] = said.clone(),
                    (None, _) => {}
                }
            }
            whole
        });
        match whole.and_then(serde_json::from_value::<T>) {
            Ok(set) => {
                Arc::make_mut(T::table_mut(next)).insert(id, Item { own, set, ..(*item).clone() }.into());
            }
            Err(error) => wrong(String::new(), error.to_string()),
        }
    }
    problems
}
