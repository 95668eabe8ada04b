//! Tables as files: places, tags and alarm rules written as CSV (RFC 4180), read back, and compared with the plant before
//! anything is changed.
//!
//! The head names columns (`id`, then those of `core::plant::table`); their order does not matter, and what is left out stays as
//! it is. A row means the item with its `id`, or without one the item of its path, or a new one. UTF-8, with or without a mark
//! at the start; cells parted by comma, semicolon or tab; numbers with a point or a comma.

use havrel_core::plant::{
    Change, Edit, Kind, Op, Plant, Settings, SourceCheck, copy, edit, secret,
    table::{self, Known, Reader, Row, Trouble, Written},
    view::natural,
};
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};
use uuid::Uuid;

/// Most rows of a file.
pub const MOST_ROWS: usize = 200_000;
/// Most columns of a file.
const MOST_COLUMNS: usize = 200;
/// How much of comparing is reading the rows; the rest is trying what they come to.
const READ: f64 = 0.5;
/// Most differences and troubles that are kept to be looked at.
pub const MOST_SHOWN: usize = 2_000;
/// The column of identities.
const ID: &str = "id";

/// What parts the cells of a file that is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mark {
    Comma,
    Semicolon,
    Tab,
}

impl Mark {
    /// Reads its name.
    pub fn from_name(name: &str) -> Option<Mark> {
        Some(match name {
            "comma" => Mark::Comma,
            "semicolon" => Mark::Semicolon,
            "tab" => Mark::Tab,
            _ => return None,
        })
    }

    fn byte(self) -> u8 {
        match self {
            Mark::Comma => b',',
            Mark::Semicolon => b';',
            Mark::Tab => b'\t',
        }
    }
}

/// Whether a text would run as a formula in a spreadsheet, or looks as if an apostrophe had been put before such a one.
fn tempting(text: &str) -> bool {
    let mut chars = text.chars();
    let runs = |c: char| matches!(c, '=' | '+' | '-' | '@' | '\t' | '\r');
    match chars.next() {
        Some('\'') => chars.next().is_some_and(|c| runs(c) || c == '\''),
        Some(c) => runs(c),
        None => false,
    }
}

/// A text that no spreadsheet runs: with an apostrophe before it where it would. Numbers stay numbers.
pub(crate) fn harmless(text: &str) -> String {
    if tempting(text) && table::number(text).is_err() { format!("'{text}") } else { text.to_owned() }
}

/// The text that [`harmless`] was given.
fn restored(text: &str) -> String {
    match text.strip_prefix('\'') {
        Some(rest) if tempting(rest) => rest.to_owned(),
        _ => text.to_owned(),
    }
}

/// The items of a kind, under a place where one is given: by path, and within a place in its order.
fn items(plant: &Plant, kind: Kind, under: Option<Uuid>) -> Vec<Uuid> {
    let inside = |place: Uuid| under.is_none_or(|top| plant.lies_under(place, top));
    let mut found: Vec<(String, f64, Uuid)> = match kind {
        Kind::Place => {
            plant.places.values().filter(|p| inside(p.id)).map(|p| (plant.path(Some(p.id)), p.set.order, p.id)).collect()
        }
        Kind::Tag => {
            let tags = plant.tags.values().filter(|t| inside(t.set.place));
            tags.map(|t| (plant.path(Some(t.set.place)), t.set.order, t.id)).collect()
        }
        Kind::Rule => {
            let of = |tag: Uuid| plant.tags.get(&tag).filter(|t| inside(t.set.place)).map(|t| plant.tag_path(&t.set));
            plant.rules.values().filter_map(|r| Some((of(r.set.tag)?, r.set.order(), r.id))).collect()
        }
        _ => Vec::new(),
    };
    found.sort_by(|a, b| natural(&a.0, &b.0).then(a.1.total_cmp(&b.1)).then(a.2.cmp(&b.2)));
    found.into_iter().map(|f| f.2).collect()
}

