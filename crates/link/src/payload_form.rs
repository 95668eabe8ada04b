//! What the form of a tag asks for that takes something from a message, whatever carried it.

use crate::form::{Choice, Field};

/// The fields of [`crate::payload::FIELDS`]; `sparkplug`: a message may be one of Sparkplug.
pub fn fields(sparkplug: bool) -> Vec<Field> {
    const FORMAT: &str = "format";
    const JSON: &[&str] = &["json"];
    const LINE: &[&str] = &["line"];
    const TIME: &str = "time";
    const SPARKPLUG: &[&str] = &["sparkplug"];
    let mut formats = vec![
        Choice::new("json", "JSON"),
        Choice::new("number", "a number"),
        Choice::new("switch", "on or off"),
        Choice::new("text", "text"),
        Choice::new("line", "a line of fields"),
        Choice::new("bytes", "bytes"),
    ];
    if sparkplug {
        formats.push(Choice::new(SPARKPLUG[0], "Sparkplug B"));
    }
    let types = vec![
        Choice::new("", "as sent"),
        Choice::new("f64", "number"),
        Choice::new("bool", "switch"),
        Choice::new("text", "text"),
    ];
    let delimiters = vec![
        Choice::new("comma", "comma"),
        Choice::new("semicolon", "semicolon"),
        Choice::new("tab", "tab"),
        Choice::new("space", "space"),
    ];
    let clocks = vec![
        Choice::new("rfc3339", "2026-11-29T05:11:47Z"),
        Choice::new("seconds", "seconds since 1970"),
        Choice::new("milliseconds", "ms since 1970"),
        Choice::new("microseconds", "µs since 1970"),
        Choice::new("nanoseconds", "ns since 1970"),
        Choice::new("local", "clock of a time zone"),
    ];
    let mut all = vec![
        Field::choice(FORMAT, "Message is", formats).width(2),
        Field::text("member", "Member").hint("such as /power or /phases/0; empty: all of it").only(FORMAT, JSON).width(4),
        Field::number("column", "Field, from 1").only(FORMAT, LINE).width(2),
        Field::choice("delimiter", "Delimiter", delimiters).only(FORMAT, LINE).width(2),
        Field::choice("type", "Taken as", types).only(FORMAT, &["json", "line"]).width(2),
        Field::text(TIME, "Member with the time").hint("empty: when it came").only(FORMAT, JSON).width(2),
        Field::choice("clock", "Time is written as", clocks).only(TIME, &[]).width(2),
        Field::text("zone", "Time zone").hint("such as Europe/Berlin").only("clock", &["local"]).width(2),
        Field::text("quality", "Member with the quality").hint("good, uncertain, bad; true; 192").only(FORMAT, JSON).width(3),
        Field::text("samples", "Array of samples").hint("such as /log").only(FORMAT, JSON).width(3),
        Field::tick("sparse", "Messages may leave it out", false).only(FORMAT, JSON).width(3),
    ];
    if sparkplug {
        all.insert(
            1,
            Field::text("metric", "Metric").hint("its whole name, as the birth tells it").only(FORMAT, SPARKPLUG).width(4),
        );
    }
    all
}
