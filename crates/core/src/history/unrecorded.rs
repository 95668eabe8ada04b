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

/// A point and the node that recorded it; 0 where that is not known.
pub type Recorded = (u16, Point);

/// Ends each value that would hold over a span in which its node recorded nothing, at the span's begin; the first sample after
/// it is always stored. What another node recorded meanwhile goes on to hold.
pub fn end_at_gaps(points: Vec<Recorded>, gaps: &[NotRecorded]) -> Vec<Point> {
    let mut points = points;
    for gap in gaps {
        // A sample may lie within the span: the last one before a stop, or one that was loaded later.
        let at = points.partition_point(|(_, p)| p.time < gap.to);
        if let Some((node, last)) = at.checked_sub(1).map(|i| (points[i].0, points[i].1.time))
            && (node == gap.node || node == 0)
        {
            points.insert(at, (node, Point::unknown(last.max(gap.from) + 1)));
        }
    }
    points.into_iter().map(|(_, point)| point).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::nothing_recorded_before(&[(1, 50)], (1, 10, 20), &[50])]
    #[case::the_value_ends_where_the_span_begins(&[(1, 5), (1, 50)], (1, 10, 20), &[5, -11, 50])]
    #[case::a_sample_within_counts(&[(1, 5), (1, 15), (1, 50)], (1, 10, 20), &[5, 15, -16, 50])]
    #[case::another_node_went_on(&[(1, 5), (2, 15), (1, 50)], (1, 10, 20), &[5, 15, 50])]
    #[case::another_node_did_not(&[(2, 5), (1, 50)], (1, 10, 20), &[5, 50])]
    #[case::stored_before_nodes_had_numbers(&[(0, 5), (1, 50)], (1, 10, 20), &[5, -11, 50])]
    fn values_end(#[case] points: &[(u16, Nanos)], #[case] gap: (u16, Nanos, Nanos), #[case] expected: &[Nanos]) {
        let points = points.iter().map(|&(node, time)| (node, Point::of(time, 1.0))).collect();
        let ended = end_at_gaps(points, &[NotRecorded { node: gap.0, from: gap.1, to: gap.2 }]);
        // Where nothing is known any more the time stands negative.
        let times: Vec<Nanos> = ended.iter().map(|p| if p.good { p.time } else { -p.time }).collect();
        assert_eq!(times, expected);
    }
}
