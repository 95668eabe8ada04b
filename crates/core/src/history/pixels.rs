//! A period at the resolution of a picture: the extremes of every pixel, with gaps kept.

use super::Point;
use crate::{number::Number, time::Nanos};

/// Columns of equal length. Each entry is a pixel that holds samples; pixels between two entries hold the value of
/// the earlier one.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Pixels {
    /// Nanoseconds from the start of the period; rising.
    pub offset: Vec<i64>,
    /// `None` begins a gap.
    pub minimum: Vec<Option<f64>>,
    pub maximum: Vec<Option<f64>>,
    /// The value with which the pixel ends; what holds until the next entry.
    pub last: Vec<Option<f64>>,
    /// Spans for which values were set by hand: offsets of their beginnings and ends.
    pub by_hand: Vec<(i64, i64)>,
}

impl Pixels {
    fn add(&mut self, offset: i64, minimum: Option<f64>, maximum: Option<f64>, last: Option<f64>) {
        self.offset.push(offset);
        self.minimum.push(minimum);
        self.maximum.push(maximum);
        self.last.push(last);
    }
}

/// Reduces `points` (in order of time, the first may lie before `from` and hold there) to at most `width` pixels plus
/// one entry for the value held at the start. With no more than two samples per pixel they are given as they are.
///
/// A pixel in which the value went bad and stayed so gives its extremes and then a gap.
pub fn pixels(points: &[Point], from: Nanos, to: Nanos, width: usize) -> Pixels {
    let mut out = Pixels::default();
    let start = points.partition_point(|p| p.time <= from);
    if let Some(held) = start.checked_sub(1).and_then(|i| points[i].value.map(Number::float)) {
        out.add(0, Some(held), Some(held), Some(held));
    }
    out.by_hand = by_hand(points, from, to);
    let inside = &points[start..points.partition_point(|p| p.time <= to)];
    let width = width.clamp(1, 20_000);
    if inside.len() <= width * 2 {
        for point in inside {
            let value = point.value.map(Number::float);
            out.add(point.time - from, value, value, value);
        }
        return out;
    }
    let step = ((to - from) / width as i64).max(1);
    for pixel in inside.chunk_by(|a, b| (a.time - from) / step == (b.time - from) / step) {
        let good = pixel.iter().filter_map(|p| p.value.map(Number::float));
        let (low, high) = good.fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(v), h.max(v)));
        let seen = low <= high;
        let last = pixel[pixel.len() - 1];
        let at = pixel[0].time - from;
        if seen {
            out.add(at, Some(low), Some(high), last.value.map(Number::float).or(Some(high)));
        }
        if last.value.is_none() && (!seen || last.time - from > at) {
            out.add(last.time - from, None, None, None);
        }
    }
    out
}

/// The spans for which values were set by hand, cut to the period, as offsets from its start.
fn by_hand(points: &[Point], from: Nanos, to: Nanos) -> Vec<(i64, i64)> {
    let mut spans = Vec::new();
    let mut since = None;
    for point in points.iter().take_while(|p| p.time <= to) {
        match (since, point.by_hand) {
            (None, true) => since = Some(point.time.max(from)),
            (Some(began), false) => {
                since = None;
                if point.time > from {
                    spans.push((began - from, point.time - from));
                }
            }
            _ => {}
        }
    }
    spans.extend(since.map(|began| (began - from, to - from)));
    spans
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn p(time: Nanos, value: f64) -> Point {
        Point::of(time, value)
    }

    #[test]
    fn few_samples_come_as_they_are_with_the_held_value_first() {
        let out = pixels(&[p(-10, 1.0), p(5, 2.0), Point::unknown(7)], 0, 100, 50);
        assert_eq!(out.offset, vec![0, 5, 7]);
        assert_eq!(out.last, vec![Some(1.0), Some(2.0), None]);
    }

    #[rstest::rstest]
    #[case::none(&[(5, false)], &[])]
    #[case::within(&[(5, false), (10, true), (12, true), (30, false)], &[(10, 30)])]
    #[case::from_before(&[(-50, true), (30, false)], &[(0, 30)])]
    #[case::ended_before(&[(-50, true), (-30, false), (20, false)], &[])]
    #[case::still_on(&[(10, true)], &[(10, 100)])]
    #[case::twice(&[(10, true), (20, false), (90, true), (200, false)], &[(10, 20), (90, 100)])]
    fn what_was_set_by_hand_is_told_by_span(#[case] set: &[(Nanos, bool)], #[case] wanted: &[(i64, i64)]) {
        let points: Vec<Point> = set.iter().map(|&(time, by_hand)| Point { by_hand, ..p(time, 1.0) }).collect();
        assert_eq!(pixels(&points, 0, 100, 50).by_hand, wanted);
    }

    proptest! {
        /// No extreme is lost, a gap stays a gap, offsets rise, and the answer is bounded.
        #[test]
        fn extremes_and_gaps_survive(
            raw in prop::collection::vec((0i64..100_000, prop::option::weighted(0.9, -1e6..1e6f64)), 1..600), width in 1usize..40,
        ) {
            let mut points: Vec<Point> = raw.into_iter().map(|(time, value)| value.map_or(Point::unknown(time), |value| p(time, value))).collect();
            points.sort_by_key(|p| p.time);
            points.dedup_by_key(|p| p.time);
            let out = pixels(&points, 0, 100_000, width);
            let max = |v: &mut dyn Iterator<Item = f64>| v.fold(f64::NEG_INFINITY, f64::max);
            prop_assert_eq!(
                max(&mut out.maximum.iter().flatten().copied()),
                max(&mut points.iter().filter_map(|p| p.value.map(Number::float)))
            );
            prop_assert!(out.offset.windows(2).all(|w| w[0] < w[1]) );
            prop_assert!(out.offset.len() <= 4 * width + 3);
            prop_assert_eq!(out.last.last().copied().flatten().is_none(), points.last().unwrap().value.is_none());
        }
    }
}
