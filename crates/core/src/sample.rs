//! One reading of one tag in 24 bytes, and the batch that carries many with their text.

use crate::{
    TagNo,
    number::{EXACT, Number},
    quality::Quality,
    text,
    time::Nanos,
};
use serde_json::{Value as Json, json};

/// What the 64 value bits of a sample mean.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[repr(u8)]
pub enum Kind {
    /// No value: only the quality changed; the last value stays.
    Empty = 0,
    Bool = 1,
    I64 = 2,
    U64 = 3,
    F32 = 4,
    F64 = 5,
    /// Offset (high 32 bits) and length in bytes (low 32) in the batch's text.
    Text = 6,
}

impl Kind {
    /// Reads the stored code.
    pub fn from_code(code: u8) -> Option<Kind> {
        [Kind::Empty, Kind::Bool, Kind::I64, Kind::U64, Kind::F32, Kind::F64, Kind::Text].get(code as usize).copied()
    }
}

/// Marks on a sample.
pub mod flag {
    /// Older than the tag's current value when it came.
    pub const LATE: u8 = 1;
    /// Set by a person.
    pub const BY_HAND: u8 = 2;
    /// The time is the source's own, not the time of arrival.
    pub const OWN_TIME: u8 = 4;
    /// The first after a time for which nothing is known.
    pub const AFTER_GAP: u8 = 8;
    /// Computed from recorded values afterwards.
    pub const COMPUTED_LATER: u8 = 16;
}

/// One reading of one tag. 24 bytes, and `Copy`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sample {
    /// Effective time.
    pub time: Nanos,
    /// The value, as `kind` says.
    pub bits: u64,
    pub tag: TagNo,
    pub quality: Quality,
    pub kind: Kind,
    /// See [`flag`].
    pub flags: u8,
}

const _: () = assert!(size_of::<Sample>() == 24);

/// A value apart from its sample, text included.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    Bool(bool),
    I64(i64),
    U64(u64),
    F32(f32),
    F64(f64),
    Text(String),
}

impl Value {
    /// Kind and bits; text has bits only inside a batch.
    fn parts(&self) -> (Kind, u64) {
        match self {
            Value::Bool(v) => (Kind::Bool, u64::from(*v)),
            Value::I64(v) => (Kind::I64, *v as u64),
            Value::U64(v) => (Kind::U64, *v),
            Value::F32(v) => (Kind::F32, u64::from(v.to_bits())),
            Value::F64(v) => (Kind::F64, v.to_bits()),
            Value::Text(_) => (Kind::Text, 0),
        }
    }

    /// As a number, for limits, trends and statistics; switches count 0 and 1, text none.
    pub fn number(&self) -> Option<f64> {
        let (kind, bits) = self.parts();
        number(kind, bits)
    }

    /// As a number with no more digits than it was stored with: of an `f32` the shortest decimal that reads back as the same one.
    pub fn shortest(&self) -> Option<Number> {
        match self {
            Value::F32(v) => Some(v.to_string().parse::<f64>().unwrap_or(f64::from(*v)).into()),
            other => other.exact(),
        }
    }

    /// In the type of what a tag holds now, where it holds any: for what somebody sets by hand.
    ///
    /// # Errors
    /// Words for whoever set it, where it does not fit.
    pub fn fitting(self, current: Option<&Value>) -> Result<Value, String> {
        let number = self.number();
        match (current, &self) {
            (_, Value::F64(n)) if !n.is_finite() => Err("A value must be a finite number.".into()),
            (Some(Value::Text(_)) | None, Value::Text(_)) => Ok(self),
            (Some(Value::Text(_)), _) => Err("This tag holds a text.".into()),
            (Some(_), Value::Text(text)) if Value::of_digits(text).is_some() => {
                Value::of_digits(text).unwrap_or(self).fitting(current)
            }
            (Some(_), Value::Text(text)) => Err(format!("“{text}” is neither a number nor one of the tag's state names.")),
            (Some(Value::Bool(_)), _) => match number {
                Some(0.0) => Ok(Value::Bool(false)),
                Some(1.0) => Ok(Value::Bool(true)),
                _ => Err("This tag is on or off.".into()),
            },
            (Some(_), Value::Bool(_)) => Ok(Value::F64(number.unwrap_or(0.0))),
            _ => Ok(self),
        }
    }