/// Writes the items of a kind as CSV, with a mark at the start so that spreadsheets know it is UTF-8.
///
/// # Errors
/// When a row cannot be written, which memory alone decides.
pub fn write(plant: &Plant, kind: Kind, under: Option<Uuid>, mark: Mark) -> Result<Vec<u8>, csv::Error> {
    let mut out = csv::WriterBuilder::new()
        .delimiter(mark.byte())
        .terminator(csv::Terminator::CRLF)
        .from_writer("\u{feff}".as_bytes().to_vec());
    let columns = table::columns(kind);
    out.write_record(std::iter::once(ID).chain(columns.iter().map(|c| c.key)))?;
    let reader = Reader::of(plant, |_| kind == Kind::Tag);
    for id in items(plant, kind, under) {
        let cells = reader.cells(kind, id);
        out.write_record(std::iter::once(id.to_string()).chain(cells.iter().map(|c| harmless(c))))?;
    }
    out.into_inner().map_err(|e| e.into_error().into())
}

/// Something wrong with a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wrong {
    /// The line of the file on which the row begins, counted from 1; 0 where the whole file is meant.
    pub line: u64,
    /// The column; empty where the whole row is meant.
    pub column: String,
    pub message: String,
}

impl Wrong {
    fn whole(message: impl Into<String>) -> Vec<Wrong> {
        vec![Wrong { line: 0, column: String::new(), message: message.into() }]
    }
}

/// A file that was read: rows of cells that are named.
#[derive(Debug)]
pub struct File {
    /// Line, and cells with the column they stand under; the names of columns are shared by all rows.
    rows: Vec<(u64, NamedCells)>,
}

type NamedCells = Vec<(Arc<str>, String)>;

/// Reads a file.
///
/// # Errors
/// What is wrong with it, in words.
pub fn read(bytes: &[u8], kind: Kind) -> Result<File, Vec<Wrong>> {
    if bytes.starts_with(&[0xff, 0xfe]) || bytes.starts_with(&[0xfe, 0xff]) {
        return Err(Wrong::whole("This file is in UTF-16. Save it as CSV in UTF-8."));
    }
    let bytes = bytes.strip_prefix(&[0xef, 0xbb, 0xbf]).unwrap_or(bytes);
    let text = std::str::from_utf8(bytes).map_err(|e| {
        let line = bytes[..e.valid_up_to()].iter().filter(|b| **b == b'\n').count() as u64 + 1;
        vec![Wrong { line, column: String::new(), message: "This line is not in UTF-8. Save the file as CSV in UTF-8.".into() }]
    })?;
    let head = text.lines().next().unwrap_or_default();
    let known = |name: &str| name == ID || table::column_of(kind, name).is_some();
    let named = |mark: u8| head.split(mark as char).filter(|h| known(h.trim().trim_matches('"'))).count();
    // The mark under which the head names the most columns.
    let mark = [Mark::Comma, Mark::Semicolon, Mark::Tab].map(Mark::byte).into_iter().rev().max_by_key(|&m| named(m));
    let mut reader =
        csv::ReaderBuilder::new().delimiter(mark.unwrap_or(b',')).has_headers(false).flexible(true).from_reader(text.as_bytes());
    let mut records = reader.records();
    let broken = |e: csv::Error| {
        let line = e.position().map_or(0, csv::Position::line);
        vec![Wrong { line, column: String::new(), message: format!("This cannot be read as CSV: {e}.") }]
    };
    let head: Vec<Arc<str>> = match records.next() {
        Some(record) => {
            let record = record.map_err(broken)?;
            if record.len() > MOST_COLUMNS {
                return Err(Wrong::whole(format!(
                    "The first line names {} columns; there are at most {MOST_COLUMNS}.",
                    record.len()
                )));
            }
            record.iter().map(|h| h.trim().into()).collect()
        }
        None => return Err(Wrong::whole("The file is empty. Its first line names the columns.")),
    };
    let mut wrong = Vec::new();
    let mut once = HashSet::new();
    for name in &head {
        let message = if !known(name) {
            let all: Vec<&str> = table::columns(kind).iter().map(|c| c.key).collect();
            format!("There is no column “{name}”. There are id, {}.", all.join(", "))
        } else if !once.insert(name) {
            format!("The column “{name}” appears twice.")
        } else {
            continue;
        };
        wrong.push(Wrong { line: 1, column: name.to_string(), message });
    }
    if !wrong.is_empty() {
        return Err(wrong);
    }
    let mut rows = Vec::new();
    let (mut seen, mut lines) = (0, 1);
    for record in records {
        let record = record.map_err(broken)?;
        // The reader's own line is that of the blank lines before the row.
        let start = record.position().map_or(0, |p| p.byte() as usize).min(text.len());
        let blank = text.as_bytes()[start..].iter().take_while(|b| matches!(b, b'\n' | b'\r')).count();
        lines += text.as_bytes()[seen..start + blank].iter().filter(|b| **b == b'\n').count() as u64;
        seen = start + blank;
        let line = lines;
        if record.iter().all(|cell| cell.trim().is_empty()) {
            continue;
        }
        if rows.len() == MOST_ROWS {
            return Err(Wrong::whole(format!("A file has at most {MOST_ROWS} rows; take it in parts, for example by area.")));
        }
        if record.len() != head.len() {
            let message = format!("This row has {} cells, the head names {}.", record.len(), head.len());
            wrong.push(Wrong { line, column: String::new(), message });
            if wrong.len() == MOST_SHOWN {
                return Err(wrong);
            }
            continue;
        }
        rows.push((line, head.iter().cloned().zip(record.iter().map(restored)).collect()));
    }
    if wrong.is_empty() { Ok(File { rows }) } else { Err(wrong) }
}

