//! The life of one connection: open a session, have it deliver, recover by itself, over a spare address if need be.

use super::{
    client::{self, Event},
    commands::Service,
    history::{Filling, Gap},
    inbox::Times,
    items::Items,
    learn::learn,
    server::{Server, attribute},
    settings::{Point, Settings},
    spare::{Serving, Spare, SpareEvent},
    status, trust, value,
};
use crate::{
    Command, LinkError, LinkPlan, LinkState, Ports,
    health::Durations,
    life::{Life, Paths, Stop},
    now,
    traffic::Exchange,
};
use havrel_core::{
    quality::Quality,
    time::{MILLI, Nanos, SECOND},
};
use opcua::types::{AttributeId, ReadValueId, VariableId, Variant};
use std::{
    collections::HashSet,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};
use tokio::{
    task::JoinSet,
    time::{Instant, MissedTickBehavior, interval},
};

/// Commands under way at once.
const MOST_AT_ONCE: usize = 4;
/// How often the connection looks after itself.
const LOOK: Duration = Duration::from_secs(1);
/// How often the server's clock is looked at, in looks.
const CLOCK: u64 = 10;
/// How often tags that the server refused are tried again, in looks.
const AGAIN: u64 = 30;
/// A session that lasted no longer was lost soon.
const SOON: Duration = Duration::from_secs(10);
/// A server whose clock is off by more than this is told.
const CLOCK_OFF: Nanos = 5 * SECOND;

/// A connection that runs.
struct Run {
    /// A time without values that is not filled yet.
    gap: Option<Arc<Gap>>,
    /// A period, from and to, that somebody asked to have filled and that is not filled yet.
    period: Option<(Nanos, Nanos)>,
    /// When the tags were last told bad, at the latest; a driver that starts knows nothing of what was told before.
    marked: Nanos,
    life: Life,
    durations: Durations,
}

pub(super) async fn run(ports: Ports) {
    let (life, durations) = (Life::new(ports), Durations::default());
    let mut run = Run { gap: None, period: None, marked: now(), life, durations };
    loop {
        let plan = run.life.ports.plan.borrow_and_update().clone();
        let stop = match Settings::usable(&plan.connection.settings) {
            Err(error) => Stop::Failed(error),
            Ok(_) if !plan.connection.enabled => Stop::Failed(LinkError::SwitchedOff),
            Ok(settings) => run.connect(plan, settings).await,
        };
        let error = match stop {
            Stop::End => return,
            Stop::Again => continue,
            Stop::Failed(error) => error,
        };
        let plan = run.life.ports.plan.borrow().clone();
        let paths = Settings::parse(&plan.connection.settings)
            .map_or(Paths { count: 0, takeover: false }, |s| Paths { count: s.paths().len(), takeover: s.takeover });
        let marks = plan.marked(now(), Quality::of(error.reason()));
        run.marked = now();
        if run.life.failed(error, marks, paths).await.is_err() {
            return;
        }
    }
}

/// What is filled with what a server recorded.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Wish {
    /// The time during which the connection was lost.
    Gap,
    /// A period that somebody asked for.
    Period,
}

/// What one session leaves to the next.
struct Kept {
    plan: Arc<LinkPlan>,
    spare: Spare,
    /// Another session has taken over just now.
    taken_over: bool,
    /// Commands under way.
    tasks: JoinSet<()>,
    /// Filling a gap, or what somebody asked for, and which.
    filling: JoinSet<(Wish, Result<Option<String>, LinkError>)>,
    /// How many values it has brought in.
    bringing: Arc<AtomicU64>,
    /// What came of it.
    filled: Option<String>,
    /// What is off with the server's clock, in sentences.
    clock: Vec<String>,
}

impl Run {
    async fn connect(&mut self, plan: Arc<LinkPlan>, settings: Settings) -> Stop {
        self.life.connecting();
        self.life.path = self.life.path.min(settings.paths().len() - 1);
        let identities = self.life.ports.identities.clone();
        let mut serving = match Serving::open(self.life.path, &plan, &settings, &identities).await {
            Ok(serving) => serving,
            Err(error) => return Stop::Failed(error),
        };
        let known = self.gap.as_ref().map(|gap| gap.before.clone()).unwrap_or_default();
        serving.items.inbox.begin(self.marked, known);
        let mut kept = Kept {
            plan,
            spare: Spare::default(),
            taken_over: false,
            tasks: JoinSet::new(),
            filling: JoinSet::new(),
            bringing: Arc::default(),
            filled: None,
            clock: Vec::new(),
        };
        let stop = loop {
            let Some(stop) = self.deliver(&mut serving, &mut kept, &settings).await else { continue };
            let Stop::Failed(error) = &stop else { break stop };
            if !settings.takeover || !self.take_over(&mut serving, &mut kept).await {
                self.missing(&serving);
                break stop;
            }
            self.life.ports.health.send_modify(|h| {
                h.reconnects += 1;
                h.count(error);
            });
        };
        if let Some(ready) = kept.spare.ready {
            ready.speaking.close().await;
        }
        serving.speaking.close().await;
        stop
    }

