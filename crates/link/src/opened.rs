//! A message opened into nodes: what it is taken for, and the members, elements or fields that can become tags.

use crate::{Node, Reading, payload, pointer::Pointer};
use havrel_core::{
    plant::Own,
    text::hex,
    time::{MILLI, Nanos, SECOND, from_text, to_text},
};
use havrel_sparkplug::{
    payload::{Metric, Payload, type_name},
    topic::is_topic,
};
use serde_json::{Value as Json, json};
use std::collections::HashMap;

/// Most fields of a line.
const MOST: usize = 1000;
/// Longest text of a message that is shown, in characters.
const MOST_SHOWN: usize = 120;

/// What a message is taken for: its format, and the document where it is one.
fn format_of(bytes: &[u8]) -> (&'static str, Option<Json>) {
    let Ok(text) = std::str::from_utf8(bytes) else { return ("bytes", None) };
    if let Ok(document) = serde_json::from_str::<Json>(text) {
        return ("json", Some(document));
    }
    let reads = |format| {
        let point = json!({"format": format}).as_object().cloned().unwrap_or_default();
        payload::Taken::parse(&point).is_ok_and(|taken| {
            let message = payload::read(bytes, taken.format);
            taken.of(&message).iter().all(|sample| sample.value.is_some())
        })
    };
    match () {
        () if text.is_empty() => ("text", None),
        () if reads("number") => ("number", None),
        () if reads("switch") => ("switch", None),
        () if !text.trim().contains('\n') && delimiter_of(text).is_some() => ("line", None),
        () => ("text", None),
    }
}

/// What stands between the fields of a line of at least three numbers or words.
fn delimiter_of(text: &str) -> Option<(char, &'static str)> {
    let all = [(';', "semicolon"), ('\t', "tab"), (',', "comma")];
    all.into_iter().find(|(mark, _)| text.matches(*mark).count() >= 2)
}

/// The metrics of a message, where its topic says that it has such.
fn metrics_of(base: &Own, bytes: &[u8]) -> Option<Payload> {
    base.get("topic").and_then(Json::as_str).filter(|topic| is_topic(topic))?;
    Payload::read(bytes)
}

/// What lies right below a part of the names of metrics, which “/” divides; of metrics that come several times, the last.
fn metrics(payload: &Payload, at: &Pointer, node: &str, base: &Own) -> Vec<Node> {
    let above = at.steps();
    let (mut nodes, mut places) = (Vec::<Node>::new(), HashMap::<String, usize>::new());
    for metric in &payload.metrics {
        let label = metric.label();
        let steps: Vec<&str> = label.split('/').collect();
        if steps.len() <= above.len() || !steps.iter().zip(above).all(|(step, above)| step == above) {
            continue;
        }
        let step = steps[above.len()];
        let id = at.with(step).in_node(node);
        let name: String = step.chars().take(MOST_SHOWN).collect();
        let folder = Node { id: id.clone(), name: name.clone(), inside: true, ..Node::default() };
        let place = *places.entry(step.to_owned()).or_insert(nodes.len());
        if place == nodes.len() {
            nodes.push(folder);
        }
        let Some(there) = nodes.get_mut(place) else { continue };
        if steps.len() > above.len() + 1 {
            there.branch = true;
        } else {
            *there = Node { id, name, branch: there.branch, ..metric_node(payload, metric, base) };
        }
    }
    nodes
}

fn metric_node(payload: &Payload, metric: &Metric, base: &Own) -> Node {
    let named = metric.name.as_ref().filter(|name| !name.trim().is_empty());
    let text = match metric.read(None) {
        Ok(value) => text_of(value.text().as_bytes()),
        Err(reason) => reason.words().to_owned(),
    };
    let at = payload.time_of(metric).map(|at| format!("at {}", to_text(at)));
    let history = if metric.is_historical == Some(true) { ", from the buffer of the node" } else { "" };
    Node {
        inside: true,
        about: type_name(metric.datatype.unwrap_or_default()).to_owned(),
        point: named.map(|name| with(base, json!({"format": "sparkplug", "metric": name}))),
        readings: vec![Reading { point: Own::new(), text }],
        description: at.unwrap_or_default() + history,
        refused: if named.is_some() { String::new() } else { "Only the birth of its node tells its name.".into() },
        ..Node::default()
    }
}

/// Says of a node what its message is; `base` is what a tag of it begins with.
pub fn whole(node: &mut Node, bytes: &[u8], base: Own) {
    if let Some(payload) = metrics_of(&base, bytes) {
        let count = payload.metrics.len();
        let text = format!("{count} {}", if count == 1 { "metric" } else { "metrics" });
        node.readings.push(Reading { point: Own::new(), text });
        node.branch |= count > 0;
        node.about = "Sparkplug".into();
        return;
    }
    let (format, document) = format_of(bytes);
    node.readings.push(Reading { point: Own::new(), text: text_of(bytes) });
    let divided = format == "line" || document.as_ref().is_some_and(is_divided);
    node.branch |= divided;
    node.about = match (format, &document) {
        ("json", Some(one)) if !divided => kind_of(one),
        ("json", _) => "JSON",
        (other, _) => other,
    }
    .to_owned();
    // Of a message that has members, these are taken.
    if !divided {
        let mut point = with(&base, json!({"format": format}));
        document.iter().for_each(|one| holds(&mut point, one));
        node.point = Some(point);
    }
}

