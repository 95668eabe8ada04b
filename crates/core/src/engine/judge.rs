//! Values against the rules of alarms, and what people do about alarms.

use super::{Effects, Engine, Gives, RulePlan, RuleState, Slot, deadlines::Due, words::Moment};
use crate::{
    alarm::{
        AlarmAction, AlarmEvent, AlarmStanding, AlarmStep, EventKind, Handling, KeptValue, Memory, Suppressed, Suppression, Test,
        Turn,
    },
    formula::{Outcome, Reading, Val},
    number::Number,
    sample::Value,
    time::Nanos,
};
use uuid::Uuid;

/// What is told of an alarm besides how it stands.
pub(super) struct Happened<'a> {
    pub kind: EventKind,
    pub at: Nanos,
    pub until: Option<Nanos>,
    pub actor: &'a str,
    pub comment: &'a str,
    /// What else is kept of this instant.
    pub values: Vec<KeptValue>,
}

impl Happened<'_> {
    pub fn by_itself(kind: EventKind, at: Nanos) -> Happened<'static> {
        Happened { kind, at, until: None, actor: "", comment: "", values: Vec::new() }
    }
}

impl Engine {
    /// Judges what now counts for a tag.
    pub(super) fn judge(&mut self, slot: Slot, at: Nanos, out: &mut Effects) {
        let count = self.plan.tags[slot as usize].rules.len();
        if count == 0 {
            return;
        }
        let current = &self.current[slot as usize];
        let (usable, doubtful) = (current.usable(), current.quality.is_uncertain());
        let trusted = !current.quality.is_bad();
        for index in 0..count {
            let rule = self.plan.tags[slot as usize].rules[index];
            let of = &self.plan.rules[rule as usize];
            let seen = match of.criterion.test {
                // A text that can be trusted is a good value too.
                Test::Bad => (trusted && !(of.doubts && doubtful)).then(|| usable.unwrap_or(Number::Float(0.0))),
                _ => usable.filter(|_| !(of.doubts && doubtful)),
            };
            self.see(rule as usize, at, seen, out);
        }
    }

    /// Something was seen for a rule.
    fn see(&mut self, rule: usize, at: Nanos, seen: Option<Number>, out: &mut Effects) {
        let live = &mut self.rules[rule];
        let (held, delay) = (live.held, live.memory.delay_since);
        let [earlier, own] = self.plan.rules[rule].criterion.see(&mut live.memory, at, seen, live.level);
        // A value that has not changed is told as it was from the beginning, so that it is watched from there after a restart.
        let from = live.memory.from.filter(|_| self.plan.rules[rule].criterion.test == Test::Unchanged);
        let holds = from.or(seen).unwrap_or(held);
        live.held = holds;
        if earlier.is_some() || own.is_some() || live.memory.delay_since != delay {
            self.turn(rule, earlier, held, out);
            self.turn(rule, own, holds, out);
            self.keep_delay(rule, out);
        }
    }

    /// A formula of a rule or a recorder has a result.
    pub(super) fn judge_computed(&mut self, gives: Gives, outcome: Outcome, out: &mut Effects) {
        if let Gives::Trigger(recorder) = gives {
            self.look_at_trigger(recorder as usize, outcome, out);
            return;
        }
        let Outcome { at, value } = outcome;
        match gives {
            Gives::Tag(_) | Gives::Trigger(_) => {}
            Gives::Measure(rule) => {
                let of = &self.plan.rules[rule as usize];
                let seen = match value {
                    Ok((_, Some(_))) if of.doubts => None,
                    Ok((value, _)) => value.value().exact(),
                    Err(_) => None,
                };
                self.see(rule as usize, at, seen, out);
            }
            Gives::Level(rule) => {
                let of = &self.plan.rules[rule as usize];
                let current = &self.current[of.slot as usize];
                let doubtful = of.doubts && (current.quality.is_uncertain() || matches!(value, Ok((_, Some(_)))));
                let seen = current.usable().filter(|_| !doubtful);
                let level = value.ok().and_then(|(value, _)| value.value().exact());
                self.rules[rule as usize].level = level.map_or(f64::NAN, Number::float);
                self.see(rule as usize, at, seen, out);
            }
            Gives::Enable(rule) => {
                // Where that cannot be worked out, nothing is kept from the operator.
                let enabled = !matches!(value, Ok((Val::Switch(false), _)));
                self.enable(rule as usize, enabled, at, out);
            }
        }
    }

