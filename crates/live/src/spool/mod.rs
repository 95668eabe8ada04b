//! Where frames wait for the database, in order, on disk.
//!
//! [`Spool::append`] never waits: it puts the bytes of a frame into a queue, and a thread of its own writes what has
//! gathered and syncs it, at least five times a second. Shipping takes frames from memory while they are still there, and
//! from the segment files otherwise. What finds no room is lost, and said so with its exact span in the next frame that
//! does. [`segment`] describes the files, [`writer`] is the thread, [`replay`] what happens at the start.

mod replay;
mod segment;
mod writer;

pub use replay::Replay;

use crate::{SpoolState, quarantine::Quarantine};
use havrel_core::{
    frame::{Frame, Gap},
    time::Nanos,
};
use std::{
    collections::VecDeque,
    fs::{self, File, OpenOptions},
    io,
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::{Path, PathBuf},
    sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError},
};
use tokio::sync::watch;
use uuid::Uuid;

/// How much a spool may hold.
#[derive(Clone, Copy, Debug)]
pub struct Room {
    /// Bytes on disk.
    pub disk: u64,
    /// Bytes that wait in memory to be written; more gather only while the disk refuses.
    pub unwritten: usize,
    /// Bytes of a segment; the file is deleted when all its frames are in the database.
    pub segment: u64,
}

impl Default for Room {
    fn default() -> Room {
        Room { disk: 2 << 30, unwritten: 64 << 20, segment: 8 << 20 }
    }
}

/// Bytes of written frames that are kept in memory for shipping.
const CACHE: usize = 8 << 20;

/// What became of a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Appended {
    Whole,
    /// There was no room for its samples.
    Lost,
    /// It is in whole, and tells of samples lost before it.
    AfterLoss,
}

/// Whether a frame still has room among those taken together; the first always has.
fn fits(frame: &Frame, room: &mut usize) -> bool {
    let before = *room;
    // A frame without samples is work as well.
    *room = room.saturating_sub(frame.batch.samples.len().max(1));
    before > 0
}

struct Entry {
    seq: u64,
    arrived: Nanos,
    segment: u64,
    /// Where it begins in its segment.
    offset: u64,
    bytes: Vec<u8>,
}

impl Entry {
    fn end(&self) -> Position {
        Position { segment: self.segment, offset: self.offset + self.bytes.len() as u64 }
    }
}

/// A place in the files.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Position {
    segment: u64,
    offset: u64,
}

#[derive(Clone, Debug)]
struct Segment {
    id: u64,
    /// Number of its last frame.
    last: u64,
    bytes: u64,
}

#[derive(Default)]
struct Inner {
    segments: VecDeque<Segment>,
    /// The newest frames, those behind `uncached` without holes.
    cache: VecDeque<Arc<Entry>>,
    cached: usize,
    /// Number of the newest frame that is no longer in the cache.
    uncached: u64,
    /// Frames still to be written.
    queue: VecDeque<Arc<Entry>>,
    queued: usize,
    /// Number of the last frame that is synced.
    durable: u64,
    /// The last frame that was given back, and what lies behind it.
    released: u64,
    head: Position,
    /// Frames read from disk and not yet given back: number, time of arrival, where the next begins.
    read: VecDeque<(u64, Nanos, Position)>,
    frames: usize,
    /// Arrival of the last frame given back: until then all is in the database.
    shipped_until: Nanos,
    lost: u64,
    /// The span lost and not yet told.
    losing: Option<(Nanos, Nanos)>,
    trouble: Option<String>,
    stopping: bool,
}

struct Shared {
    folder: PathBuf,
    room: Room,
    inner: Mutex<Inner>,
    work: Condvar,
    durable: watch::Sender<u64>,
    quarantine: Quarantine,
}

impl Shared {
    fn lock(&self) -> MutexGuard<'_, Inner> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn delete(&self, segments: &[u64]) {
        for &id in segments {
            if let Err(error) = fs::remove_file(segment::path(&self.folder, id)) {
                tracing::warn!(%error, id, "a segment of the spool could not be deleted");
            }
        }
    }
}

/// A queue of frames on disk that survives the database being away, and the program being killed.
pub struct Spool {
    shared: Arc<Shared>,
    /// The thread, and the lock that keeps a second program out, until the spool is closed.
    writer: Mutex<Option<(std::thread::JoinHandle<()>, File)>>,
}

