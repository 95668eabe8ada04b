//! A lookup as a file of any length, written row by row: CSV (RFC 4180), JSON (RFC 8259), JSON line by line (one object each), workbook
//! (Office Open XML, ECMA-376) and Apache Parquet.

use super::{
    Row,
    cells::{cell, head},
};
use crate::listing::Cell;
use havrel_core::{
    lookup::{Column, Entry, Table, What},
    number::Number,
    plant::Plant,
    time::{Nanos, to_text},
};
use parquet::{
    basic::{LogicalType, Repetition, TimeUnit, Type as Physical},
    data_type::{ByteArray, ByteArrayType, DoubleType, Int64Type},
    file::{properties::WriterProperties, writer::SerializedFileWriter},
    schema::types::Type,
};
use rust_xlsxwriter::{Format, Workbook};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json, json};
use std::{io::Write, sync::Arc};

/// Most rows of a sheet of a workbook beside its head.
const SHEET: u32 = 1_048_575;
/// Most cells of a workbook.
const MOST_CELLS: u64 = 20_000_000;
/// Rows that a Parquet file keeps together.
const GROUP: usize = 50_000;

/// How a lookup is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Made {
    Csv,
    Json,
    Ndjson,
    Xlsx,
    Parquet,
}

impl Made {
    pub const ALL: [Made; 5] = [Made::Csv, Made::Json, Made::Ndjson, Made::Xlsx, Made::Parquet];

    /// Its name, which is also the ending of its files.
    pub const fn name(self) -> &'static str {
        match self {
            Made::Csv => "csv",
            Made::Json => "json",
            Made::Ndjson => "ndjson",
            Made::Xlsx => "xlsx",
            Made::Parquet => "parquet",
        }
    }

    /// Reads the name.
    pub fn from_name(name: &str) -> Option<Made> {
        Made::ALL.into_iter().find(|made| made.name() == name)
    }

    /// Its media type.
    pub const fn media(self) -> &'static str {
        match self {
            Made::Csv => "text/csv; charset=utf-8",
            Made::Json => "application/json",
            Made::Ndjson => "application/x-ndjson",
            Made::Xlsx => "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
            Made::Parquet => "application/vnd.apache.parquet",
        }
    }
}

/// Why a lookup could not be written.
#[derive(Debug, thiserror::Error)]
pub enum NotWritten {
    #[error("A workbook has room for 1,048,575 rows, and there are more. Choose a shorter period, longer spans, or CSV.")]
    TooLong,
    #[error("A workbook of more than 20 million cells is of no use. Choose a shorter period, fewer columns, or CSV.")]
    TooLarge,
    #[error("“{column}” holds {value}, which a number of a Parquet file cannot hold exactly. Choose CSV or JSON.")]
    NotExact { column: String, value: String },
    #[error(
        "“{column}” holds the text “{value}” among numbers, for which a column of a Parquet file has no room. Choose CSV or JSON."
    )]
    TextAmongNumbers { column: String, value: String },
    #[error("The file could not be written: {0}.")]
    Disk(#[from] std::io::Error),
    #[error("The file could not be written: {0}.")]
    Other(String),
}

impl From<csv::Error> for NotWritten {
    fn from(error: csv::Error) -> NotWritten {
        NotWritten::Other(error.to_string())
    }
}

impl From<rust_xlsxwriter::XlsxError> for NotWritten {
    fn from(error: rust_xlsxwriter::XlsxError) -> NotWritten {
        NotWritten::Other(error.to_string())
    }
}

impl From<parquet::errors::ParquetError> for NotWritten {
    fn from(error: parquet::errors::ParquetError) -> NotWritten {
        NotWritten::Other(error.to_string())
    }
}

/// A file that is being written.
pub struct LookupFile<W: Write + Send> {
    plant: Arc<Plant>,
    table: Arc<Table>,
    rows: u64,
    out: Out<W>,
}

enum Out<W: Write + Send> {
    Csv(Box<csv::Writer<W>>),
    Json(W),
    Ndjson(W, Vec<String>),
    Xlsx(W, Box<Workbook>),
    Parquet(Box<SerializedFileWriter<W>>, Vec<Filled>),
}

/// What programs are told of the columns of a lookup.
pub fn columns_json(table: &Table) -> Json {
    let column = |column: &Column| json!({"title": column.title, "unit": column.unit});
    table.columns.iter().map(column).collect()
}

