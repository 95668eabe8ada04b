//! Reports: what each shows, and over which period.

use super::{
    Item, Kind, Plant, Settings, Table,
    check::{self, Wrong},
    kind::{Checking, Reference},
    loop_check::Proof,
};
use crate::history::{Every, Figure};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// One part of a report.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Section {
    Text {
        text: String,
    },
    /// A table of statistics, one row each tag.
    Summary {
        tags: Vec<Uuid>,
    },
    /// What the tags were at the end of the period, texts too.
    Values {
        tags: Vec<Uuid>,
    },
    /// A row for each span of the period and a column for each tag, with one figure of it.
    Table {
        tags: Vec<Uuid>,
        every: Every,
        figure: Figure,
        /// What stands below the columns.
        #[serde(default)]
        below: Vec<Below>,
    },
    /// A picture of the tags over the period.
    Trend {
        tags: Vec<Uuid>,
    },
    /// What the alarms did in the period, under the report's place.
    Alarms {},
    /// How well the alarms under the report's place served in the period, against the guides.
    AlarmFigures {},
    /// How far the points under the report's place are proven when it is made; those whose proof is one of these.
    LoopChecks {
        proofs: Vec<Proof>,
    },
}

/// What stands below the columns of a table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Below {
    Sum,
    Average,
}

impl Below {
    /// As a row says it.
    pub const fn words(self) -> &'static str {
        match self {
            Below::Sum => "Sum",
            Below::Average => "Average",
        }
    }
}

impl Section {
    /// The tags it shows.
    pub fn tags(&self) -> &[Uuid] {
        match self {
            Section::Summary { tags } | Section::Values { tags } | Section::Table { tags, .. } | Section::Trend { tags } => tags,
            Section::Text { .. } | Section::Alarms {} | Section::AlarmFigures {} | Section::LoopChecks { .. } => &[],
        }
    }
}

/// A report: a period that ends when it is made, and sections.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Report {
    pub name: String,
    #[serde(default)]
    pub place: Option<Uuid>,
    /// Length of the period in minutes, 1 to 44,640 (31 days).
    #[serde(default = "quarter")]
    pub minutes: u32,
    /// IANA time zone in which times are printed.
    #[serde(default = "utc")]
    pub zone: String,
    #[serde(default)]
    pub sections: Vec<Section>,
    /// Printed on labels of this size instead of pages.
    #[serde(default)]
    pub label: Option<Label>,
    #[serde(default)]
    pub order: f64,
}

/// The size of a label, in millimetres; 20 to 300 each.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Label {
    pub width: f64,
    pub height: f64,
}

impl Settings for Report {
    const KIND: Kind = Kind::Report;

    fn table(plant: &Plant) -> &Table<Report> {
        &plant.reports
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Report> {
        &mut plant.reports
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (None, &self.name)
    }

    fn order(&self) -> f64 {
        self.order
    }

    fn references(&self) -> Vec<Reference> {
        let shown = self.sections.iter().enumerate().flat_map(|(i, section)| {
            section.tags().iter().map(move |&tag| Reference::to(format!("sections[{i}].tags"), Kind::Tag, tag))
        });
        self.place.map(|place| Reference::to("place", Kind::Place, place)).into_iter().chain(shown).collect()
    }

    fn uses(item: &Item<Report>, reference: &Reference, plant: &Plant) -> String {
        let name = &item.set.name;
        if reference.kind == Some(Kind::Place) {
            return format!("report “{name}” is about it");
        }
        let path = plant.tags.get(&reference.to).map(|t| format!("“{}”", plant.tag_path(&t.set)));
        format!("report “{name}” uses {}", path.unwrap_or_else(|| "this tag".into()))
    }

    fn check(item: &Item<Report>, _: &Checking<'_>, wrong: &mut Wrong) {
        let set = &item.set;
        check::name(wrong, &set.name);
        check::between(wrong, "minutes", set.minutes, 1, 44_640);
        if jiff::tz::TimeZone::get(&set.zone).is_err() {
            wrong.push(("zone".into(), format!("“{}” is not a time zone; write it like Europe/Oslo.", set.zone)));
        }
        if let Some(label) = set.label
            && ![label.width, label.height].iter().all(|side| (20.0..=300.0).contains(side))
        {
            wrong.push(("label".into(), "A label is 20 to 300 mm wide and high.".into()));
        }
        if set.sections.len() > 50 {
            wrong.push(("sections".into(), "A report has at most 50 sections.".into()));
        }
        for (i, section) in set.sections.iter().enumerate() {
            if let Section::Text { text: words } = section {
                check::text(wrong, &format!("sections[{i}].text"), words);
            }
            if let Section::LoopChecks { proofs } = section
                && (proofs.is_empty() || proofs.len() > 4)
            {
                wrong.push((format!("sections[{i}].proofs"), "Choose which points are listed.".into()));
            }
            if let Section::Table { every, figure, below, .. } = section {
                check::between(wrong, &format!("sections[{i}].every.count"), every.count, 1, Every::MOST);
                if *figure == Figure::States {
                    let words = "The time in each state has no table in reports; a lookup has one.";
                    wrong.push((format!("sections[{i}].figure"), words.into()));
                }
                if below.len() > 2 {
                    wrong.push((format!("sections[{i}].below"), "Each of these stands below once.".into()));
                }
            }
            if section.tags().len() > 500 {
                wrong.push((format!("sections[{i}].tags"), "A section shows at most 500 tags.".into()));
            }
        }
    }
}

fn quarter() -> u32 {
    15
}
fn utc() -> String {
    "UTC".into()
}
