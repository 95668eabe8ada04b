//! The messages of one connection that leave next, between the thread that makes them and the session that sends them. Nothing here
//! touches the disk.

use super::{Job, store::Position};
use havrel_core::{publish::Message, time::Nanos};
use havrel_link::{LinkError, Outgoing, now};
use std::{
    collections::{HashMap, VecDeque},
    sync::{Mutex, MutexGuard, PoisonError, mpsc::Sender},
    time::{Duration, Instant},
};
use tokio::sync::Notify;
use uuid::Uuid;

/// Messages that are held in memory, and when it is time to fetch more.
pub(super) const MOST_READY: usize = 2000;
const FEW: usize = 500;
/// A session that ended so soon after its beginning may have ended because of the message it sent.
const SOON: Duration = Duration::from_secs(10);
/// After so many such sessions a message is sent alone; after so many it is given up.
const ALONE: u32 = 3;
const GIVEN_UP: u32 = 8;

/// What is known of the messages of a publication.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Told {
    /// Messages that left since the program started.
    pub sent: u64,
    /// When the last one did; 0 while none has.
    pub last: Nanos,
    /// Messages that the broker refused.
    pub refused: u64,
    /// What it said to the last one.
    pub words: String,
}

/// How the queue of a connection stands.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OutboxState {
    /// Messages that wait, and the time of the oldest; 0 while none waits.
    pub waiting: u64,
    pub oldest: Nanos,
    /// Bytes on disk, and how many there may be.
    pub bytes: u64,
    pub room: u64,
    /// Messages thrown away because the queue was full, since the program started.
    pub lost: u64,
    /// What the disk says when it refuses; empty while all is well.
    pub trouble: String,
}

struct Entry {
    message: Message,
    end: Position,
    done: bool,
}

#[derive(Default)]
struct Queue {
    /// Since when a session is open.
    open: Option<Instant>,
    entries: VecDeque<Entry>,
    /// The number of the first entry.
    first: u64,
    /// How many of the entries were given in this session.
    given: usize,
    /// Until where everything has left.
    sent: Position,
    /// There is more on disk.
    more: bool,
    /// More was asked for.
    asked: bool,
    /// Sessions that ended soon while the first entry was under way.
    losses: u32,
    told: HashMap<Uuid, Told>,
    state: OutboxState,
}

impl Queue {
    /// Lets go of what is done at the front.
    fn settle(&mut self) {
        while self.entries.front().is_some_and(|entry| entry.done) {
            let Some(entry) = self.entries.pop_front() else { return };
            self.sent = self.sent.max(entry.end);
            self.first += 1;
            self.given = self.given.saturating_sub(1);
            self.losses = 0;
        }
        self.state.oldest = self.entries.front().map_or(0, |entry| entry.message.made);
    }

    fn finish(&mut self, index: usize, answer: Result<(), String>) {
        let Some(entry) = self.entries.get_mut(index).filter(|entry| !entry.done) else { return };
        entry.done = true;
        let told = self.told.entry(entry.message.publication).or_default();
        match answer {
            Ok(()) => (told.sent, told.last) = (told.sent + 1, now()),
            Err(words) => (told.refused, told.words) = (told.refused + 1, format!("{}: {words}", entry.message.topic)),
        }
        self.state.waiting = self.state.waiting.saturating_sub(1);
        self.settle();
    }
}

/// The queue of one connection.
pub struct Outbox {
    connection: Uuid,
    queue: Mutex<Queue>,
    bell: Notify,
    /// Where the thread is asked for more.
    jobs: Sender<Job>,
}

impl Outbox {
    pub(super) fn new(connection: Uuid, jobs: Sender<Job>) -> Outbox {
        Outbox { connection, queue: Mutex::default(), bell: Notify::new(), jobs }
    }

    fn queue(&self) -> MutexGuard<'_, Queue> {
        self.queue.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn ask(&self, job: Job) {
        // The thread has ended only when the program stops.
        let _ = self.jobs.send(job);
    }

    /// How it stands.
    pub fn state(&self) -> OutboxState {
        self.queue().state.clone()
    }

    /// What is known of the messages of a publication.
    pub fn told(&self, publication: Uuid) -> Told {
        self.queue().told.get(&publication).cloned().unwrap_or_default()
    }

