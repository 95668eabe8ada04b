//! Simulated signals: values that follow from the time alone, for trying things out without a device.

use crate::time::{Nanos, SECOND, from_text};
use serde::{Deserialize, Serialize};

/// Most rows of a replay.
const MOST_ROWS: usize = 5000;
/// Most bytes of a replay's text.
const MOST_BYTES: usize = 200_000;

/// A signal, as a tag's point describes it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "signal", rename_all = "lowercase", deny_unknown_fields)]
pub enum Signal {
    /// Up and down between two values.
    Sine { low: f64, high: f64, period_s: f64 },
    /// From low to high, then low again.
    Ramp { low: f64, high: f64, period_s: f64 },
    /// One value after the other, each for so many seconds.
    Steps { values: Vec<f64>, each_s: f64 },
    /// A step up or down of at most `step` every second, within bounds.
    Walk { low: f64, high: f64, step: f64 },
    /// A table of times and values, played again and again.
    Replay { csv: String },
}

/// A signal made ready.
#[derive(Clone, Debug)]
pub struct Running {
    signal: Signal,
    /// Offsets from the start and values, and the length of one round.
    rows: Vec<(Nanos, f64)>,
    round: Nanos,
    /// Of a walk: the second it has reached, where it is, and the state of its dice.
    second: i64,
    at: f64,
    dice: u64,
}

impl Signal {
    /// Makes it ready. `seed` tells walks apart.
    ///
    /// # Errors
    /// Field and sentence.
    pub fn start(&self, seed: u64) -> Result<Running, (&'static str, String)> {
        let finite = |values: &[f64]| values.iter().all(|v| v.is_finite());
        let span = |low: f64, high: f64| {
            if finite(&[low, high]) && low < high {
                Ok(())
            } else {
                Err(("high", format!("The upper end must lie above {low}.")))
            }
        };
        let lasting = |field: &'static str, seconds: f64| {
            let good = (0.1..=1e7).contains(&seconds);
            if good { Ok(()) } else { Err((field, "This must lie between 0.1 and 10,000,000 seconds.".to_owned())) }
        };
        let mut rows = Vec::new();
        let mut at = 0.0;
        match self {
            Signal::Sine { low, high, period_s } | Signal::Ramp { low, high, period_s } => {
                span(*low, *high)?;
                lasting("period_s", *period_s)?;
            }
            Signal::Steps { values, each_s } => {
                if values.is_empty() || values.len() > MOST_ROWS || !finite(values) {
                    return Err(("values", format!("Give 1 to {MOST_ROWS} numbers.")));
                }
                lasting("each_s", *each_s)?;
            }
            Signal::Walk { low, high, step } => {
                span(*low, *high)?;
                if !(*step > 0.0 && *step <= high - low) {
                    return Err(("step", "A step is above 0 and at most the whole span.".into()));
                }
                at = (low + high) / 2.0;
            }
            Signal::Replay { csv } => rows = replay(csv).map_err(|m| ("csv", m))?,
        }
        // The last row holds as long as the one before it did.
        let round = match rows.as_slice() {
            [.., before, last] => 2 * last.0 - before.0,
            _ => SECOND,
        };
        Ok(Running { signal: self.clone(), rows, round, second: 0, at, dice: seed | 1 })
    }
}

impl Running {
    /// The value at a time, which does not run backwards.
    pub fn value(&mut self, now: Nanos) -> f64 {
        let share = |period_s: f64| {
            let period = (period_s * SECOND as f64) as i64;
            now.rem_euclid(period) as f64 / period as f64
        };
        match &self.signal {
            Signal::Sine { low, high, period_s } => {
                let wave = (share(*period_s) * std::f64::consts::TAU).sin();
                low + (high - low) * (wave + 1.0) / 2.0
            }
            Signal::Ramp { low, high, period_s } => low + (high - low) * share(*period_s),
            Signal::Steps { values, each_s } => {
                let index = (share(each_s * values.len() as f64) * values.len() as f64) as usize;
                values[index.min(values.len() - 1)]
            }
            Signal::Walk { low, high, step } => {
                let second = now.div_euclid(SECOND);
                if self.second == 0 {
                    self.second = second;
                }
                // After a long pause it goes on from where it was.
                for _ in 0..(second - self.second).clamp(0, 3600) {
                    // xorshift64*: good enough for dice, and the same everywhere.
                    self.dice ^= self.dice >> 12;
                    self.dice ^= self.dice << 25;
                    self.dice ^= self.dice >> 27;
                    let roll = (self.dice.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 11) as f64 / (1u64 << 53) as f64;
                    self.at = (self.at + (roll * 2.0 - 1.0) * step).clamp(*low, *high);
                }
                self.second = self.second.max(second);
                self.at
            }
            Signal::Replay { .. } => {
                let at = now.rem_euclid(self.round);
                let index = self.rows.partition_point(|(time, _)| *time <= at);
                self.rows[index.max(1) - 1].1
            }
        }
    }
}

