//! The running plant: moves bytes between link, engine, spool, database and browsers.
//!
//! [`Live`] is the one main structure. Deciding happens in `core`'s engine on a thread of its own ([`turns`]); doing
//! happens here: [`links`] keeps one task per connection, [`ship`] brings frames to the database, [`changes`] follows the
//! configuration. The parts talk through channels and the shared picture in [`values`] and [`alarms`].

pub mod alarms;
mod arrivals;
mod by_hand;
pub mod call_out;
mod changes;
mod clock;
mod devices;
mod dispatch;
pub mod editions;
mod engine;
mod formulas;
pub mod identity;
mod import;
pub mod jobs;
mod lines;
mod links;
mod loop_checks;
mod notes;
mod orders;
mod paths;
mod plain;
mod publishing;
mod quarantine;
mod recall;
pub mod recorders;
mod rules;
pub mod secrets;
mod service;
mod ship;
pub mod spool;
mod supervision;
mod trials;
mod under_way;
pub mod values;

use alarms::AlarmBoard;
use arc_swap::ArcSwap;
use havrel_core::{
    TagNo,
    alarm::{AlarmStanding, SystemAlarm},
    plant::{
        Connection, Edit, Own, Plant,
        find::Finder,
        instances,
        loop_check::Checks,
        secret,
        view::{Now, RuleView, TagQuery, TagView},
    },
    quality::Reason,
    sample::Batch,
    time::Nanos,
};
use havrel_db::{
    Db, DbError,
    config::{By, CommitError},
};
use havrel_link::{Health, Kinds, LinkError};
use quarantine::Quarantine;
use secrets::Keeper;
use serde_json::{Value as Json, json};
use spool::{Room, Spool};
use std::{
    collections::{HashMap, HashSet},
    path::Path,
    sync::{
        Arc, Mutex, PoisonError, RwLock,
        atomic::{AtomicBool, AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{
    sync::{Semaphore, mpsc, oneshot, watch},
    task::JoinSet,
};
use uuid::Uuid;
use values::Values;

pub use by_hand::ByHandWish;
pub use formulas::{Past, Tried};
pub use havrel_link::now;
pub use import::Imported;
pub use loop_checks::{LastChecks, Watched};
pub use orders::Ordered;
pub use publishing::{OutboxState, Told};
pub use supervision::Fault;

/// Whether the database answers, and since when that is so.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DatabaseState {
    pub ok: bool,
    pub since: Nanos,
    pub message: String,
}

/// How full the spool is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SpoolState {
    /// Frames that are not in the database yet, and their bytes on disk.
    pub frames: usize,
    pub bytes: u64,
    /// Bytes it may hold.
    pub room: u64,
    /// Until when all is in the database; 0 while nothing waits.
    pub oldest: Nanos,
    /// Samples lost because it was full, since the program started.
    pub lost: u64,
    /// What its disk says when it refuses; empty while all is well.
    pub trouble: String,
}

/// What is counted over all tags.
#[derive(Debug, Default)]
pub struct Counts {
    /// How many tags of each place are bad.
    pub bad: HashMap<Uuid, usize>,
    /// The time of the oldest current value among the tags that each connection reads in some rhythm.
    pub oldest: HashMap<Uuid, Nanos>,
}

/// The same, and when it was counted.
#[derive(Default)]
struct Counted {
    at: Option<Instant>,
    counts: Arc<Counts>,
}

/// Why something could not be done at the plant.
#[derive(Debug, thiserror::Error)]
pub enum LiveError {
    #[error("{0}")]
    Refused(String),
    #[error(transparent)]
    Link(#[from] LinkError),
    #[error(transparent)]
    Db(#[from] DbError),
    #[error("The disk is full, so this cannot be stored. Try again later.")]
    Full,
    #[error("Havrel is stopping; try again when it is started.")]
    Stopping,
    #[error("A part of Havrel failed meanwhile and was started again; try again.")]
    Interrupted,
    #[error("the spool's folder cannot be used: {0}")]
    Spool(#[from] std::io::Error),
}

/// The running plant. One for each program, shared by all who serve it.
pub struct Live {
    pub db: Db,
    pub node: Uuid,
    pub started: Nanos,
    plant: Arc<ArcSwap<Plant>>,
    pub values: RwLock<Values>,
    pub alarms: RwLock<AlarmBoard>,
    spool: Spool,
    database: watch::Sender<DatabaseState>,
    /// Number of the last frame that is in the database.
    shipped: watch::Sender<u64>,
    to_engine: mpsc::Sender<engine::Message>,
    links: Mutex<HashMap<Uuid, links::Line>>,
    /// Where drivers tell that they failed.
    reports: mpsc::UnboundedSender<links::Report>,
    counted: Mutex<Counted>,
    pub jobs: Arc<jobs::Jobs>,
    /// Values of memory tags from before a restart.
    kept: Mutex<HashMap<TagNo, plain::Kept>>,
    hands: by_hand::Hands,
    loop_checks: loop_checks::LoopChecks,
    secrets: Arc<Keeper>,
    /// The certificate by which servers know this installation.
    pub identity: Arc<identity::Own>,
    quarantine: Quarantine,
    faults: supervision::Faults,
    /// Samples that were recorded since the program started.
    recorded: AtomicU64,
    arrivals: arrivals::Arrivals,
    publishing: publishing::Publishing,
    orders: orders::Orders,
    calls: call_out::Calls,
    dispatches: dispatch::Dispatches,
    /// Whose turn it is to print a PDF.
    press: Semaphore,
    /// When the engine's thread last ended a turn: milliseconds since the program started, on a clock that nobody sets.
    beat: AtomicU64,
    began: Instant,
    finder: Mutex<Vec<(Arc<Plant>, Arc<Finder>)>>,
    /// The views of tags that were asked for last, newest last.
    views: Mutex<Vec<(Arc<Plant>, Arc<TagView>)>>,
    /// The same of alarm rules.
    rule_views: Mutex<Vec<(Arc<Plant>, Arc<RuleView>)>>,
    waiting: service::Waiting,
    tasks: Mutex<JoinSet<()>>,
    /// It ends: what cannot be sent any more did not fail.
    stopping: AtomicBool,
}

/// Views of tags that are kept; each holds 16 bytes a tag.
const MOST_VIEWS: usize = 16;
/// Indexes that are kept: of the whole plant, and of parts that people see.
const MOST_FINDERS: usize = 4;

/// What is kept of a plant, or made anew where it is not. Only what belongs to its revision stays, the last few of it.
fn kept_of<T>(
    all: &Mutex<Vec<(Arc<Plant>, Arc<T>)>>,
    most: usize,
    plant: &Arc<Plant>,
    wanted: impl Fn(&T) -> bool,
    make: impl FnOnce() -> Arc<T>,
) -> Arc<T> {
    let mut kept = all.lock().unwrap_or_else(PoisonError::into_inner);
    kept.retain(|(of, _)| of.revision == plant.revision);
    if let Some((_, found)) = kept.iter().find(|(of, one)| Arc::ptr_eq(of, plant) && wanted(one)) {
        return found.clone();
    }
    let made = make();
    if kept.len() >= most {
        kept.remove(0);
    }
    kept.push((plant.clone(), made.clone()));
    made
}
/// An engine that ends no turn for so long is told as a fault; a tick comes ten times a second.
const ENGINE_SILENT: Duration = Duration::from_secs(5);
/// Commits of at least so many edits are listed as jobs.
const LONG_COMMIT: usize = 2_000;

impl Live {
    /// Starts the plant on a database, with its spool and the key of its secrets in a folder.
    ///
    /// # Errors
    /// When the database does not answer, or the folder cannot be used.
    pub async fn start(db: Db, data: &Path) -> Result<Arc<Live>, LiveError> {
        let node = db.identity().await?;
        let secrets = Arc::new(Keeper::at(data));
        let (plant, broken) = db.load_plant().await?;
        for (id, message) in broken {
            tracing::error!(%id, message, "left out: its settings no longer resolve");
        }
        let shipped = db.shipped(node).await?;
        let quarantine = Quarantine::at(data);
        let (spool, replay) = Spool::open(&data.join("spool"), Room::default(), node, shipped.seq, &quarantine)?;
        let standings = newest(db.standings().await?, replay.standings);
        let kept = plain::kept(&db, &replay.keeps).await?;
        let formulas = formulas::remembered(&plant, &kept);
        let (hands, on, ended) = by_hand::kept(&db, &plant, now()).await?;
        let loop_checks = loop_checks::LoopChecks::load(&db).await?;
        let (seq, arrived, epoch) = replay.last.unwrap_or((shipped.seq, shipped.arrived, shipped.epoch));
        let (to_engine, inbox) = mpsc::channel(1024);
        let (reports, failures) = mpsc::unbounded_channel();
        let (arrivals, announced) = arrivals::Arrivals::new();
        let (orders, received) = orders::Orders::new();
        let (publishing, published) = publishing::Publishing::at(data);
        let state = DatabaseState { ok: true, since: now(), message: String::new() };
        let live = Arc::new(Live {
            db,
            node,
            started: now(),
            plant: Arc::new(ArcSwap::from_pointee(plant)),
            values: RwLock::default(),
            alarms: RwLock::new(AlarmBoard::new(&standings)),
            spool,
            database: watch::channel(state).0,
            shipped: watch::channel(shipped.seq).0,
            to_engine,
            links: Mutex::default(),
            reports,
            counted: Mutex::default(),
            kept: Mutex::new(kept),
            jobs: Arc::default(),
            hands,
            loop_checks,
            identity: Arc::new(identity::Own::at(data, secrets.clone())),
            secrets,
            quarantine,
            faults: supervision::Faults::default(),
            recorded: AtomicU64::new(0),
            arrivals,
            publishing,
            orders,
            calls: call_out::Calls::default(),
            dispatches: dispatch::Dispatches::default(),
            press: Semaphore::new(1),
            beat: AtomicU64::new(0),
            began: Instant::now(),
            finder: Mutex::default(),
            views: Mutex::default(),
            rule_views: Mutex::default(),
            waiting: service::Waiting::default(),
            tasks: Mutex::default(),
            stopping: AtomicBool::new(false),
        });
        let (released, ended_by_engine) = mpsc::unbounded_channel();
        let former = engine::Former { seq, arrived, epoch, standings, formulas, gaps: replay.gaps };
        engine::start(&live, inbox, former, &on, released);
        for words in &replay.notes {
            tracing::warn!(words, "found in the spool");
            live.remark("system", None, None, &format!("Spool: {words}"), json!({})).await;
        }
        if let Some(words) = replay.notes.first() {
            live.happened(SystemAlarm::SpoolDamaged, &format!("Spool: {words}")).await;
        }
        for note in ended {
            live.remark("by_hand", None, Some(note.tag), &note.title, note.detail).await;
        }
        live.apply(live.plant()).await;
        live.spawn(recall::run(live.clone(), seq));
        live.watched("figures of Havrel", plain::figures);
        let ended = Arc::new(tokio::sync::Mutex::new(ended_by_engine));
        live.watched("values set by hand", move |live| by_hand::follow(live, ended.clone()));
        let failures = Arc::new(tokio::sync::Mutex::new(failures));
        live.watched("telling of drivers", move |live| links::tell(live, failures.clone()));
        live.watched("writing for others", move |live| orders::follow(live, received.clone()));
        live.watched("publishing", move |live| publishing::run(live, published.clone()));
        live.watched("taking in what arrives", move |live| arrivals::follow(live, announced.clone()));
        live.watched("calling people", call_out::run);
        live.watched("sending of messages", call_out::send);
        live.watched("dispatches", dispatch::run);
        live.watched("making of reports", dispatch::make);
        live.watched("sending of reports", dispatch::send);
        live.watched("shipping to the database", ship::run);
        live.watched("following the configuration", changes::run);
        live.watched("removing what is old", recorders::remove_what_is_old);
        live.watched("the engine's beat", engine::beat);
        Ok(live)
    }

    /// Runs a task for as long as the plant runs, and runs it anew when it fails.
    fn watched<F>(self: &Arc<Self>, part: &'static str, task: impl Fn(Arc<Live>) -> F + Send + Sync + 'static)
    where
        F: Future<Output = ()> + Send,
    {
        let live = self.clone();
        self.spawn(async move { supervision::supervise(live.clone(), part, || task(live.clone())).await });
    }

    /// Parts that are not running. An engine that has finished no turn for five seconds is one of them.
    pub fn faults(&self) -> Vec<Fault> {
        let mut all = self.faults.all();
        let silent = self.began.elapsed().saturating_sub(Duration::from_millis(self.beat.load(Ordering::Relaxed)));
        if silent > ENGINE_SILENT && !all.iter().any(|fault| fault.part == engine::ENGINE) {
            let since = now() - Nanos::try_from(silent.as_nanos()).unwrap_or(Nanos::MAX);
            let message = format!("no sign of life for {} s", silent.as_secs());
            all.push(Fault { part: engine::ENGINE.into(), since, message });
        }
        all
    }

    pub(crate) fn engine_beat(&self) {
        self.beat.store(u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX), Ordering::Relaxed);
    }

    /// Lets the engine's thread fail at its next turn, to prove that this is noticed and mended.
    #[doc(hidden)]
    pub async fn fail_engine(&self) {
        let _ = self.send(engine::Message::Fail).await;
    }

    /// Gives the engine's thread something to do.
    pub(crate) async fn send(&self, message: engine::Message) -> Result<(), LiveError> {
        self.to_engine.send(message).await.map_err(|_| LiveError::Stopping)
    }

    fn spawn(&self, task: impl Future<Output = ()> + Send + 'static) {
        self.tasks.lock().unwrap_or_else(PoisonError::into_inner).spawn(task);
    }

    /// Stops in good order: connections end, what is in the spool is shipped within five seconds.
    pub async fn stop(&self) {
        self.stopping.store(true, Ordering::Relaxed);
        let lines: Vec<_> = self.links.lock().unwrap_or_else(PoisonError::into_inner).drain().map(|(_, l)| l).collect();
        for line in lines {
            line.end().await;
        }
        self.publishing.stop().await;
        let (done, finished) = oneshot::channel();
        if self.to_engine.send(engine::Message::Stop(done)).await.is_ok() {
            // An engine that has ended already has nothing left to hand over.
            let _ = finished.await;
        }
        let until = tokio::time::Instant::now() + Duration::from_secs(5);
        while self.spool_state().frames > 0 && tokio::time::Instant::now() < until {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        let mut tasks = std::mem::take(&mut *self.tasks.lock().unwrap_or_else(PoisonError::into_inner));
        tasks.abort_all();
        while tasks.join_next().await.is_some() {}
        // Whoever started this program may end what is left of it at once.
        let _ = tokio::task::spawn_blocking(havrel_link::served::settle).await;
        self.spool.close();
    }

    /// Whether it ends. What is to leave Havrel then waits for the next start.
    pub(crate) fn is_stopping(&self) -> bool {
        self.stopping.load(Ordering::Relaxed)
    }

    /// The present configuration.
    pub fn plant(&self) -> Arc<Plant> {
        self.plant.load_full()
    }

    /// Puts edits through the one door and applies them here at once. Many of them are a job that can be watched and
    /// stopped.
    ///
    /// # Errors
    /// As [`Db::commit_watched`].
    pub async fn commit(self: &Arc<Self>, edits: &[Edit], by: &By) -> Result<Arc<Plant>, CommitError> {
        let plant = self.plant();
        let weight = instances::weight(&plant, edits);
        let job = (weight >= LONG_COMMIT).then(|| self.jobs.begin(&by.why, weight as u64));
        let watched = job.as_ref().map(|job| job.share());
        let watch = move |share: f64| watched.as_ref().is_none_or(|job| job.go_on(share));
        let edits = self.secrets.take_in(&plant, edits).map_err(CommitError::Refused)?;
        let next = Arc::new(self.db.commit_watched(&plant, &edits, by, Kinds, watch).await?);
        self.apply(next.clone()).await;
        Ok(next)
    }

    /// A connection as its driver needs it, with its secrets opened: for one that is tried before it is saved. What was not
    /// typed anew is taken from the connection `id`.
    pub fn ready(&self, id: Option<Uuid>, mut connection: Connection) -> Connection {
        let plant = self.plant();
        let stored = id.and_then(|id| plant.connections.get(&id)).map(|c| Json::Object(c.set.settings.clone()));
        let mut settings = Json::Object(connection.settings);
        secret::keep(&mut settings, stored.as_ref());
        connection.settings = match settings {
            Json::Object(settings) => self.secrets.opened(id.unwrap_or_default(), settings),
            _ => Own::new(),
        };
        connection
    }

    /// Takes a revision into use unless a newer one already is.
    async fn apply(self: &Arc<Self>, next: Arc<Plant>) {
        let before = self.plant.rcu(|now| if now.revision < next.revision { next.clone() } else { now.clone() });
        if before.revision > next.revision {
            return;
        }
        let plant = self.plant();
        let (done, applied) = oneshot::channel();
        // Laid out here, so that the engine's thread only swaps it in. A plan that fails to be made is told as a fault.
        let plan = tokio::task::spawn_blocking(move || Arc::new(havrel_core::engine::Plan::of(&plant))).await;
        if let Err(error) = &plan {
            tracing::error!(%error, "the plan of the new revision could not be made");
        }
        if let Ok(plan) = plan
            && self.to_engine.send(engine::Message::Plan(plan, done)).await.is_ok()
        {
            // The answer comes when values and alarms stand by the new plan; an engine that ended gives none.
            let _ = applied.await;
        }
        let held = self.hold_back(&before, &next);
        self.fill_windows(&before, &next);
        self.set_links();
        self.publishing.follow(next.clone());
        self.dispatches.ring();
        if !held.is_empty() {
            self.spawn(self.clone().let_go(held));
        }
        self.seed().await;
    }

    /// Takes in samples as a driver would give them. Waits while the engine has more than it can do.
    ///
    /// # Errors
    /// When the program is stopping.
    pub async fn take(&self, batch: Batch) -> Result<(), LiveError> {
        self.send(engine::Message::Samples(batch)).await
    }

    /// Waits a moment until a frame is in the database, so that what is asked for next holds it. One that is away, or hangs,
    /// is not waited for.
    pub(crate) async fn in_database(&self, seq: u64) {
        if self.database().ok {
            let mut shipped = self.shipped.subscribe();
            // Late is told by the spool's own figures.
            let _ = tokio::time::timeout(Duration::from_secs(1), shipped.wait_for(|&last| last >= seq)).await;
        }
    }

    /// Every connection's health.
    pub fn health(&self) -> HashMap<Uuid, Health> {
        let links = self.links.lock().unwrap_or_else(PoisonError::into_inner);
        links.iter().map(|(id, line)| (*id, line.health())).collect()
    }

    /// Whether the database answers.
    pub fn database(&self) -> DatabaseState {
        self.database.borrow().clone()
    }

    /// How full the spool is.
    pub fn spool_state(&self) -> SpoolState {
        self.spool.state()
    }

    /// Samples that were recorded since the program started.
    pub fn samples_recorded(&self) -> u64 {
        self.recorded.load(Ordering::Relaxed)
    }

    /// Until when history in the database is complete.
    pub fn complete_until(&self) -> Nanos {
        match self.spool_state().oldest {
            0 => now(),
            oldest => oldest,
        }
    }

    /// What is counted over all tags, now; at most once a second, whoever asks.
    pub fn counts(&self) -> Arc<Counts> {
        let mut kept = self.counted.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.at.is_none_or(|at| at.elapsed() >= Duration::from_secs(1)) {
            let plant = self.plant();
            let values = self.values.read().unwrap_or_else(PoisonError::into_inner);
            let mut counts = Counts::default();
            for tag in plant.tags.values() {
                let Some(connection) = tag.set.connection else { continue };
                let Some(shown) = values.of(tag.no) else { continue };
                let quality = shown.current.quality;
                if quality.is_bad() && quality.reason() != Reason::OutOfService {
                    *counts.bad.entry(tag.set.place).or_default() += 1;
                }
                if shown.current.time > 0
                    && plant.connections.get(&connection).is_some_and(|c| c.set.interval_of(tag.set.group) > 0)
                {
                    let oldest = counts.oldest.entry(connection).or_insert(Nanos::MAX);
                    *oldest = (*oldest).min(shown.current.time);
                }
            }
            *kept = Counted { at: Some(Instant::now()), counts: Arc::new(counts) };
        }
        kept.counts.clone()
    }

    /// The index over a plant as somebody sees it; made anew by whoever asks first after a revision.
    pub fn finder(&self, plant: &Arc<Plant>) -> Arc<Finder> {
        let make = || Arc::new(Finder::of(plant));
        kept_of(&self.finder, MOST_FINDERS, plant, |_| true, make)
    }

    /// The tags that a query finds in a plant as somebody sees it, in order. Those asked for last are kept, so that scrolling
    /// does not sort anew.
    pub fn tag_view(&self, plant: &Arc<Plant>, query: TagQuery) -> Arc<TagView> {
        let asked = query.clone();
        let make = || {
            let values = self.values.read().unwrap_or_else(PoisonError::into_inner);
            let quality = |no| values.of(no).map(|shown| shown.current.quality);
            let in_alarm = match query.in_alarm {
                Some(_) => self.tags_in_alarm(plant),
                None => HashSet::new(),
            };
            let (whole, last) = (self.plant(), self.last_checks());
            let answered = |no| values.of(no).is_some_and(|shown| shown.current.value.is_some());
            let now = Now {
                quality: &quality,
                in_alarm,
                checks: Some(Checks { plant: &whole, last: &last, wire: &Kinds }),
                answered: &answered,
            };
            Arc::new(TagView::of(plant, query, &now))
        };
        kept_of(&self.views, MOST_VIEWS, plant, |view| view.query == asked, make)
    }
}

/// Where alarms stand: what the spool knows is newer, where it knows something.
fn newest(stored: Vec<AlarmStanding>, spooled: Vec<AlarmStanding>) -> Vec<AlarmStanding> {
    let mut all: HashMap<Uuid, AlarmStanding> = stored.into_iter().map(|s| (s.rule, s)).collect();
    for standing in spooled {
        if all.get(&standing.rule).is_none_or(|known| known.sequence <= standing.sequence) {
            all.insert(standing.rule, standing);
        }
    }
    all.into_values().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_spool_knows_better_where_it_is_ahead() {
        let standing = |rule: u128, sequence| AlarmStanding { sequence, ..AlarmStanding::quiet(Uuid::from_u128(rule)) };
        let joined =
            newest(vec![standing(1, 4), standing(2, 4), standing(3, 1)], vec![standing(1, 6), standing(2, 3), standing(4, 1)]);
        // A delay that began counts no event.
        let delayed = AlarmStanding { delay_since: Some(9), ..standing(5, 2) };
        assert_eq!(newest(vec![standing(5, 2)], vec![delayed.clone()]), [delayed]);
        let mut found: Vec<_> = joined.iter().map(|s| (s.rule.as_u128(), s.sequence)).collect();
        found.sort_unstable();
        assert_eq!(found, [(1, 6), (2, 4), (3, 1), (4, 1)]);
    }
}