    /// As text: what [`Value::to_json`] gives, without quotes.
    pub fn text(&self) -> String {
        let json = self.to_json();
        json.as_str().map_or_else(|| json.to_string(), str::to_owned)
    }

    /// As JSON; integers beyond 2^53 travel as text, and so do numbers that JSON lacks.
    pub fn to_json(&self) -> Json {
        match self {
            Value::Bool(v) => json!(v),
            Value::I64(v) if v.unsigned_abs() <= EXACT => json!(v),
            Value::I64(v) => json!(v.to_string()),
            Value::U64(v) if *v <= EXACT => json!(v),
            Value::U64(v) => json!(v.to_string()),
            // Shortest decimal that reads back as the same f32: 12.1, not 12.100000381469727.
            Value::F32(v) if v.is_finite() => json!(v.to_string().parse::<f64>().unwrap_or(f64::from(*v))),
            Value::F32(v) => json!(v.to_string()),
            Value::F64(v) if v.is_finite() => json!(v),
            Value::F64(v) => json!(v.to_string()),
            Value::Text(v) => json!(v),
        }
    }
}

/// The number that kind and bits stand for; none for text and for samples without a value.
pub fn number(kind: Kind, bits: u64) -> Option<f64> {
    match kind {
        Kind::Bool => Some(if bits == 0 { 0.0 } else { 1.0 }),
        Kind::I64 => Some(bits as i64 as f64),
        Kind::U64 => Some(bits as f64),
        Kind::F32 => Some(f64::from(f32::from_bits(bits as u32))),
        Kind::F64 => Some(f64::from_bits(bits)),
        Kind::Empty | Kind::Text => None,
    }
}

/// Samples on their way, with the text they point into.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Batch {
    pub samples: Vec<Sample>,
    pub text: Vec<u8>,
}

impl Batch {
    /// Adds a value. Control characters of a text become pictures of themselves ([`text::shown`]).
    pub fn push(&mut self, tag: TagNo, time: Nanos, quality: Quality, flags: u8, value: &Value) {
        let (kind, bits) = match value {
            Value::Text(text) => (Kind::Text, self.add_text(text::shown(text).as_bytes())),
            other => other.parts(),
        };
        self.samples.push(Sample { time, bits, tag, quality, kind, flags });
    }

    /// Adds a change of quality that brings no value.
    pub fn push_quality(&mut self, tag: TagNo, time: Nanos, quality: Quality) {
        self.samples.push(Sample { time, bits: 0, tag, quality, kind: Kind::Empty, flags: 0 });
    }

    /// Copies a sample of another batch, its text included.
    pub fn copy_from(&mut self, other: &Batch, sample: Sample) {
        let bits = match sample.kind {
            Kind::Text => self.add_text(other.text_of(sample).as_bytes()),
            _ => sample.bits,
        };
        self.samples.push(Sample { bits, ..sample });
    }

    /// The text a sample points to; empty where it points outside.
    pub fn text_of(&self, sample: Sample) -> &str {
        let (start, length) = ((sample.bits >> 32) as usize, (sample.bits & 0xffff_ffff) as usize);
        self.text.get(start..start.saturating_add(length)).and_then(|b| std::str::from_utf8(b).ok()).unwrap_or("")
    }

    /// The value of a sample of this batch.
    pub fn value_of(&self, sample: Sample) -> Option<Value> {
        Some(match sample.kind {
            Kind::Empty => return None,
            Kind::Bool => Value::Bool(sample.bits != 0),
            Kind::I64 => Value::I64(sample.bits as i64),
            Kind::U64 => Value::U64(sample.bits),
            Kind::F32 => Value::F32(f32::from_bits(sample.bits as u32)),
            Kind::F64 => Value::F64(f64::from_bits(sample.bits)),
            Kind::Text => Value::Text(self.text_of(sample).to_owned()),
        })
    }

