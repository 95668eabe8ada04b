//! One task per connection, each with its own plan; an edit reaches only the connection it touches.

use crate::{
    Live,
    engine::Message,
    now,
    supervision::{BackOff, words_of},
};
use futures_util::FutureExt as _;
use havrel_core::{
    TagNo,
    plant::Plant,
    publish::Publisher,
    quality::{Quality, Reason},
    sample::Batch,
};
use havrel_link::{
    Announcer, Command, Health, Identities, LinkPlan, LinkState, Outgoing, PointPlan, Ports, Runner, kind, runner, traffic::Tap,
};
use std::{
    collections::{HashMap, HashSet},
    panic::AssertUnwindSafe,
    sync::{Arc, PoisonError},
};
use tokio::{
    sync::{mpsc, watch},
    task::JoinHandle,
};
use uuid::Uuid;

/// A running connection.
pub(crate) struct Line {
    plan: watch::Sender<Arc<LinkPlan>>,
    commands: mpsc::Sender<Command>,
    health: watch::Sender<Health>,
    tap: Tap,
    task: JoinHandle<()>,
}

impl Line {
    pub fn commands(&self) -> mpsc::Sender<Command> {
        self.commands.clone()
    }

    /// Where it reads these tags; `None` for one that it does not read.
    pub fn points(&self, tags: &[TagNo]) -> Vec<Option<PointPlan>> {
        let plan = self.plan.borrow();
        tags.iter().map(|tag| plan.points.iter().find(|p| p.tag == *tag).cloned()).collect()
    }

    pub fn health(&self) -> Health {
        self.health.borrow().clone()
    }

    /// Changes the health of a source whose values come from elsewhere in the program.
    pub fn note(&self, change: impl FnOnce(&mut Health)) {
        self.health.send_modify(change);
    }

    /// Where its exchanges with the device can be watched.
    pub fn tap(&self) -> Tap {
        self.tap.clone()
    }

    /// Told whenever its health changes.
    pub fn changes(&self) -> watch::Receiver<Health> {
        self.health.subscribe()
    }

    /// Ends it and waits until it has.
    pub async fn end(self) {
        drop(self.plan);
        drop(self.commands);
        self.task.abort();
        // Aborted or done, either way it is over.
        let _ = self.task.await;
    }

    /// Runs a driver. One that fails is run anew after a pause, its tags bad meanwhile; `reports` hears what it said, and
    /// nothing once it runs again.
    fn start(runner: Arc<dyn Runner>, id: Uuid, plan: LinkPlan, around: Around) -> Line {
        let Around { identities, to_engine, announcer, outgoing, reports } = around;
        let (plan, plan_in) = watch::channel(Arc::new(plan));
        let (commands, mut commands_in) = mpsc::channel(64);
        let health = watch::channel(Health::new(LinkState::Connecting)).0;
        let tap = Tap::default();
        let (its_health, its_tap) = (health.clone(), tap.clone());
        let task = tokio::spawn(async move {
            let mut back_off = BackOff::new();
            loop {
                let (batches_out, mut batches) = mpsc::channel::<Batch>(64);
                let (handed_on, commands) = mpsc::channel(64);
                let (plan, health, tap, identities) = (plan_in.clone(), health.clone(), tap.clone(), identities.clone());
                let (announcer, outgoing) = (announcer.clone(), outgoing.clone());
                let forward = async {
                    while let Some(batch) = batches.recv().await {
                        if to_engine.send(Message::Samples(batch)).await.is_err() {
                            return;
                        }
                    }
                };
                let hand_on = async {
                    while let Some(command) = commands_in.recv().await {
                        if handed_on.send(command).await.is_err() {
                            break;
                        }
                    }
                    drop(handed_on);
                    std::future::pending::<()>().await;
                };
                back_off.begins();
                let health_out = health.clone();
                let ports =
                    Ports { plan, batches: batches_out, commands, health: health_out, tap, announcer, outgoing, identities };
                let run = runner.run(ports);
                let run = AssertUnwindSafe(run).catch_unwind();
                let ended = tokio::select! {
                    (ended, ()) = async { tokio::join!(run, forward) } => ended,
                    () = hand_on => return,
                };
                let Err(panic) = ended else { return };
                let words = words_of(&*panic);
                drop(panic);
                health.send_modify(|h| h.fail("The driver failed; it is started again.", "Keep the log and report the fault."));
                let mut lost = Batch::default();
                let not_connected = Quality::of(Reason::NotConnected);
                plan_in.borrow().points.iter().for_each(|p| lost.push_quality(p.tag, now(), not_connected));
                // Nobody listens any more while the program stops.
                let _ = reports.send((id, Some(words)));
                let _ = to_engine.send(Message::Samples(lost)).await;
                tokio::time::sleep(back_off.failed()).await;
                if plan_in.has_changed().is_err() {
                    return;
                }
                let _ = reports.send((id, None));
            }
        });
        Line { plan, commands, health: its_health, tap: its_tap, task }
    }
}

