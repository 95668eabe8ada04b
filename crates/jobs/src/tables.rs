//! The tables of a report in words and figures, once for every format that is read by people.

use havrel_core::{
    alarm::AlarmEvent,
    history::Span,
    report::{Held, Named, number},
    time::to_local,
};

/// A table ready to be printed.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Table {
    /// Names of the columns, and whether they are aligned to the right.
    pub head: Vec<(&'static str, bool)>,
    pub rows: Vec<Vec<String>>,
}

/// Stands where a table of alarms would be empty.
pub(crate) const NO_ALARMS: &str = "No alarms in this period.";

/// Statistics, one row each tag.
pub(crate) fn summary(rows: &[(Named, Span)]) -> Table {
    let names = ["Average", "Minimum", "Maximum", "First", "Last", "Samples", "Good"];
    let mut head = vec![("Place", false), ("Tag", false), ("Unit", false)];
    head.extend(names.map(|name| (name, true)));
    // What somebody set by hand is seldom part of a period; where it is, nobody must miss it.
    let by_hand = rows.iter().any(|(_, span)| span.by_hand > 0.0);
    head.extend(by_hand.then_some(("By hand", true)));
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
    Table { head: names.map(|name| (name, name == "Value")).to_vec(), rows: rows.iter().map(row).collect() }
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

/// What alarms did, one row each event.
pub(crate) fn alarms(events: &[(AlarmEvent, String)], zone: &str) -> Table {
    let names = ["Time", "Place", "Alarm", "Event", "Priority", "Who"];
    let row = |(event, place): &(AlarmEvent, String)| {
        let comment = if event.comment.is_empty() { String::new() } else { format!(": {}", event.comment) };
        vec![
            to_local(event.occurred_at, zone),
            place.clone(),
            event.text.clone(),
            event.kind.words().to_owned(),
            event.priority.to_string(),
            format!("{}{comment}", event.actor),
        ]
    };
    Table { head: names.map(|name| (name, name == "Priority")).to_vec(), rows: events.iter().map(row).collect() }
}
