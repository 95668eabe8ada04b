//! Segment files: frames one after the other, as `core::frame` describes them, and nothing else.
//!
//! ```text
//! folder  = lock segment{…}                 a segment is named by its number: 00000000000000000007.frames
//! segment = frame{…}                        a torn frame may stand at the end of the last one
//! ```

use crate::{lines, quarantine::Quarantine};
use havrel_core::{
    frame::{BEGINNING, FORMER_BEGINNINGS, Frame, Gap, MAX_BYTES},
    time::{Nanos, to_text},
};
use std::{
    fs::{self, File},
    io::{self, Read, Seek, SeekFrom},
    ops::Range,
    path::{Path, PathBuf},
};

/// Where a segment lies.
pub(super) fn path(folder: &Path, id: u64) -> PathBuf {
    folder.join(format!("{id:020}.frames"))
}

/// The numbers of the segments in a folder, oldest first.
pub(super) fn list(folder: &Path) -> io::Result<Vec<u64>> {
    let mut ids = Vec::new();
    for entry in fs::read_dir(folder)? {
        let name = entry?.file_name();
        let id = name.to_str().and_then(|n| n.strip_suffix(".frames")).and_then(|n| n.parse::<u64>().ok());
        ids.extend(id);
    }
    ids.sort_unstable();
    Ok(ids)
}

/// Reads at most `most` bytes of a segment from an offset on.
pub(super) fn read(path: &Path, offset: u64, most: u64) -> io::Result<Vec<u8>> {
    let mut file = File::open(path)?;
    file.seek(SeekFrom::Start(offset))?;
    let mut bytes = Vec::new();
    file.take(most).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// What stands next in the bytes of a segment.
#[derive(Debug, PartialEq)]
pub(super) enum Found {
    /// A whole frame and where it lies.
    Frame(Box<Frame>, Range<usize>),
    /// Bytes that are no frame, with whole frames behind them.
    Damage(Range<usize>),
    /// Bytes that are no frame up to the end: torn, or still being written.
    Torn(Range<usize>),
}

/// Goes through the bytes of a segment.
pub(super) struct Scan<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Scan<'a> {
    pub fn new(bytes: &'a [u8]) -> Scan<'a> {
        Scan { bytes, at: 0 }
    }
}

impl Iterator for Scan<'_> {
    type Item = Found;

    fn next(&mut self) -> Option<Found> {
        let from = self.at;
        if from >= self.bytes.len() {
            return None;
        }
        if let Ok((frame, length)) = Frame::decode(&self.bytes[from..]) {
            self.at += length;
            return Some(Found::Frame(Box::new(frame), from..self.at));
        }
        // Look for the next whole frame; the checksum keeps bytes that only look like its beginning apart.
        let rest = &self.bytes[from + 1..];
        let next = rest.windows(4).enumerate().find(|(i, w)| {
            (**w == BEGINNING || FORMER_BEGINNINGS.iter().any(|f| **w == *f)) && Frame::decode(&rest[*i..]).is_ok()
        });
        self.at = next.map_or(self.bytes.len(), |(i, _)| from + 1 + i);
        let range = from..self.at;
        Some(if next.is_some() { Found::Damage(range) } else { Found::Torn(range) })
    }
}

/// Stands where something of the spool was damaged.
pub(super) const DAMAGED: &str = "a part of the spool was damaged";

/// When the last whole frame before an offset arrived; none at the beginning of a segment.
fn arrived_before(path: &Path, offset: u64) -> io::Result<Option<Nanos>> {
    let bytes = read(path, 0, offset)?;
    let arrivals = Scan::new(&bytes).filter_map(|item| match item {
        Found::Frame(frame, _) => Some(frame.arrived),
        Found::Damage(_) | Found::Torn(_) => None,
    });
    Ok(arrivals.last())
}

/// Reads frames from an offset until `last` or about `most` samples; gives each with the offset behind it. Damaged bytes are
/// stepped over and put into quarantine, and the frame behind them says from when to when something is missing; until `known`
/// nothing is.
pub(super) fn frames(
    path: &Path,
    offset: u64,
    last: u64,
    most: usize,
    known: Nanos,
    quarantine: &Quarantine,
) -> io::Result<Vec<(Frame, u64)>> {
    let mut room = 4 << 20;
    loop {
        let bytes = read(path, offset, room)?;
        let (mut found, mut left) = (Vec::<(Frame, u64)>::new(), most);
        let mut damaged = false;
        for item in Scan::new(&bytes) {
            match item {
                Found::Frame(mut frame, range) => {
                    if frame.seq > last || !super::fits(&frame, &mut left) {
                        return Ok(found);
                    }
                    if std::mem::take(&mut damaged) {
                        let before = match found.last() {
                            Some((frame, _)) => Some(frame.arrived),
                            None => arrived_before(path, offset)?,
                        };
                        let from = before.unwrap_or(known);
                        frame.gaps.push(Gap { from, to: frame.arrived, reason: DAMAGED.into() });
                        let title = "Bytes of the spool were damaged and are kept in quarantine".to_owned();
                        let span = serde_json::json!({"from": to_text(from), "to": to_text(frame.arrived)});
                        frame.notes.push(lines::by_itself("system", title, &span, frame.arrived));
                    }
                    found.push((*frame, offset + range.end as u64));
                }
                Found::Damage(range) => {
                    tracing::warn!(path = %path.display(), ?range, "damaged bytes in the spool");
                    quarantine.keep_bytes(&bytes[range])?;
                    damaged = true;
                }
                // The last frame may only be cut off by what was read of the file.
                Found::Torn(_) => {}
            }
        }
        // A frame larger than the room looks torn; with the whole of it read, it is not.
        if !found.is_empty() || (bytes.len() as u64) < room || room > 2 * MAX_BYTES as u64 {
            return Ok(found);
        }
        room *= 4;
    }
}
