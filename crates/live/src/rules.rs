//! Alarm rules at work: what people do about their alarms, how they are listed, and which limits are in force.

use crate::{Live, LiveError, MOST_VIEWS, engine, kept_of};
use havrel_core::{
    access::Actor,
    alarm::{AlarmAction, LimitKind},
    plant::{
        Item, Plant, Rule,
        view::{RuleQuery, RuleView},
    },
};
use std::{
    collections::HashSet,
    sync::{Arc, PoisonError},
};
use tokio::sync::oneshot;
use uuid::Uuid;

impl Live {
    /// Does something about alarms and answers how many it was, once that is in the database, or while it is away on disk.
    ///
    /// # Errors
    /// When the disk does not take it, or the program is stopping.
    pub async fn act_on_alarms(
        &self,
        rules: Vec<Uuid>,
        action: AlarmAction,
        actor: &Actor,
        comment: String,
    ) -> Result<usize, LiveError> {
        let (reply, count) = oneshot::channel();
        let message = engine::Message::Alarms { rules, action, actor: actor.name.clone(), comment, reply };
        self.send(message).await?;
        let (count, seq) = count.await.map_err(|_| LiveError::Interrupted)?;
        self.on_disk(seq).await?;
        self.in_database(seq).await;
        Ok(count)
    }

    /// The alarm rules that a query finds in a plant as somebody sees it, in order; kept like views of tags.
    pub fn rule_view(&self, plant: &Arc<Plant>, query: RuleQuery) -> Arc<RuleView> {
        let asked = query.clone();
        let make = || {
            let values = self.values.read().unwrap_or_else(PoisonError::into_inner);
            Arc::new(RuleView::of(plant, query, &|no| values.of(no).map(|shown| &shown.current)))
        };
        kept_of(&self.rule_views, MOST_VIEWS, plant, |view| view.query == asked, make)
    }

    /// Why some alarm rules cannot work at present, in their order; none where one can.
    pub fn rule_faults(&self, plant: &Plant, rules: &[&Item<Rule>]) -> Vec<Option<String>> {
        let values = self.values.read().unwrap_or_else(PoisonError::into_inner);
        let idle = plant.idle_places();
        rules.iter().map(|rule| plant.rule_fault(rule, &idle, &|no| values.of(no).map(|shown| &shown.current))).collect()
    }

    /// What the list says of an alarm that stands.
    pub fn alarm_text(&self, rule: Uuid) -> Option<String> {
        let alarms = self.alarms.read().unwrap_or_else(PoisonError::into_inner);
        alarms.standing().into_iter().find(|s| s.rule == rule).map(|s| s.text.clone())
    }

    /// Tags with an alarm that is active or unacknowledged.
    pub(crate) fn tags_in_alarm(&self, plant: &Plant) -> HashSet<Uuid> {
        let alarms = self.alarms.read().unwrap_or_else(PoisonError::into_inner);
        let rules = alarms.standing().into_iter().filter_map(|s| plant.rules.get(&s.rule));
        rules.filter(|r| r.set.is_told()).map(|r| r.set.tag).collect()
    }

    /// The limits in force on a tag whose levels stand fast.
    pub fn limits(&self, tag: Uuid) -> Vec<(LimitKind, f64, u8)> {
        let plant = self.plant();
        let mut limits: Vec<_> = plant
            .rules
            .values()
            .filter(|r| r.set.tag == tag && r.set.enabled)
            .filter_map(|r| r.set.fixed_limit().map(|(kind, level)| (kind, level, r.set.priority)))
            .collect();
        limits.sort_by(|a, b| a.1.total_cmp(&b.1));
        limits
    }
}
