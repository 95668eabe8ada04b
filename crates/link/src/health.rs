//! How a connection fares, in figures and in words.

use crate::{LinkError, now};
use havrel_core::time::{Nanos, SECOND};
use serde::Serialize;
use std::collections::{BTreeMap, VecDeque};

/// How a connection fares.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum LinkState {
    Off,
    Connecting,
    Running,
    Trouble,
}

/// A connection's health, as it stands now. Counters run since the program started.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Health {
    pub state: LinkState,
    pub since: Nanos,
    /// What is wrong, and what usually mends it; empty while nothing is.
    pub message: String,
    pub cure: String,
    /// Duration of the last request in microseconds.
    pub round_trip_us: u64,
    /// Of the last 256 requests that were answered, in microseconds: half took no longer, 95 of 100 took no longer.
    pub p50_us: u64,
    pub p95_us: u64,
    pub requests: u64,
    pub values: u64,
    /// Values a second, over the last seconds.
    pub rate: f64,
    pub errors: u64,
    /// The same by kind, in words.
    pub errors_by_kind: BTreeMap<&'static str, u64>,
    /// Polls left out because the one before took too long.
    pub overruns: u64,
    pub reconnects: u64,
    /// When the device answered last; 0 if never.
    pub answered: Nanos,
    /// Which of its addresses is in use: 0 is the first, the others are spare. And since when.
    pub path: usize,
    pub path_since: Nanos,
    /// How many values a filling has brought in so far; none goes on without.
    pub filling: Option<u64>,
    /// What was found out about the device and is worked around, in sentences.
    pub learnt: Vec<String>,
}

impl Health {
    /// Before anything was tried.
    pub fn new(state: LinkState) -> Health {
        Health {
            state,
            since: now(),
            message: String::new(),
            cure: String::new(),
            round_trip_us: 0,
            p50_us: 0,
            p95_us: 0,
            requests: 0,
            values: 0,
            rate: 0.0,
            errors: 0,
            errors_by_kind: BTreeMap::new(),
            overruns: 0,
            reconnects: 0,
            answered: 0,
            path: 0,
            path_since: now(),
            filling: None,
            learnt: Vec::new(),
        }
    }

    /// Moves into trouble, with words and what mends it.
    pub fn fail(&mut self, message: &str, cure: &str) {
        self.enter(LinkState::Trouble, None);
        (self.message, self.cure) = (message.to_owned(), cure.to_owned());
    }

    /// Moves to a state; `since` moves only where the state does.
    pub(crate) fn enter(&mut self, state: LinkState, trouble: Option<&LinkError>) {
        if self.state != state {
            self.state = state;
            self.since = now();
        }
        self.message = trouble.map(ToString::to_string).unwrap_or_default();
        self.cure = trouble.map(|e| e.cure().to_owned()).unwrap_or_default();
    }

    /// Counts an error.
    pub(crate) fn count(&mut self, error: &LinkError) {
        self.errors += 1;
        *self.errors_by_kind.entry(error.kind()).or_default() += 1;
    }
}

/// Durations of the last requests that were answered.
#[derive(Debug, Default)]
pub(crate) struct Durations(VecDeque<u32>);

impl Durations {
    const KEPT: usize = 256;

    pub fn add(&mut self, took_us: u64) {
        if self.0.len() == Self::KEPT {
            self.0.pop_front();
        }
        self.0.push_back(u32::try_from(took_us).unwrap_or(u32::MAX));
    }

    /// The durations that half and 95 of 100 do not exceed; 0 before there are any.
    pub fn percentiles(&self) -> (u64, u64) {
        let mut sorted: Vec<u32> = self.0.iter().copied().collect();
        sorted.sort_unstable();
        let at = |share: f64| sorted.get((share * sorted.len() as f64).ceil() as usize - usize::from(!sorted.is_empty()));
        (at(0.5).copied().unwrap_or(0).into(), at(0.95).copied().unwrap_or(0).into())
    }
}

/// Values a second over spans of at least two seconds.
#[derive(Debug)]
pub(crate) struct Rate {
    from: Nanos,
    values: u64,
    latest: f64,
}

impl Rate {
    pub fn new(now: Nanos) -> Rate {
        Rate { from: now, values: 0, latest: 0.0 }
    }

    /// Adds values that came by `now`; gives the present rate.
    pub fn add(&mut self, now: Nanos, values: u64) -> f64 {
        self.values += values;
        let span = now - self.from;
        if span >= 2 * SECOND {
            self.latest = self.values as f64 * SECOND as f64 / span as f64;
            (self.from, self.values) = (now, 0);
        }
        self.latest
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn percentiles_are_of_the_last_256() {
        let mut durations = Durations::default();
        assert_eq!(durations.percentiles(), (0, 0));
        durations.add(7);
        assert_eq!(durations.percentiles(), (7, 7));
        (0..1000).for_each(|i| durations.add(i));
        assert_eq!(durations.percentiles(), (744 + 127, 744 + 243));
    }

    #[test]
    fn a_rate_is_of_whole_spans() {
        let mut rate = Rate::new(0);
        assert_eq!(rate.add(SECOND, 50), 0.0);
        assert_eq!(rate.add(2 * SECOND, 50), 50.0);
        assert_eq!(rate.add(3 * SECOND, 900), 50.0);
    }
}