    /// Notes that no values come from now on.
    fn missing(&mut self, serving: &Serving) {
        let inbox = &serving.items.inbox;
        self.gap.get_or_insert_with(|| Arc::new(Gap { before: inbox.last(), from: now() - SECOND }));
    }

    /// Begins to fill what is missing: the gap first, then what somebody asked for. It takes the place of what is being filled.
    fn fill(&mut self, serving: &Serving, kept: &mut Kept, settings: &Settings) {
        if !settings.fill {
            self.gap = None;
        }
        let slowest = serving.items.patience(0).unwrap_or(SOON);
        let (wish, gap, until, pause) = match (&self.gap, self.period) {
            (Some(gap), _) => (Wish::Gap, gap.clone(), None, slowest / 5),
            (None, Some((from, to))) => {
                (Wish::Period, Arc::new(Gap { before: Times::default(), from }), Some(to), Duration::ZERO)
            }
            (None, None) => return,
        };
        kept.bringing = Arc::default();
        let filling = Filling {
            gap,
            server: serving.server.clone(),
            namespaces: serving.namespaces.clone(),
            plan: kept.plan.clone(),
            inbox: serving.items.inbox.clone(),
            batches: self.life.ports.batches.clone(),
            pause,
            until,
            filled: kept.bringing.clone(),
        };
        kept.filling.abort_all();
        kept.filling.spawn(async move { (wish, filling.fill().await) });
    }

    /// Puts the spare session in the place of the one in use. Whether there was one that serves.
    async fn take_over(&mut self, serving: &mut Serving, kept: &mut Kept) -> bool {
        let Some(mut ready) = kept.spare.ready.take() else { return false };
        ready.items.inbox.go_on(&serving.items.inbox);
        if let Err(error) = ready.items.speak(&ready.server).await {
            kept.spare.ready = Some(ready);
            kept.spare.lose(&error);
            return false;
        }
        // What came and was not handed on yet would be lost with the old session.
        if self.hand_on(&serving.items).await.is_err() {
            return false;
        }
        let old = std::mem::replace(serving, *ready);
        tokio::spawn(old.speaking.close());
        self.life.path = serving.path;
        kept.spare.next = None;
        kept.taken_over = true;
        kept.clock.clear();
        true
    }

