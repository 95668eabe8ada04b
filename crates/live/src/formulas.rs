//! Formulas and history: windows are filled with what was before they began, a formula is tried on what was recorded, and the
//! past of a new one is computed.

use crate::{Live, LiveError, engine::Message, jobs::Running as Job, now, plain};
use havrel_core::{
    TagNo,
    access::Actor,
    engine::{Current, RecordRule, Recorded},
    formula::{Outcome, Program, Replay, Running, Val},
    history::{Fold, PixelFold, Pixels, Point},
    number::Number,
    plant::{Item, Plant, Tag},
    quality::{Quality, Reason},
    sample::{Batch, flag},
    time::{Nanos, SECOND, span_words, to_text},
};
use havrel_db::{DbError, answers::Kept};
use serde_json::{Value as Json, json};
use std::{
    collections::HashMap,
    sync::{Arc, PoisonError},
    time::Duration,
};
use uuid::Uuid;

/// How far back windows are filled; of a longer one the part before is not known.
const FILLED: Nanos = 31 * 86_400 * SECOND;
/// Filling is listed as a job where it is for so many formulas.
const LONG_FILL: usize = 20;
/// The past is computed in slices of this length, whose results are handed on before the next one begins.
const SLICE: Nanos = 6 * 3600 * SECOND;
const HOUR: Nanos = 3600 * SECOND;
/// How long somebody who tries a formula is kept waiting.
const PATIENCE: Duration = Duration::from_secs(10);
/// The longest past that is computed at once.
const LONGEST_PAST: Nanos = 3 * 366 * 86_400 * SECOND;

/// What formulas remembered before a restart.
pub(crate) fn remembered(plant: &Plant, kept: &HashMap<TagNo, plain::Kept>) -> HashMap<TagNo, Json> {
    let computed = plant.tags.values().filter(|tag| tag.set.formula.is_some());
    computed.filter_map(|tag| Some((tag.no, kept.get(&tag.no)?.1.clone()))).collect()
}

/// A formula that was tried.
pub struct Tried {
    /// What it gives now.
    pub now: Option<Outcome>,
    pub from: Nanos,
    pub to: Nanos,
    /// How it went from `from` to `to`.
    pub hour: Pixels,
}

/// The past of a formula, about to be computed.
pub struct Past {
    /// The job that computes it.
    pub job: Uuid,
    pub from: Nanos,
    pub to: Nanos,
}

impl Live {
    /// Fills the windows of all formulas anew: history knows more than it did.
    pub fn refill_windows(self: &Arc<Self>) {
        self.fill_windows(&Plant::default(), &self.plant());
    }

    /// Fills the windows of formulas that are new or were changed with what history knows.
    pub(crate) fn fill_windows(self: &Arc<Self>, before: &Plant, next: &Arc<Plant>) {
        let is_new = |tag: &Item<Tag>| {
            let known = before.tags.get(&tag.id);
            tag.set.formula.is_some() && known.is_none_or(|known| known.set.formula != tag.set.formula)
        };
        let mut fresh: Vec<Arc<Item<Tag>>> = next.tags.values().filter(|tag| is_new(tag)).cloned().collect();
        if fresh.is_empty() {
            return;
        }
        fresh.sort_by_key(|tag| tag.no);
        let (live, plant) = (self.clone(), next.clone());
        self.spawn(async move {
            let job = (fresh.len() >= LONG_FILL)
                .then(|| live.jobs.begin("Filling the windows of formulas from history", fresh.len() as u64));
            for (done, tag) in fresh.into_iter().enumerate() {
                if job.as_ref().is_some_and(|job| job.cancelled()) {
                    return;
                }
                job.iter().for_each(|job| job.reach(done as u64));
                let Some(Ok(program)) = tag.set.formula.as_ref().map(|f| plant.program(f, &tag.set.unit)) else { continue };
                let reach = program.reach().min(FILLED);
                if reach == 0 {
                    continue;
                }
                let to = now();
                match live.replay(&plant, program.into(), (to - reach, to), &mut |_| true).await {
                    Ok(earlier) => {
                        if live.send(Message::Earlier(tag.no, Box::new(earlier))).await.is_err() {
                            return;
                        }
                    }
                    Err(error) => tracing::warn!(tag = tag.no, %error, "the windows of a formula begin empty"),
                }
            }
        });
    }

