//! Calls: who is told, one after the other, of alarms that nobody acknowledges (IEC 62682:2014, clause 11, alarm notification outside the
//! control room). The book looks at the alarms that wait and says what is to be done; it knows no mail and no clock of its own.

use crate::{
    plant::{
        CallPlan, Item, Plant,
        call_plan::{Concerning, MOST_ROUNDS},
    },
    time::{Nanos, SECOND},
};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};
use uuid::Uuid;

const MINUTE: Nanos = 60 * SECOND;
/// For so long after somebody took a call, further alarms of the same plan come to the same person.
pub const HOLD: Nanos = 10 * MINUTE;
/// The most alarms of a call; further ones wait until it is over, unless they are more urgent than all of them.
pub const MOST_ALARMS: usize = 1000;
/// Whoever was told is told of further alarms no sooner than this after the last message of a call.
pub const MORE_AFTER: Nanos = 5 * MINUTE;

/// How often a call waits for the hours of people who could not be told.
pub const MOST_HELD: u32 = 14;

/// An alarm that somebody has to acknowledge.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Waiting {
    pub rule: Uuid,
    pub raised_at: Nanos,
    /// What the list says of it.
    pub text: String,
    pub concerning: Concerning,
}

/// An alarm of a call.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Called {
    pub raised_at: Nanos,
    /// What the list said of it when it joined.
    pub text: String,
    pub priority: u8,
    /// It waits no more: somebody acknowledged it, or it is kept from the operator.
    pub gone: bool,
    /// A message has told of it.
    pub told: bool,
}

impl Called {
    fn of(alarm: &Waiting) -> Called {
        let priority = alarm.concerning.priority;
        Called { raised_at: alarm.raised_at, text: alarm.text.clone(), priority, gone: false, told: false }
    }
}

/// Why a call is over.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "how", rename_all = "snake_case")]
pub enum How {
    /// Somebody takes care of it.
    Taken { by: String },
    /// None of its alarms waits any more.
    Acknowledged,
    /// Everybody was told as often as the plan says, and nobody took it.
    Unanswered,
    /// Its plan was deleted or switched off.
    Withdrawn,
}

/// When a call was over, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Over {
    pub at: Nanos,
    pub how: How,
}

/// A call.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Call {
    pub id: Uuid,
    pub plan: Uuid,
    /// It only shows that people are reached.
    pub test: bool,
    pub began_at: Nanos,
    /// By their rules.
    pub alarms: BTreeMap<Uuid, Called>,
    /// How often the steps were gone through.
    pub round: u32,
    /// The step that comes next.
    pub step: usize,
    /// When it does.
    pub next_at: Nanos,
    /// When the last message was ordered.
    pub told_at: Option<Nanos>,
    /// Since the steps began, somebody was left out because of quiet hours, or because no crew was on shift: the earliest time at which
    /// one of them may be told.
    pub later: Option<Nanos>,
    /// How often the steps began anew because of that.
    pub held: u32,
    pub over: Option<Over>,
}

impl Call {
    /// The highest priority of its alarms.
    pub fn highest(&self) -> u8 {
        self.alarms.values().map(|alarm| alarm.priority).max().unwrap_or(0)
    }

    /// The alarms that wait, by their rules.
    pub fn waiting(&self) -> impl Iterator<Item = (Uuid, &Called)> {
        self.alarms.iter().filter(|(_, alarm)| !alarm.gone).map(|(&rule, alarm)| (rule, alarm))
    }

    /// Whether nobody took it so far, and it waits until somebody may be told who could not be.
    pub fn is_held(&self) -> bool {
        self.over.is_none() && self.held > 0 && (self.round, self.step) == (0, 0)
    }

    /// Whether somebody took it so recently that further alarms come to the same person.
    fn collects(&self, now: Nanos) -> bool {
        !self.test && matches!(&self.over, Some(Over { at, how: How::Taken { .. } }) if now < at.saturating_add(HOLD))
    }

