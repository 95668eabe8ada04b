//! Dispatches: when a report is made by itself or by hand, over which period, and where it goes.

use super::{
    Edge, Item, Kind, Plant, Report, Settings, ShiftPattern, Table, Tag,
    call_plan::{Carrier, is_address},
    check::{self, Wrong},
    kind::{Checking, Reference},
    schedule::Schedule,
    trigger,
    week::{instant, local},
};
use crate::{
    formula::Formula,
    report::Format,
    text as characters,
    time::{Nanos, SECOND, to_wall},
};
use jiff::{ToSpan, civil::Time};
use serde::{Deserialize, Serialize};
use std::{
    collections::{HashSet, VecDeque},
    sync::Arc,
};
use uuid::Uuid;

/// Most deliveries of a dispatch, and most addresses of each.
const MOST_DELIVERIES: usize = 20;
const MOST_ADDRESSES: usize = 50;
/// The longest pattern of a file's name, and the longest part that comes out of it, in characters.
const LONGEST_PATTERN: usize = 200;
const LONGEST_PART: usize = 120;
/// What is due for longer was missed: Havrel did not run, or its clock was set.
const MISSED: Nanos = 120 * SECOND;
/// How far back what was missed is caught up, and how many reports of it.
const CATCHES_UP: Nanos = 31 * 86_400 * SECOND;
const MOST_CAUGHT_UP: usize = 100;

/// When a report is made, over which period, and where it goes.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Dispatch {
    pub name: String,
    pub report: Uuid,
    /// It makes reports by itself; otherwise it is paused, and makes them by hand only.
    #[serde(default = "yes")]
    pub running: bool,
    #[serde(default)]
    pub when: DispatchWhen,
    /// At whose turning it makes a report, where it does so at an event.
    #[serde(default)]
    pub trigger: Option<Formula>,
    #[serde(default)]
    pub covers: Covers,
    /// The shift pattern, where a shift says when or over which period.
    #[serde(default)]
    pub shifts: Option<Uuid>,
    #[serde(default)]
    pub deliveries: Vec<Delivery>,
    #[serde(default)]
    pub order: f64,
}

/// When a report is made.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(tag = "on", rename_all = "lowercase", deny_unknown_fields)]
pub enum DispatchWhen {
    /// When somebody says so.
    #[default]
    Hand,
    /// By the clock of the report's time zone.
    Schedule {
        /// A line of cron (POSIX.1-2017, crontab).
        cron: String,
        #[serde(default)]
        missed: Missed,
    },
    /// When a shift ends that somebody works.
    Shift {
        #[serde(default)]
        missed: Missed,
    },
    /// When the trigger turns; the report shows what was at that instant.
    Event {
        #[serde(default)]
        edge: Edge,
    },
}

/// Which reports are made that were due while Havrel did not run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Missed {
    #[default]
    All,
    Last,
    None,
}

/// Over which period a report is made.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Covers {
    /// As long as the report says, up to the instant.
    #[default]
    Own,
    /// The hour, day, week (from Monday) or month that ended last, by the clock of the report's time zone.
    Hour,
    Day,
    Week,
    Month,
    /// The shift that ended last of those that somebody worked.
    Shift,
}

/// Where a report goes.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Delivery {
    /// A folder, a mail server or a web hook.
    pub connection: Uuid,
    /// Addresses of e-mail, each of which gets a message of its own; none elsewhere.
    #[serde(default)]
    pub to: Vec<String>,
    /// What the files are called, without their ending: text and names in braces ([`Words`]); `/` makes folders.
    #[serde(default = "usual_file")]
    pub file: String,
    pub formats: Vec<Format>,
}

/// What can stand in braces in the name of a file.
#[derive(Clone, Copy, Debug)]
pub struct Words<'a> {
    /// `{report}`
    pub report: &'a str,
    /// `{place}`: the last part of its path.
    pub place: &'a str,
    /// `{dispatch}`
    pub dispatch: &'a str,
    /// `{from}`, `{to}`: the period, like 2026-12-01 0600; `{date}` and `{time}` are those of its end.
    pub from: Nanos,
    pub to: Nanos,
    pub zone: &'a str,
}

