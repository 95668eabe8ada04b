//! Units inside a formula: what is measured in what, and where a conversion belongs.

use super::Mixed;
use crate::{
    time::{Nanos, SECOND},
    unit::{self, Unit},
};

/// What a value is measured in.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Measure {
    /// Nobody said.
    Unknown,
    /// A pure number: it takes the unit of what it meets.
    Plain,
    In {
        unit: String,
        /// A difference of two values: it converts without the offset (20 °C apart are 36 °F apart).
        difference: bool,
    },
}

/// A conversion: value × factor + offset.
pub(super) type Linear = (f64, f64);

impl Measure {
    /// Of a tag, or as a text names it.
    pub fn of(unit: &str) -> Measure {
        if unit.is_empty() { Measure::Unknown } else { Measure::In { unit: unit.to_owned(), difference: false } }
    }

    fn known(&self) -> Option<(&'static Unit, bool)> {
        let Measure::In { unit, difference } = self else { return None };
        Some((unit::find(unit)?, *difference))
    }

    /// As it is printed.
    pub fn symbol(&self) -> &str {
        if let Measure::In { unit, .. } = self { unit } else { "" }
    }

    /// A difference of two such values.
    pub fn difference(self) -> Measure {
        match self {
            Measure::In { unit, .. } => Measure::In { unit, difference: true },
            other => other,
        }
    }

    /// How a value of `other` becomes one of this measure; nothing to do where they are equal or one is not known.
    ///
    /// # Errors
    /// A sentence, where they do not go together or the formula does not convert.
    pub fn takes(&self, other: &Measure, mixed: Mixed) -> Result<Option<Linear>, String> {
        let (Measure::In { unit: to, .. }, Measure::In { unit: from, .. }) = (self, other) else { return Ok(None) };
        if from == to {
            return Ok(None);
        }
        let together = match (self.known(), other.known()) {
            // One unit by two of its codes.
            (Some((to, _)), Some((from, _))) if to == from => return Ok(None),
            (Some((to, _)), Some((from, difference))) if to.quantity == from.quantity => Some((to, from, difference)),
            _ => None,
        };
        let Some((to_unit, from_unit, difference)) = together else {
            return Err(format!("{from} and {to} do not measure the same."));
        };
        if mixed == Mixed::Refuse {
            return Err(format!("{from} meets {to}. Convert it by to(…, \"{to}\"), or let the formula convert."));
        }
        Ok(Some(conversion(from_unit, to_unit, difference)))
    }
}

fn conversion(from: &Unit, to: &Unit, difference: bool) -> Linear {
    let offset = if difference { 0.0 } else { (from.offset - to.offset) / to.factor };
    (from.factor / to.factor, offset)
}

/// What a product is measured in.
pub(super) fn product(a: &Measure, b: &Measure) -> Measure {
    match (a, b) {
        (Measure::Plain, other) | (other, Measure::Plain) => other.clone(),
        _ => Measure::Unknown,
    }
}

/// What a quotient is measured in, and the conversion of the divisor: of two values of one quantity it is a pure number.
pub(super) fn quotient(a: &Measure, b: &Measure) -> (Measure, Option<Linear>) {
    match (a, b) {
        (_, Measure::Plain) => (a.clone(), None),
        (Measure::In { unit: x, .. }, Measure::In { unit: y, .. }) if x == y => (Measure::Plain, None),
        _ => match (a.known(), b.known()) {
            (Some((to, _)), Some((from, difference))) if to.quantity == from.quantity => {
                (Measure::Plain, Some(conversion(from, to, difference)))
            }
            _ => (Measure::Unknown, None),
        },
    }
}

const TIMES: [(&str, Nanos); 4] = [("s", SECOND), ("min", 60 * SECOND), ("h", 3600 * SECOND), ("d", 86_400 * SECOND)];

/// What an integral of a rate over time is measured in, and the time that the rate is for: m³/h give m³ for each hour, and kW
/// give kWh.
pub(super) fn integral(rate: &Measure) -> Option<(Measure, Nanos)> {
    let symbol = rate.symbol();
    if ["W", "kW", "MW"].contains(&symbol) {
        return Some((Measure::of(&format!("{symbol}h")), 3600 * SECOND));
    }
    let (what, per) = symbol.rsplit_once('/')?;
    let (_, span) = TIMES.into_iter().find(|(text, _)| *text == per)?;
    (!what.is_empty()).then(|| (Measure::of(what), span))
}

/// What a change for each of a span is measured in: m for each hour are m/h.
pub(super) fn rate(of: &Measure, per: Nanos) -> Measure {
    match (of, TIMES.into_iter().find(|(_, span)| *span == per)) {
        (Measure::In { unit, .. }, Some((per, _))) => Measure::In { unit: format!("{unit}/{per}"), difference: true },
        _ => Measure::Unknown,
    }
}
