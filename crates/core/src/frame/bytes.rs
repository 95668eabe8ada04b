//! A frame's bytes.
//!
//! One format serves the spool, the window log and the feed to another node. All numbers are little endian:
//!
//! ```text
//! frame  = magic:u32 length:u32 crc:u32 body          magic "HVF6"; length and CRC-32 of the body
//! body   = node:[u8;16] term:u32 epoch:u32 seq:u64 arrived:i64
//!          samples:u32 text:u32 events:u32 states:u32 gaps:u32 notes:u32 keeps:u32 steps:u32 tracked:u32 rows:u32
//!          sample{samples} u8{text} event{events} state{states} gap{gaps} note{notes} keep{keeps} step{steps}
//!          tracked{tracked} row{rows}
//! sample = time:i64 bits:u64 tag:u32 quality:u16 kind:u8 flags:u8
//! event  = rule:[u8;16] sequence:u32 kind:u8 priority:u8 suppressed:u8 first:u8 occurred:i64 decided:i64 value:number limit:f64
//!          until:maybe actor:str comment:str text:str values:u8 value{values}
//! value  = name:str text:str
//! state  = rule:[u8;16] condition:u8 acknowledgement:u8 first:u8 sequence:u32 raised:i64 returned:i64 value:number text:str by:str
//!          delay:maybe suppressions:u8 suppression{suppressions}
//! suppression = kind:u8 since:i64 until:maybe by:str reason:str
//! gap    = from:i64 to:i64 reason:str
//! note   = at:i64 kind:str account:[u8;16] actor:str subject:[u8;16] title:str detail:long
//! keep   = tag:u32 at:i64 value:long
//! step   = epoch:u32 at:i64 by:i64
//! tracked = recorder:[u8;16] track:u8 sample             a number, or only a quality
//! row    = recorder:[u8;16] at:i64 actor:str
//! number = kind:u8 bits:u64                           0: f64, 1: i64 below -2^53, 2: u64 above 2^53
//! maybe  = time:i64                                   the least number: no time
//! str    = length:u16 utf8{length}
//! long   = length:u32 utf8{length}
//! ```
//!
//! Frames of the former forms are read as well. "HVF5" knows no recorders. "HVF4" also knows no values that go with events. "HVF3" also knows no first-out groups
//! (`first`). "HVF2" also knows no suppressions, its numbers are f64, and a state begins with a number of the standard's states and
//! whether the condition holds. "HVF1" also lacks what stands behind the gaps, the epoch and `delay`.

use super::{ClockStep, Frame, Gap, Keep, Note};
use crate::{
    alarm::{
        Acknowledgement, AlarmEvent, AlarmStanding, AlarmState, Condition, EventKind, KeptValue, StandardState, Suppressed,
        Suppression, UnknownCode,
    },
    engine::{Row, Tracked},
    number::Number,
    plant::Track,
    quality::Quality,
    sample::{Kind, Sample},
    time::Nanos,
};
use uuid::Uuid;

