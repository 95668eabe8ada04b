//! The one door: edits go in, the next revision and its changes come out, or every reason why not.

use crate::text;
use caused::Caused;
use naming::{name_properties, name_tags};

use super::{
    Carrier, Connection, Item, Kind, Own, Plant, Relations, Settings, Tag,
    formulas::Paths,
    instances::{self, Mode, Told, Touched},
    kind::{Checking, of_kind},
    layers::same,
    loses_digits,
};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};
use uuid::Uuid;

/// One wish to change one item.
#[derive(Clone, Debug, PartialEq)]
pub struct Edit {
    pub kind: Kind,
    pub id: Uuid,
    pub op: Op,
    /// The item's revision as the person saw it; an item changed since is refused.
    pub seen: Option<i64>,
}

/// What to do with the item.
#[derive(Clone, Debug, PartialEq)]
pub enum Op {
    /// Make it. A tag that comes back by undo keeps its number (`Some`).
    Create(Own, Option<u32>),
    /// Set these fields; null puts one back to its default.
    Patch(Own),
    /// Take it away; with `contents`, what it contains too, otherwise it must be empty.
    Delete { contents: bool },
}

/// What a revision did to one item. Only fields that changed stand in it; null means not set.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Change {
    pub kind: Kind,
    pub id: Uuid,
    /// The tag's number, 0 for other kinds.
    pub no: u32,
    /// `None`: it did not exist before.
    pub before: Option<Own>,
    /// `None`: it does not exist any more.
    pub after: Option<Own>,
}

/// How an edit is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ProblemKind {
    /// A field holds something it may not.
    Invalid,
    /// Somebody else changed the item meanwhile.
    Stale,
    /// There is no such item.
    Missing,
    /// Something still refers to it.
    InUse,
}

/// One reason why edits were refused.
#[derive(Clone, Debug, PartialEq)]
pub struct Problem {
    pub kind: ProblemKind,
    /// Which edit, counted from 0.
    pub edit: usize,
    /// Which field; empty where the whole item is meant.
    pub field: String,
    pub message: String,
}

/// What only the driver of a connection knows about settings.
pub trait SourceCheck {
    /// What is wrong with a connection's settings: field and sentence.
    fn connection(&self, connection: &Connection) -> Vec<(String, String)>;
    /// What is wrong with a tag's address in that connection; what stands in a block is worked out already.
    fn point(&self, connection: &Connection, tag: &Tag) -> Vec<(String, String)>;
    /// Whether values can be published through it.
    fn publishes(&self, _connection: &Connection) -> bool {
        true
    }
    /// Whether they leave as metrics, whose payload is a matter of the protocol.
    fn metrics(&self, _connection: &Connection) -> bool {
        false
    }
    /// Whether it carries what people or programs are told in this way.
    fn carries(&self, _connection: &Connection, _carrier: Carrier) -> bool {
        true
    }
}

/// Nobody who knows devices is asked: every connection and every address will do.
impl SourceCheck for () {
    fn connection(&self, _: &Connection) -> Vec<(String, String)> {
        Vec::new()
    }

    fn point(&self, _: &Connection, _: &Tag) -> Vec<(String, String)> {
        Vec::new()
    }
}

/// Most edits in one revision.
pub const MOST_EDITS: usize = 100_000;

/// How many uses of an item are named where it cannot be deleted.
const MOST_REASONS: usize = 5;

/// How deep settings may nest.
const DEEPEST: usize = 16;

/// The first value of a memory tag, whose digits are all kept.
const INITIAL: &str = "point.initial";

