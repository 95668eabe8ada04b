//! Writing in a table: what the texts of cells mean, and the edits that written rows come to.

use super::{Cell, Column, LimitPart, Reader, column_of, columns, reference};
use crate::{
    alarm::{LimitKind, RuleKind},
    formula::Formula,
    plant::{Edit, Kind, Message, Op, Own, Plant, edit, instances, loses_digits, message},
    unit,
};
use serde_json::{Map, Value as Json};
use std::collections::{HashMap, HashSet};
use uuid::Uuid;

/// The item that a row means by what people know it by: the columns that name it, beside their texts.
pub struct Known<'a> {
    names: Names<'a>,
    rules: HashMap<(Uuid, &'a str), Uuid>,
}

impl<'a> Known<'a> {
    /// Makes the index of a plant.
    pub fn of(plant: &'a Plant) -> Known<'a> {
        let rules = plant.rules.values().map(|r| ((r.set.tag, r.set.known_as()), r.id)).collect();
        Known { names: Names::of(plant), rules }
    }

    /// The item of these cells, given by a column's name; `None` where there is none yet.
    pub fn find(&self, kind: Kind, cell: &dyn Fn(&str) -> Option<String>) -> Option<Uuid> {
        let names = &self.names;
        match kind {
            Kind::Place => {
                let path = format!("{}/{}", cell("parent").unwrap_or_default(), cell("name")?);
                names.places.get(&clean_path(&path)).copied()
            }
            Kind::Tag => {
                let place = names.place(&cell("place")?).ok()?;
                names.tags.get(&(place, cell("name")?)).copied()
            }
            Kind::Rule => {
                let tag = names.tag(&cell("tag")?, None).ok()?;
                if let Some(name) = cell("name").filter(|name| !name.trim().is_empty()) {
                    return self.rules.get(&(tag, name.trim())).copied();
                }
                // One without a name is known by its kind.
                let kind = cell("kind")?;
                let kind = kind.trim().to_lowercase().replace(['_', '-'], " ");
                let kind = if kind == "rate" { RuleKind::Rate.words() } else { kind.as_str() };
                let words = RuleKind::ALL.into_iter().map(RuleKind::words).find(|words| *words == kind)?;
                self.rules.get(&(tag, words)).copied()
            }
            _ => None,
        }
    }
}

/// A number as people write it: with a point, or with a comma where no point stands.
///
/// # Errors
/// A sentence for whoever typed it.
pub fn number(text: &str) -> Result<f64, String> {
    let text = text.trim();
    let one_comma = text.matches(',').count() == 1 && !text.contains('.');
    let plain = if one_comma { text.replace(',', ".") } else { text.to_owned() };
    let number = plain.parse::<f64>().ok().filter(|n| n.is_finite());
    let number = number.ok_or_else(|| format!("“{}” is not a number; write it like 82.5.", short(text)))?;
    if plain.parse::<i128>().is_ok_and(loses_digits) {
        return Err(format!(
            "“{}” has more digits than a setting keeps; the nearest number that it keeps is {number}.",
            short(text)
        ));
    }
    Ok(number)
}

/// At most forty characters of something that was typed, for a sentence about it.
fn short(text: &str) -> String {
    let mut cut: String = text.chars().take(40).collect();
    if cut.len() < text.len() {
        cut.push('…');
    }
    cut
}

/// A path as it is compared: names without spaces around them.
pub fn clean_path(text: &str) -> String {
    text.split('/').map(str::trim).filter(|s| !s.is_empty()).collect::<Vec<_>>().join("/")
}

/// Looks up items by the names that people know them by.
struct Names<'a> {
    plant: &'a Plant,
    places: HashMap<String, Uuid>,
    tags: HashMap<(Uuid, String), Uuid>,
    named: HashMap<(Kind, &'a str), Uuid>,
}

impl<'a> Names<'a> {
    fn of(plant: &'a Plant) -> Names<'a> {
        Names {
            plant,
            places: plant.places.keys().map(|&id| (plant.path(Some(id)), id)).collect(),
            tags: plant.tags.values().map(|t| ((t.set.place, t.set.name.clone()), t.id)).collect(),
            named: [Kind::Connection, Kind::States, Kind::AlarmClass, Kind::ShiftPattern]
                .into_iter()
                .flat_map(|kind| plant.named(kind).into_iter().map(move |(name, id)| ((kind, name), id)))
                .collect(),
        }
    }

    /// Makes known what rows make or rename; a name that is known already keeps its meaning.
    fn add(&mut self, kind: Kind, rows: &[Row]) {
        let cell = |row: &Row, key: &str| row.cells.iter().find(|c| c.column == key).map(|c| c.text.clone());
        for row in rows {
            let Some(name) = cell(row, "name") else { continue };
            match kind {
                Kind::Place => {
                    let above = cell(row, "parent")
                        .unwrap_or_else(|| self.plant.path(self.plant.places.get(&row.id).and_then(|p| p.set.parent)));
                    self.places.entry(clean_path(&format!("{above}/{name}"))).or_insert(row.id);
                }
                Kind::Tag => {
                    let place = match cell(row, "place") {
                        Some(path) => self.place(&path).ok(),
                        None => self.plant.tags.get(&row.id).map(|t| t.set.place),
                    };
                    if let Some(place) = place {
                        self.tags.entry((place, name)).or_insert(row.id);
                    }
                }
                _ => {}
            }
        }
    }

    fn place(&self, path: &str) -> Result<Uuid, String> {
        let clean = clean_path(path);
        self.places.get(&clean).copied().ok_or_else(|| format!("There is no place “{}”.", short(&clean)))
    }

    /// A tag by its path, or by its name where it is in that place.
    fn tag(&self, text: &str, here: Option<Uuid>) -> Result<Uuid, String> {
        let clean = clean_path(text);
        let beside = here.and_then(|place| self.tags.get(&(place, clean.clone())));
        let found = beside.or_else(|| {
            let (place, name) = clean.rsplit_once('/')?;
            self.tags.get(&(*self.places.get(place)?, name.to_owned()))
        });
        found.copied().ok_or_else(|| format!("There is no tag “{}”.", short(&clean)))
    }
}

/// Reads what was typed into a cell; `None` puts the setting back to its default.
fn parse(names: &Names<'_>, column: &Column, set: &Own, text: &str) -> Result<Option<Json>, String> {
    let trimmed = text.trim();
    if let Cell::Text = column.cell {
        return Ok(Some(Json::String(text.to_owned())));
    }
    if trimmed.is_empty() {
        return Ok(None);
    }
    let id = |id: Uuid| Some(Json::String(id.to_string()));
    Ok(match column.cell {
        Cell::Text => None,
        Cell::Unit => Some(unit::find(trimmed).map_or(trimmed, |u| u.symbol).into()),
        Cell::Named(kind) => {
            let found = names.named.get(&(kind, trimmed)).copied();
            id(found.ok_or_else(|| format!("There is no {} “{}”.", kind.words(), short(trimmed)))?)
        }
        Cell::Number => Some(number(trimmed)?.into()),
        Cell::Level => {
            let tag = reference(set, "tag").and_then(|id| names.plant.tags.get(&id));
            Some(level(names.plant, tag.and_then(|t| t.set.states), trimmed)?.into())
        }
        Cell::StateList => {
            let states = reference(set, "tag").and_then(|id| names.plant.tags.get(&id)?.set.states);
            let one = |text: &str| level(names.plant, states, text).map(|state| Json::from(state as i64));
            Some(trimmed.split(',').map(str::trim).filter(|text| !text.is_empty()).map(one).collect::<Result<_, _>>()?)
        }
        Cell::Limit(_, LimitPart::Level) => Some(level(names.plant, reference(set, "states"), trimmed)?.into()),
        Cell::Whole | Cell::Limit(_, LimitPart::Priority) => {
            let whole = trimmed.parse::<u32>();
            Some(whole.map_err(|_| format!("“{}” is not a whole number.", short(trimmed)))?.into())
        }
        Cell::Limit(..) => Some(number(trimmed)?.into()),
        Cell::YesNo => Some(match trimmed.to_lowercase().as_str() {
            "yes" | "true" | "on" | "1" | "x" => true.into(),
            "no" | "false" | "off" | "0" => false.into(),
            _ => return Err(format!("“{}” is neither yes nor no.", short(trimmed))),
        }),
        Cell::Choice(words) => {
            let word = trimmed.to_lowercase().replace([' ', '-'], "_");
            if !words.contains(&word.as_str()) {
                return Err(format!("“{}” is none of {}.", short(trimmed), words.join(", ")));
            }
            Some(word.into())
        }
        Cell::Place => id(names.place(trimmed)?),
        Cell::Group => {
            let connection = reference(set, "connection").and_then(|c| names.plant.connections.get(&c));
            let Some(connection) = connection else { return Err("A group needs a connection.".into()) };
            let group = connection.set.groups.iter().find(|g| g.name == trimmed);
            let missing = || format!("{} has no group “{}”.", connection.set.name, short(trimmed));
            id(group.ok_or_else(missing)?.id)
        }
        Cell::Formula => {
            let of_tag = || reference(set, "tag").and_then(|id| Some(names.plant.tags.get(&id)?.set.place));
            let place = reference(set, "place").or_else(of_tag);
            let named = Formula::named(trimmed, |path| names.tag(path, place).ok());
            Some(named.map_err(|wrong| wrong.to_string())?.into())
        }
        Cell::Message => {
            let place = reference(set, "tag").and_then(|id| Some(names.plant.tags.get(&id)?.set.place));
            let read = Message::read(trimmed).map_err(|words| format!("{words}."))?;
            let mut parts = if column.key == "values_with" { read.without_words() } else { read }.to_json();
            for text in message::texts(&mut parts) {
                *text = Formula::named(text, |path| names.tag(path, place).ok()).map_err(|wrong| wrong.words)?;
            }
            Some(parts)
        }
        Cell::Tag => id(names.tag(trimmed, reference(set, "place"))?),
        Cell::Rest(known) => match serde_json::from_str(trimmed) {
            Ok(Json::Object(rest)) if !rest.keys().any(|k| known.contains(&k.as_str())) => Some(Json::Object(rest)),
            Ok(Json::Object(_)) => return Err(format!("{} have columns of their own.", known.join(", "))),
            _ => return Err("This must be a JSON object, like {\"block\": …}.".into()),
        },
    })
}

/// A level as somebody writes it: a number, or the name of one of these states.
fn level(plant: &Plant, states: Option<Uuid>, text: &str) -> Result<f64, String> {
    let state = states.and_then(|id| plant.states.get(&id)?.set.value_of(text));
    state.map_or_else(|| number(text), Ok)
}

/// Puts a cell's value into settings.
fn put(column: &Column, set: &mut Own, value: Option<Json>) {
    match (column.at, value) {
        ([field], value) => match (column.cell, value) {
            (Cell::Rest(known), rest) => {
                let mut object = set.get(*field).and_then(Json::as_object).cloned().unwrap_or_default();
                object.retain(|k, _| known.contains(&k.as_str()));
                object.extend(rest.and_then(|r| r.as_object().cloned()).unwrap_or_default());
                set.insert((*field).into(), Json::Object(object));
            }
            (_, Some(value)) => drop(set.insert((*field).into(), value)),
            (_, None) => drop(set.insert((*field).into(), Json::Null)),
        },
        ([object, field], value) => {
            let mut inner = set.get(*object).and_then(Json::as_object).cloned().unwrap_or_default();
            match value {
                Some(value) => drop(inner.insert((*field).into(), value)),
                None => drop(inner.shift_remove(*field)),
            }
            set.insert((*object).into(), Json::Object(inner));
        }
        _ => {}
    }
}

/// A scaling of which nothing is left is none. Without its four numbers the two words beside them mean nothing.
fn settle(set: &mut Own) {
    let numbers = ["raw_low", "raw_high", "low", "high"];
    if let Some(Json::Object(scaling)) = set.get("scaling")
        && !numbers.iter().any(|n| scaling.contains_key(*n))
    {
        set.insert("scaling".into(), Json::Null);
    }
    // Without its text a formula is none.
    for field in [Kind::Tag, Kind::Rule].iter().flat_map(|kind| kind.formulas()) {
        // A setpoint is a formula of a rule and the name of another tag of a tag.
        if set.get(*field).is_some_and(|formula| formula.is_object() && formula.get("text").is_none()) {
            set.insert((*field).to_owned(), Json::Null);
        }
    }
}

/// What somebody wrote into one cell.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Written {
    /// The column's name.
    pub column: String,
    pub text: String,
    /// What the cell showed when it was written; where it shows something else by now, both are told.
    pub was: Option<String>,
}

/// A row that was written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    /// The item; for one to be made an id that is not there yet.
    pub id: Uuid,
    /// It must be made.
    pub fresh: bool,
    pub cells: Vec<Written>,
}

