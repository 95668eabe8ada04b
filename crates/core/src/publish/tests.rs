use super::*;
use crate::{
    engine::Current,
    plant::{
        Connection, Edit, Kind, Op, PayloadFormat, Plant, Stored, Tag,
        edit::{SourceCheck, apply},
    },
    quality::{Quality, Reason},
    sample::Value,
    time::SECOND,
};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Value as Json, json};
use std::sync::Arc;
use uuid::Uuid;

const AT: i64 = 1_790_000_000 * SECOND;

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

/// Two vessels with a level and a temperature each, and one publication.
fn plant(publication: Json) -> Arc<Plant> {
    let item = |kind, n, no, own: Json| Stored { kind, id: id(n), no, revision: 1, own: own.as_object().unwrap().clone() };
    let mut set = json!({"name": "Out", "connection": id(9), "places": [id(1)], "topic": "works/{path}", "payload": "{value}", "format": "text"});
    set.as_object_mut().unwrap().extend(publication.as_object().unwrap().clone());
    let tag = |n: u128, name: &str, place: u128, unit: &str| {
        let mut set = json!({"name": name, "place": id(place), "unit": unit, "range_low": 0.0, "range_high": 200.0});
        if n == 21 {
            set["connection"] = json!(id(9));
            set["point"] = json!({"topic": "works/Extraction/EX-2/Level"});
        }
        item(Kind::Tag, n, u32::try_from(n).unwrap(), set)
    };
    let (plant, broken) = Plant::from_stored(
        1,
        vec![
            item(Kind::Place, 1, 0, json!({"name": "Extraction"})),
            item(Kind::Place, 2, 0, json!({"name": "EX-1 #A", "parent": id(1)})),
            item(Kind::Place, 3, 0, json!({"name": "EX-2", "parent": id(1)})),
            item(Kind::Connection, 9, 0, json!({"name": "Broker", "kind": "mqtt"})),
            tag(11, "Level", 2, "%"),
            tag(12, "Temperature", 2, "°C"),
            tag(21, "Level", 3, "%"),
            item(Kind::Publication, 30, 0, set),
        ],
    );
    assert!(broken.is_empty(), "{broken:?}");
    Arc::new(plant)
}

fn good(value: Value, at: i64) -> Current {
    Current { value: Some(value), time: at, quality: Quality::GOOD, told: at, ..Current::UNREAD }
}

fn bad(value: f64) -> Current {
    Current { quality: Quality::of(Reason::NoAnswer), ..good(Value::F64(value), AT) }
}

/// Topics and payloads.
fn read(messages: &mut Vec<Message>) -> Vec<(String, String)> {
    messages.drain(..).map(|m| (m.topic, String::from_utf8(m.payload).unwrap())).collect()
}

fn told(all: &[(&str, &str)]) -> Vec<(String, String)> {
    all.iter().map(|(topic, payload)| ((*topic).to_owned(), (*payload).to_owned())).collect()
}

#[rstest]
#[case("works/{path}", false, Ok("works/Extraction/EX-1 _A/Level"))]
#[case("works/{path}", true, Ok("works/extraction/ex-1-a/level"))]
#[case("{2}/{name}", true, Ok("ex-1-a/level"))]
#[case("{2}/{name}/{unit}", false, Ok("EX-1 _A/Level/%"))]
#[case("a{{b}}/{name}", false, Ok("a{b}/Level"))]
#[case("{4}", false, Err("“Extraction/EX-1 #A/Level” has no part 4."))]
fn topics_of_a_tag(#[case] pattern: &str, #[case] plain: bool, #[case] expected: Result<&str, &str>) {
    let plant = plant(json!({}));
    let tag = &plant.tags[&id(11)].set;
    let made = Topic::parse(pattern, plain).unwrap().of(&plant.tag_path(tag), tag);
    assert_eq!(made, expected.map(str::to_owned).map_err(str::to_owned));
}

