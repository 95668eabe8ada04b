//! Figures of alarms.

use super::*;
use proptest::prelude::*;
use rstest::rstest;

const MINUTE: Nanos = 60 * SECOND;
const HOUR: Nanos = 60 * MINUTE;

use EventKind::{Acknowledged, Raised, Returned, Shelved, Unshelved, Withdrawn};

fn turn(rule: u128, kind: EventKind, at: Nanos) -> Turn {
    Turn { rule: Uuid::from_u128(rule), kind, priority: 2, at, suppressed: false }
}

/// Alarms of different rules at these instants.
fn at(times: impl IntoIterator<Item = Nanos>) -> Vec<Turn> {
    times.into_iter().zip(1..).map(|(at, rule)| turn(rule, Raised, at)).collect()
}

#[rstest]
#[case::none(at([]), 0, 0.0, 0)]
#[case::one_an_hour(at([0, HOUR, 2 * HOUR]), 3, 3.0 / 24.0, 1)]
#[case::ten_minutes_are_counted_from_any_alarm(at([9 * MINUTE, 15 * MINUTE, 18 * MINUTE, 19 * MINUTE]), 4, 4.0 / 24.0, 3)]
#[case::after_the_end(at([4 * HOUR]), 0, 0.0, 0)]
fn alarms_are_counted(#[case] turns: Vec<Turn>, #[case] count: usize, #[case] average: f64, #[case] most: usize) {
    let found = Performance::of(&turns, 0, 4 * HOUR, 0);
    assert_eq!((found.count, found.average, found.most.0), (count, average, most));
    assert_eq!(found.slots.iter().map(|slot| slot.count).sum::<usize>(), count);
    assert_eq!(Performance::of(&turns, 0, 4 * HOUR, 2 * HOUR).average, average * 2.0, "what is not known is no quiet time");
}

#[test]
fn what_operators_are_not_told_is_no_alarm() {
    let (rule, quiet) = (1, 2);
    let kept = |turn: Turn| Turn { suppressed: true, ..turn };
    let turns = [
        kept(turn(rule, Shelved, MINUTE)),
        kept(turn(rule, Raised, 2 * MINUTE)),
        Turn { priority: 0, ..turn(quiet, Raised, 3 * MINUTE) },
        turn(rule, Unshelved, 20 * MINUTE),
        turn(rule, Acknowledged, 22 * MINUTE),
        turn(rule, Returned, 30 * MINUTE),
    ];
    let found = Performance::of(&turns, 0, HOUR, 0);
    assert_eq!((found.count, found.most), (1, (1, 20 * MINUTE)), "it comes when it is told again");
    assert_eq!((found.acknowledged.median, found.returned.median), (2 * MINUTE, 10 * MINUTE));
    assert_eq!(found.rules.len(), 1);
    let suppressed_again = [turns[3], turn(rule, Raised, 21 * MINUTE), kept(turn(rule, Shelved, 25 * MINUTE))];
    assert_eq!(Performance::of(&suppressed_again, 0, HOUR, 0).returned.count, 0, "shelving is no return");
}

#[test]
fn a_flood_begins_above_ten_and_ends_below_five() {
    // Twelve in six minutes, then one each two and a half minutes: four in ten minutes.
    let burst = (0..12).map(|n| HOUR + n * 30 * SECOND);
    let rest = (1..20).map(|n| HOUR + 6 * MINUTE + n * 150 * SECOND);
    let found = Performance::of(&at(burst.clone().chain(rest)), 0, 4 * HOUR, 0);
    let [flood] = found.floods.as_slice() else { panic!("{:?}", found.floods) };
    assert_eq!((flood.from, flood.most), (HOUR, 13), "the twelve and one of those after");
    assert_eq!(flood.first.iter().map(|(_, at)| at - HOUR).collect::<Vec<_>>(), [0, 30, 60, 90, 120].map(|s| s * SECOND));
    // Four in ten minutes are first the case once the fifth last is ten minutes old.
    assert!(flood.to > HOUR + 10 * MINUTE && flood.to < HOUR + 20 * MINUTE, "{}", (flood.to - HOUR) / SECOND);
    assert_eq!(found.flooded, flood.to - flood.from);
    let grade = |measure| found.figures().into_iter().find(|(m, ..)| *m == measure).map(|(_, _, grade)| grade);
    assert_eq!((grade(Measure::Flooded), grade(Measure::Most)), (Some(Grade::Missed), Some(Grade::Missed)));
    let ten = Performance::of(&at((0..10).map(|n| HOUR + n * SECOND)), 0, 4 * HOUR, 0);
    assert_eq!((ten.floods.len(), ten.most.0), (0, 10), "ten are no flood");
    let two = Performance::of(&at(burst.clone().chain(burst.map(|at| at + HOUR))), 0, 4 * HOUR, 0);
    assert_eq!(two.floods.iter().map(|f| (f.from, f.count)).collect::<Vec<_>>(), [(HOUR, 12), (2 * HOUR, 12)]);
    // The eighth of the twelve is the fifth last; one comes just as it leaves, another a second after it has left.
    let eighth = HOUR + 7 * 30 * SECOND;
    let goes_on = |at: Nanos| Performance::of(&self::at((0..12).map(|n| HOUR + n * 30 * SECOND).chain([at])), 0, 4 * HOUR, 0);
    assert!(goes_on(eighth + 10 * MINUTE).floods[0].to > eighth + 10 * MINUTE);
    assert_eq!(goes_on(eighth + 10 * MINUTE + SECOND).floods[0].to, eighth + 10 * MINUTE);
    let to = HOUR + 8 * MINUTE;
    let cut = Performance::of(&at((0..12).map(|n| HOUR + n * 30 * SECOND)), 0, to, 0);
    assert_eq!(cut.floods[0].to, to, "it goes on at the end of the period");
}

