//! The criterion of an alarm rule: what is seen is judged with deadband, on-delay and off-delay.

use crate::{number::Number, time::Nanos};
use std::{cmp::Ordering, sync::Arc};

/// What makes the alarm condition hold.
#[derive(Clone, Debug, PartialEq)]
pub enum Test {
    /// The value is above the level.
    Above,
    /// The value is below the level.
    Below,
    /// The value is farther from zero than the level.
    Beyond,
    /// The value is one of these.
    OneOf(Arc<[i64]>),
    /// There is no value to be trusted.
    Bad,
    /// The value has not moved by more than the deadband for as long as the on-delay.
    Unchanged,
}

/// When the alarm condition of a rule comes and goes; delays in nanoseconds, not negative.
#[derive(Clone, Debug, PartialEq)]
pub struct Criterion {
    pub test: Test,
    /// How far the value must come back before the alarm returns; not negative.
    pub deadband: f64,
    /// How long the condition must hold before the alarm comes.
    pub on_delay: Nanos,
    /// How long it must be gone before the alarm returns; an unchanged value that moves returns at once.
    pub off_delay: Nanos,
}

/// What a criterion remembers between samples.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Memory {
    /// Whether the alarm condition holds.
    pub active: bool,
    /// Since when the opposite of `active` has been seen, while its delay runs.
    pub delay_since: Option<Nanos>,
    /// From where a value that should move is watched.
    pub from: Option<Number>,
}

/// The condition changed: it is now `active`, since `at`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Turn {
    pub active: bool,
    /// The instant at which the delay ran out.
    pub at: Nanos,
}

impl Criterion {
    /// Whether a running delay must outlast a restart. That of an unchanged value begins with every move, and anew with the first
    /// value after a restart.
    pub fn keeps_delay(&self) -> bool {
        self.test != Test::Unchanged
    }

    fn delay(&self, memory: &Memory) -> Nanos {
        if memory.active { self.off_delay } else { self.on_delay }
    }

    /// Whether what is seen contradicts the present condition; none where that cannot be said.
    fn speaks_against(&self, active: bool, value: Option<Number>, level: f64) -> Option<bool> {
        if self.test == Test::Bad {
            return Some(value.is_none() != active);
        }
        let value = value?;
        let compared = |value: Number, out: Ordering, back: f64| {
            if active { value.order(Number::Float(back)) != out } else { value.order(Number::Float(level)) == out }
        };
        match &self.test {
            Test::OneOf(states) => Some(states.iter().any(|state| *state as f64 == value.float()) != active),
            _ if level.is_nan() => None,
            Test::Above => Some(compared(value, Ordering::Greater, level - self.deadband)),
            Test::Below => Some(compared(value, Ordering::Less, level + self.deadband)),
            Test::Beyond => {
                Some(compared(Number::Float(value.float().abs()), Ordering::Greater, (level - self.deadband).max(0.0)))
            }
            Test::Bad | Test::Unchanged => None,
        }
    }

    /// When a running delay ends.
    pub fn delay_ends(&self, memory: &Memory) -> Option<Nanos> {
        memory.delay_since.map(|since| since.saturating_add(self.delay(memory)))
    }

    /// Time has come to `now`: a running delay may have ended.
    pub fn tick(&self, memory: &mut Memory, now: Nanos) -> Option<Turn> {
        let at = self.delay_ends(memory).filter(|&at| at <= now)?;
        memory.active = !memory.active;
        memory.delay_since = None;
        Some(Turn { active: memory.active, at })
    }

    /// Something was seen at `at`: a value, or none that can be trusted. Large whole numbers are compared with all their digits; a
    /// `level` that is not a number is not known. Up to two turns: a delay that ended before, and a turn that this causes.
    ///
    /// Without a value, what the delay proved until then counts, and the rest starts anew.
    pub fn see(&self, memory: &mut Memory, at: Nanos, value: Option<Number>, level: f64) -> [Option<Turn>; 2] {
        let before = self.tick(memory, at);
        if value.is_some_and(|value| value.float().is_nan()) {
            return [before, None];
        }
        if let (Test::Unchanged, Some(value)) = (&self.test, value) {
            return [before, self.watch(memory, at, value)];
        }
        if self.speaks_against(memory.active, value, level) != Some(true) {
            memory.delay_since = None;
            return [before, None];
        }
        memory.delay_since.get_or_insert(at);
        [before, self.tick(memory, at)]
    }

