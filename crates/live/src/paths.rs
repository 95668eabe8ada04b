//! Tells the journal when a connection goes over to another of its addresses.

use arc_swap::ArcSwap;
use havrel_core::plant::Plant;
use havrel_db::Db;
use havrel_link::{Health, driver};
use serde_json::json;
use std::sync::Arc;
use tokio::sync::watch;
use uuid::Uuid;

/// Follows the health of one connection until it ends.
pub(crate) async fn watch(db: Db, plant: Arc<ArcSwap<Plant>>, connection: Uuid, mut health: watch::Receiver<Health>) {
    let mut path = health.borrow().path;
    while health.changed().await.is_ok() {
        let now = health.borrow_and_update().path;
        if now == path {
            continue;
        }
        path = now;
        let plant = plant.load_full();
        let Some(item) = plant.connections.get(&connection) else { continue };
        let paths = driver(&item.set.kind).map(|d| d.paths(&item.set)).unwrap_or_default();
        let Some(words) = paths.get(path) else { continue };
        let which = if path == 0 { "its first address" } else { "a spare address" };
        let title = format!("{} is now reached over {which}, {words}", item.set.name);
        if let Err(error) = db.note("connection", None, Some(connection), &title, json!({"path": path})).await {
            tracing::warn!(%error, title, "could not be journalled");
        }
    }
}