/// Reads the table of a replay: time (seconds, or a date and time) and value, parted by comma, semicolon or tab. Rows that
/// begin with no time are heads. The first row is the start.
fn replay(csv: &str) -> Result<Vec<(Nanos, f64)>, String> {
    if csv.len() > MOST_BYTES {
        return Err(format!("The table has at most {MOST_BYTES} bytes."));
    }
    let mut rows: Vec<(Nanos, f64)> = Vec::new();
    for (i, line) in csv.lines().enumerate().filter(|(_, line)| !line.trim().is_empty()) {
        let mark = ['\t', ';', ','].into_iter().find(|m| line.contains(*m));
        let (first, rest) = mark.and_then(|m| line.split_once(m)).ok_or(format!("Row {} has only one column.", i + 1))?;
        let (first, second) = (first.trim().trim_matches('"'), rest.split(['\t', ';']).next().unwrap_or(rest).trim());
        let number = |text: &str| text.replace(',', ".").parse::<f64>().ok().filter(|v| v.is_finite());
        let seconds = number(first).filter(|s| (0.0..=1e9).contains(s)).map(|s| (s * SECOND as f64) as Nanos);
        let Some(time) = seconds.or_else(|| from_text(first).ok()) else {
            if rows.is_empty() {
                continue;
            }
            return Err(format!("Row {}: “{}” is no time.", i + 1, first.chars().take(30).collect::<String>()));
        };
        let value =
            number(second).ok_or(format!("Row {}: “{}” is not a number.", i + 1, second.chars().take(30).collect::<String>()))?;
        if rows.last().is_some_and(|(last, _)| *last >= time) {
            return Err(format!("Row {}: times must rise.", i + 1));
        }
        rows.push((time, value));
        if rows.len() > MOST_ROWS {
            return Err(format!("The table has at most {MOST_ROWS} rows."));
        }
    }
    let start = rows.first().ok_or("The table has no rows.")?.0;
    rows.iter_mut().for_each(|(time, _)| *time -= start);
    Ok(rows)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    fn signal(point: Json) -> Signal {
        serde_json::from_value(point).unwrap()
    }

    #[rstest]
    #[case(json!({"signal": "sine", "low": 0.0, "high": 10.0, "period_s": 4.0}), &[5.0, 10.0, 5.0, 0.0, 5.0])]
    #[case(json!({"signal": "ramp", "low": 0.0, "high": 10.0, "period_s": 4.0}), &[0.0, 2.5, 5.0, 7.5, 0.0])]
    #[case(json!({"signal": "steps", "values": [1.0, 7.0, 3.0], "each_s": 1.0}), &[1.0, 7.0, 3.0, 1.0, 7.0])]
    #[case(json!({"signal": "replay", "csv": "time;value\n10;1,5\n12;4\n13;9"}), &[1.5, 1.5, 4.0, 9.0, 1.5])]
    #[case(json!({"signal": "replay", "csv": "2026-11-01T00:00:00Z,1\n2026-11-01T00:00:01Z,2"}), &[1.0, 2.0, 1.0, 2.0, 1.0])]
    fn follows_the_time(#[case] point: Json, #[case] expected: &[f64]) {
        let mut running = signal(point).start(1).unwrap();
        let values: Vec<f64> = (0..5).map(|s| (running.value(s * SECOND) * 1e6).round() / 1e6).collect();
        assert_eq!(values, expected);
    }

    #[rstest]
    #[case(json!({"signal": "sine", "low": 5.0, "high": 5.0, "period_s": 4.0}), "high")]
    #[case(json!({"signal": "ramp", "low": 0.0, "high": 5.0, "period_s": 0.0}), "period_s")]
    #[case(json!({"signal": "steps", "values": [], "each_s": 1.0}), "values")]
    #[case(json!({"signal": "walk", "low": 0.0, "high": 1.0, "step": 0.0}), "step")]
    #[case(json!({"signal": "replay", "csv": ""}), "csv")]
    #[case(json!({"signal": "replay", "csv": "1;2\n1;3"}), "csv")]
    #[case(json!({"signal": "replay", "csv": "1;2\n2;x"}), "csv")]
    #[case(json!({"signal": "replay", "csv": "1;2\nlater;3"}), "csv")]
    #[case(json!({"signal": "replay", "csv": "7"}), "csv")]
    fn a_wrong_field_is_named(#[case] point: Json, #[case] field: &str) {
        assert_eq!(signal(point).start(1).unwrap_err().0, field);
    }

    proptest! {
        #[test]
        fn a_walk_stays_within_bounds_and_takes_small_steps(seed in any::<u64>(), steps in prop::collection::vec(0i64..4, 1..100)) {
            let mut running = signal(json!({"signal": "walk", "low": 10.0, "high": 20.0, "step": 0.5})).start(seed).unwrap();
            let (mut now, mut last) = (1_000 * SECOND, None);
            for step in steps {
                now += step * SECOND;
                let value = running.value(now);
                prop_assert!((10.0..=20.0).contains(&value));
                if let Some(last) = last {
                    let change: f64 = value - last;
                    prop_assert!(change.abs() <= 0.5 * step as f64 + 1e-9);
                }
                last = Some(value);
            }
        }

        #[test]
        fn any_table_is_read_or_refused(csv in ".{0,200}") {
            let _ = Signal::Replay { csv }.start(1).map(|mut r| r.value(5 * SECOND));
        }
    }
}
