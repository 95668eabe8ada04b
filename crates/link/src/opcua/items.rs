//! What a session delivers: one subscription for each polling group, one monitored item for each tag.

use super::{
    client::Speaking,
    inbox::{Inbox, Listener, counted},
    polls::Polls,
    server::Server,
    settings::{Deadband, Delivery, Point, Settings},
    shapes::Shapes,
    status,
};
use crate::{LinkError, LinkPlan, PointPlan, now};
use havrel_core::{
    TagNo,
    quality::{Quality, Reason},
    sample::Batch,
};
use opcua::types::{
    AttributeId, DataChangeFilter, DataChangeTrigger, DeadbandType, ExtensionObject, MonitoredItemCreateRequest,
    MonitoredItemCreateResult, MonitoringMode, MonitoringParameters, ReadValueId, StatusCode, TimestampsToReturn,
};
use std::{
    collections::{BTreeMap, HashMap, HashSet, VecDeque},
    sync::Arc,
    time::Duration,
};
use uuid::Uuid;

/// How often a subscription without changes says that it lives, about.
const KEEP_ALIVE: Duration = Duration::from_secs(5);
/// Most values in one message, so that none is longer than servers and their chunks allow.
const MOST_NOTIFICATIONS: u32 = 1000;
/// The server ends a subscription that nobody asks for after so many of those.
const LIFETIME: u32 = 12;

/// What a server answers that has no subscriptions, or none left.
const NO_SUBSCRIPTIONS: [&str; 4] = ["BadServiceUnsupported", "BadNotSupported", "BadNotImplemented", "BadTooManySubscriptions"];

/// Most subscriptions of a connection, however few items the server takes for one.
const MOST_SUBSCRIPTIONS: usize = 100;
/// What it answers where a subscription, or one request, cannot hold so many items.
const FULL: [&str; 2] = ["BadTooManyMonitoredItems", "BadTooManyOperations"];

/// Whether a failure is one of some statuses.
fn is_status(error: &LinkError, names: &[&str]) -> bool {
    matches!(error, LinkError::Status(status) if names.contains(&status.name.as_str()))
}

/// A subscription.
struct Subscription {
    group: Option<Uuid>,
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
    /// One for each polling group, or several where the server limits how much one holds.
    subscriptions: Vec<Subscription>,
    held: HashMap<TagNo, Held>,
    /// Tags that the server refuses, to be tried again.
    pub refused: usize,
    /// What is read instead of subscribed.
    pub polls: Polls,
    /// The server turned out to give no subscriptions.
    reads: bool,
    /// Tags whose writing calls a method; they were told so.
    methods: HashSet<TagNo>,
    /// It keeps its values until it is told to send them.
    pub silent: bool,
}

impl Items {
    pub fn new(shapes: Arc<Shapes>) -> Items {
        Items {
            inbox: Arc::new(Inbox::of(shapes)),
            silent: false,
            subscriptions: Vec::new(),
            held: HashMap::new(),
            refused: 0,
            polls: Polls::default(),
            reads: false,
            methods: HashSet::new(),
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
        let slowest = self.subscriptions.iter().map(|s| s.interval_ms).max()?;
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
                // Nothing is read of a method; what it gave last stays.
                _ if at.method.is_some() => {
                    if self.methods.insert(point.tag) {
                        mark(&mut marks, point.tag, Reason::NotSet);
                    }
                }
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
        // One that is a method again later is told so again.
        let methods = plan.points.iter().filter(|p| !wanted.contains_key(&p.tag)).map(|p| p.tag).collect();
        self.methods = self.methods.intersection(&methods).copied().collect();
        self.drop_others(&wanted, plan, server).await?;
        self.inbox.follow(plan);
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
            tags.iter().for_each(|wanted| self.inbox.anew(wanted.plan.tag));
            match self.subscribe(group, tags.into(), settings, server, &mut marks).await {
                Err(error) if is_status(&error, &NO_SUBSCRIPTIONS) => {
                    self.reads = true;
                    self.read_all(&wanted, settings);
                    return Ok(marks);
                }
                subscribed => subscribed?,
            }
        }
        Ok(marks)
    }

