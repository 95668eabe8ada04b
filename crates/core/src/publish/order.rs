//! Orders: messages by which others write to tags that were allowed for it.

use super::template::Topic;
use crate::plant::{Item, Plant, Publication};
use serde_json::Value as Json;
use std::{collections::HashMap, sync::Arc};
use uuid::Uuid;

/// Longest message that is read as an order, in bytes.
const LONGEST: usize = 64 << 10;

/// What a message on a topic writes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Order {
    pub publication: Uuid,
    pub tag: Uuid,
    /// Where in a JSON message the value stands (JSON Pointer, RFC 6901); empty: the message is the value.
    pub member: String,
}

/// The topics on which others may write through a connection, and what they write.
pub fn orders(plant: &Plant, connection: Uuid) -> HashMap<String, Order> {
    let mut items: Vec<_> =
        plant.publications.values().filter(|item| item.set.connection == connection && item.set.enabled).collect();
    items.sort_by_key(|item| item.id);
    let mut found = HashMap::new();
    for item in items {
        for (topic, order) in orders_of(plant, item).0 {
            // The door does not know of topics that meet only by the names of tags: the first counts, and the others are told.
            found.entry(topic).or_insert(order);
        }
    }
    found
}

/// The same of one publication, and what of it cannot be, as sentences.
pub(super) fn orders_of(plant: &Plant, item: &Arc<Item<Publication>>) -> (HashMap<String, Order>, Vec<String>) {
    let set = &item.set;
    let (mut found, mut wrong) = (HashMap::<String, Order>::new(), Vec::new());
    let Ok(pattern) = Topic::parse(&set.write_topic, set.plain) else { return (found, wrong) };
    for tag in set.write_tags.iter().filter_map(|id| plant.tags.get(id)) {
        let path = plant.tag_path(&tag.set);
        if !tag.set.writable {
            wrong.push(format!("“{path}” is not writable, so others cannot write it either."));
        }
        match pattern.of(&path, &tag.set) {
            Err(words) => wrong.push(words),
            Ok(topic) => {
                let order = Order { publication: item.id, tag: tag.id, member: set.write_member.clone() };
                if let Some(before) = found.get(&topic) {
                    let other = plant.tags.get(&before.tag).map(|t| plant.tag_path(&t.set)).unwrap_or_default();
                    wrong.push(format!(
                        "“{path}” and “{other}” would be written by the same topic {topic}. Put {{path}} into it."
                    ));
                } else {
                    found.insert(topic, order);
                }
            }
        }
    }
    (found, wrong)
}

/// The value that a message orders: a switch, a number or a text.
///
/// # Errors
/// Why there is none, as a sentence.
pub fn ordered(payload: &[u8], member: &str) -> Result<Json, String> {
    if payload.len() > LONGEST {
        return Err("The message is longer than 64 KiB.".into());
    }
    let text = std::str::from_utf8(payload).map_err(|_| "The message is no text.".to_owned())?;
    let read = serde_json::from_str::<Json>(text);
    let value = if member.is_empty() {
        // A word without quotes is a text.
        read.unwrap_or_else(|_| Json::String(text.trim().to_owned()))
    } else {
        let json = read.map_err(|_| "The message is no JSON.".to_owned())?;
        json.pointer(member).cloned().ok_or_else(|| format!("The message has no member {member}."))?
    };
    match value {
        Json::Bool(_) | Json::Number(_) => Ok(value),
        Json::String(text) if !text.is_empty() => Ok(Json::String(text)),
        _ => Err("The message holds no single value.".into()),
    }
}
