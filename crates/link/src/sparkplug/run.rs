//! The life of one connection as a host application: connect, tell edge nodes so, hear their births, values and deaths, ask for
//! births that were missed, and recover by itself, over a spare address if need be.

use super::{
    host::{Host, Told},
    look::{self, At},
    rule::{Rule, Rules},
    settings::{HostSettings, Point, Settings, state},
};
use crate::{
    Command, LinkError, LinkPlan, LinkState, PointPlan, Ports, RawValue,
    life::{Life, Paths, Stop},
    mqtt::client::{As, Event, Given, Heard, Session},
    now,
    runner::Reply,
    traffic::{Exchange, MOST_BYTES},
};
use havrel_core::{
    TagNo,
    arrival::{Arrival, Mapping},
    quality::Quality,
    sample::{Batch, Value},
    scale::Scaling,
    time::{MILLI, Nanos},
};
use havrel_sparkplug::{
    payload::{BOOLEAN, Metric, MetricValue, Payload, Template},
    topic::{self, Name},
};
use prost::Message as _;
use std::{sync::Arc, time::Duration};
use tokio::time::{Instant, MissedTickBehavior, interval};

/// Messages that are taken in at once.
const MOST_AT_ONCE: usize = 500;
/// How often the connection looks after itself.
const LOOK: Duration = Duration::from_millis(250);
/// A session that lasted no longer was lost soon.
const SOON: Duration = Duration::from_secs(10);
/// A broker that does not answer a request for topics is given so many timeouts.
const PATIENCE: u32 = 5;
/// Writes that wait for their answer.
const MOST_WRITES: usize = 100;
/// Edge nodes and devices on which a mapping is tried.
const MOST_TRIED: usize = 1000;
/// The metric by which an edge node is asked for its birth (Eclipse Sparkplug 3.0, 6.4.18).
const REBIRTH: &str = "Node Control/Rebirth";

/// A value that was sent and is not told back yet.
struct Write {
    tag: TagNo,
    value: Value,
    /// What the metric told since then.
    told: Option<Value>,
    until: Instant,
    reply: Reply<Value>,
}

/// A connection that runs.
struct Run {
    life: Life,
    host: Host,
    /// With which it heard what it knows.
    settings: Option<Settings>,
    rules: Rules,
    writes: Vec<Write>,
    /// Messages that could not be read.
    unread: u64,
    /// Another host application with the same name was heard.
    same_host: bool,
    /// The broker refuses the word that this host is there.
    state_refused: bool,
}

pub(super) async fn run(ports: Ports) {
    let mut run = Run {
        life: Life::new(ports),
        host: Host::default(),
        settings: None,
        rules: Rules::default(),
        writes: Vec::new(),
        unread: 0,
        same_host: false,
        state_refused: false,
    };
    loop {
        let plan = run.life.ports.plan.borrow_and_update().clone();
        let stop = match Settings::<HostSettings>::usable(&plan.connection.settings) {
            Err(error) => Stop::Failed(error),
            Ok(_) if !plan.connection.enabled => Stop::Failed(LinkError::SwitchedOff),
            Ok(settings) => run.connect(plan, settings).await,
        };
        let error = match stop {
            Stop::End => return,
            Stop::Again => continue,
            Stop::Failed(error) => error,
        };
        run.writes.drain(..).for_each(|write| drop(write.reply.send(Err(error.clone()))));
        let plan = run.life.ports.plan.borrow().clone();
        let paths = Settings::<HostSettings>::parse(&plan.connection.settings).map_or(Paths { count: 0, takeover: false }, |s| {
            Paths { count: s.broker.paths().len(), takeover: s.broker.takeover }
        });
        let at = now();
        run.host.lost(at);
        let marks = plan.marked(at, Quality::of(error.reason()));
        if run.life.failed(error, marks, paths).await.is_err() {
            return;
        }
    }
}

