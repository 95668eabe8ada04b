//! Evaluation. Nothing here can fail but by a [`Cause`], which has a place in the text.

use super::program::{ClockPart, Find, Node, Op};
use crate::{
    number::Number,
    quality::{Class, Quality, Reason},
    sample::Value,
    time::Nanos,
};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::cell::Cell;
use uuid::Uuid;

/// The longest text that a formula makes, in bytes.
const LONGEST_TEXT: usize = 4000;

/// A value inside a formula.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub enum Val {
    Number(f64),
    Switch(bool),
    Text(String),
}

impl Val {
    /// As a tag holds it.
    pub fn value(self) -> Value {
        match self {
            Val::Number(v) => Value::F64(v),
            Val::Switch(v) => Value::Bool(v),
            Val::Text(v) => Value::Text(v),
        }
    }
}

/// What is known of an input at present.
#[derive(Clone, Copy, Debug)]
pub struct Reading<'a> {
    pub value: Option<&'a Value>,
    pub quality: Quality,
}

/// Why a formula has no value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// An input is bad, for this reason.
    Input(Uuid, Reason),
    DivisionByZero,
    /// The result is no finite number.
    NotFinite,
    NotNumber,
    NotSwitch,
    NotText,
    /// A text that holds no number.
    NoNumberInText,
    /// Values of different sorts are compared.
    Different,
    /// The set of names has none for this number.
    NoStateName,
    /// Nothing good is remembered yet.
    NothingYet,
    TooLong,
}

/// Why a formula has no value, and at which character.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Cause {
    pub at: u32,
    pub fault: Fault,
}

impl Cause {
    /// In words; `title` gives the path of a tag that whoever reads it may see.
    pub fn words(&self, title: impl Fn(Uuid) -> Option<String>) -> String {
        let place = |words: &str| format!("its formula, character {}: {words}", self.at + 1);
        match self.fault {
            Fault::Input(tag, reason) => match title(tag) {
                Some(title) => format!("an input is bad: {title}, {}", reason.words()),
                None => format!("an input is bad: {}", reason.words()),
            },
            Fault::DivisionByZero => place("division by zero"),
            Fault::NotFinite => place("the result is not a finite number"),
            Fault::NotNumber => place("a number is needed here"),
            Fault::NotSwitch => place("a condition is needed here"),
            Fault::NotText => place("a text is needed here"),
            Fault::NoNumberInText => place("the text holds no number"),
            Fault::Different => place("values of different sorts are compared"),
            Fault::NoStateName => place("the number is the number of no state"),
            Fault::NothingYet => place("there is no good value in its span yet"),
            Fault::TooLong => place("the text is too long"),
        }
    }

    /// The quality of a tag whose formula has no value.
    pub fn quality(&self) -> Quality {
        Quality::of(if matches!(self.fault, Fault::Input(..)) { Reason::BadInput } else { Reason::NoResult })
    }
}

/// Why a result is uncertain.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum Doubt {
    /// An input is uncertain.
    Input,
    /// An input has more digits than a formula keeps.
    Digits,
    /// Part of what it counts is missing.
    Part,
}

impl Doubt {
    /// The quality of a tag whose formula is in doubt.
    pub fn quality(self) -> Quality {
        Quality::of(match self {
            Doubt::Input => Reason::UncertainInput,
            Doubt::Digits => Reason::InputDigits,
            Doubt::Part => Reason::PartMissing,
        })
    }
}

pub(super) type Result<T> = std::result::Result<T, Cause>;

/// What a function that remembers gave at this evaluation.
pub(super) type Given = Result<(Val, Option<Doubt>)>;

/// What an evaluation looks at.
pub(super) struct Scene<'s, 'v> {
    pub inputs: &'s [Uuid],
    pub reading: &'s dyn Fn(usize) -> Reading<'v>,
    pub now: Nanos,
    pub given: &'s [Given],
    /// The first doubt that arose.
    pub doubt: Cell<Option<Doubt>>,
}

impl Scene<'_, '_> {
    /// What a node gives, with the doubt about it.
    pub fn whole(&self, node: &Node) -> Given {
        self.doubt.set(None);
        let val = self.eval(node)?;
        Ok((val, self.doubt.take()))
    }

    fn doubted(&self, doubt: Doubt) {
        if self.doubt.get().is_none() {
            self.doubt.set(Some(doubt));
        }
    }

    fn number(&self, node: &Node) -> Result<f64> {
        match self.eval(node)? {
            Val::Number(v) => Ok(v),
            Val::Switch(_) | Val::Text(_) => Err(cause(node, Fault::NotNumber)),
        }
    }

    fn switch(&self, node: &Node) -> Result<bool> {
        match self.eval(node)? {
            Val::Switch(v) => Ok(v),
            // Devices tell many switches as 0 and 1.
            Val::Number(v) if v == 0.0 || v == 1.0 => Ok(v == 1.0),
            Val::Number(_) | Val::Text(_) => Err(cause(node, Fault::NotSwitch)),
        }
    }

