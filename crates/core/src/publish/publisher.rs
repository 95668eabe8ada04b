//! Decides what leaves through one connection, and when. It never waits and reads no clock.

use super::{
    order::orders_of,
    template::{Facts, Payload, Topic},
};
use crate::{
    TagNo,
    engine::{Current, differs},
    plant::{Item, PayloadFormat, Plant, Publication, Tag, When},
    quality::Reason,
    sample::Value,
    time::{Nanos, SECOND},
};
use std::{
    collections::{BTreeMap, BTreeSet, HashMap, HashSet},
    sync::Arc,
};
use uuid::Uuid;

/// Most topics of a connection, and most tags that share one.
const MOST_TOPICS: usize = 200_000;
const MOST_SHARED: usize = 10_000;
/// Most problems that are told of a publication.
const MOST_PROBLEMS: usize = 20;
/// Largest payload, in bytes.
const LARGEST: usize = 1 << 20;

/// How a value travels to a driver that makes a metric of it: value, time, quality, unit.
pub const METRIC: &str = r#"{"v": "{value}", "t": "{time_ms}", "q": "{quality}", "u": "{unit}"}"#;

/// A message that is to leave.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Message {
    /// The publication it belongs to; nil for one that somebody sends by hand.
    pub publication: Uuid,
    /// When it was made.
    pub made: Nanos,
    pub topic: String,
    pub payload: Vec<u8>,
    pub qos: u8,
    pub retain: bool,
}

/// What a publication comes to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Summary {
    pub tags: usize,
    pub topics: usize,
    /// What of it cannot be sent, as sentences, the first twenty.
    pub problems: Vec<String>,
}

/// The next messages of a publication, for whoever makes it.
#[derive(Clone, Debug, PartialEq)]
pub struct Outline {
    pub summary: Summary,
    /// The first of them, each with how many tags it holds.
    pub next: Vec<(Message, usize)>,
}

/// A tag in a message.
struct Member {
    tag: Arc<Item<Tag>>,
    path: String,
    current: Current,
    /// Value and class of what was sent last.
    sent: Option<(Option<Value>, Reason)>,
    /// It differs from what was sent last.
    changed: bool,
}

impl Member {
    /// Anything is known of it.
    fn known(&self) -> bool {
        !matches!(self.current.quality.reason(), Reason::NotRead | Reason::NotSet | Reason::NeverHeard)
    }

    /// How far its value may differ without being a change.
    fn deadband(&self, when: &When) -> f64 {
        match (when, self.tag.set.range_low, self.tag.set.range_high) {
            (When::Change { deadband, percent: false, .. }, ..) => *deadband,
            (When::Change { deadband, .. }, Some(low), Some(high)) => (high - low) * deadband / 100.0,
            _ => 0.0,
        }
    }

    fn moved(&self, when: &When) -> bool {
        let Some((value, reason)) = &self.sent else { return self.known() };
        *reason != self.current.quality.reason() || differs(value.as_ref(), self.current.value.as_ref(), self.deadband(when))
    }
}

/// The tags that share a topic, and so a message.
struct Group {
    topic: String,
    members: Vec<Member>,
    sent_at: Option<Nanos>,
    /// It stands in the order of deadlines with this time.
    due: Option<Nanos>,
}

/// A publication at work.
struct Lane {
    item: Arc<Item<Publication>>,
    payload: Payload,
    groups: Vec<Group>,
    summary: Summary,
    /// When its rhythm comes round again.
    next: Option<Nanos>,
}

/// Groups of before by publication and topic.
type Former = HashMap<(Uuid, String), (Arc<Item<Publication>>, Group)>;

/// Where a tag stands: lane, group, member.
type Seat = (usize, usize, usize);

/// All publications of one connection at work.
#[derive(Default)]
pub struct Publisher {
    plant: Arc<Plant>,
    lanes: Vec<Lane>,
    seats: HashMap<TagNo, Vec<Seat>>,
    /// Groups that are sent at some time: when, lane, group.
    deadlines: BTreeSet<(Nanos, usize, usize)>,
    /// The newest time that was given.
    now: Nanos,
}

/// The tags that a publication chooses, in the order of their paths.
fn chosen(plant: &Plant, publication: &Publication) -> Vec<(String, Arc<Item<Tag>>)> {
    let words = publication.all_words();
    let below: HashSet<Uuid> = plant
        .places
        .keys()
        .filter(|&&place| publication.places.iter().any(|&top| plant.lies_under(place, top)))
        .copied()
        .collect();
    let singly: HashSet<Uuid> = publication.tags.iter().copied().collect();
    let mut all: Vec<(String, Arc<Item<Tag>>)> = plant
        .tags
        .values()
        .filter_map(|tag| {
            let single = singly.contains(&tag.id);
            if !single && !below.contains(&tag.set.place) {
                return None;
            }
            let path = plant.tag_path(&tag.set);
            (single || has_words(&path, &words)).then(|| (path, tag.clone()))
        })
        .collect();
    all.sort_by(|a, b| a.0.cmp(&b.0));
    all
}

