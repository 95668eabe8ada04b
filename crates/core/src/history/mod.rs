//! Questions to history, answered from samples in order as they come: [`SpanFold`] for tables, [`PixelFold`] for pictures.
//!
//! A value holds until the next sample of its tag; a bad sample opens a gap that lasts until the next good one.

mod asked;
mod pixels;
mod spans;
mod states;
mod unrecorded;

pub use asked::{Every, Figure, Unit};
pub use pixels::{PixelFold, Pixels, pixels};
pub use spans::{OpenSpan, Span, SpanFold, spans};
pub use states::StateFold;
pub use unrecorded::{GapEnds, NotRecorded, Recorded};

use crate::{
    number::Number,
    quality::{Quality, Reason},
    sample::Value,
    time::Nanos,
};

/// A stored sample as a number.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    pub time: Nanos,
    /// `None` where it was bad or is not a number.
    pub value: Option<Number>,
    /// Something is known of the tag, be it a number or a text.
    pub good: bool,
    /// Somebody set it by hand.
    pub by_hand: bool,
}

impl Point {
    /// A good number.
    pub fn of(time: Nanos, value: impl Into<Number>) -> Point {
        Point { time, value: Some(value.into()), good: true, by_hand: false }
    }

    /// What was told at an instant: a value that can be trusted counts, a number only where it is finite.
    pub fn told(time: Nanos, value: Option<&Value>, quality: Quality) -> Point {
        let value = value.filter(|_| !quality.is_bad());
        let number = value.and_then(Value::exact).filter(|n| n.float().is_finite());
        let good = number.is_some() || matches!(value, Some(Value::Text(_)));
        Point { time, value: number, good, by_hand: quality.reason() == Reason::ByHand }
    }

    /// From here on nothing is known.
    pub fn unknown(time: Nanos) -> Point {
        Point { time, value: None, good: false, by_hand: false }
    }
}

/// An answer that is made of points as they come, in order of time. It holds what it answers and no more, so no question is too
/// large for the number of samples below it.
pub trait Fold {
    type Answer;

    /// Takes the next point.
    fn push(&mut self, point: Point);

    /// The answer to all that came.
    fn finish(self) -> Self::Answer;
}
