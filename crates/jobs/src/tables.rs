//! The tables of a report in words and figures, once for every format that is read by people.

use havrel_core::{
    alarm::{
        AlarmEvent,
        performance::{Grade, Measure, OfRule, Performance},
    },
    history::{Figure, Span},
    number::Number,
    plant::{loop_check::LoopCheck, report::Below},
    report::{AlarmFigures, Held, Named, PointRow, Points, Spanned, Tabled, number},
    time::{Nanos, SECOND, to_local, to_wall},
};
use serde_json::Value as Json;
use std::borrow::Cow;

/// A table ready to be printed.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Table {
    /// Names of the columns, and whether they are aligned to the right.
    pub head: Vec<(Cow<'static, str>, bool)>,
    pub rows: Vec<Vec<String>>,
}

/// Stands where a table of alarms would be empty.
pub(crate) const NO_ALARMS: &str = "No alarms in this period.";

/// Statistics, one row each tag.
pub(crate) fn summary(rows: &[(Named, Span)]) -> Table {
    let names = ["Average", "Minimum", "Maximum", "First", "Last", "Samples", "Good"];
    let mut head: Vec<(Cow<'static, str>, bool)> = ["Place", "Tag", "Unit"].map(|name| (name.into(), false)).to_vec();
    head.extend(names.map(|name| (name.into(), true)));
    // What somebody set by hand is seldom part of a period; where it is, nobody must miss it.
    let by_hand = rows.iter().any(|(_, span)| span.by_hand > 0.0);
    head.extend(by_hand.then_some(("By hand".into(), true)));
    let row = |(tag, span): &(Named, Span)| {
        let mut row = vec![tag.path.clone(), tag.name.clone(), tag.unit.clone()];
        row.push(average(span, tag.decimals).unwrap_or_else(|| "–".into()));
        let values = [span.minimum, span.maximum, span.first, span.last];
        row.extend(values.map(|value| number(value, tag.decimals)));
        row.extend([span.count.to_string(), format!("{:.1} %", span.good * 100.0)]);
        row.extend(by_hand.then(|| format!("{:.1} %", span.by_hand * 100.0)));
        row
    };
    Table { head, rows: rows.iter().map(row).collect() }
}

/// The average of a span, marked where the numbers are too large for it to be exact.
pub(crate) fn average(span: &Span, decimals: u8) -> Option<String> {
    let mark = if span.is_average_rounded() { "≈ " } else { "" };
    span.average.map(|average| format!("{mark}{}", number(Some(average), decimals)))
}

/// What tags were at the end, one row each.
pub(crate) fn values(rows: &[(Named, Held)], zone: &str) -> Table {
    let names = ["Place", "Tag", "Value", "Unit", "Since"];
    let row = |(tag, held): &(Named, Held)| {
        let since = held.since.map_or_else(String::new, |at| to_local(at, zone));
        vec![tag.path.clone(), tag.name.clone(), worded(held), tag.unit.clone(), since]
    };
    Table { head: names.map(|name| (name.into(), name == "Value")).to_vec(), rows: rows.iter().map(row).collect() }
}

/// Most tags that stand beside each other on a page.
const BESIDE: usize = 6;

/// One figure of tags, a row each span; as many tables as it takes for the columns to fit on a page.
pub(crate) fn spans(table: &Tabled, zone: &str) -> Vec<Table> {
    // Where all spans begin with a day, the days say enough.
    let midnight = |at: Nanos| to_wall(at, zone).ends_with("T00:00:00.000");
    let length = if table.rows.iter().skip(1).all(|row| midnight(row.from)) { 10 } else { 16 };
    let begin = |at: Nanos| to_wall(at, zone).replace('T', " ").chars().take(length).collect::<String>();
    let mut tables = Vec::new();
    for first in (0..table.tags.len()).step_by(BESIDE) {
        let some = first..table.tags.len().min(first + BESIDE);
        let tags = &table.tags[some.clone()];
        let mut head = vec![("From".into(), false)];
        head.extend(tags.iter().map(|(tag, _)| (head_of(tag).into(), true)));
        let row = |row: &Spanned| {
            let cells = tags.iter().zip(&row.cells[some.clone()]).map(|((tag, names), cell)| match cell {
                Some((value, rounded)) => state(names, *value).unwrap_or_else(|| {
                    format!("{}{}", if *rounded { "≈ " } else { "" }, number(Some(*value), digits(table, tag)))
                }),
                None => "–".into(),
            });
            std::iter::once(begin(row.from)).chain(cells).collect()
        };
        let below = |(below, numbers): &(Below, Vec<Option<f64>>)| {
            let cells = tags.iter().zip(&numbers[some.clone()]).map(|((tag, _), value)| number(*value, digits(table, tag)));
            std::iter::once(below.words().to_owned()).chain(cells).collect()
        };
        let rows = table.rows.iter().map(row).chain(table.below.iter().map(below)).collect();
        tables.push(Table { head, rows });
    }
    tables
}

/// What a table is called that shows one figure.
pub(crate) fn called(table: &Tabled) -> String {
    let words = table.figure.words();
    format!("{}{} of each span", words[..1].to_uppercase(), &words[1..])
}

/// The head of a tag's column.
pub(crate) fn head_of(tag: &Named) -> String {
    let name = format!("{} {}", tag.path, tag.name);
    if tag.unit.is_empty() { name.trim().to_owned() } else { format!("{}, {}", name.trim(), tag.unit) }
}

/// The digits of a figure of a tag.
pub(crate) fn digits(table: &Tabled, tag: &Named) -> u8 {
    match table.figure {
        Figure::Count => 0,
        Figure::Good => 1,
        _ => tag.decimals,
    }
}

/// The name of a state, where the number is one.
pub(crate) fn state(names: &[(i64, String)], number: Number) -> Option<String> {
    names.iter().find(|(value, _)| Number::from(*value) == number).map(|(_, name)| name.clone())
}

/// The same in two columns, for a label.
pub(crate) fn pairs(rows: &[(Named, Held)]) -> Vec<(String, String)> {
    rows.iter().map(|(tag, held)| (tag.name.clone(), format!("{} {}", worded(held), tag.unit).trim_end().to_owned())).collect()
}

fn worded(held: &Held) -> String {
    match (held.value.as_str(), held.doubt) {
        ("", "") => "–".into(),
        ("", doubt) => doubt.into(),
        (value, "") => value.into(),
        (value, doubt) => format!("{value} ({doubt})"),
    }
}

/// How many points are proven so far, in words.
pub(crate) fn proofs(points: &Points) -> String {
    let counts: Vec<String> =
        points.counts.iter().filter(|(_, count)| *count > 0).map(|(proof, count)| format!("{count} {}", proof.words())).collect();
    let all: usize = points.counts.iter().map(|(_, count)| count).sum();
    let more = if points.more > 0 { format!(" {} more are not listed here.", points.more) } else { String::new() };
    match all {
        0 => "No point here is read from a device.".into(),
        _ => format!("{all} points: {}.{more}", counts.join(", ")),
    }
}

/// How far points are proven, one row each.
pub(crate) fn points(points: &Points, zone: &str) -> Table {
    let names = ["Place", "Tag", "Source", "Loop check", "When", "Who", "Seen"];
    let row = |row: &PointRow| {
        let last = row.last.as_ref();
        vec![
            row.tag.path.clone(),
            row.tag.name.clone(),
            row.source.clone(),
            proof(row),
            last.map_or_else(String::new, |check| to_local(check.at, zone)),
            last.map_or_else(String::new, |check| check.actor.clone()),
            last.map_or_else(String::new, |check| seen(check, &row.tag)),
        ]
    };
    Table { head: names.map(|name| (name.into(), false)).to_vec(), rows: points.rows.iter().map(row).collect() }
}

/// How far a point is proven, with what changed since.
pub(crate) fn proof(row: &PointRow) -> String {
    let remark = row.last.as_ref().map_or("", |check| check.remark.as_str());
    match (row.changed.as_slice(), remark) {
        ([], "") => row.proof.words().into(),
        ([], remark) => format!("{}: {remark}", row.proof.words()),
        (changed, _) => format!("{} ({})", row.proof.words(), changed.join(", ")),
    }
}

/// What was seen during a check: the span of the values, and the largest deviation from what was applied.
pub(crate) fn seen(check: &LoopCheck, tag: &Named) -> String {
    let Some(value) = &check.seen.value else { return "no value".into() };
    let print = |json: &Json| match json.as_f64() {
        Some(value) => number(Some(value), tag.decimals),
        None => json.as_str().map_or_else(|| json.to_string(), str::to_owned),
    };
    let span = match value.lowest.is_null() {
        true => format!("{} to {}", print(&value.first), print(&value.last)),
        false => format!("{} to {} {}", print(&value.lowest), print(&value.highest), tag.unit).trim_end().to_owned(),
    };
    let largest = check.seen.steps.iter().filter_map(|step| step.deviation).max_by(|a, b| a.abs().total_cmp(&b.abs()));
    match largest {
        Some(by) => format!("{span}, {} off at most", number(Some(by), tag.decimals.saturating_add(1))),
        None => span,
    }
}

/// How well alarms served, one row each figure that the guides have one for.
pub(crate) fn figures(of: &AlarmFigures) -> Table {
    let names = [("For one operator", false), ("Here", true), ("Guide", false), ("Outcome", false)];
    let row = |(measure, value, grade): (Measure, f64, Grade)| {
        vec![measure.title().to_owned(), measure.print(value), measure.guide().to_owned(), grade.words().to_owned()]
    };
    Table {
        head: names.map(|(name, right)| (name.into(), right)).to_vec(),
        rows: of.performance.figures().into_iter().map(row).collect(),
    }
}

/// The rules whose alarms came most often, one row each.
pub(crate) fn frequent(of: &AlarmFigures) -> Table {
    let names = ["Place", "Alarm", "Priority", "Came", "Chattering", "Stood, min"];
    let row = |(place, called, of): &(String, String, OfRule)| {
        let stood = of.standing as f64 / (60 * SECOND) as f64;
        let numbers = [of.priority.to_string(), of.count.to_string(), of.chattering.to_string(), format!("{stood:.0}")];
        [place.clone(), called.clone()].into_iter().chain(numbers).collect()
    };
    let head = names.map(|name| (name.into(), !matches!(name, "Place" | "Alarm"))).to_vec();
    Table { head, rows: of.rules.iter().map(row).collect() }
}

/// What was counted, in words.
pub(crate) fn counted(of: &AlarmFigures, zone: &str) -> String {
    let Performance { count, floods, flooded, .. } = &of.performance;
    let plural = |count: usize, one: &str| if count == 1 { format!("1 {one}") } else { format!("{count} {one}s") };
    let mut words = format!("{} came from {} on", plural(*count, "alarm"), to_local(of.from, zone));
    if !floods.is_empty() {
        words += &format!(", {} of {:.0} min together", plural(floods.len(), "flood"), *flooded as f64 / (60 * SECOND) as f64);
    }
    if of.unknown > 0 {
        words += &format!(
            "; nothing was recorded for {:.0} min, which the averages leave out",
            of.unknown as f64 / (60 * SECOND) as f64
        );
    }
    words + "."
}

/// What alarms did, one row each event.
pub(crate) fn alarms(events: &[(AlarmEvent, String)], zone: &str) -> Table {
    let names = ["Time", "Place", "Alarm", "Event", "Priority", "Who"];
    let row = |(event, place): &(AlarmEvent, String)| {
        let comment = if event.comment.is_empty() { String::new() } else { format!(": {}", event.comment) };
        vec![
            to_local(event.occurred_at, zone),
            place.clone(),
            event.text.clone(),
            event.words(),
            event.priority.to_string(),
            format!("{}{comment}", event.actor),
        ]
    };
    Table { head: names.map(|name| (name.into(), name == "Priority")).to_vec(), rows: events.iter().map(row).collect() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::grids;
    use havrel_core::{report::Part, time::from_text};

    fn tag(name: &str, unit: &str) -> (Named, Vec<(i64, String)>) {
        (Named { path: "EX-1".into(), name: name.into(), unit: unit.into(), decimals: 1 }, Vec::new())
    }

    /// Eight tags over two spans, of which the first begins within a day.
    fn tabled() -> Tabled {
        let at = |text: &str| from_text(text).unwrap();
        let tags = (1..=8).map(|n| tag(&format!("Flow {n}"), "kg/h")).collect();
        let cells = |by: f64| (1..=8).map(|n| (n != 2).then_some((Number::Float(by * f64::from(n)), n == 3))).collect();
        let days = ["2026-11-28T12:00:00Z", "2026-11-28T23:00:00Z", "2026-11-29T23:00:00Z"].map(at);
        let rows = vec![
            Spanned { from: days[0], to: days[1], cells: cells(1.0) },
            Spanned { from: days[1], to: days[2], cells: cells(2.0) },
        ];
        let sums = (1..=8).map(|n| (n != 2).then_some(3.0 * f64::from(n))).collect();
        Tabled { figure: Figure::Average, tags, rows, below: vec![(Below::Sum, sums)], note: "More.".into() }
    }

    #[test]
    fn as_many_columns_stand_beside_each_other_as_a_page_has_room_for() {
        let tables = spans(&tabled(), "Europe/Oslo");
        assert_eq!(tables.iter().map(|table| table.head.len()).collect::<Vec<_>>(), [7, 3]);
        assert_eq!(tables[1].head[1], ("EX-1 Flow 7, kg/h".into(), true));
        // All but the first begin at midnight by the clocks of the zone.
        assert_eq!(tables[0].rows[0][..4], ["2026-11-28", "1.0", "–", "≈ 3.0"]);
        assert_eq!(tables[1].rows, [["2026-11-28", "7.0", "8.0"], ["2026-11-29", "14.0", "16.0"], ["Sum", "21.0", "24.0"]]);
        let hours = spans(&tabled(), "UTC");
        assert_eq!(hours[0].rows[1][0], "2026-11-28 23:00");
        assert_eq!(called(&tabled()), "Average of each span");
    }

    #[test]
    fn programs_read_the_same_numbers_and_states_have_names() {
        let grid = grids::of(&Part::Table(tabled())).remove(0);
        assert_eq!(
            (grid.listing.head.len(), grid.listing.head[2].as_str(), grid.note.as_str()),
            (10, "EX-1 Flow 1, kg/h", "More.")
        );
        let plain = |row: usize| grid.listing.rows[row].iter().map(|cell| cell.plain()).collect::<Vec<_>>();
        assert_eq!(plain(1)[..5], ["2026-11-28T23:00:00Z", "2026-11-29T23:00:00Z", "2.0", "", "≈ 6.0"]);
        assert_eq!(plain(2)[..4], ["Sum", "", "3.0", ""]);
        let mut last = tabled();
        last.figure = Figure::Last;
        last.tags[0].1 = vec![(1, "open".into()), (2, "closed".into())];
        assert_eq!(spans(&last, "UTC")[0].rows[0][1], "open");
        assert_eq!(grids::of(&Part::Table(last)).remove(0).listing.rows[1][2].plain(), "closed");
    }
}
