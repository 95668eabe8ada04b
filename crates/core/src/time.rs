//! Plant time: nanoseconds since 1970-01-01T00:00:00Z, and its text form.

use jiff::{Timestamp, tz::TimeZone};

/// Nanoseconds UTC since the Unix epoch; covers the years 1678 to 2262.
pub type Nanos = i64;

/// One second in nanoseconds.
pub const SECOND: Nanos = 1_000_000_000;
/// One millisecond in nanoseconds.
pub const MILLI: Nanos = 1_000_000;

/// The text form of a time: RFC 3339 in UTC with as many fraction digits (up to nine) as the time needs.
pub fn to_text(at: Nanos) -> String {
    Timestamp::from_nanosecond(i128::from(at)).map_or_else(|_| at.to_string(), |t| t.to_string())
}

/// Reads an RFC 3339 time with up to nine fraction digits and any offset.
///
/// # Errors
/// Text that is no time, or one outside the years that [`Nanos`] covers, with words for the person who typed it.
pub fn from_text(text: &str) -> Result<Nanos, String> {
    if text.len() > 64 {
        return Err("A time has at most 64 characters, like 2026-11-23T06:00:00Z.".into());
    }
    let at: Timestamp = text.parse().map_err(|_| format!("“{text}” is not a time; write it like 2026-11-23T06:00:00Z."))?;
    i64::try_from(at.as_nanosecond()).map_err(|_| "The time must lie between the years 1678 and 2262.".into())
}

/// Reads a time without an offset, `2026-11-29T05:51:47.25` or with a space in it, as the clocks of a zone showed it. Of an hour that
/// came twice it is the first.
///
/// # Errors
/// What is wrong, as a sentence.
pub fn from_local(text: &str, zone: &str) -> Result<Nanos, String> {
    let zone = TimeZone::get(zone).map_err(|_| format!("There is no time zone “{zone}”."))?;
    let local: jiff::civil::DateTime = text.trim().parse().map_err(|_| format!("“{text}” is no time."))?;
    let at = zone.to_ambiguous_timestamp(local).compatible().map_err(|_| format!("“{text}” lies too far away."))?;
    at.as_nanosecond().try_into().map_err(|_| format!("“{text}” lies too far away."))
}

/// A span in words, as exact as its length makes useful: “0.8 s”, “42 s”, “5 min 3 s”, “1 h 20 min”.
pub fn span_words(span: Nanos) -> String {
    let seconds = span.unsigned_abs() as f64 / SECOND as f64;
    if seconds < 10.0 {
        return format!("{seconds:.1} s");
    }
    let whole = seconds.round() as u64;
    let part = |n: u64, unit: &str| if n == 0 { String::new() } else { format!(" {n} {unit}") };
    match whole {
        0..60 => format!("{whole} s"),
        60..3600 => format!("{} min{}", whole / 60, part(whole % 60, "s")),
        3600..86_400 => format!("{} h{}", whole / 3600, part(whole % 3600 / 60, "min")),
        _ => format!("{} d{}", whole / 86_400, part(whole % 86_400 / 3600, "h")),
    }
}

/// A time as people at the plant read it: date and time to the second in a named zone (IANA, for example `Europe/Oslo`).
///
/// An unknown zone falls back to UTC; the zone's abbreviation is always printed, so the reader sees which it was.
pub fn to_local(at: Nanos, zone: &str) -> String {
    let stamp = Timestamp::from_nanosecond(i128::from(at)).unwrap_or(Timestamp::UNIX_EPOCH);
    let zone = jiff::tz::TimeZone::get(zone).unwrap_or(jiff::tz::TimeZone::UTC);
    stamp.to_zoned(zone).strftime("%Y-%m-%d %H:%M:%S %Z").to_string()
}

/// A time as a clock in a named zone shows it, to the millisecond and without the zone: `2026-11-30T22:31:05.123`. An unknown zone falls
/// back to UTC.
pub fn to_wall(at: Nanos, zone: &str) -> String {
    let stamp = Timestamp::from_nanosecond(i128::from(at)).unwrap_or(Timestamp::UNIX_EPOCH);
    let zone = jiff::tz::TimeZone::get(zone).unwrap_or(jiff::tz::TimeZone::UTC);
    stamp.to_zoned(zone).strftime("%Y-%m-%dT%H:%M:%S%.3f").to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("2026-11-23T06:00:00Z", "2026-11-23T06:00:00Z")]
    #[case("2026-11-23T06:00:00.0000001Z", "2026-11-23T06:00:00.0000001Z")]
    #[case("2026-11-23T07:30:00.123456789+01:30", "2026-11-23T06:00:00.123456789Z")]
    fn text_round_trips(#[case] given: &str, #[case] expected: &str) {
        assert_eq!(to_text(from_text(given).unwrap()), expected);
    }

    #[rstest]
    #[case("yesterday")]
    #[case("2026-13-01T00:00:00Z")]
    #[case("9000-01-01T00:00:00Z")]
    fn wrong_text_is_told(#[case] given: &str) {
        assert!(from_text(given).is_err());
    }

    #[rstest]
    #[case(800 * MILLI, "0.8 s")]
    #[case(-42 * SECOND, "42 s")]
    #[case(303 * SECOND, "5 min 3 s")]
    #[case(-3600 * SECOND, "1 h")]
    #[case(4800 * SECOND, "1 h 20 min")]
    #[case(i64::MIN, "106751 d 23 h")]
    fn spans_read_as_people_say_them(#[case] span: Nanos, #[case] words: &str) {
        assert_eq!(span_words(span), words);
    }

    #[test]
    fn local_time_follows_summer_time() {
        let at = from_text("2026-07-01T12:00:00Z").unwrap();
        assert_eq!(to_local(at, "Europe/Oslo"), "2026-07-01 14:00:00 CEST");
        assert_eq!(to_local(at, "No/Where"), "2026-07-01 12:00:00 UTC");
    }
}
