//! Tells the journal when a connection goes over to another of its addresses.

use crate::Live;
use havrel_link::{Health, kind};
use serde_json::json;
use std::sync::Arc;
use tokio::sync::watch;
use uuid::Uuid;

/// Follows the health of one connection until it ends.
pub(crate) async fn watch(live: Arc<Live>, connection: Uuid, mut health: watch::Receiver<Health>) {
    let mut path = health.borrow().path;
    while health.changed().await.is_ok() {
        let now = health.borrow_and_update().path;
        if now == path {
            continue;
        }
        path = now;
        let plant = live.plant();
        let Some(item) = plant.connections.get(&connection) else { continue };
        let paths = kind(&item.set.kind).map(|kind| kind.addresses(&item.set)).unwrap_or_default();
        let Some(words) = paths.get(path) else { continue };
        let which = if path == 0 { "its first address" } else { "a spare address" };
        let title = format!("{} is now reached over {which}, {words}", item.set.name);
        live.remark("connection", None, Some(connection), &title, json!({"path": path})).await;
    }
}
