//! Formulas: what an input changed for is computed in the order of dependence, once for each instant at which inputs were told.

use super::{CLOCK_TOLERANCE, Current, Effects, Engine, FormulaPlan, Gives, Plan, Slot, deadlines::Due};
use crate::{
    TagNo,
    formula::{Reading, Running},
    sample::Batch,
    time::{Nanos, SECOND},
};
use std::collections::HashMap;
use uuid::Uuid;

/// How far behind the clock a formula goes on while its inputs are silent: what they tell of the last moments may be on its way.
const BEHIND: Nanos = SECOND;
/// How often what formulas remember is told for after a restart.
const KEPT_EVERY: Nanos = 10 * SECOND;
/// A formula that was held up for longer goes on from now.
const CATCHES_UP: Nanos = 60 * SECOND;

/// A formula at work.
#[derive(Debug)]
pub(super) struct FormulaState {
    pub running: Running,
    /// Its inputs that were told since it was computed last, one bit each.
    fresh: u64,
    /// It was computed since it was kept last.
    moved: bool,
}

/// What a formula belongs to, from one plan to the next.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Owner {
    Tag(TagNo),
    Measure(Uuid),
    Level(Uuid),
    Enable(Uuid),
    Trigger(Uuid),
}

impl Owner {
    fn of(plan: &Plan, formula: &FormulaPlan) -> Owner {
        let rule = |rule: u32| plan.rules[rule as usize].id;
        match formula.gives {
            Gives::Tag(slot) => Owner::Tag(plan.tags[slot as usize].no),
            Gives::Measure(index) => Owner::Measure(rule(index)),
            Gives::Level(index) => Owner::Level(rule(index)),
            Gives::Enable(index) => Owner::Enable(rule(index)),
            Gives::Trigger(index) => Owner::Trigger(plan.recorders[index as usize].id),
        }
    }
}

impl Engine {
    /// Takes samples in. Where formulas read them, what was at one instant counts together and in the order of time.
    pub(super) fn take(&mut self, batch: &Batch, out: &mut Effects) {
        let samples = &batch.samples;
        if self.formulas.is_empty() || samples.is_sorted_by_key(|s| s.time) {
            let mut instant = Nanos::MIN;
            for &sample in samples {
                if sample.time != instant {
                    self.compute(out);
                    instant = sample.time;
                }
                self.accept(batch, sample, out);
            }
            return;
        }
        let mut order: Vec<usize> = (0..samples.len()).collect();
        order.sort_by_key(|&i| samples[i].time);
        let mut sorted = Batch { samples: Vec::with_capacity(samples.len()), text: batch.text.clone() };
        sorted.samples.extend(order.into_iter().map(|i| samples[i]));
        self.take(&sorted, out);
    }

    /// What now stands for a tag is news for the formulas that read it.
    pub(super) fn feed(&mut self, slot: Slot, at: Nanos) {
        for &(formula, input) in &self.plan.tags[slot as usize].feeds {
            let formula = formula as usize;
            if let Some(state) = self.formulas.get_mut(formula) {
                state.fresh |= 1 << input;
                self.changed.insert(formula);
                self.changed_at = self.changed_at.max(at);
            }
        }
    }

    /// Computes whatever an input changed for.
    pub(super) fn compute(&mut self, out: &mut Effects) {
        if self.changed.is_empty() {
            return;
        }
        let at = std::mem::replace(&mut self.changed_at, Nanos::MIN);
        // What reads the result of another one has the higher index.
        while let Some(formula) = self.changed.pop_first() {
            self.evaluate(formula, at, out);
        }
        self.changed_at = Nanos::MIN;
    }

    /// Time alone changes the result of a formula.
    pub(super) fn go_on(&mut self, formula: usize, out: &mut Effects) {
        let latest = self.now.saturating_sub(BEHIND);
        let due = self.formulas[formula].running.next().unwrap_or(latest);
        self.evaluate(formula, if latest.saturating_sub(due) > CATCHES_UP { latest } else { due.min(latest) }, out);
        self.compute(out);
    }

