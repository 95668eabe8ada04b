//! Lookups: a table that somebody asks of history. A [`Lookup`] says which tags, which period and what stands in a row; [`Table`] is that
//! made ready for a plant: its columns, its conditions and, where its rows lie at known instants, which these are. What is stored is
//! read elsewhere.

mod columns;
mod rows;
mod steps;
mod sums;

pub use columns::{Column, What};
pub use rows::{Entry, Filter, between, figures};
pub use steps::Steps;
pub use sums::{ColumnSums, Sums};

use crate::{
    formula::{Formula, Program},
    history::{Every, Figure},
    plant::{
        Choice, Item, Plant, Tag,
        check::{self, Wrong},
        choice,
        rule::condition_words,
        view::natural,
    },
    quality::Quality,
    time::{Nanos, SECOND, from_text},
};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use uuid::Uuid;

/// Most tags of one lookup, and most columns.
pub const MOST_TAGS: usize = 1000;
const MOST_COLUMNS: usize = 4000;
/// The longest period, in seconds: fifty years.
const LONGEST_S: f64 = 50.0 * 366.0 * 86_400.0;
/// Most instants or spans of one lookup.
const MOST_STEPS: u64 = 10_000_000;

/// A table that somebody asks of history.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Lookup {
    /// Tags chosen singly, in the order of their columns.
    #[serde(default)]
    pub tags: Vec<Uuid>,
    /// Tags chosen by what they are, behind the others, by path.
    #[serde(default)]
    pub choices: Vec<Choice>,
    pub period: Period,
    #[serde(default)]
    pub rows: Rows,
    #[serde(default)]
    pub shape: Shape,
    /// What is left out because of its quality; spans never count what is bad.
    #[serde(default)]
    pub quality: Least,
    /// Only rows for which it holds. A tag in it is its value in the row, or the first figure of its span.
    #[serde(default)]
    pub condition: Option<Formula>,
    #[serde(default)]
    pub newest_first: bool,
    /// Wide rows have a column with the quality beside each value.
    #[serde(default)]
    pub qualities: bool,
    /// Whose clocks say where days, weeks and months begin, and even instants lie.
    #[serde(default = "utc")]
    pub zone: String,
}

fn utc() -> String {
    "UTC".into()
}

/// A period that moves with the clock, or one that stands still.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Period {
    /// So many seconds up to now.
    pub last_s: Option<f64>,
    /// RFC 3339.
    pub from: Option<String>,
    pub to: Option<String>,
}

impl Period {
    /// From when until when it is, and the field and sentence where it says no period.
    ///
    /// # Errors
    /// What is wrong, by field.
    pub fn at(&self, now: Nanos) -> Result<(Nanos, Nanos), (String, String)> {
        let wrong = |field: &str, words: &str| Err((format!("period.{field}"), words.to_owned()));
        match (self.last_s, &self.from, &self.to) {
            (Some(seconds), None, None) if (0.001..=LONGEST_S).contains(&seconds) => {
                Ok((now.saturating_sub((seconds * SECOND as f64) as Nanos), now))
            }
            (Some(_), None, None) => wrong("last_s", "A period is a thousandth of a second to fifty years long."),
            (None, Some(from), Some(to)) => {
                let from = from_text(from).map_err(|words| ("period.from".to_owned(), words))?;
                let to = from_text(to).map_err(|words| ("period.to".to_owned(), words))?;
                match to.checked_sub(from) {
                    Some(1..) if to.abs_diff(from) as f64 <= LONGEST_S * SECOND as f64 => Ok((from, to)),
                    Some(..=0) => wrong("to", "The end must lie after the start."),
                    _ => wrong("to", "The longest period is fifty years."),
                }
            }
            _ => wrong("last_s", "Say how many seconds it covers up to now, or from when until when."),
        }
    }
}

