//! How spans are asked for: how far they lie apart, and which of their figures.

use serde::{Deserialize, Serialize};

/// How far rows lie apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Every {
    /// 1 to 100,000.
    pub count: u32,
    pub unit: Unit,
}

impl Every {
    /// Most of one unit that make a step.
    pub const MOST: u32 = 100_000;
}

/// A unit of time on the clock or in the calendar.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Unit {
    Millisecond,
    Second,
    Minute,
    Hour,
    Day,
    Week,
    Month,
}

/// A figure of a span.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Figure {
    /// Weighted by the time each value held.
    Average,
    Minimum,
    Maximum,
    /// Of the good numbers that were stored in the span.
    Sum,
    /// The value that held when the span began, or else the first in it.
    First,
    Last,
    /// How many good values were stored.
    Count,
    /// The share of the span for which a good value is known.
    Good,
    /// How long the value was in each of its states.
    States,
}

impl Figure {
    /// Every figure, in the order of columns.
    pub const ALL: [Figure; 9] = [
        Figure::Average,
        Figure::Minimum,
        Figure::Maximum,
        Figure::Sum,
        Figure::First,
        Figure::Last,
        Figure::Count,
        Figure::Good,
        Figure::States,
    ];

    /// Whether it is one of the values, so that it prints as the tag does.
    pub const fn is_a_value(self) -> bool {
        matches!(self, Figure::Minimum | Figure::Maximum | Figure::First | Figure::Last)
    }

    /// As a head of a column says it.
    pub const fn words(self) -> &'static str {
        match self {
            Figure::Average => "average",
            Figure::Minimum => "minimum",
            Figure::Maximum => "maximum",
            Figure::Sum => "sum",
            Figure::First => "first",
            Figure::Last => "last",
            Figure::Count => "count",
            Figure::Good => "good",
            Figure::States => "time in state",
        }
    }
}
