//! The states against the standard's diagram, and what holds for any order of steps.

use super::{StandardState::*, Suppression::*, *};
use proptest::prelude::*;
use rstest::rstest;

const PLAIN: Handling = Handling { acknowledge: true, latch: false };
const LATCHING: Handling = Handling { acknowledge: true, latch: true };
const SILENT: Handling = Handling { acknowledge: false, latch: false };

fn suppress(kind: Suppression) -> AlarmStep {
    AlarmStep::Suppress(kind, Suppressed { by: "Shift lead".into(), since: 1, until: None, reason: "test".into() })
}

/// A state of the standard: a suppressed one with a condition that holds.
fn state(of: StandardState) -> AlarmState {
    let kind = match of {
        StandardState::Shelved => Suppression::Shelved,
        SuppressedByDesign => ByDesign,
        StandardState::OutOfService => Suppression::OutOfService,
        of => return AlarmState::of_standard(of).unwrap(),
    };
    let mut state = AlarmState::of_standard(Unacknowledged).unwrap();
    state.step(suppress(kind), PLAIN);
    state
}

use AlarmStep::{Acknowledge, Lift, Raise, Reset, Return, Withdraw};

#[rstest]
// A, normal.
#[case(Normal, Raise, PLAIN, Some(Unacknowledged))]
#[case(Normal, Raise, SILENT, Some(Acknowledged))]
#[case(Normal, Return, PLAIN, None)]
#[case(Normal, Acknowledge, PLAIN, None)]
#[case(Normal, Reset, LATCHING, None)]
#[case(Normal, Withdraw, PLAIN, None)]
// B, unacknowledged.
#[case(Unacknowledged, Raise, PLAIN, None)]
#[case(Unacknowledged, Acknowledge, PLAIN, Some(Acknowledged))]
#[case(Unacknowledged, Return, PLAIN, Some(ReturnedUnacknowledged))]
#[case(Unacknowledged, Return, LATCHING, Some(LatchedUnacknowledged))]
#[case(Unacknowledged, Reset, LATCHING, None)]
#[case(Unacknowledged, Withdraw, PLAIN, Some(Normal))]
// C, acknowledged.
#[case(Acknowledged, Raise, PLAIN, None)]
#[case(Acknowledged, Acknowledge, PLAIN, None)]
#[case(Acknowledged, Return, PLAIN, Some(Normal))]
#[case(Acknowledged, Return, LATCHING, Some(LatchedAcknowledged))]
// D, returned and unacknowledged.
#[case(ReturnedUnacknowledged, Raise, PLAIN, Some(Unacknowledged))]
#[case(ReturnedUnacknowledged, Acknowledge, PLAIN, Some(Normal))]
#[case(ReturnedUnacknowledged, Return, PLAIN, None)]
#[case(ReturnedUnacknowledged, Withdraw, PLAIN, Some(Normal))]
// E, latched and unacknowledged.
#[case(LatchedUnacknowledged, Acknowledge, LATCHING, Some(LatchedAcknowledged))]
#[case(LatchedUnacknowledged, Reset, LATCHING, Some(ReturnedUnacknowledged))]
#[case(LatchedUnacknowledged, Raise, LATCHING, Some(Unacknowledged))]
// F, latched and acknowledged.
#[case(LatchedAcknowledged, Reset, LATCHING, Some(Normal))]
#[case(LatchedAcknowledged, Raise, LATCHING, Some(Unacknowledged))]
#[case(LatchedAcknowledged, Acknowledge, LATCHING, None)]
#[case(LatchedAcknowledged, Withdraw, LATCHING, Some(Normal))]
// G, shelved; H, suppressed by design; I, out of service.
#[case(Normal, suppress(Suppression::Shelved), PLAIN, Some(StandardState::Shelved))]
#[case(Unacknowledged, suppress(Suppression::Shelved), PLAIN, Some(StandardState::Shelved))]
#[case(Acknowledged, suppress(ByDesign), PLAIN, Some(SuppressedByDesign))]
#[case(StandardState::Shelved, suppress(Suppression::OutOfService), PLAIN, Some(StandardState::OutOfService))]
#[case(StandardState::OutOfService, suppress(Suppression::Shelved), PLAIN, Some(StandardState::OutOfService))]
#[case(StandardState::Shelved, suppress(Suppression::Shelved), PLAIN, None)]
#[case(StandardState::Shelved, Acknowledge, PLAIN, None)]
#[case(StandardState::Shelved, Lift(Suppression::Shelved), PLAIN, Some(Unacknowledged))]
#[case(StandardState::Shelved, Lift(Suppression::Shelved), SILENT, Some(Acknowledged))]
#[case(StandardState::Shelved, Lift(ByDesign), PLAIN, None)]
#[case(SuppressedByDesign, Lift(ByDesign), PLAIN, Some(Unacknowledged))]
#[case(StandardState::OutOfService, Lift(Suppression::OutOfService), PLAIN, Some(Unacknowledged))]
#[case(Normal, Lift(Suppression::Shelved), PLAIN, None)]
fn each_step(
    #[case] from: StandardState,
    #[case] step: AlarmStep,
    #[case] handling: Handling,
    #[case] to: Option<StandardState>,
) {
    let mut state = state(from);
    assert_eq!(state.standard(), from);
    assert_eq!(state.step(step, handling), to.is_some());
    assert_eq!(state.standard(), to.unwrap_or(from));
}

