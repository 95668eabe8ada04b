//! Recorders: rows that people have taken, and what is older than it is kept for.

use crate::{Live, LiveError, engine::Message, now};
use havrel_core::{
    TagNo,
    access::Actor,
    plant::{Plant, Track},
    time::{Nanos, SECOND},
};
use havrel_db::recorders::Aged;
use serde_json::json;
use std::{collections::HashMap, sync::Arc, time::Duration};
use tokio::sync::oneshot;
use uuid::Uuid;

const DAY: Nanos = 86_400 * SECOND;
/// How often what is too old is looked for.
const LOOKS: Duration = Duration::from_secs(3600);
/// Samples that one statement removes, and the pause behind it: recording comes first.
const AT_ONCE: i64 = 5_000;
const PAUSE: Duration = Duration::from_millis(50);

/// What is kept for a time only, each with its days: figures of a recorder for as long as it says, and the value of a tag for as
/// long as any running recorder of it does, where the tag is not recorded by itself.
pub fn kept_for(plant: &Plant) -> Vec<(Aged, u32)> {
    let mut aged = Vec::new();
    // Days of the values of each tag; none: for ever.
    let mut values: HashMap<TagNo, Option<u32>> = HashMap::new();
    for item in plant.recorders.values() {
        if let Some(days) = item.set.keep_days {
            aged.push((Aged::Figures(item.id), days));
        }
        // A paused recorder goes on keeping what it recorded.
        if !item.set.tracks().contains(&Track::Value) {
            continue;
        }
        for tag in plant.recorded_by(&item.set).into_iter().filter(|tag| !tag.set.record) {
            let known = values.entry(tag.no).or_insert(item.set.keep_days);
            *known = known.zip(item.set.keep_days).map(|(a, b)| a.max(b));
        }
    }
    let mut values: Vec<_> = values.into_iter().filter_map(|(tag, days)| Some((Aged::Value(tag), days?))).collect();
    values.sort_by_key(|(of, _)| match of {
        Aged::Value(tag) => *tag,
        Aged::Figures(_) => 0,
    });
    aged.extend(values);
    aged
}

/// Removes what is older than it is kept for, once an hour, for ever.
pub(crate) async fn remove_what_is_old(live: Arc<Live>) {
    loop {
        tokio::time::sleep(LOOKS).await;
        match live.remove_aged(now()).await {
            Ok(0) => {}
            Ok(removed) => {
                let title = format!("Removed {removed} samples that were older than their recorders keep them");
                live.remark("system", None, None, &title, json!({"samples": removed})).await;
            }
            Err(error) => tracing::warn!(%error, "old samples stay for now"),
        }
    }
}

impl Live {
    /// Has a recorder take a row now, and waits until it is on disk. `false`: it does not run.
    ///
    /// # Errors
    /// When the disk does not take it, or the program is stopping.
    pub async fn take_row(&self, recorder: Uuid, actor: &Actor) -> Result<bool, LiveError> {
        if !self.spool_state().trouble.is_empty() {
            return Err(LiveError::Full);
        }
        let (reply, kept) = oneshot::channel();
        self.send(Message::TakeRow { recorder, actor: actor.name.clone(), reply }).await?;
        // Nobody answers where no row was taken.
        let Ok(kept) = kept.await else { return Ok(false) };
        if kept.lost {
            return Err(LiveError::Full);
        }
        self.on_disk(kept.seq).await?;
        self.in_database(kept.seq).await;
        Ok(true)
    }

    /// Removes what is older than it is kept for at an instant, and says how many samples that was.
    ///
    /// # Errors
    /// When the database does not answer; what was removed till then is gone.
    pub async fn remove_aged(&self, at: Nanos) -> Result<u64, LiveError> {
        let plant = self.plant();
        let mut removed = 0;
        for (of, days) in kept_for(&plant) {
            let before = at.saturating_sub(Nanos::from(days) * DAY);
            loop {
                let some = self.db.remove_aged(of, before, AT_ONCE).await?;
                removed += some;
                if some < AT_ONCE as u64 {
                    break;
                }
                tokio::time::sleep(PAUSE).await;
            }
            if let Aged::Figures(recorder) = of {
                self.db.remove_rows(recorder, before).await?;
            }
        }
        Ok(removed)
    }
}
