//! The newest value of every tag, for whoever asks: written by the engine's thread, read by browsers.

use havrel_core::{
    TagNo,
    engine::{Current, Plan, Slot},
};
use std::sync::Arc;

/// The shared picture of the plant.
#[derive(Default)]
pub struct Values {
    plan: Arc<Plan>,
    shown: Vec<Shown>,
    /// Counts turns of the engine; rises with each change.
    version: u64,
}

/// A tag's newest, with the turn in which it changed.
#[derive(Clone, Debug)]
pub struct Shown {
    pub current: Current,
    pub version: u64,
}

impl Values {
    /// The last turn that changed something.
    pub fn version(&self) -> u64 {
        self.version
    }

    /// The newest of a tag.
    pub fn of(&self, tag: TagNo) -> Option<&Shown> {
        self.plan.slots.get(&tag).and_then(|&slot| self.shown.get(slot as usize))
    }

    pub(crate) fn replace(&mut self, plan: Arc<Plan>, all: impl Iterator<Item = Current>) {
        self.version += 1;
        let version = self.version;
        self.shown = all.map(|current| Shown { current, version }).collect();
        self.plan = plan;
    }

    pub(crate) fn update(&mut self, changed: &[Slot], current: impl Fn(Slot) -> Current) {
        self.version += 1;
        for &slot in changed {
            if let Some(shown) = self.shown.get_mut(slot as usize)
                && shown.version < self.version
            {
                *shown = Shown { current: current(slot), version: self.version };
            }
        }
    }
}
