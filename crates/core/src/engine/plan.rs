//! What the engine works from: one revision of the plant, laid out for speed.

use super::words::Words;
use crate::{
    TagNo,
    alarm::{Criterion, Handling, RuleKind, Test},
    formula::Program,
    plant::{DispatchWhen, Edge, Plant, RecordMode, RecordWhen, Role, Rule, Side, Tag, Track, Uncertain},
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
    /// How its value is recorded when it changes.
    pub record: Option<RecordRule>,
    /// The recorders with an interval that record it: index into [`Plan::recorders`], and as which of their tags.
    pub spans: Vec<(u32, u32)>,
    /// The rules that judge it as it comes: indices into [`Plan::rules`].
    pub rules: Vec<u32>,
    /// The formulas that read it: index into [`Plan::formulas`], and as which of their inputs.
    pub feeds: Vec<(u32, u8)>,
    /// The formula that computes it, as an index into [`Plan::formulas`].
    pub formula: Option<u32>,
    /// Out of service: nothing comes for it, and its rules are not there.
    pub idle: bool,
}

/// What the result of a formula is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Gives {
    /// It is the value of a tag.
    Tag(Slot),
    /// A rule judges it.
    Measure(u32),
    /// It is the level of a rule.
    Level(u32),
    /// While it is false, the alarm of a rule is suppressed by design.
    Enable(u32),
    /// When it turns, a recorder takes a row.
    Trigger(u32),
}

/// What the engine must know of a recorder. What records when values change is part of its tags ([`TagPlan::record`]).
#[derive(Clone, Debug, PartialEq)]
pub struct RecorderPlan {
    pub id: Uuid,
    pub takes: Takes,
    pub slots: Vec<Slot>,
}

/// When a recorder takes what.
#[derive(Clone, Debug, PartialEq)]
pub enum Takes {
    /// Something of each span; spans begin at whole multiples of `every` and `offset`.
    Spans { every: Nanos, offset: Nanos, keep: Vec<Track> },
    /// A row when its trigger turns.
    Rows(Edge),
    /// A row when it is told to, which every recorder does.
    Asked,
}

/// What the engine must know of a formula.
#[derive(Clone, Debug)]
pub struct FormulaPlan {
    pub gives: Gives,
    pub program: Arc<Program>,
    /// What it reads, in the order of the program's inputs. The formula of a level is worked out for the tag of its rule too, which
    /// comes last, so that both are judged as they are at one instant.
    pub inputs: Vec<Slot>,
}

/// What the engine must know of an alarm rule.
#[derive(Clone, Debug)]
pub struct RulePlan {
    pub id: Uuid,
    pub slot: Slot,
    pub criterion: Criterion,
    /// The level, where it stands fast; otherwise it is not a number.
    pub level: f64,
    /// A formula gives what is judged, or the level.
    pub computed: bool,
    /// Why the alarm is suppressed by design while the formula for that is false; none where nothing does.
    pub only_while: Option<Arc<str>>,
    /// Uncertain values are like bad ones.
    pub doubts: bool,
    pub handling: Handling,
    pub priority: u8,
    /// Its first-out group: an index into [`Plan::first_out`].
    pub first_out: Option<u32>,
    pub words: Arc<Words>,
}

/// One revision of the plant, for the engine.
#[derive(Clone, Debug, Default)]
pub struct Plan {
    pub revision: i64,
    pub tags: Vec<TagPlan>,
    pub rules: Vec<RulePlan>,
    /// The rules of each first-out group: indices into `rules`.
    pub first_out: Vec<Vec<u32>>,
    /// What is read stands before what reads it.
    pub formulas: Vec<FormulaPlan>,
    /// Recorders that run, and dispatches at an event, in the order of their identity.
    pub recorders: Vec<RecorderPlan>,
    pub slots: HashMap<TagNo, Slot>,
}

impl Plan {
    /// The index of a rule; they stand in the order of their identity.
    pub fn rule_of(&self, rule: Uuid) -> Option<usize> {
        self.rules.binary_search_by_key(&rule, |r| r.id).ok()
    }

    /// The index of a recorder.
    pub fn recorder_of(&self, recorder: Uuid) -> Option<usize> {
        self.recorders.binary_search_by_key(&recorder, |r| r.id).ok()
    }

