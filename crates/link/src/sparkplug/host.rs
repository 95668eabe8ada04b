//! Sparkplug B as a host application hears it (Eclipse Sparkplug 3.0, 5 and 6.4): births, values and deaths of edge nodes and their
//! devices, in the order in which they were sent, whatever order they come in. Without a socket: time comes in.

use super::{
    entity::{Ear, Entity, Room, State},
    settings::Point,
};
use crate::LinkPlan;
use havrel_core::{
    quality::{Quality, Reason},
    sample::{Batch, Value},
    time::{Nanos, SECOND},
};
use havrel_sparkplug::{
    payload::Payload,
    topic::{Name, What},
};
use prost::Message as _;
use std::collections::{BTreeMap, HashMap, VecDeque};

/// Edge nodes and devices, their metrics, and bytes of values, that are kept.
const MOST_ENTITIES: usize = 20_000;
const MOST_METRICS: usize = 500_000;
const MOST_BYTES: usize = 128 << 20;
/// Messages of one edge node, and bytes of all, that wait for those before them.
const MOST_EARLY: usize = 256;
const MOST_EARLY_BYTES: usize = 32 << 20;
/// An edge node is asked for its birth again after so long, then after twice as long, up to the most.
const AGAIN: Nanos = 10 * SECOND;
const AGAIN_AT_MOST: Nanos = 300 * SECOND;
/// Edge nodes that are asked at once; the others follow with the next look.
const MOST_ASKED: usize = 3;
/// How long a device may take to be announced after its edge node, and an edge node after the connection is open.
const PATIENCE: Nanos = 5 * SECOND;
/// How long is told that two edge nodes have the same name.
const TWINS_TOLD: Nanos = 600 * SECOND;
/// The metric by which a birth and a death belong together (6.4.20 and 6.4.23).
const BIRTH_DEATH: &str = "bdSeq";

/// A message that came before those that were sent before it.
#[derive(Debug)]
struct Early {
    seq: u8,
    what: What,
    device: String,
    payload: Payload,
    /// When it came, and its size.
    at: Nanos,
    size: usize,
}

/// An edge node.
#[derive(Debug, Default)]
pub(super) struct EdgeNode {
    pub own: Entity,
    pub devices: BTreeMap<String, Entity>,
    /// When something of it came last.
    pub heard: Nanos,
    /// The number of the next message; none before its birth.
    next: Option<u8>,
    /// The time within its newest message.
    sent: u64,
    early: Vec<Early>,
    /// Of the births that came last.
    births: VecDeque<u64>,
    /// Messages that never came.
    pub missing: u64,
    /// Messages and values that could not be read without a birth.
    pub unread: u64,
    /// How often it was asked for its birth; in a row, when last, and whether it is to be asked.
    pub asked: u64,
    tries: u32,
    asked_at: Nanos,
    wanted: bool,
    twins: Option<Nanos>,
}

/// All edge nodes that a connection hears. It outlasts sessions.
#[derive(Debug)]
pub(super) struct Host {
    pub nodes: BTreeMap<(String, String), EdgeNode>,
    /// How long a message waits for those before it.
    pub window: Nanos,
    entities: usize,
    room: Room,
    early: usize,
    /// There was more than is kept.
    pub full: bool,
}

/// What a message does beyond values.
#[derive(Debug, Default)]
pub(super) struct Told {
    pub batch: Batch,
    /// Who was born.
    pub born: Vec<Name>,
}

impl Default for Host {
    fn default() -> Host {
        let room = Room { metrics: MOST_METRICS, bytes: MOST_BYTES };
        Host { nodes: BTreeMap::new(), window: SECOND, entities: 0, room, early: 0, full: false }
    }
}

/// What goes with a message through an edge node.
struct Context<'a> {
    name: Name,
    at: Nanos,
    told: &'a mut Told,
    room: &'a mut Room,
    entities: &'a mut usize,
    early: &'a mut usize,
    full: &'a mut bool,
}

