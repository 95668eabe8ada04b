//! Where the alarms stand now, and what happened last, numbered for whoever follows.

use havrel_core::alarm::{AlarmEvent, AlarmStanding};
use std::collections::{HashMap, VecDeque};
use uuid::Uuid;

/// How many events are kept to be resumed from.
const KEPT: usize = 2000;

/// The shared picture of the alarms.
#[derive(Debug, Default)]
pub struct AlarmBoard {
    standing: HashMap<Uuid, AlarmStanding>,
    events: VecDeque<(u64, AlarmEvent)>,
    last: u64,
}

impl AlarmBoard {
    pub(crate) fn new(standings: &[AlarmStanding]) -> AlarmBoard {
        let standing = standings.iter().filter(|s| !s.state.is_normal()).map(|s| (s.rule, s.clone())).collect();
        AlarmBoard { standing, ..AlarmBoard::default() }
    }

    pub(crate) fn update(&mut self, states: &[AlarmStanding], events: &[AlarmEvent]) {
        for state in states {
            if state.state.is_normal() {
                self.standing.remove(&state.rule);
            } else {
                self.standing.insert(state.rule, state.clone());
            }
        }
        for event in events {
            self.last += 1;
            self.events.push_back((self.last, event.clone()));
            if self.events.len() > KEPT {
                self.events.pop_front();
            }
        }
    }

    /// Number of the last event since the program started.
    pub fn last(&self) -> u64 {
        self.last
    }

    /// Events after number `after`; `None` where some of them are no longer here, so that the list must be read anew.
    pub fn after(&self, after: u64) -> Option<Vec<(u64, AlarmEvent)>> {
        let first = self.events.front().map_or(self.last + 1, |(n, _)| *n);
        (after + 1 >= first && after <= self.last).then(|| self.events.iter().filter(|(n, _)| *n > after).cloned().collect())
    }

    /// Alarms that are not normal, newest first.
    pub fn standing(&self) -> Vec<&AlarmStanding> {
        let mut all: Vec<_> = self.standing.values().collect();
        all.sort_by_key(|s| (std::cmp::Reverse(s.raised_at), s.rule));
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::alarm::EventKind;

    fn event(sequence: u32) -> AlarmEvent {
        let (actor, comment, text) = (String::new(), String::new(), String::new());
        let (kind, rule) = (EventKind::Raised, Uuid::nil());
        AlarmEvent {
            rule,
            sequence,
            kind,
            priority: 1,
            occurred_at: 0,
            decided_at: 0,
            value: 0.0.into(),
            limit: 0.0,
            suppressed: false,
            first_out: false,
            until: None,
            actor,
            comment,
            text,
            values: Vec::new(),
        }
    }

    #[test]
    fn a_follower_resumes_or_learns_that_it_cannot() {
        let mut board = AlarmBoard::default();
        assert_eq!(board.after(0), Some(vec![]));
        board.update(&[], &[event(1), event(2)]);
        assert_eq!(board.after(1).unwrap().iter().map(|(n, _)| *n).collect::<Vec<_>>(), [2]);
        assert_eq!(board.after(9), None, "a number from before a restart");
        (0..KEPT).for_each(|_| board.update(&[], &[event(3)]));
        assert_eq!(board.after(1), None);
        assert_eq!(board.after(2).map(|e| e.len()), Some(KEPT));
    }
}
