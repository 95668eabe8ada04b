//! Who may do what.

use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use uuid::Uuid;

/// What an account is for; each role may do all that the ones before it may.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Sees values, alarms, trends and reports.
    Viewer,
    /// Also acknowledges alarms, writes values, sets them by hand, and leaves notes and trends for others.
    Operator,
    /// Also changes the configuration.
    Engineer,
}

impl Role {
    /// The stored name.
    pub const fn name(self) -> &'static str {
        match self {
            Role::Viewer => "viewer",
            Role::Operator => "operator",
            Role::Engineer => "engineer",
        }
    }

    /// Reads a stored name.
    pub fn from_name(name: &str) -> Option<Role> {
        [Role::Viewer, Role::Operator, Role::Engineer].into_iter().find(|r| r.name() == name)
    }
}

/// The person or program behind a request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Actor {
    pub account: Uuid,
    /// As it stands in journal and alarm history.
    pub name: String,
    pub role: Role,
}

/// What somebody wants to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Action {
    See,
    MakeReport,
    /// Have a report made and sent to whoever a dispatch sends it.
    SendReport,
    Acknowledge,
    /// Leave a note or a trend for others.
    Remark,
    Write,
    /// Set a value by hand, and release it.
    SetByHand,
    Configure,
}

impl Action {
    /// The least role that may do it.
    pub const fn needs(self) -> Role {
        match self {
            Action::See | Action::MakeReport => Role::Viewer,
            Action::Acknowledge | Action::Remark | Action::Write | Action::SetByHand | Action::SendReport => Role::Operator,
            Action::Configure => Role::Engineer,
        }
    }
}

/// What of the plant somebody sees. Whatever answers about many things takes it and leaves out what lies outside.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Scope {
    #[default]
    Everything,
    /// These places with all below them.
    Branches(BTreeSet<Uuid>),
}

impl Scope {
    pub fn is_everything(&self) -> bool {
        *self == Scope::Everything
    }
}

/// Whether `actor` may do `action` at `place` (`None`: the whole plant).
///
/// Roles count for the whole plant today; the place is asked for on every call so that rights by place need no new calls.
pub fn may(actor: &Actor, action: Action, _place: Option<Uuid>) -> bool {
    actor.role >= action.needs()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Role::Viewer, [true, true, false, false, false, false, false, false])]
    #[case(Role::Operator, [true, true, true, true, true, true, true, false])]
    #[case(Role::Engineer, [true, true, true, true, true, true, true, true])]
    fn roles(#[case] role: Role, #[case] expected: [bool; 8]) {
        let actor = Actor { account: Uuid::nil(), name: "Somebody".into(), role };
        let actions = [
            Action::See,
            Action::MakeReport,
            Action::SendReport,
            Action::Acknowledge,
            Action::Remark,
            Action::Write,
            Action::SetByHand,
            Action::Configure,
        ];
        assert_eq!(actions.map(|a| may(&actor, a, None)), expected);
    }
}
