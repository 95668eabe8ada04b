//! What a session delivers: one subscription for each polling group, one monitored item for each tag.

use super::{
    client::Speaking,
    polls::Polls,
    server::Server,
    settings::{Deadband, Delivery, Point, Settings},
    status, value,
};
use crate::{LinkError, LinkPlan, PointPlan, now};
use havrel_core::{
    TagNo,
    quality::{Quality, Reason},
    sample::{Batch, flag},
    scale::Scaling,
    time::Nanos,
};
use opcua::{
    client::{MonitoredItem, OnSubscriptionNotification},
    types::{
        AttributeId, DataChangeFilter, DataChangeTrigger, DataValue, DeadbandType, ExtensionObject, MonitoredItemCreateRequest,
        MonitoredItemCreateResult, MonitoringMode, MonitoringParameters, ReadValueId, StatusChangeNotification, StatusCode,
        TimestampsToReturn,
    },
};
use std::{
    collections::{BTreeMap, HashMap, HashSet},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};
use tokio::sync::Notify;
use uuid::Uuid;

/// Most values that wait to be handed on; beyond it they are dropped, and the next ones say that something is missing.
const MOST_WAITING: usize = 200_000;
/// Most bytes of their texts.
const MOST_TEXT: usize = 32 << 20;
/// How often a subscription without changes says that it lives, about.
const KEEP_ALIVE: Duration = Duration::from_secs(5);
/// The server ends a subscription that nobody asks for after so many of those.
const LIFETIME: u32 = 12;

/// What a server answers that has no subscriptions, or none left.
const NO_SUBSCRIPTIONS: [&str; 4] = ["BadServiceUnsupported", "BadNotSupported", "BadNotImplemented", "BadTooManySubscriptions"];

/// A number of things, in words.
pub(super) fn counted(count: usize, what: &str) -> String {
    if count == 1 { format!("1 {what}") } else { format!("{count} {what}s") }
}

/// A time for each of some tags.
#[derive(Clone, Debug, Default)]
pub(super) struct Times(HashMap<TagNo, Nanos>);

impl Times {
    pub fn of(&self, tag: TagNo) -> Option<Nanos> {
        self.0.get(&tag).copied()
    }
}

/// Values that came and wait to be handed on.
#[derive(Default)]
struct Waiting {
    batch: Batch,
    /// Tags of which values were dropped.
    missing: HashSet<TagNo>,
    /// A subscription ended, and why.
    ended: Option<StatusCode>,
    /// Of each tag, the times of the first and of the last value that came.
    first: Times,
    last: Times,
    /// What a session that goes on in another one has delivered.
    skip: Times,
    /// What was delivered before an outage.
    known: Times,
    /// When tags were last told bad because of the connection.
    marked: Nanos,
}

/// Where values arrive.
#[derive(Default)]
pub(super) struct Inbox {
    waiting: Mutex<Waiting>,
    scaling: Mutex<HashMap<TagNo, Scaling>>,
    pub came: Notify,
}