impl Run {
    async fn connect(&mut self, plan: Arc<LinkPlan>, settings: Settings) -> Stop {
        self.life.connecting();
        let paths = settings.broker.paths();
        self.life.path = self.life.path.min(paths.len() - 1);
        let timeout_ms = plan.connection.timeout_ms;
        let (began, at) = (Instant::now(), now());
        let mut session = match Session::open(&settings.session(at), &paths[self.life.path], timeout_ms, As::Ourselves).await {
            Ok(session) => session,
            Err(error) => return Stop::Failed(error),
        };
        let took_us = u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
        self.life.ports.health.send_modify(|h| (h.round_trip_us, h.answered) = (took_us, now()));
        (self.same_host, self.state_refused) = (false, false);
        if self.settings.as_ref() != Some(&settings) {
            // Another broker or other groups: what was heard before may never be heard again.
            (self.host, self.settings) = (Host::default(), Some(settings.clone()));
        }
        let stop = self.serve(&mut session, plan, &settings, at).await;
        if settings.own.state && matches!(stop, Stop::End | Stop::Again) {
            // The broker publishes the last will only where it is left without a word.
            let _ = session.publish(&settings.own.state_topic(), state(false, now()).into_bytes(), 1, true);
        }
        session.close().await;
        stop
    }

