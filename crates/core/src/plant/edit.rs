//! The one door: edits go in, the next revision and its changes come out, or every reason why not.

use crate::text;

use super::{
    Connection, Item, Kind, Layout, Own, Place, Plant, Relations, Report, Rule, Source, States, Table, Tag,
    layout::MOST_OF_BLOCK, loses_digits, settings::Wrong,
};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json;
use std::{
    borrow::Cow,
    collections::{HashMap, HashSet},
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

/// Fields of settings that may have several lines.
const LINES: [&str; 8] = ["note", "cause", "action", "text", "trust", "certificate", "key", "secret"];
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
            text::wrong(value, LINES.contains(&name)).map(|words| (field.to_owned(), words))
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
                let idle = |(field, value): &(&String, &Json)| !own.contains_key(*field) && effective.get(*field) == Some(*value);
                let patch = patch.iter().filter(|f| !idle(f)).map(|(k, v)| (k.clone(), v.clone())).collect();
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
    if problems.is_empty() {
        for (index, some) in order.chunks(STRIDE).enumerate() {
            if !watch(0.5 + (index * STRIDE) as f64 / order.len() as f64 / 2.0) {
                return Err(Vec::new());
            }
            check_items(&next, some, &touched, check, &mut problems);
        }
        check_names(&next, &order, &touched, &mut problems);
        check_deleted(&next, plant, &deleted, &mut problems);
    }
    if !problems.is_empty() {
        problems.sort_by_key(|p| p.edit);
        return Err(problems);
    }
    let changes = order.into_iter().filter_map(|(kind, id)| change(plant, &next, kind, id)).collect();
    Ok((next, changes))
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

/// Whether two settings say the same. Numbers count by their value: what has been through another program may write 0
/// where 0.0 stood.
fn same(a: Option<&Json>, b: Option<&Json>) -> bool {
    match (a, b) {
        (Some(Json::Number(a)), Some(Json::Number(b))) => a == b || a.as_f64() == b.as_f64(),
        (Some(Json::Array(a)), Some(Json::Array(b))) => {
            a.len() == b.len() && a.iter().zip(b).all(|(a, b)| same(Some(a), Some(b)))
        }
        (Some(Json::Object(a)), Some(Json::Object(b))) => a.len() == b.len() && a.iter().all(|(k, v)| same(Some(v), b.get(k))),
        (a, b) => a == b,
    }
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
        Ok(next)
    }
}

