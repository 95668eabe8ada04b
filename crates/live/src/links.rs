//! One task per connection, each with its own plan; an edit reaches only the connection it touches.

use crate::{Live, turns::Message};
use havrel_core::{plant::Plant, sample::Batch};
use havrel_link::{Command, Health, LinkPlan, LinkState, PointPlan, driver};
use std::{
    collections::HashMap,
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
    health: watch::Receiver<Health>,
    task: JoinHandle<()>,
}

impl Line {
    pub fn commands(&self) -> mpsc::Sender<Command> {
        self.commands.clone()
    }

    pub fn health(&self) -> Health {
        self.health.borrow().clone()
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
        let (health_out, health) = watch::channel(Health::new(LinkState::Connecting));
        let (batches_out, mut batches) = mpsc::channel::<Batch>(64);
        let task = tokio::spawn(async move {
            let forward = async {
                while let Some(batch) = batches.recv().await {
                    if to_engine.send(Message::Samples(batch)).await.is_err() {
                        return;
                    }
                }
            };
            tokio::join!(driver.run(plan_in, batches_out, commands_in, health_out), forward);
        });
        Some(Line { plan, commands, health, task })
    }
}

/// What every connection of a plant has to do.
fn plans(plant: &Plant) -> HashMap<Uuid, LinkPlan> {
    let mut plans: HashMap<Uuid, LinkPlan> =
        plant.connections.values().map(|c| (c.id, LinkPlan { connection: c.set.clone(), points: Vec::new() })).collect();
    let mut tags: Vec<_> = plant.tags.values().collect();
    tags.sort_by_key(|t| t.no);
    for tag in tags {
        if let Some(plan) = tag.set.connection.and_then(|id| plans.get_mut(&id)) {
            plan.points.push(PointPlan { tag: tag.no, point: tag.set.point.clone(), scaling: tag.set.scaling });
        }
    }
    for plan in plans.values_mut() {
        // What does not matter to the driver must not look like a change to it.
        plan.connection.order = 0.0;
        plan.connection.name = String::new();
    }
    plans
}

impl Live {
    /// Brings the running connections in line with the configuration.
    pub(crate) fn set_links(&self) {
        let plant = self.plant();
        let mut wanted = plans(&plant);
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
                links.insert(id, line);
            }
        }
    }
}