    /// Keeps a session going until something ends it. `opened_at` stands in its last will.
    async fn serve(&mut self, session: &mut Session, mut plan: Arc<LinkPlan>, settings: &Settings, opened_at: Nanos) -> Stop {
        let timeout_ms = plan.connection.timeout_ms;
        let late = Duration::from_millis(timeout_ms.into());
        let opened = Instant::now();
        session.subscribe(&settings.own.filters(), 1);
        let mut asked = Some(Instant::now());
        self.host.window = Nanos::from(settings.own.reorder_ms) * MILLI;
        self.host.opened(now());
        let mut marks = Batch::default();
        self.host.follow(&plan, &mut marks, now());
        self.rules = Rules::of(&plan.connection.mappings, &self.host);
        if self.life.hand_on(marks).await.is_err() {
            return Stop::End;
        }
        self.running();
        let mut looks = interval(LOOK);
        looks.set_missed_tick_behavior(MissedTickBehavior::Delay);
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
                    if a.mappings != b.mappings {
                        self.rules = Rules::of(&b.mappings, &self.host);
                    }
                    plan = next;
                    let mut marks = Batch::default();
                    self.host.follow(&plan, &mut marks, now());
                    if self.life.hand_on(marks).await.is_err() {
                        return Stop::End;
                    }
                }
                command = self.life.ports.commands.recv() => match command {
                    None => return Stop::End,
                    Some(Command::TakePath { path, reply }) => {
                        if self.life.take_path(path, reply, settings.broker.paths().len()) {
                            return Stop::Again;
                        }
                    }
                    Some(command) => self.follow(session, &plan, settings, command, late),
                },
                event = session.events.recv() => {
                    let mut told = Told::default();
                    let mut next = event;
                    let mut messages = 0;
                    loop {
                        match next {
                            None => return Stop::Failed(LinkError::Closed),
                            Some(Event::Lost(error)) => {
                                return if self.life.hand_on(told.batch).await.is_err() { Stop::End } else { Stop::Failed(error) };
                            }
                            Some(Event::Message(came)) => {
                                messages += 1;
                                self.hear(session, settings, &came, opened_at, &mut told);
                            }
                            Some(Event::Subscribed(answers)) => {
                                asked = None;
                                if let Some(error) = answers.into_iter().find_map(Result::err) {
                                    return Stop::Failed(error);
                                }
                                // Only now: what edge nodes tell of themselves when they hear it would be missed before.
                                self.tell_state(session, settings, opened_at);
                            }
                            Some(Event::Published(_, Err(_))) => self.state_refused = true,
                            Some(Event::Sent(_) | Event::Published(..) | Event::Opened { .. }) => {}
                        }
                        if messages >= MOST_AT_ONCE {
                            break;
                        }
                        match session.events.try_recv() {
                            Ok(event) => next = Some(event),
                            Err(_) => break,
                        }
                    }
                    if messages > 0 {
                        self.life.ports.health.send_modify(|h| {
                            h.answered = now();
                            h.requests += messages as u64;
                        });
                    }
                    if self.told(told).await.is_err() {
                        return Stop::End;
                    }
                }
                _ = looks.tick() => {
                    if opened.elapsed() >= SOON {
                        self.life.failures = 0;
                    }
                    if asked.is_some_and(|asked| asked.elapsed() > late * PATIENCE) {
                        return Stop::Failed(LinkError::Silent(timeout_ms));
                    }
                    let mut told = Told::default();
                    self.host.tick(now(), &mut told);
                    if asked.is_none() {
                        for name in self.host.due(now()) {
                            // Where there is no room it is asked again later, like one that does not answer.
                            let _ = session.publish(&name.command(), rebirth(now()), 0, false);
                        }
                    }
                    self.tire();
                    if self.told(told).await.is_err() {
                        return Stop::End;
                    }
                    self.running();
                }
            }
        }
    }

    /// Hands on what was told: values, and what was born.
    async fn told(&mut self, told: Told) -> Result<(), ()> {
        self.rules.born(told.born);
        let announcer = &self.life.ports.announcer;
        self.rules.announce(&self.host, &mut |arrival| announcer.tell(arrival));
        self.answer(&told.batch);
        self.life.hand_on(told.batch).await
    }

    /// Tells edge nodes that this host is there; with the time that stands in the last will, so that they belong together.
    fn tell_state(&self, session: &Session, settings: &Settings, opened_at: Nanos) {
        if settings.own.state {
            // A queue that is empty has room for it.
            let _ = session.publish(&settings.own.state_topic(), state(true, opened_at).into_bytes(), 1, true);
        }
    }

    fn hear(&mut self, session: &Session, settings: &Settings, came: &Heard, opened_at: Nanos, told: &mut Told) {
        let at = now();
        let mut words = String::new();
        let mut passed = true;
        if settings.own.state && came.topic == settings.own.state_topic() {
            self.hear_state(session, settings, came, opened_at);
        } else if let Some((what, name)) = topic::read(&came.topic) {
            match Payload::read(&came.payload).filter(|_| !came.oversized) {
                // A retained one is of a time that has passed; edge nodes retain nothing (6.4.8).
                Some(_) if came.retained => words = "retained, left out".into(),
                Some(payload) => {
                    words = in_words(&payload);
                    self.host.hear(what, &name, payload, at, told);
                }
                None => {
                    (words, passed) = ("no payload of Sparkplug B".into(), false);
                    self.unread += 1;
                }
            }
        }
        if self.life.ports.tap.open() {
            let received = came.payload.iter().take(MOST_BYTES).copied().collect();
            let (asked, sent) = (came.topic.clone(), Vec::new());
            self.life.ports.tap.tell(Exchange { at, took_us: 0, unit: 0, asked, answered: words, passed, sent, received });
        }
    }

    /// Somebody tells how this host stands: ourselves, the broker for a session that is over, or another host of this name.
    fn hear_state(&mut self, session: &Session, settings: &Settings, came: &Heard, opened_at: Nanos) {
        let Ok(told) = serde_json::from_slice::<serde_json::Value>(&came.payload) else { return };
        match (told["online"].as_bool(), told["timestamp"].as_i64()) {
            (Some(true), stamp) if stamp != Some(opened_at / MILLI) && !came.retained => self.same_host = true,
            (Some(true), _) => {}
            // The will of a session before may come after our own word (5.13).
            _ if !came.retained => self.tell_state(session, settings, opened_at),
            _ => {}
        }
    }

    fn follow(&mut self, session: &Session, plan: &LinkPlan, settings: &Settings, command: Command, late: Duration) {
        // Whoever asked may have gone away meanwhile.
        match command {
            Command::Write { tag, value, reply } => self.write(session, plan, tag, value, reply, late),
            Command::Read { points, reply } => {
                let read = points.iter().map(|point| self.read(point)).collect();
                let _ = reply.send(Ok(read));
            }
            Command::Browse { ask, reply } => {
                let _ = reply.send(At::of(&ask.node).and_then(|at| look::page(&self.host, &at, &ask.cursor, ask.most)));
            }
            Command::Announced { reply } => {
                let _ = reply.send(Ok(look::list(&self.host, settings.own.buffer.trim(), now())));
            }
            Command::TryMapping { mapping, reply } => {
                let _ = reply.send(tried(&self.host, &mapping));
            }
            other => other.refuse(&LinkError::BadRequest("Edge nodes do not do this.".into())),
        }
    }

    /// What a metric told last.
    fn read(&self, plan: &PointPlan) -> RawValue {
        let failed = |words: &str| RawValue { words: words.to_owned(), ..RawValue::default() };
        let Ok(point) = Point::parse(&plan.point) else { return failed("It names no metric.") };
        let known = self.host.find(&point.name).and_then(|entity| entity.metric(&point.metric));
        let Some(known) = known else { return failed("No birth announced it yet.") };
        let Some((metric, _)) = &known.last else { return failed("It told no value yet.") };
        match metric.part(point.part.steps(), Some(known.datatype)) {
            Err(reason) => failed(reason.words()),
            Ok(value) => RawValue {
                bytes: metric.encode_to_vec().into_iter().take(MOST_BYTES).collect(),
                scaled: Some(Scaling::of(plan.scaling, value.clone()).0),
                decoded: Some(value),
                words: String::new(),
            },
        }
    }

    /// Sends a command with a value; the metric then tells what it holds.
    fn write(&mut self, session: &Session, plan: &LinkPlan, tag: TagNo, value: Value, reply: Reply<Value>, late: Duration) {
        let sent = self.command(session, plan, tag, &value);
        match sent {
            Err(error) => drop(reply.send(Err(error))),
            Ok(()) => self.writes.push(Write { tag, value, told: None, until: Instant::now() + late, reply }),
        }
    }

    fn command(&self, session: &Session, plan: &LinkPlan, tag: TagNo, value: &Value) -> Result<(), LinkError> {
        let refused = |words: &str| LinkError::BadRequest(words.to_owned());
        let own = plan.points.iter().find(|point| point.tag == tag).ok_or_else(|| refused("The tag has no metric."))?;
        let point = Point::parse(&own.point).map_err(|(_, words)| refused(&words))?;
        let entity = self.host.find(&point.name).filter(|entity| entity.state == super::entity::State::Online);
        let entity = entity.ok_or_else(|| refused("The edge node or device is not online."))?;
        let known = entity.metric(&point.metric).ok_or_else(|| refused("The edge node or device announces no such metric."))?;
        if self.writes.len() >= MOST_WRITES {
            return Err(LinkError::Busy);
        }
        let raw = match (own.scaling, value.number()) {
            (Some(scaling), Some(number)) => Value::F64(scaling.invert(number)),
            _ => value.clone(),
        };
        let last = known.last.as_ref().map(|(metric, _)| metric);
        let mut metric =
            carrying(&point.metric, known.datatype, last, point.part.steps(), &raw).map_err(LinkError::BadRequest)?;
        metric.timestamp = Some(stamp(now()));
        let payload = Payload { timestamp: metric.timestamp, metrics: vec![metric], ..Payload::default() };
        match session.publish(&point.name.command(), payload.encode_to_vec(), 0, false) {
            Given::Taken => Ok(()),
            Given::Full => Err(LinkError::Busy),
            Given::Refused(error) => Err(error),
        }
    }

    /// Answers those who wrote a value that is told back now.
    fn answer(&mut self, batch: &Batch) {
        if self.writes.is_empty() {
            return;
        }
        for sample in &batch.samples {
            let Some(value) = batch.value_of(*sample) else { continue };
            for write in self.writes.iter_mut().filter(|write| write.tag == sample.tag) {
                write.told = Some(value.clone());
            }
        }
        let (done, waiting): (Vec<_>, Vec<_>) = std::mem::take(&mut self.writes)
            .into_iter()
            .partition(|write| write.told.as_ref().is_some_and(|told| same(told, &write.value)));
        self.writes = waiting;
        done.into_iter().for_each(|write| drop(write.reply.send(Ok(write.told.unwrap_or(write.value)))));
    }

    /// Nobody waits longer for what a metric tells.
    fn tire(&mut self) {
        let now = Instant::now();
        let (over, waiting): (Vec<_>, Vec<_>) =
            std::mem::take(&mut self.writes).into_iter().partition(|write| write.until <= now);
        self.writes = waiting;
        for write in over {
            let error = match write.told {
                Some(told) => LinkError::ReadBack(told.text()),
                None => LinkError::NotTold,
            };
            let _ = write.reply.send(Err(error));
        }
    }

    /// Tells that the connection runs, with what was found out.
    fn running(&self) {
        let path = self.life.path;
        let mut learnt = Vec::new();
        if self.same_host {
            learnt.push("Another host application has the same host id; give this connection another one.".to_owned());
        }
        if self.state_refused {
            learnt.push("The broker refuses the state of this host, so edge nodes that wait for it stay silent.".to_owned());
        }
        if self.unread > 0 {
            learnt.push(format!("{} messages are none of Sparkplug B, or too large.", self.unread));
        }
        if self.host.full {
            learnt.push("There are more edge nodes, devices or metrics than Havrel keeps.".to_owned());
        }
        self.life.ports.health.send_modify(|h| {
            h.enter(LinkState::Running, None);
            h.learnt = learnt;
            if h.path != path {
                (h.path, h.path_since) = (path, now());
            }
        });
    }
}

