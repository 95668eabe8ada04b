//! Publishing: a thread of its own takes the newest values, lets `core::publish` decide what leaves, and keeps the messages of each
//! connection on disk (`store`) until its session has sent them (`outbox`). The engine never waits for it.

mod outbox;
mod store;

pub use outbox::{Outbox, OutboxState, Told};

use crate::{Live, LiveError, now};
use arc_swap::ArcSwap;
use havrel_core::{
    TagNo,
    engine::Current,
    plant::Plant,
    publish::{Message, Publisher, Summary},
};
use havrel_link::{Command, LinkError, kind};
use outbox::MOST_READY;
use std::{
    collections::{HashMap, HashSet},
    io,
    panic::{AssertUnwindSafe, catch_unwind, resume_unwind},
    path::{Path, PathBuf},
    sync::{
        Arc, Mutex, PoisonError, Weak,
        atomic::{AtomicBool, AtomicUsize, Ordering},
        mpsc::{self, RecvTimeoutError},
    },
    time::{Duration, Instant},
};
use store::{Position, Store};
use tokio::{runtime::Handle, sync::oneshot};
use uuid::Uuid;

/// Values that wait for the thread; beyond it only the newest are taken.
const MOST_WAITING: usize = 200_000;
/// Bytes that wait on disk for one connection.
const ROOM: u64 = 256 << 20;
/// How often the thread looks after the disk, and whether it is still wanted.
const LOOK: Duration = Duration::from_secs(1);
const SHORT: Duration = Duration::from_millis(200);
/// At most so often it is written down that messages were lost.
const TELL: Duration = Duration::from_secs(60);

/// Something for the thread to do.
pub(crate) enum Job {
    Values(Vec<(TagNo, Current)>),
    Plan(Arc<Plant>),
    /// A session of this connection is open.
    Opened(Uuid),
    /// Its queue takes more.
    Room(Uuid),
    Stop(oneshot::Sender<()>),
}

/// Where the thread is reached.
pub(crate) struct Publishing {
    jobs: mpsc::Sender<Job>,
    wanted: ArcSwap<HashSet<TagNo>>,
    waiting: AtomicUsize,
    /// Values found no room: the newest of all are to be taken.
    missed: AtomicBool,
    boxes: Mutex<HashMap<Uuid, Arc<Outbox>>>,
    summaries: Mutex<HashMap<Uuid, Summary>>,
    folder: PathBuf,
}

/// Where its jobs come out.
pub(crate) type Inbox = Arc<Mutex<mpsc::Receiver<Job>>>;

impl Publishing {
    /// With its queues in a folder.
    pub fn at(data: &Path) -> (Publishing, Inbox) {
        let (jobs, inbox) = mpsc::channel();
        let publishing = Publishing {
            jobs,
            wanted: ArcSwap::default(),
            waiting: AtomicUsize::new(0),
            missed: AtomicBool::new(false),
            boxes: Mutex::default(),
            summaries: Mutex::default(),
            folder: data.join("outbox"),
        };
        (publishing, Arc::new(Mutex::new(inbox)))
    }

    fn give(&self, job: Job) {
        // The thread has ended only when the program stops.
        let _ = self.jobs.send(job);
    }

    /// The queue of a connection.
    pub fn outbox(&self, connection: Uuid) -> Arc<Outbox> {
        let mut boxes = self.boxes.lock().unwrap_or_else(PoisonError::into_inner);
        boxes.entry(connection).or_insert_with(|| Arc::new(Outbox::new(connection, self.jobs.clone()))).clone()
    }

    /// Takes a revision into use.
    pub fn follow(&self, plant: Arc<Plant>) {
        self.give(Job::Plan(plant));
    }

    /// Takes in what changed; nothing else of it is looked at than what is published.
    pub fn take<'a>(&self, changed: impl Iterator<Item = (TagNo, &'a Current)>) {
        let wanted = self.wanted.load();
        if wanted.is_empty() {
            return;
        }
        let values: Vec<_> = changed.filter(|(tag, _)| wanted.contains(tag)).map(|(tag, c)| (tag, c.clone())).collect();
        if values.is_empty() {
            return;
        }
        if self.waiting.load(Ordering::Relaxed) + values.len() > MOST_WAITING {
            self.missed.store(true, Ordering::Relaxed);
            return;
        }
        self.waiting.fetch_add(values.len(), Ordering::Relaxed);
        self.give(Job::Values(values));
    }

    /// Ends the thread once what has left is written down.
    pub async fn stop(&self) {
        let (done, ended) = oneshot::channel();
        self.give(Job::Stop(done));
        // A thread that failed meanwhile ends without an answer.
        let _ = tokio::time::timeout(Duration::from_secs(5), ended).await;
    }
}

