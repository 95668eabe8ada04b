//! What of the values goes into history.

use super::{Effects, Engine, Slot};
use crate::{
    plant::RecordMode,
    quality::Quality,
    sample::{Batch, Kind, Sample, Value, flag},
};

/// What was stored last of a tag.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Recorded {
    value: Option<Value>,
    quality: Quality,
}

impl Engine {
    pub(super) fn record(&mut self, slot: Slot, batch: &Batch, mut sample: Sample, out: &mut Effects) {
        let Some(rule) = self.plan.tags[slot as usize].record else { return };
        let before = &mut self.recorded[slot as usize];
        let value = batch.value_of(sample);
        let worth = match before {
            None => true,
            Some(b) if b.quality != sample.quality => true,
            // A quality that stays bad is told once.
            Some(_) if sample.kind == Kind::Empty => false,
            Some(b) => rule.mode == RecordMode::EachPoll || differs(b.value.as_ref(), value.as_ref(), rule.deadband),
        };
        if !worth {
            return;
        }
        if before.as_ref().is_none_or(|b| b.quality.is_bad()) && !sample.quality.is_bad() {
            sample.flags |= flag::AFTER_GAP;
        }
        let kept = value.or_else(|| before.as_ref().and_then(|b| b.value.clone()));
        *before = Some(Recorded { value: kept, quality: sample.quality });
        out.recorded.copy_from(batch, sample);
    }
}

/// Whether a value lies outside the deadband around the one stored last; what is not a number must be equal.
pub fn differs(before: Option<&Value>, now: Option<&Value>, deadband: f64) -> bool {
    match (before.and_then(Value::exact), now.and_then(Value::exact)) {
        // Written so that the step from and to a value that is not a number counts.
        (Some(a), Some(b)) => a.order(b).is_ne() && !((a.float() - b.float()).abs() <= deadband && deadband > 0.0),
        _ => before != now,
    }
}