/// What becomes of an item.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Outcome {
    Removed,
    Changed,
    Added,
}

/// One item that becomes different.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Difference {
    pub outcome: Outcome,
    pub kind: Kind,
    /// What a person knows it by: before, or after for what is added.
    pub title: String,
    /// Fields or columns that differ: what, before, after.
    pub cells: Vec<(String, String, String)>,
}

/// What taking a file in would do.
#[derive(Debug, Default)]
pub struct Plan {
    /// The revision it was compared with.
    pub revision: i64,
    pub edits: Vec<Edit>,
    pub counts: HashMap<(Outcome, Kind), usize>,
    /// Items of the file that stay as they are.
    pub unchanged: usize,
    /// The first differences: what goes, then what changes, then what comes.
    pub differences: Vec<Difference>,
}

/// Why there is no plan.
#[derive(Debug)]
pub enum NoPlan {
    Wrong(Vec<Wrong>),
    Cancelled,
}

/// Compares a file with the plant. With `remove`, items of the kind that are not in the file go, those under a place where one
/// is given. `watch` hears how far it is, from 0 to 1, and says whether to go on.
///
/// # Errors
/// Everything that is wrong, by line and column.
pub fn compare(
    plant: &Plant,
    kind: Kind,
    file: &File,
    remove: Option<Option<Uuid>>,
    check: &dyn SourceCheck,
    new_id: &mut dyn FnMut() -> Uuid,
    watch: &mut dyn FnMut(f64) -> bool,
) -> Result<Plan, NoPlan> {
    let known = Known::of(plant);
    let mut wrong = Vec::new();
    let mut lines = HashMap::new();
    let mut rows: Vec<Row> = Vec::with_capacity(file.rows.len());
    for (line, cells) in &file.rows {
        if wrong.len() >= MOST_SHOWN {
            break;
        }
        let cell = |key: &str| cells.iter().find(|c| &*c.0 == key).map(|c| c.1.clone());
        let mut tell = |column: &str, message: String| wrong.push(Wrong { line: *line, column: column.into(), message });
        let given = cell(ID).filter(|id| !id.trim().is_empty());
        let id = match given.map(|text| Uuid::parse_str(text.trim())) {
            Some(Err(_)) => {
                tell(ID, "This is no id; leave it empty for a new row.".into());
                continue;
            }
            Some(Ok(id)) if plant.kind_of(id).is_some_and(|k| k != kind) => {
                tell(ID, "This id belongs to something else.".into());
                continue;
            }
            Some(Ok(id)) => id,
            None => known.find(kind, &cell).unwrap_or_else(&mut *new_id),
        };
        if let Some(before) = lines.insert(id, *line) {
            tell(ID, format!("This is the same item as on line {before}."));
            continue;
        }
        let written = |(column, text): &(Arc<str>, String)| Written { column: column.to_string(), text: text.clone(), was: None };
        let cells = cells.iter().filter(|c| &*c.0 != ID).map(written).collect();
        rows.push(Row { id, fresh: plant.own(kind, id).is_none(), cells });
    }
    if !wrong.is_empty() {
        return Err(NoPlan::Wrong(wrong));
    }
    let line_of = |row: usize| rows.get(row).and_then(|r| lines.get(&r.id)).copied().unwrap_or(0);
    let told = |troubles: Vec<Trouble>| {
        let wrong = |t: Trouble| Wrong { line: line_of(t.row), column: t.column, message: t.message };
        if troubles.is_empty() { NoPlan::Cancelled } else { NoPlan::Wrong(troubles.into_iter().map(wrong).collect()) }
    };
    let planned = table::plan_watched(plant, kind, &rows, new_id, &mut |done| watch(READ * done as f64 / rows.len() as f64))
        .map_err(told)?;
    let mut edits: Vec<Edit> = planned.iter().map(|e| e.edit.clone()).collect();
    if let Some(under) = remove {
        let mut gone: Vec<Uuid> = items(plant, kind, under).into_iter().filter(|id| !lines.contains_key(id)).collect();
        if kind == Kind::Place {
            gone = copy::tops(plant, &gone);
            // What the file keeps must not go with a place that it leaves out.
            let above = |id: Uuid| gone.iter().find(|&&top| plant.lies_under(id, top));
            let held = rows.iter().find_map(|r| Some((r.id, plant.title(kind, *above(r.id)?))));
            if let Some((id, title)) = held {
                let message = format!("“{title}” is not in the file, but this place under it is.");
                let line = lines.get(&id).copied().unwrap_or(0);
                return Err(NoPlan::Wrong(vec![Wrong { line, column: String::new(), message }]));
            }
        }
        let delete = |id| Edit { kind, id, op: Op::Delete { contents: true }, seen: Some(plant.revision) };
        edits.extend(gone.into_iter().map(delete));
    }
    if edits.len() > edit::MOST_EDITS {
        let message = format!("{} items would change; at most {} do at once. Take it in parts.", edits.len(), edit::MOST_EDITS);
        return Err(NoPlan::Wrong(Wrong::whole(message)));
    }
    let named: Vec<Uuid> = edits.iter().map(|edit| edit.id).collect();
    let columns: HashSet<&str> = file.rows.iter().flat_map(|r| r.1.iter().map(|c| &*c.0)).collect();
    let refused = |problems: Vec<edit::Problem>| {
        // What is to go has no row of its own.
        let (rest, own): (Vec<_>, Vec<_>) = problems.into_iter().partition(|p| p.edit >= planned.len());
        let mut wrong = match told(table::troubles(kind, &rows, &planned, own)) {
            NoPlan::Wrong(wrong) => wrong,
            NoPlan::Cancelled => Vec::new(),
        };
        let gone = |p: edit::Problem| {
            let message = format!("“{}” is not in the file: {}", plant.title(kind, named[p.edit]), p.message);
            Wrong { line: 0, column: String::new(), message }
        };
        wrong.extend(rest.into_iter().map(gone));
        NoPlan::Wrong(wrong)
    };
    let mut watch = |share: f64| watch(READ + (1.0 - READ) * share);
    let cells = |next: &Plant, change: &Change| {
        if change.kind != kind {
            return None;
        }
        let side = |plant: &Plant| plant.own(kind, change.id).map(|_| table::cells(plant, kind, change.id));
        let (before, after) = (side(plant), side(next));
        let of = |cells: &Option<Vec<String>>, i: usize| cells.as_ref().map_or_else(String::new, |c| c[i].clone());
        let all = table::columns(kind).iter().enumerate().filter(|(_, c)| columns.contains(c.key) || after.is_none());
        let cells = all.map(|(i, c)| (c.key.to_owned(), of(&before, i), of(&after, i)));
        Some(cells.filter(|(_, before, after)| before != after).collect())
    };
    let mut plan = tried(plant, edits, check, &cells, &mut watch)?.map_err(refused)?;
    plan.unchanged = rows.len() - planned.iter().map(|e| e.row).collect::<HashSet<_>>().len();
    Ok(plan)
}