#[rstest]
#[case("")]
#[case("works/#")]
#[case("works/+/x")]
#[case("works/{value}")]
#[case("works/{path")]
#[case("works/path}")]
#[case("{0}")]
#[case("{nothing}")]
#[case("a\u{0}b")]
fn topics_that_cannot_be_used(#[case] pattern: &str) {
    assert!(Topic::parse(pattern, false).is_err(), "{pattern}");
}

#[rstest]
#[case(PayloadFormat::Json, "{value}", "This is no JSON: line 1, character 2. Write fields as texts: \"{value}\".")]
#[case(PayloadFormat::Json, r#"{"{value}": 1}"#, "The name of a member is made of {path}, {name}, {unit} and parts such as {1}.")]
#[case(PayloadFormat::Text, "{valu}", "There is no field {valu}.")]
#[case(PayloadFormat::Text, " ", "Enter what a message holds; {value} stands for the value of a tag.")]
fn payloads_that_cannot_be_used(#[case] format: PayloadFormat, #[case] pattern: &str, #[case] words: &str) {
    assert_eq!(Payload::parse(format, pattern).unwrap_err(), words);
}

#[rstest]
#[case(good(Value::F64(12.5), AT), r#"{"v":12.5,"t":"2026-09-21T14:13:20Z","q":"good","u":"%","of":"Extraction Level"}"#)]
#[case(
    good(Value::U64(u64::MAX), AT),
    r#"{"v":18446744073709551615,"t":"2026-09-21T14:13:20Z","q":"good","u":"%","of":"Extraction Level"}"#
)]
#[case(good(Value::F64(f64::NAN), AT), r#"{"v":null,"t":"2026-09-21T14:13:20Z","q":"good","u":"%","of":"Extraction Level"}"#)]
#[case(good(Value::Bool(true), AT), r#"{"v":true,"t":"2026-09-21T14:13:20Z","q":"good","u":"%","of":"Extraction Level"}"#)]
#[case(good(Value::Text("say \"{value}\"".into()), AT), r#"{"v":"say \"{value}\"","t":"2026-09-21T14:13:20Z","q":"good","u":"%","of":"Extraction Level"}"#)]
#[case(bad(3.0), r#"{"v":null,"t":"2026-09-21T14:13:20Z","q":"bad","u":"%","of":"Extraction Level"}"#)]
fn a_message_in_json(#[case] current: Current, #[case] expected: &str) {
    let payload = r#"{"v": "{value}", "t": "{time}", "q": "{quality}", "u": "{unit}", "of": "{1} {name}"}"#;
    let plant = plant(json!({"format": "json", "payload": payload}));
    let mut publisher = Publisher::of(&plant, id(9), AT);
    let mut out = Vec::new();
    publisher.take(11, &current, AT, &mut out);
    assert_eq!(read(&mut out), told(&[("works/Extraction/EX-1 _A/Level", expected)]));
}

#[rstest]
#[case(r#"[{"{path}": "{value}"}]"#, r#"[{"Extraction/EX-1 #A/Level":1.0,"Extraction/EX-1 #A/Temperature":2.0}]"#)]
#[case(
    r#"{"at": "{now_ms}", "values": [{"of": "{path}", "v": "{value}"}]}"#,
    r#"{"at":1790000000000,"values":[{"of":"Extraction/EX-1 #A/Level","v":1.0},{"of":"Extraction/EX-1 #A/Temperature","v":2.0}]}"#
)]
#[case(
    r#"{"{name}": {"v": "{value}", "u": "{unit}"}, "from": ["a", "b"]}"#,
    r#"{"Level":{"v":1.0,"u":"%"},"Temperature":{"v":2.0,"u":"°C"},"from":["a","b"]}"#
)]
fn tags_that_share_a_topic_share_a_message(#[case] payload: &str, #[case] expected: &str) {
    let plant =
        plant(json!({"topic": "works/{2}", "format": "json", "payload": payload, "when": {"on": "interval", "every_ms": 1000}}));
    let mut publisher = Publisher::of(&plant, id(9), AT);
    let mut out = Vec::new();
    publisher.take(11, &good(Value::F64(1.0), AT), AT, &mut out);
    publisher.take(12, &good(Value::F64(2.0), AT), AT, &mut out);
    publisher.tick(AT, &mut out);
    assert_eq!(read(&mut out), [], "its time has not come");
    assert_eq!(publisher.next(), Some(AT + SECOND));
    let outline = publisher.outline(10).unwrap();
    assert_eq!((outline.summary.tags, outline.summary.topics, outline.next.len()), (3, 2, 1), "of EX-2 nothing is known");
    assert_eq!((String::from_utf8(outline.next[0].0.payload.clone()).unwrap().as_str(), outline.next[0].1), (expected, 2));
    publisher.tick(AT + SECOND, &mut out);
    assert_eq!(out.iter().map(|m| m.topic.as_str()).collect::<Vec<_>>(), ["works/EX-1 _A"]);
}