/// What is wrong with a cell.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trouble {
    /// Which row, counted from 0.
    pub row: usize,
    /// Which column; empty where the whole row is meant.
    pub column: String,
    pub message: String,
    /// What the cell shows by now, where somebody else has written in it meanwhile.
    pub now: Option<String>,
}

/// An edit that a row comes to.
#[derive(Clone, Debug, PartialEq)]
pub struct Planned {
    /// Which row, counted from 0.
    pub row: usize,
    /// Which of the tag's limits it edits, where it is not an edit of the row's own item.
    pub limit: Option<LimitKind>,
    pub edit: Edit,
}

/// Turns written rows into edits, in the order of the rows; rows that change nothing give none. Rows may refer to what other
/// rows make. `new_id` gives ids for what a row makes beside its own item.
///
/// # Errors
/// Everything that is wrong, cell by cell.
pub fn plan(plant: &Plant, kind: Kind, rows: &[Row], new_id: &mut dyn FnMut() -> Uuid) -> Result<Vec<Planned>, Vec<Trouble>> {
    plan_watched(plant, kind, rows, new_id, &mut |_| true)
}

/// The same for many rows: `watch` hears how many are done and says whether to go on.
///
/// # Errors
/// Everything that is wrong, cell by cell; nothing is wrong where it was told to stop.
pub fn plan_watched(
    plant: &Plant,
    kind: Kind,
    rows: &[Row],
    new_id: &mut dyn FnMut() -> Uuid,
    watch: &mut dyn FnMut(usize) -> bool,
) -> Result<Vec<Planned>, Vec<Trouble>> {
    let mut names = Names::of(plant);
    names.add(kind, rows);
    let written: HashSet<Uuid> = rows.iter().map(|r| r.id).collect();
    let reader = Reader::of(plant, |tag| written.contains(&tag));
    let mut edits = Vec::new();
    let mut troubles = Vec::new();
    let mut once = HashSet::new();
    for (index, row) in rows.iter().enumerate() {
        if index % 500 == 0 && !watch(index) {
            return Err(Vec::new());
        }
        let mut tell = |column: &str, message: String, now: Option<String>| {
            troubles.push(Trouble { row: index, column: column.into(), message, now });
        };
        if !once.insert(row.id) {
            tell("", "This item appears twice.".into(), None);
            continue;
        }
        let there = plant.own(kind, row.id);
        if there.is_none() != row.fresh {
            let words = if row.fresh { "There is already an item with this id." } else { "This item does not exist any more." };
            tell("", words.into(), None);
            continue;
        }
        let before = plant.effective(kind, row.id);
        let mut set = before.clone();
        let mut touched: HashSet<&str> = HashSet::new();
        let mut limits: Vec<LimitChange> = Vec::new();
        // In the order of the columns: a group is looked up in the connection that stands in the same row.
        for column in columns(kind) {
            let Some(written) = row.cells.iter().find(|c| c.column == column.key) else { continue };
            let now = reader.text(column, row.id, &before);
            if written.was.as_ref().is_some_and(|was| *was != now) && now != written.text {
                tell(column.key, "Somebody else has changed this meanwhile.".into(), Some(now));
                continue;
            }
            if !row.fresh && written.text == now {
                continue;
            }
            match parse(&names, column, &set, &written.text) {
                Ok(value) => match column.cell {
                    Cell::Limit(kind, part) => {
                        if limits.last().is_none_or(|last| last.kind != kind) {
                            limits.push(LimitChange { kind, column: column.key, parts: Vec::new() });
                        }
                        if let Some(last) = limits.last_mut() {
                            last.parts.push((part, value));
                        }
                    }
                    _ => {
                        touched.insert(column.at[0]);
                        put(column, &mut set, value);
                    }
                },
                Err(message) => tell(column.key, message, None),
            }
        }
        for change in &limits {
            let there = reader.rules.get(&(row.id, change.kind)).is_some_and(|rule| !rule.set.is_left_out());
            if change.lacks_level(there) {
                tell(
                    change.column,
                    format!("There is no limit {} to set this for; type its level too.", change.kind.words()),
                    None,
                );
            }
        }
        for unknown in row.cells.iter().filter(|c| column_of(kind, &c.column).is_none()) {
            tell(&unknown.column, "There is no such column.".into(), None);
        }
        settle(&mut set);
        if row.fresh {
            let own = set.into_iter().filter(|(_, v)| !v.is_null() && v.as_str() != Some("")).collect();
            edits.push(Planned {
                row: index,
                limit: None,
                edit: Edit { kind, id: row.id, op: Op::Create(own, None), seen: None },
            });
        } else {
            let patch: Own =
                set.into_iter().filter(|(k, v)| touched.contains(k.as_str()) && !same_setting(before.get(k), v)).collect();
            if !patch.is_empty() {
                let edit = Edit { kind, id: row.id, op: Op::Patch(patch), seen: Some(plant.revision) };
                edits.push(Planned { row: index, limit: None, edit });
            }
        }
        for change in limits {
            let rule = reader.rules.get(&(row.id, change.kind)).map(|r| r.id);
            let limit = Some(change.kind);
            edits.extend(change.edit(plant, rule, row.id, new_id).map(|edit| Planned { row: index, limit, edit }));
        }
    }
    instances::as_own(plant, edits.iter_mut().map(|planned| &mut planned.edit));
    if troubles.is_empty() { Ok(edits) } else { Err(troubles) }
}

