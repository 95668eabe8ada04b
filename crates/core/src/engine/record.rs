//! What of the values goes into history.

use super::{Effects, Engine, RecordRule, Slot};
use crate::{
    plant::RecordMode,
    quality::Quality,
    sample::{Batch, Kind, Sample, Value, flag},
};

/// What was stored last of a tag.
#[derive(Clone, Debug, PartialEq)]
pub struct Recorded {
    value: Option<Value>,
    quality: Quality,
}

impl Recorded {
    /// Whether something told of a tag is worth storing after what was stored before it; without a value only a quality is told.
    pub fn worth(before: Option<&Recorded>, rule: RecordRule, value: Option<&Value>, quality: Quality) -> bool {
        match before {
            None => true,
            Some(b) if b.quality != quality => true,
            // A quality that stays bad is told once.
            Some(_) if value.is_none() => false,
            Some(b) => rule.mode == RecordMode::EachPoll || differs(b.value.as_ref(), value, rule.deadband),
        }
    }

    /// What is stored last once that was: the last value stays where only a quality was told.
    pub fn after(before: Option<Recorded>, value: Option<Value>, quality: Quality) -> Recorded {
        Recorded { value: value.or_else(|| before.and_then(|b| b.value)), quality }
    }
}

impl Engine {
    pub(super) fn record(&mut self, slot: Slot, batch: &Batch, mut sample: Sample, out: &mut Effects) {
        self.fill_spans(slot, sample.time, sample.kind != Kind::Empty);
        let Some(rule) = self.plan.tags[slot as usize].record else { return };
        let before = &mut self.recorded[slot as usize];
        let value = batch.value_of(sample);
        if !Recorded::worth(before.as_ref(), rule, value.as_ref(), sample.quality) {
            return;
        }
        if before.as_ref().is_none_or(|b| b.quality.is_bad()) && !sample.quality.is_bad() {
            sample.flags |= flag::AFTER_GAP;
        }
        *before = Some(Recorded::after(before.take(), value, sample.quality));
        out.recorded.copy_from(batch, sample);
    }
}

/// Whether a value lies outside the deadband around the one stored last; what is not a number must be equal.
pub(crate) fn differs(before: Option<&Value>, now: Option<&Value>, deadband: f64) -> bool {
    match (before.and_then(Value::exact), now.and_then(Value::exact)) {
        // Written so that the step from and to a value that is not a number counts.
        (Some(a), Some(b)) => a.order(b).is_ne() && !((a.float() - b.float()).abs() <= deadband && deadband > 0.0),
        _ => before != now,
    }
}
