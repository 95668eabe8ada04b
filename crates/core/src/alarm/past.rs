//! How an alarm stood at an instant: its events up to then, replayed through the same states that they came from.

use super::{AlarmEvent, AlarmStanding, AlarmStep, EventKind, Handling, Suppressed, Suppression};
use uuid::Uuid;

/// How an alarm stands after these events of its rule, the oldest first, where the rule asked for this handling.
pub fn after<'a>(rule: Uuid, handling: Handling, events: impl IntoIterator<Item = &'a AlarmEvent>) -> AlarmStanding {
    let mut standing = AlarmStanding::quiet(rule);
    for event in events {
        let suppress = |kind| {
            let by = event.actor.clone();
            let suppressed = Suppressed { by, since: event.occurred_at, until: event.until, reason: event.comment.clone() };
            AlarmStep::Suppress(kind, suppressed)
        };
        let step = match event.kind {
            EventKind::Raised => AlarmStep::Raise,
            EventKind::Returned => AlarmStep::Return,
            EventKind::Acknowledged => AlarmStep::Acknowledge,
            EventKind::Withdrawn => AlarmStep::Withdraw,
            EventKind::Reset => AlarmStep::Reset,
            EventKind::Shelved => suppress(Suppression::Shelved),
            EventKind::Suppressed => suppress(Suppression::ByDesign),
            EventKind::TakenOutOfService => suppress(Suppression::OutOfService),
            EventKind::Unshelved => AlarmStep::Lift(Suppression::Shelved),
            EventKind::Unsuppressed => AlarmStep::Lift(Suppression::ByDesign),
            EventKind::PutInService => AlarmStep::Lift(Suppression::OutOfService),
        };
        standing.state.step(step, handling);
        standing.sequence = event.sequence;
        match event.kind {
            EventKind::Raised => {
                standing.raised_at = event.occurred_at;
                (standing.value, standing.text) = (event.value, event.text.clone());
                standing.first_out = event.first_out;
                standing.acknowledged_by.clear();
            }
            EventKind::Returned => (standing.returned_at, standing.value) = (event.occurred_at, event.value),
            EventKind::Acknowledged => standing.acknowledged_by.clone_from(&event.actor),
            _ => {}
        }
    }
    standing
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::alarm::{AlarmState, StandardState};
    use proptest::prelude::*;
    use rstest::rstest;

    fn event(sequence: u32, kind: EventKind) -> AlarmEvent {
        AlarmEvent {
            rule: Uuid::nil(),
            sequence,
            kind,
            priority: 3,
            occurred_at: i64::from(sequence) * 10,
            decided_at: i64::from(sequence) * 10,
            value: f64::from(sequence).into(),
            limit: 1.0,
            suppressed: false,
            first_out: false,
            until: None,
            actor: "Shift lead".into(),
            comment: String::new(),
            text: format!("Level high, {sequence}"),
            values: Vec::new(),
        }
    }

    #[rstest]
    #[case(&[], StandardState::Normal)]
    #[case(&[EventKind::Raised], StandardState::Unacknowledged)]
    #[case(&[EventKind::Raised, EventKind::Acknowledged], StandardState::Acknowledged)]
    #[case(&[EventKind::Raised, EventKind::Returned], StandardState::ReturnedUnacknowledged)]
    #[case(&[EventKind::Raised, EventKind::Returned, EventKind::Acknowledged], StandardState::Normal)]
    #[case(&[EventKind::Raised, EventKind::Acknowledged, EventKind::Returned], StandardState::Normal)]
    #[case(&[EventKind::Raised, EventKind::Withdrawn], StandardState::Normal)]
    #[case(&[EventKind::Shelved, EventKind::Raised], StandardState::Shelved)]
    #[case(&[EventKind::Shelved, EventKind::Raised, EventKind::Unshelved], StandardState::Unacknowledged)]
    fn events_lead_to_the_states_of_the_standard(#[case] kinds: &[EventKind], #[case] wanted: StandardState) {
        let events: Vec<AlarmEvent> = kinds.iter().zip(1..).map(|(kind, n)| event(n, *kind)).collect();
        assert_eq!(after(Uuid::nil(), Handling::default(), &events).state.standard(), wanted);
    }

    #[test]
    fn what_the_list_said_is_kept() {
        let events = [
            event(4, EventKind::Raised),
            event(5, EventKind::Returned),
            event(6, EventKind::Raised),
            event(7, EventKind::Acknowledged),
        ];
        let standing = after(Uuid::nil(), Handling::default(), &events);
        assert_eq!(
            (standing.raised_at, standing.text.as_str(), standing.acknowledged_by.as_str()),
            (60, "Level high, 6", "Shift lead")
        );
        assert!(standing.is_active());
    }

    proptest! {
        /// Whatever happens: the events that it makes lead to the state that it leads to.
        #[test]
        fn replayed_events_end_where_the_alarm_stood(
            steps in prop::collection::vec(0usize..7, 0..30), acknowledge in any::<bool>(), latch in any::<bool>()
        ) {
            let handling = Handling { acknowledge, latch };
            let of = |n: usize| match n {
                0 => (AlarmStep::Raise, EventKind::Raised),
                1 => (AlarmStep::Return, EventKind::Returned),
                2 => (AlarmStep::Acknowledge, EventKind::Acknowledged),
                3 => (AlarmStep::Withdraw, EventKind::Withdrawn),
                4 => (AlarmStep::Suppress(Suppression::Shelved, Suppressed::default()), EventKind::Shelved),
                5 => (AlarmStep::Reset, EventKind::Reset),
                _ => (AlarmStep::Lift(Suppression::Shelved), EventKind::Unshelved),
            };
            let (mut state, mut events) = (AlarmState::default(), Vec::new());
            for (step, kind) in steps.into_iter().map(of) {
                if state.step(step, handling) {
                    events.push(event(events.len() as u32 + 1, kind));
                }
            }
            let replayed = after(Uuid::nil(), handling, &events).state;
            prop_assert_eq!((replayed.condition, replayed.acknowledgement), (state.condition, state.acknowledgement));
            prop_assert_eq!(replayed.suppressions.len(), state.suppressions.len());
        }
    }
}