    /// Keeps a session delivering until something ends it, or another one has taken over by hand.
    async fn deliver(&mut self, serving: &mut Serving, kept: &mut Kept, settings: &Settings) -> Option<Stop> {
        let timeout_ms = kept.plan.connection.timeout_ms;
        let paths = settings.paths();
        let other = (serving.path + 1) % paths.len();
        let address = paths[other].show();
        if let Err(stop) = self.follow(serving, &kept.plan, settings).await {
            return Some(stop);
        }
        if std::mem::take(&mut kept.taken_over)
            && let Err(stop) = self.refresh(serving, &kept.plan).await
        {
            return Some(stop);
        }
        self.fill(serving, kept, settings);
        if settings.keeps_spare() && kept.spare.next.is_none() {
            kept.spare.next = Some(Instant::now());
        }
        let inbox = serving.items.inbox.clone();
        self.running(serving, kept, &address);
        let mut looks = interval(LOOK);
        looks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let (mut looked, mut heard, mut heard_at) = (0u64, 0u64, Instant::now());
        let (mut lost, opened) = (false, Instant::now());
        // The types of structures that are asked for.
        let mut learning = JoinSet::new();
        loop {
            tokio::select! {
                changed = self.life.ports.plan.changed() => {
                    if changed.is_err() {
                        return Some(Stop::End);
                    }
                    let next = self.life.ports.plan.borrow_and_update().clone();
                    let same = |a: &LinkPlan, b: &LinkPlan| {
                        let (a, b) = (&a.connection, &b.connection);
                        a.settings == b.settings && a.enabled == b.enabled && a.timeout_ms == b.timeout_ms
                    };
                    if !same(&kept.plan, &next) {
                        return Some(Stop::Again);
                    }
                    kept.plan = next;
                    if !lost && let Err(stop) = self.follow(serving, &kept.plan, settings).await {
                        return Some(stop);
                    }
                    if let Some(ready) = &mut kept.spare.ready
                        && let Err(error) = ready.items.follow(&kept.plan, settings, &ready.speaking, &ready.server).await
                    {
                        kept.spare.lose(&error);
                    }
                    self.running(serving, kept, &address);
                }
                command = self.life.ports.commands.recv(), if kept.tasks.len() < MOST_AT_ONCE => match command {
                    None => return Some(Stop::End),
                    Some(Command::TakePath { path, reply }) => {
                        if self.life.take_path(path, reply, paths.len()) {
                            let ready = kept.spare.ready.as_ref().is_some_and(|ready| ready.path == path);
                            return match ready && self.take_over(serving, kept).await {
                                true => None,
                                false => Some(Stop::Again),
                            };
                        }
                    }
                    Some(Command::Fill { span, reply }) => {
                        let busy = "Recorded values are already being fetched. Wait, or stop that first.";
                        let answer = match span {
                            Some(_) if !kept.filling.is_empty() || self.period.is_some() => {
                                Err(LinkError::BadRequest(busy.into()))
                            }
                            Some(_) => {
                                self.period = span;
                                if !lost {
                                    self.fill(serving, kept, settings);
                                }
                                Ok(())
                            }
                            None => {
                                kept.filling.shutdown().await;
                                (self.gap, self.period, kept.filled) = (None, None, Some("Filling was stopped.".into()));
                                Ok(())
                            }
                        };
                        // Whoever asked may have gone away meanwhile.
                        let _ = reply.send(answer);
                        self.running(serving, kept, &address);
                    }
                    Some(command) => {
                        let service = Service {
                            server: serving.server.clone(),
                            namespaces: serving.namespaces.clone(),
                            plan: kept.plan.clone(),
                            batches: self.life.ports.batches.clone(),
                        };
                        kept.tasks.spawn(service.serve(command));
                    }
                },
                Some(_) = kept.tasks.join_next() => {}
                Some(learnt) = learning.join_next() => match learnt {
                    Ok(Err(error)) if !lost => return Some(Stop::Failed(error)),
                    // What is not known yet is asked for again with the next value that comes.
                    _ => inbox.release(),
                },
                Some(filled) = kept.filling.join_next() => {
                    let (wish, told) = match filled {
                        Ok((wish, Ok(words))) => (wish, words),
                        // A connection that was lost begins anew with the next session.
                        Ok((_, Err(LinkError::Closed))) | Err(_) => continue,
                        Ok((_, Err(_))) if lost => continue,
                        Ok((Wish::Gap, Err(error))) => (Wish::Gap, Some(format!("The last gap is not filled: {error}"))),
                        Ok((Wish::Period, Err(error))) => {
                            (Wish::Period, Some(format!("The period that was asked for is not filled: {error}")))
                        }
                    };
                    match wish {
                        Wish::Gap => self.gap = None,
                        Wish::Period => self.period = None,
                    }
                    kept.filled = told;
                    self.fill(serving, kept, settings);
                    self.running(serving, kept, &address);
                }
                event = kept.spare.event() => {
                    match event {
                        SpareEvent::Open => {
                            kept.spare.next = None;
                            let identities = self.life.ports.identities.clone();
                            kept.spare.opening.spawn(Serving::ready(other, kept.plan.clone(), settings.clone(), identities));
                        }
                        SpareEvent::Opened(Ok(mut ready)) => {
                            // The plan may have changed meanwhile.
                            let followed = ready.items.follow(&kept.plan, settings, &ready.speaking, &ready.server).await;
                            kept.spare.ready = Some(ready);
                            kept.spare.trouble.clear();
                            if let Err(error) = followed {
                                kept.spare.lose(&error);
                            }
                        }
                        SpareEvent::Opened(Err(error)) => kept.spare.lose(&error),
                        SpareEvent::Session(Some(Event::Again { fresh: false })) => {}
                        SpareEvent::Session(Some(Event::Lost(error) | Event::Over(error))) => kept.spare.lose(&error),
                        SpareEvent::Session(Some(Event::Again { fresh: true }) | None) => kept.spare.lose(&LinkError::Closed),
                    }
                    if !lost {
                        self.running(serving, kept, &address);
                    }
                }
                ended = serving.items.polls.next(&serving.server, &inbox), if !lost => {
                    heard_at = Instant::now();
                    if let Err(error) = ended.read {
                        return Some(Stop::Failed(error));
                    }
                    let took_us = client::micros(ended.began);
                    self.durations.add(took_us);
                    self.tell(ended.began, format!("read {} values", ended.read.unwrap_or_default()), "they came".into());
                }
                () = inbox.came.notified() => {
                    let unknown = if learning.is_empty() { inbox.unknown() } else { HashSet::new() };
                    if !unknown.is_empty() {
                        let server = serving.server.clone();
                        learning.spawn(async move { learn(&server, unknown).await });
                    }
                    if self.hand_on(&serving.items).await.is_err() {
                        return Some(Stop::End);
                    }
                    if let Some(code) = inbox.ended() {
                        return Some(Stop::Failed(status::error(code, timeout_ms)));
                    }
                }
                event = serving.speaking.events.recv() => match event {
                    None => return Some(Stop::Failed(LinkError::Closed)),
                    Some(Event::Over(error)) => return Some(Stop::Failed(error)),
                    // Another session stands ready, so nothing goes bad.
                    Some(Event::Lost(error)) if settings.takeover && kept.spare.ready.is_some() => return Some(Stop::Failed(error)),
                    Some(Event::Lost(error)) => {
                        let marks = kept.plan.marked(now(), Quality::of(error.reason()));
                        if !lost && self.life.ports.batches.send(marks).await.is_err() {
                            return Some(Stop::End);
                        }
                        lost = true;
                        self.marked = now();
                        self.missing(serving);
                        self.life.ports.health.send_modify(|h| {
                            h.enter(LinkState::Trouble, Some(&error));
                            h.count(&error);
                        });
                    }
                    Some(Event::Again { fresh }) => {
                        self.life.ports.health.send_modify(|h| h.reconnects += 1);
                        // A server that forgot the session may have started anew, with other numbers for its namespaces and
                        // without our subscriptions; what it delivers is made again, so that it surely speaks. One that
                        // forgets every session soon is given pauses.
                        if fresh {
                            let soon = opened.elapsed() < SOON;
                            return Some(if soon { Stop::Failed(LinkError::Closed) } else { Stop::Again });
                        }
                        (lost, heard_at) = (false, Instant::now());
                        inbox.begin(self.marked, inbox.last());
                        serving.server.session.trigger_publish_now();
                        // The plan may have changed meanwhile.
                        if let Err(stop) = self.follow(serving, &kept.plan, settings).await {
                            return Some(stop);
                        }
                        if let Err(stop) = self.refresh(serving, &kept.plan).await {
                            return Some(stop);
                        }
                        self.fill(serving, kept, settings);
                        self.running(serving, kept, &address);
                    }
                },
                _ = looks.tick() => {
                    looked += 1;
                    if !lost && opened.elapsed() >= SOON {
                        self.life.failures = 0;
                    }
                    let published = serving.speaking.published.load(Ordering::Relaxed);
                    if published != heard {
                        (heard, heard_at) = (published, Instant::now());
                    }
                    let patience = serving.items.patience(timeout_ms).filter(|_| !lost && serving.items.count() > 0);
                    if patience.is_some_and(|patience| heard_at.elapsed() > patience) {
                        return Some(Stop::Failed(LinkError::Silent(timeout_ms)));
                    }
                    let again = !lost && serving.items.refused > 0 && looked.is_multiple_of(AGAIN);
                    if again && let Err(stop) = self.follow(serving, &kept.plan, settings).await {
                        return Some(stop);
                    }
                    if !lost && !kept.filling.is_empty() {
                        self.running(serving, kept, &address);
                    }
                    if !lost && looked % CLOCK == 1 {
                        match self.clock(&serving.server).await {
                            Ok(words) => kept.clock = words,
                            Err(LinkError::Silent(_)) => {}
                            Err(error) => return Some(Stop::Failed(error)),
                        }
                        self.running(serving, kept, &address);
                    }
                }
            }
        }
    }