impl Host {
    /// Follows a plan; tags whose point cannot be read are marked, new ones are told what is known.
    pub fn follow(&mut self, plan: &LinkPlan, batch: &mut Batch, at: Nanos) {
        let mut before: HashMap<u32, (Name, String, Ear)> = HashMap::new();
        for ((group, node), edge) in &mut self.nodes {
            let own = std::iter::once((String::new(), &mut edge.own));
            for (device, entity) in own.chain(edge.devices.iter_mut().map(|(device, entity)| (device.clone(), entity))) {
                for (metric, ears) in std::mem::take(&mut entity.ears) {
                    let at = |ear: Ear| (ear.tag, (Name::new(group, node, &device), metric.clone(), ear));
                    before.extend(ears.into_iter().map(at));
                }
            }
        }
        let mut fresh = Vec::new();
        for point in &plan.points {
            let Ok(read) = Point::parse(&point.point) else {
                batch.push_quality(point.tag, at, Quality::of(Reason::NoSource));
                continue;
            };
            let known = before.remove(&point.tag).filter(|(name, metric, ear)| {
                *name == read.name && *metric == read.metric && ear.part == read.part.steps() && ear.scaling == point.scaling
            });
            let new = Ear { tag: point.tag, part: read.part.steps().to_vec(), scaling: point.scaling, marked: 0, latest: 0 };
            if known.is_none() {
                fresh.push((read.name.clone(), read.metric.clone(), point.tag));
            }
            let entity = self.entity(&read.name);
            entity.ears.entry(read.metric).or_default().push(known.map_or(new, |(_, _, ear)| ear));
        }
        for (name, metric, tag) in fresh {
            self.entity(&name).catch_up(&metric, tag, batch, at);
        }
    }

    /// The edge node or device of a name, made where it is not known. Tags may name as many as there are tags.
    fn entity(&mut self, name: &Name) -> &mut Entity {
        let node = self.nodes.entry((name.group.clone(), name.node.clone())).or_insert_with(|| {
            self.entities += 1;
            EdgeNode { wanted: true, ..EdgeNode::default() }
        });
        match name.device.as_str() {
            "" => &mut node.own,
            device => node.devices.entry(device.to_owned()).or_insert_with(|| {
                self.entities += 1;
                Entity::default()
            }),
        }
    }

    /// The same, where it is known.
    pub fn find(&self, name: &Name) -> Option<&Entity> {
        let node = self.nodes.get(&(name.group.clone(), name.node.clone()))?;
        if name.device.is_empty() { Some(&node.own) } else { node.devices.get(&name.device) }
    }

    /// Every edge node and device that is known.
    pub fn names(&self) -> Vec<Name> {
        let of = |((group, node), edge): (&(String, String), &EdgeNode)| {
            let own = std::iter::once(String::new()).chain(edge.devices.keys().cloned());
            own.map(|device| Name::new(group, node, &device)).collect::<Vec<_>>()
        };
        self.nodes.iter().flat_map(of).collect()
    }

    /// A session is open: what was announced before may have changed, so every edge node is asked for its birth.
    pub fn opened(&mut self, at: Nanos) {
        self.early = 0;
        for node in self.nodes.values_mut() {
            node.early.clear();
            (node.next, node.wanted, node.tries) = (None, true, 0);
            node.entities().for_each(|entity| {
                entity.enter(State::Waiting, at);
                (entity.since, entity.told) = (at, false);
            });
        }
    }

    /// The session is over, and all tags are told so.
    pub fn lost(&mut self, at: Nanos) {
        for node in self.nodes.values_mut() {
            node.entities().for_each(|entity| {
                entity.enter(State::Waiting, at);
                entity.ears.values_mut().flatten().for_each(|ear| ear.marked = at);
            });
        }
    }

    /// Takes in a message.
    pub fn hear(&mut self, what: What, name: &Name, payload: Payload, at: Nanos, told: &mut Told) {
        let key = (name.group.clone(), name.node.clone());
        if !self.nodes.contains_key(&key) {
            if self.entities >= MOST_ENTITIES {
                self.full = true;
                return;
            }
            self.entities += 1;
        }
        let node = self.nodes.entry(key).or_default();
        let cx = &mut Context {
            name: name.clone(),
            at,
            told,
            room: &mut self.room,
            entities: &mut self.entities,
            early: &mut self.early,
            full: &mut self.full,
        };
        node.heard = at;
        match (what, name.device.is_empty()) {
            (What::Birth, true) => node.born(&payload, cx),
            (What::Death, true) => node.died(&payload, cx),
            _ => node.receive(what, &name.device, payload, cx),
        }
    }