/// What is wrong with a text or a number anywhere in a setting: its field and a sentence.
fn wrong_value(field: &str, value: &Json, depth: usize) -> Option<(String, String)> {
    if depth > DEEPEST {
        return Some((field.to_owned(), "This is nested too deep.".into()));
    }
    match value {
        Json::String(value) => {
            let name = field.rsplit('.').find(|part| !part.chars().all(|c| c.is_ascii_digit())).unwrap_or(field);
            text::wrong(value, text::LINES.contains(&name)).map(|words| (field.to_owned(), words))
        }
        Json::Number(number) if field != INITIAL => {
            let whole = number.as_i64().map(i128::from).or(number.as_u64().map(i128::from))?;
            let nearest = whole as f64;
            let words = format!("{number} has more digits than a setting keeps; the nearest number that it keeps is {nearest}.");
            loses_digits(whole).then(|| (field.to_owned(), words))
        }
        Json::Array(all) => {
            all.iter().enumerate().find_map(|(index, inner)| wrong_value(&format!("{field}.{index}"), inner, depth + 1))
        }
        Json::Object(all) => all.iter().find_map(|(name, inner)| match text::wrong(name, false) {
            Some(words) => Some((field.to_owned(), words)),
            None => wrong_value(&format!("{field}.{name}"), inner, depth + 1),
        }),
        _ => None,
    }
}

/// Applies edits to a plant, all or nothing. `next_no` gives numbers for new tags.
///
/// # Errors
/// Every problem found, each with its edit and field.
pub fn apply(
    plant: &Plant,
    edits: &[Edit],
    check: &dyn SourceCheck,
    next_no: impl FnMut() -> u32,
) -> Result<(Plant, Vec<Change>), Vec<Problem>> {
    apply_watched(plant, edits, check, next_no, &mut |_| true)
}

/// How many items are worked on between two looks at the watch.
const STRIDE: usize = 500;