    /// Tries a formula on the last hour, and on what holds now. Windows look back from the beginning of the hour, at most a day.
    ///
    /// # Errors
    /// When the database does not answer, or the inputs have more values than can be gone through while somebody waits.
    pub async fn try_formula(&self, plant: &Plant, program: Arc<Program>, width: usize) -> Result<Tried, LiveError> {
        let to = now();
        let from = to - HOUR;
        let begin = from - program.reach().min(24 * HOUR);
        let mut fold = PixelFold::new(from, to, width);
        let mut last = None;
        let mut show = |outcome: Outcome| {
            if outcome.at >= from && outcome.at <= to {
                fold.push(point(&outcome));
            }
            last = Some(outcome);
            true
        };
        let mut replay = Replay::new(program.clone());
        let through = self.go_through(plant, &program, &mut replay, (begin, to), true, &mut show);
        let late = |_| LiveError::Refused("The inputs have too many recorded values to try this while you wait.".into());
        tokio::time::timeout(PATIENCE, through).await.map_err(late)??;
        // What is not recorded, or not yet in the database, holds as it is now.
        for (input, id) in program.inputs.iter().enumerate() {
            let values = self.values.read().unwrap_or_else(PoisonError::into_inner);
            let shown = plant.tags.get(id).and_then(|tag| values.of(tag.no)).map(|shown| shown.current.clone());
            if let Some(Current { value, quality, .. }) = shown {
                replay.tell(to, input, value, quality, &mut |outcome| {
                    show(outcome);
                });
            }
        }
        replay.finish(to, &mut |outcome| {
            show(outcome);
        });
        Ok(Tried { now: last, from, to, hour: fold.finish() })
    }

    /// Runs a formula over what history knows of its inputs in a period; `show` takes each result and says whether to go on.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn replay(
        &self,
        plant: &Plant,
        program: Arc<Program>,
        (from, to): (Nanos, Nanos),
        show: &mut (dyn FnMut(Outcome) -> bool + Send),
    ) -> Result<Running, DbError> {
        let mut replay = Replay::new(program.clone());
        self.go_through(plant, &program, &mut replay, (from, to), true, show).await?;
        Ok(replay.finish(to, &mut |outcome| {
            show(outcome);
        }))
    }

    /// Tells a formula what history knows of its inputs in a period; with `held` also what holds at its start. `false`: it was
    /// told to stop.
    async fn go_through(
        &self,
        plant: &Plant,
        program: &Program,
        replay: &mut Replay,
        (from, to): (Nanos, Nanos),
        held: bool,
        show: &mut (dyn FnMut(Outcome) -> bool + Send),
    ) -> Result<bool, DbError> {
        // A tag that is gone has a number that no tag has.
        let numbers: Vec<TagNo> = program.inputs.iter().map(|id| plant.tags.get(id).map_or(0, |tag| tag.no)).collect();
        let gaps = self.db.unrecorded(from, to).await?;
        let gaps: Vec<Nanos> = gaps.into_iter().map(|gap| gap.from.max(from)).collect();
        let mut gaps = gaps.into_iter().peekable();
        let mut go_on = true;
        let told = |input, kept: Kept| {
            let Kept { time, value, quality, .. } = kept;
            let mut out = |outcome| go_on = go_on && show(outcome);
            // From where nothing was recorded on nothing is known, until the next value comes.
            while let Some(gap) = gaps.next_if(|&gap| gap < time) {
                (0..numbers.len()).for_each(|input| replay.tell(gap, input, None, Quality::of(Reason::NotRead), &mut out));
            }
            replay.tell(time.max(from), input, value, quality, &mut out);
            go_on
        };
        self.db.in_order(&numbers, from, to, held, told).await?;
        Ok(go_on)
    }

    /// Computes what a formula would have given in the past, from `from` on until history holds values of the tag, as a job.
    ///
    /// # Errors
    /// Where the tag is not recorded, has no formula, or there is nothing to compute.
    pub async fn compute_past(self: &Arc<Self>, tag: Uuid, from: Nanos, actor: &Actor) -> Result<Past, LiveError> {
        let refuse = |words: &str| LiveError::Refused(words.to_owned());
        let plant = self.plant();
        let tag = plant.tags.get(&tag).cloned().ok_or_else(|| refuse("This tag does not exist any more."))?;
        let Some(formula) = &tag.set.formula else { return Err(refuse("This tag has no formula.")) };
        if !plant.is_recorded(&tag) {
            return Err(refuse("This tag is not recorded; switch its recording on first."));
        }
        let unrecorded: Vec<String> = formula.references().filter_map(|id| not_recorded(&plant, id)).collect();
        if let Some(first) = unrecorded.first() {
            let more = if unrecorded.len() > 1 { format!(" and {} more", unrecorded.len() - 1) } else { String::new() };
            return Err(LiveError::Refused(format!(
                "The past of “{first}”{more} is not recorded, so there is nothing to compute from."
            )));
        }
        let program = plant
            .program(formula, &tag.set.unit)
            .map_err(|wrong| LiveError::Refused(wrong.first().map_or_else(String::new, ToString::to_string)))?;
        let latest = now();
        if from >= latest || latest - from > LONGEST_PAST {
            return Err(refuse("The beginning must lie in the past, at most three years ago."));
        }
        let to = self.db.first_in(tag.no, from, latest).await?.map_or(latest, |first| first - 1);
        if to - from < SECOND {
            return Err(LiveError::Refused(format!(
                "History holds values of this tag from {} on; choose an earlier beginning.",
                to_text(to + 1)
            )));
        }
        let job = self.jobs.begin(&format!("Computing the past of {}", plant.tag_path(&tag.set)), 1000);
        let past = Past { job: job.id, from, to };
        let title =
            format!("Past of {} computed from {}, over {}", plant.tag_path(&tag.set), to_text(from), span_words(to - from));
        self.remark("history", Some(actor), Some(tag.id), &title, json!({"from": to_text(from), "to": to_text(to)})).await;
        let live = self.clone();
        self.spawn(async move {
            if let Err(error) = live.compute(&plant, &tag, program.into(), (from, to), &job).await {
                tracing::warn!(tag = tag.no, %error, "the past of a formula could not be computed");
                let words = format!("The past of {} was not computed to its end: {error}", plant.tag_path(&tag.set));
                live.remark("history", None, Some(tag.id), &words, json!({})).await;
            }
        });
        Ok(past)
    }

    async fn compute(
        &self,
        plant: &Plant,
        tag: &Item<Tag>,
        program: Arc<Program>,
        (from, to): (Nanos, Nanos),
        job: &Job,
    ) -> Result<(), LiveError> {
        let mut replay = Replay::new(program.clone());
        let mut results = Results { tag, from, to, made: Batch::default(), last: None };
        // Windows look back from the first result on.
        let mut at = from.saturating_sub(program.reach().min(FILLED));
        let mut held = true;
        while at < to && !job.cancelled() {
            let until = to.min(at.saturating_add(SLICE));
            let mut show = |outcome: Outcome| {
                results.take(outcome);
                !job.cancelled()
            };
            if !self.go_through(plant, &program, &mut replay, (at, until), held, &mut show).await? {
                return Ok(());
            }
            if until == to {
                replay.advance(to, &mut |outcome| results.take(outcome));
            }
            self.take(std::mem::take(&mut results.made)).await?;
            job.go_on((until - from).max(0) as f64 / (to - from) as f64);
            // What was at the last instant of a slice is not told again.
            (at, held) = (until.saturating_add(1), false);
        }
        Ok(())
    }
}

