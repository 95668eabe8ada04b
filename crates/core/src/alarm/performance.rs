//! How well alarms serve the people who watch them: what they were told, against the figures of the guides
//! (ISA-18.2-2016 and IEC 62682:2014, clause 16; EEMUA 191 ed. 3).

use super::{EventKind, chatter::chatter, span::Turn};
use crate::time::{Nanos, SECOND};
use serde::Serialize;
use std::collections::HashMap;
use uuid::Uuid;

/// The span for which the guides count alarms.
pub const TEN_MINUTES: Nanos = 600 * SECOND;
/// A flood begins when more than so many come in ten minutes, and ends when fewer than [`FLOOD_ENDS`] do.
pub const FLOOD_BEGINS: usize = 10;
pub const FLOOD_ENDS: usize = 5;
/// What returns sooner than this, without chattering, is fleeting: nobody could have acted on it.
pub const FLEETING: Nanos = 60 * SECOND;
/// What stands for longer is stale.
pub const STALE: Nanos = 86_400 * SECOND;
/// How many alarms of a flood are told as its first.
const FIRST_OF_FLOOD: usize = 5;
/// Most spans that the course of a period is told in.
const MOST_SLOTS: u64 = 300;

/// What an operator was told in a period.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Performance {
    /// How many alarms came.
    pub count: usize,
    /// For how long it is known what came, in ns.
    pub measured: Nanos,
    /// Alarms in ten minutes, on average.
    pub average: f64,
    /// The most in any ten minutes, and when these began.
    pub most: (usize, Nanos),
    /// The course: equal spans of so many ns, from the beginning on.
    pub slot: Nanos,
    pub slots: Vec<Slot>,
    pub floods: Vec<Flood>,
    /// For how long alarms came in floods.
    pub flooded: Nanos,
    /// How many came with priority 1, 2, 3 and 4.
    pub by_priority: [usize; 4],
    /// Share of the ten rules whose alarms came most often, 0 to 1.
    pub top_ten: f64,
    pub chattering: usize,
    pub fleeting: usize,
    /// How many stood for longer than [`STALE`] at the end of the period.
    pub stale: usize,
    pub acknowledged: Times,
    pub returned: Times,
    /// The rules whose alarms came or stood, those that came most often first.
    pub rules: Vec<OfRule>,
}

/// One span of the course.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Slot {
    pub count: usize,
    /// The most in ten minutes that began within it.
    pub most: usize,
}

/// Many alarms at once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Flood {
    pub from: Nanos,
    pub to: Nanos,
    pub count: usize,
    /// The most in ten minutes.
    pub most: usize,
    /// Which came first.
    pub first: Vec<(Uuid, Nanos)>,
}

/// How long something took, in ns.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Times {
    pub count: usize,
    pub median: Nanos,
    /// Nine of ten were done by then.
    pub ninth: Nanos,
    pub longest: Nanos,
}

/// What came of one rule.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OfRule {
    pub rule: Uuid,
    /// As it was last.
    pub priority: u8,
    pub count: usize,
    pub chattering: usize,
    pub fleeting: usize,
    /// For how long its alarm stood in the period.
    pub standing: Nanos,
    /// Since when it stands, at the end of the period.
    pub since: Option<Nanos>,
}

/// What the guides give a figure for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Measure {
    /// Alarms in ten minutes: about 1 is acceptable, 2 can be managed.
    Average,
    /// The most in ten minutes: up to 10.
    Most,
    /// Share of the time in floods, in %: under 1.
    Flooded,
    /// Share of the ten most frequent, in %: at most 5.
    TopTen,
    /// Chattering alarms: none.
    Chattering,
    /// Fleeting alarms: none.
    Fleeting,
    /// Standing over a day: fewer than 5.
    Stale,
    /// Share of priorities 3 and 4, in %: about 5, and under 1 for priority 4.
    Urgent,
}

