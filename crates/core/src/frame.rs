//! What leaves the engine for good, and its bytes.
//!
//! One format serves the spool, the window log and the feed to another node. All numbers are little endian:
//!
//! ```text
//! frame  = magic:u32 length:u32 crc:u32 body          magic "HVF2"; length and CRC-32 of the body
//! body   = node:[u8;16] term:u32 epoch:u32 seq:u64 arrived:i64
//!          samples:u32 text:u32 events:u32 states:u32 gaps:u32 notes:u32 keeps:u32 steps:u32
//!          sample{samples} u8{text} event{events} state{states} gap{gaps} note{notes} keep{keeps} step{steps}
//! sample = time:i64 bits:u64 tag:u32 quality:u16 kind:u8 flags:u8
//! event  = rule:[u8;16] sequence:u32 kind:u8 priority:u8 occurred:i64 decided:i64 value:f64 limit:f64
//!          actor:str comment:str text:str
//! state  = rule:[u8;16] state:u8 sequence:u32 active:u8 raised:i64 returned:i64 value:f64 text:str by:str
//!          turning:i64                                 since when a delay runs; the least number: none does
//! gap    = from:i64 to:i64 reason:str
//! note   = at:i64 kind:str account:[u8;16] actor:str subject:[u8;16] title:str detail:long
//! keep   = tag:u32 at:i64 value:long
//! step   = epoch:u32 at:i64 by:i64
//! str    = length:u16 utf8{length}
//! long   = length:u32 utf8{length}
//! ```
//!
//! Frames of the first form, "HVF1", are read as well: they lack what stands behind the gaps, the epoch and `turning`.

use crate::{
    TagNo,
    alarm::{AlarmEvent, AlarmStanding, AlarmState, EventKind},
    quality::Quality,
    sample::{Batch, Kind, Sample},
    time::Nanos,
};
use uuid::Uuid;

/// How every frame written today begins.
pub const BEGINNING: [u8; 4] = *b"HVF2";
/// How frames of the first form began.
pub const FORMER_BEGINNING: [u8; 4] = *b"HVF1";
const HEAD: usize = 12;
/// No frame is larger than this: none is written, and no reader trusts a length beyond it.
pub const MAX_BYTES: usize = 16 << 20;
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
}

