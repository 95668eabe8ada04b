//! The life of one connection as an edge node: connect with the word of its death as last will, wait for the primary host, announce
//! what is sent, send it, and recover by itself. What cannot be sent stays in the queue of the connection.

use super::{
    super::settings::{NodeSettings, Settings},
    speaker::{Sample, Sent, Speaker, asks_for_birth},
};
use crate::{
    Command, LinkError, LinkPlan, LinkState, Ports,
    life::{Life, Paths, Stop},
    mqtt::{
        client::{As, Event, Given, Heard, Session},
        settings::Will,
    },
    now,
};
use havrel_core::{
    publish::Message,
    time::{Nanos, SECOND},
};
use havrel_sparkplug::{payload::Payload, topic};
use serde::Deserialize;
use std::{collections::VecDeque, sync::Arc, time::Duration};
use tokio::time::{Instant, MissedTickBehavior, interval};

/// Messages of the queue that are taken at once.
const MOST_AT_ONCE: usize = 500;
/// Messages that are looked through for metrics before the first birth of a session.
const MOST_AHEAD: usize = 20_000;
/// How often the connection looks after itself; for so long nothing must have come before the first birth.
const LOOK: Duration = Duration::from_millis(250);
/// A session that lasted no longer was lost soon.
const SOON: Duration = Duration::from_secs(10);
/// A broker that does not answer a request for topics is given so many timeouts.
const PATIENCE: u32 = 5;
/// Births that others ask for come at most so often.
const AGAIN: Duration = Duration::from_secs(1);

/// A connection that runs.
struct Run {
    life: Life,
    speaker: Option<(NodeSettings, Speaker)>,
    /// Messages that could not be made into metrics.
    unfit: u64,
}

/// What one session has under way.
struct Serving {
    session: Session,
    plan: Arc<LinkPlan>,
    /// When the first births were made: what was made before is of the past.
    since: Nanos,
    /// The primary host is there, or none is waited for.
    there: bool,
    /// When the session began of which the primary host told last.
    host_since: i64,
    /// The first births were sent.
    begun: bool,
    /// Taken from the queue and not made into messages yet, and when something came last.
    ahead: VecDeque<(u64, Message)>,
    quiet: Instant,
    /// Messages that wait to be handed to the library.
    leaving: VecDeque<Sent>,
    /// What of the queue they tell, once the broker has read up to them.
    numbers: Vec<u64>,
    /// A request is under way whose answer says that the broker has read what was sent before it.
    asked: Option<Instant>,
    /// Values of the past were sent, and the newest not since.
    past: bool,
    /// Somebody asked for births.
    rebirth: bool,
    born: Option<Instant>,
}

