//! A report as a workbook (Office Open XML, ECMA-376): facts and texts on a first sheet, and a sheet for each table, with numbers that can
//! be counted with. Pictures are left out.

use crate::{
    grids,
    listing::{Cell, Listing},
};
use havrel_core::report::{Document, Part};
use rust_xlsxwriter::{Workbook, XlsxError};

/// Prints a report. Times are dates, as clocks of the report's zone show them, to the millisecond.
///
/// # Errors
/// When a table has more rows than a sheet holds (1,048,575).
pub fn print(document: &Document) -> Result<Vec<u8>, XlsxError> {
    let mut book = Workbook::new();
    let mut first = Listing::with(["Report", ""]);
    first.head[1].clone_from(&document.title);
    first.rows = grids::facts(document).into_iter().skip(1).map(|(name, value)| vec![name.into(), value]).collect();
    first.rows.push(vec!["Time zone".into(), document.zone.as_str().into()]);
    for part in &document.parts {
        if let Part::Text(text) = part {
            first.rows.extend(text.lines().map(|line| vec![Cell::Nothing, line.into()]));
        }
    }
    first.fill(book.add_worksheet().set_name("Report")?, &document.zone)?;
    for (number, mut grid) in (1..).zip(document.parts.iter().flat_map(grids::of)) {
        if !grid.note.is_empty() {
            grid.listing.rows.push(vec![grid.note.into()]);
        }
        grid.listing.fill(book.add_worksheet().set_name(format!("{number} {}", grid.name))?, &document.zone)?;
    }
    book.save_to_buffer()
}
