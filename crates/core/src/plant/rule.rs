//! Alarm rules.

use super::{
    Item, Kind, Plant, Settings, Table, Tag,
    check::{self, Wrong},
    guide::Consequences,
    kind::{Checking, Reference},
    message::Message,
};
use crate::{
    alarm::{LimitKind, RuleKind},
    formula::Formula,
};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

mod argued;
mod programs;

pub use argued::Checked;
pub(crate) use programs::{Role, condition_words};

/// The priority of a rule whose events go into history while no operator is told.
pub const RECORDED_ONLY: u8 = 0;

/// An alarm rule on a tag.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rule {
    pub tag: Uuid,
    /// The rule that it is of its tag's property.
    #[serde(default)]
    pub class_rule: Option<Uuid>,
    /// What it is known by among the rules of its tag; empty for the plain one of its kind, which each tag has once.
    #[serde(default)]
    pub name: String,
    pub kind: RuleKind,
    /// What the value is compared with: a limit or a deviation in the tag's engineering unit, a rate in that for each `per`.
    #[serde(default)]
    pub level: Option<f64>,
    /// What gives the limit instead of `level`.
    #[serde(default)]
    pub level_formula: Option<Formula>,
    /// What gives the setpoint from which the value may not deviate.
    #[serde(default)]
    pub setpoint: Option<Formula>,
    /// On which side of the setpoint, or in which direction of a change.
    #[serde(default)]
    pub side: Side,
    /// Over how many seconds a change is taken; 1 to 86,400.
    #[serde(default = "minute")]
    pub window_s: f64,
    /// The time for which a rate is said.
    #[serde(default)]
    pub per: Per,
    /// The states in which the alarm stands, by their numbers; 1 and 0 for a tag that is on or off.
    #[serde(default)]
    pub states: Vec<i64>,
    /// The alarm stands while this is true.
    #[serde(default)]
    pub when: Option<Formula>,
    /// 4 = act now, 3 = act soon, 2 = this shift, 1 = for the record; [`RECORDED_ONLY`].
    #[serde(default = "two")]
    pub priority: u8,
    /// How far the value must come back, or how far one that should change must move.
    #[serde(default)]
    pub deadband: f64,
    #[serde(default)]
    pub deadband_in: DeadbandIn,
    /// Seconds, 0 to 86,400; of a value that should change, the time within which it must.
    #[serde(default)]
    pub on_delay_s: f64,
    #[serde(default)]
    pub off_delay_s: f64,
    #[serde(default = "yes")]
    pub enabled: bool,
    /// While this is false, the alarm is suppressed by design.
    #[serde(default)]
    pub only_while: Option<Formula>,
    /// What counts where the value is uncertain.
    #[serde(default)]
    pub uncertain: Uncertain,
    /// The class of its alarms.
    // Rules without one are stored, and known by their mark, as they were before there were classes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub class: Option<Uuid>,
    /// The alarm asks to be acknowledged.
    #[serde(default = "yes")]
    pub acknowledge: bool,
    /// Once it has come, the alarm holds until somebody resets it.
    #[serde(default)]
    pub latch: bool,
    /// What happens where nobody acts, and how grave that is.
    #[serde(default)]
    pub if_ignored: String,
    #[serde(default)]
    pub consequences: Consequences,
    /// Minutes within which somebody must act so that it helps; 0.1 to 10,080.
    #[serde(default)]
    pub respond_min: Option<f64>,
    /// Why it has another priority than the site's guide gives.
    #[serde(default)]
    pub overruled: String,
    /// Who checked it last.
    #[serde(default)]
    pub checked: Option<Checked>,
    /// What the list says when the alarm comes; empty: words that follow from its kind.
    // As for the class: rules without one keep their mark.
    #[serde(default, skip_serializing_if = "Message::is_empty")]
    pub message: Message,
    /// Values that go with each event in which the alarm comes or returns: chips alone.
    #[serde(default, skip_serializing_if = "Message::is_empty", deserialize_with = "chips_alone")]
    pub values_with: Message,
    /// The group whose alarm that comes first is marked (ISA-18.1, first out); within one piece of equipment with its parts. Empty: none.
    #[serde(default)]
    pub first_out: String,
    #[serde(default)]
    pub cause: String,
    /// What the operator should do.
    #[serde(default)]
    pub action: String,
}

