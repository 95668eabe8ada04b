//! The engine: one synchronous [`Engine::step`] that turns inputs into effects.
//!
//! It owns the current values, the alarm states and the memory of what was recorded. It never waits, reads no clock
//! and does no I/O: the running plant feeds it from a thread of its own, tests feed it tables. The same inputs give the
//! same effects.

mod accept;
mod by_hand;
mod clock;
mod compute;
mod deadlines;
mod judge;
pub mod plan;
mod recall;
mod record;
mod recorders;
mod replan;
mod system;
pub mod words;

pub use plan::{FormulaPlan, Gives, Plan, RecordRule, RecorderPlan, RulePlan, Slot, TagPlan, Takes};
pub use recall::Told;
pub use record::Recorded;
pub(crate) use record::differs;
pub use recorders::{Row, Tracked};

use crate::{
    TagNo,
    alarm::{AlarmAction, AlarmEvent, AlarmStanding, Memory, SystemAlarm},
    formula::{Cause, Doubt, Outcome, Running},
    number::Number,
    quality::{Quality, Reason},
    sample::{Batch, Value},
    time::{Nanos, SECOND},
};
use by_hand::ByHand;
use compute::FormulaState;
use deadlines::{Deadlines, Due};
use recorders::RecorderState;
use serde_json::Value as Json;
use std::{
    collections::{BTreeMap, BTreeSet, HashMap},
    sync::Arc,
};
use uuid::Uuid;

/// How far a source's clock may be ahead of ours before its time is not believed.
pub const CLOCK_TOLERANCE: Nanos = 2 * SECOND;
/// 2000-01-01: a source's clock that reads less was never set.
pub const CLOCK_UNSET: Nanos = 946_684_800 * SECOND;

/// Something for the engine to do.
#[derive(Clone, Debug)]
pub enum Input<'a> {
    Samples(&'a Batch),
    /// Only time has passed: delays may end.
    Tick,
    /// A person does something about the alarms of these rules.
    Alarms {
        rules: &'a [Uuid],
        action: AlarmAction,
        actor: &'a str,
        comment: &'a str,
    },
    /// From now on this value counts for a tag, whatever its source says, until `until` or until it is released.
    SetByHand {
        tag: TagNo,
        value: &'a Value,
        until: Option<Nanos>,
    },
    /// What its source says counts for a tag again.
    Release(TagNo),
    /// The configuration changed.
    Plan(Arc<Plan>),
    /// Something recorded was lost: store the next value of every tag, changed or not.
    RecordAnew,
    /// This machine's clock was stepped by so much: `now` is by the new clock, and `epoch` begins.
    ClockStep {
        epoch: u32,
        by: Nanos,
    },
    /// Something is wrong with Havrel itself, or not any more.
    System {
        alarm: SystemAlarm,
        active: bool,
        text: &'a str,
    },
    /// What formulas remembered before a restart, by the tags that they compute; for before the first plan.
    Formulas(HashMap<TagNo, Json>),
    /// What was in the windows of a formula before they began.
    Earlier {
        tag: TagNo,
        earlier: &'a Running,
    },
    /// Tell what formulas remember, for after a restart.
    KeepFormulas,
    /// A person or a program has a recorder take a row.
    TakeRow {
        recorder: Uuid,
        actor: &'a str,
    },
    /// The last value that history knows of a tag, for after a restart; it shows until its source speaks.
    Recall {
        tag: TagNo,
        value: Value,
        time: Nanos,
        /// How it was told last, where that still counts: nobody asks the source of a pushed value again.
        told: Option<Told>,
    },
    /// What was known of a tag before the engine had to be started again; it counts until its source speaks.
    Restore {
        tag: TagNo,
        current: &'a Current,
    },
}

/// What a step leads to.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Effects {
    /// Slots whose current value or quality changed or was confirmed; may repeat.
    pub changed: Vec<Slot>,
    /// What goes into history.
    pub recorded: Batch,
    /// Figures of spans that go into history.
    pub tracked: Vec<Tracked>,
    /// Rows that recorders took; their values are among those recorded.
    pub rows: Vec<Row>,
    pub events: Vec<AlarmEvent>,
    /// The latest standing of every rule that moved.
    pub states: Vec<AlarmStanding>,
    /// Tags whose value is not set by hand any more because its time ended or the tag is gone.
    pub released: Vec<TagNo>,
    /// What formulas remember, for after a restart, by the tags that they compute.
    pub kept: Vec<(TagNo, Json)>,
}

/// The newest that is known of a tag.
#[derive(Clone, Debug, PartialEq)]
pub struct Current {
    /// The last value and its time, kept while the quality is bad.
    pub value: Option<Value>,
    pub time: Nanos,
    pub quality: Quality,
    /// When the quality was last told.
    pub told: Nanos,
    /// The clock epoch in which it was told: times of different epochs cannot be compared.
    pub epoch: u32,
    /// The time by the source's own clock, as it was sent; 0 where the source has none.
    pub own: Nanos,
    /// Why its formula has no value.
    pub cause: Option<Cause>,
}

impl Current {
    /// Nothing is known yet.
    pub const UNREAD: Current =
        Current { value: None, time: 0, quality: Quality::of(Reason::NotRead), told: 0, epoch: 0, own: 0, cause: None };

