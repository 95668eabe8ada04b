//! `/api/live`: one WebSocket per browser with values, alarms, revisions and the state of the server.
//!
//! The browser sends `{"watch": [numbers of tags], "follow": number of the last alarm event, "epoch": of the server}` and
//! answers each message with `{"got": its number}`. Values are the newest, at most ten times a second, and only once the
//! last message has been answered; alarm events and revisions are numbered and never merged.

use crate::{
    api::{alarms::EventView, values::ValueView},
    app::App,
    auth::Person,
    feed::{ConnectionStatus, FeedAlarms, FeedMessage, JobStatus, Status},
    problem::Problem,
    sessions::{self, Hash},
};
use actix_web::{HttpRequest, HttpResponse, web};
use actix_ws::{AggregatedMessage, Session};
use futures_util::StreamExt as _;
use havrel_core::{
    access::{Action, Scope},
    alarm::AlarmEvent,
    plant::Plant,
    time::to_text,
};
use serde::Deserialize;
use std::{
    collections::HashSet,
    sync::{Arc, PoisonError, atomic::Ordering},
    time::{Duration, Instant},
};
use uuid::Uuid;

/// Most browsers at a time, of all and of one account.
const MOST_SOCKETS: usize = 1000;
const MOST_OF_ACCOUNT: usize = 100;
/// Most tags one browser watches.
const MOST_TAGS: usize = 5000;
/// Alarm events in one message.
const MOST_EVENTS: usize = 200;
const BEAT: Duration = Duration::from_millis(100);
const STATUS_EVERY: Duration = Duration::from_secs(1);
/// A browser that answers nothing for so long is let go.
const PATIENCE: Duration = Duration::from_secs(30);

#[derive(Deserialize)]
struct Asked {
    #[serde(default)]
    watch: Option<Vec<u32>>,
    #[serde(default)]
    follow: Option<u64>,
    #[serde(default)]
    epoch: Option<Uuid>,
    #[serde(default)]
    got: Option<u64>,
}

/// Opens the socket.
pub(crate) async fn open(
    app: web::Data<App>,
    person: Person,
    request: HttpRequest,
    body: web::Payload,
) -> Result<HttpResponse, actix_web::Error> {
    let account = person.may(Action::See)?.account;
    let scope = person.scope;
    let shown = sessions::shown(&request).unwrap_or_default();
    let place = Place::take(&app, account)?;
    let (response, session, stream) = actix_ws::handle(&request, body)?;
    let stream = stream.max_frame_size(256 << 10).aggregate_continuations().max_continuation_size(256 << 10);
    actix_web::rt::spawn(async move {
        let _place = place;
        Feed::new(&app, session, shown, scope).serve(stream).await;
    });
    Ok(response)
}

/// A place among the open sockets, given back when dropped.
struct Place(web::Data<App>, Uuid);

impl Place {
    fn take(app: &web::Data<App>, account: Uuid) -> Result<Place, Problem> {
        let mut of = app.sockets_of.lock().unwrap_or_else(PoisonError::into_inner);
        let count = of.entry(account).or_default();
        if *count >= MOST_OF_ACCOUNT || app.sockets.load(Ordering::Relaxed) >= MOST_SOCKETS {
            return Err(Problem::too_many(10));
        }
        *count += 1;
        app.sockets.fetch_add(1, Ordering::Relaxed);
        Ok(Place(app.clone(), account))
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        self.0.sockets.fetch_sub(1, Ordering::Relaxed);
        let mut of = self.0.sockets_of.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = of.get_mut(&self.1) {
            *count -= 1;
            if *count == 0 {
                of.remove(&self.1);
            }
        }
    }
}

struct Feed<'a> {
    app: &'a App,
    session: Session,
    /// What the browser showed: the feed ends with its session.
    shown: Hash,
    scope: Scope,
    /// Who sees a part of the plant: that part, and the numbers of its tags.
    seen: Option<(Arc<Plant>, HashSet<u32>)>,
    looked: Instant,
    watched: Vec<u32>,
    /// Values that changed after this turn have not been sent.
    version: u64,
    followed: Option<u64>,
    revision: i64,
    sent: u64,
    got: u64,
    heard: Instant,
    status_at: Option<Instant>,
    events_due: bool,
}