    fn has_more(&self) -> bool {
        self.told_at.is_some() && self.waiting().any(|(_, alarm)| !alarm.told)
    }
}

/// What is to be done about a call; whatever it is, the call changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Order {
    Begin(Uuid),
    /// Tell whoever a step of the plan names of all alarms that wait.
    Tell {
        call: Uuid,
        step: usize,
        round: u32,
    },
    /// Tell those who were told before, or whoever took it, of what came since.
    TellMore(Uuid),
    /// Nobody took it so far; the steps begin anew when somebody may be told who could not be.
    Hold(Uuid),
    /// Alarms joined or went.
    Change(Uuid),
    End(Uuid),
}

/// All calls that go on.
#[derive(Clone, Debug, Default)]
pub struct Book {
    calls: BTreeMap<Uuid, Call>,
    /// Alarms that still wait and for which nobody is called again, by plan and rule: when they came.
    answered: HashMap<(Uuid, Uuid), Nanos>,
    looked_at: Nanos,
    /// When to look again, whatever happens.
    wake: Nanos,
}

/// A call that cannot be taken: it is over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AlreadyOver(pub Over);

impl Book {
    /// Goes on with what an earlier program left: calls, and alarms for which nobody is called again.
    pub fn of(calls: impl IntoIterator<Item = Call>, answered: impl IntoIterator<Item = (Uuid, Uuid, Nanos)>) -> Book {
        Book {
            calls: calls.into_iter().map(|call| (call.id, call)).collect(),
            answered: answered.into_iter().map(|(plan, rule, at)| ((plan, rule), at)).collect(),
            ..Book::default()
        }
    }

    /// A call that goes on, or was taken not long ago.
    pub fn call(&self, id: Uuid) -> Option<&Call> {
        self.calls.get(&id)
    }

    /// Every one of them.
    pub fn calls(&self) -> impl Iterator<Item = &Call> {
        self.calls.values()
    }

    /// When to look again although no alarm changed.
    pub fn wake(&self) -> Nanos {
        self.wake
    }

    /// Begins a call that only shows that the people of a plan are reached.
    pub fn test(&mut self, id: Uuid, plan: Uuid, alarm: &Waiting, now: Nanos) {
        let called = Called::of(alarm);
        self.begin(Call { test: true, ..Call::new(id, plan, now) }, alarm.rule, called);
        self.wake = now;
    }

    fn begin(&mut self, mut call: Call, rule: Uuid, called: Called) {
        call.alarms.insert(rule, called);
        self.calls.insert(call.id, call);
    }

    /// Somebody takes care of a call.
    ///
    /// # Errors
    /// Where it is over already; `None` where nobody knows it.
    pub fn take(&mut self, id: Uuid, by: &str, now: Nanos) -> Result<Order, Option<AlreadyOver>> {
        let call = self.calls.get_mut(&id).ok_or(None)?;
        if let Some(over) = &call.over {
            return Err(Some(AlreadyOver(over.clone())));
        }
        call.over = Some(Over { at: now, how: How::Taken { by: by.to_owned() } });
        self.wake = now;
        Ok(Order::End(id))
    }

    /// A step reached nobody: the next one comes at once.
    pub fn reached_nobody(&mut self, id: Uuid, now: Nanos) {
        if let Some(call) = self.calls.get_mut(&id).filter(|call| call.over.is_none()) {
            call.next_at = now;
            self.wake = now;
        }
    }

    /// Somebody of a step may not be told before an instant.
    pub fn left_out(&mut self, id: Uuid, until: Nanos) {
        if let Some(call) = self.calls.get_mut(&id).filter(|call| call.over.is_none()) {
            call.later = Some(call.later.map_or(until, |later| later.min(until)));
        }
    }

