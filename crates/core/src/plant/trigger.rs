//! Conditions at whose turning something is done: a recorder takes a row, a dispatch makes a report.

use super::{Plant, check::Wrong, kind::Checking, rule::condition_words};
use crate::formula::{Formula, Program};
use uuid::Uuid;

impl Plant {
    /// A trigger made ready; none where there is none.
    ///
    /// # Errors
    /// Everything that is wrong with it, in sentences.
    pub(crate) fn trigger_program(&self, trigger: Option<&Formula>) -> Result<Option<Program>, Vec<String>> {
        let Some(trigger) = trigger else { return Ok(None) };
        let program = self.program(trigger, "").map_err(|found| found.into_iter().map(|w| w.to_string()).collect::<Vec<_>>())?;
        match condition_words(&program, "A trigger") {
            Some(words) => Err(vec![words]),
            None => Ok(Some(program)),
        }
    }
}

/// What is wrong with the trigger of `who` (“a recorder”), which has one exactly where it does something at an event: `does` says what.
pub(super) fn check(
    trigger: Option<&Formula>,
    at_event: bool,
    (who, does): (&str, &str),
    checking: &Checking<'_>,
    wrong: &mut Wrong,
) {
    let Some(trigger) = trigger else {
        if at_event {
            wrong.push(("trigger".into(), format!("Say at what it {does}: a condition that turns true or false.")));
        }
        return;
    };
    if !at_event {
        wrong.push(("trigger".into(), format!("Only {who} at an event has a trigger.")));
    }
    // That what it names exists is seen to elsewhere.
    let there = |id: Uuid| checking.plant.tags.contains_key(&id);
    if trigger.references().all(there)
        && let Err(found) = checking.plant.trigger_program(Some(trigger))
    {
        wrong.extend(found.into_iter().map(|words| ("trigger.text".into(), words)));
    }
}
