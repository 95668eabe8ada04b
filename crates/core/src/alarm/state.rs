//! The states of an alarm after ISA-18.2-2016 clause 5.5 and IEC 62682:2014: three things kept apart, the process condition,
//! the acknowledgement and a set of suppressions. The standard's states are their product ([`AlarmState::standard`]).

use crate::time::Nanos;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The process condition, after delays. The number is stored and never changes its meaning.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum Condition {
    #[default]
    Normal = 0,
    Active = 1,
    /// It is gone, but holds until somebody resets it.
    Latched = 2,
}

/// Whether somebody has seen the alarm. The number is stored and never changes its meaning.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[repr(u8)]
pub enum Acknowledgement {
    #[default]
    NotNeeded = 0,
    Waiting = 1,
    Given = 2,
}

/// A reason for which an alarm is kept from the operator, the strongest last. The number is stored and never changes its
/// meaning.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum Suppression {
    /// By an operator, for a limited time.
    Shelved = 1,
    /// By logic that knows the state of the plant.
    ByDesign = 2,
    /// By maintenance.
    OutOfService = 3,
}

/// Who suppressed an alarm, from when until when, and why.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Suppressed {
    pub by: String,
    pub since: Nanos,
    /// `None`: until somebody lifts it.
    pub until: Option<Nanos>,
    pub reason: String,
}

/// What a rule asks for when its alarm comes and goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Handling {
    /// Somebody must acknowledge it.
    pub acknowledge: bool,
    /// The condition holds until somebody resets it.
    pub latch: bool,
}

impl Default for Handling {
    fn default() -> Handling {
        Handling { acknowledge: true, latch: false }
    }
}

/// What can happen to an alarm.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum AlarmStep {
    /// The condition has come and held for its on-delay.
    Raise,
    /// The condition has gone and stayed away for its off-delay.
    Return,
    /// A person has seen it.
    Acknowledge,
    /// A person lets go of a latched condition.
    Reset,
    /// It is kept from the operator; where it is already, with other particulars.
    Suppress(Suppression, Suppressed),
    /// That reason for keeping it back is gone.
    Lift(Suppression),
    /// Nobody judges it any more: its rule was deleted or switched off, or its place taken out of service.
    Withdraw,
}

/// The states of the standard, named as there (ISA-18.2-2016 figure 3, A to I). The number is stored and never changes its
/// meaning.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[repr(u8)]
pub enum StandardState {
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

/// How an alarm stands.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AlarmState {
    pub condition: Condition,
    pub acknowledgement: Acknowledgement,
    pub suppressions: BTreeMap<Suppression, Suppressed>,
}

impl AlarmState {
    /// Does a step. `false`: it changes nothing.
    ///
    /// While an alarm is suppressed its condition is followed, and nobody is asked to acknowledge it. When the last suppression
    /// is lifted, a condition that holds is an alarm like one that has just come.
    pub fn step(&mut self, step: AlarmStep, handling: Handling) -> bool {
        use Acknowledgement::{Given, NotNeeded, Waiting};
        use Condition::{Active, Latched, Normal};
        match (step, self.condition, self.acknowledgement) {
            (AlarmStep::Raise, Normal | Latched, _) => {
                self.condition = Active;
                self.ask(handling);
            }
            (AlarmStep::Return, Active, _) if handling.latch => self.condition = Latched,
            (AlarmStep::Return, Active, acknowledgement) => {
                self.condition = Normal;
                self.acknowledgement = if acknowledgement == Waiting { Waiting } else { NotNeeded };
            }
            (AlarmStep::Acknowledge, condition, Waiting) => {
                self.acknowledgement = if condition == Normal { NotNeeded } else { Given };
            }
            (AlarmStep::Reset, Latched, acknowledgement) => {
                self.condition = Normal;
                self.acknowledgement = if acknowledgement == Waiting { Waiting } else { NotNeeded };
            }
            (AlarmStep::Suppress(kind, suppressed), ..) => {
                self.acknowledgement = NotNeeded;
                return self.suppressions.insert(kind, suppressed.clone()) != Some(suppressed);
            }
            (AlarmStep::Lift(kind), condition, _) => {
                if self.suppressions.remove(&kind).is_none() {
                    return false;
                }
                if condition != Normal {
                    self.ask(handling);
                }
            }
            (AlarmStep::Withdraw, condition, acknowledgement) if (condition, acknowledgement) != (Normal, NotNeeded) => {
                (self.condition, self.acknowledgement) = (Normal, NotNeeded);
            }
            (AlarmStep::Raise | AlarmStep::Return | AlarmStep::Acknowledge | AlarmStep::Reset | AlarmStep::Withdraw, ..) => {
                return false;
            }
        }
        debug_assert!(self.condition != Normal || self.acknowledgement != Given);
        true
    }