impl Measure {
    /// What it measures, in words.
    pub const fn title(self) -> &'static str {
        match self {
            Measure::Average => "Alarms in 10 min, on average",
            Measure::Most => "Most alarms in any 10 min",
            Measure::Flooded => "Share of the time in floods",
            Measure::TopTen => "Share of the ten most frequent rules",
            Measure::Chattering => "Chattering: 3 or more in a minute",
            Measure::Fleeting => "Fleeting: normal again within a minute",
            Measure::Stale => "Standing for more than 24 h",
            Measure::Urgent => "Share of priorities 3 and 4",
        }
    }

    /// What the guides have for it.
    pub const fn guide(self) -> &'static str {
        match self {
            Measure::Average => "about 1, at most 2",
            Measure::Most => "at most 10",
            Measure::Flooded => "under 1 %",
            Measure::TopTen => "at most 5 %",
            Measure::Chattering | Measure::Fleeting => "none",
            Measure::Stale => "fewer than 5",
            Measure::Urgent => "about 5 %; of 4 under 1 %",
        }
    }

    /// A figure as it is printed: “0.7 %”.
    pub fn print(self, value: f64) -> String {
        match self {
            Measure::Average => format!("{value:.2}"),
            Measure::Flooded | Measure::Urgent => format!("{value:.1} %"),
            Measure::TopTen => format!("{value:.0} %"),
            Measure::Most | Measure::Chattering | Measure::Fleeting | Measure::Stale => format!("{value:.0}"),
        }
    }
}

impl Grade {
    /// In words.
    pub const fn words(self) -> &'static str {
        match self {
            Grade::Met => "met",
            Grade::Near => "close",
            Grade::Missed => "not met",
        }
    }
}

/// How a figure compares with the guides.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Grade {
    Met,
    /// It can be managed, and needs to become better.
    Near,
    Missed,
}

/// One alarm that an operator was told of.
struct Came {
    rule: Uuid,
    at: Nanos,
    priority: u8,
    /// When it was one no longer, and whether because its condition was gone.
    ended: Option<(Nanos, bool)>,
    acknowledged: Option<Nanos>,
}

impl Performance {
    /// Counts what happened in `from..to`: `turns` in the order of their time, with what went before to tell what stood at the
    /// beginning. For `unknown` of that time it is not known what happened.
    pub fn of(turns: &[Turn], from: Nanos, to: Nanos, unknown: Nanos) -> Performance {
        let all = told(turns, to);
        let came: Vec<&Came> = all.iter().filter(|came| came.at >= from).collect();
        let at: Vec<Nanos> = came.iter().map(|came| came.at).collect();
        let measured = (to - from - unknown).max(0);
        let floods = floods(&came, to);
        let mut by_priority = [0; 4];
        for came in &came {
            by_priority[usize::from(came.priority.clamp(1, 4) - 1)] += 1;
        }
        let rules = of_rules(&all, from, to);
        let top: usize = rules.iter().take(10).map(|rule| rule.count).sum();
        let (slot, slots) = course(&at, from, to);
        Performance {
            count: came.len(),
            measured,
            average: if measured > 0 { came.len() as f64 * TEN_MINUTES as f64 / measured as f64 } else { 0.0 },
            most: windows(&at)
                .max_by_key(|(first, count)| (*count, std::cmp::Reverse(*first)))
                .map_or((0, from), |(first, count)| (count, at[first])),
            slot,
            slots,
            flooded: floods.iter().map(|flood| flood.to - flood.from).sum(),
            floods,
            by_priority,
            top_ten: if came.is_empty() { 0.0 } else { top as f64 / came.len() as f64 },
            chattering: rules.iter().map(|rule| rule.chattering).sum(),
            fleeting: rules.iter().map(|rule| rule.fleeting).sum(),
            stale: rules.iter().filter(|rule| rule.since.is_some_and(|since| to - since > STALE)).count(),
            acknowledged: Times::of(came.iter().filter_map(|came| Some(came.acknowledged? - came.at))),
            returned: Times::of(came.iter().filter_map(|came| came.ended.filter(|(_, gone)| *gone).map(|(at, _)| at - came.at))),
            rules,
        }
    }

