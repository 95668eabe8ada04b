//! Orders: messages by which others write to tags. Each passes the checks of a write by hand and stands in the journal; those to one
//! tag are carried out one after the other.

use crate::Live;
use arc_swap::ArcSwap;
use havrel_core::{
    plant::Plant,
    publish::{Order, ordered, orders},
    time::Nanos,
};
use havrel_link::{Received, now};
use serde_json::json;
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
};
use tokio::{sync::mpsc, task::JoinSet};
use uuid::Uuid;

/// Orders that wait, and those that are carried out at once.
const MOST_WAITING: usize = 256;
const MOST_AT_ONCE: usize = 64;

/// What became of the orders of a publication, since the program started.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ordered {
    pub done: u64,
    pub refused: u64,
    /// When the last one came; 0 while none has.
    pub last: Nanos,
    /// Topic and reason of the last one that was refused.
    pub words: String,
}

/// Connection and topic, with what a message there writes.
type Known = HashMap<(Uuid, String), Order>;

/// What connections receive as orders, on its way to devices.
pub(crate) struct Orders {
    pub to: mpsc::Sender<(Uuid, Received)>,
    known: ArcSwap<Known>,
    told: Mutex<HashMap<Uuid, Ordered>>,
}

/// Where received orders come out.
pub(crate) type Inbox = Arc<tokio::sync::Mutex<mpsc::Receiver<(Uuid, Received)>>>;

impl Orders {
    pub fn new() -> (Orders, Inbox) {
        let (to, inbox) = mpsc::channel(MOST_WAITING);
        (Orders { to, known: ArcSwap::default(), told: Mutex::default() }, Arc::new(tokio::sync::Mutex::new(inbox)))
    }

    /// Takes a revision into use.
    pub fn follow(&self, plant: &Plant) {
        let of = |id: Uuid| orders(plant, id).into_iter().map(move |(topic, order)| ((id, topic), order));
        self.known.store(Arc::new(plant.connections.keys().flat_map(|&id| of(id)).collect()));
        let mut told = self.told.lock().unwrap_or_else(PoisonError::into_inner);
        told.retain(|id, _| plant.publications.contains_key(id));
    }

    /// The topics on which a connection receives orders, sorted.
    pub fn topics(&self, connection: Uuid) -> Vec<String> {
        let known = self.known.load();
        let mut topics: Vec<String> = known.keys().filter(|(id, _)| *id == connection).map(|(_, topic)| topic.clone()).collect();
        topics.sort();
        topics
    }

    fn tell(&self, publication: Uuid, topic: &str, answer: Result<(), String>) {
        let mut all = self.told.lock().unwrap_or_else(PoisonError::into_inner);
        let told = all.entry(publication).or_default();
        told.last = now();
        match answer {
            Ok(()) => told.done += 1,
            Err(words) => (told.refused, told.words) = (told.refused + 1, format!("{topic}: {words}")),
        }
    }
}

/// Carries out what is received.
pub(crate) async fn follow(live: Arc<Live>, inbox: Inbox) {
    let mut inbox = inbox.lock().await;
    let mut busy: HashMap<Uuid, Arc<tokio::sync::Mutex<()>>> = HashMap::new();
    let mut tasks = JoinSet::new();
    loop {
        let (connection, received) = tokio::select! {
            next = inbox.recv() => match next {
                Some(next) => next,
                None => return,
            },
            Some(_) = tasks.join_next() => continue,
        };
        let known = live.orders.known.load();
        let Some(order) = known.get(&(connection, received.topic.clone())).cloned() else { continue };
        if tasks.len() >= MOST_AT_ONCE {
            live.orders.tell(order.publication, &received.topic, Err("Too many writes at once; it was left out.".into()));
            continue;
        }
        busy.retain(|_, one| Arc::strong_count(one) > 1);
        let turn = busy.entry(order.tag).or_default().clone();
        let live = live.clone();
        tasks.spawn(async move {
            // The lock gives turns in the order in which they were asked for.
            let _turn = turn.lock().await;
            let answer = carry_out(&live, connection, &order, &received).await;
            live.orders.tell(order.publication, &received.topic, answer);
        });
    }
}

async fn carry_out(live: &Live, connection: Uuid, order: &Order, received: &Received) -> Result<(), String> {
    if let Some(words) = received.late {
        return Err(words.into());
    }
    let asked = ordered(&received.payload, &order.member)?;
    let plant = live.plant();
    let tag = plant.tags.get(&order.tag).ok_or("The tag does not exist any more.")?;
    let value = plant.said(&tag.set, &asked)?;
    let through = plant.connections.get(&connection).map_or("", |c| c.set.name.as_str());
    let asked = json!({"value": asked, "topic": received.topic, "through": through});
    let (_, result) = live.write_down(None, order.tag, value, &asked).await.map_err(|error| error.to_string())?;
    result.map(drop).map_err(|error| error.to_string())
}

impl Live {
    /// What became of the orders of a publication.
    pub fn ordered(&self, publication: Uuid) -> Ordered {
        self.orders.told.lock().unwrap_or_else(PoisonError::into_inner).get(&publication).cloned().unwrap_or_default()
    }
}