/// How every frame written today begins.
pub const BEGINNING: [u8; 4] = *b"HVF6";
/// How frames of former forms began, the first form first.
pub const FORMER_BEGINNINGS: [[u8; 4]; 5] = [*b"HVF1", *b"HVF2", *b"HVF3", *b"HVF4", *b"HVF5"];
const HEAD: usize = 12;
/// No frame is larger than this: none is written, and no reader trusts a length beyond it.
pub const MAX_BYTES: usize = 16 << 20;

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd)]
enum Form {
    First,
    Second,
    Third,
    Fourth,
    Fifth,
    Sixth,
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
    /// Something is of a kind that this version does not know.
    #[error(transparent)]
    Unknown(#[from] UnknownCode),
}

impl Frame {
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
            self.tracked.len(),
            self.rows.len(),
        ];
        counts.iter().for_each(|&n| out.u32(n as u32));
        self.batch.samples.iter().for_each(|s| out.sample(s));
        out.0.extend_from_slice(&self.batch.text);
        for e in &self.events {
            out.0.extend_from_slice(e.rule.as_bytes());
            out.u32(e.sequence);
            out.0.extend_from_slice(&[e.kind as u8, e.priority, u8::from(e.suppressed), u8::from(e.first_out)]);
            out.u64(e.occurred_at as u64);
            out.u64(e.decided_at as u64);
            out.number(e.value);
            out.u64(e.limit.to_bits());
            out.maybe_time(e.until);
            [&e.actor, &e.comment, &e.text].into_iter().for_each(|t| out.text(t));
            let values = &e.values[..e.values.len().min(usize::from(u8::MAX))];
            out.0.push(values.len() as u8);
            values.iter().flat_map(|v| [&v.name, &v.text]).for_each(|t| out.text(t));
        }
        for s in &self.states {
            out.0.extend_from_slice(s.rule.as_bytes());
            out.0.extend_from_slice(&[s.state.condition as u8, s.state.acknowledgement as u8, u8::from(s.first_out)]);
            out.u32(s.sequence);
            out.u64(s.raised_at as u64);
            out.u64(s.returned_at as u64);
            out.number(s.value);
            [&s.text, &s.acknowledged_by].into_iter().for_each(|t| out.text(t));
            out.maybe_time(s.delay_since);
            out.0.push(s.state.suppressions.len() as u8);
            for (kind, suppressed) in &s.state.suppressions {
                out.0.push(*kind as u8);
                out.u64(suppressed.since as u64);
                out.maybe_time(suppressed.until);
                [&suppressed.by, &suppressed.reason].into_iter().for_each(|t| out.text(t));
            }
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
        for t in &self.tracked {
            out.0.extend_from_slice(t.recorder.as_bytes());
            out.0.push(t.track as u8);
            out.sample(&t.sample);
        }
        for r in &self.rows {
            out.0.extend_from_slice(r.recorder.as_bytes());
            out.u64(r.at as u64);
            out.text(&r.actor);
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
        let form = match head.array()? {
            BEGINNING => Form::Sixth,
            beginning if beginning == FORMER_BEGINNINGS[4] => Form::Fifth,
            beginning if beginning == FORMER_BEGINNINGS[3] => Form::Fourth,
            beginning if beginning == FORMER_BEGINNINGS[2] => Form::Third,
            beginning if beginning == FORMER_BEGINNINGS[1] => Form::Second,
            beginning if beginning == FORMER_BEGINNINGS[0] => Form::First,
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
        let epoch = if form == Form::First { 0 } else { r.u32()? };
        let mut frame = Frame::empty(node, term, epoch, r.u64()?, r.time()?);
        let counts = [r.u32()?, r.u32()?, r.u32()?, r.u32()?, r.u32()?].map(|n| n as usize);
        let more = if form == Form::First { [0; 3] } else { [r.u32()?, r.u32()?, r.u32()?].map(|n| n as usize) };
        let last = if form >= Form::Sixth { [r.u32()?, r.u32()?].map(|n| n as usize) } else { [0; 2] };
        frame.batch.samples = r.many(counts[0], SAMPLE, Reader::sample)?;
        frame.batch.text = r.take(counts[1])?.to_vec();
        let (event, state) = match form {
            Form::Sixth | Form::Fifth => (EVENT, STATE),
            Form::Fourth => (FOURTH_EVENT, STATE),
            Form::Third => (THIRD_EVENT, THIRD_STATE),
            Form::First | Form::Second => (FORMER_EVENT, FORMER_STATE),
        };
        frame.events = r.many(counts[2], event, |r| r.event(form))?;
        frame.states = r.many(counts[3], state, |r| r.state(form))?;
        frame.gaps = r.many(counts[4], GAP, |r| Ok(Gap { from: r.time()?, to: r.time()?, reason: r.text()? }))?;
        frame.notes = r.many(more[0], NOTE, Reader::note)?;
        frame.keeps = r.many(more[1], KEEP, |r| Ok(Keep { tag: r.u32()?, at: r.time()?, value: r.long()? }))?;
        let step = |r: &mut Reader<'_>| Ok(ClockStep { epoch: r.u32()?, at: r.time()?, by: r.time()? });
        frame.steps = r.many(more[2], STEP, step)?;
        frame.tracked = r.many(last[0], TRACKED, Reader::tracked)?;
        frame.rows = r.many(last[1], ROW, |r| Ok(Row { recorder: r.uuid()?, at: r.time()?, actor: r.text()? }))?;
        if !r.0.is_empty() {
            return Err(FrameError::Content);
        }
        Ok((frame, HEAD + length))
    }
}

/// The fewest bytes of each kind of entry.
pub(super) const SAMPLE: usize = 24;
pub(super) const EVENT: usize = 72;
/// A value that goes with an event.
pub(super) const VALUE: usize = 4;
pub(super) const STATE: usize = 61;
pub(super) const SUPPRESSION: usize = 21;
pub(super) const GAP: usize = 18;
pub(super) const NOTE: usize = 50;
pub(super) const KEEP: usize = 16;
pub(super) const STEP: usize = 20;
pub(super) const TRACKED: usize = 17 + SAMPLE;
pub(super) const ROW: usize = 26;
const FOURTH_EVENT: usize = 71;
const THIRD_EVENT: usize = 70;
const THIRD_STATE: usize = 60;
const FORMER_EVENT: usize = 60;
const FORMER_STATE: usize = 42;
/// Stands for “no time”.
const NO_TIME: Nanos = Nanos::MIN;

struct Writer(Vec<u8>);

impl Writer {
    fn sample(&mut self, s: &Sample) {
        self.u64(s.time as u64);
        self.u64(s.bits);
        self.u32(s.tag);
        self.0.extend_from_slice(&s.quality.bits().to_le_bytes());
        self.0.extend_from_slice(&[s.kind as u8, s.flags]);
    }

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

    fn number(&mut self, number: Number) {
        let (kind, bits) = match number {
            Number::Float(v) => (0, v.to_bits()),
            Number::Below(v) => (1, v as u64),
            Number::Above(v) => (2, v),
        };
        self.0.push(kind);
        self.u64(bits);
    }

    fn maybe_time(&mut self, time: Option<Nanos>) {
        self.u64(time.unwrap_or(NO_TIME) as u64);
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
            at: self.time()?,
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
            time: self.time()?,
            bits: self.u64()?,
            tag: self.u32()?,
            quality: Quality::from_bits(u16::from_le_bytes(self.array()?)).ok_or(FrameError::Content)?,
            kind: Kind::from_code(self.u8()?).ok_or(FrameError::Content)?,
            flags: self.u8()?,
        })
    }