/// What a row is.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "of", rename_all = "lowercase", deny_unknown_fields)]
pub enum Rows {
    /// Every stored value.
    Stored {
        /// Where nothing was stored of a tag at the instant of a wide row, its cell shows what held.
        #[serde(default)]
        held: bool,
    },
    /// What held at even instants.
    Instants {
        every: Every,
        /// A number between two that are stored lies on the straight line between them.
        #[serde(default)]
        line: bool,
    },
    /// Figures of spans.
    Spans { every: Every, figures: Vec<Figure> },
}

impl Default for Rows {
    fn default() -> Rows {
        Rows::Stored { held: false }
    }
}

/// How rows and columns lie.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Shape {
    /// A column for each tag, and a row for each instant.
    #[default]
    Wide,
    /// A row for each value.
    Long,
}

/// The least quality that counts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Least {
    #[default]
    Any,
    /// Not bad.
    Usable,
    Good,
}

impl Least {
    /// Whether every quality is enough.
    pub fn takes_any(self) -> bool {
        self == Least::Any
    }

    /// Whether a quality is enough.
    pub fn takes(self, quality: Quality) -> bool {
        match self {
            Least::Any => true,
            Least::Usable => !quality.is_bad(),
            Least::Good => !quality.is_bad() && !quality.is_uncertain(),
        }
    }
}

/// A lookup made ready for a plant.
#[derive(Clone, Debug)]
pub struct Table {
    pub lookup: Lookup,
    pub from: Nanos,
    pub to: Nanos,
    pub tags: Vec<Arc<Item<Tag>>>,
    pub columns: Vec<Column>,
    /// Which instants its rows lie at, or which bounds its spans have; none where its rows are what was stored.
    pub steps: Option<Steps>,
    /// The condition with the index of the tag that each of its inputs is.
    condition: Option<(Arc<Program>, Vec<usize>)>,
}

impl Table {
    /// Makes a lookup ready. What is wrong is told by field.
    ///
    /// # Errors
    /// Everything that is wrong: field and sentence.
    pub fn of(plant: &Plant, lookup: Lookup, now: Nanos) -> Result<Table, Vec<(String, String)>> {
        let mut wrong = Wrong::new();
        choice::check(&lookup.tags, &lookup.choices, &mut wrong);
        if jiff::tz::TimeZone::get(&lookup.zone).is_err() {
            wrong.push(("zone".into(), "There is no such time zone.".into()));
        }
        let (from, to) = lookup.period.at(now).unwrap_or_else(|told| {
            wrong.push(told);
            (0, 1)
        });
        let steps = lookup.steps(from, to, &mut wrong);
        let tags = tags(plant, &lookup);
        if lookup.tags.iter().any(|tag| !plant.tags.contains_key(tag)) {
            wrong.push(("tags".into(), "One of the tags does not exist any more.".into()));
        } else if tags.is_empty() {
            wrong.push(("tags".into(), "Choose at least one tag.".into()));
        } else if tags.len() > MOST_TAGS {
            let words = format!("These are {} tags; one lookup reads at most {MOST_TAGS}.", tags.len());
            wrong.push(("tags".into(), words));
        }
        let columns = if wrong.is_empty() { columns::of(plant, &lookup, &tags) } else { Vec::new() };
        if columns.len() > MOST_COLUMNS {
            let words = format!("These are {} columns; choose fewer tags or figures, or one row for each value.", columns.len());
            wrong.push(("tags".into(), words));
        }
        let condition = condition(plant, &lookup, &tags, &mut wrong);
        if wrong.is_empty() { Ok(Table { lookup, from, to, tags, columns, steps, condition }) } else { Err(wrong) }
    }

    /// How many rows it has, where that is known before it is read.
    pub fn rows(&self) -> Option<u64> {
        let steps = self.steps.as_ref().filter(|_| self.condition.is_none() && self.lookup.quality.takes_any())?;
        let each = if self.lookup.shape == Shape::Long { self.tags.len() as u64 } else { 1 };
        Some(self.steps_count(steps) * each)
    }

    /// How many instants or spans its steps are.
    pub fn steps_count(&self, steps: &Steps) -> u64 {
        match self.lookup.rows {
            Rows::Spans { .. } => steps.len().saturating_sub(1),
            _ => steps.len(),
        }
    }

