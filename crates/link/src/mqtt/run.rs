//! The life of one connection: connect, subscribe what the tags hear, recover by itself, over a spare address if need be.

use super::{
    client::{As, Event, Heard, Session},
    heard::{Last, Topics},
    inbox::{Difference, Inbox},
    large::{Fresh, Large, PAUSE},
    listening::Ears,
    look::{self, At},
    mapping::{Mappings, Trial},
    sending::Sending,
    settings::{Point, Settings, fits},
};
use crate::{
    Command, LinkError, LinkPlan, LinkState, PointPlan, Ports, RawValue, Received,
    life::{Life, Paths, Stop},
    now, payload,
    runner::Reply,
    traffic::{Exchange, MOST_BYTES},
};
use havrel_core::{
    TagNo,
    arrival::Arrival,
    quality::{Quality, Reason},
    sample::{Batch, Value},
    scale::Scaling,
};
use std::{
    collections::{HashSet, VecDeque},
    sync::Arc,
    time::Duration,
};
use tokio::{
    task::JoinSet,
    time::{Instant, MissedTickBehavior, interval, timeout},
};

/// Messages that are taken in at once.
const MOST_AT_ONCE: usize = 2000;
/// Filters in one request, and bytes of them.
const MOST_FILTERS: usize = 100;
const MOST_FILTER_BYTES: usize = 16 << 10;
/// How often the connection looks after itself.
const LOOK: Duration = Duration::from_secs(1);
/// A session that lasted no longer was lost soon.
const SOON: Duration = Duration::from_secs(10);
/// A broker that does not answer a request for topics is given so many timeouts.
const PATIENCE: u32 = 5;
/// How long messages that waited at the broker may come after a session is open again.
const CATCHING_UP: Duration = Duration::from_secs(2);
/// Looks at topics under way at once.
const MOST_LOOKS: usize = 8;

/// A connection that runs.
struct Run {
    life: Life,
    inbox: Inbox,
    mappings: Mappings,
    ears: Ears,
    large: Large,
    /// Messages by which somebody writes that found no room.
    orders_left: u64,
}

/// What one session has under way.
struct Serving {
    session: Session,
    plan: Arc<LinkPlan>,
    /// Filters that are still to be asked for, and those that were asked for last.
    wanted: VecDeque<String>,
    asked: Vec<String>,
    asked_at: Instant,
    /// Those that were asked for so shortly before that what the broker retains there may still come.
    fresh: Fresh,
    /// Filters that are no longer wanted.
    unwanted: Vec<String>,
    sending: Sending,
    /// Topics that the broker does not give.
    refused: Vec<String>,
    /// Topics that it gives with a lower quality of service than was asked for.
    lower: HashSet<String>,
}

pub(super) async fn run(ports: Ports) {
    let mut run = Run {
        life: Life::new(ports),
        inbox: Inbox::default(),
        mappings: Mappings::default(),
        ears: Ears::default(),
        large: Large::default(),
        orders_left: 0,
    };
    loop {
        let plan = run.life.ports.plan.borrow_and_update().clone();
        let stop = match Settings::usable(&plan.connection.settings) {
            Err(error) => Stop::Failed(error),
            Ok(_) if !plan.connection.enabled => Stop::Failed(LinkError::SwitchedOff),
            Ok(settings) => run.connect(plan, settings).await,
        };
        run.ears = Ears::default();
        let error = match stop {
            Stop::End => return,
            Stop::Again => continue,
            Stop::Failed(error) => error,
        };
        let plan = run.life.ports.plan.borrow().clone();
        let paths = Settings::parse(&plan.connection.settings)
            .map_or(Paths { count: 0, takeover: false }, |s| Paths { count: s.paths().len(), takeover: s.takeover });
        let at = now();
        run.inbox.lost(at);
        let marks = plan.marked(at, Quality::of(error.reason()));
        if run.life.failed(error, marks, paths).await.is_err() {
            return;
        }
    }
}

