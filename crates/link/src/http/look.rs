//! Answers as a tree of nodes: the requests of the connection, then what their answers hold.
//!
//! ```text
//! node = [ "part=" pointer ";" ] "request=" path
//! ```

use super::settings::Settings;
use crate::{
    Ask, Children, LinkError, Node, now,
    opened::{self, object},
    pointer::Pointer,
};
use serde_json::json;

/// Most nodes of a page.
const MOST: usize = 1000;

/// Where a node lies.
pub(super) struct At {
    /// The path that is asked for; nothing at the top.
    pub path: Option<String>,
    part: Pointer,
}

impl At {
    /// Reads the id of a node.
    ///
    /// # Errors
    /// When it is none.
    pub fn of(node: &str) -> Result<At, LinkError> {
        let (part, place) = Pointer::split(node).map_err(|words| LinkError::BadRequest(words.into()))?;
        match (place.strip_prefix("request="), place) {
            (Some(path), _) => Ok(At { path: Some(path.to_owned()), part }),
            (None, "") => Ok(At { path: None, part }),
            (None, _) => Err(LinkError::BadRequest("There is no such node.".into())),
        }
    }
}

/// The requests of a connection; without any, what lies at its own path.
pub(super) fn requests(settings: &Settings) -> Vec<Node> {
    let all = settings.requests.iter().map(|request| (request.path.clone(), request.method.name()));
    let mut all: Vec<_> = all.collect();
    if all.is_empty() {
        all.push((String::new(), "GET"));
    }
    let node = |(path, method): (String, &str)| Node {
        id: format!("request={path}"),
        name: if path.is_empty() { "/".into() } else { path },
        branch: true,
        about: method.to_owned(),
        ..Node::default()
    };
    all.into_iter().map(node).collect()
}

/// What an answer holds at a place.
pub(super) fn inside(at: &At, body: &[u8]) -> Vec<Node> {
    let path = at.path.clone().unwrap_or_default();
    let base = object(json!({"path": path}));
    let id = format!("request={path}");
    let all = opened::members(body, &at.part, &id, &base);
    if !all.is_empty() || !at.part.is_whole() {
        return all;
    }
    // The answer is the value.
    let mut whole = Node { id: format!("part=;{id}"), name: "answer".into(), inside: true, ..Node::default() };
    opened::whole(&mut whole, body, base);
    whole.branch = false;
    vec![whole]
}

/// A page of nodes.
///
/// # Errors
/// When the cursor is none.
pub(super) fn page(nodes: Vec<Node>, ask: &Ask) -> Result<Children, LinkError> {
    let first: usize = match ask.cursor.as_str() {
        "" => 0,
        text => text.parse().map_err(|_| LinkError::BadRequest("Take the cursor from “next” of the page before.".into()))?,
    };
    let (most, all) = (ask.most.clamp(1, MOST), nodes.len());
    let end = first.saturating_add(most);
    let nodes = nodes.into_iter().skip(first).take(most).collect();
    Ok(Children { read_at: now(), parts: Vec::new(), nodes, next: (end < all).then(|| end.to_string()) })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn below(body: &str, node: &str) -> Vec<Node> {
        inside(&At::of(node).unwrap(), body.as_bytes())
    }

    #[test]
    fn an_answer_opens_into_members_with_the_time_beside_them() {
        let body = r#"{"at": "x", "time": "2026-11-29T10:00:00Z", "air": {"temperature": 6.5}, "gusts": [1, 2]}"#;
        let all = below(body, "request=/weather");
        let names: Vec<_> = all.iter().map(|n| (n.name.as_str(), n.branch)).collect();
        assert_eq!(names, [("at", false), ("time", false), ("air", true), ("gusts", true)]);
        let air = below(body, &all[2].id);
        let expected =
            json!({"path": "/weather", "member": "/air/temperature", "type": "f64", "time": "/time", "clock": "rfc3339"});
        assert_eq!((air[0].point.clone(), air[0].readings[0].text.as_str()), (Some(object(expected)), "6.5"));
        assert_eq!(below(body, "part=/none;request=/weather"), []);
    }

    #[test]
    fn an_answer_without_members_is_the_value() {
        let all = below("21.5", "request=/t");
        assert_eq!(all[0].point, Some(object(json!({"path": "/t", "format": "json", "type": "f64"}))));
        assert_eq!((all[0].branch, all[0].readings[0].text.as_str()), (false, "21.5"));
        assert!(At::of("elsewhere").is_err());
    }
}