#[test]
fn each_rule_is_told_apart() {
    let mut turns = Vec::new();
    // Chatters: five times within a minute; fleeting: once for 20 s; stands since before the period.
    for n in 0..5 {
        turns.extend([turn(1, Raised, HOUR + n * 10 * SECOND), turn(1, Returned, HOUR + n * 10 * SECOND + SECOND)]);
    }
    turns.extend([turn(2, Raised, 2 * HOUR), turn(2, Returned, 2 * HOUR + 20 * SECOND)]);
    turns.extend([turn(4, Raised, 3 * HOUR), turn(4, Withdrawn, 3 * HOUR + SECOND)]);
    turns.insert(0, turn(3, Raised, -30 * HOUR));
    let found = Performance::of(&turns, 0, 4 * HOUR, 0);
    let of = |rule| *found.rules.iter().find(|of| of.rule == Uuid::from_u128(rule)).unwrap();
    assert_eq!(found.rules[0].rule, Uuid::from_u128(1), "the most frequent first");
    assert_eq!((of(1).count, of(1).chattering, of(1).fleeting), (5, 5, 0));
    assert_eq!((of(2).count, of(2).fleeting, of(2).standing), (1, 1, 20 * SECOND));
    assert_eq!((of(3).count, of(3).standing, of(3).since), (0, 4 * HOUR, Some(-30 * HOUR)));
    assert_eq!((of(4).count, of(4).fleeting), (1, 0), "a rule that was switched off is not fleeting");
    assert_eq!((found.count, found.chattering, found.fleeting, found.stale, found.top_ten), (7, 5, 1, 1, 1.0));
    assert_eq!(found.returned, Times { count: 6, median: SECOND, ninth: 20 * SECOND, longest: 20 * SECOND });
}

#[test]
fn a_long_period_is_told_in_few_spans() {
    let year = 365 * 24 * HOUR;
    let found = Performance::of(&at((0..365).map(|day| day * 24 * HOUR)), 0, year, 0);
    assert!(found.slots.len() <= 300 && found.slot % TEN_MINUTES == 0);
    assert_eq!(found.slots.iter().map(|slot| slot.count).sum::<usize>(), 365);
}

proptest! {
    /// Counted by brute force, it is the same.
    #[test]
    fn floods_and_windows_are_those_of_the_definition(mut times in prop::collection::vec(0..4 * 3600i64, 0..120)) {
        times.sort_unstable();
        let times: Vec<Nanos> = times.into_iter().map(|s| s * SECOND).collect();
        let to = 5 * HOUR;
        let found = Performance::of(&at(times.iter().copied()), 0, to, 0);
        let within = |t: Nanos| times.iter().filter(|at| **at <= t && t - **at < TEN_MINUTES).count();
        prop_assert_eq!(found.most.0, times.iter().map(|at| within(*at)).max().unwrap_or(0));
        // Second by second: in a flood from when it is above ten until it is below five.
        let (mut on, mut spans) = (false, Vec::new());
        for t in (0..to / SECOND).map(|s| s * SECOND) {
            match (on, within(t)) {
                (false, count) if count > FLOOD_BEGINS => {
                    on = true;
                    let first = times.iter().copied().find(|at| t - at < TEN_MINUTES).unwrap();
                    let before = spans.last().map_or(first, |(_, to): &(Nanos, Nanos)| *to);
                    spans.push((first.max(before), to));
                }
                (true, count) if count < FLOOD_ENDS => {
                    on = false;
                    spans.last_mut().unwrap().1 = t;
                }
                _ => {}
            }
        }
        prop_assert_eq!(found.floods.iter().map(|f| (f.from, f.to)).collect::<Vec<_>>(), spans);
    }
}
