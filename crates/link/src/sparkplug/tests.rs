//! What a host application makes of births, values and deaths, in whatever order they come.

use super::{
    entity::State,
    host::{Host, Told},
    look::{self, At},
    rule::{Rule, Rules},
};
use crate::{LinkPlan, PointPlan};
use havrel_core::{
    TagNo,
    arrival::{Arrival, Mapping},
    quality::Reason,
    sample::{Batch, flag},
    time::{MILLI, Nanos, SECOND},
};
use havrel_sparkplug::{
    payload::{Metric, MetricValue, Payload, PropertyContent, PropertySet, PropertyValue, Template},
    topic::{Name, What},
};
use proptest::prelude::*;
use serde_json::{Value as Json, json};

const AT: Nanos = 1_795_924_307 * SECOND;
/// The same in milliseconds, as edge nodes tell it.
const MS: u64 = (AT / MILLI) as u64;

fn node() -> Name {
    Name::new("Works", "ES-1", "")
}

fn device() -> Name {
    Name::new("Works", "ES-1", "Pump")
}

fn number(name: &str, alias: u64, at_ms: u64, value: f64) -> Metric {
    Metric {
        name: Some(name.into()),
        alias: Some(alias),
        timestamp: Some(at_ms),
        datatype: Some(10),
        value: Some(MetricValue::Double(value)),
        ..Metric::default()
    }
}

/// As a message tells it after the birth: by its alias.
fn brief(metric: Metric) -> Metric {
    Metric { name: None, datatype: None, ..metric }
}

fn payload(seq: u64, sent: u64, metrics: Vec<Metric>) -> Payload {
    Payload { timestamp: Some(sent), seq: Some(seq), metrics, ..Payload::default() }
}

fn bd(number: u64) -> Metric {
    Metric { name: Some("bdSeq".into()), datatype: Some(8), value: Some(MetricValue::Long(number)), ..Metric::default() }
}

fn death(number: u64) -> Payload {
    Payload { metrics: vec![bd(number)], ..Payload::default() }
}

fn plan(points: &[Json]) -> LinkPlan {
    let point = |(tag, point): (TagNo, &Json)| {
        let mut own = json!({"group": "Works", "node": "ES-1"}).as_object().unwrap().clone();
        own.extend(point.as_object().unwrap().clone());
        PointPlan { tag, point: own, scaling: None, group: None }
    };
    let connection = serde_json::from_value(json!({"name": "c", "kind": "sparkplug"})).unwrap();
    LinkPlan { connection, points: (1..).zip(points).map(point).collect(), orders: Vec::new(), topics: Vec::new() }
}

/// A host whose tags 1 and 2 read the speed of the pump and the level of the node.
fn host() -> Host {
    let mut host = Host::default();
    host.opened(AT);
    let points = [json!({"device": "Pump", "metric": "Speed"}), json!({"metric": "Level"})];
    host.follow(&plan(&points), &mut Batch::default(), AT);
    host
}

/// Tag, why, value, and milliseconds after [`AT`], of what was told.
fn said(batch: &Batch) -> Vec<(TagNo, Reason, Option<f64>, i64)> {
    let one = |s: &havrel_core::sample::Sample| {
        (s.tag, s.quality.reason(), batch.value_of(*s).and_then(|v| v.number()), (s.time - AT) / MILLI)
    };
    batch.samples.iter().map(one).collect()
}

fn hear(host: &mut Host, what: What, name: &Name, payload: Payload, at: Nanos) -> Told {
    let mut told = Told::default();
    host.hear(what, name, payload, at, &mut told);
    told
}

fn tick(host: &mut Host, at: Nanos) -> Vec<(TagNo, Reason, Option<f64>, i64)> {
    let mut told = Told::default();
    host.tick(at, &mut told);
    said(&told.batch)
}

fn born(host: &mut Host, bd_number: u64, sent: u64, at: Nanos) -> Vec<(TagNo, Reason, Option<f64>, i64)> {
    let metrics = vec![bd(bd_number), number_of_node("Level", sent, 5.0)];
    let mut all = said(&hear(host, What::Birth, &node(), payload(0, sent, metrics), at).batch);
    let metrics = vec![number("Speed", 7, sent, 100.0)];
    all.extend(said(&hear(host, What::Birth, &device(), payload(1, sent, metrics), at).batch));
    all
}

