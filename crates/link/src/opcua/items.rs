//! What a session delivers: one subscription for each polling group, one monitored item for each tag.

use super::{
    client::Speaking,
    server::Server,
    settings::{Point, Settings},
    status, value,
};
use crate::{LinkError, LinkPlan, PointPlan, now};
use havrel_core::{
    TagNo,
    quality::{Quality, Reason},
    sample::{Batch, flag},
    scale::Scaling,
};
use opcua::{
    client::{MonitoredItem, OnSubscriptionNotification},
    types::{
        AttributeId, DataChangeFilter, DataChangeTrigger, DataValue, DeadbandType, ExtensionObject, MonitoredItemCreateRequest,
        MonitoringMode, MonitoringParameters, ReadValueId, StatusChangeNotification, StatusCode, TimestampsToReturn,
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

/// Values that came and wait to be handed on.
#[derive(Default)]
struct Waiting {
    batch: Batch,
    /// Tags of which values were dropped.
    missing: HashSet<TagNo>,
    /// A subscription ended, and why.
    ended: Option<StatusCode>,
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

    fn add(&self, tag: TagNo, data: &DataValue) {
        let scaling = self.scaling.lock().unwrap_or_else(PoisonError::into_inner).get(&tag).copied();
        let mut waiting = self.lock();
        if waiting.batch.samples.len() >= MOST_WAITING || waiting.batch.text.len() >= MOST_TEXT {
            waiting.missing.insert(tag);
            return;
        }
        let first = waiting.batch.samples.is_empty();
        value::push(&mut waiting.batch, tag, data, scaling, now());
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
}

/// All that a session delivers.
pub(super) struct Items {
    pub inbox: Arc<Inbox>,
    /// By polling group.
    subscriptions: HashMap<Option<Uuid>, Subscription>,
    held: HashMap<TagNo, Held>,
    /// Tags that the server refuses, to be tried again.
    pub refused: usize,
}

impl Items {
    pub fn new() -> Items {
        Items { inbox: Arc::default(), subscriptions: HashMap::new(), held: HashMap::new(), refused: 0 }
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
        let mut wanted: HashMap<TagNo, (&PointPlan, ReadValueId, u32)> = HashMap::new();
        for point in &plan.points {
            let interval = plan.connection.interval_of(point.group);
            let Ok(at) = Point::parse(&point.point) else {
                mark(&mut marks, point.tag, Reason::NoSource);
                continue;
            };
            match at.node.id(&speaking.namespaces) {
                _ if interval == 0 => mark(&mut marks, point.tag, Reason::Paused),
                None => mark(&mut marks, point.tag, Reason::NoSuchAddress),
                Some(node_id) => {
                    let attribute_id = AttributeId::Value as u32;
                    let read = ReadValueId { node_id, attribute_id, index_range: at.range, ..ReadValueId::default() };
                    wanted.insert(point.tag, (point, read, interval));
                }
            }
        }
        self.drop_others(&wanted, plan, server).await?;
        {
            let mut scaling = self.inbox.scaling.lock().unwrap_or_else(PoisonError::into_inner);
            *scaling = plan.points.iter().filter_map(|p| Some((p.tag, p.scaling?))).collect();
        }
        let mut groups: BTreeMap<Option<Uuid>, Vec<(TagNo, ReadValueId, u32)>> = BTreeMap::new();
        for (tag, (point, read, interval)) in &wanted {
            if !self.held.contains_key(tag) {
                groups.entry(point.group).or_default().push((*tag, read.clone(), *interval));
            }
        }
        // What holds without any filter (Part 4, 7.22.2), said all the same: some servers overlook a status that changes alone.
        let filter = DataChangeFilter {
            trigger: DataChangeTrigger::StatusValue,
            deadband_type: DeadbandType::None as u32,
            deadband_value: 0.0,
        };
        self.refused = 0;
        for (group, mut points) in groups {
            points.sort_unstable_by_key(|(tag, ..)| *tag);
            let interval_ms = points.first().map_or(1000, |(.., interval)| *interval);
            let subscription = self.subscription(group, interval_ms, server).await?;
            for part in points.chunks(server.limits.items.max(1)) {
                let asked = part.iter().map(|(tag, read, interval)| MonitoredItemCreateRequest {
                    item_to_monitor: read.clone(),
                    monitoring_mode: MonitoringMode::Reporting,
                    requested_parameters: MonitoringParameters {
                        client_handle: *tag,
                        sampling_interval: f64::from(*interval),
                        filter: ExtensionObject::from_message(filter.clone()),
                        queue_size: settings.queue,
                        discard_oldest: true,
                    },
                });
                let session = &server.session;
                let made = session.create_monitored_items(subscription, TimestampsToReturn::Both, asked.collect()).await;
                let made = made.map_err(|e| server.failed(&e))?;
                if made.len() != part.len() {
                    return Err(LinkError::WrongAnswer(format!("{} items were asked for, {} came", part.len(), made.len())));
                }
                for ((tag, _, interval), made) in part.iter().zip(made) {
                    let told = &made.result;
                    if told.status_code.is_bad() {
                        self.refused += 1;
                        marks.push_quality(*tag, now(), status::quality(told.status_code));
                        continue;
                    }
                    if let Some((plan, ..)) = wanted.get(tag) {
                        let held = Held {
                            plan: (*plan).clone(),
                            subscription,
                            item: told.monitored_item_id,
                            asked: (*interval, settings.queue),
                            granted: (told.revised_sampling_interval, told.revised_queue_size),
                        };
                        self.held.insert(*tag, held);
                    }
                }
            }
        }
        Ok(marks)
    }

    /// What the server grants instead of what was asked, in sentences.
    pub fn revised(&self) -> Vec<String> {
        let mut all: BTreeMap<String, usize> = BTreeMap::new();
        for Held { asked: (interval, queue), granted: (sampling, kept), .. } in self.held.values() {
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
        all.into_iter().map(|(words, count)| format!("{words} It concerns {}.", tags(count))).collect()
    }

    /// Lets go of what is no longer wanted as it is.
    async fn drop_others(
        &mut self,
        wanted: &HashMap<TagNo, (&PointPlan, ReadValueId, u32)>,
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
            wanted.get(&held.plan.tag).is_some_and(|(p, ..)| p.point == held.plan.point && p.group == held.plan.group)
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

    async fn subscription(&mut self, group: Option<Uuid>, interval_ms: u32, server: &Server) -> Result<u32, LinkError> {
        if let Some(known) = self.subscriptions.get(&group) {
            return Ok(known.id);
        }
        let interval = Duration::from_millis(interval_ms.into());
        let alive = KEEP_ALIVE.as_millis().div_ceil(interval.as_millis().max(1)).max(1) as u32;
        let made =
            server.session.create_subscription(interval, alive * LIFETIME, alive, 0, 0, true, Listener(self.inbox.clone())).await;
        let id = made.map_err(|e| server.failed(&e))?;
        self.subscriptions.insert(group, Subscription { id, interval_ms });
        Ok(id)
    }
}
