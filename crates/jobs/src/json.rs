//! A report as JSON (RFC 8259): its facts, and its sections in their order. Pictures are left out.

use crate::grids;
use havrel_core::report::{Document, Part};
use serde_json::{Map, Value as Json, json};

/// Prints a report. Times are RFC 3339 in UTC; a number that JSON's readers would shorten is a text.
pub fn print(document: &Document) -> String {
    let name = |name: &str| name.to_lowercase().replace(' ', "_");
    let mut whole: Map<String, Json> =
        grids::facts(document).into_iter().map(|(fact, value)| (name(fact), value.json())).collect();
    let mut sections = Vec::new();
    for part in &document.parts {
        if let Part::Text(text) = part {
            sections.push(json!({"text": text}));
        }
        for grid in grids::of(part) {
            let rows: Vec<Json> = grid.listing.rows.iter().map(|row| row.iter().map(|cell| cell.json()).collect()).collect();
            let mut table = json!({"table": grid.name, "columns": grid.listing.head, "rows": rows});
            if !grid.note.is_empty() {
                table["note"] = grid.note.into();
            }
            sections.push(table);
        }
    }
    whole.insert("sections".into(), sections.into());
    Json::Object(whole).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::workbook;
    use havrel_core::{
        history::Span,
        number::Number,
        report::{Held, Named},
    };

    #[test]
    fn numbers_keep_their_digits_and_texts_their_place() {
        let tag = Named { path: "EX-1".into(), name: "Level".into(), unit: "%".into(), decimals: 1 };
        let span = Span {
            from: 0,
            to: 1,
            average: Some(12.345678),
            minimum: Some(Number::Above(u64::MAX)),
            maximum: None,
            first: None,
            last: Some(13.0.into()),
            sum: None,
            count: 3,
            good: 0.5,
            by_hand: 0.0,
        };
        let held = Held { value: "Running".into(), since: Some(60_000_000_000), ..Held::default() };
        let document = Document {
            title: "Shift".into(),
            place: "Works/EX-1".into(),
            from: 0,
            to: 60_000_000_000,
            complete_until: 0,
            made_at: 0,
            made_by: "Shift lead".into(),
            zone: "UTC".into(),
            label: None,
            parts: vec![
                Part::Text("Hello".into()),
                Part::Trend(Vec::new()),
                Part::Summary(vec![(tag.clone(), span)]),
                Part::Values(vec![(tag, held)]),
            ],
        };
        let read: Json = serde_json::from_str(&print(&document)).unwrap();
        assert_eq!(
            (&read["report"], &read["from"], &read["made_by"]),
            (&json!("Shift"), &json!("1970-01-01T00:00:00Z"), &json!("Shift lead"))
        );
        assert_eq!(read["sections"][0], json!({"text": "Hello"}));
        let row = json!(["EX-1", "Level", "%", 12.345678, "18446744073709551615", null, null, 13.0, 3.0, 0.5, 0.0]);
        assert_eq!(read["sections"][1]["rows"][0], row);
        assert_eq!(read["sections"][2]["rows"][0], json!(["EX-1", "Level", "%", "Running", "1970-01-01T00:01:00Z", ""]));
        assert_eq!(read["sections"].as_array().unwrap().len(), 3);
        assert!(workbook::print(&document).unwrap().starts_with(b"PK"), "it is a package (ECMA-376, part 2)");
    }
}
