//! The tables of a report with every value as what it is, once for every format that programs read.

use crate::{
    listing::{Cell, Listing},
    tables,
};
use havrel_core::{
    number::Number,
    report::{Document, Held, Named, Part, Tabled},
};

/// A table, what its section is called, and what is to be said below it.
pub(crate) struct Grid {
    pub name: &'static str,
    pub listing: Listing,
    pub note: String,
}

/// What every format says of a report before its sections.
pub(crate) fn facts(document: &Document) -> Vec<(&'static str, Cell)> {
    vec![
        ("Report", document.title.as_str().into()),
        ("Place", document.place.as_str().into()),
        ("From", Cell::Time(document.from)),
        ("To", Cell::Time(document.to)),
        ("Complete until", Cell::Time(document.complete_until)),
        ("Made at", Cell::Time(document.made_at)),
        ("Made by", document.made_by.as_str().into()),
    ]
}

/// The tables of a section; texts and pictures have none.
pub(crate) fn of(part: &Part) -> Vec<Grid> {
    let grid = |name, listing| Grid { name, listing, note: String::new() };
    match part {
        Part::Text(_) | Part::Trend(_) => Vec::new(),
        Part::Values(rows) => {
            let mut listing = Listing::with(["Place", "Tag", "Unit", "Value", "Since", "Doubt"]);
            listing.rows = rows.iter().map(|(tag, held)| value_row(tag, held)).collect();
            vec![grid("Values", listing)]
        }
        Part::Table(table) => vec![Grid { name: "Table", listing: spans(table), note: table.note.clone() }],
        Part::Summary(rows) => {
            let mut listing = Listing::with([
                "Place", "Tag", "Unit", "Average", "Minimum", "Maximum", "First", "Last", "Samples", "Good", "By hand",
            ]);
            for (tag, s) in rows {
                let mut row = named(tag);
                row.push(s.average.map_or(Cell::Nothing, |average| Cell::Figure {
                    number: average.into(),
                    decimals: tag.decimals,
                    rounded: s.is_average_rounded(),
                }));
                row.extend([s.minimum, s.maximum, s.first, s.last].map(|number| Cell::figure(number, tag.decimals)));
                row.extend([Cell::Number(s.count.into()), Cell::Share(s.good), Cell::Share(s.by_hand)]);
                listing.rows.push(row);
            }
            vec![grid("Statistics", listing)]
        }
        Part::AlarmFigures(of) => {
            let frequent = tables::frequent(of);
            let mut rules = Listing { head: frequent.head.iter().map(|(name, _)| name.to_string()).collect(), rows: Vec::new() };
            for (row, (_, _, of)) in frequent.rows.into_iter().zip(&of.rules) {
                let numbers = [f64::from(of.priority), of.count as f64, of.chattering as f64];
                let minutes = of.standing as f64 / 60e9;
                let texts = row.into_iter().take(2).map(Cell::from);
                let stood = Cell::Figure { number: minutes.into(), decimals: 0, rounded: false };
                rules.rows.push(texts.chain(numbers.map(|number| Cell::Number(number.into()))).chain([stood]).collect());
            }
            let figures = tables::figures(of);
            let head = figures.head.iter().map(|(name, _)| name.to_string()).collect();
            let rows = figures.rows.into_iter().map(|row| row.into_iter().map(Cell::from).collect()).collect();
            vec![grid("Alarm performance", Listing { head, rows }), grid("Most frequent alarms", rules)]
        }
        Part::LoopChecks(points) => {
            let mut listing = Listing::with(["Place", "Tag", "Unit", "Source", "Loop check", "When", "Who", "Seen"]);
            for row in &points.rows {
                let last = row.last.as_ref();
                let mut cells = named(&row.tag);
                cells.extend([row.source.as_str().into(), tables::proof(row).into(), Cell::time(last.map(|check| check.at))]);
                cells.push(last.map_or(Cell::Nothing, |check| check.actor.as_str().into()));
                cells.push(last.map_or(Cell::Nothing, |check| tables::seen(check, &row.tag).into()));
                listing.rows.push(cells);
            }
            let more = format!("{} more points are not listed here.", points.more);
            vec![Grid { name: "Loop checks", listing, note: if points.more > 0 { more } else { String::new() } }]
        }
        Part::Alarms(events) => {
            let mut listing = Listing::with(["Time", "Place", "Alarm", "Event", "Priority", "Who", "Comment"]);
            for (event, place) in events {
                let texts = [place.as_str(), &event.text, &event.words()].map(Cell::from);
                let behind =
                    [Cell::Number(f64::from(event.priority).into()), event.actor.as_str().into(), event.comment.as_str().into()];
                listing.rows.push([Cell::Time(event.occurred_at)].into_iter().chain(texts).chain(behind).collect());
            }
            vec![grid("Alarms", listing)]
        }
    }
}

/// A row for each span, and what stands below the columns.
fn spans(table: &Tabled) -> Listing {
    let mut listing = Listing::with(["From", "To"]);
    listing.head.extend(table.tags.iter().map(|(tag, _)| tables::head_of(tag)));
    for row in &table.rows {
        let cells = table.tags.iter().zip(&row.cells).map(|((tag, names), cell)| match cell {
            Some((number, _)) if tables::state(names, *number).is_some() => {
                tables::state(names, *number).unwrap_or_default().into()
            }
            Some((number, rounded)) => Cell::Figure { number: *number, decimals: tables::digits(table, tag), rounded: *rounded },
            None => Cell::Nothing,
        });
        listing.rows.push([Cell::Time(row.from), Cell::Time(row.to)].into_iter().chain(cells).collect());
    }
    for (below, numbers) in &table.below {
        let cells = table
            .tags
            .iter()
            .zip(numbers)
            .map(|((tag, _), number)| Cell::figure(number.map(Number::Float), tables::digits(table, tag)));
        listing.rows.push([below.words().into(), Cell::Nothing].into_iter().chain(cells).collect());
    }
    listing
}

fn named(tag: &Named) -> Vec<Cell> {
    [&tag.path, &tag.name, &tag.unit].map(|text| text.as_str().into()).to_vec()
}

fn value_row(tag: &Named, held: &Held) -> Vec<Cell> {
    let mut row = named(tag);
    row.push(match held.number {
        Some(_) => Cell::figure(held.number, tag.decimals),
        None => held.value.as_str().into(),
    });
    row.extend([Cell::time(held.since), held.doubt.into()]);
    row
}