impl Live {
    /// How the queue of a connection stands.
    pub fn outbox(&self, connection: Uuid) -> OutboxState {
        self.publishing.outbox(connection).state()
    }

    /// What a publication comes to, where it is switched on, and what is known of its messages.
    pub fn published(&self, connection: Uuid, publication: Uuid) -> (Option<Summary>, Told) {
        let summaries = self.publishing.summaries.lock().unwrap_or_else(PoisonError::into_inner);
        (summaries.get(&publication).cloned(), self.publishing.outbox(connection).told(publication))
    }

    /// Sends a message by hand and answers once the other side has it.
    ///
    /// # Errors
    /// When the connection does not run, or the other side refuses it.
    pub async fn publish(&self, connection: Uuid, message: Message) -> Result<(), LiveError> {
        let (reply, answer) = oneshot::channel();
        self.command(connection, Command::Publish { message, reply }).await?;
        Ok(answer.await.map_err(|_| LinkError::SwitchedOff)??)
    }
}

/// Runs the thread until the program stops.
pub(crate) async fn run(live: Arc<Live>, inbox: Inbox) {
    let (weak, plant, handle) = (Arc::downgrade(&live), live.plant(), Handle::current());
    drop(live);
    let (done, ended) = oneshot::channel();
    // Not of the runtime's own threads, which would wait for this one when it ends.
    let thread = std::thread::Builder::new().name("publishing".into()).spawn(move || {
        let work = AssertUnwindSafe(|| {
            let inbox = inbox.lock().unwrap_or_else(PoisonError::into_inner);
            let mut thread = Thread { live: weak, handle, lanes: HashMap::new() };
            thread.plan(&plant);
            thread.run(&inbox);
        });
        // Nobody listens any more while the program stops.
        let _ = done.send(catch_unwind(work));
    });
    if let Err(error) = thread {
        panic!("its thread could not be started: {error}");
    }
    if let Ok(Err(panic)) = ended.await {
        resume_unwind(panic);
    }
}

/// What leaves through one connection.
struct Lane {
    publisher: Publisher,
    outbox: Arc<Outbox>,
    folder: PathBuf,
    /// None while its folder cannot be opened.
    store: Option<Store>,
    /// Lost messages that are not written down yet, and when some were last.
    lost: u64,
    told: Option<Instant>,
}

struct Thread {
    live: Weak<Live>,
    handle: Handle,
    lanes: HashMap<Uuid, Lane>,
}

impl Thread {
    fn run(&mut self, inbox: &mpsc::Receiver<Job>) {
        let mut looked = Instant::now();
        loop {
            let due = self.lanes.values().filter_map(|lane| lane.publisher.next()).min();
            let wait = due.map_or(SHORT, |due| Duration::from_nanos(u64::try_from(due - now()).unwrap_or(0)).min(SHORT));
            let mut next = match inbox.recv_timeout(wait) {
                Ok(job) => Some(job),
                Err(RecvTimeoutError::Timeout) => None,
                Err(RecvTimeoutError::Disconnected) => return,
            };
            let mut made: HashMap<Uuid, Vec<Message>> = HashMap::new();
            let began = Instant::now();
            while let Some(job) = next {
                match job {
                    Job::Values(values) => self.values(values, &mut made),
                    Job::Plan(plant) => self.plan(&plant),
                    Job::Opened(connection) => {
                        if let Some(lane) = self.lanes.get_mut(&connection) {
                            lane.publisher.back(now(), made.entry(connection).or_default());
                        }
                    }
                    Job::Room(connection) => {
                        self.store(&mut made);
                        if let Some(lane) = self.lanes.get_mut(&connection) {
                            lane.refill();
                        }
                    }
                    Job::Stop(done) => {
                        self.store(&mut made);
                        self.lanes.values_mut().for_each(Lane::look);
                        // Whoever stops the program may have given up waiting.
                        let _ = done.send(());
                        return;
                    }
                }
                next = if began.elapsed() < SHORT { inbox.try_recv().ok() } else { None };
            }
            let Some(live) = self.live.upgrade() else { return };
            if live.publishing.missed.swap(false, Ordering::Relaxed) {
                self.newest(&live, &mut made);
            }
            let at = now();
            for (connection, lane) in &mut self.lanes {
                lane.publisher.tick(at, made.entry(*connection).or_default());
            }
            self.store(&mut made);
            if looked.elapsed() >= LOOK {
                looked = Instant::now();
                self.lanes.values_mut().for_each(Lane::look);
                self.tell(&live);
                self.summaries(&live);
            }
        }
    }