impl Inbox {
    fn lock(&self) -> MutexGuard<'_, Waiting> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub fn add(&self, tag: TagNo, data: &DataValue) {
        let scaling = self.scaling.lock().unwrap_or_else(PoisonError::into_inner).get(&tag).copied();
        let mut waiting = self.lock();
        if waiting.batch.samples.len() >= MOST_WAITING || waiting.batch.text.len() >= MOST_TEXT {
            waiting.missing.insert(tag);
            return;
        }
        let first = waiting.batch.samples.is_empty();
        let Waiting { batch, first: earliest, last: latest, skip, known, marked, .. } = &mut *waiting;
        let (before, arrived) = (batch.samples.len(), now());
        value::push(batch, tag, data, scaling, arrived);
        let Some(time) = batch.samples.get(before).map(|sample| sample.time) else { return };
        if skip.of(tag).is_some_and(|skip| time <= skip) {
            batch.samples.truncate(before);
            return;
        }
        let is_first = earliest.of(tag).is_none();
        earliest.0.entry(tag).or_insert(time);
        if is_first && time <= *marked {
            // It is older than the moment at which the tag was told bad, and holds again from now on.
            if known.of(tag).is_some_and(|known| time <= known) {
                batch.samples.truncate(before);
            }
            value::push(batch, tag, data, scaling, arrived);
            if let Some(sample) = batch.samples.last_mut() {
                (sample.time, sample.flags) = (arrived, sample.flags & !flag::OWN_TIME);
            }
        }
        latest.0.insert(tag, time);
        if !waiting.missing.is_empty()
            && waiting.missing.remove(&tag)
            && let Some(sample) = waiting.batch.samples.last_mut()
        {
            sample.flags |= flag::AFTER_GAP;
        }
        drop(waiting);
        if first {
            self.came.notify_one();
        }
    }

    /// What came since it was asked last.
    pub fn take(&self) -> Batch {
        std::mem::take(&mut self.lock().batch)
    }

    /// Goes on where another session ended: what that one has delivered is not delivered again.
    pub fn go_on(&self, before: &Inbox) {
        let skip = before.last();
        self.lock().skip = skip;
    }

    /// When the last value of each tag came, by its own time.
    pub fn last(&self) -> Times {
        self.lock().last.clone()
    }

    /// The same of the first one since the session began, or since it came back.
    pub fn first(&self) -> Times {
        self.lock().first.clone()
    }

    /// Begins, or begins anew after an outage: when tags were told bad, and what was delivered before that.
    pub fn begin(&self, marked: Nanos, known: Times) {
        let mut waiting = self.lock();
        (waiting.first, waiting.known) = (Times::default(), known);
        waiting.marked = waiting.marked.max(marked);
    }

    /// Tags were told bad for a reason of theirs; the next value of one that is delivered anew is its first.
    pub fn mark(&self, marked: Nanos) {
        self.lock().marked = marked;
    }

    fn anew(&self, tag: TagNo) {
        self.lock().first.0.remove(&tag);
    }

    /// Why a subscription ended, if one did.
    pub fn ended(&self) -> Option<StatusCode> {
        self.lock().ended.take()
    }
}

/// Hears one subscription.
struct Listener(Arc<Inbox>);

impl OnSubscriptionNotification for Listener {
    fn on_data_value(&mut self, data: DataValue, item: &MonitoredItem) {
        self.0.add(item.client_handle(), &data);
    }

    fn on_subscription_status_change(&mut self, told: StatusChangeNotification) {
        self.0.lock().ended = Some(told.status);
        self.0.came.notify_one();
    }
}

/// A subscription.
struct Subscription {
    id: u32,
    interval_ms: u32,
}

/// A tag that is delivered.
struct Held {
    plan: PointPlan,
    subscription: u32,
    item: u32,
    /// Sampling interval in ms and queue: what was asked for, and what the server granted.
    asked: (u32, u32),
    granted: (f64, u32),
    /// A deadband was asked for, which the server does not take for this node.
    bare: bool,
}

/// A tag that is wanted.
struct Wanted<'a> {
    plan: &'a PointPlan,
    read: ReadValueId,
    interval_ms: u32,
    deadband: Deadband,
}

impl Wanted<'_> {
    /// What the server is asked for.
    fn request(&self, settings: &Settings, deadband: Deadband) -> MonitoredItemCreateRequest {
        let (deadband_type, deadband_value) = match deadband {
            Deadband::None => (DeadbandType::None, 0.0),
            Deadband::Absolute(value) => (DeadbandType::Absolute, value),
            Deadband::Percent(value) => (DeadbandType::Percent, value),
        };
        // What holds without any filter (Part 4, 7.22.2), said all the same: some servers overlook a status that changes alone.
        let filter =
            DataChangeFilter { trigger: DataChangeTrigger::StatusValue, deadband_type: deadband_type as u32, deadband_value };
        MonitoredItemCreateRequest {
            item_to_monitor: self.read.clone(),
            monitoring_mode: MonitoringMode::Reporting,
            requested_parameters: MonitoringParameters {
                client_handle: self.plan.tag,
                sampling_interval: f64::from(self.sampling(settings)),
                filter: ExtensionObject::from_message(filter),
                queue_size: settings.queue,
                discard_oldest: true,
            },
        }
    }

    fn sampling(&self, settings: &Settings) -> u32 {
        settings.sampling_ms.unwrap_or(self.interval_ms)
    }
}

