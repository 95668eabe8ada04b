//! Who may be told of a call at an instant: by quiet hours, and by the shift pattern at the place.

use super::{Call, message};
use crate::{
    plant::{
        CallPlan, Plant,
        shifts::{OnShift, ShiftPattern},
        week::Hours,
    },
    time::Nanos,
};

/// The highest priority, for which quiet hours do not count.
pub const URGENT: u8 = 4;

/// Why somebody is not told now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LeftOut {
    pub why: String,
    /// When they may be told at the earliest, where time alone brings that.
    pub until: Option<Nanos>,
}

impl LeftOut {
    /// For a reason that does not go by itself.
    pub fn of(why: impl Into<String>) -> LeftOut {
        LeftOut { why: why.into(), until: None }
    }
}

/// Whether somebody whose `hours` these are may be told now of an alarm of this `priority`.
///
/// # Errors
/// Until when they may not, where they ever may.
pub fn may_be_told(priority: u8, hours: &Hours, now: Nanos) -> Result<(), Option<Nanos>> {
    if priority >= URGENT || hours.cover(now) { Ok(()) } else { Err(hours.next(now)) }
}

/// The crew at work at the place of the most urgent alarm; of what is at no place, at the plan's.
///
/// # Errors
/// Why there is none.
pub fn crew_on_shift<'a>(plant: &'a Plant, plan: &CallPlan, call: &Call, now: Nanos) -> Result<OnShift<'a>, LeftOut> {
    let of_alarm = message::in_order(call).into_iter().find_map(|(rule, _)| {
        let rule = plant.rules.get(&rule)?;
        Some(plant.tags.get(&rule.set.tag)?.set.place)
    });
    let pattern: Option<&ShiftPattern> = match of_alarm.or(plan.under) {
        Some(place) => plant.shifts_of(place).map(|item| &item.set),
        // Where the whole site works by one pattern, there is no doubt.
        None => {
            Some(plant.shift_patterns.values()).filter(|all| all.len() == 1).and_then(|mut all| all.next()).map(|item| &item.set)
        }
    };
    let pattern = pattern.ok_or_else(|| LeftOut::of("no shift pattern at the place"))?;
    let nobody = || LeftOut { why: "no crew is on shift".into(), until: pattern.next_shift(now) };
    pattern.on_shift(now).ok_or_else(nobody)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::time::SECOND;
    use rstest::rstest;

    const HOUR: Nanos = 3600 * SECOND;

    #[rstest]
    #[case::always(serde_json::json!({}), 1, Ok(()))]
    #[case::within_the_hours(serde_json::json!({"windows": [{"days": ["thursday"], "from": "00:00", "to": "12:00"}]}), 1, Ok(()))]
    #[case::in_quiet_hours(serde_json::json!({"windows": [{"days": ["thursday"], "from": "12:00", "to": "13:00"}]}), 3, Err(Some(12 * HOUR)))]
    #[case::most_urgent(serde_json::json!({"windows": [{"days": ["thursday"], "from": "12:00", "to": "13:00"}]}), 4, Ok(()))]
    #[case::never_again(serde_json::json!({"windows": [{"days": [], "from": "12:00", "to": "13:00"}]}), 3, Err(None))]
    fn quiet_hours_hold_back_all_but_the_highest_priority(
        #[case] hours: serde_json::Value,
        #[case] priority: u8,
        #[case] told: Result<(), Option<Nanos>>,
    ) {
        // The instant 0 is a Thursday at midnight.
        let hours: Hours = serde_json::from_value(hours).unwrap();
        assert_eq!(may_be_told(priority, &hours, 0), told);
    }
}