fn number_of_node(name: &str, at_ms: u64, value: f64) -> Metric {
    number(name, 1, at_ms, value)
}

#[test]
fn a_birth_tells_values_and_a_death_makes_them_bad() {
    let mut host = host();
    assert_eq!(host.due(AT), [node()], "a tag names it, so it is asked for its birth");
    assert_eq!(born(&mut host, 4, MS + 10, AT + SECOND), [(2, Reason::Fine, Some(5.0), 10), (1, Reason::Fine, Some(100.0), 10)]);
    assert_eq!(host.due(AT + 60 * SECOND), []);
    let data = payload(2, MS + 1500, vec![brief(number("", 7, MS + 1500, 120.0))]);
    assert_eq!(
        said(&hear(&mut host, What::Data, &device(), data, AT + 2 * SECOND).batch),
        [(1, Reason::Fine, Some(120.0), 1500)]
    );
    // The will of a session before comes late.
    assert_eq!(said(&hear(&mut host, What::Death, &node(), death(3), AT + 2 * SECOND).batch), []);
    let gone = hear(&mut host, What::Death, &node(), death(4), AT + 3 * SECOND);
    assert_eq!(said(&gone.batch), [(2, Reason::NodeOffline, None, 3000), (1, Reason::NodeOffline, None, 3000)]);
    let stands = |host: &Host, name: &Name| host.find(name).unwrap().state;
    assert_eq!((stands(&host, &node()), stands(&host, &device())), (State::Offline, State::Offline));
    // What has not changed since before the death holds again from the new birth on.
    let again = born(&mut host, 5, MS + 2000, AT + 9 * SECOND);
    let expected = [(2, 2000), (2, 9000), (1, 2000), (1, 9000)];
    assert_eq!(again.iter().map(|(tag, _, _, at)| (*tag, *at)).collect::<Vec<_>>(), expected);
}

#[test]
fn a_device_dies_alone_and_one_that_is_not_announced_again_is_gone() {
    let mut host = host();
    born(&mut host, 0, MS, AT);
    let gone = hear(&mut host, What::Death, &device(), payload(2, MS + 1, vec![]), AT + SECOND);
    assert_eq!(said(&gone.batch), [(1, Reason::NodeOffline, None, 1000)]);
    born(&mut host, 0, MS + 2000, AT + 2 * SECOND);
    let alone = payload(0, MS + 3000, vec![bd(0), number_of_node("Level", MS + 3000, 6.0)]);
    assert_eq!(said(&hear(&mut host, What::Birth, &node(), alone, AT + 3 * SECOND).batch), [(2, Reason::Fine, Some(6.0), 3000)]);
    assert_eq!(tick(&mut host, AT + 7 * SECOND), []);
    assert_eq!(tick(&mut host, AT + 8 * SECOND), [(1, Reason::NodeOffline, None, 8000)]);
    let data = payload(1, MS + 9000, vec![brief(number("", 7, MS + 9000, 1.0))]);
    assert_eq!(
        said(&hear(&mut host, What::Data, &device(), data, AT + 9 * SECOND).batch),
        [],
        "its alias may mean something else"
    );
    assert_eq!(host.due(AT + 9 * SECOND), [node()]);
}

#[test]
fn a_message_waits_for_those_before_it_and_is_given_up() {
    let mut host = host();
    born(&mut host, 0, MS, AT);
    let data = |seq: u64, value: f64| payload(seq, MS + seq, vec![brief(number("", 7, MS + seq, value))]);
    assert_eq!(said(&hear(&mut host, What::Data, &device(), data(3, 3.0), AT).batch), []);
    let told = said(&hear(&mut host, What::Data, &device(), data(2, 2.0), AT).batch);
    assert_eq!(told, [(1, Reason::Fine, Some(2.0), 2), (1, Reason::Fine, Some(3.0), 3)]);
    assert_eq!(said(&hear(&mut host, What::Data, &device(), data(6, 6.0), AT).batch), []);
    assert_eq!(tick(&mut host, AT + SECOND / 2), []);
    assert_eq!(host.due(AT + SECOND / 2), []);
    assert_eq!(tick(&mut host, AT + SECOND), [(1, Reason::Fine, Some(6.0), 6)], "what came counts all the same");
    let missing = |host: &Host| host.nodes.values().next().unwrap().missing;
    assert_eq!((missing(&host), host.due(AT + SECOND)), (2, vec![node()]));
    // One that was given up comes after all.
    assert_eq!(said(&hear(&mut host, What::Data, &device(), data(5, 5.0), AT + SECOND).batch), [(1, Reason::Fine, Some(5.0), 5)]);
    assert_eq!(said(&hear(&mut host, What::Data, &device(), data(7, 7.0), AT + SECOND).batch), [(1, Reason::Fine, Some(7.0), 7)]);
}