impl Spool {
    /// Opens the spool in a folder, made where it is missing, for a node whose frames up to `shipped` are in the database.
    ///
    /// # Errors
    /// When the folder cannot be used, or another program uses it.
    pub(crate) fn open(
        folder: &Path,
        room: Room,
        node: Uuid,
        shipped: u64,
        quarantine: &Quarantine,
    ) -> io::Result<(Spool, Replay)> {
        fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
        let lock = OpenOptions::new().create(true).append(true).mode(0o600).open(folder.join("lock"))?;
        lock.try_lock().map_err(|_| {
            io::Error::new(io::ErrorKind::AddrInUse, format!("another program uses the spool in {}", folder.display()))
        })?;
        let (inner, replay) = replay::replay(folder, node, shipped, quarantine)?;
        let durable = watch::channel(inner.durable).0;
        let (inner, work) = (Mutex::new(inner), Condvar::new());
        let quarantine = quarantine.clone();
        let shared = Arc::new(Shared { folder: folder.to_owned(), room, inner, work, durable, quarantine });
        let own = shared.clone();
        let writer = std::thread::Builder::new().name("spool".into()).spawn(move || writer::run(&own))?;
        Ok((Spool { shared, writer: Mutex::new(Some((writer, lock))) }, replay))
    }

    /// Adds a frame, whose number is beyond all before it. When there is no room its samples are lost; the loss is noted
    /// and stands, with its exact span, in the next frame that finds room.
    pub fn append(&self, mut frame: Frame) -> Appended {
        let mut inner = self.shared.lock();
        let room = self.shared.room;
        // One that is larger than any frame may be finds no room: nobody could read it again.
        let encoded = frame.encode();
        let too_large = encoded.is_err();
        let mut bytes = encoded.unwrap_or_default();
        let mut appended = Appended::Whole;
        let on_disk: u64 = inner.segments.iter().map(|s| s.bytes).sum();
        let full = too_large || on_disk + bytes.len() as u64 > room.disk || inner.queued + bytes.len() > room.unwritten;
        if full && !frame.batch.is_empty() {
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
            bytes = frame.encode().unwrap_or_default();
            appended = Appended::Lost;
        } else if !full && let Some((from, to)) = inner.losing.take() {
            frame.gaps.push(Gap { from, to, reason: "there was no room left in the spool".into() });
            bytes = frame.encode().unwrap_or_default();
            appended = Appended::AfterLoss;
        }
        if bytes.is_empty() {
            tracing::error!(seq = frame.seq, entries = frame.entries(), "a frame is larger than any frame may be; it is lost");
            inner.lost += frame.batch.samples.len() as u64;
            return Appended::Lost;
        }
        inner.push(frame.seq, frame.arrived, bytes, room.segment);
        drop(inner);
        self.shared.work.notify_one();
        appended
    }

    /// The oldest frames, at least one and together not much more than `most` samples, without taking them out.
    ///
    /// # Errors
    /// When a segment file cannot be read.
    pub fn oldest(&self, most: usize) -> io::Result<Vec<Frame>> {
        loop {
            let (head, last, known) = {
                let mut inner = self.shared.lock();
                if inner.uncached <= inner.released {
                    let mut room = most;
                    let mut frames = Vec::new();
                    for entry in &inner.cache {
                        // What this program encoded itself decodes; memory that tells otherwise must not pass unseen.
                        let (frame, _) = Frame::decode(&entry.bytes)
                            .map_err(|e| io::Error::new(io::ErrorKind::InvalidData, format!("frame {}: {e}", entry.seq)))?;
                        if !fits(&frame, &mut room) {
                            break;
                        }
                        frames.push(frame);
                    }
                    return Ok(frames);
                }
                inner.read.clear();
                (inner.head, inner.uncached, inner.shipped_until)
            };
            // Only shipping reads and gives back, so the head stays where it is meanwhile.
            let path = segment::path(&self.shared.folder, head.segment);
            let found = segment::frames(&path, head.offset, last, most, known, &self.shared.quarantine)?;
            let mut inner = self.shared.lock();
            if found.is_empty() {
                // Nothing more here: the next segment, or, if it is the last, what the cache holds.
                match inner.segments.iter().find(|s| s.id > head.segment) {
                    Some(next) => inner.head = Position { segment: next.id, offset: 0 },
                    None => {
                        inner.uncached = inner.released;
                        inner.count();
                    }
                }
                continue;
            }
            let at = |offset| Position { segment: head.segment, offset };
            inner.read = found.iter().map(|(frame, end)| (frame.seq, frame.arrived, at(*end))).collect();
            return Ok(found.into_iter().map(|(frame, _)| frame).collect());
        }
    }

    /// Takes out every frame up to and with this number.
    pub fn release(&self, seq: u64) {
        let done = {
            let mut inner = self.shared.lock();
            inner.release(seq);
            inner.finished()
        };
        self.shared.delete(&done);
    }

    /// How full it is.
    pub fn state(&self) -> SpoolState {
        let inner = self.shared.lock();
        let bytes = inner.segments.iter().map(|s| s.bytes).sum::<u64>();
        // What lies before the head is only waiting to be deleted with its segment.
        let waiting = if inner.frames == 0 { 0 } else { bytes.saturating_sub(inner.head.offset) };
        SpoolState {
            frames: inner.frames,
            bytes: waiting,
            room: self.shared.room.disk,
            oldest: if inner.frames == 0 { 0 } else { inner.shipped_until },
            lost: inner.lost,
            trouble: inner.trouble.clone().unwrap_or_default(),
        }
    }