/// Whether a path holds all words, which are in small letters.
fn has_words(path: &str, words: &[String]) -> bool {
    let lower = path.to_lowercase();
    words.iter().all(|word| lower.contains(word))
}

impl Publication {
    fn all_words(&self) -> Vec<String> {
        self.words.to_lowercase().split([' ', '/']).filter(|w| !w.is_empty()).map(str::to_owned).collect()
    }

    /// Whether it sends the values of a tag.
    pub fn chooses(&self, plant: &Plant, tag: &Item<Tag>) -> bool {
        let below = || self.places.iter().any(|&top| plant.lies_under(tag.set.place, top));
        self.tags.contains(&tag.id) || (below() && has_words(&plant.tag_path(&tag.set), &self.all_words()))
    }
}

/// Whether a tag reads a topic of a connection.
fn reads(tag: &Tag, connection: Uuid, topic: &str) -> bool {
    tag.connection == Some(connection) && tag.point.get("topic").and_then(|t| t.as_str()).is_some_and(|t| t.trim() == topic)
}

impl Lane {
    /// `None` where its settings cannot be used, which the door refuses.
    fn of(plant: &Plant, item: &Arc<Item<Publication>>) -> Option<Lane> {
        let set = &item.set;
        let topic = Topic::parse(&set.topic, set.plain).ok()?;
        let payload = match set.payload.trim() {
            "" => Payload::parse(PayloadFormat::Json, METRIC).ok()?,
            _ => Payload::parse(set.format, &set.payload).ok()?,
        };
        let (mut summary, mut shared) = (Summary::default(), BTreeMap::<String, Vec<Member>>::new());
        let mut wrong = Vec::new();
        for (path, tag) in chosen(plant, set) {
            summary.tags += 1;
            match topic.of(&path, &tag.set) {
                Err(words) => wrong.push(words),
                // It would hear itself for ever.
                Ok(topic) if reads(&tag.set, set.connection, &topic) => {
                    wrong.push(format!("“{path}” reads the topic {topic} itself, so it is not sent there."));
                }
                Ok(topic) => {
                    let member = Member { tag, path, current: Current::UNREAD, sent: None, changed: false };
                    shared.entry(topic).or_default().push(member);
                }
            }
        }
        let mut groups = Vec::new();
        for (topic, members) in shared {
            let tags = members.iter().map(|member| (member.path.as_str(), &member.tag.set));
            if members.len() > MOST_SHARED {
                wrong.push(format!("{} tags share the topic {topic}; at most 10,000 can.", members.len()));
            } else if let Some(words) = payload.shared(&topic, tags) {
                wrong.push(words);
            } else {
                groups.push(Group { topic, members, sent_at: None, due: None });
            }
        }
        wrong.extend(orders_of(plant, item).1);
        summary.topics = groups.len();
        let more = wrong.len().saturating_sub(MOST_PROBLEMS);
        summary.problems = wrong.into_iter().take(MOST_PROBLEMS).collect();
        if more > 0 {
            summary.problems.push(format!("And {more} more."));
        }
        Some(Lane { item: item.clone(), payload, groups, summary, next: None })
    }

    /// The message of a group; `None` where nothing is known of its tags, or nothing of them can be written.
    fn message(&self, plant: &Plant, group: &Group, now: Nanos) -> Option<(Message, usize)> {
        let set = &self.item.set;
        let whole = set.all || matches!(set.when, When::Interval { .. }) || !group.members.iter().any(|m| m.changed);
        let members = group.members.iter().filter(|member| (whole || member.changed) && member.known());
        let facts: Vec<Facts<'_>> =
            members.map(|m| Facts { plant, tag: &m.tag.set, path: &m.path, current: &m.current, now }).collect();
        if facts.is_empty() {
            return None;
        }
        let payload = self.payload.fill(&facts, now)?;
        let topic = group.topic.clone();
        let message = Message { publication: self.item.id, made: now, topic, payload, qos: set.qos, retain: set.retain };
        Some((message, facts.len()))
    }
}

/// The next time of a rhythm that is aligned to the clock.
fn aligned(now: Nanos, every: Nanos) -> Nanos {
    (now.div_euclid(every) + 1).saturating_mul(every)
}