    /// Makes a session deliver what a plan wants, and tells what is not delivered.
    async fn follow(&mut self, serving: &mut Serving, plan: &LinkPlan, settings: &Settings) -> Result<(), Stop> {
        let began = Instant::now();
        let Serving { items, speaking, server, .. } = serving;
        let marks = items.follow(plan, settings, speaking, server).await;
        let marks = marks.map_err(|error| {
            self.life.ports.health.send_modify(|h| h.count(&error));
            Stop::Failed(error)
        })?;
        if items.count() > 0 {
            self.tell(began, format!("subscribe {} tags", items.count()), format!("{} refused", items.refused));
        }
        if marks.is_empty() {
            return Ok(());
        }
        items.inbox.mark(&marks);
        self.life.ports.batches.send(marks).await.map_err(|_| Stop::End)
    }

    /// Values that did not change meanwhile are not sent again by the server, so all are read once.
    async fn refresh(&mut self, serving: &Serving, plan: &LinkPlan) -> Result<(), Stop> {
        let (mut asked, mut tags) = (Vec::new(), Vec::new());
        for point in plan.points.iter().filter(|p| serving.items.holds(p.tag)) {
            let Ok(at) = Point::parse(&point.point) else { continue };
            if let Some(node) = at.node.id(&serving.namespaces) {
                asked.push(ReadValueId { index_range: at.range, ..attribute(&node, AttributeId::Value) });
                tags.push(point.tag);
            }
        }
        let told = serving.server.read(&asked).await.map_err(Stop::Failed)?;
        tags.into_iter().zip(&told).for_each(|(tag, data)| serving.items.inbox.read(tag, data));
        Ok(())
    }