const BRACES: [&str; 7] = ["report", "place", "dispatch", "from", "to", "date", "time"];

/// What is due.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Due {
    /// The instants, in their order.
    pub at: Vec<Nanos>,
    /// How many more were missed and are not made.
    pub left_out: usize,
}

fn yes() -> bool {
    true
}

/// What a file is called where nobody says.
pub fn usual_file() -> String {
    "{report} {to}".into()
}

impl DispatchWhen {
    fn missed(&self) -> Missed {
        match self {
            DispatchWhen::Schedule { missed, .. } | DispatchWhen::Shift { missed } => *missed,
            _ => Missed::All,
        }
    }
}

impl Dispatch {
    /// Whether it goes by the clock, and so has to be looked at as time passes.
    pub fn by_clock(&self) -> bool {
        self.running && matches!(self.when, DispatchWhen::Schedule { .. } | DispatchWhen::Shift { .. })
    }

    /// When it makes a report next after an instant; none where it does not go by the clock, or never does.
    pub fn next(&self, after: Nanos, zone: &str, shifts: Option<&ShiftPattern>) -> Option<Nanos> {
        match &self.when {
            DispatchWhen::Schedule { cron, .. } => Schedule::parse(cron).ok()?.next(after, zone),
            DispatchWhen::Shift { .. } => shifts?.next_end(after),
            _ => None,
        }
    }

    /// What is due in `(since, until]`. Of what was missed there is what the dispatch says, the newest first counted.
    pub fn due(&self, since: Nanos, until: Nanos, zone: &str, shifts: Option<&ShiftPattern>) -> Due {
        let (mut on_time, mut missed) = (Vec::new(), VecDeque::new());
        let mut count: usize = 0;
        let mut at = since.max(until.saturating_sub(CATCHES_UP));
        while let Some(next) = self.next(at, zone, shifts).filter(|next| *next <= until && *next > at) {
            at = next;
            if until - next <= MISSED {
                on_time.push(next);
                continue;
            }
            count += 1;
            missed.push_back(next);
            if missed.len() > MOST_CAUGHT_UP {
                missed.pop_front();
            }
        }
        match self.when.missed() {
            Missed::All => {}
            Missed::Last if on_time.is_empty() => drop(missed.drain(..missed.len().saturating_sub(1))),
            Missed::Last | Missed::None => missed.clear(),
        }
        let left_out = count - missed.len();
        Due { at: missed.into_iter().chain(on_time).collect(), left_out }
    }

    /// The period of a report made at an instant; none where no shift that somebody worked ended within a month.
    pub fn period(&self, at: Nanos, report: &Report, shifts: Option<&ShiftPattern>) -> Option<(Nanos, Nanos)> {
        let zone = &report.zone;
        let now = local(at, zone);
        let today = now.date();
        let midnight = |day| instant(day, Time::midnight(), zone);
        let (from, to) = match self.covers {
            Covers::Own => return Some((at.saturating_sub(Nanos::from(report.minutes) * 60 * SECOND), at)),
            Covers::Shift => return shifts?.last_ended(at),
            Covers::Hour => {
                // An hour of the clock is as long as any other, also where the clocks go forward or back.
                let begun = now.with().minute(0).second(0).subsec_nanosecond(0).build().ok()?;
                let to = Nanos::try_from(begun.timestamp().as_nanosecond()).ok()?;
                return Some((to.saturating_sub(3600 * SECOND), to));
            }
            Covers::Day => (today.yesterday().ok()?, today),
            Covers::Week => {
                let monday = today.checked_sub(i64::from(today.weekday().to_monday_zero_offset()).days()).ok()?;
                (monday.checked_sub(7.days()).ok()?, monday)
            }
            Covers::Month => {
                let first = today.first_of_month();
                (first.checked_sub(1.month()).ok()?, first)
            }
        };
        Some((midnight(from)?, midnight(to)?))
    }
}