    /// The figures that the guides have one for, each with how it compares.
    pub fn figures(&self) -> Vec<(Measure, f64, Grade)> {
        let share = |part: f64, of: f64| if of > 0.0 { 100.0 * part / of } else { 0.0 };
        let count = self.count as f64;
        let urgent = share((self.by_priority[2] + self.by_priority[3]) as f64, count);
        let most_urgent = share(self.by_priority[3] as f64, count);
        let grade = |value: f64, met: f64, near: f64| match value {
            value if value <= met => Grade::Met,
            value if value <= near => Grade::Near,
            _ => Grade::Missed,
        };
        let flooded = share(self.flooded as f64, self.measured as f64);
        vec![
            (Measure::Average, self.average, grade(self.average, 1.0, 2.0)),
            (Measure::Most, self.most.0 as f64, grade(self.most.0 as f64, 10.0, 10.0)),
            (Measure::Flooded, flooded, grade(flooded, 1.0, 1.0)),
            (Measure::TopTen, 100.0 * self.top_ten, grade(100.0 * self.top_ten, 5.0, 20.0)),
            (Measure::Chattering, self.chattering as f64, grade(self.chattering as f64, 0.0, 0.0)),
            (Measure::Fleeting, self.fleeting as f64, grade(self.fleeting as f64, 0.0, 0.0)),
            (Measure::Stale, self.stale as f64, grade(self.stale as f64, 4.0, 4.0)),
            (Measure::Urgent, urgent, grade(urgent, 6.0, 20.0).max(grade(most_urgent, 1.0, 5.0))),
        ]
    }
}

/// What operators were told: an alarm comes when its condition holds and nothing keeps it back.
fn told(turns: &[Turn], to: Nanos) -> Vec<Came> {
    #[derive(Default)]
    struct Life {
        active: bool,
        /// Its last coming, and whether that stands.
        last: Option<usize>,
        stands: bool,
    }
    let mut lives: HashMap<Uuid, Life> = HashMap::new();
    let mut all: Vec<Came> = Vec::new();
    for turn in turns.iter().filter(|turn| turn.at < to) {
        let life = lives.entry(turn.rule).or_default();
        match turn.kind {
            EventKind::Raised => life.active = true,
            EventKind::Returned | EventKind::Withdrawn => life.active = false,
            EventKind::Acknowledged => {
                if let Some(came) = life.last.map(|last| &mut all[last]) {
                    came.acknowledged.get_or_insert(turn.at);
                }
            }
            _ => {}
        }
        let told = life.active && !turn.suppressed && turn.priority > 0;
        if told && !life.stands {
            (life.last, life.stands) = (Some(all.len()), true);
            all.push(Came { rule: turn.rule, at: turn.at, priority: turn.priority, ended: None, acknowledged: None });
        } else if !told && life.stands {
            life.stands = false;
            if let Some(last) = life.last {
                all[last].ended = Some((turn.at, turn.kind == EventKind::Returned));
            }
        }
    }
    all
}

/// For each alarm, how many came in the ten minutes that it begins.
fn windows(at: &[Nanos]) -> impl Iterator<Item = (usize, usize)> {
    let mut end = 0;
    (0..at.len()).map(move |first| {
        while end < at.len() && at[end] - at[first] < TEN_MINUTES {
            end += 1;
        }
        (first, end - first)
    })
}