impl Run {
    async fn connect(&mut self, plan: Arc<LinkPlan>, settings: Settings) -> Stop {
        self.life.connecting();
        let paths = settings.paths();
        self.life.path = self.life.path.min(paths.len() - 1);
        let timeout_ms = plan.connection.timeout_ms;
        let began = Instant::now();
        let session = match Session::open(&settings, &paths[self.life.path], timeout_ms, As::Ourselves).await {
            Ok(session) => session,
            Err(error) => return Stop::Failed(error),
        };
        let took_us = micros(began);
        self.life.ports.health.send_modify(|h| {
            (h.round_trip_us, h.answered) = (took_us, now());
        });
        let mut serving = Serving {
            session,
            plan,
            wanted: VecDeque::new(),
            asked: Vec::new(),
            asked_at: Instant::now(),
            fresh: Fresh::default(),
            unwanted: Vec::new(),
            sending: Sending::default(),
            refused: Vec::new(),
            lower: HashSet::new(),
        };
        self.life.ports.outgoing.open();
        let stop = self.deliver(&mut serving, &settings).await;
        self.life.ports.outgoing.closed(matches!(stop, Stop::Failed(_)));
        let error = match &stop {
            Stop::Failed(error) => error.clone(),
            _ => LinkError::Closed,
        };
        let found = matches!(error, LinkError::TooLarge(_)) && self.large.met(serving.fresh.all(Instant::now()), Instant::now());
        serving.sending.over(&error);
        // Otherwise the broker would take the connection for lost, and publish the last will.
        serving.session.close().await;
        // The next session tells more of the message that ended this one.
        if found { Stop::Again } else { stop }
    }

