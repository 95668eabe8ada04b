//! Sending editions to folders, people and programs, each again after a pause where it failed.

use super::{KEEP_AGAIN, LOOK};
use crate::{Live, call_out::lasts, editions::NoEdition, now, under_way::several_at_once};
use havrel_core::{
    alarm::SystemAlarm,
    dispatch::{Parcel, Run},
    notice::{Enclosed, Notice},
    plant::{Delivery, dispatch::Words},
    time::{span_words, to_local, to_text},
};
use havrel_jobs::{edition, press::PressError};
use havrel_link::LinkState;
use serde_json::json;
use std::{sync::Arc, time::Instant};
use tokio::time::sleep;
use uuid::Uuid;

/// Deliveries under way at once.
const MOST_AT_ONCE: usize = 8;
/// The most that one delivery holds, in bytes: mail servers take less as a rule, and say so.
const LARGEST: usize = 48 << 20;

/// Sends editions for as long as the plant runs.
pub(crate) async fn run(live: Arc<Live>) {
    let due = |but: Vec<Uuid>, room: usize| {
        let live = live.clone();
        async move {
            if !live.database().ok || live.is_stopping() {
                return Vec::new();
            }
            let found = live.db.parcels_to_send(now(), &but, i64::try_from(room).unwrap_or(i64::MAX)).await;
            let found = found.unwrap_or_else(|error| {
                tracing::warn!(%error, "what is to be sent cannot be read; it is sent later");
                Vec::new()
            });
            let (plant, health) = (live.plant(), live.health());
            // A connection that is only just being opened is waited for; one that is gone is not.
            let opening = |id: &Uuid| match health.get(id) {
                Some(health) => health.state == LinkState::Connecting,
                None => plant.connections.contains_key(id),
            };
            let ready = found.into_iter().filter(|(_, parcel)| !opening(&parcel.connection));
            ready.map(|(run, parcel)| (parcel.id, (run, parcel))).collect()
        }
    };
    let work = |(run, parcel)| {
        let live = live.clone();
        async move { live.send_parcel(run, parcel).await }
    };
    several_at_once((LOOK, &live.dispatches.send, MOST_AT_ONCE), due, work).await;
}

impl Live {
    async fn send_parcel(&self, run: Uuid, mut parcel: Parcel) {
        let Ok(Some(run)) = self.db.run(run).await else { return };
        let began = Instant::now();
        let sent = match self.packed(&run, &parcel).await {
            Ok(notice) => {
                parcel.bytes = notice.files.iter().map(|file| file.bytes.len() as u64).sum();
                self.notify(parcel.connection, notice).await.map_err(|error| (lasts(&error), error.to_string()))
            }
            Err(NoEdition::Db(error)) => {
                tracing::warn!(%error, "a report could not be read; it is sent later");
                return;
            }
            Err(error) => Err((!matches!(error, NoEdition::Press(PressError::NotThere)), error.to_string())),
        };
        if sent.is_err() && self.is_stopping() {
            return;
        }
        parcel.took_ms = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
        let to = self.whereto(&parcel);
        let (title, given_up) = match sent {
            Ok(answer) => {
                parcel.tries.sent(now(), &answer);
                (format!("Sent “{}” to {to}", run.name), false)
            }
            Err((lasting, words)) => {
                let given_up = parcel.tries.failed(now(), &words, lasting);
                let then = match parcel.tries.next_at {
                    Some(next) => format!("tried again in {}", span_words(next - now())),
                    None => "it is not tried again".into(),
                };
                (format!("Could not send “{}” to {to}: {words} {then}", run.name), given_up)
            }
        };
        // It stays under way until that is kept, so that it is not sent again meanwhile.
        while let Err(error) = self.db.keep_parcel(&parcel).await {
            tracing::warn!(%error, "what came of a delivery is kept later");
            sleep(KEEP_AGAIN).await;
        }
        let detail = json!({"run": run.id, "attempts": parcel.tries.attempts, "answer": parcel.tries.answer});
        self.remark("report", None, Some(run.report), &title, detail).await;
        if given_up {
            self.happened(SystemAlarm::Undelivered, &title).await;
        }
    }

    /// Where a parcel goes, in words.
    fn whereto(&self, parcel: &Parcel) -> String {
        let plant = self.plant();
        let through = plant.connections.get(&parcel.connection).map_or("a connection that is gone", |c| c.set.name.as_str());
        if parcel.to.is_empty() { format!("“{through}”") } else { parcel.to.clone() }
    }

    /// The notice with its files.
    async fn packed(&self, run: &Run, parcel: &Parcel) -> Result<Notice, NoEdition> {
        let edition = self.db.edition(run.id).await?.ok_or(NoEdition::Missing)?;
        let plant = self.plant();
        let report = plant.reports.get(&run.report).map(|item| &item.set);
        let zone = report.map_or("UTC", |report| report.zone.as_str());
        let place = report.and_then(|report| plant.places.get(&report.place?)).map_or("", |place| place.set.name.as_str());
        let words = Words { report: &edition.title, place, dispatch: &run.name, from: run.from, to: run.to, zone };
        let called = Delivery {
            connection: parcel.connection,
            to: Vec::new(),
            file: parcel.file.clone(),
            formats: parcel.formats.clone(),
        };
        let (mut files, mut size) = (Vec::new(), 0);
        for &format in &parcel.formats {
            let bytes = self.edition_in(run.id, format).await?;
            size += bytes.len();
            if size > LARGEST {
                return Err(NoEdition::TooLarge(LARGEST >> 20));
            }
            files.push(Enclosed { name: called.file_name(&words, format), media: format.media(), bytes: bytes.into() });
        }
        let paper = self.db.edition_paper(run.id).await?.unwrap_or_default();
        let period = format!("{} to {}", to_local(run.from, zone), to_local(run.to, zone));
        let subject = format!("{}, {period}", edition.title).chars().filter(|c| !c.is_control()).take(200).collect();
        let text = format!("{}\n\n{}\n\nDispatch “{}” of Havrel.", edition.title, edition::in_words(&paper), run.name);
        let content = json!({
            "id": parcel.id, "edition": run.id, "report": edition.title, "dispatch": run.name, "at": to_text(run.at),
            "from": to_text(run.from), "to": to_text(run.to), "made_at": to_text(edition.made_at), "by": run.by,
        });
        Ok(Notice { id: parcel.id, to: parcel.to.clone(), subject, text, content, files })
    }
}
