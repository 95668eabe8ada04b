//! A sliding window in bounded memory.
//!
//! A value holds from when it comes until the next one. The window is kept in panes of 1/400 of its length, aligned to the
//! clock; of a value that changes a thousand times within a pane only its sums stay. So the old end of a window moves in steps
//! of a pane: at an instant `t` it covers everything from the first boundary of a pane at or after `t - length`.

use crate::time::Nanos;
use std::collections::VecDeque;

/// Panes of a window.
/// A span of whole milliseconds divides into them without a rest.
const PANES: i64 = 400;

/// What is kept of a pane.
#[derive(Clone, Debug, PartialEq)]
struct Pane {
    /// Its first instant.
    start: Nanos,
    /// What held at its first instant; none where that is not known.
    at_start: Option<f64>,
    /// For how long a good value held in it, in nanoseconds.
    good: f64,
    /// The mean over that time, and the integral of the squared difference to it: joined as Chan, Golub and LeVeque (1979) do, so
    /// that small changes of a large value keep their digits.
    mean: f64,
    spread: f64,
    least: f64,
    greatest: f64,
    /// Sum and number of the values that came.
    sum: f64,
    count: u64,
}

/// The length of a pane: such that a window never has more than [`PANES`] of them within.
fn pane_of(length: Nanos) -> Nanos {
    (length / PANES + i64::from(length % PANES != 0)).max(1)
}

impl Pane {
    fn new(start: Nanos, at_start: Option<f64>) -> Pane {
        let (least, greatest) = at_start.map_or((f64::INFINITY, f64::NEG_INFINITY), |v| (v, v));
        Pane { start, at_start, good: 0.0, mean: 0.0, spread: 0.0, least, greatest, sum: 0.0, count: 0 }
    }
}

impl Pane {
    /// A value held for a while.
    fn add(&mut self, value: f64, span: f64) {
        self.good += span;
        if self.good > 0.0 {
            let beyond = value - self.mean;
            self.mean += beyond * (span / self.good);
            self.spread += span * beyond * (value - self.mean);
        }
    }
}

/// Statistics of a window at an instant.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) struct Stats {
    /// The share of the window's length for which a good value is known, 0 to 1.
    pub known: f64,
    pub mean: f64,
    /// Standard deviation over time.
    pub deviation: f64,
    pub least: f64,
    pub greatest: f64,
    pub sum: f64,
    pub count: u64,
    /// What held at the window's old end.
    pub first: Option<f64>,
}

/// A window and what it remembers.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Window {
    length: Nanos,
    pane: Nanos,
    panes: VecDeque<Pane>,
    /// What holds since `at`.
    held: Option<f64>,
    at: Nanos,
}

impl Window {
    pub fn new(length: Nanos) -> Window {
        let pane = pane_of(length);
        Window { length, pane, panes: VecDeque::new(), held: None, at: Nanos::MIN }
    }

    /// How far the old end moves at a time.
    pub fn pane(&self) -> Nanos {
        self.pane
    }

    /// From `at` on `value` holds; `came`: it is a new value, which sums and counts take. Earlier instants count as the last one.
    pub fn push(&mut self, at: Nanos, value: Option<f64>, came: bool) {
        let at = at.max(self.at);
        self.advance(at);
        self.held = value;
        let pane = self.pane_at(at);
        // Of two at one instant the later one holds, also where it is bad.
        if pane.start == at {
            pane.at_start = value;
        }
        if let Some(value) = value {
            (pane.least, pane.greatest) = (pane.least.min(value), pane.greatest.max(value));
            if came {
                pane.sum += value;
                pane.count += 1;
            }
        }
    }

    /// Lets what holds go on until an instant.
    fn advance(&mut self, to: Nanos) {
        let first = self.edge(to);
        if self.panes.is_empty() {
            self.at = to;
            return;
        }
        // What lies before the window needs no walk.
        if self.at < first.saturating_sub(self.pane) {
            self.panes.clear();
            self.at = first.saturating_sub(self.pane);
        }
        while self.at < to {
            let start = self.at.div_euclid(self.pane) * self.pane;
            let until = to.min(start.saturating_add(self.pane));
            let (held, span) = (self.held, (until - self.at) as f64);
            let pane = self.pane_at(self.at);
            if let Some(held) = held {
                pane.add(held, span);
            }
            self.at = until;
        }
        while self.panes.front().is_some_and(|p| p.start < first) {
            self.panes.pop_front();
        }
    }

