//! Dispatches at work: what is due by the clock or was set off by an event, made into editions, and sent. What there is to do lies in the
//! database, so that a restart goes on where the program was.

mod make;
mod send;

use crate::{Live, LiveError, now};
use havrel_core::{
    access::Actor,
    dispatch::Run,
    plant::{Dispatch, DispatchWhen, Item, Plant},
    time::{Nanos, SECOND, to_local},
};
use havrel_db::{DbError, dispatches::Mark};
use serde_json::json;
use std::{collections::HashMap, sync::Arc, time::Duration};
use tokio::{sync::Notify, time::sleep};
use uuid::Uuid;

pub(crate) use make::run as make;
pub(crate) use send::run as send;

/// How often is looked at what is due; whoever makes something to do rings as well.
const LOOK: Duration = Duration::from_millis(500);
/// A dispatch that is new may have had events before it was looked at for the first time.
const SEEN_LATE: Nanos = 10 * SECOND;
/// A clock that was further ahead than this was wrong: whatever it set off is made again when its time comes.
const FAR_AHEAD: Nanos = 2 * 3600 * SECOND;
/// The pause before what could not be kept is kept again.
const KEEP_AGAIN: Duration = Duration::from_secs(2);
/// Events that are looked at together.
const MOST_EVENTS: i64 = 200;

/// Where the parts of the work are rung.
#[derive(Default)]
pub(crate) struct Dispatches {
    look: Notify,
    make: Notify,
    send: Notify,
}

impl Dispatches {
    /// Events may have come into the database.
    pub(crate) fn ring(&self) {
        self.look.notify_one();
    }
}

/// How far dispatches that make reports by themselves have been gone through.
#[derive(Default)]
struct Gone {
    marks: Option<HashMap<Uuid, Mark>>,
    /// When each makes a report next by the clock.
    next: HashMap<Uuid, Nanos>,
    /// The revision for which that holds.
    revision: i64,
}

/// Looks at what is due for as long as the plant runs.
pub(crate) async fn run(live: Arc<Live>) {
    let mut gone = Gone::default();
    loop {
        tokio::select! {
            () = sleep(LOOK) => {}
            () = live.dispatches.look.notified() => {}
        }
        if live.database().ok
            && let Err(error) = live.look_at_dispatches(&mut gone).await
        {
            tracing::warn!(%error, "what is due cannot be looked at; it is done later");
            // What was not kept is due again: only what the database knows counts.
            gone = Gone::default();
        }
    }
}

/// Whether a dispatch makes reports by itself.
fn by_itself(dispatch: &Dispatch) -> bool {
    dispatch.by_clock() || dispatch.running && matches!(dispatch.when, DispatchWhen::Event { .. })
}

impl Live {
    /// Sets off what is due by the clock, and what events set off.
    async fn look_at_dispatches(&self, gone: &mut Gone) -> Result<(), DbError> {
        let (plant, now) = (self.plant(), now());
        let marks = match &mut gone.marks {
            Some(marks) => marks,
            none => none.insert(self.db.dispatch_marks().await?),
        };
        let mut changed = Vec::new();
        if gone.revision != plant.revision {
            // What is paused misses nothing: it begins anew when it is started again.
            let goes = |id: &Uuid| plant.dispatches.get(id).is_some_and(|item| by_itself(&item.set));
            let over: Vec<Uuid> = marks.keys().filter(|id| !goes(id)).copied().collect();
            if !over.is_empty() {
                self.db.forget_marks(&over).await?;
                marks.retain(|id, _| goes(id));
            }
            for item in plant.dispatches.values().filter(|item| by_itself(&item.set)) {
                marks.entry(item.id).or_insert(Mark { since: now - SEEN_LATE, until: now });
            }
            changed.extend(marks.keys().copied());
            gone.next.clear();
        }
        let (mut runs, mut left_out) = (Vec::new(), Vec::new());
        for item in plant.dispatches.values().filter(|item| item.set.by_clock()) {
            let Some(mark) = marks.get_mut(&item.id) else { continue };
            let (zone, shifts) = (plant.zone_of_dispatch(&item.set), plant.shifts_of_dispatch(&item.set));
            if mark.until > now {
                // Somebody set the clock back. What it shows again is there already and is not made again, unless the clock was far ahead.
                mark.until = now;
                self.db.free_instants(item.id, now.saturating_add(FAR_AHEAD), now).await?;
                gone.next.remove(&item.id);
            }
            let since = mark.until;
            let next = gone.next.entry(item.id).or_insert_with(|| item.set.next(since, zone, shifts).unwrap_or(Nanos::MAX));
            if *next > now {
                mark.until = now;
                continue;
            }
            let due = item.set.due(since, now, zone, shifts);
            left_out.extend((due.left_out > 0).then_some((item, due.left_out)));
            runs.extend(self.set_off_at(&plant, item, &due.at, now).await);
            mark.until = now;
            *next = item.set.next(now, zone, shifts).unwrap_or(Nanos::MAX);
            changed.push(item.id);
        }
        let since: Vec<(Uuid, Nanos)> = plant
            .dispatches
            .values()
            .filter(|item| matches!(item.set.when, DispatchWhen::Event { .. }))
            .filter_map(|item| Some((item.id, marks.get(&item.id)?.since)))
            .collect();
        if !since.is_empty() {
            for (id, at) in self.db.new_events(&since, MOST_EVENTS).await? {
                let Some(item) = plant.dispatches.get(&id) else { continue };
                runs.extend(self.set_off_at(&plant, item, &[at], now).await);
            }
        }
        let changed: Vec<(Uuid, Mark)> = changed.into_iter().filter_map(|id| Some((id, *marks.get(&id)?))).collect();
        if !runs.is_empty() || !changed.is_empty() {
            self.db.set_off(&runs, &changed).await?;
        }
        gone.revision = plant.revision;
        for (item, count) in left_out {
            let title =
                format!("Dispatch “{}”: {count} reports that were due while Havrel did not run are not made", item.set.name);
            self.remark("report", None, Some(item.id), &title, json!({"count": count})).await;
        }
        if !runs.is_empty() {
            self.dispatches.make.notify_one();
        }
        Ok(())
    }