impl<W: Write + Send> LookupFile<W> {
    /// Begins a file.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn begin(made: Made, mut out: W, plant: Arc<Plant>, table: Arc<Table>) -> Result<LookupFile<W>, NotWritten> {
        let out = match made {
            Made::Csv => {
                let mut out = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(out);
                out.write_record(head(&table).into_iter().map(|name| Cell::Text(name).plain()))?;
                Out::Csv(Box::new(out))
            }
            Made::Json => {
                let facts = json!({"from": to_text(table.from), "to": to_text(table.to), "columns": columns_json(&table)});
                let text = facts.to_string();
                out.write_all(text.trim_end_matches('}').as_bytes())?;
                out.write_all(b",\"rows\":[")?;
                Out::Json(out)
            }
            Made::Ndjson => Out::Ndjson(out, table.columns.iter().map(|column| column.title.clone()).collect()),
            Made::Xlsx => {
                let mut book = Workbook::new();
                // Each row leaves memory when the next one begins.
                let sheet = book.add_worksheet_with_constant_memory()?;
                sheet.set_name("Lookup")?;
                sheet.set_freeze_panes(1, 0)?;
                let bold = Format::new().set_bold();
                for (column, name) in (0..).zip(head(&table)) {
                    let width = if name == "Time" || name == "From" || name == "To" { 24 } else { name.chars().count() + 1 };
                    sheet.set_column_width(column, width.clamp(8, 48) as f64)?;
                    sheet.write_with_format(0, column, &name, &bold)?;
                }
                Out::Xlsx(out, Box::new(book))
            }
            Made::Parquet => {
                let filled: Vec<Filled> = table.columns.iter().flat_map(|column| Filled::of(&plant, &table, column)).collect();
                let fields = filled.iter().map(|column| column.field().map(Arc::new)).collect::<Result<_, _>>()?;
                let schema = Type::group_type_builder("lookup").with_fields(fields).build()?;
                let properties = WriterProperties::builder().set_compression(parquet::basic::Compression::SNAPPY).build();
                Out::Parquet(Box::new(SerializedFileWriter::new(out, Arc::new(schema), Arc::new(properties))?), filled)
            }
        };
        Ok(LookupFile { plant, table, rows: 0, out })
    }

    /// How many rows it has so far.
    pub fn rows(&self) -> u64 {
        self.rows
    }

    /// Hands on what was written so far, as far as the format allows.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn flush(&mut self) -> Result<(), NotWritten> {
        match &mut self.out {
            Out::Csv(out) => out.flush()?,
            Out::Json(out) | Out::Ndjson(out, _) => out.flush()?,
            Out::Xlsx(..) | Out::Parquet(..) => {}
        }
        Ok(())
    }

    /// Writes rows.
    ///
    /// # Errors
    /// When they have no room in the format, or the file cannot be written.
    pub fn write(&mut self, rows: &[Row]) -> Result<(), NotWritten> {
        let (plant, table) = (self.plant.clone(), self.table.clone());
        let cells = |row: &Row| -> Vec<Cell> {
            let all = table.columns.iter().zip(&row.entries);
            all.map(|(column, entry)| cell(&plant, &table, column, column.tag.or(row.tag), entry)).collect()
        };
        for row in rows {
            match &mut self.out {
                Out::Csv(out) => out.write_record(cells(row).iter().map(Cell::plain))?,
                Out::Json(out) => {
                    if self.rows > 0 {
                        out.write_all(b",")?;
                    }
                    let cells: Vec<Json> = cells(row).iter().map(Cell::json).collect();
                    serde_json::to_writer(&mut *out, &cells).map_err(std::io::Error::from)?;
                }
                Out::Ndjson(out, names) => {
                    let cells = cells(row);
                    let object: Map<String, Json> = names.iter().cloned().zip(cells.iter().map(Cell::json)).collect();
                    serde_json::to_writer(&mut *out, &object).map_err(std::io::Error::from)?;
                    out.write_all(b"\n")?;
                }
                Out::Xlsx(_, book) => {
                    let line = u32::try_from(self.rows).ok().filter(|line| *line < SHEET).ok_or(NotWritten::TooLong)? + 1;
                    if self.rows * table.columns.len() as u64 > MOST_CELLS {
                        return Err(NotWritten::TooLarge);
                    }
                    let sheet = book.worksheet_from_index(0)?;
                    for (column, cell) in (0..).zip(cells(row)) {
                        cell.write(sheet, line, column, &table.lookup.zone)?;
                    }
                }
                Out::Parquet(out, filled) => {
                    for column in filled.iter_mut() {
                        column.take(&plant, &table, row)?;
                    }
                    if filled.first().is_some_and(|column| column.present.len() >= GROUP) {
                        flush(out, filled)?;
                    }
                }
            }
            self.rows += 1;
        }
        Ok(())
    }

    /// Ends it.
    ///
    /// # Errors
    /// When it cannot be written.
    pub fn end(self) -> Result<W, NotWritten> {
        match self.out {
            Out::Csv(out) => out.into_inner().map_err(|e| NotWritten::Disk(e.into_error())),
            Out::Json(mut out) => {
                out.write_all(b"]}")?;
                Ok(out)
            }
            Out::Ndjson(out, _) => Ok(out),
            Out::Xlsx(mut out, mut book) => {
                // A workbook is written from its end to its beginning, so it comes as a whole.
                out.write_all(&book.save_to_buffer()?)?;
                Ok(out)
            }
            Out::Parquet(mut out, mut filled) => {
                flush(&mut out, &mut filled)?;
                Ok(out.into_inner()?)
            }
        }
    }
}