    /// Keeps a session delivering until something ends it.
    async fn deliver(&mut self, serving: &mut Serving, settings: &Settings) -> Stop {
        let timeout_ms = serving.plan.connection.timeout_ms;
        let paths = settings.paths();
        let mut marks = Batch::default();
        self.mappings = Mappings::of(&serving.plan.connection.mappings);
        self.inbox.follow(&serving.plan, settings, &mut marks, now());
        let own = self.inbox.all().into_iter().filter(|topic| !self.mappings.cover(topic));
        let orders = serving.plan.orders.iter().filter(|topic| !self.inbox.hears(topic) && !self.mappings.cover(topic)).cloned();
        let wanted: Vec<String> = self.mappings.filters().into_iter().chain(own).chain(orders).collect();
        let (wanted, left_out) = self.large.in_order(wanted, Instant::now());
        serving.wanted = wanted.into();
        for filter in left_out {
            self.inbox.granted(&filter, Some(Reason::DoesNotFit), &mut marks, now());
        }
        if self.life.hand_on(marks).await.is_err() {
            return Stop::End;
        }
        serving.ask(settings, &self.large);
        self.running(serving);
        let opened = Instant::now();
        let mut looks = interval(LOOK);
        looks.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut looking = JoinSet::new();
        let queue = self.life.ports.outgoing.clone();
        loop {
            serving.sending.go_on(&serving.session, &*queue);
            tokio::select! {
                () = queue.bell().notified() => {}
                changed = self.life.ports.plan.changed() => {
                    if changed.is_err() {
                        return Stop::End;
                    }
                    let next = self.life.ports.plan.borrow_and_update().clone();
                    let (a, b) = (&serving.plan.connection, &next.connection);
                    if a.settings != b.settings || a.enabled != b.enabled || a.timeout_ms != b.timeout_ms || a.mappings != b.mappings || serving.plan.orders != next.orders {
                        return Stop::Again;
                    }
                    serving.plan = next;
                    let mut marks = Batch::default();
                    let changed = self.inbox.follow(&serving.plan, settings, &mut marks, now());
                    let changed = self.mapped(serving, changed, &mut marks);
                    serving.change(changed.new, changed.gone);
                    serving.ask(settings, &self.large);
                    if self.life.hand_on(marks).await.is_err() {
                        return Stop::End;
                    }
                    self.running(serving);
                }
                command = self.life.ports.commands.recv() => match command {
                    None => return Stop::End,
                    Some(Command::TakePath { path, reply }) => {
                        if self.life.take_path(path, reply, paths.len()) {
                            return Stop::Again;
                        }
                    }
                    Some(Command::Write { tag, value, reply }) => serving.write(tag, value, reply),
                    Some(Command::Publish { message, reply }) => serving.sending.by_hand(&serving.session, message, reply),
                    Some(Command::Read { points, reply }) => {
                        let read = points.iter().map(|point| self.read(point)).collect();
                        // Whoever asked may have gone away meanwhile.
                        let _ = reply.send(Ok(read));
                    }
                    Some(Command::Browse { ask, reply }) if looking.len() < MOST_LOOKS => match At::of(&ask.node) {
                        Err(error) => drop(reply.send(Err(error))),
                        Ok(at) => {
                            let mut look = self.ears.listen(&at.filter, settings, &paths[self.life.path], timeout_ms);
                            looking.spawn(async move {
                                // The answer to the filter may take as long as that of a login and another one.
                                let patience = Duration::from_millis(u64::from(timeout_ms) * 3);
                                let page = match timeout(patience, look.topics()).await {
                                    Err(_) => Err(LinkError::Silent(timeout_ms)),
                                    Ok(Err(error)) => Err(error),
                                    Ok(Ok(topics)) => look::page(&topics, &at, &ask.cursor, ask.most),
                                };
                                let _ = reply.send(page);
                            });
                        }
                    },
                    Some(Command::TryMapping { mapping, reply }) if looking.len() < MOST_LOOKS => match Trial::of(&mapping) {
                        Err(wrong) => drop(reply.send(Err(LinkError::BadRequest(wrong[0].1.clone())))),
                        Ok(trial) => {
                            let mut look = self.ears.listen(trial.filter(), settings, &paths[self.life.path], timeout_ms);
                            looking.spawn(async move {
                                let patience = Duration::from_millis(u64::from(timeout_ms) * 3);
                                let tried = match timeout(patience, look.topics()).await {
                                    Err(_) => Err(LinkError::Silent(timeout_ms)),
                                    Ok(Err(error)) => Err(error),
                                    Ok(Ok(topics)) => Ok(tried(&trial, &topics)),
                                };
                                let _ = reply.send(tried);
                            });
                        }
                    },
                    Some(Command::TryMapping { reply, .. }) => drop(reply.send(Err(LinkError::Busy))),
                    Some(Command::Browse { reply, .. }) => drop(reply.send(Err(LinkError::Busy))),
                    Some(other @ (Command::Announced { .. } | Command::Served { .. })) => other.refuse(&LinkError::BadRequest(
                        "Edge nodes announce themselves to connections of the kind Sparkplug B.".into(),
                    )),
                    Some(other @ (Command::Fill { .. } | Command::Notify { .. })) => {
                        other.refuse(&LinkError::BadRequest("A broker neither records nor tells people.".into()));
                    }
                },
                Some(_) = looking.join_next() => {}
                event = serving.session.events.recv() => {
                    let mut batch = Batch::default();
                    let mut next = event;
                    let mut messages = 0;
                    loop {
                        match next {
                            None => return Stop::Failed(LinkError::Closed),
                            Some(Event::Lost(error)) => {
                                return if self.life.hand_on(batch).await.is_err() { Stop::End } else { Stop::Failed(error) };
                            }
                            Some(Event::Message(came)) => {
                                messages += 1;
                                self.ordered(serving, &came, opened);
                                self.hear(&came, &mut batch);
                            }
                            Some(Event::Subscribed(answers)) => {
                                serving.answered(answers, settings.qos, &mut self.inbox, &mut batch);
                                serving.ask(settings, &self.large);
                                self.running(serving);
                            }
                            Some(Event::Sent(number)) => serving.sending.sent(number, &*queue),
                            Some(Event::Published(number, answer)) => self.published(serving, number, answer),
                            Some(Event::Opened { .. }) => {}
                        }
                        if messages >= MOST_AT_ONCE {
                            break;
                        }
                        match serving.session.events.try_recv() {
                            Ok(event) => next = Some(event),
                            Err(_) => break,
                        }
                    }
                    if serving.sending.stuck() {
                        return Stop::Again;
                    }
                    if messages > 0 {
                        self.life.ports.health.send_modify(|h| {
                            h.answered = now();
                            h.requests += messages as u64;
                        });
                    }
                    if self.life.hand_on(batch).await.is_err() {
                        return Stop::End;
                    }
                }
                _ = looks.tick() => {
                    if opened.elapsed() >= SOON {
                        self.life.failures = 0;
                    }
                    self.ears.tire();
                    serving.wanted.extend(self.large.over(Instant::now()));
                    if serving.wanted.is_empty() && serving.fresh.all(Instant::now()).is_empty() {
                        self.large.all_well();
                    }
                    serving.ask(settings, &self.large);
                    let mut marks = Batch::default();
                    self.inbox.tick(&mut marks, now());
                    let late = Duration::from_millis(timeout_ms.into());
                    serving.sending.tire(late, timeout_ms);
                    if !serving.asked.is_empty() && serving.asked_at.elapsed() > late * PATIENCE {
                        return Stop::Failed(LinkError::Silent(timeout_ms));
                    }
                    if self.life.hand_on(marks).await.is_err() {
                        return Stop::End;
                    }
                    self.running(serving);
                }
            }
        }
    }

