//! Statistics of equal spans of time.

use super::{Fold, Point};
use crate::{number::Number, time::Nanos};

/// What happened in one span. Numbers are `None` where nothing good is known.
#[derive(Clone, Debug, PartialEq)]
pub struct Span {
    pub from: Nanos,
    pub to: Nanos,
    /// Average weighted by the time each value held. Of large whole numbers it is only as exact as an `f64`.
    pub average: Option<f64>,
    pub minimum: Option<Number>,
    pub maximum: Option<Number>,
    /// The value that held when the span began, or else the first in it.
    pub first: Option<Number>,
    pub last: Option<Number>,
    /// Sum of the good numbers that were stored in the span.
    pub sum: Option<f64>,
    /// Samples stored in the span, good ones only.
    pub count: u64,
    /// Share of the span's time, 0 to 1, for which a good value is known.
    pub good: f64,
    /// Share of the span's time for which the value was one set by hand.
    pub by_hand: f64,
}

/// Statistics that grow as points come, in order of time; they hold the spans and no points. The first point may be the one
/// that holds at the start.
#[derive(Debug)]
pub struct SpanFold {
    from: Nanos,
    to: Nanos,
    parts: usize,
    /// Nothing is known after it.
    known_until: Nanos,
    held: Option<Point>,
    done: Vec<Span>,
    /// The span that is being filled.
    open: Filling,
}

/// A span with what its averages are made of.
#[derive(Debug)]
struct Filling {
    span: Span,
    area: f64,
    counted: f64,
    good_time: f64,
    hand_time: f64,
    /// Until where it is worked out.
    at: Nanos,
}

impl Filling {
    fn new(from: Nanos, to: Nanos) -> Filling {
        let (average, minimum, maximum, first, last, sum) = Default::default();
        let span = Span { from, to, average, minimum, maximum, first, last, sum, count: 0, good: 0.0, by_hand: 0.0 };
        Filling { span, area: 0.0, counted: 0.0, good_time: 0.0, hand_time: 0.0, at: from }
    }

    /// The value held until then counts for the time that it held.
    fn hold(&mut self, held: Option<Point>, until: Nanos) {
        if let Some(Point { value, good: true, by_hand, .. }) = held
            && until > self.at
        {
            let time = (until - self.at) as f64;
            self.good_time += time;
            self.hand_time += if by_hand { time } else { 0.0 };
            if let Some(value) = value {
                self.area += value.float() * time;
                self.counted += time;
                see(&mut self.span, value);
            }
        }
        self.at = self.at.max(until);
    }

    /// The next point came, after one that holds until then.
    fn see(&mut self, held: Option<Point>, point: Point, known_until: Nanos) {
        if point.time >= self.span.from {
            self.hold(held, point.time.min(known_until));
            self.span.count += u64::from(point.good);
            if let Some(value) = point.value {
                see(&mut self.span, value);
                *self.span.sum.get_or_insert(0.0) += value.float();
            }
        }
    }

    fn finish(self) -> Span {
        let mut span = self.span;
        span.average = (self.counted > 0.0).then(|| self.area / self.counted).or(span.last.map(Number::float));
        let share = |time: f64| if span.to > span.from { time / (span.to - span.from) as f64 } else { 0.0 };
        (span.good, span.by_hand) = (share(self.good_time), share(self.hand_time));
        span
    }
}

impl SpanFold {
    /// Cuts `from..to` into `parts` equal spans; nothing is known after `known_until`.
    pub fn new(from: Nanos, to: Nanos, parts: usize, known_until: Nanos) -> SpanFold {
        let parts = parts.max(1);
        let open = Filling::new(from, edge(from, to, parts, 1));
        SpanFold { from, to, parts, known_until, held: None, done: Vec::with_capacity(parts), open }
    }

    fn close(&mut self) {
        let end = self.open.span.to;
        self.open.hold(self.held, end.min(self.known_until));
        let next = edge(self.from, self.to, self.parts, self.done.len() + 2);
        let filled = std::mem::replace(&mut self.open, Filling::new(end, next));
        self.done.push(filled.finish());
    }
}

impl Fold for SpanFold {
    type Answer = Vec<Span>;

    fn push(&mut self, point: Point) {
        if point.time >= self.to {
            return;
        }
        while point.time >= self.open.span.to {
            self.close();
        }
        if point.time >= self.from {
            self.open.see(self.held, point, self.known_until);
        }
        self.held = Some(point);
    }

    fn finish(mut self) -> Vec<Span> {
        while self.done.len() < self.parts {
            self.close();
        }
        self.done
    }
}

/// One span that is filled while it lasts.
#[derive(Debug)]
pub struct OpenSpan {
    held: Option<Point>,
    open: Filling,
}

impl OpenSpan {
    /// The span `from..to`, with what holds when it begins.
    pub fn new(from: Nanos, to: Nanos, held: Option<Point>) -> OpenSpan {
        OpenSpan { held, open: Filling::new(from, to) }
    }

    /// When it ends.
    pub fn to(&self) -> Nanos {
        self.open.span.to
    }

    /// Takes the next point, in order of time; one behind the end is passed over.
    pub fn push(&mut self, point: Point) {
        if point.time < self.to() {
            self.open.see(self.held, point, self.to());
            self.held = Some(point);
        }
    }

    /// What happened in it, now that it has ended.
    pub fn close(mut self) -> Span {
        self.open.hold(self.held, self.open.span.to);
        self.open.finish()
    }
}

