//! What a report says, apart from how it is printed: every format is made from this, so all show the same numbers.

use crate::{
    alarm::{
        AlarmEvent,
        performance::{OfRule, Performance},
    },
    history::{Figure, Span},
    number::Number,
    plant::{
        loop_check::{LoopCheck, Proof},
        report::Below,
    },
    time::{Nanos, SECOND},
};
use serde::{Deserialize, Serialize};

/// How a report is printed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Format {
    Pdf,
    Html,
    /// A workbook (Office Open XML, ECMA-376), one sheet for each table.
    Xlsx,
    Csv,
    Json,
}

impl Format {
    pub const ALL: [Format; 5] = [Format::Pdf, Format::Html, Format::Xlsx, Format::Csv, Format::Json];

    /// Its name, which is also the ending of its files.
    pub const fn name(self) -> &'static str {
        match self {
            Format::Pdf => "pdf",
            Format::Html => "html",
            Format::Xlsx => "xlsx",
            Format::Csv => "csv",
            Format::Json => "json",
        }
    }

    /// Reads the name.
    pub fn from_name(name: &str) -> Option<Format> {
        Format::ALL.into_iter().find(|format| format.name() == name)
    }

    /// Its media type (RFC 6838).
    pub const fn media(self) -> &'static str {
        match self {
            Format::Pdf => "application/pdf",
            Format::Html => "text/html; charset=utf-8",
            Format::Xlsx => "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
            Format::Csv => "text/csv; charset=utf-8",
            Format::Json => "application/json",
        }
    }
}

/// A report on real data.
#[derive(Clone, Debug, PartialEq)]
pub struct Document {
    pub title: String,
    /// Path of the place it is about; empty for the whole plant.
    pub place: String,
    pub from: Nanos,
    pub to: Nanos,
    /// Until when history was complete when it was made.
    pub complete_until: Nanos,
    pub made_at: Nanos,
    pub made_by: String,
    /// IANA time zone of its times.
    pub zone: String,
    /// Width and height in millimetres where it is printed on labels.
    pub label: Option<(f64, f64)>,
    pub parts: Vec<Part>,
}

impl Document {
    /// Whether history lagged so far behind that the end of the period is missing. What is on its way for a moment only, as
    /// it always is, does not count.
    pub fn lags(&self) -> bool {
        self.complete_until + 2 * SECOND < self.to
    }
}

/// A tag as a report names it.
#[derive(Clone, Debug, PartialEq)]
pub struct Named {
    pub path: String,
    pub name: String,
    pub unit: String,
    pub decimals: u8,
}

/// One section, filled.
#[derive(Clone, Debug, PartialEq)]
pub enum Part {
    Text(String),
    Summary(Vec<(Named, Span)>),
    Values(Vec<(Named, Held)>),
    Table(Tabled),
    Trend(Vec<Curve>),
    Alarms(Vec<(AlarmEvent, String)>),
    AlarmFigures(Box<AlarmFigures>),
    LoopChecks(Points),
}

/// One figure of tags, for each span of the period.
#[derive(Clone, Debug, PartialEq)]
pub struct Tabled {
    pub figure: Figure,
    /// With the names of its states; none where it is a quantity.
    pub tags: Vec<(Named, Vec<(i64, String)>)>,
    pub rows: Vec<Spanned>,
    /// What stands below the columns, one number each.
    pub below: Vec<(Below, Vec<Option<f64>>)>,
    /// What is to be said below it.
    pub note: String,
}

/// A row of such a table.
#[derive(Clone, Debug, PartialEq)]
pub struct Spanned {
    pub from: Nanos,
    pub to: Nanos,
    /// A number for each tag, and whether it is rounded; none where nothing good is known.
    pub cells: Vec<Option<(Number, bool)>>,
}

/// How well alarms served.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct AlarmFigures {
    /// From when on history knows what came, and for how long of the period it does not know it.
    pub from: Nanos,
    pub unknown: Nanos,
    pub performance: Performance,
    /// The rules whose alarms came most often: place, what they are called, and what came of them.
    pub rules: Vec<(String, String, OfRule)>,
}

/// Points and how far each is proven.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Points {
    /// How many of all points under the place are proven so far, in the order of the table of proofs.
    pub counts: Vec<(Proof, usize)>,
    pub rows: Vec<PointRow>,
    /// How many more there are than are listed.
    pub more: usize,
}

/// A point and its last check.
#[derive(Clone, Debug, PartialEq)]
pub struct PointRow {
    pub tag: Named,
    /// Where it is read, in words.
    pub source: String,
    pub proof: Proof,
    /// What differs since it was proven, in words.
    pub changed: Vec<&'static str>,
    pub last: Option<LoopCheck>,
}

/// What a tag was at the end of the period.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Held {
    /// As the tag prints it; empty where nothing good is known.
    pub value: String,
    /// The number, where it is a quantity and not a state.
    pub number: Option<Number>,
    /// Since when; `None` where nothing is stored.
    pub since: Option<Nanos>,
    /// Why it is not good, in words; empty where it is.
    pub doubt: &'static str,
}

/// One line of a trend picture.
#[derive(Clone, Debug, PartialEq)]
pub struct Curve {
    pub tag: Named,
    pub pixels: crate::history::Pixels,
    /// The names of its states; empty where its value is a quantity.
    pub states: Vec<(i64, String)>,
    /// Limits in force when it was made: words and level.
    pub limits: Vec<(String, f64)>,
}

/// A number as the tag prints it; an en dash where there is none.
pub fn number(value: Option<impl Into<Number>>, decimals: u8) -> String {
    value.map_or_else(|| "–".into(), |v| v.into().print(decimals))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Some(12.345), 1, "12.3")]
    #[case(Some(-0.5), 0, "-0")]
    #[case(Some(1e9), 2, "1000000000.00")]
    #[case(None, 1, "–")]
    fn numbers(#[case] value: Option<f64>, #[case] decimals: u8, #[case] text: &str) {
        assert_eq!(number(value, decimals), text);
    }
}
