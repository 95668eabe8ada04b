//! Questions to history, answered from samples in order: [`spans`] for tables, [`pixels`] for pictures.
//!
//! A value holds until the next sample of its tag; a bad sample opens a gap that lasts until the next good one.

mod pixels;
mod spans;
mod unrecorded;

pub use pixels::{Pixels, pixels};
pub use spans::{Span, spans};
pub use unrecorded::{NotRecorded, Recorded, end_at_gaps};

use crate::{number::Number, time::Nanos};

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

    /// From here on nothing is known.
    pub fn unknown(time: Nanos) -> Point {
        Point { time, value: None, good: false, by_hand: false }
    }
}
