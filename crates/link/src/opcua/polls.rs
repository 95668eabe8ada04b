//! Values that are read in a rhythm of ours, for servers without subscriptions.

use super::{inbox::Inbox, server::Server};
use crate::LinkError;
use havrel_core::TagNo;
use opcua::types::{DataValue, ReadValueId};
use std::{
    collections::{BTreeMap, HashMap},
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use tokio::{
    task::JoinSet,
    time::{Instant, sleep_until},
};

/// Tags with the same interval.
struct Round {
    tags: Arc<Vec<(TagNo, ReadValueId)>>,
    /// What they held when they were read last.
    held: Arc<Mutex<HashMap<TagNo, DataValue>>>,
    next: Instant,
    /// It is being read; a server that is slower than the interval is not asked twice at once.
    busy: bool,
}

/// How a round ended: its interval in ms, when it began, and how many values were read.
pub(super) struct Ended {
    pub interval_ms: u32,
    pub began: Instant,
    pub read: Result<usize, LinkError>,
}

/// All that is read in rhythms.
#[derive(Default)]
pub(super) struct Polls {
    rounds: BTreeMap<u32, Round>,
    running: JoinSet<Ended>,
}

impl Polls {
    /// Which tags to read at which interval in ms. A round whose tags stay goes on as it was.
    pub fn set(&mut self, wanted: BTreeMap<u32, Vec<(TagNo, ReadValueId)>>) {
        self.rounds.retain(|interval, _| wanted.contains_key(interval));
        for (interval, mut tags) in wanted {
            tags.sort_unstable_by_key(|(tag, _)| *tag);
            match self.rounds.get_mut(&interval) {
                Some(round) if *round.tags == tags => {}
                // What is new is read with the next round, and all of it then.
                Some(round) => (round.tags, round.held) = (Arc::new(tags), Arc::default()),
                None => {
                    let round = Round { tags: Arc::new(tags), held: Arc::default(), next: Instant::now(), busy: false };
                    self.rounds.insert(interval, round);
                }
            }
        }
    }

    /// Waits until a round is due or has ended; begins those that are due. Gives the end of one.
    pub async fn next(&mut self, server: &Server, inbox: &Arc<Inbox>) -> Ended {
        loop {
            let due = self.rounds.values().filter(|round| !round.busy).map(|round| round.next).min();
            tokio::select! {
                Some(ended) = self.running.join_next(), if !self.running.is_empty() => {
                    // A round that was aborted belongs to no session any more.
                    let Ok(ended) = ended else { continue };
                    if let Some(round) = self.rounds.get_mut(&ended.interval_ms) {
                        round.busy = false;
                    }
                    return ended;
                }
                () = sleep_until(due.unwrap_or_else(Instant::now)), if due.is_some() => self.begin(server, inbox),
                () = std::future::pending(), if due.is_none() && self.running.is_empty() => {}
            }
        }
    }

    fn begin(&mut self, server: &Server, inbox: &Arc<Inbox>) {
        let began = Instant::now();
        for (&interval_ms, round) in self.rounds.iter_mut().filter(|(_, round)| !round.busy && round.next <= began) {
            let interval = Duration::from_millis(interval_ms.into());
            // In step with its rhythm, whatever was missed.
            let missed = (began - round.next).as_nanos() / interval.as_nanos().max(1);
            round.next += interval * (u32::try_from(missed).unwrap_or(u32::MAX - 1) + 1);
            round.busy = true;
            let (server, inbox, tags, held) = (server.clone(), inbox.clone(), round.tags.clone(), round.held.clone());
            self.running.spawn(async move { Ended { interval_ms, began, read: read(&server, &inbox, &tags, &held).await } });
        }
    }
}

async fn read(
    server: &Server,
    inbox: &Inbox,
    tags: &[(TagNo, ReadValueId)],
    held: &Mutex<HashMap<TagNo, DataValue>>,
) -> Result<usize, LinkError> {
    let nodes: Vec<ReadValueId> = tags.iter().map(|(_, node)| node.clone()).collect();
    let told = server.read(&nodes).await?;
    let mut held = held.lock().unwrap_or_else(PoisonError::into_inner);
    for ((tag, _), data) in tags.iter().zip(&told) {
        // The same value with the same time of its source is no new one.
        let same = held.get(tag).is_some_and(|before| {
            before.value == data.value
                && before.status == data.status
                && before.source_timestamp == data.source_timestamp
                && data.source_timestamp.is_some()
        });
        if !same {
            held.insert(*tag, data.clone());
            inbox.add(*tag, data);
        }
    }
    Ok(told.len())
}
