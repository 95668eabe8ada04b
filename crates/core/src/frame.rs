//! What leaves the engine for good, and its bytes.
//!
//! One format serves the spool, the window log and the feed to another node. All numbers are little endian:
//!
//! ```text
//! frame  = magic:u32 length:u32 crc:u32 body          magic "HVF1"; length and CRC-32 of the body
//! body   = node:[u8;16] term:u32 seq:u64 arrived:i64
//!          samples:u32 text:u32 events:u32 states:u32 gaps:u32
//!          sample{samples} u8{text} event{events} state{states} gap{gaps}
//! sample = time:i64 bits:u64 tag:u32 quality:u16 kind:u8 flags:u8
//! event  = rule:[u8;16] sequence:u32 kind:u8 priority:u8 occurred:i64 decided:i64 value:f64 limit:f64
//!          actor:str comment:str text:str
//! state  = rule:[u8;16] state:u8 sequence:u32 active:u8 raised:i64 returned:i64 value:f64 text:str by:str
//! gap    = from:i64 to:i64 reason:str
//! str    = length:u16 utf8{length}
//! ```

use crate::{
    alarm::{AlarmEvent, AlarmStanding, AlarmState, EventKind},
    quality::Quality,
    sample::{Batch, Kind, Sample},
    time::Nanos,
};
use uuid::Uuid;

const MAGIC: u32 = u32::from_le_bytes(*b"HVF1");
const HEAD: usize = 12;
/// No frame is larger than this, and no reader trusts a length beyond it.
pub const MAX_BYTES: usize = 16 << 20;

/// A span for which nothing was recorded, with the reason.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gap {
    pub from: Nanos,
    pub to: Nanos,
    pub reason: String,
}

/// A durable step of the engine. `(node, seq)` is unique, so sending one again is harmless.
#[derive(Clone, Debug, PartialEq)]
pub struct Frame {
    pub node: Uuid,
    /// The duty's term in which it was made; a lone node is always in term 1.
    pub term: u32,
    /// Counts the node's frames from 1, without holes.
    pub seq: u64,
    /// When the engine closed it.
    pub arrived: Nanos,
    pub batch: Batch,
    pub events: Vec<AlarmEvent>,
    pub states: Vec<AlarmStanding>,
    pub gaps: Vec<Gap>,
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
    /// Whether there is anything worth keeping in it.
    pub fn is_empty(&self) -> bool {
        self.batch.is_empty() && self.events.is_empty() && self.states.is_empty() && self.gaps.is_empty()
    }

