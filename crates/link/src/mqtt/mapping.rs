//! Mappings: for every topic that fits a filter, now or later, the same tags. Without a socket: time comes in.

use super::{
    client::Heard,
    settings::{Point, check_filter, fits},
};
use crate::{
    kind::Wrong,
    payload::{self, Format, Message},
};
use bytes::Bytes;
use havrel_core::{
    arrival::{Arrival, LONGEST_KEY, Mapping, NewTag, Template},
    plant::{Own, table::clean_path},
    time::{Nanos, SECOND},
};
use serde_json::json;
use std::collections::HashMap;
use uuid::Uuid;

/// Mappings of a connection, and tags of one.
const MOST_MAPPINGS: usize = 50;
const MOST_TAGS: usize = 200;
/// Topics of one mapping for which tags are made.
const MOST_ARRIVALS: usize = 10_000;
/// A topic that does not hold all of a mapping's tags yet is looked at again so often.
const AGAIN: Nanos = 10 * SECOND;
/// Bytes of messages that wait for their tags, and of one of them.
const MOST_KEPT: usize = 16 << 20;
const MOST_OF_ONE: usize = 64 << 10;

/// A mapping that can be used.
#[derive(Clone, Debug)]
struct Ready {
    id: Uuid,
    filter: String,
    place: Template,
    tags: Vec<ReadyTag>,
}

#[derive(Clone, Debug)]
struct ReadyTag {
    name: Template,
    point: Own,
    taken: payload::Taken,
    /// Its further settings.
    set: Own,
}

/// What is wrong with the mappings of a connection, by field.
pub(super) fn check(mappings: &[Mapping]) -> Vec<Wrong> {
    let mut wrong: Vec<Wrong> = Vec::new();
    if mappings.len() > MOST_MAPPINGS {
        wrong.push(("mappings".into(), format!("A connection has at most {MOST_MAPPINGS} mappings.")));
    }
    for (index, mapping) in mappings.iter().enumerate().take(MOST_MAPPINGS) {
        let at = |(field, words): Wrong| (format!("mappings[{index}].{field}"), words);
        wrong.extend(Ready::of(mapping).err().unwrap_or_default().into_iter().map(at));
        let before = &mappings[..index];
        if let Some(other) = before.iter().find(|m| m.topics != mapping.topics && overlap(&m.topics, &mapping.topics)) {
            let words = format!("Some topics belong to the mapping {} too; map them with one of the two.", other.topics);
            wrong.push(at(("topics".into(), words)));
        }
        if before.iter().any(|m| m.id == mapping.id) {
            wrong.push(at(("id".into(), "Another mapping has this id.".into())));
        }
    }
    wrong
}

/// Whether a topic could fit both filters.
pub(crate) fn overlap(a: &str, b: &str) -> bool {
    let (mut a, mut b) = (a.split('/'), b.split('/'));
    loop {
        match (a.next(), b.next()) {
            (Some("#"), _) | (_, Some("#")) | (None, None) => return true,
            (Some(x), Some(y)) if x == y || x == "+" || y == "+" => {}
            _ => return false,
        }
    }
}

/// What a mapping would make of messages that were heard, by topic.
pub(super) struct Trial(Ready);

impl Trial {
    /// # Errors
    /// What is wrong with the mapping, by field.
    pub fn of(mapping: &Mapping) -> Result<Trial, Vec<Wrong>> {
        Ready::of(mapping).map(Trial)
    }

    pub fn filter(&self) -> &str {
        &self.0.filter
    }

    /// Nothing where the topic does not fit.
    pub fn arrival(&self, topic: &str, payload: &[u8]) -> Option<Arrival> {
        fits(topic, &self.0.filter).then(|| self.0.arrival(topic, payload).0)
    }
}