    fn values(&mut self, values: Vec<(TagNo, Current)>, made: &mut HashMap<Uuid, Vec<Message>>) {
        if let Some(live) = self.live.upgrade() {
            live.publishing.waiting.fetch_sub(values.len(), Ordering::Relaxed);
        }
        let at = now();
        for (connection, lane) in &mut self.lanes {
            let out = made.entry(*connection).or_default();
            values.iter().for_each(|(tag, current)| lane.publisher.take(*tag, current, at, out));
        }
    }

    /// Takes in the newest of every tag that is published.
    fn newest(&mut self, live: &Live, made: &mut HashMap<Uuid, Vec<Message>>) {
        let at = now();
        for (connection, lane) in &mut self.lanes {
            let tags: Vec<TagNo> = lane.publisher.tags().collect();
            let out = made.entry(*connection).or_default();
            for some in tags.chunks(1000) {
                // Not held for long, as the engine waits for it.
                let currents: Vec<_> = {
                    let values = live.values.read().unwrap_or_else(PoisonError::into_inner);
                    some.iter().filter_map(|&tag| Some((tag, values.of(tag)?.current.clone()))).collect()
                };
                currents.iter().for_each(|(tag, current)| lane.publisher.take(*tag, current, at, out));
            }
        }
    }

    fn plan(&mut self, plant: &Arc<Plant>) {
        let Some(live) = self.live.upgrade() else { return };
        let at = now();
        let sends = |name: &str| kind(name).is_some_and(|kind| kind.describe().can.publishes);
        self.lanes.retain(|id, lane| {
            let stays = plant.connections.contains_key(id);
            if !stays {
                lane.store = None;
                let folder = live.publishing.folder.join(id.to_string());
                if let Err(error) = std::fs::remove_dir_all(&folder) {
                    tracing::warn!(%error, folder = %folder.display(), "a queue that nobody needs any more could not be removed");
                }
                live.publishing.boxes.lock().unwrap_or_else(PoisonError::into_inner).remove(id);
            }
            stays
        });
        let mut wanted = HashSet::new();
        for item in plant.connections.values().filter(|item| sends(&item.set.kind)) {
            let next = Publisher::of(plant, item.id, at);
            let folder = live.publishing.folder.join(item.id.to_string());
            if next.is_empty() && !self.lanes.contains_key(&item.id) && !folder.exists() {
                continue;
            }
            let lane = self.lanes.entry(item.id).or_insert_with(|| Lane::at(folder, live.publishing.outbox(item.id)));
            lane.publisher = next.after(&mut lane.publisher);
            lane.outbox.keep(&lane.publisher.summaries().map(|(id, _)| id).chain([Uuid::nil()]).collect::<Vec<_>>());
            wanted.extend(lane.publisher.tags());
        }
        live.publishing.wanted.store(Arc::new(wanted));
        // What changed while nobody looked at these tags counts now.
        live.publishing.missed.store(true, Ordering::Relaxed);
        self.summaries(&live);
    }

    fn summaries(&self, live: &Live) {
        let all = self.lanes.values().flat_map(|lane| lane.publisher.summaries());
        let all = all.map(|(id, summary)| (id, summary.clone())).collect();
        *live.publishing.summaries.lock().unwrap_or_else(PoisonError::into_inner) = all;
    }

    fn store(&mut self, made: &mut HashMap<Uuid, Vec<Message>>) {
        for (connection, messages) in made.drain() {
            if let Some(lane) = self.lanes.get_mut(&connection).filter(|_| !messages.is_empty()) {
                lane.send(messages);
            }
        }
    }

