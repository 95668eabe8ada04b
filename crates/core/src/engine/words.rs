//! What the list says when an alarm comes.

use crate::{
    alarm::RuleKind,
    number::Number,
    plant::{Item, Plant, Rule, States, Tag},
    quality::Quality,
};
use std::sync::Arc;

/// What the text of an alarm is made of.
#[derive(Clone, Debug)]
pub struct Words {
    kind: RuleKind,
    /// The tag's name, which begins the text.
    name: String,
    /// What the rule is known by.
    known_as: String,
    /// What the level is said in.
    unit: String,
    decimals: u8,
    /// For how long a value must not have changed, in seconds.
    within_s: f64,
    /// Names for the tag's numbers.
    states: Option<Arc<Item<States>>>,
}

impl Words {
    pub(super) fn of(plant: &Plant, rule: &Rule, tag: &Item<Tag>) -> Words {
        Words {
            kind: rule.kind,
            name: tag.set.name.clone(),
            known_as: rule.known_as().to_owned(),
            unit: rule.unit_on(&tag.set.unit),
            decimals: tag.set.decimals,
            within_s: rule.on_delay_s,
            states: tag.set.states.and_then(|id| plant.states.get(&id)).cloned(),
        }
    }

    /// The text of an alarm that comes: “Temperature high, 84.6 °C over 82.0”, “Pump is Tripped”. `switch`: the tag is on or off.
    pub fn text(&self, value: Number, level: f64, switch: bool, quality: Quality) -> String {
        let Words { name, .. } = self;
        let unit = if self.unit.is_empty() { String::new() } else { format!(" {}", self.unit) };
        let print = |number: Number| number.print(self.decimals);
        let apart = |number: f64| Number::Float(number.abs()).print(self.decimals);
        let state = self.states.as_ref().and_then(|s| s.set.name_of(value.float()));
        match self.kind {
            RuleKind::Deviation => {
                let side = if value.float() < 0.0 { "below" } else { "above" };
                format!("{name} {}{unit} {side} its setpoint, limit {}", apart(value.float()), apart(level))
            }
            RuleKind::Rate => {
                let way = if value.float() < 0.0 { "falls" } else { "rises" };
                format!("{name} {way} by {}{unit}, limit {}", apart(value.float()), apart(level))
            }
            RuleKind::Expression => format!("{name}: {}", self.known_as),
            RuleKind::BadQuality => format!("{name} has no good value: {}", quality.reason().words()),
            RuleKind::NoChange => {
                let shown = state.map_or_else(|| format!("{}{unit}", print(value)), str::to_owned);
                format!("{name} has not changed for {}, stays at {shown}", lasted(self.within_s))
            }
            _ if switch || state.is_some() || self.kind == RuleKind::State => {
                let on = value.float() != 0.0;
                let plain = || if switch { if on { "on" } else { "off" }.to_owned() } else { print(value) };
                format!("{name} is {}", state.map_or_else(plain, str::to_owned))
            }
            kind => {
                let side = if kind.limit().is_some_and(|limit| limit.is_high()) { "over" } else { "under" };
                format!("{name} {}, {}{unit} {side} {}", kind.words(), print(value), print(level.into()))
            }
        }
    }
}

/// A span in words: “45 s”, “10 min”, “1 h 30 min”.
fn lasted(seconds: f64) -> String {
    let whole = seconds as u64;
    if seconds.fract() != 0.0 || whole < 60 {
        return format!("{seconds} s");
    }
    let parts = [(whole / 3600, "h"), (whole / 60 % 60, "min"), (whole % 60, "s")];
    parts.iter().filter(|(number, _)| *number > 0).map(|(number, unit)| format!("{number} {unit}")).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(45.0, "45 s")]
    #[case(0.5, "0.5 s")]
    #[case(600.0, "10 min")]
    #[case(5400.0, "1 h 30 min")]
    #[case(3661.0, "1 h 1 min 1 s")]
    fn spans_read_like_speech(#[case] seconds: f64, #[case] words: &str) {
        assert_eq!(lasted(seconds), words);
    }
}
