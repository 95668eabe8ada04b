//! Brings frames from the spool to the database, in order, for as long as it takes.

use crate::{DatabaseState, Live, now};
use havrel_core::frame::Frame;
use havrel_db::DbError;
use serde_json::json;
use std::{sync::Arc, time::Duration};

/// Samples in one transaction, about. The more wait, the more of one series come together, which stores faster.
const MOST: usize = 60_000;

pub(crate) async fn run(live: Arc<Live>) {
    let mut probe = 0u32;
    loop {
        let frames = match live.spool.oldest(MOST) {
            Ok(frames) => frames,
            Err(error) => {
                tracing::error!(%error, "the spool cannot be read");
                tokio::time::sleep(Duration::from_millis(500)).await;
                continue;
            }
        };
        let result = match frames.last() {
            Some(last) => in_time(samples(&frames), live.db.append(&frames)).await.map(|()| Some(last.seq)),
            // Nothing to ship: still notice within seconds that the database went away.
            None if probe >= 20 => {
                probe = 0;
                in_time(0, live.db.ping()).await.map(|()| None)
            }
            None => Ok(None),
        };
        match result {
            Ok(Some(seq)) => {
                live.spool.release(seq);
                live.shipped.send_replace(seq);
                note(&live, None).await;
            }
            Ok(None) => {
                if probe == 0 {
                    note(&live, None).await;
                }
                probe += 1;
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
            Err(DbError::Refused(words)) => {
                // A frame the database will never take must not hold up those behind it; it is told, and let go.
                tracing::error!(words, "the database refused frames");
                if let Some(frame) = frames.first() {
                    let alone = live.db.append(std::slice::from_ref(frame)).await;
                    if matches!(alone, Ok(()) | Err(DbError::Refused(_))) {
                        live.spool.release(frame.seq);
                    }
                }
                tokio::time::sleep(Duration::from_millis(500)).await;
            }
            Err(error) => {
                note(&live, Some(error.to_string())).await;
                tokio::time::sleep(Duration::from_millis(500)).await;
            }
        }
    }
}

/// A database that takes this long, and as much longer for each sample, is as good as away. Sending the same frames again
/// later is harmless.
const PATIENCE: Duration = Duration::from_secs(10);
const FOR_EACH: Duration = Duration::from_millis(1);

fn samples(frames: &[Frame]) -> u32 {
    frames.iter().map(|f| f.batch.samples.len() as u32).sum()
}

async fn in_time(samples: u32, work: impl Future<Output = Result<(), DbError>>) -> Result<(), DbError> {
    let patience = PATIENCE + FOR_EACH * samples;
    let late = || DbError::Away(format!("no answer within {} s", patience.as_secs()));
    tokio::time::timeout(patience, work).await.unwrap_or_else(|_| Err(late()))
}

/// Notes whether the database answers; a change also goes to the journal, once there is one again.
async fn note(live: &Live, trouble: Option<String>) {
    let before = live.database();
    if before.ok == trouble.is_none() {
        return;
    }
    let ok = trouble.is_none();
    live.database.send_replace(DatabaseState { ok, since: now(), message: trouble.unwrap_or_default() });
    if ok {
        let lost = live.spool_state().lost;
        let seconds = (now() - before.since) / havrel_core::time::SECOND;
        let title = format!("The database answers again after {seconds} s; {lost} samples were lost");
        let detail = json!({"away_since": havrel_core::time::to_text(before.since), "lost": lost});
        if let Err(error) = live.db.note("system", None, None, &title, detail).await {
            tracing::warn!(%error, title, "could not be journalled");
        }
    } else {
        tracing::warn!(message = live.database().message, "the database does not answer");
    }
}
