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

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::{
        engine::TagPlan,
        quality::{Quality, Reason},
        sample::Value,
    };
    use uuid::Uuid;

    fn plan(numbers: &[TagNo]) -> Arc<Plan> {
        let mut plan = Plan::default();
        for (slot, &no) in numbers.iter().enumerate() {
            plan.slots.insert(no, slot as Slot);
            plan.tags.push(TagPlan {
                no,
                id: Uuid::from_u128(no.into()),
                interval: 0,
                record: None,
                spans: Vec::new(),
                rules: Vec::new(),
                feeds: Vec::new(),
                formula: None,
                idle: false,
            });
        }
        Arc::new(plan)
    }

    fn current(value: f64) -> Current {
        Current { value: Some(Value::F64(value)), time: 1, quality: Quality::of(Reason::Fine), told: 1, ..Current::UNREAD }
    }

    #[test]
    fn only_what_changed_gets_a_new_version() {
        let mut values = Values::default();
        values.replace(plan(&[7, 9]), [current(1.0), current(2.0)].into_iter());
        let before = values.version();
        values.update(&[1, 1], |_| current(3.0));
        assert_eq!(values.of(7).unwrap().version, before);
        assert_eq!(
            (values.of(9).unwrap().version, values.of(9).unwrap().current.value.clone()),
            (before + 1, Some(Value::F64(3.0)))
        );
        assert!(values.of(8).is_none());
    }

    #[test]
    fn a_new_plan_moves_tags_and_shows_all_anew() {
        let mut values = Values::default();
        values.replace(plan(&[7, 9]), [current(1.0), current(2.0)].into_iter());
        let before = values.version();
        values.replace(plan(&[9]), std::iter::once(current(2.0)));
        assert!(values.of(7).is_none());
        assert!(values.of(9).unwrap().version > before);
        // A slot of the plan before does no harm.
        values.update(&[1], |_| current(5.0));
        assert_eq!(values.of(9).unwrap().current.value, Some(Value::F64(2.0)));
    }
}
