//! Recorders at work: what is kept of spans, and rows of all values as of an instant. What records when values change is in
//! [`super::record`].

use super::{Effects, Engine, Plan, RecorderPlan, Slot, Takes, deadlines::Due};
use crate::{
    TagNo,
    formula::Outcome,
    history::{OpenSpan, Point, Span},
    number::Number,
    plant::Track,
    quality::{Class, Quality, Reason},
    sample::{Batch, Sample, Value},
    time::{Nanos, SECOND},
};
use std::collections::HashMap;
use uuid::Uuid;

/// How long after its end a span is closed at least: what belongs into it may be on its way.
const BEHIND: Nanos = SECOND;
/// By how much longer it waits for sources that tell less often, at most.
const MOST_WAIT: Nanos = 30 * SECOND;
/// A recorder that was held up for longer goes on from now.
const CATCHES_UP: Nanos = 60 * SECOND;

/// A figure of a span, as it is stored: its time is the beginning of the span.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Tracked {
    pub recorder: Uuid,
    pub track: Track,
    /// A number, or only a quality.
    pub sample: Sample,
}

/// A recorder took the values of all its tags as of an instant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Row {
    pub recorder: Uuid,
    pub at: Nanos,
    /// Who had it taken; nobody where its trigger did.
    pub actor: String,
}

/// A recorder of the plan.
#[derive(Debug)]
pub(super) struct RecorderState {
    /// The spans of its tags that are being filled, where it records spans.
    open: Vec<Open>,
    /// The end of the span that is closed next.
    next: Nanos,
    /// How its trigger stood last.
    stood: Option<bool>,
}

/// The span of one tag that is being filled.
#[derive(Debug)]
struct Open {
    span: OpenSpan,
    /// Of the values that came within it, and behind its end.
    sum: Sum,
    ahead: Sum,
    /// The bad quality that was kept last, which is told once.
    told: Option<Quality>,
}

/// The sum of values.
#[derive(Clone, Copy, Debug, Default)]
struct Sum {
    total: f64,
    large: bool,
}

impl Sum {
    fn add(&mut self, number: Number) {
        self.total += number.float();
        self.large |= number.is_large();
    }
}

impl Open {
    fn new(from: Nanos, to: Nanos, held: Option<Point>) -> Open {
        Open { span: OpenSpan::new(from, to, held), sum: Sum::default(), ahead: Sum::default(), told: None }
    }
}

impl RecorderState {
    fn new() -> RecorderState {
        RecorderState { open: Vec::new(), next: 0, stood: None }
    }
}

/// The end of the span in which an instant lies.
fn end_after(at: Nanos, every: Nanos, offset: Nanos) -> Nanos {
    let passed = (i128::from(at) - i128::from(offset)).rem_euclid(i128::from(every)) as Nanos;
    at.saturating_add(every - passed)
}

impl Engine {
    /// The current value of a tag is about to be told anew: spans that ended before are closed on what held until then.
    pub(super) fn before_change(&mut self, slot: Slot, at: Nanos, out: &mut Effects) {
        for index in 0..self.plan.tags[slot as usize].spans.len() {
            let (recorder, place) = self.plan.tags[slot as usize].spans[index];
            self.close(recorder as usize, place as usize, at.saturating_sub(1), out);
        }
    }

    /// What now stands for a tag counts in the spans that are being filled.
    pub(super) fn fill_spans(&mut self, slot: Slot, at: Nanos, came: bool) {
        let spans = &self.plan.tags[slot as usize].spans;
        if spans.is_empty() {
            return;
        }
        let current = &self.current[slot as usize];
        let point = Point::told(at, current.value.as_ref(), current.quality);
        for &(recorder, place) in spans {
            let open = &mut self.recorders[recorder as usize].open[place as usize];
            let within = at < open.span.to();
            if within {
                open.span.push(point);
            }
            if let Some(number) = point.value.filter(|_| came) {
                if within { open.sum.add(number) } else { open.ahead.add(number) }
            }
        }
    }

