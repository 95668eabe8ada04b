//! The messages of one connection that wait to leave, on disk.
//!
//! ```text
//! folder  = sent segment{…}          a segment is named by its number: 00000000000000000007.messages
//! segment = message{…}               as core::publish writes them; a torn one may stand at the end
//! sent    = number " " offset        until where everything has left
//! ```

use havrel_core::publish::Message;
use std::{
    collections::VecDeque,
    fs::{self, File},
    io::{self, Read, Seek, SeekFrom, Write},
    path::{Path, PathBuf},
};

/// A segment is closed beyond so many bytes.
const SEGMENT: u64 = 4 << 20;
/// A segment whose messages have all left goes on being written up to this size.
const REUSED: u64 = 256 << 10;
/// Read at once; more where one message is larger.
const CHUNK: u64 = 256 << 10;

/// A place in the queue: segment, and bytes from its beginning.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Position {
    pub segment: u64,
    pub offset: u64,
}

/// The files of one queue.
#[derive(Debug)]
pub(super) struct Store {
    folder: PathBuf,
    /// Closed ones and the one that is written, oldest first, each with its bytes.
    segments: VecDeque<(u64, u64)>,
    file: Option<File>,
    /// Where is read next.
    read: Position,
    /// What was said on disk to have left.
    sent: Position,
    most: u64,
    unsynced: bool,
}

/// What was thrown away.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Dropped {
    pub messages: u64,
    /// Nothing before this is there any more.
    pub until: Position,
}

impl Store {
    /// Opens a queue that holds at most so many bytes, and counts what waits in it.
    pub fn open(folder: &Path, most: u64) -> io::Result<(Store, u64)> {
        fs::create_dir_all(folder)?;
        let mut segments = Vec::new();
        for entry in fs::read_dir(folder)? {
            let entry = entry?;
            let name = entry.file_name();
            let number = name.to_str().and_then(|n| n.strip_suffix(".messages")).and_then(|n| n.parse::<u64>().ok());
            if let Some(number) = number {
                segments.push((number, entry.metadata()?.len()));
            }
        }
        segments.sort_unstable();
        // Without it everything is sent once more.
        let told = fs::read_to_string(folder.join("sent")).unwrap_or_default();
        let mut words = told.split_whitespace().map(str::parse::<u64>);
        let sent = match (words.next(), words.next()) {
            (Some(Ok(segment)), Some(Ok(offset))) => Position { segment, offset },
            _ => Position::default(),
        };
        let first = segments.first().map_or(sent.segment + 1, |s| s.0);
        let read = sent.max(Position { segment: first, offset: 0 });
        let mut store =
            Store { folder: folder.to_owned(), segments: segments.into(), file: None, read, sent, most, unsynced: false };
        let mut waiting = 0;
        while let Some(some) = Some(store.load(1000)?).filter(|some| !some.is_empty()) {
            waiting += some.len() as u64;
        }
        store.read = read;
        Ok((store, waiting))
    }

    fn path(&self, segment: u64) -> PathBuf {
        self.folder.join(format!("{segment:020}.messages"))
    }

    /// All of it has been read.
    pub fn is_read(&self) -> bool {
        self.read >= self.end()
    }

    /// Behind the last message.
    pub fn end(&self) -> Position {
        self.segments.back().map_or(self.read, |&(segment, offset)| Position { segment, offset })
    }

    /// Bytes on disk.
    pub fn bytes(&self) -> u64 {
        self.segments.iter().map(|s| s.1).sum()
    }

    /// Appends messages and gives the place behind each.
    pub fn append(&mut self, messages: &[Message]) -> io::Result<Vec<Position>> {
        let mut ends = Vec::with_capacity(messages.len());
        let mut bytes = Vec::new();
        for some in messages.chunks(1000) {
            if self.file.is_none() || self.segments.back().is_none_or(|s| s.1 >= SEGMENT) {
                self.begin()?;
            }
            let (Some(file), Some((number, length))) = (&mut self.file, self.segments.back_mut()) else {
                return Err(io::Error::other("there is no segment to write to"));
            };
            bytes.clear();
            let first = ends.len();
            for message in some {
                message.encode(&mut bytes);
                ends.push(Position { segment: *number, offset: *length + bytes.len() as u64 });
            }
            if let Err(error) = file.write_all(&bytes) {
                // A part of them may be there: nothing is written behind it, and reading ends before it.
                self.file = None;
                ends.truncate(first);
                return Err(error);
            }
            *length += bytes.len() as u64;
            self.unsynced = true;
        }
        Ok(ends)
    }

