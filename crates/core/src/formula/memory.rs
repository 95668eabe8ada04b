//! What the functions of formulas remember. Each is told at rising instants what its arguments are, and gives what it makes of
//! that.

use super::{
    eval::{Cause, Doubt, Fault, Given, Val},
    program::{Over, What},
    window::{Stats, Window},
};
use crate::time::{Nanos, SECOND};
use serde::{Deserialize, Serialize};

/// The share of a window that must be known for its statistics to count as good.
const ENOUGH: f64 = 0.9;
/// How often a result is renewed that changes with time alone.
const RENEWED: Nanos = SECOND;

/// A counter that goes on until it is reset.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(super) struct Counter {
    /// What was counted since the beginning or the last reset.
    counted: f64,
    /// For how long its input was not known in that time.
    missing: Nanos,
    /// Up to when it has counted; none before the first time.
    at: Option<Nanos>,
    /// What holds since then; after a restart nobody knows.
    #[serde(skip)]
    held: Option<f64>,
    /// How its reset stood.
    reset: Option<bool>,
}

/// The memory of one function.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub(super) enum Memory {
    #[serde(skip)]
    Window(Window),
    Counter(Counter),
    /// When a condition changed last, and how it stands.
    Switch {
        on: Option<bool>,
        rose: Option<Nanos>,
        fell: Option<Nanos>,
    },
    Held {
        on: Option<bool>,
        value: Option<Val>,
    },
    Filter {
        output: Option<f64>,
        #[serde(skip)]
        input: Option<f64>,
        at: Nanos,
    },
}

impl Memory {
    pub fn of(what: What) -> Memory {
        if let Some(span) = what.window() {
            return Memory::Window(Window::new(span));
        }
        match what {
            What::Total(_) | What::Hours | What::Starts => {
                Memory::Counter(Counter { counted: 0.0, missing: 0, at: None, held: None, reset: None })
            }
            What::Hold => Memory::Held { on: None, value: None },
            What::Smooth(_) => Memory::Filter { output: None, input: None, at: 0 },
            _ => Memory::Switch { on: None, rose: None, fell: None },
        }
    }

    /// Whether it must outlast a restart; windows are filled from history instead.
    pub fn is_kept(&self) -> bool {
        !matches!(self, Memory::Window(_))
    }

    /// Goes on at an instant, which is not before the last one; `fresh`: one of the inputs was told anew.
    pub fn step(&mut self, over: &Over, at: Nanos, args: &[Given], fresh: bool) -> Given {
        let fault = |fault| Cause { at: over.at, fault };
        match self {
            Memory::Window(window) => {
                let value = args[0].as_ref().ok().and_then(|(val, _)| numeric(val));
                window.push(at, value, fresh);
                let stats = window.stats();
                from_window(over.what, &stats, &args[0], value).ok_or_else(|| fault(Fault::NothingYet))?
            }
            Memory::Counter(counter) => {
                let value = match over.what {
                    What::Total(_) => args[0].as_ref().ok().and_then(|(val, _)| numeric(val)),
                    _ => args[0].as_ref().ok().and_then(|(val, _)| switch(val)).map(|on| f64::from(u8::from(on))),
                };
                if let Err(Cause { fault: Fault::NotNumber | Fault::NotSwitch | Fault::NotText, .. }) = args[0] {
                    return args[0].clone();
                }
                let reset = args.get(1).map(|given| given.as_ref().ok().and_then(|(val, _)| switch(val)));
                counter.step(over.what, at, value, reset.flatten());
                let doubt = (counter.missing > 0).then_some(Doubt::Part).or(args[0].as_ref().ok().and_then(|(_, doubt)| *doubt));
                Ok((Val::Number(counter.counted), doubt))
            }
            Memory::Switch { on, rose, fell } => {
                let (val, doubt) = args[0].clone()?;
                let now = switch(&val).ok_or_else(|| fault(Fault::NotSwitch))?;
                let before = on.replace(now);
                if now && before != Some(true) {
                    // What held already when it was looked at for the first time rose at some unknown instant before.
                    *rose = if before.is_some() || !matches!(over.what, What::Since) { Some(at) } else { None };
                }
                if !now && before == Some(true) {
                    *fell = Some(at);
                }
                let over_span = |since: Option<Nanos>, span: Nanos| since.is_some_and(|since| at.saturating_sub(since) >= span);
                let given = match over.what {
                    What::Since => {
                        let since = rose.ok_or_else(|| fault(Fault::NothingYet))?;
                        Val::Number(at.saturating_sub(since) as f64 / SECOND as f64)
                    }
                    What::Lasts(span) => Val::Switch(now && over_span(*rose, span)),
                    What::Stays(span) => Val::Switch(now || (fell.is_some() && !over_span(*fell, span))),
                    What::Rises => Val::Switch(now && before == Some(false)),
                    _ => Val::Switch(!now && before == Some(true)),
                };
                Ok((given, doubt))
            }
            Memory::Held { on, value } => {
                let (condition, doubt) = args[1].clone()?;
                let now = switch(&condition).ok_or_else(|| fault(Fault::NotSwitch))?;
                if now && on.replace(now) != Some(true) {
                    *value = args[0].as_ref().ok().map(|(val, _)| val.clone());
                }
                *on = Some(now);
                let held = value.clone().ok_or_else(|| fault(Fault::NothingYet))?;
                Ok((held, doubt))
            }
            Memory::Filter { output, input, at: last } => {
                let What::Smooth(constant) = over.what else { return Err(fault(Fault::NothingYet)) };
                let before = input.take();
                let (val, doubt) = args[0].clone()?;
                let now = numeric(&val).ok_or_else(|| fault(Fault::NotNumber))?;
                let filtered = match (*output, before) {
                    // What came in held until now.
                    (Some(output), Some(before)) => {
                        let share = (-(at.saturating_sub(*last) as f64) / constant as f64).exp();
                        before + (output - before) * share
                    }
                    _ => now,
                };
                (*output, *input, *last) = (Some(filtered), Some(now), at);
                Ok((Val::Number(filtered), doubt))
            }
        }
    }

