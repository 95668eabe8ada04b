//! OPC UA against the simulated server “Dryline”: structures, methods, types of objects, and a server that names or answers otherwise.

use crate::{
    device::*,
    opcua::{dryline, dryline_with, of, to},
};
use havrel_core::{quality::Reason, sample::Value};
use havrel_link::{Command, LinkState, PointPlan, RawValue};
use havrel_standin::{dryline::nodes::NAMESPACE, faults::Fault};
use serde_json::{Value as Json, json};
use std::{
    collections::HashMap,
    time::{Duration, Instant},
};
use tokio::{sync::oneshot, time::timeout};

const PALLET: &str = "Packing.Baggingmachine.Pallet";

fn node(id: &str) -> String {
    format!("nsu={NAMESPACE};s={id}")
}

fn member(tag: u32, part: &str) -> PointPlan {
    at(tag, json!({"address": node(PALLET), "part": part}))
}

impl Running {
    /// Waits until tags hold these values, or none.
    async fn hold(&mut self, wanted: &[(u32, Option<Value>)]) {
        let mut held = HashMap::new();
        while !wanted.iter().all(|(tag, value)| held.get(tag) == Some(value)) {
            let batch = timeout(LONG, self.batches.recv()).await.expect("values come in time").unwrap();
            held.extend(batch.samples.iter().map(|s| (s.tag, batch.value_of(*s))));
        }
    }

    async fn fill(&self, span: Option<(i64, i64)>) -> Result<(), havrel_link::LinkError> {
        let (reply, answer) = oneshot::channel();
        self.commands.send(Command::Fill { span, reply }).await.unwrap();
        timeout(LONG, answer).await.unwrap().unwrap()
    }

    /// Waits until health says this.
    async fn learnt(&mut self, words: &str) {
        let told = |h: &havrel_link::Health| h.learnt.iter().any(|l| l.contains(words));
        let waited = timeout(LONG, self.health.wait_for(told)).await.is_ok();
        assert!(waited, "{:?}", self.health.borrow().learnt);
    }

    async fn read(&self, points: Vec<PointPlan>) -> Vec<RawValue> {
        let (reply, answer) = oneshot::channel();
        self.commands.send(Command::Read { points, reply }).await.unwrap();
        timeout(LONG, answer).await.unwrap().unwrap().unwrap()
    }
}

#[tokio::test]
async fn members_of_a_structure_are_values_of_their_own() {
    let (port, shared) = dryline().await;
    let points = vec![member(1, "/Number"), member(2, "/Grade"), member(3, "/Bags/2/Weight"), member(4, ""), member(5, "/Lid")];
    let mut running = run(to(port, json!({})), points);
    let held = running.all(5).await;
    let value = |tag: u32| held[&tag].0.clone();
    assert_eq!(value(1), Some(Value::U64(6026)));
    assert_eq!(value(2), Some(Value::Text("HV".into())));
    assert_eq!(value(3), Some(Value::F64(25.0)));
    let whole = r#"{"Number":6026,"Grade":"HV","Bags":[{"Number":48211,"Weight":25.0},{"Number":48210,"Weight":25.0},{"Number":48209,"Weight":25.0}]}"#;
    assert_eq!(value(4), Some(Value::Text(whole.into())));
    assert_eq!(held[&5], (None, Reason::NoSuchAddress));
    // It changes as a whole, and each tag takes its part; an element that is gone is told.
    shared.lock().process.dryline.bags_ever = 48_217;
    running.hold(&[(1, Some(Value::U64(6027))), (3, None)]).await;
    let read = running.read(vec![member(0, "/Bags/0/Number"), member(0, "/Bags/7")]).await;
    assert_eq!((&read[0].decoded, read[1].words.as_str()), (&Some(Value::U64(48_217)), Reason::NoSuchAddress.words()));
    let refused = running.write(1, Value::U64(5)).await.unwrap_err().to_string();
    assert!(refused.contains("cannot be written alone"), "{refused}");
    running.end().await;
}

