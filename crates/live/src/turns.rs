//! The engine's thread: takes in up to fifty milliseconds of inputs, lets the engine decide, and hands on what follows.

use crate::{Live, now, spool::Appended};
use havrel_core::{
    TagNo,
    alarm::AlarmStanding,
    engine::{Effects, Engine, Input, Plan},
    frame::{Frame, Gap},
    plant::Plant,
    sample::{Batch, Value},
    time::{Nanos, SECOND},
};
use havrel_db::hands::Hand;
use std::{
    sync::{Arc, PoisonError},
    time::{Duration, Instant},
};
use tokio::sync::{mpsc, oneshot};
use uuid::Uuid;

/// Something for the engine's thread.
pub(crate) enum Message {
    Samples(Batch),
    /// The same, answered when the engine has decided what of it must last.
    Pushed(Batch, oneshot::Sender<Kept>),
    Tick,
    Plan(Arc<Plant>, oneshot::Sender<()>),
    /// Answers with how many it was and the number of the frame that holds it.
    Acknowledge {
        rules: Vec<Uuid>,
        actor: String,
        comment: String,
        reply: oneshot::Sender<(usize, u64)>,
    },
    SetByHand {
        tag: TagNo,
        value: Value,
        until: Option<Nanos>,
        reply: oneshot::Sender<()>,
    },
    Release {
        tag: TagNo,
        reply: oneshot::Sender<()>,
    },
    Stop(oneshot::Sender<()>),
}

/// What became of a turn's frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Kept {
    /// Number of the last frame.
    pub seq: u64,
    /// There was no room for its samples.
    pub lost: bool,
}

/// The longest turn.
const TURN: Duration = Duration::from_millis(50);
/// A pause this long without a frame counts as not recorded.
const RESTART_GAP: Nanos = SECOND;

/// Sends a tick ten times a second.
pub(crate) async fn beat(live: Arc<Live>) {
    let mut beat = tokio::time::interval(Duration::from_millis(100));
    beat.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        beat.tick().await;
        if live.to_engine.send(Message::Tick).await.is_err() {
            return;
        }
    }
}

struct Thread {
    live: Arc<Live>,
    engine: Engine,
    seq: u64,
    gaps: Vec<Gap>,
    /// Tells which values are not set by hand any more.
    released: mpsc::UnboundedSender<Vec<TagNo>>,
}

/// An engine that knows where alarms stood and what is set by hand.
pub(crate) fn engine(standings: Vec<AlarmStanding>, hands: &[(TagNo, Hand)]) -> Engine {
    let mut engine = Engine::new(standings);
    for (tag, hand) in hands {
        let input = Input::SetByHand { tag: *tag, value: &hand.value, until: hand.until };
        engine.step(now(), input, &mut Effects::default());
    }
    engine
}

/// Starts the thread. It ends with [`Message::Stop`] or when nobody can send any more.
pub(crate) fn start(
    live: &Arc<Live>,
    mut inbox: mpsc::Receiver<Message>,
    engine: Engine,
    (seq, arrived): (u64, Nanos),
    mut gaps: Vec<Gap>,
    released: mpsc::UnboundedSender<Vec<TagNo>>,
) {
    let started = live.started;
    let gap = Gap { from: arrived, to: started, reason: "Havrel was not running".into() };
    if arrived > 0 && started - arrived > RESTART_GAP {
        gaps.push(gap);
    }
    let mut thread = Thread { live: live.clone(), engine, seq, gaps, released };
    // A thread of its own: what the engine does must never wait for the network, nor the network for it.
    let spawned = std::thread::Builder::new().name("engine".into()).spawn(move || {
        while let Some(first) = inbox.blocking_recv() {
            if thread.turn(first, &mut inbox) {
                return;
            }
        }
    });
    if let Err(error) = spawned {
        tracing::error!(%error, "the engine's thread could not start");
    }
}

impl Thread {
    /// One turn. `true`: the last.
    fn turn(&mut self, first: Message, inbox: &mut mpsc::Receiver<Message>) -> bool {
        let began = Instant::now();
        let mut effects = Effects::default();
        let (mut replies, mut acknowledged, mut pushed) = (Vec::new(), Vec::new(), Vec::new());
        let mut stop = None;
        let mut replaced = false;
        let mut next = Some(first);
        while let Some(message) = next {
            match message {
                Message::Samples(batch) => self.engine.step(now(), Input::Samples(&batch), &mut effects),
                Message::Pushed(batch, reply) => {
                    self.engine.step(now(), Input::Samples(&batch), &mut effects);
                    pushed.push(reply);
                }
                Message::Tick => self.engine.step(now(), Input::Tick, &mut effects),
                Message::Plan(plant, reply) => {
                    self.engine.step(now(), Input::Plan(Arc::new(Plan::of(&plant))), &mut effects);
                    replaced = true;
                    replies.push(reply);
                }
                Message::Acknowledge { rules, actor, comment, reply } => {
                    let before = effects.events.len();
                    let input = Input::Acknowledge { rules: &rules, actor: &actor, comment: &comment };
                    self.engine.step(now(), input, &mut effects);
                    acknowledged.push((effects.events.len() - before, reply));
                }
                Message::SetByHand { tag, value, until, reply } => {
                    self.engine.step(now(), Input::SetByHand { tag, value: &value, until }, &mut effects);
                    replies.push(reply);
                }
                Message::Release { tag, reply } => {
                    self.engine.step(now(), Input::Release(tag), &mut effects);
                    replies.push(reply);
                }
                Message::Stop(reply) => {
                    stop = Some(reply);
                    break;
                }
            }
            next = if began.elapsed() < TURN { inbox.try_recv().ok() } else { None };
        }
        self.show(&effects, replaced);
        if !effects.released.is_empty() {
            // Nobody listens any more while the program stops.
            let _ = self.released.send(std::mem::take(&mut effects.released));
        }
        let kept = self.keep(effects);
        // Whoever asked may have gone away meanwhile.
        for reply in replies {
            let _: Result<(), ()> = reply.send(());
        }
        for (count, reply) in acknowledged {
            let _: Result<(), (usize, u64)> = reply.send((count, kept.seq));
        }
        for reply in pushed {
            let _: Result<(), Kept> = reply.send(kept);
        }
        stop.map(|reply| reply.send(()).is_ok()).is_some()
    }

    fn show(&self, effects: &Effects, replaced: bool) {
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

    /// Puts what must last into the spool.
    fn keep(&mut self, effects: Effects) -> Kept {
        let mut lost = false;
        let frame = Frame {
            node: self.live.node,
            term: 1,
            seq: self.seq + 1,
            arrived: now(),
            batch: effects.recorded,
            events: effects.events,
            states: effects.states,
            gaps: std::mem::take(&mut self.gaps),
        };
        if !frame.is_empty() {
            self.seq += 1;
            match self.live.spool.append(frame) {
                Appended::Whole => {}
                Appended::Lost => lost = true,
                Appended::AfterLoss => self.engine.step(now(), Input::RecordAnew, &mut Effects::default()),
            }
        }
        Kept { seq: self.seq, lost }
    }
}