fn check_items(
    next: &Plant,
    order: &[(Kind, Uuid)],
    touched: &HashMap<Uuid, usize>,
    check: &dyn SourceCheck,
    problems: &mut Vec<Problem>,
) {
    let mut limited: Option<HashMap<Uuid, Vec<&'static str>>> = None;
    // A changed connection can spoil the addresses of tags that were not touched; the form of the connection must tell.
    for &(kind, id) in order {
        let mut wrong: Wrong = Vec::new();
        let missing = |wrong: &mut Wrong, field: &str, what: &str| {
            wrong.push((field.into(), format!("The {what} it names does not exist.")));
        };
        match kind {
            Kind::Place => {
                let Some(item) = next.places.get(&id) else { continue };
                item.set.check(&mut wrong);
                if let Some(parent) = item.set.parent {
                    if !next.places.contains_key(&parent) {
                        missing(&mut wrong, "parent", "place");
                    } else if next.lies_under(parent, id) {
                        wrong.push(("parent".into(), "A place cannot lie under itself.".into()));
                    } else if next.path(Some(id)).matches('/').count() > 30 {
                        wrong.push(("parent".into(), "The plant tree may be at most 30 places deep.".into()));
                    }
                }
            }
            Kind::Layout => {
                let Some(item) = next.layouts.get(&id) else { continue };
                item.set.check(&mut wrong);
                for (i, member) in item.set.members.iter().enumerate() {
                    if member.states.is_some_and(|s| !next.states.contains_key(&s)) {
                        missing(&mut wrong, &format!("members[{i}].states"), "set of state names");
                    }
                }
                if let Err(words) = next.leaves(id) {
                    wrong.push(("members".into(), words));
                }
                if wrong.is_empty() {
                    let users =
                        next.connections.values().filter(|c| c.set.blocks.iter().any(|b| next.layout_holds(b.layout, id)));
                    for connection in users {
                        let told = check_blocks(next, connection, check).into_iter().chain(spoilt(next, connection, check));
                        wrong.extend(told.map(|(_, words)| ("members".into(), format!("On {}: {words}", connection.set.name))));
                    }
                }
            }
            Kind::States => {
                let Some(item) = next.states.get(&id) else { continue };
                item.set.check(&mut wrong);
            }
            Kind::Connection => {
                let Some(item) = next.connections.get(&id) else { continue };
                item.set.check(&mut wrong);
                wrong.extend(check.connection(&item.set));
                if wrong.is_empty() {
                    wrong.extend(check_blocks(next, item, check));
                }
                if wrong.is_empty() {
                    wrong.extend(spoilt(next, item, check));
                }
            }
            Kind::Tag => {
                let Some(item) = next.tags.get(&id) else { continue };
                item.set.check(&mut wrong);
                if !next.places.contains_key(&item.set.place) {
                    missing(&mut wrong, "place", "place");
                }
                match item.set.connection.map(|id| next.connections.get(&id)) {
                    Some(None) => missing(&mut wrong, "connection", "connection"),
                    Some(Some(connection)) => wrong.extend(check_source(next, &connection.set, &item.set, check)),
                    None => {}
                }
                if item.set.states.is_some_and(|s| !next.states.contains_key(&s)) {
                    missing(&mut wrong, "states", "set of state names");
                }
                if holds_text(next, &item.set)
                    && let Some(limits) = limited.get_or_insert_with(|| limits_by_tag(next)).get(&id)
                {
                    let message =
                        format!("This tag has limits ({}), and a limit needs numbers. Remove them first.", limits.join(", "));
                    wrong.push(("point.type".into(), message));
                }
                if item.set.setpoint.is_some_and(|s| s == id || !next.tags.contains_key(&s)) {
                    wrong.push(("setpoint".into(), "The setpoint must be another tag.".into()));
                }
            }
            Kind::Rule => {
                let Some(item) = next.rules.get(&id) else { continue };
                item.set.check(&mut wrong);
                match next.tags.get(&item.set.tag) {
                    None => missing(&mut wrong, "tag", "tag"),
                    Some(tag) if holds_text(next, &tag.set) => {
                        let message = format!("“{}” holds text, and a limit needs numbers.", tag.set.name);
                        wrong.push(("level".into(), message));
                    }
                    Some(_) => {}
                }
            }
            Kind::Report => {
                let Some(item) = next.reports.get(&id) else { continue };
                item.set.check(&mut wrong);
                if item.set.place.is_some_and(|p| !next.places.contains_key(&p)) {
                    missing(&mut wrong, "place", "place");
                }
                for (i, section) in item.set.sections.iter().enumerate() {
                    if section.tags().iter().any(|t| !next.tags.contains_key(t)) {
                        missing(&mut wrong, &format!("sections[{i}].tags"), "tag");
                    }
                }
            }
        }
        let edit = touched.get(&id).copied().unwrap_or(0);
        problems.extend(wrong.into_iter().map(|(field, message)| Problem { kind: ProblemKind::Invalid, edit, field, message }));
    }
}

/// Whether what a tag reads is text.
fn holds_text(next: &Plant, tag: &Tag) -> bool {
    let connection = tag.connection.and_then(|id| next.connections.get(&id));
    let source = connection.and_then(|connection| next.source(&connection.set, tag).ok());
    source.is_some_and(|source| source.point.get("type").and_then(Json::as_str) == Some("text"))
}

/// The limits that tags have, in words.
fn limits_by_tag(next: &Plant) -> HashMap<Uuid, Vec<&'static str>> {
    let mut limits: HashMap<Uuid, Vec<&'static str>> = HashMap::new();
    for rule in next.rules.values() {
        limits.entry(rule.set.tag).or_default().push(rule.set.kind.words());
    }
    limits
}

/// What is wrong with where a tag is read.
fn check_source(next: &Plant, connection: &Connection, tag: &Tag, check: &dyn SourceCheck) -> Wrong {
    if tag.group.is_some_and(|id| !connection.groups.iter().any(|g| g.id == id)) {
        return vec![("group".into(), "The connection has no such group.".into())];
    }
    match next.source(connection, tag) {
        Err((field, message)) => vec![(format!("point.{field}"), message)],
        Ok(Source { point: Cow::Borrowed(_), .. }) => check.point(connection, tag),
        Ok(Source { point: Cow::Owned(point), scaling }) => check.point(connection, &Tag { point, scaling, ..tag.clone() }),
    }
}

/// Whether every value of every block can be read: the first and the last instance tell for those between.
fn check_blocks(next: &Plant, connection: &Item<Connection>, check: &dyn SourceCheck) -> Wrong {
    let mut wrong: Wrong = Vec::new();
    for (i, block) in connection.set.blocks.iter().enumerate() {
        let leaves = match next.leaves(block.layout) {
            Err(words) => {
                wrong.push((format!("blocks[{i}].layout"), words));
                continue;
            }
            Ok(leaves) => leaves,
        };
        if leaves.len() * block.count as usize > MOST_OF_BLOCK {
            wrong.push((format!("blocks[{i}].count"), format!("A block has at most {MOST_OF_BLOCK} values.")));
            continue;
        }
        let mut instances = vec![0, block.count - 1];
        instances.dedup();
        let first = instances.into_iter().find_map(|index| {
            leaves.iter().find_map(|leaf| {
                let point = block.place(leaf.member, leaf.offset.saturating_add(index.saturating_mul(block.stride)));
                let told = check.point(&connection.set, &Tag::at(point)).into_iter().next()?;
                Some((told, leaf.names.join(" "), index))
            })
        });
        if let Some(((field, words), name, index)) = first {
            let own = field.strip_prefix("point.").filter(|f| block.point.contains_key(*f) && *f != "address");
            let at = own.map_or_else(|| format!("blocks[{i}].address"), |f| format!("blocks[{i}].{f}"));
            wrong.push((at, format!("“{name}” of instance {}: {words}", index + 1)));
        }
    }
    wrong
}