/// The cells of a difference; `None` where the fields themselves are to be shown.
type Cells<'a> = dyn Fn(&Plant, &Change) -> Option<Vec<(String, String, String)>> + 'a;

/// Tries edits and tells what they would do, or inside every reason why they would be refused. `watch` hears how far it is,
/// from 0 to 1, and says whether to go on.
///
/// # Errors
/// When it was told to stop.
pub fn tried(
    plant: &Plant,
    edits: Vec<Edit>,
    check: &dyn SourceCheck,
    cells: &Cells<'_>,
    watch: &mut dyn FnMut(f64) -> bool,
) -> Result<Result<Plan, Vec<edit::Problem>>, NoPlan> {
    let mut plan = Plan { revision: plant.revision, ..Plan::default() };
    let (next, changes) = match edit::apply_watched(plant, &edits, check, || 0, watch) {
        Ok(applied) => applied,
        Err(problems) if problems.is_empty() => return Err(NoPlan::Cancelled),
        Err(problems) => return Ok(Err(problems)),
    };
    plan.edits = edits;
    let outcome = |change: &Change| match (&change.before, &change.after) {
        (_, None) => Outcome::Removed,
        (None, _) => Outcome::Added,
        _ => Outcome::Changed,
    };
    for change in &changes {
        *plan.counts.entry((outcome(change), change.kind)).or_default() += 1;
    }
    let mut shown: Vec<&Change> = changes.iter().collect();
    shown.sort_by_key(|c| outcome(c));
    for change in shown.into_iter().take(MOST_SHOWN) {
        let outcome = outcome(change);
        let title =
            if outcome == Outcome::Added { next.title(change.kind, change.id) } else { plant.title(change.kind, change.id) };
        let cells = cells(&next, change).unwrap_or_else(|| fields(change));
        plan.differences.push(Difference { outcome, kind: change.kind, title, cells });
    }
    Ok(Ok(plan))
}

/// The fields of a change as they are stored.
fn fields(change: &Change) -> Vec<(String, String, String)> {
    let text = |own: &Option<havrel_core::plant::Own>, field: &str| {
        let value = own.as_ref().and_then(|o| o.get(field)).filter(|v| !v.is_null());
        value.map_or_else(String::new, |v| v.as_str().map_or_else(|| secret::masked(v.clone()).to_string(), str::to_owned))
    };
    let mut names: Vec<&String> = [&change.before, &change.after].into_iter().flatten().flat_map(|o| o.keys()).collect();
    names.sort();
    names.dedup();
    names.into_iter().map(|n| (n.clone(), text(&change.before, n), text(&change.after, n))).collect()
}

#[cfg(test)]
mod tests;
