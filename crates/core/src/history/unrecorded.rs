//! Nothing holds over a span that was not recorded.

use super::Point;
use crate::time::Nanos;

/// A span for which a node recorded nothing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct NotRecorded {
    pub node: u16,
    pub from: Nanos,
    pub to: Nanos,
}

impl NotRecorded {
    /// Whether what a node stored at `time` does not hold at a later instant any more because of it.
    pub fn ends(&self, (node, time): (u16, Nanos), at: Nanos) -> bool {
        (node == self.node || node == 0) && self.to > time && at > self.from.max(time)
    }
}

/// A point and the node that recorded it; 0 where that is not known.
pub type Recorded = (u16, Point);

/// Ends each value that would hold over a span in which its node recorded nothing, at the span's begin; the first sample after
/// it is always stored. What another node recorded meanwhile goes on to hold.
#[derive(Debug)]
pub struct GapEnds {
    /// By their ends, the last one first.
    gaps: Vec<NotRecorded>,
    last: Option<(u16, Nanos)>,
}

impl GapEnds {
    pub fn new(mut gaps: Vec<NotRecorded>) -> GapEnds {
        gaps.sort_by_key(|gap| std::cmp::Reverse(gap.to));
        GapEnds { gaps, last: None }
    }

    /// Takes the next point, in order of time, and hands it on after what ends before it.
    pub fn push(&mut self, (node, point): Recorded, to: &mut impl FnMut(Point)) {
        // A sample may lie within a span: the last one before a stop, or one that was loaded later.
        while let Some(gap) = self.gaps.pop_if(|gap| gap.to <= point.time) {
            self.end(gap, to);
        }
        self.last = Some((node, point.time));
        to(point);
    }

    fn end(&mut self, gap: NotRecorded, to: &mut impl FnMut(Point)) {
        if let Some((node, last)) = self.last
            && (node == gap.node || node == 0)
        {
            let at = last.max(gap.from) + 1;
            self.last = Some((node, at));
            to(Point::unknown(at));
        }
    }

    /// Hands on what ends after the last point.
    pub fn finish(mut self, to: &mut impl FnMut(Point)) {
        while let Some(gap) = self.gaps.pop() {
            self.end(gap, to);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::before_it((1, 5), 10, false)]
    #[case::within_it((1, 5), 11, true)]
    #[case::long_after_it((1, 5), 99, true)]
    #[case::stored_within_it((1, 15), 15, false)]
    #[case::stored_within_it_and_gone((1, 15), 16, true)]
    #[case::stored_after_it((1, 20), 99, false)]
    #[case::another_node((2, 5), 15, false)]
    fn what_was_stored_ends(#[case] stored: (u16, Nanos), #[case] at: Nanos, #[case] ends: bool) {
        assert_eq!(NotRecorded { node: 1, from: 10, to: 20 }.ends(stored, at), ends);
    }

    #[rstest]
    #[case::nothing_recorded_before(&[(1, 50)], (1, 10, 20), &[50])]
    #[case::the_value_ends_where_the_span_begins(&[(1, 5), (1, 50)], (1, 10, 20), &[5, -11, 50])]
    #[case::a_sample_within_counts(&[(1, 5), (1, 15), (1, 50)], (1, 10, 20), &[5, 15, -16, 50])]
    #[case::nothing_comes_after_it(&[(1, 5)], (1, 10, 20), &[5, -11])]
    #[case::another_node_went_on(&[(1, 5), (2, 15), (1, 50)], (1, 10, 20), &[5, 15, 50])]
    #[case::another_node_did_not(&[(2, 5), (1, 50)], (1, 10, 20), &[5, 50])]
    #[case::stored_before_nodes_had_numbers(&[(0, 5), (1, 50)], (1, 10, 20), &[5, -11, 50])]
    fn values_end(#[case] points: &[(u16, Nanos)], #[case] gap: (u16, Nanos, Nanos), #[case] expected: &[Nanos]) {
        let points: Vec<Recorded> = points.iter().map(|&(node, time)| (node, Point::of(time, 1.0))).collect();
        let mut ends = GapEnds::new(vec![NotRecorded { node: gap.0, from: gap.1, to: gap.2 }]);
        let mut ended: Vec<Point> = Vec::new();
        points.into_iter().for_each(|recorded| ends.push(recorded, &mut |p| ended.push(p)));
        ends.finish(&mut |p| ended.push(p));
        // Where nothing is known any more the time stands negative.
        let times: Vec<Nanos> = ended.iter().map(|p| if p.good { p.time } else { -p.time }).collect();
        assert_eq!(times, expected);
    }
}
