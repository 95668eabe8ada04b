//! For how long an alarm's condition held: spans made of its events.

use super::EventKind;
use crate::time::Nanos;
use std::collections::HashMap;
use uuid::Uuid;

/// What of an event matters to spans and to figures.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Turn {
    pub rule: Uuid,
    pub kind: EventKind,
    /// 4 to 1; 0 for what operators are not told.
    pub priority: u8,
    pub at: Nanos,
    /// The alarm is kept from the operator after this.
    pub suppressed: bool,
}

/// A span for which an alarm's condition held.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AlarmSpan {
    pub rule: Uuid,
    pub priority: u8,
    pub from: Nanos,
    /// `None`: it still holds.
    pub to: Option<Nanos>,
}

/// Spans that touch `from..=to`, made of events in the order of their time. Events before `from` open spans that reach into
/// it; those after `to` are not needed.
pub fn spans(turns: impl IntoIterator<Item = Turn>, from: Nanos, to: Nanos) -> Vec<AlarmSpan> {
    let mut open: HashMap<Uuid, AlarmSpan> = HashMap::new();
    let mut done = Vec::new();
    for turn in turns {
        match turn.kind {
            EventKind::Raised if turn.at <= to => {
                let span = AlarmSpan { rule: turn.rule, priority: turn.priority, from: turn.at, to: None };
                // Raised anew without a return between: a restart lost it; the first one goes on.
                open.entry(turn.rule).or_insert(span);
            }
            EventKind::Returned | EventKind::Withdrawn => {
                done.extend(open.remove(&turn.rule).map(|span| AlarmSpan { to: Some(turn.at), ..span }));
            }
            _ => {}
        }
    }
    done.extend(open.into_values());
    done.retain(|span| span.to.is_none_or(|end| end >= from));
    done.sort_unstable_by_key(|span| (span.from, span.rule));
    done
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn turn(kind: EventKind, at: Nanos) -> Turn {
        Turn { rule: Uuid::from_u128(1), kind, priority: 3, at, suppressed: false }
    }

    use EventKind::*;

    #[rstest]
    #[case::within(&[(Raised, 12), (Returned, 15)], &[(12, Some(15))])]
    #[case::still_holds(&[(Raised, 12), (Acknowledged, 13)], &[(12, None)])]
    #[case::reaches_in(&[(Raised, 2), (Returned, 11)], &[(2, Some(11))])]
    #[case::over_before(&[(Raised, 2), (Returned, 9)], &[])]
    #[case::begun_before_the_first_event(&[(Returned, 12), (Raised, 14)], &[(14, None)])]
    #[case::withdrawn(&[(Raised, 12), (Withdrawn, 13)], &[(12, Some(13))])]
    #[case::raised_twice(&[(Raised, 12), (Raised, 14), (Returned, 16)], &[(12, Some(16))])]
    #[case::after_the_end(&[(Raised, 21)], &[])]
    fn events_make_spans(#[case] events: &[(EventKind, Nanos)], #[case] expected: &[(Nanos, Option<Nanos>)]) {
        let found = spans(events.iter().map(|&(kind, at)| turn(kind, at)), 10, 20);
        assert_eq!(found.iter().map(|s| (s.from, s.to)).collect::<Vec<_>>(), expected);
    }
}
