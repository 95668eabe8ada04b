//! Topics that are heard as a tree of nodes: levels, then the members of what came last.
//!
//! ```text
//! node   = [ "part=" pointer ";" ] place         a member of a message, or the topic itself
//! place  = "filter=" filter ";" [ topic ]        what is listened to (% and ; are escaped), and where
//! ```

use super::{
    heard::{Last, Level, MOST_TOPICS, Topics},
    settings::check_filter,
};
use crate::{Children, LinkError, Node, Reading, now, payload, pointer::Pointer};
use havrel_core::{
    plant::{Own, view::natural},
    time::{MILLI, Nanos, SECOND, from_text},
};
use serde_json::{Value as Json, json};

/// Most nodes of a page.
const MOST: usize = 1000;
/// Longest text of a message that is shown, in characters.
const MOST_SHOWN: usize = 120;
/// What is listened to where nobody says anything else.
const ALL: &str = "#";

/// Where a node lies.
pub(super) struct At {
    pub filter: String,
    topic: Option<String>,
    part: Pointer,
}

impl At {
    /// Reads the id of a node.
    ///
    /// # Errors
    /// When it is none, or its filter is none.
    pub fn of(node: &str) -> Result<At, LinkError> {
        let refused = |words: &str| LinkError::BadRequest(words.to_owned());
        let (part, place) = Pointer::split(node).map_err(refused)?;
        let (filter, topic) = match place.strip_prefix("filter=").and_then(|rest| rest.split_once(';')) {
            Some((filter, topic)) => (filter.replace("%3B", ";").replace("%25", "%"), topic),
            None => (ALL.to_owned(), place),
        };
        check_filter(&filter).map_err(refused)?;
        // The empty topic does not exist, but a topic may begin with a slash: its first level is empty.
        let topic = topic.strip_prefix("topic=").map(str::to_owned);
        Ok(At { filter, topic, part })
    }

    fn node(&self, topic: &str) -> String {
        format!("filter={};topic={topic}", self.filter.replace('%', "%25").replace(';', "%3B"))
    }
}

/// A page of what lies below a node.
pub(super) fn page(topics: &Topics, at: &At, cursor: &str, most: usize) -> Result<Children, LinkError> {
    let first: usize = match cursor {
        "" => 0,
        text => text.parse().map_err(|_| LinkError::BadRequest("Take the cursor from “next” of the page before.".into()))?,
    };
    let asked_at = now();
    let most = most.clamp(1, MOST);
    let inside = at.topic.as_ref().and_then(|topic| Some(members(at, topic, topics.get(topic)?))).unwrap_or_default();
    let mut levels = if at.part.is_whole() { topics.below(at.topic.as_deref()) } else { Vec::new() };
    levels.sort_by(|a, b| natural(&a.name, &b.name));
    let (before, all) = (inside.len(), inside.len() + levels.len());
    let mut nodes: Vec<Node> = inside.into_iter().skip(first).take(most).collect();
    // Only what is shown is looked into.
    let room = most - nodes.len();
    nodes.extend(
        levels.into_iter().skip(first.saturating_sub(before)).take(room).map(|level| of_level(topics, at, level, asked_at)),
    );
    let end = first.saturating_add(most);
    if topics.more && at.topic.is_none() && end >= all {
        let refused = format!("Havrel keeps {MOST_TOPICS} topics, and more were heard. A narrower filter shows the others.");
        nodes.push(Node { id: "more".into(), name: "…".into(), refused, ..Node::default() });
    }
    let next = (end < all).then(|| end.to_string());
    Ok(Children { read_at: asked_at, parts: Vec::new(), nodes, next })
}

/// A level of topics as a node.
fn of_level(topics: &Topics, at: &At, level: Level, asked_at: Nanos) -> Node {
    let topic = at.topic.as_ref().map_or_else(|| level.name.clone(), |above| format!("{above}/{}", level.name));
    if level.name.chars().any(char::is_control) {
        let name = level.name.chars().map(|c| if c.is_control() { char::REPLACEMENT_CHARACTER } else { c }).collect();
        let refused = "Its name holds control characters, so it cannot be taken.".into();
        return Node { id: at.node(&topic), name, refused, ..Node::default() };
    }
    let name = if level.name.is_empty() { "(empty level)".to_owned() } else { level.name };
    let mut node = Node { id: at.node(&topic), name, branch: level.branch, ..Node::default() };
    if let Some(last) = topics.get(&topic).filter(|_| level.heard) {
        heard(&mut node, &topic, last, asked_at);
    }
    node
}

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

/// Says of a node what came on its topic.
fn heard(node: &mut Node, topic: &str, last: &Last, asked_at: Nanos) {
    let size = if last.size == 1 { "1 byte".to_owned() } else { format!("{} bytes", last.size) };
    let kept = if last.retained { ", retained" } else { "" };
    let rhythm = last.every_s().map_or_else(String::new, |every| format!(" every {every:.1} s"));
    let age = ((asked_at - last.at).max(0) as f64 / SECOND as f64).round();
    node.description = format!("{size}{rhythm}, last {age} s ago{kept}");
    let Some(bytes) = &last.payload else {
        node.refused = "The last message is too large to be shown.".into();
        return;
    };
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
        let mut point = object(json!({"topic": topic, "format": format}));
        document.iter().for_each(|one| holds(&mut point, one));
        node.point = Some(point);
    }
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
        Err(_) => payload::hex(&bytes[..bytes.len().min(MOST_SHOWN / 2)]),
    }
}

fn is_divided(document: &Json) -> bool {
    match document {
        Json::Object(members) => !members.is_empty(),
        Json::Array(all) => !all.is_empty(),
        _ => false,
    }
}