    /// Begins a segment.
    fn begin(&mut self) -> io::Result<()> {
        self.sync()?;
        let number = self.segments.back().map_or(self.read.segment, |s| s.0) + 1;
        self.file = Some(File::create(self.path(number))?);
        self.segments.push_back((number, 0));
        Ok(())
    }

    /// Sees to it that all is on disk.
    pub fn sync(&mut self) -> io::Result<()> {
        if let Some(file) = self.file.as_ref().filter(|_| self.unsynced) {
            file.sync_data()?;
        }
        self.unsynced = false;
        Ok(())
    }

    /// What was appended last counts as read.
    pub fn skip(&mut self) {
        self.read = self.end();
    }

    /// The next messages, at most so many, each with the place behind it. Bytes that are no message end a segment.
    pub fn load(&mut self, most: usize) -> io::Result<Vec<(Message, Position)>> {
        let mut found = Vec::new();
        let mut room = CHUNK;
        while found.len() < most && !self.is_read() {
            let length = self.segments.iter().find(|s| s.0 == self.read.segment).map_or(0, |s| s.1);
            let mut bytes = Vec::new();
            if self.read.offset < length {
                let mut file = File::open(self.path(self.read.segment))?;
                file.seek(SeekFrom::Start(self.read.offset))?;
                file.take(room.min(length - self.read.offset)).read_to_end(&mut bytes)?;
            }
            let mut at = 0;
            while found.len() < most
                && let Some((message, size)) = Message::decode(&bytes[at..])
            {
                at += size;
                self.read.offset += size as u64;
                found.push((message, self.read));
            }
            if at > 0 {
                continue;
            }
            if (bytes.len() as u64) == room && room <= 8 * CHUNK {
                // The next may be larger than what was read.
                room *= 2;
                continue;
            }
            room = CHUNK;
            let Some(next) = self.segments.iter().map(|s| s.0).find(|&n| n > self.read.segment) else {
                self.read = self.end();
                break;
            };
            self.read = Position { segment: next, offset: 0 };
        }
        Ok(found)
    }

    /// Everything before this place has left: what of it is on disk goes.
    pub fn left(&mut self, sent: Position) -> io::Result<()> {
        if sent <= self.sent {
            return Ok(());
        }
        let all = sent >= self.end();
        while let Some(&(number, length)) = self.segments.front()
            && (number < sent.segment || (all && length > REUSED))
        {
            if all && number == sent.segment {
                self.file = None;
            }
            fs::remove_file(self.path(number))?;
            self.segments.pop_front();
        }
        let beside = self.folder.join("sent.new");
        fs::write(&beside, format!("{} {}\n", sent.segment, sent.offset))?;
        fs::rename(&beside, self.folder.join("sent"))?;
        self.sent = sent;
        self.read = self.read.max(sent);
        Ok(())
    }

