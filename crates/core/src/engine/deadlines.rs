//! Everything that waits for a time, in one order: a tick costs what is due and nothing else.

use crate::{TagNo, time::Nanos};
use std::collections::{BTreeSet, HashMap};

/// What ends by itself. Rules are named by their index in the plan, so deadlines are made anew with each plan.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(super) enum Due {
    /// The time of a value that was set by hand.
    ByHand(TagNo),
    /// An alarm's on-delay or off-delay.
    Delay(usize),
    /// An alarm's suppression.
    Suppression(usize),
    /// A formula's result changes with time alone.
    Formula(usize),
    /// A span of a recorder ends.
    Span(usize),
}

#[derive(Debug, Default)]
pub(super) struct Deadlines {
    order: BTreeSet<(Nanos, Due)>,
    at: HashMap<Due, Nanos>,
}

impl Deadlines {
    /// From now on this ends at `at`; `None`: it waits for nothing.
    pub fn set(&mut self, due: Due, at: Option<Nanos>) {
        let before = match at {
            Some(at) => self.at.insert(due, at),
            None => self.at.remove(&due),
        };
        if let Some(before) = before {
            self.order.remove(&(before, due));
        }
        self.order.extend(at.map(|at| (at, due)));
    }

    /// When the first of them ends.
    pub fn first(&self) -> Option<Nanos> {
        self.order.first().map(|(at, _)| *at)
    }

    /// Takes out what ended first, if anything ended by `now`.
    pub fn next(&mut self, now: Nanos) -> Option<Due> {
        let (_, due) = *self.order.first().filter(|(at, _)| *at <= now)?;
        self.set(due, None);
        Some(due)
    }

    pub fn clear(&mut self) {
        self.order.clear();
        self.at.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Each ends once, at the time that was said last, the earliest first.
        #[test]
        fn each_ends_once_in_the_order_of_time(said in prop::collection::vec((0usize..20, prop::option::of(0i64..50)), 0..120)) {
            let mut deadlines = Deadlines::default();
            let mut last: HashMap<Due, Nanos> = HashMap::new();
            for (rule, at) in said {
                deadlines.set(Due::Delay(rule), at);
                match at {
                    Some(at) => drop(last.insert(Due::Delay(rule), at)),
                    None => drop(last.remove(&Due::Delay(rule))),
                }
            }
            let mut expected: Vec<(Nanos, Due)> = last.into_iter().map(|(due, at)| (at, due)).collect();
            expected.sort_unstable();
            let mut ended = Vec::new();
            for now in 0..50 {
                while let Some(due) = deadlines.next(now) {
                    ended.push((now, due));
                }
            }
            prop_assert_eq!(ended, expected);
            prop_assert!(deadlines.order.is_empty() && deadlines.at.is_empty());
        }
    }
}