impl<'a> Feed<'a> {
    fn new(app: &'a App, session: Session, shown: Hash, scope: Scope) -> Feed<'a> {
        Feed {
            app,
            session,
            shown,
            scope,
            seen: None,
            looked: Instant::now(),
            watched: Vec::new(),
            version: 0,
            followed: None,
            revision: -1,
            sent: 0,
            got: 0,
            heard: Instant::now(),
            status_at: None,
            events_due: false,
        }
    }

    async fn serve(mut self, mut stream: actix_ws::AggregatedMessageStream) {
        let mut beat = tokio::time::interval(BEAT);
        beat.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
        loop {
            let going = tokio::select! {
                message = stream.next() => match message {
                    Some(Ok(AggregatedMessage::Text(text))) => self.take(&text),
                    Some(Ok(AggregatedMessage::Ping(bytes))) => self.session.pong(&bytes).await.is_ok(),
                    Some(Ok(AggregatedMessage::Pong(_) | AggregatedMessage::Binary(_))) => true,
                    Some(Ok(AggregatedMessage::Close(_)) | Err(_)) | None => false,
                },
                _ = beat.tick() => self.beat().await,
            };
            if !going {
                // The other side may be gone already.
                let _ = self.session.close(None).await;
                return;
            }
        }
    }

    fn take(&mut self, text: &str) -> bool {
        let Ok(asked) = serde_json::from_str::<Asked>(text) else { return false };
        self.heard = Instant::now();
        if let Some(mut tags) = asked.watch {
            tags.truncate(MOST_TAGS);
            self.watched = tags;
            self.version = 0;
        }
        if let Some(got) = asked.got {
            self.got = self.got.max(got.min(self.sent));
        }
        if let Some(follow) = asked.follow {
            // Numbers from before a restart of the server mean nothing now.
            let same = asked.epoch == Some(self.app.epoch);
            self.followed = same.then_some(follow);
            self.events_due = true;
        }
        true
    }

    /// Whether the session goes on. A database that is away ends none.
    async fn goes_on(&mut self) -> bool {
        if self.looked.elapsed() < STATUS_EVERY {
            return true;
        }
        self.looked = Instant::now();
        match self.app.sessions.find(&self.app.live, &self.shown).await {
            Ok(Some(session)) => {
                let scope = self.app.scope_of(&session.actor);
                if scope != self.scope {
                    self.scope = scope;
                    // The browser reads everything anew: values, alarms, and what belongs to the revision.
                    (self.version, self.revision) = (0, -1);
                    (self.followed, self.events_due, self.status_at) = (None, true, None);
                }
                true
            }
            Ok(None) => false,
            Err(_) => true,
        }
    }

    /// Brings what is seen up to date; nothing is to be done for who sees everything.
    fn look(&mut self) {
        if self.scope.is_everything() {
            self.seen = None;
            return;
        }
        let plant = self.app.seen(&self.scope);
        if self.seen.as_ref().is_none_or(|(of, _)| !Arc::ptr_eq(of, &plant)) {
            let numbers = plant.tags.values().map(|t| t.no).collect();
            self.seen = Some((plant, numbers));
        }
    }

    /// The plant as it is seen.
    fn plant(&self) -> Arc<Plant> {
        self.seen.as_ref().map_or_else(|| self.app.live.plant(), |(plant, _)| plant.clone())
    }

    async fn beat(&mut self) -> bool {
        if !self.goes_on().await {
            let now = to_text(havrel_live::now());
            let last = FeedMessage {
                n: self.sent + 1,
                now,
                values: Vec::new(),
                alarms: None,
                revision: None,
                status: None,
                ended: true,
            };
            if let Ok(text) = serde_json::to_string(&last) {
                // The other side may be gone already.
                let _ = self.session.text(text).await;
            }
            return false;
        }
        if self.got < self.sent {
            return self.heard.elapsed() < PATIENCE;
        }
        self.look();
        let live = &self.app.live;
        let (values, version) = self.values();
        let alarms = self.alarms();
        let revision = Some(live.plant().revision).filter(|&r| r != self.revision);
        let status = self.status_at.is_none_or(|at| at.elapsed() >= STATUS_EVERY).then(|| self.status());
        if values.is_empty() && alarms.is_none() && revision.is_none() && status.is_none() {
            return true;
        }
        self.version = version;
        self.revision = revision.unwrap_or(self.revision);
        if let Some(alarms) = &alarms {
            self.followed = Some(alarms.last);
            self.events_due = false;
        }
        if status.is_some() {
            self.status_at = Some(Instant::now());
        }
        self.sent += 1;
        self.heard = Instant::now();
        let message =
            FeedMessage { n: self.sent, now: to_text(havrel_live::now()), values, alarms, revision, status, ended: false };
        let Ok(text) = serde_json::to_string(&message) else { return false };
        self.session.text(text).await.is_ok()
    }

    fn values(&self) -> (Vec<ValueView>, u64) {
        let plant = self.plant();
        let title = |id: Uuid| plant.tags.get(&id).map(|tag| plant.tag_path(&tag.set));
        let values = self.app.live.values.read().unwrap_or_else(PoisonError::into_inner);
        let newer = |&no: &u32| values.of(no).filter(|s| s.version > self.version).map(|s| ValueView::of(no, &s.current, &title));
        let seen = |no: &&u32| self.seen.as_ref().is_none_or(|(_, numbers)| numbers.contains(*no));
        (self.watched.iter().filter(seen).filter_map(newer).collect(), values.version())
    }

    fn alarms(&self) -> Option<FeedAlarms> {
        let board = self.app.live.alarms.read().unwrap_or_else(PoisonError::into_inner);
        // Nothing before the browser has said from where it follows, and nothing when it has all.
        if !self.events_due && self.followed.is_none_or(|n| n == board.last()) {
            return None;
        }
        let epoch = self.app.epoch;
        let anew = || FeedAlarms { epoch, last: board.last(), anew: true, events: Vec::new() };
        let Some(mut events) = self.followed.and_then(|n| board.after(n)) else { return Some(anew()) };
        events.truncate(MOST_EVENTS);
        let last = events.last().map_or(board.last(), |(n, _)| *n);
        let plant = self.plant();
        // An alarm whose rule is gone, and one of Havrel's own, concerns who sees everything.
        let heard = |e: &AlarmEvent| self.seen.is_none() || plant.rules.contains_key(&e.rule);
        let events =
            events.into_iter().filter(|(_, e)| heard(e)).map(|(n, e)| EventView::of(&plant, n.cast_signed(), e)).collect();
        Some(FeedAlarms { epoch, last, anew: false, events })
    }

    fn status(&self) -> Status {
        let live = &self.app.live;
        let (database, spool) = (live.database(), live.spool_state());
        let text = |at: i64| if at == 0 { String::new() } else { to_text(at) };
        let counts = live.counts();
        let part = self.seen.as_ref();
        let whole = part.is_none();
        let connections = live.health().into_iter().filter(|(id, _)| part.is_none_or(|(p, _)| p.connections.contains_key(id)));
        let connections = connections.map(|(id, mut h)| {
            if !whole {
                // They name addresses, and how devices are reached is not shown.
                (h.message, h.cure, h.learnt) = Default::default();
            }
            let view = ConnectionStatus {
                state: h.state.into(),
                since: text(h.since),
                message: h.message,
                cure: h.cure,
                round_trip_us: h.round_trip_us,
                p50_us: h.p50_us,
                p95_us: h.p95_us,
                requests: h.requests,
                values: h.values,
                rate: h.rate,
                errors: h.errors,
                errors_by_kind: h.errors_by_kind.into_iter().map(|(kind, count)| (kind.to_owned(), count)).collect(),
                oldest: text(counts.oldest.get(&id).copied().unwrap_or(0)),
                path: h.path,
                path_since: text(h.path_since),
                filling: h.filling,
                learnt: h.learnt,
                overruns: h.overruns,
                reconnects: h.reconnects,
                answered: text(h.answered),
            };
            (id, view)
        });
        Status {
            database_ok: database.ok,
            database_since: text(database.since),
            database_trouble: if database.ok { String::new() } else { database.message },
            faults: live.faults().into_iter().filter(|_| whole).map(|fault| fault.part).collect(),
            spool_frames: spool.frames,
            spool_bytes: spool.bytes,
            spool_room: spool.room,
            spool_oldest: text(spool.oldest),
            spool_trouble: spool.trouble,
            lost: spool.lost,
            bad: match part {
                None => counts.bad.clone(),
                Some((plant, _)) => {
                    let inside = counts.bad.iter().filter(|(place, _)| plant.places.contains_key(place));
                    inside.map(|(&place, &count)| (place, count)).collect()
                }
            },
            by_hand: match part {
                None => live.hand_count().into(),
                Some((plant, _)) => {
                    let count = live.hands().iter().filter(|hand| plant.tags.contains_key(&hand.tag)).count();
                    (count, live.hand_count().1).into()
                }
            },
            connections: connections.collect(),
            jobs: live
                .jobs
                .running()
                .iter()
                .filter(|_| whole)
                .map(|job| {
                    let (done, total) = job.progress();
                    JobStatus { id: job.id, title: job.title.clone(), done, total }
                })
                .collect(),
        }
    }
}
