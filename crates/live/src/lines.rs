//! How a line of the journal is written.

use havrel_core::{access::Actor, frame::Note, time::Nanos};
use serde_json::Value as Json;
use uuid::Uuid;

/// Most bytes of a line's detail; a longer one is left out and said so.
const DETAIL: usize = 256 << 10;

/// A line about what Havrel did by itself.
pub(crate) fn by_itself(kind: &str, title: String, detail: &Json, at: Nanos) -> Note {
    line(kind, None, None, &title, detail, at)
}

/// A line about what somebody did, or Havrel where nobody is named.
pub(crate) fn line(kind: &str, actor: Option<&Actor>, subject: Option<Uuid>, title: &str, detail: &Json, at: Nanos) -> Note {
    let mut detail = detail.to_string();
    if detail.len() > DETAIL {
        detail = serde_json::json!({"left_out": format!("{} bytes", detail.len())}).to_string();
    }
    Note {
        at,
        kind: kind.to_owned(),
        account: actor.map(|a| a.account),
        actor: actor.map_or("Havrel", |a| a.name.as_str()).to_owned(),
        subject,
        title: title.to_owned(),
        detail,
    }
}