#[tokio::test]
async fn elements_and_members_are_browsed_like_nodes() {
    let (port, _) = dryline().await;
    let mut running = run(to(port, json!({})), vec![]);
    running.state(LinkState::Running).await;
    let machine = running.below(&node("Packing.Baggingmachine")).await;
    let pallet = machine.iter().find(|n| n.name == "Pallet").unwrap();
    assert!(pallet.branch && !pallet.inside);
    let shown = |nodes: &[havrel_link::Node]| -> Vec<(String, Json, String)> {
        let point = |n: &havrel_link::Node| Json::Object(n.point.clone().unwrap_or_default());
        let held = |n: &havrel_link::Node| n.readings.first().map(|r| r.text.clone()).unwrap_or_default();
        nodes.iter().map(|n| (n.name.clone(), point(n), held(n))).collect()
    };
    let members = running.below(&pallet.id).await;
    assert!(members.iter().all(|n| n.inside));
    assert_eq!(
        shown(&members)[0],
        ("Number".into(), json!({"address": node(PALLET), "part": "/Number", "type": "i64"}), "6026".into())
    );
    let bags = members.iter().find(|n| n.name == "Bags").unwrap();
    assert_eq!((bags.branch, bags.about.as_str()), (true, "array of structures"));
    let first = &running.below(&bags.id).await[0];
    assert_eq!((first.name.as_str(), first.about.as_str()), ("[0]", "structure"));
    let weight = &shown(&running.below(&first.id).await)[1];
    assert_eq!(
        *weight,
        ("Weight".into(), json!({"address": node(PALLET), "part": "/Bags/0/Weight", "type": "f64"}), "25.0".into())
    );
    // Of an array of plain values the server itself picks the element.
    let elements = shown(&running.below(&node("Packing.Baggingmachine.Lastbags")).await);
    let second = json!({"address": node("Packing.Baggingmachine.Lastbags"), "element": "1", "type": "f64"});
    assert_eq!((elements.len(), &elements[1]), (8, &("[1]".to_owned(), second, "25.0".to_owned())));
    running.end().await;
}

#[tokio::test]
async fn objects_of_one_type_are_told_apart_from_folders() {
    let (port, _) = dryline().await;
    let mut running = run(to(port, json!({})), vec![]);
    running.state(LinkState::Running).await;
    let dryer = running.below(&node("Drying.Beltdryer")).await;
    let zones: Vec<_> = dryer.iter().filter(|n| n.name.starts_with("Zone")).collect();
    assert_eq!(zones.len(), 4);
    assert!(zones.iter().all(|n| n.about == "ZoneType" && n.of_type == node("Types.ZoneType")));
    let drying = running.below(&node("Drying")).await;
    assert!(drying.iter().all(|n| n.of_type.is_empty() && n.about.is_empty()));
    running.end().await;
}

#[tokio::test]
async fn writing_a_tag_of_a_method_calls_it() {
    let (port, shared) = dryline().await;
    let mut running = run(to(port, json!({})), vec![]);
    running.state(LinkState::Running).await;
    let machine = running.below(&node("Packing.Baggingmachine")).await;
    let method = machine.iter().find(|n| n.name == "Reset counter").unwrap();
    assert_eq!((method.about.as_str(), method.writable), ("method (From: UInt32)", true));
    running.end().await;
    let reset = at(1, Json::Object(method.point.clone().unwrap()));
    let mut running = run(to(port, json!({})), vec![reset.clone(), of(2, "Packing.Baggingmachine.Bags")]);
    assert_eq!(running.until(1, |_, _| true).await, (None, Reason::NotSet));
    running.until(2, |v, _| *v == Some(Value::U64(118))).await;
    // The tag holds what the method gave: the number before.
    assert_eq!(running.write(1, Value::F64(40.0)).await.unwrap(), Value::U64(118));
    assert_eq!(running.until(1, |v, _| v.is_some()).await, (Some(Value::U64(118)), Reason::Fine));
    running.until(2, |v, _| *v == Some(Value::U64(40))).await;
    let refused = running.write(1, Value::F64(-1.0)).await.unwrap_err().to_string();
    assert!(refused.contains("“From” does not fit"), "{refused}");
    assert_eq!(shared.lock().process.dryline.bags, 40);
    assert!(running.read(vec![reset]).await[0].words.contains("called, not read"));
    running.end().await;
}

