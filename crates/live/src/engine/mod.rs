//! The engine's thread: takes in up to fifty milliseconds of inputs, lets the engine decide, and hands on what follows.
//!
//! A turn that fails is forgotten as a whole, and the engine begins anew from what is durable: where alarms stood by the frames
//! that were handed on, what is set by hand, and the values that were shown.

mod events;
mod lag;
mod recovery;
mod turn;

use lag::Lag;

pub(crate) use events::{Message, Recalled};

use crate::{
    Live,
    clock::Clock,
    now,
    supervision::{BackOff, words_of},
};
use havrel_core::{
    TagNo,
    alarm::{AlarmStanding, SystemAlarm},
    engine::{Effects, Engine, Input},
    frame::{ClockStep, Gap, Keep, Note},
    time::{Nanos, SECOND, span_words, to_text},
};
use havrel_db::by_hand::ByHand;
use serde_json::Value as Json;
use std::{
    collections::HashMap,
    panic::{AssertUnwindSafe, catch_unwind},
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::sync::mpsc;
use uuid::Uuid;

/// A pause this long without a frame counts as not recorded.
const RESTART_GAP: Nanos = SECOND;

/// Sends a tick ten times a second.
pub(crate) async fn beat(live: Arc<Live>) {
    let mut beat = tokio::time::interval(Duration::from_millis(100));
    beat.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    loop {
        beat.tick().await;
        if live.to_engine.send(Message::Tick(Instant::now())).await.is_err() {
            return;
        }
    }
}

struct Thread {
    live: Arc<Live>,
    engine: Engine,
    clock: Clock,
    lag: Lag,
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
    /// What formulas remembered, likewise.
    formulas: HashMap<TagNo, Json>,
    /// Tells which values are not set by hand any more.
    released: mpsc::UnboundedSender<Vec<TagNo>>,
}

/// What an earlier program left: its last frame, and where alarms stood.
pub(crate) struct Former {
    pub seq: u64,
    pub arrived: Nanos,
    pub epoch: u32,
    pub standings: Vec<AlarmStanding>,
    /// What formulas remembered, by the tags that they compute.
    pub formulas: HashMap<TagNo, Json>,
    pub gaps: Vec<Gap>,
}

/// An engine that knows where alarms stood, what formulas remembered and what is set by hand.
pub(crate) fn engine(standings: Vec<AlarmStanding>, formulas: HashMap<TagNo, Json>, hands: &[(TagNo, ByHand)]) -> Engine {
    let mut engine = Engine::new(standings);
    engine.step(now(), Input::Formulas(formulas), &mut Effects::default());
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
    hands: &[(TagNo, ByHand)],
    released: mpsc::UnboundedSender<Vec<TagNo>>,
) {
    let (started, arrived) = (live.started, former.arrived);
    let mut gaps = former.gaps;
    if arrived > 0 && started - arrived > RESTART_GAP {
        gaps.push(Gap { from: arrived, to: started, reason: "Havrel was not running".into() });
    }
    let mut thread = Thread {
        live: live.clone(),
        engine: engine(former.standings.clone(), former.formulas.clone(), hands),
        clock: Clock::new(now()),
        lag: Lag::default(),
        epoch: former.epoch,
        seq: former.seq,
        reached: started,
        gaps,
        notes: Vec::new(),
        keeps: Vec::new(),
        steps: Vec::new(),
        durable: former.standings.into_iter().map(|s| (s.rule, s)).collect(),
        formulas: former.formulas,
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
    /// Says where alarms are judged too late, from when it was told to look.
    fn look_at_lag(&mut self, late: Duration, effects: &mut Effects) {
        let Some(active) = self.lag.look(late) else { return };
        let text = format!("Alarms are judged {} s late", late.as_secs());
        if active {
            tracing::warn!(late_ms = late.as_millis(), "the engine is behind");
        }
        self.engine.step(now(), Input::System { alarm: SystemAlarm::Behind, active, text: &text }, effects);
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
        self.notes.push(crate::lines::by_itself("system", title, &detail, at));
        self.show(&effects, false);
        self.keep(effects);
    }
}
