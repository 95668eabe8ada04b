//! What is recorded of the tags of an alarm rule, for backtests.

use crate::{Live, LiveError};
use havrel_core::{
    TagNo,
    plant::{Plant, Rule},
    time::Nanos,
    trial::Told,
};

/// Most recorded values that a backtest goes through.
pub const MOST_RECORDED: usize = 1_000_000;

impl Live {
    /// Everything that is recorded of the tags that a rule reads, in the order of time, with what held at the beginning in front.
    ///
    /// # Errors
    /// When it is more than a backtest goes through, or the database does not answer.
    pub async fn recorded(&self, plant: &Plant, rule: &Rule, from: Nanos, to: Nanos) -> Result<Vec<Told>, LiveError> {
        let tags: Vec<TagNo> = plant.judged_tags(rule).iter().map(|tag| tag.no).collect();
        let mut told: Vec<Told> = Vec::new();
        let show = |index: usize, kept: havrel_db::answers::Kept| {
            told.push(Told { at: kept.time.max(from), tag: tags[index], value: kept.value, quality: kept.quality });
            told.len() <= MOST_RECORDED
        };
        self.db.in_order(&tags, from, to, true, show).await?;
        if told.len() > MOST_RECORDED {
            return Err(LiveError::Refused(
                "More than 1,000,000 values are recorded in this period; choose a shorter one.".into(),
            ));
        }
        Ok(told)
    }
}
