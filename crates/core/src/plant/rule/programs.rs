//! What an alarm rule computes: its formulas made ready, and those that follow from its kind.

use super::Rule;
use crate::{
    alarm::RuleKind,
    formula::{Formula, Mixed, Places, Program},
    plant::Plant,
};
use uuid::Uuid;

/// What a program of a rule is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub(crate) enum Role {
    /// It gives what is judged, instead of the tag.
    Measure,
    /// It gives the level.
    Level,
    /// While it is false, the alarm is suppressed by design.
    Enable,
}

/// The programs of a rule; few rules have any.
pub(crate) type Programs = Vec<(Role, Program)>;

/// What is wrong: the field of a formula, and a sentence.
type Wrong = Vec<(&'static str, String)>;

/// Most tags in a formula of a rule: one less than a formula has, because the tag of the rule may come to them.
const MOST_INPUTS: usize = 63;

/// Why something cannot work with a formula that counts.
fn counts(who: &str) -> String {
    format!("{who} cannot count from a beginning on. Make a computed tag that counts, and name it here.")
}

/// Why a program is no condition for something, which is named with its article; none where it is one.
pub(crate) fn condition_words(program: &Program, who: &str) -> Option<String> {
    if program.counts() {
        Some(counts(who))
    } else if program.is_never_switch() {
        Some("A condition is true or false; compare the value with something.".into())
    } else {
        None
    }
}

impl Plant {
    /// The programs that a rule needs.
    ///
    /// # Errors
    /// Everything that is wrong with its formulas.
    pub(crate) fn rule_programs(&self, rule: &Rule) -> Result<Programs, Wrong> {
        let (mut made, mut wrong) = (Programs::new(), Wrong::new());
        let Some(tag) = self.tags.get(&rule.tag) else { return Ok(made) };
        let mut ready = |field: &'static str, formula: &Formula, unit: &str, condition: bool| {
            let program = match self.program(formula, unit) {
                Ok(program) => program,
                Err(found) => {
                    wrong.extend(found.into_iter().map(|w| (field, w.to_string())));
                    return None;
                }
            };
            let told = if condition {
                condition_words(&program, "An alarm rule")
            } else if program.counts() {
                Some(counts("An alarm rule"))
            } else {
                program.is_never_number().then(|| "This must give a number.".into())
            };
            let too_many =
                || (program.inputs.len() > MOST_INPUTS).then(|| "A formula of an alarm rule names at most 63 tags.".to_owned());
            match told.or_else(too_many) {
                Some(told) => wrong.push((field, told)),
                None => return Some(program),
            }
            None
        };
        let unit = tag.set.unit.as_str();
        if let Some(formula) = rule.level_formula.as_ref().filter(|_| rule.kind.limit().is_some()) {
            made.extend(ready("level_formula.text", formula, unit, false).map(|program| (Role::Level, program)));
        }
        if let Some(formula) = &rule.only_while {
            made.extend(ready("only_while.text", formula, "", true).map(|program| (Role::Enable, program)));
        }
        match rule.kind {
            RuleKind::Expression => {
                let program = rule.when.as_ref().and_then(|formula| ready("when.text", formula, "", true));
                made.extend(program.map(|program| (Role::Measure, program)));
            }
            RuleKind::Deviation => {
                // Places in the setpoint are told by the setpoint alone, so it is made ready by itself first.
                if let Some(setpoint) = rule.setpoint.as_ref().filter(|f| ready("setpoint.text", f, unit, false).is_some()) {
                    let text = format!("{} - ({})", Formula::call("at", &rule.tag.to_string()), setpoint.text());
                    match self.following(&text, setpoint.mixed(), unit) {
                        Ok(program) => made.push((Role::Measure, program)),
                        Err(words) => wrong.push(("setpoint.text", words)),
                    }
                }
            }
            RuleKind::Rate => {
                let tag = Formula::call("at", &rule.tag.to_string());
                let text = format!("rate({tag}, \"{}s\", \"1{}\")", rule.window_s, rule.per.symbol());
                match self.following(&text, Mixed::Convert, "") {
                    Ok(program) => made.push((Role::Measure, program)),
                    Err(words) => wrong.push(("window_s", words)),
                }
            }
            _ => {}
        }
        if wrong.is_empty() { Ok(made) } else { Err(wrong) }
    }

    /// A formula that follows from the kind of a rule.
    fn following(&self, text: &str, mixed: Mixed, unit: &str) -> Result<Program, String> {
        let formula = Formula::read(text, mixed).map_err(|wrong| wrong.words)?;
        self.program_at(&formula, unit, &Places::default())
            .map_err(|all| all.into_iter().next().map_or_else(String::new, |w| w.words))
    }

    /// What its message and the values that go with its events name.
    pub fn rule_names(&self, rule: &Rule) -> Vec<Uuid> {
        let formulas = rule.message.formulas().chain(rule.values_with.formulas());
        let mut named: Vec<Uuid> = formulas.flat_map(Formula::references).collect();
        named.sort_unstable();
        named.dedup();
        named
    }

    /// What the programs of a rule read besides its own tag.
    pub fn rule_reads(&self, rule: &Rule) -> Vec<Uuid> {
        let all = [&rule.level_formula, &rule.setpoint, &rule.when, &rule.only_while];
        let mut read: Vec<Uuid> = all.into_iter().flatten().flat_map(Formula::references).collect();
        read.sort_unstable();
        read.dedup();
        read
    }
}