    /// Of topics that are wanted now or no longer: those that no mapping covers. New ones that it does begin with what came before
    /// their tags were there.
    fn mapped(&mut self, serving: &Serving, changed: Difference, marks: &mut Batch) -> Difference {
        let (covered, new): (Vec<_>, Vec<_>) = changed.new.into_iter().partition(|topic| self.mappings.cover(topic));
        for topic in covered {
            match self.mappings.take(&topic) {
                Some((came, at)) => drop(self.inbox.hear(&came, marks, at)),
                None if !serving.refused.iter().any(|filter| fits(&topic, filter)) => {
                    self.inbox.granted(&topic, None, marks, now())
                }
                None => {}
            }
        }
        let gone = changed.gone.into_iter().filter(|topic| !self.mappings.cover(topic)).collect();
        Difference { new, gone }
    }

    /// Hands on a message by which somebody writes.
    fn ordered(&mut self, serving: &Serving, came: &Heard, opened: Instant) {
        if serving.plan.orders.binary_search(&came.topic).is_err() {
            return;
        }
        let late = if came.retained {
            Some("The broker retained the message, so nobody knows how old it is. Publish it without retaining it.")
        } else if serving.session.kept && opened.elapsed() < CATCHING_UP {
            Some("The message came together with those that waited at the broker, so nobody knows how old it is.")
        } else if came.oversized {
            Some("The message is too large.")
        } else {
            None
        };
        let received = Received { topic: came.topic.clone(), payload: came.payload.to_vec(), late };
        if !self.life.ports.announcer.order(received) {
            self.orders_left += 1;
        }
    }

    /// Takes in a message, and shows it to those who watch.
    fn hear(&mut self, came: &Heard, batch: &mut Batch) {
        let announcer = &self.life.ports.announcer;
        self.mappings.hear(came, self.inbox.hears(&came.topic), now(), &mut |arrival| announcer.tell(arrival));
        let fits = self.inbox.hear(came, batch, now());
        if self.life.ports.tap.open() {
            let text: String = String::from_utf8_lossy(&came.payload).chars().take(MOST_BYTES).collect();
            let kept = if came.retained { " (retained)" } else { "" };
            let received = came.payload.iter().take(MOST_BYTES).copied().collect();
            let (asked, answered) = (came.topic.clone(), format!("{text}{kept}"));
            let (sent, at) = (Vec::new(), now());
            self.life.ports.tap.tell(Exchange { at, took_us: 0, unit: 0, asked, answered, passed: fits, sent, received });
        }
    }

    /// A message of ours was confirmed or refused.
    fn published(&self, serving: &mut Serving, number: u16, answer: Result<(), LinkError>) {
        let refused = answer.as_ref().err().cloned();
        let took = serving.sending.confirmed(number, answer, &*self.life.ports.outgoing);
        if took.is_some() || refused.is_some() {
            self.life.ports.health.send_modify(|h| {
                if let Some(took) = took {
                    (h.round_trip_us, h.answered) = (u64::try_from(took.as_micros()).unwrap_or(u64::MAX), now());
                }
                if let Some(error) = &refused {
                    h.count(error);
                }
            });
        }
    }

    /// What came last where a point is heard.
    fn read(&self, point: &PointPlan) -> RawValue {
        let failed = |words: String| RawValue { words, ..RawValue::default() };
        let at = match Point::parse(&point.point) {
            Err((_, words)) => return failed(words),
            Ok(at) => at,
        };
        let Some(last) = self.inbox.last(&at.topic) else { return failed("No message came yet.".into()) };
        payload::raw(&at.taken, last, |value| Scaling::of(point.scaling, value).0, MOST_BYTES)
    }