    /// A value that should move.
    fn watch(&self, memory: &mut Memory, at: Nanos, value: Number) -> Option<Turn> {
        let moved = memory.from.is_none_or(|from| {
            let apart = (value.float() - from.float()).abs();
            apart > self.deadband || self.deadband == 0.0 && value.order(from) != Ordering::Equal
        });
        if !moved {
            if !memory.active {
                memory.delay_since.get_or_insert(at);
            }
            return None;
        }
        memory.from = Some(value);
        memory.delay_since = Some(at);
        std::mem::take(&mut memory.active).then_some(Turn { active: false, at })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::time::SECOND;
    use proptest::prelude::*;
    use rstest::rstest;

    type Ruled = (Criterion, f64);

    fn rule(test: Test, level: f64, deadband: f64, on: i64, off: i64) -> Ruled {
        (Criterion { test, deadband, on_delay: on * SECOND, off_delay: off * SECOND }, level)
    }

    fn run((criterion, level): &Ruled, samples: &[(i64, f64)]) -> Vec<(i64, bool)> {
        let mut memory = Memory::default();
        // A value of 999 stands for one that cannot be trusted.
        let value = |v: f64| (v != 999.0).then(|| v.into());
        let turns = samples.iter().flat_map(|&(t, v)| criterion.see(&mut memory, t * SECOND, value(v), *level)).flatten();
        turns.map(|turn| (turn.at / SECOND, turn.active)).collect()
    }

    #[rstest]
    #[case::plain_high(rule(Test::Above, 80.0, 0.0, 0, 0), &[(0, 80.0), (1, 80.1), (2, 80.0)], &[(1, true), (2, false)])]
    #[case::plain_low(rule(Test::Below, 10.0, 0.0, 0, 0), &[(0, 10.0), (1, 9.9), (2, 10.1)], &[(1, true), (2, false)])]
    #[case::deadband(rule(Test::Above, 80.0, 2.0, 0, 0), &[(0, 81.0), (1, 79.0), (2, 78.0)], &[(0, true), (2, false)])]
    #[case::on_delay_not_reached(rule(Test::Above, 80.0, 0.0, 5, 0), &[(0, 81.0), (4, 79.0), (5, 81.0), (9, 82.0)], &[])]
    #[case::on_delay_counts_from_first(rule(Test::Above, 80.0, 0.0, 5, 0), &[(0, 81.0), (3, 82.0), (7, 82.0)], &[(5, true)])]
    #[case::delay_over_before_it_returned(rule(Test::Above, 80.0, 0.0, 5, 0), &[(0, 81.0), (8, 70.0)], &[(5, true), (8, false)])]
    #[case::off_delay(rule(Test::Above, 80.0, 0.0, 0, 5), &[(0, 81.0), (1, 70.0), (3, 81.0), (4, 70.0), (9, 70.0)], &[(0, true), (9, false)])]
    #[case::no_number_says_nothing(rule(Test::Above, 80.0, 0.0, 0, 0), &[(0, 81.0), (1, f64::NAN), (2, 70.0)], &[(0, true), (2, false)])]
    #[case::no_level(rule(Test::Above, f64::NAN, 0.0, 0, 0), &[(0, 81.0), (1, -5.0)], &[])]
    #[case::either_side(rule(Test::Beyond, 3.0, 1.0, 0, 0), &[(0, 3.0), (1, -3.5), (2, 2.5), (3, 2.0), (4, 4.0)], &[(1, true), (3, false), (4, true)])]
    #[case::wide_deadband_of_either_side(rule(Test::Beyond, 3.0, 9.0, 0, 0), &[(0, 4.0), (1, 0.5), (2, 0.0)], &[(0, true), (2, false)])]
    #[case::states(rule(Test::OneOf([3, 4].into()), 0.0, 0.0, 0, 0), &[(0, 2.0), (1, 3.0), (2, 4.0), (3, 1.0), (4, 3.5)], &[(1, true), (3, false)])]
    #[case::states_for_a_time(rule(Test::OneOf([0].into()), 0.0, 0.0, 5, 0), &[(0, 0.0), (4, 1.0), (5, 0.0), (11, 0.0)], &[(10, true)])]
    #[case::bad(rule(Test::Bad, 0.0, 0.0, 0, 0), &[(0, 1.0), (1, 999.0), (2, 999.0), (3, 1.0)], &[(1, true), (3, false)])]
    #[case::bad_for_a_time(rule(Test::Bad, 0.0, 0.0, 5, 0), &[(0, 999.0), (4, 1.0), (6, 999.0), (12, 999.0)], &[(11, true)])]
    #[case::unchanged(rule(Test::Unchanged, 0.0, 0.0, 10, 0), &[(0, 1.0), (9, 1.0), (12, 1.0), (14, 2.0)], &[(10, true), (14, false)])]
    #[case::moves_in_time(rule(Test::Unchanged, 0.0, 0.0, 10, 0), &[(0, 1.0), (9, 2.0), (18, 3.0), (27, 4.0)], &[])]
    #[case::moves_too_little(rule(Test::Unchanged, 0.0, 0.5, 10, 0), &[(0, 1.0), (5, 1.4), (9, 0.6), (11, 1.0), (12, 1.6)], &[(10, true), (12, false)])]
    #[case::creeps(rule(Test::Unchanged, 0.0, 0.5, 10, 0), &[(0, 1.0), (5, 1.4), (8, 1.6), (15, 1.6), (17, 2.2)], &[])]
    #[case::unchanged_but_bad(rule(Test::Unchanged, 0.0, 0.0, 10, 0), &[(0, 1.0), (5, 999.0), (8, 1.0), (17, 1.0), (18, 1.0)], &[(18, true)])]
    #[case::unchanged_and_then_bad(rule(Test::Unchanged, 0.0, 0.0, 10, 0), &[(0, 1.0), (11, 999.0), (15, 1.0), (16, 2.0)], &[(10, true), (16, false)])]
    fn turns(#[case] rule: Ruled, #[case] samples: &[(i64, f64)], #[case] expected: &[(i64, bool)]) {
        assert_eq!(run(&rule, samples), expected);
    }

    #[test]
    fn a_bad_value_starts_the_delay_anew() {
        let (criterion, level) = rule(Test::Above, 80.0, 0.0, 5, 0);
        let mut memory = Memory::default();
        criterion.see(&mut memory, 0, Some(90.0.into()), level);
        assert_eq!(criterion.see(&mut memory, 3 * SECOND, None, level), [None, None]);
        assert_eq!(criterion.tick(&mut memory, 60 * SECOND), None);
    }

    #[test]
    fn large_counters_are_compared_with_all_their_digits() {
        let level = 9_007_199_254_740_992.0;
        let mut memory = Memory::default();
        let (criterion, level) = rule(Test::Above, level, 0.0, 0, 0);
        let see = |memory: &mut Memory, value: u64| criterion.see(memory, 0, Some(value.into()), level);
        assert_eq!(see(&mut memory, 9_007_199_254_740_992), [None, None]);
        assert!(see(&mut memory, 9_007_199_254_740_993)[1].is_some_and(|turn| turn.active));
        let (criterion, level) = rule(Test::Below, 0.0, 0.0, 0, 0);
        assert_eq!(criterion.see(&mut Memory::default(), 0, Some((-0.0).into()), level), [None, None]);
    }

    fn any_test() -> impl Strategy<Value = Test> {
        let tests = [Test::Above, Test::Below, Test::Beyond, Test::OneOf([40, 80].into()), Test::Bad, Test::Unchanged];
        prop::sample::select(tests.to_vec())
    }

    proptest! {
        /// Ticks in between change when a turn is decided, never when it happened.
        #[test]
        fn ticks_do_not_move_turns(values in prop::collection::vec(70.0..90.0f64, 1..80), on in 0i64..4, off in 0i64..4, test in any_test()) {
            let ruled = rule(test, 80.0, 1.0, on, off);
            let samples: Vec<(i64, f64)> = values.iter().enumerate().map(|(i, v)| (i as i64, *v)).collect();
            let mut memory = Memory::default();
            let mut ticked = Vec::new();
            for &(t, v) in &samples {
                ticked.extend(ruled.0.tick(&mut memory, t * SECOND - 1));
                ticked.extend(ruled.0.see(&mut memory, t * SECOND, Some(v.into()), ruled.1).into_iter().flatten());
            }
            let ticked: Vec<(i64, bool)> = ticked.iter().map(|t| (t.at / SECOND, t.active)).collect();
            prop_assert_eq!(ticked, run(&ruled, &samples));
        }

        /// Turns alternate and never run backwards.
        #[test]
        fn turns_alternate(values in prop::collection::vec(0.0..100.0f64, 1..120), on in 0i64..3, off in 0i64..3, test in any_test()) {
            let ruled = rule(test, 40.0, 3.0, on, off);
            let samples: Vec<(i64, f64)> = values.iter().enumerate().map(|(i, v)| (i as i64, *v)).collect();
            let turns = run(&ruled, &samples);
            for (i, turn) in turns.iter().enumerate() { prop_assert_eq!(turn.1, i % 2 == 0); }
            prop_assert!(turns.windows(2).all(|w| w[0].0 <= w[1].0));
        }
    }
}
