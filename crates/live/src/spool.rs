//! Where frames wait for the database, in order.
//!
//! This spool lies in memory; one on disk will take its place behind the same trait.

use crate::SpoolState;
use havrel_core::{
    frame::{Frame, Gap},
    time::Nanos,
};
use std::{
    collections::VecDeque,
    sync::{Mutex, MutexGuard, PoisonError},
};

/// A queue of frames that survives the database being away.
pub trait Spool: Send + Sync {
    /// Adds a frame. When there is no room its samples are lost; the loss is noted and stands, with its exact span, in the
    /// next frame that finds room. Gives whether something was lost just before this frame, so that values can be stored anew.
    fn append(&self, frame: Frame) -> Appended;

    /// The oldest frames, up to `most`, without taking them out.
    fn oldest(&self, most: usize) -> Vec<Frame>;

    /// Takes out every frame up to and with this number.
    fn release(&self, seq: u64);

    /// How full it is.
    fn state(&self) -> SpoolState;
}

/// What became of a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Appended {
    Whole,
    /// There was no room for its samples.
    Lost,
    /// It is in whole, and tells of samples lost before it.
    AfterLoss,
}

#[derive(Default)]
struct Inner {
    frames: VecDeque<(u64, Nanos, Vec<u8>)>,
    bytes: usize,
    lost: u64,
    /// The span lost and not yet told.
    losing: Option<(Nanos, Nanos)>,
}

/// A spool in memory, bounded in bytes.
pub struct MemorySpool {
    room: usize,
    inner: Mutex<Inner>,
}

impl MemorySpool {
    /// A spool for that many bytes of frames.
    pub fn new(room: usize) -> MemorySpool {
        MemorySpool { room, inner: Mutex::default() }
    }

    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Spool for MemorySpool {
    fn append(&self, mut frame: Frame) -> Appended {
        let mut inner = self.lock();
        let mut bytes = frame.encode();
        let mut appended = Appended::Whole;
        if inner.bytes + bytes.len() > self.room && !frame.batch.is_empty() {
            let times = frame.batch.samples.iter().map(|s| s.time);
            let (from, to) = times.fold((i64::MAX, i64::MIN), |(a, b), t| (a.min(t), b.max(t)));
            let (from, to) = inner.losing.map_or((from, to), |(a, b)| (a.min(from), b.max(to)));
            inner.losing = Some((from, to));
            inner.lost += frame.batch.samples.len() as u64;
            frame.batch = Default::default();
            if frame.is_empty() {
                return Appended::Lost;
            }
            // Alarms are few and must not be lost.
            bytes = frame.encode();
            appended = Appended::Lost;
        } else if let Some((from, to)) = inner.losing.take() {
            frame.gaps.push(Gap { from, to, reason: "the spool was full while the database was away".into() });
            bytes = frame.encode();
            appended = Appended::AfterLoss;
        }
        inner.bytes += bytes.len();
        inner.frames.push_back((frame.seq, frame.arrived, bytes));
        appended
    }

    fn oldest(&self, most: usize) -> Vec<Frame> {
        let inner = self.lock();
        // What this program encoded itself decodes.
        inner.frames.iter().take(most).filter_map(|(_, _, bytes)| Frame::decode(bytes).ok().map(|(frame, _)| frame)).collect()
    }

    fn release(&self, seq: u64) {
        let mut inner = self.lock();
        while inner.frames.front().is_some_and(|(number, ..)| *number <= seq) {
            let freed = inner.frames.pop_front().map_or(0, |(.., bytes)| bytes.len());
            inner.bytes -= freed;
        }
    }

    fn state(&self) -> SpoolState {
        let inner = self.lock();
        let oldest = inner.frames.front().map_or(0, |(_, arrived, _)| *arrived);
        SpoolState { frames: inner.frames.len(), bytes: inner.bytes, oldest, lost: inner.lost }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::{
        quality::Quality,
        sample::{Batch, Value},
    };
    use uuid::Uuid;

    fn frame(seq: u64) -> Frame {
        let mut batch = Batch::default();
        batch.push(1, seq as i64 * 10, Quality::GOOD, 0, &Value::F64(1.0));
        let (events, states, gaps) = (Vec::new(), Vec::new(), Vec::new());
        Frame { node: Uuid::nil(), term: 1, seq, arrived: seq as i64, batch, events, states, gaps }
    }

    #[test]
    fn frames_leave_in_order_and_only_when_released() {
        let spool = MemorySpool::new(1 << 20);
        (1..=3).for_each(|n| assert_eq!(spool.append(frame(n)), Appended::Whole));
        assert_eq!(spool.oldest(2).iter().map(|f| f.seq).collect::<Vec<_>>(), [1, 2]);
        spool.release(2);
        assert_eq!(spool.oldest(9).iter().map(|f| f.seq).collect::<Vec<_>>(), [3]);
        assert_eq!(spool.state().oldest, 3);
    }

    #[test]
    fn what_found_no_room_is_told_with_its_exact_span() {
        let room = frame(1).encode().len() * 2;
        let spool = MemorySpool::new(room);
        let outcomes: Vec<_> = (1..=5).map(|n| spool.append(frame(n))).collect();
        assert_eq!(outcomes, [Appended::Whole, Appended::Whole, Appended::Lost, Appended::Lost, Appended::Lost]);
        assert_eq!(spool.state().lost, 3);
        spool.release(2);
        assert_eq!(spool.append(frame(6)), Appended::AfterLoss);
        let gaps = &spool.oldest(1)[0].gaps;
        assert_eq!((gaps[0].from, gaps[0].to), (30, 50));
    }
}
