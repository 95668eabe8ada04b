//! A formula made ready to run.

use crate::time::Nanos;
use jiff::tz::TimeZone;
use std::sync::Arc;
use uuid::Uuid;

/// A compiled formula.
#[derive(Clone, Debug)]
pub struct Program {
    /// The tags that it reads; nodes name them by their index.
    pub inputs: Vec<Uuid>,
    pub(super) root: Node,
    /// What is remembered over time, inner before outer.
    pub(super) overs: Vec<Over>,
    pub(super) shape: Shape,
    /// The unit of the result, where it is known.
    pub unit: String,
    /// It depends on the time of day.
    pub(super) clock: bool,
    /// A text that two programs share that do the same.
    pub(super) mark: String,
}

/// What sort of value a node gives, as far as that is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Shape {
    Unknown,
    Number,
    Switch,
    Text,
}

/// A step of a formula.
#[derive(Clone, Debug)]
pub(super) struct Node {
    /// The character at which it stands.
    pub at: u32,
    pub does: Op,
}

type One = Box<Node>;

/// Names for the numbers of a tag.
pub type StateNames = Arc<[(i64, Arc<str>)]>;

/// What a step does.
#[derive(Clone, Debug)]
pub(super) enum Op {
    Number(f64),
    Switch(bool),
    Text(Arc<str>),
    Input(usize),
    Negate(One),
    Not(One),
    Add(One, One),
    Subtract(One, One),
    Multiply(One, One),
    Divide(One, One),
    Remainder(One, One),
    Equal(One, One),
    Unequal(One, One),
    Less(One, One),
    AtMost(One, One),
    Greater(One, One),
    AtLeast(One, One),
    And(One, One),
    Or(One, One),
    Choose(One, One, One),
    Among(One, Vec<Node>),
    Math(fn(f64) -> f64, One),
    Power(One, One),
    Round(One, Option<One>),
    Least(Vec<Node>),
    Greatest(Vec<Node>),
    Clamp(One, One, One),
    /// value × factor + offset: a conversion of units.
    Linear(One, f64, f64),
    Print(One, Option<One>),
    ReadNumber(One),
    Length(One),
    Lower(One),
    Upper(One),
    Find(Find, One, One),
    /// The name of a tag's state.
    State(One, StateNames),
    Good(One),
    OrElse(One, One),
    Clock(ClockPart, TimeZone),
    /// What a function over time gives, by its index.
    Over(usize),
}

/// Where a part of a text is looked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Find {
    Anywhere,
    AtStart,
    AtEnd,
}

/// A part of the time of day or the date.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum ClockPart {
    Hour,
    Minute,
    Weekday,
    Day,
    Month,
}

/// A function that remembers.
#[derive(Clone, Debug)]
pub(super) struct Over {
    pub at: u32,
    /// What it is, independent of how the formula around it is written: by this its memory is found again.
    pub key: String,
    pub what: What,
    pub args: Vec<Node>,
    /// The inputs that its arguments read, one bit each.
    pub reads: u64,
}

/// What a function that remembers gives.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum What {
    Average(Nanos),
    Minimum(Nanos),
    Maximum(Nanos),
    Deviation(Nanos),
    Sum(Nanos),
    Count(Nanos),
    Change(Nanos),
    /// A change over the first span, for each of the second.
    Rate(Nanos, Nanos),
    Before(Nanos),
    /// The integral of what comes for each of this span.
    Total(Nanos),
    Hours,
    Starts,
    Since,
    Lasts(Nanos),
    Stays(Nanos),
    Rises,
    Falls,
    Hold,
    Smooth(Nanos),
}

impl What {
    /// The length of its window, where it has one.
    pub fn window(self) -> Option<Nanos> {
        match self {
            What::Average(span)
            | What::Minimum(span)
            | What::Maximum(span)
            | What::Deviation(span)
            | What::Sum(span)
            | What::Count(span)
            | What::Change(span)
            | What::Rate(span, _)
            | What::Before(span) => Some(span),
            _ => None,
        }
    }
}

impl Program {
    /// How far back it looks: what came earlier has no part in its result.
    pub fn reach(&self) -> Nanos {
        let smoothing = |what| if let What::Smooth(constant) = what { constant.saturating_mul(8) } else { 0 };
        self.overs.iter().map(|over| over.what.window().unwrap_or_else(|| smoothing(over.what))).fold(0, Nanos::saturating_add)
    }

    /// Bytes that it remembers at most.
    pub fn most_bytes(&self) -> usize {
        let one = |over: &Over| if over.what.window().is_some() { super::window::Window::most_bytes() } else { 128 };
        self.overs.iter().map(one).sum()
    }

    /// Whether it counts something from some beginning on, so that the past cannot be computed without that beginning.
    pub fn counts(&self) -> bool {
        self.overs.iter().any(|over| matches!(over.what, What::Total(_) | What::Hours | What::Starts))
    }

    /// Whether it looks back over time.
    pub fn remembers(&self) -> bool {
        !self.overs.is_empty()
    }

    /// Whether another program does the same.
    pub fn is_same(&self, other: &Program) -> bool {
        self.mark == other.mark
    }

    /// Whether its result is known to be text.
    pub fn gives_text(&self) -> bool {
        self.shape == Shape::Text
    }

    /// Whether its result is known to be something else than true or false.
    pub fn is_never_switch(&self) -> bool {
        matches!(self.shape, Shape::Number | Shape::Text)
    }

    /// Whether its result is known to be something else than a number.
    pub fn is_never_number(&self) -> bool {
        matches!(self.shape, Shape::Switch | Shape::Text)
    }

    /// Whether its result changes with time alone.
    pub fn goes_on(&self) -> bool {
        self.clock || !self.overs.is_empty()
    }
}
