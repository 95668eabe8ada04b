//! A report as CSV (RFC 4180): its tables one below the other. Texts and pictures are left out.

use crate::grids;
use havrel_core::report::Document;

/// Prints a report. Times are RFC 3339 in UTC.
///
/// # Errors
/// Never for what [`crate::gather::gather`] makes; the writer's own failure is passed on.
pub fn print(document: &Document) -> Result<String, csv::Error> {
    let mut out = csv::WriterBuilder::new().flexible(true).terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    for (name, value) in grids::facts(document) {
        out.write_record([name, &value.plain()])?;
    }
    for grid in document.parts.iter().flat_map(grids::of) {
        out.write_record([""])?;
        grid.listing.write_csv(&mut out)?;
        if !grid.note.is_empty() {
            out.write_record([grid.note])?;
        }
    }
    let bytes = out.into_inner().map_err(|e| e.into_error())?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::{
        history::Span,
        report::{Named, Part},
    };

    #[test]
    fn numbers_are_printed_as_everywhere_and_formulas_are_harmless() {
        let tag = Named { path: "Extraction/EX-1".into(), name: "=cmd()".into(), unit: "%".into(), decimals: 1 };
        let span = Span {
            from: 0,
            to: 1,
            average: Some(12.34),
            minimum: Some((-1.0).into()),
            maximum: None,
            first: None,
            last: Some(13.0.into()),
            sum: None,
            count: 3,
            good: 0.5,
            by_hand: 0.25,
        };
        let document = Document {
            title: "Shift, early".into(),
            place: String::new(),
            from: 0,
            to: 60_000_000_000,
            complete_until: 0,
            made_at: 0,
            made_by: "Shift lead".into(),
            zone: "UTC".into(),
            label: None,
            parts: vec![Part::Text("left out".into()), Part::Summary(vec![(tag, span)])],
        };
        let text = print(&document).unwrap();
        assert!(text.starts_with("Report,\"Shift, early\"\r\n"), "{text}");
        assert!(text.contains("Extraction/EX-1,'=cmd(),%,12.3,-1.0,,,13.0,3,50.0 %,25.0 %\r\n"), "{text}");
        assert!(!text.contains("left out"));
    }
}
