//! The demo: the configuration of the simulated plant taken in, its ports followed, its made-up past loaded.

use crate::standin::{EFFLUENT, Failure, Past, SHARE, Standin, UTILITIES};
use havrel_core::{
    frame::Frame,
    plant::{Edit, Kind, Op, Own},
    time::{Nanos, SECOND},
};
use havrel_db::config::{By, CommitError};
use havrel_jobs::{sheet::NoPlan, whole};
use havrel_link::{Kinds, modbus::Address};
use havrel_live::{Live, now};
use serde_json::{Value as Json, json};
use std::{path::Path, sync::Arc};
use uuid::Uuid;

fn by(why: &str) -> By {
    By { account: None, actor: "Havrel".into(), why: why.into(), undoes: None }
}

/// Gives an untouched plant the demo's configuration, through the import of files; a plant that has any is left alone. Gives
/// whether it was built.
///
/// # Errors
/// What is wrong with the file, or the database's own.
pub async fn build(live: &Arc<Live>, file: &[u8], world: &World<'_>) -> Result<bool, Failure> {
    let plant = live.plant();
    if plant.revision > 0 {
        return Ok(false);
    }
    let mut plan = whole::compare(&plant, file, false, &Kinds, &mut |_| true).map_err(|told| match told {
        NoPlan::Wrong(wrong) => wrong.first().map_or_else(String::new, |w| w.message.clone()),
        NoPlan::Cancelled => "cancelled".into(),
    })?;
    for edit in plan.edits.iter_mut().filter(|edit| edit.kind == Kind::Connection) {
        let Op::Create(set, _) = &mut edit.op else { continue };
        let name = set.get("name").and_then(Json::as_str).unwrap_or_default().to_owned();
        if let Some(settings) = set.get_mut("settings").and_then(Json::as_object_mut) {
            follow(&name, settings, world);
        }
    }
    live.commit(&plan.edits, &by("Built the demo plant")).await?;
    Ok(true)
}

/// What stands around the demo plant.
pub struct World<'a> {
    pub standin: &'a Standin,
    /// The folder in the place of the share for reports.
    pub share: &'a Path,
}

/// Points the settings of a connection of that name at the port on which its device listens now, if it is one of the loopback, and the share
/// at its folder.
fn follow(name: &str, settings: &mut Own, World { standin, share }: &World<'_>) {
    if name == SHARE && settings.contains_key("path") {
        settings.insert("path".into(), json!(share));
    }
    let device = if name == EFFLUENT { UTILITIES } else { name };
    let Some((_, port)) = standin.controllers.iter().find(|(name, _)| name == device) else { return };
    let at_home = |text: &Json| text.as_str().is_some_and(|text| text.contains("127.0.0.1"));
    if settings.get("host").is_some_and(at_home) {
        settings.insert("port".into(), json!(port));
    } else if settings.get("url").is_some_and(at_home) {
        settings.insert("url".into(), json!(format!("opc.tcp://127.0.0.1:{port}")));
    }
}

/// Points the demo's connections at the ports on which their controllers listen now.
///
/// # Errors
/// The database's own.
pub async fn follow_ports(live: &Arc<Live>, world: &World<'_>) -> Result<(), CommitError> {
    let plant = live.plant();
    let mut edits = Vec::new();
    for connection in plant.connections.values() {
        let mut settings = connection.set.settings.clone();
        follow(&connection.set.name, &mut settings, world);
        if settings != connection.set.settings {
            let patch = [("settings".to_owned(), Json::Object(settings))].into_iter().collect();
            edits.push(Edit { kind: Kind::Connection, id: connection.id, op: Op::Patch(patch), seen: None });
        }
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

/// The configuration as the simulated plant reads it: it knows addresses, not blocks, and items with all their settings, not classes.
fn items(live: &Arc<Live>) -> Vec<Json> {
    let plant = live.plant();
    let whole = |kind: Kind| {
        let plant = &plant;
        plant.ids(kind).into_iter().map(move |id| {
            let mut set = plant.effective(kind, id);
            set.retain(|field, value| !OF_CLASS.contains(&field.as_str()) && !value.is_null());
            (id, set)
        })
    };
    let kinds = [Kind::Place, Kind::Connection, Kind::States, Kind::Rule];
    let others = kinds.into_iter().flat_map(|kind| whole(kind).map(move |(id, set)| json!({"kind": kind, "id": id, "set": set})));
    let tags = whole(Kind::Tag).filter_map(|(id, mut set)| {
        let tag = plant.tags.get(&id)?;
        if let Some(connection) = tag.set.connection.and_then(|id| plant.connections.get(&id))
            && let Ok(source) = plant.source(&connection.set, &tag.set)
        {
            set.insert("point".into(), json!(plain(&source.point, &connection.set.settings)));
            set.insert("scaling".into(), json!(source.scaling));
        }
        Some(json!({"kind": Kind::Tag, "id": id, "no": tag.no, "set": set}))
    });
    // It knows no classes by which a recorder could choose.
    let recorders = whole(Kind::Recorder).filter_map(|(id, mut set)| {
        let recorded = plant.recorded_by(&plant.recorders.get(&id)?.set);
        set.insert("tags".into(), recorded.into_iter().map(|tag| json!(tag.id)).collect());
        set.remove("choices");
        Some(json!({"kind": Kind::Recorder, "id": id, "set": set}))
    });
    others.chain(recorders).chain(tags).collect()
}

/// What items of a class have beside their settings, and what names others that the simulated plant does not know.
const OF_CLASS: [&str; 7] = ["class", "part", "parameters", "without", "property", "class_rule", "shift_pattern"];
