//! Times of the week: on which days, from when until when, as the clocks of a zone show it.

use super::check::Wrong;
use crate::time::Nanos;
use jiff::{
    Timestamp, ToSpan, Zoned,
    civil::{Date, Time, Weekday},
    tz::TimeZone,
};
use serde::{Deserialize, Serialize};

/// Most windows that one thing has.
const MOST: usize = 20;

/// A day of the week.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Day {
    Monday,
    Tuesday,
    Wednesday,
    Thursday,
    Friday,
    Saturday,
    Sunday,
}

impl Day {
    pub const ALL: [Day; 7] = [Day::Monday, Day::Tuesday, Day::Wednesday, Day::Thursday, Day::Friday, Day::Saturday, Day::Sunday];

    fn of(weekday: Weekday) -> Day {
        Day::ALL[weekday.to_monday_zero_offset().unsigned_abs() as usize % 7]
    }
}

/// A part of the day on some days of the week.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Window {
    /// The days on which it begins.
    pub days: Vec<Day>,
    /// `06:00`
    pub from: String,
    /// `14:00`; where that is not after `from`, it lies on the next day.
    pub to: String,
}

/// Times of the week in a zone. None at all means always.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Hours {
    /// By the names of IANA: `Europe/Oslo`.
    pub zone: String,
    pub windows: Vec<Window>,
}

impl Default for Hours {
    fn default() -> Hours {
        Hours { zone: "UTC".into(), windows: Vec::new() }
    }
}

/// Reads a time of day, `06:00`.
pub(super) fn time_of(text: &str) -> Option<Time> {
    let digits = text.len() == 5 && text.as_bytes()[2] == b':';
    digits.then(|| text.parse().ok()).flatten()
}

/// An instant as the clocks of a zone show it; in UTC where nobody knows the zone.
pub(crate) fn local(at: Nanos, zone: &str) -> Zoned {
    let stamp = Timestamp::from_nanosecond(i128::from(at)).unwrap_or(Timestamp::UNIX_EPOCH);
    stamp.to_zoned(TimeZone::get(zone).unwrap_or(TimeZone::UTC))
}

/// A time of a day as the clocks of a zone show it; of one that they leave out the instant at which they go on.
pub(crate) fn instant(day: Date, time: Time, zone: &str) -> Option<Nanos> {
    let zoned = day.to_datetime(time).to_zoned(TimeZone::get(zone).unwrap_or(TimeZone::UTC)).ok()?;
    Nanos::try_from(zoned.timestamp().as_nanosecond()).ok()
}

/// On which day something that lasts from one time of day to another began, if it goes on; the day before where it goes over midnight.
pub(super) fn begun(now: &Zoned, from: Time, to: Time) -> Option<Date> {
    let time = now.time();
    match from < to {
        true => (from <= time && time < to).then(|| now.date()),
        false if time >= from => Some(now.date()),
        false => (time < to).then(|| now.date().yesterday().ok()).flatten(),
    }
}

/// What is wrong with the name of a zone.
pub(super) fn check_zone(wrong: &mut Wrong, field: &str, zone: &str) {
    if zone.len() > 64 || TimeZone::get(zone).is_err() {
        wrong.push((field.into(), "Give a time zone by its name, like Europe/London.".into()));
    }
}

/// What is wrong with a time of day.
pub(super) fn check_time(wrong: &mut Wrong, field: String, text: &str) {
    if time_of(text).is_none() {
        wrong.push((field, "Write a time of day like 06:00.".into()));
    }
}

impl Hours {
    /// Whether an instant lies within.
    pub fn cover(&self, at: Nanos) -> bool {
        if self.windows.is_empty() {
            return true;
        }
        let now = local(at, &self.zone);
        self.windows.iter().any(|window| {
            let (Some(from), Some(to)) = (time_of(&window.from), time_of(&window.to)) else { return false };
            begun(&now, from, to).is_some_and(|day| window.days.contains(&Day::of(day.weekday())))
        })
    }

    /// When they begin next after an instant that lies outside; none where they never do.
    pub fn next(&self, at: Nanos) -> Option<Nanos> {
        let today = local(at, &self.zone);
        let begins = self.windows.iter().flat_map(|window| {
            let from = time_of(&window.from);
            let days = today.date().series(1.day()).take(9).filter(|day| window.days.contains(&Day::of(day.weekday())));
            days.filter_map(move |day| Some((day, from?)))
        });
        begins.filter_map(|(day, from)| instant(day, from, &self.zone)).filter(|begin| *begin > at).min()
    }

    /// What is wrong with them, each at its field below `field`.
    pub fn check(&self, field: &str) -> Vec<(String, String)> {
        let mut wrong = Wrong::new();
        check_zone(&mut wrong, &format!("{field}.zone"), &self.zone);
        if self.windows.len() > MOST {
            wrong.push((format!("{field}.windows"), format!("At most {MOST} times of the week.")));
        }
        for (n, window) in self.windows.iter().enumerate() {
            if window.days.is_empty() {
                wrong.push((format!("{field}.windows[{n}].days"), "Choose at least one day.".into()));
            }
            check_time(&mut wrong, format!("{field}.windows[{n}].from"), &window.from);
            check_time(&mut wrong, format!("{field}.windows[{n}].to"), &window.to);
        }
        wrong
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::time::from_text;
    use rstest::rstest;

    fn hours(days: &[Day], from: &str, to: &str) -> Hours {
        let window = Window { days: days.to_vec(), from: from.into(), to: to.into() };
        Hours { zone: "Europe/Oslo".into(), windows: vec![window] }
    }

    // 2026-07-03 is a Friday; Oslo is two hours ahead of UTC then.
    #[rstest]
    #[case::before("2026-07-03T03:59:59Z", false)]
    #[case::begins("2026-07-03T04:00:00Z", true)]
    #[case::ends("2026-07-03T12:00:00Z", false)]
    #[case::another_day("2026-07-04T05:00:00Z", false)]
    fn a_part_of_a_day(#[case] at: &str, #[case] within: bool) {
        assert_eq!(hours(&[Day::Friday], "06:00", "14:00").cover(from_text(at).unwrap()), within);
    }

    #[rstest]
    #[case::in_the_evening("2026-07-03T20:30:00Z", true)]
    #[case::after_midnight_it_is_still_fridays_night("2026-07-04T03:59:00Z", true)]
    #[case::it_is_over("2026-07-04T04:00:00Z", false)]
    #[case::thursdays_night_is_not_meant("2026-07-03T03:00:00Z", false)]
    fn a_night_belongs_to_the_day_it_begins_on(#[case] at: &str, #[case] within: bool) {
        assert_eq!(hours(&[Day::Friday], "22:00", "06:00").cover(from_text(at).unwrap()), within);
    }

    #[test]
    fn none_is_always_and_a_whole_day_has_no_gap() {
        let at = from_text("2026-07-03T22:00:00Z").unwrap();
        assert!(Hours::default().cover(at));
        assert!(hours(&Day::ALL, "00:00", "00:00").cover(at));
        assert!(hours(&Day::ALL, "07:00", "07:00").cover(at));
    }

    #[test]
    fn what_is_wrong_is_told_at_its_place() {
        let mut hours = hours(&[], "6:00", "25:00");
        hours.zone = "Moon/Base".into();
        let fields: Vec<String> = hours.check("hours").into_iter().map(|(field, _)| field).collect();
        assert_eq!(fields, ["hours.zone", "hours.windows[0].days", "hours.windows[0].from", "hours.windows[0].to"]);
        assert!(!hours.cover(0), "what cannot be read covers nothing");
    }
}