    fn ask(&mut self, handling: Handling) {
        let asks = handling.acknowledge && self.suppressions.is_empty();
        self.acknowledgement = if asks { Acknowledgement::Waiting } else { Acknowledgement::NotNeeded };
    }

    /// The standard's name for it. Of several suppressions the strongest counts.
    pub fn standard(&self) -> StandardState {
        use Acknowledgement::{NotNeeded, Waiting};
        if let Some(strongest) = self.suppressions.keys().next_back() {
            return match strongest {
                Suppression::Shelved => StandardState::Shelved,
                Suppression::ByDesign => StandardState::SuppressedByDesign,
                Suppression::OutOfService => StandardState::OutOfService,
            };
        }
        match (self.condition, self.acknowledgement) {
            (Condition::Normal, Waiting) => StandardState::ReturnedUnacknowledged,
            (Condition::Normal, _) => StandardState::Normal,
            (Condition::Active, Waiting) => StandardState::Unacknowledged,
            // An alarm that nobody has to acknowledge stands like one that somebody has.
            (Condition::Active, _) => StandardState::Acknowledged,
            (Condition::Latched, Waiting) => StandardState::LatchedUnacknowledged,
            (Condition::Latched, Acknowledgement::Given | NotNeeded) => StandardState::LatchedAcknowledged,
        }
    }

    /// Whether nothing has to be remembered of it.
    pub fn is_normal(&self) -> bool {
        self.standard() == StandardState::Normal
    }

    /// Whether somebody has to acknowledge it.
    pub fn waits(&self) -> bool {
        self.acknowledgement == Acknowledgement::Waiting
    }

    /// When the first of its suppressions ends by itself.
    pub fn next_end(&self) -> Option<Nanos> {
        self.suppressions.values().filter_map(|s| s.until).min()
    }

    /// As it stood by a state of the standard, without suppressions; `None` for a state that is one.
    pub fn of_standard(state: StandardState) -> Option<AlarmState> {
        use Acknowledgement::{Given, NotNeeded, Waiting};
        let (condition, acknowledgement) = match state {
            StandardState::Normal => (Condition::Normal, NotNeeded),
            StandardState::Unacknowledged => (Condition::Active, Waiting),
            StandardState::Acknowledged => (Condition::Active, Given),
            StandardState::ReturnedUnacknowledged => (Condition::Normal, Waiting),
            StandardState::LatchedUnacknowledged => (Condition::Latched, Waiting),
            StandardState::LatchedAcknowledged => (Condition::Latched, Given),
            StandardState::Shelved | StandardState::SuppressedByDesign | StandardState::OutOfService => return None,
        };
        Some(AlarmState { condition, acknowledgement, suppressions: BTreeMap::new() })
    }
}

impl Condition {
    /// Reads the stored number.
    pub fn from_code(code: u8) -> Option<Condition> {
        [Condition::Normal, Condition::Active, Condition::Latched].into_iter().find(|c| *c as u8 == code)
    }
}

impl Acknowledgement {
    /// Reads the stored number.
    pub fn from_code(code: u8) -> Option<Acknowledgement> {
        use Acknowledgement::{Given, NotNeeded, Waiting};
        [NotNeeded, Waiting, Given].into_iter().find(|a| *a as u8 == code)
    }
}

impl Suppression {
    pub const ALL: [Suppression; 3] = [Suppression::Shelved, Suppression::ByDesign, Suppression::OutOfService];

    /// Reads the stored number.
    pub fn from_code(code: u8) -> Option<Suppression> {
        Suppression::ALL.into_iter().find(|s| *s as u8 == code)
    }
}

impl StandardState {
    pub const ALL: [StandardState; 9] = [
        StandardState::Normal,
        StandardState::Unacknowledged,
        StandardState::Acknowledged,
        StandardState::ReturnedUnacknowledged,
        StandardState::LatchedUnacknowledged,
        StandardState::LatchedAcknowledged,
        StandardState::Shelved,
        StandardState::SuppressedByDesign,
        StandardState::OutOfService,
    ];

    /// Reads the stored number.
    pub fn from_code(code: u8) -> Option<StandardState> {
        StandardState::ALL.get(usize::from(code)).copied()
    }
}

#[cfg(test)]
mod tests;