/// Whether a server refuses an item for its deadband alone.
fn refuses_deadband(code: StatusCode) -> bool {
    let refusals = [
        StatusCode::BadFilterNotAllowed,
        StatusCode::BadMonitoredItemFilterUnsupported,
        StatusCode::BadMonitoredItemFilterInvalid,
        StatusCode::BadDeadbandFilterInvalid,
    ];
    refusals.iter().any(|refusal| refusal.bits() >> 16 == code.bits() >> 16)
}

/// All that a session delivers.
pub(super) struct Items {
    pub inbox: Arc<Inbox>,
    /// By polling group.
    subscriptions: HashMap<Option<Uuid>, Subscription>,
    held: HashMap<TagNo, Held>,
    /// Tags that the server refuses, to be tried again.
    pub refused: usize,
    /// What is read instead of subscribed.
    pub polls: Polls,
    /// The server turned out to give no subscriptions.
    reads: bool,
    /// It keeps its values until it is told to send them.
    pub silent: bool,
}

impl Items {
    pub fn new() -> Items {
        Items {
            inbox: Arc::default(),
            silent: false,
            subscriptions: HashMap::new(),
            held: HashMap::new(),
            refused: 0,
            polls: Polls::default(),
            reads: false,
        }
    }

    /// How many tags are delivered.
    pub fn count(&self) -> usize {
        self.held.len()
    }

    /// Whether a tag is delivered.
    pub fn holds(&self, tag: TagNo) -> bool {
        self.held.contains_key(&tag)
    }

    /// How long the server may be silent before a subscription must be taken for dead.
    pub fn patience(&self, timeout_ms: u32) -> Option<Duration> {
        let slowest = self.subscriptions.values().map(|s| s.interval_ms).max()?;
        let alive = KEEP_ALIVE.max(Duration::from_millis(slowest.into()));
        Some(alive * 3 + Duration::from_millis(timeout_ms.into()))
    }