fn with(base: &Own, more: Json) -> Own {
    let mut point = base.clone();
    point.extend(object(more));
    point
}

/// What a part of a document is, in a word.
fn kind_of(one: &Json) -> &'static str {
    match one {
        Json::Null => "null",
        Json::Bool(_) => "switch",
        Json::Number(_) => "number",
        Json::String(_) => "text",
        Json::Array(_) => "array",
        Json::Object(_) => "object",
    }
}

/// A message as people can read it, or its beginning.
fn text_of(bytes: &[u8]) -> String {
    match std::str::from_utf8(bytes) {
        Ok(text) => text.chars().take(MOST_SHOWN).map(|c| if c.is_control() { ' ' } else { c }).collect(),
        Err(_) => hex(bytes, MOST_SHOWN / 2),
    }
}

fn is_divided(document: &Json) -> bool {
    match document {
        Json::Object(members) => !members.is_empty(),
        Json::Array(all) => !all.is_empty(),
        _ => false,
    }
}

/// What is right inside a message, or inside a part of it. `node` is the id of the message, `base` what a tag of it begins with.
pub fn members(bytes: &[u8], at: &Pointer, node: &str, base: &Own) -> Vec<Node> {
    if let Some(payload) = metrics_of(base, bytes) {
        return metrics(&payload, at, node, base);
    }
    let (format, document) = format_of(bytes);
    let inside = |part: &Pointer, name: String, about: &str, text: String, branch: bool, point: Option<Own>| Node {
        id: part.in_node(node),
        name,
        inside: true,
        branch,
        about: about.to_owned(),
        point,
        readings: vec![Reading { point: Own::new(), text }],
        ..Node::default()
    };
    if format == "line" && at.is_whole() {
        let text = String::from_utf8_lossy(bytes);
        let Some((mark, delimiter)) = delimiter_of(&text) else { return Vec::new() };
        let fields = text.trim().split(mark).take(MOST).zip(1..);
        let field = |(field, column): (&str, usize)| {
            let point = with(base, json!({"format": "line", "delimiter": delimiter, "column": column}));
            inside(
                &Pointer::default().with(&column.to_string()),
                format!("field {column}"),
                "field",
                field.to_owned(),
                false,
                Some(point),
            )
        };
        return fields.map(field).collect();
    }
    let Some(document) = document else { return Vec::new() };
    let Some(found) = payload::part(&document, at) else { return Vec::new() };
    let own_time = time_around(&document, at);
    let steps: Vec<(String, String, &Json)> = match found {
        Json::Object(members) => members.iter().map(|(name, one)| (name.clone(), name.clone(), one)).collect(),
        Json::Array(all) => (0..).zip(all).map(|(n, one): (usize, _)| (n.to_string(), format!("[{n}]"), one)).collect(),
        _ => Vec::new(),
    };
    let node = |(step, name, one): (String, String, &Json)| {
        let part = at.with(&step);
        let mut point = with(base, json!({"member": part.show()}));
        holds(&mut point, one);
        if let Some((time, clock)) = own_time.as_ref().filter(|(time, _)| *time != part) {
            point.insert("time".into(), time.show().into());
            point.insert("clock".into(), (*clock).into());
        }
        let text = match one {
            Json::Null => String::new(),
            Json::String(text) => text_of(text.as_bytes()),
            other => text_of(other.to_string().as_bytes()),
        };
        // Of a part that has members, these are taken.
        let (branch, name) = (is_divided(one), name.chars().take(MOST_SHOWN).collect());
        let own_time = point.get("time").and_then(Json::as_str).map(|time| format!("with the time in {time}"));
        let node = inside(&part, name, kind_of(one), text, branch, Some(point).filter(|_| !branch));
        Node { description: own_time.filter(|_| !branch).unwrap_or_default(), ..node }
    };
    steps.into_iter().map(node).collect()
}

/// Says what a tag of a member would hold, where that is plain.
fn holds(point: &mut Own, one: &Json) {
    let kind = match one {
        Json::Bool(_) => "bool",
        Json::Number(_) => "f64",
        Json::String(_) => "text",
        _ => return,
    };
    point.insert("type".into(), kind.into());
}

/// The time that holds for what is inside a part: the nearest one, in the part itself or in what is around it.
fn time_around(document: &Json, at: &Pointer) -> Option<(Pointer, &'static str)> {
    let steps = at.steps();
    (0..=steps.len()).rev().find_map(|depth| {
        let around = steps[..depth].iter().fold(Pointer::default(), |around, step| around.with(step));
        time_beside(payload::part(document, &around)?, &around)
    })
}

