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

/// Values that came and wait to be handed on.
#[derive(Default)]
struct Waiting {
    batch: Batch,
    /// Tags of which values were dropped.
    missing: HashSet<TagNo>,
    /// A subscription ended, and why.
    ended: Option<StatusCode>,
    /// The time of the newest value of each tag, where another session may go on from it.
    newest: Option<HashMap<TagNo, Nanos>>,
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
        let Waiting { batch, newest, .. } = &mut *waiting;
        let before = batch.samples.len();
        value::push(batch, tag, data, scaling, now());
        if let (Some(newest), Some(sample)) = (newest, batch.samples.get(before)) {
            let known = newest.entry(tag).or_insert(Nanos::MIN);
            // The session before this one has delivered it.
            if sample.time <= *known {
                batch.samples.truncate(before);
                return;
            }
            *known = sample.time;
        }
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
        let known = before.lock().newest.take();
        self.lock().newest = known;
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
    /// For a session that may be followed by another one, with `followed`.
    pub fn new(followed: bool) -> Items {
        let waiting = Waiting { newest: followed.then(HashMap::new), ..Waiting::default() };
        Items {
            inbox: Arc::new(Inbox { waiting: Mutex::new(waiting), ..Inbox::default() }),
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
        let tags = |count| if count == 1 { "1 tag".to_owned() } else { format!("{count} tags") };
        let reads = self.reads.then(|| "The server gives no subscription, so Havrel reads at each interval.".to_owned());
        reads.into_iter().chain(all.into_iter().map(|(words, count)| format!("{words} It concerns {}.", tags(count)))).collect()
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
