//! A new plan takes the place of the running one.

use super::{Current, Effects, Engine, Plan, RuleState, Slot, judge::withdraw, record::Recorded};
use crate::{
    alarm::AlarmStanding,
    quality::{Quality, Reason},
    sample::Batch,
};
use std::{collections::HashMap, sync::Arc};
use uuid::Uuid;

impl Engine {
    pub(super) fn change_plan(&mut self, plan: Arc<Plan>, out: &mut Effects) {
        // Plans are made beside each other; an older one that comes late is no news.
        if plan.revision < self.plan.revision {
            return;
        }
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
        let mut lives: HashMap<Uuid, (RuleState, usize)> = HashMap::new();
        for (index, live) in std::mem::take(&mut self.rules).into_iter().enumerate() {
            lives.insert(live.standing.rule, (live, index));
        }
        for rule in &plan.rules {
            let mut live = match lives.remove(&rule.id) {
                Some((mut live, index)) => {
                    // What a delay proved of something else counts for nothing.
                    if old.rules[index].criterion.test != rule.criterion.test {
                        live.forget(out);
                    }
                    live
                }
                None => RuleState::of(self.resting.remove(&rule.id).unwrap_or_else(|| AlarmStanding::quiet(rule.id))),
            };
            // A level that a formula gives holds until the formula gives another.
            if !rule.level.is_nan() {
                live.level = rule.level;
            }
            self.rules.push(live);
        }
        // Rules that are gone: what stood is withdrawn, and how far they had counted is kept.
        let mut gone: Vec<_> = lives.into_values().collect();
        gone.sort_by_key(|(_, index)| *index);
        for (mut live, index) in gone {
            withdraw(&mut live.standing, Some(&old.rules[index]), self.now, out);
            self.resting.insert(live.standing.rule, live.standing);
        }
        let mut resting: Vec<_> = self.resting.values_mut().filter(|s| !s.state.is_normal()).collect();
        resting.sort_by_key(|s| s.rule);
        resting.into_iter().for_each(|standing| withdraw(standing, None, self.now, out));
        self.change_recorders(&old);
        self.change_formulas(&old);
        for (index, rule) in plan.rules.iter().enumerate() {
            if rule.only_while.is_none() {
                self.enable(index, true, self.now, out);
            }
        }
        self.await_all();
        self.tell_service(out);
        self.keep_by_hand(out);
        // New limits count at once, on the values that are there.
        for slot in 0..plan.tags.len() as Slot {
            out.changed.push(slot);
            let current = &self.current[slot as usize];
            let known = current.usable().is_some() || current.told != 0;
            if !plan.tags[slot as usize].rules.is_empty() && known {
                self.judge(slot, self.now, out);
            }
        }
    }

    /// Marks what went out of service, for history too; what came back has not been read yet.
    fn tell_service(&mut self, out: &mut Effects) {
        let plan = self.plan.clone();
        for (slot, tag) in plan.tags.iter().enumerate() {
            let told = self.current[slot].quality.reason() == Reason::OutOfService;
            if tag.idle && !told {
                self.before_change(slot as Slot, self.now, out);
                let current = &mut self.current[slot];
                (current.quality, current.cause) = (Quality::of(Reason::OutOfService), None);
                (current.told, current.epoch) = (self.now, self.epoch);
                let mut batch = Batch::default();
                batch.push_quality(tag.no, self.now, current.quality);
                self.record(slot as Slot, &batch, batch.samples[0], out);
                self.feed(slot as Slot, self.now);
            } else if !tag.idle && told {
                self.current[slot].quality = Quality::of(Reason::NotRead);
                self.renew(tag.formula);
                self.feed(slot as Slot, self.now);
            }
        }
    }
}