    /// Hands on what came. `Err`: nobody takes it any more.
    async fn hand_on(&mut self, items: &Items) -> Result<(), ()> {
        let batch = items.inbox.take();
        let count = batch.samples.len();
        if count == 0 {
            return Ok(());
        }
        if self.life.ports.tap.open() {
            let first: Vec<String> =
                batch.samples.iter().take(8).filter_map(|s| batch.value_of(*s)).map(|v| v.to_json().to_string()).collect();
            self.tell(Instant::now(), format!("{count} values came"), first.join(" "));
        }
        self.life.ports.health.send_modify(|h| h.answered = now());
        self.life.hand_on(batch).await
    }

    /// Tells that the connection runs, with what was found out about the server.
    fn running(&mut self, serving: &Serving, kept: &Kept, spare: &str) {
        let path = self.life.path;
        let (p50, p95) = self.durations.percentiles();
        let at = now();
        let ends = serving.speaking.until.iter().filter_map(|(whose, until)| trust::ends_soon(whose, *until, at));
        let learnt = serving.items.revised().into_iter().chain(kept.clock.iter().cloned()).chain(ends);
        let filling = (!kept.filling.is_empty()).then(|| kept.bringing.load(Ordering::Relaxed));
        let learnt: Vec<String> = learnt.chain(kept.spare.words(spare)).chain(kept.filled.clone()).collect();
        self.life.ports.health.send_modify(|h| {
            h.enter(LinkState::Running, None);
            (h.p50_us, h.p95_us) = (p50, p95);
            h.learnt = learnt;
            h.filling = filling;
            if h.path != path {
                (h.path, h.path_since) = (path, now());
            }
        });
    }

    /// Asks for the server's clock; says where it is off.
    async fn clock(&mut self, server: &Server) -> Result<Vec<String>, LinkError> {
        let (began, asked_at) = (Instant::now(), now());
        let node = attribute(&VariableId::Server_ServerStatus_CurrentTime.into(), AttributeId::Value);
        let told = server.read(&[node]).await?;
        let took_us = client::micros(began);
        self.durations.add(took_us);
        let at = now();
        self.life.ports.health.send_modify(|h| {
            h.round_trip_us = took_us;
            h.requests += 1;
            h.answered = at;
        });
        let theirs = match told[0].value {
            Some(Variant::DateTime(ref time)) => value::nanos(**time, None),
            _ => None,
        };
        self.tell(began, "read the server’s clock".into(), theirs.map(havrel_core::time::to_text).unwrap_or_default());
        let off = theirs.map_or(0, |theirs| theirs - (asked_at + (at - asked_at) / 2));
        if off.abs() <= CLOCK_OFF {
            return Ok(Vec::new());
        }
        let (seconds, side) = (off.abs() as f64 / SECOND as f64, if off > 0 { "ahead of" } else { "behind" });
        Ok(vec![format!("The server’s clock is {seconds:.0} s {side} the clock of this machine.")])
    }

    /// Shows an exchange to those who watch.
    fn tell(&self, began: Instant, asked: String, answered: String) {
        if !self.life.ports.tap.open() {
            return;
        }
        let took_us = client::micros(began);
        let at = now() - i64::try_from(took_us).unwrap_or(0) * (MILLI / 1000);
        let (sent, received) = (Vec::new(), Vec::new());
        self.life.ports.tap.tell(Exchange { at, took_us, unit: 0, asked, answered, passed: true, sent, received });
    }
}