    /// Suppresses an alarm by design, or lets go of it.
    pub(super) fn enable(&mut self, rule: usize, enabled: bool, at: Nanos, out: &mut Effects) {
        let suppressed = self.rules[rule].standing.state.suppressions.contains_key(&Suppression::ByDesign);
        if enabled != suppressed {
            return;
        }
        let reason = self.plan.rules[rule].only_while.clone().unwrap_or_default();
        let action = match enabled {
            true => AlarmAction::Lift(Suppression::ByDesign),
            false => AlarmAction::Suppress(Suppression::ByDesign, None),
        };
        let handling = self.plan.rules[rule].handling;
        if act(&mut self.rules[rule].standing, handling, action, at, ("", &reason)) {
            let comment = if enabled { "" } else { &reason };
            self.tell(rule, Happened { comment, ..Happened::by_itself(EventKind::of(action), at) }, out);
        }
    }

    /// The delay of a rule has ended.
    pub(super) fn end_delay(&mut self, rule: usize, out: &mut Effects) {
        let turn = self.plan.rules[rule].criterion.tick(&mut self.rules[rule].memory, self.now);
        self.turn(rule, turn, self.rules[rule].held, out);
        self.keep_delay(rule, out);
    }

    /// A delay that began or ended stands in the alarm's standing, so that a restart goes on with it.
    fn keep_delay(&mut self, rule: usize, out: &mut Effects) {
        if !self.plan.rules[rule].criterion.keeps_delay() {
            self.await_delay(rule);
            return;
        }
        let live = &mut self.rules[rule];
        if live.standing.delay_since == live.memory.delay_since {
            return;
        }
        live.standing.delay_since = live.memory.delay_since;
        if live.standing.delay_since.is_some() {
            // What held when the delay began: told if it ends before the next value.
            live.standing.value = live.held;
        }
        out.states.push(live.standing.clone());
        self.await_delay(rule);
    }

    fn await_delay(&mut self, rule: usize) {
        let ends = self.plan.rules[rule].criterion.delay_ends(&self.rules[rule].memory);
        self.deadlines.set(Due::Delay(rule), ends);
    }

    /// Waits anew for everything that waits: the plan or the clock is another one.
    pub(super) fn await_all(&mut self) {
        self.deadlines.clear();
        for rule in 0..self.rules.len() {
            self.await_delay(rule);
            self.deadlines.set(Due::Suppression(rule), self.rules[rule].standing.state.next_end());
        }
        for (&tag, hand) in &self.by_hand {
            self.deadlines.set(Due::ByHand(tag), hand.until);
        }
        (0..self.formulas.len()).for_each(|formula| self.await_formula(formula));
        (0..self.recorders.len()).for_each(|recorder| self.await_span(recorder));
    }

    fn turn(&mut self, rule: usize, turn: Option<Turn>, value: Number, out: &mut Effects) {
        let Some(turn) = turn else { return };
        let plan = &self.plan.rules[rule];
        let level = self.rules[rule].level;
        let first_out = turn.active && self.comes_first(rule, turn.at);
        let standing = &mut self.rules[rule].standing;
        let step = if turn.active { AlarmStep::Raise } else { AlarmStep::Return };
        if !standing.state.step(step, plan.handling) {
            return;
        }
        standing.value = value;
        let known = &self.current;
        let reading = |slot: Slot| Reading { value: known[slot as usize].value.as_ref(), quality: known[slot as usize].quality };
        let current = &known[plan.slot as usize];
        let switch = matches!(current.value, Some(Value::Bool(_)));
        let moment = Moment { at: turn.at, value, level, switch, quality: current.quality, reading: &reading };
        let values = plan.words.values(&moment);
        if turn.active {
            standing.raised_at = turn.at;
            standing.text = plan.words.text(&moment);
            standing.first_out = first_out;
            standing.acknowledged_by.clear();
        } else {
            standing.returned_at = turn.at;
        }
        let kind = if turn.active { EventKind::Raised } else { EventKind::Returned };
        self.tell(rule, Happened { values, ..Happened::by_itself(kind, turn.at) }, out);
    }

    /// Whether an alarm that comes at an instant is the first of its first-out group: no other of it stands, unless it came at the same
    /// instant. What is suppressed is no part of the group meanwhile.
    fn comes_first(&self, rule: usize, at: Nanos) -> bool {
        let suppressed = |rule: usize| !self.rules[rule].standing.state.suppressions.is_empty();
        let Some(group) = self.plan.rules[rule].first_out.filter(|_| !suppressed(rule)) else { return false };
        let others = self.plan.first_out[group as usize].iter().map(|&other| other as usize).filter(|&other| other != rule);
        let standing = others.filter(|&other| !suppressed(other)).map(|other| &self.rules[other].standing);
        standing.filter(|other| !other.state.is_normal()).all(|other| other.raised_at == at)
    }

    fn tell(&mut self, rule: usize, happened: Happened<'_>, out: &mut Effects) {
        let live = &mut self.rules[rule];
        tell(&mut live.standing, (self.plan.rules[rule].priority, live.level), happened, self.now, out);
    }

