//! A report in every format at once, as it is kept.

use crate::{csv, html, json, press, workbook};
use havrel_core::report::Document;
use havrel_db::editions::Printed;

/// Prints a report in all its formats; the PDF is printed later from what it says on paper.
///
/// # Errors
/// Why one of them cannot be made, in a sentence.
pub fn print(document: &Document) -> Result<Printed, String> {
    Ok(Printed {
        html: html::print(document),
        csv: csv::print(document).map_err(|error| format!("The CSV could not be made: {error}."))?,
        json: json::print(document),
        xlsx: workbook::print(document).map_err(|error| format!("The workbook could not be made: {error}."))?,
        paper: press::paper(document).to_string(),
    })
}

/// The beginning of a report as plain text, for the body of a message: its facts and its first section, as far as that is text or a table.
pub fn in_words(paper: &str) -> String {
    let Ok(paper) = serde_json::from_str::<serde_json::Value>(paper) else { return String::new() };
    let text = |value: &serde_json::Value| value.as_str().unwrap_or_default().to_owned();
    let row = |value: &serde_json::Value, between: &str| {
        let cells = value.as_array().into_iter().flatten().map(|cell| text(cell.get(0).unwrap_or(cell)));
        cells.filter(|cell| !cell.is_empty()).collect::<Vec<_>>().join(between)
    };
    let mut lines: Vec<String> = paper["facts"].as_array().into_iter().flatten().map(|fact| row(fact, ": ")).collect();
    let first = &paper["parts"][0];
    if let Some(words) = first["text"].as_str() {
        lines.extend([String::new(), words.to_owned()]);
    }
    let rows = first["table"]["rows"].as_array().or_else(|| first["pairs"].as_array());
    if let Some(rows) = rows {
        lines.push(String::new());
        lines.extend(rows.iter().take(MOST_LINES).map(|one| row(one, "  ")));
        if rows.len() > MOST_LINES {
            lines.push(format!("… and {} more.", rows.len() - MOST_LINES));
        }
    }
    lines.join("\n")
}

/// Rows of a table that a message shows.
const MOST_LINES: usize = 20;

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    #[rstest]
    #[case(json!([{"text": "Hello"}, {"text": "left out"}]), "Place: EX-1\n\nHello")]
    #[case(json!([{"table": {"head": [["Tag", false], ["Value", true]], "rows": [["Level", "12.3", ""]]}}]), "Place: EX-1\n\nLevel  12.3")]
    #[case(json!([{"pairs": [["Lot", "KX-1"]]}]), "Place: EX-1\n\nLot  KX-1")]
    #[case(json!([{"picture": {"title": "Level", "svg": "<svg/>"}}]), "Place: EX-1")]
    #[case(json!([]), "Place: EX-1")]
    fn a_message_begins_like_the_report(#[case] parts: Json, #[case] expected: &str) {
        assert_eq!(in_words(&json!({"facts": [["Place", "EX-1"]], "parts": parts}).to_string()), expected);
        assert_eq!(in_words("{"), "");
    }
}