    fn text(&self, node: &Node) -> Result<String> {
        match self.eval(node)? {
            Val::Text(v) => Ok(v),
            Val::Number(_) | Val::Switch(_) => Err(cause(node, Fault::NotText)),
        }
    }

    fn input(&self, node: &Node, index: usize) -> Result<Val> {
        let Reading { value, quality } = (self.reading)(index);
        let bad = |reason| Err(cause(node, Fault::Input(self.inputs[index], reason)));
        let Some(value) = value.filter(|_| !quality.is_bad()) else {
            return bad(if quality.is_bad() { quality.reason() } else { Reason::NotSet });
        };
        if quality.class() == Class::Uncertain {
            self.doubted(Doubt::Input);
        }
        Ok(match value {
            Value::Bool(v) => Val::Switch(*v),
            Value::Text(v) => Val::Text(v.clone()),
            // The decimal that is meant: 12.1, not 12.100000381469727.
            Value::F32(v) => return checked(node, v.to_string().parse().unwrap_or(f64::from(*v))),
            other => match other.exact() {
                Some(Number::Float(v)) => return checked(node, v),
                Some(large) => {
                    self.doubted(Doubt::Digits);
                    Val::Number(large.float())
                }
                None => return bad(Reason::NoSuchType),
            },
        })
    }

    fn compare(&self, node: &Node, a: &Node, b: &Node) -> Result<std::cmp::Ordering> {
        let ordered = match (self.eval(a)?, self.eval(b)?) {
            (Val::Number(a), Val::Number(b)) => a.partial_cmp(&b),
            (Val::Text(a), Val::Text(b)) => Some(a.cmp(&b)),
            (Val::Switch(a), Val::Switch(b)) => Some(a.cmp(&b)),
            (Val::Switch(a), Val::Number(b)) => f64::from(u8::from(a)).partial_cmp(&b),
            (Val::Number(a), Val::Switch(b)) => a.partial_cmp(&f64::from(u8::from(b))),
            _ => None,
        };
        ordered.ok_or_else(|| cause(node, Fault::Different))
    }

    /// An “and” or an “or”: one side that decides is enough, whatever the other one is.
    fn either(&self, decides: bool, a: &Node, b: &Node) -> Result<Val> {
        let before = self.doubt.get();
        let first = self.switch(a);
        if first == Ok(decides) {
            return Ok(Val::Switch(decides));
        }
        let after = self.doubt.replace(before);
        let second = self.switch(b)?;
        if second == decides {
            return Ok(Val::Switch(decides));
        }
        first?;
        self.doubt.set(self.doubt.get().or(after));
        Ok(Val::Switch(!decides))
    }

    fn clock(&self, part: ClockPart, zone: &jiff::tz::TimeZone) -> f64 {
        let at = Timestamp::from_nanosecond(i128::from(self.now)).unwrap_or_default().to_zoned(zone.clone());
        f64::from(match part {
            ClockPart::Hour => at.hour(),
            ClockPart::Minute => at.minute(),
            ClockPart::Weekday => at.weekday().to_monday_one_offset(),
            ClockPart::Day => at.day(),
            ClockPart::Month => at.month(),
        })
    }