/// On which side of the setpoint a deviation counts, or in which direction a change does.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Side {
    #[default]
    Either,
    Above,
    Below,
}

/// The time for which a rate is said.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Per {
    Second,
    #[default]
    Minute,
    Hour,
}

impl Per {
    /// As it stands behind the unit: “°C/min”.
    pub const fn symbol(self) -> &'static str {
        match self {
            Per::Second => "s",
            Per::Minute => "min",
            Per::Hour => "h",
        }
    }
}

/// What a deadband is said in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum DeadbandIn {
    /// In what the level is said in.
    #[default]
    Unit,
    /// In percent of the tag's range.
    Range,
}

/// How a rule takes uncertain values.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Uncertain {
    /// They count like good ones.
    #[default]
    Good,
    /// They count like bad ones: an alarm stays as it is until a good value comes.
    Bad,
}

impl Rule {
    /// Whether operators are told of its alarm.
    pub fn is_told(&self) -> bool {
        self.priority != RECORDED_ONLY
    }

    /// What it is known by among the rules of its tag: “high”, or its own name.
    pub fn known_as(&self) -> &str {
        if self.name.is_empty() { self.kind.words() } else { &self.name }
    }

    /// Which limit it is, with its level, where that is a number that stands fast.
    pub fn fixed_limit(&self) -> Option<(LimitKind, f64)> {
        Some((self.kind.limit()?, self.level.filter(|_| self.level_formula.is_none())?))
    }

    /// Whether it is a rule of the equipment class that this equipment does without: it stays, switched off.
    pub fn is_left_out(&self) -> bool {
        self.class_rule.is_some() && !self.enabled
    }

    /// The deadband in what the level is said in.
    pub fn deadband_on(&self, tag: &Tag) -> f64 {
        match (self.deadband_in, tag.range_low, tag.range_high) {
            (DeadbandIn::Range, Some(low), Some(high)) => self.deadband / 100.0 * (high - low),
            _ => self.deadband,
        }
    }

    /// What its level is said in, for a tag of this unit.
    pub fn unit_on(&self, unit: &str) -> String {
        match self.kind {
            RuleKind::Rate if unit.is_empty() => format!("1/{}", self.per.symbol()),
            RuleKind::Rate => format!("{unit}/{}", self.per.symbol()),
            _ => unit.to_owned(),
        }
    }

    /// What it says of the alarm in short: “high 82”, “deviation 3”, “state”.
    pub fn in_short(&self) -> String {
        match self.level.filter(|_| self.kind.has_level() && self.level_formula.is_none()) {
            Some(level) => format!("{} {level}", self.known_as()),
            None => self.known_as().to_owned(),
        }
    }

