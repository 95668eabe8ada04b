//! Alarm rules.

use super::{
    Item, Kind, Plant, Settings, Table,
    check::{self, Wrong},
    kind::{Checking, Reference},
};
use crate::alarm::{Handling, LimitKind};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// An alarm rule: a limit on a tag.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rule {
    pub tag: Uuid,
    /// The rule that it is of its tag's property.
    #[serde(default)]
    pub class_rule: Option<Uuid>,
    /// What it is known by among the rules of its tag; empty for the plain limit of its kind, which each tag has once.
    #[serde(default)]
    pub name: String,
    pub kind: LimitKind,
    /// The limit, in the tag's engineering unit.
    pub level: f64,
    /// 4 = act now, 3 = act soon, 2 = this shift, 1 = for the record.
    #[serde(default = "two")]
    pub priority: u8,
    #[serde(default)]
    pub deadband: f64,
    /// Seconds, 0 to 86,400.
    #[serde(default)]
    pub on_delay_s: f64,
    #[serde(default)]
    pub off_delay_s: f64,
    #[serde(default = "yes")]
    pub enabled: bool,
    /// The alarm asks to be acknowledged.
    #[serde(default = "yes")]
    pub acknowledge: bool,
    /// Once it has come, the alarm holds until somebody resets it.
    #[serde(default)]
    pub latch: bool,
    #[serde(default)]
    pub cause: String,
    /// What the operator should do.
    #[serde(default)]
    pub action: String,
}

impl Rule {
    /// What it asks for when its alarm comes and goes.
    pub fn handling(&self) -> Handling {
        Handling { acknowledge: self.acknowledge, latch: self.latch }
    }

    /// What it is known by among the rules of its tag: “high”, or its own name.
    pub fn known_as(&self) -> &str {
        if self.name.is_empty() { self.kind.words() } else { &self.name }
    }

    /// Whether it is a rule of the equipment class that this equipment does without: it stays, switched off.
    pub fn is_left_out(&self) -> bool {
        self.class_rule.is_some() && !self.enabled
    }
}

impl Settings for Rule {
    const KIND: Kind = Kind::Rule;
    const LAYERED: &'static [&'static str] = &["class_rule"];
    const ALONE: &'static [&'static str] = &["tag", "class_rule", "kind", "level"];

    fn table(plant: &Plant) -> &Table<Rule> {
        &plant.rules
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Rule> {
        &mut plant.rules
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (Some(self.tag), self.known_as())
    }

    fn clash(name: &str) -> (&'static str, String) {
        ("name", format!("The tag already has an alarm rule “{name}”; give this one a name of its own."))
    }

    fn title(item: &Item<Rule>, plant: &Plant) -> String {
        let tag = plant.tags.get(&item.set.tag).map_or_else(String::new, |t| plant.tag_path(&t.set));
        format!("{tag} {}", item.set.known_as())
    }

    /// From the lowest limit to the highest.
    fn order(&self) -> f64 {
        self.level
    }

    fn references(&self) -> Vec<Reference> {
        vec![Reference::inside("tag", Kind::Tag, self.tag)]
    }

    fn check(item: &Item<Rule>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let (set, plant) = (&item.set, checking.plant);
        if let Some(rule) = set.class_rule {
            let tag = plant.tags.get(&set.tag);
            let said = tag.and_then(|tag| plant.class_of(tag.set.place)?.properties.get(&tag.set.property?));
            if !said.is_some_and(|said| said.rules.contains_key(&rule)) {
                wrong.push(("class_rule".into(), "The class of the equipment has no such alarm rule.".into()));
                return;
            }
        }
        if !set.name.is_empty() {
            check::name(wrong, &set.name);
            if LimitKind::ALL.iter().any(|kind| kind.words().eq_ignore_ascii_case(&set.name)) {
                wrong.push(("name".into(), "This is how the plain limits are called; enter another name, or none.".into()));
            }
        }
        check::between(wrong, "priority", set.priority, 1, 4);
        check::between(wrong, "level", set.level, f64::MIN, f64::MAX);
        check::between(wrong, "deadband", set.deadband, 0.0, f64::MAX);
        check::between(wrong, "on_delay_s", set.on_delay_s, 0.0, 86_400.0);
        check::between(wrong, "off_delay_s", set.off_delay_s, 0.0, 86_400.0);
        check::text(wrong, "cause", &set.cause);
        check::text(wrong, "action", &set.action);
        if let Some(tag) = checking.plant.tags.get(&set.tag).filter(|tag| tag.set.holds_text(checking.plant)) {
            wrong.push(("level".into(), format!("“{}” holds text, and a limit needs numbers.", tag.set.name)));
        }
    }
}

fn yes() -> bool {
    true
}
fn two() -> u8 {
    2
}
