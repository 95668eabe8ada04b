//! Last values after a restart: what history knows of each tag is shown until its source speaks.

use crate::{
    Live,
    engine::{Message, Recalled},
};
use havrel_core::{TagNo, engine::Told, sample::flag};
use havrel_db::answers::Kept;
use havrel_link::plain::PUSH;
use std::{collections::HashSet, sync::Arc, time::Duration};

/// Pause before the database is asked again.
const RETRY: Duration = Duration::from_secs(5);

/// Recalls what is stored, once all that was left in the spool up to a frame is in the database too.
pub(crate) async fn run(live: Arc<Live>, seq: u64) {
    let mut shipped = live.shipped.subscribe();
    if shipped.wait_for(|&last| last >= seq).await.is_err() {
        return;
    }
    let newest = loop {
        match live.db.newest().await {
            Ok(newest) => break newest,
            Err(error) => tracing::warn!(%error, "the last values before the restart could not be read; Havrel retries"),
        }
        tokio::time::sleep(RETRY).await;
    };
    let plant = live.plant();
    let is_pushed = |id| plant.connections.get(&id).is_some_and(|c| c.set.kind == PUSH);
    let pushed: HashSet<TagNo> =
        plant.tags.values().filter(|tag| tag.set.connection.is_some_and(is_pushed)).map(|tag| tag.no).collect();
    let all = newest.into_iter().filter_map(|(tag, kept)| recalled(tag, kept, pushed.contains(&tag))).collect();
    if live.send(Message::Recall(all)).await.is_err() {
        tracing::debug!("the program is stopping");
    }
    live.refill_windows();
}

/// `stays`: nobody asks its source again, so that what was told last still counts.
fn recalled(tag: TagNo, kept: Kept, stays: bool) -> Option<Recalled> {
    let own = if kept.flags & flag::OWN_TIME == 0 { 0 } else { kept.time };
    let told = Told { quality: kept.quality, at: kept.time, epoch: kept.epoch, own };
    Some(Recalled { tag, value: kept.value?, time: kept.time, told: stays.then_some(told) })
}
