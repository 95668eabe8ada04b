//! The limit rule: a value beyond a level, with deadband, on-delay and off-delay.

use crate::{number::Number, time::Nanos};
use serde::{Deserialize, Serialize};
use std::cmp::Ordering;

/// The four limits of a process value.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LimitKind {
    LowLow,
    Low,
    High,
    HighHigh,
}

impl LimitKind {
    /// Every kind, the lowest first.
    pub const ALL: [LimitKind; 4] = [LimitKind::LowLow, LimitKind::Low, LimitKind::High, LimitKind::HighHigh];

    /// Whether the alarm lies above the level.
    pub const fn is_high(self) -> bool {
        matches!(self, LimitKind::High | LimitKind::HighHigh)
    }

    /// As it reads in a sentence: “Level high”.
    pub const fn words(self) -> &'static str {
        match self {
            LimitKind::LowLow => "low low",
            LimitKind::Low => "low",
            LimitKind::High => "high",
            LimitKind::HighHigh => "high high",
        }
    }
}

/// A limit on numbers in the tag's engineering unit; delays in nanoseconds, not negative.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Limit {
    pub kind: LimitKind,
    pub level: f64,
    /// How far the value must come back before the alarm returns; not negative.
    pub deadband: f64,
    /// How long the value must be beyond the level before the alarm comes.
    pub on_delay: Nanos,
    /// How long the value must be back before the alarm returns.
    pub off_delay: Nanos,
}

/// What a limit remembers between samples.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct LimitMemory {
    /// Whether the alarm condition holds.
    pub active: bool,
    /// Since when the opposite of `active` has been seen, while its delay runs.
    pub delay_since: Option<Nanos>,
}

/// The condition changed: it is now `active`, since `at`.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Turn {
    pub active: bool,
    /// The instant at which the delay ran out.
    pub at: Nanos,
}

impl Limit {
    fn delay(&self, memory: &LimitMemory) -> Nanos {
        if memory.active { self.off_delay } else { self.on_delay }
    }

    /// Whether `value` contradicts the present condition.
    fn speaks_against(&self, memory: &LimitMemory, value: Number) -> bool {
        let out = if self.kind.is_high() { Ordering::Greater } else { Ordering::Less };
        if !memory.active {
            return value.order(Number::Float(self.level)) == out;
        }
        let back = if self.kind.is_high() { self.level - self.deadband } else { self.level + self.deadband };
        value.order(Number::Float(back)) != out
    }

    /// When a running delay ends.
    pub fn delay_ends(&self, memory: &LimitMemory) -> Option<Nanos> {
        memory.delay_since.map(|since| since.saturating_add(self.delay(memory)))
    }

    /// Time has come to `now`: a running delay may have ended.
    pub fn tick(&self, memory: &mut LimitMemory, now: Nanos) -> Option<Turn> {
        let at = self.delay_ends(memory).filter(|&at| at <= now)?;
        memory.active = !memory.active;
        memory.delay_since = None;
        Some(Turn { active: memory.active, at })
    }

    /// A good value came at `at`; large whole numbers are compared with all their digits. Up to two turns: a delay that ended
    /// before it, and a turn it causes itself.
    pub fn sample(&self, memory: &mut LimitMemory, at: Nanos, value: Number) -> [Option<Turn>; 2] {
        let before = self.tick(memory, at);
        if value.float().is_nan() {
            return [before, None];
        }
        if !self.speaks_against(memory, value) {
            memory.delay_since = None;
            return [before, None];
        }
        memory.delay_since.get_or_insert(at);
        [before, self.tick(memory, at)]
    }

