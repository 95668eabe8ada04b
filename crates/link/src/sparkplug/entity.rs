//! An edge node or a device as its birth announces it: metrics by name and alias, what each told last, and the tags that read them.
//! Without a socket: time comes in.

use havrel_core::{
    TagNo,
    quality::{Quality, Reason},
    sample::{Batch, Value, flag},
    scale::Scaling,
    time::Nanos,
};
use havrel_sparkplug::{
    metric::{About, is_of_protocol},
    payload::{Metric, MetricValue, Payload},
};
use prost::Message as _;
use serde::Serialize;
use std::collections::HashMap;
use utoipa::ToSchema;

/// Longest name of a metric, in bytes.
pub(super) const LONGEST_NAME: usize = 1000;
/// Most bytes of a value that is kept to be shown.
const MOST_OF_ONE: usize = 64 << 10;
/// Changed types that are told.
const MOST_CHANGED: usize = 3;

/// How an edge node or a device stands.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = AnnouncedState)]
pub enum State {
    /// No birth came since the connection is open.
    #[default]
    Waiting,
    Online,
    Offline,
}

/// What there is room for yet, over all edge nodes.
#[derive(Debug)]
pub(super) struct Room {
    pub metrics: usize,
    pub bytes: usize,
}

/// A tag that reads a metric, or a part of it.
#[derive(Clone, Debug)]
pub(super) struct Ear {
    pub tag: TagNo,
    pub part: Vec<String>,
    pub scaling: Option<Scaling>,
    /// When it was last told that something is wrong.
    pub marked: Nanos,
    /// The newest value that it was told as of now.
    pub latest: Nanos,
}

/// A metric that a birth announced.
#[derive(Clone, Debug)]
pub(super) struct Known {
    pub name: String,
    pub datatype: u32,
    pub about: About,
    /// What it told last, and when that was.
    pub last: Option<(Metric, Nanos)>,
    size: usize,
}

/// An edge node, or a device behind one.
#[derive(Debug, Default)]
pub(super) struct Entity {
    pub state: State,
    pub since: Nanos,
    /// Whether its tags were told that it waits.
    pub told: bool,
    pub births: u64,
    /// Values that came later, out of a buffer.
    pub history: u64,
    /// Metrics that have another type since the last birth, in words.
    pub changed: Vec<String>,
    pub metrics: Vec<Known>,
    names: HashMap<String, usize>,
    aliases: HashMap<u64, usize>,
    /// The tags of each metric, by its name.
    pub ears: HashMap<String, Vec<Ear>>,
}

impl Known {
    fn keep(&mut self, metric: &Metric, at: Nanos, room: &mut Room) {
        let mut kept = metric.clone();
        if let (Some((before, _)), Some(MetricValue::Template(new))) = (&self.last, &mut kept.value)
            && let Some(old) = before.instance()
        {
            // A message may carry only the members that changed, and tells their properties at birth only.
            for member in new.metrics.iter_mut().filter(|member| member.properties.is_none()) {
                let before = old.metrics.iter().find(|one| one.name == member.name);
                member.properties = before.and_then(|one| one.properties.clone());
            }
            let others = old.metrics.iter().filter(|one| !new.metrics.iter().any(|member| member.name == one.name));
            new.metrics.splice(0..0, others.cloned().collect::<Vec<_>>());
        }
        let size = kept.encoded_len();
        room.bytes += std::mem::take(&mut self.size);
        self.last = None;
        if size <= MOST_OF_ONE && size <= room.bytes {
            room.bytes -= size;
            self.size = size;
            self.last = Some((kept, at));
        }
    }
}

impl Entity {
    /// The metric with a name.
    pub fn metric(&self, name: &str) -> Option<&Known> {
        self.names.get(name).map(|&at| &self.metrics[at])
    }

    /// How many metrics are values of the plant, and how many of those tags read.
    pub fn counts(&self) -> (u64, u64) {
        let of_plant = self.metrics.iter().filter(|known| !is_of_protocol(&known.name));
        of_plant.fold((0, 0), |(all, taken), known| (all + 1, taken + u64::from(self.ears.contains_key(&known.name))))
    }

    /// Moves to a state.
    pub fn enter(&mut self, state: State, at: Nanos) {
        if self.state != state {
            (self.state, self.since) = (state, at);
        }
    }

    /// Tells all its tags that something is wrong.
    pub fn mark(&mut self, reason: Reason, batch: &mut Batch, at: Nanos) {
        for ear in self.ears.values_mut().flatten() {
            ear.marked = at;
            batch.push_quality(ear.tag, at, Quality::of(reason));
        }
    }

    /// It is gone.
    pub fn died(&mut self, batch: &mut Batch, at: Nanos) {
        self.enter(State::Offline, at);
        self.mark(Reason::NodeOffline, batch, at);
    }

    /// Gives back the room that its metrics take.
    pub fn clear(&mut self, room: &mut Room) {
        room.metrics += self.metrics.len();
        room.bytes += self.metrics.iter().map(|known| known.size).sum::<usize>();
        self.metrics.clear();
        self.names.clear();
        self.aliases.clear();
    }