/// Why bytes are no frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum FrameError {
    #[error("the bytes end before the frame does")]
    Short,
    #[error("these bytes are not a frame")]
    Magic,
    #[error("the frame is larger than any frame may be")]
    Size,
    #[error("the checksum does not fit: the frame was damaged")]
    Checksum,
    #[error("the frame holds something it may not")]
    Content,
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
        }
    }

    /// Whether there is anything worth keeping in it.
    pub fn is_empty(&self) -> bool {
        self.entries() == 0
    }

    /// How many entries it holds, samples and all others.
    pub fn entries(&self) -> usize {
        let others =
            [self.events.len(), self.states.len(), self.gaps.len(), self.notes.len(), self.keeps.len(), self.steps.len()];
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
        part
    }

    /// The span of its samples and events; `None` where it holds neither.
    pub fn span(&self) -> Option<(Nanos, Nanos)> {
        let times = self.batch.samples.iter().map(|s| s.time).chain(self.events.iter().map(|e| e.occurred_at));
        times.fold(None, |span, t| Some(span.map_or((t, t), |(a, b): (Nanos, Nanos)| (a.min(t), b.max(t)))))
    }

    /// Bytes of each entry, in the order of [`Frame::filtered`].
    fn sizes(&self) -> Vec<usize> {
        let text = |s: &Sample| if s.kind == Kind::Text { (s.bits & 0xffff_ffff) as usize } else { 0 };
        let mut sizes: Vec<usize> = self.batch.samples.iter().map(|s| SAMPLE + text(s)).collect();
        sizes.extend(self.events.iter().map(|e| EVENT + e.actor.len() + e.comment.len() + e.text.len()));
        sizes.extend(self.states.iter().map(|s| STATE + 8 + s.text.len() + s.acknowledged_by.len()));
        sizes.extend(self.gaps.iter().map(|g| GAP + g.reason.len()));
        let note = |n: &Note| NOTE + n.kind.len() + n.actor.len() + n.title.len() + n.detail.len();
        sizes.extend(self.notes.iter().map(note));
        sizes.extend(self.keeps.iter().map(|k| KEEP + k.value.len()));
        sizes.extend(self.steps.iter().map(|_| STEP));
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

    /// The bytes. Names and words longer than 65,535 bytes are cut at a character's end.
    ///
    /// # Errors
    /// When it is larger than any frame may be; see [`Frame::parts`].
    pub fn encode(&self) -> Result<Vec<u8>, FrameError> {
        let mut out = Writer(Vec::with_capacity(HEAD + 96 + self.batch.samples.len() * SAMPLE + self.batch.text.len()));
        out.0.extend_from_slice(&[0; HEAD]);
        out.0.extend_from_slice(self.node.as_bytes());
        out.u32(self.term);
        out.u32(self.epoch);
        out.u64(self.seq);
        out.u64(self.arrived as u64);
        let counts = [
            self.batch.samples.len(),
            self.batch.text.len(),
            self.events.len(),
            self.states.len(),
            self.gaps.len(),
            self.notes.len(),
            self.keeps.len(),
            self.steps.len(),
        ];
        counts.iter().for_each(|&n| out.u32(n as u32));
        for s in &self.batch.samples {
            out.u64(s.time as u64);
            out.u64(s.bits);
            out.u32(s.tag);
            out.0.extend_from_slice(&s.quality.bits().to_le_bytes());
            out.0.extend_from_slice(&[s.kind as u8, s.flags]);
        }
        out.0.extend_from_slice(&self.batch.text);
        for e in &self.events {
            out.0.extend_from_slice(e.rule.as_bytes());
            out.u32(e.sequence);
            out.0.extend_from_slice(&[e.kind as u8, e.priority]);
            [e.occurred_at as u64, e.decided_at as u64, e.value.to_bits(), e.limit.to_bits()]
                .into_iter()
                .for_each(|v| out.u64(v));
            [&e.actor, &e.comment, &e.text].into_iter().for_each(|t| out.text(t));
        }
        for s in &self.states {
            out.0.extend_from_slice(s.rule.as_bytes());
            out.0.push(s.state as u8);
            out.u32(s.sequence);
            out.0.push(u8::from(s.active));
            [s.raised_at as u64, s.returned_at as u64, s.value.to_bits()].into_iter().for_each(|v| out.u64(v));
            [&s.text, &s.acknowledged_by].into_iter().for_each(|t| out.text(t));
            out.u64(s.turning_since.unwrap_or(NOT_TURNING) as u64);
        }
        for g in &self.gaps {
            out.u64(g.from as u64);
            out.u64(g.to as u64);
            out.text(&g.reason);
        }
        for n in &self.notes {
            out.u64(n.at as u64);
            out.text(&n.kind);
            out.0.extend_from_slice(n.account.unwrap_or_default().as_bytes());
            out.text(&n.actor);
            out.0.extend_from_slice(n.subject.unwrap_or_default().as_bytes());
            out.text(&n.title);
            out.long(&n.detail);
        }
        for k in &self.keeps {
            out.u32(k.tag);
            out.u64(k.at as u64);
            out.long(&k.value);
        }
        for s in &self.steps {
            out.u32(s.epoch);
            [s.at as u64, s.by as u64].into_iter().for_each(|v| out.u64(v));
        }
        let mut bytes = out.0;
        if bytes.len() - HEAD > MAX_BYTES {
            return Err(FrameError::Size);
        }
        let (length, crc) = ((bytes.len() - HEAD) as u32, crc32fast::hash(&bytes[HEAD..]));
        bytes[..4].copy_from_slice(&BEGINNING);
        bytes[4..8].copy_from_slice(&length.to_le_bytes());
        bytes[8..12].copy_from_slice(&crc.to_le_bytes());
        Ok(bytes)
    }

    /// Reads one frame from the front of `bytes`; also tells how many bytes it took.
    ///
    /// # Errors
    /// Anything that is not a whole, undamaged frame; never a panic, and never more memory than the bytes warrant.
    pub fn decode(bytes: &[u8]) -> Result<(Frame, usize), FrameError> {
        let mut head = Reader(bytes);
        let former = match head.array()? {
            BEGINNING => false,
            FORMER_BEGINNING => true,
            _ => return Err(FrameError::Magic),
        };
        let (length, crc) = (head.u32()? as usize, head.u32()?);
        if length > MAX_BYTES {
            return Err(FrameError::Size);
        }
        let body = head.take(length)?;
        if crc32fast::hash(body) != crc {
            return Err(FrameError::Checksum);
        }
        let mut r = Reader(body);
        let node = r.uuid()?;
        let term = r.u32()?;
        let epoch = if former { 0 } else { r.u32()? };
        let mut frame = Frame::empty(node, term, epoch, r.u64()?, r.u64()? as i64);
        let counts = [r.u32()?, r.u32()?, r.u32()?, r.u32()?, r.u32()?].map(|n| n as usize);
        let more = if former { [0; 3] } else { [r.u32()?, r.u32()?, r.u32()?].map(|n| n as usize) };
        frame.batch.samples = r.many(counts[0], SAMPLE, Reader::sample)?;
        frame.batch.text = r.take(counts[1])?.to_vec();
        frame.events = r.many(counts[2], EVENT, Reader::event)?;
        frame.states = r.many(counts[3], STATE, |r| r.state(former))?;
        frame.gaps = r.many(counts[4], GAP, |r| Ok(Gap { from: r.u64()? as i64, to: r.u64()? as i64, reason: r.text()? }))?;
        frame.notes = r.many(more[0], NOTE, Reader::note)?;
        frame.keeps = r.many(more[1], KEEP, |r| Ok(Keep { tag: r.u32()?, at: r.u64()? as i64, value: r.long()? }))?;
        let step = |r: &mut Reader<'_>| Ok(ClockStep { epoch: r.u32()?, at: r.u64()? as i64, by: r.u64()? as i64 });
        frame.steps = r.many(more[2], STEP, step)?;
        if !r.0.is_empty() {
            return Err(FrameError::Content);
        }
        Ok((frame, HEAD + length))
    }
}

