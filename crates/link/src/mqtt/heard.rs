//! Topics that were heard, with what came on them last: bounded, whatever comes.

use super::client::Heard;
use bytes::Bytes;
use havrel_core::time::{Nanos, SECOND};
use std::collections::{BTreeMap, HashSet};

/// Most topics that are kept.
pub const MOST_TOPICS: usize = 50_000;
/// Most bytes of one message, and of all, that are kept.
const MOST_OF_ONE: usize = 64 << 10;
const MOST_BYTES: usize = 64 << 20;

/// What came on a topic.
#[derive(Clone, Debug)]
pub(super) struct Last {
    /// The message, unless it is too large to be kept.
    pub payload: Option<Bytes>,
    pub size: usize,
    pub retained: bool,
    pub count: u64,
    pub first: Nanos,
    pub at: Nanos,
}

impl Last {
    /// Seconds between two messages, once there were some.
    pub fn every_s(&self) -> Option<f64> {
        (self.count > 1).then(|| (self.at - self.first) as f64 / (self.count - 1) as f64 / SECOND as f64)
    }
}

/// One step of topics below a prefix.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Level {
    pub name: String,
    /// Whether messages come on it.
    pub heard: bool,
    /// Whether further topics lie below it.
    pub branch: bool,
}

/// All topics that were heard.
#[derive(Debug, Default)]
pub(super) struct Topics {
    all: BTreeMap<String, Last>,
    bytes: usize,
    /// More came than is kept.
    pub more: bool,
}

impl Topics {
    /// Notes a message.
    pub fn hear(&mut self, came: &Heard, at: Nanos) {
        let size = came.payload.len();
        let before = self.all.get(&came.topic).and_then(|last| last.payload.as_ref()).map_or(0, Bytes::len);
        let fits = !came.oversized && size <= MOST_OF_ONE && self.bytes - before + size <= MOST_BYTES;
        if !self.all.contains_key(&came.topic) && self.all.len() >= MOST_TOPICS {
            self.more = true;
            return;
        }
        let last =
            self.all.entry(came.topic.clone()).or_insert(Last { payload: None, size, retained: false, count: 0, first: at, at });
        // A copy: what came shares its memory with all that was read with it.
        last.payload = fits.then(|| Bytes::copy_from_slice(&came.payload));
        self.bytes = self.bytes - before + if fits { size } else { 0 };
        (last.size, last.retained, last.at) = (size, came.retained, at);
        last.count += 1;
    }

    pub fn get(&self, topic: &str) -> Option<&Last> {
        self.all.get(topic)
    }

    /// What came last on each topic, in the order of their bytes.
    pub fn all(&self) -> impl Iterator<Item = (&str, &Last)> {
        self.all.iter().map(|(topic, last)| (topic.as_str(), last))
    }

    /// The levels right below a topic; without one, the first levels. They come in the order of their bytes.
    pub fn below(&self, topic: Option<&str>) -> Vec<Level> {
        let prefix = topic.map_or_else(String::new, |topic| format!("{topic}/"));
        let mut levels: Vec<Level> = Vec::new();
        let mut known: HashSet<String> = HashSet::new();
        let mut from = prefix.clone();
        while let Some((found, _)) = self.all.range(from.clone()..).next() {
            let Some(rest) = found.strip_prefix(&prefix) else { break };
            let (name, deeper) = rest.split_once('/').map_or((rest, false), |(name, _)| (name, true));
            if known.insert(name.to_owned()) {
                levels.push(Level { name: name.to_owned(), heard: false, branch: false });
            }
            if let Some(level) = levels.iter_mut().rev().find(|level| level.name == name) {
                (level.heard, level.branch) = (level.heard || !deeper, level.branch || deeper);
            }
            // Behind all that lies below this level, or behind this topic: “0” follows “/”, and nothing is shorter than \0.
            from = if deeper { format!("{prefix}{name}0") } else { format!("{found}\0") };
        }
        levels
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn message(topic: &str, payload: &[u8]) -> Heard {
        Heard { topic: topic.into(), payload: Bytes::copy_from_slice(payload), retained: false, oversized: false }
    }

    fn topics(all: &[&str]) -> Topics {
        let mut topics = Topics::default();
        all.iter().for_each(|topic| topics.hear(&message(topic, b"1"), SECOND));
        topics
    }

    #[test]
    fn topics_are_a_tree_of_their_levels() {
        let topics = topics(&["a", "a-b", "a/b", "a/b/c", "a0", "/x", "a//y"]);
        let told = |topic| topics.below(topic).into_iter().map(|l| (l.name, l.heard, l.branch)).collect::<Vec<_>>();
        let level = |name: &str, heard, branch| (name.to_owned(), heard, branch);
        assert_eq!(
            told(None),
            [level("", false, true), level("a", true, true), level("a-b", true, false), level("a0", true, false)]
        );
        assert_eq!(told(Some("a")), [level("", false, true), level("b", true, true)]);
        assert_eq!(told(Some("a/b")), [level("c", true, false)]);
        assert_eq!(told(Some("a/b/c")), []);
        assert_eq!(told(Some("")), [level("x", true, false)]);
    }

    #[test]
    fn what_comes_is_counted_and_bounded() {
        let mut topics = Topics::default();
        (0..3).for_each(|n| topics.hear(&message("a", b"12"), n * 2 * SECOND));
        let last = topics.get("a").unwrap();
        assert_eq!((last.count, last.size, last.every_s()), (3, 2, Some(2.0)));
        topics.hear(&message("a", &[b'x'; MOST_OF_ONE + 1]), 9 * SECOND);
        assert_eq!((topics.get("a").unwrap().payload.as_ref(), topics.get("a").unwrap().size), (None, MOST_OF_ONE + 1));
        for n in 0..MOST_TOPICS + 5 {
            topics.hear(&message(&format!("t/{n}"), &[b'x'; 2000]), SECOND);
        }
        assert!(topics.more && topics.all.len() == MOST_TOPICS && topics.bytes <= MOST_BYTES);
        topics.hear(&message("a", b"7"), 10 * SECOND);
        assert_eq!(topics.get("a").unwrap().count, 5, "what is known goes on");
    }

    proptest! {
        #[test]
        fn every_topic_is_found_step_by_step(all in proptest::collection::hash_set("[a0/ -]{1,8}", 1..20)) {
            let topics = topics(&all.iter().map(String::as_str).collect::<Vec<_>>());
            let mut found = std::collections::HashSet::new();
            let mut open: Vec<Option<String>> = vec![None];
            while let Some(above) = open.pop() {
                for level in topics.below(above.as_deref()) {
                    let topic = above.as_ref().map_or_else(|| level.name.clone(), |above| format!("{above}/{}", level.name));
                    if level.heard {
                        prop_assert!(found.insert(topic.clone()));
                    }
                    if level.branch {
                        open.push(Some(topic));
                    }
                }
            }
            prop_assert_eq!(found, all);
        }
    }
}
