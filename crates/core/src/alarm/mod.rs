//! Alarms after ISA-18.2 / IEC 62682: the states ([`state`]), the criteria that drive them ([`criterion`]), and the alarms about
//! Havrel itself ([`system`]).

mod action;
pub mod before;
pub mod chatter;
mod criterion;
mod event;
mod kind;
pub mod past;
pub mod performance;
pub mod span;
pub mod state;
pub mod system;

use crate::{number::Number, time::Nanos};
use uuid::Uuid;

pub use action::{AlarmAction, LONGEST_COMMENT, LONGEST_SHELVED};
pub use criterion::{Criterion, Memory, Test, Turn};
pub use event::{AlarmEvent, EventKind, KeptValue, UnknownCode};
pub use kind::{LimitKind, RuleKind};
pub use state::{Acknowledgement, AlarmState, AlarmStep, Condition, Handling, StandardState, Suppressed, Suppression};
pub use system::SystemAlarm;

/// How an alarm stands, with what its text says: enough to go on after a restart.
#[derive(Clone, Debug, PartialEq)]
pub struct AlarmStanding {
    pub rule: Uuid,
    pub state: AlarmState,
    /// Sequence of the last event.
    pub sequence: u32,
    /// When it was raised last; 0 if never.
    pub raised_at: Nanos,
    /// When the condition last went away; 0 if never.
    pub returned_at: Nanos,
    /// The value that raised it or returned it, or that a running delay began with.
    pub value: Number,
    pub text: String,
    /// Who acknowledged it last, empty where nobody has.
    pub acknowledged_by: String,
    /// Since when its on-delay or off-delay runs.
    pub delay_since: Option<Nanos>,
    /// It came last as the first of its first-out group.
    pub first_out: bool,
}

impl AlarmStanding {
    /// A rule whose alarm never came.
    pub fn quiet(rule: Uuid) -> AlarmStanding {
        AlarmStanding {
            rule,
            state: AlarmState::default(),
            sequence: 0,
            raised_at: 0,
            returned_at: 0,
            value: Number::Float(0.0),
            text: String::new(),
            acknowledged_by: String::new(),
            delay_since: None,
            first_out: false,
        }
    }

    /// Whether the condition holds, seen by the rule: a latched one does not.
    pub fn is_active(&self) -> bool {
        self.state.condition == Condition::Active
    }
}
