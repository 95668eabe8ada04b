//! What the list says when an alarm comes.

use super::{Current, Slot};
use crate::{
    TagNo,
    alarm::{KeptValue, RuleKind},
    formula::{Cause, Fault, Formula, Program, Reading, Running},
    number::Number,
    plant::{
        Item, Plant, Role, Rule, States, Tag,
        message::{Chip, Piece},
    },
    quality::Quality,
    sample::Value,
    time::Nanos,
};
use std::sync::Arc;
use uuid::Uuid;

/// The longest text of an alarm, in characters.
const LONGEST: usize = 500;
/// The most characters that are told of a value that is text.
const LONGEST_VALUE: usize = 200;

impl Plant {
    /// What an alarm of this rule would say if it came now, and what would go with its event. `known` gives the newest of a tag. Where
    /// what is judged cannot be worked out from that alone, such as a change over time, it counts as being at the limit.
    pub fn message_now(&self, rule: &Rule, at: Nanos, known: &dyn Fn(TagNo) -> Option<Current>) -> (String, Vec<KeptValue>) {
        let Some(tag) = self.tags.get(&rule.tag) else { return (String::new(), Vec::new()) };
        let tags: Vec<_> = self.trial_tags(rule);
        let slot = |id: Uuid| tags.iter().position(|tag| tag.id == id).map(|index| index as Slot);
        let newest: Vec<Current> = tags.iter().map(|tag| known(tag.no).unwrap_or(Current::UNREAD)).collect();
        let reading =
            |slot: Slot| Reading { value: newest[slot as usize].value.as_ref(), quality: newest[slot as usize].quality };
        let programs = self.rule_programs(rule).unwrap_or_default();
        let given = |role: Role| {
            let (_, program) = programs.iter().find(|(known, program)| *known == role && !program.remembers())?;
            let inputs: Vec<Slot> = program.inputs.iter().map(|id| slot(*id)).collect::<Option<_>>()?;
            let reading = |input: usize| reading(inputs[input]);
            Running::new(program.clone().into()).evaluate(at, 0, &reading).value.ok()?.0.value().exact()
        };
        let level = given(Role::Level).map(Number::float).or(rule.level).unwrap_or(f64::NAN);
        let measured = programs.iter().any(|(role, _)| *role == Role::Measure);
        let value = if measured { given(Role::Measure) } else { newest[0].value.as_ref().and_then(Value::exact) };
        let moment = Moment {
            at,
            value: value.unwrap_or(Number::Float(if level.is_nan() { 0.0 } else { level })),
            level,
            switch: matches!(newest[0].value, Some(Value::Bool(_))),
            quality: newest[0].quality,
            reading: &reading,
        };
        let words = Words::of(self, rule, tag, &slot);
        (words.text(&moment), words.values(&moment))
    }
}

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
    /// What the list says instead of what follows from the kind.
    message: Vec<Part>,
    /// What goes with its events, each behind its name.
    values_with: Vec<(String, Computed)>,
}

/// A part of a message, made ready.
#[derive(Clone, Debug)]
enum Part {
    Words(String),
    Value,
    Limit,
    Reason,
    Computed(Computed),
}

/// A formula of a message, made ready.
#[derive(Clone, Debug)]
struct Computed {
    program: Arc<Program>,
    /// What it reads, in the order of the program's inputs; none where the tag is not there.
    inputs: Vec<Option<Slot>>,
    /// It only names a tag.
    is_tag: bool,
    unit: String,
    decimals: u8,
    states: Option<Arc<Item<States>>>,
}

/// What is known at the instant at which an alarm comes or returns.
pub struct Moment<'a> {
    pub at: Nanos,
    pub value: Number,
    pub level: f64,
    /// The tag is on or off.
    pub switch: bool,
    pub quality: Quality,
    /// What the values named in messages are.
    pub reading: &'a dyn Fn(Slot) -> Reading<'a>,
}

