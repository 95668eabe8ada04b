//! Values that need no wire: memory tags, what other programs push, and figures about Havrel itself.

use crate::{Live, LiveError, engine::Message, now};
use havrel_core::{
    TagNo,
    frame::Keep,
    plant::{Plant, Tag, connection::MEMORY, resolve},
    quality::{Quality, Reason},
    sample::{Batch, Value},
    time::{Nanos, SECOND},
};
use havrel_db::{Db, DbError};
use havrel_link::{
    LinkState,
    plain::{FIGURES, Figure, FigurePoint, MemoryPoint, PUSH},
};
use serde_json::Value as Json;
use std::{
    collections::HashMap,
    sync::{Arc, PoisonError},
    time::Duration,
};
use tokio::sync::oneshot;
use uuid::Uuid;

/// A value from before a restart, and when it was set.
pub(crate) type Kept = (Nanos, Json);

/// The values of memory tags that were kept; what the spool knows is newer.
pub(crate) async fn kept(db: &Db, spooled: &[Keep]) -> Result<HashMap<TagNo, Kept>, DbError> {
    let mut all: HashMap<TagNo, Kept> = db.kept_values().await?.into_iter().map(|(tag, at, value)| (tag, (at, value))).collect();
    all.extend(spooled.iter().filter_map(|k| Some((k.tag, (k.at, serde_json::from_str(&k.value).ok()?)))));
    Ok(all)
}

impl Live {
    /// Gives tags without a wire their first value, or marks them as switched off, where that is not so yet.
    pub(crate) async fn seed(&self) {
        let plant = self.plant();
        let own = |kind: &str| [MEMORY, PUSH, FIGURES].contains(&kind);
        if !plant.connections.values().any(|c| own(&c.set.kind)) {
            return;
        }
        let mut batch = Batch::default();
        {
            let values = self.values.read().unwrap_or_else(PoisonError::into_inner);
            let kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
            for tag in plant.tags.values() {
                let Some(connection) = tag.set.connection.and_then(|id| plant.connections.get(&id)) else { continue };
                let Some(shown) = values.of(tag.no).filter(|_| own(&connection.set.kind)) else { continue };
                let reason = shown.current.quality.reason();
                if !connection.set.enabled {
                    if reason != Reason::SwitchedOff {
                        batch.push_quality(tag.no, now(), Quality::of(Reason::SwitchedOff));
                    }
                    continue;
                }
                if !matches!(reason, Reason::NotRead | Reason::SwitchedOff) {
                    continue;
                }
                match first_value(&tag.set, &connection.set.kind, kept.get(&tag.no), shown.current.value.as_ref()) {
                    Some((at, value)) => batch.push(tag.no, at.unwrap_or_else(now), Quality::GOOD, 0, &value),
                    None => batch.push_quality(tag.no, now(), Quality::of(Reason::NotSet)),
                }
            }
        }
        if !batch.is_empty() && self.take(batch).await.is_err() {
            tracing::debug!("the program is stopping");
        }
    }

    /// Keeps what a memory tag was set to, if it is to outlast a restart.
    pub(crate) async fn keep(&self, tag: &Tag, no: TagNo, kind: &str, value: &Value) -> Result<(), LiveError> {
        let point = resolve::<MemoryPoint>(None, &tag.point).ok().filter(|p| kind == MEMORY && p.keep);
        if point.is_none() {
            return Ok(());
        }
        let (reply, kept) = oneshot::channel();
        self.send(Message::Keep(Keep { tag: no, at: now(), value: value.to_json().to_string() }, reply)).await?;
        let kept = kept.await.map_err(|_| LiveError::Interrupted)?;
        self.on_disk(kept.seq).await
    }

    /// Takes in what another program pushed, and gives the number of the frame that holds it (see [`Live::on_disk`]).
    ///
    /// # Errors
    /// When there is no room for it any more, or the program is stopping.
    pub async fn push(&self, batch: Batch, by_connection: &HashMap<Uuid, u64>) -> Result<u64, LiveError> {
        let (reply, kept) = oneshot::channel();
        self.send(Message::Pushed(batch, reply)).await?;
        let kept = kept.await.map_err(|_| LiveError::Interrupted)?;
        if kept.lost {
            return Err(LiveError::Full);
        }
        let links = self.links.lock().unwrap_or_else(PoisonError::into_inner);
        for (id, count) in by_connection {
            if let Some(line) = links.get(id) {
                line.note(|h| {
                    h.values += count;
                    h.requests += 1;
                    h.answered = now();
                });
            }
        }
        Ok(kept.seq)
    }