    /// Has the tags of a group sent, over as many subscriptions as the server wants for them.
    ///
    /// # Errors
    /// When the server gives no subscription at all, or does not answer.
    async fn subscribe(
        &mut self,
        group: Option<Uuid>,
        mut waiting: VecDeque<&Wanted<'_>>,
        settings: &Settings,
        server: &Server,
        marks: &mut Batch,
    ) -> Result<(), LinkError> {
        let interval_ms = waiting.front().map_or(1000, |wanted| wanted.interval_ms);
        let (mut size, mut full) = (server.limits.items.max(1), false);
        while !waiting.is_empty() {
            if full && self.subscriptions.len() >= MOST_SUBSCRIPTIONS {
                self.refuse(waiting, StatusCode::BadTooManyMonitoredItems, marks);
                return Ok(());
            }
            let (subscription, holds) = match self.subscription(group, interval_ms, full, server).await {
                Ok(subscription) => (subscription, self.held.values().filter(|h| h.subscription == subscription).count()),
                // It gives no further one, so these have no room.
                Err(error) if full && is_status(&error, &NO_SUBSCRIPTIONS) => {
                    self.refuse(waiting, StatusCode::BadTooManyMonitoredItems, marks);
                    return Ok(());
                }
                Err(error) => return Err(error),
            };
            full = false;
            let part: Vec<&Wanted<'_>> = waiting.drain(..size.min(waiting.len())).collect();
            let made = match self.create_all(subscription, &part, settings, server).await {
                Err(error) if is_status(&error, &FULL) => {
                    (full, size) = (holds > 0, if holds > 0 { size } else { part.len() / 2 });
                    if size == 0 {
                        self.refuse(part, StatusCode::BadTooManyMonitoredItems, marks);
                        size = 1;
                    } else {
                        part.into_iter().rev().for_each(|wanted| waiting.push_front(wanted));
                    }
                    continue;
                }
                made => made?,
            };
            let took = holds > 0 || made.iter().any(|(_, granted, _)| granted.status_code.is_good());
            for (wanted, granted, bare) in made.into_iter().rev() {
                let code = granted.status_code;
                if took && code == StatusCode::BadTooManyMonitoredItems {
                    full = true;
                    waiting.push_front(wanted);
                } else if code.is_bad() {
                    self.refuse([wanted], code, marks);
                } else {
                    let held = Held {
                        plan: wanted.plan.clone(),
                        subscription,
                        item: granted.monitored_item_id,
                        asked: (wanted.sampling(settings), settings.queue),
                        granted: (granted.revised_sampling_interval, granted.revised_queue_size),
                        bare,
                    };
                    self.held.insert(wanted.plan.tag, held);
                }
            }
        }
        Ok(())
    }

    /// Notes tags that the server does not deliver.
    fn refuse<'a>(&mut self, tags: impl IntoIterator<Item = &'a Wanted<'a>>, code: StatusCode, marks: &mut Batch) {
        for wanted in tags {
            self.refused += 1;
            marks.push_quality(wanted.plan.tag, now(), status::quality(code));
        }
    }

    /// Makes items, those without a deadband for which the server does not take it.
    async fn create_all<'a>(
        &self,
        subscription: u32,
        part: &[&'a Wanted<'a>],
        settings: &Settings,
        server: &Server,
    ) -> Result<Vec<(&'a Wanted<'a>, MonitoredItemCreateResult, bool)>, LinkError> {
        let asked = part.iter().map(|wanted| wanted.request(settings, wanted.deadband)).collect();
        let made = self.create(subscription, asked, server).await?;
        let (mut bare, mut all): (Vec<&Wanted<'_>>, Vec<_>) = (Vec::new(), Vec::new());
        for (wanted, made) in part.iter().zip(made) {
            match wanted.deadband != Deadband::None && refuses_deadband(made.status_code) {
                true => bare.push(wanted),
                false => all.push((*wanted, made, false)),
            }
        }
        if !bare.is_empty() {
            let asked = bare.iter().map(|wanted| wanted.request(settings, Deadband::None)).collect();
            let made = self.create(subscription, asked, server).await?;
            all.extend(bare.into_iter().zip(made).map(|(wanted, made)| (wanted, made, true)));
        }
        Ok(all)
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
        let stale = |s: &Subscription| plan.connection.interval_of(s.group) != s.interval_ms;
        let ended: Vec<u32> = self.subscriptions.iter().filter(|s| stale(s)).map(|s| s.id).collect();
        for id in ended {
            self.subscriptions.retain(|s| s.id != id);
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
        let ids: Vec<u32> = self.subscriptions.iter().map(|s| s.id).collect();
        if !ids.is_empty() {
            let told = server.session.set_publishing_mode(&ids, true).await.map_err(|e| server.failed(&e))?;
            if let Some(bad) = told.into_iter().find(|code| code.is_bad()) {
                return Err(status::error(bad, server.timeout_ms));
            }
        }
        self.silent = false;
        Ok(())
    }

    /// The newest subscription of a group, or a further one.
    async fn subscription(
        &mut self,
        group: Option<Uuid>,
        interval_ms: u32,
        further: bool,
        server: &Server,
    ) -> Result<u32, LinkError> {
        if let Some(known) = self.subscriptions.iter().rfind(|s| s.group == group && !further) {
            return Ok(known.id);
        }
        let interval = Duration::from_millis(interval_ms.into());
        let alive = KEEP_ALIVE.as_millis().div_ceil(interval.as_millis().max(1)).max(1) as u32;
        let made = server
            .session
            .create_subscription(
                interval,
                alive * LIFETIME,
                alive,
                MOST_NOTIFICATIONS,
                0,
                !self.silent,
                Listener(self.inbox.clone()),
            )
            .await;
        let id = made.map_err(|e| server.failed(&e))?;
        self.subscriptions.push(Subscription { group, id, interval_ms });
        Ok(id)
    }
}
