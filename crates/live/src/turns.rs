//! The engine's thread: takes in up to fifty milliseconds of inputs, lets the engine decide, and hands on what follows.
//!
//! A turn that fails is forgotten as a whole, and the engine begins anew from what is durable: where alarms stood by the frames
//! that were handed on, what is set by hand, and the values that were shown.

use crate::{
    Live,
    clock::Clock,
    now,
    recall::Recalled,
    spool::Appended,
    supervision::{BackOff, words_of},
};
use havrel_core::{
    TagNo,
    alarm::{AlarmStanding, SystemAlarm},
    engine::{Effects, Engine, Input, Plan},
    frame::{ClockStep, Frame, Gap, Keep, Note, PART_BYTES},
    plant::Plant,
    sample::{Batch, Value},
    time::{Nanos, SECOND, span_words, to_text},
};
use havrel_db::hands::Hand;
use std::{
    collections::HashMap,
    panic::{AssertUnwindSafe, catch_unwind},
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
    /// A line of the journal; answered when it is handed on to the disk, where somebody waits for that.
    Note(Note, Option<oneshot::Sender<Kept>>),
    /// A value that must outlast a restart.
    Keep(Keep, oneshot::Sender<Kept>),
    /// Something is wrong with Havrel itself, or not any more.
    System {
        alarm: SystemAlarm,
        active: bool,
        text: String,
    },
    /// What history knows of tags, for after a restart.
    Recall(Vec<Recalled>),
    /// Fails on purpose, to prove that it is noticed.
    Fail,
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
    clock: Clock,
    epoch: u32,
    seq: u64,
    /// When the last turn ended that was handed on.
    reached: Nanos,
    gaps: Vec<Gap>,
    notes: Vec<Note>,
    keeps: Vec<Keep>,
    steps: Vec<ClockStep>,
    /// Where alarms stand by the frames that were handed on.
    durable: HashMap<Uuid, AlarmStanding>,
    /// Tells which values are not set by hand any more.
    released: mpsc::UnboundedSender<Vec<TagNo>>,
}

/// What an earlier program left: its last frame, and where alarms stood.
pub(crate) struct Former {
    pub seq: u64,
    pub arrived: Nanos,
    pub epoch: u32,
    pub standings: Vec<AlarmStanding>,
    pub gaps: Vec<Gap>,
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
    former: Former,
    hands: &[(TagNo, Hand)],
    released: mpsc::UnboundedSender<Vec<TagNo>>,
) {
    let (started, arrived) = (live.started, former.arrived);
    let mut gaps = former.gaps;
    if arrived > 0 && started - arrived > RESTART_GAP {
        gaps.push(Gap { from: arrived, to: started, reason: "Havrel was not running".into() });
    }
    let mut thread = Thread {
        live: live.clone(),
        engine: engine(former.standings.clone(), hands),
        clock: Clock::new(now()),
        epoch: former.epoch,
        seq: former.seq,
        reached: started,
        gaps,
        notes: Vec::new(),
        keeps: Vec::new(),
        steps: Vec::new(),
        durable: former.standings.into_iter().map(|s| (s.rule, s)).collect(),
        released,
    };
    // The clock may have been set back while nothing ran.
    let back = started - arrived;
    if arrived > 0 && back < -SECOND {
        thread.step_clock(started, back);
    } else {
        let input = Input::ClockStep { epoch: thread.epoch, by: 0 };
        thread.engine.step(started, input, &mut Effects::default());
    }
    // A thread of its own: what the engine does must never wait for the network, nor the network for it.
    let spawned = std::thread::Builder::new().name("engine".into()).spawn(move || {
        let mut back_off = BackOff::new();
        while let Some(first) = inbox.blocking_recv() {
            let turn = catch_unwind(AssertUnwindSafe(|| thread.turn(first, &mut inbox)));
            thread.live.engine_beat();
            match turn {
                Ok(true) => return,
                Ok(false) => {}
                Err(panic) => thread.begin_anew(&words_of(&*panic), &mut back_off),
            }
        }
    });
    if let Err(error) = spawned {
        tracing::error!(%error, "the engine's thread could not start");
        live.faults.failed(ENGINE, now(), &error.to_string());
    }
}

/// How the engine is called where its faults are told.
pub(crate) const ENGINE: &str = "the engine";

