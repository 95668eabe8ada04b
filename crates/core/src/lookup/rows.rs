//! What stands in the cells of a lookup, and which rows stay.

use crate::{
    formula::{Program, Reading, Running, Val},
    history::{Figure, Span},
    number::Number,
    quality::{Quality, Reason},
    sample::Value,
    time::{Nanos, to_text},
};
use serde_json::{Value as Json, json};
use std::sync::Arc;

/// What stands in one cell.
#[derive(Clone, Debug, PartialEq)]
pub enum Entry {
    Nothing,
    Time(Nanos),
    Text(Arc<str>),
    /// As it was stored.
    Value(Value),
    Number(Number),
    /// A number that is not exact.
    Rounded(f64),
}

impl Entry {
    /// A number, or nothing where there is none.
    pub fn number(number: Option<Number>) -> Entry {
        number.map_or(Entry::Nothing, Entry::Number)
    }

    /// As a number; none where it is no finite one. A time is none.
    pub fn as_number(&self) -> Option<f64> {
        let number = match self {
            Entry::Value(value) => value.number(),
            Entry::Number(number) => Some(number.float()),
            Entry::Rounded(number) => Some(*number),
            Entry::Nothing | Entry::Time(_) | Entry::Text(_) => None,
        };
        number.filter(|number| number.is_finite())
    }

    /// As JSON: numbers with all their digits, times as RFC 3339 in UTC.
    pub fn to_json(&self) -> Json {
        match self {
            Entry::Nothing => Json::Null,
            Entry::Time(at) => json!(to_text(*at)),
            Entry::Text(text) => json!(text),
            Entry::Value(value) => value.to_json(),
            Entry::Number(number) => number.to_json(),
            Entry::Rounded(number) => json!(number),
        }
    }

    /// As a value that a condition reads.
    pub fn as_value(&self) -> Option<Value> {
        match self {
            Entry::Value(value) => Some(value.clone()),
            _ => self.as_number().map(Value::F64),
        }
    }
}

/// A figure of a span; the time in states stands in columns of its own.
pub fn figures(span: &Span, figure: Figure) -> Entry {
    match figure {
        Figure::Average => match span.average {
            Some(average) if span.is_average_rounded() => Entry::Rounded(average),
            average => Entry::number(average.map(Number::Float)),
        },
        Figure::Minimum => Entry::number(span.minimum),
        Figure::Maximum => Entry::number(span.maximum),
        Figure::Sum => match span.sum {
            Some(sum) if span.is_average_rounded() => Entry::Rounded(sum),
            sum => Entry::number(sum.map(Number::Float)),
        },
        Figure::First => Entry::number(span.first),
        Figure::Last => Entry::number(span.last),
        Figure::Count => Entry::Number(span.count.into()),
        Figure::Good => Entry::Number((span.good * 100.0).into()),
        Figure::States => Entry::Nothing,
    }
}

/// A number on the straight line between two that were stored; none where either is no number.
pub fn between(before: (Nanos, &Value), after: (Nanos, &Value), at: Nanos) -> Option<f64> {
    let ((from, first), (to, last)) = (before, after);
    let straight = |value: &Value| !matches!(value, Value::Bool(_) | Value::Text(_));
    if !straight(first) || !straight(last) || to <= from {
        return None;
    }
    let (first, last) = (first.number()?, last.number()?);
    let share = (at - from) as f64 / (to - from) as f64;
    Some(first + (last - first) * share).filter(|value| value.is_finite())
}

/// Says which rows stay, in rising order of time.
#[derive(Debug)]
pub struct Filter {
    condition: Option<(Running, Vec<usize>)>,
    /// What is known of each tag.
    known: Vec<(Option<Value>, Quality)>,
}

impl Filter {
    pub(super) fn of(condition: Option<&(Arc<Program>, Vec<usize>)>, tags: usize) -> Filter {
        let condition = condition.map(|(program, inputs)| (Running::new(program.clone()), inputs.clone()));
        Filter { condition, known: vec![(None, Quality::of(Reason::NotRead)); tags] }
    }

    /// A tag has this value from now on.
    pub fn know(&mut self, tag: usize, value: Option<Value>, quality: Quality) {
        if self.condition.is_some() {
            self.known[tag] = (value, quality);
        }
    }

    /// Whether a row of this instant stays. One of which the condition cannot tell goes.
    pub fn stays(&mut self, at: Nanos) -> bool {
        let Some((running, inputs)) = &mut self.condition else { return true };
        let known = &self.known;
        let reading = |input: usize| {
            let (value, quality) = &known[inputs[input]];
            Reading { value: value.as_ref(), quality: *quality }
        };
        matches!(running.evaluate(at, u64::MAX, &reading).value, Ok((Val::Switch(true), _)))
    }
}
