//! Questions to history, answered from samples in order: [`spans`] for tables, [`pixels`] for pictures.
//!
//! A value holds until the next sample of its tag; a bad sample opens a gap that lasts until the next good one.

mod pixels;
mod spans;

pub use pixels::{Pixels, pixels};
pub use spans::{Span, spans};

use crate::time::Nanos;

/// A stored sample as a number; `None` where it was bad or is no number.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    pub time: Nanos,
    pub value: Option<f64>,
    /// Somebody set it by hand.
    pub by_hand: bool,
}