    /// Whether a formula is not computed because its tag is out of service; the rules of such tags are not there.
    pub fn is_idle(&self, formula: &FormulaPlan) -> bool {
        matches!(formula.gives, Gives::Tag(slot) if self.tags[slot as usize].idle)
    }

    /// Lays out a plant. Tags stand in order of their number, so equal plants give equal plans.
    pub fn of(plant: &Plant) -> Plan {
        let mut items: Vec<_> = plant.tags.values().collect();
        items.sort_by_key(|t| t.no);
        let mut plan = Plan { revision: plant.revision, ..Plan::default() };
        let idle = plant.idle_places();
        let mut slot_of_id = HashMap::with_capacity(items.len());
        let record = plant.record_rules();
        for item in items {
            let slot = plan.tags.len() as Slot;
            plan.slots.insert(item.no, slot);
            slot_of_id.insert(item.id, slot);
            plan.tags.push(TagPlan {
                no: item.no,
                id: item.id,
                interval: if idle.contains(&item.set.place) { 0 } else { interval(plant, &item.set) },
                record: record.get(&item.id).copied(),
                spans: Vec::new(),
                rules: Vec::new(),
                feeds: Vec::new(),
                formula: None,
                idle: idle.contains(&item.set.place),
            });
        }
        plan.add_formulas(plant, &slot_of_id);
        let mut rules: Vec<_> = plant.rules.values().filter(|r| r.set.enabled).collect();
        rules.sort_by_key(|r| r.id);
        let mut groups: HashMap<(Uuid, String), u32> = HashMap::new();
        for rule in rules {
            let (Some(&slot), Some(tag)) = (slot_of_id.get(&rule.set.tag), plant.tags.get(&rule.set.tag)) else { continue };
            if plan.tags[slot as usize].idle {
                continue;
            }
            // The door lets nothing in that cannot be computed; a rule that a damaged plant holds judges nothing.
            let Ok(programs) = plant.rule_programs(&rule.set) else { continue };
            let index = plan.rules.len() as u32;
            let computed = programs.iter().any(|(role, _)| *role != Role::Enable);
            if !computed {
                plan.tags[slot as usize].rules.push(index);
            }
            for (role, program) in programs {
                let gives = match role {
                    Role::Measure => Gives::Measure(index),
                    Role::Level => Gives::Level(index),
                    Role::Enable => Gives::Enable(index),
                };
                plan.add_formula(gives, program, &slot_of_id, (role == Role::Level).then_some(slot));
            }
            let only_while = rule.set.only_while.as_ref();
            plan.rules.push(RulePlan {
                id: rule.id,
                slot,
                criterion: criterion(&rule.set, &tag.set),
                level: level(&rule.set),
                computed,
                only_while: only_while.map(|f| format!("only while {}", plant.formula_shown(f.text())).into()),
                doubts: rule.set.uncertain == Uncertain::Bad,
                handling: plant.handling(&rule.set),
                priority: rule.set.priority,
                first_out: plant.first_out_group(&rule.set).map(|group| {
                    let next = plan.first_out.len() as u32;
                    let group = *groups.entry(group).or_insert(next);
                    if group == next {
                        plan.first_out.push(Vec::new());
                    }
                    plan.first_out[group as usize].push(index);
                    group
                }),
                words: Words::of(plant, &rule.set, tag, &|id| slot_of_id.get(&id).copied()).into(),
            });
        }
        plan.add_recorders(plant, &slot_of_id);
        plan
    }
}

/// When the alarm of a rule comes and goes.
fn criterion(rule: &Rule, tag: &Tag) -> Criterion {
    let nanos = |seconds: f64| (seconds * SECOND as f64) as Nanos;
    let test = match (rule.kind, rule.side) {
        (RuleKind::High | RuleKind::HighHigh, _) | (RuleKind::Deviation | RuleKind::Rate, Side::Above) => Test::Above,
        (RuleKind::Low | RuleKind::LowLow, _) | (RuleKind::Deviation | RuleKind::Rate, Side::Below) => Test::Below,
        (RuleKind::Deviation | RuleKind::Rate, Side::Either) => Test::Beyond,
        (RuleKind::State, _) => Test::OneOf(rule.states.as_slice().into()),
        // What is true is 1.
        (RuleKind::Expression, _) => Test::OneOf([1].into()),
        (RuleKind::BadQuality, _) => Test::Bad,
        (RuleKind::NoChange, _) => Test::Unchanged,
    };
    Criterion { test, deadband: rule.deadband_on(tag), on_delay: nanos(rule.on_delay_s), off_delay: nanos(rule.off_delay_s) }
}

