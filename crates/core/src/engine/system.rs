//! Alarms about Havrel itself.

use super::{
    Effects, Engine,
    judge::{Happened, act, tell},
};
use crate::alarm::{AlarmAction, AlarmStanding, AlarmStep, EventKind, Handling, SystemAlarm};
use uuid::Uuid;

impl Engine {
    /// Raises or returns one. A text that changes while it stands unacknowledged is told as a new event, because it names
    /// something new.
    pub(super) fn tell_system(&mut self, alarm: SystemAlarm, active: bool, text: &str, out: &mut Effects) {
        let now = self.now;
        let standing = self.system.entry(alarm).or_insert_with(|| AlarmStanding::quiet(alarm.id()));
        let step = if active { AlarmStep::Raise } else { AlarmStep::Return };
        let moved = standing.state.step(step, Handling::default());
        if !moved && (!active || standing.text == text) {
            return;
        }
        if active {
            standing.raised_at = now;
            text.clone_into(&mut standing.text);
            standing.acknowledged_by.clear();
        } else {
            standing.returned_at = now;
        }
        let kind = if active { EventKind::Raised } else { EventKind::Returned };
        tell(standing, (alarm.priority(), f64::NAN), Happened::by_itself(kind, now), now, out);
    }

    pub(super) fn act_on_system(&mut self, rules: &[Uuid], action: AlarmAction, actor: &str, comment: &str, out: &mut Effects) {
        // Nothing keeps what is wrong with Havrel itself from the operator.
        if matches!(action, AlarmAction::Suppress(..) | AlarmAction::Lift(_)) {
            return;
        }
        for (alarm, standing) in self.system.iter_mut().filter(|(_, s)| rules.contains(&s.rule)) {
            if act(standing, Handling::default(), action, self.now, (actor, comment)) {
                let happened = Happened { actor, comment, ..Happened::by_itself(EventKind::of(action), self.now) };
                tell(standing, (alarm.priority(), f64::NAN), happened, self.now, out);
            }
        }
    }
}