#[test]
fn an_edge_node_that_gives_no_birth_is_asked_less_and_less_often() {
    let mut host = host();
    let asked: Vec<i64> = (0..1300).filter(|second| !host.due(AT + second * SECOND).is_empty()).collect();
    assert_eq!(asked, [0, 10, 30, 70, 150, 310, 610, 910, 1210]);
    born(&mut host, 0, MS, AT + 1300 * SECOND);
    assert_eq!(host.due(AT + 9999 * SECOND), []);
}

#[test]
fn a_clock_that_is_set_back_holds_nothing_up() {
    let mut host = host();
    born(&mut host, 0, MS, AT);
    let early = payload(4, MS + 1, vec![brief(number("", 7, MS + 1, 4.0))]);
    hear(&mut host, What::Data, &device(), early, AT);
    let back = AT - 3600 * SECOND;
    assert_eq!(tick(&mut host, back), [(1, Reason::Fine, Some(4.0), 1)]);
    assert_eq!((host.due(back), host.due(back - SECOND)), (vec![node()], vec![node()]));
}

#[test]
fn a_storm_of_unknown_nodes_is_asked_little_by_little() {
    let mut host = Host::default();
    for node in 0..30 {
        let name = Name::new("Works", &format!("N{node}"), "");
        hear(&mut host, What::Data, &name, payload(9, MS, vec![]), AT);
    }
    assert_eq!((tick(&mut host, AT + SECOND), host.due(AT + SECOND).len(), host.due(AT + SECOND).len()), (vec![], 3, 3));
}

#[test]
fn what_came_out_of_a_buffer_goes_to_history_and_is_never_the_present_value() {
    let mut host = host();
    born(&mut host, 0, MS + 5000, AT + 5 * SECOND);
    let past = |at: u64, value: f64| Metric { is_historical: Some(true), ..brief(number("", 7, MS + at, value)) };
    let data = payload(2, MS + 5100, vec![past(1000, 1.0), past(2000, 2.0)]);
    let told = hear(&mut host, What::Data, &device(), data, AT + 5 * SECOND);
    assert_eq!(said(&told.batch), [(1, Reason::Fine, Some(1.0), 1000), (1, Reason::Fine, Some(2.0), 2000)]);
    assert!(told.batch.samples.iter().all(|s| s.flags & flag::OWN_TIME != 0));
    // One that is newer than the present value does not take its place.
    let data = payload(3, MS + 9000, vec![past(8000, 8.0)]);
    let told = said(&hear(&mut host, What::Data, &device(), data, AT + 9 * SECOND).batch);
    assert_eq!(told, [(1, Reason::Fine, Some(8.0), 8000), (1, Reason::Fine, Some(100.0), 9000)]);
    assert_eq!(host.find(&device()).unwrap().history, 3);
}

#[test]
fn what_is_no_value_says_so() {
    let mut host = host();
    born(&mut host, 0, MS, AT);
    let null = Metric { is_null: Some(true), value: None, ..brief(number("", 7, MS + 1, 0.0)) };
    let nan = brief(number("", 7, MS + 2, f64::NAN));
    let set = PropertySet {
        keys: vec!["Quality".into()],
        values: vec![PropertyValue { value: Some(PropertyContent::Int(0)), ..PropertyValue::default() }],
    };
    let bad = Metric { properties: Some(set), ..brief(number("", 7, MS + 3, 1.0)) };
    let told = said(&hear(&mut host, What::Data, &device(), payload(2, MS + 3, vec![null, nan, bad]), AT).batch);
    let expected = [(1, Reason::NoValue, None, 1), (1, Reason::NotANumber, None, 2), (1, Reason::SaidBad, Some(1.0), 3)];
    assert_eq!(told, expected);
}