/// What is right inside a message, or inside a member of it.
fn members(at: &At, topic: &str, last: &Last) -> Vec<Node> {
    let Some(bytes) = &last.payload else { return Vec::new() };
    let (format, document) = format_of(bytes);
    let inside = |part: &Pointer, name: String, about: &str, text: String, branch: bool, point: Option<Own>| Node {
        id: part.in_node(&at.node(topic)),
        name,
        inside: true,
        branch,
        about: about.to_owned(),
        point,
        readings: vec![Reading { point: Own::new(), text }],
        ..Node::default()
    };
    if format == "line" && at.part.is_whole() {
        let text = String::from_utf8_lossy(bytes);
        let Some((mark, delimiter)) = delimiter_of(&text) else { return Vec::new() };
        let fields = text.trim().split(mark).take(MOST).zip(1..);
        let field = |(field, column): (&str, usize)| {
            let point = object(json!({"topic": topic, "format": "line", "delimiter": delimiter, "column": column}));
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
    let Some(found) = payload::part(&document, &at.part) else { return Vec::new() };
    let own_time = time_beside(found, &at.part);
    let steps: Vec<(String, String, &Json)> = match found {
        Json::Object(members) => members.iter().map(|(name, one)| (name.clone(), name.clone(), one)).collect(),
        Json::Array(all) => (0..).zip(all).map(|(n, one): (usize, _)| (n.to_string(), format!("[{n}]"), one)).collect(),
        _ => Vec::new(),
    };
    let node = |(step, name, one): (String, String, &Json)| {
        let part = at.part.with(&step);
        let mut point = object(json!({"topic": topic, "member": part.show()}));
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

/// The member of an object that is plainly the time of the others, and how it is written: one of the usual names, and a time
/// between 2000 and 2100.
fn time_beside(found: &Json, inside: &Pointer) -> Option<(Pointer, &'static str)> {
    const NAMES: [&str; 5] = ["time", "timestamp", "ts", "datetime", "t"];
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

fn object(json: Json) -> Own {
    json.as_object().cloned().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::{super::client::Heard, *};
    use rstest::rstest;

    fn topics(all: &[(&str, &str)]) -> Topics {
        let mut topics = Topics::default();
        for (topic, payload) in all {
            let came = Heard {
                topic: (*topic).into(),
                payload: bytes::Bytes::copy_from_slice(payload.as_bytes()),
                retained: false,
                oversized: false,
            };
            topics.hear(&came, SECOND);
        }
        topics
    }

    fn below(topics: &Topics, node: &str) -> Vec<Node> {
        page(topics, &At::of(node).unwrap(), "", 1000).unwrap().nodes
    }

    #[test]
    fn topics_open_into_levels_and_messages_into_members() {
        let message = r#"{"ts": 1795924307250, "power": 12.5, "phase": {"a/b": [1, true]}}"#;
        let topics = topics(&[("site/meter/M1", message), ("site/meter/M1/raw", "7;8;nine"), ("/odd", "on")]);
        let top = below(&topics, "");
        assert_eq!(top.iter().map(|n| n.name.as_str()).collect::<Vec<_>>(), ["(empty level)", "site"]);
        let meter = below(&topics, &below(&topics, &top[1].id)[0].id);
        assert_eq!((meter[0].point.as_ref(), meter[0].about.as_str()), (None, "JSON"), "its members are taken");
        let inside = below(&topics, &meter[0].id);
        let names: Vec<_> = inside.iter().map(|n| (n.name.as_str(), n.inside, n.branch)).collect();
        assert_eq!(names, [("ts", true, false), ("power", true, false), ("phase", true, true), ("raw", false, true)]);
        let power = json!({"topic": "site/meter/M1", "member": "/power", "type": "f64", "time": "/ts", "clock": "milliseconds"});
        assert_eq!(inside[1].point, Some(object(power)));
        assert_eq!(inside[0].point.as_ref().unwrap().get("time"), None, "a time is not its own");
        let deep = below(&topics, &below(&topics, &inside[2].id)[0].id);
        assert_eq!(deep[1].point, Some(object(json!({"topic": "site/meter/M1", "member": "/phase/a~1b/1", "type": "bool"}))));
        let line = below(&topics, &inside[3].id);
        assert_eq!(
            line[2].point,
            Some(object(json!({"topic": "site/meter/M1/raw", "format": "line", "delimiter": "semicolon", "column": 3})))
        );
        assert_eq!(below(&topics, &below(&topics, &top[0].id)[0].id), []);
    }

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
    fn ids_and_pages_that_are_none_are_refused() {
        assert!(At::of("filter=a/#/b;").is_err() && At::of("part=x;filter=#;").is_err());
        let at = At::of("filter=a%3B%25/#;topic=a;%/b").unwrap();
        assert_eq!((at.filter.as_str(), at.topic.as_deref()), ("a;%/#", Some("a;%/b")));
        assert!(page(&Topics::default(), &at, "x", 10).is_err());
        let odd = below(&topics(&[("a\u{7}b/c", "1")]), "");
        assert!(odd[0].name == "a\u{fffd}b" && !odd[0].branch && !odd[0].refused.is_empty(), "{odd:?}");
        let many: Vec<String> = (0..25).map(|n| format!("t{n}")).collect();
        let topics = topics(&many.iter().map(|t| (t.as_str(), "1")).collect::<Vec<_>>());
        let at = At::of("").unwrap();
        let second = page(&topics, &at, "10", 10).unwrap();
        assert_eq!((second.nodes[0].name.as_str(), second.next.as_deref()), ("t10", Some("20")));
        assert_eq!(page(&topics, &at, "20", 10).unwrap().next, None);
    }
}