    /// The result of a formula.
    pub fn computed(outcome: Outcome) -> Current {
        let known = Current { time: outcome.at, told: outcome.at, ..Current::UNREAD };
        match outcome.value {
            Ok((val, doubt)) => {
                Current { value: Some(val.value()), quality: doubt.map_or(Quality::GOOD, Doubt::quality), ..known }
            }
            Err(cause) => Current { quality: cause.quality(), cause: Some(cause), ..known },
        }
    }

    fn usable(&self) -> Option<Number> {
        if self.quality.is_bad() { None } else { self.value.as_ref().and_then(Value::exact) }
    }
}

/// A rule and its alarm.
#[derive(Clone, Debug)]
struct RuleState {
    memory: Memory,
    /// What it compares with at present; not a number where that is not known.
    level: f64,
    standing: AlarmStanding,
    /// The last value that was judged: what held when a delay ended before the next one came.
    held: Number,
}

/// The engine's whole state.
pub struct Engine {
    plan: Arc<Plan>,
    current: Vec<Current>,
    rules: Vec<RuleState>,
    recorded: Vec<Option<Recorded>>,
    recorders: Vec<RecorderState>,
    formulas: Vec<FormulaState>,
    /// Formulas that an input changed for, by their index; and up to when their inputs were told.
    changed: BTreeSet<usize>,
    changed_at: Nanos,
    /// What formulas remembered that no plan has named yet.
    former: HashMap<TagNo, Json>,
    kept_at: Nanos,
    by_hand: BTreeMap<TagNo, ByHand>,
    /// Whatever waits for a time.
    deadlines: Deadlines,
    /// Standings of rules that no plan has named yet, from before a restart.
    resting: HashMap<Uuid, AlarmStanding>,
    /// Where the alarms about Havrel itself stand.
    system: BTreeMap<SystemAlarm, AlarmStanding>,
    now: Nanos,
    /// Counts the steps of the clock.
    epoch: u32,
}

impl Engine {
    /// Starts with where the alarms stood before; give it a plan next.
    pub fn new(standings: Vec<AlarmStanding>) -> Engine {
        let (system, resting): (Vec<_>, Vec<_>) = standings.into_iter().partition(|s| SystemAlarm::of(s.rule).is_some());
        Engine {
            plan: Arc::default(),
            current: Vec::new(),
            rules: Vec::new(),
            recorded: Vec::new(),
            recorders: Vec::new(),
            formulas: Vec::new(),
            changed: BTreeSet::new(),
            changed_at: Nanos::MIN,
            former: HashMap::new(),
            kept_at: 0,
            by_hand: BTreeMap::new(),
            deadlines: Deadlines::default(),
            resting: resting.into_iter().map(|s| (s.rule, s)).collect(),
            system: system.into_iter().filter_map(|s| Some((SystemAlarm::of(s.rule)?, s))).collect(),
            now: 0,
            epoch: 0,
        }
    }

    /// The plan it works from.
    pub fn plan(&self) -> &Arc<Plan> {
        &self.plan
    }

    /// The newest of a tag.
    pub fn current(&self, slot: Slot) -> &Current {
        &self.current[slot as usize]
    }

    /// Where every alarm of the plan stands.
    pub fn standings(&self) -> impl Iterator<Item = &AlarmStanding> {
        self.rules.iter().map(|r| &r.standing)
    }

    /// When something ends by itself next; a tick before changes nothing.
    pub fn next_due(&self) -> Option<Nanos> {
        self.deadlines.first()
    }

    /// Does one thing at time `now` and adds what follows to `out`. A `now` before the last one counts as the last one, unless
    /// it comes with a step of the clock.
    pub fn step(&mut self, now: Nanos, input: Input<'_>, out: &mut Effects) {
        self.now = self.now.max(now);
        match input {
            Input::Samples(batch) => self.take(batch, out),
            Input::Tick => {
                while let Some(due) = self.deadlines.next(self.now) {
                    match due {
                        Due::ByHand(tag) => {
                            self.release(tag, out);
                            out.released.push(tag);
                        }
                        Due::Delay(rule) => self.end_delay(rule, out),
                        Due::Suppression(rule) => self.end_suppressions(rule, out),
                        Due::Formula(formula) => self.go_on(formula, out),
                        Due::Span(recorder) => self.end_spans(recorder, out),
                    }
                }
                self.keep_sometimes(out);
            }
            Input::Alarms { rules, action, actor, comment } => self.act(rules, action, actor, comment, out),
            Input::SetByHand { tag, value, until } => self.set_by_hand(tag, value, until, out),
            Input::Release(tag) => self.release(tag, out),
            Input::Plan(plan) => self.change_plan(plan, out),
            Input::RecordAnew => self.recorded.iter_mut().for_each(|r| *r = None),
            Input::ClockStep { epoch, by } => self.step_clock(now, epoch, by, out),
            Input::System { alarm, active, text } => self.tell_system(alarm, active, text, out),
            Input::Formulas(former) => self.former = former,
            Input::Earlier { tag, earlier } => self.begin_with(tag, earlier),
            Input::KeepFormulas => self.keep_formulas(out),
            Input::TakeRow { recorder, actor } => {
                // What came so far is worked out first, so that the row holds the results.
                self.compute(out);
                self.take_row(recorder, actor, out);
            }
            Input::Recall { tag, value, time, told } => self.recall(tag, value, time, told, out),
            Input::Restore { tag, current } => {
                if let Some(&slot) = self.plan.slots.get(&tag) {
                    self.current[slot as usize] = current.clone();
                    out.changed.push(slot);
                }
            }
        }
        self.compute(out);
    }
}

#[cfg(test)]
mod tests;