    fn check_kind(&self, tag: Option<&Tag>, plant: &Plant, wrong: &mut Wrong) {
        let mut tell = |field: &str, words: &str| wrong.push((field.into(), words.into()));
        let holds_text = tag.is_some_and(|tag| tag.holds_text(plant));
        if let Some(tag) = tag.filter(|_| holds_text && !matches!(self.kind, RuleKind::Expression | RuleKind::BadQuality)) {
            tell("level", &format!("“{}” holds text, and a limit needs numbers.", tag.name));
        }
        match self.kind {
            kind if kind.has_level() => {
                if self.level.is_none() && self.level_formula.is_none() {
                    tell("level", "Enter the level at which the alarm comes.");
                }
                if kind.limit().is_none() && self.level.is_some_and(|level| level <= 0.0) {
                    tell("level", "Enter a number above 0; the side says in which direction it counts.");
                }
                if kind.limit().is_none() && self.level_formula.is_some() {
                    tell("level_formula", "Only a limit takes its level from a formula.");
                }
            }
            RuleKind::State if self.states.is_empty() => tell("states", "Choose the states in which the alarm stands."),
            RuleKind::NoChange if self.on_delay_s == 0.0 => {
                tell("on_delay_s", "Enter the time within which the value must change.")
            }
            _ => {}
        }
        if self.kind == RuleKind::Deviation && self.setpoint.is_none() {
            tell("setpoint", "Choose the setpoint, or enter a formula for it.");
        }
        if self.kind == RuleKind::Expression && self.when.is_none() {
            tell("when", "Enter the condition: a formula that is true or false.");
        }
        if self.states.len() > 64 {
            tell("states", "A rule names at most 64 states.");
        }
        let ranged = tag.is_some_and(|tag| tag.range_low.is_some() && tag.range_high.is_some());
        if self.deadband_in == DeadbandIn::Range && self.deadband != 0.0 && !ranged {
            tell("deadband", "The tag has no range of which this could be a part. Give the tag a range, or use its unit.");
        } else if self.deadband_in == DeadbandIn::Range && self.deadband > 100.0 {
            tell("deadband", "A part of the range is at most 100 %.");
        }
    }
}

impl Plant {
    /// The first-out group of a rule: within which place, and its name in lower case. Groups of equipment with its parts are kept
    /// apart from those of other equipment.
    pub fn first_out_group(&self, rule: &Rule) -> Option<(Uuid, String)> {
        if rule.first_out.is_empty() || !rule.is_told() {
            return None;
        }
        let place = self.tags.get(&rule.tag)?.set.place;
        Some((self.equipment_around(place).unwrap_or(place), rule.first_out.to_lowercase()))
    }
}