    /// Writes down that messages were lost.
    fn tell(&mut self, live: &Arc<Live>) {
        for (connection, lane) in &mut self.lanes {
            if lane.lost == 0 || lane.told.is_some_and(|at| at.elapsed() < TELL) {
                continue;
            }
            let count = std::mem::take(&mut lane.lost);
            lane.told = Some(Instant::now());
            let name = live.plant().connections.get(connection).map(|c| c.set.name.clone()).unwrap_or_default();
            let title = format!("{count} messages to {name} were lost: their queue was full");
            let (live, connection) = (live.clone(), *connection);
            self.handle.spawn(async move {
                let detail = serde_json::json!({"messages": count});
                live.remark("system", None, Some(connection), &title, detail).await;
            });
        }
    }
}

impl Lane {
    fn at(folder: PathBuf, outbox: Arc<Outbox>) -> Lane {
        outbox.begin();
        let mut lane = Lane { publisher: Publisher::default(), outbox, folder, store: None, lost: 0, told: None };
        lane.open();
        lane
    }

    /// Opens its queue on disk; what waits there goes behind what is held in memory.
    fn open(&mut self) {
        match Store::open(&self.folder, ROOM) {
            Ok((store, waiting)) => {
                self.outbox.wait(waiting);
                self.outbox.disk(store.bytes(), ROOM, Some(String::new()));
                self.store = Some(store);
                self.refill();
            }
            Err(error) => self.trouble(&error),
        }
    }

    fn trouble(&mut self, error: &io::Error) {
        tracing::warn!(%error, "messages that wait to leave cannot be stored");
        let bytes = self.store.as_ref().map_or(0, Store::bytes);
        self.outbox.disk(bytes, ROOM, Some(error.to_string()));
    }

    /// Puts new messages behind those that wait.
    fn send(&mut self, mut messages: Vec<Message>) {
        if !self.outbox.is_open() {
            let publisher = &self.publisher;
            let mut keeps: HashMap<Uuid, bool> = HashMap::new();
            messages.retain(|m| *keeps.entry(m.publication).or_insert_with(|| publisher.keeps(m.publication)));
        }
        if messages.is_empty() {
            return;
        }
        let count = messages.len() as u64;
        let straight = self.store.as_ref().is_none_or(Store::is_read) && self.outbox.room() >= messages.len();
        let ends = match self.store.as_mut().map(|store| store.append(&messages)) {
            Some(Ok(ends)) => ends,
            other => {
                if let Some(Err(error)) = other {
                    self.trouble(&error);
                }
                let end = self.store.as_ref().map_or_else(Position::default, Store::end);
                if !straight {
                    self.outbox.gone(count);
                    self.lost += count;
                    return;
                }
                // They are sent from memory.
                vec![end; messages.len()]
            }
        };
        if straight {
            if let Some(store) = &mut self.store {
                store.skip();
            }
            self.outbox.put(messages.into_iter().zip(ends), true, false);
        } else {
            self.outbox.wait(count);
        }
    }

    /// Fetches from disk what there is room for.
    fn refill(&mut self) {
        let Some(store) = &mut self.store else { return };
        match store.load(self.outbox.room().min(MOST_READY)) {
            Ok(found) => {
                let more = !store.is_read();
                self.outbox.put(found, false, more);
            }
            Err(error) => self.trouble(&error),
        }
    }

    /// Looks after the disk.
    fn look(&mut self) {
        if self.store.is_none() {
            self.open();
        }
        let Some(store) = &mut self.store else { return };
        let sent = self.outbox.sent();
        let done = store.left(sent).and_then(|()| {
            if let Some(dropped) = store.make_room(sent)? {
                self.outbox.lose(dropped.messages, dropped.until);
                self.lost += dropped.messages;
            }
            if self.outbox.state().waiting > 0 {
                store.sync()?;
            }
            Ok(())
        });
        match done {
            Ok(()) => self.outbox.disk(store.bytes(), ROOM, Some(String::new())),
            Err(error) => self.trouble(&error),
        }
        if self.outbox.room() > 0 && self.store.as_ref().is_some_and(|store| !store.is_read()) {
            self.refill();
        }
    }
}