    /// The condition, ready for rows in rising order of time.
    pub fn filter(&self) -> Filter {
        Filter::of(self.condition.as_ref(), self.tags.len())
    }

    /// Whether rows need to know what held of each tag before them.
    pub fn needs_held(&self) -> bool {
        self.condition.is_some() || matches!(self.lookup.rows, Rows::Stored { held: true }) && self.lookup.shape == Shape::Wide
    }
}

impl Lookup {
    /// What is wrong with how its rows lie, and the steps where they lie at known instants.
    fn steps(&self, from: Nanos, to: Nanos, wrong: &mut Wrong) -> Option<Steps> {
        let every = match &self.rows {
            Rows::Stored { .. } => return None,
            Rows::Instants { every, .. } => *every,
            Rows::Spans { every, figures } => {
                if figures.is_empty() {
                    wrong.push(("rows.figures".into(), "Choose at least one figure.".into()));
                }
                if figures.contains(&Figure::States) && self.shape == Shape::Long {
                    let words = "The time in each state needs a column for each tag and state: choose the shape with a column for each tag.";
                    wrong.push(("rows.figures".into(), words.into()));
                }
                if !self.quality.takes_any() {
                    wrong.push(("quality".into(), "Figures of spans leave out bad values anyhow.".into()));
                }
                *every
            }
        };
        check::between(wrong, "rows.every.count", every.count, 1, Every::MOST);
        if !wrong.is_empty() {
            return None;
        }
        let bounds = matches!(self.rows, Rows::Spans { .. });
        let steps = Steps::within(from, to, every, &self.zone, bounds, MOST_STEPS);
        if steps.is_none() {
            wrong.push(("rows.every.count".into(), "These are more than ten million rows; choose longer steps.".into()));
        }
        steps
    }
}

/// The tags of a lookup: those chosen singly in their order, then the others by path.
fn tags(plant: &Plant, lookup: &Lookup) -> Vec<Arc<Item<Tag>>> {
    let mut singly: Vec<Arc<Item<Tag>>> = Vec::new();
    for tag in lookup.tags.iter().filter_map(|id| plant.tags.get(id)) {
        if !singly.iter().any(|known| known.id == tag.id) {
            singly.push(tag.clone());
        }
    }
    let mut others: Vec<(String, Arc<Item<Tag>>)> = plant
        .chosen(&[], &lookup.choices)
        .into_iter()
        .filter(|tag| !lookup.tags.contains(&tag.id))
        .map(|tag| (plant.tag_path(&tag.set), tag.clone()))
        .collect();
    others.sort_by(|(a, _), (b, _)| natural(a, b));
    singly.extend(others.into_iter().map(|(_, tag)| tag));
    singly
}

/// The condition made ready: it names only tags of the lookup, and remembers nothing.
fn condition(plant: &Plant, lookup: &Lookup, tags: &[Arc<Item<Tag>>], wrong: &mut Wrong) -> Option<(Arc<Program>, Vec<usize>)> {
    let formula = lookup.condition.as_ref()?;
    let mut say = |words: String| wrong.push(("condition".into(), words));
    let program = match plant.program(formula, "") {
        Ok(program) => program,
        Err(found) => {
            say(found.first().map(ToString::to_string).unwrap_or_default());
            return None;
        }
    };
    if let Some(words) = condition_words(&program, "A condition") {
        say(words);
        return None;
    }
    if program.remembers() {
        say("A condition of a lookup looks at one row; it cannot look back in time.".into());
        return None;
    }
    let index = |id: &Uuid| tags.iter().position(|tag| tag.id == *id);
    if let Some(other) = program.inputs.iter().find(|id| index(id).is_none()) {
        let title = plant.tags.get(other).map_or_else(String::new, |tag| plant.tag_path(&tag.set));
        say(format!("“{title}” is not among the tags of this lookup; add it, or leave it out here."));
        return None;
    }
    let inputs = program.inputs.iter().filter_map(index).collect();
    Some((Arc::new(program), inputs))
}

#[cfg(test)]
mod tests;