#[rstest]
#[case("works/{1}", r#"{"v": "{value}"}"#, "3 tags share the topic works/Extraction, and the payload holds one.")]
#[case("works/{1}", r#"{"{name}": "{value}"}"#, "Two tags of the topic works/Extraction give a member “Level”.")]
#[case("works/{path}/{4}", r#"{"v": "{value}"}"#, "“Extraction/EX-1 #A/Level” has no part 4.")]
fn what_cannot_be_sent_is_told(#[case] topic: &str, #[case] payload: &str, #[case] words: &str) {
    let plant = plant(json!({"topic": topic, "format": "json", "payload": payload}));
    let publisher = Publisher::of(&plant, id(9), AT);
    let (_, summary) = publisher.summaries().next().unwrap();
    assert!(summary.problems[0].starts_with(words), "{:?}", summary.problems);
    assert_eq!(summary.topics, 0);
}

#[test]
fn a_tag_is_not_sent_on_the_topic_that_it_reads() {
    for (topic, told, topics) in [("works/{path}", 1, 2), ("out/{path}", 0, 3)] {
        let publisher = Publisher::of(&plant(json!({"topic": topic})), id(9), AT);
        let (_, summary) = publisher.summaries().next().unwrap();
        assert_eq!((summary.problems.len(), summary.topics), (told, topics), "{:?}", summary.problems);
    }
}

#[test]
fn on_change_with_a_deadband_and_limits_of_the_rate() {
    let when = json!({"on": "change", "deadband": 1.0, "percent": true, "shortest_ms": 1000, "longest_s": 10});
    let plant = plant(json!({"tags": [id(11)], "places": [], "topic": "l", "when": when}));
    let mut publisher = Publisher::of(&plant, id(9), AT);
    let mut out = Vec::new();
    let mut take = |value: f64, ms: i64, publisher: &mut Publisher| {
        let at = AT + ms * 1_000_000;
        publisher.tick(at, &mut out);
        publisher.take(11, &good(Value::F64(value), at), at, &mut out);
        read(&mut out).into_iter().map(|(_, payload)| payload).collect::<Vec<_>>()
    };
    assert_eq!(take(50.0, 0, &mut publisher), ["50.0"]);
    assert_eq!(take(52.0, 2000, &mut publisher), [""; 0], "2 is one percent of the range");
    assert_eq!(take(52.5, 3000, &mut publisher), ["52.5"]);
    assert_eq!(take(60.0, 3100, &mut publisher), [""; 0], "too soon after the last");
    assert_eq!(take(61.0, 3999, &mut publisher), [""; 0]);
    assert_eq!(publisher.next(), Some(AT + 4 * SECOND));
    assert_eq!(take(61.5, 4000, &mut publisher), ["61.0"], "what waited is sent as it stood last");
    assert_eq!(take(61.5, 14_000, &mut publisher), ["61.5"], "after ten seconds it is sent all the same");
}

