//! The demo: the configuration of the simulated plant taken in, its ports followed, its made-up past loaded.

use crate::standin::{Failure, Made, Past, Standin};
use havrel_core::{
    frame::Frame,
    plant::{Edit, Item, Kind, Op, Own, Table, Tag},
    time::{Nanos, SECOND},
};
use havrel_db::config::{By, CommitError};
use havrel_link::modbus::Address;
use havrel_live::{Live, now};
use serde_json::{Value as Json, json};
use std::sync::Arc;
use uuid::Uuid;

fn by(why: &str) -> By {
    By { account: None, actor: "Havrel".into(), why: why.into(), undoes: None }
}

/// Gives an untouched plant the demo's configuration; a plant that has any is left alone. Gives whether it was built.
///
/// # Errors
/// The database's own.
pub async fn build(live: &Arc<Live>, made: Vec<Made>) -> Result<bool, CommitError> {
    if live.plant().revision > 0 {
        return Ok(false);
    }
    let create = |made: Made| Edit { kind: made.kind, id: made.id, op: Op::Create(made.set, None), seen: None };
    let edits: Vec<Edit> = made.into_iter().map(create).collect();
    live.commit(&edits, &by("Built the demo plant")).await.map(|_| true)
}

/// Points the demo's connections at the ports on which their controllers listen now.
///
/// # Errors
/// The database's own.
pub async fn follow_ports(live: &Arc<Live>, standin: &Standin) -> Result<(), CommitError> {
    let plant = live.plant();
    let mut edits = Vec::new();
    for (name, port) in &standin.controllers {
        let Some(connection) = plant.connections.values().find(|c| c.set.name == *name) else { continue };
        let mut settings = connection.set.settings.clone();
        let at_home = |text: &Json| text.as_str().is_some_and(|text| text.contains("127.0.0.1"));
        if settings.get("host").is_some_and(at_home) {
            settings.insert("port".into(), json!(port));
        } else if settings.get("url").is_some_and(at_home) {
            settings.insert("url".into(), json!(format!("opc.tcp://127.0.0.1:{port}")));
        }
        if settings == connection.set.settings {
            continue;
        }
        let patch = [("settings".to_owned(), Json::Object(settings))].into_iter().collect();
        edits.push(Edit { kind: Kind::Connection, id: connection.id, op: Op::Patch(patch), seen: None });
    }
    if edits.is_empty() {
        return Ok(());
    }
    live.commit(&edits, &by("Followed the simulated controllers to their new ports")).await.map(drop)
}

/// Samples that go into history in one step.
const STEP: usize = 20_000;

/// Loads the demo's made-up past through the import, newest first, as a job that can be watched and cancelled.
pub async fn load_past(live: Arc<Live>, hours: f64, until: Nanos) {
    let span = (hours * 3600.0) as u64;
    let job = live.jobs.begin("Loading the recorded past", span);
    let mut loaded = 0;
    let result = async {
        let items = items(&live);
        let mut past = Past::ask(hours, &json!({"node": Uuid::now_v7(), "until": until, "items": items})).await?;
        let mut step: Vec<Frame> = Vec::new();
        loop {
            let frame = past.next().await?;
            let ends = frame.is_none();
            step.extend(frame);
            let samples: usize = step.iter().map(|f| f.batch.samples.len()).sum();
            if samples >= STEP || (ends && samples > 0) {
                live.import(&step).await?;
                loaded += samples;
                let reached = step.last().map_or(until, |f| f.arrived);
                job.reach(((until - reached) / SECOND).unsigned_abs());
                step.clear();
            }
            if ends || job.cancelled() {
                return Ok::<_, Failure>(ends);
            }
        }
    };
    let title = match result.await {
        Ok(true) => format!("Loaded the recorded past: {loaded} samples of {hours} h"),
        Ok(false) => format!("Loading the recorded past was cancelled after {loaded} samples"),
        Err(error) => {
            tracing::warn!(%error, "the demo's past could not be loaded");
            format!("The recorded past could not be loaded: {error}")
        }
    };
    live.refill_windows();
    let took = (now() - until) / SECOND;
    live.remark("system", None, None, &title, json!({"samples": loaded, "seconds": took})).await;
}

/// A point in a block as one with an address of its own, as the manual of the controller writes it.
fn plain(point: &Own, settings: &Own) -> Own {
    let mut plain = point.clone();
    let Some(offset) = plain.remove("offset").and_then(|o| o.as_u64()) else { return plain };
    let base = settings.get("base").and_then(Json::as_u64).unwrap_or(1);
    let text = point.get("address").and_then(Json::as_str).unwrap_or_default();
    if let Ok(first) = Address::parse(text, u16::try_from(base).unwrap_or(1)) {
        let address = format!("{} {}", first.table.word(), u64::from(first.offset) + offset);
        plain.insert("address".into(), address.into());
    }
    plain
}

/// The configuration as the simulated plant reads it.
fn items(live: &Arc<Live>) -> Vec<Json> {
    fn of<T>(kind: Kind, table: &Table<T>) -> impl Iterator<Item = Json> {
        table.values().map(move |i: &Arc<Item<T>>| json!({"kind": kind, "id": i.id, "no": i.no, "set": i.own}))
    }
    let plant = live.plant();
    let places = of(Kind::Place, &plant.places).chain(of(Kind::Connection, &plant.connections));
    // It knows addresses, not blocks.
    let tag = |tag: &Arc<Item<Tag>>| {
        let mut own = tag.own.clone();
        if let Some(connection) = tag.set.connection.and_then(|id| plant.connections.get(&id))
            && let Ok(source) = plant.source(&connection.set, &tag.set)
        {
            own.insert("point".into(), json!(plain(&source.point, &connection.set.settings)));
            own.insert("scaling".into(), json!(source.scaling));
        }
        json!({"kind": Kind::Tag, "id": tag.id, "no": tag.no, "set": own})
    };
    let named = of(Kind::States, &plant.states);
    places.chain(named).chain(plant.tags.values().map(tag)).chain(of(Kind::Rule, &plant.rules)).collect()
}
