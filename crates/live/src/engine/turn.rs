//! One turn: up to fifty milliseconds of messages, what the engine decides on them, and the frame that keeps it.

use super::{
    Thread,
    events::{Kept, Message, Recalled, Replies},
};
use crate::{now, spool::Appended};
use havrel_core::{
    engine::{Effects, Input, Slot},
    frame::{Frame, Keep, PART_BYTES},
};
use std::{
    sync::{PoisonError, atomic::Ordering},
    time::{Duration, Instant},
};
use tokio::sync::{mpsc, oneshot};

/// The longest turn.
const TURN: Duration = Duration::from_millis(50);

/// What a turn has gathered.
#[derive(Default)]
struct Turn {
    effects: Effects,
    replies: Replies,
    /// The plan is another one.
    replaced: bool,
    /// The turn is the last; who waits for that.
    stop: Option<oneshot::Sender<()>>,
}

impl Thread {
    /// One turn. `true`: the last.
    pub(super) fn turn(&mut self, first: Message, inbox: &mut mpsc::Receiver<Message>) -> bool {
        let began = Instant::now();
        if let Some(by) = self.clock.look(now()) {
            self.step_clock(now(), by);
        }
        let mut turn = Turn::default();
        let mut next = Some(first);
        while let Some(message) = next {
            self.dispatch(message, &mut turn);
            let goes_on = turn.stop.is_none() && began.elapsed() < TURN;
            next = if goes_on { inbox.try_recv().ok() } else { None };
        }
        let Turn { mut effects, replies, replaced, stop } = turn;
        self.show(&effects, replaced);
        if !effects.released.is_empty() {
            // Nobody listens any more while the program stops.
            let _ = self.released.send(std::mem::take(&mut effects.released));
        }
        replies.send(self.keep(effects));
        stop.map(|reply| reply.send(()).is_ok()).is_some()
    }

    fn dispatch(&mut self, message: Message, turn: &mut Turn) {
        let Turn { effects, replies, .. } = turn;
        let input = match &message {
            Message::Samples(batch) | Message::Pushed(batch, _) => Some(Input::Samples(batch)),
            Message::Tick(_) => Some(Input::Tick),
            Message::Plan(plan, _) => Some(Input::Plan(plan.clone())),
            Message::Alarms { rules, action, actor, comment, .. } => {
                Some(Input::Alarms { rules, action: *action, actor, comment })
            }
            Message::SetByHand { tag, value, until, .. } => Some(Input::SetByHand { tag: *tag, value, until: *until }),
            Message::Release { tag, .. } => Some(Input::Release(*tag)),
            Message::TakeRow { recorder, actor, .. } => Some(Input::TakeRow { recorder: *recorder, actor }),
            Message::System { alarm, active, text } => Some(Input::System { alarm: *alarm, active: *active, text }),
            Message::Earlier(tag, earlier) => Some(Input::Earlier { tag: *tag, earlier }),
            Message::Stop(_) => Some(Input::KeepFormulas),
            Message::Note(..) | Message::Keep(..) | Message::Recall(_) | Message::Fail => None,
        };
        let (before, changed, rows) = (effects.events.len(), effects.changed.len(), effects.rows.len());
        if let Some(input) = input {
            self.engine.step(now(), input, effects);
        }
        self.publish(&effects.changed[changed..]);
        match message {
            Message::Samples(_) | Message::System { .. } | Message::Earlier(..) => {}
            Message::Tick(sent) => self.look_at_lag(sent.elapsed(), effects),
            Message::Pushed(_, reply) => replies.kept.push(reply),
            Message::Plan(_, reply) => {
                turn.replaced = true;
                replies.done.push(reply);
            }
            Message::Alarms { reply, .. } => replies.acted.push((effects.events.len() - before, reply)),
            Message::SetByHand { reply, .. } | Message::Release { reply, .. } => replies.done.push(reply),
            Message::TakeRow { reply, .. } => {
                if effects.rows.len() > rows {
                    replies.kept.push(reply);
                }
            }
            Message::Note(note, reply) => {
                self.notes.push(note);
                replies.kept.extend(reply);
            }
            Message::Keep(keep, reply) => {
                self.keeps.push(keep);
                replies.kept.push(reply);
            }
            Message::Recall(all) => {
                for Recalled { tag, value, time, told } in all {
                    self.engine.step(now(), Input::Recall { tag, value, time, told }, effects);
                }
            }
            Message::Fail => panic!("told to fail"),
            Message::Stop(reply) => turn.stop = Some(reply),
        }
    }

    /// Hands on what changed to whoever publishes it.
    fn publish(&self, changed: &[Slot]) {
        let plan = self.engine.plan();
        let newest = |&slot: &Slot| Some((plan.tags.get(slot as usize)?.no, self.engine.current(slot)));
        self.live.publishing.take(changed.iter().filter_map(newest));
    }

    pub(super) fn show(&self, effects: &Effects, replaced: bool) {
        if !effects.events.is_empty() || !effects.states.is_empty() {
            let mut alarms = self.live.alarms.write().unwrap_or_else(PoisonError::into_inner);
            alarms.update(&effects.states, &effects.events);
        }
        if !replaced && effects.changed.is_empty() {
            return;
        }
        let mut values = self.live.values.write().unwrap_or_else(PoisonError::into_inner);
        if replaced {
            let plan = self.engine.plan();
            let all = (0..plan.tags.len() as u32).map(|slot| self.engine.current(slot).clone());
            values.replace(plan.clone(), all);
        } else {
            values.update(&effects.changed, |slot| self.engine.current(slot).clone());
        }
    }

    /// Puts what must last into the spool, in as many frames as it takes.
    pub(super) fn keep(&mut self, effects: Effects) -> Kept {
        let at = now();
        self.keeps.extend(effects.kept.iter().map(|(tag, kept)| Keep { tag: *tag, at, value: kept.to_string() }));
        self.formulas.extend(effects.kept);
        let recorded = effects.recorded.samples.len() + effects.tracked.len();
        self.live.recorded.fetch_add(recorded as u64, Ordering::Relaxed);
        let whole = Frame {
            batch: effects.recorded,
            events: effects.events,
            states: effects.states,
            tracked: effects.tracked,
            rows: effects.rows,
            gaps: std::mem::take(&mut self.gaps),
            notes: std::mem::take(&mut self.notes),
            keeps: std::mem::take(&mut self.keeps),
            steps: std::mem::take(&mut self.steps),
            ..Frame::empty(self.live.node, self.live.db.term(), self.epoch, self.seq + 1, now())
        };
        self.reached = whole.arrived;
        let mut lost = false;
        if !whole.is_empty() {
            self.durable.extend(whole.states.iter().map(|s| (s.rule, s.clone())));
            for frame in whole.parts(PART_BYTES) {
                self.seq = frame.seq;
                match self.live.spool.append(frame) {
                    Appended::Whole => {}
                    Appended::Lost => lost = true,
                    Appended::AfterLoss => self.engine.step(now(), Input::RecordAnew, &mut Effects::default()),
                }
            }
        }
        Kept { seq: self.seq, lost }
    }
}
