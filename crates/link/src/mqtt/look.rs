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
use crate::{
    Children, LinkError, Node, now,
    opened::{self, object},
    pointer::Pointer,
};
use havrel_core::{
    plant::view::natural,
    time::{Nanos, SECOND},
};
use serde_json::json;

/// Most nodes of a page.
const MOST: usize = 1000;
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
    let inside = at
        .topic
        .as_ref()
        .and_then(|topic| {
            Some(opened::members(
                topics.get(topic)?.payload.as_deref()?,
                &at.part,
                &at.node(topic),
                &object(json!({"topic": topic})),
            ))
        })
        .unwrap_or_default();
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
    opened::whole(node, bytes, object(json!({"topic": topic})));
}

#[cfg(test)]
mod tests {
    use super::{super::client::Heard, *};

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
        let switch =
            json!({"topic": "site/meter/M1", "member": "/phase/a~1b/1", "type": "bool", "time": "/ts", "clock": "milliseconds"});
        assert_eq!(deep[1].point, Some(object(switch)), "the time around it holds for it");
        let line = below(&topics, &inside[3].id);
        assert_eq!(
            line[2].point,
            Some(object(json!({"topic": "site/meter/M1/raw", "format": "line", "delimiter": "semicolon", "column": 3})))
        );
        assert_eq!(below(&topics, &below(&topics, &top[0].id)[0].id), []);
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