/// What was written about one limit of a tag.
struct LimitChange {
    kind: LimitKind,
    /// The first column that was written.
    column: &'static str,
    parts: Vec<(LimitPart, Option<Json>)>,
}

impl LimitChange {
    /// The level that was written: `Some(None)` takes the limit away.
    fn level(&self) -> Option<&Option<Json>> {
        self.parts.iter().find(|(part, _)| *part == LimitPart::Level).map(|(_, value)| value)
    }

    /// Whether something is said of a limit that is not there, or not any more.
    fn lacks_level(&self, there: bool) -> bool {
        let stays = self.level().map_or(there, Option::is_some);
        !stays && self.parts.iter().any(|(part, value)| *part != LimitPart::Level && value.is_some())
    }

    /// What it does to the rule of its kind: makes it, changes it, or takes it away.
    fn edit(self, plant: &Plant, rule: Option<Uuid>, tag: Uuid, new_id: &mut dyn FnMut() -> Uuid) -> Option<Edit> {
        let edit = |id, op, seen| Some(Edit { kind: Kind::Rule, id, op, seen });
        let gone = self.level().is_some_and(Option::is_none);
        let mut set: Own =
            self.parts.iter().map(|(part, value)| (part.field().to_owned(), value.clone().unwrap_or(Json::Null))).collect();
        match rule {
            Some(id) if plant.rules.get(&id).is_some_and(|rule| rule.set.class_rule.is_some()) => {
                // What the equipment class says is switched off and on here.
                if gone {
                    set = Own::from_iter([("enabled".to_owned(), false.into())]);
                } else if plant.rules[&id].set.is_left_out() {
                    set.insert("enabled".into(), true.into());
                }
                edit(id, Op::Patch(set), Some(plant.revision))
            }
            Some(id) if gone => edit(id, Op::Delete { contents: false }, Some(plant.revision)),
            Some(id) if self.level().is_some() && plant.rules.get(&id).is_some_and(|rule| rule.set.level_formula.is_some()) => {
                set.insert("level_formula".into(), Json::Null);
                edit(id, Op::Patch(set), Some(plant.revision))
            }
            Some(id) => edit(id, Op::Patch(set), Some(plant.revision)),
            None if gone || self.level().is_none() => None,
            None => {
                // Limits further out are the graver ones.
                let priority = if matches!(self.kind, LimitKind::LowLow | LimitKind::HighHigh) { 3 } else { 2 };
                let own = serde_json::json!({"tag": tag, "kind": self.kind.rule(), "priority": priority});
                let mut own = own.as_object().cloned().unwrap_or_default();
                own.extend(set.into_iter().filter(|(_, value)| !value.is_null()));
                edit(new_id(), Op::Create(own, None), None)
            }
        }
    }
}

