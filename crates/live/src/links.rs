//! One task per connection, each with its own plan; an edit reaches only the connection it touches.

use crate::{Live, turns::Message};
use havrel_core::{plant::Plant, sample::Batch};
use havrel_link::{Command, Health, LinkPlan, LinkState, PointPlan, Ports, driver, traffic::Tap};
use std::{
    collections::{HashMap, HashSet},
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

    fn start(plan: LinkPlan, to_engine: mpsc::Sender<Message>) -> Option<Line> {
        let driver = driver(&plan.connection.kind)?;
        let (plan, plan_in) = watch::channel(Arc::new(plan));
        let (commands, commands_in) = mpsc::channel(64);
        let health = watch::channel(Health::new(LinkState::Connecting)).0;
        let tap = Tap::default();
        let (batches_out, mut batches) = mpsc::channel::<Batch>(64);
        let ports =
            Ports { plan: plan_in, batches: batches_out, commands: commands_in, health: health.clone(), tap: tap.clone() };
        let task = tokio::spawn(async move {
            let forward = async {
                while let Some(batch) = batches.recv().await {
                    if to_engine.send(Message::Samples(batch)).await.is_err() {
                        return;
                    }
                }
            };
            tokio::join!(driver.run(ports), forward);
        });
        Some(Line { plan, commands, health, tap, task })
    }
}

/// What every connection of a plant has to do; tags that are out of service or wait to begin are not among it.
fn plans(plant: &Plant, waiting: &HashSet<Uuid>) -> HashMap<Uuid, LinkPlan> {
    let mut plans: HashMap<Uuid, LinkPlan> =
        plant.connections.values().map(|c| (c.id, LinkPlan { connection: c.set.clone(), points: Vec::new() })).collect();
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
    pub(crate) fn set_links(&self) {
        let plant = self.plant();
        let mut wanted = plans(&plant, &self.waiting.now());
        for (&id, plan) in &mut wanted {
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
            if let Some(line) = Line::start(plan, self.to_engine.clone()) {
                self.spawn(crate::paths::watch(self.db.clone(), self.plant.clone(), id, line.changes()));
                links.insert(id, line);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::plant::{Kind, Stored};
    use serde_json::json;

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
