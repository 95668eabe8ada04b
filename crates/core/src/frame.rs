//! What leaves the engine for good. Its bytes are described in [`bytes`].

pub mod bytes;

use crate::{
    TagNo,
    alarm::{AlarmEvent, AlarmStanding},
    engine::{Row, Tracked},
    sample::{Batch, Kind, Sample},
    time::Nanos,
};
use bytes::{EVENT, GAP, KEEP, NOTE, ROW, SAMPLE, STATE, STEP, SUPPRESSION, TRACKED, VALUE};
use uuid::Uuid;

pub use bytes::{BEGINNING, FORMER_BEGINNINGS, FrameError, MAX_BYTES};

/// What [`Frame::parts`] makes of a larger frame, about.
pub const PART_BYTES: usize = 4 << 20;

/// A span for which nothing was recorded, with the reason.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gap {
    pub from: Nanos,
    pub to: Nanos,
    pub reason: String,
}

/// An entry of the journal on its way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Note {
    pub at: Nanos,
    /// What it is about: `sign_in`, `write`, `by_hand`, `acknowledge`, `report`, `account`, `connection`, `system`.
    pub kind: String,
    /// Who did it; nobody for what Havrel did by itself.
    pub account: Option<Uuid>,
    pub actor: String,
    /// The item it concerns.
    pub subject: Option<Uuid>,
    pub title: String,
    /// A JSON object as text.
    pub detail: String,
}

/// The value of a tag that must outlast a restart.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Keep {
    pub tag: TagNo,
    pub at: Nanos,
    /// JSON as text.
    pub value: String,
}

/// This machine's clock was stepped: a clock epoch began.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ClockStep {
    /// The epoch that began.
    pub epoch: u32,
    /// The first instant of it, by the clock as it reads since.
    pub at: Nanos,
    /// How far the clock was moved; negative: set back.
    pub by: Nanos,
}

/// A durable step of the engine. `(node, seq)` is unique, so sending one again is harmless.
#[derive(Clone, Debug, PartialEq)]
pub struct Frame {
    pub node: Uuid,
    /// The duty's term in which it was made; a lone node is always in term 1.
    pub term: u32,
    /// The clock epoch: counts the steps of the node's clock. All times of the samples are by that clock.
    pub epoch: u32,
    /// Counts the node's frames from 1, without holes.
    pub seq: u64,
    /// When the engine closed it.
    pub arrived: Nanos,
    pub batch: Batch,
    pub events: Vec<AlarmEvent>,
    pub states: Vec<AlarmStanding>,
    pub gaps: Vec<Gap>,
    pub notes: Vec<Note>,
    pub keeps: Vec<Keep>,
    pub steps: Vec<ClockStep>,
    /// Figures of spans.
    pub tracked: Vec<Tracked>,
    /// Rows that recorders took.
    pub rows: Vec<Row>,
}

impl Frame {
    /// A frame in which nothing stands yet.
    pub fn empty(node: Uuid, term: u32, epoch: u32, seq: u64, arrived: Nanos) -> Frame {
        Frame {
            node,
            term,
            epoch,
            seq,
            arrived,
            batch: Batch::default(),
            events: Vec::new(),
            states: Vec::new(),
            gaps: Vec::new(),
            notes: Vec::new(),
            keeps: Vec::new(),
            steps: Vec::new(),
            tracked: Vec::new(),
            rows: Vec::new(),
        }
    }

    /// Whether there is anything worth keeping in it.
    pub fn is_empty(&self) -> bool {
        self.entries() == 0
    }

    /// How many entries it holds, samples and all others.
    pub fn entries(&self) -> usize {
        let others = [
            self.events.len(),
            self.states.len(),
            self.gaps.len(),
            self.notes.len(),
            self.keeps.len(),
            self.steps.len(),
            self.tracked.len(),
            self.rows.len(),
        ];
        self.batch.samples.len() + others.iter().sum::<usize>()
    }

