//! What a message holds for a tag: a number or text as it is, a member of a JSON document, or a field of a line, with the time and
//! the quality that the sender tells in it.

use crate::{RawValue, pointer::Pointer};
use havrel_core::{
    plant::{Own, resolve},
    quality::{Quality, Reason},
    sample::Value,
    text::hex,
    time::{Nanos, from_local, from_text},
};
use havrel_sparkplug::payload::{Metric, Payload};
use serde::Deserialize;
use serde_json::Value as Json;

/// Most bytes of a text that a tag holds.
pub const MOST_TEXT: usize = 4000;
/// Most samples in one message.
pub const MOST_SAMPLES: usize = 10_000;

/// As much of a text as a tag holds.
pub fn cut(text: String) -> String {
    if text.len() <= MOST_TEXT {
        return text;
    }
    let end = (0..=MOST_TEXT).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    format!("{}…", &text[..end])
}

/// The form of a message.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Format {
    /// A JSON document (RFC 8259), of which a member is taken, or all of it.
    #[default]
    Json,
    /// One number, written with a point.
    Number,
    /// On or off in one of the usual words, or 1 and 0.
    Switch,
    /// UTF-8.
    Text,
    /// Any bytes; the tag shows them as hexadecimal digits.
    Bytes,
    /// A line of fields with a delimiter between them (RFC 4180).
    Line,
    /// Metrics of Sparkplug B, of which one is taken by its name.
    Sparkplug,
}

/// What a tag holds, where it is not simply what is sent.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
enum Holds {
    #[default]
    #[serde(rename = "")]
    AsSent,
    #[serde(rename = "f64")]
    Number,
    #[serde(rename = "bool")]
    Switch,
    #[serde(rename = "text")]
    Text,
}

/// How a time is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
enum Clock {
    /// With its offset (RFC 3339).
    #[default]
    Rfc3339,
    /// Since 1970-01-01T00:00:00Z.
    Seconds,
    Milliseconds,
    Microseconds,
    Nanoseconds,
    /// As the clocks of a zone show it.
    Local,
}

#[derive(Clone, Debug, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Fields {
    format: Format,
    member: String,
    #[serde(rename = "type")]
    holds: Holds,
    column: Option<u16>,
    delimiter: String,
    metric: String,
    samples: String,
    time: String,
    clock: Clock,
    zone: String,
    quality: String,
    sparse: bool,
}

/// The fields of a point that say what is taken from a message.
pub const FIELDS: [&str; 13] = [
    "format",
    "member",
    "type",
    "column",
    "delimiter",
    "metric",
    "samples",
    "time",
    "clock",
    "zone",
    "quality",
    "sparse",
    "silent_s",
];

/// What a tag takes from a message.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Taken {
    pub format: Format,
    pub member: Pointer,
    holds: Holds,
    /// The number of the field in a line, from 1.
    column: usize,
    delimiter: u8,
    /// The name of the metric.
    metric: String,
    /// The array of which each element is a sample; members, time and quality are then looked for in the element.
    samples: Option<Pointer>,
    time: Option<Pointer>,
    clock: Clock,
    zone: String,
    quality: Option<Pointer>,
    /// A message may lack the member, which then stays as it is.
    sparse: bool,
}

/// A message, read once for all tags that take something from it.
#[derive(Debug)]
pub enum Message {
    Json(Json),
    Plain(Vec<u8>),
    Metrics(Box<Payload>),
    /// It is none of the form; every tag that reads it says so.
    Broken,
}

/// What came for a tag.
#[derive(Clone, Debug, PartialEq)]
pub struct Sample {
    pub value: Option<Value>,
    pub quality: Quality,
    /// As the sender tells it.
    pub time: Option<Nanos>,
}

impl Sample {
    fn bad(reason: Reason) -> Sample {
        Sample { value: None, quality: Quality::of(reason), time: None }
    }
}

/// Reads a message of a form.
pub fn read(bytes: &[u8], format: Format) -> Message {
    match format {
        // The library bounds how deep a document may be.
        Format::Json => serde_json::from_slice(bytes).map_or(Message::Broken, Message::Json),
        Format::Sparkplug => Payload::read(bytes).map_or(Message::Broken, |payload| Message::Metrics(Box::new(payload))),
        _ => Message::Plain(bytes.to_owned()),
    }
}