    /// What the passing of time tells.
    pub fn tick(&mut self, at: Nanos, told: &mut Told) {
        let window = self.window;
        for ((group, node), edge) in &mut self.nodes {
            if edge.early.is_empty() && edge.entities().all(|one| one.state != State::Waiting || one.told) {
                continue;
            }
            let cx = &mut Context {
                name: Name::new(group, node, ""),
                at,
                told,
                room: &mut self.room,
                entities: &mut self.entities,
                early: &mut self.early,
                full: &mut self.full,
            };
            if edge.early.first().is_some_and(|first| passed(first.at, window, at)) {
                edge.give_up(cx);
            }
            let online = edge.own.state == State::Online;
            for entity in
                edge.entities().filter(|one| one.state == State::Waiting && !one.told && passed(one.since, PATIENCE, at))
            {
                entity.told = true;
                match (online, entity.births) {
                    // Its edge node announced itself without it.
                    (true, _) => entity.died(&mut cx.told.batch, at),
                    (false, 0) => entity.mark(Reason::NeverHeard, &mut cx.told.batch, at),
                    (false, _) => entity.mark(Reason::NotRetained, &mut cx.told.batch, at),
                }
            }
        }
    }

    /// Edge nodes that are to be asked for their birth now. They count as asked.
    pub fn due(&mut self, at: Nanos) -> Vec<Name> {
        let wait = |tries: u32| AGAIN.saturating_mul(1 << tries.saturating_sub(1).min(10)).min(AGAIN_AT_MOST);
        let due = self
            .nodes
            .iter_mut()
            .filter(|(_, node)| node.wanted && (node.tries == 0 || passed(node.asked_at, wait(node.tries), at)));
        let mut names = Vec::new();
        for ((group, node), edge) in due.take(MOST_ASKED) {
            (edge.asked_at, edge.tries, edge.asked) = (at, edge.tries + 1, edge.asked + 1);
            names.push(Name::new(group, node, ""));
        }
        names
    }
}

impl EdgeNode {
    fn entities(&mut self) -> impl Iterator<Item = &mut Entity> {
        std::iter::once(&mut self.own).chain(self.devices.values_mut())
    }

    /// Whether two edge nodes seem to have this name.
    pub fn twins(&self, at: Nanos) -> bool {
        self.twins.is_some_and(|told| at - told < TWINS_TOLD)
    }

    fn born(&mut self, payload: &Payload, cx: &mut Context) {
        // What was sent before this birth still follows the one before; what was sent after it waits for its turn.
        let sent = payload.timestamp.unwrap_or_default();
        let (after, before): (Vec<_>, Vec<_>) =
            std::mem::take(&mut self.early).into_iter().partition(|early| early.payload.timestamp.unwrap_or_default() >= sent);
        self.early = before;
        self.missing += self.flush(cx);
        let bd = payload.metrics.iter().find(|metric| metric.name.as_deref() == Some(BIRTH_DEATH));
        if let Some(bd) = bd.and_then(|metric| number_of(metric.read(None).ok())) {
            self.births.push_back(bd);
            if self.births.len() > 3 {
                self.births.pop_front();
            }
            // One that begins again counts on; one that is asked again keeps its number. Two take turns.
            if let [a, b, c] = *self.births.make_contiguous()
                && matches!(c.wrapping_sub(a) & 0xFF, 0 | 1)
                && b != a
                && b != c
            {
                self.twins = Some(cx.at);
            }
        }
        self.next = Some(seq_of(payload).unwrap_or(0).wrapping_add(1));
        (self.sent, self.wanted, self.tries) = (sent, false, 0);
        if !self.own.born(payload, &mut cx.told.batch, cx.at, cx.room) {
            *cx.full = true;
        }
        cx.told.born.push(cx.name.of_node());
        // Its devices are announced anew, each by a birth of its own.
        for device in self.devices.values_mut().filter(|device| device.state != State::Offline) {
            (device.state, device.since, device.told) = (State::Waiting, cx.at, false);
        }
        self.early = after;
        self.go_on(cx);
    }

    fn died(&mut self, payload: &Payload, cx: &mut Context) {
        let bd = payload.metrics.iter().find(|metric| metric.name.as_deref() == Some(BIRTH_DEATH));
        let bd = bd.and_then(|metric| number_of(metric.read(None).ok()));
        // The will of a session before, which the broker publishes late (6.4.23).
        if let (Some(told), Some(own)) = (bd, self.births.back())
            && told != *own
        {
            return;
        }
        self.missing += self.flush(cx);
        self.next = None;
        for entity in self.entities() {
            entity.died(&mut cx.told.batch, cx.at);
        }
    }

