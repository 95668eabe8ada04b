//! The start: what an earlier program left in the spool.

use super::{Inner, Position, Segment, segment};
use crate::quarantine::Quarantine;
use havrel_core::{
    alarm::AlarmStanding,
    frame::{Gap, Keep},
    time::Nanos,
};
use std::{collections::HashMap, fs, io, path::Path};
use uuid::Uuid;

/// What was found in a spool when it was opened.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Replay {
    /// Frames that are not in the database yet.
    pub frames: usize,
    /// Number, arrival and clock epoch of the last of them.
    pub last: Option<(u64, Nanos, u32)>,
    /// Where alarms stood by them: newer than what the database knows.
    pub standings: Vec<AlarmStanding>,
    /// Values that must outlast a restart, the newest of each tag last.
    pub keeps: Vec<Keep>,
    /// Spans of which something was damaged.
    pub gaps: Vec<Gap>,
    /// What was wrong with the files, in words.
    pub notes: Vec<String>,
}

/// Goes through all segments: cuts off a torn end, steps over damage and tells of it, deletes what is shipped, and sets
/// aside what belongs to another node.
pub(super) fn replay(folder: &Path, node: Uuid, shipped: u64, quarantine: &Quarantine) -> io::Result<(Inner, Replay)> {
    let mut inner = Inner { released: shipped, durable: shipped, uncached: shipped, ..Inner::default() };
    let mut found = Replay::default();
    let mut standings: HashMap<Uuid, AlarmStanding> = HashMap::new();
    // Arrival of the frame before, where damage has begun since.
    let (mut before, mut damaged) = (None, false);
    for id in segment::list(folder)? {
        let path = segment::path(folder, id);
        let bytes = segment::read(&path, 0, u64::MAX)?;
        let mut segment = Segment { id, last: 0, bytes: bytes.len() as u64 };
        let mut foreign = false;
        for item in segment::Scan::new(&bytes) {
            match item {
                segment::Found::Damage(range) => {
                    damaged = true;
                    quarantine.keep_bytes(&bytes[range.clone()])?;
                    found.notes.push(format!("{} bytes in the spool were damaged; they lie in quarantine", range.len()));
                }
                segment::Found::Torn(range) => {
                    damaged = true;
                    quarantine.keep_bytes(&bytes[range.clone()])?;
                    found.notes.push(format!("the last record of the spool was torn; {} bytes were cut off", range.len()));
                    segment.bytes = range.start as u64;
                    fs::OpenOptions::new().write(true).open(&path)?.set_len(segment.bytes)?;
                }
                segment::Found::Frame(frame, _) if frame.node != node => foreign = true,
                segment::Found::Frame(frame, range) => {
                    if damaged && let Some(from) = before {
                        found.gaps.push(Gap { from, to: frame.arrived, reason: segment::DAMAGED.into() });
                    }
                    (before, damaged) = (Some(frame.arrived), false);
                    segment.last = frame.seq;
                    if frame.seq <= shipped {
                        continue;
                    }
                    if found.frames == 0 {
                        inner.head = Position { segment: id, offset: range.start as u64 };
                        inner.shipped_until = frame.arrived;
                    }
                    found.frames += 1;
                    found.last = Some((frame.seq, frame.arrived, frame.epoch));
                    found.keeps.extend(frame.keeps);
                    standings.extend(frame.states.into_iter().map(|s| (s.rule, s)));
                }
            }
        }
        if foreign {
            fs::rename(&path, path.with_extension("foreign"))?;
            found.notes.push(format!("{} holds frames of another node and was set aside", path.display()));
        } else if segment.last <= shipped {
            fs::remove_file(&path)?;
        } else {
            inner.segments.push_back(segment);
        }
    }
    inner.frames = found.frames;
    if let Some((last, ..)) = found.last {
        (inner.uncached, inner.durable) = (last, last);
    }
    found.standings = standings.into_values().collect();
    Ok((inner, found))
}
