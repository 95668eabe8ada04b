//! What came of a rule: how often its alarm came, for how long, and whether it chattered.

use crate::{
    alarm::{AlarmEvent, EventKind, chatter::chatter},
    time::Nanos,
};

/// An alarm that came.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Came {
    pub at: Nanos,
    /// When it went; none: it stood at the end.
    pub went: Option<Nanos>,
}

/// What an operator would have seen of a rule.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Judged {
    pub alarms: Vec<Came>,
    /// For how long an alarm stood, in all, and the longest.
    pub standing: Nanos,
    pub longest: Nanos,
    /// How many alarms came together with at least two others within a minute.
    pub chattering: usize,
}

impl Judged {
    /// Counts what happened until an instant. While an alarm is suppressed it is not one; it comes when that ends.
    pub fn of(events: &[AlarmEvent], until: Nanos) -> Judged {
        let (mut active, mut suppressed) = (false, false);
        let mut judged = Judged::default();
        for event in events {
            match event.kind {
                EventKind::Raised => active = true,
                EventKind::Returned | EventKind::Withdrawn => active = false,
                EventKind::Suppressed => suppressed = true,
                EventKind::Unsuppressed => suppressed = false,
                _ => {}
            }
            let told = active && !suppressed;
            match judged.alarms.last_mut().filter(|last| last.went.is_none()) {
                Some(last) if !told => last.went = Some(event.occurred_at),
                None if told => judged.alarms.push(Came { at: event.occurred_at, went: None }),
                _ => {}
            }
        }
        for alarm in &judged.alarms {
            let length = alarm.went.unwrap_or(until) - alarm.at;
            judged.standing += length;
            judged.longest = judged.longest.max(length);
        }
        let at: Vec<Nanos> = judged.alarms.iter().map(|alarm| alarm.at).collect();
        judged.chattering = chatter(&at).into_iter().filter(|chatters| *chatters).count();
        judged
    }

    /// Compares with how it would be otherwise: how many of these alarms would not have been seen at all, and by how much the latest
    /// of the others would have come later.
    pub fn lost_in(&self, other: &Judged, until: Nanos) -> (usize, Nanos) {
        let (mut missed, mut later) = (0, 0);
        let mut seen = other.alarms.iter().peekable();
        for alarm in &self.alarms {
            let end = alarm.went.unwrap_or(until);
            // Those that ended before this one came have nothing to do with it.
            while seen.next_if(|other| other.went.is_some_and(|went| went < alarm.at)).is_some() {}
            match seen.peek() {
                Some(other) if other.at <= end => later = later.max(other.at - alarm.at),
                _ => missed += 1,
            }
        }
        (missed, later)
    }
}
