//! Settings that would calm a rule: the mildest ones under which it does not chatter and nothing that mattered is lost.

use super::{Told, Trial, judged::Judged};
use crate::{
    alarm::RuleKind,
    plant::{DeadbandIn, Plant, Rule},
    time::{Nanos, SECOND},
};

/// Settings that would calm a rule, and what would come of them.
#[derive(Clone, Debug, PartialEq)]
pub struct Calmer {
    pub rule: Rule,
    pub judged: Judged,
    /// How many alarms that stood for longer than [`MATTERS`] would not have been seen.
    pub missed: usize,
    /// By how much the latest of the others would have come later.
    pub later: Nanos,
}

/// What stands for a shorter time is no loss.
pub const MATTERS: Nanos = 60 * SECOND;
/// Parts of the range that are tried as deadbands.
const DEADBANDS: [f64; 5] = [0.005, 0.01, 0.02, 0.03, 0.05];
/// Delays that are tried, in seconds.
const OFF_DELAYS: [f64; 4] = [10.0, 30.0, 60.0, 120.0];
const ON_DELAYS: [f64; 4] = [5.0, 10.0, 30.0, 60.0];

/// Looks for them; none where nothing needs to be calmed, or nothing that is tried does. `go_on` says whether to try another one; otherwise
/// the best so far will do.
pub fn calmer(
    plant: &Plant,
    rule: &Rule,
    told: &[Told],
    span: (Nanos, Nanos),
    as_it_is: &Judged,
    go_on: &mut dyn FnMut() -> bool,
) -> Option<Calmer> {
    if as_it_is.chattering == 0 {
        return None;
    }
    let matters = Judged {
        alarms: as_it_is.alarms.iter().filter(|a| a.went.is_none_or(|went| went - a.at >= MATTERS)).copied().collect(),
        ..Judged::default()
    };
    let mut best: Option<Calmer> = None;
    for rule in candidates(plant, rule, told) {
        if !go_on() {
            break;
        }
        let judged = Judged::of(&Trial::run(plant, &rule, told, span), span.1);
        let (missed, later) = matters.lost_in(&judged, span.1);
        let found = Calmer { rule, judged, missed, later };
        if found.judged.chattering == 0 && missed == 0 {
            return Some(found);
        }
        let grade = |c: &Calmer| (c.missed, c.judged.chattering, c.judged.alarms.len());
        if found.judged.chattering < as_it_is.chattering && best.as_ref().is_none_or(|best| grade(&found) < grade(best)) {
            best = Some(found);
        }
    }
    best
}

/// Settings to try, the mildest first: a deadband costs nothing but a later return, then waiting before the return, and only then
/// waiting before the alarm.
fn candidates(plant: &Plant, rule: &Rule, told: &[Told]) -> Vec<Rule> {
    if rule.kind == RuleKind::NoChange {
        return Vec::new();
    }
    let mut all: Vec<Rule> = Vec::new();
    let tag = plant.tags.get(&rule.tag);
    let unit = if rule.kind.has_level() && rule.kind != RuleKind::Rate {
        tag.and_then(|tag| extent(tag.no, &tag.set, told))
    } else {
        None
    };
    if let Some(extent) = unit {
        let deadband = |part: f64| Rule { deadband: neat(extent * part), deadband_in: DeadbandIn::Unit, ..rule.clone() };
        let now = tag.map_or(0.0, |tag| rule.deadband_on(&tag.set));
        all.extend(DEADBANDS.into_iter().map(deadband).filter(|other| other.deadband > now));
    }
    let widest = all.last().cloned();
    all.extend(OFF_DELAYS.into_iter().filter(|s| *s > rule.off_delay_s).map(|s| Rule { off_delay_s: s, ..rule.clone() }));
    all.extend(ON_DELAYS.into_iter().filter(|s| *s > rule.on_delay_s).map(|s| Rule { on_delay_s: s, ..rule.clone() }));
    if let Some(widest) = widest {
        all.extend(OFF_DELAYS.into_iter().map(|s| Rule { off_delay_s: s, ..widest.clone() }));
    }
    all
}

/// How far a value goes: its range, or what was told of it.
fn extent(no: crate::TagNo, tag: &crate::plant::Tag, told: &[Told]) -> Option<f64> {
    if let (Some(low), Some(high)) = (tag.range_low, tag.range_high) {
        return Some(high - low);
    }
    let numbers = told.iter().filter(|one| one.tag == no).filter_map(|one| one.value.as_ref()?.number());
    let (low, high) = numbers.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), n| (low.min(n), high.max(n)));
    (low < high).then_some(high - low)
}

/// Two digits are enough for a deadband.
fn neat(number: f64) -> f64 {
    format!("{number:.1e}").parse().unwrap_or(number)
}
