//! What comes is accepted: which time and quality it counts with, and whether it is news.

use super::{CLOCK_TOLERANCE, CLOCK_UNSET, Current, Effects, Engine};
use crate::{
    quality::{Class, Quality, Reason},
    sample::{Batch, Sample, flag},
    time::Nanos,
};

impl Engine {
    pub(super) fn accept(&mut self, batch: &Batch, mut sample: Sample, out: &mut Effects) {
        let Some(&slot) = self.plan.slots.get(&sample.tag) else { return };
        if self.plan.tags[slot as usize].idle {
            return;
        }
        let mut own = if sample.flags & flag::OWN_TIME != 0 { sample.time } else { 0 };
        let doubt = match sample.time {
            time if time > self.now.saturating_add(CLOCK_TOLERANCE) => Some(Reason::ClockAhead),
            time if own != 0 && time < CLOCK_UNSET && self.now >= CLOCK_UNSET => Some(Reason::ClockUnset),
            _ => None,
        };
        if let Some(doubt) = doubt {
            sample.time = self.now;
            // A clock that was never set tells no order either.
            own = if doubt == Reason::ClockUnset { 0 } else { own };
            if sample.quality.class() == Class::Good {
                sample.quality = Quality::of(doubt);
            }
        }
        if !self.plan.tags[slot as usize].spans.is_empty() {
            self.before_change(slot, sample.time, out);
        }
        let source = self.by_hand.get_mut(&sample.tag).and_then(|hand| hand.source.as_mut());
        let hidden = source.is_some();
        let current = source.unwrap_or(&mut self.current[slot as usize]);
        if sample.quality.reason() == Reason::NotSet {
            // Nothing was told: whatever comes, however old, is news.
            current.quality = sample.quality;
            if !hidden {
                out.changed.push(slot);
            }
            return;
        }
        if is_older(current, sample.time, own, self.epoch) {
            // Older than what is shown: it belongs into history, and moves no alarm.
            sample.flags |= flag::LATE;
            if self.plan.tags[slot as usize].record.is_some() {
                out.recorded.copy_from(batch, sample);
            }
            return;
        }
        if let Some(value) = batch.value_of(sample) {
            current.value = Some(value);
            current.time = sample.time;
        }
        current.quality = sample.quality;
        (current.told, current.epoch, current.own, current.cause) = (sample.time, self.epoch, own, None);
        if hidden {
            return;
        }
        out.changed.push(slot);
        self.record(slot, batch, sample, out);
        self.judge(slot, sample.time, out);
        self.feed(slot, sample.time);
    }
}

/// Whether a sample is older than what is known. Within one clock epoch times tell; across a step of our clock only the
/// source's own clock does, and without one whatever arrives is news.
fn is_older(current: &Current, time: Nanos, own: Nanos, epoch: u32) -> bool {
    if current.epoch == epoch {
        // A value told bad keeps its time, which may be of an earlier epoch; when it was told bad is of this one.
        return time < current.told;
    }
    own != 0 && current.own != 0 && own < current.own
}
