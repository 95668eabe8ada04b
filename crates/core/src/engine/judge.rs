//! Values against the rules of alarms, and what people do about alarms.

use super::{Effects, Engine, RulePlan, RuleState, Slot, deadlines::Due};
use crate::{
    alarm::{AlarmAction, AlarmEvent, AlarmStanding, AlarmStep, EventKind, Handling, LimitMemory, Suppressed, limit::Turn},
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
}

impl Happened<'_> {
    pub fn by_itself(kind: EventKind, at: Nanos) -> Happened<'static> {
        Happened { kind, at, until: None, actor: "", comment: "" }
    }
}

impl Engine {
    /// Judges what now counts for a tag.
    pub(super) fn judge(&mut self, slot: Slot, at: Nanos, out: &mut Effects) {
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
            let holds = usable.unwrap_or(held);
            live.held = holds;
            self.turn(rule, earlier, held, out);
            self.turn(rule, own, holds, out);
            self.keep_delay(rule, out);
        }
    }

    /// The delay of a rule has ended.
    pub(super) fn end_delay(&mut self, rule: usize, out: &mut Effects) {
        let turn = self.plan.rules[rule].limit.tick(&mut self.rules[rule].memory, self.now);
        self.turn(rule, turn, self.rules[rule].held, out);
        self.keep_delay(rule, out);
    }

    /// A delay that began or ended stands in the alarm's standing, so that a restart goes on with it.
    fn keep_delay(&mut self, rule: usize, out: &mut Effects) {
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
        let ends = self.plan.rules[rule].limit.delay_ends(&self.rules[rule].memory);
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
    }

    fn turn(&mut self, rule: usize, turn: Option<Turn>, value: Number, out: &mut Effects) {
        let Some(turn) = turn else { return };
        let plan = &self.plan.rules[rule];
        let standing = &mut self.rules[rule].standing;
        let step = if turn.active { AlarmStep::Raise } else { AlarmStep::Return };
        if !standing.state.step(step, plan.handling) {
            return;
        }
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
        self.tell(rule, &Happened::by_itself(kind, turn.at), out);
    }

    fn tell(&mut self, rule: usize, happened: &Happened<'_>, out: &mut Effects) {
        let plan = &self.plan.rules[rule];
        tell(&mut self.rules[rule].standing, (plan.priority, plan.limit.level), happened, self.now, out);
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
                self.tell(rule, &Happened { kind: EventKind::of(action), at: now, until, actor, comment }, out);
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
            self.tell(rule, &Happened::by_itself(EventKind::of(action), until), out);
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
    let (priority, level) = plan.map_or((1, f64::NAN), |p| (p.priority, p.limit.level));
    tell(standing, (priority, level), &Happened::by_itself(EventKind::Withdrawn, now), now, out);
}

/// Counts an event of an alarm, and tells it with how the alarm stands now.
pub(super) fn tell(
    standing: &mut AlarmStanding,
    (priority, limit): (u8, f64),
    happened: &Happened<'_>,
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
        until: happened.until,
        actor: happened.actor.to_owned(),
        comment: happened.comment.to_owned(),
        text: standing.text.clone(),
    });
    out.states.push(standing.clone());
}

impl RuleState {
    /// A rule whose alarm stands like this.
    pub(super) fn of(standing: AlarmStanding) -> RuleState {
        let memory = LimitMemory { active: standing.is_active(), delay_since: standing.delay_since };
        RuleState { memory, held: standing.value, standing }
    }
}
