//! From raw counts to engineering values and back.

use serde::{Deserialize, Serialize};

/// A straight line through two points: `raw_low` reads `low`, `raw_high` reads `high`.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Scaling {
    pub raw_low: f64,
    pub raw_high: f64,
    pub low: f64,
    pub high: f64,
    /// Values beyond the two points are held at them and marked uncertain.
    #[serde(default)]
    pub clamp: bool,
}

impl Scaling {
    /// What is wrong with it, in words: the field and the sentence.
    pub fn check(&self) -> Option<(&'static str, &'static str)> {
        if ![self.raw_low, self.raw_high, self.low, self.high].iter().all(|v| v.is_finite()) {
            return Some(("raw_low", "All four numbers of a scaling must be finite."));
        }
        if self.raw_low == self.raw_high {
            return Some(("raw_high", "The two raw values must differ."));
        }
        (self.low == self.high).then_some(("high", "The two scaled values must differ."))
    }

    /// The engineering value, and whether it had to be clamped.
    pub fn apply(&self, raw: f64) -> (f64, bool) {
        let value = self.low + (raw - self.raw_low) * (self.high - self.low) / (self.raw_high - self.raw_low);
        if !self.clamp {
            return (value, false);
        }
        let held = value.clamp(self.low.min(self.high), self.low.max(self.high));
        (held, held != value)
    }

    /// The raw value that reads as `value`.
    pub fn invert(&self, value: f64) -> f64 {
        self.raw_low + (value - self.low) * (self.raw_high - self.raw_low) / (self.high - self.low)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const PERCENT: Scaling = Scaling { raw_low: 0.0, raw_high: 1000.0, low: 0.0, high: 100.0, clamp: true };

    #[test]
    fn clamps_and_says_so() {
        assert_eq!(PERCENT.apply(500.0), (50.0, false));
        assert_eq!(PERCENT.apply(1200.0), (100.0, true));
        assert_eq!(Scaling { clamp: false, ..PERCENT }.apply(1200.0), (120.0, false));
    }

    proptest! {
        #[test]
        fn invert_undoes_apply(raw in -1e6..1e6f64, a in -1e3..1e3f64, span in 0.5..1e4f64) {
            let scaling = Scaling { raw_low: 0.0, raw_high: 4000.0, low: a, high: a + span, clamp: false };
            prop_assert!((scaling.invert(scaling.apply(raw).0) - raw).abs() < 1e-3);
        }
    }
}