    /// The bytes. Texts longer than 65,535 bytes are cut at a character's end.
    pub fn encode(&self) -> Vec<u8> {
        let mut out = Writer(Vec::with_capacity(HEAD + 64 + self.batch.samples.len() * 24));
        out.0.extend_from_slice(&[0; HEAD]);
        out.0.extend_from_slice(self.node.as_bytes());
        out.u32(self.term);
        out.u64(self.seq);
        out.u64(self.arrived as u64);
        let counts = [self.batch.samples.len(), self.batch.text.len(), self.events.len(), self.states.len(), self.gaps.len()];
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
        }
        for g in &self.gaps {
            out.u64(g.from as u64);
            out.u64(g.to as u64);
            out.text(&g.reason);
        }
        let mut bytes = out.0;
        let (length, crc) = ((bytes.len() - HEAD) as u32, crc32fast::hash(&bytes[HEAD..]));
        bytes[..4].copy_from_slice(&MAGIC.to_le_bytes());
        bytes[4..8].copy_from_slice(&length.to_le_bytes());
        bytes[8..12].copy_from_slice(&crc.to_le_bytes());
        bytes
    }

    /// Reads one frame from the front of `bytes`; also tells how many bytes it took.
    ///
    /// # Errors
    /// Anything that is not a whole, undamaged frame; never a panic, and never more memory than the bytes warrant.
    pub fn decode(bytes: &[u8]) -> Result<(Frame, usize), FrameError> {
        let mut head = Reader(bytes);
        if head.u32()? != MAGIC {
            return Err(FrameError::Magic);
        }
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
        let (term, seq, arrived) = (r.u32()?, r.u64()?, r.u64()? as i64);
        let counts = [r.u32()?, r.u32()?, r.u32()?, r.u32()?, r.u32()?].map(|n| n as usize);
        let samples = r.many(counts[0], 24, Reader::sample)?;
        let text = r.take(counts[1])?.to_vec();
        let events = r.many(counts[2], 60, Reader::event)?;
        let states = r.many(counts[3], 50, Reader::state)?;
        let gaps = r.many(counts[4], 18, |r| Ok(Gap { from: r.u64()? as i64, to: r.u64()? as i64, reason: r.text()? }))?;
        if !r.0.is_empty() {
            return Err(FrameError::Content);
        }
        let frame = Frame { node, term, seq, arrived, batch: Batch { samples, text }, events, states, gaps };
        Ok((frame, HEAD + length))
    }
}

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

    fn state(&mut self) -> Result<AlarmStanding, FrameError> {
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
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{quality::Reason, sample::Value};
    use proptest::prelude::*;

    fn frame(values: &[(u32, i64, f64)], texts: &[String]) -> Frame {
        let mut batch = Batch::default();
        for &(tag, time, value) in values {
            batch.push(tag, time, Quality::GOOD, 0, &Value::F64(value));
        }
        for text in texts {
            batch.push(7, 1, Quality::of(Reason::Clamped), 3, &Value::Text(text.clone()));
        }
        let rule = Uuid::from_u128(7);
        let event = AlarmEvent {
            rule,
            sequence: 3,
            kind: EventKind::Acknowledged,
            priority: 4,
            occurred_at: 1,
            decided_at: 2,
            value: 84.6,
            limit: 82.0,
            actor: "Shift lead".into(),
            comment: texts.concat(),
            text: "Temperature high".into(),
        };
        let state = AlarmStanding { state: AlarmState::Acknowledged, sequence: 3, ..AlarmStanding::quiet(rule) };
        let gaps = vec![Gap { from: 1, to: 2, reason: "stopped".into() }];
        Frame { node: Uuid::from_u128(1), term: 1, seq: 9, arrived: 5, batch, events: vec![event], states: vec![state], gaps }
    }

    proptest! {
        #[test]
        fn bytes_round_trip(
            values in prop::collection::vec((any::<u32>(), any::<i64>(), -1e300..1e300f64), 0..130),
            texts in prop::collection::vec(".{0,40}", 0..5),
        ) {
            let frame = frame(&values, &texts);
            let bytes = frame.encode();
            prop_assert_eq!(Frame::decode(&bytes), Ok((frame, bytes.len())));
        }

        #[test]
        fn any_flipped_bit_is_noticed(at in 0usize..1 << 20, bit in 0u8..8) {
            let mut bytes = frame(&[(1, 2, 3.0)], &["text".into()]).encode();
            let at = at % bytes.len();
            bytes[at] ^= 1 << bit;
            prop_assert!(Frame::decode(&bytes).is_err());
        }

        #[test]
        fn hostile_bodies_give_errors(mut body in prop::collection::vec(any::<u8>(), 0..400)) {
            let mut bytes = Vec::from(MAGIC.to_le_bytes());
            bytes.extend((body.len() as u32).to_le_bytes());
            bytes.extend(crc32fast::hash(&body).to_le_bytes());
            bytes.append(&mut body);
            let _ = Frame::decode(&bytes);
        }
    }

    #[test]
    fn a_torn_frame_is_short() {
        let bytes = frame(&[(1, 2, 3.0)], &[]).encode();
        for cut in 0..bytes.len() {
            assert_eq!(Frame::decode(&bytes[..cut]), Err(FrameError::Short));
        }
    }
}
