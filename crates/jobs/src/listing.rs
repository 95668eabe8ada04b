//! A list as a file: rows of texts, numbers and times, as CSV (RFC 4180) or as a workbook (Office Open XML, ECMA-376).

use crate::sheet::harmless;
use havrel_core::{
    number::Number,
    time::{Nanos, to_text, to_wall},
};
use rust_xlsxwriter::{ExcelDateTime, Format, Workbook, Worksheet, XlsxError};
use serde_json::{Value as Json, json};

/// What stands in one cell.
#[derive(Clone, Debug, PartialEq)]
pub enum Cell {
    Text(String),
    /// A number with all its digits.
    Number(Number),
    /// A number as its tag prints it; `rounded`: it is not exact, and says so.
    Figure {
        number: Number,
        decimals: u8,
        rounded: bool,
    },
    /// A part of a whole, from 0 to 1.
    Share(f64),
    Time(Nanos),
    Nothing,
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

impl Cell {
    /// A number as a tag prints it; nothing where there is none.
    pub fn figure(number: Option<Number>, decimals: u8) -> Cell {
        number.map_or(Cell::Nothing, |number| Cell::Figure { number, decimals, rounded: false })
    }

    /// A time; nothing where there is none.
    pub fn time(at: Option<Nanos>) -> Cell {
        at.map_or(Cell::Nothing, Cell::Time)
    }

    /// As CSV writes it. No spreadsheet runs a text of it.
    pub fn plain(&self) -> String {
        match self {
            Cell::Text(text) => harmless(text),
            Cell::Number(number) => number.shortest(),
            Cell::Figure { number, decimals, rounded } => {
                format!("{}{}", if *rounded { "≈ " } else { "" }, number.print(*decimals))
            }
            Cell::Share(share) => format!("{:.1} %", share * 100.0),
            Cell::Time(at) => to_text(*at),
            Cell::Nothing => String::new(),
        }
    }

    /// As JSON: numbers with all their digits, times as RFC 3339 in UTC, a share from 0 to 1.
    pub fn json(&self) -> Json {
        match self {
            Cell::Text(text) => json!(text),
            Cell::Share(share) => json!(share),
            Cell::Number(number) | Cell::Figure { number, .. } => number.to_json(),
            Cell::Time(at) => json!(to_text(*at)),
            Cell::Nothing => Json::Null,
        }
    }
}

impl Cell {
    /// Writes it into a sheet: a number that can be counted with, a time as a date, as clocks of `zone` show it, to the millisecond.
    pub(crate) fn write(&self, sheet: &mut Worksheet, line: u32, column: u16, zone: &str) -> Result<(), XlsxError> {
        match self {
            Cell::Text(text) => sheet.write_string(line, column, cut(text))?,
            // A workbook has no room for more digits than an f64.
            Cell::Number(number) if number.is_large() => sheet.write_string(line, column, number.shortest())?,
            Cell::Figure { number, decimals, .. } if number.is_large() => {
                sheet.write_string(line, column, number.print(*decimals))?
            }
            Cell::Number(number) if number.float().is_finite() => sheet.write_number(line, column, number.float())?,
            Cell::Figure { number, decimals, rounded } if number.float().is_finite() => {
                let format = Format::new().set_num_format(shown_with(*decimals, *rounded));
                sheet.write_number_with_format(line, column, number.float(), &format)?
            }
            Cell::Share(share) if share.is_finite() => {
                sheet.write_number_with_format(line, column, *share, &Format::new().set_num_format("0.0 %"))?
            }
            Cell::Number(_) | Cell::Figure { .. } | Cell::Share(_) | Cell::Nothing => sheet,
            Cell::Time(at) => match ExcelDateTime::parse_from_str(&to_wall(*at, zone)) {
                Ok(date) => {
                    let dated = Format::new().set_num_format("yyyy-mm-dd hh:mm:ss.000");
                    sheet.write_datetime_with_format(line, column, &date, &dated)?
                }
                // A workbook knows no dates before 1900.
                Err(_) => sheet.write_string(line, column, to_text(*at))?,
            },
        };
        Ok(())
    }
}

/// Columns with their names, and rows of as many cells.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Listing {
    pub head: Vec<String>,
    pub rows: Vec<Vec<Cell>>,
}

/// The longest text that a cell of a workbook holds, in UTF-16 units.
const LONGEST: usize = 32_767;
/// Widths of columns in a workbook, in characters.
const WIDEST: usize = 48;
const NARROWEST: usize = 8;

impl Listing {
    /// Columns with these names, and no rows yet.
    pub fn with<const N: usize>(head: [&str; N]) -> Listing {
        Listing { head: head.map(str::to_owned).to_vec(), rows: Vec::new() }
    }

    /// As CSV with lines ended by CR and LF; times in UTC with all their digits.
    pub fn csv(&self) -> Result<Vec<u8>, std::io::Error> {
        let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
        self.write_csv(&mut out)?;
        out.into_inner().map_err(|e| e.into_error())
    }

    /// Writes head and rows as CSV.
    pub(crate) fn write_csv(&self, out: &mut csv::Writer<Vec<u8>>) -> Result<(), csv::Error> {
        out.write_record(&self.head)?;
        self.rows.iter().try_for_each(|row| out.write_record(row.iter().map(Cell::plain)))
    }

    /// As a workbook of one sheet.
    ///
    /// # Errors
    /// As [`Listing::fill`].
    pub fn xlsx(&self, title: &str, zone: &str) -> Result<Vec<u8>, XlsxError> {
        let mut book = Workbook::new();
        self.fill(book.add_worksheet().set_name(title)?, zone)?;
        book.save_to_buffer()
    }

    /// Fills a sheet: numbers that can be counted with, and times as dates, as clocks of `zone` show them, to the millisecond.
    ///
    /// # Errors
    /// When there are more rows than a sheet holds (1,048,575).
    pub(crate) fn fill(&self, sheet: &mut Worksheet, zone: &str) -> Result<(), XlsxError> {
        let bold = Format::new().set_bold();
        for (column, name) in (0..).zip(&self.head) {
            sheet.write_with_format(0, column, name, &bold)?;
            let texts = self.rows.iter().take(1000).filter_map(|row| row.get(usize::from(column)));
            let widest = texts.map(|cell| cell.plain().chars().count()).chain([name.chars().count()]).max().unwrap_or_default();
            sheet.set_column_width(column, (widest + 1).clamp(NARROWEST, WIDEST) as f64)?;
        }
        for (line, row) in (1..).zip(&self.rows) {
            for (column, cell) in (0..).zip(row) {
                cell.write(sheet, line, column, zone)?;
            }
        }
        sheet.set_freeze_panes(1, 0)?;
        Ok(())
    }
}

/// How a workbook shows a number with so many decimals.
fn shown_with(decimals: u8, rounded: bool) -> String {
    let mark = if rounded { "\"≈ \"" } else { "" };
    let digits = if decimals == 0 { "0".to_owned() } else { format!("0.{}", "0".repeat(usize::from(decimals.min(20)))) };
    format!("{mark}{digits}")
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
        let row =
            vec![Cell::Time(1_796_000_000_123_000_000), "=cmd()".into(), Cell::Number(2.0.into()), Cell::Number(f64::NAN.into())];
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
