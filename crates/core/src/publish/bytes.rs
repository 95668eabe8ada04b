//! A message as bytes, for the queue on disk.
//!
//! All numbers little endian:
//!
//! ```text
//! message = length:u32 crc:u32 body            length and CRC-32 of the body
//! body    = publication:[u8;16] made:i64 qos:u8 retain:u8 topic:u16 utf8{topic} payload{…}
//! ```

use super::Message;
use uuid::Uuid;

/// Bytes before the body.
const HEAD: usize = 8;
/// Bytes of the body before the topic.
const FIXED: usize = 28;
/// Largest body that is read: a payload of 1 MiB and its topic.
const LARGEST: usize = (1 << 20) + (64 << 10) + FIXED;

impl Message {
    /// Appends it to the bytes. The topic has at most 65,535 bytes, which is seen to where topics are made.
    pub fn encode(&self, bytes: &mut Vec<u8>) {
        let at = bytes.len();
        bytes.extend([0; HEAD]);
        bytes.extend(self.publication.as_bytes());
        bytes.extend(self.made.to_le_bytes());
        bytes.extend([self.qos, u8::from(self.retain)]);
        bytes.extend(u16::try_from(self.topic.len()).unwrap_or(u16::MAX).to_le_bytes());
        bytes.extend(self.topic.as_bytes());
        bytes.extend(&self.payload);
        let body = &bytes[at + HEAD..];
        let (length, crc) = (u32::try_from(body.len()).unwrap_or(u32::MAX), crc32fast::hash(body));
        bytes[at..at + 4].copy_from_slice(&length.to_le_bytes());
        bytes[at + 4..at + HEAD].copy_from_slice(&crc.to_le_bytes());
    }

    /// Reads the message at the beginning of the bytes, and how many they are; `None` where there is no whole one.
    pub fn decode(bytes: &[u8]) -> Option<(Message, usize)> {
        let number = |at: usize| Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?));
        let (length, crc) = (number(0)? as usize, number(4)?);
        if !(FIXED..=LARGEST).contains(&length) {
            return None;
        }
        let body = bytes.get(HEAD..HEAD + length)?;
        if crc32fast::hash(body) != crc {
            return None;
        }
        let topic = usize::from(u16::from_le_bytes(body[26..FIXED].try_into().ok()?));
        let message = Message {
            publication: Uuid::from_slice(&body[..16]).ok()?,
            made: i64::from_le_bytes(body[16..24].try_into().ok()?),
            qos: body[24],
            retain: body[25] != 0,
            topic: std::str::from_utf8(body.get(FIXED..FIXED + topic)?).ok()?.to_owned(),
            payload: body[FIXED + topic..].to_vec(),
        };
        Some((message, HEAD + length))
    }
}
