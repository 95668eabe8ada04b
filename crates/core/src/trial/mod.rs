//! An alarm rule at work apart from the running plant, by the engine's very own code: on made-up values ([`shape`]), or on
//! recorded ones, of which [`judged`] counts what came of it and [`calmer`] looks for settings that would calm it.

pub mod calmer;
pub mod judged;
pub mod shape;

use crate::{
    TagNo,
    alarm::AlarmEvent,
    engine::{Effects, Engine, Input, Plan},
    plant::{Item, Place, Plant, Rule, Tag},
    quality::Quality,
    sample::{Batch, Value},
    time::Nanos,
};
use std::{collections::HashMap, sync::Arc};
use uuid::Uuid;

/// What was told of a tag.
#[derive(Clone, Debug, PartialEq)]
pub struct Told {
    pub at: Nanos,
    pub tag: TagNo,
    /// None: only the quality was told.
    pub value: Option<Value>,
    pub quality: Quality,
}

/// One alarm rule at work.
pub struct Trial {
    engine: Engine,
    batch: Batch,
    out: Effects,
    at: Nanos,
}

impl Plant {
    /// The tags on which the alarms of a rule depend: its own first.
    pub fn judged_tags(&self, rule: &Rule) -> Vec<&Arc<Item<Tag>>> {
        let read = self.rule_reads(rule).into_iter().filter(|id| *id != rule.tag);
        std::iter::once(rule.tag).chain(read).filter_map(|id| self.tags.get(&id)).collect()
    }

    /// These, and those that its message names and whose values go with its events.
    pub fn trial_tags(&self, rule: &Rule) -> Vec<&Arc<Item<Tag>>> {
        let mut all = self.judged_tags(rule);
        for named in self.rule_names(rule).iter().filter_map(|id| self.tags.get(id)) {
            if all.iter().all(|tag| tag.id != named.id) {
                all.push(named);
            }
        }
        all
    }

    /// A rule and its tags alone, all of it in service, and nothing computed: what is told counts.
    fn alone(&self, rule: &Rule) -> Plant {
        let tag = |item: &Arc<Item<Tag>>| {
            let set = Tag { formula: None, record: false, ..item.set.clone() };
            (item.id, Arc::new(Item { set, ..item.as_ref().clone() }))
        };
        let tags: HashMap<Uuid, Arc<Item<Tag>>> = self.trial_tags(rule).into_iter().map(tag).collect();
        let place = |item: &Arc<Item<Place>>| {
            let set = Place { in_service: true, ..item.set.clone() };
            (item.id, Arc::new(Item { set, ..item.as_ref().clone() }))
        };
        let mut places: HashMap<Uuid, Arc<Item<Place>>> = HashMap::new();
        for tag in tags.values() {
            let mut at = Some(tag.set.place);
            while let Some(item) = at.and_then(|id| self.places.get(&id)).filter(|item| !places.contains_key(&item.id)) {
                places.extend([place(item)]);
                at = item.set.parent;
            }
        }
        let set = Rule { enabled: true, class_rule: None, ..rule.clone() };
        let item = Item { id: Uuid::nil(), no: 0, revision: 1, own: Default::default(), set };
        Plant {
            revision: 1,
            tags: Arc::new(tags),
            places: Arc::new(places),
            rules: Arc::new(HashMap::from([(item.id, Arc::new(item))])),
            states: self.states.clone(),
            connections: self.connections.clone(),
            layouts: self.layouts.clone(),
            ..Plant::default()
        }
    }
}

impl Trial {
    /// Begins at an instant.
    pub fn of(plant: &Plant, rule: &Rule, from: Nanos) -> Trial {
        let mut trial = Trial { engine: Engine::new(Vec::new()), batch: Batch::default(), out: Effects::default(), at: from };
        trial.engine.step(from, Input::Plan(Arc::new(Plan::of(&plant.alone(rule)))), &mut trial.out);
        trial
    }

    /// Something is told of a tag; instants must not run backwards.
    pub fn tell(&mut self, told: &Told) {
        if told.at > self.at {
            self.flush();
            self.at = told.at;
        }
        match &told.value {
            Some(value) => self.batch.push(told.tag, told.at, told.quality, 0, value),
            None => self.batch.push_quality(told.tag, told.at, told.quality),
        }
    }

    /// What belongs to one instant counts together, behind whatever ended by itself before it.
    fn flush(&mut self) {
        if self.batch.is_empty() {
            return;
        }
        self.pass(self.at);
        self.engine.step(self.at, Input::Samples(&self.batch), &mut self.out);
        self.batch.samples.clear();
        self.batch.text.clear();
        // Only events matter here.
        self.out.changed.clear();
        self.out.states.clear();
    }

    fn pass(&mut self, until: Nanos) {
        while let Some(due) = self.engine.next_due().filter(|due| *due <= until) {
            self.engine.step(due, Input::Tick, &mut self.out);
        }
    }

    /// Everything that happened until an instant.
    pub fn finish(mut self, until: Nanos) -> Vec<AlarmEvent> {
        self.flush();
        self.pass(until);
        self.out.events
    }

    /// Everything that comes of a rule on what was told, until an instant.
    pub fn run(plant: &Plant, rule: &Rule, told: &[Told], (from, until): (Nanos, Nanos)) -> Vec<AlarmEvent> {
        let mut trial = Trial::of(plant, rule, from);
        told.iter().for_each(|one| trial.tell(one));
        trial.finish(until)
    }
}

#[cfg(test)]
mod tests;