    /// Looks at the alarms that wait: begins and ends calls, and says whom to tell now.
    pub fn look(&mut self, now: Nanos, plant: &Plant, waiting: &[Waiting], make: &mut dyn FnMut() -> Uuid) -> Vec<Order> {
        self.clock_went_back(now);
        let mut orders = Vec::new();
        let by_rule: HashMap<Uuid, &Waiting> = waiting.iter().map(|alarm| (alarm.rule, alarm)).collect();
        let still = |rule: &Uuid, raised_at: Nanos| by_rule.get(rule).is_some_and(|alarm| alarm.raised_at == raised_at);
        self.wake = now.saturating_add(MINUTE);
        self.let_go(now);
        self.follow(now, plant, &still, &mut orders);
        self.answered.retain(|(_, rule), raised_at| still(rule, *raised_at));
        self.gather(now, plant, waiting, make, &mut orders);
        self.go_on(now, plant, &mut orders);
        self.tell_more(now, &mut orders);
        orders
    }

    /// A clock that was set back must not hold up anybody's call.
    fn clock_went_back(&mut self, now: Nanos) {
        let by = self.looked_at.saturating_sub(now);
        if by > SECOND {
            for call in self.calls.values_mut() {
                call.next_at -= by;
                call.told_at = call.told_at.map(|at| at - by);
                if let Some(over) = &mut call.over {
                    over.at -= by;
                }
            }
        }
        self.looked_at = now;
    }

    /// Which alarms of the calls wait; a call without any is over, and so is one without a plan.
    fn follow(&mut self, now: Nanos, plant: &Plant, still: &dyn Fn(&Uuid, Nanos) -> bool, orders: &mut Vec<Order>) {
        for call in self.calls.values_mut() {
            let mut changed = false;
            for (rule, alarm) in &mut call.alarms {
                let gone = !still(rule, alarm.raised_at);
                changed |= alarm.gone != gone;
                alarm.gone = gone;
            }
            let plan = plant.call_plans.get(&call.plan);
            let how = match plan {
                Some(plan) if plan.set.enabled || call.test => call.alarms.values().all(|a| a.gone).then_some(How::Acknowledged),
                _ => Some(How::Withdrawn),
            };
            if let Some(how) = how.filter(|_| call.over.is_none()) {
                call.over = Some(Over { at: now, how });
                orders.push(Order::End(call.id));
            } else if changed {
                orders.push(Order::Change(call.id));
            }
        }
    }

    /// Alarms that concern a plan join its call, or begin one.
    fn gather(
        &mut self,
        now: Nanos,
        plant: &Plant,
        waiting: &[Waiting],
        make: &mut dyn FnMut() -> Uuid,
        orders: &mut Vec<Order>,
    ) {
        let mut plans: Vec<&Item<CallPlan>> = plant.call_plans.values().map(|plan| &**plan).collect();
        plans.retain(|plan| plan.set.enabled && plan.set.hours.cover(now));
        plans.sort_by_key(|plan| plan.id);
        for plan in plans {
            let after = nanos_of(plan.set.after_min);
            let own = || self.calls.values().filter(|call| call.plan == plan.id && !call.test);
            let with_highest = |call: &Call| (call.id, call.highest());
            let mut open = own().find(|call| call.over.is_none()).map(with_highest);
            let taken = own().filter(|call| call.collects(now)).max_by_key(|call| call.over.as_ref().map(|over| over.at));
            let taken = taken.map(with_highest);
            for alarm in waiting.iter().filter(|alarm| plan.set.concerns(&alarm.concerning, plant)) {
                let due = alarm.raised_at.saturating_add(after);
                if due > now {
                    self.wake = self.wake.min(due);
                    continue;
                }
                let known = |call: Option<(Uuid, u8)>| {
                    let called = call.and_then(|(id, _)| self.calls.get(&id)).and_then(|call| call.alarms.get(&alarm.rule));
                    called.is_some_and(|called| called.raised_at == alarm.raised_at)
                };
                let answered = self.answered.get(&(plan.id, alarm.rule)) == Some(&alarm.raised_at);
                if answered || known(open) || known(taken) {
                    continue;
                }
                let priority = alarm.concerning.priority;
                let called = Called::of(alarm);
                let joined = open.or(taken.filter(|(_, highest)| priority <= *highest));
                let Some((id, highest)) = joined else {
                    let id = make();
                    self.begin(Call::new(id, plan.id, now), alarm.rule, called);
                    open = Some((id, priority));
                    orders.push(Order::Begin(id));
                    continue;
                };
                let Some(call) = self.calls.get_mut(&id).filter(|c| c.alarms.len() < MOST_ALARMS || priority > highest) else {
                    continue;
                };
                call.alarms.insert(alarm.rule, called);
                orders.push(Order::Change(id));
                if priority > highest {
                    // What is more urgent begins with the first step.
                    (call.round, call.step, call.next_at, call.later) = (0, 0, now, None);
                    open = Some((id, priority));
                }
            }
        }
        orders.dedup();
    }