    /// Does what a person wants done about alarms, each where it can be done.
    pub(super) fn act(&mut self, rules: &[Uuid], action: AlarmAction, actor: &str, comment: &str, out: &mut Effects) {
        let mut found: Vec<usize> = rules.iter().filter_map(|&rule| self.plan.rule_of(rule)).collect();
        found.sort_unstable();
        found.dedup();
        for rule in found {
            let (handling, now) = (self.plan.rules[rule].handling, self.now);
            if act(&mut self.rules[rule].standing, handling, action, now, (actor, comment)) {
                self.deadlines.set(Due::Suppression(rule), self.rules[rule].standing.state.next_end());
                let until = if let AlarmAction::Suppress(_, until) = action { until } else { None };
                let happened = Happened { until, actor, comment, ..Happened::by_itself(EventKind::of(action), now) };
                self.tell(rule, happened, out);
            }
        }
        self.act_on_system(rules, action, actor, comment, out);
    }

    /// The time of an alarm's suppression is over.
    pub(super) fn end_suppressions(&mut self, rule: usize, out: &mut Effects) {
        let state = &self.rules[rule].standing.state;
        let over = state.suppressions.iter().filter_map(|(kind, s)| Some((*kind, s.until.filter(|&until| until <= self.now)?)));
        for (kind, until) in over.collect::<Vec<_>>() {
            let action = AlarmAction::Lift(kind);
            let handling = self.plan.rules[rule].handling;
            act(&mut self.rules[rule].standing, handling, action, self.now, ("", ""));
            self.tell(rule, Happened::by_itself(EventKind::of(action), until), out);
        }
        self.deadlines.set(Due::Suppression(rule), self.rules[rule].standing.state.next_end());
    }
}

/// Does something about one alarm. `false`: it cannot be done, or is done already.
pub(super) fn act(
    standing: &mut AlarmStanding,
    handling: Handling,
    action: AlarmAction,
    now: Nanos,
    (actor, comment): (&str, &str),
) -> bool {
    let moved = standing.state.step(
        match action {
            AlarmAction::Acknowledge => AlarmStep::Acknowledge,
            AlarmAction::Reset => AlarmStep::Reset,
            AlarmAction::Suppress(kind, until) => {
                let suppressed = Suppressed { by: actor.to_owned(), since: now, until, reason: comment.to_owned() };
                AlarmStep::Suppress(kind, suppressed)
            }
            AlarmAction::Lift(kind) => AlarmStep::Lift(kind),
        },
        handling,
    );
    if moved && action == AlarmAction::Acknowledge {
        actor.clone_into(&mut standing.acknowledged_by);
    }
    moved
}

/// The alarm of a rule that is not judged any more is withdrawn; what suppresses it stays for when the rule comes back.
pub(super) fn withdraw(standing: &mut AlarmStanding, plan: Option<&RulePlan>, now: Nanos, out: &mut Effects) {
    let waited = standing.delay_since.take().is_some();
    if !standing.state.step(AlarmStep::Withdraw, Handling::default()) {
        if waited {
            out.states.push(standing.clone());
        }
        return;
    }
    let (priority, level) = plan.map_or((1, f64::NAN), |p| (p.priority, p.level));
    tell(standing, (priority, level), Happened::by_itself(EventKind::Withdrawn, now), now, out);
}

/// Counts an event of an alarm, and tells it with how the alarm stands now.
pub(super) fn tell(
    standing: &mut AlarmStanding,
    (priority, limit): (u8, f64),
    happened: Happened<'_>,
    now: Nanos,
    out: &mut Effects,
) {
    standing.sequence += 1;
    out.events.push(AlarmEvent {
        rule: standing.rule,
        sequence: standing.sequence,
        kind: happened.kind,
        priority,
        occurred_at: happened.at,
        decided_at: now,
        value: standing.value,
        limit,
        suppressed: !standing.state.suppressions.is_empty(),
        first_out: happened.kind == EventKind::Raised && standing.first_out,
        until: happened.until,
        actor: happened.actor.to_owned(),
        comment: happened.comment.to_owned(),
        text: standing.text.clone(),
        values: happened.values,
    });
    out.states.push(standing.clone());
}

impl RuleState {
    /// A rule whose alarm stands like this.
    pub(super) fn of(standing: AlarmStanding) -> RuleState {
        // A value that has not changed is watched from where it stood.
        let from = standing.is_active().then_some(standing.value);
        let memory = Memory { active: standing.is_active(), delay_since: standing.delay_since, from };
        RuleState { memory, level: f64::NAN, held: standing.value, standing }
    }

    /// It looks for something else from now on: a running delay ends without a turn.
    pub(super) fn forget(&mut self, out: &mut Effects) {
        (self.memory.delay_since, self.memory.from) = (None, None);
        if self.standing.delay_since.take().is_some() {
            out.states.push(self.standing.clone());
        }
    }
}