    /// Makes the session deliver what a plan wants. Gives what becomes of the tags that are not delivered.
    ///
    /// # Errors
    /// When a service as a whole fails.
    pub async fn follow(
        &mut self,
        plan: &LinkPlan,
        settings: &Settings,
        speaking: &Speaking,
        server: &Server,
    ) -> Result<Batch, LinkError> {
        let mut marks = Batch::default();
        let mark = |marks: &mut Batch, tag, reason| marks.push_quality(tag, now(), Quality::of(reason));
        let usual = settings.deadband.parse().unwrap_or_default();
        let mut wanted: HashMap<TagNo, Wanted<'_>> = HashMap::new();
        for point in &plan.points {
            let interval_ms = plan.connection.interval_of(point.group);
            let Ok(at) = Point::parse(&point.point) else {
                mark(&mut marks, point.tag, Reason::NoSource);
                continue;
            };
            match at.node.id(&speaking.namespaces) {
                _ if interval_ms == 0 => mark(&mut marks, point.tag, Reason::Paused),
                None => mark(&mut marks, point.tag, Reason::NoSuchAddress),
                Some(node_id) => {
                    let attribute_id = AttributeId::Value as u32;
                    let read = ReadValueId { node_id, attribute_id, index_range: at.range, ..ReadValueId::default() };
                    let deadband = at.deadband.unwrap_or(usual);
                    wanted.insert(point.tag, Wanted { plan: point, read, interval_ms, deadband });
                }
            }
        }
        self.drop_others(&wanted, plan, server).await?;
        {
            let mut scaling = self.inbox.scaling.lock().unwrap_or_else(PoisonError::into_inner);
            *scaling = plan.points.iter().filter_map(|p| Some((p.tag, p.scaling?))).collect();
        }
        self.refused = 0;
        if settings.delivery == Delivery::Reads || self.reads {
            self.read_all(&wanted, settings);
            return Ok(marks);
        }
        let mut groups: BTreeMap<Option<Uuid>, Vec<&Wanted<'_>>> = BTreeMap::new();
        for (tag, wanted) in &wanted {
            if !self.held.contains_key(tag) {
                groups.entry(wanted.plan.group).or_default().push(wanted);
            }
        }
        for (group, mut tags) in groups {
            tags.sort_unstable_by_key(|wanted| wanted.plan.tag);
            let interval_ms = tags.first().map_or(1000, |wanted| wanted.interval_ms);
            let subscription = match self.subscription(group, interval_ms, server).await {
                Ok(subscription) => subscription,
                Err(LinkError::Status(status)) if NO_SUBSCRIPTIONS.contains(&status.name.as_str()) => {
                    self.reads = true;
                    self.read_all(&wanted, settings);
                    return Ok(marks);
                }
                Err(error) => return Err(error),
            };
            tags.iter().for_each(|wanted| self.inbox.anew(wanted.plan.tag));
            for part in tags.chunks(server.limits.items.max(1)) {
                let asked = part.iter().map(|wanted| wanted.request(settings, wanted.deadband)).collect();
                let made = self.create(subscription, asked, server).await?;
                let (mut bare, mut told): (Vec<&Wanted<'_>>, Vec<_>) = (Vec::new(), Vec::new());
                for (wanted, made) in part.iter().zip(made) {
                    match wanted.deadband != Deadband::None && refuses_deadband(made.status_code) {
                        true => bare.push(wanted),
                        false => told.push((*wanted, made, false)),
                    }
                }
                if !bare.is_empty() {
                    let asked = bare.iter().map(|wanted| wanted.request(settings, Deadband::None)).collect();
                    let made = self.create(subscription, asked, server).await?;
                    told.extend(bare.into_iter().zip(made).map(|(wanted, made)| (wanted, made, true)));
                }
                for (wanted, granted, bare) in told {
                    let tag = wanted.plan.tag;
                    if granted.status_code.is_bad() {
                        self.refused += 1;
                        marks.push_quality(tag, now(), status::quality(granted.status_code));
                        continue;
                    }
                    let held = Held {
                        plan: wanted.plan.clone(),
                        subscription,
                        item: granted.monitored_item_id,
                        asked: (wanted.sampling(settings), settings.queue),
                        granted: (granted.revised_sampling_interval, granted.revised_queue_size),
                        bare,
                    };
                    self.held.insert(tag, held);
                }
            }
        }
        Ok(marks)
    }

    async fn create(
        &self,
        subscription: u32,
        asked: Vec<MonitoredItemCreateRequest>,
        server: &Server,
    ) -> Result<Vec<MonitoredItemCreateResult>, LinkError> {
        let count = asked.len();
        let made = server.session.create_monitored_items(subscription, TimestampsToReturn::Both, asked).await;
        let made = made.map_err(|e| server.failed(&e))?;
        match made.len() == count {
            true => Ok(made.into_iter().map(|made| made.result).collect()),
            false => Err(LinkError::WrongAnswer(format!("{count} items were asked for, {} came", made.len()))),
        }
    }

    /// Has the tags read in their rhythms instead of subscribed.
    fn read_all(&mut self, wanted: &HashMap<TagNo, Wanted<'_>>, settings: &Settings) {
        wanted.keys().filter(|tag| !self.held.contains_key(tag)).for_each(|tag| self.inbox.anew(*tag));
        self.held.clear();
        let mut rounds: BTreeMap<u32, Vec<(TagNo, ReadValueId)>> = BTreeMap::new();
        for (tag, wanted) in wanted {
            rounds.entry(wanted.interval_ms).or_default().push((*tag, wanted.read.clone()));
            let asked = (wanted.interval_ms, settings.queue);
            let granted = (f64::from(wanted.interval_ms), settings.queue);
            let held = Held { plan: wanted.plan.clone(), subscription: 0, item: 0, asked, granted, bare: false };
            self.held.insert(*tag, held);
        }
        self.polls.set(rounds);
    }

    /// What the server grants instead of what was asked, in sentences.
    pub fn revised(&self) -> Vec<String> {
        let mut all: BTreeMap<String, usize> = BTreeMap::new();
        for Held { asked: (interval, queue), granted: (sampling, kept), bare, .. } in self.held.values() {
            if *bare {
                *all.entry("The server takes no deadband for some values.".to_owned()).or_default() += 1;
            }
            // A rate of 0 means as fast as the server can; one that is faster than asked takes nothing away.
            if *sampling > f64::from(*interval) * 1.01 {
                let words = format!("The server samples every {sampling:.0} ms where {interval} ms were asked for.");
                *all.entry(words).or_default() += 1;
            }
            if kept < queue {
                let words = format!("The server keeps {kept} values of a tag where {queue} were asked for.");
                *all.entry(words).or_default() += 1;
            }
        }
        let reads = self.reads.then(|| "The server gives no subscription, so Havrel reads at each interval.".to_owned());
        reads
            .into_iter()
            .chain(all.into_iter().map(|(words, count)| format!("{words} It concerns {}.", counted(count, "tag"))))
            .collect()
    }

    /// Lets go of what is no longer wanted as it is.
    async fn drop_others(
        &mut self,
        wanted: &HashMap<TagNo, Wanted<'_>>,
        plan: &LinkPlan,
        server: &Server,
    ) -> Result<(), LinkError> {
        let stale = |group: &Option<Uuid>, s: &Subscription| plan.connection.interval_of(*group) != s.interval_ms;
        let ended: Vec<_> = self.subscriptions.iter().filter(|(g, s)| stale(g, s)).map(|(g, s)| (*g, s.id)).collect();
        for (group, id) in ended {
            self.subscriptions.remove(&group);
            self.held.retain(|_, held| held.subscription != id);
            server.session.delete_subscription(id).await.map_err(|e| server.failed(&e))?;
        }
        let kept = |held: &Held| {
            wanted.get(&held.plan.tag).is_some_and(|w| w.plan.point == held.plan.point && w.plan.group == held.plan.group)
        };
        let mut gone: BTreeMap<u32, Vec<(TagNo, u32)>> = BTreeMap::new();
        for (tag, held) in self.held.iter().filter(|(_, held)| !kept(held)) {
            gone.entry(held.subscription).or_default().push((*tag, held.item));
        }
        for (subscription, items) in gone {
            for part in items.chunks(server.limits.items.max(1)) {
                let ids: Vec<u32> = part.iter().map(|(_, item)| *item).collect();
                server.session.delete_monitored_items(subscription, &ids).await.map_err(|e| server.failed(&e))?;
                part.iter().for_each(|(tag, _)| drop(self.held.remove(tag)));
            }
        }
        Ok(())
    }

    /// Has a silent session send what it kept, and all that follows.
    ///
    /// # Errors
    /// When the server does not.
    pub async fn speak(&mut self, server: &Server) -> Result<(), LinkError> {
        let ids: Vec<u32> = self.subscriptions.values().map(|s| s.id).collect();
        if !ids.is_empty() {
            let told = server.session.set_publishing_mode(&ids, true).await.map_err(|e| server.failed(&e))?;
            if let Some(bad) = told.into_iter().find(|code| code.is_bad()) {
                return Err(status::error(bad, server.timeout_ms));
            }
        }
        self.silent = false;
        Ok(())
    }

    async fn subscription(&mut self, group: Option<Uuid>, interval_ms: u32, server: &Server) -> Result<u32, LinkError> {
        if let Some(known) = self.subscriptions.get(&group) {
            return Ok(known.id);
        }
        let interval = Duration::from_millis(interval_ms.into());
        let alive = KEEP_ALIVE.as_millis().div_ceil(interval.as_millis().max(1)).max(1) as u32;
        let made = server
            .session
            .create_subscription(interval, alive * LIFETIME, alive, 0, 0, !self.silent, Listener(self.inbox.clone()))
            .await;
        let id = made.map_err(|e| server.failed(&e))?;
        self.subscriptions.insert(group, Subscription { id, interval_ms });
        Ok(id)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::time::SECOND;
    use opcua::types::{DateTime, Variant};

    fn at(seconds: i64, value: f64) -> DataValue {
        DataValue {
            value: Some(Variant::Double(value)),
            source_timestamp: Some(DateTime::from(value::ticks(seconds * SECOND))),
            ..DataValue::default()
        }
    }

    /// Seconds of their own time, or none where it is ours.
    fn came(inbox: &Inbox) -> Vec<Option<i64>> {
        let own = |s: &havrel_core::sample::Sample| (s.flags & flag::OWN_TIME != 0).then_some(s.time / SECOND);
        inbox.take().samples.iter().map(own).collect()
    }

    #[test]
    fn a_value_that_did_not_change_during_an_outage_holds_again_from_now_on() {
        let inbox = Inbox::default();
        inbox.add(1, &at(100, 1.0));
        assert_eq!(came(&inbox), [Some(100)]);
        inbox.begin(200 * SECOND, inbox.last());
        inbox.add(1, &at(100, 1.0));
        assert_eq!(came(&inbox), [None], "it was delivered already, so only that it holds is news");
        inbox.add(1, &at(150, 2.0));
        assert_eq!(came(&inbox), [Some(150)], "only the first one");
        inbox.begin(300 * SECOND, inbox.last());
        inbox.add(1, &at(250, 3.0));
        assert_eq!(came(&inbox), [Some(250), None], "what changed meanwhile has its own time too");
        inbox.begin(400 * SECOND, inbox.last());
        inbox.add(1, &at(450, 4.0));
        assert_eq!(came(&inbox), [Some(450)]);
        inbox.mark(500 * SECOND);
        inbox.add(1, &at(460, 5.0));
        inbox.anew(1);
        inbox.add(1, &at(470, 6.0));
        assert_eq!(came(&inbox), [Some(460), Some(470), None], "one that is delivered anew");
    }

    #[test]
    fn a_session_that_takes_over_goes_on_from_what_was_delivered() {
        let (old, new) = (Inbox::default(), Inbox::default());
        old.add(1, &at(100, 1.0));
        old.add(1, &at(101, 1.0));
        new.go_on(&old);
        for (tag, seconds) in [(1, 99), (1, 101), (1, 102), (2, 50)] {
            new.add(tag, &at(seconds, 1.0));
        }
        assert_eq!(came(&new), [Some(102), Some(50)]);
    }

    #[test]
    fn beyond_what_may_wait_values_are_missing_and_the_next_one_says_so() {
        let inbox = Inbox::default();
        (0..MOST_WAITING as i64 + 5).for_each(|n| inbox.add(1, &at(n + 1, 1.0)));
        assert_eq!(inbox.take().samples.len(), MOST_WAITING);
        inbox.add(1, &at(1_000_000, 1.0));
        inbox.add(1, &at(1_000_001, 1.0));
        let flags: Vec<_> = inbox.take().samples.iter().map(|s| s.flags & flag::AFTER_GAP != 0).collect();
        assert_eq!(flags, [true, false]);
    }
}