/// The level that stands fast; a deviation or a change downwards is judged against a negative one.
fn level(rule: &Rule) -> f64 {
    let level = rule.level.filter(|_| rule.level_formula.is_none()).unwrap_or(f64::NAN);
    if rule.kind.limit().is_none() && rule.side == Side::Below { -level } else { level }
}

impl Plan {
    fn add_formulas(&mut self, plant: &Plant, slot_of_id: &HashMap<Uuid, Slot>) {
        for item in plant.in_order().ready {
            let (Some(formula), Some(&slot)) = (&item.set.formula, slot_of_id.get(&item.id)) else { continue };
            // The door lets nothing in that cannot be computed; what a damaged plant holds stays without a value.
            let Ok(program) = plant.program(formula, &item.set.unit) else { continue };
            if let Some(index) = self.add_formula(Gives::Tag(slot), program, slot_of_id, None) {
                self.tags[slot as usize].formula = Some(index);
            }
        }
    }

    /// Triggers come after everything that is computed, so that a row holds the results of its instant.
    fn add_recorders(&mut self, plant: &Plant, slot_of_id: &HashMap<Uuid, Slot>) {
        let recorders = plant.recorders.values().filter(|r| r.set.running);
        let mut all: Vec<_> = recorders
            .map(|item| {
                let takes = match &item.set.when {
                    RecordWhen::Interval { every_ms, offset_ms, keep } => Takes::Spans {
                        every: Nanos::from(*every_ms).max(1) * MILLI,
                        offset: Nanos::from(*offset_ms) * MILLI,
                        keep: keep.clone(),
                    },
                    RecordWhen::Event { edge } => Takes::Rows(*edge),
                    RecordWhen::Change { .. } | RecordWhen::Hand {} => Takes::Asked,
                };
                (item.id, takes, plant.recorded_by(&item.set), item.set.trigger.as_ref())
            })
            .collect();
        // A dispatch at an event takes a row of what its report shows, so that the report shows what was at that instant.
        for item in plant.dispatches.values().filter(|d| d.set.running) {
            if let DispatchWhen::Event { edge } = item.set.when {
                all.push((item.id, Takes::Rows(edge), plant.dispatched_tags(&item.set), item.set.trigger.as_ref()));
            }
        }
        all.sort_by_key(|(id, ..)| *id);
        for (id, takes, tags, trigger) in all {
            let index = self.recorders.len() as u32;
            let slots: Vec<Slot> = tags.into_iter().filter_map(|tag| slot_of_id.get(&tag.id).copied()).collect();
            if let Takes::Spans { .. } = takes {
                for (place, &slot) in slots.iter().enumerate() {
                    self.tags[slot as usize].spans.push((index, place as u32));
                }
            }
            // The door lets nothing in that cannot be computed; a trigger that a damaged plant holds never turns.
            if let (Takes::Rows(_), Ok(Some(program))) = (&takes, plant.trigger_program(trigger)) {
                self.add_formula(Gives::Trigger(index), program, slot_of_id, None);
            }
            self.recorders.push(RecorderPlan { id, takes, slots });
        }
    }

    fn add_formula(
        &mut self,
        gives: Gives,
        program: Program,
        slot_of_id: &HashMap<Uuid, Slot>,
        beside: Option<Slot>,
    ) -> Option<u32> {
        let mut inputs: Vec<Slot> = program.inputs.iter().map(|id| slot_of_id.get(id).copied()).collect::<Option<_>>()?;
        inputs.extend(beside);
        let index = self.formulas.len() as u32;
        for (input, &read) in inputs.iter().enumerate() {
            self.tags[read as usize].feeds.push((index, input as u8));
        }
        self.formulas.push(FormulaPlan { gives, program: program.into(), inputs });
        Some(index)
    }
}

fn interval(plant: &Plant, tag: &Tag) -> Nanos {
    let connection = tag.connection.and_then(|id| plant.connections.get(&id));
    connection.map_or(0, |c| Nanos::from(c.set.interval_of(tag.group)) * MILLI)
}
