//! Making the editions that dispatches set off, the oldest first.

use super::{KEEP_AGAIN, LOOK};
use crate::{Live, LiveError, now, under_way::several_at_once};
use havrel_core::{
    alarm::SystemAlarm,
    dispatch::Run,
    time::{Nanos, SECOND},
};
use serde_json::json;
use std::sync::Arc;
use tokio::time::sleep;

/// Editions that are made at once: a large one must not hold up a label.
const MOST_AT_ONCE: usize = 2;
/// How long is waited for history that is on its way, after which the edition says until when it is complete.
const PATIENCE: Nanos = 60 * SECOND;

/// Makes editions for as long as the plant runs.
pub(crate) async fn run(live: Arc<Live>) {
    let due = |but: Vec<_>, room: usize| {
        let live = live.clone();
        async move {
            if !live.database().ok {
                return Vec::new();
            }
            let most = i64::try_from(but.len() + room).unwrap_or(i64::MAX);
            let found = live.db.runs_to_make(now(), most).await.unwrap_or_else(|error| {
                tracing::warn!(%error, "what is to be made cannot be read; it is made later");
                Vec::new()
            });
            let ready = |run: &Run| live.complete_until() >= run.to || now().saturating_sub(run.at) > PATIENCE;
            found.into_iter().filter(|run| !but.contains(&run.id) && ready(run)).take(room).map(|run| (run.id, run)).collect()
        }
    };
    let work = |run| {
        let live = live.clone();
        async move { live.make_run(run).await }
    };
    several_at_once((LOOK, &live.dispatches.make, MOST_AT_ONCE), due, work).await;
}

impl Live {
    /// Makes the edition of a run and lets its deliveries begin.
    async fn make_run(&self, mut run: Run) {
        let made = self.try_run(&mut run).await;
        let (title, failed) = match &made {
            Ok(()) => (format!("Dispatch “{}” made a report", run.name), false),
            // The database is away: nothing can be kept, and it is due again when it is back.
            Err(LiveError::Db(error)) if !self.database().ok => {
                tracing::warn!(%error, "a report could not be made; it is made later");
                return;
            }
            Err(error) => {
                let gone = matches!(error, LiveError::Refused(_));
                let given_up = run.making.failed(now(), &error.to_string(), gone);
                while let Err(error) = self.db.keep_making(&run).await {
                    tracing::warn!(%error, "what came of a report is kept later");
                    sleep(KEEP_AGAIN).await;
                }
                let then = if given_up { "it is not tried again" } else { "it is tried again" };
                (format!("Dispatch “{}” could not make its report: {error} Then {then}.", run.name), given_up)
            }
        };
        let detail = json!({"run": run.id, "edition": made.is_ok().then_some(run.id), "attempts": run.making.attempts});
        self.remark("report", None, Some(run.report), &title, detail).await;
        if failed {
            self.happened(SystemAlarm::Undelivered, &title).await;
        }
        self.dispatches.send.notify_one();
    }

    async fn try_run(&self, run: &mut Run) -> Result<(), LiveError> {
        let plant = self.plant();
        let report = plant.reports.get(&run.report).ok_or_else(|| LiveError::Refused("The report was deleted.".into()))?;
        let by = match run.by.as_str() {
            "" => format!("dispatch “{}”", run.name),
            person => format!("{person} by dispatch “{}”", run.name),
        };
        let period = Some((run.from, run.to));
        let (edition, printed) = self.make_edition((run.id, run.report), &plant, &report.set, period, &by).await?;
        run.making.sent(now(), "");
        Ok(self.db.made(run, &edition, &printed).await?)
    }
}