/// What a connection has to do with.
struct Around {
    identities: Arc<dyn Identities>,
    to_engine: mpsc::Sender<Message>,
    announcer: Announcer,
    outgoing: Arc<dyn Outgoing>,
    reports: mpsc::UnboundedSender<Report>,
}

/// A connection whose driver failed, with what it said; or that it runs again.
pub(crate) type Report = (Uuid, Option<String>);

/// Tells of drivers that failed.
pub(crate) async fn tell(live: Arc<Live>, reports: Arc<tokio::sync::Mutex<mpsc::UnboundedReceiver<Report>>>) {
    let mut reports = reports.lock().await;
    while let Some((id, failure)) = reports.recv().await {
        let name = live.plant().connections.get(&id).map_or_else(|| id.to_string(), |c| c.set.name.clone());
        live.report(&format!("the connection “{name}”"), failure).await;
    }
}

/// What every connection of a plant has to do; tags that are out of service or wait to begin are not among it.
fn plans(plant: &Plant, waiting: &HashSet<Uuid>) -> HashMap<Uuid, LinkPlan> {
    let mut plans: HashMap<Uuid, LinkPlan> = plant
        .connections
        .values()
        .map(|c| (c.id, LinkPlan { connection: c.set.clone(), points: Vec::new(), orders: Vec::new(), topics: Vec::new() }))
        .collect();
    let idle = plant.idle_places();
    let mut tags: Vec<_> = plant.tags.values().filter(|t| !idle.contains(&t.set.place) && !waiting.contains(&t.id)).collect();
    tags.sort_by_key(|t| t.no);
    for tag in tags {
        let Some(plan) = tag.set.connection.and_then(|id| plans.get_mut(&id)) else { continue };
        // A block or member that is gone leaves a point that the driver refuses, so that the tag is told to have no source.
        let (point, scaling) = match plant.source(&plan.connection, &tag.set) {
            Ok(source) => (source.point.into_owned(), source.scaling),
            Err(_) => (tag.set.point.clone(), None),
        };
        plan.points.push(PointPlan { tag: tag.no, point, scaling, group: tag.set.group });
    }
    for plan in plans.values_mut() {
        // What does not matter to the driver must not look like a change to it.
        plan.connection.order = 0.0;
        plan.connection.name = String::new();
        plan.connection.blocks = Vec::new();
        plan.connection.groups.iter_mut().for_each(|group| group.name = String::new());
    }
    plans
}