    /// Whether it carries nothing.
    pub fn is_empty(&self) -> bool {
        self.samples.is_empty()
    }

    fn add_text(&mut self, text: &[u8]) -> u64 {
        let start = self.text.len() as u64;
        self.text.extend_from_slice(text);
        (start << 32) | text.len() as u64
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

    /// The value of a number, with all its digits.
    pub fn of_number(number: Number) -> Value {
        match number {
            Number::Float(v) => Value::F64(v),
            Number::Below(v) => Value::I64(v),
            Number::Above(v) => Value::U64(v),
        }
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
    use rstest::rstest;

    #[rstest]
    #[case(Value::F32(12.1), json!(12.1))]
    #[case(Value::F64(f64::NAN), json!("NaN"))]
    #[case(Value::U64(u64::MAX), json!("18446744073709551615"))]
    #[case(Value::I64(-5), json!(-5))]
    #[case(Value::I64(i64::MIN), json!("-9223372036854775808"))]
    #[case(Value::Text("KX".into()), json!("KX"))]
    fn json_keeps_what_a_reader_needs(#[case] value: Value, #[case] expected: Json) {
        assert_eq!(value.to_json(), expected);
    }

    #[rstest]
    #[case(Value::F64(5.0), None, Ok(Value::F64(5.0)))]
    #[case(Value::F64(5.0), Some(Value::U64(3)), Ok(Value::F64(5.0)))]
    #[case(Value::Bool(true), Some(Value::F32(0.5)), Ok(Value::F64(1.0)))]
    #[case(Value::F64(1.0), Some(Value::Bool(false)), Ok(Value::Bool(true)))]
    #[case(Value::F64(2.0), Some(Value::Bool(false)), Err("This tag is on or off."))]
    #[case(Value::F64(f64::INFINITY), None, Err("A value must be a finite number."))]
    #[case(Value::Text("x".into()), None, Ok(Value::Text("x".into())))]
    #[case(Value::Text("x".into()), Some(Value::Text("y".into())), Ok(Value::Text("x".into())))]
    #[case(Value::F64(1.0), Some(Value::Text("y".into())), Err("This tag holds a text."))]
    #[case(Value::Text("x".into()), Some(Value::I64(1)), Err("“x” is neither a number nor one of the tag's state names."))]
    fn a_value_takes_the_type_that_the_tag_holds(
        #[case] value: Value,
        #[case] current: Option<Value>,
        #[case] wanted: Result<Value, &str>,
    ) {
        assert_eq!(value.fitting(current.as_ref()), wanted.map_err(str::to_owned));
    }

    #[test]
    fn text_survives_a_copy_into_another_batch() {
        let mut one = Batch::default();
        one.push(1, 5, Quality::GOOD, 0, &Value::Text("first".into()));
        one.push(2, 5, Quality::GOOD, 0, &Value::Text("räksmörgås".into()));
        let mut two = Batch::default();
        two.push(9, 5, Quality::GOOD, 0, &Value::Text("before".into()));
        two.copy_from(&one, one.samples[1]);
        assert_eq!(two.value_of(two.samples[1]), Some(Value::Text("räksmörgås".into())));
    }

    #[test]
    fn text_that_points_outside_is_empty() {
        let batch = Batch::default();
        let sample = Sample { time: 0, bits: u64::MAX, tag: 1, quality: Quality::GOOD, kind: Kind::Text, flags: 0 };
        assert_eq!(batch.text_of(sample), "");
    }

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

    proptest::proptest! {
        #[test]
        fn every_whole_number_is_read_back(n in proptest::prelude::any::<u64>()) {
            proptest::prop_assert_eq!(Value::of_json(&n.into()).unwrap().exact(), Some(Number::from(n)));
        }
    }
}