#[test]
fn while_suppressed_the_condition_is_followed() {
    let mut state = state(StandardState::Shelved);
    assert!(state.step(Return, PLAIN) && state.step(Raise, PLAIN) && state.step(Return, PLAIN));
    assert!(!state.waits(), "nobody is asked about a shelved alarm");
    assert!(state.step(Lift(Suppression::Shelved), PLAIN));
    assert!(state.is_normal());
}

#[test]
fn shelving_again_prolongs_it() {
    let mut state = state(StandardState::Shelved);
    let longer = Suppressed { until: Some(99), ..Suppressed::default() };
    assert!(state.step(AlarmStep::Suppress(Suppression::Shelved, longer), PLAIN));
    assert_eq!((state.next_end(), state.suppressions.len()), (Some(99), 1));
}

#[test]
fn codes_round_trip() {
    for of in StandardState::ALL {
        assert_eq!(StandardState::from_code(of as u8), Some(of));
    }
    for kind in Suppression::ALL {
        assert_eq!(Suppression::from_code(kind as u8), Some(kind));
    }
    for code in 0..3 {
        assert_eq!(Condition::from_code(code).map(|c| c as u8), Some(code));
        assert_eq!(Acknowledgement::from_code(code).map(|a| a as u8), Some(code));
    }
    assert_eq!((StandardState::from_code(9), Suppression::from_code(0)), (None, None));
    assert_eq!((Condition::from_code(3), Acknowledgement::from_code(3)), (None, None));
}

fn step() -> impl Strategy<Value = AlarmStep> {
    let kind = || prop::sample::select(&Suppression::ALL[..]);
    prop_oneof![
        3 => Just(Raise),
        3 => Just(Return),
        2 => Just(Acknowledge),
        1 => Just(Reset),
        1 => kind().prop_map(suppress),
        1 => kind().prop_map(Lift),
        1 => Just(Withdraw),
    ]
}

proptest! {
    /// Whatever happens, the state tells whether the condition holds, whether somebody must look, and who keeps it back; a
    /// step that says it changed nothing did not.
    #[test]
    fn the_state_tells_condition_acknowledgement_and_suppressions(
        steps in prop::collection::vec(step(), 0..80),
        acknowledge in any::<bool>(),
        latch in any::<bool>(),
    ) {
        let handling = Handling { acknowledge, latch };
        let mut state = AlarmState::default();
        let (mut active, mut held, mut unseen) = (false, false, false);
        let mut kept_back = std::collections::BTreeSet::new();
        for step in steps {
            let before = state.clone();
            let moved = state.step(step.clone(), handling);
            prop_assert_eq!(moved, state != before);
            match step {
                Raise if !active => { (active, held) = (true, true); unseen = acknowledge && kept_back.is_empty(); }
                Raise => {}
                Return => { active = false; held &= latch; }
                Acknowledge => unseen = false,
                Reset => held &= active,
                AlarmStep::Suppress(kind, _) => { kept_back.insert(kind); unseen = false; }
                Lift(kind) => if kept_back.remove(&kind) { unseen = held && acknowledge && kept_back.is_empty(); },
                Withdraw => (active, held, unseen) = (false, false, false),
            }
            prop_assert_eq!(state.condition == Condition::Active, active);
            prop_assert_eq!(state.condition != Condition::Normal, held);
            prop_assert_eq!(state.waits(), unseen);
            prop_assert!(state.suppressions.keys().eq(kept_back.iter()));
            prop_assert_eq!(state.is_normal(), !held && !unseen && kept_back.is_empty());
        }
    }
}
