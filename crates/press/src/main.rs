//! `havrel-press`: a document as JSON on standard input, a PDF on standard output. Nothing else is read or written.
//!
//! ```text
//! { "title": "Shift summary", "facts": [["Period", "…"]], "made_at": 1763892000,
//!   "label": null | [width, height] in mm,
//!   "parts": [ {"text": "…"}, {"heading": "…"}, {"note": "…"}, {"pairs": [["Level", "56.2 %"]]},
//!              {"table": {"head": [["Tag", false], ["Average", true]], "rows": [["Level", "56.2"]]}},
//!              {"picture": {"title": "…", "svg": "<svg …>"}} ] }
//! ```
//!
//! `true` beside a column's name aligns it to the right. The head of a table is repeated on every page it reaches.

use serde::Deserialize;
use std::{
    error::Error,
    io::{self, Read, Write},
};
use typst::foundations::{Bytes, Datetime, Smart};
use typst_as_lib::TypstEngine;
use typst_layout::PagedDocument;
use typst_pdf::{PdfOptions, Timestamp};

const TEMPLATE: &str = include_str!("document.typ");
const FONTS: [&[u8]; 4] = [
    include_bytes!("../fonts/next-regular.ttf"),
    include_bytes!("../fonts/next-bold.ttf"),
    include_bytes!("../fonts/next-ext-regular.ttf"),
    include_bytes!("../fonts/mono-regular.ttf"),
];

/// Most bytes of a document.
const MOST: u64 = 32 << 20;
/// Seconds of computing, and bytes of memory, that one document may take.
const SECONDS: u64 = 60;
const MEMORY: u64 = 2 << 30;

/// What of the document this program must know; the template reads the rest.
#[derive(Deserialize)]
struct Known {
    /// Seconds since 1970: stands in the PDF, so that the same document gives the same bytes.
    #[serde(default)]
    made_at: i64,
}

fn main() -> Result<(), Box<dyn Error>> {
    // A document that would take more ends this program, and nobody else.
    rlimit::Resource::CPU.set(SECONDS, SECONDS)?;
    rlimit::Resource::AS.set(MEMORY, MEMORY)?;
    let mut json = Vec::new();
    io::stdin().lock().take(MOST + 1).read_to_end(&mut json)?;
    if json.len() as u64 > MOST {
        return Err(format!("the document has more than {MOST} bytes").into());
    }
    let pdf = print(json)?;
    io::stdout().lock().write_all(&pdf)?;
    Ok(())
}

/// Sets a document and gives the PDF.
fn print(json: Vec<u8>) -> Result<Vec<u8>, Box<dyn Error>> {
    let known: Known = serde_json::from_slice(&json)?;
    let engine = TypstEngine::builder()
        .main_file(TEMPLATE)
        .fonts(FONTS)
        .with_static_file_resolver([("document.json", Bytes::new(json))])
        .build();
    let document: PagedDocument = engine.compile().output?;
    let timestamp = datetime(known.made_at).map(Timestamp::new_utc);
    let options = PdfOptions { creator: Smart::Custom(Some("Havrel".into())), timestamp, ..PdfOptions::default() };
    typst_pdf::pdf(&document, &options).map_err(|errors| format!("{errors:?}").into())
}

/// A date and time of day from seconds since 1970 (days to civil date after H. Hinnant, “chrono-compatible low-level date
/// algorithms”).
fn datetime(seconds: i64) -> Option<Datetime> {
    let (days, rest) = (seconds.div_euclid(86_400) + 719_468, seconds.rem_euclid(86_400));
    let (era, day_of_era) = (days.div_euclid(146_097), days.rem_euclid(146_097));
    let year_of_era = (day_of_era - day_of_era / 1460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * shifted + 2) / 5 + 1;
    let month = if shifted < 10 { shifted + 3 } else { shifted - 9 };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    Datetime::from_ymd_hms(
        i32::try_from(year).ok()?,
        month as u8,
        day as u8,
        (rest / 3600) as u8,
        (rest / 60 % 60) as u8,
        (rest % 60) as u8,
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn printed(document: serde_json::Value) -> Vec<u8> {
        print(document.to_string().into_bytes()).unwrap()
    }

    fn pages(pdf: &[u8]) -> usize {
        let text = String::from_utf8_lossy(pdf);
        text.matches("/Type /Page").count() + text.matches("/Type/Page").count()
            - text.matches("/Type /Pages").count()
            - text.matches("/Type/Pages").count()
    }

    #[test]
    fn a_long_table_goes_over_pages_and_the_same_document_gives_the_same_bytes() {
        let rows: Vec<_> = (0..200).map(|n| json!([format!("Tag {n}"), n.to_string()])).collect();
        let document = json!({"title": "Shift", "facts": [["Period", "today"]], "made_at": 1_763_892_000, "label": null,
            "parts": [{"table": {"head": [["Tag", false], ["Average", true]], "rows": rows}}]});
        let pdf = printed(document.clone());
        assert!(pdf.starts_with(b"%PDF-"));
        assert!(pages(&pdf) >= 3, "{}", pages(&pdf));
        assert_eq!(pdf, printed(document));
    }

    #[test]
    fn what_people_typed_is_text_and_nothing_else() {
        let hostile = "#read(\"/etc/passwd\") $x$ *b* <l> @r \\ [ ] { }";
        let svg = "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 9 9\"><path d=\"M0 0L9 9\" stroke=\"black\"/></svg>";
        let parts =
            json!([{"text": hostile}, {"heading": hostile}, {"note": hostile}, {"picture": {"title": hostile, "svg": svg}}]);
        printed(json!({"title": hostile, "facts": [[hostile, hostile]], "label": null, "parts": parts}));
    }

    #[test]
    fn a_label_has_its_own_size() {
        let pdf = printed(
            json!({"title": "KX-2611-0184", "facts": [], "label": [80, 50], "parts": [{"text": "MV"}, {"pairs": [["pH", "8.91"], ["Level", "56.2 %"]]}]}),
        );
        let text = String::from_utf8_lossy(&pdf);
        assert!(text.contains("226.77"), "80 mm are 226.77 points");
        assert_eq!(pages(&pdf), 1);
    }

    #[test]
    fn nonsense_is_refused() {
        assert!(print(b"[".to_vec()).is_err());
        assert!(print(b"{\"title\": \"x\"}".to_vec()).is_err());
    }

    #[test]
    fn days_are_counted_right() {
        let shown = |s| datetime(s).map(|d| (d.year(), d.month(), d.day(), d.hour()));
        assert_eq!(shown(0), Some((Some(1970), Some(1), Some(1), Some(0))));
        assert_eq!(shown(1_763_892_000), Some((Some(2025), Some(11), Some(23), Some(10))));
        assert_eq!(shown(951_782_400), Some((Some(2000), Some(2), Some(29), Some(0))));
    }
}