#[test]
fn a_bad_value_is_told_once_and_a_text_without_words_for_it_sends_nothing() {
    let mut out = Vec::new();
    let plain = plant(json!({"tags": [id(11)], "places": []}));
    let mut publisher = Publisher::of(&plain, id(9), AT);
    publisher.take(11, &bad(3.0), AT, &mut out);
    assert_eq!(out, []);
    let worded = plant(json!({"tags": [id(11)], "places": [], "topic": "l", "payload": "{name};{value};{quality};{reason}"}));
    let mut publisher = Publisher::of(&worded, id(9), AT);
    publisher.take(11, &Current::UNREAD, AT, &mut out);
    for _ in 0..3 {
        publisher.take(11, &bad(3.0), AT, &mut out);
    }
    assert_eq!(read(&mut out), told(&[("l", "Level;;bad;no answer from the device")]));
    publisher.take(11, &good(Value::F64(3.0), AT), AT, &mut out);
    assert_eq!(read(&mut out), told(&[("l", "Level;3.0;good;good")]));
}

#[rstest]
#[case(true, "{\"Level\":5.0,\"Temperature\":7.0}")]
#[case(false, "{\"Level\":5.0}")]
fn a_message_holds_all_or_what_changed(#[case] all: bool, #[case] expected: &str) {
    let when = json!({"on": "change", "shortest_ms": 500});
    let set = json!({"topic": "{2}", "format": "json", "payload": "{\"{name}\": \"{value}\"}", "all": all, "words": "ex-1", "when": when});
    let plant = plant(set);
    let mut publisher = Publisher::of(&plant, id(9), AT);
    let mut out = Vec::new();
    publisher.take(11, &good(Value::F64(4.0), AT), AT, &mut out);
    publisher.take(12, &good(Value::F64(7.0), AT), AT, &mut out);
    publisher.tick(AT + SECOND, &mut out);
    assert_eq!(out.len(), 2, "the second waits for its time");
    out.clear();
    publisher.take(11, &good(Value::F64(5.0), AT), AT + 2 * SECOND, &mut out);
    assert_eq!(read(&mut out), told(&[("EX-1 _A", expected)]));
}

#[test]
fn a_change_elsewhere_sends_nothing_again_and_the_clock_may_be_set_back() {
    let when = json!({"on": "change", "shortest_ms": 1000});
    let set = json!({"when": when, "topic": "out/{path}"});
    let mut publisher = Publisher::of(&plant(set.clone()), id(9), AT);
    let mut out = Vec::new();
    for tag in [11, 12, 21] {
        publisher.take(tag, &good(Value::F64(1.0), AT), AT, &mut out);
    }
    assert_eq!(out.len(), 3);
    out.clear();
    let mut next = Publisher::of(&plant(set), id(9), AT).after(&mut publisher);
    next.take(11, &good(Value::F64(1.0), AT), AT, &mut out);
    assert_eq!(out, [], "it was sent already");
    next.take(11, &good(Value::F64(2.0), AT), AT + 1, &mut out);
    assert_eq!(out, [], "it waits for its time");
    let hour = 3600 * SECOND;
    next.tick(AT - hour, &mut out);
    assert_eq!(next.next(), Some(AT - hour + SECOND - 1));
    next.tick(AT - hour + SECOND, &mut out);
    assert_eq!(out.len(), 1);
    // Other payloads must be told anew.
    let mut other =
        Publisher::of(&plant(json!({"topic": "out/{path}", "payload": "{value} {unit}"})), id(9), AT).after(&mut next);
    out.clear();
    other.take(11, &good(Value::F64(2.0), AT), AT, &mut out);
    assert_eq!(read(&mut out), told(&[("out/Extraction/EX-1 _A/Level", "2.0 %")]));
}

#[test]
fn after_a_break_the_newest_is_sent_where_nothing_waits() {
    let mut out = Vec::new();
    for (keep, count) in [(true, 0), (false, 1)] {
        let mut publisher = Publisher::of(&plant(json!({"keep": keep})), id(9), AT);
        publisher.take(11, &good(Value::F64(1.0), AT), AT, &mut out);
        out.clear();
        publisher.back(AT, &mut out);
        assert_eq!((out.len(), publisher.keeps(id(30))), (count, keep));
    }
}