/// A part of a document.
pub fn part<'a>(document: &'a Json, at: &Pointer) -> Option<&'a Json> {
    at.steps().iter().try_fold(document, |inside, step| match inside {
        Json::Object(members) => members.get(step),
        // One that is written otherwise, such as 01, is no number of an element (RFC 6901, 4).
        Json::Array(all) => step.parse::<usize>().ok().filter(|n| n.to_string() == *step).and_then(|n| all.get(n)),
        _ => None,
    })
}

impl Taken {
    /// Reads the fields of a point.
    ///
    /// # Errors
    /// The field and a sentence.
    pub fn parse(point: &Own) -> Result<Taken, (String, String)> {
        let own = point.iter().filter(|(key, _)| FIELDS.contains(&key.as_str()) && *key != "silent_s");
        let fields: Fields = resolve(None, &own.map(|(key, value)| (key.clone(), value.clone())).collect())?;
        let wrong = |field: &str, words: &str| (field.to_owned(), words.to_owned());
        let pointer = |field: &str, text: &str| Pointer::parse(text).map_err(|words| wrong(field, words));
        let wanted = |field: &str, text: &str| pointer(field, text).map(|at| Some(at).filter(|at| !at.is_whole()));
        let json = fields.format == Format::Json;
        if fields.format == Format::Line && fields.column.unwrap_or(0) == 0 {
            return Err(wrong("column", "Enter the number of the field in the line, counted from 1."));
        }
        if fields.format == Format::Sparkplug && fields.metric.trim().is_empty() {
            return Err(wrong("metric", "Enter the name of the metric."));
        }
        if fields.clock == Clock::Local
            && !fields.time.trim().is_empty()
            && from_local("2000-01-01T00:00:00", &fields.zone).is_err()
        {
            return Err(wrong("zone", "Enter a time zone by its name in the IANA list, such as Europe/Berlin."));
        }
        let delimiter = match fields.delimiter.as_str() {
            "" | "comma" => b',',
            "semicolon" => b';',
            "tab" => b'\t',
            "space" => b' ',
            _ => return Err(wrong("delimiter", "Choose comma, semicolon, tab or space.")),
        };
        Ok(Taken {
            format: fields.format,
            member: if json { pointer("member", &fields.member)? } else { Pointer::default() },
            holds: fields.holds,
            column: fields.column.unwrap_or(0).into(),
            delimiter,
            metric: fields.metric.trim().to_owned(),
            samples: if json && !fields.samples.trim().is_empty() { wanted("samples", &fields.samples)? } else { None },
            time: if json { wanted("time", &fields.time)? } else { None },
            clock: fields.clock,
            zone: fields.zone,
            quality: if json { wanted("quality", &fields.quality)? } else { None },
            sparse: fields.sparse,
        })
    }

    /// In words, what is taken of a message; empty where it is all of it.
    pub fn words(&self) -> String {
        let inside = |at: &Pointer| at.show();
        let member = match self.format {
            Format::Line => format!("field {}", self.column),
            Format::Sparkplug => self.metric.clone(),
            _ => inside(&self.member),
        };
        match &self.samples {
            Some(all) => format!("{member} of each in {}", inside(all)).trim_start().to_owned(),
            None => member,
        }
    }

    /// What came for a tag in a message: nothing where it may be left out and is, several where it holds an array of samples.
    pub fn of(&self, message: &Message) -> Vec<Sample> {
        match message {
            Message::Broken => vec![Sample::bad(Reason::DoesNotFit)],
            Message::Plain(bytes) => vec![self.plain(bytes)],
            // Messages between births hold only what changed.
            Message::Metrics(payload) => {
                let named = payload.metrics.iter().filter(|metric| metric.name.as_deref() == Some(self.metric.as_str()));
                named.map(|metric| metric_of(payload, metric)).collect()
            }
            Message::Json(document) => match &self.samples {
                None => self.sample(document).into_iter().collect(),
                Some(at) => match part(document, at) {
                    Some(Json::Array(all)) if all.len() <= MOST_SAMPLES => {
                        all.iter().filter_map(|one| self.sample(one)).collect()
                    }
                    None if self.sparse => Vec::new(),
                    _ => vec![Sample::bad(Reason::DoesNotFit)],
                },
            },
        }
    }