    /// The pane of an instant that is not before the last one.
    fn pane_at(&mut self, at: Nanos) -> &mut Pane {
        let start = at.div_euclid(self.pane) * self.pane;
        if self.panes.back().is_none_or(|p| p.start != start) {
            // Only the first pane of all begins after its start; what held before is not known then.
            let at_start = self.held.filter(|_| at == start);
            self.panes.push_back(Pane::new(start, at_start));
        }
        let last = self.panes.len() - 1;
        &mut self.panes[last]
    }

    /// The old end at an instant: a boundary of panes.
    fn edge(&self, at: Nanos) -> Nanos {
        let from = at.saturating_sub(self.length);
        from.div_euclid(self.pane).saturating_add(i64::from(from.rem_euclid(self.pane) != 0)).saturating_mul(self.pane)
    }

    /// What the window holds at the instant up to which it was told.
    pub fn stats(&self) -> Stats {
        let edge = self.edge(self.at);
        let inside = || self.panes.iter().filter(|p| p.start >= edge);
        let good: f64 = inside().map(|p| p.good).sum();
        let least = inside().map(|p| p.least).fold(f64::INFINITY, f64::min);
        let greatest = inside().map(|p| p.greatest).fold(f64::NEG_INFINITY, f64::max);
        let now = self.held.unwrap_or(f64::NAN);
        let mean = if good > 0.0 { inside().map(|p| p.mean * p.good).sum::<f64>() / good } else { now };
        let spread: f64 = inside().map(|p| p.spread + p.good * (p.mean - mean) * (p.mean - mean)).sum();
        let deviation = if good > 0.0 { (spread / good).max(0.0).sqrt() } else { 0.0 };
        let whole = (self.at - edge) as f64;
        Stats {
            known: if whole > 0.0 { good / whole } else { f64::from(u8::from(self.held.is_some())) },
            mean,
            deviation,
            least,
            greatest,
            sum: inside().map(|p| p.sum).sum(),
            count: inside().map(|p| p.count).sum(),
            first: self.panes.iter().find(|p| p.start == edge).and_then(|p| p.at_start),
        }
    }

    /// Takes over what another window knew before this one began, or better: the panes of which it knows more.
    pub fn begin_with(&mut self, earlier: &Window) {
        if self.pane != earlier.pane {
            return;
        }
        let Some(first) = self.panes.front().map(|p| p.start) else {
            *self = earlier.clone();
            return;
        };
        for known in earlier.panes.iter().rev() {
            if known.start < first {
                self.panes.push_front(known.clone());
            } else if let Some(own) = self.panes.iter_mut().find(|own| own.start == known.start) {
                if known.good > own.good {
                    *own = known.clone();
                } else if own.at_start.is_none() {
                    own.at_start = known.at_start;
                }
            }
        }
    }

    /// The clock was moved.
    pub fn shift(&mut self, by: Nanos) {
        // A shift by whole panes keeps their boundaries; what is left moves the instants within them by less than a pane.
        let panes = by.div_euclid(self.pane) * self.pane;
        for pane in &mut self.panes {
            pane.start = pane.start.saturating_add(panes);
        }
        if self.at != Nanos::MIN {
            let last = self.panes.back().map_or(Nanos::MIN, |p| p.start);
            self.at = self.at.saturating_add(by).clamp(last, last.saturating_add(self.pane));
        }
    }