/// A source whose values leave as metrics.
struct Metrics;

impl SourceCheck for Metrics {
    fn connection(&self, _: &Connection) -> Vec<(String, String)> {
        Vec::new()
    }

    fn point(&self, _: &Connection, _: &Tag) -> Vec<(String, String)> {
        Vec::new()
    }

    fn metrics(&self, _: &Connection) -> bool {
        true
    }
}

#[test]
fn metrics_leave_in_the_form_that_their_driver_reads() {
    let plant = plant(json!({"payload": "", "topic": "{2}/{name}", "words": "EX-1"}));
    let mut publisher = Publisher::of(&plant, id(9), AT);
    assert_eq!(publisher.topics(), ["EX-1 _A/Level", "EX-1 _A/Temperature"]);
    let mut sent = Vec::new();
    publisher.take(11, &good(Value::I64(i64::MAX), AT), AT, &mut sent);
    let expected = r#"{"v":9223372036854775807,"t":1790000000000,"q":"good","u":"%"}"#;
    assert_eq!(read(&mut sent), [("EX-1 _A/Level".to_owned(), expected.to_owned())]);
}

#[rstest]
#[case(json!({"payload": ""}), &[])]
#[case(json!({"payload": "{value}"}), &["payload"])]
#[case(json!({"payload": "", "retain": true, "write_tags": [id(11)], "write_topic": "w/{name}"}), &["retain", "write_tags"])]
fn of_metrics_the_protocol_says_how_they_are_written(#[case] set: Json, #[case] fields: &[&str]) {
    let edit = |set: Json| {
        let op = Op::Patch(set.as_object().unwrap().clone());
        [Edit { kind: Kind::Publication, id: id(30), op, seen: None }]
    };
    let told = |source: &dyn SourceCheck| match apply(&plant(json!({"name": "Before"})), &edit(set.clone()), source, || 99) {
        Ok(_) => Vec::new(),
        Err(problems) => problems.into_iter().map(|problem| problem.field).collect::<Vec<_>>(),
    };
    assert_eq!(told(&Metrics), fields);
    // A broker is told what a message holds.
    assert_eq!(told(&()).contains(&"payload".to_owned()), set["payload"] == "");
}

proptest! {
    #[test]
    fn any_pattern_is_read_or_refused_and_what_is_filled_is_json(
        topic in "[a-z{}/0-9_+#]{0,20}",
        payload in r#"[\[\]{}":, a-z_0-9]{0,40}"#,
        value in any::<f64>(),
        text in any::<String>(),
    ) {
        let plant = plant(json!({}));
        let tag = &plant.tags[&id(11)].set;
        if let Ok(topic) = Topic::parse(&topic, false) {
            let made = topic.of(&plant.tag_path(tag), tag).unwrap_or_else(|_| "x".into());
            prop_assert!(!made.contains(['+', '#']) && !made.is_empty());
        }
        for value in [Value::F64(value), Value::Text(text)] {
            let current = good(value, AT);
            let facts = template::Facts { plant: &plant, tag, path: "Extraction/EX-1 #A/Level", current: &current, now: AT };
            if let Ok(payload) = Payload::parse(PayloadFormat::Json, &payload) {
                let bytes = payload.fill(&[facts], AT).unwrap();
                prop_assert!(serde_json::from_slice::<Json>(&bytes).is_ok());
            } else if let Ok(payload) = Payload::parse(PayloadFormat::Text, &payload) {
                let _ = payload.fill(&[facts], AT);
            }
        }
    }

    /// Whatever comes in whichever order: what was sent last on a topic is what holds, once nothing waits any more.
    #[test]
    fn in_the_end_the_newest_was_sent(steps in prop::collection::vec((0_usize..3, 0_u8..4, 0_i64..1500), 1..60), shortest in 0_u32..2000) {
        let when = json!({"on": "change", "shortest_ms": shortest});
        let plant = plant(json!({"topic": "{path}", "payload": "{value}", "when": when}));
        let mut publisher = Publisher::of(&plant, id(9), AT);
        let (mut out, mut at, mut newest) = (Vec::new(), AT, [None; 3]);
        for (tag, value, ms) in steps {
            at += ms * 1_000_000;
            publisher.tick(at, &mut out);
            newest[tag] = Some(value);
            publisher.take([11, 12, 21][tag], &good(Value::U64(value.into()), at), at, &mut out);
        }
        publisher.tick(at + 10 * SECOND, &mut out);
        for (tag, topic) in ["Extraction/EX-1 _A/Level", "Extraction/EX-1 _A/Temperature", "Extraction/EX-2/Level"].iter().enumerate() {
            let last = out.iter().rev().find(|m| m.topic == *topic).map(|m| String::from_utf8(m.payload.clone()).unwrap());
            prop_assert_eq!(last, newest[tag].map(|v| v.to_string()));
            let times: Vec<_> = out.iter().filter(|m| m.topic == *topic).map(|m| m.made).collect();
            prop_assert!(times.windows(2).all(|w| w[1] - w[0] >= i64::from(shortest) * 1_000_000));
        }
    }
}