/// The same for many edits: `watch` hears how much is done, from 0 to 1, and says whether to go on.
///
/// # Errors
/// Every problem found; there is none where it was told to stop.
pub fn apply_watched(
    plant: &Plant,
    edits: &[Edit],
    check: &dyn SourceCheck,
    mut next_no: impl FnMut() -> u32,
    watch: &mut dyn FnMut(f64) -> bool,
) -> Result<(Plant, Vec<Change>), Vec<Problem>> {
    let mut next = plant.clone();
    next.revision += 1;
    let mut problems = Vec::new();
    // Which edit touched an item, for the messages; in the order of the edits, for the journal.
    let mut touched: HashMap<Uuid, usize> = HashMap::new();
    let mut order: Vec<(Kind, Uuid)> = Vec::new();
    let mut deleted: Vec<(Kind, Uuid, usize)> = Vec::new();
    let mut relations: Option<Relations> = None;
    for (index, edit) in edits.iter().enumerate() {
        if index % STRIDE == 0 && !watch(index as f64 / edits.len() as f64 / 2.0) {
            return Err(Vec::new());
        }
        if !matches!(edit.op, Op::Delete { .. }) {
            relations = None;
        }
        let mut refuse = |kind, field: &str, message: String| {
            problems.push(Problem { kind, edit: index, field: field.into(), message });
        };
        let present = next.own(edit.kind, edit.id).map(|(own, no, revision)| (own.clone(), no, revision));
        if let (Some((_, _, revision)), Some(seen)) = (&present, edit.seen)
            && *revision > seen
            && plant.own(edit.kind, edit.id).is_some_and(|(_, _, r)| r > seen)
        {
            let title = plant.title(edit.kind, edit.id);
            refuse(
                ProblemKind::Stale,
                "",
                format!("“{title}” was changed by somebody else (revision {revision}); look at it again."),
            );
            continue;
        }
        if let Op::Create(own, _) | Op::Patch(own) = &edit.op
            && let Some((field, words)) = own.iter().find_map(|(field, value)| wrong_value(field, value, 0))
        {
            refuse(ProblemKind::Invalid, &field, words);
            continue;
        }
        let revision = next.revision;
        let result = match (&edit.op, present) {
            (Op::Create(..), Some(_)) => {
                refuse(ProblemKind::Invalid, "id", "There is already an item with this id.".into());
                continue;
            }
            (Op::Create(own, no), None) => {
                let no = if edit.kind == Kind::Tag { no.unwrap_or_else(&mut next_no) } else { 0 };
                let own = own.iter().filter(|(_, v)| !v.is_null()).map(|(k, v)| (k.clone(), v.clone())).collect();
                next.put(edit.kind, edit.id, no, revision, own)
            }
            (_, None) => {
                refuse(ProblemKind::Missing, "", format!("This {} does not exist any more.", edit.kind.words()));
                continue;
            }
            (Op::Patch(patch), Some((own, no, _))) => {
                // A form sends all its fields: one that already has that value by default does not become the item's own.
                let effective = next.effective(edit.kind, edit.id);
                // What it inherits changes where it comes to stand for something else, or for nothing.
                let stands = !edit.kind.layered().iter().any(|field| patch.contains_key(*field));
                let idle = |(field, value): &(&String, &Json)| {
                    stands && !own.contains_key(*field) && effective.get(*field) == Some(*value)
                };
                let patch: Own = patch.iter().filter(|f| !idle(f)).map(|(k, v)| (k.clone(), v.clone())).collect();
                let fixed =
                    edit.kind.fixed().iter().find(|(field, _)| patch.get(*field).is_some_and(|v| own.get(*field) != Some(v)));
                if let Some((field, words)) = fixed {
                    refuse(ProblemKind::Invalid, field, (*words).into());
                    continue;
                }
                if let Some(field) = moved_out(edit.kind, &own, &patch) {
                    refuse(
                        ProblemKind::Invalid,
                        field,
                        "This belongs to the class of its equipment, and moves with that.".into(),
                    );
                    continue;
                }
                next.put(edit.kind, edit.id, no, revision, patched(own, &patch))
            }
            (Op::Delete { contents }, Some(_)) => {
                let mut gone = vec![(edit.kind, edit.id)];
                if *contents {
                    // What was worked out for one delete holds for those that follow at once, but for what went meanwhile.
                    let relations = relations.get_or_insert_with(|| Relations::of(&next));
                    let inside = relations.contents(edit.kind, edit.id).into_iter();
                    gone.extend(inside.filter(|&(kind, id)| next.own(kind, id).is_some()));
                }
                for (kind, id) in gone {
                    next.remove(kind, id);
                    deleted.push((kind, id, index));
                    if touched.insert(id, index).is_none() {
                        order.push((kind, id));
                    }
                }
                continue;
            }
        };
        match result {
            Err((field, message)) => refuse(ProblemKind::Invalid, &field, message),
            Ok(()) => {
                if touched.insert(edit.id, index).is_none() {
                    order.push((edit.kind, edit.id));
                }
            }
        }
    }
    problems.extend(name_properties(&mut next, &order, &touched));
    let mut caused = Caused::default();
    if problems.is_empty() {
        let settled = instances::settle(&mut next, &Touched { items: &order, old: plant }, Mode::Edit(&mut next_no));
        let edit_of = |id: &Uuid, cause: &Uuid| touched.get(id).or_else(|| touched.get(cause)).copied().unwrap_or(0);
        for (told, cause) in settled.wrong {
            caused.tell(&next, edit_of(&told.id, &cause), touched.contains_key(&told.id), told, cause);
        }
        let mut also: Vec<(Kind, Uuid, usize, Uuid)> = Vec::new();
        also.extend(settled.changed.iter().map(|&(kind, id, cause)| (kind, id, edit_of(&id, &cause), cause)));
        for &(kind, id, cause) in &settled.removed {
            deleted.push((kind, id, edit_of(&id, &cause)));
            also.push((kind, id, edit_of(&id, &cause), cause));
        }
        for (kind, id, edit, cause) in also {
            if touched.insert(id, edit).is_none() {
                order.push((kind, id));
                caused.causes.insert(id, cause);
            }
        }
        problems.extend(caused.problems());
    }
    problems.extend(name_tags(&mut next, &order, &touched));
    if problems.is_empty() {
        // A changed connection can spoil the addresses of tags that were not touched; the form of the connection must tell.
        let checking = Checking::new(&next, check);
        for (index, &(kind, id)) in order.iter().enumerate() {
            if index % STRIDE == 0 && !watch(0.5 + index as f64 / order.len() as f64 / 2.0) {
                return Err(Vec::new());
            }
            let edit = touched.get(&id).copied().unwrap_or(0);
            let cause = caused.causes.get(&id).copied();
            // Where a class itself is wrong, each instance need not say so too.
            if cause.is_some() && !problems.is_empty() {
                continue;
            }
            for (field, message) in checking.item(kind, id) {
                match cause {
                    Some(cause) => caused.tell(&next, edit, false, Told { kind, id, field, words: message }, cause),
                    None => problems.push(Problem { kind: ProblemKind::Invalid, edit, field, message }),
                }
            }
        }
        problems.extend(caused.problems());
        for kind in Kind::ALL {
            problems.extend(of_kind!(kind, T => clashes::<T>(&next, &order, &touched)));
        }
        check_deleted(&next, plant, &deleted, &mut problems);
    }
    if !problems.is_empty() {
        problems.sort_by_key(|p| p.edit);
        return Err(problems);
    }
    let changes = order.into_iter().filter_map(|(kind, id)| change(plant, &next, kind, id)).collect();
    Ok((next, changes))
}