impl Ready {
    fn of(mapping: &Mapping) -> Result<Ready, Vec<Wrong>> {
        let mut wrong: Vec<Wrong> = Vec::new();
        let filter = mapping.topics.trim();
        let valid = !filter.is_empty() && check_filter(filter).is_ok();
        if !valid {
            wrong.push(("topics".into(), "Enter topics such as site/+/meter/+/json; + stands for any one level.".into()));
        }
        // “#” takes any number of levels.
        let levels = if filter.ends_with('#') || !valid { usize::MAX } else { filter.split('/').count() };
        let template = |field: String, text: &str, wrong: &mut Vec<Wrong>| match Template::parse(text) {
            Ok(template) if template.highest() <= levels => Some(template),
            Ok(template) => {
                wrong.push((field, format!("These topics have no level {}.", template.highest())));
                None
            }
            Err(words) => {
                wrong.push((field, words));
                None
            }
        };
        let place = template("place".into(), &mapping.place, &mut wrong);
        if mapping.tags.is_empty() || mapping.tags.len() > MOST_TAGS {
            wrong.push(("tags".into(), format!("A mapping makes 1 to {MOST_TAGS} tags for each topic.")));
        }
        let mut tags: Vec<ReadyTag> = Vec::new();
        for (index, tag) in mapping.tags.iter().enumerate().take(MOST_TAGS) {
            let field = |name: &str| format!("tags[{index}].{name}");
            let Some(name) = template(field("name"), &tag.name, &mut wrong) else { continue };
            if tag.name.contains('/') {
                wrong.push((field("name"), "A name holds no “/”; write what stands before it at the place.".into()));
            }
            if tags.iter().any(|other| other.name == name) {
                wrong.push((field("name"), "Another tag of this mapping has this name.".into()));
            }
            let mut tried = tag.point.clone();
            tried.insert("topic".into(), "x".into());
            match Point::parse(&tried) {
                _ if tag.point.contains_key("topic") => {
                    wrong.push((field("point.topic"), "The topics stand in the mapping.".into()));
                }
                Ok(point) if point.write_topic.is_empty() => {
                    let mut set = json!({"record": mapping.record}).as_object().cloned().unwrap_or_default();
                    set.extend(tag.decimals.map(|digits| ("decimals".to_owned(), digits.into())));
                    if !tag.unit.trim().is_empty() {
                        set.insert("unit".into(), tag.unit.trim().into());
                    }
                    tags.push(ReadyTag { name, point: tag.point.clone(), taken: point.taken, set });
                }
                Ok(_) => wrong.push((field("point.write_topic"), "Tags of a mapping are not written.".into())),
                Err((inner, words)) => wrong.push((field(&format!("point.{inner}")), words)),
            }
        }
        match place {
            Some(place) if wrong.is_empty() => Ok(Ready { id: mapping.id, filter: filter.to_owned(), place, tags }),
            _ => Err(wrong),
        }
    }

    /// The tags for a topic of those parts that a message holds, and how many it lacks.
    fn arrival(&self, topic: &str, payload: &[u8]) -> (Arrival, usize) {
        let levels: Vec<&str> = topic.split('/').collect();
        let mut arrival = Arrival { mapping: self.id, key: topic.to_owned(), ..Arrival::default() };
        let mut read: Vec<(Format, Message)> = Vec::new();
        let mut lacks = 0;
        for tag in &self.tags {
            let format = tag.taken.format;
            let known = read.iter().position(|(one, _)| *one == format).unwrap_or_else(|| {
                read.push((format, payload::read(payload, format)));
                read.len() - 1
            });
            // Null is a value that is not there at present.
            let held = |sample: &payload::Sample| {
                sample.value.is_some() || sample.quality.reason() == havrel_core::quality::Reason::NoValue
            };
            if !tag.taken.of(&read[known].1).iter().any(held) {
                lacks += 1;
                continue;
            }
            match self.place.fill(&levels).and_then(|place| Ok((clean_path(&place), tag.name.fill(&levels)?))) {
                Ok((place, name)) => {
                    let mut point = tag.point.clone();
                    point.insert("topic".into(), topic.into());
                    arrival.tags.push(NewTag { place, name: name.trim().to_owned(), point, set: tag.set.clone() });
                }
                Err(words) => arrival.refused = words,
            }
        }
        if arrival.tags.is_empty() && arrival.refused.is_empty() {
            arrival.refused = "The message holds none of the values.".into();
        }
        if !arrival.refused.is_empty() {
            arrival.tags.clear();
        }
        (arrival, lacks)
    }
}