    /// What a dispatch sets off at some instants.
    async fn set_off_at(&self, plant: &Plant, item: &Item<Dispatch>, at: &[Nanos], now: Nanos) -> Vec<Run> {
        let Some(report) = plant.reports.get(&item.set.report) else { return Vec::new() };
        let mut runs = Vec::with_capacity(at.len());
        for &at in at {
            match Run::of(plant, item.id, &item.set, &report.set, (at, now), &mut Uuid::now_v7) {
                Some(run) => runs.push(run),
                None => {
                    let when = to_local(at, &report.set.zone);
                    let title =
                        format!("Dispatch “{}” made nothing at {when}: no shift ended in the month before", item.set.name);
                    self.remark("report", None, Some(item.id), &title, json!({})).await;
                }
            }
        }
        runs
    }

    /// Somebody has a dispatch make its report now, over its own period or another one. Gives the run.
    ///
    /// # Errors
    /// Where there is no such dispatch or period, or the database does not answer.
    pub async fn send_now(&self, id: Uuid, period: Option<(Nanos, Nanos)>, actor: &Actor) -> Result<Uuid, LiveError> {
        let plant = self.plant();
        let refused = |words: &str| LiveError::Refused(words.into());
        let item = plant.dispatches.get(&id).ok_or_else(|| refused("There is no such dispatch."))?;
        let report = plant.reports.get(&item.set.report).ok_or_else(|| refused("There is no such report."))?;
        let at = now();
        let run = match period {
            Some(_) => {
                let any = Dispatch { covers: Default::default(), ..item.set.clone() };
                Run::of(&plant, id, &any, &report.set, (at, at), &mut Uuid::now_v7)
            }
            None => Run::of(&plant, id, &item.set, &report.set, (at, at), &mut Uuid::now_v7),
        };
        let mut run = run.ok_or_else(|| refused("No shift ended in the month before, so there is no period."))?;
        (run.from, run.to) = period.unwrap_or((run.from, run.to));
        run.by.clone_from(&actor.name);
        let title = format!("Set off dispatch “{}”", run.name);
        self.note("report", Some(actor), Some(run.report), &title, json!({"run": run.id})).await?;
        self.db.set_off(std::slice::from_ref(&run), &[]).await?;
        self.dispatches.make.notify_one();
        Ok(run.id)
    }

    /// What was given up of a run, or waits for its next try, is tried at once. `false`: there is nothing.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn try_run_again(&self, run: &Run, actor: &Actor) -> Result<bool, LiveError> {
        self.note(
            "report",
            Some(actor),
            Some(run.report),
            &format!("Tried dispatch “{}” again", run.name),
            json!({"run": run.id}),
        )
        .await?;
        let any = self.db.try_again(run.id, now()).await?;
        self.dispatches.make.notify_one();
        self.dispatches.send.notify_one();
        Ok(any)
    }

    /// Nothing more of a run is tried. `false`: nothing would have been.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn give_up_run(&self, run: &Run, actor: &Actor) -> Result<bool, LiveError> {
        let title = format!("Stopped what dispatch “{}” was still sending", run.name);
        self.note("report", Some(actor), Some(run.report), &title, json!({"run": run.id})).await?;
        Ok(self.db.give_up(run.id, &format!("{} stopped it.", actor.name)).await?)
    }
}
