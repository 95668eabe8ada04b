//! Made-up values.

use super::Told;
use crate::{
    TagNo,
    quality::{Quality, Reason},
    sample::Value,
    time::{Nanos, SECOND},
};
use serde::Deserialize;

/// How made-up values go over time; times in seconds from the beginning.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(tag = "shape", rename_all = "snake_case", deny_unknown_fields)]
pub enum Shape {
    /// Always the same.
    Hold { value: f64 },
    /// Evenly from one value to another over the whole time.
    Ramp { from: f64, to: f64 },
    /// From one value to another at a time, and back at a later one.
    Step { from: f64, to: f64, at_s: f64, back_s: Option<f64> },
    /// Anywhere within a width around a value, the same each time.
    Noise { around: f64, width: f64 },
    /// By hand: times and values, each of which holds until the next.
    Points { points: Vec<(f64, f64)> },
}

/// Made-up values of one tag.
#[derive(Clone, Debug, PartialEq, Deserialize)]
pub struct MadeUp {
    #[serde(flatten)]
    pub shape: Shape,
    /// From when to when its quality is bad, in seconds.
    #[serde(default)]
    pub bad: Option<(f64, f64)>,
}

/// The longest time for which values are made up, in seconds, and how many there are at most.
pub const LONGEST_S: f64 = 86_400.0;
pub const MOST_VALUES: f64 = 20_000.0;

impl Shape {
    /// The value at a time, of `length` in all.
    fn at(&self, s: f64, length: f64) -> f64 {
        match self {
            Shape::Hold { value } => *value,
            Shape::Ramp { from, to } => from + (to - from) * (s / length).clamp(0.0, 1.0),
            Shape::Step { from, to, at_s, back_s } => {
                if s >= *at_s && back_s.is_none_or(|back| s < back) {
                    *to
                } else {
                    *from
                }
            }
            Shape::Noise { around, width } => around + width * (scattered(s.to_bits()) - 0.5),
            Shape::Points { points } => {
                let before = points.iter().rev().find(|(at, _)| *at <= s).or(points.first());
                before.map_or(f64::NAN, |(_, value)| *value)
            }
        }
    }

    /// What is wrong with it, as a sentence.
    pub fn wrong(&self) -> Option<&'static str> {
        let numbers: Vec<f64> = match self {
            Shape::Hold { value } => vec![*value],
            Shape::Ramp { from, to } => vec![*from, *to],
            Shape::Step { from, to, at_s, back_s } => vec![*from, *to, *at_s, back_s.unwrap_or(0.0)],
            Shape::Noise { around, width } => vec![*around, *width],
            Shape::Points { points } if points.is_empty() || points.len() > 1000 => return Some("Enter 1 to 1,000 points."),
            Shape::Points { points } if !points.is_sorted_by(|a, b| a.0 < b.0) => return Some("The times of points must rise."),
            Shape::Points { points } => points.iter().flat_map(|(at, value)| [*at, *value]).collect(),
        };
        (!numbers.iter().all(|n| n.is_finite() && n.abs() < 1e300)).then_some("Enter numbers that can be kept.")
    }
}

/// A number from 0 to 1 that looks like chance, and is the same for the same bits (the finaliser of SplitMix64, Steele et al. 2014).
fn scattered(bits: u64) -> f64 {
    let mut x = bits.wrapping_add(0x9E37_79B9_7F4A_7C15);
    x = (x ^ (x >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    x = (x ^ (x >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    ((x ^ (x >> 31)) >> 11) as f64 / (1u64 << 53) as f64
}

/// The values of some tags from `from` on, one each `every_s`, in the order of time. `switches` are on or off: what is not 0 is on.
pub fn told(of: &[(TagNo, MadeUp, bool)], from: Nanos, length_s: f64, every_s: f64) -> Vec<Told> {
    let count = (length_s / every_s).floor().min(MOST_VALUES) as usize;
    let mut all = Vec::with_capacity((count + 1) * of.len());
    for index in 0..=count {
        let s = index as f64 * every_s;
        let at = from.saturating_add((s * SECOND as f64) as Nanos);
        for (tag, made, switch) in of {
            let is_bad = made.bad.is_some_and(|(from, to)| s >= from && s < to);
            let value = made.shape.at(s, length_s);
            let value = if *switch { Value::Bool(value != 0.0) } else { Value::F64(value) };
            let quality = if is_bad { Quality::of(Reason::NoAnswer) } else { Quality::GOOD };
            all.push(Told { at, tag: *tag, value: (!is_bad).then_some(value), quality });
        }
    }
    all
}
