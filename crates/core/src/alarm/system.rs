//! Alarms about Havrel itself: they stand in the same list as those of the plant, without a rule that anybody configures.

use uuid::Uuid;

/// What can be wrong with Havrel. The number is part of the identity under which its events are stored, and never changes its
/// meaning.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[repr(u8)]
pub enum SystemAlarm {
    /// The database refused something by its content; it lies in quarantine.
    Quarantine = 1,
    /// A part of the program failed and was started again.
    Restarted = 2,
    /// This machine's clock was stepped.
    ClockStepped = 3,
    /// Bytes of the spool could not be read.
    SpoolDamaged = 4,
    /// The database's server ended and had to be started again.
    DatabaseServer = 5,
    /// Alarms are judged too late.
    Behind = 6,
    /// Somebody tries whether people are reached.
    Test = 7,
    /// Everybody was told of an alarm, and nobody took the call.
    Unanswered = 8,
    /// A report did not reach where it was to go.
    Undelivered = 9,
}

/// The first fifteen bytes of every identity.
const FAMILY: u128 = 0x4861_7672_656c_8000_8000_7379_7374_0000;

impl SystemAlarm {
    /// Every one there is.
    pub const ALL: [SystemAlarm; 9] = [
        SystemAlarm::Quarantine,
        SystemAlarm::Restarted,
        SystemAlarm::ClockStepped,
        SystemAlarm::SpoolDamaged,
        SystemAlarm::DatabaseServer,
        SystemAlarm::Behind,
        SystemAlarm::Test,
        SystemAlarm::Unanswered,
        SystemAlarm::Undelivered,
    ];

    /// The identity that stands in events in the place of a rule's.
    pub const fn id(self) -> Uuid {
        Uuid::from_u128(FAMILY | self as u128)
    }

    /// The one with this identity.
    pub fn of(id: Uuid) -> Option<SystemAlarm> {
        SystemAlarm::ALL.into_iter().find(|alarm| alarm.id() == id)
    }

    /// 4 (act now) to 1.
    pub const fn priority(self) -> u8 {
        match self {
            SystemAlarm::Quarantine
            | SystemAlarm::Restarted
            | SystemAlarm::SpoolDamaged
            | SystemAlarm::DatabaseServer
            | SystemAlarm::Behind => 3,
            SystemAlarm::Test | SystemAlarm::Unanswered => 4,
            SystemAlarm::ClockStepped | SystemAlarm::Undelivered => 2,
        }
    }

    /// Why it comes.
    pub const fn cause(self) -> &'static str {
        match self {
            SystemAlarm::Quarantine => "The database refused an entry because of its content.",
            SystemAlarm::Restarted => "A fault in Havrel itself.",
            SystemAlarm::ClockStepped => "A person or a time service set this machine's clock.",
            SystemAlarm::SpoolDamaged => "The disk returned other bytes than were written.",
            SystemAlarm::Behind => "More values come than this machine can judge, or another program takes its time.",
            SystemAlarm::DatabaseServer => "Something stopped the database server, or it failed.",
            SystemAlarm::Test => "Somebody tries whether people are reached. Nothing is wrong at the plant.",
            SystemAlarm::Undelivered => "The folder, the mail server or the program did not take it as often as it was tried.",
            SystemAlarm::Unanswered => "Everybody of the call-out plan who may be told now was told as often as it says.",
        }
    }

    /// What to do.
    pub const fn action(self) -> &'static str {
        match self {
            SystemAlarm::Quarantine => "The journal names the entry; it is kept in the data folder under quarantine.",
            SystemAlarm::Restarted => "Keep the log and report the fault.",
            SystemAlarm::ClockStepped => "Check the time service of this machine. History marks the step.",
            SystemAlarm::SpoolDamaged => "Check the disk. The journal names the time span.",
            SystemAlarm::Behind => "Look at the load of this machine; until it has caught up, watch the plant by other means.",
            SystemAlarm::Test => "Acknowledge it, so that the test ends.",
            SystemAlarm::Undelivered => "See under Reports, Dispatches what was answered; mend that and send it again.",
            SystemAlarm::Unanswered => "Look after the alarms yourself, and see under Call-out who was told and when.",
            SystemAlarm::DatabaseServer => "See cluster/server.log in the data folder for the reason.",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_is_known_by_its_identity() {
        for alarm in SystemAlarm::ALL {
            assert_eq!(SystemAlarm::of(alarm.id()), Some(alarm));
        }
        assert_eq!(SystemAlarm::of(Uuid::nil()), None);
    }
}