    /// When its result changes by itself after an instant; none where it waits for its inputs.
    pub fn wakes(&self, over: &Over, at: Nanos) -> Option<Nanos> {
        let after = |since: &Option<Nanos>, span: Nanos| since.map(|since| since.saturating_add(span)).filter(|end| *end > at);
        match (self, over.what) {
            (Memory::Window(window), _) => Some(at.saturating_add(window.pane().max(RENEWED))),
            (Memory::Counter(counter), What::Total(_) | What::Hours) => {
                counter.held.filter(|v| *v != 0.0).map(|_| at.saturating_add(RENEWED))
            }
            (Memory::Filter { .. }, _) => Some(at.saturating_add(RENEWED)),
            (Memory::Switch { rose: Some(_), .. }, What::Since) => Some(at.saturating_add(RENEWED)),
            (Memory::Switch { on: Some(true), rose, .. }, What::Lasts(span)) => after(rose, span),
            (Memory::Switch { on: Some(false), fell, .. }, What::Stays(span)) => after(fell, span),
            // A moment is over at once.
            (Memory::Switch { on: Some(true), rose: Some(rose), .. }, What::Rises) if *rose == at => {
                Some(at.saturating_add(RENEWED))
            }
            (Memory::Switch { on: Some(false), fell: Some(fell), .. }, What::Falls) if *fell == at => {
                Some(at.saturating_add(RENEWED))
            }
            _ => None,
        }
    }

    /// The clock was moved.
    pub fn shift(&mut self, by: Nanos) {
        let moved = |at: &mut Option<Nanos>| *at = at.map(|at| at.saturating_add(by));
        match self {
            Memory::Window(window) => window.shift(by),
            Memory::Counter(counter) => moved(&mut counter.at),
            Memory::Switch { rose, fell, .. } => {
                moved(rose);
                moved(fell);
            }
            Memory::Held { .. } => {}
            Memory::Filter { at, .. } => *at = at.saturating_add(by),
        }
    }

    /// Puts in front what was before; only windows look that far.
    pub fn begin_with(&mut self, earlier: &Memory) {
        if let (Memory::Window(window), Memory::Window(earlier)) = (self, earlier) {
            window.begin_with(earlier);
        }
    }
}

impl Counter {
    fn step(&mut self, what: What, at: Nanos, value: Option<f64>, reset: Option<bool>) {
        if let Some(last) = self.at {
            let span = at.saturating_sub(last).max(0);
            match (self.held, what) {
                (Some(held), What::Total(per)) => self.counted += held * (span as f64 / per as f64),
                (Some(held), What::Hours) => self.counted += held * (span as f64 / (3600 * SECOND) as f64),
                (Some(_), _) => {}
                (None, _) => self.missing = self.missing.saturating_add(span),
            }
        }
        if reset.is_some_and(|now| now && self.reset == Some(false)) {
            (self.counted, self.missing) = (0.0, 0);
        }
        if what == What::Starts && self.held == Some(0.0) && value == Some(1.0) {
            self.counted += 1.0;
        }
        self.reset = reset.or(self.reset);
        // It begins with the first value that is known.
        if self.at.is_some() || value.is_some() {
            self.at = Some(at);
        }
        self.held = value;
    }
}

/// What a function gives of a window; none where nothing good is in it.
fn from_window(what: What, stats: &Stats, now: &Given, value: Option<f64>) -> Option<Given> {
    let doubt = now.as_ref().ok().and_then(|(_, doubt)| *doubt).or((stats.known < ENOUGH).then_some(Doubt::Part));
    let number = |v: f64| v.is_finite().then_some(Ok((Val::Number(v), doubt)));
    // What compares the present with the past needs the present.
    let change = |first: f64| match (now, value) {
        (Err(cause), _) => Some(Err(*cause)),
        (_, Some(value)) => number(value - first),
        _ => None,
    };
    match what {
        What::Average(_) => number(stats.mean),
        What::Minimum(_) => number(stats.least),
        What::Maximum(_) => number(stats.greatest),
        What::Deviation(_) => number(stats.mean).and(number(stats.deviation)),
        What::Sum(_) => number(stats.sum),
        What::Count(_) => number(stats.count as f64),
        What::Before(_) => number(stats.first?),
        What::Change(_) => change(stats.first?),
        What::Rate(span, per) => match change(stats.first?)? {
            Ok((Val::Number(v), doubt)) => Some(Ok((Val::Number(v * (per as f64 / span as f64)), doubt))),
            other => Some(other),
        },
        _ => None,
    }
}

fn numeric(val: &Val) -> Option<f64> {
    match val {
        Val::Number(v) => Some(*v),
        Val::Switch(v) => Some(f64::from(u8::from(*v))),
        Val::Text(_) => None,
    }
}

fn switch(val: &Val) -> Option<bool> {
    match val {
        Val::Switch(v) => Some(*v),
        Val::Number(v) if *v == 0.0 || *v == 1.0 => Some(*v == 1.0),
        Val::Number(_) | Val::Text(_) => None,
    }
}
