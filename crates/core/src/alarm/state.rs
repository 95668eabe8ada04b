//! The alarm state machine of ISA-18.2 §5 / IEC 62682, as a pure function.
//!
//! All states of the standard have their place; the steps that lead into latched, shelved, suppressed and
//! out-of-service states do not exist yet, so from those states no step leads anywhere.

use serde::{Deserialize, Serialize};

/// The states of the standard. The number is stored and never changes its meaning.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum AlarmState {
    Normal = 0,
    Unacknowledged = 1,
    Acknowledged = 2,
    ReturnedUnacknowledged = 3,
    LatchedUnacknowledged = 4,
    LatchedAcknowledged = 5,
    Shelved = 6,
    SuppressedByDesign = 7,
    OutOfService = 8,
}

/// What can happen to an alarm.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum AlarmStep {
    /// The condition has come and held for its on-delay.
    Raise,
    /// The condition has gone and stayed away for its off-delay.
    Return,
    /// A person has seen it.
    Acknowledge,
}

impl AlarmState {
    const ALL: [AlarmState; 9] = [
        AlarmState::Normal,
        AlarmState::Unacknowledged,
        AlarmState::Acknowledged,
        AlarmState::ReturnedUnacknowledged,
        AlarmState::LatchedUnacknowledged,
        AlarmState::LatchedAcknowledged,
        AlarmState::Shelved,
        AlarmState::SuppressedByDesign,
        AlarmState::OutOfService,
    ];

    /// The state a step leads to; `None` where the step changes nothing.
    pub const fn after(self, step: AlarmStep) -> Option<AlarmState> {
        use AlarmState::{Acknowledged, Normal, ReturnedUnacknowledged, Unacknowledged};
        match (self, step) {
            (Normal | ReturnedUnacknowledged, AlarmStep::Raise) => Some(Unacknowledged),
            (Unacknowledged, AlarmStep::Return) => Some(ReturnedUnacknowledged),
            (Acknowledged, AlarmStep::Return) => Some(Normal),
            (Unacknowledged, AlarmStep::Acknowledge) => Some(Acknowledged),
            (ReturnedUnacknowledged, AlarmStep::Acknowledge) => Some(Normal),
            _ => None,
        }
    }

    /// Whether somebody has to acknowledge it.
    pub const fn waits(self) -> bool {
        matches!(self, AlarmState::Unacknowledged | AlarmState::ReturnedUnacknowledged | AlarmState::LatchedUnacknowledged)
    }

    /// Reads the stored number.
    pub fn from_code(code: u8) -> Option<AlarmState> {
        AlarmState::ALL.get(code as usize).copied()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use AlarmState::*;
    use AlarmStep::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case(Normal, Raise, Some(Unacknowledged))]
    #[case(Normal, Return, None)]
    #[case(Normal, Acknowledge, None)]
    #[case(Unacknowledged, Raise, None)]
    #[case(Unacknowledged, Return, Some(ReturnedUnacknowledged))]
    #[case(Unacknowledged, Acknowledge, Some(Acknowledged))]
    #[case(Acknowledged, Raise, None)]
    #[case(Acknowledged, Return, Some(Normal))]
    #[case(Acknowledged, Acknowledge, None)]
    #[case(ReturnedUnacknowledged, Raise, Some(Unacknowledged))]
    #[case(ReturnedUnacknowledged, Return, None)]
    #[case(ReturnedUnacknowledged, Acknowledge, Some(Normal))]
    #[case(Shelved, Raise, None)]
    fn each_step(#[case] from: AlarmState, #[case] step: AlarmStep, #[case] to: Option<AlarmState>) {
        assert_eq!(from.after(step), to);
    }

    #[test]
    fn codes_round_trip() {
        for state in AlarmState::ALL {
            assert_eq!(AlarmState::from_code(state as u8), Some(state));
        }
        assert_eq!(AlarmState::from_code(9), None);
    }

    fn step() -> impl Strategy<Value = AlarmStep> {
        prop_oneof![Just(Raise), Just(Return), Just(Acknowledge)]
    }

    proptest! {
        /// Whatever happens: it never rests unacknowledged after an acknowledgement unless it was raised again, and
        /// the state says whether the condition holds.
        #[test]
        fn state_tells_condition_and_acknowledgement(steps in prop::collection::vec(step(), 0..60)) {
            let (mut state, mut active, mut seen) = (Normal, false, true);
            for step in steps {
                if let Some(next) = state.after(step) { state = next; }
                match step {
                    Raise if !active => { active = true; seen = false; }
                    Return => active = false,
                    Acknowledge => seen = true,
                    Raise => {}
                }
                prop_assert_eq!(matches!(state, Unacknowledged | Acknowledged), active);
                prop_assert_eq!(state.waits(), !seen);
            }
        }
    }
}
