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

/// Whether somebody whose `hours` these are may be told now of an alarm of this `priority`.
pub fn may_be_told(priority: u8, hours: &Hours, now: Nanos) -> bool {
    priority >= URGENT || hours.cover(now)
}

/// The crew at work at the place of the most urgent alarm; of what is at no place, at the plan's.
///
/// # Errors
/// Why there is none, in words.
pub fn crew_on_shift<'a>(plant: &'a Plant, plan: &CallPlan, call: &Call, now: Nanos) -> Result<OnShift<'a>, &'static str> {
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
    pattern.ok_or("no shift pattern at the place")?.on_shift(now).ok_or("no crew is on shift")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::always(serde_json::json!({}), 1, true)]
    #[case::within_the_hours(serde_json::json!({"windows": [{"days": ["thursday"], "from": "00:00", "to": "12:00"}]}), 1, true)]
    #[case::in_quiet_hours(serde_json::json!({"windows": [{"days": ["thursday"], "from": "12:00", "to": "13:00"}]}), 3, false)]
    #[case::most_urgent(serde_json::json!({"windows": [{"days": ["thursday"], "from": "12:00", "to": "13:00"}]}), 4, true)]
    fn quiet_hours_hold_back_all_but_the_highest_priority(
        #[case] hours: serde_json::Value,
        #[case] priority: u8,
        #[case] told: bool,
    ) {
        // The instant 0 is a Thursday at midnight.
        let hours: Hours = serde_json::from_value(hours).unwrap();
        assert_eq!(may_be_told(priority, &hours, 0), told);
    }
}
