//! A report as one HTML page that needs nothing else, for screen and paper.

use crate::{
    picture,
    tables::{self, Table},
};
use base64::prelude::{BASE64_STANDARD, Engine};
use havrel_core::{
    report::{Document, Part},
    time::to_local,
};
use maud::{DOCTYPE, Markup, html};
use std::sync::LazyLock;

const STYLE: &str = "/*fonts*/
body{font:14px/1.45 'Atkinson Hyperlegible Next','Atkinson Hyperlegible',system-ui,sans-serif;color:#17232d;background:#fdfcf8;max-width:52rem;margin:1.5rem auto;padding:0 1.25rem}
h1{font-size:1.5rem;margin:0}.soft{color:#55616b}table{border-collapse:collapse;width:100%;margin:1rem 0;font-size:11.5px}
th{text-align:left;font-weight:600;color:#55616b;border-bottom:1px solid #b9b29d}td{border-bottom:1px solid #dad5c6}
th,td{padding:.2rem .3rem .2rem 0;vertical-align:top}.n{text-align:right;font-variant-numeric:tabular-nums;white-space:nowrap}
figure{margin:1rem 0 0}svg{display:block;width:100%}.axis{display:flex;justify-content:space-between;color:#55616b;font-size:12px;margin:.25rem 12% 1rem 0}
dl{display:grid;grid-template-columns:max-content 1fr;gap:.1rem 1rem;margin:.75rem 0 1.25rem;font-size:13px}dt{color:#55616b}dd{margin:0}
p.text{white-space:pre-wrap}.label{border:1px solid #b9b29d;border-radius:3px;padding:2.5mm;box-sizing:border-box;overflow:hidden}.label{font-size:9pt;line-height:1.3}.label h1{font-size:11pt}.label dl{margin:4pt 0;font-size:9pt}.label dl~dl dd{font-weight:700}@media print{body{margin:0;max-width:none}figure,tr{break-inside:avoid}}";

/// Prints a report.
pub fn print(document: &Document) -> String {
    html! {
        (DOCTYPE)
        html lang="en" {
            head { meta charset="utf-8"; title { (document.title) } style { (maud::PreEscaped(STYLE)) } }
            body {
                @if let Some((width, height)) = document.label {
                    div.label style=(format!("width:{width}mm;height:{height}mm")) { (content(document)) }
                    p.soft { "The PDF is a label of " (width) " by " (height) " mm." }
                } @else {
                    (content(document))
                }
            }
        }
    }
    .into_string()
}

fn content(document: &Document) -> Markup {
    let zone = &document.zone;
    let on_label = document.label.is_some();
    html! {
        h1 { (document.title) }
        dl {
            @if !document.place.is_empty() { dt { "Place" } dd { (document.place) } }
            @if !on_label { dt { "Period" } dd { (to_local(document.from, zone)) " to " (to_local(document.to, zone)) } }
            dt { "Made" } dd { (to_local(document.made_at, zone)) " by " (document.made_by) }
            @if document.lags() { dt { "Complete until" } dd { (to_local(document.complete_until, zone)) } }
        }
        @for part in &document.parts {
            @match part {
                Part::Text(text) => p.text { (text) },
                Part::Values(rows) if on_label => dl { @for (name, value) in tables::pairs(rows) { dt { (name) } dd { (value) } } },
                Part::Values(rows) => (table(&tables::values(rows, zone))),
                Part::Table(of) => {
                    p.soft { (tables::called(of)) }
                    @for one in tables::spans(of, zone) { (table(&one)) }
                    @if !of.note.is_empty() { p.soft { (of.note) } }
                },
                Part::Summary(rows) => (table(&tables::summary(rows))),
                Part::Trend(curves) => (picture::strips(curves, document.from, document.to, zone)),
                Part::Alarms(events) if events.is_empty() => p.soft { (tables::NO_ALARMS) },
                Part::Alarms(events) => (table(&tables::alarms(events, zone))),
                Part::AlarmFigures(of) => {
                    p.soft { (tables::counted(of, zone)) }
                    (table(&tables::figures(of)))
                    @if !of.rules.is_empty() { (table(&tables::frequent(of))) }
                },
                Part::LoopChecks(points) => {
                    p.soft { (tables::proofs(points)) }
                    @if !points.rows.is_empty() { (table(&tables::points(points, zone))) }
                },
            }
        }
    }
}

/// Puts the fonts into a page, so that it looks the same wherever it is opened; kept editions do without them.
pub fn with_fonts(page: &str) -> String {
    page.replacen("/*fonts*/", &FONTS, 1)
}

/// As they are shipped for the PDF.
static FONTS: LazyLock<String> = LazyLock::new(|| {
    let face = |weight: &str, file: &[u8]| {
        let data = BASE64_STANDARD.encode(file);
        format!(
            "@font-face{{font-family:'Atkinson Hyperlegible Next';font-weight:{weight};src:url(data:font/ttf;base64,{data})}}"
        )
    };
    let regular = face("400", include_bytes!("../../press/fonts/next-regular.ttf"));
    regular + &face("600 700", include_bytes!("../../press/fonts/next-bold.ttf"))
});

fn table(table: &Table) -> Markup {
    let class = |right: bool| if right { "n" } else { "" };
    html! {
        table {
            thead { tr { @for (name, right) in &table.head { th class=(class(*right)) { (name) } } } }
            tbody {
                @for row in &table.rows {
                    tr { @for (cell, (_, right)) in row.iter().zip(&table.head) { td class=(class(*right)) { (cell) } } }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::{
        history::Pixels,
        report::{Curve, Named},
    };

    #[test]
    fn names_cannot_smuggle_markup_and_gaps_lift_the_pen() {
        let tag = Named { path: "<b>".into(), name: "Level".into(), unit: "%".into(), decimals: 1 };
        let pixels = Pixels {
            offset: vec![0, 50, 75],
            minimum: vec![Some(1.0), None, Some(2.0)],
            maximum: vec![Some(1.0), None, Some(2.0)],
            last: vec![Some(1.0), None, Some(2.0)],
            by_hand: vec![(10, 30)],
        };
        let curve = Curve { tag, pixels, states: vec![], limits: vec![("high".into(), 3.0)] };
        let document = Document {
            title: "<script>".into(),
            place: String::new(),
            from: 0,
            to: 100,
            complete_until: 100,
            made_at: 0,
            made_by: "Engineer".into(),
            zone: "UTC".into(),
            label: None,
            parts: vec![Part::Trend(vec![curve]), Part::Alarms(vec![])],
        };
        let page = print(&document);
        assert!(!page.contains("<script>") && page.contains("&lt;script&gt;"));
        let path = page.split("<path d=\"").nth(1).unwrap().split('"').next().unwrap();
        assert_eq!(path.matches('M').count(), 2, "{path}");
        assert_eq!(page.matches("set by hand").count(), 1);
        assert!(page.contains("high 3.0") && page.contains("No alarms in this period."));
    }
}