    pub fn eval(&self, node: &Node) -> Result<Val> {
        use std::cmp::Ordering::{Equal, Greater, Less};
        let number = |v: f64| checked(node, v);
        let compared =
            |a, b, wanted: &[std::cmp::Ordering]| self.compare(node, a, b).map(|found| Val::Switch(wanted.contains(&found)));
        match &node.does {
            Op::Number(v) => Ok(Val::Number(*v)),
            Op::Switch(v) => Ok(Val::Switch(*v)),
            Op::Text(v) => Ok(Val::Text(v.to_string())),
            Op::Input(index) => self.input(node, *index),
            Op::Over(index) => {
                let (val, doubt) = self.given.get(*index).cloned().unwrap_or(Err(cause(node, Fault::NothingYet)))?;
                doubt.into_iter().for_each(|d| self.doubted(d));
                Ok(val)
            }
            Op::Negate(a) => number(-self.number(a)?),
            Op::Not(a) => Ok(Val::Switch(!self.switch(a)?)),
            Op::Add(a, b) => match (self.eval(a)?, self.eval(b)?) {
                (Val::Number(a), Val::Number(b)) => number(a + b),
                (Val::Text(a), Val::Text(b)) if a.len() + b.len() <= LONGEST_TEXT => Ok(Val::Text(a + &b)),
                (Val::Text(_), Val::Text(_)) => Err(cause(node, Fault::TooLong)),
                (Val::Text(_), _) => Err(cause(b, Fault::NotText)),
                (Val::Number(_), _) => Err(cause(b, Fault::NotNumber)),
                (Val::Switch(_), _) => Err(cause(a, Fault::NotNumber)),
            },
            Op::Subtract(a, b) => number(self.number(a)? - self.number(b)?),
            Op::Multiply(a, b) => number(self.number(a)? * self.number(b)?),
            Op::Divide(a, b) => {
                let (a, b) = (self.number(a)?, self.number(b)?);
                if b == 0.0 { Err(cause(node, Fault::DivisionByZero)) } else { number(a / b) }
            }
            Op::Remainder(a, b) => {
                let (a, b) = (self.number(a)?, self.number(b)?);
                if b == 0.0 { Err(cause(node, Fault::DivisionByZero)) } else { number(a % b) }
            }
            Op::Equal(a, b) => compared(a, b, &[Equal]),
            Op::Unequal(a, b) => compared(a, b, &[Less, Greater]),
            Op::Less(a, b) => compared(a, b, &[Less]),
            Op::AtMost(a, b) => compared(a, b, &[Less, Equal]),
            Op::Greater(a, b) => compared(a, b, &[Greater]),
            Op::AtLeast(a, b) => compared(a, b, &[Greater, Equal]),
            Op::And(a, b) => self.either(false, a, b),
            Op::Or(a, b) => self.either(true, a, b),
            Op::Choose(condition, a, b) => {
                if self.switch(condition)? {
                    self.eval(a)
                } else {
                    self.eval(b)
                }
            }
            Op::Among(a, list) => {
                for one in list {
                    if self.compare(node, a, one)? == Equal {
                        return Ok(Val::Switch(true));
                    }
                }
                // An empty list still needs the value.
                self.eval(a).map(|_| Val::Switch(false))
            }
            Op::Math(f, a) => number(f(self.number(a)?)),
            Op::Power(a, b) => number(self.number(a)?.powf(self.number(b)?)),
            Op::Round(a, decimals) => {
                let a = self.number(a)?;
                let scale = decimals.as_ref().map_or(Ok(0.0), |d| self.number(d))?.clamp(-15.0, 15.0).round();
                let factor = 10f64.powf(scale);
                let scaled = a * factor;
                // Beyond what a number can hold there is nothing to round.
                number(if scaled.abs() < 9e15 { scaled.round() / factor } else { a })
            }
            Op::Least(list) => number(self.numbers(list)?.into_iter().fold(f64::INFINITY, f64::min)),
            Op::Greatest(list) => number(self.numbers(list)?.into_iter().fold(f64::NEG_INFINITY, f64::max)),
            Op::Clamp(a, low, high) => number(self.number(a)?.min(self.number(high)?).max(self.number(low)?)),
            Op::Linear(a, factor, offset) => number(self.number(a)? * factor + offset),
            Op::Print(a, decimals) => {
                let decimals = decimals.as_ref().map(|d| self.number(d)).transpose()?;
                Ok(Val::Text(match (self.eval(a)?, decimals) {
                    (Val::Text(v), _) => v,
                    (Val::Switch(v), _) => if v { "on" } else { "off" }.to_owned(),
                    (Val::Number(v), Some(decimals)) => format!("{v:.*}", decimals.clamp(0.0, 15.0) as usize),
                    (Val::Number(v), None) => v.to_string(),
                }))
            }
            Op::ReadNumber(a) => {
                let text = self.text(a)?;
                let read = text.trim().parse::<f64>().ok().filter(|v| v.is_finite());
                read.map(Val::Number).ok_or_else(|| cause(node, Fault::NoNumberInText))
            }
            Op::Length(a) => Ok(Val::Number(self.text(a)?.chars().count() as f64)),
            Op::Lower(a) => Ok(Val::Text(self.text(a)?.to_lowercase())),
            Op::Upper(a) => Ok(Val::Text(self.text(a)?.to_uppercase())),
            Op::Find(find, a, b) => {
                let (text, part) = (self.text(a)?, self.text(b)?);
                Ok(Val::Switch(match find {
                    Find::Anywhere => text.contains(&part),
                    Find::AtStart => text.starts_with(&part),
                    Find::AtEnd => text.ends_with(&part),
                }))
            }
            Op::State(a, names) => {
                let number = match self.eval(a)? {
                    Val::Number(v) => v,
                    Val::Switch(v) => f64::from(u8::from(v)),
                    Val::Text(_) => return Err(cause(a, Fault::NotNumber)),
                };
                let name = names.iter().find(|(value, _)| (*value as f64 - number).abs() < 1e-6);
                name.map(|(_, name)| Val::Text(name.to_string())).ok_or_else(|| cause(node, Fault::NoStateName))
            }
            Op::Good(a) => {
                let before = self.doubt.take();
                let good = self.eval(a).is_ok() && self.doubt.get().is_none();
                self.doubt.set(before);
                Ok(Val::Switch(good))
            }
            Op::OrElse(a, b) => {
                let before = self.doubt.get();
                self.eval(a).or_else(|_| {
                    self.doubt.set(before);
                    self.eval(b)
                })
            }
            Op::Clock(part, zone) => Ok(Val::Number(self.clock(*part, zone))),
        }
    }

    fn numbers(&self, list: &[Node]) -> Result<Vec<f64>> {
        list.iter().map(|one| self.number(one)).collect()
    }
}

pub(super) fn cause(node: &Node, fault: Fault) -> Cause {
    Cause { at: node.at, fault }
}

fn checked(node: &Node, value: f64) -> Result<Val> {
    if value.is_finite() { Ok(Val::Number(value)) } else { Err(cause(node, Fault::NotFinite)) }
}
