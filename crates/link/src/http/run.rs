//! The life of one connection: ask in its rhythms, tell what each request gives, recover by itself, over a spare address if need be.

use super::{
    client::{Caller, Failed},
    look::{self, At},
    rounds::{Ended, Rounds},
    settings::{Point, Settings},
};
use crate::{
    Ask, Children, Command, LinkError, LinkPlan, LinkState, PointPlan, Ports, RawValue,
    health::Durations,
    life::{Life, Paths, Stop},
    now, payload,
    runner::no_broker,
    traffic::{Exchange, MOST_BYTES},
};
use bytes::Bytes;
use havrel_core::{quality::Quality, sample::Batch, scale::Scaling, time::Nanos};
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use tokio::{task::JoinSet, time::Instant};

/// Looks at answers under way at once.
const MOST_LOOKS: usize = 4;
/// How long an answer serves whoever looks, so that opening several members asks once.
const FRESH: Duration = Duration::from_secs(2);
/// A connection that lasted so long was no failure at its start.
const SOON: Duration = Duration::from_secs(10);

/// Answers that somebody looked at.
type Looked = Arc<Mutex<HashMap<String, (Instant, Bytes)>>>;

struct Run {
    life: Life,
    durations: Durations,
    /// When all tags were told last that the program cannot be reached; 0 if never.
    marked: Nanos,
}

pub(super) async fn run(ports: Ports) {
    let mut run = Run { life: Life::new(ports), durations: Durations::default(), marked: 0 };
    loop {
        let plan = run.life.ports.plan.borrow_and_update().clone();
        let stop = match Settings::usable(&plan.connection.settings) {
            Err(error) => Stop::Failed(error),
            Ok(_) if !plan.connection.enabled => Stop::Failed(LinkError::SwitchedOff),
            Ok(settings) => run.serve(plan, Arc::new(settings)).await,
        };
        let error = match stop {
            Stop::End => return,
            Stop::Again => continue,
            Stop::Failed(error) => error,
        };
        let plan = run.life.ports.plan.borrow().clone();
        let paths = Settings::parse(&plan.connection.settings)
            .map_or(Paths { count: 0, takeover: false }, |s| Paths { count: s.paths().len(), takeover: s.takeover });
        run.marked = now();
        let marks = plan.marked(run.marked, Quality::of(error.reason()));
        if run.life.failed(error, marks, paths).await.is_err() {
            return;
        }
    }
}

impl Run {
    async fn serve(&mut self, mut plan: Arc<LinkPlan>, settings: Arc<Settings>) -> Stop {
        self.life.connecting();
        let paths = settings.paths();
        self.life.path = self.life.path.min(paths.len() - 1);
        let path = paths[self.life.path].clone();
        let timeout_ms = plan.connection.timeout_ms;
        if let Err(error) = Caller::new(settings.clone(), path.clone(), timeout_ms).dial().await {
            return Stop::Failed(error);
        }
        let opened = Instant::now();
        let mut rounds = Rounds::new(settings.clone(), path.clone(), timeout_ms, self.marked);
        let mut marks = Batch::default();
        rounds.follow(&plan, &mut marks, now());
        if self.life.hand_on(marks).await.is_err() {
            return Stop::End;
        }
        self.running(&rounds);
        let (looked, mut looking) = (Looked::default(), JoinSet::new());
        loop {
            tokio::select! {
                changed = self.life.ports.plan.changed() => {
                    if changed.is_err() {
                        return Stop::End;
                    }
                    let next = self.life.ports.plan.borrow_and_update().clone();
                    let (a, b) = (&plan.connection, &next.connection);
                    if a.settings != b.settings || a.enabled != b.enabled || a.timeout_ms != b.timeout_ms {
                        return Stop::Again;
                    }
                    plan = next;
                    let mut marks = Batch::default();
                    rounds.follow(&plan, &mut marks, now());
                    if self.life.hand_on(marks).await.is_err() {
                        return Stop::End;
                    }
                }
                command = self.life.ports.commands.recv() => match command {
                    None => return Stop::End,
                    Some(Command::TakePath { path, reply }) => {
                        if self.life.take_path(path, reply, paths.len()) {
                            return Stop::Again;
                        }
                    }
                    Some(Command::Browse { ask, reply }) if looking.len() < MOST_LOOKS => {
                        let caller = Caller::new(settings.clone(), path.clone(), timeout_ms);
                        let (settings, looked) = (settings.clone(), looked.clone());
                        // Whoever asked may have gone away meanwhile.
                        looking.spawn(async move { drop(reply.send(browse(&settings, caller, &looked, &ask).await)) });
                    }
                    Some(Command::Browse { reply, .. }) => drop(reply.send(Err(LinkError::Busy))),
                    Some(Command::Read { points, reply }) => {
                        drop(reply.send(Ok(points.iter().map(|point| read(&rounds, point)).collect())));
                    }
                    Some(other @ (Command::TryMapping { .. } | Command::Publish { .. } | Command::Announced { .. })) => other.refuse(&no_broker()),
                    Some(other) => {
                        other.refuse(&LinkError::BadRequest("Havrel only reads from a program that it asks over HTTP.".into()));
                    }
                },
                Some(_) = looking.join_next() => {}
                ended = rounds.next() => {
                    if opened.elapsed() >= SOON {
                        self.life.failures = 0;
                    }
                    self.watch(&ended);
                    let (batch, error) = match rounds.take(ended, now()) {
                        Err(error) => return Stop::Failed(error),
                        Ok(taken) => taken,
                    };
                    if let Some(error) = &error {
                        self.life.ports.health.send_modify(|h| h.count(error));
                    }
                    if self.life.hand_on(batch).await.is_err() {
                        return Stop::End;
                    }
                    // Where nothing is answered any more, another address may.
                    if let (Some(error), true, true) = (error, rounds.failing().1, settings.takeover && paths.len() > 1) {
                        return Stop::Failed(error);
                    }
                    self.running(&rounds);
                }
            }
        }
    }

