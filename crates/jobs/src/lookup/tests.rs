//! Files of lookups hold the same in every format, exactly or not at all.

use super::{
    LookupFile, Made, NotWritten, Row,
    cells::{cell, head},
};
use crate::listing::Cell;
use havrel_core::{
    lookup::{Entry, Lookup, Table},
    plant::{Kind, Plant, Stored},
    sample::Value,
    time::{Nanos, SECOND},
};
use parquet::{
    file::reader::{FileReader, SerializedFileReader},
    record::Field,
};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Value as Json, json};
use std::sync::Arc;
use uuid::Uuid;

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

/// A level, a valve with states, and a text.
fn plant() -> Arc<Plant> {
    let item = |kind, n: u128, own: Json| {
        let own = own.as_object().unwrap().clone();
        Stored { kind, id: id(n), no: n as u32, revision: 1, own }
    };
    let names = json!({"name": "Valve", "states": [{"value": 0, "name": "closed"}, {"value": 1, "name": "open"}]});
    let (plant, broken) = Plant::from_stored(
        1,
        vec![
            item(Kind::Place, 1, json!({"name": "EX-1"})),
            item(Kind::States, 2, names),
            item(Kind::Connection, 3, json!({"name": "Held", "kind": "memory"})),
            item(Kind::Tag, 10, json!({"name": "Level", "place": id(1), "unit": "%"})),
            item(Kind::Tag, 11, json!({"name": "Valve", "place": id(1), "states": id(2)})),
            item(Kind::Tag, 12, json!({"name": "Batch", "place": id(1), "connection": id(3), "point": {"type": "text"}})),
        ],
    );
    assert_eq!(broken, []);
    Arc::new(plant)
}

fn table(plant: &Plant, shape: &str) -> Arc<Table> {
    let lookup = json!({"tags": [id(10), id(11), id(12)], "period": {"last_s": 60.0}, "shape": shape});
    let lookup: Lookup = serde_json::from_value(lookup).unwrap();
    Arc::new(Table::of(plant, lookup, 1_000 * SECOND).unwrap())
}

fn row(at: Nanos, entries: [Entry; 3]) -> Row {
    Row { tag: None, entries: std::iter::once(Entry::Time(at)).chain(entries).collect() }
}

fn rows() -> Vec<Row> {
    let value = |value: Value| Entry::Value(value);
    vec![
        row(1, [value(Value::F32(12.1)), value(Value::U64(1)), value(Value::Text("=B-7".into()))]),
        row(2, [Entry::Nothing, value(Value::Bool(false)), Entry::Nothing]),
        row(3, [value(Value::F64(0.1 + 0.2)), value(Value::I64(7)), Entry::Nothing]),
    ]
}

fn written(made: Made, shape: &str, rows: &[Row]) -> Result<Vec<u8>, NotWritten> {
    let plant = plant();
    let table = table(&plant, shape);
    let mut file = LookupFile::begin(made, Vec::new(), plant, table)?;
    rows.iter().try_for_each(|row| file.write(std::slice::from_ref(row)))?;
    assert_eq!(file.rows(), rows.len() as u64);
    file.end()
}

/// What a Parquet file holds, by row.
fn read(bytes: Vec<u8>) -> Vec<Vec<(String, Field)>> {
    let reader = SerializedFileReader::new(bytes::Bytes::from(bytes)).unwrap();
    let rows = reader.get_row_iter(None).unwrap();
    rows.map(|row| row.unwrap().get_column_iter().map(|(name, field)| (name.clone(), field.clone())).collect()).collect()
}

#[test]
fn numbers_have_the_digits_with_which_they_were_stored_and_states_their_names() {
    let text = String::from_utf8(written(Made::Csv, "wide", &rows()).unwrap()).unwrap();
    assert_eq!(
        text,
        "Time,\"EX-1/Level, %\",EX-1/Valve,EX-1/Batch\r\n\
         1970-01-01T00:00:00.000000001Z,12.1,open,'=B-7\r\n\
         1970-01-01T00:00:00.000000002Z,,closed,\r\n\
         1970-01-01T00:00:00.000000003Z,0.30000000000000004,7,\r\n"
    );
    let json: Json = serde_json::from_slice(&written(Made::Json, "wide", &rows()).unwrap()).unwrap();
    assert_eq!(json["rows"][0], json!(["1970-01-01T00:00:00.000000001Z", 12.1, "open", "=B-7"]));
    assert_eq!(json["rows"][1], json!(["1970-01-01T00:00:00.000000002Z", null, "closed", null]));
    let none = written(Made::Json, "wide", &[]).unwrap();
    assert_eq!(serde_json::from_slice::<Json>(&none).unwrap()["rows"], json!([]));
    assert!(written(Made::Xlsx, "wide", &rows()).unwrap().starts_with(b"PK"), "it is a package (ECMA-376, part 2)");
}

#[test]
fn a_parquet_file_is_read_back_as_it_was() {
    let rows = read(written(Made::Parquet, "wide", &rows()).unwrap());
    let named = |name: &str, field: Field| (name.to_owned(), field);
    assert_eq!(
        rows[0][1..],
        [
            named("EX-1/Level, %", Field::Double(12.1)),
            named("EX-1/Valve", Field::Str("open".into())),
            named("EX-1/Batch", Field::Str("=B-7".into())),
        ]
    );
    assert_eq!((&rows[1][1].1, &rows[2][2].1), (&Field::Null, &Field::Str("7".into())));
    assert_eq!(read(written(Made::Parquet, "wide", &[]).unwrap()), Vec::<Vec<(String, Field)>>::new());
}

