//! Alarms about Havrel itself.

use super::{Effects, Engine, event};
use crate::alarm::{AlarmStanding, AlarmStep, EventKind, SystemAlarm};
use std::collections::HashSet;
use uuid::Uuid;

impl Engine {
    /// Raises or returns one. A text that changes while it stands unacknowledged is told as a new event, because it names
    /// something new.
    pub(super) fn tell_system(&mut self, alarm: SystemAlarm, active: bool, text: &str, out: &mut Effects) {
        let now = self.now;
        let standing = self.system.entry(alarm).or_insert_with(|| AlarmStanding::quiet(alarm.id()));
        let step = if active { AlarmStep::Raise } else { AlarmStep::Return };
        let next = standing.state.after(step);
        if next.is_none() && (!active || standing.text == text) {
            return;
        }
        standing.state = next.unwrap_or(standing.state);
        standing.active = active;
        if active {
            standing.raised_at = now;
            text.clone_into(&mut standing.text);
            standing.acknowledged_by.clear();
        } else {
            standing.returned_at = now;
        }
        let kind = if active { EventKind::Raised } else { EventKind::Returned };
        event(standing, (alarm.priority(), f64::NAN), kind, now, now, ("", ""), out);
    }

    pub(super) fn acknowledge_system(&mut self, rules: &HashSet<&Uuid>, actor: &str, comment: &str, out: &mut Effects) {
        for (alarm, standing) in &mut self.system {
            let Some(next) = standing.state.after(AlarmStep::Acknowledge).filter(|_| rules.contains(&standing.rule)) else {
                continue;
            };
            standing.state = next;
            actor.clone_into(&mut standing.acknowledged_by);
            event(standing, (alarm.priority(), f64::NAN), EventKind::Acknowledged, self.now, self.now, (actor, comment), out);
        }
    }
}