fn every(set: &Publication) -> Option<Nanos> {
    match set.when {
        When::Interval { every_ms } => Some(Nanos::from(every_ms.max(1)) * 1_000_000),
        When::Change { .. } => None,
    }
}

impl Publisher {
    /// What a plant publishes through a connection.
    pub fn of(plant: &Arc<Plant>, connection: Uuid, now: Nanos) -> Publisher {
        let mut items: Vec<_> =
            plant.publications.values().filter(|item| item.set.connection == connection && item.set.enabled).collect();
        items.sort_by(|a, b| a.set.order.total_cmp(&b.set.order).then(a.id.cmp(&b.id)));
        let mut publisher = Publisher { plant: plant.clone(), now, ..Publisher::default() };
        let mut room = MOST_TOPICS;
        for item in items {
            let Some(mut lane) = Lane::of(plant, item) else { continue };
            if lane.groups.len() > room {
                lane.groups.truncate(room);
                lane.summary.problems.push("A connection publishes on at most 200,000 topics; the rest is left out.".into());
            }
            room -= lane.groups.len();
            lane.next = every(&item.set).map(|every| aligned(now, every));
            let at = publisher.lanes.len();
            for (g, group) in lane.groups.iter().enumerate() {
                for (m, member) in group.members.iter().enumerate() {
                    publisher.seats.entry(member.tag.no).or_default().push((at, g, m));
                }
            }
            publisher.lanes.push(lane);
        }
        publisher
    }

    /// Goes on where another one was: what it sent need not be sent again.
    #[must_use]
    pub fn after(mut self, before: &mut Publisher) -> Publisher {
        let mut known: Former = HashMap::new();
        for lane in before.lanes.drain(..) {
            let item = lane.item;
            known.extend(lane.groups.into_iter().map(|group| ((item.id, group.topic.clone()), (item.clone(), group))));
        }
        for lane in &mut self.lanes {
            for group in &mut lane.groups {
                let Some((item, old)) = known.remove(&(lane.item.id, group.topic.clone())) else { continue };
                let same = |a: &Publication, b: &Publication| {
                    (&a.payload, a.format, a.retain, a.qos) == (&b.payload, b.format, b.retain, b.qos)
                };
                let tags = |group: &Group| group.members.iter().map(|m| (m.tag.no, m.path.clone())).collect::<Vec<_>>();
                if !same(&item.set, &lane.item.set) || tags(&old) != tags(group) {
                    continue;
                }
                group.sent_at = old.sent_at;
                for (member, old) in group.members.iter_mut().zip(old.members) {
                    (member.current, member.sent, member.changed) = (old.current, old.sent, old.changed);
                }
            }
        }
        for l in 0..self.lanes.len() {
            let When::Change { longest_s, .. } = self.lanes[l].item.set.when else { continue };
            for g in 0..self.lanes[l].groups.len() {
                let group = &self.lanes[l].groups[g];
                let again = group.sent_at.filter(|_| longest_s > 0).map(|at| at + Nanos::from(longest_s) * SECOND);
                let due = if group.members.iter().any(|member| member.changed) { Some(self.now) } else { again };
                self.put_off(l, g, due);
            }
        }
        self
    }

    /// Nothing is published.
    pub fn is_empty(&self) -> bool {
        self.lanes.is_empty()
    }

    /// The tags whose values it wants.
    pub fn tags(&self) -> impl Iterator<Item = TagNo> {
        self.seats.keys().copied()
    }

    /// The topics on which it sends, sorted.
    pub fn topics(&self) -> Vec<String> {
        let mut topics: Vec<String> =
            self.lanes.iter().flat_map(|lane| lane.groups.iter().map(|group| group.topic.clone())).collect();
        topics.sort_unstable();
        topics.dedup();
        topics
    }

    /// What each publication comes to.
    pub fn summaries(&self) -> impl Iterator<Item = (Uuid, &Summary)> {
        self.lanes.iter().map(|lane| (lane.item.id, &lane.summary))
    }

    /// Whether messages of a publication wait while the connection is lost.
    pub fn keeps(&self, publication: Uuid) -> bool {
        self.lanes.iter().any(|lane| lane.item.id == publication && lane.item.set.keep)
    }

    /// Shows what is known of a tag and sends nothing.
    pub fn show(&mut self, tag: TagNo, current: &Current) {
        for &(l, g, m) in self.seats.get(&tag).into_iter().flatten() {
            self.lanes[l].groups[g].members[m].current = current.clone();
        }
    }

