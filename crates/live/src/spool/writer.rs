//! The thread that brings frames to disk: what has gathered is written and synced together.

use super::{Entry, Shared, segment};
use std::{
    fs::{File, OpenOptions},
    io::{self, Seek, SeekFrom, Write},
    os::unix::fs::OpenOptionsExt,
    sync::{Arc, PoisonError},
    time::Duration,
};

/// Frames are gathered for so long before they are written and synced together.
const GATHER: Duration = Duration::from_millis(80);
/// A disk that refused is tried again after so long.
const RETRY: Duration = Duration::from_millis(500);

/// Runs until the spool is closed and all is written.
pub(super) fn run(shared: &Shared) {
    let mut open: Option<(u64, File)> = None;
    loop {
        let mut inner = shared.lock();
        while inner.queue.is_empty() && !inner.stopping {
            inner = shared.work.wait(inner).unwrap_or_else(PoisonError::into_inner);
        }
        if inner.queue.is_empty() {
            return;
        }
        if !inner.stopping {
            drop(inner);
            std::thread::sleep(GATHER);
            inner = shared.lock();
        }
        let batch: Vec<Arc<Entry>> = inner.queue.iter().cloned().collect();
        drop(inner);
        match put(shared, &mut open, &batch) {
            Ok(()) => {
                let last = batch.last().map_or(0, |e| e.seq);
                let mut inner = shared.lock();
                let written: usize = batch.iter().map(|e| e.bytes.len()).sum();
                inner.queue.drain(..batch.len());
                inner.queued -= written;
                inner.durable = last;
                if inner.trouble.take().is_some() {
                    tracing::info!("the spool's disk takes frames again");
                }
                inner.forget();
                drop(inner);
                shared.durable.send_replace(last);
            }
            Err(error) => {
                // Whatever was half written is cut off before the next try.
                open = None;
                let mut inner = shared.lock();
                if inner.trouble.is_none() {
                    tracing::error!(%error, "the spool's disk refuses");
                }
                inner.trouble = Some(error.to_string());
                if inner.stopping {
                    return;
                }
                let (done, durable) = (inner.start_over(shared.room.segment), inner.durable);
                drop(inner);
                shared.delete(&done);
                shared.durable.send_replace(durable);
                std::thread::sleep(RETRY);
            }
        }
    }
}

/// Writes frames at their places and syncs.
fn put(shared: &Shared, open: &mut Option<(u64, File)>, batch: &[Arc<Entry>]) -> io::Result<()> {
    for entry in batch {
        if open.as_ref().is_none_or(|(id, _)| *id != entry.segment) {
            if let Some((_, file)) = open.take() {
                file.sync_data()?;
            }
            let path = segment::path(&shared.folder, entry.segment);
            let mut file = OpenOptions::new().create(true).write(true).truncate(false).mode(0o600).open(path)?;
            file.set_len(entry.offset)?;
            file.seek(SeekFrom::Start(entry.offset))?;
            // The name of a new file must last as well.
            File::open(&shared.folder)?.sync_all()?;
            *open = Some((entry.segment, file));
        }
        if let Some((_, file)) = open {
            file.write_all(&entry.bytes)?;
        }
    }
    open.as_ref().map_or(Ok(()), |(_, file)| file.sync_data())
}
