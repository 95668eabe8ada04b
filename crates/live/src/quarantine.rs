//! Where entries lie that the database will never take because of what they hold, and bytes of the spool that are no frames.
//!
//! ```text
//! folder = quarantine.frames bytes…            entries, as frames one after the other (see `core::frame`)
//! ```
//!
//! Nothing reads it by itself. It is there so that nothing acknowledged is gone without anybody being able to look at it.

use havrel_core::frame::Frame;
use std::{
    fs::{self, File, OpenOptions},
    io::{self, Write},
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::{Path, PathBuf},
};

/// Most bytes that are kept; what comes beyond is told in the journal only.
const MOST: u64 = 256 << 20;

/// The folder.
#[derive(Clone, Debug)]
pub(crate) struct Quarantine(PathBuf);

impl Quarantine {
    /// Under a data folder; made when something comes.
    pub fn at(data: &Path) -> Quarantine {
        Quarantine(data.join("quarantine"))
    }

    /// Keeps entries, synced to disk. Gives the file; `None`: it is full, and they are not kept.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn keep(&self, entries: Frame) -> io::Result<Option<PathBuf>> {
        let mut bytes = Vec::new();
        for part in entries.parts(havrel_core::frame::PART_BYTES) {
            // An entry that alone is larger than any frame has no bytes to be kept.
            bytes.extend(part.encode().unwrap_or_default());
        }
        self.append("quarantine.frames", &bytes)
    }

    /// Keeps bytes that are no frame; `None` as above.
    ///
    /// # Errors
    /// When the disk refuses.
    pub fn keep_bytes(&self, bytes: &[u8]) -> io::Result<Option<PathBuf>> {
        self.append("damaged.bytes", bytes)
    }

    fn append(&self, name: &str, bytes: &[u8]) -> io::Result<Option<PathBuf>> {
        let path = self.0.join(name);
        if !self.0.exists() {
            fs::DirBuilder::new().mode(0o700).recursive(true).create(&self.0)?;
        }
        let mut file = OpenOptions::new().create(true).append(true).mode(0o600).open(&path)?;
        if file.metadata()?.len() + bytes.len() as u64 > MOST {
            return Ok(None);
        }
        file.write_all(bytes)?;
        file.sync_all()?;
        File::open(&self.0)?.sync_all()?;
        Ok(Some(path))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::{quality::Quality, sample::Value};
    use uuid::Uuid;

    #[test]
    fn what_is_kept_can_be_read_back() {
        let folder = tempfile::tempdir().unwrap();
        let quarantine = Quarantine::at(folder.path());
        let frame = |seq| {
            let mut frame = Frame::empty(Uuid::from_u128(1), 1, 0, seq, 5);
            frame.batch.push(7, 3, Quality::GOOD, 0, &Value::F64(1.5));
            frame
        };
        let path = quarantine.keep(frame(4)).unwrap().unwrap();
        quarantine.keep(frame(9)).unwrap();
        let bytes = fs::read(path).unwrap();
        let (first, length) = Frame::decode(&bytes).unwrap();
        assert_eq!((first, Frame::decode(&bytes[length..]).unwrap().0), (frame(4), frame(9)));
    }

    #[test]
    fn what_finds_no_room_is_said_to_be_lost() {
        let folder = tempfile::tempdir().unwrap();
        let quarantine = Quarantine::at(folder.path());
        let path = quarantine.keep_bytes(b"x").unwrap().unwrap();
        // A sparse file as large as may be.
        OpenOptions::new().write(true).open(&path).unwrap().set_len(MOST).unwrap();
        assert_eq!(quarantine.keep_bytes(b"y").unwrap(), None);
    }
}
