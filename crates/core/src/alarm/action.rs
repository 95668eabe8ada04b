//! What a person does about alarms, and when it can be done.

use super::Suppression;
use crate::time::{Nanos, SECOND};

/// Longest time for which an alarm can be shelved: ISA-18.2-2016 clause 11 asks that shelving ends by itself.
pub const LONGEST_SHELVED: Nanos = 7 * 86_400 * SECOND;
/// Most characters of a comment.
pub const LONGEST_COMMENT: usize = 1000;

/// What a person does about alarms.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AlarmAction {
    Acknowledge,
    /// Lets go of latched conditions.
    Reset,
    /// Keeps them from the operator until `until`, or until somebody lifts it.
    Suppress(Suppression, Option<Nanos>),
    Lift(Suppression),
}

impl AlarmAction {
    /// Whether it can be done at `now` with this comment, which is the reason where an alarm is kept from the operator.
    ///
    /// # Errors
    /// What is wrong, with the field that it concerns: `until` or `comment`.
    pub fn check(self, now: Nanos, comment: &str) -> Result<(), (&'static str, &'static str)> {
        if comment.chars().count() > LONGEST_COMMENT {
            return Err(("comment", "A comment has at most 1,000 characters."));
        }
        let AlarmAction::Suppress(kind, until) = self else { return Ok(()) };
        if comment.trim().is_empty() {
            return Err(("comment", "Enter the reason: others see it beside the alarm."));
        }
        match until {
            None if kind == Suppression::Shelved => Err(("until", "Choose when shelving ends.")),
            Some(until) if until <= now => Err(("until", "This time is over; choose one that is still to come.")),
            Some(until) if kind == Suppression::Shelved && until - now > LONGEST_SHELVED => {
                Err(("until", "An alarm is shelved for at most 7 days; for longer, take it out of service."))
            }
            _ => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const HOUR: Nanos = 3600 * SECOND;
    const SHELVE: fn(Option<Nanos>) -> AlarmAction = |until| AlarmAction::Suppress(Suppression::Shelved, until);

    #[rstest]
    #[case::plain(AlarmAction::Acknowledge, "", None)]
    #[case::lifting_needs_no_reason(AlarmAction::Lift(Suppression::Shelved), "", None)]
    #[case::shelved(SHELVE(Some(HOUR)), "probe is cleaned", None)]
    #[case::at_most_so_long(SHELVE(Some(LONGEST_SHELVED)), "probe is cleaned", None)]
    #[case::too_long(SHELVE(Some(LONGEST_SHELVED + 1)), "probe is cleaned", Some("until"))]
    #[case::without_end(SHELVE(None), "probe is cleaned", Some("until"))]
    #[case::over(SHELVE(Some(0)), "probe is cleaned", Some("until"))]
    #[case::no_reason(SHELVE(Some(HOUR)), "  ", Some("comment"))]
    #[case::out_of_service(AlarmAction::Suppress(Suppression::OutOfService, None), "valve is away", None)]
    #[case::out_of_service_until_the_past(AlarmAction::Suppress(Suppression::OutOfService, Some(-1)), "x", Some("until"))]
    fn what_can_be_done(#[case] action: AlarmAction, #[case] comment: &str, #[case] wrong: Option<&str>) {
        assert_eq!(action.check(0, comment).err().map(|(field, _)| field), wrong);
    }

    #[test]
    fn a_comment_has_an_end() {
        assert!(AlarmAction::Acknowledge.check(0, &"a".repeat(LONGEST_COMMENT)).is_ok());
        assert!(AlarmAction::Acknowledge.check(0, &"a".repeat(LONGEST_COMMENT + 1)).is_err());
    }
}