/// A changed connection can spoil where tags are read that were not touched.
fn spoilt(next: &Plant, connection: &Item<Connection>, check: &dyn SourceCheck) -> Option<(String, String)> {
    let of_it = next.tags.values().filter(|t| t.set.connection == Some(connection.id));
    let spoilt = of_it.filter(|t| !check_source(next, &connection.set, &t.set, check).is_empty());
    let names: Vec<String> = spoilt.map(|t| next.tag_path(&t.set)).collect();
    let first = names.iter().min()?;
    Some((String::new(), format!("{} of its tags could not be read any more, first “{first}”.", names.len())))
}

/// What an item is known by, and among what that may stand only once: siblings must differ by name, and a tag has each kind
/// of limit once.
trait Known {
    fn known(&self) -> (Option<Uuid>, &str);
}

macro_rules! known {
    ($($kind:ty: |$set:ident| $among:expr, $name:expr;)*) => {$(
        impl Known for $kind {
            fn known(&self) -> (Option<Uuid>, &str) {
                let $set = self;
                ($among, $name)
            }
        }
    )*};
}

known! {
    Place: |set| set.parent, &set.name;
    Layout: |set| None, &set.name;
    States: |set| None, &set.name;
    Connection: |set| None, &set.name;
    Tag: |set| Some(set.place), &set.name;
    Rule: |set| Some(set.tag), set.kind.words();
    Report: |set| None, &set.name;
}

fn check_names(next: &Plant, order: &[(Kind, Uuid)], touched: &HashMap<Uuid, usize>, problems: &mut Vec<Problem>) {
    for kind in Kind::ALL {
        let ids: Vec<Uuid> = order.iter().filter(|o| o.0 == kind).map(|o| o.1).collect();
        let clashes = match kind {
            Kind::Place => clashes(&next.places, &ids, touched),
            Kind::Layout => clashes(&next.layouts, &ids, touched),
            Kind::States => clashes(&next.states, &ids, touched),
            Kind::Connection => clashes(&next.connections, &ids, touched),
            Kind::Tag => clashes(&next.tags, &ids, touched),
            Kind::Rule => clashes(&next.rules, &ids, touched),
            Kind::Report => clashes(&next.reports, &ids, touched),
        };
        problems.extend(clashes.into_iter().map(|(edit, name)| {
            let (field, message) = match kind {
                Kind::Rule => ("kind", format!("The tag already has a {name} limit.")),
                Kind::Place | Kind::Tag => ("name", format!("There is already a {} “{name}” here.", kind.words())),
                Kind::Layout | Kind::States | Kind::Connection | Kind::Report => {
                    ("name", format!("There is already a {} “{name}”.", kind.words()))
                }
            };
            Problem { kind: ProblemKind::Invalid, edit, field: field.into(), message }
        }));
    }
}

/// The edits that give an item what another one is known by already. Only what was touched can clash, so a plant is looked
/// through once, for as few names as were touched.
fn clashes<'a, T: Known>(table: &'a Table<T>, ids: &[Uuid], touched: &HashMap<Uuid, usize>) -> Vec<(usize, &'a str)> {
    let edit_of = |id: &Uuid| touched.get(id).copied().unwrap_or(0);
    let mut found = Vec::new();
    let mut taken: HashMap<(Option<Uuid>, &str), usize> = HashMap::with_capacity(ids.len());
    for item in ids.iter().filter_map(|id| table.get(id)) {
        let (known, edit) = (item.set.known(), edit_of(&item.id));
        if let Some(other) = taken.insert(known, edit) {
            found.push((edit.max(other), known.1));
        }
    }
    if !taken.is_empty() {
        let others = table.values().filter(|item| !touched.contains_key(&item.id));
        found.extend(others.filter_map(|item| Some((*taken.get(&item.set.known())?, item.set.known().1))));
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
            let message = format!("“{}” cannot be deleted: {}.", old.title(kind, id), reasons.join("; "));
            problems.push(Problem { kind: ProblemKind::InUse, edit, field: String::new(), message });
        }
    }
}

#[cfg(test)]
mod tests;
