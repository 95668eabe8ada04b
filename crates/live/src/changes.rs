//! Follows the configuration: at the bell, after each lost connection, and once a second.

use crate::Live;
use std::{sync::Arc, time::Duration};

pub(crate) async fn run(live: Arc<Live>) {
    let mut bell = None;
    loop {
        if bell.is_none() {
            bell = live.db.bell().await.ok();
        }
        let lost = tokio::select! {
            rung = async {
                match &mut bell {
                    Some(bell) => bell.ring().await,
                    None => std::future::pending().await,
                }
            } => rung.is_err(),
            () = tokio::time::sleep(Duration::from_secs(1)) => false,
        };
        if lost {
            bell = None;
        }
        if let Err(error) = catch_up(&live).await {
            tracing::debug!(%error, "could not look for new revisions");
        }
    }
}

async fn catch_up(live: &Arc<Live>) -> Result<(), havrel_db::DbError> {
    let mut plant = (*live.plant()).clone();
    let newer = live.db.changes_after(plant.revision).await?;
    if newer.is_empty() {
        return Ok(());
    }
    for (number, changes) in newer {
        match plant.absorb(number, &changes) {
            Ok(next) => plant = next,
            Err(words) => {
                tracing::error!(words, "a revision does not fit; the configuration is read anew");
                plant = live.db.load_plant().await?.0;
                break;
            }
        }
    }
    live.apply(Arc::new(plant)).await;
    Ok(())
}
