//! How long a value was in each state, for spans of time.

use super::{Fold, Point};
use crate::time::Nanos;

/// How long a value was each of some numbers, in nanoseconds, for each span between neighbouring bounds. It grows as points come, in
/// order of time; the first point may be the one that holds at the start.
#[derive(Debug)]
pub struct StateFold {
    bounds: Vec<Nanos>,
    numbers: Vec<i64>,
    /// Nothing is known after it.
    known_until: Nanos,
    held: Option<Point>,
    /// Until where it is worked out.
    at: Nanos,
    done: Vec<Vec<Nanos>>,
}

impl StateFold {
    /// Spans between rising bounds; nothing is known after `known_until`.
    pub fn new(bounds: Vec<Nanos>, numbers: Vec<i64>, known_until: Nanos) -> StateFold {
        let spans = bounds.len().saturating_sub(1);
        let done = vec![vec![0; numbers.len()]; spans];
        let at = bounds.first().copied().unwrap_or(Nanos::MIN);
        StateFold { bounds, numbers, known_until, held: None, at, done }
    }

    /// What is held counts until then.
    fn hold(&mut self, until: Nanos) {
        let until = until.min(self.known_until).min(self.bounds.last().copied().unwrap_or(until));
        if until <= self.at {
            return;
        }
        let from = std::mem::replace(&mut self.at, until);
        let Some(number) = self.held.and_then(|point| point.value).map(|value| value.float()) else { return };
        let Some(state) = self.numbers.iter().position(|known| *known as f64 == number) else { return };
        let first = self.bounds.partition_point(|bound| *bound <= from).saturating_sub(1);
        for (span, times) in self.done.iter_mut().enumerate().skip(first) {
            let (begin, end) = (self.bounds[span].max(from), self.bounds[span + 1].min(until));
            if begin >= until {
                break;
            }
            times[state] += (end - begin).max(0);
        }
    }
}

impl Fold for StateFold {
    /// For each span the time in each state.
    type Answer = Vec<Vec<Nanos>>;

    fn push(&mut self, point: Point) {
        self.hold(point.time);
        self.held = Some(point);
    }

    fn finish(mut self) -> Vec<Vec<Nanos>> {
        self.hold(Nanos::MAX);
        self.done
    }
}

/// Two answers to one question.
impl<A: Fold, B: Fold> Fold for (A, B) {
    type Answer = (A::Answer, B::Answer);

    fn push(&mut self, point: Point) {
        self.0.push(point);
        self.1.push(point);
    }

    fn finish(self) -> (A::Answer, B::Answer) {
        (self.0.finish(), self.1.finish())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn fold(points: &[(Nanos, Option<f64>)], bounds: &[Nanos], known_until: Nanos) -> Vec<Vec<Nanos>> {
        let mut fold = StateFold::new(bounds.to_vec(), vec![0, 1], known_until);
        for &(time, value) in points {
            fold.push(value.map_or_else(|| Point::unknown(time), |value| Point::of(time, value)));
        }
        fold.finish()
    }

    #[test]
    fn a_state_counts_for_the_time_it_lasts() {
        let points = [(-5, Some(1.0)), (10, Some(0.0)), (25, None), (30, Some(1.0)), (32, Some(7.0))];
        assert_eq!(fold(&points, &[0, 20, 40], 100), [[10, 10], [5, 2]]);
        assert_eq!(fold(&points[..2], &[0, 20, 40], 15), [[5, 10], [0, 0]], "nothing is known after it");
        assert_eq!(fold(&[], &[0, 20], 100), [[0, 0]]);
    }

    proptest! {
        #[test]
        fn spans_come_to_the_whole(steps in prop::collection::vec((1i64..50, 0u8..4), 0..40), cuts in prop::collection::vec(1i64..1000, 0..10)) {
            let mut at = -20;
            let points: Vec<_> = steps.iter().map(|(wait, state)| { at += wait; (at, (*state < 3).then_some(f64::from(*state))) }).collect();
            let mut bounds: Vec<i64> = cuts.into_iter().chain([0, 1000]).collect();
            bounds.sort_unstable();
            bounds.dedup();
            let whole = fold(&points, &[0, 1000], 900);
            let parts = fold(&points, &bounds, 900);
            for state in 0..2 {
                prop_assert_eq!(parts.iter().map(|times| times[state]).sum::<i64>(), whole[0][state]);
            }
        }
    }
}