#[test]
fn a_metric_that_changes_its_type_or_goes_is_told() {
    let mut host = host();
    born(&mut host, 0, MS, AT);
    let other = Metric { datatype: Some(3), value: Some(MetricValue::Int(7)), ..number("Speed", 7, MS + 1000, 0.0) };
    hear(&mut host, What::Birth, &device(), payload(2, MS + 1000, vec![other]), AT + SECOND);
    let list = look::list(&host, "Level", AT + SECOND);
    let words: Vec<&str> = list.iter().flat_map(|one| &one.words).map(String::as_str).collect();
    assert_eq!(words, ["The last birth tells another type of Speed."]);
    assert_eq!((list[0].buffer.as_str(), list[1].metrics, list[1].taken), ("5.0", 1, 1));
    let told = hear(&mut host, What::Birth, &device(), payload(3, MS + 2000, vec![number("Load", 8, MS, 1.0)]), AT + 2 * SECOND);
    assert_eq!(said(&told.batch), [(1, Reason::NotAnnounced, None, 2000)]);
}

#[test]
fn two_nodes_of_one_name_are_told() {
    let mut host = host();
    let twins = |host: &Host, at: Nanos| host.nodes.values().next().unwrap().twins(at);
    for (second, bd) in [(1, 3), (2, 4), (3, 4), (4, 5)] {
        born(&mut host, bd, MS + second * 1000, AT + second as i64 * SECOND);
        assert!(!twins(&host, AT + 5 * SECOND), "one that begins again counts on");
    }
    born(&mut host, 77, MS + 5000, AT + 5 * SECOND);
    born(&mut host, 5, MS + 6000, AT + 6 * SECOND);
    assert!(twins(&host, AT + 7 * SECOND) && !twins(&host, AT + 700 * SECOND));
}

#[test]
fn a_new_tag_is_told_what_is_known() {
    let mut host = host();
    born(&mut host, 0, MS, AT);
    let mut batch = Batch::default();
    let points = [
        json!({"device": "Pump", "metric": "Speed"}),
        json!({"metric": "Level"}),
        json!({"device": "Pump", "metric": "Speed"}),
        json!({"device": "Pump", "metric": "Load"}),
        json!({"device": "Fan", "metric": "Speed"}),
        json!({"metric": ""}),
    ];
    host.follow(&plan(&points), &mut batch, AT + SECOND);
    let told: Vec<_> = said(&batch).into_iter().map(|(tag, why, ..)| (tag, why)).collect();
    assert_eq!(told, [(6, Reason::NoSource), (3, Reason::Fine), (4, Reason::NotAnnounced), (5, Reason::NeverHeard)]);
    host.opened(AT + 10 * SECOND);
    let told: Vec<_> = tick(&mut host, AT + 15 * SECOND).into_iter().map(|(tag, why, ..)| (tag, why)).collect();
    assert_eq!(told.len(), 5);
    assert!(told.contains(&(1, Reason::NotRetained)) && told.contains(&(5, Reason::NeverHeard)), "{told:?}");
}

/// A pump that carries a structure, one member of which has a unit.
fn structure(members: &[(&str, f64)]) -> Metric {
    let unit = PropertySet {
        keys: vec!["unit".into()],
        values: vec![PropertyValue { value: Some(PropertyContent::Text("1/min".into())), ..PropertyValue::default() }],
    };
    let member = |(name, value): &(&str, f64)| Metric {
        name: Some((*name).into()),
        datatype: Some(10),
        value: Some(MetricValue::Double(*value)),
        properties: Some(unit.clone()),
        ..Metric::default()
    };
    let carried = Template {
        metrics: members.iter().map(member).collect(),
        reference: Some("Drive".into()),
        is_definition: Some(false),
        ..Template::default()
    };
    Metric { datatype: Some(19), value: Some(MetricValue::Template(carried)), ..number("Motor/Drive", 7, MS, 0.0) }
}