fn same_setting(before: Option<&Json>, after: &Json) -> bool {
    let empty = |v: &Json| v.is_null() || v.as_object().is_some_and(Map::is_empty);
    before.map_or(empty(after), |b| {
        b == after || (empty(b) && empty(after)) || b.as_f64().is_some_and(|n| after.as_f64() == Some(n))
    })
}

/// The column in which a problem of an edit shows: the one for its field that was written, or the first for it.
pub fn column_for(kind: Kind, field: &str, written: &[Written]) -> String {
    let path: Vec<&str> = field.split('.').collect();
    let fits = |c: &&Column| {
        !c.at.is_empty() && (c.at == path.as_slice() || (path.len() == 1 && c.at[0] == path[0]) || c.at == &path[..1])
    };
    let mut found: Vec<&Column> = columns(kind).iter().filter(fits).collect();
    // What names the field exactly comes first, and of several what was written.
    found.sort_by_key(|c| (c.at != path.as_slice(), !written.iter().any(|w| w.column == c.key)));
    found.first().map_or_else(String::new, |c| c.key.to_owned())
}

/// The column that shows a setting of a limit; for one without a column, that of its level.
fn limit_column(limit: LimitKind, field: &str) -> &'static str {
    let of = |field: &str| {
        columns(Kind::Tag).iter().find(|c| matches!(c.cell, Cell::Limit(kind, part) if kind == limit && part.field() == field))
    };
    of(field).or_else(|| of("level")).map_or("", |c| c.key)
}

/// The problems of edits as troubles of the cells they come from.
pub fn troubles(kind: Kind, rows: &[Row], edits: &[Planned], problems: Vec<edit::Problem>) -> Vec<Trouble> {
    let trouble = |p: edit::Problem| {
        let planned = edits.get(p.edit);
        let row = planned.map_or(0, |e| e.row);
        let written = rows.get(row).map_or(&[][..], |r| &r.cells);
        let column = match planned.and_then(|e| e.limit) {
            Some(kind) => limit_column(kind, &p.field).to_owned(),
            None if p.field.is_empty() => String::new(),
            None => column_for(kind, &p.field, written),
        };
        Trouble { row, column, message: p.message, now: None }
    };
    problems.into_iter().map(trouble).collect()
}