    /// The value turned bad at `at`: what the delay proved until then counts, the rest starts anew.
    pub fn blind(&self, memory: &mut LimitMemory, at: Nanos) -> Option<Turn> {
        let turn = self.tick(memory, at);
        memory.delay_since = None;
        turn
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::time::SECOND;
    use proptest::prelude::*;
    use rstest::rstest;

    fn limit(kind: LimitKind, level: f64, deadband: f64, on: i64, off: i64) -> Limit {
        Limit { kind, level, deadband, on_delay: on * SECOND, off_delay: off * SECOND }
    }

    fn run(limit: Limit, samples: &[(i64, f64)]) -> Vec<(i64, bool)> {
        let mut memory = LimitMemory::default();
        let turns = samples.iter().flat_map(|&(t, v)| limit.sample(&mut memory, t * SECOND, v.into())).flatten();
        turns.map(|turn| (turn.at / SECOND, turn.active)).collect()
    }

    #[rstest]
    #[case::plain_high(limit(LimitKind::High, 80.0, 0.0, 0, 0), &[(0, 80.0), (1, 80.1), (2, 80.0)], &[(1, true), (2, false)])]
    #[case::plain_low(limit(LimitKind::Low, 10.0, 0.0, 0, 0), &[(0, 10.0), (1, 9.9), (2, 10.1)], &[(1, true), (2, false)])]
    #[case::deadband(limit(LimitKind::High, 80.0, 2.0, 0, 0), &[(0, 81.0), (1, 79.0), (2, 78.0)], &[(0, true), (2, false)])]
    #[case::on_delay_not_reached(limit(LimitKind::High, 80.0, 0.0, 5, 0), &[(0, 81.0), (4, 79.0), (5, 81.0), (9, 82.0)], &[])]
    #[case::on_delay_counts_from_first(limit(LimitKind::High, 80.0, 0.0, 5, 0), &[(0, 81.0), (3, 82.0), (7, 82.0)], &[(5, true)])]
    #[case::delay_over_before_it_returned(limit(LimitKind::High, 80.0, 0.0, 5, 0), &[(0, 81.0), (8, 70.0)], &[(5, true), (8, false)])]
    #[case::off_delay(limit(LimitKind::High, 80.0, 0.0, 0, 5), &[(0, 81.0), (1, 70.0), (3, 81.0), (4, 70.0), (9, 70.0)], &[(0, true), (9, false)])]
    #[case::no_number_says_nothing(limit(LimitKind::High, 80.0, 0.0, 0, 0), &[(0, 81.0), (1, f64::NAN), (2, 70.0)], &[(0, true), (2, false)])]
    fn turns(#[case] limit: Limit, #[case] samples: &[(i64, f64)], #[case] expected: &[(i64, bool)]) {
        assert_eq!(run(limit, samples), expected);
    }

    #[test]
    fn a_bad_value_starts_the_delay_anew() {
        let rule = limit(LimitKind::High, 80.0, 0.0, 5, 0);
        let mut memory = LimitMemory::default();
        rule.sample(&mut memory, 0, 90.0.into());
        assert_eq!(rule.blind(&mut memory, 3 * SECOND), None);
        assert_eq!(rule.tick(&mut memory, 60 * SECOND), None);
    }

    #[test]
    fn large_counters_are_compared_with_all_their_digits() {
        let level = 9_007_199_254_740_992.0;
        let mut memory = LimitMemory::default();
        let rule = limit(LimitKind::High, level, 0.0, 0, 0);
        assert_eq!(rule.sample(&mut memory, 0, 9_007_199_254_740_992u64.into()), [None, None]);
        assert!(rule.sample(&mut memory, 1, 9_007_199_254_740_993u64.into())[1].is_some_and(|turn| turn.active));
        let mut memory = LimitMemory::default();
        assert_eq!(limit(LimitKind::Low, 0.0, 0.0, 0, 0).sample(&mut memory, 0, (-0.0).into()), [None, None]);
    }

    proptest! {
        /// Ticks in between change when a turn is decided, never when it happened.
        #[test]
        fn ticks_do_not_move_turns(values in prop::collection::vec(70.0..90.0f64, 1..80), on in 0i64..4, off in 0i64..4) {
            let rule = limit(LimitKind::High, 80.0, 1.0, on, off);
            let samples: Vec<(i64, f64)> = values.iter().enumerate().map(|(i, v)| (i as i64, *v)).collect();
            let mut memory = LimitMemory::default();
            let mut ticked = Vec::new();
            for &(t, v) in &samples {
                ticked.extend(rule.tick(&mut memory, t * SECOND - 1));
                ticked.extend(rule.sample(&mut memory, t * SECOND, v.into()).into_iter().flatten());
            }
            let ticked: Vec<(i64, bool)> = ticked.iter().map(|t| (t.at / SECOND, t.active)).collect();
            prop_assert_eq!(ticked, run(rule, &samples));
        }

        /// Turns alternate and never run backwards.
        #[test]
        fn turns_alternate(values in prop::collection::vec(0.0..100.0f64, 1..120), on in 0i64..3, off in 0i64..3) {
            let rule = limit(LimitKind::Low, 40.0, 3.0, on, off);
            let samples: Vec<(i64, f64)> = values.iter().enumerate().map(|(i, v)| (i as i64, *v)).collect();
            let turns = run(rule, &samples);
            for (i, turn) in turns.iter().enumerate() { prop_assert_eq!(turn.1, i % 2 == 0); }
            prop_assert!(turns.windows(2).all(|w| w[0].0 <= w[1].0));
        }
    }
}