fn floods(came: &[&Came], to: Nanos) -> Vec<Flood> {
    let mut floods: Vec<Flood> = Vec::new();
    // The first of the ten minutes up to this alarm, and of the flood that goes on.
    let (mut first, mut begun) = (0, None::<usize>);
    let end_of = |last: usize| came[last + 1 - FLOOD_ENDS].at + TEN_MINUTES;
    for (index, alarm) in came.iter().enumerate() {
        while alarm.at - came[first].at >= TEN_MINUTES {
            first += 1;
        }
        let count = index + 1 - first;
        // One that comes as the fifth last leaves takes its place.
        if begun.is_some() && end_of(index - 1) < alarm.at {
            if let Some(flood) = floods.last_mut() {
                flood.to = end_of(index - 1);
            }
            begun = None;
        }
        if begun.is_none() && count > FLOOD_BEGINS {
            begun = Some(first);
            let told = came[first..].iter().take(FIRST_OF_FLOOD).map(|came| (came.rule, came.at)).collect();
            // Alarms of the flood before may lie within the same ten minutes.
            let from = floods.last().map_or(came[first].at, |before| came[first].at.max(before.to));
            floods.push(Flood { from, to, count: 0, most: 0, first: told });
        }
        if let (Some(begun), Some(flood)) = (begun, floods.last_mut()) {
            flood.count = index + 1 - begun;
            flood.most = flood.most.max(count);
        }
    }
    if let (Some(flood), true) = (floods.last_mut(), begun.is_some()) {
        flood.to = end_of(came.len() - 1).min(to);
    }
    floods
}

/// The course of a period in spans of whole ten minutes.
fn course(at: &[Nanos], from: Nanos, to: Nanos) -> (Nanos, Vec<Slot>) {
    let tens = (to - from).max(1).cast_unsigned().div_ceil(TEN_MINUTES.cast_unsigned());
    let each = tens.div_ceil(MOST_SLOTS);
    let slot = each.cast_signed() * TEN_MINUTES;
    let mut slots = vec![Slot::default(); tens.div_ceil(each) as usize];
    let slot_of = |at: Nanos| ((at - from) / slot) as usize;
    for (first, most) in windows(at) {
        if let Some(slot) = slots.get_mut(slot_of(at[first])) {
            slot.count += 1;
            slot.most = slot.most.max(most);
        }
    }
    (slot, slots)
}

fn of_rules(all: &[Came], from: Nanos, to: Nanos) -> Vec<OfRule> {
    let mut by_rule: HashMap<Uuid, Vec<&Came>> = HashMap::new();
    for came in all {
        by_rule.entry(came.rule).or_default().push(came);
    }
    let mut rules: Vec<OfRule> = Vec::with_capacity(by_rule.len());
    for (rule, all) in by_rule {
        let chatters = chatter(&all.iter().map(|came| came.at).collect::<Vec<_>>());
        let in_period = || all.iter().zip(&chatters).filter(|(came, _)| came.at >= from);
        let is_fleeting = |came: &Came| came.ended.is_some_and(|(at, gone)| gone && at - came.at < FLEETING);
        let stood = |came: &&Came| came.ended.map_or(to, |(at, _)| at).max(from) - came.at.max(from);
        let of = OfRule {
            rule,
            priority: all.last().map_or(0, |came| came.priority),
            count: in_period().count(),
            chattering: in_period().filter(|(_, chatters)| **chatters).count(),
            fleeting: in_period().filter(|(came, chatters)| !**chatters && is_fleeting(came)).count(),
            standing: all.iter().map(stood).sum(),
            since: all.last().filter(|came| came.ended.is_none()).map(|came| came.at),
        };
        if of.count > 0 || of.standing > 0 {
            rules.push(of);
        }
    }
    rules.sort_unstable_by_key(|of| (std::cmp::Reverse((of.count, of.standing)), of.rule));
    rules
}

impl Times {
    fn of(times: impl Iterator<Item = Nanos>) -> Times {
        let mut all: Vec<Nanos> = times.collect();
        all.sort_unstable();
        // The nearest rank.
        let at = |share: f64| all.get(((all.len() as f64 * share).ceil() as usize).saturating_sub(1)).copied().unwrap_or(0);
        Times { count: all.len(), median: at(0.5), ninth: at(0.9), longest: at(1.0) }
    }
}

#[cfg(test)]
mod tests;
