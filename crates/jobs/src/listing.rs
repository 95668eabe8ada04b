//! A list as a file: rows of texts, numbers and times, as CSV (RFC 4180) or as a workbook (Office Open XML, ECMA-376).

use crate::sheet::harmless;
use havrel_core::time::{Nanos, to_text, to_wall};
use rust_xlsxwriter::{ExcelDateTime, Format, Workbook, XlsxError};

/// What stands in one cell.
#[derive(Clone, Debug, PartialEq)]
pub enum Cell {
    Text(String),
    Number(f64),
    Time(Nanos),
}

impl From<String> for Cell {
    fn from(text: String) -> Cell {
        Cell::Text(text)
    }
}

impl From<&str> for Cell {
    fn from(text: &str) -> Cell {
        Cell::Text(text.to_owned())
    }
}

/// Columns with their names, and rows of as many cells.
#[derive(Clone, Debug, Default)]
pub struct Listing {
    pub head: Vec<String>,
    pub rows: Vec<Vec<Cell>>,
}

/// The longest text that a cell of a workbook holds, in UTF-16 units.
const LONGEST: usize = 32_767;

impl Listing {
    /// As CSV with lines ended by CR and LF; times in UTC with all their digits. No spreadsheet runs a text of it.
    pub fn csv(&self) -> Result<Vec<u8>, std::io::Error> {
        let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
        out.write_record(&self.head)?;
        for row in &self.rows {
            out.write_record(row.iter().map(|cell| match cell {
                Cell::Text(text) => harmless(text),
                Cell::Number(number) => number.to_string(),
                Cell::Time(at) => to_text(*at),
            }))?;
        }
        out.into_inner().map_err(|e| e.into_error())
    }

    /// As a workbook of one sheet: times as dates that can be counted with, as clocks of `zone` show them, to the millisecond.
    ///
    /// # Errors
    /// When there are more rows than a sheet holds (1,048,575).
    pub fn xlsx(&self, title: &str, zone: &str) -> Result<Vec<u8>, XlsxError> {
        let mut book = Workbook::new();
        let bold = Format::new().set_bold();
        let dated = Format::new().set_num_format("yyyy-mm-dd hh:mm:ss.000");
        let sheet = book.add_worksheet().set_name(title)?;
        for (column, name) in (0..).zip(&self.head) {
            sheet.write_with_format(0, column, name, &bold)?;
        }
        for (line, row) in (1..).zip(&self.rows) {
            for (column, cell) in (0..).zip(row) {
                match cell {
                    Cell::Text(text) => sheet.write_string(line, column, cut(text))?,
                    Cell::Number(number) if number.is_finite() => sheet.write_number(line, column, *number)?,
                    Cell::Number(_) => sheet.write_blank(line, column, &Format::new())?,
                    Cell::Time(at) => match ExcelDateTime::parse_from_str(&to_wall(*at, zone)) {
                        Ok(date) => sheet.write_datetime_with_format(line, column, &date, &dated)?,
                        // A workbook knows no dates before 1900.
                        Err(_) => sheet.write_string(line, column, to_text(*at))?,
                    },
                };
            }
        }
        let times = self.rows.first().into_iter().flatten().enumerate().filter(|(_, cell)| matches!(cell, Cell::Time(_)));
        for (column, _) in times {
            sheet.set_column_width(column as u16, 23)?;
        }
        sheet.set_freeze_panes(1, 0)?;
        book.save_to_buffer()
    }
}

/// As much of a text as a cell holds.
fn cut(text: &str) -> String {
    let mut left = LONGEST;
    let fits = |c: &char| {
        left = left.saturating_sub(c.len_utf16());
        left > 0
    };
    text.chars().take_while(fits).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn listing() -> Listing {
        let row = vec![Cell::Time(1_796_000_000_123_000_000), "=cmd()".into(), Cell::Number(2.0), Cell::Number(f64::NAN)];
        Listing { head: ["Time", "Text", "Priority", "Value"].map(str::to_owned).to_vec(), rows: vec![row] }
    }

    #[test]
    fn a_file_of_lines_says_times_exactly_and_runs_nothing() {
        let text = String::from_utf8(listing().csv().unwrap()).unwrap();
        assert_eq!(text, "Time,Text,Priority,Value\r\n2026-11-30T00:53:20.123Z,'=cmd(),2,NaN\r\n");
    }

    #[test]
    fn a_workbook_is_one() {
        let bytes = listing().xlsx("Alarm history", "Europe/Oslo").unwrap();
        assert!(bytes.starts_with(b"PK"), "it is a package (ECMA-376, part 2)");
        assert!(
            Listing { head: vec!["a".into()], rows: vec![vec!["x".repeat(40_000).as_str().into()]] }.xlsx("t", "UTC").is_ok()
        );
        let early = Listing { head: vec!["t".into()], rows: vec![vec![Cell::Time(i64::MIN)]] };
        assert!(early.xlsx("t", "UTC").is_ok());
    }
}
