//! The priority of a rule, argued for: what happens where nobody acts, how soon somebody must, and who has checked that.

use super::Rule;
use crate::plant::{
    check::{self, Wrong},
    guide::{Guide, LEVELS},
};
use serde::{Deserialize, Serialize};

/// Somebody has checked a rule.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Checked {
    pub by: String,
    /// When, as RFC 3339.
    pub at: String,
    /// What the settings of the rule were then: [`Rule::mark`].
    pub mark: String,
}

impl Rule {
    /// The priority that the site's guide gives, 0 where no alarm is due; none where it is not argued for.
    pub fn argued(&self, guide: &Guide) -> Option<u8> {
        let within = self.respond_min?;
        Some(guide.priority(&self.consequences, within).unwrap_or(super::RECORDED_ONLY))
    }

    /// Whether it has another priority than the guide gives.
    pub fn is_overruled(&self, guide: &Guide) -> bool {
        self.argued(guide).is_some_and(|argued| argued != self.priority)
    }

    /// Stands for all of its settings, so that another one of them gives another mark.
    pub fn mark(&self) -> String {
        let unchecked = Rule { checked: None, ..self.clone() };
        let text = serde_json::to_vec(&unchecked).unwrap_or_default();
        format!("{:08x}", crc32fast::hash(&text))
    }

    /// Whether somebody has checked it as it is.
    pub fn is_checked(&self) -> bool {
        self.checked.as_ref().is_some_and(|checked| checked.mark == self.mark())
    }

    pub(super) fn check_argument(&self, guide: &Guide, wrong: &mut Wrong) {
        check::text(wrong, "if_ignored", &self.if_ignored);
        check::text(wrong, "overruled", &self.overruled);
        for (concern, level) in self.consequences.each() {
            let name = serde_json::to_value(concern).ok().and_then(|name| name.as_str().map(str::to_owned));
            check::between(wrong, &format!("consequences.{}", name.unwrap_or_default()), level, 0, LEVELS);
        }
        if let Some(within) = self.respond_min {
            check::between(wrong, "respond_min", within, 0.1, 10_080.0);
        }
        if self.enabled && self.overruled.trim().is_empty() && self.is_overruled(guide) {
            let words = match self.argued(guide) {
                Some(super::RECORDED_ONLY) | None => {
                    "By the guide no alarm is due, as nothing happens where nobody acts. Take priority 0, or say why this rule has another.".to_owned()
                }
                Some(priority) => {
                    format!("The guide gives priority {priority}. Take that, or say why this rule has another.")
                }
            };
            wrong.push(("overruled".into(), words));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plant::guide::Consequences;
    use rstest::rstest;
    use serde_json::json;

    fn rule(priority: u8) -> Rule {
        let mut rule: Rule =
            serde_json::from_value(json!({"tag": uuid::Uuid::nil(), "kind": "high", "level": 5, "priority": priority})).unwrap();
        rule.consequences = Consequences { equipment: 2, ..Consequences::default() };
        rule.respond_min = Some(10.0);
        rule
    }

    #[rstest]
    #[case::as_the_guide_has_it(rule(2), &[])]
    #[case::another_one_needs_a_reason(rule(4), &["overruled"])]
    #[case::it_has_one(Rule { overruled: "the spare takes a year".into(), ..rule(4) }, &[])]
    #[case::off(Rule { enabled: false, ..rule(4) }, &[])]
    #[case::not_argued(Rule { respond_min: None, ..rule(4) }, &[])]
    #[case::no_alarm_is_due(Rule { consequences: Consequences::default(), ..rule(1) }, &["overruled"])]
    #[case::beyond(Rule { respond_min: Some(0.0), consequences: Consequences { quality: 4, ..Consequences::default() }, priority: 4, ..rule(4) },
        &["consequences.quality", "respond_min"])]
    fn an_argument_is_held_against_the_guide(#[case] rule: Rule, #[case] fields: &[&str]) {
        let mut wrong = Wrong::new();
        rule.check_argument(&Guide::default(), &mut wrong);
        let told: Vec<String> = wrong
            .into_iter()
            .map(|(field, _)| field)
            .filter(|field| field != "overruled" || fields.contains(&"overruled"))
            .collect();
        assert_eq!(told, fields);
    }

    #[test]
    fn a_check_holds_until_something_changes() {
        let mut rule = rule(2);
        assert!(!rule.is_checked());
        rule.checked = Some(Checked { by: "Process engineer".into(), at: "2026-11-30T09:00:00Z".into(), mark: rule.mark() });
        assert!(rule.is_checked());
        assert!(!Rule { on_delay_s: 5.0, ..rule.clone() }.is_checked());
        assert!(!Rule { action: "Stop the feed.".into(), ..rule }.is_checked());
    }
}
