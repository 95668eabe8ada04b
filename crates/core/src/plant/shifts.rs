//! Shift patterns: when the shifts of a place begin and end, its crews, and which crew works which shift.

use super::{
    Item, Kind, Place, Plant, Settings, Table,
    check::{Wrong, name, name_of},
    kind::{Checking, Reference},
    week::{begun, check_time, check_zone, instant, local, time_of},
};
use crate::time::Nanos;
use jiff::{ToSpan, civil::Date};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use uuid::Uuid;

/// Most shifts of a day, crews, people of a crew, days of a rotation, and days off.
const MOST_SHIFTS: usize = 8;
const MOST_CREWS: usize = 20;
const MOST_PEOPLE: usize = 50;
const MOST_DAYS: usize = 364;
const MOST_OFF: usize = 1000;

/// A pattern of shifts.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ShiftPattern {
    pub name: String,
    /// By whose clocks, by the names of IANA: `Europe/Oslo`.
    pub zone: String,
    pub shifts: Vec<Shift>,
    pub crews: Vec<Crew>,
    /// The day on which the rotation began: `2026-01-05`.
    pub begins: String,
    /// For each day of the rotation the crews of its shifts, in their order; none where nobody works.
    pub rotation: Vec<Vec<Option<Uuid>>>,
    /// Days on which nobody works.
    #[serde(default)]
    pub off: Vec<DayOff>,
    #[serde(default)]
    pub order: f64,
}

/// A part of the day.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Shift {
    pub name: String,
    /// `06:00`
    pub from: String,
    /// `14:00`; where that is not after `from`, it lies on the next day.
    pub to: String,
}

/// People who work together.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Crew {
    pub id: Uuid,
    pub name: String,
    /// Their accounts, in the order in which they are called.
    pub people: Vec<Uuid>,
}

/// A day on which nobody works.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DayOff {
    /// `2026-12-25`
    pub date: String,
    #[serde(default)]
    pub name: String,
}

/// A shift that is worked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OnShift<'a> {
    pub shift: &'a Shift,
    pub crew: &'a Crew,
    /// The day it began on.
    pub day: Date,
}

impl ShiftPattern {
    /// When a shift begins next that somebody works, within a month; none where none does.
    pub fn next_shift(&self, at: Nanos) -> Option<Nanos> {
        let days = local(at, &self.zone).date().series(1.day()).take(32);
        let begins = days.flat_map(|day| {
            let from = self.shifts.iter().filter_map(|shift| time_of(&shift.from));
            from.filter_map(move |from| instant(day, from, &self.zone)).collect::<Vec<_>>()
        });
        begins.filter(|begin| *begin > at && self.on_shift(*begin).is_some()).min()
    }

    /// The shift that is worked at an instant; where several are, the one that comes first in the list.
    pub fn on_shift(&self, at: Nanos) -> Option<OnShift<'_>> {
        let now = local(at, &self.zone);
        self.shifts.iter().enumerate().find_map(|(n, shift)| {
            let day = begun(&now, time_of(&shift.from)?, time_of(&shift.to)?)?;
            Some(OnShift { shift, crew: self.crew_of(day, n)?, day })
        })
    }

    /// Who works a shift, given by its place in the list, that begins on a day.
    fn crew_of(&self, day: Date, shift: usize) -> Option<&Crew> {
        if self.off.iter().any(|off| off.date.parse::<Date>().is_ok_and(|date| date == day)) {
            return None;
        }
        let begins: Date = self.begins.parse().ok()?;
        let days = i64::try_from(self.rotation.len()).ok().filter(|days| *days > 0)?;
        let passed = i64::from(begins.until(day).ok()?.get_days());
        let crews = self.rotation.get(usize::try_from(passed.rem_euclid(days)).ok()?)?;
        let crew = crews.get(shift).copied().flatten()?;
        self.crews.iter().find(|one| one.id == crew)
    }

    /// From when until when each shift lasts that somebody works and that begins on one of some days.
    fn worked(&self, from: Date, days: usize) -> impl Iterator<Item = (Nanos, Nanos)> {
        from.series(1.day()).take(days).flat_map(move |day| {
            let shifts = self.shifts.iter().enumerate().filter(move |(n, _)| self.crew_of(day, *n).is_some());
            shifts.filter_map(move |(_, shift)| {
                let (begins, ends) = (time_of(&shift.from)?, time_of(&shift.to)?);
                let last = if begins < ends { day } else { day.tomorrow().ok()? };
                Some((instant(day, begins, &self.zone)?, instant(last, ends, &self.zone)?))
            })
        })
    }

    /// When a shift that somebody works ends next after an instant, within a month; none where none does.
    pub fn next_end(&self, at: Nanos) -> Option<Nanos> {
        let first = local(at, &self.zone).date().checked_sub(2.days()).ok()?;
        self.worked(first, 34).map(|(_, to)| to).filter(|end| *end > at).min()
    }

    /// The last shift that somebody worked and that had ended by an instant, within a month; none where there is none.
    pub fn last_ended(&self, at: Nanos) -> Option<(Nanos, Nanos)> {
        let first = local(at, &self.zone).date().checked_sub(32.days()).ok()?;
        self.worked(first, 33).filter(|(_, to)| *to <= at).max_by_key(|(from, to)| (*to, *from))
    }
}