    /// Takes in a birth: what it announces takes the place of what was announced before. Whether there was room for all of it.
    pub fn born(&mut self, payload: &Payload, batch: &mut Batch, at: Nanos, room: &mut Room) -> bool {
        self.enter(State::Online, at);
        self.births += 1;
        self.told = false;
        let before: HashMap<String, u32> = self.metrics.iter().map(|known| (known.name.clone(), known.datatype)).collect();
        self.clear(room);
        self.changed.clear();
        let mut whole = true;
        for metric in payload.metrics.iter().filter(|metric| !metric.is_definition()) {
            let name = metric.name.as_deref().unwrap_or_default();
            if name.is_empty() || name.len() > LONGEST_NAME || name.chars().any(char::is_control) {
                continue;
            }
            let index = match self.names.get(name) {
                Some(&known) => known,
                None if room.metrics == 0 => {
                    whole = false;
                    continue;
                }
                None => {
                    room.metrics -= 1;
                    let datatype = metric.type_of(None);
                    if before.get(name).is_some_and(|old| *old != datatype) && self.changed.len() < MOST_CHANGED {
                        self.changed.push(name.to_owned());
                    }
                    let about = About::of(metric);
                    self.metrics.push(Known { name: name.to_owned(), datatype, about, last: None, size: 0 });
                    self.names.insert(name.to_owned(), self.metrics.len() - 1);
                    self.metrics.len() - 1
                }
            };
            if let Some(alias) = metric.alias {
                self.aliases.insert(alias, index);
            }
            self.tell(index, metric, payload, batch, at, room);
        }
        for (_, ears) in self.ears.iter_mut().filter(|(name, _)| !self.names.contains_key(*name)) {
            for ear in ears {
                ear.marked = at;
                batch.push_quality(ear.tag, at, Quality::of(Reason::NotAnnounced));
            }
        }
        whole
    }

    /// Takes in values. Gives how many belong to no metric that was announced.
    pub fn data(&mut self, payload: &Payload, batch: &mut Batch, at: Nanos, room: &mut Room) -> u64 {
        let mut unknown = 0;
        for metric in &payload.metrics {
            let named = metric.name.as_ref().filter(|name| !name.is_empty());
            let index = match (named, metric.alias) {
                (Some(name), _) => self.names.get(name),
                (None, Some(alias)) => self.aliases.get(&alias),
                (None, None) => None,
            };
            match index.copied() {
                Some(index) => self.tell(index, metric, payload, batch, at, room),
                None => unknown += 1,
            }
        }
        unknown
    }

    /// A metric tells a value: to its tags, and to be shown.
    fn tell(&mut self, index: usize, metric: &Metric, payload: &Payload, batch: &mut Batch, at: Nanos, room: &mut Room) {
        let known = &mut self.metrics[index];
        let own = payload.time_of(metric);
        let historical = metric.is_historical == Some(true);
        if historical {
            self.history += 1;
        } else {
            known.keep(metric, own.unwrap_or(at), room);
        }
        let Some(ears) = self.ears.get_mut(&known.name) else { return };
        for ear in ears.iter_mut().filter(|ear| metric.tells(&ear.part)) {
            if historical {
                ear.past(known, metric, own.unwrap_or(at), batch, at);
            } else {
                ear.now(known.datatype, metric, own, batch, at);
            }
        }
    }

    /// Tells a new tag what is known already.
    pub fn catch_up(&mut self, name: &str, tag: TagNo, batch: &mut Batch, at: Nanos) {
        let state = self.state;
        let known = self.names.get(name).map(|&index| &self.metrics[index]);
        let Some(ear) = self.ears.get_mut(name).and_then(|ears| ears.iter_mut().find(|ear| ear.tag == tag)) else { return };
        let reason = match (state, known) {
            (State::Online, Some(Known { last: Some((metric, time)), datatype, .. })) => {
                return ear.now(*datatype, metric, Some(*time), batch, at);
            }
            (State::Online, Some(_)) => Reason::NoValue,
            (State::Online, None) => Reason::NotAnnounced,
            (State::Offline, _) => Reason::NodeOffline,
            (State::Waiting, _) => Reason::NeverHeard,
        };
        ear.marked = at;
        batch.push_quality(tag, at, Quality::of(reason));
    }
}

impl Ear {
    /// A value as of now; `own` is its time at its source.
    fn now(&mut self, datatype: u32, metric: &Metric, own: Option<Nanos>, batch: &mut Batch, at: Nanos) {
        let time = own.unwrap_or(at);
        self.push(datatype, metric, time, own.is_some(), batch);
        self.latest = self.latest.max(time);
        // It is older than the moment at which the tag was told that something is wrong: it holds from now on.
        if time <= self.marked {
            self.push(datatype, metric, at, false, batch);
            self.latest = at;
        }
    }

    /// A value of a time that has passed, which is never the present one.
    fn past(&mut self, known: &Known, metric: &Metric, time: Nanos, batch: &mut Batch, at: Nanos) {
        self.push(known.datatype, metric, time, true, batch);
        if time >= self.latest
            && time > self.marked
            && let Some((last, _)) = &known.last
        {
            self.push(known.datatype, last, at, false, batch);
            self.latest = at;
        }
    }

    fn push(&self, datatype: u32, metric: &Metric, time: Nanos, own: bool, batch: &mut Batch) {
        let flags = if own { flag::OWN_TIME } else { 0 };
        let read = match metric.part(&self.part, Some(datatype)) {
            Ok(Value::F64(v)) if !v.is_finite() => Err(Reason::NotANumber),
            Ok(Value::F32(v)) if !v.is_finite() => Err(Reason::NotANumber),
            other => other,
        };
        match read {
            Ok(raw) => {
                let (value, clamped) = Scaling::of(self.scaling, raw);
                let told = metric.quality();
                let quality = if told == Quality::GOOD && clamped { Quality::of(Reason::Clamped) } else { told };
                batch.push(self.tag, time, quality, flags, &value);
            }
            Err(reason) => {
                batch.push_quality(self.tag, time, Quality::of(reason));
                if let Some(last) = batch.samples.last_mut() {
                    last.flags = flags;
                }
            }
        }
    }
}