impl Settings for Rule {
    const KIND: Kind = Kind::Rule;
    const LAYERED: &'static [&'static str] = &["class_rule"];
    const ALONE: &'static [&'static str] = &["tag", "class_rule", "kind", "level"];
    const FORMULAS: &'static [&'static str] = &["level_formula", "setpoint", "when", "only_while"];

    const MESSAGES: &'static [&'static str] = &["message", "values_with"];

    fn message(&self, field: &str) -> Option<&Message> {
        match field {
            "message" => Some(&self.message),
            "values_with" => Some(&self.values_with),
            _ => None,
        }
    }

    fn formula(&self, field: &str) -> Option<&Formula> {
        match field {
            "level_formula" => self.level_formula.as_ref(),
            "setpoint" => self.setpoint.as_ref(),
            "when" => self.when.as_ref(),
            "only_while" => self.only_while.as_ref(),
            _ => None,
        }
    }

    fn place(&self, plant: &Plant) -> Option<Uuid> {
        plant.tags.get(&self.tag).map(|tag| tag.set.place)
    }

    fn table(plant: &Plant) -> &Table<Rule> {
        &plant.rules
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Rule> {
        &mut plant.rules
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (Some(self.tag), self.known_as())
    }

    fn clash(name: &str) -> (&'static str, String) {
        ("name", format!("The tag already has an alarm rule “{name}”; give this one a name of its own."))
    }

    fn title(item: &Item<Rule>, plant: &Plant) -> String {
        let tag = plant.tags.get(&item.set.tag).map_or_else(String::new, |t| plant.tag_path(&t.set));
        format!("{tag} {}", item.set.known_as())
    }

    /// From the lowest limit to the highest; the other kinds behind them.
    fn order(&self) -> f64 {
        self.fixed_limit().map_or(f64::INFINITY, |(_, level)| level)
    }

    fn references(&self) -> Vec<Reference> {
        let mut all = vec![Reference::inside("tag", Kind::Tag, self.tag)];
        all.extend(self.class.map(|to| Reference::to("class", Kind::AlarmClass, to)));
        for field in Self::FORMULAS {
            let read = self.formula(field).into_iter().flat_map(Formula::references);
            all.extend(read.map(|to| Reference::to(format!("{field}.text"), Kind::Tag, to)));
        }
        for field in Self::MESSAGES {
            let named = self.message(field).into_iter().flat_map(Message::formulas).flat_map(Formula::references);
            all.extend(named.map(|to| Reference::to(*field, Kind::Tag, to)));
        }
        all
    }

    fn uses(item: &Item<Rule>, reference: &Reference, plant: &Plant) -> String {
        let title = Self::title(item, plant);
        match reference.field.as_str() {
            "class" => format!("the alarms of “{title}” are of it"),
            "message" | "values_with" => format!("the message of the alarm rule “{title}” names it"),
            _ => format!("the alarm rule “{title}” reads it"),
        }
    }

    fn check(item: &Item<Rule>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let (set, plant) = (&item.set, checking.plant);
        let tag = plant.tags.get(&set.tag).map(|tag| &tag.set);
        if let Some(rule) = set.class_rule {
            let said = tag.and_then(|tag| plant.class_of(tag.place)?.properties.get(&tag.property?));
            if !said.is_some_and(|said| said.rules.contains_key(&rule)) {
                wrong.push(("class_rule".into(), "The class of the equipment has no such alarm rule.".into()));
                return;
            }
        }
        if !set.name.is_empty() {
            check::name(wrong, &set.name);
            if RuleKind::ALL.iter().any(|kind| kind.words().eq_ignore_ascii_case(&set.name)) {
                wrong.push((
                    "name".into(),
                    "This is how rules without a name of their own are called; enter another name, or none.".into(),
                ));
            }
        }
        check::between(wrong, "priority", set.priority, RECORDED_ONLY, 4);
        if !set.first_out.is_empty() {
            let mut found = Vec::new();
            check::name(&mut found, &set.first_out);
            wrong.extend(found.into_iter().map(|(_, words)| ("first_out".into(), words)));
        }
        if let Some(level) = set.level {
            check::between(wrong, "level", level, f64::MIN, f64::MAX);
        }
        check::between(wrong, "deadband", set.deadband, 0.0, f64::MAX);
        check::between(wrong, "window_s", set.window_s, 1.0, 86_400.0);
        check::between(wrong, "on_delay_s", set.on_delay_s, 0.0, 86_400.0);
        check::between(wrong, "off_delay_s", set.off_delay_s, 0.0, 86_400.0);
        check::text(wrong, "cause", &set.cause);
        check::text(wrong, "action", &set.action);
        set.check_argument(&plant.guide(), wrong);
        set.check_kind(tag, plant, wrong);
        // That what a formula names exists is seen to elsewhere.
        let there = |id: Uuid| plant.tags.contains_key(&id);
        if Self::FORMULAS.iter().filter_map(|field| set.formula(field)).all(|formula| formula.references().all(there))
            && let Err(found) = plant.rule_programs(set)
        {
            wrong.extend(found.into_iter().map(|(field, words)| (field.to_owned(), words)));
        }
        wrong.extend(set.message.wrong().map(|words| ("message".into(), words)));
        wrong.extend(set.values_with.wrong_as_list().map(|words| ("values_with".into(), words)));
        for field in Self::MESSAGES {
            let formulas = set.message(field).into_iter().flat_map(Message::formulas);
            for formula in formulas.filter(|formula| formula.references().all(there)) {
                let found = plant.message_program(formula).err().into_iter().flatten();
                let shown = plant.formula_shown(formula.text());
                wrong.extend(found.map(|wrong| ((*field).to_owned(), format!("In “{shown}”: {}", wrong.words))));
            }
        }
    }
}

fn chips_alone<'de, D: serde::Deserializer<'de>>(from: D) -> Result<Message, D::Error> {
    Message::deserialize(from).map(Message::without_words)
}

fn yes() -> bool {
    true
}
fn two() -> u8 {
    2
}
fn minute() -> f64 {
    60.0
}
