//! What the cells of a lookup are in a file: numbers with all their digits, and states by their names.

use crate::listing::Cell;
use havrel_core::{
    lookup::{Column, Entry, Table, What},
    plant::Plant,
    sample::Value,
};

/// The heads of the columns: names with their units.
pub fn head(table: &Table) -> Vec<String> {
    let with_unit = |column: &Column| match column.unit.as_str() {
        "" => column.title.clone(),
        unit => format!("{}, {unit}", column.title),
    };
    table.columns.iter().map(with_unit).collect()
}

/// One cell; `tag` is the one of the row where its column has none.
pub fn cell(plant: &Plant, table: &Table, column: &Column, tag: Option<usize>, entry: &Entry) -> Cell {
    match entry {
        Entry::Nothing => Cell::Nothing,
        Entry::Time(at) => Cell::Time(*at),
        Entry::Text(text) => Cell::Text(text.to_string()),
        Entry::Number(number) if matches!(column.what, What::Figure(figure) if figure.is_a_value()) => {
            named(plant, table, tag, &Value::F64(number.float())).unwrap_or(Cell::Number(*number))
        }
        Entry::Number(number) => Cell::Number(*number),
        Entry::Rounded(number) => Cell::Figure { number: (*number).into(), decimals: column.decimals, rounded: true },
        Entry::Value(Value::Text(text)) => Cell::Text(text.clone()),
        Entry::Value(value) => {
            named(plant, table, tag, value).or_else(|| value.shortest().map(Cell::Number)).unwrap_or(Cell::Nothing)
        }
    }
}

/// The name of the state that a value stands for; none where it is a quantity.
fn named(plant: &Plant, table: &Table, tag: Option<usize>, value: &Value) -> Option<Cell> {
    let tag = &table.tags.get(tag?)?.set;
    let name = plant.states_of(tag).and_then(|states| states.name_of(value.number()?));
    match (name, value) {
        (Some(name), _) => Some(Cell::Text(name.to_owned())),
        (None, Value::Bool(_)) => Some(Cell::Text(plant.print(tag, value))),
        _ => None,
    }
}
