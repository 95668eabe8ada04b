//! Brings frames from the spool to the database, in order, for as long as it takes.
//!
//! The database may be away, or refuse for reasons of its own: then nothing goes on until it takes frames again, and the watch
//! line says so. Only what it refuses because of what it holds is taken out, entry by entry, into quarantine.

use crate::{DatabaseState, Live, now};
use havrel_core::{
    alarm::SystemAlarm,
    frame::{Frame, Gap},
};
use havrel_db::DbError;
use serde_json::json;
use std::{
    collections::BTreeSet,
    sync::Arc,
    time::{Duration, Instant},
};

/// Samples in one transaction, about. The more wait, the more of one series come together, which stores faster.
const MOST: usize = 60_000;
/// A database that was not needed for so long is asked whether it is there.
const PROBE: Duration = Duration::from_secs(1);
const RETRY: Duration = Duration::from_millis(500);

pub(crate) async fn run(live: Arc<Live>) {
    let mut asked: Option<Instant> = None;
    loop {
        let frames = match live.spool.oldest(MOST) {
            Ok(frames) => frames,
            Err(error) => {
                tracing::error!(%error, "the spool cannot be read");
                tokio::time::sleep(RETRY).await;
                continue;
            }
        };
        let Some(last) = frames.last().map(|frame| frame.seq) else {
            if asked.is_none_or(|at| at.elapsed() >= PROBE) {
                asked = Some(Instant::now());
                let answer = in_time(PATIENCE_FOR_PING, live.db.ping()).await;
                note(&live, answer.err()).await;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
            continue;
        };
        asked = Some(Instant::now());
        match in_time(PATIENCE + FOR_EACH * samples(&frames), live.db.append(&frames)).await {
            Ok(()) => {
                live.spool.release(last);
                live.shipped.send_replace(last);
                if frames.iter().any(|frame| !frame.rows.is_empty()) {
                    live.dispatches.ring();
                }
                note(&live, None).await;
            }
            Err(DbError::Content(words)) => match sort_out(&live, &frames).await {
                Ok(seq) => {
                    live.spool.release(seq);
                    live.shipped.send_replace(seq);
                }
                Err(error) => {
                    tracing::warn!(words, %error, "could not find what the database refuses; it is tried again");
                    note(&live, Some(error)).await;
                    tokio::time::sleep(RETRY).await;
                }
            },
            Err(error) => {
                note(&live, Some(error)).await;
                tokio::time::sleep(RETRY).await;
            }
        }
    }
}

/// A database that takes this long, and as much longer for each sample, is as good as away. Sending the same frames again
/// later is harmless.
const PATIENCE: Duration = Duration::from_secs(10);
const PATIENCE_FOR_PING: Duration = Duration::from_secs(3);
const FOR_EACH: Duration = Duration::from_millis(1);

fn samples(frames: &[Frame]) -> u32 {
    frames.iter().map(|f| f.batch.samples.len() as u32).sum()
}

async fn in_time<T>(patience: Duration, work: impl Future<Output = Result<T, DbError>>) -> Result<T, DbError> {
    let late = || DbError::Away(format!("no answer within {} s", patience.as_secs()));
    tokio::time::timeout(patience, work).await.unwrap_or_else(|_| Err(late()))
}

/// Stores the frames up to and with the first of which something is refused by its content, without that; gives its number.
async fn sort_out(live: &Live, frames: &[Frame]) -> Result<u64, DbError> {
    for frame in frames {
        let patience = PATIENCE + FOR_EACH * frame.entries() as u32;
        match in_time(patience, live.db.append(std::slice::from_ref(frame))).await {
            Ok(()) => {
                live.spool.release(frame.seq);
                live.shipped.send_replace(frame.seq);
            }
            Err(DbError::Content(words)) => {
                store_without(live, frame, &words).await?;
                return Ok(frame.seq);
            }
            Err(error) => return Err(error),
        }
    }
    Ok(frames.last().map_or(0, |frame| frame.seq))
}

/// Finds which entries are refused, puts them into quarantine, stores the rest, and says it.
async fn store_without(live: &Live, frame: &Frame, words: &str) -> Result<(), DbError> {
    let refused = offending(live, frame).await?;
    let out = frame.filtered(|index| refused.binary_search(&index).is_ok());
    let mut rest = frame.filtered(|index| refused.binary_search(&index).is_err());
    if let Some((from, to)) = out.span() {
        rest.gaps.push(Gap { from, to, reason: "the database refused an entry by its content".into() });
    }
    let count = out.entries();
    let numbers: BTreeSet<u32> = out.batch.samples.iter().map(|s| s.tag).collect();
    let file = live.quarantine.keep(out).map_err(|e| DbError::Away(format!("the quarantine cannot be written: {e}")))?;
    in_time(PATIENCE + FOR_EACH * rest.entries() as u32, live.db.append(&[rest])).await?;
    let entries = if count == 1 { "1 entry".to_owned() } else { format!("{count} entries") };
    let kept = if file.is_some() { "kept in quarantine" } else { "lost, because the quarantine is full" };
    let title = format!("The database refused {entries} by content; {kept}");
    tracing::error!(words, title);
    let plant = live.plant();
    let path = |no: &u32| plant.tags.values().find(|t| t.no == *no).map(|t| plant.tag_path(&t.set));
    let tags: Vec<String> = numbers.iter().take(20).filter_map(path).collect();
    let file = file.map(|file| file.display().to_string());
    let detail = json!({"words": words, "file": file, "frame": frame.seq, "tags": tags});
    live.remark("system", None, None, &title, detail).await;
    live.happened(SystemAlarm::Quarantine, &title).await;
    Ok(())
}

/// The entries that are refused by their content, in order: halves are tried until each offending entry stands alone.
async fn offending(live: &Live, frame: &Frame) -> Result<Vec<usize>, DbError> {
    let mut found = Vec::new();
    let mut waiting = vec![(0, frame.entries())];
    while let Some((from, to)) = waiting.pop() {
        let part = frame.filtered(|index| (from..to).contains(&index));
        match in_time(PATIENCE + FOR_EACH * (to - from) as u32, live.db.try_out(&part)).await {
            Ok(()) => {}
            Err(DbError::Content(_)) if to - from == 1 => found.push(from),
            Err(DbError::Content(_)) => {
                let middle = from + (to - from) / 2;
                waiting.extend([(from, middle), (middle, to)]);
            }
            Err(error) => return Err(error),
        }
    }
    if found.is_empty() {
        // Each alone is taken, only together they are not: nothing is known that could be left out.
        return Err(DbError::Refused("it takes every entry alone, but not all of them together".into()));
    }
    found.sort_unstable();
    Ok(found)
}

/// Notes whether the database takes frames; a change also goes to the journal, once there is one again.
async fn note(live: &Live, trouble: Option<DbError>) {
    let before = live.database();
    live.db.set_away(matches!(trouble, Some(DbError::Away(_))));
    let message = trouble.as_ref().map(ToString::to_string).unwrap_or_default();
    if before.ok == trouble.is_none() {
        if before.message != message {
            live.database.send_modify(|state| state.message = message);
        }
        return;
    }
    let ok = trouble.is_none();
    live.database.send_replace(DatabaseState { ok, since: now(), message: message.clone() });
    if ok {
        let lost = live.spool_state().lost;
        let seconds = ((now() - before.since) / havrel_core::time::SECOND).max(0);
        let title = format!("The database takes values again after {seconds} s; {lost} samples were lost");
        let detail = json!({"away_since": havrel_core::time::to_text(before.since), "lost": lost, "was": before.message});
        live.remark("system", None, None, &title, detail).await;
    } else {
        tracing::warn!(message, "the database takes nothing");
    }
}