    fn tracked(&mut self) -> Result<Tracked, FrameError> {
        let recorder = self.uuid()?;
        let track = self.coded("track", Track::from_code)?;
        let sample = self.sample()?;
        // A text would point into nothing.
        if sample.kind == Kind::Text { Err(FrameError::Content) } else { Ok(Tracked { recorder, track, sample }) }
    }

    fn number(&mut self) -> Result<Number, FrameError> {
        match (self.u8()?, self.u64()?) {
            (0, bits) => Ok(Number::Float(f64::from_bits(bits))),
            (1, bits) => Ok(Number::Below(bits as i64)),
            (2, bits) => Ok(Number::Above(bits)),
            _ => Err(FrameError::Content),
        }
    }

    fn time(&mut self) -> Result<Nanos, FrameError> {
        Ok(self.u64()? as i64)
    }

    fn maybe_time(&mut self) -> Result<Option<Nanos>, FrameError> {
        Ok(Some(self.time()?).filter(|&time| time != NO_TIME))
    }

    /// One of a few things that are written as a number.
    fn coded<T>(&mut self, what: &'static str, of: impl Fn(u8) -> Option<T>) -> Result<T, FrameError> {
        let code = self.u8()?;
        of(code).ok_or(FrameError::Unknown(UnknownCode { what, code }))
    }

    fn event(&mut self, form: Form) -> Result<AlarmEvent, FrameError> {
        let third = form >= Form::Third;
        Ok(AlarmEvent {
            rule: self.uuid()?,
            sequence: self.u32()?,
            kind: EventKind::from_code(self.u8()?)?,
            priority: self.u8()?,
            suppressed: third && self.u8()? != 0,
            first_out: form >= Form::Fourth && self.u8()? != 0,
            occurred_at: self.time()?,
            decided_at: self.time()?,
            value: if third { self.number()? } else { Number::Float(self.f64()?) },
            limit: self.f64()?,
            until: if third { self.maybe_time()? } else { None },
            actor: self.text()?,
            comment: self.text()?,
            text: self.text()?,
            values: if form >= Form::Fifth { self.values()? } else { Vec::new() },
        })
    }

    fn values(&mut self) -> Result<Vec<KeptValue>, FrameError> {
        let count = usize::from(self.u8()?);
        self.many(count, VALUE, |r| Ok(KeptValue { name: r.text()?, text: r.text()? }))
    }

    fn state(&mut self, form: Form) -> Result<AlarmStanding, FrameError> {
        let third = form >= Form::Third;
        let rule = self.uuid()?;
        let state = if third {
            let condition = self.coded("alarm condition", Condition::from_code)?;
            let acknowledgement = self.coded("acknowledgement", Acknowledgement::from_code)?;
            AlarmState { condition, acknowledgement, ..AlarmState::default() }
        } else {
            let state = self.coded("alarm state", StandardState::from_code)?;
            AlarmState::of_standard(state).ok_or(FrameError::Content)?
        };
        let first_out = form >= Form::Fourth && self.u8()? != 0;
        let sequence = self.u32()?;
        if !third {
            // Whether the condition holds, which the state tells.
            self.u8()?;
        }
        let mut standing = AlarmStanding {
            rule,
            state,
            sequence,
            raised_at: self.time()?,
            returned_at: self.time()?,
            value: if third { self.number()? } else { Number::Float(self.f64()?) },
            text: self.text()?,
            acknowledged_by: self.text()?,
            delay_since: if form == Form::First { None } else { self.maybe_time()? },
            first_out,
        };
        if third {
            let count = usize::from(self.u8()?);
            let suppressions = self.many(count, SUPPRESSION, |r| {
                let kind = r.coded("suppression", Suppression::from_code)?;
                let (since, until) = (r.time()?, r.maybe_time()?);
                Ok((kind, Suppressed { since, until, by: r.text()?, reason: r.text()? }))
            })?;
            standing.state.suppressions = suppressions.into_iter().collect();
        }
        Ok(standing)
    }
}
