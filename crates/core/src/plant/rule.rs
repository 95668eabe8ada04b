//! Alarm rules.

use super::{
    Item, Kind, Plant, Settings, Table,
    check::{self, Wrong},
    kind::{Checking, Reference},
};
use crate::alarm::LimitKind;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// An alarm rule: one limit on one tag.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rule {
    pub tag: Uuid,
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
    #[serde(default)]
    pub cause: String,
    /// What the operator should do.
    #[serde(default)]
    pub action: String,
}

impl Settings for Rule {
    const KIND: Kind = Kind::Rule;

    fn table(plant: &Plant) -> &Table<Rule> {
        &plant.rules
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Rule> {
        &mut plant.rules
    }

    /// A tag has each kind of limit once.
    fn known(&self) -> (Option<Uuid>, &str) {
        (Some(self.tag), self.kind.words())
    }

    fn clash(name: &str) -> (&'static str, String) {
        ("kind", format!("The tag already has a {name} limit."))
    }

    fn title(item: &Item<Rule>, plant: &Plant) -> String {
        let tag = plant.tags.get(&item.set.tag).map_or_else(String::new, |t| plant.tag_path(&t.set));
        format!("{tag} {}", item.set.kind.words())
    }

    /// From the lowest limit to the highest.
    fn order(&self) -> f64 {
        self.level
    }

    fn references(&self) -> Vec<Reference> {
        vec![Reference::inside("tag", Kind::Tag, self.tag)]
    }

    fn check(item: &Item<Rule>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let set = &item.set;
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
