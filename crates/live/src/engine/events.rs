//! What the engine's thread is asked for, and who waits for an answer.

use havrel_core::{
    TagNo,
    alarm::{AlarmAction, SystemAlarm},
    engine::{Plan, Told},
    formula::Running,
    frame::{Keep, Note},
    sample::{Batch, Value},
    time::Nanos,
};
use std::{sync::Arc, time::Instant};
use tokio::sync::oneshot;
use uuid::Uuid;

/// One tag's last value.
pub(crate) struct Recalled {
    pub tag: TagNo,
    pub value: Value,
    pub time: Nanos,
    pub told: Option<Told>,
}

/// Something for the engine's thread.
pub(crate) enum Message {
    Samples(Batch),
    /// The same, answered when the engine has decided what of it must last.
    Pushed(Batch, oneshot::Sender<Kept>),
    /// Time passes; from when it was sent it is known how far the engine is behind.
    Tick(Instant),
    /// A plan to be swapped in, unless a newer one runs.
    Plan(Arc<Plan>, oneshot::Sender<()>),
    /// Answers with how many alarms it was and the number of the frame that holds it.
    Alarms {
        rules: Vec<Uuid>,
        action: AlarmAction,
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
    /// A recorder takes a row. Nobody is answered where it does not run.
    TakeRow {
        recorder: Uuid,
        actor: String,
        reply: oneshot::Sender<Kept>,
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
    /// What was in the windows of a formula before they began.
    Earlier(TagNo, Box<Running>),
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

/// Who waits for what a turn decides.
#[derive(Default)]
pub(super) struct Replies {
    /// They only wait until it is decided.
    pub done: Vec<oneshot::Sender<()>>,
    /// They are told how many alarms it was, and which frame holds that.
    pub acted: Vec<(usize, oneshot::Sender<(usize, u64)>)>,
    /// They are told what became of the turn's frame.
    pub kept: Vec<oneshot::Sender<Kept>>,
}

impl Replies {
    /// Answers everybody. Whoever asked may have gone away meanwhile.
    pub fn send(self, kept: Kept) {
        for reply in self.done {
            let _: Result<(), ()> = reply.send(());
        }
        for (count, reply) in self.acted {
            let _: Result<(), (usize, u64)> = reply.send((count, kept.seq));
        }
        for reply in self.kept {
            let _: Result<(), Kept> = reply.send(kept);
        }
    }
}
