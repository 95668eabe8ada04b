//! Tags that come into service: many at once begin a few at a time, so that devices and lines are not met by all of them in
//! one blow. How far it is shows as a job; whoever is in a hurry ends the job, and the rest begins at once.

use crate::Live;
use havrel_core::plant::Plant;
use std::{
    collections::HashSet,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use uuid::Uuid;

/// Up to so many begin at once.
const AT_ONCE: usize = 200;
/// Between two steps.
const STEP: Duration = Duration::from_millis(200);
/// It is over after so many steps, however many tags there are.
const MOST_STEPS: usize = 50;
const LEAST_IN_STEP: usize = 100;

/// Tags that are in service but have not begun yet.
#[derive(Default)]
pub(crate) struct Waiting(Mutex<HashSet<Uuid>>);

impl Waiting {
    pub fn now(&self) -> HashSet<Uuid> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn change<T>(&self, change: impl FnOnce(&mut HashSet<Uuid>) -> T) -> T {
        change(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

/// The tags that are to be read by one revision and were not by the one before, in the order in which they begin.
fn beginning(before: &Plant, next: &Plant) -> Vec<Uuid> {
    let (idle_before, idle) = (before.idle_places(), next.idle_places());
    let reads = |plant: &Plant, idle: &HashSet<Uuid>, tag: Uuid| {
        plant.tags.get(&tag).is_some_and(|t| t.set.connection.is_some() && !idle.contains(&t.set.place))
    };
    let fresh = next.tags.values().filter(|t| reads(next, &idle, t.id) && !reads(before, &idle_before, t.id));
    let mut fresh: Vec<(u32, Uuid)> = fresh.map(|t| (t.no, t.id)).collect();
    fresh.sort_unstable();
    fresh.into_iter().map(|(_, id)| id).collect()
}

/// In how many parts they begin.
fn parts(count: usize) -> usize {
    if count <= AT_ONCE { 1 } else { count.div_ceil(LEAST_IN_STEP.max(count.div_ceil(MOST_STEPS))) }
}

impl Live {
    /// Holds back what would begin with this revision, if it is much. Gives what is to be let go in steps.
    pub(crate) fn hold_back(&self, before: &Plant, next: &Plant) -> Vec<Uuid> {
        let fresh = beginning(before, next);
        if parts(fresh.len()) == 1 {
            return Vec::new();
        }
        self.waiting.change(|waiting| waiting.extend(&fresh));
        fresh
    }

    /// Lets tags begin, step by step.
    pub(crate) async fn let_go(self: Arc<Self>, held: Vec<Uuid>) {
        let job = self.jobs.begin("Putting tags into service", held.len() as u64);
        let mut beat = tokio::time::interval(STEP);
        let size = held.len().div_ceil(parts(held.len()));
        let mut done = 0;
        for part in held.chunks(size) {
            if !job.cancelled() {
                beat.tick().await;
            }
            self.waiting.change(|waiting| {
                for id in part {
                    waiting.remove(id);
                }
            });
            self.set_links();
            done += part.len();
            job.reach(done as u64);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::plant::{Kind, Stored};
    use rstest::rstest;
    use serde_json::json;

    #[rstest]
    #[case(0, 1)]
    #[case(200, 1)]
    #[case(201, 3)]
    #[case(5_000, 50)]
    #[case(100_000, 50)]
    fn many_begin_in_parts(#[case] count: usize, #[case] wanted: usize) {
        assert_eq!(parts(count), wanted);
    }

    #[test]
    fn what_begins_is_new_bound_or_back_in_service() {
        let id = Uuid::from_u128;
        let plant = |in_service: bool, bound: bool, more: bool| {
            let mut stored = Vec::new();
            let mut add = |kind, n: u128, own: serde_json::Value| {
                stored.push(Stored { kind, id: id(n), no: n as u32, revision: 1, own: own.as_object().unwrap().clone() });
            };
            add(Kind::Place, 1, json!({"name": "Works", "in_service": in_service}));
            add(Kind::Place, 2, json!({"name": "EX-1", "parent": id(1)}));
            add(Kind::Connection, 3, json!({"name": "Line", "kind": "modbus"}));
            add(Kind::Tag, 11, json!({"name": "a", "place": id(2), "connection": id(3)}));
            add(Kind::Tag, 10, json!({"name": "b", "place": id(2), "connection": bound.then(|| id(3))}));
            if more {
                add(Kind::Tag, 12, json!({"name": "c", "place": id(2), "connection": id(3)}));
            }
            Plant::from_stored(1, stored).0
        };
        let (running, idle) = (plant(true, true, false), plant(false, true, false));
        assert_eq!(beginning(&idle, &running), [id(10), id(11)]);
        assert!(beginning(&running, &idle).is_empty());
        assert_eq!(beginning(&running, &plant(true, true, true)), [id(12)]);
        assert_eq!(beginning(&plant(true, false, false), &running), [id(10)]);
        assert!(beginning(&running, &running).is_empty());
    }
}
