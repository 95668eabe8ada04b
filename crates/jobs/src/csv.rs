//! A report as CSV (RFC 4180): its tables one below the other. Texts and pictures are left out.

use crate::{sheet::harmless, tables};
use havrel_core::{
    number::Number,
    report::{Document, Part},
    time::to_text,
};

/// Prints a report. Times are RFC 3339 in UTC.
///
/// # Errors
/// Never for what [`crate::gather::gather`] makes; the writer's own failure is passed on.
pub fn print(document: &Document) -> Result<String, csv::Error> {
    let mut out = csv::WriterBuilder::new().flexible(true).terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    for (name, value) in [
        ("Report", harmless(&document.title)),
        ("Place", harmless(&document.place)),
        ("From", to_text(document.from)),
        ("To", to_text(document.to)),
        ("Complete until", to_text(document.complete_until)),
        ("Made at", to_text(document.made_at)),
        ("Made by", harmless(&document.made_by)),
    ] {
        out.write_record([name, &value])?;
    }
    for part in &document.parts {
        match part {
            Part::Text(_) | Part::Trend(_) => {}
            Part::Values(rows) => {
                out.write_record([""])?;
                out.write_record(["Place", "Tag", "Unit", "Value", "Since", "Doubt"])?;
                for (tag, held) in rows {
                    let since = held.since.map(to_text).unwrap_or_default();
                    let value = harmless(&held.value);
                    out.write_record([
                        &harmless(&tag.path),
                        &harmless(&tag.name),
                        &harmless(&tag.unit),
                        &value,
                        &since,
                        held.doubt,
                    ])?;
                }
            }
            Part::Summary(rows) => {
                out.write_record([""])?;
                out.write_record([
                    "Place", "Tag", "Unit", "Average", "Minimum", "Maximum", "First", "Last", "Samples", "Good", "By hand",
                ])?;
                for (tag, s) in rows {
                    let print = |v: Option<Number>| v.map(|v| v.print(tag.decimals)).unwrap_or_default();
                    let numbers = [s.minimum, s.maximum, s.first, s.last].map(print);
                    let mut row = vec![harmless(&tag.path), harmless(&tag.name), harmless(&tag.unit)];
                    row.push(tables::average(s, tag.decimals).unwrap_or_default());
                    row.extend(numbers);
                    row.push(s.count.to_string());
                    row.extend([s.good, s.by_hand].map(|share| format!("{:.1} %", share * 100.0)));
                    out.write_record(row)?;
                }
            }
            Part::AlarmFigures(of) => {
                for table in [tables::figures(of), tables::frequent(of)] {
                    out.write_record([""])?;
                    out.write_record(table.head.iter().map(|(name, _)| *name))?;
                    for row in table.rows {
                        out.write_record(row.iter().map(|cell| harmless(cell)))?;
                    }
                }
            }
            Part::LoopChecks(points) => {
                out.write_record([""])?;
                out.write_record(["Place", "Tag", "Unit", "Source", "Loop check", "When", "Who", "Seen"])?;
                for row in &points.rows {
                    let last = row.last.as_ref();
                    out.write_record([
                        harmless(&row.tag.path),
                        harmless(&row.tag.name),
                        harmless(&row.tag.unit),
                        harmless(&row.source),
                        harmless(&tables::proof(row)),
                        last.map(|check| to_text(check.at)).unwrap_or_default(),
                        last.map(|check| harmless(&check.actor)).unwrap_or_default(),
                        last.map(|check| harmless(&tables::seen(check, &row.tag))).unwrap_or_default(),
                    ])?;
                }
                if points.more > 0 {
                    out.write_record([format!("{} more points are not listed here.", points.more)])?;
                }
            }
            Part::Alarms(events) => {
                out.write_record([""])?;
                out.write_record(["Time", "Place", "Alarm", "Event", "Priority", "Who", "Comment"])?;
                for (event, place) in events {
                    out.write_record([
                        to_text(event.occurred_at),
                        harmless(place),
                        harmless(&event.text),
                        event.words(),
                        event.priority.to_string(),
                        harmless(&event.actor),
                        harmless(&event.comment),
                    ])?;
                }
            }
        }
    }
    let bytes = out.into_inner().map_err(|e| e.into_error())?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::{history::Span, report::Named};

    #[test]
    fn numbers_are_printed_as_everywhere_and_formulas_are_harmless() {
        let tag = Named { path: "Extraction/EX-1".into(), name: "=cmd()".into(), unit: "%".into(), decimals: 1 };
        let span = Span {
            from: 0,
            to: 1,
            average: Some(12.34),
            minimum: Some((-1.0).into()),
            maximum: None,
            first: None,
            last: Some(13.0.into()),
            count: 3,
            good: 0.5,
            by_hand: 0.25,
        };
        let document = Document {
            title: "Shift, early".into(),
            place: String::new(),
            from: 0,
            to: 60_000_000_000,
            complete_until: 0,
            made_at: 0,
            made_by: "Shift lead".into(),
            zone: "UTC".into(),
            label: None,
            parts: vec![Part::Text("left out".into()), Part::Summary(vec![(tag, span)])],
        };
        let text = print(&document).unwrap();
        assert!(text.starts_with("Report,\"Shift, early\"\r\n"), "{text}");
        assert!(text.contains("Extraction/EX-1,'=cmd(),%,12.3,-1.0,,,13.0,3,50.0 %,25.0 %\r\n"), "{text}");
        assert!(!text.contains("left out"));
    }
}