#[test]
fn a_structure_is_told_in_parts_and_shown_whole() {
    let mut host = Host::default();
    let points = [
        json!({"device": "Pump", "metric": "Motor/Drive", "member": "/Speed"}),
        json!({"device": "Pump", "metric": "Motor/Drive", "member": "/Current"}),
    ];
    host.follow(&plan(&points), &mut Batch::default(), AT - SECOND);
    hear(&mut host, What::Birth, &node(), payload(0, MS, vec![bd(0)]), AT);
    let whole = structure(&[("Speed", 10.0), ("Current", 2.0)]);
    let told = said(&hear(&mut host, What::Birth, &device(), payload(1, MS, vec![whole]), AT).batch);
    assert_eq!(told, [(1, Reason::Fine, Some(10.0), 0), (2, Reason::Fine, Some(2.0), 0)]);
    let part = brief(structure(&[("Speed", 11.0)]));
    let told = said(&hear(&mut host, What::Data, &device(), payload(2, MS, vec![part]), AT).batch);
    assert_eq!(told, [(1, Reason::Fine, Some(11.0), 0)]);
    let id = |path: &[&str]| json!(["Works", "ES-1", "Pump", path, ""]).to_string();
    let below = |id: &str| look::page(&host, &At::of(id).unwrap(), "", 100).unwrap().nodes;
    let names = |id: &str| below(id).into_iter().map(|node| node.name).collect::<Vec<_>>();
    assert_eq!(names(""), ["Works"]);
    assert_eq!(names(&json!(["Works", "", "", [], ""]).to_string()), ["ES-1"]);
    assert_eq!(names(&json!(["Works", "ES-1", "", [], ""]).to_string()), ["bdSeq", "Pump"]);
    assert_eq!(names(&id(&[])), ["Motor"]);
    let drive = below(&id(&["Motor"])).remove(0);
    assert_eq!((drive.of_type.as_str(), drive.branch, drive.point), ("Drive", true, None));
    let members = below(&drive.id);
    let held: Vec<_> = members.iter().map(|node| (node.name.as_str(), node.readings[0].text.as_str())).collect();
    assert_eq!(held, [("Current", "2.0"), ("Speed", "11.0")]);
    assert_eq!(members[1].set["unit"], "1/min");
    assert_eq!(members[1].point.as_ref().unwrap()["member"], "/Speed");
    assert!(At::of("[1]").is_err() && At::of(&"[".repeat(5000)).is_err());
}

fn mapping(more: Json) -> Mapping {
    let mut own = json!({"id": uuid::Uuid::from_u128(1), "topics": "Works/+/Pump", "place": "Pumps / {2} / {3}", "tags": []});
    own.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
    serde_json::from_value(own).unwrap()
}

#[rstest::rstest]
#[case(json!({"topics": "a/b/c/d"}), "topics")]
#[case(json!({"topics": "a/#/c"}), "topics")]
#[case(json!({"topics": ""}), "topics")]
#[case(json!({"place": "{4}"}), "place")]
#[case(json!({"place": ""}), "place")]
#[case(json!({"tags": [{"name": "", "point": {"metric": "a/#/b"}}]}), "tags[0].point.metric")]
#[case(json!({"tags": [{"name": "", "point": {}}]}), "tags[0].point.metric")]
fn what_is_wrong_with_a_mapping_is_told_at_its_field(#[case] more: Json, #[case] field: &str) {
    let wrong = Rule::of(&mapping(more)).unwrap_err();
    assert_eq!(wrong.iter().map(|w| w.0.as_str()).collect::<Vec<_>>(), [field], "{wrong:?}");
}