    /// Counts a request, and shows it to those who watch.
    fn watch(&mut self, ended: &Ended) {
        let took_us = u64::try_from(ended.took.as_micros()).unwrap_or(u64::MAX);
        let answered = ended.result.is_ok();
        if answered {
            self.durations.add(took_us);
        }
        let (p50_us, p95_us) = self.durations.percentiles();
        self.life.ports.health.send_modify(|h| {
            h.requests += 1;
            if answered {
                (h.round_trip_us, h.p50_us, h.p95_us, h.answered) = (took_us, p50_us, p95_us, now());
            }
        });
        if !self.life.ports.tap.open() {
            return;
        }
        let (words, received) = match &ended.result {
            Ok(answer) if answer.unchanged => ("304, nothing changed".to_owned(), Vec::new()),
            Ok(answer) => {
                let text: String = String::from_utf8_lossy(&answer.body).chars().take(MOST_BYTES).collect();
                (format!("{} {text}", answer.status), answer.body.iter().take(MOST_BYTES).copied().collect())
            }
            Err(Failed::Dial(error) | Failed::Asked(error, _)) => (error.to_string(), Vec::new()),
        };
        self.life.ports.tap.tell(Exchange {
            at: now(),
            took_us,
            unit: 0,
            asked: ended.asked(),
            answered: words,
            passed: answered,
            sent: Vec::new(),
            received,
        });
    }

    /// Tells that the connection runs, or that nothing answers, with what was found out.
    fn running(&self, rounds: &Rounds) {
        let path = self.life.path;
        let (failing, whole) = rounds.failing();
        let learnt =
            failing.iter().map(|(path, error)| format!("{}: {error} {}", if path.is_empty() { "/" } else { path }, error.cure()));
        let learnt: Vec<String> = learnt.collect();
        let trouble = failing.first().filter(|_| whole).map(|(_, error)| *error);
        self.life.ports.health.send_modify(|h| {
            h.enter(if trouble.is_some() { LinkState::Trouble } else { LinkState::Running }, trouble);
            h.learnt = learnt;
            if h.path != path {
                (h.path, h.path_since) = (path, now());
            }
        });
    }
}

/// A page of what lies below a node.
async fn browse(settings: &Settings, mut caller: Caller, looked: &Looked, ask: &Ask) -> Result<Children, LinkError> {
    let at = At::of(&ask.node)?;
    let Some(path) = &at.path else { return look::page(look::requests(settings), ask) };
    let fresh = |(at, body): &(Instant, Bytes)| (at.elapsed() < FRESH).then(|| body.clone());
    let known = looked.lock().unwrap_or_else(PoisonError::into_inner).get(path).and_then(fresh);
    let body = match known {
        Some(body) => body,
        None => {
            let body = caller.ask(&settings.request(path), None).await.map_err(Failed::error)?.body;
            let mut looked = looked.lock().unwrap_or_else(PoisonError::into_inner);
            looked.retain(|_, (at, _)| at.elapsed() < FRESH);
            looked.insert(path.clone(), (Instant::now(), body.clone()));
            body
        }
    };
    look::page(look::inside(&at, &body), ask)
}

/// What came last where a point is read.
fn read(rounds: &Rounds, point: &PointPlan) -> RawValue {
    let failed = |words: String| RawValue { words, ..RawValue::default() };
    let at = match Point::parse(&point.point) {
        Err((_, words)) => return failed(words),
        Ok(at) => at,
    };
    match rounds.body(&at.path) {
        None => failed("No answer came yet.".into()),
        Some(body) => payload::raw(&at.taken, body, |value| Scaling::of(point.scaling, value).0, MOST_BYTES),
    }
}