    /// Waits until all frames up to a number are on disk.
    ///
    /// # Errors
    /// When the disk does not take them within five seconds.
    pub async fn on_disk(&self, seq: u64) -> Result<(), LiveError> {
        let mut durable = self.spool.durable();
        let written = durable.wait_for(|&last| last >= seq);
        tokio::time::timeout(Duration::from_secs(5), written).await.map(drop).map_err(|_| LiveError::Full)
    }
}

/// What a tag holds when its source comes into use; with its time where that lies in the past.
fn first_value(tag: &Tag, kind: &str, kept: Option<&Kept>, before: Option<&Value>) -> Option<(Option<Nanos>, Value)> {
    if kind != MEMORY {
        return None;
    }
    if let Some(value) = before {
        return Some((None, value.clone()));
    }
    let point: MemoryPoint = resolve(None, &tag.point).ok()?;
    let kept = kept.filter(|_| point.keep).and_then(|(at, json)| Some((Some(*at), point.holds.take(json).ok()?)));
    kept.or_else(|| Some((None, point.holds.take(point.initial.as_ref()?).ok()?)))
}

/// A tag that shows a figure.
struct FigureTag {
    no: TagNo,
    point: FigurePoint,
}

fn figure_tags(plant: &Plant) -> Vec<FigureTag> {
    let shows = |id: Uuid| plant.connections.get(&id).is_some_and(|c| c.set.kind == FIGURES && c.set.enabled);
    let tags = plant.tags.values().filter(|t| t.set.connection.is_some_and(shows));
    tags.filter_map(|t| Some(FigureTag { no: t.no, point: resolve(None, &t.set.point).ok()? })).collect()
}

/// Makes the figures of Havrel itself into values, once a second.
pub(crate) async fn figures(live: Arc<Live>) {
    let mut beat = tokio::time::interval(Duration::from_secs(1));
    beat.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut known: (i64, Vec<FigureTag>) = (-1, Vec::new());
    loop {
        beat.tick().await;
        let plant = live.plant();
        if known.0 != plant.revision {
            known = (plant.revision, figure_tags(&plant));
        }
        if known.1.is_empty() {
            continue;
        }
        let mut batch = Batch::default();
        let at = now();
        let (health, counts, spool) = (live.health(), live.counts(), live.spool_state());
        let standing = live.alarms.read().unwrap_or_else(PoisonError::into_inner).standing().len();
        let since = |from: Nanos| if from == 0 { 0.0 } else { (at - from).max(0) as f64 / SECOND as f64 };
        for tag in &known.1 {
            let of = tag.point.connection.map(|id| (id, health.get(&id)));
            let value = match (of, tag.point.figure) {
                (Some((_, None)), _) => None,
                (Some((id, Some(h))), figure) => match figure {
                    Figure::Running => Some(f64::from(u8::from(h.state == LinkState::Running))),
                    Figure::P50 => Some(h.p50_us as f64 / 1000.0),
                    Figure::P95 => Some(h.p95_us as f64 / 1000.0),
                    Figure::Rate => Some(h.rate),
                    Figure::Errors => Some(h.errors as f64),
                    Figure::Overruns => Some(h.overruns as f64),
                    Figure::Reconnects => Some(h.reconnects as f64),
                    Figure::Oldest => Some(counts.oldest.get(&id).map_or(0.0, |&oldest| since(oldest))),
                    Figure::Silent => Some(since(h.answered)),
                    Figure::Path => Some(h.path as f64),
                    _ => None,
                },
                (None, Figure::SpoolFill) => Some(spool.bytes as f64 * 100.0 / (spool.room as f64).max(1.0)),
                (None, Figure::SpoolAge) => Some(since(spool.oldest)),
                (None, Figure::SpoolLost) => Some(spool.lost as f64),
                (None, Figure::BadTags) => Some(counts.bad.values().sum::<usize>() as f64),
                (None, Figure::Alarms) => Some(standing as f64),
                (None, _) => None,
            };
            match value {
                Some(value) => batch.push(tag.no, at, Quality::GOOD, 0, &Value::F64(value)),
                None => batch.push_quality(tag.no, at, Quality::of(Reason::NoSource)),
            }
        }
        if live.take(batch).await.is_err() {
            return;
        }
    }
}
