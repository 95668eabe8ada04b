//! Spans of time as formulas write them: `"10min"`, `"1h30min"`.

use crate::time::{MILLI, Nanos, SECOND};

/// The longest span: a leap year.
const LONGEST: Nanos = 366 * 86_400 * SECOND;

/// Reads a span: numbers with ms, s, min, h or d behind them.
///
/// # Errors
/// A sentence for whoever wrote it.
pub fn span(text: &str) -> Result<Nanos, String> {
    let wrong = || format!("“{text}” is not a span of time; write it like \"10min\", \"30s\", \"1h30min\" or \"7d\".");
    let mut rest: &str = text.trim();
    let mut all = 0.0;
    while !rest.is_empty() {
        let digits = rest.find(|c: char| !(c.is_ascii_digit() || c == '.')).ok_or_else(wrong)?;
        let number: f64 = rest[..digits].parse().map_err(|_| wrong())?;
        rest = rest[digits..].trim_start();
        let letters = rest.find(|c: char| !c.is_alphabetic()).unwrap_or(rest.len());
        let unit = match &rest[..letters] {
            "ms" => MILLI,
            "s" => SECOND,
            "min" => 60 * SECOND,
            "h" => 3600 * SECOND,
            "d" => 86_400 * SECOND,
            _ => return Err(wrong()),
        };
        all += number * unit as f64;
        rest = rest[letters..].trim_start();
    }
    if text.trim().is_empty() {
        return Err(wrong());
    }
    if all > LONGEST as f64 {
        return Err(format!("“{text}” is too long; a span has at most 366 d."));
    }
    if all < (10 * MILLI) as f64 {
        return Err(format!("“{text}” is too short; a span has at least 10 ms."));
    }
    Ok(all as Nanos)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("10min", Some(600 * SECOND))]
    #[case("1h30min", Some(5400 * SECOND))]
    #[case("1 h 30 min", Some(5400 * SECOND))]
    #[case("0.5s", Some(500 * MILLI))]
    #[case("250ms", Some(250 * MILLI))]
    #[case("366d", Some(LONGEST))]
    #[case("367d", None)]
    #[case("1ms", None)]
    #[case("10", None)]
    #[case("", None)]
    #[case("min", None)]
    #[case("1.2.3s", None)]
    #[case("10m", None)]
    #[case("1e9d", None)]
    fn spans_are_read(#[case] text: &str, #[case] wanted: Option<Nanos>) {
        assert_eq!(span(text).ok(), wanted);
    }
}