/// What a mapping would make of what is announced now.
fn tried(host: &Host, mapping: &Mapping) -> Result<Vec<Arrival>, LinkError> {
    let rule = Rule::of(mapping).map_err(|wrong| LinkError::BadRequest(wrong[0].1.clone()))?;
    let names: Vec<Name> = host.names().into_iter().filter(|name| rule.concerns(name)).take(MOST_TRIED).collect();
    let born = names.iter().filter_map(|name| Some((name, host.find(name).filter(|entity| entity.births > 0)?)));
    Ok(born.map(|(name, entity)| rule.arrival(name, entity)).collect())
}

/// A metric that carries a value, or a member of the structure that it carried last.
fn carrying(name: &str, datatype: u32, last: Option<&Metric>, part: &[String], value: &Value) -> Result<Metric, String> {
    let Some((first, rest)) = part.split_first() else { return Metric::carrying(name, datatype, value) };
    let instance = last.and_then(Metric::instance).ok_or("Only members of structures are written, not elements or cells.")?;
    let member =
        instance.metrics.iter().find(|member| member.name.as_ref() == Some(first)).ok_or("The structure has no such member.")?;
    let member = carrying(first, member.datatype.unwrap_or_default(), Some(member), rest, value)?;
    let carried = Template {
        metrics: vec![member],
        version: instance.version.clone(),
        reference: instance.reference.clone(),
        is_definition: Some(false),
    };
    let value = Some(MetricValue::Template(carried));
    Ok(Metric { name: Some(name.to_owned()), datatype: Some(datatype), value, ..Metric::default() })
}

