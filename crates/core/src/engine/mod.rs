//! The engine: one synchronous [`Engine::step`] that turns inputs into effects.
//!
//! It owns the current values, the alarm states and the memory of what was recorded. It never waits, reads no clock
//! and does no I/O: the running plant feeds it from a thread of its own, tests feed it tables. The same inputs give the
//! same effects.

mod clock;
pub mod plan;
mod recall;
mod system;

pub use plan::{Plan, RecordRule, RulePlan, Slot, TagPlan};
pub use recall::Told;

use crate::{
    TagNo,
    alarm::{AlarmEvent, AlarmStanding, AlarmState, AlarmStep, EventKind, LimitMemory, SystemAlarm, limit::Turn},
    number::Number,
    plant::RecordMode,
    quality::{Class, Quality, Reason},
    sample::{Batch, Kind, Sample, Value, flag},
    time::{Nanos, SECOND},
};
use std::{
    collections::{BTreeMap, HashMap, HashSet},
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
    /// Somebody has seen these alarms.
    Acknowledge {
        rules: &'a [Uuid],
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
    pub events: Vec<AlarmEvent>,
    /// The latest standing of every rule that moved.
    pub states: Vec<AlarmStanding>,
    /// Tags whose value is not set by hand any more because its time ended or the tag is gone.
    pub released: Vec<TagNo>,
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
}

impl Current {
    /// Nothing is known yet.
    pub const UNREAD: Current =
        Current { value: None, time: 0, quality: Quality::of(Reason::NotRead), told: 0, epoch: 0, own: 0 };

    fn usable(&self) -> Option<Number> {
        if self.quality.is_bad() { None } else { self.value.as_ref().and_then(Value::exact) }
    }
}

#[derive(Clone, Debug)]
struct RuleLive {
    memory: LimitMemory,
    standing: AlarmStanding,
    /// The last value that was judged: what held when a delay ended before the next one came.
    held: f64,
}

/// A value that somebody set by hand.
#[derive(Clone, Debug)]
struct Hand {
    value: Value,
    until: Option<Nanos>,
    /// What the source says meanwhile; `None` until the value shows.
    beneath: Option<Current>,
}

#[derive(Clone, Debug, PartialEq)]
struct Recorded {
    value: Option<Value>,
    quality: Quality,
}

/// The engine's whole state.
pub struct Engine {
    plan: Arc<Plan>,
    current: Vec<Current>,
    rules: Vec<RuleLive>,
    recorded: Vec<Option<Recorded>>,
    hands: BTreeMap<TagNo, Hand>,
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
            hands: BTreeMap::new(),
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

    /// Does one thing at time `now` and adds what follows to `out`. A `now` before the last one counts as the last one, unless
    /// it comes with a step of the clock.
    pub fn step(&mut self, now: Nanos, input: Input<'_>, out: &mut Effects) {
        self.now = self.now.max(now);
        match input {
            Input::Samples(batch) => batch.samples.iter().for_each(|&sample| self.take(batch, sample, out)),
            Input::Tick => {
                self.end_hands(out);
                for rule in 0..self.rules.len() {
                    let turn = self.plan.rules[rule].limit.tick(&mut self.rules[rule].memory, self.now);
                    let held = self.rules[rule].held;
                    self.turn(rule, turn, held, out);
                    self.keep_delay(rule, out);
                }
            }
            Input::Acknowledge { rules, actor, comment } => self.acknowledge(rules, actor, comment, out),
            Input::SetByHand { tag, value, until } => {
                let beneath = self.hands.remove(&tag).and_then(|hand| hand.beneath);
                self.hands.insert(tag, Hand { value: value.clone(), until, beneath });
                self.show_hand(tag, out);
            }
            Input::Release(tag) => self.release(tag, out),
            Input::Plan(plan) => self.change_plan(plan, out),
            Input::RecordAnew => self.recorded.iter_mut().for_each(|r| *r = None),
            Input::ClockStep { epoch, by } => self.step_clock(now, epoch, by, out),
            Input::System { alarm, active, text } => self.tell_system(alarm, active, text, out),
            Input::Recall { tag, value, time, told } => self.recall(tag, value, time, told, out),
            Input::Restore { tag, current } => {
                if let Some(&slot) = self.plan.slots.get(&tag) {
                    self.current[slot as usize] = current.clone();
                    out.changed.push(slot);
                }
            }
        }
    }

    fn take(&mut self, batch: &Batch, mut sample: Sample, out: &mut Effects) {
        let Some(&slot) = self.plan.slots.get(&sample.tag) else { return };
        if self.plan.tags[slot as usize].idle {
            return;
        }
        let mut own = if sample.flags & flag::OWN_TIME != 0 { sample.time } else { 0 };
        let doubt = match sample.time {
            time if time > self.now.saturating_add(CLOCK_TOLERANCE) => Some(Reason::ClockAhead),
            time if own != 0 && time < CLOCK_UNSET && self.now >= CLOCK_UNSET => Some(Reason::ClockUnset),
            _ => None,
        };
        if let Some(doubt) = doubt {
            sample.time = self.now;
            // A clock that was never set tells no order either.
            own = if doubt == Reason::ClockUnset { 0 } else { own };
            if sample.quality.class() == Class::Good {
                sample.quality = Quality::of(doubt);
            }
        }
        let hand = self.hands.get_mut(&sample.tag).and_then(|hand| hand.beneath.as_mut());
        let hidden = hand.is_some();
        let current = hand.unwrap_or(&mut self.current[slot as usize]);
        if sample.quality.reason() == Reason::NotSet {
            // Nothing was told: whatever comes, however old, is news.
            current.quality = sample.quality;
            if !hidden {
                out.changed.push(slot);
            }
            return;
        }
        if is_older(current, sample.time, own, self.epoch) {
            // Older than what is shown: it belongs into history, and moves no alarm.
            sample.flags |= flag::LATE;
            if self.plan.tags[slot as usize].record.is_some() {
                out.recorded.copy_from(batch, sample);
            }
            return;
        }
        if let Some(value) = batch.value_of(sample) {
            current.value = Some(value);
            current.time = sample.time;
        }
        current.quality = sample.quality;
        (current.told, current.epoch, current.own) = (sample.time, self.epoch, own);
        if hidden {
            return;
        }
        out.changed.push(slot);
        self.record(slot, batch, sample, out);
        self.judge(slot, sample.time, out);
    }

    fn record(&mut self, slot: Slot, batch: &Batch, mut sample: Sample, out: &mut Effects) {
        let Some(rule) = self.plan.tags[slot as usize].record else { return };
        let before = &mut self.recorded[slot as usize];
        let value = batch.value_of(sample);
        let worth = match before {
            None => true,
            Some(b) if b.quality != sample.quality => true,
            // A quality that stays bad is told once.
            Some(_) if sample.kind == Kind::Empty => false,
            Some(b) => rule.mode == RecordMode::EachPoll || differs(b.value.as_ref(), value.as_ref(), rule.deadband),
        };
        if !worth {
            return;
        }
        if before.as_ref().is_none_or(|b| b.quality.is_bad()) && !sample.quality.is_bad() {
            sample.flags |= flag::AFTER_GAP;
        }
        let kept = value.or_else(|| before.as_ref().and_then(|b| b.value.clone()));
        *before = Some(Recorded { value: kept, quality: sample.quality });
        out.recorded.copy_from(batch, sample);
    }

    fn judge(&mut self, slot: Slot, at: Nanos, out: &mut Effects) {
        let plan = self.plan.clone();
        let usable = self.current[slot as usize].usable();
        for &rule in &plan.tags[slot as usize].rules {
            let rule = rule as usize;
            let live = &mut self.rules[rule];
            let held = live.held;
            let [earlier, own] = match usable {
                Some(value) => plan.rules[rule].limit.sample(&mut live.memory, at, value),
                None => [plan.rules[rule].limit.blind(&mut live.memory, at), None],
            };
            let holds = usable.map_or(held, Number::float);
            live.held = holds;
            self.turn(rule, earlier, held, out);
            self.turn(rule, own, holds, out);
            self.keep_delay(rule, out);
        }
    }

    /// A delay that began or ended stands in the rule's standing, so that a restart goes on with it.
    fn keep_delay(&mut self, rule: usize, out: &mut Effects) {
        let live = &mut self.rules[rule];
        if live.standing.turning_since == live.memory.turning_since {
            return;
        }
        live.standing.turning_since = live.memory.turning_since;
        if live.standing.turning_since.is_some() {
            // What held when the delay began: told if it ends before the next value.
            live.standing.value = live.held;
        }
        out.states.push(live.standing.clone());
    }

    fn turn(&mut self, rule: usize, turn: Option<Turn>, value: f64, out: &mut Effects) {
        let Some(turn) = turn else { return };
        let plan = &self.plan.rules[rule];
        let standing = &mut self.rules[rule].standing;
        let step = if turn.active { AlarmStep::Raise } else { AlarmStep::Return };
        standing.active = turn.active;
        let Some(next) = standing.state.after(step) else { return };
        standing.state = next;
        standing.value = value;
        if turn.active {
            standing.raised_at = turn.at;
            let switch = matches!(self.current[plan.slot as usize].value, Some(Value::Bool(_)));
            standing.text = if switch { plan.switch_text() } else { plan.text(value) };
            standing.acknowledged_by.clear();
        } else {
            standing.returned_at = turn.at;
        }
        let kind = if turn.active { EventKind::Raised } else { EventKind::Returned };
        self.tell(rule, kind, turn.at, "", "", out);
    }

    fn acknowledge(&mut self, rules: &[Uuid], actor: &str, comment: &str, out: &mut Effects) {
        let rules: HashSet<&Uuid> = rules.iter().collect();
        for rule in 0..self.rules.len() {
            let standing = &mut self.rules[rule].standing;
            if !rules.contains(&standing.rule) {
                continue;
            }
            let Some(next) = standing.state.after(AlarmStep::Acknowledge) else { continue };
            standing.state = next;
            standing.acknowledged_by = actor.to_owned();
            self.tell(rule, EventKind::Acknowledged, self.now, actor, comment, out);
        }
        self.acknowledge_system(&rules, actor, comment, out);
    }

    fn tell(&mut self, rule: usize, kind: EventKind, at: Nanos, actor: &str, comment: &str, out: &mut Effects) {
        let plan = &self.plan.rules[rule];
        let standing = &mut self.rules[rule].standing;
        event(standing, (plan.priority, plan.limit.level), kind, at, self.now, (actor, comment), out);
    }

    fn change_plan(&mut self, plan: Arc<Plan>, out: &mut Effects) {
        let old = std::mem::replace(&mut self.plan, plan.clone());
        let mut values: HashMap<u32, (Current, Option<Recorded>)> = old
            .tags
            .iter()
            .zip(std::mem::take(&mut self.current))
            .zip(std::mem::take(&mut self.recorded))
            .map(|((tag, current), recorded)| (tag.no, (current, recorded)))
            .collect();
        for tag in &plan.tags {
            let (current, recorded) = values.remove(&tag.no).unwrap_or((Current::UNREAD, None));
            self.current.push(current);
            // A tag whose recording was off has no last stored value to compare with.
            self.recorded.push(recorded.filter(|_| tag.record.is_some()));
        }
        let mut lives: HashMap<Uuid, (RuleLive, usize)> = HashMap::new();
        for (index, live) in std::mem::take(&mut self.rules).into_iter().enumerate() {
            lives.insert(live.standing.rule, (live, index));
        }
        for rule in &plan.rules {
            let live = lives.remove(&rule.id).map(|(live, _)| live).unwrap_or_else(|| {
                let standing = self.resting.remove(&rule.id).unwrap_or_else(|| AlarmStanding::quiet(rule.id));
                let memory = LimitMemory { active: standing.active, turning_since: standing.turning_since };
                RuleLive { memory, held: standing.value, standing }
            });
            self.rules.push(live);
        }
        // Rules that are gone: what stood is withdrawn, and how far they had counted is kept.
        let mut gone: Vec<_> = lives.into_values().collect();
        gone.sort_by_key(|(_, index)| *index);
        for (mut live, index) in gone {
            withdraw(&mut live.standing, Some(&old.rules[index]), self.now, out);
            self.resting.insert(live.standing.rule, live.standing);
        }
        let mut resting: Vec<_> = self.resting.values_mut().filter(|s| s.state != AlarmState::Normal).collect();
        resting.sort_by_key(|s| s.rule);
        resting.into_iter().for_each(|standing| withdraw(standing, None, self.now, out));
        self.tell_service(out);
        self.keep_hands(out);
        // New limits count at once, on the values that are there.
        for slot in 0..plan.tags.len() as Slot {
            out.changed.push(slot);
            if !plan.tags[slot as usize].rules.is_empty() && self.current[slot as usize].usable().is_some() {
                self.judge(slot, self.now, out);
            }
        }
    }
}

impl Engine {
    /// Marks what went out of service, for history too; what came back has not been read yet.
    fn tell_service(&mut self, out: &mut Effects) {
        let plan = self.plan.clone();
        for (slot, tag) in plan.tags.iter().enumerate() {
            let current = &mut self.current[slot];
            let told = current.quality.reason() == Reason::OutOfService;
            if tag.idle && !told {
                current.quality = Quality::of(Reason::OutOfService);
                (current.told, current.epoch) = (self.now, self.epoch);
                let mut batch = Batch::default();
                batch.push_quality(tag.no, self.now, current.quality);
                self.record(slot as Slot, &batch, batch.samples[0], out);
            } else if !tag.idle && told {
                current.quality = Quality::of(Reason::NotRead);
            }
        }
    }
}

/// Values set by hand.
impl Engine {
    /// Shows a value that was set by hand, records it and judges it, if the tag is there and in service.
    fn show_hand(&mut self, tag: TagNo, out: &mut Effects) {
        let Some(&slot) = self.plan.slots.get(&tag) else { return };
        if self.plan.tags[slot as usize].idle {
            return;
        }
        let Some(hand) = self.hands.get_mut(&tag) else { return };
        let current = &mut self.current[slot as usize];
        hand.beneath.get_or_insert_with(|| current.clone());
        *current = Current {
            value: Some(hand.value.clone()),
            time: self.now,
            quality: Quality::of(Reason::ByHand),
            told: self.now,
            epoch: self.epoch,
            own: 0,
        };
        let mut batch = Batch::default();
        batch.push(tag, self.now, Quality::of(Reason::ByHand), flag::BY_HAND, &hand.value);
        self.put(slot, &batch, out);
    }

    /// Lets the source speak again: what it said last counts from now on.
    fn release(&mut self, tag: TagNo, out: &mut Effects) {
        let Some(hand) = self.hands.remove(&tag) else { return };
        let (Some(beneath), Some(&slot)) = (hand.beneath, self.plan.slots.get(&tag)) else { return };
        let current = &mut self.current[slot as usize];
        if self.plan.tags[slot as usize].idle {
            (current.value, current.time) = (beneath.value, beneath.time);
            out.changed.push(slot);
            return;
        }
        let mut batch = Batch::default();
        match &beneath.value {
            Some(value) if !beneath.quality.is_bad() => batch.push(tag, self.now, beneath.quality, 0, value),
            _ => batch.push_quality(tag, self.now, beneath.quality),
        }
        // A tag to which nothing was told yet stays so, or the first that comes would be too old.
        let told = if beneath.told == 0 { 0 } else { self.now };
        *current = Current { told, epoch: self.epoch, ..beneath };
        self.put(slot, &batch, out);
    }

    /// Records and judges what now stands for a tag.
    fn put(&mut self, slot: Slot, batch: &Batch, out: &mut Effects) {
        out.changed.push(slot);
        self.record(slot, batch, batch.samples[0], out);
        self.judge(slot, self.now, out);
    }

    fn end_hands(&mut self, out: &mut Effects) {
        let over = |hand: &Hand| hand.until.is_some_and(|until| until <= self.now);
        let ended: Vec<TagNo> = self.hands.iter().filter(|(_, hand)| over(hand)).map(|(&tag, _)| tag).collect();
        for tag in ended {
            self.release(tag, out);
            out.released.push(tag);
        }
    }

    /// After a change of the plan: what is set by hand goes with its tag, and shows where it did not before.
    fn keep_hands(&mut self, out: &mut Effects) {
        let gone: Vec<TagNo> = self.hands.keys().copied().filter(|tag| !self.plan.slots.contains_key(tag)).collect();
        for tag in gone {
            self.hands.remove(&tag);
            out.released.push(tag);
        }
        let tags: Vec<TagNo> = self.hands.keys().copied().collect();
        for tag in tags {
            let shown = |slot: &Slot| self.current[*slot as usize].quality.reason() == Reason::ByHand;
            if !self.plan.slots.get(&tag).is_some_and(shown) {
                self.show_hand(tag, out);
            }
        }
    }
}

/// Whether a sample is older than what is known. Within one clock epoch times tell; across a step of our clock only the
/// source's own clock does, and without one whatever arrives is news.
fn is_older(current: &Current, time: Nanos, own: Nanos, epoch: u32) -> bool {
    if current.epoch == epoch {
        // A value told bad keeps its time, which may be of an earlier epoch; when it was told bad is of this one.
        return time < current.told;
    }
    own != 0 && current.own != 0 && own < current.own
}

fn withdraw(standing: &mut AlarmStanding, plan: Option<&RulePlan>, now: Nanos, out: &mut Effects) {
    standing.active = false;
    standing.turning_since = None;
    if standing.state == AlarmState::Normal {
        return;
    }
    standing.state = AlarmState::Normal;
    standing.sequence += 1;
    out.events.push(AlarmEvent {
        rule: standing.rule,
        sequence: standing.sequence,
        kind: EventKind::Withdrawn,
        priority: plan.map_or(1, |p| p.priority),
        occurred_at: now,
        decided_at: now,
        value: standing.value,
        limit: plan.map_or(f64::NAN, |p| p.limit.level),
        actor: String::new(),
        comment: String::new(),
        text: standing.text.clone(),
    });
    out.states.push(standing.clone());
}

fn event(
    standing: &mut AlarmStanding,
    (priority, limit): (u8, f64),
    kind: EventKind,
    at: Nanos,
    now: Nanos,
    who: (&str, &str),
    out: &mut Effects,
) {
    standing.sequence += 1;
    out.events.push(AlarmEvent {
        rule: standing.rule,
        sequence: standing.sequence,
        kind,
        priority,
        occurred_at: at,
        decided_at: now,
        value: standing.value,
        limit,
        actor: who.0.to_owned(),
        comment: who.1.to_owned(),
        text: standing.text.clone(),
    });
    out.states.push(standing.clone());
}

/// Whether a value lies outside the deadband around the one stored last; what is not a number must be equal.
fn differs(before: Option<&Value>, now: Option<&Value>, deadband: f64) -> bool {
    match (before.and_then(Value::exact), now.and_then(Value::exact)) {
        // Written so that the step from and to a value that is not a number counts.
        (Some(a), Some(b)) => a.order(b).is_ne() && !((a.float() - b.float()).abs() <= deadband && deadband > 0.0),
        _ => before != now,
    }
}

#[cfg(test)]
mod tests;
