//! What moved before an alarm: which values near it behaved unlike their usual selves in the minutes before. A hint, not a cause.
//!
//! Each value is held against its own past: how high it was, how fast it changed and how restless it was in the last minutes, against
//! what was usual for it in the hours before. Nothing is assumed about how values are distributed; what happens regularly, such as
//! the cycle of a batch, is usual.

use crate::{history::Span, time::Nanos};
use serde::Serialize;

/// Each span lasts so long.
pub const SPAN: Nanos = 20 * crate::time::SECOND;
/// So many spans before the alarm are looked at: ten minutes.
pub const WINDOW: usize = 30;
/// So many before those say what is usual: three hours.
pub const USUAL: usize = 540;
/// A level is the average of so many spans; a change is from one level to the next but these; restlessness is within them.
const LEVEL: usize = 3;
const STEP: usize = 6;
/// The share of the past that lies beyond what is usual on either side.
const TAIL: f64 = 0.03;
/// How far beyond the usual something must be to be told, in widths of what is usual.
const TOLD: f64 = 0.25;
/// How far beyond counts at most what was seen in the past.
const SELDOM: f64 = 0.5;
/// Beyond so many widths it makes no difference.
const MOST: f64 = 20.0;
/// The least number of spans with a value that say what is usual.
const ENOUGH: usize = 90;

/// In what a value was unlike its usual self.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum How {
    High,
    Low,
    Rose,
    Fell,
    Restless,
    /// No good value was known any more.
    Lost,
}

/// A value that moved.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Moved {
    pub how: How,
    /// How far beyond the usual, in widths of that.
    pub beyond: f64,
    /// When it first was.
    pub since: Nanos,
}

/// What is usual for a feature.
struct Usual {
    low: f64,
    high: f64,
    width: f64,
    /// All that was ever seen.
    seen: (f64, f64),
}

impl Usual {
    fn of(mut seen: Vec<f64>, least: f64) -> Option<Usual> {
        if seen.len() < ENOUGH {
            return None;
        }
        seen.sort_unstable_by(f64::total_cmp);
        let at = |share: f64| seen[((seen.len() - 1) as f64 * share).round() as usize];
        let (low, high) = (at(TAIL), at(1.0 - TAIL));
        Some(Usual { low, high, width: (high - low).max(least), seen: (at(0.0), at(1.0)) })
    }

    /// How far beyond a value lies, below where negative.
    fn beyond(&self, value: f64) -> f64 {
        let far = (value - value.clamp(self.low, self.high)) / self.width;
        // What is seldom, but was seen, is no wonder.
        let known = self.seen.0 <= value && value <= self.seen.1;
        if known { far.clamp(-SELDOM, SELDOM) } else { far }
    }
}

