//! Arrivals: tags that connections make by themselves, after the mappings in their settings. What comes together becomes one
//! revision, which is undone like any other; what was made once is not made again.

use crate::{Live, LiveError, supervision::BackOff};
use havrel_core::{
    access::Actor,
    arrival::{Arrival, Outcome, plan, take_back},
    plant::{Connection, Item, Own, Plant},
    text::shown,
};
use havrel_db::{
    DbError,
    arrivals::{ArrivalKey, Arrived},
    config::{By, CommitError},
};
use havrel_link::kind;
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use tokio::{
    sync::mpsc,
    task::spawn_blocking,
    time::{Instant, sleep, timeout_at},
};
use uuid::Uuid;

/// Arrivals that wait to be taken in; a driver that finds no room announces again.
const MOST_WAITING: usize = 2000;
/// Arrivals in one revision, and how long the first of them waits for others.
const MOST_AT_ONCE: usize = 1000;
const GATHER: Duration = Duration::from_millis(300);
/// Times that arrivals are tried while the database answers.
const MOST_TRIES: u32 = 8;
/// Arrivals that are remembered, so that they can be made again at once.
const MOST_LAST: usize = 20_000;

/// What drivers announce, on its way to the configuration.
pub(crate) struct Arrivals {
    pub to: mpsc::Sender<(Uuid, Arrival)>,
    /// What was announced last, by connection, mapping and key.
    last: Mutex<HashMap<(Uuid, ArrivalKey), Arrival>>,
}

/// Where announced arrivals come out.
pub(crate) type Inbox = Arc<tokio::sync::Mutex<mpsc::Receiver<(Uuid, Arrival)>>>;

impl Arrivals {
    pub fn new() -> (Arrivals, Inbox) {
        let (to, inbox) = mpsc::channel(MOST_WAITING);
        (Arrivals { to, last: Mutex::default() }, Arc::new(tokio::sync::Mutex::new(inbox)))
    }

    fn remember(&self, connection: Uuid, arrival: &Arrival) {
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        let key = (connection, key_of(arrival));
        if last.len() < MOST_LAST || last.contains_key(&key) {
            last.insert(key, arrival.clone());
        }
    }
}

fn key_of(arrival: &Arrival) -> ArrivalKey {
    (arrival.mapping, arrival.key.clone())
}

/// Takes in what drivers announce.
pub(crate) async fn follow(live: Arc<Live>, inbox: Inbox) {
    let mut inbox = inbox.lock().await;
    while let Some(first) = inbox.recv().await {
        let mut some = vec![first];
        let until = Instant::now() + GATHER;
        while some.len() < MOST_AT_ONCE
            && let Ok(Some(next)) = timeout_at(until, inbox.recv()).await
        {
            some.push(next);
        }
        let mut by_connection: HashMap<Uuid, HashMap<ArrivalKey, Arrival>> = HashMap::new();
        for (connection, arrival) in some {
            live.arrivals.remember(connection, &arrival);
            // Of one that was announced twice the later counts.
            by_connection.entry(connection).or_default().insert(key_of(&arrival), arrival);
        }
        for (connection, arrivals) in by_connection {
            let mut arrivals: Vec<Arrival> = arrivals.into_values().collect();
            arrivals.sort_by(|a, b| a.key.cmp(&b.key));
            let (mut back_off, mut tries) = (BackOff::new(), 0);
            while let Err(error) = live.take_in(connection, &arrivals).await {
                tries += 1;
                // A database that answers everything else will not take them later either, and others wait behind them.
                if tries >= MOST_TRIES && live.database().ok {
                    tracing::error!(%error, count = arrivals.len(), "arrivals could not be stored and are left out until a restart");
                    break;
                }
                tracing::warn!(%error, "arrivals wait for the database");
                sleep(back_off.failed()).await;
            }
        }
    }
}

/// What each tag of a connection is told apart by.
fn read_already(plant: &Plant, connection: &Item<Connection>, read_at: &dyn Fn(&Own) -> Option<String>) -> HashMap<String, Uuid> {
    let own = plant.tags.values().filter(|tag| tag.set.connection == Some(connection.id));
    own.filter_map(|tag| Some((read_at(&tag.set.point)?, tag.id))).collect()
}