    /// A session is open.
    pub(super) fn is_open(&self) -> bool {
        self.queue().open.is_some()
    }

    /// How many more it takes.
    pub(super) fn room(&self) -> usize {
        MOST_READY.saturating_sub(self.queue().entries.len())
    }

    /// Until where everything has left.
    pub(super) fn sent(&self) -> Position {
        self.queue().sent
    }

    /// Begins anew, with nothing in memory.
    pub(super) fn begin(&self) {
        let mut queue = self.queue();
        queue.first += queue.entries.len() as u64;
        queue.entries.clear();
        (queue.given, queue.sent, queue.state.waiting) = (0, Position::default(), 0);
        (queue.more, queue.asked, queue.losses) = (false, false, 0);
    }

    /// Takes in messages: new ones, or such that were read from disk. `more`: others wait there.
    pub(super) fn put(&self, messages: impl IntoIterator<Item = (Message, Position)>, new: bool, more: bool) {
        let mut queue = self.queue();
        let before = queue.entries.len();
        queue.entries.extend(messages.into_iter().map(|(message, end)| Entry { message, end, done: false }));
        if new {
            queue.state.waiting += (queue.entries.len() - before) as u64;
        }
        (queue.more, queue.asked) = (more, false);
        queue.settle();
        drop(queue);
        self.bell.notify_one();
    }

    /// New messages wait on disk.
    pub(super) fn wait(&self, count: u64) {
        let mut queue = self.queue();
        queue.state.waiting += count;
        queue.more |= count > 0;
    }

    /// So many messages are lost; nothing before this place is there any more.
    pub(super) fn lose(&self, count: u64, until: Position) {
        let mut queue = self.queue();
        while queue.entries.front().is_some_and(|entry| entry.end < until) {
            queue.entries.pop_front();
            queue.first += 1;
            queue.given = queue.given.saturating_sub(1);
        }
        queue.state.lost += count;
        queue.state.waiting = queue.state.waiting.saturating_sub(count);
        queue.sent = queue.sent.max(until);
        queue.settle();
    }

    /// Messages that could neither be stored nor held.
    pub(super) fn gone(&self, count: u64) {
        self.queue().state.lost += count;
    }

    /// What the disk holds and says.
    pub(super) fn disk(&self, bytes: u64, room: u64, trouble: Option<String>) {
        let mut queue = self.queue();
        (queue.state.bytes, queue.state.room) = (bytes, room);
        if let Some(trouble) = trouble {
            queue.state.trouble = trouble;
        }
    }

    /// Keeps only what is known of these publications.
    pub(super) fn keep(&self, publications: &[Uuid]) {
        self.queue().told.retain(|id, _| publications.contains(id));
    }
}

impl Outgoing for Outbox {
    fn open(&self) {
        let mut queue = self.queue();
        (queue.open, queue.given) = (Some(Instant::now()), 0);
        drop(queue);
        self.ask(Job::Opened(self.connection));
        self.bell.notify_one();
    }

    fn closed(&self, broke: bool) {
        let mut queue = self.queue();
        let soon = queue.open.take().is_some_and(|since| since.elapsed() < SOON);
        if broke && soon && queue.given > 0 && !queue.entries.is_empty() {
            queue.losses += 1;
            if queue.losses >= GIVEN_UP {
                queue.finish(0, Err("the connection broke each time that this message was sent".into()));
            }
        }
        queue.given = 0;
    }

    fn next(&self, most: usize) -> Vec<(u64, Message)> {
        let mut queue = self.queue();
        let most = if queue.losses < ALONE { most } else { 1_usize.saturating_sub(queue.given) };
        let mut found = Vec::new();
        while found.len() < most && queue.given < queue.entries.len() {
            let index = queue.given;
            queue.given += 1;
            let entry = &queue.entries[index];
            if !entry.done {
                found.push((queue.first + index as u64, entry.message.clone()));
            }
        }
        let short = queue.entries.len() - queue.given < FEW && queue.more && !queue.asked;
        queue.asked |= short;
        drop(queue);
        if short {
            self.ask(Job::Room(self.connection));
        }
        found
    }