impl Thread {
    /// One turn. `true`: the last.
    fn turn(&mut self, first: Message, inbox: &mut mpsc::Receiver<Message>) -> bool {
        let began = Instant::now();
        if let Some(by) = self.clock.look(now()) {
            self.step_clock(now(), by);
        }
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
                Message::Note(note, reply) => {
                    self.notes.push(note);
                    pushed.extend(reply);
                }
                Message::Keep(keep, reply) => {
                    self.keeps.push(keep);
                    pushed.push(reply);
                }
                Message::System { alarm, active, text } => {
                    self.engine.step(now(), Input::System { alarm, active, text: &text }, &mut effects);
                }
                Message::Recall(all) => {
                    for Recalled { tag, value, time, told } in all {
                        self.engine.step(now(), Input::Recall { tag, value, time, told }, &mut effects);
                    }
                }
                Message::Fail => panic!("told to fail"),
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

    /// The clock was stepped: begins an epoch, and says so.
    fn step_clock(&mut self, at: Nanos, by: Nanos) {
        self.epoch += 1;
        let mut effects = Effects::default();
        self.engine.step(at, Input::ClockStep { epoch: self.epoch, by }, &mut effects);
        let way = if by < 0 { "back" } else { "ahead" };
        let title = format!("This machine's clock was set {way} by {}", span_words(by));
        tracing::warn!(title, "a clock epoch begins");
        for active in [true, false] {
            let input = Input::System { alarm: SystemAlarm::ClockStepped, active, text: &title };
            self.engine.step(at, input, &mut effects);
        }
        self.steps.push(ClockStep { epoch: self.epoch, at, by });
        let detail = serde_json::json!({"epoch": self.epoch, "before": to_text(at.saturating_sub(by)), "after": to_text(at)});
        self.notes.push(crate::notes::by_itself("system", title, &detail, at));
        self.show(&effects, false);
        self.keep(effects);
    }

    /// After a turn that failed: an engine from what is durable, tried again and again with growing pauses.
    fn begin_anew(&mut self, words: &str, back_off: &mut BackOff) {
        let mut words = words.to_owned();
        loop {
            tracing::error!(words, "the engine failed; it is started again");
            self.live.faults.failed(ENGINE, now(), &words);
            std::thread::sleep(back_off.failed());
            back_off.begins();
            match catch_unwind(AssertUnwindSafe(|| self.recover(&words))) {
                Ok(()) => break,
                Err(panic) => words = words_of(&*panic),
            }
        }
        self.live.faults.mended(ENGINE);
    }

    fn recover(&mut self, words: &str) {
        let live = self.live.clone();
        let mut effects = Effects::default();
        self.engine = engine(self.durable.values().cloned().collect(), &live.hands.numbered());
        self.engine.step(now(), Input::ClockStep { epoch: self.epoch, by: 0 }, &mut effects);
        let plan = Arc::new(Plan::of(&live.plant()));
        self.engine.step(now(), Input::Plan(plan.clone()), &mut effects);
        let shown: Vec<_> = {
            let values = live.values.read().unwrap_or_else(PoisonError::into_inner);
            plan.tags.iter().filter_map(|t| Some((t.no, values.of(t.no)?.current.clone()))).collect()
        };
        for (tag, current) in &shown {
            self.engine.step(now(), Input::Restore { tag: *tag, current }, &mut effects);
        }
        let title = format!("Restarted after a fault: {ENGINE}");
        for active in [true, false] {
            self.engine.step(now(), Input::System { alarm: SystemAlarm::Restarted, active, text: &title }, &mut effects);
        }
        self.notes.push(crate::notes::by_itself("system", title, &serde_json::json!({"cause": words}), now()));
        self.gaps.push(Gap { from: self.reached, to: now(), reason: "the engine failed and was started again".into() });
        self.show(&effects, true);
        self.keep(effects);
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

    /// Puts what must last into the spool, in as many frames as it takes.
    fn keep(&mut self, effects: Effects) -> Kept {
        let whole = Frame {
            batch: effects.recorded,
            events: effects.events,
            states: effects.states,
            gaps: std::mem::take(&mut self.gaps),
            notes: std::mem::take(&mut self.notes),
            keeps: std::mem::take(&mut self.keeps),
            steps: std::mem::take(&mut self.steps),
            ..Frame::empty(self.live.node, 1, self.epoch, self.seq + 1, now())
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
