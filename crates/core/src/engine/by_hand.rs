//! Values that people set by hand: they count for a tag, whatever its source says.

use super::{Current, Effects, Engine, Slot, deadlines::Due};
use crate::{
    TagNo,
    quality::{Quality, Reason},
    sample::{Batch, Value, flag},
    time::Nanos,
};

/// A value that somebody set by hand.
#[derive(Clone, Debug)]
pub(super) struct ByHand {
    pub value: Value,
    pub until: Option<Nanos>,
    /// What the source says meanwhile; `None` until the value shows.
    pub source: Option<Current>,
}

impl Engine {
    pub(super) fn set_by_hand(&mut self, tag: TagNo, value: &Value, until: Option<Nanos>, out: &mut Effects) {
        let source = self.by_hand.remove(&tag).and_then(|hand| hand.source);
        self.by_hand.insert(tag, ByHand { value: value.clone(), until, source });
        self.deadlines.set(Due::ByHand(tag), until);
        self.show_by_hand(tag, out);
    }

    /// Shows a value that was set by hand, records it and judges it, if the tag is there and in service.
    pub(super) fn show_by_hand(&mut self, tag: TagNo, out: &mut Effects) {
        let Some(&slot) = self.plan.slots.get(&tag) else { return };
        if self.plan.tags[slot as usize].idle {
            return;
        }
        self.before_change(slot, self.now, out);
        let Some(hand) = self.by_hand.get_mut(&tag) else { return };
        let current = &mut self.current[slot as usize];
        hand.source.get_or_insert_with(|| current.clone());
        *current = Current {
            value: Some(hand.value.clone()),
            time: self.now,
            quality: Quality::of(Reason::ByHand),
            told: self.now,
            epoch: self.epoch,
            own: 0,
            cause: None,
        };
        let mut batch = Batch::default();
        batch.push(tag, self.now, Quality::of(Reason::ByHand), flag::BY_HAND, &hand.value);
        self.put(slot, &batch, out);
    }

    /// Lets the source speak again: what it said last counts from now on.
    pub(super) fn release(&mut self, tag: TagNo, out: &mut Effects) {
        let Some(hand) = self.by_hand.remove(&tag) else { return };
        self.deadlines.set(Due::ByHand(tag), None);
        let (Some(source), Some(&slot)) = (hand.source, self.plan.slots.get(&tag)) else { return };
        self.before_change(slot, self.now, out);
        let current = &mut self.current[slot as usize];
        if self.plan.tags[slot as usize].idle {
            (current.value, current.time) = (source.value, source.time);
            out.changed.push(slot);
            return;
        }
        let mut batch = Batch::default();
        match &source.value {
            Some(value) if !source.quality.is_bad() => batch.push(tag, self.now, source.quality, 0, value),
            _ => batch.push_quality(tag, self.now, source.quality),
        }
        // A tag to which nothing was told yet stays so, or the first that comes would be too old.
        let told = if source.told == 0 { 0 } else { self.now };
        *current = Current { told, epoch: self.epoch, ..source };
        self.put(slot, &batch, out);
    }

    /// Records and judges what now stands for a tag.
    fn put(&mut self, slot: Slot, batch: &Batch, out: &mut Effects) {
        out.changed.push(slot);
        self.record(slot, batch, batch.samples[0], out);
        self.judge(slot, self.now, out);
        self.feed(slot, self.now);
    }

    /// After a change of the plan: what is set by hand goes with its tag, and shows where it did not before.
    pub(super) fn keep_by_hand(&mut self, out: &mut Effects) {
        let gone: Vec<TagNo> = self.by_hand.keys().copied().filter(|tag| !self.plan.slots.contains_key(tag)).collect();
        for tag in gone {
            self.by_hand.remove(&tag);
            self.deadlines.set(Due::ByHand(tag), None);
            out.released.push(tag);
        }
        let tags: Vec<TagNo> = self.by_hand.keys().copied().collect();
        for tag in tags {
            let shown = |slot: &Slot| self.current[*slot as usize].quality.reason() == Reason::ByHand;
            if !self.plan.slots.get(&tag).is_some_and(shown) {
                self.show_by_hand(tag, out);
            }
        }
    }
}