#[rstest]
#[case(Value::U64(9_007_199_254_740_993), "cannot hold exactly")]
#[case(Value::Text("high".into()), "among numbers")]
fn a_parquet_file_refuses_what_it_has_no_room_for(#[case] value: Value, #[case] words: &str) {
    let odd = [row(1, [Entry::Value(value.clone()), Entry::Nothing, Entry::Nothing])];
    let error = written(Made::Parquet, "wide", &odd).unwrap_err().to_string();
    assert!(error.contains(words) && error.contains("EX-1/Level"), "{error}");
    // CSV takes it with all its digits.
    assert!(String::from_utf8(written(Made::Csv, "wide", &odd).unwrap()).unwrap().contains(&value.text()));
}

#[test]
fn of_many_tags_numbers_and_texts_have_columns_of_their_own() {
    let plant = plant();
    let table = table(&plant, "long");
    assert_eq!(head(&table), ["Time", "Tag", "Value", "Unit", "Quality", "Marks"]);
    let texts = |tag: &str| [tag, "", "", "good", ""].map(|text| Entry::Text(text.into()));
    let of = |tag: usize, value: Value| {
        let mut entries = vec![Entry::Time(1)];
        entries.extend(texts("EX-1"));
        entries[2] = Entry::Value(value);
        Row { tag: Some(tag), entries }
    };
    let rows = [of(0, Value::F64(4.5)), of(1, Value::U64(1)), of(2, Value::Text("B-7".into()))];
    assert_eq!(cell(&plant, &table, &table.columns[2], Some(1), &rows[1].entries[2]), Cell::Text("open".into()));
    let read = read(written(Made::Parquet, "long", &rows).unwrap());
    let values: Vec<_> = read.iter().map(|row| (row[2].1.clone(), row[3].1.clone())).collect();
    let text = |text: &str| Field::Str(text.into());
    assert_eq!(values, [(Field::Double(4.5), Field::Null), (Field::Null, text("open")), (Field::Null, text("B-7"))]);
}

#[test]
fn a_figure_that_is_a_value_has_the_name_of_its_state_in_every_layout() {
    let plant = plant();
    let rows = json!({"of": "spans", "every": {"count": 1, "unit": "hour"}, "figures": ["average", "last"]});
    let lookup = json!({"tags": [id(11)], "period": {"last_s": 60.0}, "shape": "long", "rows": rows});
    let table = Arc::new(Table::of(&plant, serde_json::from_value(lookup).unwrap(), 1_000 * SECOND).unwrap());
    assert_eq!(head(&table), ["From", "To", "Tag", "Average", "Last", "Unit"]);
    let number = || Entry::Number(1.0.into());
    let text = |text: &str| Entry::Text(text.into());
    let entries = vec![Entry::Time(1), Entry::Time(2), text("EX-1/Valve"), number(), number(), text("")];
    let row = [Row { tag: Some(0), entries }];
    let written = |made: Made| {
        let mut file = LookupFile::begin(made, Vec::new(), plant.clone(), table.clone()).unwrap();
        file.write(&row).unwrap();
        file.end().unwrap()
    };
    assert!(String::from_utf8(written(Made::Csv)).unwrap().ends_with(",EX-1/Valve,1,open,\r\n"));
    let read = read(written(Made::Parquet));
    let fields: Vec<Field> = read[0][3..6].iter().map(|(_, field)| field.clone()).collect();
    assert_eq!(fields, [Field::Double(1.0), Field::Null, Field::Str("open".into())]);
}

proptest! {
    #[test]
    fn every_format_holds_the_same_numbers(all in prop::collection::vec(prop::option::of(any::<f64>()), 0..50)) {
        let entry = |n: &Option<f64>| n.filter(|n| n.is_finite()).map_or(Entry::Nothing, |n| Entry::Value(Value::F64(n)));
        let rows: Vec<Row> = (1..).zip(&all).map(|(at, n)| row(at, [entry(n), Entry::Nothing, Entry::Nothing])).collect();
        let wanted: Vec<Option<f64>> = all.into_iter().map(|n| n.filter(|n| n.is_finite())).collect();
        let csv = String::from_utf8(written(Made::Csv, "wide", &rows).unwrap()).unwrap();
        let lines: Vec<Option<f64>> = csv.lines().skip(1).map(|line| line.split(',').nth(1).unwrap().parse().ok()).collect();
        let parquet: Vec<Option<f64>> = read(written(Made::Parquet, "wide", &rows).unwrap())
            .iter().map(|row| if let Field::Double(n) = row[1].1 { Some(n) } else { None }).collect();
        // The reader of JSON that is at hand rounds the last digit, so the digits are read here.
        let objects = String::from_utf8(written(Made::Ndjson, "wide", &rows).unwrap()).unwrap();
        let digits = |line: &str| line.split("\"EX-1/Level\":").nth(1).unwrap().split(',').next().unwrap().parse().ok();
        let objects: Vec<Option<f64>> = objects.lines().map(digits).collect();
        prop_assert_eq!(&lines, &wanted);
        prop_assert_eq!(&parquet, &wanted);
        prop_assert_eq!(&objects, &wanted);
    }
}