impl Words {
    /// The words of a rule; `slot` tells where the value of a tag that its message names will be found.
    pub fn of(plant: &Plant, rule: &Rule, tag: &Item<Tag>, slot: &dyn Fn(Uuid) -> Option<Slot>) -> Words {
        let computed = |formula: &Formula| Computed::of(plant, formula, slot);
        let name = |formula: &Formula| match formula.references().next().filter(|_| formula.only_named().is_some()) {
            Some(id) => named_from(plant, id, tag.set.place),
            None => plant.formula_shown(formula.text()),
        };
        let values_with = rule.values_with.formulas().map(|formula| (name(formula), computed(formula)));
        Words {
            kind: rule.kind,
            name: tag.set.name.clone(),
            known_as: rule.known_as().to_owned(),
            unit: rule.unit_on(&tag.set.unit),
            decimals: tag.set.decimals,
            within_s: rule.on_delay_s,
            states: tag.set.states.and_then(|id| plant.states.get(&id)).cloned(),
            message: rule.message.pieces().iter().map(|piece| Part::of(plant, rule, tag, piece, slot)).collect(),
            values_with: values_with.filter_map(|(name, computed)| Some((name, computed?))).collect(),
        }
    }

    /// What goes with an event at this moment.
    pub fn values(&self, moment: &Moment<'_>) -> Vec<KeptValue> {
        let said = self.values_with.iter();
        said.map(|(name, computed)| KeptValue { name: name.clone(), text: computed.text(moment) }).collect()
    }

    /// The text of an alarm that comes: its message, or what follows from its kind.
    pub fn text(&self, moment: &Moment<'_>) -> String {
        if self.message.is_empty() {
            return self.plain(moment);
        }
        let mut text = String::new();
        for part in &self.message {
            match part {
                Part::Words(words) => text.push_str(words),
                Part::Value => text.push_str(&self.judged(moment)),
                Part::Limit if moment.level.is_nan() => text.push_str("no limit"),
                Part::Limit => text.push_str(&with_unit(Number::Float(moment.level).print(self.decimals), &self.unit)),
                Part::Reason => text.push_str(moment.quality.reason().words()),
                Part::Computed(computed) => text.push_str(&computed.text(moment)),
            }
        }
        cut(text, LONGEST)
    }

    /// What was judged, by the name of its state or with its unit.
    fn judged(&self, moment: &Moment<'_>) -> String {
        match (self.states.as_ref().and_then(|s| s.set.name_of(moment.value.float())), moment.switch) {
            (Some(name), _) => name.to_owned(),
            (None, true) => on_or_off(moment.value.float() != 0.0).to_owned(),
            (None, false) => with_unit(moment.value.print(self.decimals), &self.unit),
        }
    }

    /// What follows from the kind: “Temperature high, 84.6 °C over 82.0”, “Pump is Tripped”.
    fn plain(&self, moment: &Moment<'_>) -> String {
        let Words { name, .. } = self;
        let &Moment { value, level, switch, quality, .. } = moment;
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
                let plain = || if switch { on_or_off(value.float() != 0.0).to_owned() } else { print(value) };
                format!("{name} is {}", state.map_or_else(plain, str::to_owned))
            }
            kind => {
                let side = if kind.limit().is_some_and(|limit| limit.is_high()) { "over" } else { "under" };
                format!("{name} {}, {}{unit} {side} {}", kind.words(), print(value), print(level.into()))
            }
        }
    }
}

impl Part {
    fn of(plant: &Plant, rule: &Rule, tag: &Item<Tag>, piece: &Piece, slot: &dyn Fn(Uuid) -> Option<Slot>) -> Part {
        let place = |id: Uuid| plant.places.get(&id).map_or_else(String::new, |place| place.set.name.clone());
        let chip = match piece {
            Piece::Words(words) => return Part::Words(words.clone()),
            Piece::Formula { formula } => {
                let computed = Computed::of(plant, formula, slot);
                // The door lets nothing in that cannot be computed.
                return computed.map_or_else(|| Part::Words(NO_VALUE.into()), Part::Computed);
            }
            Piece::Chip { chip } => chip,
        };
        match chip {
            Chip::Value => Part::Value,
            Chip::Limit => Part::Limit,
            Chip::Reason => Part::Reason,
            Chip::Unit => Part::Words(rule.unit_on(&tag.set.unit)),
            Chip::Rule => Part::Words(rule.known_as().to_owned()),
            Chip::Tag => Part::Words(tag.set.name.clone()),
            Chip::Place => Part::Words(place(tag.set.place)),
            Chip::Equipment => Part::Words(place(plant.equipment_around(tag.set.place).unwrap_or(tag.set.place))),
        }
    }
}