    /// The entries for which `stays` says so, by their index: samples first, then what follows in the order of the fields.
    #[must_use]
    pub fn filtered(&self, stays: impl Fn(usize) -> bool) -> Frame {
        fn some<T: Clone>(of: &[T], at: &mut usize, stays: &impl Fn(usize) -> bool) -> Vec<T> {
            let from = *at;
            *at += of.len();
            of.iter().enumerate().filter(|(i, _)| stays(from + i)).map(|(_, entry)| entry.clone()).collect()
        }
        let mut part = Frame::empty(self.node, self.term, self.epoch, self.seq, self.arrived);
        for (index, &sample) in self.batch.samples.iter().enumerate() {
            if stays(index) {
                part.batch.copy_from(&self.batch, sample);
            }
        }
        let mut at = self.batch.samples.len();
        part.events = some(&self.events, &mut at, &stays);
        part.states = some(&self.states, &mut at, &stays);
        part.gaps = some(&self.gaps, &mut at, &stays);
        part.notes = some(&self.notes, &mut at, &stays);
        part.keeps = some(&self.keeps, &mut at, &stays);
        part.steps = some(&self.steps, &mut at, &stays);
        part.tracked = some(&self.tracked, &mut at, &stays);
        part.rows = some(&self.rows, &mut at, &stays);
        part
    }

    /// The span of its samples and events; `None` where it holds neither.
    pub fn span(&self) -> Option<(Nanos, Nanos)> {
        let samples = self.batch.samples.iter().chain(self.tracked.iter().map(|t| &t.sample)).map(|s| s.time);
        let times = samples.chain(self.events.iter().map(|e| e.occurred_at));
        times.fold(None, |span, t| Some(span.map_or((t, t), |(a, b): (Nanos, Nanos)| (a.min(t), b.max(t)))))
    }

    /// Bytes of each entry, in the order of [`Frame::filtered`].
    fn sizes(&self) -> Vec<usize> {
        let text = |s: &Sample| if s.kind == Kind::Text { (s.bits & 0xffff_ffff) as usize } else { 0 };
        let mut sizes: Vec<usize> = self.batch.samples.iter().map(|s| SAMPLE + text(s)).collect();
        let values = |e: &AlarmEvent| -> usize { e.values.iter().map(|v| VALUE + v.name.len() + v.text.len()).sum() };
        sizes.extend(self.events.iter().map(|e| EVENT + e.actor.len() + e.comment.len() + e.text.len() + values(e)));
        let suppressions = |s: &AlarmStanding| -> usize {
            s.state.suppressions.values().map(|s| SUPPRESSION + s.by.len() + s.reason.len()).sum()
        };
        sizes.extend(self.states.iter().map(|s| STATE + s.text.len() + s.acknowledged_by.len() + suppressions(s)));
        sizes.extend(self.gaps.iter().map(|g| GAP + g.reason.len()));
        let note = |n: &Note| NOTE + n.kind.len() + n.actor.len() + n.title.len() + n.detail.len();
        sizes.extend(self.notes.iter().map(note));
        sizes.extend(self.keeps.iter().map(|k| KEEP + k.value.len()));
        sizes.extend(self.steps.iter().map(|_| STEP));
        sizes.extend(self.tracked.iter().map(|_| TRACKED));
        sizes.extend(self.rows.iter().map(|r| ROW + r.actor.len()));
        sizes
    }

    /// The same as one frame or as many as it takes, numbered on from its own number, so that each stays near `most` bytes.
    /// One entry that alone is larger makes a frame alone.
    pub fn parts(self, most: usize) -> Vec<Frame> {
        let sizes = self.sizes();
        if sizes.iter().sum::<usize>() <= most {
            return vec![self];
        }
        let mut cuts = vec![0];
        let mut filled = 0;
        for (index, size) in sizes.iter().enumerate() {
            if filled > 0 && filled + size > most {
                cuts.push(index);
                filled = 0;
            }
            filled += size;
        }
        cuts.push(sizes.len());
        let part = |(n, range): (usize, &[usize])| {
            let part = self.filtered(|index| (range[0]..range[1]).contains(&index));
            Frame { seq: self.seq + n as u64, ..part }
        };
        cuts.windows(2).enumerate().map(part).collect()
    }
}

#[cfg(test)]
mod tests;
