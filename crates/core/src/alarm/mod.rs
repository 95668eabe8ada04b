//! Alarms after ISA-18.2 / IEC 62682: the state machine ([`state`]), the rules that drive it ([`limit`]), and the alarms
//! about Havrel itself ([`system`]).

pub mod limit;
pub mod span;
pub mod state;
pub mod system;

use crate::time::Nanos;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

pub use limit::{Limit, LimitKind, LimitMemory};
pub use state::{AlarmState, AlarmStep};
pub use system::SystemAlarm;

/// What happened to an alarm, as it is kept for good.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[repr(u8)]
pub enum EventKind {
    Raised = 1,
    Returned = 2,
    Acknowledged = 3,
    /// The rule was deleted or switched off while its alarm stood.
    Withdrawn = 4,
}

impl EventKind {
    /// Reads the stored code.
    pub fn from_code(code: u8) -> Option<EventKind> {
        [EventKind::Raised, EventKind::Returned, EventKind::Acknowledged, EventKind::Withdrawn]
            .into_iter()
            .find(|k| *k as u8 == code)
    }
}

/// One step of one alarm. Its order is (rule, sequence); both times are kept.
#[derive(Clone, Debug, PartialEq)]
pub struct AlarmEvent {
    pub rule: Uuid,
    /// Counts the events of this rule from 1, without holes.
    pub sequence: u32,
    pub kind: EventKind,
    /// 1 (for the record) to 4 (act now).
    pub priority: u8,
    /// When it happened at the plant.
    pub occurred_at: Nanos,
    /// When Havrel knew.
    pub decided_at: Nanos,
    /// The value at that instant.
    pub value: f64,
    /// The limit as it was then.
    pub limit: f64,
    /// Who, for an acknowledgement.
    pub actor: String,
    pub comment: String,
    /// What the list said: “Temperature high, 84.6 °C over 82”. Kept, because names change later.
    pub text: String,
}

/// Where an alarm stands: enough to go on after a restart.
#[derive(Clone, Debug, PartialEq)]
pub struct AlarmStanding {
    pub rule: Uuid,
    pub state: AlarmState,
    /// Sequence of the last event.
    pub sequence: u32,
    /// Whether the condition held.
    pub active: bool,
    /// When it was raised last; 0 if never.
    pub raised_at: Nanos,
    /// When the condition last went away; 0 if never.
    pub returned_at: Nanos,
    pub value: f64,
    pub text: String,
    /// Who acknowledged it last, empty where nobody has.
    pub acknowledged_by: String,
    /// Since when its on-delay or off-delay runs.
    pub turning_since: Option<Nanos>,
}

impl AlarmStanding {
    /// A rule that has never spoken.
    pub fn quiet(rule: Uuid) -> AlarmStanding {
        AlarmStanding {
            rule,
            state: AlarmState::Normal,
            sequence: 0,
            active: false,
            raised_at: 0,
            returned_at: 0,
            value: 0.0,
            text: String::new(),
            acknowledged_by: String::new(),
            turning_since: None,
        }
    }
}