impl Delivery {
    /// What a file is called, with the ending of its format. Every part will do as a name in any file system.
    pub fn file_name(&self, words: &Words<'_>, format: Format) -> String {
        let mut name = self.file.clone();
        let wall = |at| to_wall(at, words.zone).chars().take(16).filter(|c| *c != ':').collect::<String>().replace('T', " ");
        let (from, to) = (wall(words.from), wall(words.to));
        let (date, time) = to.split_once(' ').unwrap_or((&to, ""));
        let values = [words.report, words.place, words.dispatch, &from, &to, date, time];
        for (word, value) in BRACES.iter().zip(values) {
            // A name that holds a slash makes no folder.
            name = name.replace(&format!("{{{word}}}"), &value.replace('/', "_"));
        }
        let parts: Vec<String> = name.split('/').map(file_part).filter(|part| !part.is_empty()).collect();
        let path = if parts.is_empty() { "report".to_owned() } else { parts.join("/") };
        format!("{path}.{}", format.name())
    }
}

/// A part of a path as every file system takes it.
fn file_part(part: &str) -> String {
    let plain = |c: char| if c.is_control() || characters::is_control(c) || "\\:*?\"<>|/".contains(c) { '_' } else { c };
    let part: String = part.chars().map(plain).take(LONGEST_PART).collect();
    part.trim().trim_matches('.').trim().to_owned()
}

/// What is wrong with the pattern of a file's name.
fn pattern_words(pattern: &str) -> Option<String> {
    if pattern.chars().count() > LONGEST_PATTERN {
        return Some(format!("The name of a file has at most {LONGEST_PATTERN} characters."));
    }
    let mut rest = pattern;
    while let Some(open) = rest.find(['{', '}']) {
        let inner = rest[open..].strip_prefix('{').and_then(|inner| inner.split_once('}'));
        let Some((_, behind)) = inner.filter(|(word, _)| BRACES.contains(word)) else {
            let all: Vec<String> = BRACES.iter().map(|word| format!("{{{word}}}")).collect();
            return Some(format!("In braces can stand {}.", all.join(", ")));
        };
        rest = behind;
    }
    pattern.trim().is_empty().then(|| "Say what the file is called.".into())
}

