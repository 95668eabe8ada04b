//! A period at the resolution of a picture: the extremes of every pixel, with gaps kept.

use super::{Fold, Point};
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

/// Most pixels of one picture.
const WIDEST: usize = 20_000;

/// A picture that grows as points come, in order of time; it holds what it shows and no more. The first point may lie before
/// the period and hold there.
///
/// There are at most as many pixels as were asked for, with two entries each, and one for the value held at the start. With no
/// more than two samples per pixel they are given as they are. A pixel in which the value went bad and stayed so gives its
/// extremes and then a gap.
#[derive(Debug)]
pub struct PixelFold {
    from: Nanos,
    to: Nanos,
    width: usize,
    /// The newest point that lies before the period or at its start.
    held: Option<Point>,
    /// Points within the period, as long as they are few enough to be given as they are.
    few: Vec<Point>,
    /// The pixel that is being filled, once there are more.
    open: Option<Pixel>,
    out: Pixels,
    hand: HandSpans,
}

#[derive(Debug)]
struct Pixel {
    number: i64,
    first: Nanos,
    low: f64,
    high: f64,
    last: Point,
}

impl PixelFold {
    /// An empty picture of `from..=to`, `width` pixels wide.
    pub fn new(from: Nanos, to: Nanos, width: usize) -> PixelFold {
        let width = width.clamp(1, WIDEST);
        let (few, out, hand) = Default::default();
        PixelFold { from, to, width, held: None, few, open: None, out, hand }
    }

    fn bin(&mut self, point: Point) {
        let step = ((self.to - self.from) / self.width as i64).max(1);
        let number = (point.time - self.from) / step;
        let value = point.value.map(Number::float);
        match &mut self.open {
            Some(pixel) if pixel.number == number => {
                if let Some(value) = value {
                    (pixel.low, pixel.high) = (pixel.low.min(value), pixel.high.max(value));
                }
                pixel.last = point;
            }
            _ => {
                self.close();
                let (low, high) = value.map_or((f64::INFINITY, f64::NEG_INFINITY), |v| (v, v));
                self.open = Some(Pixel { number, first: point.time, low, high, last: point });
            }
        }
    }

    fn close(&mut self) {
        let Some(Pixel { first, low, high, last, .. }) = self.open.take() else { return };
        let (seen, at) = (low <= high, first - self.from);
        self.begin();
        if seen {
            self.out.add(at, Some(low), Some(high), last.value.map(Number::float).or(Some(high)));
        }
        if last.value.is_none() && (!seen || last.time - self.from > at) {
            self.out.add(last.time - self.from, None, None, None);
        }
    }

    /// Puts the value held at the start in front.
    fn begin(&mut self) {
        if self.out.offset.is_empty()
            && let Some(held) = self.held.take().and_then(|p| p.value).map(Number::float)
        {
            self.out.add(0, Some(held), Some(held), Some(held));
        }
    }
}

impl Fold for PixelFold {
    type Answer = Pixels;

    fn push(&mut self, point: Point) {
        if point.time > self.to {
            return;
        }
        self.hand.push(&point, self.from);
        if point.time <= self.from {
            self.held = Some(point);
            return;
        }
        if self.few.len() < self.width * 2 && self.open.is_none() {
            self.few.push(point);
            return;
        }
        for earlier in std::mem::take(&mut self.few) {
            self.bin(earlier);
        }
        self.bin(point);
    }

    fn finish(mut self) -> Pixels {
        self.close();
        self.begin();
        for point in std::mem::take(&mut self.few) {
            let value = point.value.map(Number::float);
            self.out.add(point.time - self.from, value, value, value);
        }
        self.out.by_hand = self.hand.finish(self.from, self.to);
        self.out
    }
}

/// The picture of points that are at hand, as [`PixelFold`] makes it.
pub fn pixels(points: &[Point], from: Nanos, to: Nanos, width: usize) -> Pixels {
    let mut fold = PixelFold::new(from, to, width);
    points.iter().for_each(|point| fold.push(*point));
    fold.finish()
}

/// The spans for which values were set by hand.
#[derive(Debug, Default)]
struct HandSpans {
    since: Option<Nanos>,
    spans: Vec<(i64, i64)>,
}

impl HandSpans {
    fn push(&mut self, point: &Point, from: Nanos) {
        match (self.since, point.by_hand) {
            (None, true) => self.since = Some(point.time.max(from)),
            (Some(began), false) => {
                self.since = None;
                if point.time > from {
                    self.spans.push((began - from, point.time - from));
                }
            }
            _ => {}
        }
    }

    /// Cut to the period, as offsets from its start.
    fn finish(self, from: Nanos, to: Nanos) -> Vec<(i64, i64)> {
        let mut spans = self.spans;
        spans.extend(self.since.map(|began| (began - from, to - from)));
        spans
    }
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