    /// Throws the oldest segments away until there is room; the one that is written stays.
    pub fn make_room(&mut self, sent: Position) -> io::Result<Option<Dropped>> {
        let mut dropped = None::<Dropped>;
        while self.bytes() > self.most && self.segments.len() > 1 {
            let Some((number, _)) = self.segments.pop_front() else { break };
            let bytes = fs::read(self.path(number))?;
            let mut at = if sent.segment == number { usize::try_from(sent.offset).unwrap_or(usize::MAX) } else { 0 };
            let told = dropped.get_or_insert_default();
            while let Some((_, size)) = bytes.get(at..).and_then(Message::decode) {
                told.messages += u64::from(sent.segment <= number);
                at += size;
            }
            let next = self.segments.front().map_or(number + 1, |s| s.0);
            told.until = Position { segment: next, offset: 0 };
            fs::remove_file(self.path(number))?;
            self.read = self.read.max(told.until);
        }
        Ok(dropped)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use uuid::Uuid;

    fn message(n: usize, size: usize) -> Message {
        Message { publication: Uuid::nil(), made: 1, topic: format!("t/{n}"), payload: vec![7; size], qos: 1, retain: false }
    }

    fn topics(found: &[(Message, Position)]) -> Vec<String> {
        found.iter().map(|(m, _)| m.topic.clone()).collect()
    }

    #[test]
    fn what_did_not_leave_is_there_after_a_restart() {
        let folder = tempfile::tempdir().unwrap();
        let (mut store, waiting) = Store::open(folder.path(), 1 << 30).unwrap();
        assert_eq!(waiting, 0);
        let ends = store.append(&(0..5).map(|n| message(n, 10)).collect::<Vec<_>>()).unwrap();
        store.left(ends[1]).unwrap();
        let (mut store, waiting) = Store::open(folder.path(), 1 << 30).unwrap();
        assert_eq!(waiting, 3);
        // New ones come behind the old ones, in another segment.
        store.append(&[message(5, 10)]).unwrap();
        let found = store.load(10).unwrap();
        assert_eq!(topics(&found), ["t/2", "t/3", "t/4", "t/5"]);
        assert!(store.is_read());
        store.left(found[3].1).unwrap();
        assert_eq!(Store::open(folder.path(), 1 << 30).unwrap().1, 0);
    }

    #[test]
    fn a_torn_end_and_damage_lose_no_more_than_their_segment() {
        let folder = tempfile::tempdir().unwrap();
        let (mut store, _) = Store::open(folder.path(), 1 << 30).unwrap();
        store.append(&[message(0, 10), message(1, 10)]).unwrap();
        let path = store.path(store.end().segment);
        let bytes = fs::read(&path).unwrap();
        fs::write(&path, &bytes[..bytes.len() - 3]).unwrap();
        let (mut store, waiting) = Store::open(folder.path(), 1 << 30).unwrap();
        assert_eq!(waiting, 1);
        store.append(&[message(2, 10)]).unwrap();
        assert_eq!(topics(&store.load(10).unwrap()), ["t/0", "t/2"]);
        let nonsense = vec![0x55; 5000];
        fs::write(&path, nonsense).unwrap();
        assert_eq!(Store::open(folder.path(), 1 << 30).unwrap().1, 1);
    }

    #[test]
    fn a_queue_that_is_full_loses_its_oldest_and_counts_them() {
        let folder = tempfile::tempdir().unwrap();
        let (mut store, _) = Store::open(folder.path(), 9 << 20).unwrap();
        for n in 0..15 {
            store.append(&[message(n, 1 << 20)]).unwrap();
        }
        let sent = Position { segment: 1, offset: 1 };
        let dropped = store.make_room(sent).unwrap().unwrap();
        assert!(store.bytes() <= 9 << 20);
        let left = store.load(100).unwrap();
        assert_eq!(left.last().unwrap().0.topic, "t/14");
        assert!(dropped.messages > 0 && dropped.messages as usize + left.len() <= 15);
        assert_eq!(store.make_room(sent).unwrap(), None);
    }

    #[test]
    fn a_large_message_is_read_and_what_has_left_takes_no_room() {
        let folder = tempfile::tempdir().unwrap();
        let (mut store, _) = Store::open(folder.path(), 1 << 30).unwrap();
        store.append(&[message(0, 1 << 20), message(1, 5)]).unwrap();
        let found = store.load(10).unwrap();
        assert_eq!(topics(&found), ["t/0", "t/1"]);
        store.left(found[1].1).unwrap();
        assert_eq!(store.bytes(), 0);
        store.append(&[message(2, 5)]).unwrap();
        assert_eq!(topics(&store.load(10).unwrap()), ["t/2"]);
    }
}