    fn sample(&self, document: &Json) -> Option<Sample> {
        let Some(found) = part(document, &self.member) else {
            return (!self.sparse).then(|| Sample::bad(Reason::DoesNotFit));
        };
        let time = match self.time.as_ref().map(|at| part(document, at).and_then(|told| self.moment(told))) {
            None => None,
            Some(Some(time)) => Some(time),
            // A value whose time cannot be read belongs to no time.
            Some(None) => return Some(Sample::bad(Reason::DoesNotFit)),
        };
        let told = match self.quality.as_ref().map(|at| part(document, at).and_then(quality)) {
            None => Quality::GOOD,
            Some(Some(quality)) => quality,
            Some(None) => Quality::of(Reason::DoesNotFit),
        };
        Some(match self.value(found) {
            Ok(value) if !told.is_bad() => Sample { value: Some(value), quality: told, time },
            Ok(_) => Sample { value: None, quality: told, time },
            Err(reason) => Sample { time, ..Sample::bad(reason) },
        })
    }

    fn value(&self, found: &Json) -> Result<Value, Reason> {
        let read = match found {
            Json::Null => return Err(Reason::NoValue),
            Json::Bool(on) => Value::Bool(*on),
            Json::Number(number) => Value::of_json(number).ok_or(Reason::NotANumber)?,
            Json::String(text) => Value::Text(cut(text.clone())),
            Json::Array(_) | Json::Object(_) => Value::Text(cut(found.to_string())),
        };
        match (self.holds, read) {
            (Holds::AsSent, value) => Ok(value),
            (Holds::Text, value) => Ok(Value::Text(value.text())),
            (Holds::Number, Value::Text(text)) => number(&text),
            (Holds::Number, Value::Bool(on)) => Ok(Value::F64(f64::from(u8::from(on)))),
            (Holds::Number, value) => Ok(value),
            (Holds::Switch, Value::Text(text)) => switch(&text),
            (Holds::Switch, Value::Bool(on)) => Ok(Value::Bool(on)),
            (Holds::Switch, value) => switch(&value.text()),
        }
    }

    fn plain(&self, bytes: &[u8]) -> Sample {
        let text = std::str::from_utf8(bytes).map_err(|_| Reason::DoesNotFit);
        let value = match self.format {
            Format::Bytes => Ok(Value::Text(cut(hex(bytes, MOST_TEXT / 2)))),
            Format::Number => text.and_then(number),
            Format::Switch => text.and_then(switch),
            Format::Line => text.and_then(|text| self.field(text)),
            Format::Text | Format::Json | Format::Sparkplug => text.map(|text| Value::Text(cut(text.to_owned()))),
        };
        match value {
            Ok(value) => Sample { value: Some(value), quality: Quality::GOOD, time: None },
            Err(reason) => Sample::bad(reason),
        }
    }

    /// The field of a line.
    fn field(&self, line: &str) -> Result<Value, Reason> {
        let mut reader = csv::ReaderBuilder::new().has_headers(false).delimiter(self.delimiter).from_reader(line.as_bytes());
        let first = reader.records().next().and_then(Result::ok).ok_or(Reason::DoesNotFit)?;
        let field = first.get(self.column - 1).ok_or(Reason::DoesNotFit)?.trim();
        match self.holds {
            Holds::Text => Ok(Value::Text(cut(field.to_owned()))),
            Holds::Switch => switch(field),
            Holds::Number => number(field),
            Holds::AsSent => number(field).or_else(|_| Ok(Value::Text(cut(field.to_owned())))),
        }
    }

    /// A time as the sender writes it.
    fn moment(&self, told: &Json) -> Option<Nanos> {
        // How many digits of a nanosecond one of its units has.
        let digits = match self.clock {
            Clock::Rfc3339 => return from_text(told.as_str()?).ok(),
            Clock::Local => return from_local(told.as_str()?, &self.zone).ok(),
            Clock::Seconds => 9,
            Clock::Milliseconds => 6,
            Clock::Microseconds => 3,
            Clock::Nanoseconds => 0,
        };
        let text = match told {
            Json::Number(number) => number.to_string(),
            Json::String(text) => text.trim().to_owned(),
            _ => return None,
        };
        // By its digits: a fraction of a second has no exact binary form.
        let (whole, fraction) = text.split_once('.').unwrap_or((&text, ""));
        if fraction.len() > 30 || !fraction.bytes().all(|b| b.is_ascii_digit()) {
            return None;
        }
        let below: Nanos =
            format!("{fraction:0<digits$}").get(..digits)?.parse().or((digits == 0).then_some(0).ok_or(())).ok()?;
        let above = whole.parse::<Nanos>().ok()?.checked_mul(10i64.pow(digits as u32))?;
        above.checked_add(if whole.starts_with('-') { -below } else { below })
    }
}