/// Looks at a value up to an instant: `spans` are [`USUAL`] and then [`WINDOW`] equal ones that end there. `range` is how far the value
/// can go, where that is known. `None`: it was as usual, or too little is known of it.
pub fn moved(spans: &[Span], range: Option<f64>) -> Option<Moved> {
    let begins = spans.len().checked_sub(WINDOW)?;
    if let Some(lost) = lost(spans, begins) {
        return Some(lost);
    }
    let all: Vec<f64> = spans.iter().filter_map(|span| span.average).collect();
    let largest = all.iter().fold(0.0_f64, |most, value| most.max(value.abs()));
    // What lies within a hundredth of what the value can be is not told apart.
    let least = range.unwrap_or(largest).abs().max(1e-9) * 0.01;
    // What only counts is always higher than before; how fast it counts may be unusual.
    let counts = counts_up(&spans[..begins]);
    let level = |i: usize| mean(spans.get((i + 1).checked_sub(LEVEL)?..=i)?);
    // A counter that falls was reset, which tells nothing.
    let change = |i: usize| Some(level(i)? - level(i.checked_sub(STEP)?)?).filter(|by| !counts || *by >= 0.0);
    let restless = |i: usize| spread(spans.get((i + 1).checked_sub(STEP)?..=i)?);
    let found = |feature: &dyn Fn(usize) -> Option<f64>| -> Option<(f64, Nanos)> {
        let usual = Usual::of((0..begins).filter_map(feature).collect(), least)?;
        let beyond = (begins..spans.len()).filter_map(|i| Some((i, usual.beyond(feature(i)?))));
        let most = beyond.clone().max_by(|a, b| a.1.abs().total_cmp(&b.1.abs()))?.1;
        let since = beyond.clone().find(|(_, far)| far.abs() > TOLD && far.signum() == most.signum())?.0;
        Some((most, spans[since].from))
    };
    let (levels, restlessness) = if counts { (None, None) } else { (found(&level), found(&restless)) };
    let named =
        [(levels, How::High, How::Low), (found(&change), How::Rose, How::Fell), (restlessness, How::Restless, How::Restless)];
    let told = named.into_iter().filter_map(|(found, up, down)| {
        let (far, since) = found?;
        // A value that is stiller than usual, or was restless only, says less.
        let quiet = up == How::Restless && far < 0.0;
        let beyond = far.abs().min(MOST) * if up == How::Restless { 0.5 } else { 1.0 };
        (!quiet).then_some(Moved { how: if far > 0.0 { up } else { down }, beyond, since })
    });
    // A step is seen in all three: it is called by the plainest, and as far beyond as the farthest.
    let told: Vec<Moved> = told.filter(|moved| moved.beyond > TOLD).collect();
    let beyond = told.iter().map(|moved| moved.beyond).reduce(f64::max)?;
    Some(Moved { how: told[0].how, beyond, since: told.iter().map(|moved| moved.since).min()? })
}

/// Whether a value hardly ever falls and often rises.
fn counts_up(spans: &[Span]) -> bool {
    let known: Vec<f64> = spans.iter().filter_map(|span| span.average).collect();
    let steps = known.windows(2).map(|pair| pair[1] - pair[0]);
    let (rises, falls) = steps.fold((0, 0), |(up, down), step| (up + usize::from(step > 0.0), down + usize::from(step < 0.0)));
    falls * 100 <= known.len() && rises * 3 > known.len()
}

/// A value that was known and is not any more.
fn lost(spans: &[Span], begins: usize) -> Option<Moved> {
    let known = spans[..begins].iter().filter(|span| span.good > 0.5).count();
    let since = spans[begins..].iter().rposition(|span| span.good > 0.0).map_or(begins, |last| begins + last + 1);
    let usually = known * 10 >= begins * 9 && begins >= ENOUGH;
    (usually && since < spans.len()).then(|| Moved { how: How::Lost, beyond: MOST / 2.0, since: spans[since].from })
}

fn mean(spans: &[Span]) -> Option<f64> {
    let known: Vec<f64> = spans.iter().filter_map(|span| span.average).collect();
    (!known.is_empty()).then(|| known.iter().sum::<f64>() / known.len() as f64)
}

fn spread(spans: &[Span]) -> Option<f64> {
    let low = spans.iter().filter_map(|span| span.minimum).map(|n| n.float()).reduce(f64::min)?;
    let high = spans.iter().filter_map(|span| span.maximum).map(|n| n.float()).reduce(f64::max)?;
    Some(high - low)
}

