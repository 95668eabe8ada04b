//! What happened to an alarm, as it is kept for good.

use super::{AlarmAction, Suppression};
use crate::{number::Number, time::Nanos};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// The kinds of event. The number is stored and never changes its meaning.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum EventKind {
    Raised = 1,
    Returned = 2,
    Acknowledged = 3,
    /// The rule was deleted or switched off while its alarm stood.
    Withdrawn = 4,
    /// A latched condition was let go of.
    Reset = 5,
    Shelved = 6,
    Unshelved = 7,
    /// Suppressed by design.
    Suppressed = 8,
    Unsuppressed = 9,
    TakenOutOfService = 10,
    PutInService = 11,
}

impl EventKind {
    pub const ALL: [EventKind; 11] = [
        EventKind::Raised,
        EventKind::Returned,
        EventKind::Acknowledged,
        EventKind::Withdrawn,
        EventKind::Reset,
        EventKind::Shelved,
        EventKind::Unshelved,
        EventKind::Suppressed,
        EventKind::Unsuppressed,
        EventKind::TakenOutOfService,
        EventKind::PutInService,
    ];

    /// Reads the stored number.
    ///
    /// # Errors
    /// A number that this version gives no meaning: a newer one wrote it.
    pub fn from_code(code: u8) -> Result<EventKind, UnknownCode> {
        let known = EventKind::ALL.into_iter().find(|k| *k as u8 == code);
        known.ok_or(UnknownCode { what: "kind of alarm event", code })
    }

    /// What is told when a person did this.
    pub const fn of(action: AlarmAction) -> EventKind {
        match action {
            AlarmAction::Acknowledge => EventKind::Acknowledged,
            AlarmAction::Reset => EventKind::Reset,
            AlarmAction::Suppress(Suppression::Shelved, _) => EventKind::Shelved,
            AlarmAction::Suppress(Suppression::ByDesign, _) => EventKind::Suppressed,
            AlarmAction::Suppress(Suppression::OutOfService, _) => EventKind::TakenOutOfService,
            AlarmAction::Lift(Suppression::Shelved) => EventKind::Unshelved,
            AlarmAction::Lift(Suppression::ByDesign) => EventKind::Unsuppressed,
            AlarmAction::Lift(Suppression::OutOfService) => EventKind::PutInService,
        }
    }

    /// As it reads in a list: “came”, “returned”.
    pub const fn words(self) -> &'static str {
        match self {
            EventKind::Raised => "came",
            EventKind::Returned => "returned",
            EventKind::Acknowledged => "acknowledged",
            EventKind::Withdrawn => "withdrawn",
            EventKind::Reset => "reset",
            EventKind::Shelved => "shelved",
            EventKind::Unshelved => "unshelved",
            EventKind::Suppressed => "suppressed by design",
            EventKind::Unsuppressed => "no longer suppressed",
            EventKind::TakenOutOfService => "taken out of service",
            EventKind::PutInService => "put back in service",
        }
    }
}

/// A stored number without a meaning in this version.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("this version knows no {what} with the number {code}; a newer version wrote it")]
pub struct UnknownCode {
    pub what: &'static str,
    pub code: u8,
}

/// The value of a tag or a formula at the instant of an event, as it was shown then.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeptValue {
    pub name: String,
    /// With its unit, or the name of its state.
    pub text: String,
}

/// One step of one alarm. Its order is (rule, sequence); both times are kept.
#[derive(Clone, Debug, PartialEq)]
pub struct AlarmEvent {
    pub rule: Uuid,
    /// Counts the events of this rule from 1, without holes.
    pub sequence: u32,
    pub kind: EventKind,
    /// 1 (for the record) to 4 (act now), 0 for what no operator is told.
    pub priority: u8,
    /// When it happened at the plant.
    pub occurred_at: Nanos,
    /// When Havrel knew.
    pub decided_at: Nanos,
    /// The value at that instant.
    pub value: Number,
    /// The limit as it was then; not a number where there is none.
    pub limit: f64,
    /// The alarm was kept from the operator when this happened.
    pub suppressed: bool,
    /// It came as the first of its first-out group.
    pub first_out: bool,
    /// Until when it is suppressed, for an event that begins that.
    pub until: Option<Nanos>,
    /// Who, for what a person did.
    pub actor: String,
    pub comment: String,
    /// What the list said: “Temperature high, 84.6 °C over 82”. Kept, because names change later.
    pub text: String,
    /// What the rule keeps with its events.
    pub values: Vec<KeptValue>,
}

impl AlarmEvent {
    /// What happened, as it reads in a list: “came, first out”.
    pub fn words(&self) -> String {
        format!("{}{}", self.kind.words(), if self.first_out { ", first out" } else { "" })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_round_trip_and_an_unknown_one_is_named() {
        for kind in EventKind::ALL {
            assert_eq!(EventKind::from_code(kind as u8), Ok(kind));
        }
        for code in [0, 12, 255] {
            let error = EventKind::from_code(code).unwrap_err();
            assert!(error.to_string().contains(&format!("kind of alarm event with the number {code}")));
        }
    }
}