/// What came for a tag of a metric.
fn metric_of(payload: &Payload, metric: &Metric) -> Sample {
    let (time, told) = (payload.time_of(metric), metric.quality());
    match metric.read(None) {
        Err(reason) => Sample { time, ..Sample::bad(reason) },
        Ok(_) if told.is_bad() => Sample { value: None, quality: told, time },
        Ok(Value::Text(text)) => Sample { value: Some(Value::Text(cut(text))), quality: told, time },
        Ok(value) => Sample { value: Some(value), quality: told, time },
    }
}

/// What a message holds for a point, from its bytes up; `scaled` gives it in engineering units.
pub fn raw(taken: &Taken, message: &[u8], scaled: impl FnOnce(Value) -> Value, most: usize) -> RawValue {
    let bytes = message.iter().take(most).copied().collect();
    match taken.of(&read(message, taken.format)).pop().map(|sample| (sample.value, sample.quality)) {
        Some((Some(value), _)) => {
            let scaled = Some(scaled(value.clone()));
            RawValue { bytes, decoded: Some(value), scaled, words: String::new() }
        }
        Some((None, quality)) => RawValue { bytes, words: quality.reason().words().into(), ..RawValue::default() },
        None => RawValue { bytes, words: "The last message leaves it out.".into(), ..RawValue::default() },
    }
}

/// A number in full, with a point.
fn number(text: &str) -> Result<Value, Reason> {
    let text = text.trim();
    let plain = text.strip_prefix('+').unwrap_or(text);
    let read = plain.parse::<serde_json::Number>().ok().and_then(|number| Value::of_json(&number));
    // Leading zeros are common in what devices send, and JSON has none.
    let loose =
        || plain.bytes().all(|b| b.is_ascii_digit() || b".-eE+".contains(&b)).then(|| plain.parse::<f64>().ok()).flatten();
    read.or_else(|| loose().filter(|v| v.is_finite()).map(Value::F64)).ok_or(Reason::NotANumber)
}

/// On or off, in the usual words.
fn switch(text: &str) -> Result<Value, Reason> {
    match text.trim().to_ascii_lowercase().as_str() {
        "1" | "on" | "true" | "yes" => Ok(Value::Bool(true)),
        "0" | "off" | "false" | "no" => Ok(Value::Bool(false)),
        _ => Err(Reason::DoesNotFit),
    }
}