    fn done(&self, number: u64, answer: Result<(), LinkError>) {
        let mut queue = self.queue();
        // One that was lost meanwhile has a smaller number.
        let Some(index) = number.checked_sub(queue.first).and_then(|index| usize::try_from(index).ok()) else { return };
        queue.finish(index, answer.map_err(|error| error.to_string()));
        let alone = queue.losses >= ALONE || queue.given == 0;
        drop(queue);
        if alone {
            self.bell.notify_one();
        }
    }

    fn bell(&self) -> &Notify {
        &self.bell
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::mpsc;

    fn filled(count: u64) -> (Outbox, mpsc::Receiver<Job>) {
        let (jobs, asked) = mpsc::channel();
        let outbox = Outbox::new(Uuid::nil(), jobs);
        let message = |n: u64| Message {
            publication: Uuid::from_u128(5),
            made: i64::try_from(n).unwrap(),
            topic: format!("t/{n}"),
            payload: vec![1],
            qos: 1,
            retain: false,
        };
        outbox.put((1..=count).map(|n| (message(n), Position { segment: 1, offset: n })), true, false);
        (outbox, asked)
    }

    fn numbers(given: &[(u64, Message)]) -> Vec<u64> {
        given.iter().map(|(number, _)| *number).collect()
    }

    #[test]
    fn what_is_not_done_is_given_again_and_what_is_done_is_not() {
        let (outbox, _asked) = filled(4);
        outbox.open();
        let given = outbox.next(3);
        assert_eq!(numbers(&given), [0, 1, 2]);
        outbox.done(1, Ok(()));
        assert_eq!((outbox.sent(), outbox.state().waiting), (Position::default(), 3), "the first is still under way");
        outbox.closed(true);
        outbox.open();
        assert_eq!(numbers(&outbox.next(10)), [0, 2, 3]);
        outbox.done(0, Ok(()));
        assert_eq!(outbox.sent(), Position { segment: 1, offset: 2 });
        outbox.done(2, Err(LinkError::NotAllowed("publish on this topic")));
        outbox.done(3, Ok(()));
        outbox.done(3, Ok(()));
        let told = outbox.told(Uuid::from_u128(5));
        assert_eq!((told.sent, told.refused, outbox.state().waiting, outbox.state().oldest), (3, 1, 0, 0));
        assert!(told.words.starts_with("t/3: "), "{}", told.words);
    }

    #[test]
    fn a_message_that_breaks_every_session_is_sent_alone_and_then_given_up() {
        let (outbox, _asked) = filled(3);
        for round in 0..GIVEN_UP {
            outbox.open();
            assert_eq!(outbox.next(10).len(), if round < ALONE { 3 } else { 1 }, "{round}");
            assert!(outbox.next(10).is_empty());
            outbox.closed(true);
        }
        assert_eq!((outbox.told(Uuid::from_u128(5)).refused, outbox.state().waiting), (1, 2));
        outbox.open();
        assert_eq!(numbers(&outbox.next(10)), [1, 2], "the others go on together");
    }

    #[test]
    fn a_session_that_is_ended_here_is_no_fault_of_its_message() {
        let (outbox, _asked) = filled(1);
        for _ in 0..20 {
            outbox.open();
            assert_eq!(outbox.next(10).len(), 1);
            outbox.closed(false);
        }
        assert_eq!(outbox.told(Uuid::from_u128(5)).refused, 0);
    }

    #[test]
    fn what_was_thrown_away_is_not_given_and_may_be_done_late() {
        let (outbox, _asked) = filled(4);
        outbox.open();
        outbox.next(2);
        outbox.lose(2, Position { segment: 1, offset: 3 });
        outbox.done(0, Ok(()));
        assert_eq!((outbox.state().waiting, outbox.state().lost), (2, 2));
        assert_eq!(numbers(&outbox.next(10)), [2, 3]);
    }

    #[test]
    fn more_is_asked_for_once_when_little_is_left() {
        let (outbox, asked) = filled(3);
        outbox.wait(1000);
        outbox.next(1);
        outbox.next(1);
        assert_eq!(asked.try_iter().filter(|job| matches!(job, Job::Room(_))).count(), 1);
    }
}
