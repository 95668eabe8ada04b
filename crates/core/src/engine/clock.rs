//! Steps of this machine's clock: nothing may wait for a time that comes again, or that has been passed over.

use super::{Effects, Engine};
use crate::time::Nanos;

impl Engine {
    /// Begins an epoch: whatever comes next of a tag is news, delays go on for as long as was left of them, and the next value
    /// of every tag is stored, so that history in the new epoch begins with what holds.
    pub(super) fn step_clock(&mut self, now: Nanos, epoch: u32, by: Nanos, out: &mut Effects) {
        (self.now, self.epoch) = (now, epoch);
        for live in &mut self.rules {
            if let Some(since) = &mut live.memory.delay_since {
                *since = since.saturating_add(by);
                live.standing.delay_since = live.memory.delay_since;
                out.states.push(live.standing.clone());
            }
        }
        for formula in &mut self.formulas {
            formula.running.shift(by);
        }
        self.reopen_spans();
        self.await_all();
        self.recorded.iter_mut().for_each(|recorded| *recorded = None);
    }
}