    /// Follows the number of the last frame that is synced to disk.
    pub fn durable(&self) -> watch::Receiver<u64> {
        self.shared.durable.subscribe()
    }

    /// Writes what is left and ends the thread. The spool takes nothing more to disk afterwards.
    pub fn close(&self) {
        self.shared.lock().stopping = true;
        self.shared.work.notify_one();
        let writer = self.writer.lock().unwrap_or_else(PoisonError::into_inner).take();
        let Some((thread, lock)) = writer else { return };
        if thread.join().is_err() {
            tracing::error!("the spool's thread ended by a panic");
        }
        // Closing the file would not be enough: a child that is just being started still holds a copy of it, and the
        // lock with it, until its program runs.
        if let Err(error) = lock.unlock() {
            tracing::error!(%error, "the spool's folder stays locked");
        }
    }
}

impl Drop for Spool {
    fn drop(&mut self) {
        self.close();
    }
}

impl Inner {
    fn push(&mut self, seq: u64, arrived: Nanos, bytes: Vec<u8>, most: u64) {
        let length = bytes.len() as u64;
        let fits = |s: &Segment| s.bytes == 0 || s.bytes + length <= most;
        if !self.segments.back().is_some_and(fits) {
            let id = self.segments.back().map_or(seq, |s| (s.id + 1).max(seq));
            self.segments.push_back(Segment { id, last: 0, bytes: 0 });
            if self.frames == 0 {
                self.head = Position { segment: id, offset: 0 };
            }
        }
        let Some(segment) = self.segments.back_mut() else { return };
        let entry = Entry { seq, arrived, segment: segment.id, offset: segment.bytes, bytes };
        segment.bytes += length;
        segment.last = seq;
        if self.frames == 0 {
            self.shipped_until = arrived;
        }
        let entry = Arc::new(entry);
        self.queued += entry.bytes.len();
        self.cached += entry.bytes.len();
        self.queue.push_back(entry.clone());
        self.cache.push_back(entry);
        self.frames += 1;
        self.forget();
    }

    /// Keeps the cache within its bounds; only what is on disk may leave it.
    fn forget(&mut self) {
        while self.cached > CACHE
            && let Some(entry) = self.cache.pop_front_if(|e| e.seq <= self.durable)
        {
            self.cached -= entry.bytes.len();
            self.uncached = entry.seq;
        }
    }

    fn release(&mut self, seq: u64) {
        while let Some((number, arrived, next)) = self.read.pop_front_if(|(number, ..)| *number <= seq) {
            self.frames = self.frames.saturating_sub(1);
            (self.head, self.shipped_until) = (next, arrived);
            self.released = number;
        }
        while let Some(entry) = self.cache.pop_front_if(|e| e.seq <= seq) {
            self.cached -= entry.bytes.len();
            // Read from disk as well: counted already.
            if entry.seq > self.released {
                self.frames = self.frames.saturating_sub(1);
                (self.head, self.shipped_until) = (entry.end(), entry.arrived);
            }
        }
        self.released = self.released.max(seq);
        self.count();
    }

    /// Once nothing lies on disk alone, what waits is what the cache holds; a frame that was damaged meanwhile never comes.
    fn count(&mut self) {
        if self.uncached <= self.released {
            self.frames = self.cache.len();
        }
    }

    /// For a disk that refuses: once all that was written has been given back, every segment is taken off the list, the last one
    /// too, and what still waits in memory begins a new one. Gives the segments to delete.
    fn start_over(&mut self, most: u64) -> Vec<u64> {
        let first = self.segments.front().map_or(0, |s| s.id);
        let at_the_start = |e: &Arc<Entry>| e.segment == first && e.offset == 0;
        // Something that was written is wanted still, or nothing stands before what waits.
        if self.durable > self.released || self.queue.iter().find(|e| e.seq > self.released).is_some_and(at_the_start) {
            return Vec::new();
        }
        let waiting: Vec<Arc<Entry>> = self.queue.drain(..).filter(|e| e.seq > self.released).collect();
        self.cache.clear();
        self.read.clear();
        (self.queued, self.cached, self.frames) = (0, 0, 0);
        // What was given back is in the database.
        (self.uncached, self.durable) = (self.released, self.released);
        let done = self.segments.drain(..).map(|s| s.id).collect();
        for entry in waiting {
            self.push(entry.seq, entry.arrived, entry.bytes.clone(), most);
        }
        done
    }

    /// Segments that hold nothing any more, taken off the list. The last one stays: it is being written.
    fn finished(&mut self) -> Vec<u64> {
        let mut done = Vec::new();
        while self.segments.len() > 1
            && let Some(segment) = self.segments.pop_front_if(|s| s.last <= self.released && s.last <= self.durable)
        {
            done.push(segment.id);
        }
        if let Some(first) = self.segments.front().filter(|s| s.id > self.head.segment) {
            self.head = Position { segment: first.id, offset: 0 };
        }
        done
    }
}

#[cfg(test)]
mod tests;