    /// Takes in the newest of a tag.
    pub fn take(&mut self, tag: TagNo, current: &Current, now: Nanos, out: &mut Vec<Message>) {
        self.now = self.now.max(now);
        for (l, g, m) in self.seats.get(&tag).cloned().unwrap_or_default() {
            let lane = &mut self.lanes[l];
            let group = &mut lane.groups[g];
            let member = &mut group.members[m];
            member.current = current.clone();
            let When::Change { shortest_ms, .. } = lane.item.set.when else { continue };
            if !member.changed && member.moved(&lane.item.set.when) {
                member.changed = true;
            }
            if !member.changed {
                continue;
            }
            let waits = group.sent_at.map(|at| at + Nanos::from(shortest_ms) * 1_000_000).filter(|&due| due > now);
            match waits {
                None => self.send(l, g, now, out),
                Some(due) => self.put_off(l, g, Some(due)),
            }
        }
    }

    /// Sends what is due.
    pub fn tick(&mut self, now: Nanos, out: &mut Vec<Message>) {
        if now < self.now {
            self.set_back(now);
        }
        self.now = now;
        for l in 0..self.lanes.len() {
            let Some(every) = every(&self.lanes[l].item.set) else { continue };
            if self.lanes[l].next.is_none_or(|next| next <= now) {
                self.lanes[l].next = Some(aligned(now, every));
                (0..self.lanes[l].groups.len()).for_each(|g| self.send(l, g, now, out));
            }
        }
        while let Some(&(due, l, g)) = self.deadlines.first().filter(|(due, ..)| *due <= now) {
            self.deadlines.remove(&(due, l, g));
            self.lanes[l].groups[g].due = None;
            self.send(l, g, now, out);
        }
    }

    /// When [`Self::tick`] has something to do next.
    pub fn next(&self) -> Option<Nanos> {
        let rhythms = self.lanes.iter().filter_map(|lane| lane.next);
        rhythms.chain(self.deadlines.first().map(|(due, ..)| *due)).min()
    }

    /// The connection is back: what did not wait for it is sent as it is now.
    pub fn back(&mut self, now: Nanos, out: &mut Vec<Message>) {
        for l in 0..self.lanes.len() {
            if !self.lanes[l].item.set.keep && every(&self.lanes[l].item.set).is_none() {
                (0..self.lanes[l].groups.len()).for_each(|g| self.send(l, g, now, out));
            }
        }
    }

    /// The next messages of its first publication, at most so many.
    pub fn outline(&self, most: usize) -> Option<Outline> {
        let lane = self.lanes.first()?;
        let next = lane.groups.iter().filter_map(|group| lane.message(&self.plant, group, self.now)).take(most).collect();
        Some(Outline { summary: lane.summary.clone(), next })
    }

    fn send(&mut self, l: usize, g: usize, now: Nanos, out: &mut Vec<Message>) {
        let lane = &self.lanes[l];
        let made = lane.message(&self.plant, &lane.groups[g], now).map(|(message, _)| message);
        let lane = &mut self.lanes[l];
        match made {
            Some(message) if message.payload.len() > LARGEST => {
                let words = format!("A message on {} would be larger than 1 MiB and is not sent.", message.topic);
                if lane.summary.problems.len() <= MOST_PROBLEMS && !lane.summary.problems.contains(&words) {
                    lane.summary.problems.push(words);
                }
            }
            made => out.extend(made),
        }
        let group = &mut lane.groups[g];
        group.sent_at = Some(now);
        for member in &mut group.members {
            if member.known() {
                member.sent = Some((member.current.value.clone(), member.current.quality.reason()));
            }
            member.changed = false;
        }
        let again = match lane.item.set.when {
            When::Change { longest_s, .. } if longest_s > 0 => Some(now + Nanos::from(longest_s) * SECOND),
            _ => None,
        };
        self.put_off(l, g, again);
    }

    fn put_off(&mut self, l: usize, g: usize, due: Option<Nanos>) {
        let group = &mut self.lanes[l].groups[g];
        if let Some(before) = std::mem::replace(&mut group.due, due) {
            self.deadlines.remove(&(before, l, g));
        }
        self.deadlines.extend(due.map(|due| (due, l, g)));
    }

    /// The clock was set back: what waits goes on waiting for as long as it would have.
    fn set_back(&mut self, now: Nanos) {
        let by = self.now - now;
        self.deadlines = std::mem::take(&mut self.deadlines).into_iter().map(|(due, l, g)| (due - by, l, g)).collect();
        for lane in &mut self.lanes {
            lane.next = every(&lane.item.set).map(|every| aligned(now, every));
            for group in &mut lane.groups {
                group.due = group.due.map(|due| due - by);
                group.sent_at = group.sent_at.map(|at| at - by);
            }
        }
    }
}
