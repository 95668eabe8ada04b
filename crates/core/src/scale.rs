//! From raw counts to engineering values and back.

use crate::sample::Value;
use serde::{Deserialize, Serialize};

/// How values run between the two points of a scaling.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Curve {
    #[default]
    Linear,
    /// The square root of the share of the span, as a flow follows its differential pressure; nothing below `raw_low`.
    Root,
}

/// A line through two points: `raw_low` reads `low`, `raw_high` reads `high`.
#[derive(Clone, Copy, Debug, PartialEq, Serialize, Deserialize)]
pub struct Scaling {
    pub raw_low: f64,
    pub raw_high: f64,
    pub low: f64,
    pub high: f64,
    /// Values beyond the two points are held at them and marked uncertain.
    #[serde(default)]
    pub clamp: bool,
    #[serde(default)]
    pub curve: Curve,
}

impl Scaling {
    /// In words, with every digit: “raw 0 to 4000 reads 0 to 100 %”.
    pub fn words(&self, unit: &str) -> String {
        let Scaling { raw_low, raw_high, low, high, clamp, curve } = self;
        let root = if *curve == Curve::Root { ", by the square root" } else { "" };
        let held = if *clamp { ", held at its ends" } else { "" };
        format!("raw {raw_low} to {raw_high} reads {low} to {}{root}{held}", format!("{high} {unit}").trim_end())
    }

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

    /// The engineering value, and whether it had to be clamped. A decimal factor gives a decimal value: 1009 counts of 0.1
    /// are 100.9.
    pub fn apply(&self, raw: f64) -> (f64, bool) {
        let (counts, value_span, raw_span) = (raw - self.raw_low, self.high - self.low, self.raw_high - self.raw_low);
        let value = match self.curve {
            // Divided last: a factor such as 0.1 has no exact binary form.
            Curve::Linear => self.low + counts * value_span / raw_span,
            Curve::Root => self.low + (counts / raw_span).max(0.0).sqrt() * value_span,
        };
        let value = decimal(value, value_span.abs().max(self.low.abs()));
        if !self.clamp {
            return (value, false);
        }
        let held = value.clamp(self.low.min(self.high), self.low.max(self.high));
        (held, held != value)
    }

    /// A raw value in engineering units, and whether it had to be clamped; switches and texts are not scaled.
    pub fn of(scaling: Option<Scaling>, raw: Value) -> (Value, bool) {
        match (scaling, &raw, raw.number()) {
            (Some(scaling), Value::I64(_) | Value::U64(_) | Value::F32(_) | Value::F64(_), Some(number)) => {
                let (value, clamped) = scaling.apply(number);
                (Value::F64(value), clamped)
            }
            _ => (raw, false),
        }
    }

    /// The raw value that reads as `value`.
    pub fn invert(&self, value: f64) -> f64 {
        let (above, value_span, raw_span) = (value - self.low, self.high - self.low, self.raw_high - self.raw_low);
        let raw = match self.curve {
            Curve::Linear => self.raw_low + above * raw_span / value_span,
            Curve::Root => self.raw_low + (above / value_span).max(0.0).powi(2) * raw_span,
        };
        decimal(raw, raw_span.abs().max(self.raw_low.abs()))
    }
}

/// The decimal number that a computed value stands for, where it is only some rounding errors away; otherwise the value
/// itself. `scale` is the size of the numbers it was computed from: of that an `f64` holds fifteen digits.
fn decimal(value: f64, scale: f64) -> f64 {
    let scale = scale.max(value.abs());
    let places = 14.0 - scale.log10().floor();
    if !(0.0..=30.0).contains(&places) {
        return value;
    }
    let near: f64 = format!("{value:.*}", places as usize).parse().unwrap_or(value);
    if (near - value).abs() <= 4.0 * f64::EPSILON * scale { near } else { value }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    const PERCENT: Scaling = Scaling { raw_low: 0.0, raw_high: 1000.0, low: 0.0, high: 100.0, clamp: true, curve: Curve::Linear };

    #[test]
    fn clamps_and_says_so() {
        assert_eq!(PERCENT.apply(500.0), (50.0, false));
        assert_eq!(PERCENT.apply(1200.0), (100.0, true));
        assert_eq!(Scaling { clamp: false, ..PERCENT }.apply(1200.0), (120.0, false));
    }

    #[rstest]
    #[case(0.0, 0.1, 1009.0, 100.9)]
    #[case(0.0, 0.1, 555.0, 55.5)]
    #[case(0.0, 0.01, 5555.0, 55.55)]
    #[case(-50.1, 0.1, 3.0, -49.8)]
    #[case(273.15, 0.1, 7.0, 273.85)]
    #[case(0.0, 0.001, 65535.0, 65.535)]
    #[case(0.0, 1000.0, 12.0, 12000.0)]
    fn a_decimal_factor_gives_decimals(#[case] low: f64, #[case] factor: f64, #[case] raw: f64, #[case] value: f64) {
        let high = low + 1000.0 * factor;
        let scaling = Scaling { raw_low: 0.0, raw_high: 1000.0, low, high, clamp: false, curve: Curve::Linear };
        assert_eq!(scaling.apply(raw), (value, false));
        assert_eq!(scaling.invert(value), raw);
    }

    #[test]
    fn a_flow_follows_the_root_of_its_pressure() {
        let flow = Scaling { raw_low: 4000.0, raw_high: 20000.0, low: 0.0, high: 60.0, clamp: false, curve: Curve::Root };
        assert_eq!(flow.apply(4000.0), (0.0, false));
        assert_eq!(flow.apply(8000.0), (30.0, false));
        assert_eq!(flow.apply(20000.0), (60.0, false));
        assert_eq!(flow.apply(3900.0), (0.0, false), "below nothing flows nothing");
        assert_eq!(flow.invert(30.0), 8000.0);
    }

    proptest! {
        #[test]
        fn invert_undoes_apply(raw in -1e6..1e6f64, a in -1e3..1e3f64, span in 0.5..1e4f64, root in any::<bool>()) {
            let curve = if root { Curve::Root } else { Curve::Linear };
            let scaling = Scaling { raw_low: 0.0, raw_high: 4000.0, low: a, high: a + span, clamp: false, curve };
            let raw = if root { raw.abs() } else { raw };
            prop_assert!((scaling.invert(scaling.apply(raw).0) - raw).abs() < 1e-3);
        }
    }
}