impl Settings for Dispatch {
    const KIND: Kind = Kind::Dispatch;
    const FORMULAS: &'static [&'static str] = &["trigger"];

    fn table(plant: &Plant) -> &Table<Dispatch> {
        &plant.dispatches
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Dispatch> {
        &mut plant.dispatches
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (None, &self.name)
    }

    fn order(&self) -> f64 {
        self.order
    }

    fn formula(&self, _field: &str) -> Option<&Formula> {
        self.trigger.as_ref()
    }

    fn references(&self) -> Vec<Reference> {
        // What goes with its report has nothing to send any more.
        let mut all = vec![Reference::inside("report", Kind::Report, self.report)];
        all.extend(self.shifts.map(|to| Reference::to("shifts", Kind::ShiftPattern, to)));
        for (n, delivery) in self.deliveries.iter().enumerate() {
            all.push(Reference::to(format!("deliveries[{n}].connection"), Kind::Connection, delivery.connection));
        }
        let read = self.trigger.iter().flat_map(Formula::references);
        all.extend(read.map(|to| Reference::to("trigger.text", Kind::Tag, to)));
        all
    }

    fn uses(item: &Item<Dispatch>, reference: &Reference, _: &Plant) -> String {
        let name = &item.set.name;
        match reference.field.as_str() {
            "trigger.text" => format!("the trigger of dispatch “{name}” reads it"),
            "report" => format!("dispatch “{name}” sends it"),
            "shifts" => format!("dispatch “{name}” goes by its shifts"),
            _ => format!("dispatch “{name}” sends a report through it"),
        }
    }

    fn check(item: &Item<Dispatch>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let set = &item.set;
        check::name(wrong, &set.name);
        set.check_when(checking, wrong);
        let at_event = matches!(set.when, DispatchWhen::Event { .. });
        trigger::check(set.trigger.as_ref(), at_event, ("a dispatch", "makes a report"), checking, wrong);
        if set.shifts.is_none() && (set.covers == Covers::Shift || matches!(set.when, DispatchWhen::Shift { .. })) {
            wrong.push((
                "shifts".into(),
                "Choose the shift pattern; make one first where there is none (Alarms, Call-out).".into(),
            ));
        }
        if set.deliveries.len() > MOST_DELIVERIES {
            wrong.push(("deliveries".into(), format!("A dispatch has at most {MOST_DELIVERIES} deliveries.")));
        }
        for (n, delivery) in set.deliveries.iter().enumerate() {
            let mut tell = |field: &str, words: String| wrong.push((format!("deliveries[{n}].{field}"), words));
            if delivery.formats.is_empty() {
                tell("formats", "Choose at least one format.".into());
            }
            if delivery.formats.iter().collect::<HashSet<_>>().len() < delivery.formats.len() {
                tell("formats", "Each format is sent once.".into());
            }
            if let Some(words) = pattern_words(&delivery.file) {
                tell("file", words);
            }
            if delivery.to.len() > MOST_ADDRESSES {
                tell("to", format!("At most {MOST_ADDRESSES} addresses; a list of your mail server reaches more."));
            }
            if let Some(bad) = delivery.to.iter().find(|address| !is_address(address)) {
                tell("to", format!("“{bad}” is no address; write one like control@works.example."));
            }
            let Some(connection) = checking.plant.connections.get(&delivery.connection) else { continue };
            let carries = |carrier| checking.source.carries(&connection.set, carrier);
            if carries(Carrier::Mail) {
                if delivery.to.is_empty() {
                    tell("to", "Say who gets it: at least one address.".into());
                }
            } else if !carries(Carrier::Folder) && !carries(Carrier::Hook) {
                tell(
                    "connection",
                    "Through this connection no report can be sent; choose a folder, a mail server or a web hook.".into(),
                );
            } else if !delivery.to.is_empty() {
                tell("to", "Only mail goes to addresses.".into());
            }
        }
    }
}

impl Dispatch {
    fn check_when(&self, checking: &Checking<'_>, wrong: &mut Wrong) {
        let DispatchWhen::Schedule { cron, .. } = &self.when else { return };
        let zone = checking.plant.reports.get(&self.report).map_or("UTC", |report| &report.set.zone);
        match Schedule::parse(cron) {
            Err(words) => wrong.push(("when.cron".into(), words)),
            Ok(schedule) if schedule.next(0, zone).is_none() => {
                wrong.push(("when.cron".into(), "This time never comes; look at the day and the month.".into()));
            }
            Ok(_) => {}
        }
    }
}

impl Plant {
    /// The zone by whose clocks a dispatch goes: that of its report.
    pub fn zone_of_dispatch(&self, dispatch: &Dispatch) -> &str {
        self.reports.get(&dispatch.report).map_or("UTC", |report| &report.set.zone)
    }

    /// The shift pattern by which a dispatch goes.
    pub fn shifts_of_dispatch(&self, dispatch: &Dispatch) -> Option<&ShiftPattern> {
        Some(&self.shift_patterns.get(&dispatch.shifts?)?.set)
    }

    /// The tags that the report of a dispatch shows, in the order of their numbers: at an event the values of all of them are kept.
    pub(crate) fn dispatched_tags(&self, dispatch: &Dispatch) -> Vec<&Arc<Item<Tag>>> {
        let report = self.reports.get(&dispatch.report);
        let named: HashSet<Uuid> = report.iter().flat_map(|r| &r.set.sections).flat_map(|s| s.tags()).copied().collect();
        let mut tags: Vec<_> = named.iter().filter_map(|id| self.tags.get(id)).collect();
        tags.sort_by_key(|tag| tag.no);
        tags
    }
}

#[cfg(test)]
mod tests;
