//! What the engine works from: one revision of the plant, laid out for speed.

use crate::{
    TagNo,
    alarm::{Handling, Limit},
    formula::Program,
    number::Number,
    plant::{Item, Plant, RecordMode, States, Tag},
    time::{MILLI, Nanos, SECOND},
};
use std::{collections::HashMap, sync::Arc};
use uuid::Uuid;

/// Place of a tag in the engine's tables; private to one process and one plan.
pub type Slot = u32;

/// When to store a tag's value.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RecordRule {
    pub mode: RecordMode,
    /// In engineering units.
    pub deadband: f64,
}

impl RecordRule {
    /// As a tag is recorded.
    pub fn of(tag: &Tag) -> RecordRule {
        RecordRule { mode: tag.record_mode, deadband: tag.record_deadband }
    }
}

/// What the engine must know of a tag.
#[derive(Clone, Debug)]
pub struct TagPlan {
    pub no: TagNo,
    pub id: Uuid,
    /// How often a value should come; 0 where nothing reads it.
    pub interval: Nanos,
    pub record: Option<RecordRule>,
    /// Indices into [`Plan::rules`].
    pub rules: Vec<u32>,
    /// The formulas that read it: index into [`Plan::formulas`], and as which of their inputs.
    pub feeds: Vec<(u32, u8)>,
    /// The formula that computes it, as an index into [`Plan::formulas`].
    pub formula: Option<u32>,
    /// Out of service: nothing comes for it, and its rules are not there.
    pub idle: bool,
}

/// What the engine must know of a formula.
#[derive(Clone, Debug)]
pub struct FormulaPlan {
    /// The tag that it computes.
    pub slot: Slot,
    pub program: Arc<Program>,
    /// What it reads, in the order of the program's inputs.
    pub inputs: Vec<Slot>,
}

/// What the engine must know of an alarm rule.
#[derive(Clone, Debug)]
pub struct RulePlan {
    pub id: Uuid,
    pub slot: Slot,
    pub limit: Limit,
    pub handling: Handling,
    pub priority: u8,
    /// The tag's name, which begins the text.
    pub name: String,
    pub unit: String,
    pub decimals: u8,
    /// Names for the tag's numbers.
    pub states: Option<Arc<Item<States>>>,
}

impl RulePlan {
    /// What the list says when the alarm comes: “Temperature high, 84.6 °C over 82.0”, or “Pump is Tripped”.
    pub fn text(&self, value: Number) -> String {
        if let Some(state) = self.states.as_ref().and_then(|s| s.set.name_of(value.float())) {
            return format!("{} is {state}", self.name);
        }
        let print = |v: Number| v.print(self.decimals);
        let unit = if self.unit.is_empty() { String::new() } else { format!(" {}", self.unit) };
        let side = if self.limit.kind.is_high() { "over" } else { "under" };
        let (name, kind) = (&self.name, self.limit.kind.words());
        format!("{name} {kind}, {}{unit} {side} {}", print(value), print(self.limit.level.into()))
    }

    /// The same for a tag that is on or off: “Pump tripped is on”.
    pub fn switch_text(&self) -> String {
        let on = self.limit.kind.is_high();
        let named = self.states.as_ref().and_then(|s| s.set.name_of(f64::from(u8::from(on))));
        format!("{} is {}", self.name, named.unwrap_or(if on { "on" } else { "off" }))
    }
}

/// One revision of the plant, for the engine.
#[derive(Clone, Debug, Default)]
pub struct Plan {
    pub revision: i64,
    pub tags: Vec<TagPlan>,
    pub rules: Vec<RulePlan>,
    /// What is read stands before what reads it.
    pub formulas: Vec<FormulaPlan>,
    pub slots: HashMap<TagNo, Slot>,
}

impl Plan {
    /// The index of a rule; they stand in the order of their identity.
    pub fn rule_of(&self, rule: Uuid) -> Option<usize> {
        self.rules.binary_search_by_key(&rule, |r| r.id).ok()
    }

    /// Lays out a plant. Tags stand in order of their number, so equal plants give equal plans.
    pub fn of(plant: &Plant) -> Plan {
        let mut items: Vec<_> = plant.tags.values().collect();
        items.sort_by_key(|t| t.no);
        let mut plan = Plan { revision: plant.revision, ..Plan::default() };
        let idle = plant.idle_places();
        let mut slot_of_id = HashMap::with_capacity(items.len());
        for item in items {
            let slot = plan.tags.len() as Slot;
            plan.slots.insert(item.no, slot);
            slot_of_id.insert(item.id, slot);
            plan.tags.push(TagPlan {
                no: item.no,
                id: item.id,
                interval: if idle.contains(&item.set.place) { 0 } else { interval(plant, &item.set) },
                record: item.set.record.then(|| RecordRule::of(&item.set)),
                rules: Vec::new(),
                feeds: Vec::new(),
                formula: None,
                idle: idle.contains(&item.set.place),
            });
        }
        plan.add_formulas(plant, &slot_of_id);
        let mut rules: Vec<_> = plant.rules.values().filter(|r| r.set.enabled).collect();
        rules.sort_by_key(|r| r.id);
        for rule in rules {
            let (Some(&slot), Some(tag)) = (slot_of_id.get(&rule.set.tag), plant.tags.get(&rule.set.tag)) else { continue };
            if plan.tags[slot as usize].idle {
                continue;
            }
            plan.tags[slot as usize].rules.push(plan.rules.len() as u32);
            plan.rules.push(RulePlan {
                id: rule.id,
                slot,
                limit: Limit {
                    kind: rule.set.kind,
                    level: rule.set.level,
                    deadband: rule.set.deadband,
                    on_delay: (rule.set.on_delay_s * SECOND as f64) as Nanos,
                    off_delay: (rule.set.off_delay_s * SECOND as f64) as Nanos,
                },
                handling: rule.set.handling(),
                priority: rule.set.priority,
                name: tag.set.name.clone(),
                unit: tag.set.unit.clone(),
                decimals: tag.set.decimals,
                states: tag.set.states.and_then(|id| plant.states.get(&id)).cloned(),
            });
        }
        plan
    }
}

impl Plan {
    fn add_formulas(&mut self, plant: &Plant, slot_of_id: &HashMap<Uuid, Slot>) {
        for item in plant.in_order().ready {
            let (Some(formula), Some(&slot)) = (&item.set.formula, slot_of_id.get(&item.id)) else { continue };
            let inputs: Option<Vec<Slot>> = formula.references().map(|id| slot_of_id.get(&id).copied()).collect();
            // The door lets nothing in that cannot be computed; what a damaged plant holds stays without a value.
            let (Some(inputs), Ok(program)) = (inputs, plant.program(formula, &item.set.unit)) else { continue };
            for (input, &read) in inputs.iter().enumerate() {
                self.tags[read as usize].feeds.push((self.formulas.len() as u32, input as u8));
            }
            self.tags[slot as usize].formula = Some(self.formulas.len() as u32);
            self.formulas.push(FormulaPlan { slot, program: program.into(), inputs });
        }
    }
}

fn interval(plant: &Plant, tag: &Tag) -> Nanos {
    let connection = tag.connection.and_then(|id| plant.connections.get(&id));
    connection.map_or(0, |c| Nanos::from(c.set.interval_of(tag.group)) * MILLI)
}