    /// Spans of a recorder have ended.
    pub(super) fn end_spans(&mut self, recorder: usize, out: &mut Effects) {
        let until = self.now.saturating_sub(self.wait_of(recorder));
        for place in 0..self.recorders[recorder].open.len() {
            self.close(recorder, place, until, out);
        }
        if let Takes::Spans { every, offset, .. } = self.plan.recorders[recorder].takes {
            self.recorders[recorder].next = end_after(until, every, offset);
        }
        self.await_span(recorder);
    }

    /// Closes every span of a tag that ended by `until`.
    fn close(&mut self, recorder: usize, place: usize, until: Nanos, out: &mut Effects) {
        let plan = self.plan.clone();
        let of = &plan.recorders[recorder];
        let Takes::Spans { every, offset, keep } = &of.takes else { return };
        let slot = of.slots[place] as usize;
        let end = self.recorders[recorder].open[place].span.to();
        if until.saturating_sub(end) > CATCHES_UP.max(2 * every) {
            self.recorders[recorder].open[place] = self.opened(slot, until, *every, *offset);
            return;
        }
        while self.recorders[recorder].open[place].span.to() <= until {
            let current = &self.current[slot];
            let open = &mut self.recorders[recorder].open[place];
            let end = open.span.to();
            let held = Point::told(end, current.value.as_ref(), current.quality);
            let next = Open::new(end, end.saturating_add(*every), Some(held));
            let ended = std::mem::replace(open, next);
            (open.sum, open.told) = (ended.ahead, ended.told);
            if current.told == 0 || matches!(current.quality.reason(), Reason::NotRead | Reason::NotSet) {
                continue;
            }
            let tag = plan.tags[slot].no;
            let span = ended.span.close();
            let bad = Some(current.quality).filter(|quality| quality.is_bad());
            // A quality that stays bad is told once.
            let repeats = bad.is_some() && bad == ended.told && span.good <= 0.0;
            open.told = bad.filter(|_| span.good <= 0.0);
            if repeats {
                continue;
            }
            for &track in keep {
                match (track, current.value.as_ref().filter(|_| bad.is_none())) {
                    (Track::Value, Some(value)) => out.recorded.push(tag, end, current.quality, 0, value),
                    (Track::Value, None) => out.recorded.push_quality(tag, end, current.quality),
                    _ => out.tracked.push(Tracked {
                        recorder: of.id,
                        track,
                        sample: figure(&span, track, ended.sum, tag, current.quality),
                    }),
                }
            }
        }
    }

    /// The span in which an instant lies, as far as it is known from then on.
    fn opened(&self, slot: usize, at: Nanos, every: Nanos, offset: Nanos) -> Open {
        let end = end_after(at, every, offset);
        let current = &self.current[slot];
        let held = (current.told != 0).then(|| Point::told(at, current.value.as_ref(), current.quality));
        let mut open = Open::new(end.saturating_sub(every), end, None);
        held.into_iter().for_each(|point| open.span.push(point));
        open
    }

    /// How long after its end a span of a recorder is closed: its sources tell as often as their interval says.
    fn wait_of(&self, recorder: usize) -> Nanos {
        let plan = &self.plan;
        let longest = plan.recorders[recorder].slots.iter().map(|&slot| plan.tags[slot as usize].interval).max();
        BEHIND + longest.unwrap_or(0).min(MOST_WAIT)
    }

    pub(super) fn await_span(&mut self, recorder: usize) {
        let spans = matches!(self.plan.recorders[recorder].takes, Takes::Spans { .. });
        let wait = self.wait_of(recorder);
        self.deadlines.set(Due::Span(recorder), spans.then(|| self.recorders[recorder].next.saturating_add(wait)));
    }

    /// All spans are filled anew from now on: the clock was set.
    pub(super) fn reopen_spans(&mut self) {
        let plan = self.plan.clone();
        for (index, of) in plan.recorders.iter().enumerate() {
            let Takes::Spans { every, offset, .. } = of.takes else { continue };
            let open = of.slots.iter().map(|&slot| self.opened(slot as usize, self.now, every, offset)).collect();
            (self.recorders[index].open, self.recorders[index].next) = (open, end_after(self.now, every, offset));
        }
    }