impl Live {
    /// Makes tags of arrivals at a connection, and takes note of what became of each.
    async fn take_in(self: &Arc<Self>, connection: Uuid, arrivals: &[Arrival]) -> Result<(), DbError> {
        let plant = self.plant();
        let Some(item) = plant.connections.get(&connection) else { return Ok(()) };
        // What was announced before its mapping was taken away makes nothing any more.
        let arrivals: Vec<Arrival> =
            arrivals.iter().filter(|one| item.set.mappings.iter().any(|m| m.id == one.mapping)).cloned().collect();
        let keys: Vec<ArrivalKey> = arrivals.iter().map(key_of).collect();
        let before = Arc::new(self.db.arrived(connection, &keys).await?);
        let (of, asked, told) = (plant.clone(), arrivals.clone(), before.clone());
        let planned = spawn_blocking(move || {
            let item = &of.connections[&connection];
            let kind = kind(&item.set.kind);
            let read_at = |point: &Own| kind.and_then(|kind| kind.show_point(&item.set, point));
            let there = read_already(&of, item, &read_at);
            let known = |arrival: &Arrival, at: &str| told.get(&key_of(arrival)).is_some_and(|(tags, _)| tags.contains(at));
            plan(&of, connection, &asked, &read_at, &there, &known, &mut Uuid::new_v4)
        });
        let Ok(mut planned) = planned.await else {
            tracing::error!("the tags of arrivals could not be planned");
            return Ok(());
        };
        let mut revision = None;
        if !planned.edits.is_empty() {
            let topics = planned.outcomes.iter().filter(|outcome| outcome.made > 0).count();
            let plural = |count: usize, noun: &str| format!("{count} {noun}{}", if count == 1 { "" } else { "s" });
            let why = format!("{} of {} made {}", plural(topics, "arrival"), item.set.name, plural(planned.made, "tag"));
            let by = By { account: None, actor: "Havrel".into(), why, undoes: None };
            match self.commit(&planned.edits, &by).await {
                Ok(next) => revision = Some(next.revision),
                // The others are made without the one that is refused.
                Err(CommitError::Refused(_)) if arrivals.len() > 1 => {
                    let (first, second) = arrivals.split_at(arrivals.len() / 2);
                    Box::pin(self.take_in(connection, first)).await?;
                    return Box::pin(self.take_in(connection, second)).await;
                }
                Err(CommitError::Refused(problems)) => {
                    let outcome = &mut planned.outcomes[0];
                    *outcome = Outcome::default();
                    outcome.refused = problems.into_iter().next().map(|problem| problem.message).unwrap_or_default();
                }
                Err(CommitError::Db(error)) => return Err(error),
                // Somebody stopped it: what it would have made is announced when the connection starts again.
                Err(CommitError::Nothing | CommitError::Stopped) => return Ok(()),
            }
        }
        let row = |outcome: Outcome| {
            let (mapping, key) = keys[outcome.arrival].clone();
            let revision = revision.filter(|_| outcome.made > 0);
            let (tags, places) = (outcome.tags.into_iter().collect(), outcome.places);
            Arrived { mapping, key, at: 0, revision, tags, places, refused: outcome.refused }
        };
        // What is known already is not news.
        let news = |one: &Arrived| {
            let known = before.get(&(one.mapping, one.key.clone()));
            known.is_none_or(|(tags, refused)| one.refused != *refused || one.tags.keys().any(|at| !tags.contains(at)))
        };
        let rows: Vec<Arrived> = planned.outcomes.into_iter().map(row).filter(news).collect();
        if rows.is_empty() { Ok(()) } else { self.db.keep_arrivals(connection, &rows).await }
    }

    /// Takes away the tags of an arrival, and the places that were made for them and hold nothing else. It stays known, so that they
    /// do not come again by themselves.
    ///
    /// # Errors
    /// As [`Live::commit`]; nothing is done where there is nothing to take away.
    pub async fn take_back(
        self: &Arc<Self>,
        connection: Uuid,
        key: &ArrivalKey,
        actor: &Actor,
    ) -> Result<Option<Arc<Plant>>, CommitError> {
        let (_, all) = self.db.arrivals(connection, Some(&key.1), i64::MAX).await?;
        let Some(arrived) = all.into_iter().find(|one| one.mapping == key.0) else { return Ok(None) };
        let tags: Vec<Uuid> = arrived.tags.into_values().collect();
        let edits = take_back(&self.plant(), &tags, &arrived.places);
        if edits.is_empty() {
            return Ok(None);
        }
        let why = format!("Took away what {} made", shown(&key.1));
        let by = By { account: Some(actor.account), actor: actor.name.clone(), why, undoes: None };
        self.commit(&edits, &by).await.map(Some)
    }

    /// Makes the tags of an arrival again, after somebody took them away. `false`: it comes with its next message.
    ///
    /// # Errors
    /// When it is not known, or the database does not answer.
    pub async fn arrive_again(&self, connection: Uuid, key: ArrivalKey) -> Result<bool, LiveError> {
        if !self.db.forget_arrival(connection, &key).await? {
            return Err(LiveError::Refused("This is no arrival that is known.".into()));
        }
        let last = self.arrivals.last.lock().unwrap_or_else(PoisonError::into_inner).get(&(connection, key)).cloned();
        match last {
            Some(arrival) => Ok(self.arrivals.to.send((connection, arrival)).await.is_ok()),
            None => Ok(false),
        }
    }
}