/// A result for a picture.
fn point(outcome: &Outcome) -> Point {
    let value = match &outcome.value {
        Ok((Val::Number(v), _)) => Some(*v),
        Ok((Val::Switch(v), _)) => Some(f64::from(u8::from(*v))),
        _ => None,
    };
    Point { time: outcome.at, value: value.map(Number::from), good: outcome.value.is_ok(), by_hand: false }
}

/// The path of a tag whose past is not recorded, if it is not.
fn not_recorded(plant: &Plant, id: Uuid) -> Option<String> {
    let tag = plant.tags.get(&id)?;
    (!plant.is_recorded(tag)).then(|| plant.tag_path(&tag.set))
}

/// Results of a formula on their way into history, as the tag is recorded.
struct Results<'a> {
    tag: &'a Item<Tag>,
    from: Nanos,
    to: Nanos,
    made: Batch,
    /// What was stored last.
    last: Option<Recorded>,
}

impl Results<'_> {
    fn take(&mut self, outcome: Outcome) {
        if outcome.at < self.from || outcome.at > self.to {
            return;
        }
        let (value, quality) = match outcome.value {
            Ok((val, None)) => (Some(val.value()), Quality::of(Reason::ComputedLater)),
            Ok((val, Some(doubt))) => (Some(val.value()), doubt.quality()),
            Err(cause) => (None, cause.quality()),
        };
        if !Recorded::worth(self.last.as_ref(), RecordRule::of(&self.tag.set), value.as_ref(), quality) {
            return;
        }
        match &value {
            Some(value) => self.made.push(self.tag.no, outcome.at, quality, flag::COMPUTED_LATER, value),
            None => self.made.push_quality(self.tag.no, outcome.at, quality),
        }
        self.last = Some(Recorded::after(self.last.take(), value, quality));
    }
}