    /// Bytes that it takes at most.
    pub fn most_bytes() -> usize {
        (PANES as usize + 2) * size_of::<Pane>()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The same statistics from all that was ever told, for comparison.
    fn naive(told: &[(Nanos, Option<f64>, bool)], length: Nanos, at: Nanos) -> Stats {
        let pane = pane_of(length);
        let edge = (at - length).div_euclid(pane) * pane + if (at - length).rem_euclid(pane) == 0 { 0 } else { pane };
        let (mut good, mut integral, mut least, mut greatest, mut sum, mut count) =
            (0.0, 0.0, f64::INFINITY, f64::NEG_INFINITY, 0.0, 0);
        let mut parts = Vec::new();
        let mut first = None;
        for (i, &(from, value, came)) in told.iter().enumerate() {
            let until = told.get(i + 1).map_or(at, |n| n.0);
            if from <= edge {
                first = value;
            }
            let Some(value) = value else { continue };
            // What holds at the edge, or came within the window.
            if from >= edge || until > edge {
                (least, greatest) = (f64::min(least, value), f64::max(greatest, value));
            }
            if from >= edge && came {
                sum += value;
                count += 1;
            }
            let span = (until - from.max(edge)).max(0) as f64;
            good += span;
            integral += value * span;
            parts.push((value, span));
        }
        let now = told.last().and_then(|t| t.1).unwrap_or(f64::NAN);
        let mean = if good > 0.0 { integral / good } else { now };
        let squares: f64 = parts.iter().map(|(v, span)| (v - mean) * (v - mean) * span).sum();
        let whole = (at - edge) as f64;
        let known = if whole > 0.0 { good / whole } else { f64::from(u8::from(!now.is_nan())) };
        let deviation = if good > 0.0 { (squares / good).sqrt() } else { 0.0 };
        let first = if told.first().is_some_and(|t| t.0 <= edge) { first } else { None };
        Stats { known, mean, deviation, least, greatest, sum, count, first }
    }

    fn near(a: f64, b: f64, scale: f64) -> bool {
        a == b || (a.is_nan() && b.is_nan()) || (a - b).abs() <= 1e-6 * (1.0 + scale.abs())
    }

    fn same(a: &Stats, b: &Stats) -> Result<(), TestCaseError> {
        let scale = [b.mean, b.least, b.greatest].into_iter().filter(|v| v.is_finite()).fold(0.0, |m: f64, v| m.max(v.abs()));
        for (a, b, what) in [
            (a.known, b.known, "known"),
            (a.mean, b.mean, "mean"),
            (a.deviation, b.deviation, "deviation"),
            (a.least, b.least, "least"),
            (a.greatest, b.greatest, "greatest"),
            (a.sum, b.sum, "sum"),
        ] {
            prop_assert!(near(a, b, scale * 100.0), "{what}: {a} is not {b}");
        }
        prop_assert_eq!((a.count, a.first), (b.count, b.first));
        Ok(())
    }

    fn values() -> impl Strategy<Value = Vec<(i64, Option<f64>, bool)>> {
        let value = prop_oneof![4 => (-1000.0..1000.0f64).prop_map(Some), 1 => Just(None)];
        prop::collection::vec((prop_oneof![8 => 0i64..40, 2 => 0i64..4000], value, any::<bool>()), 1..80)
    }

    #[test]
    fn a_bad_value_takes_the_place_of_one_of_the_same_instant() {
        let mut window = Window::new(4000);
        window.push(50_000, Some(1.0), true);
        window.push(50_000, None, false);
        window.push(54_000, Some(2.0), true);
        assert_eq!(window.stats().first, None);
    }

    proptest! {
        /// However values come, the window says what a calculation over all of them says.
        #[test]
        fn a_window_equals_the_calculation_over_everything(steps in values(), length in prop_oneof![Just(400i64), Just(4000), 401i64..2000]) {
            let mut window = Window::new(length);
            let mut told: Vec<(Nanos, Option<f64>, bool)> = Vec::new();
            let mut at = 50_000;
            for (step, value, came) in steps {
                at += step;
                // Of two at one instant the later one holds.
                window.push(at, value, came);
                told.push((at, value, came));
                same(&window.stats(), &naive(&told, length, at))?;
            }
            prop_assert!(window.panes.len() <= PANES as usize + 2);
        }

        /// What a second window saw of the time before joins as if one had seen it all.
        #[test]
        fn what_was_before_joins(steps in values(), cut in 1usize..60) {
            let (mut whole, mut early, mut late) = (Window::new(4000), Window::new(4000), Window::new(4000));
            let cut = cut.min(steps.len());
            // The second one begins at a boundary of panes, as whoever fills it in takes care of.
            let mut at = 50_000;
            for (i, (step, value, came)) in steps.into_iter().enumerate() {
                at += step;
                if i == cut {
                    at = at.div_euclid(10) * 10 + 10;
                }
                whole.push(at, value, came);
                if i < cut { early.push(at, value, came) } else { late.push(at, value, came) }
                if i == cut {
                    let held = early.held;
                    early.push(at, held, false);
                    early.panes.retain(|p| p.start < at);
                }
            }
            late.begin_with(&early);
            same(&late.stats(), &whole.stats())?;
        }
    }
}