#[tokio::test]
async fn a_method_is_not_called_where_writing_is_off() {
    let (port, shared) = dryline().await;
    let mut connection = to(port, json!({}));
    connection.writing = false;
    let point = json!({"address": node("Packing.Baggingmachine"), "method": node("Packing.Baggingmachine.Resetcounter")});
    let mut running = run(connection, vec![at(1, point)]);
    running.state(LinkState::Running).await;
    assert!(running.write(1, Value::F64(1.0)).await.is_err());
    assert_eq!(shared.lock().process.dryline.bags, 118);
    running.end().await;
}

#[tokio::test]
async fn a_server_that_numbers_its_namespaces_anew_delivers_the_same_tags() {
    let (port, shared) = dryline().await;
    let mut running = run(to(port, json!({})), vec![of(1, "Drying.Screwpress.Speed"), member(2, "/Grade")]);
    let grade = Some(Value::Text("HV".into()));
    running.hold(&[(1, Some(Value::F64(4.2))), (2, grade.clone())]).await;
    shared.lock().begin(Fault::ServerRenumbered, Instant::now(), Duration::from_secs(600)).unwrap();
    running.hold(&[(1, None), (2, None)]).await;
    shared.lock().process.dryline.press_speed = 3.25;
    running.hold(&[(1, Some(Value::F64(3.25))), (2, grade)]).await;
    running.end().await;
}

#[tokio::test]
async fn a_server_that_answers_late_delivers_with_the_times_of_its_values() {
    let (port, shared) = dryline_with(Some(Fault::ServerSlow)).await;
    let mut running = run(to(port, json!({})), vec![of(1, "Drying.Screwpress.Speed")]);
    running.value(1).await;
    shared.lock().process.dryline.press_speed = 3.25;
    running.until(1, |v, reason| *v == Some(Value::F64(3.25)) && reason == Reason::Fine).await;
    assert!(running.health.borrow().round_trip_us > 500_000);
    running.end().await;
}

#[tokio::test]
async fn what_the_server_recorded_comes_on_request_with_its_own_times() {
    let (port, shared) = dryline().await;
    let (power, other) = (of(1, "Drying.Mill.Power"), of(2, "Drying.Mill.Productflow"));
    let before = havrel_link::now();
    let mut first = run(to(port, json!({})), vec![power.clone()]);
    for value in [31.0, 32.0, 33.0] {
        shared.lock().process.dryline.mill_power = value;
        first.until(1, |v, _| *v == Some(Value::F64(value))).await;
    }
    first.end().await;
    let mut running = run(to(port, json!({})), vec![power, other]);
    running.state(LinkState::Running).await;
    running.fill(Some((before, havrel_link::now()))).await.unwrap();
    // What holds now comes too, before or after the record.
    let record = loop {
        let batch = timeout(LONG, running.batches.recv()).await.expect("values come in time").unwrap();
        let power: Vec<_> = batch.samples.iter().filter(|s| s.tag == 1).map(|s| (batch.value_of(*s), s.time)).collect();
        if power.iter().any(|(value, _)| *value == Some(Value::F64(31.0))) {
            break power;
        }
    };
    let (values, times): (Vec<_>, Vec<_>) = record.into_iter().unzip();
    assert_eq!(values[values.len() - 3..], [31.0, 32.0, 33.0].map(|v| Some(Value::F64(v))));
    assert!(times.is_sorted() && times[0] >= before - 1_000_000_000);
    running.learnt("is filled with").await;
    // Nothing is recorded of a time before; and what does not go on can be stopped all the same.
    running.fill(Some((before - 2_000_000_000, before - 1_000_000_000))).await.unwrap();
    running.learnt("is filled with 0 values of 1 tag").await;
    running.fill(None).await.unwrap();
    running.learnt("Filling was stopped").await;
    running.end().await;
}
