//! Many pieces of equipment at once, from a sheet: a row for each, with the name, the place above, the class and what its
//! parameters are, as people write them.

use super::fill;
use crate::plant::{Edit, Kind, Op, Own, ParameterKind, Plant, pattern, table};
use serde_json::{Value as Json, json};
use std::collections::{BTreeMap, HashMap};
use uuid::Uuid;

/// A row of the sheet.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Row {
    pub name: String,
    /// The path of the place above; empty: at the top.
    pub place: String,
    pub class: Uuid,
    /// What stands in the columns of the parameters, by their ids.
    pub cells: BTreeMap<Uuid, String>,
}

/// Something wrong in a cell.
#[derive(Clone, Debug, PartialEq)]
pub struct Trouble {
    pub row: usize,
    /// `name`, `place`, `class` or the id of a parameter.
    pub column: String,
    pub message: String,
}

/// The rows that one row of patterns comes to.
///
/// # Errors
/// What is wrong with it, by column.
pub fn rows(pattern: &Row) -> Result<Vec<Row>, Vec<Trouble>> {
    let trouble = |column: &str, message: String| Trouble { row: 0, column: column.into(), message };
    let names = pattern::names(pattern.name.trim()).map_err(|words| vec![trouble("name", words)])?;
    let row = |name: &String| Row { name: name.clone(), ..pattern.clone() };
    let mut made: Vec<Row> = names.iter().map(row).collect();
    let mut wrong = Vec::new();
    match pattern::series(&pattern.place, names.len()) {
        Ok(places) => made.iter_mut().zip(places).for_each(|(row, place)| row.place = place),
        Err(words) => wrong.push(trouble("place", words)),
    }
    for (id, text) in &pattern.cells {
        match pattern::series(text, names.len()) {
            Ok(series) => made.iter_mut().zip(series).for_each(|(row, text)| drop(row.cells.insert(*id, text))),
            Err(words) => wrong.push(trouble(&id.to_string(), words)),
        }
    }
    if wrong.is_empty() { Ok(made) } else { Err(wrong) }
}

impl Plant {
    /// The edits that make a row's equipment, one for each row.
    ///
    /// # Errors
    /// Everything that is wrong, by cell.
    pub fn equipment(&self, rows: &[Row], mut new_id: impl FnMut() -> Uuid) -> Result<Vec<Edit>, Vec<Trouble>> {
        let mut wrong = Vec::new();
        let mut edits = Vec::with_capacity(rows.len());
        let places: HashMap<String, Uuid> = self.places.keys().map(|&id| (self.path(Some(id)), id)).collect();
        let connections: HashMap<&str, Uuid> = self.connections.values().map(|c| (c.set.name.as_str(), c.id)).collect();
        let mut behind: HashMap<Option<Uuid>, f64> = HashMap::new();
        for place in self.places.values() {
            let last = behind.entry(place.set.parent).or_default();
            *last = last.max(place.set.order);
        }
        for (index, row) in rows.iter().enumerate() {
            let mut trouble = |column: &str, message: String| wrong.push(Trouble { row: index, column: column.into(), message });
            let above = row.place.split('/').map(str::trim).collect::<Vec<_>>().join("/");
            let parent = places.get(&above).copied();
            if parent.is_none() && !above.is_empty() {
                trouble("place", format!("There is no place “{above}”."));
            }
            let Some(class) = self.classes.get(&row.class) else {
                trouble("class", "This class does not exist any more.".into());
                continue;
            };
            let mut parameters = Own::new();
            for (id, text) in &row.cells {
                let Some(parameter) = class.set.parameters.get(id).filter(|_| !text.trim().is_empty()) else { continue };
                let value = match parameter.kind {
                    ParameterKind::Text => Ok(Json::from(text.trim())),
                    ParameterKind::Number => table::number(text).map(|number| fill::number(number).unwrap_or_default()),
                    ParameterKind::Connection => {
                        let found = connections.get(text.trim()).map(|id| json!(id));
                        found.ok_or_else(|| format!("There is no connection “{}”.", text.trim()))
                    }
                };
                match value {
                    Ok(value) => drop(parameters.insert(id.to_string(), value)),
                    Err(words) => trouble(&id.to_string(), words),
                }
            }
            let order = behind.entry(parent).or_default();
            *order += 1.0;
            let set =
                json!({"name": row.name.trim(), "parent": parent, "class": row.class, "order": *order, "parameters": parameters});
            if let Json::Object(set) = set {
                edits.push(Edit { kind: Kind::Place, id: new_id(), op: Op::Create(set, None), seen: Some(self.revision) });
            }
        }
        if wrong.is_empty() { Ok(edits) } else { Err(wrong) }
    }
}