/// What a sender says of a value: a word, a switch (true is good), or the byte of the older field protocols, whose upper two bits
/// tell (OPC Data Access 3.00, 6.8).
fn quality(told: &Json) -> Option<Quality> {
    let byte = |n: u64| match (n & 0xC0) >> 6 {
        _ if n > 255 => None,
        3 => Some(Quality::GOOD),
        1 => Some(Quality::of(Reason::SaidUncertain)),
        0 => Some(Quality::of(Reason::SaidBad)),
        _ => None,
    };
    match told {
        Json::Bool(true) => Some(Quality::GOOD),
        Json::Bool(false) => Some(Quality::of(Reason::SaidBad)),
        Json::Number(number) => byte(number.as_u64()?),
        Json::String(word) => match word.trim().to_ascii_lowercase().as_str() {
            "good" | "ok" => Some(Quality::GOOD),
            "uncertain" => Some(Quality::of(Reason::SaidUncertain)),
            "bad" => Some(Quality::of(Reason::SaidBad)),
            _ => None,
        },
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::time::SECOND;
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::json;

    fn taken(point: Json) -> Taken {
        Taken::parse(point.as_object().unwrap()).unwrap()
    }

    fn one(point: Json, message: &str) -> Sample {
        let taken = taken(point);
        let mut all = taken.of(&read(message.as_bytes(), taken.format));
        assert_eq!(all.len(), 1, "{all:?}");
        all.remove(0)
    }

    const DOCUMENT: &str =
        r#"{"power": 12.5, "on": true, "text": "3.50", "none": null, "big": 9007199254740993, "list": [1, {"a/b": 2}]}"#;

    #[rstest]
    #[case(json!({"member": "/power"}), Ok(Value::F64(12.5)))]
    #[case(json!({"member": "/on"}), Ok(Value::Bool(true)))]
    #[case(json!({"member": "/on", "type": "f64"}), Ok(Value::F64(1.0)))]
    #[case(json!({"member": "/text"}), Ok(Value::Text("3.50".into())))]
    #[case(json!({"member": "/text", "type": "f64"}), Ok(Value::F64(3.5)))]
    #[case(json!({"member": "/power", "type": "text"}), Ok(Value::Text("12.5".into())))]
    #[case(json!({"member": "/power", "type": "bool"}), Err(Reason::DoesNotFit))]
    #[case(json!({"member": "/none"}), Err(Reason::NoValue))]
    #[case(json!({"member": "/big"}), Ok(Value::I64(9_007_199_254_740_993)))]
    #[case(json!({"member": "/list/1/a~1b"}), Ok(Value::F64(2.0)))]
    #[case(json!({"member": "/list"}), Ok(Value::Text(r#"[1,{"a/b":2}]"#.into())))]
    #[case(json!({"member": "/list/01"}), Err(Reason::DoesNotFit))]
    #[case(json!({"member": "/list/2"}), Err(Reason::DoesNotFit))]
    #[case(json!({"member": "/missing"}), Err(Reason::DoesNotFit))]
    #[case(json!({"format": "number"}), Err(Reason::NotANumber))]
    fn a_member_becomes_a_value(#[case] point: Json, #[case] expected: Result<Value, Reason>) {
        let came = one(point, DOCUMENT);
        assert_eq!(came.value.ok_or(came.quality.reason()), expected);
    }

    #[rstest]
    #[case(json!({}), "21.5", Ok(Value::F64(21.5)))]
    #[case(json!({}), "{\"open", Err(Reason::DoesNotFit))]
    #[case(json!({}), "NaN", Err(Reason::DoesNotFit))]
    #[case(json!({"format": "number"}), " +0021.50\n", Ok(Value::F64(21.5)))]
    #[case(json!({"format": "number"}), "21,5", Err(Reason::NotANumber))]
    #[case(json!({"format": "number"}), "21.5 °C", Err(Reason::NotANumber))]
    #[case(json!({"format": "number"}), "nan", Err(Reason::NotANumber))]
    #[case(json!({"format": "number"}), "1e999", Err(Reason::NotANumber))]
    #[case(json!({"format": "switch"}), "ON", Ok(Value::Bool(true)))]
    #[case(json!({"format": "switch"}), "open", Err(Reason::DoesNotFit))]
    #[case(json!({"format": "text"}), "KX-2611", Ok(Value::Text("KX-2611".into())))]
    #[case(json!({"format": "bytes"}), "\u{1}A", Ok(Value::Text("0141".into())))]
    #[case(json!({"format": "line", "column": 2}), "7,\"a, b\",21.5", Ok(Value::Text("a, b".into())))]
    #[case(json!({"format": "line", "column": 3}), "7,\"a, b\",21.5", Ok(Value::F64(21.5)))]
    #[case(json!({"format": "line", "column": 2, "delimiter": "semicolon", "type": "f64"}), "7;x", Err(Reason::NotANumber))]
    #[case(json!({"format": "line", "column": 4}), "7,8,9", Err(Reason::DoesNotFit))]
    fn plain_messages_are_read_whole_or_refused(
        #[case] point: Json,
        #[case] message: &str,
        #[case] expected: Result<Value, Reason>,
    ) {
        let came = one(point, message);
        assert_eq!(came.value.ok_or(came.quality.reason()), expected);
    }

    const AT: Nanos = 1_795_924_307_250_000_000;

    #[rstest]
    #[case(json!("2026-11-29T05:11:47.25Z"), json!({}), Some(1_795_929_107_250_000_000))]
    #[case(json!("2026-11-29 05:11:47.25"), json!({"clock": "local", "zone": "Asia/Kolkata"}), Some(1_795_909_307_250_000_000))]
    #[case(json!(1_795_924_307.25), json!({"clock": "seconds"}), Some(AT))]
    #[case(json!("1795924307250"), json!({"clock": "milliseconds"}), Some(AT))]
    #[case(json!(1_795_924_307_250_000i64), json!({"clock": "microseconds"}), Some(AT))]
    #[case(json!(AT), json!({"clock": "nanoseconds"}), Some(AT))]
    #[case(json!(i64::MAX), json!({"clock": "seconds"}), None)]
    #[case(json!(1e300), json!({"clock": "seconds"}), None)]
    #[case(json!(1_795_924_307.123), json!({"clock": "seconds"}), Some(1_795_924_307_123_000_000))]
    #[case(json!(-1.5), json!({"clock": "seconds"}), Some(-1_500_000_000))]
    #[case(json!("1.-5"), json!({"clock": "seconds"}), None)]
    #[case(json!("1795924307.1234567891"), json!({"clock": "seconds"}), Some(1_795_924_307_123_456_789))]
    #[case(json!("yesterday"), json!({}), None)]
    #[case(json!(null), json!({}), None)]
    #[case(json!(7), json!({}), None)]
    fn a_time_of_its_own_is_read_or_the_value_is_refused(
        #[case] time: Json,
        #[case] more: Json,
        #[case] expected: Option<Nanos>,
    ) {
        let mut point = json!({"member": "/v", "time": "/at"});
        point.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        let came = one(point, &json!({"v": 1, "at": time}).to_string());
        assert_eq!((came.time, came.quality.is_bad()), (expected, expected.is_none()));
    }

    #[rstest]
    #[case(json!("Good"), Some(Reason::Fine))]
    #[case(json!(192), Some(Reason::Fine))]
    #[case(json!(true), Some(Reason::Fine))]
    #[case(json!("uncertain"), Some(Reason::SaidUncertain))]
    #[case(json!(64), Some(Reason::SaidUncertain))]
    #[case(json!(false), Some(Reason::SaidBad))]
    #[case(json!(0), Some(Reason::SaidBad))]
    #[case(json!("maybe"), Some(Reason::DoesNotFit))]
    #[case(json!(700), Some(Reason::DoesNotFit))]
    fn the_quality_that_is_told_holds(#[case] told: Json, #[case] expected: Option<Reason>) {
        let came = one(json!({"member": "/v", "quality": "/q"}), &json!({"v": 1, "q": told}).to_string());
        assert_eq!((Some(came.quality.reason()), came.value.is_none()), (expected, came.quality.is_bad()));
    }

    #[test]
    fn an_array_of_samples_gives_each_with_its_time() {
        let point = json!({"samples": "/log", "member": "/v", "time": "/t", "clock": "seconds"});
        let message = json!({"log": [{"t": 1_700_000_000, "v": 1}, {"t": 1_700_000_001, "v": null}, {"v": 3}]}).to_string();
        let all = taken(point.clone()).of(&read(message.as_bytes(), Format::Json));
        let told: Vec<_> = all.iter().map(|s| (s.time.map(|t| t / SECOND), s.quality.reason())).collect();
        let expected = [(Some(1_700_000_000), Reason::Fine), (Some(1_700_000_001), Reason::NoValue), (None, Reason::DoesNotFit)];
        assert_eq!(told, expected);
        assert_eq!(one(point, "{}").quality.reason(), Reason::DoesNotFit);
    }

    #[test]
    fn what_may_be_left_out_stays_as_it_is() {
        let sparse = taken(json!({"member": "/v", "sparse": true}));
        assert!(sparse.of(&read(b"{\"w\": 1}", Format::Json)).is_empty());
        assert_eq!(sparse.of(&read(b"[", Format::Json)).len(), 1);
    }

    #[rstest]
    #[case(json!({"member": "power"}), "member")]
    #[case(json!({"format": "line"}), "column")]
    #[case(json!({"format": "line", "column": 0}), "column")]
    #[case(json!({"format": "line", "column": 1, "delimiter": "pipe"}), "delimiter")]
    #[case(json!({"time": "/t", "clock": "local", "zone": "Mars"}), "zone")]
    #[case(json!({"time": "t"}), "time")]
    #[case(json!({"clock": "sundial"}), "clock")]
    fn a_wrong_field_is_named(#[case] point: Json, #[case] field: &str) {
        assert_eq!(Taken::parse(point.as_object().unwrap()).unwrap_err().0, field);
    }

    proptest! {
        #[test]
        fn no_message_makes_it_panic(
            bytes in proptest::collection::vec(any::<u8>(), 0..200),
            text in "[\\[{\"a:1,}\\] .-]{0,60}",
            format in 0..6usize,
        ) {
            let format = ["json", "number", "switch", "text", "bytes", "line"][format];
            let taken = taken(json!({"format": format, "column": 2, "member": "/a", "time": "/a", "quality": "/a", "samples": "/a"}));
            for message in [bytes.as_slice(), text.as_bytes()] {
                prop_assert!(taken.of(&read(message, taken.format)).len() <= MOST_SAMPLES);
            }
        }
    }
}
