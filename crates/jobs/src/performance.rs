//! How well alarms served: the events of a period, ready to be counted.

use havrel_core::{alarm::span::Turn, time::Nanos};
use havrel_db::{Db, DbError};
use uuid::Uuid;

/// Most events of a period that are counted.
pub const MOST_EVENTS: usize = 1_000_000;

/// What happened to alarms in a period.
#[derive(Clone, Debug, Default)]
pub struct Course {
    /// From the first event that history knows at the earliest.
    pub from: Nanos,
    pub to: Nanos,
    /// For how long of it nothing was recorded.
    pub unknown: Nanos,
    pub turns: Vec<Turn>,
    /// There are more events than are counted.
    pub more: bool,
}

/// Reads what happened to the alarms of some rules, or of all; `known` are those of which it is asked how they stood at the beginning.
///
/// # Errors
/// When the database does not answer.
pub async fn course(db: &Db, rules: Option<&[Uuid]>, known: &[Uuid], (from, to): (Nanos, Nanos)) -> Result<Course, DbError> {
    let first = db.first_alarm_event().await?;
    let from = from.max(first.unwrap_or(to)).min(to);
    let mut turns = db.alarm_course(rules, known, (from, to), MOST_EVENTS as i64 + 1).await?;
    let more = turns.len() > MOST_EVENTS;
    turns.truncate(MOST_EVENTS);
    let gaps = db.unrecorded(from, to).await?;
    let unknown = covered(gaps.into_iter().map(|gap| (gap.from.max(from), gap.to.min(to))).collect());
    Ok(Course { from, to, unknown, turns, more })
}

/// How long spans last together, where they may overlap.
fn covered(mut spans: Vec<(Nanos, Nanos)>) -> Nanos {
    spans.sort_unstable();
    let (mut sum, mut reached) = (0, Nanos::MIN);
    for (from, to) in spans {
        sum += (to - from.max(reached)).max(0);
        reached = reached.max(to);
    }
    sum
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::none(&[], 0)]
    #[case::apart(&[(0, 2), (5, 6)], 3)]
    #[case::one_in_the_other(&[(0, 9), (2, 3), (8, 12)], 12)]
    fn spans_are_covered_once(#[case] spans: &[(Nanos, Nanos)], #[case] sum: Nanos) {
        assert_eq!(covered(spans.to_vec()), sum);
    }
}
