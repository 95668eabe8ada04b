//! Formulas: the language of computed values.
//!
//! A formula is an expression of the Common Expression Language (CEL), read by the crate `cel` ([`parse`]), of which we take
//! arithmetic, comparisons, conditions and calls, with our own functions. All numbers are `f64`. A tag is named by
//! `at("Extraction/EX-1/Level")` as people write it, and stored by its identity ([`Formula::named`], [`Formula::shown`]).
//!
//! [`compile`] makes a [`Program`] of it: it knows the units of what it reads and puts conversions where they are needed.
//! Evaluation ([`eval`]) is our own, because a value carries a quality, and because whatever goes wrong has a place in the text.
//! What a function remembers over time is its [`memory`]; sliding windows are in [`window`]. Nothing here reads a clock.

mod compile;
mod eval;
pub mod functions;
mod memory;
mod parse;
mod program;
mod replay;
mod running;
mod spans;
mod units;
mod window;

pub use compile::{Facts, compile};
pub use eval::{Cause, Doubt, Fault, Reading, Val};
pub use parse::{Parsed, Places};
pub use program::{Program, StateNames};
pub use replay::Replay;
pub use running::{Outcome, Running};

use serde::{Deserialize, Serialize};
use std::{fmt, sync::Arc};
use uuid::Uuid;

/// Something wrong in a formula, with the characters it concerns.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wrong {
    /// The first character, counted from 0.
    pub at: usize,
    /// The one behind the last.
    pub to: usize,
    /// A sentence for whoever wrote it.
    pub words: String,
}

impl Wrong {
    pub(crate) fn new(at: usize, to: usize, words: impl Into<String>) -> Wrong {
        Wrong { at, to: to.max(at), words: words.into() }
    }
}

impl fmt::Display for Wrong {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Character {}: {}", self.at + 1, self.words)
    }
}

/// What happens where values of different units of one quantity meet, for example kg and t.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Mixed {
    /// They are converted.
    #[default]
    Convert,
    /// The formula is refused.
    Refuse,
}

/// A formula as a setting. Its tags are stored by their identity.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(try_from = "Written", into = "Written")]
pub struct Formula {
    written: Written,
    parsed: Arc<Parsed>,
}

/// A formula as it is stored.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    text: String,
    #[serde(default)]
    mixed: Mixed,
}

impl TryFrom<Written> for Formula {
    type Error = String;

    fn try_from(written: Written) -> Result<Formula, String> {
        // Whoever reads settings puts the full stop.
        Formula::read(&written.text, written.mixed).map_err(|wrong| wrong.to_string().trim_end_matches('.').to_owned())
    }
}

impl From<Formula> for Written {
    fn from(formula: Formula) -> Written {
        formula.written
    }
}

impl PartialEq for Formula {
    fn eq(&self, other: &Formula) -> bool {
        self.written == other.written
    }
}

impl Formula {
    /// A formula of this text.
    ///
    /// # Errors
    /// What cannot be read.
    pub fn read(text: &str, mixed: Mixed) -> Result<Formula, Wrong> {
        Ok(Formula { written: Written { text: text.to_owned(), mixed }, parsed: Parsed::of(text)?.into() })
    }

    /// As it is stored, with tags by their identity.
    pub fn text(&self) -> &str {
        &self.written.text
    }

    /// What happens where units are mixed.
    pub fn mixed(&self) -> Mixed {
        self.written.mixed
    }

    /// What was read of it.
    pub fn parsed(&self) -> &Parsed {
        &self.parsed
    }

    /// Whether it is known to give a text, without looking at the tags that it names.
    pub fn gives_text(&self) -> bool {
        let any = Facts { states: Some([].into()), ..Facts::default() };
        compile(self, &|_| Some(any.clone()), "", &Places::default()).is_ok_and(|program| program.gives_text())
    }

    /// Every tag that it names, each once, in the order in which they appear.
    pub fn references(&self) -> impl Iterator<Item = Uuid> + '_ {
        self.parsed.references().filter_map(|named| named.parse().ok())
    }

    /// What it names its tag by, where it is nothing but a tag.
    pub fn only_named(&self) -> Option<&str> {
        self.parsed.only_named()
    }

    /// What it names its property by, where it is nothing but `own("…")`.
    pub fn only_own(&self) -> Option<&str> {
        self.parsed.only_own()
    }

    /// The text in which every tag is named by what `title` gives for it; one that it gives nothing for stays as it is.
    pub fn shown(text: &str, mut title: impl FnMut(Uuid) -> Option<String>) -> String {
        let Ok(parsed) = Parsed::of(text) else { return text.to_owned() };
        parsed.renamed(text, |named| named.parse().ok().and_then(&mut title))
    }

    /// How the places of its stored text lie to those of the text in which tags are named by what `title` gives.
    pub fn places(&self, mut title: impl FnMut(Uuid) -> Option<String>) -> Places {
        self.parsed.moved(|named| Some(parse::masked(&title(named.parse().ok()?)?).chars().count()))
    }

    /// The text in which every tag is named by its identity: `find` gives it for what somebody wrote.
    ///
    /// # Errors
    /// What cannot be read, or a tag that is not found.
    pub fn named(text: &str, mut find: impl FnMut(&str) -> Option<Uuid>) -> Result<String, Wrong> {
        let parsed = Parsed::of(text)?;
        let missing = parsed.mentions().find(|(named, ..)| named.parse::<Uuid>().is_err() && find(named).is_none());
        if let Some((named, at, to)) = missing {
            return Err(Wrong::new(at, to, format!("There is no tag “{named}”.")));
        }
        Ok(parsed.renamed(text, |named| named.parse().ok().or_else(|| find(named)).map(|id: Uuid| id.to_string())))
    }

    /// The text in which every `own("…")` has given way to what `replace` gives for what stands in it.
    ///
    /// # Errors
    /// What cannot be read, or something for which it gives nothing.
    pub fn with_own(text: &str, mut replace: impl FnMut(&str) -> Option<String>) -> Result<String, Wrong> {
        let parsed = Parsed::of(text)?;
        let mut made = String::with_capacity(text.len());
        let mut done = 0;
        let characters: Vec<char> = text.chars().collect();
        for (named, at, to) in parsed.owned(&characters)? {
            let missing = || Wrong::new(at, to, format!("The class has no property “{named}”."));
            made.extend(&characters[done..at]);
            made.push_str(&replace(named).ok_or_else(missing)?);
            done = to;
        }
        made.extend(&characters[done..]);
        Ok(made)
    }

    /// How `own` or `at` is written with something between its quotation marks.
    pub fn call(function: &str, named: &str) -> String {
        format!("{function}(\"{}\")", parse::masked(named))
    }
}

#[cfg(test)]
mod tests;
