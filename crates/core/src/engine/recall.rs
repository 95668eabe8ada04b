//! What history knows of a tag, shown after a restart until its source speaks.

use super::{Effects, Engine};
use crate::{
    TagNo,
    quality::{Quality, Reason},
    sample::Value,
    time::Nanos,
};

/// How, when and by which clock a value was told.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Told {
    pub quality: Quality,
    pub at: Nanos,
    /// The clock epoch in which it was told.
    pub epoch: u32,
    /// The time by the source's own clock; 0 where it has none.
    pub own: Nanos,
}

impl Engine {
    /// Shows what was known before a restart, unless something newer is.
    pub(super) fn recall(&mut self, tag: TagNo, value: Value, time: Nanos, told: Option<Told>, out: &mut Effects) {
        let Some(&slot) = self.plan.slots.get(&tag) else { return };
        let source = self.by_hand.get_mut(&tag).and_then(|hand| hand.source.as_mut());
        let current = source.unwrap_or(&mut self.current[slot as usize]);
        if current.value.is_some() || self.plan.tags[slot as usize].idle {
            return;
        }
        if let Some(number) = value.exact() {
            // A delay that runs and ends before the source speaks tells this value.
            for &rule in &self.plan.tags[slot as usize].rules {
                self.rules[rule as usize].held = number;
            }
        }
        (current.value, current.time) = (Some(value), time);
        if let Some(told) = told.filter(|_| matches!(current.quality.reason(), Reason::NotSet | Reason::NotRead)) {
            (current.quality, current.told, current.epoch, current.own) = (told.quality, told.at, told.epoch, told.own);
            self.feed(slot, told.at);
        }
        out.changed.push(slot);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        engine::{
            Input,
            tests::{engine, feed, plant, value},
        },
        sample::Batch,
        time::SECOND,
    };
    use serde_json::json;

    #[test]
    fn what_history_knows_shows_after_a_restart_until_the_source_speaks() {
        let recalled = |told| Input::Recall { tag: 7, value: Value::F64(42.0), time: SECOND, told };
        let good = Told { quality: Quality::GOOD, at: SECOND, epoch: 0, own: SECOND };
        let unset = |engine: &mut Engine| {
            let mut batch = Batch::default();
            batch.push_quality(7, 100 * SECOND, Quality::of(Reason::NotSet));
            engine.step(100 * SECOND, Input::Samples(&batch), &mut Effects::default());
        };
        let step = |engine: &mut Engine, input| {
            let mut out = Effects::default();
            engine.step(100 * SECOND, input, &mut out);
            out
        };
        // A pushed value counts as it was sent; a polled one shows, and is not trusted.
        for (told, reason) in [(Some(good), Reason::Fine), (None, Reason::NotSet)] {
            let mut engine = engine(&plant(json!({}), json!({})), vec![]);
            unset(&mut engine);
            let out = step(&mut engine, recalled(told));
            assert!(out.changed == [0] && out.recorded.is_empty() && out.events.is_empty(), "{out:?}");
            let current = engine.current(0);
            assert_eq!((current.value.clone(), current.time), (Some(Value::F64(42.0)), SECOND));
            assert_eq!(current.quality, Quality::of(reason));
        }
        let mut engine = engine(&plant(json!({}), json!({})), vec![]);
        feed(&mut engine, &[value(50, 7.0)]);
        assert!(step(&mut engine, recalled(Some(good))).changed.is_empty());
        assert_eq!(engine.current(0).value, Some(Value::F64(7.0)));
    }
}