/// The field by which an item would leave the equipment whose class it stands for something of.
fn moved_out(kind: Kind, own: &Own, patch: &Own) -> Option<&'static str> {
    let (of, within) = match kind {
        Kind::Place => ("part", "parent"),
        Kind::Tag => ("property", "place"),
        Kind::Rule => ("class_rule", "tag"),
        _ => return None,
    };
    let stays = own.get(of).is_some_and(|value| !value.is_null()) && !patch.contains_key(of);
    let moves = patch.get(within).is_some_and(|to| own.get(within) != Some(to));
    (stays && moves).then_some(within)
}

fn patched(mut own: Own, patch: &Own) -> Own {
    for (field, value) in patch {
        if value.is_null() {
            own.shift_remove(field);
        } else {
            own.insert(field.clone(), value.clone());
        }
    }
    own
}

/// The difference of one item between two revisions, if there is any.
fn change(old: &Plant, new: &Plant, kind: Kind, id: Uuid) -> Option<Change> {
    let (before, after) = (old.own(kind, id), new.own(kind, id));
    let no = before.or(after).map_or(0, |(_, no, _)| no);
    match (before, after) {
        (None, None) => None,
        (None, Some((after, ..))) => Some(Change { kind, id, no, before: None, after: Some(after.clone()) }),
        (Some((before, ..)), None) => Some(Change { kind, id, no, before: Some(before.clone()), after: None }),
        (Some((before, ..)), Some((after, ..))) => {
            let fields: HashSet<&String> = before.keys().chain(after.keys()).collect();
            let mut fields: Vec<_> = fields.into_iter().filter(|f| !same(before.get(*f), after.get(*f))).collect();
            fields.sort();
            let part =
                |own: &Own| fields.iter().map(|f| ((*f).clone(), own.get(*f).cloned().unwrap_or(Json::Null))).collect::<Own>();
            (!fields.is_empty()).then(|| Change { kind, id, no, before: Some(part(before)), after: Some(part(after)) })
        }
    }
}

/// Gives new tags other numbers than those with which they were made.
pub fn number(plant: &mut Plant, changes: &mut [Change], numbers: &HashMap<Uuid, u32>) {
    let tags = Arc::make_mut(&mut plant.tags);
    for (id, &no) in numbers {
        if let Some(item) = tags.get_mut(id) {
            Arc::make_mut(item).no = no;
        }
    }
    for change in changes {
        change.no = numbers.get(&change.id).copied().unwrap_or(change.no);
    }
}