/// Where the span before the one with this number ends.
fn edge(from: Nanos, to: Nanos, parts: usize, number: usize) -> Nanos {
    let number = number.min(parts) as i128;
    from + ((i128::from(to) - i128::from(from)) * number / parts as i128) as i64
}

/// The statistics of points that are at hand, as [`SpanFold`] makes them.
pub fn spans(points: &[Point], from: Nanos, to: Nanos, parts: usize, known_until: Nanos) -> Vec<Span> {
    let mut fold = SpanFold::new(from, to, parts, known_until);
    points.iter().for_each(|point| fold.push(*point));
    fold.finish()
}

impl Span {
    /// Whether its average may have lost digits of the values.
    pub fn is_average_rounded(&self) -> bool {
        [self.minimum, self.maximum].into_iter().flatten().any(Number::is_large)
    }
}

fn see(span: &mut Span, value: Number) {
    span.first.get_or_insert(value);
    span.last = Some(value);
    span.minimum = Some(span.minimum.filter(|m| m.order(value).is_le()).unwrap_or(value));
    span.maximum = Some(span.maximum.filter(|m| m.order(value).is_ge()).unwrap_or(value));
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn p(time: Nanos, value: f64) -> Point {
        Point::of(time, value)
    }

    #[test]
    fn a_held_value_weighs_as_long_as_it_held() {
        let span = &spans(&[p(-5, 10.0), p(30, 20.0)], 0, 40, 1, 40)[0];
        assert_eq!(span.average, Some(12.5));
        assert_eq!((span.first, span.last, span.count, span.good), (Some(10.0.into()), Some(20.0.into()), 1, 1.0));
    }

    #[test]
    fn a_good_text_is_good_and_has_no_number() {
        let span = &spans(&[Point { value: None, ..p(0, 0.0) }], 0, 40, 1, 40)[0];
        assert_eq!((span.average, span.first, span.count, span.good), (None, None, 1, 1.0));
    }

    #[test]
    fn large_counters_keep_their_digits() {
        let of = |time, value: u64| Point { value: Some(value.into()), ..p(time, 0.0) };
        let span = &spans(&[of(0, 9_007_199_254_740_993), of(10, 9_007_199_254_740_995)], 0, 40, 1, 40)[0];
        let print = |n: Option<Number>| n.unwrap().print(1);
        assert_eq!((print(span.first), print(span.last)), ("9007199254740993".into(), "9007199254740995".into()));
        assert_eq!((span.minimum, span.maximum, span.is_average_rounded()), (span.first, span.last, true));
    }

    #[test]
    fn a_gap_counts_for_nothing() {
        let points = [p(0, 10.0), Point::unknown(10), p(30, 20.0)];
        let span = &spans(&points, 0, 40, 1, 40)[0];
        assert_eq!((span.average, span.good), (Some(15.0), 0.5));
    }

    #[test]
    fn what_was_set_by_hand_has_its_share() {
        let by_hand = Point { by_hand: true, ..p(10, 30.0) };
        let all = spans(&[p(0, 10.0), by_hand, p(30, 20.0)], 0, 40, 2, 40);
        assert_eq!(all.iter().map(|s| s.by_hand).collect::<Vec<_>>(), vec![0.5, 0.5]);
        assert_eq!(all.iter().map(|s| s.average).collect::<Vec<_>>(), vec![Some(20.0), Some(25.0)]);
    }

    #[test]
    fn nothing_is_known_after_the_end_of_what_is_complete() {
        let all = spans(&[p(0, 10.0)], 0, 40, 4, 15);
        assert_eq!(all.iter().map(|s| s.good).collect::<Vec<_>>(), vec![1.0, 0.5, 0.0, 0.0]);
        assert_eq!(all[3].average, None);
    }

    #[test]
    fn nothing_stored_gives_empty_spans() {
        let all = spans(&[], 0, 40, 2, 40);
        assert!(all.iter().all(|s| s.average.is_none() && s.count == 0 && s.good == 0.0));
    }

    proptest! {
        /// Cutting finer never changes the whole: counts add up, extremes agree, and weighted averages agree.
        #[test]
        fn parts_add_up(raw in prop::collection::vec((0i64..1000, prop::option::weighted(0.8, -50.0..50.0f64)), 0..60), parts in 1usize..20) {
            let mut points: Vec<Point> = raw.into_iter().map(|(time, value)| value.map_or(Point::unknown(time), |value| p(time, value))).collect();
            points.sort_by_key(|p| p.time);
            points.dedup_by_key(|p| p.time);
            let whole = &spans(&points, 0, 1000, 1, 1000)[0];
            let cut = spans(&points, 0, 1000, parts, 1000);
            prop_assert_eq!(cut.iter().map(|s| s.count).sum::<u64>(), whole.count);
            let length = |s: &Span| (s.to - s.from) as f64;
            let good: f64 = cut.iter().map(|s| s.good * length(s)).sum();
            prop_assert!((good - whole.good * 1000.0).abs() < 1e-6);
            if whole.good > 0.0 {
                let area: f64 = cut.iter().filter_map(|s| Some(s.average? * s.good * length(s))).sum();
                prop_assert!((area / good - whole.average.unwrap()).abs() < 1e-6);
            }
            let max = cut.iter().filter_map(|s| s.maximum.map(Number::float)).fold(f64::NEG_INFINITY, f64::max);
            prop_assert_eq!(whole.maximum.map_or(f64::NEG_INFINITY, Number::float), max);
        }
    }
}
