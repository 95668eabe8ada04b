//! Classes of alarms: what alarms of one sort have in common (ISA-18.2-2016, clause 6.2.4; IEC 62682:2014, clause 6).

use super::{
    Item, Kind, Plant, Rule, Settings, Table,
    check::{Wrong, between, name, text},
    kind::{Checking, Reference},
};
use crate::alarm::Handling;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// What the alarms of a class have in common.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AlarmClass {
    pub name: String,
    #[serde(default)]
    pub note: String,
    /// Somebody must acknowledge its alarms, where the rule asks for that.
    #[serde(default = "yes")]
    pub acknowledge: bool,
    /// Its alarms sound where the sound is on.
    #[serde(default = "yes")]
    pub sound: bool,
    /// Days for which the events of its alarms are kept, 1 to 36,500; always where nothing is said.
    #[serde(default)]
    pub keep_days: Option<u32>,
    #[serde(default)]
    pub order: f64,
}

impl Plant {
    /// The class of a rule's alarms.
    pub fn alarm_class(&self, rule: &Rule) -> Option<&AlarmClass> {
        rule.class.and_then(|id| self.alarm_classes.get(&id)).map(|item| &item.set)
    }

    /// What a rule asks for when its alarm comes and goes, with what its class says.
    pub fn handling(&self, rule: &Rule) -> Handling {
        let needed = self.alarm_class(rule).is_none_or(|class| class.acknowledge);
        // Nobody could acknowledge or reset what nobody is told.
        Handling { acknowledge: rule.acknowledge && needed && rule.is_told(), latch: rule.latch && rule.is_told() }
    }
}

impl Settings for AlarmClass {
    const KIND: Kind = Kind::AlarmClass;

    fn table(plant: &Plant) -> &Table<AlarmClass> {
        &plant.alarm_classes
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<AlarmClass> {
        &mut plant.alarm_classes
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (None, &self.name)
    }

    fn order(&self) -> f64 {
        self.order
    }

    fn references(&self) -> Vec<Reference> {
        Vec::new()
    }

    fn check(item: &Item<AlarmClass>, _: &Checking<'_>, wrong: &mut Wrong) {
        name(wrong, &item.set.name);
        text(wrong, "note", &item.set.note);
        if let Some(days) = item.set.keep_days {
            between(wrong, "keep_days", days, 1, 36_500);
        }
    }
}

fn yes() -> bool {
    true
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::json;

    #[rstest]
    #[case::as_the_rule_asks(json!({}), json!({"name": "Process"}), true)]
    #[case::not_needed_in_the_class(json!({}), json!({"name": "Notices", "acknowledge": false}), false)]
    #[case::not_asked_for_by_the_rule(json!({"acknowledge": false}), json!({"name": "Process"}), false)]
    #[case::nobody_is_told(json!({"priority": 0}), json!({"name": "Process"}), false)]
    fn class_and_rule_say_whether_somebody_acknowledges(
        #[case] rule: serde_json::Value,
        #[case] class: serde_json::Value,
        #[case] expected: bool,
    ) {
        let id = Uuid::from_u128(5);
        let mut plant = Plant::default();
        plant.put(Kind::AlarmClass, id, 0, 1, class.as_object().unwrap().clone()).unwrap();
        let mut own = json!({"tag": Uuid::nil(), "kind": "high", "level": 5, "class": id});
        own.as_object_mut().unwrap().extend(rule.as_object().unwrap().clone());
        let rule: Rule = serde_json::from_value(own).unwrap();
        assert_eq!(plant.handling(&rule).acknowledge, expected);
    }
}