proptest! {
    #[test]
    fn a_message_comes_back_from_its_bytes_and_damage_is_seen(
        topic in ".{0,40}",
        payload in prop::collection::vec(any::<u8>(), 0..200),
        at in any::<usize>(),
        flip in 1_u8..=255,
        made in any::<i64>(),
    ) {
        let message = Message { publication: id(7), made, topic, payload, qos: 2, retain: true };
        let mut bytes = vec![9; 3];
        message.encode(&mut bytes);
        let encoded = &bytes[3..];
        prop_assert_eq!(Message::decode(encoded), Some((message, encoded.len())));
        prop_assert_eq!(Message::decode(&encoded[..encoded.len() - 1]), None);
        let mut damaged = encoded.to_vec();
        let at = at % damaged.len();
        damaged[at] ^= flip;
        prop_assert_eq!(Message::decode(&damaged), None);
    }

    #[test]
    fn any_bytes_are_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..100)) {
        let _ = Message::decode(&bytes);
    }
}

#[rstest]
#[case("7.5", "", Ok(json!(7.5)))]
#[case(" Heating ", "", Ok(json!("Heating")))]
#[case("true", "", Ok(json!(true)))]
#[case("\"12\"", "", Ok(json!("12")))]
#[case(r#"{"a": [{"v": 3}]}"#, "/a/0/v", Ok(json!(3)))]
#[case(r#"{"a": 1}"#, "", Err("The message holds no single value."))]
#[case(r#"{"a": 1}"#, "/b", Err("The message has no member /b."))]
#[case("{half", "/b", Err("The message is no JSON."))]
#[case("", "", Err("The message holds no single value."))]
#[case("null", "", Err("The message holds no single value."))]
fn what_a_message_orders(#[case] payload: &str, #[case] member: &str, #[case] expected: Result<Json, &str>) {
    assert_eq!(ordered(payload.as_bytes(), member), expected.map_err(str::to_owned));
}

#[test]
fn only_tags_that_are_named_are_written_and_what_cannot_be_is_told() {
    let plant = plant(json!({"write_tags": [id(11), id(21)], "write_topic": "works/{name}/set", "write_member": "/v"}));
    let found = orders(&plant, id(9));
    assert_eq!(found.keys().collect::<Vec<_>>(), ["works/Level/set"], "the second would be written by the same topic");
    assert_eq!(found["works/Level/set"], Order { publication: id(30), tag: id(11), member: "/v".into() });
    assert_eq!(orders(&plant, id(8)).len(), 0);
    let publisher = Publisher::of(&plant, id(9), AT);
    let told = publisher.summaries().next().unwrap().1.problems.join("|");
    assert!(told.contains("is not writable") && told.contains("would be written by the same topic works/Level/set"), "{told}");
}