/// How far a topic is announced.
struct Known {
    /// It gave tags.
    fits: bool,
    lacks: usize,
    looked: Nanos,
}

/// A mapping that listens.
struct Watched {
    ready: Ready,
    known: HashMap<String, Known>,
}

/// All mappings of a connection that runs.
#[derive(Default)]
pub(super) struct Mappings {
    all: Vec<Watched>,
    /// What came on topics that no tag hears yet, and when.
    kept: HashMap<String, (Heard, Nanos)>,
    bytes: usize,
    /// Topics beyond those for which tags are made.
    pub left_out: u64,
}

impl Mappings {
    pub fn of(mappings: &[Mapping]) -> Mappings {
        let ready = mappings.iter().filter_map(|mapping| Ready::of(mapping).ok());
        Mappings { all: ready.map(|ready| Watched { ready, known: HashMap::new() }).collect(), ..Mappings::default() }
    }

    /// The filters, each once.
    pub fn filters(&self) -> Vec<String> {
        let mut all: Vec<String> = self.all.iter().map(|one| one.ready.filter.clone()).collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// Whether a topic is heard through a mapping.
    pub fn cover(&self, topic: &str) -> bool {
        self.all.iter().any(|one| fits(topic, &one.ready.filter))
    }

    /// Announces what a message brings; `announce` says whether there was room for it. `heard`: tags hear the topic.
    pub fn hear(&mut self, came: &Heard, heard: bool, at: Nanos, announce: &mut dyn FnMut(Arrival) -> bool) {
        for one in &mut self.all {
            let known = one.known.get(&came.topic);
            let settled = known.is_some_and(|known| (known.fits && known.lacks == 0) || at - known.looked < AGAIN);
            if came.oversized || settled || !fits(&came.topic, &one.ready.filter) {
                continue;
            }
            // The character 0 cannot be stored; the standard forbids it, and not every broker keeps to that.
            let odd = came.topic.len() > LONGEST_KEY || came.topic.contains('\0');
            if known.is_none() && (one.known.len() >= MOST_ARRIVALS || odd) {
                self.left_out += 1;
                continue;
            }
            let (arrival, lacks) = one.ready.arrival(&came.topic, &came.payload);
            let fits = arrival.refused.is_empty();
            // What was told once is told again only when there is more to tell.
            let more = known.is_none_or(|known| (fits && !known.fits) || lacks < known.lacks);
            if more && !announce(arrival) {
                continue;
            }
            let known = one.known.entry(came.topic.clone()).or_insert(Known { fits, lacks, looked: at });
            (known.fits, known.lacks, known.looked) = (known.fits || fits, known.lacks.min(lacks), at);
        }
        if !heard && !came.oversized && self.cover(&came.topic) {
            self.keep(came, at);
        }
    }

    fn keep(&mut self, came: &Heard, at: Nanos) {
        self.take(&came.topic);
        let size = came.payload.len();
        if size > MOST_OF_ONE || self.bytes + size > MOST_KEPT || self.kept.len() >= MOST_ARRIVALS {
            return;
        }
        self.bytes += size;
        // A copy: what came shares its memory with all that was read with it.
        let kept = Heard { payload: Bytes::copy_from_slice(&came.payload), ..came.clone() };
        self.kept.insert(came.topic.clone(), (kept, at));
    }

    /// What came last on a topic before tags heard it, and when.
    pub fn take(&mut self, topic: &str) -> Option<(Heard, Nanos)> {
        let kept = self.kept.remove(topic)?;
        self.bytes -= kept.0.payload.len();
        Some(kept)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::Value as Json;

    const AT: Nanos = 1_795_924_307 * SECOND;

    fn mapping(more: Json) -> Mapping {
        let mut own = json!({"id": Uuid::from_u128(1), "topics": "site/+/meter/+/json", "place": "Meters / {2} / {4}", "tags": [
            {"name": "Power", "unit": "kW", "point": {"member": "/power", "time": "/ts", "clock": "seconds"}},
            {"name": "Energy", "point": {"member": "/energy"}},
        ]});
        own.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        serde_json::from_value(own).unwrap()
    }

    fn heard(topic: &str, payload: &str) -> Heard {
        Heard { topic: topic.into(), payload: Bytes::copy_from_slice(payload.as_bytes()), retained: false, oversized: false }
    }

    #[rstest]
    #[case(json!({"topics": "a/#/b"}), "topics")]
    #[case(json!({"topics": ""}), "topics")]
    #[case(json!({"place": "{6}"}), "place")]
    #[case(json!({"place": "{x}"}), "place")]
    #[case(json!({"tags": []}), "tags")]
    #[case(json!({"tags": [{"name": "a/b"}]}), "tags[0].name")]
    #[case(json!({"tags": [{"name": "a"}, {"name": "a"}]}), "tags[1].name")]
    #[case(json!({"tags": [{"name": ""}]}), "tags[0].name")]
    #[case(json!({"tags": [{"name": "a", "point": {"member": "x"}}]}), "tags[0].point.member")]
    #[case(json!({"tags": [{"name": "a", "point": {"topic": "x"}}]}), "tags[0].point.topic")]
    #[case(json!({"tags": [{"name": "a", "point": {"write_topic": "x"}}]}), "tags[0].point.write_topic")]
    fn what_is_wrong_is_told_at_its_field(#[case] more: Json, #[case] field: &str) {
        let wrong = Trial::of(&mapping(more)).err().unwrap();
        assert_eq!(wrong.iter().map(|w| w.0.as_str()).collect::<Vec<_>>(), [field], "{wrong:?}");
    }

    #[rstest]
    #[case("a/+", "a/b", true)]
    #[case("a/#", "a", true)]
    #[case("a/+/c", "+/b/+", true)]
    #[case("#", "x/y", true)]
    #[case("a/b", "a/b/c", false)]
    #[case("a/+", "b/+", false)]
    fn filters_overlap_where_a_topic_fits_both(#[case] a: &str, #[case] b: &str, #[case] expected: bool) {
        assert_eq!((overlap(a, b), overlap(b, a)), (expected, expected));
        let all = [a, b].map(|topics| json!({"topics": topics, "place": "P"}));
        let all: Vec<Mapping> = all.into_iter().map(mapping).collect();
        let told: Vec<String> = check(&all).into_iter().map(|w| w.0).collect();
        let ids = "mappings[1].id".to_owned();
        assert_eq!(told, if expected { vec!["mappings[1].topics".to_owned(), ids] } else { vec![ids] });
    }

    #[test]
    fn a_topic_gives_the_tags_that_its_message_holds() {
        let mut mapping = mapping(json!({"record": true}));
        mapping.tags[1].name = "Energy {4}".into();
        let mapping = Trial::of(&mapping).ok().unwrap();
        assert_eq!(mapping.arrival("site/north/meter/M7/text", b"{}"), None);
        let arrival = mapping.arrival("site/north/meter/M7/json", br#"{"power": 3, "energy": null, "ts": 5}"#).unwrap();
        let told: Vec<_> = arrival.tags.iter().map(|t| (t.place.as_str(), t.name.as_str(), t.point["topic"].as_str())).collect();
        let topic = Some("site/north/meter/M7/json");
        assert_eq!(told, [("Meters/north/M7", "Power", topic), ("Meters/north/M7", "Energy M7", topic)]);
        assert_eq!(json!(arrival.tags[0].set), json!({"record": true, "unit": "kW"}));
        let part = mapping.arrival("site/north/meter/M7/json", br#"{"energy": 4}"#).unwrap();
        assert_eq!(part.tags.iter().map(|t| t.name.as_str()).collect::<Vec<_>>(), ["Energy M7"]);
        let none = mapping.arrival("site/north/meter/M7/json", b"half a mes").unwrap();
        assert_eq!((none.tags.len(), none.refused.as_str()), (0, "The message holds none of the values."));
        let empty = mapping.arrival("site//meter/M7/json", br#"{"energy": 4}"#).unwrap();
        assert_eq!((empty.tags.len(), empty.refused.as_str()), (0, "Level 2 is empty."));
    }

    #[test]
    fn a_topic_is_announced_once_and_again_when_it_holds_more() {
        let mut mappings = Mappings::of(&[mapping(json!({}))]);
        let mut told: Vec<(i64, usize, bool)> = Vec::new();
        let mut room = true;
        for (s, payload) in [
            (0, "broken"),
            (1, r#"{"ts": 1, "power": 1}"#),
            (10, "broken"),
            (20, r#"{"ts": 1, "power": 1}"#),
            (21, r#"{"ts": 1, "power": 1, "energy": 2}"#),
            (31, r#"{"ts": 1, "power": 1, "energy": 2}"#),
            (60, r#"{"ts": 1, "power": 1, "energy": 2}"#),
        ] {
            let came = heard("site/north/meter/M7/json", payload);
            mappings.hear(&came, false, AT + s * SECOND, &mut |arrival| {
                told.push((s, arrival.tags.len(), arrival.refused.is_empty()));
                // The first of two tags finds no room, and so comes again.
                room = s != 20 || !room;
                room
            });
        }
        assert_eq!(told, [(0, 0, false), (20, 1, true), (21, 2, true)]);
        let (kept, at) = mappings.take("site/north/meter/M7/json").unwrap();
        assert_eq!((kept.payload.as_ref(), at), (br#"{"ts": 1, "power": 1, "energy": 2}"#.as_slice(), AT + 60 * SECOND));
        assert!(mappings.take("site/north/meter/M7/json").is_none() && mappings.bytes == 0);
    }

    #[test]
    fn a_storm_of_topics_is_bounded() {
        let mut mappings = Mappings::of(&[mapping(json!({"topics": "#", "place": "P/{1}"}))]);
        let mut told = 0;
        for n in 0..MOST_ARRIVALS + 500 {
            mappings.hear(&heard(&format!("m{n}"), r#"{"ts": 1, "power": 1}"#), false, AT, &mut |_| {
                told += 1;
                true
            });
        }
        assert_eq!((told, mappings.left_out, mappings.kept.len()), (MOST_ARRIVALS, 500, MOST_ARRIVALS));
        let mut others = Mappings::of(&[mapping(json!({"topics": "#", "place": "P/{1}"}))]);
        for odd in ["x".repeat(LONGEST_KEY + 1), "m\0".to_owned()] {
            others.hear(&heard(&odd, r#"{"energy": 1}"#), false, AT, &mut |_| unreachable!());
        }
        assert_eq!(others.left_out, 2);
        let large = Heard { payload: Bytes::from(vec![b' '; MOST_OF_ONE + 1]), ..heard("m1", "") };
        mappings.hear(&large, false, AT, &mut |_| true);
        assert_eq!((mappings.take("m1").is_none(), mappings.take("m2").is_some()), (true, true));
    }

    proptest! {
        #[test]
        fn no_topic_and_no_payload_breaks_a_mapping(topic in "[a-z/+#{}\\PC]{0,20}", payload in proptest::collection::vec(any::<u8>(), 0..80)) {
            let mapping = Trial::of(&mapping(json!({"topics": "#", "place": "{1}"}))).ok().unwrap();
            if let Some(arrival) = mapping.arrival(&topic, &payload) {
                prop_assert_eq!(arrival.tags.is_empty(), !arrival.refused.is_empty());
            }
        }
    }
}
