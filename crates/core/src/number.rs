//! Numbers that keep every digit of a large whole number. An `f64` holds whole numbers exactly up to 2^53; counters of 64 bits
//! go on to 2^64.

use crate::sample::Value;
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

    /// As JSON; a large whole number travels as text, because most readers of JSON would lose its digits.
    pub fn to_json(self) -> Json {
        match self {
            Number::Float(v) => json!(v),
            Number::Below(v) => json!(v.to_string()),
            Number::Above(v) => json!(v.to_string()),
        }
    }
}

impl Value {
    /// The value of a number in JSON; whole numbers of up to 64 bits keep all their digits. `None`: a number that no value
    /// can hold.
    pub fn of_json(number: &serde_json::Number) -> Option<Value> {
        let large = |value: Value| value.number().is_some_and(|n| n.abs() >= EXACT as f64).then_some(value);
        let whole = number.as_i64().map(Value::I64).or(number.as_u64().map(Value::U64)).and_then(large);
        whole.or_else(|| number.as_f64().filter(|v| v.is_finite()).map(Value::F64))
    }

    /// The value of a whole number beyond 2^53 that travels as text ([`Value::to_json`]); `None` for any other text.
    pub fn of_digits(text: &str) -> Option<Value> {
        let number: serde_json::Number = text.parse().ok()?;
        Value::of_json(&number).filter(|v| matches!(v, Value::I64(_) | Value::U64(_)))
    }

    /// As a number with all its digits; switches count 0 and 1, text none.
    pub fn exact(&self) -> Option<Number> {
        match self {
            Value::I64(v) => Some((*v).into()),
            Value::U64(v) => Some((*v).into()),
            other => other.number().map(Number::Float),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("12", Some(Value::F64(12.0)))]
    #[case("-0.5", Some(Value::F64(-0.5)))]
    #[case("9007199254740992", Some(Value::I64(9_007_199_254_740_992)))]
    #[case("9007199254740993", Some(Value::I64(9_007_199_254_740_993)))]
    #[case("-9007199254740995", Some(Value::I64(-9_007_199_254_740_995)))]
    #[case("18446744073709551615", Some(Value::U64(u64::MAX)))]
    #[case("1e300", Some(Value::F64(1e300)))]
    fn a_number_of_json_keeps_its_digits(#[case] text: &str, #[case] value: Option<Value>) {
        assert_eq!(Value::of_json(&text.parse().unwrap()), value);
    }

    #[rstest]
    #[case("18446744073709551615", Some(Value::U64(u64::MAX)))]
    #[case("9007199254740995", Some(Value::I64(9_007_199_254_740_995)))]
    #[case("12", None)]
    #[case("18446744073709551616", None)]
    #[case("9007199254740995.5", None)]
    #[case("KX", None)]
    fn large_whole_numbers_travel_as_text(#[case] text: &str, #[case] value: Option<Value>) {
        assert_eq!(Value::of_digits(text), value);
    }

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
        fn every_whole_number_is_printed_and_read_back(n in any::<u64>(), m in any::<i64>()) {
            prop_assert_eq!(Number::from(n).print(0), n.to_string());
            prop_assert_eq!(Number::from(m).print(0), m.to_string());
            prop_assert_eq!(Value::of_json(&n.into()).unwrap().exact(), Some(Number::from(n)));
        }
    }
}