    /// Tells that the connection runs, with what was found out.
    fn running(&self, serving: &Serving) {
        let path = self.life.path;
        let mut learnt = Vec::new();
        if let Some(first) = serving.refused.first() {
            let others = serving.refused.len() - 1;
            let more = if others == 0 { String::new() } else { format!(" and {others} more") };
            learnt.push(format!("The broker does not give {first}{more}."));
        }
        if !serving.lower.is_empty() {
            let count = serving.lower.len();
            learnt.push(format!(
                "The broker grants a lower quality of service than was asked for; it concerns {count} of the topics."
            ));
        }
        if let Some(filter) = self.large.paused(Instant::now()) {
            learnt.push(format!(
                "The broker retains a message on {filter} that is too large to be read; Havrel does not listen there for {} minutes.",
                PAUSE.as_secs() / 60
            ));
        }
        if self.inbox.unfit > 0 {
            learnt.push(format!("{} messages did not fit a tag that reads them.", self.inbox.unfit));
        }
        if self.orders_left > 0 {
            learnt.push(format!(
                "{} messages that write to tags came faster than they can be carried out, and were left out.",
                self.orders_left
            ));
        }
        if self.mappings.left_out > 0 {
            learnt.push("More topics fit a mapping than Havrel makes tags for (10,000), or their names are too long.".into());
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

impl Serving {
    /// Follows a change of the topics that are wanted.
    fn change(&mut self, new: Vec<String>, gone: Vec<String>) {
        let gone: HashSet<String> = gone.into_iter().collect();
        self.refused.retain(|topic| !gone.contains(topic));
        self.lower.retain(|topic| !gone.contains(topic));
        self.wanted.retain(|topic| !gone.contains(topic));
        let fresh: HashSet<&String> = new.iter().collect();
        self.unwanted.retain(|topic| !fresh.contains(topic));
        self.unwanted.extend(gone);
        self.wanted.extend(new);
    }

    /// Asks for the next topics, once the answer to those before is there; lets go of those that are not wanted.
    fn ask(&mut self, settings: &Settings, large: &Large) {
        while let Some(topic) = self.unwanted.pop() {
            if !self.session.unsubscribe(&topic) {
                self.unwanted.push(topic);
                break;
            }
        }
        if !self.asked.is_empty() || !large.lets_go_on(&self.wanted, &self.fresh, Instant::now()) {
            return;
        }
        let mut bytes = 0;
        let some = self.wanted.iter().take(MOST_FILTERS).take_while(|topic| {
            bytes += topic.len() + 3;
            bytes <= MOST_FILTER_BYTES
        });
        // One that is longer goes alone.
        let count = large.most(&self.wanted, some.count().max(usize::from(!self.wanted.is_empty())));
        let next: Vec<String> = self.wanted.iter().take(count).cloned().collect();
        if !next.is_empty() && self.session.subscribe(&next, settings.qos) {
            self.wanted.drain(..count);
            self.fresh.add(&next, Instant::now());
            (self.asked, self.asked_at) = (next, Instant::now());
        }
    }

    /// The broker answered for the topics that were asked for.
    fn answered(&mut self, answers: Vec<Result<u8, LinkError>>, level: u8, inbox: &mut Inbox, marks: &mut Batch) {
        let asked = std::mem::take(&mut self.asked);
        let missing = std::iter::repeat_with(|| Err(LinkError::WrongAnswer("an answer is missing".into())));
        for (topic, answer) in asked.into_iter().zip(answers.into_iter().chain(missing)) {
            let lower = answer.as_ref().is_ok_and(|granted| *granted < level);
            let refused = answer.err().map(|error| error.reason());
            inbox.granted(&topic, refused, marks, now());
            if refused.is_some() {
                self.refused.push(topic);
            } else if lower {
                self.lower.insert(topic);
            }
        }
    }

    /// Publishes a value that somebody writes.
    fn write(&mut self, tag: TagNo, value: Value, reply: Reply<Value>) {
        let point = self.plan.points.iter().find(|point| point.tag == tag);
        let refused = |words: &str| LinkError::BadRequest(words.into());
        let at = match point.map(|point| Point::parse(&point.point)) {
            Some(Ok(at)) if !at.write_topic.is_empty() => at,
            Some(Ok(_)) => return drop(reply.send(Err(refused("Enter a topic to write to in the source of the tag.")))),
            _ => return drop(reply.send(Err(refused("The tag has no topic.")))),
        };
        let message = match (point.and_then(|point| point.scaling), value.number()) {
            (Some(scaling), Some(number)) => at.message(&Value::F64(scaling.invert(number))),
            _ => at.message(&value),
        };
        self.sending.write(&self.session, &at.write_topic, message.into_bytes(), at.write_retain, value, reply);
    }
}

/// Topics on which a mapping is tried.
const MOST_TRIED: usize = 1000;

/// What a mapping would make of the topics that were heard.
fn tried(trial: &Trial, topics: &Topics) -> Vec<Arrival> {
    let read = |(topic, last): (&str, &Last)| trial.arrival(topic, last.payload.as_ref()?);
    topics.all().filter_map(read).take(MOST_TRIED).collect()
}

fn micros(began: Instant) -> u64 {
    u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX)
}