    /// The steps that are due.
    fn go_on(&mut self, now: Nanos, plant: &Plant, orders: &mut Vec<Order>) {
        for call in self.calls.values_mut().filter(|call| call.over.is_none()) {
            let Some(plan) = plant.call_plans.get(&call.plan).map(|plan| &plan.set) else { continue };
            if call.next_at <= now {
                if call.step >= plan.steps.len() {
                    (call.round, call.step) = (call.round + 1, 0);
                }
                let Some(step) = plan.steps.get(call.step).filter(|_| call.round < plan.rounds.min(MOST_ROUNDS)) else {
                    // A test shows what happens now.
                    if let Some(later) = call.later.take().filter(|_| !call.test && call.held < MOST_HELD) {
                        (call.round, call.step, call.held) = (0, 0, call.held + 1);
                        call.next_at = later.max(now.saturating_add(MINUTE));
                        self.wake = self.wake.min(call.next_at);
                        orders.push(Order::Hold(call.id));
                        continue;
                    }
                    call.over = Some(Over { at: now, how: How::Unanswered });
                    orders.push(Order::End(call.id));
                    continue;
                };
                orders.push(Order::Tell { call: call.id, step: call.step, round: call.round });
                call.alarms.values_mut().for_each(|alarm| alarm.told |= !alarm.gone);
                (call.step, call.told_at) = (call.step + 1, Some(now));
                call.next_at = now.saturating_add(nanos_of(step.wait_min));
            }
            self.wake = self.wake.min(call.next_at);
        }
    }

    /// Those who were told hear of what came since, not too often.
    fn tell_more(&mut self, now: Nanos, orders: &mut Vec<Order>) {
        for call in
            self.calls.values_mut().filter(|call| call.over.is_none() || call.collects(now)).filter(|call| call.has_more())
        {
            let due = call.told_at.map_or(now, |at| at.saturating_add(MORE_AFTER));
            if due > now {
                self.wake = self.wake.min(due);
                continue;
            }
            call.alarms.values_mut().for_each(|alarm| alarm.told |= !alarm.gone);
            call.told_at = Some(now);
            orders.push(Order::TellMore(call.id));
        }
    }

    /// Calls that are over leave the book; their alarms are remembered where somebody has heard of them.
    fn let_go(&mut self, now: Nanos) {
        let answered = &mut self.answered;
        self.calls.retain(|_, call| {
            let Some(over) = call.over.as_ref().filter(|_| !call.collects(now)) else { return true };
            if matches!(over.how, How::Taken { .. } | How::Unanswered) && !call.test {
                answered.extend(call.waiting().map(|(rule, alarm)| ((call.plan, rule), alarm.raised_at)));
            }
            false
        });
    }
}

impl Call {
    fn new(id: Uuid, plan: Uuid, now: Nanos) -> Call {
        let alarms = BTreeMap::new();
        Call {
            id,
            plan,
            test: false,
            began_at: now,
            alarms,
            round: 0,
            step: 0,
            next_at: now,
            told_at: None,
            later: None,
            held: 0,
            over: None,
        }
    }
}

fn nanos_of(minutes: f64) -> Nanos {
    (minutes * MINUTE as f64) as Nanos
}

pub mod message;
pub mod whom;

#[cfg(test)]
mod tests;