impl Live {
    /// Brings the running connections in line with the configuration.
    pub(crate) fn set_links(self: &Arc<Self>) {
        let plant = self.plant();
        let mut wanted = plans(&plant, &self.waiting.now());
        self.orders.follow(&plant);
        for (&id, plan) in &mut wanted {
            plan.orders = self.orders.topics(id);
            if kind(&plan.connection.kind).is_some_and(|kind| kind.describe().can.metrics) {
                plan.topics = Publisher::of(&plant, id, now()).topics();
            }
            plan.connection.settings = self.secrets.opened(id, std::mem::take(&mut plan.connection.settings));
        }
        let mut links = self.links.lock().unwrap_or_else(PoisonError::into_inner);
        let gone: Vec<Uuid> = links.keys().filter(|id| !wanted.contains_key(id)).copied().collect();
        for id in gone {
            // Dropping the plan's sender tells the task to end; it closes its socket by itself.
            links.remove(&id);
        }
        for (id, line) in links.iter() {
            if let Some(plan) = wanted.remove(id)
                && **line.plan.borrow() != plan
            {
                line.plan.send_replace(Arc::new(plan));
            }
        }
        for (id, plan) in wanted {
            let runner = runner(&plan.connection.kind);
            let around = Around {
                identities: self.identity.clone(),
                to_engine: self.to_engine.clone(),
                announcer: Announcer::new(id, self.arrivals.to.clone(), self.orders.to.clone()),
                outgoing: self.publishing.outbox(id),
                reports: self.reports.clone(),
            };
            let line = Line::start(runner, id, plan, around);
            self.spawn(crate::paths::watch(self.clone(), id, line.changes()));
            links.insert(id, line);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::plant::{Kind, Stored};
    use havrel_link::NothingLeaves;
    use serde_json::json;
    use std::sync::atomic::{AtomicUsize, Ordering};

    /// Fails the first time it runs, and then sends one batch.
    #[derive(Default)]
    struct Fails(AtomicUsize);

    #[async_trait::async_trait]
    impl Runner for Fails {
        async fn run(&self, mut ports: Ports) {
            assert!(self.0.fetch_add(1, Ordering::Relaxed) > 0, "the first time it fails");
            let mut batch = Batch::default();
            batch.push_quality(4, 1, Quality::GOOD);
            ports.batches.send(batch).await.unwrap();
            while ports.commands.recv().await.is_some() {}
        }
    }

    struct Nobody;

    impl Identities for Nobody {
        fn folder(&self) -> &std::path::Path {
            unreachable!("nothing is kept here")
        }

        fn identity(&self) -> Result<Arc<havrel_link::Identity>, havrel_link::LinkError> {
            unreachable!("nothing is secured here")
        }
    }

    #[tokio::test(start_paused = true)]
    async fn a_driver_that_fails_is_run_anew_and_its_tags_are_bad_meanwhile() {
        let plan = plans(&plant("Extraction", "", 1000), &HashSet::new()).remove(&Uuid::from_u128(2)).unwrap();
        let (to_engine, mut engine) = mpsc::channel(8);
        let (reports, mut reported) = mpsc::unbounded_channel();
        let line = Line::start(
            Arc::new(Fails::default()),
            Uuid::from_u128(2),
            plan,
            Around {
                identities: Arc::new(Nobody),
                to_engine,
                announcer: Announcer::unheard(),
                outgoing: Arc::new(NothingLeaves::default()),
                reports,
            },
        );
        let failure = reported.recv().await.unwrap().1.unwrap();
        assert!(failure.contains("the first time it fails"));
        assert_eq!(line.health().state, LinkState::Trouble);
        let Some(Message::Samples(lost)) = engine.recv().await else { panic!() };
        let told: Vec<_> = lost.samples.iter().map(|s| (s.tag, s.quality.reason())).collect();
        assert_eq!(told, [(4, Reason::NotConnected), (9, Reason::NotConnected)]);
        assert_eq!(reported.recv().await, Some((Uuid::from_u128(2), None)));
        let Some(Message::Samples(again)) = engine.recv().await else { panic!() };
        assert_eq!(again.samples[0].quality, Quality::GOOD);
        tokio::time::timeout(std::time::Duration::from_secs(5), line.end()).await.unwrap();
    }

    fn plant(connection_name: &str, tag_note: &str, interval: u32) -> Plant {
        let id = Uuid::from_u128;
        let item = |kind, n, no, value: serde_json::Value| Stored {
            kind,
            id: id(n),
            no,
            revision: 1,
            own: value.as_object().unwrap().clone(),
        };
        let (plant, broken) = Plant::from_stored(
            1,
            vec![
                item(Kind::Place, 1, 0, json!({"name": "EX-1"})),
                item(Kind::Connection, 2, 0, json!({"name": connection_name, "kind": "modbus", "interval_ms": interval})),
                item(Kind::Connection, 3, 0, json!({"name": "Wash", "kind": "modbus"})),
                item(Kind::Tag, 11, 9, json!({"name": "b", "place": id(1), "connection": id(2), "point": {"address": "2"}})),
                item(
                    Kind::Tag,
                    10,
                    4,
                    json!({"name": "a", "place": id(1), "connection": id(2), "note": tag_note, "point": {"address": "1"}}),
                ),
                item(Kind::Tag, 12, 5, json!({"name": "unbound", "place": id(1)})),
            ],
        );
        assert!(broken.is_empty());
        plant
    }

    #[test]
    fn each_connection_gets_its_own_tags_in_order() {
        let all = plans(&plant("Extraction", "", 1000), &HashSet::new());
        assert_eq!(all[&Uuid::from_u128(2)].points.iter().map(|p| p.tag).collect::<Vec<_>>(), [4, 9]);
        assert!(all[&Uuid::from_u128(3)].points.is_empty());
        let some = plans(&plant("Extraction", "", 1000), &HashSet::from([Uuid::from_u128(10)]));
        assert_eq!(some[&Uuid::from_u128(2)].points.iter().map(|p| p.tag).collect::<Vec<_>>(), [9]);
    }

    #[test]
    fn an_edit_that_does_not_concern_the_driver_looks_like_none() {
        let plans = |plant: Plant| plans(&plant, &HashSet::new());
        let before = plans(plant("Extraction", "", 1000));
        assert_eq!(before, plans(plant("Renamed", "with a note", 1000)));
        let slower = plans(plant("Extraction", "", 2000));
        let changed: Vec<_> = before.iter().filter(|(id, plan)| slower[*id] != **plan).map(|(id, _)| *id).collect();
        assert_eq!(changed, [Uuid::from_u128(2)]);
    }
}