#[test]
fn a_mapping_makes_tags_of_what_is_born() {
    let mut host = Host::default();
    let rules = |mapping: Json, host: &Host| Rules::of(&[serde_json::from_value(mapping).unwrap()], host);
    let own = serde_json::to_value(mapping(json!({"record": true}))).unwrap();
    let mut all = rules(own, &host);
    let told = hear(&mut host, What::Birth, &node(), payload(0, MS, vec![bd(0), number_of_node("Level", MS, 1.0)]), AT);
    all.born(told.born);
    let metrics = vec![structure(&[("Speed", 1.0)]), number("Node Control/Rebirth", 8, MS, 0.0), number("Hours", 9, MS, 3.0)];
    let told = hear(&mut host, What::Birth, &device(), payload(1, MS, metrics), AT);
    all.born(told.born);
    let mut announced: Vec<Arrival> = Vec::new();
    all.announce(&host, &mut |_| false);
    all.announce(&host, &mut |arrival| {
        announced.push(arrival);
        true
    });
    let [arrival] = &announced[..] else { panic!("{announced:?}") };
    let tags: Vec<_> = arrival.tags.iter().map(|tag| (tag.place.as_str(), tag.name.as_str())).collect();
    assert_eq!(
        (arrival.key.as_str(), tags),
        ("Works/ES-1/Pump", vec![("Pumps/ES-1/Pump/Motor/Drive", "Speed"), ("Pumps/ES-1/Pump", "Hours")])
    );
    assert_eq!((arrival.tags[0].set["unit"].as_str(), arrival.tags[0].set["record"].as_bool()), (Some("1/min"), Some(true)));
    // A level that an edge node lacks is left out of its place, and metrics are chosen by their names.
    let of_nodes = mapping(json!({"topics": "Works/#", "tags": [{"name": "", "point": {"metric": "Level"}}]}));
    let rule = Rule::of(&of_nodes).unwrap();
    let arrival = rule.arrival(&node(), host.find(&node()).unwrap());
    assert_eq!((arrival.tags.len(), arrival.tags[0].place.as_str()), (1, "Pumps/ES-1"));
    assert_eq!(rule.arrival(&device(), host.find(&device()).unwrap()).refused, "It announces none of these metrics.");
}

/// A sequence as an edge node sends it: births, then values with their times.
fn sequence(count: usize) -> Vec<(What, Name, Payload)> {
    let mut all = vec![
        (What::Birth, node(), payload(0, MS, vec![bd(0), number_of_node("Level", MS, 0.0)])),
        (What::Birth, device(), payload(1, MS + 1, vec![number("Speed", 7, MS + 1, 0.0)])),
    ];
    for n in 2..count as u64 {
        let metric = brief(number("", if n % 3 == 0 { 1 } else { 7 }, MS + n, n as f64));
        let name = if n % 3 == 0 { node() } else { device() };
        all.push((What::Data, name, payload(n % 256, MS + n, vec![metric])));
    }
    all
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn any_order_within_the_window_gives_the_same_history(count in 3_usize..600, shifts in prop::collection::vec(0_usize..40, 600)) {
        let all = sequence(count);
        let mut order: Vec<usize> = (0..count).collect();
        // Each message comes later by up to so many others.
        order.sort_by_key(|&n| n + shifts[n]);
        let run = |order: &[usize]| {
            let mut host = host();
            let mut samples = Vec::new();
            for &n in order {
                let (what, name, payload) = all[n].clone();
                samples.extend(said(&hear(&mut host, what, &name, payload, AT + SECOND).batch));
            }
            samples.sort_by_key(|a| (a.0, a.3));
            let node = host.nodes.values().next().unwrap();
            (samples, node.missing, node.unread)
        };
        let straight: Vec<usize> = (0..count).collect();
        prop_assert_eq!(run(&order), run(&straight));
    }

    #[test]
    fn whatever_comes_is_borne_and_bounded(
        all in prop::collection::vec((0_u8..3, any::<bool>(), prop::option::of(0_u64..300), 0_u64..5, 0_u64..3000, 0_u64..12), 1..200),
    ) {
        let mut host = host();
        for (n, (what, of_device, seq, alias, sent, bd_number)) in all.into_iter().enumerate() {
            let what = [What::Birth, What::Data, What::Death][usize::from(what)];
            let name = if of_device { device() } else { node() };
            let mut metrics = vec![bd(bd_number), number("Speed", alias, MS + sent, 1.0), brief(number("", alias, MS, 2.0))];
            metrics.push(structure(&[("Speed", 1.0)]));
            let message = Payload { seq, timestamp: Some(MS + sent), metrics, ..Payload::default() };
            hear(&mut host, what, &name, message, AT + n as i64 * SECOND / 4);
            tick(&mut host, AT + n as i64 * SECOND / 4);
            host.due(AT + n as i64 * SECOND / 4);
            look::page(&host, &At::of("").unwrap(), "", 10).unwrap();
        }
        prop_assert_eq!(host.nodes.len(), 1);
        prop_assert!(host.find(&device()).unwrap().metrics.len() <= 4);
    }
}