    fn evaluate(&mut self, formula: usize, at: Nanos, out: &mut Effects) {
        let plan = self.plan.clone();
        let of = &plan.formulas[formula];
        if plan.is_idle(of) {
            return;
        }
        let state = &mut self.formulas[formula];
        let current = &self.current;
        let reading = |input: usize| {
            let input = &current[of.inputs[input] as usize];
            Reading { value: input.value.as_ref(), quality: input.quality }
        };
        let at = at.min(self.now.saturating_add(CLOCK_TOLERANCE));
        let outcome = state.running.evaluate(at, std::mem::take(&mut state.fresh), &reading);
        state.moved = true;
        self.await_formula(formula);
        let Gives::Tag(slot) = of.gives else {
            self.judge_computed(of.gives, outcome, out);
            return;
        };
        let tag = &plan.tags[slot as usize];
        let Current { value, time, quality, cause, .. } = Current::computed(outcome);
        let mut batch = Batch::default();
        match value {
            Some(value) => batch.push(tag.no, time, quality, 0, &value),
            None => batch.push_quality(tag.no, time, quality),
        }
        self.accept(&batch, batch.samples[0], out);
        let source = self.by_hand.get_mut(&tag.no).and_then(|hand| hand.source.as_mut());
        source.unwrap_or(&mut self.current[slot as usize]).cause = cause;
    }

    pub(super) fn await_formula(&mut self, formula: usize) {
        let running = &self.formulas[formula].running;
        let idle = self.plan.is_idle(&self.plan.formulas[formula]);
        let next = running.next().filter(|_| !idle && running.at() > Nanos::MIN);
        self.deadlines.set(Due::Formula(formula), next.map(|next| next.saturating_add(BEHIND)));
    }

    /// The plan is another one: formulas go on with what they remember, and what is new or changed is computed.
    pub(super) fn change_formulas(&mut self, old: &Plan) {
        let states = std::mem::take(&mut self.formulas);
        let mut known: HashMap<Owner, (usize, FormulaState)> = HashMap::new();
        for (index, state) in states.into_iter().enumerate() {
            known.insert(Owner::of(old, &old.formulas[index]), (index, state));
        }
        self.changed.clear();
        let plan = self.plan.clone();
        for (index, of) in plan.formulas.iter().enumerate() {
            let owner = Owner::of(&plan, of);
            let mut running = Running::new(of.program.clone());
            let mut fresh = 0;
            let same = match known.remove(&owner) {
                Some((before, state)) => {
                    let read = |plan: &Plan, slots: &[Slot]| slots.iter().map(|&s| plan.tags[s as usize].no).collect::<Vec<_>>();
                    let of_before = &old.formulas[before];
                    let same = of_before.program.is_same(&of.program) && read(old, &of_before.inputs) == read(&plan, &of.inputs);
                    fresh = if same { state.fresh } else { 0 };
                    running.carry(state.running);
                    same
                }
                None => {
                    if let Owner::Tag(no) = owner {
                        self.former.remove(&no).into_iter().for_each(|kept| running.restore(&kept));
                    }
                    false
                }
            };
            if let (Gives::Trigger(recorder), false) = (of.gives, same) {
                self.forget_trigger(recorder as usize);
            }
            self.formulas.push(FormulaState { running, fresh, moved: false });
            let untold = matches!(of.gives, Gives::Tag(slot) if self.current[slot as usize].told == 0);
            if !same || untold {
                self.renew(Some(index as u32));
            }
        }
    }

    /// Computes a formula though none of its inputs changed.
    pub(super) fn renew(&mut self, formula: Option<u32>) {
        let Some(formula) = formula else { return };
        self.changed.insert(formula as usize);
        self.changed_at = self.changed_at.max(self.now.saturating_sub(BEHIND));
    }

    /// Fills the windows of a formula with what was before.
    pub(super) fn begin_with(&mut self, tag: TagNo, earlier: &Running) {
        let slot = self.plan.slots.get(&tag).copied();
        let formula = slot.and_then(|slot| self.plan.tags[slot as usize].formula);
        if let Some(state) = formula.and_then(|formula| self.formulas.get_mut(formula as usize)) {
            state.running.begin_with(earlier);
            self.renew(formula);
        }
    }

    /// Tells now and then what formulas remember.
    pub(super) fn keep_sometimes(&mut self, out: &mut Effects) {
        if !self.formulas.is_empty() && (self.now < self.kept_at || self.now - self.kept_at >= KEPT_EVERY) {
            self.keep_formulas(out);
        }
    }

    pub(super) fn keep_formulas(&mut self, out: &mut Effects) {
        self.kept_at = self.now;
        for (of, state) in self.plan.formulas.iter().zip(&mut self.formulas).filter(|(_, state)| state.moved) {
            state.moved = false;
            // What a rule computes counts nothing that would have to last.
            if let Gives::Tag(slot) = of.gives {
                out.kept.extend(state.running.kept().map(|kept| (self.plan.tags[slot as usize].no, kept)));
            }
        }
    }
}