/// The fewest bytes of each kind of entry.
const SAMPLE: usize = 24;
const EVENT: usize = 60;
const STATE: usize = 50;
const GAP: usize = 18;
const NOTE: usize = 50;
const KEEP: usize = 16;
const STEP: usize = 20;
/// Stands for “no delay runs”.
const NOT_TURNING: Nanos = Nanos::MIN;

struct Writer(Vec<u8>);

impl Writer {
    fn u32(&mut self, v: u32) {
        self.0.extend_from_slice(&v.to_le_bytes());
    }

    fn u64(&mut self, v: u64) {
        self.0.extend_from_slice(&v.to_le_bytes());
    }

    fn text(&mut self, text: &str) {
        let cut = text.floor_char_boundary(usize::from(u16::MAX));
        self.0.extend_from_slice(&(cut as u16).to_le_bytes());
        self.0.extend_from_slice(&text.as_bytes()[..cut]);
    }

    fn long(&mut self, text: &str) {
        self.u32(text.len() as u32);
        self.0.extend_from_slice(text.as_bytes());
    }
}

struct Reader<'a>(&'a [u8]);

impl<'a> Reader<'a> {
    fn take(&mut self, n: usize) -> Result<&'a [u8], FrameError> {
        let (front, rest) = self.0.split_at_checked(n).ok_or(FrameError::Short)?;
        self.0 = rest;
        Ok(front)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], FrameError> {
        self.take(N)?.try_into().map_err(|_| FrameError::Short)
    }

    fn u8(&mut self) -> Result<u8, FrameError> {
        Ok(self.array::<1>()?[0])
    }

    fn u32(&mut self) -> Result<u32, FrameError> {
        Ok(u32::from_le_bytes(self.array()?))
    }

    fn u64(&mut self) -> Result<u64, FrameError> {
        Ok(u64::from_le_bytes(self.array()?))
    }

    fn f64(&mut self) -> Result<f64, FrameError> {
        Ok(f64::from_bits(self.u64()?))
    }

    fn uuid(&mut self) -> Result<Uuid, FrameError> {
        Ok(Uuid::from_bytes(self.array()?))
    }

    fn text(&mut self) -> Result<String, FrameError> {
        let length = u16::from_le_bytes(self.array()?);
        String::from_utf8(self.take(usize::from(length))?.to_vec()).map_err(|_| FrameError::Content)
    }

    fn long(&mut self) -> Result<String, FrameError> {
        let length = self.u32()? as usize;
        String::from_utf8(self.take(length)?.to_vec()).map_err(|_| FrameError::Content)
    }

    fn note(&mut self) -> Result<Note, FrameError> {
        let known = |id: Uuid| Some(id).filter(|id| !id.is_nil());
        Ok(Note {
            at: self.u64()? as i64,
            kind: self.text()?,
            account: known(self.uuid()?),
            actor: self.text()?,
            subject: known(self.uuid()?),
            title: self.text()?,
            detail: self.long()?,
        })
    }

    /// `n` items of at least `least` bytes each; room is made only for what the bytes can hold.
    fn many<T>(
        &mut self,
        n: usize,
        least: usize,
        mut one: impl FnMut(&mut Self) -> Result<T, FrameError>,
    ) -> Result<Vec<T>, FrameError> {
        if n > self.0.len() / least {
            return Err(FrameError::Short);
        }
        (0..n).map(|_| one(self)).collect()
    }

    fn sample(&mut self) -> Result<Sample, FrameError> {
        Ok(Sample {
            time: self.u64()? as i64,
            bits: self.u64()?,
            tag: self.u32()?,
            quality: Quality::from_bits(u16::from_le_bytes(self.array()?)).ok_or(FrameError::Content)?,
            kind: Kind::from_code(self.u8()?).ok_or(FrameError::Content)?,
            flags: self.u8()?,
        })
    }

    fn event(&mut self) -> Result<AlarmEvent, FrameError> {
        Ok(AlarmEvent {
            rule: self.uuid()?,
            sequence: self.u32()?,
            kind: EventKind::from_code(self.u8()?).ok_or(FrameError::Content)?,
            priority: self.u8()?,
            occurred_at: self.u64()? as i64,
            decided_at: self.u64()? as i64,
            value: self.f64()?,
            limit: self.f64()?,
            actor: self.text()?,
            comment: self.text()?,
            text: self.text()?,
        })
    }

    fn state(&mut self, former: bool) -> Result<AlarmStanding, FrameError> {
        Ok(AlarmStanding {
            rule: self.uuid()?,
            state: AlarmState::from_code(self.u8()?).ok_or(FrameError::Content)?,
            sequence: self.u32()?,
            active: self.u8()? != 0,
            raised_at: self.u64()? as i64,
            returned_at: self.u64()? as i64,
            value: self.f64()?,
            text: self.text()?,
            acknowledged_by: self.text()?,
            turning_since: if former { None } else { Some(self.u64()? as i64).filter(|&since| since != NOT_TURNING) },
        })
    }
}

#[cfg(test)]
mod tests;