/// A column of a Parquet file that is being filled.
struct Filled {
    name: String,
    /// The index of its column in the table.
    of: usize,
    /// Of a column that holds texts and numbers it takes the other part.
    values: Values,
    /// Whether each row has a value in it.
    present: Vec<i16>,
}

enum Values {
    Times(Vec<i64>),
    Numbers { all: Vec<f64>, texts_go_elsewhere: bool },
    Texts { all: Vec<ByteArray>, numbers_go_elsewhere: bool },
}

impl Filled {
    /// The columns that hold what stands in one of the table.
    fn of(plant: &Plant, table: &Table, column: &Column) -> Vec<Filled> {
        let of = table.columns.iter().position(|other| other.title == column.title).unwrap_or_default();
        let made = |name: String, values| Filled { name, of, values, present: Vec::new() };
        let title = head(table)[of].clone();
        let numbers = |elsewhere| Values::Numbers { all: Vec::new(), texts_go_elsewhere: elsewhere };
        let texts = |elsewhere| Values::Texts { all: Vec::new(), numbers_go_elsewhere: elsewhere };
        let tag = column.tag.and_then(|tag| table.tags.get(tag));
        let both = || vec![made(title.clone(), numbers(true)), made(format!("{title}, text"), texts(true))];
        match column.what {
            What::Time | What::To => vec![made(title, Values::Times(Vec::new()))],
            What::Tag | What::Unit | What::Quality | What::Marks => vec![made(title, texts(false))],
            // Of many tags some hold texts or have names for their states.
            What::Value if tag.is_none() => both(),
            What::Figure(figure) if figure.is_a_value() && tag.is_none() => both(),
            _ if column.states.is_some() => vec![made(title, texts(false))],
            What::Value if tag.is_some_and(|tag| tag.set.holds_text(plant) || plant.type_of(&tag.set) == "bool") => {
                vec![made(title, texts(false))]
            }
            _ => vec![made(title, numbers(false))],
        }
    }

    fn field(&self) -> Result<Type, parquet::errors::ParquetError> {
        let (physical, logical) = match &self.values {
            Values::Times(_) => (Physical::INT64, Some(LogicalType::timestamp(true, TimeUnit::NANOS))),
            Values::Numbers { .. } => (Physical::DOUBLE, None),
            Values::Texts { .. } => (Physical::BYTE_ARRAY, Some(LogicalType::String)),
        };
        let optional = Type::primitive_type_builder(&self.name, physical).with_repetition(Repetition::OPTIONAL);
        optional.with_logical_type(logical).build()
    }

    fn take(&mut self, plant: &Plant, table: &Table, row: &Row) -> Result<(), NotWritten> {
        let (column, entry) = (&table.columns[self.of], &row.entries[self.of]);
        let cell = cell(plant, table, column, column.tag.or(row.tag), entry);
        let named = || self.name.clone();
        let present = match (&mut self.values, &cell, entry) {
            (_, Cell::Nothing, _) => false,
            (Values::Times(all), _, Entry::Time(at)) => {
                all.push(*at as Nanos);
                true
            }
            (Values::Numbers { all, .. }, Cell::Number(number) | Cell::Figure { number, .. }, _) => match number {
                Number::Float(number) => {
                    all.push(*number);
                    true
                }
                large => return Err(NotWritten::NotExact { column: named(), value: large.shortest() }),
            },
            (Values::Numbers { texts_go_elsewhere: true, .. }, ..) => false,
            (Values::Numbers { .. }, other, _) => {
                return Err(NotWritten::TextAmongNumbers { column: named(), value: other.plain() });
            }
            (Values::Texts { numbers_go_elsewhere: true, .. }, Cell::Number(_) | Cell::Figure { .. }, _) => false,
            (Values::Texts { all, .. }, Cell::Text(text), _) => {
                all.push(text.as_str().into());
                true
            }
            (Values::Texts { all, .. }, other, _) => {
                all.push(other.plain().as_str().into());
                true
            }
            (Values::Times(_), ..) => false,
        };
        self.present.push(i16::from(present));
        Ok(())
    }
}

/// Writes the rows that were taken.
fn flush<W: Write + Send>(out: &mut SerializedFileWriter<W>, filled: &mut [Filled]) -> Result<(), NotWritten> {
    if filled.iter().all(|column| column.present.is_empty()) {
        return Ok(());
    }
    let mut group = out.next_row_group()?;
    for column in filled {
        let mut writer = group.next_column()?.ok_or_else(|| NotWritten::Other("a column is missing".into()))?;
        let present = Some(column.present.as_slice());
        match &mut column.values {
            Values::Times(all) => {
                writer.typed::<Int64Type>().write_batch(all, present, None)?;
                all.clear();
            }
            Values::Numbers { all, .. } => {
                writer.typed::<DoubleType>().write_batch(all, present, None)?;
                all.clear();
            }
            Values::Texts { all, .. } => {
                writer.typed::<ByteArrayType>().write_batch(all, present, None)?;
                all.clear();
            }
        }
        writer.close()?;
        column.present.clear();
    }
    group.close()?;
    Ok(())
}