    /// Takes in a message that has its number.
    fn receive(&mut self, what: What, device: &str, payload: Payload, cx: &mut Context) {
        let Some(seq) = seq_of(&payload) else {
            // The standard wants a number; without one nobody knows what came before.
            return match self.next {
                Some(_) => self.process(what, device, &payload, cx),
                None => self.miss(1),
            };
        };
        let sent = payload.timestamp.unwrap_or_default();
        match self.next {
            Some(next) if next == seq => {
                self.next = Some(next.wrapping_add(1));
                self.process(what, device, &payload, cx);
                self.go_on(cx);
            }
            // It was given up and comes after all.
            Some(next) if seq.wrapping_sub(next) >= 128 && sent < self.sent && what == What::Data => {
                self.process(what, device, &payload, cx);
            }
            _ => {
                let size = payload.encoded_len() + 100;
                let full = self.early.len() >= MOST_EARLY || *cx.early + size > MOST_EARLY_BYTES;
                *cx.early += size;
                self.early.push(Early { seq, what, device: device.to_owned(), payload, at: cx.at, size });
                if full {
                    self.give_up(cx);
                }
            }
        }
    }

    /// Takes in what waited for the message that came now.
    fn go_on(&mut self, cx: &mut Context) {
        while let Some(next) = self.next
            && let Some(at) = self.early.iter().position(|early| early.seq == next)
        {
            let early = self.early.remove(at);
            *cx.early -= early.size;
            self.next = Some(next.wrapping_add(1));
            self.process(early.what, &early.device, &early.payload, cx);
        }
    }

    /// Takes in what waits, in its order, although others before it are missing. Gives how many are.
    fn flush(&mut self, cx: &mut Context) -> u64 {
        let mut early = std::mem::take(&mut self.early);
        *cx.early -= early.iter().map(|one| one.size).sum::<usize>();
        let Some(mut next) = self.next else {
            self.unread += early.len() as u64;
            return 0;
        };
        early.sort_by_key(|one| one.seq.wrapping_sub(next));
        let mut missing = 0;
        for one in early {
            let gap = one.seq.wrapping_sub(next);
            // Further off is another sequence rather than a gap.
            missing += if gap < 128 { u64::from(gap) } else { 1 };
            next = one.seq.wrapping_add(1);
            self.process(one.what, &one.device, &one.payload, cx);
        }
        self.next = Some(next);
        missing
    }

    /// Those that are missing do not come any more: what they told can only be learnt from a new birth.
    fn give_up(&mut self, cx: &mut Context) {
        self.missing += self.flush(cx);
        self.wanted = true;
    }

    /// Something cannot be read without a birth.
    fn miss(&mut self, count: u64) {
        self.unread += count;
        self.wanted = true;
    }

    fn process(&mut self, what: What, device: &str, payload: &Payload, cx: &mut Context) {
        self.sent = self.sent.max(payload.timestamp.unwrap_or_default());
        if device.is_empty() {
            let unknown = self.own.data(payload, &mut cx.told.batch, cx.at, cx.room);
            return if unknown > 0 {
                self.miss(unknown)
            };
        }
        if !self.devices.contains_key(device) {
            if *cx.entities >= MOST_ENTITIES {
                *cx.full = true;
                return;
            }
            *cx.entities += 1;
        }
        let entity = self.devices.entry(device.to_owned()).or_default();
        match what {
            What::Birth => {
                if !entity.born(payload, &mut cx.told.batch, cx.at, cx.room) {
                    *cx.full = true;
                }
                cx.told.born.push(Name { device: device.to_owned(), ..cx.name.of_node() });
            }
            What::Death => entity.died(&mut cx.told.batch, cx.at),
            What::Data if entity.state == State::Online => {
                let unknown = entity.data(payload, &mut cx.told.batch, cx.at, cx.room);
                if unknown > 0 {
                    self.miss(unknown);
                }
            }
            What::Data => self.miss(payload.metrics.len() as u64),
        }
    }
}

/// Whether a span is over that began at a time; a clock that was set back meanwhile ends it too.
fn passed(began: Nanos, span: Nanos, at: Nanos) -> bool {
    !(0..span).contains(&(at - began))
}

/// The number of a message, 0 to 255.
fn seq_of(payload: &Payload) -> Option<u8> {
    payload.seq.and_then(|seq| u8::try_from(seq).ok())
}

fn number_of(value: Option<Value>) -> Option<u64> {
    match value? {
        Value::U64(v) => Some(v),
        Value::I64(v) => u64::try_from(v).ok(),
        _ => None,
    }
}