/// Whether a metric tells what was written; numbers of 32 bits hold fewer digits.
fn same(told: &Value, written: &Value) -> bool {
    match (told.number(), written.number()) {
        (Some(a), Some(b)) => (a - b).abs() <= b.abs() * f64::from(f32::EPSILON),
        _ => told.text() == written.text(),
    }
}

fn stamp(at: Nanos) -> u64 {
    u64::try_from(at / MILLI).unwrap_or_default()
}

/// The command by which an edge node is asked for its birth.
fn rebirth(at: Nanos) -> Vec<u8> {
    let ask = Metric {
        name: Some(REBIRTH.into()),
        timestamp: Some(stamp(at)),
        datatype: Some(BOOLEAN),
        value: Some(MetricValue::Boolean(true)),
        ..Metric::default()
    };
    Payload { timestamp: Some(stamp(at)), metrics: vec![ask], ..Payload::default() }.encode_to_vec()
}

/// A message for whoever watches.
fn in_words(payload: &Payload) -> String {
    let seq = payload.seq.map_or_else(String::new, |seq| format!("message {seq}: "));
    let some = payload.metrics.iter().take(20).map(|metric| {
        let value = metric.read(None).map_or_else(|reason| reason.words().to_owned(), |value| value.text());
        format!("{} = {value}", metric.label())
    });
    let text = some.collect::<Vec<_>>().join(", ");
    format!("{seq}{text}").chars().take(MOST_BYTES).collect()
}