/// The edits that undo changes. They go through the same door, so what cannot be undone is told in words.
pub fn inverse(changes: &[Change]) -> Vec<Edit> {
    let undo = |c: &Change| {
        let op = match (&c.before, &c.after) {
            (None, _) => Op::Delete { contents: false },
            (Some(before), None) => Op::Create(before.clone(), Some(c.no)),
            (Some(before), Some(_)) => Op::Patch(before.clone()),
        };
        Edit { kind: c.kind, id: c.id, op, seen: None }
    };
    changes.iter().rev().map(undo).collect()
}

impl Plant {
    /// The revision that follows from this one by changes already decided elsewhere.
    ///
    /// # Errors
    /// Changes that do not fit this revision, with words for the log; the whole must then be loaded anew.
    pub fn absorb(&self, revision: i64, changes: &[Change]) -> Result<Plant, String> {
        let mut next = self.clone();
        next.revision = revision;
        for change in changes {
            match &change.after {
                None => next.remove(change.kind, change.id),
                Some(after) => {
                    let before = next.own(change.kind, change.id).map(|(own, ..)| own.clone()).unwrap_or_default();
                    next.put(change.kind, change.id, change.no, revision, patched(before, after))
                        .map_err(|(field, message)| format!("{} {}: {field}: {message}", change.kind.name(), change.id))?;
                }
            }
        }
        let items: Vec<(Kind, Uuid)> = changes.iter().map(|change| (change.kind, change.id)).collect();
        let settled = instances::settle(&mut next, &Touched { items: &items, old: self }, Mode::Follow);
        if let Some((told, _)) = settled.wrong.first() {
            return Err(format!("{} {}: {}: {}", told.kind.name(), told.id, told.field, told.words));
        }
        Ok(next)
    }
}

/// The edits that give an item what another one is known by already, with field and sentence. Only what was touched can clash,
/// so a plant is looked through once, for as few names as were touched.
fn clashes<T: Settings>(plant: &Plant, order: &[(Kind, Uuid)], touched: &HashMap<Uuid, usize>) -> Vec<Problem> {
    let edit_of = |id: &Uuid| touched.get(id).copied().unwrap_or(0);
    let problem = |edit, name| {
        let (field, message) = T::clash(name);
        Problem { kind: ProblemKind::Invalid, edit, field: field.into(), message }
    };
    let table = T::table(plant);
    let mut found = Vec::new();
    let mut taken: HashMap<(Option<Uuid>, &str), usize> = HashMap::new();
    let ids = order.iter().filter(|(kind, _)| *kind == T::KIND).map(|(_, id)| id);
    for item in ids.filter_map(|id| table.get(id)) {
        let (known, edit) = (item.set.known(), edit_of(&item.id));
        if let Some(other) = taken.insert(known, edit) {
            found.push(problem(edit.max(other), known.1));
        }
    }
    if !taken.is_empty() {
        let others = table.values().filter(|item| !touched.contains_key(&item.id));
        found.extend(others.filter_map(|item| Some(problem(*taken.get(&item.set.known())?, item.set.known().1))));
    }
    found
}

fn check_deleted(next: &Plant, old: &Plant, deleted: &[(Kind, Uuid, usize)], problems: &mut Vec<Problem>) {
    if deleted.is_empty() {
        return;
    }
    let relations = Relations::of(next);
    for &(kind, id, edit) in deleted {
        if next.own(kind, id).is_some() {
            continue;
        }
        let mut reasons: Vec<String> = relations.referrers(id).iter().map(|r| r.words.clone()).collect();
        let left = relations.contents(kind, id).len();
        if left > 0 {
            reasons.insert(0, format!("{left} more use it"));
        }
        if !reasons.is_empty() {
            let more = reasons.len().saturating_sub(MOST_REASONS);
            reasons.truncate(MOST_REASONS);
            if more > 0 {
                reasons.push(format!("{more} more use it"));
            }
            let message = format!("“{}” cannot be deleted: {}.", old.title(kind, id), reasons.join("; "));
            problems.push(Problem { kind: ProblemKind::InUse, edit, field: String::new(), message });
        }
    }
}

mod caused;
mod naming;
#[cfg(test)]
mod tests;