    /// The plan is another one: recorders go on where they do the same as before.
    pub(super) fn change_recorders(&mut self, old: &Plan) {
        let states = std::mem::take(&mut self.recorders);
        let mut known: HashMap<Uuid, (&RecorderPlan, RecorderState)> =
            old.recorders.iter().zip(states).map(|(of, state)| (of.id, (of, state))).collect();
        let plan = self.plan.clone();
        for of in &plan.recorders {
            let mut state = RecorderState::new();
            let before = known.remove(&of.id);
            state.stood = before.as_ref().and_then(|(_, state)| state.stood);
            if let Takes::Spans { every, offset, .. } = of.takes {
                let mut open: HashMap<TagNo, Open> = HashMap::new();
                state.next = end_after(self.now, every, offset);
                if let Some((was, before)) = before.filter(|(was, _)| was.takes == of.takes) {
                    state.next = before.next;
                    open.extend(was.slots.iter().map(|&slot| old.tags[slot as usize].no).zip(before.open));
                }
                let now = self.now;
                let going = |&slot: &Slot| {
                    let no = plan.tags[slot as usize].no;
                    open.remove(&no).unwrap_or_else(|| self.opened(slot as usize, now, every, offset))
                };
                state.open = of.slots.iter().map(going).collect();
            }
            self.recorders.push(state);
        }
    }

    /// The trigger of a recorder has a result.
    pub(super) fn look_at_trigger(&mut self, recorder: usize, outcome: Outcome, out: &mut Effects) {
        let Outcome { at, value: Ok((value, _)) } = outcome else { return };
        let Some(now) = value.value().number().map(|number| number != 0.0) else { return };
        let before = self.recorders[recorder].stood.replace(now);
        let Takes::Rows(edge) = self.plan.recorders[recorder].takes else { return };
        if before.is_some_and(|before| before != now) && edge.counts(now) {
            self.row(recorder, at, "", out);
        }
    }

    /// The trigger of a recorder is another one: how the former one stood tells nothing.
    pub(super) fn forget_trigger(&mut self, recorder: usize) {
        self.recorders[recorder].stood = None;
    }

    /// Somebody has a recorder take a row; nothing happens where it does not run.
    pub(super) fn take_row(&mut self, recorder: Uuid, actor: &str, out: &mut Effects) {
        if let Some(index) = self.plan.recorder_of(recorder) {
            self.row(index, self.now, actor, out);
        }
    }

    fn row(&self, recorder: usize, at: Nanos, actor: &str, out: &mut Effects) {
        let of = &self.plan.recorders[recorder];
        for &slot in &of.slots {
            let (current, tag) = (&self.current[slot as usize], self.plan.tags[slot as usize].no);
            match &current.value {
                _ if current.told == 0 => {}
                Some(value) if !current.quality.is_bad() => out.recorded.push(tag, at, current.quality, 0, value),
                _ => out.recorded.push_quality(tag, at, current.quality),
            }
        }
        out.rows.push(Row { recorder: of.id, at, actor: actor.to_owned() });
    }
}

/// A figure of a span, with its quality: uncertain where the value was known for a part of the span only.
fn figure(span: &Span, track: Track, sum: Sum, tag: TagNo, current: Quality) -> Sample {
    let number = match track {
        Track::Value => None,
        Track::Average => span.average.map(Number::Float),
        Track::Minimum => span.minimum,
        Track::Maximum => span.maximum,
        Track::Sum => (span.good > 0.0).then_some(Number::Float(sum.total)),
    };
    let rounded = match track {
        Track::Average => span.is_average_rounded(),
        Track::Sum => sum.large,
        _ => false,
    };
    let quality = if span.good < 1.0 - 1e-9 {
        Quality::of(Reason::PartKnown)
    } else if rounded {
        Quality::of(Reason::InputDigits)
    } else {
        Quality::GOOD
    };
    let mut batch = Batch::default();
    match number {
        Some(number) => batch.push(tag, span.from, quality, 0, &Value::of_number(number)),
        // A text has no figures, and neither has what was bad all the time.
        None if current.class() == Class::Bad => batch.push_quality(tag, span.from, current),
        None => batch.push_quality(tag, span.from, Quality::of(Reason::NotANumber)),
    }
    batch.samples[0]
}