pub(super) async fn run(ports: Ports) {
    let mut run = Run { life: Life::new(ports), speaker: None, unfit: 0 };
    loop {
        let plan = run.life.ports.plan.borrow_and_update().clone();
        let stop = match Settings::<NodeSettings>::usable(&plan.connection.settings) {
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
        let paths = Settings::<NodeSettings>::parse(&plan.connection.settings).map_or(Paths { count: 0, takeover: false }, |s| {
            Paths { count: s.broker.paths().len(), takeover: s.broker.takeover }
        });
        if run.life.failed(error, Default::default(), paths).await.is_err() {
            return;
        }
    }
}

/// What a host application tells of itself (Eclipse Sparkplug 3.0, 6.4.25).
#[derive(Debug, Deserialize)]
pub(super) struct HostState {
    pub online: bool,
    /// When it connected, in milliseconds.
    timestamp: i64,
}

impl HostState {
    pub fn read(payload: &[u8]) -> Option<HostState> {
        serde_json::from_slice(payload).ok()
    }
}

impl Run {
    async fn connect(&mut self, plan: Arc<LinkPlan>, settings: Settings<NodeSettings>) -> Stop {
        self.life.connecting();
        let paths = settings.broker.paths();
        self.life.path = self.life.path.min(paths.len() - 1);
        if self.speaker.as_ref().is_none_or(|(own, _)| *own != settings.own) {
            // The second at which it starts tells its sessions from those of before.
            let first = (now() / SECOND) as u8;
            self.speaker = Some((settings.own.clone(), Speaker::new(settings.own.name(), first)));
        }
        let Some((_, speaker)) = &mut self.speaker else { return Stop::Again };
        speaker.retain(&plan.topics);
        speaker.begin();
        let (topic, death) = speaker.death();
        let will = Will { topic, bytes: Some(death), qos: 1, ..Will::default() };
        let began = Instant::now();
        let path = &paths[self.life.path];
        let session = match Session::open(&settings.broker_of(Some(will)), path, plan.connection.timeout_ms, As::Ourselves).await
        {
            Ok(session) => session,
            Err(error) => return Stop::Failed(error),
        };
        let took_us = u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
        self.life.ports.health.send_modify(|h| (h.round_trip_us, h.answered) = (took_us, now()));
        let mut serving = Serving {
            session,
            plan,
            since: 0,
            there: settings.own.primary_host.trim().is_empty(),
            host_since: i64::MIN,
            begun: false,
            ahead: VecDeque::new(),
            quiet: Instant::now(),
            leaving: VecDeque::new(),
            numbers: Vec::new(),
            asked: None,
            past: false,
            rebirth: false,
            born: None,
        };
        let outgoing = self.life.ports.outgoing.clone();
        outgoing.open();
        let stop = self.serve(&mut serving, &settings).await;
        outgoing.closed(matches!(stop, Stop::Failed(_)));
        if matches!(stop, Stop::End | Stop::Again)
            && let Some((_, speaker)) = &self.speaker
        {
            // The broker publishes the last will only where it is left without a word.
            let (topic, death) = speaker.death();
            let _ = serving.session.publish(&topic, death, 1, false);
        }
        serving.session.close().await;
        stop
    }

    /// Keeps a session going until something ends it.
    async fn serve(&mut self, serving: &mut Serving, settings: &Settings<NodeSettings>) -> Stop {
        let timeout_ms = serving.plan.connection.timeout_ms;
        let late = Duration::from_millis(timeout_ms.into());
        let opened = Instant::now();
        let commands = settings.own.name().command();
        let host = settings.own.primary_host.trim();
        let state = (!host.is_empty()).then(|| topic::state(host));
        let topics: Vec<String> = std::iter::once(commands.clone()).chain(state.clone()).collect();
        serving.session.subscribe(&topics, 1);
        let mut subscribed = false;
        serving.asked = Some(Instant::now());
        let queue = self.life.ports.outgoing.clone();
        let mut looks = interval(LOOK);
        looks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        self.running(serving, host);
        loop {
            if subscribed && serving.there {
                self.go_on(serving, &commands);
            }
            tokio::select! {
                () = queue.bell().notified() => {}
                changed = self.life.ports.plan.changed() => {
                    if changed.is_err() {
                        return Stop::End;
                    }
                    let next = self.life.ports.plan.borrow_and_update().clone();
                    let (a, b) = (&serving.plan.connection, &next.connection);
                    if a.settings != b.settings || a.enabled != b.enabled || a.timeout_ms != b.timeout_ms {
                        return Stop::Again;
                    }
                    serving.plan = next;
                    if let Some((_, speaker)) = &mut self.speaker {
                        speaker.retain(&serving.plan.topics);
                    }
                }
                command = self.life.ports.commands.recv() => match command {
                    None => return Stop::End,
                    Some(Command::TakePath { path, reply }) => {
                        if self.life.take_path(path, reply, settings.broker.paths().len()) {
                            return Stop::Again;
                        }
                    }
                    Some(other) => other.refuse(&LinkError::BadRequest("An edge node only sends what its publications say.".into())),
                },
                event = serving.session.events.recv() => match event {
                    None => return Stop::Failed(LinkError::Closed),
                    Some(Event::Lost(error)) => return Stop::Failed(error),
                    Some(Event::Subscribed(answers)) => {
                        serving.asked = None;
                        if let Some(error) = answers.into_iter().find_map(Result::err) {
                            return Stop::Failed(error);
                        }
                        subscribed = true;
                        serving.read_up_to_here(&*queue);
                        self.life.ports.health.send_modify(|h| h.answered = now());
                    }
                    Some(Event::Message(came)) if state.as_ref() == Some(&came.topic) => {
                        let Some(online) = serving.told_state(&came.payload) else { continue };
                        if serving.there && !online {
                            // It begins anew, and waits until the host is back (Eclipse Sparkplug 3.0, 5.4).
                            return Stop::Again;
                        }
                        serving.there |= online;
                        self.running(serving, host);
                    }
                    Some(Event::Message(came)) => serving.hear(&came),
                    Some(Event::Sent(_) | Event::Published(..) | Event::Opened { .. }) => {}
                },
                _ = looks.tick() => {
                    if opened.elapsed() >= SOON {
                        self.life.failures = 0;
                    }
                    if serving.asked.is_some_and(|asked| asked.elapsed() > late * PATIENCE) {
                        return Stop::Failed(LinkError::Silent(timeout_ms));
                    }
                    self.running(serving, host);
                }
            }
        }
    }

    /// Takes from the queue what there is, and sends it.
    fn go_on(&mut self, serving: &mut Serving, commands: &str) {
        let Some((_, speaker)) = &mut self.speaker else { return };
        let queue = self.life.ports.outgoing.clone();
        let at = now();
        if !serving.begun {
            // Metrics that wait in the queue belong into the first birth.
            while serving.ahead.len() < MOST_AHEAD {
                let some = queue.next(MOST_AT_ONCE);
                if some.is_empty() {
                    break;
                }
                serving.quiet = Instant::now();
                serving.ahead.extend(some);
            }
            if serving.ahead.len() < MOST_AHEAD && serving.quiet.elapsed() < LOOK {
                return;
            }
            serving
                .ahead
                .iter()
                .filter_map(|(_, message)| serving.plan.sample(message))
                .for_each(|sample| speaker.learn(&sample));
            serving.leaving.extend(speaker.births(true, at));
            (serving.begun, serving.since) = (true, at);
            serving.born = Some(Instant::now());
        }
        if serving.rebirth && serving.born.is_none_or(|born| born.elapsed() >= AGAIN) {
            serving.rebirth = false;
            serving.born = Some(Instant::now());
            serving.leaving.extend(speaker.births(true, at));
        }
        // One lot after the other, each once the broker has read the one before.
        if serving.leaving.is_empty() && serving.numbers.is_empty() {
            if serving.ahead.is_empty() {
                serving.ahead.extend(queue.next(MOST_AT_ONCE));
            }
            let count = serving.ahead.len().min(MOST_AT_ONCE);
            let lot: Vec<(u64, Message)> = serving.ahead.drain(..count).collect();
            self.tell(serving, lot, at);
        }
        while let Some((topic, payload)) = serving.leaving.front() {
            match serving.session.publish(topic, payload.clone(), 0, false) {
                Given::Taken => {}
                Given::Full => return,
                Given::Refused(_) => self.unfit += 1,
            }
            serving.leaving.pop_front();
        }
        if !serving.numbers.is_empty() && serving.asked.is_none() && serving.session.subscribe(&[commands.to_owned()], 1) {
            serving.asked = Some(Instant::now());
        }
    }

    /// Makes a lot of the queue into messages: what was made before the first births as values of the past.
    fn tell(&mut self, serving: &mut Serving, lot: Vec<(u64, Message)>, at: Nanos) {
        let Some((_, speaker)) = &mut self.speaker else { return };
        let (mut past, mut present): (Vec<Sample>, Vec<Sample>) = (Vec::new(), Vec::new());
        for (number, message) in lot {
            serving.numbers.push(number);
            let Some(sample) = serving.plan.sample(&message) else { continue };
            speaker.learn(&sample);
            if message.made < serving.since {
                past.push(sample);
            } else {
                present.push(sample);
            }
        }
        serving.leaving.extend(speaker.births(false, at));
        serving.past |= !past.is_empty();
        serving.leaving.extend(speaker.data(&past, true, at));
        serving.leaving.extend(speaker.data(&present, false, at));
        if serving.past && (!present.is_empty() || serving.ahead.is_empty()) {
            // A host shows none of the past, so it is told once how things stand.
            serving.past = false;
            serving.leaving.extend(speaker.newest(at));
        }
    }

    /// Tells that the connection runs, with what was found out.
    fn running(&self, serving: &Serving, host: &str) {
        let path = self.life.path;
        let mut learnt = Vec::new();
        if !serving.there {
            learnt.push(format!("The primary host {host} is not there; what is to be sent waits on disk."));
        }
        if self.unfit > 0 {
            learnt.push(format!("{} values could not be sent as metrics.", self.unfit));
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

impl LinkPlan {
    /// What a message tells of a metric; nothing where it is not sent any more.
    fn sample(&self, message: &Message) -> Option<Sample> {
        self.topics.binary_search(&message.topic).ok()?;
        Sample::of(message)
    }
}

impl Serving {
    fn hear(&mut self, came: &Heard) {
        if !came.retained && Payload::read(&came.payload).is_some_and(|payload| asks_for_birth(&payload)) {
            self.rebirth = true;
        }
    }

    /// Whether the primary host is there, by what it tells; nothing for the last will of an earlier session, which comes late
    /// (Eclipse Sparkplug 3.0, 5.4).
    fn told_state(&mut self, payload: &[u8]) -> Option<bool> {
        let told = HostState::read(payload).filter(|told| told.online || told.timestamp >= self.host_since)?;
        self.host_since = told.timestamp;
        Some(told.online)
    }

    /// The broker has read all that was sent before its answer.
    fn read_up_to_here(&mut self, queue: &dyn crate::Outgoing) {
        if self.leaving.is_empty() {
            self.numbers.drain(..).for_each(|number| queue.done(number, Ok(())));
        }
    }
}