impl Plant {
    /// The pattern by which the shifts of a place work: its own, or that of the next place above with one.
    pub fn shifts_of(&self, place: Uuid) -> Option<&Arc<Item<ShiftPattern>>> {
        let above = |item: &&Arc<Item<Place>>| item.set.parent.and_then(|id| self.places.get(&id));
        let mut line = std::iter::successors(self.places.get(&place), above).take(64);
        self.shift_patterns.get(&line.find_map(|item| item.set.shift_pattern)?)
    }
}

impl Settings for ShiftPattern {
    const KIND: Kind = Kind::ShiftPattern;

    fn table(plant: &Plant) -> &Table<ShiftPattern> {
        &plant.shift_patterns
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<ShiftPattern> {
        &mut plant.shift_patterns
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

    fn check(item: &Item<ShiftPattern>, _: &Checking<'_>, wrong: &mut Wrong) {
        let set = &item.set;
        name(wrong, &set.name);
        check_zone(wrong, "zone", &set.zone);
        let mut tell = |field: String, words: &str| wrong.push((field, words.into()));
        if set.shifts.is_empty() || set.shifts.len() > MOST_SHIFTS {
            tell("shifts".into(), &format!("Enter 1 to {MOST_SHIFTS} shifts."));
        }
        if set.crews.is_empty() || set.crews.len() > MOST_CREWS {
            tell("crews".into(), &format!("Enter 1 to {MOST_CREWS} crews."));
        }
        if set.begins.parse::<Date>().is_err() {
            tell("begins".into(), "Write a day like 2026-01-05.");
        }
        if set.rotation.is_empty() || set.rotation.len() > MOST_DAYS {
            tell("rotation".into(), &format!("A rotation has 1 to {MOST_DAYS} days."));
        }
        if set.off.len() > MOST_OFF {
            tell("off".into(), &format!("At most {MOST_OFF} days off."));
        }
        for (n, off) in set.off.iter().enumerate().filter(|(_, off)| off.date.parse::<Date>().is_err() || off.name.len() > 200) {
            tell(format!("off[{n}].date"), &format!("“{}” is no day; write it like 2026-12-25.", off.date));
        }
        for (n, day) in set.rotation.iter().enumerate() {
            let known = |crew: &Uuid| set.crews.iter().any(|one| one.id == *crew);
            if day.len() != set.shifts.len() || !day.iter().flatten().all(known) {
                tell(format!("rotation[{n}]"), "Say for each shift which of the crews works it, or that nobody does.");
            }
        }
        for (n, crew) in set.crews.iter().enumerate() {
            if crew.people.len() > MOST_PEOPLE {
                tell(format!("crews[{n}].people"), &format!("A crew has at most {MOST_PEOPLE} people."));
            }
            if set.crews[..n].iter().any(|other| other.name == crew.name || other.id == crew.id) {
                tell(format!("crews[{n}].name"), "Another crew has this name.");
            }
        }
        for (n, shift) in set.shifts.iter().enumerate() {
            name_of(wrong, &format!("shifts[{n}].name"), &shift.name);
            check_time(wrong, format!("shifts[{n}].from"), &shift.from);
            check_time(wrong, format!("shifts[{n}].to"), &shift.to);
        }
        for (n, crew) in set.crews.iter().enumerate() {
            name_of(wrong, &format!("crews[{n}].name"), &crew.name);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::time::from_text;
    use rstest::rstest;

    fn pattern() -> ShiftPattern {
        let id = Uuid::from_u128;
        let crew = |n| Crew { id: id(n), name: format!("Crew {n}"), people: vec![id(10 + n)] };
        let shift = |name: &str, from: &str, to: &str| Shift { name: name.into(), from: from.into(), to: to.into() };
        ShiftPattern {
            name: "Two shifts".into(),
            zone: "Europe/Oslo".into(),
            shifts: vec![shift("Day", "06:00", "18:00"), shift("Night", "18:00", "06:00")],
            crews: vec![crew(1), crew(2)],
            begins: "2026-03-28".into(),
            rotation: vec![vec![Some(id(1)), Some(id(2))], vec![Some(id(2)), None]],
            off: vec![DayOff { date: "2026-04-03".into(), name: "Good Friday".into() }],
            order: 0.0,
        }
    }

    #[rstest]
    #[case::in_the_day("2026-03-28T10:00:00Z", "2026-03-28T17:00:00Z", "2026-03-27T05:00:00Z", "2026-03-27T17:00:00Z")]
    #[case::at_its_end("2026-03-28T17:00:00Z", "2026-03-29T04:00:00Z", "2026-03-28T05:00:00Z", "2026-03-28T17:00:00Z")]
    // The night in which the clocks go forward lasts eleven hours.
    #[case::a_short_night("2026-03-29T04:00:00Z", "2026-03-29T16:00:00Z", "2026-03-28T17:00:00Z", "2026-03-29T04:00:00Z")]
    // Nobody works the night to the 30th.
    #[case::nobody_works("2026-03-30T03:00:00Z", "2026-03-30T16:00:00Z", "2026-03-29T04:00:00Z", "2026-03-29T16:00:00Z")]
    fn shifts_end(#[case] at: &str, #[case] next: &str, #[case] from: &str, #[case] to: &str) {
        let [at, next, from, to] = [at, next, from, to].map(|text| from_text(text).unwrap());
        assert_eq!(pattern().next_end(at), Some(next));
        assert_eq!(pattern().last_ended(at), Some((from, to)));
        let idle = ShiftPattern { rotation: vec![vec![None, None]], ..pattern() };
        assert_eq!((idle.next_end(at), idle.last_ended(at)), (None, None));
    }

    #[rstest]
    #[case::first_day("2026-03-28T06:00:00Z", Some(("Day", 1)))]
    #[case::its_night("2026-03-28T22:00:00Z", Some(("Night", 2)))]
    // The clocks go from 2 to 3 in that night, which ends an hour earlier.
    #[case::until_six_in_summer_time("2026-03-29T03:59:00Z", Some(("Night", 2)))]
    #[case::then_the_next_day("2026-03-29T04:00:00Z", Some(("Day", 2)))]
    #[case::a_night_without_a_crew("2026-03-29T20:00:00Z", None)]
    #[case::the_rotation_begins_again("2026-03-30T08:00:00Z", Some(("Day", 1)))]
    #[case::a_day_off("2026-04-03T08:00:00Z", None)]
    #[case::its_night_is_off_as_well("2026-04-04T02:00:00Z", None)]
    #[case::before_it_began_it_is_counted_backwards("2026-03-27T08:00:00Z", Some(("Day", 2)))]
    fn a_rotation_says_who_works(#[case] at: &str, #[case] expected: Option<(&str, u128)>) {
        let pattern = pattern();
        let found = pattern.on_shift(from_text(at).unwrap());
        assert_eq!(found.map(|on| (on.shift.name.as_str(), on.crew.id.as_u128())), expected);
    }

    #[rstest]
    #[case::after_a_night_without_a_crew("2026-03-29T20:00:00Z", Some("2026-03-30T04:00:00Z"))]
    #[case::after_a_day_off("2026-04-03T08:00:00Z", Some("2026-04-04T04:00:00Z"))]
    #[case::over_the_change_of_the_clocks("2026-03-28T17:00:00Z", Some("2026-03-29T04:00:00Z"))]
    fn the_next_shift_that_somebody_works_is_found(#[case] at: &str, #[case] next: Option<&str>) {
        assert_eq!(pattern().next_shift(from_text(at).unwrap()), next.map(|next| from_text(next).unwrap()));
        let nobody = ShiftPattern { rotation: vec![vec![None, None]], ..pattern() };
        assert_eq!(nobody.next_shift(from_text(at).unwrap()), None);
    }

    #[rstest]
    #[case::nothing(|_: &mut ShiftPattern| {}, &[])]
    #[case::zone(|p: &mut ShiftPattern| p.zone = "Moon".into(), &["zone"])]
    #[case::a_shift_less(|p: &mut ShiftPattern| { p.rotation[1].pop(); }, &["rotation[1]"])]
    #[case::nobody_knows_the_crew(|p: &mut ShiftPattern| p.rotation[0][0] = Some(Uuid::from_u128(9)), &["rotation[0]"])]
    #[case::twice(|p: &mut ShiftPattern| p.crews[1].name = "Crew 1".into(), &["crews[1].name"])]
    #[case::times(|p: &mut ShiftPattern| p.shifts[0].to = "noon".into(), &["shifts[0].to"])]
    #[case::days(|p: &mut ShiftPattern| { p.begins = "soon".into(); p.off[0].date = "2026-02-30".into(); }, &["begins", "off[0].date"])]
    fn what_is_wrong_is_told(#[case] change: fn(&mut ShiftPattern), #[case] fields: &[&str]) {
        let mut set = pattern();
        change(&mut set);
        let mut wrong = Wrong::new();
        let item = Item { id: Uuid::nil(), no: 0, revision: 1, own: Default::default(), set };
        ShiftPattern::check(&item, &Checking::new(&Plant::default(), &()), &mut wrong);
        assert_eq!(wrong.into_iter().map(|(field, _)| field).collect::<Vec<_>>(), fields);
    }
}