/// The member of an object that is plainly the time of the others, and how it is written: one of the usual names, and a time
/// between 2000 and 2100.
fn time_beside(found: &Json, inside: &Pointer) -> Option<(Pointer, &'static str)> {
    const NAMES: [&str; 6] = ["time", "timestamp", "ts", "datetime", "t", "at"];
    let Json::Object(members) = found else { return None };
    let name = NAMES.iter().find_map(|wanted| members.keys().find(|key| key.eq_ignore_ascii_case(wanted)))?;
    let clock = match &members[name] {
        Json::String(text) => from_text(text).ok().map(|_| "rfc3339"),
        Json::Number(number) => {
            let number = number.as_f64()?;
            // From 2000 to 2100, in seconds since 1970.
            let fits = |per: Nanos| (946_684_800.0..4_102_444_800.0).contains(&(number * per as f64 / SECOND as f64));
            let all = [("seconds", SECOND), ("milliseconds", MILLI), ("microseconds", 1000), ("nanoseconds", 1)];
            all.into_iter().find(|(_, per)| fits(*per)).map(|(name, _)| name)
        }
        _ => None,
    };
    Some((inside.with(name), clock?))
}

/// A JSON object as fields.
pub fn object(json: Json) -> Own {
    json.as_object().cloned().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(b"21.5", "json")]
    #[case(b"021.5", "number")]
    #[case(b"ON", "switch")]
    #[case(b"a,b,c", "line")]
    #[case(b"KX-2611, all well", "text")]
    #[case(b"", "text")]
    #[case(b"\xff\x00", "bytes")]
    #[case(b"{\"a\": 1}", "json")]
    fn a_message_is_taken_for_what_it_looks_like(#[case] bytes: &[u8], #[case] format: &str) {
        assert_eq!(format_of(bytes).0, format);
    }

    #[test]
    fn a_message_of_sparkplug_opens_into_metrics() {
        use havrel_sparkplug::payload::MetricValue;
        use prost::Message as _;
        let metric = |name: &str, alias, value| Metric {
            name: Some(name.to_owned()).filter(|name| !name.is_empty()),
            alias,
            datatype: Some(10),
            value: Some(MetricValue::Double(value)),
            ..Metric::default()
        };
        let metrics = vec![metric("Inlet/pH", None, 7.0), metric("", Some(4), 2.0), metric("Inlet/pH", None, 7.25)];
        let bytes = Payload { timestamp: Some(1_795_924_307_250), metrics, ..Payload::default() }.encode_to_vec();
        let base = object(json!({"topic": "spBv1.0/Works/DDATA/Station/Inlet"}));
        let mut node = Node::default();
        whole(&mut node, &bytes, base.clone());
        assert_eq!((node.about.as_str(), node.branch, node.readings[0].text.as_str()), ("Sparkplug", true, "3 metrics"));
        let inside = members(&bytes, &Pointer::default(), "n", &base);
        let names: Vec<_> = inside.iter().map(|n| (n.name.as_str(), n.branch)).collect();
        assert_eq!(names, [("Inlet", true), ("alias 4", false)]);
        assert!(inside[1].point.is_none() && !inside[1].refused.is_empty());
        let inside = members(&bytes, &Pointer::default().with("Inlet"), "n", &base);
        let told: Vec<_> = inside.iter().map(|n| (n.name.as_str(), n.about.as_str(), n.readings[0].text.as_str())).collect();
        assert_eq!(told, [("pH", "Double", "7.25")], "of one that comes twice the last");
        let point = json!({"topic": "spBv1.0/Works/DDATA/Station/Inlet", "format": "sparkplug", "metric": "Inlet/pH"});
        assert_eq!(inside[0].point, Some(object(point)));
        let taken = payload::Taken::parse(&object(json!({"format": "sparkplug", "metric": "Inlet/pH"}))).unwrap();
        let came = taken.of(&payload::read(&bytes, taken.format));
        let values: Vec<_> = came.iter().map(|sample| (sample.value.clone(), sample.time)).collect();
        let value = |value| (Some(havrel_core::sample::Value::F64(value)), Some(1_795_924_307_250 * MILLI));
        assert_eq!(values, [value(7.0), value(7.25)], "both, with their times");
        assert_eq!(taken.words(), "Inlet/pH");
        let other = payload::Taken::parse(&object(json!({"format": "sparkplug", "metric": "Level"}))).unwrap();
        assert_eq!(other.of(&payload::read(&bytes, other.format)), [], "a message between births holds what changed");
        assert!(payload::Taken::parse(&object(json!({"format": "sparkplug"}))).is_err());
        // On any other topic the same bytes are bytes.
        let mut plain = Node::default();
        whole(&mut plain, &bytes, object(json!({"topic": "works/x"})));
        assert_eq!(plain.about, "bytes");
    }
}
