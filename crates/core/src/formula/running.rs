//! A program at work: what it remembers, and its result at rising instants.

use super::{
    Program,
    eval::{Cause, Doubt, Given, Reading, Scene, Val},
    memory::Memory,
};
use crate::time::{Nanos, SECOND};
use serde_json::Value as Json;
use std::{cell::Cell, collections::HashMap, sync::Arc};

/// The result of a formula at an instant.
#[derive(Clone, Debug, PartialEq)]
pub struct Outcome {
    pub at: Nanos,
    /// The value, with the doubt about it; or why there is none.
    pub value: Result<(Val, Option<Doubt>), Cause>,
}

/// A program with what it remembers.
#[derive(Clone, Debug)]
pub struct Running {
    program: Arc<Program>,
    memories: Vec<Memory>,
    given: Vec<Given>,
    at: Nanos,
}

impl Running {
    pub fn new(program: Arc<Program>) -> Running {
        let memories = program.overs.iter().map(|over| Memory::of(over.what)).collect();
        Running { program, memories, given: Vec::new(), at: Nanos::MIN }
    }

    /// Up to when it has come.
    pub fn at(&self) -> Nanos {
        self.at
    }

    /// The result at an instant; an earlier one than the last counts as the last. `fresh` has a bit for each input that was told
    /// anew, and `reading` gives what is known of one.
    pub fn evaluate<'a>(&mut self, at: Nanos, fresh: u64, reading: &dyn Fn(usize) -> Reading<'a>) -> Outcome {
        let at = at.max(self.at);
        self.at = at;
        let program = self.program.clone();
        self.given.clear();
        for (over, memory) in program.overs.iter().zip(&mut self.memories) {
            let scene = Scene { inputs: &program.inputs, reading, now: at, given: &self.given, doubt: Cell::new(None) };
            let args: Vec<Given> = over.args.iter().map(|arg| scene.whole(arg)).collect();
            let given = memory.step(over, at, &args, fresh & over.reads != 0);
            self.given.push(given);
        }
        let scene = Scene { inputs: &program.inputs, reading, now: at, given: &self.given, doubt: Cell::new(None) };
        Outcome { at, value: scene.whole(&program.root) }
    }

    /// When the result changes by itself; none where it waits for its inputs.
    pub fn next(&self) -> Option<Nanos> {
        let wakes = self.memories.iter().zip(&self.program.overs).filter_map(|(memory, over)| memory.wakes(over, self.at));
        let clock = self.program.clock.then(|| (self.at.div_euclid(60 * SECOND) + 1) * 60 * SECOND);
        wakes.chain(clock).min()
    }

    /// Takes over what another version of the formula remembers, where it counts the same.
    pub fn carry(&mut self, other: Running) {
        self.at = other.at;
        let keys = other.program.overs.iter().map(|over| over.key.as_str());
        let mut by_key: HashMap<&str, Memory> = keys.zip(other.memories).collect();
        for (over, memory) in self.program.overs.iter().zip(&mut self.memories) {
            if let Some(known) = by_key.remove(over.key.as_str()) {
                *memory = known;
            }
        }
    }

    /// What must outlast a restart, as JSON; none where nothing must.
    pub fn kept(&self) -> Option<Json> {
        let kept = self.program.overs.iter().zip(&self.memories).filter(|(_, memory)| memory.is_kept());
        let entries: serde_json::Map<String, Json> =
            kept.filter_map(|(over, memory)| Some((over.key.clone(), serde_json::to_value(memory).ok()?))).collect();
        (!entries.is_empty()).then_some(Json::Object(entries))
    }

    /// Takes up what was kept; what does not fit any more is left.
    pub fn restore(&mut self, kept: &Json) {
        for (over, memory) in self.program.overs.iter().zip(&mut self.memories) {
            let Some(found) = kept.get(&over.key).and_then(|json| serde_json::from_value::<Memory>(json.clone()).ok()) else {
                continue;
            };
            if std::mem::discriminant(&found) == std::mem::discriminant(memory) {
                *memory = found;
            }
        }
    }

    /// Fills its windows with what was before they began.
    pub fn begin_with(&mut self, earlier: &Running) {
        if earlier.program.overs.iter().map(|o| &o.key).eq(self.program.overs.iter().map(|o| &o.key)) {
            self.memories.iter_mut().zip(&earlier.memories).for_each(|(own, earlier)| own.begin_with(earlier));
        }
    }

    /// The clock was moved.
    pub fn shift(&mut self, by: Nanos) {
        if self.at != Nanos::MIN {
            self.at = self.at.saturating_add(by);
        }
        self.memories.iter_mut().for_each(|memory| memory.shift(by));
    }
}