/// What a tag is called beside those of a place.
fn named_from(plant: &Plant, id: Uuid, place: Uuid) -> String {
    let Some(tag) = plant.tags.get(&id) else { return String::new() };
    match plant.places.get(&tag.set.place).filter(|_| tag.set.place != place) {
        Some(other) => format!("{} / {}", other.set.name, tag.set.name),
        None => tag.set.name.clone(),
    }
}

const NO_VALUE: &str = "no value";

impl Computed {
    fn of(plant: &Plant, formula: &Formula, slot: &dyn Fn(Uuid) -> Option<Slot>) -> Option<Computed> {
        let program = plant.message_program(formula).ok()?;
        let tags = || program.inputs.iter().filter_map(|id| plant.tags.get(id));
        let is_tag = formula.only_named().is_some();
        let of_tag = tags().next().filter(|_| is_tag);
        Some(Computed {
            inputs: program.inputs.iter().map(|id| slot(*id)).collect(),
            is_tag,
            unit: of_tag.map_or_else(|| program.unit.clone(), |tag| tag.set.unit.clone()),
            decimals: tags().map(|tag| tag.set.decimals).max().unwrap_or_default(),
            states: of_tag.and_then(|tag| plant.states.get(&tag.set.states?)).cloned(),
            program: program.into(),
        })
    }

    /// What it is at a moment: “3.2 m”, “Running”; with what is wrong with it.
    fn text(&self, moment: &Moment<'_>) -> String {
        let unread = Reading { value: None, quality: Quality::of(crate::quality::Reason::NotRead) };
        let reading = |input: usize| self.inputs.get(input).copied().flatten().map_or(unread, moment.reading);
        if self.is_tag {
            // As the tag holds it: a formula knows fewer digits.
            let Reading { value, quality } = reading(0);
            return match value {
                Some(value) if !quality.is_bad() => self.print(value, quality.is_uncertain()),
                _ => format!("{NO_VALUE} ({})", quality.reason().words()),
            };
        }
        match Running::new(self.program.clone()).evaluate(moment.at, 0, &reading).value {
            Ok((value, doubt)) => self.print(&value.value(), doubt.is_some()),
            Err(Cause { fault: Fault::Input(_, reason), .. }) => format!("{NO_VALUE} ({})", reason.words()),
            Err(_) => NO_VALUE.to_owned(),
        }
    }

    fn print(&self, value: &Value, doubtful: bool) -> String {
        let state = value.number().and_then(|number| self.states.as_ref()?.set.name_of(number).map(str::to_owned));
        let shown = match (state, value) {
            (Some(name), _) => name,
            (None, Value::Bool(on)) => on_or_off(*on).to_owned(),
            (None, Value::Text(text)) => cut(crate::text::shown(text).into_owned(), LONGEST_VALUE),
            (None, value) => value.exact().map_or_else(String::new, |number| with_unit(number.print(self.decimals), &self.unit)),
        };
        if doubtful { format!("{shown} (uncertain)") } else { shown }
    }
}

/// A text with a sign at its end where it was longer.
fn cut(text: String, most: usize) -> String {
    match text.char_indices().nth(most) {
        Some(_) => text.chars().take(most - 1).chain(['…']).collect(),
        None => text,
    }
}

fn on_or_off(on: bool) -> &'static str {
    if on { "on" } else { "off" }
}

fn with_unit(number: String, unit: &str) -> String {
    if unit.is_empty() { number } else { format!("{number} {unit}") }
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
