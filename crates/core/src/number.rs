//! Numbers that keep every digit of a large whole number. An `f64` holds whole numbers exactly up to 2^53; counters of 64 bits
//! go on to 2^64.

use serde_json::{Value as Json, json};
use std::cmp::Ordering;

/// The largest size of a whole number up to which an `f64` holds each one exactly.
pub const EXACT: u64 = 1 << 53;

/// A number as a source gave it. Whole numbers that an `f64` holds exactly are [`Number::Float`], so that equal numbers are
/// equal whatever type they came in.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Number {
    Float(f64),
    /// Below -2^53.
    Below(i64),
    /// Above 2^53.
    Above(u64),
}

impl From<f64> for Number {
    fn from(value: f64) -> Number {
        Number::Float(value)
    }
}

impl From<i64> for Number {
    fn from(value: i64) -> Number {
        match value {
            v if v.unsigned_abs() <= EXACT => Number::Float(v as f64),
            v if v < 0 => Number::Below(v),
            v => Number::Above(v.unsigned_abs()),
        }
    }
}

impl From<u64> for Number {
    fn from(value: u64) -> Number {
        if value <= EXACT { Number::Float(value as f64) } else { Number::Above(value) }
    }
}

impl Number {
    /// The nearest `f64`.
    pub fn float(self) -> f64 {
        match self {
            Number::Float(v) => v,
            Number::Below(v) => v as f64,
            Number::Above(v) => v as f64,
        }
    }

    /// Whether an `f64` would lose digits of it.
    pub fn is_large(self) -> bool {
        !matches!(self, Number::Float(_))
    }

    /// By size, exactly. Not-a-number stands above everything.
    pub fn order(self, other: Number) -> Ordering {
        // An f64 from 2^53 on is a whole number, and one beyond 2^127 is larger than any of 64 bits.
        let whole = |n: Number| match n {
            Number::Below(v) => Some(i128::from(v)),
            Number::Above(v) => Some(i128::from(v)),
            Number::Float(v) if v.abs() >= EXACT as f64 => Some(v as i128),
            Number::Float(_) => None,
        };
        match (whole(self), whole(other)) {
            (Some(a), Some(b)) => a.cmp(&b),
            // To add zero makes the negative zero equal to the other one.
            _ => (self.float() + 0.0).total_cmp(&(other.float() + 0.0)),
        }
    }

    /// With so many decimals; a large whole number with all its digits and none.
    pub fn print(self, decimals: u8) -> String {
        match self {
            Number::Float(v) => format!("{v:.*}", usize::from(decimals)),
            Number::Below(v) => v.to_string(),
            Number::Above(v) => v.to_string(),
        }
    }

    /// With as few digits as read back as the same number.
    pub fn shortest(self) -> String {
        match self {
            Number::Float(v) => v.to_string(),
            large => large.print(0),
        }
    }

    /// As JSON; a large whole number travels as text, because most readers of JSON would lose its digits.
    pub fn to_json(self) -> Json {
        match self {
            Number::Float(v) => json!(v),
            Number::Below(v) => json!(v.to_string()),
            Number::Above(v) => json!(v.to_string()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(Number::from(9_007_199_254_740_993_u64), Number::from(9_007_199_254_740_992_u64), Ordering::Greater)]
    #[case(Number::from(u64::MAX), Number::from(1e300), Ordering::Less)]
    #[case(Number::from(u64::MAX), Number::from(-1.5), Ordering::Greater)]
    #[case(Number::from(i64::MIN), Number::from(i64::MIN + 1), Ordering::Less)]
    #[case(Number::from(2_i64), Number::from(2.0), Ordering::Equal)]
    fn numbers_are_ordered_exactly(#[case] a: Number, #[case] b: Number, #[case] wanted: Ordering) {
        assert_eq!((a.order(b), b.order(a)), (wanted, wanted.reverse()));
    }

    proptest! {
        #[test]
        fn every_whole_number_is_printed(n in any::<u64>(), m in any::<i64>()) {
            prop_assert_eq!(Number::from(n).print(0), n.to_string());
            prop_assert_eq!(Number::from(m).print(0), m.to_string());
        }
    }
}