/// How much something that moved is worth a look: the further beyond its usual self, the nearer in the plant and the earlier, the more.
/// `steps` are those in the plant tree from the place of the alarm to its own.
pub fn worth(moved: &Moved, steps: usize, raised_at: Nanos) -> f64 {
    let near = [1.0, 0.9, 0.75, 0.65, 0.6].get(steps).copied().unwrap_or(0.5);
    let earlier = (raised_at - moved.since) as f64 / (WINDOW as f64 * SPAN as f64);
    (1.0 + moved.beyond).ln() * near * (1.0 + 0.15 * earlier.clamp(0.0, 1.0))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const ALL: usize = USUAL + WINDOW;

    /// A value by its spans, the last one ends at the alarm.
    fn spans(value: impl Fn(usize) -> Option<f64>) -> Vec<Span> {
        let span = |i: usize| {
            let (value, from) = (value(i), i as Nanos * SPAN);
            let good = if value.is_some() { 1.0 } else { 0.0 };
            let number = value.map(Into::into);
            Span {
                from,
                to: from + SPAN,
                average: value,
                minimum: number,
                maximum: number,
                first: number,
                last: number,
                sum: value,
                count: 1,
                good,
                by_hand: 0.0,
            }
        };
        (0..ALL).map(span).collect()
    }

    fn wave(i: usize) -> f64 {
        50.0 + 10.0 * (i as f64 / 7.0).sin()
    }

    #[rstest]
    #[case::as_usual(|i| Some(wave(i)), None)]
    #[case::higher(|i| Some(wave(i) + if i >= ALL - 10 { 30.0 } else { 0.0 }), Some(How::High))]
    #[case::lower(|i| Some(wave(i) - if i >= ALL - 10 { 30.0 } else { 0.0 }), Some(How::Low))]
    #[case::a_constant_that_steps(|i| Some(if i >= ALL - 4 { 5.0 } else { 4.0 }), Some(How::High))]
    #[case::a_step_smaller_than_can_be_told(|i| Some(if i >= ALL - 4 { 100.1 } else { 100.0 }), None)]
    #[case::it_rises_within_its_range(|i| Some(if i >= ALL - 3 { 58.0 } else { 50.0 + 9.0 * (i as f64 / 90.0).sin() }), Some(How::Rose))]
    #[case::lost(|i| (i < ALL - 6).then_some(4.0), Some(How::Lost))]
    #[case::never_there(|_| None, None)]
    #[case::too_new(|i| (i > ALL - 60).then(|| wave(i)), None)]
    #[case::a_counter(|i| Some(i as f64 * 2.0), None)]
    #[case::a_counter_that_stops(|i: usize| Some(i.min(ALL - 9) as f64 * 2.0), Some(How::Fell))]
    #[case::a_counter_that_is_reset(|i: usize| Some(if i < ALL - 9 { i as f64 * 2.0 } else { (i + 9 - ALL) as f64 * 2.0 }), None)]
    #[case::a_cycle_of_every_quarter_of_an_hour(|i| Some(if i % 45 < 5 { 90.0 } else { 10.0 }), None)]
    fn a_value_is_held_against_its_own_past(#[case] value: fn(usize) -> Option<f64>, #[case] expected: Option<How>) {
        assert_eq!(moved(&spans(value), None).map(|moved| moved.how), expected);
    }

    #[test]
    fn it_says_since_when() {
        let found = moved(&spans(|i| Some(if i >= ALL - 12 { 9.0 } else { 4.0 })), Some(10.0)).unwrap();
        assert!(found.since >= (ALL - 12) as Nanos * SPAN && found.since <= (ALL - 9) as Nanos * SPAN, "{found:?}");
    }

    #[test]
    fn nearer_earlier_and_further_beyond_is_worth_more() {
        let end = ALL as Nanos * SPAN;
        let moved = Moved { how: How::High, beyond: 2.0, since: end - 5 * SPAN };
        let worth_of = |moved: &Moved, steps| worth(moved, steps, end);
        assert!(worth_of(&moved, 0) > worth_of(&moved, 1) && worth_of(&moved, 4) > worth_of(&moved, 9));
        assert!(worth_of(&Moved { since: end - 20 * SPAN, ..moved }, 0) > worth_of(&moved, 0));
        assert!(worth_of(&Moved { beyond: 3.0, ..moved }, 0) > worth_of(&moved, 0));
    }

    #[test]
    fn fewer_spans_than_the_window_are_no_failure() {
        assert_eq!(moved(&spans(|_| Some(1.0))[..5], None), None);
    }
}
