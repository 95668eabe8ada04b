//! Where the rows of a lookup lie: even on the clock and in the calendar of a zone.

use crate::{
    history::{Every, Unit},
    plant::week::{instant, local},
    time::{MILLI, Nanos, SECOND},
};
use jiff::{
    ToSpan,
    civil::{Date, Time},
};

/// Rising instants.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Steps {
    /// In front of the even ones: where the first span begins.
    head: Option<Nanos>,
    even: Even,
    /// Behind them: where the last span ends.
    tail: Option<Nanos>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Even {
    /// By their distance.
    Rhythm { first: Nanos, step: Nanos, count: u64 },
    /// By the calendar.
    Listed(Vec<Nanos>),
}

impl Steps {
    /// The even instants in `from..to`; with `bounds` those that cut it into spans, from `from` to `to`, so that the first and the
    /// last span may be shorter than the others. None where they would be more than `most`.
    pub fn within(from: Nanos, to: Nanos, every: Every, zone: &str, bounds: bool, most: u64) -> Option<Steps> {
        let count = Nanos::from(every.count.max(1));
        let even = match every.unit {
            Unit::Millisecond => rhythm(from, to, count * MILLI, zone),
            Unit::Second => rhythm(from, to, count * SECOND, zone),
            Unit::Minute => rhythm(from, to, count * 60 * SECOND, zone),
            // Eight hours are eight hours of the clock, also on the day on which it is set.
            Unit::Hour if count > 1 && 24 % count == 0 => {
                let days = days(from, to, 1, zone)?;
                let hours = |day: Date| {
                    (0..24 / count).filter_map(move |n| instant(day, Time::new((n * count) as i8, 0, 0, 0).ok()?, zone))
                };
                Even::Listed(days.into_iter().flat_map(hours).collect())
            }
            Unit::Hour => rhythm(from, to, count * 3600 * SECOND, zone),
            Unit::Day | Unit::Week => {
                let length = if every.unit == Unit::Week { count * 7 } else { count };
                let midnights = days(from, to, length, zone)?.into_iter();
                Even::Listed(midnights.filter_map(|day| instant(day, Time::midnight(), zone)).collect())
            }
            Unit::Month => Even::Listed(months(from, to, count, zone)?),
        };
        let even = match even {
            Even::Listed(mut all) => {
                // A time that the clocks leave out is the instant at which they go on, which may be there already.
                all.sort_unstable();
                all.dedup();
                all.retain(|at| (if bounds { *at > from } else { *at >= from }) && *at < to);
                Even::Listed(all)
            }
            Even::Rhythm { first, step, count } if bounds && first == from => {
                Even::Rhythm { first: first.saturating_add(step), step, count: count.saturating_sub(1) }
            }
            even @ Even::Rhythm { .. } => even,
        };
        let steps = Steps { head: bounds.then_some(from), even, tail: bounds.then_some(to) };
        (steps.len() <= most).then_some(steps)
    }

    /// How many there are.
    pub fn len(&self) -> u64 {
        let even = match &self.even {
            Even::Rhythm { count, .. } => *count,
            Even::Listed(all) => all.len() as u64,
        };
        even + u64::from(self.head.is_some()) + u64::from(self.tail.is_some())
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// One of them, counted from 0.
    pub fn at(&self, index: u64) -> Option<Nanos> {
        let index = match (self.head, index) {
            (Some(head), 0) => return Some(head),
            (Some(_), index) => index - 1,
            (None, index) => index,
        };
        let (even, count) = match &self.even {
            Even::Rhythm { first, step, count } => {
                let at = Nanos::try_from(index).ok().and_then(|n| step.checked_mul(n)).and_then(|by| first.checked_add(by));
                (at.filter(|_| index < *count), *count)
            }
            Even::Listed(all) => (usize::try_from(index).ok().and_then(|index| all.get(index).copied()), all.len() as u64),
        };
        even.or(self.tail.filter(|_| index == count))
    }

    /// Those from one index on, at most so many.
    pub fn some(&self, from: u64, most: usize) -> Vec<Nanos> {
        (from..self.len().min(from.saturating_add(most as u64))).filter_map(|index| self.at(index)).collect()
    }
}

/// Multiples of a step since midnight of the day on which the period begins.
fn rhythm(from: Nanos, to: Nanos, step: Nanos, zone: &str) -> Even {
    let midnight = instant(local(from, zone).date(), Time::midnight(), zone).filter(|at| *at <= from).unwrap_or(0);
    let first = from.checked_add((midnight.saturating_sub(from)).rem_euclid(step)).unwrap_or(Nanos::MAX);
    let count = if first < to { to.abs_diff(first).div_ceil(step.unsigned_abs()) } else { 0 };
    Even::Rhythm { first, step, count }
}

/// Every so many days from the one on which the period begins or before; they count from Monday, 1970-01-05.
fn days(from: Nanos, to: Nanos, length: Nanos, zone: &str) -> Option<Vec<Date>> {
    let origin = jiff::civil::date(1970, 1, 5);
    let (begin, end) = (local(from, zone).date(), local(to, zone).date());
    let since = i64::from(begin.since(origin).ok()?.get_days());
    let mut day = origin.checked_add((since - since.rem_euclid(length)).days()).ok()?;
    let mut all = Vec::new();
    while day <= end {
        all.push(day);
        day = day.checked_add(length.days()).ok()?;
    }
    Some(all)
}

/// The first of every so many months; they count from January of year 0, so that three of them are the quarters of a year.
fn months(from: Nanos, to: Nanos, length: Nanos, zone: &str) -> Option<Vec<Nanos>> {
    let begin = local(from, zone).date();
    let number = i64::from(begin.year()) * 12 + i64::from(begin.month()) - 1;
    let mut number = number - number.rem_euclid(length);
    let mut all = Vec::new();
    loop {
        let (year, month) = (i16::try_from(number.div_euclid(12)).ok()?, (number.rem_euclid(12) + 1) as i8);
        let Some(at) = instant(Date::new(year, month, 1).ok()?, Time::midnight(), zone) else { return Some(all) };
        if at >= to {
            return Some(all);
        }
        all.push(at);
        number += length;
    }
}
