//! OPC UA against the simulated server “Dryline”.

use crate::device::*;
use havrel_core::{
    plant::Connection,
    quality::Reason,
    sample::{Value, flag},
};
use havrel_link::{Ask, Children, Command, LinkError, LinkPlan, LinkState, Node};
use havrel_standin::{
    dryline::{
        nodes::NAMESPACE,
        server::{PASSWORD, USER, serve},
    },
    faults::{Fault, Which},
    registers::Works,
    serve::Shared,
};
use rstest::rstest;
use serde_json::{Value as Json, json};
use std::{
    collections::{BTreeSet, HashMap},
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{net::TcpListener, sync::oneshot, time::timeout};

/// The simulated server; its process stands still.
pub async fn dryline() -> (u16, Shared) {
    dryline_with(None).await
}

/// The same, with a fault from the start.
pub async fn dryline_with(fault: Option<Fault>) -> (u16, Shared) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let shared = Shared::new(Works::new(1, 7), Which::Extraction, 1);
    if let Some(fault) = fault {
        shared.lock().begin(fault, Instant::now(), Duration::from_secs(600)).unwrap();
    }
    tokio::spawn(serve(listener, shared.clone()));
    (port, shared)
}

pub fn to(port: u16, settings: Json) -> Connection {
    let mut all = json!({"url": format!("opc.tcp://127.0.0.1:{port}")});
    all.as_object_mut().unwrap().extend(own(settings));
    let set = json!({"name": "c", "kind": "opcua", "interval_ms": 200, "timeout_ms": 2000, "writing": true, "settings": all});
    serde_json::from_value(set).unwrap()
}

fn node(id: &str) -> String {
    format!("nsu={NAMESPACE};s={id}")
}

pub fn of(tag: u32, id: &str) -> havrel_link::PointPlan {
    at(tag, json!({"address": node(id)}))
}

impl Running {
    pub async fn page(&self, node: &str, cursor: &str, most: usize) -> Result<Children, LinkError> {
        let (reply, answer) = oneshot::channel();
        let ask = Ask { node: node.into(), cursor: cursor.into(), most };
        self.commands.send(Command::Browse { ask, reply }).await.unwrap();
        timeout(LONG, answer).await.expect("an answer comes").unwrap()
    }

    /// What came of so many tags first.
    pub async fn all(&mut self, tags: usize) -> HashMap<u32, (Option<Value>, Reason)> {
        let mut held = HashMap::new();
        while held.len() < tags {
            let batch = timeout(LONG, self.batches.recv()).await.expect("values come in time").unwrap();
            for sample in &batch.samples {
                let value = batch.value_of(*sample);
                // One without a time of its own says that the value still holds.
                if value.is_some() && sample.flags & flag::OWN_TIME == 0 {
                    continue;
                }
                assert!(value.is_none() || sample.time > 1_700_000_000_000_000_000);
                held.insert(sample.tag, (value, sample.quality.reason()));
            }
        }
        held
    }

    pub async fn below(&self, node: &str) -> Vec<Node> {
        self.page(node, "", 1000).await.unwrap().nodes
    }
}

#[tokio::test]
async fn every_type_is_read_with_the_time_of_the_server() {
    let (port, shared) = dryline().await;
    let points = vec![
        of(1, "Drying.Screwpress.Speed"),
        of(2, "Drying.Screwpress.Torque"),
        of(3, "Packing.Baggingmachine.Bags"),
        of(4, "Packing.Baggingmachine.Bagsever"),
        of(5, "Drying.Mill.Enabled"),
        of(6, "Packing.Silo2.Grade"),
        of(7, "Packing.Baggingmachine.State"),
        of(8, "Packing.Baggingmachine.Lastbags"),
    ];
    let mut running = run(to(port, json!({})), points);
    let process = shared.lock().process.dryline.clone();
    let held = running.all(8).await;
    assert_eq!(held[&1], (Some(Value::F64(process.press_speed)), Reason::Fine));
    let value = |tag: u32| held[&tag].0.clone().unwrap_or_else(|| panic!("tag {tag}: {}", held[&tag].1.words()));
    assert_eq!(value(2), Value::F32(process.press_torque as f32));
    assert_eq!(value(3), Value::U64(118));
    assert_eq!(value(4), Value::U64(48_211));
    assert_eq!(value(5), Value::Bool(true));
    assert_eq!(value(6), Value::Text("MV".into()));
    assert_eq!(value(7), Value::I64(3));
    assert_eq!(value(8), Value::Text("[25.0, 25.0, 25.0, 25.0, 25.0, 25.0, 25.0, 25.0]".into()));
    running.state(LinkState::Running).await;
    // Read at once, an element of an array is a value of its own.
    let (reply, answer) = oneshot::channel();
    let points = ["2", "9", ""].map(|e| at(0, json!({"address": node("Packing.Baggingmachine.Lastbags"), "element": e})));
    running.commands.send(Command::Read { points: points.into(), reply }).await.unwrap();
    let read = timeout(LONG, answer).await.unwrap().unwrap().unwrap();
    assert_eq!(read[0].decoded, Some(Value::F64(25.0)));
    assert_eq!(read[1].words, "The server answered: the array has no such element (BadIndexRangeNoData).");
    assert!(matches!(read[2].decoded, Some(Value::Text(_))));
    running.end().await;
}

#[tokio::test]
async fn what_changes_is_told_and_what_the_server_lacks_harms_nobody() {
    let (port, shared) = dryline().await;
    let points = vec![of(1, "Drying.Screwpress.Speed"), of(2, "Drying.Nothing"), at(3, json!({"address": "nsu=urn:else;i=1"}))];
    let mut running = run(to(port, json!({})), points);
    let held = running.all(3).await;
    assert_eq!([&held[&2], &held[&3]], [&(None, Reason::NoSuchAddress); 2]);
    shared.lock().process.dryline.press_speed = 6.5;
    assert_eq!(running.until(1, |v, _| *v == Some(Value::F64(6.5))).await.1, Reason::Fine);
    let fault = Fault::ServerBad { node: "Drying.Screwpress.Speed".into() };
    shared.lock().begin(fault, Instant::now(), Duration::from_secs(2)).unwrap();
    assert_eq!(running.until(1, |v, reason| v.is_none() && reason != Reason::Fine).await.1, Reason::SensorFailure);
    assert_eq!(running.value(1).await, Value::F64(6.5));
    running.end().await;
}

#[tokio::test]
async fn tags_come_and_go_while_the_session_stays() {
    let (port, _) = dryline().await;
    let mut running = run(to(port, json!({})), vec![of(1, "Drying.Mill.Power")]);
    running.value(1).await;
    let group = uuid::Uuid::from_u128(7);
    let mut connection = to(port, json!({}));
    connection.groups = serde_json::from_value(json!([{"id": group, "name": "Slow", "interval_ms": 1000}])).unwrap();
    let mut slow = of(2, "Drying.Mill.Vibration");
    slow.group = Some(group);
    let plan = |connection: &Connection, points| {
        Arc::new(LinkPlan { connection: connection.clone(), points, orders: Vec::new(), topics: Vec::new() })
    };
    running.plan.send(plan(&connection, vec![of(1, "Drying.Mill.Productflow"), slow.clone()])).unwrap();
    assert_eq!(running.until(1, |v, _| *v == Some(Value::F64(410.0))).await.1, Reason::Fine);
    running.value(2).await;
    connection.groups[0].enabled = false;
    running.plan.send(plan(&connection, vec![slow])).unwrap();
    running.until(2, |_, reason| reason == Reason::Paused).await;
    assert_eq!(running.health.borrow().reconnects, 0);
    running.end().await;
}

#[tokio::test]
async fn a_tree_is_browsed_with_all_that_the_server_says() {
    let (port, _) = dryline().await;
    let mut running = run(to(port, json!({})), vec![]);
    running.state(LinkState::Running).await;
    let top = running.below("").await;
    let drying = top.iter().find(|n| n.name == "Drying").expect("the plant's own folder");
    assert!(drying.branch && drying.point.is_none() && top.iter().any(|n| n.name == "Server"));
    let names: Vec<_> = running.below(&drying.id).await.into_iter().map(|n| n.name).collect();
    assert_eq!(names, ["Belt dryer", "Mill", "Screw press"]);
    let zone = running.below(&node("Drying.Beltdryer.Zone1")).await;
    let setpoint = zone.iter().find(|n| n.name == "Temperature setpoint").unwrap();
    assert_eq!(setpoint.point, Some(own(json!({"address": node("Drying.Beltdryer.Zone1.Temperaturesetpoint"), "type": "f64"}))));
    assert_eq!(setpoint.set, own(json!({"range_low": 20.0, "range_high": 110.0, "unit": "°C", "decimals": 1})));
    assert_eq!((setpoint.about.as_str(), setpoint.writable, setpoint.branch), ("Double", true, false));
    assert_eq!(setpoint.readings[0].text, "92.0");
    let mill = running.below(&node("Drying.Mill")).await;
    let states = |node: &Node| node.states.iter().map(|s| (s.value, s.name.clone())).collect::<Vec<_>>();
    let running_state = mill.iter().find(|n| n.name == "Running").unwrap();
    assert_eq!(states(running_state), [(0, "Stopped".into()), (1, "Running".into())]);
    let bagging = running.below(&node("Packing.Baggingmachine")).await;
    let state = bagging.iter().find(|n| n.name == "State").unwrap();
    assert_eq!(states(state)[1], (1, "Filling".into()));
    let bags = bagging.iter().find(|n| n.name == "Last bags").unwrap();
    assert_eq!((bags.about.as_str(), bags.description.as_str()), ("Double, array", "The newest first."));
    let wrong = running.page(&node("Drying.Nothing"), "", 10).await.unwrap_err().to_string();
    assert_eq!(wrong, "The server answered: it has no such node (BadNodeIdUnknown).");
    running.end().await;
}

#[tokio::test]
async fn pages_follow_each_other_without_loss() {
    let (port, _) = dryline().await;
    let mut running = run(to(port, json!({})), vec![]);
    running.state(LinkState::Running).await;
    let zone = node("Drying.Beltdryer.Zone2");
    let whole: BTreeSet<_> = running.below(&zone).await.into_iter().map(|n| n.id).collect();
    let (mut paged, mut cursor) = (BTreeSet::new(), String::new());
    loop {
        let page = running.page(&zone, &cursor, 2).await.unwrap();
        assert!(page.nodes.len() <= 2);
        paged.extend(page.nodes.into_iter().map(|n| n.id));
        match page.next {
            Some(next) => cursor = next,
            None => break,
        }
    }
    assert_eq!((paged, whole.len()), (whole.clone(), 5));
    assert!(running.page(&zone, "o!", 2).await.is_err());
    assert!(running.page(&zone, "xAAAA", 2).await.is_err());
    running.end().await;
}

#[tokio::test]
async fn a_write_is_read_back_and_a_wrong_one_is_refused() {
    let (port, shared) = dryline().await;
    let points = vec![of(1, "Drying.Screwpress.Speedsetpoint"), of(2, "Drying.Screwpress.Speed"), of(3, "Drying.Mill.Enabled")];
    let mut running = run(to(port, json!({})), points);
    running.value(1).await;
    assert_eq!(running.write(1, Value::F64(5.5)).await, Ok(Value::F64(5.5)));
    assert_eq!(shared.lock().process.dryline.press_setpoint, 5.5);
    assert_eq!(running.write(3, Value::F64(0.0)).await, Ok(Value::Bool(false)));
    assert_eq!(running.write(1, Value::F64(99.0)).await, Err(LinkError::ReadBack("8.0".into())));
    let refused = running.write(2, Value::F64(1.0)).await.unwrap_err().to_string();
    assert_eq!(refused, "The server answered: the login may not do that (BadUserAccessDenied).");
    assert_eq!(running.write(3, Value::F64(2.0)).await, Err(LinkError::BadRequest("The node is on or off.".into())));
    assert!(matches!(running.write(9, Value::F64(2.0)).await, Err(LinkError::BadRequest(_))));
    running.end().await;
}

#[tokio::test]
async fn a_cut_cable_is_told_and_mends_by_itself() {
    let (port, shared) = dryline().await;
    let mut running = run(to(port, json!({})), vec![of(1, "Drying.Screwpress.Speed")]);
    running.value(1).await;
    shared.lock().begin(Fault::ServerCut, Instant::now(), Duration::from_secs(3)).unwrap();
    assert_eq!(running.until(1, |v, _| v.is_none()).await.1, Reason::NotConnected);
    running.state(LinkState::Trouble).await;
    shared.lock().process.dryline.press_speed = 3.25;
    assert_eq!(running.until(1, |v, _| *v == Some(Value::F64(3.25))).await.1, Reason::Fine);
    running.state(LinkState::Running).await;
    running.end().await;
}

#[tokio::test]
async fn after_a_restart_of_the_server_values_come_again() {
    let (port, shared) = dryline().await;
    let mut running = run(to(port, json!({})), vec![of(1, "Drying.Screwpress.Speed")]);
    running.value(1).await;
    shared.lock().begin(Fault::ServerRestart, Instant::now(), Duration::from_secs(60)).unwrap();
    assert_eq!(running.until(1, |v, _| v.is_none()).await.1, Reason::NotConnected);
    shared.lock().process.dryline.press_speed = 7.5;
    assert_eq!(running.until(1, |v, _| *v == Some(Value::F64(7.5))).await.1, Reason::Fine);
    // And they go on coming.
    shared.lock().process.dryline.press_speed = 2.5;
    assert_eq!(running.until(1, |v, _| *v == Some(Value::F64(2.5))).await.1, Reason::Fine);
    running.end().await;
}

#[tokio::test]
async fn within_its_deadband_a_value_is_not_sent() {
    let (port, shared) = dryline().await;
    let set = |speed| shared.lock().process.dryline.press_speed = speed;
    set(2.0);
    let speed = "Drying.Screwpress.Speed";
    let points = vec![
        of(1, speed),
        at(2, json!({"address": node(speed), "deadband": "0"})),
        at(3, json!({"address": node("Packing.Silo2.Grade"), "deadband": "5 %"})),
    ];
    let mut running = run(to(port, json!({"deadband": "1"})), points);
    running.all(3).await;
    set(2.5);
    let mut of_one = Vec::new();
    for wanted in [2.5, 4.0] {
        set(wanted);
        let seen = async {
            loop {
                let batch = running.batches.recv().await.unwrap();
                let numbers = batch.samples.iter().filter_map(|s| Some((s.tag, batch.value_of(*s)?.number()?)));
                let numbers: Vec<(u32, f64)> = numbers.collect();
                of_one.extend(numbers.iter().filter(|(tag, _)| *tag == 1).map(|(_, value)| *value));
                if numbers.contains(&(2, wanted)) {
                    return;
                }
            }
        };
        timeout(LONG, seen).await.expect("the tag without a deadband gets it");
    }
    while of_one.is_empty() {
        let value = running.value(1).await;
        of_one.extend(value.number());
    }
    assert_eq!(of_one, [4.0]);
    let health = running.state(LinkState::Running).await;
    let told = "The server takes no deadband for some values. It concerns 1 tag.";
    assert!(health.learnt.iter().any(|l| l == told), "a text has none: {:?}", health.learnt);
    running.end().await;
}

#[rstest]
#[case::as_the_settings_say(json!({"delivery": "reads"}), false)]
#[case::as_the_server_has_no_subscriptions(json!({}), true)]
#[tokio::test]
async fn values_are_read_where_they_are_not_sent(#[case] settings: Json, #[case] plain: bool) {
    let (port, shared) = dryline_with(plain.then_some(Fault::ServerPlain)).await;
    let mut running = run(to(port, settings), vec![of(1, "Drying.Screwpress.Speed"), of(2, "Drying.Nothing")]);
    let held = running.all(2).await;
    assert_eq!((held[&1].1, held[&2].1), (Reason::Fine, Reason::NoSuchAddress));
    for speed in [3.25, 7.75] {
        shared.lock().process.dryline.press_speed = speed;
        running.until(1, |v, _| *v == Some(Value::F64(speed))).await;
    }
    let health = running.state(LinkState::Running).await;
    assert_eq!(health.learnt.iter().any(|l| l.contains("gives no subscription")), plain, "{:?}", health.learnt);
    // Tags come and go without a new session.
    let plan = running.plan.borrow().clone();
    let points = vec![of(2, "Drying.Nothing"), of(3, "Drying.Screwpress.Torque")];
    running.plan.send_replace(Arc::new(LinkPlan {
        connection: plan.connection.clone(),
        points,
        orders: Vec::new(),
        topics: Vec::new(),
    }));
    running.value(3).await;
    shared.lock().begin(Fault::ServerCut, Instant::now(), Duration::from_secs(2)).unwrap();
    assert_eq!(running.until(3, |v, _| v.is_none()).await.1, Reason::NotConnected);
    running.value(3).await;
    running.end().await;
}

#[tokio::test]
async fn a_server_whose_subscriptions_hold_little_gets_several() {
    let (port, _) = dryline_with(Some(Fault::ServerNarrow)).await;
    let zones = (1..=4u32).flat_map(|zone| [(zone, "Temperature"), (zone + 4, "Humidity"), (zone + 8, "Steamvalve")]);
    let nodes: Vec<_> = zones.map(|(tag, name)| of(tag, &format!("Drying.Beltdryer.Zone{}.{name}", (tag - 1) % 4 + 1))).collect();
    let mut running = run(to(port, json!({})), nodes);
    let held = running.all(12).await;
    let fine = held.values().filter(|(value, reason)| value.is_some() && *reason == Reason::Fine).count();
    assert_eq!(fine, 12, "{held:?}");
    running.end().await;
}

/// Two servers, and a connection that keeps the second one ready.
async fn redundant() -> (Shared, Shared, Running) {
    let ((first, shared), (second, spare)) = (dryline().await, dryline().await);
    let settings = json!({"spare": [{"url": format!("opc.tcp://127.0.0.1:{second}")}]});
    let mut running = run(to(first, settings), vec![of(1, "Drying.Screwpress.Speed"), of(2, "Drying.Nothing")]);
    running.value(1).await;
    running.ready().await;
    (shared, spare, running)
}

impl Running {
    /// Waits until another session stands ready.
    async fn ready(&mut self) {
        let ready = |h: &havrel_link::Health| h.learnt.iter().any(|l| l.ends_with("is ready to take over."));
        timeout(LONG, self.health.wait_for(ready)).await.expect("the spare gets ready").unwrap();
    }

    /// All values of the first tag until one; none of them is bad.
    async fn good_until(&mut self, wanted: f64) -> Vec<f64> {
        let mut all = Vec::new();
        while all.last() != Some(&wanted) {
            let batch = timeout(LONG, self.batches.recv()).await.expect("values come in time").unwrap();
            for sample in batch.samples.iter().filter(|s| s.tag == 1) {
                assert_eq!(sample.quality.reason(), Reason::Fine, "no gap is told");
                all.extend(batch.value_of(*sample).and_then(|v| v.number()));
            }
        }
        all
    }
}

#[tokio::test]
async fn a_session_that_is_ready_takes_over_without_a_gap_and_goes_on_from_what_was_delivered() {
    let (shared, spare, mut running) = redundant().await;
    let (first, second) = (shared.clone(), spare.clone());
    // Both show the same process, the spare one a little apart.
    let set = |speed: f64| {
        first.lock().process.dryline.press_speed = speed;
        second.lock().process.dryline.press_speed = speed;
    };
    set(2.5);
    running.good_until(2.5).await;
    shared.lock().begin(Fault::ServerCut, Instant::now(), Duration::from_secs(60)).unwrap();
    set(7.75);
    let came = running.good_until(7.75).await;
    assert!(came.iter().all(|v| [2.5, 7.75].contains(v)), "nothing older comes again: {came:?}");
    set(3.25);
    running.good_until(3.25).await;
    assert_eq!(running.state(LinkState::Running).await.path, 1);
    // What is refused stays refused, and a new tag is delivered by the session in use.
    let plan = running.plan.borrow().clone();
    let points = plan.points.iter().cloned().chain([of(3, "Drying.Screwpress.Torque")]).collect();
    running.plan.send_replace(Arc::new(LinkPlan {
        connection: plan.connection.clone(),
        points,
        orders: Vec::new(),
        topics: Vec::new(),
    }));
    running.value(3).await;
    running.end().await;
}

#[tokio::test]
async fn by_hand_the_ready_session_is_taken_and_back_again() {
    let (first, spare, mut running) = redundant().await;
    for (path, speed) in [(1, 7.75), (0, 2.5)] {
        running.ready().await;
        spare.lock().process.dryline.press_speed = 7.75;
        first.lock().process.dryline.press_speed = 2.5;
        let (reply, answer) = oneshot::channel();
        running.commands.send(Command::TakePath { path, reply }).await.unwrap();
        timeout(LONG, answer).await.unwrap().unwrap().unwrap();
        running.good_until(speed).await;
        timeout(LONG, running.health.wait_for(|h| h.path == path)).await.expect("it is told").unwrap();
    }
    running.end().await;
}

#[tokio::test]
async fn a_spare_that_does_not_answer_is_told_and_disturbs_nothing() {
    let (first, shared) = dryline().await;
    let settings = json!({"spare": [{"url": "opc.tcp://127.0.0.1:9"}]});
    let mut running = run(to(first, settings), vec![of(1, "Drying.Screwpress.Speed")]);
    running.value(1).await;
    let told = |h: &havrel_link::Health| h.learnt.iter().any(|l| l.contains("is not ready to take over: 127.0.0.1 refuses"));
    timeout(LONG, running.health.wait_for(told)).await.expect("it is told").unwrap();
    shared.lock().process.dryline.press_speed = 7.75;
    running.good_until(7.75).await;
    running.end().await;
}

#[tokio::test]
async fn a_spare_address_takes_over() {
    let ((first, shared), (second, spare)) = (dryline().await, dryline().await);
    spare.lock().process.dryline.press_speed = 7.75;
    let settings = json!({"warm": false, "spare": [{"url": format!("opc.tcp://127.0.0.1:{second}")}]});
    let mut running = run(to(first, settings), vec![of(1, "Drying.Screwpress.Speed")]);
    running.value(1).await;
    shared.lock().begin(Fault::ServerCut, Instant::now(), Duration::from_secs(60)).unwrap();
    assert_eq!(running.until(1, |v, _| *v == Some(Value::F64(7.75))).await.1, Reason::Fine);
    assert_eq!(running.state(LinkState::Running).await.path, 1);
    running.end().await;
}

#[tokio::test]
async fn a_test_climbs_to_a_value() {
    let (port, _) = dryline().await;
    let steps = test(&to(port, json!({}))).await;
    let all = ["Name", "Port", "Endpoints", "Endpoint", "Login", "Value"];
    assert_eq!(names(&steps), all.map(|name| (name, true)), "{steps:?}");
    assert!(steps[2].answer.contains("signed and encrypted, Aes256_Sha256_RsaPss") && steps[2].answer.contains("none, in clear"));
    assert!(steps[5].answer.starts_with("the server is running; its clock reads 20"), "{}", steps[5].answer);
}

#[rstest]
#[case(json!({"login": "user", "user": USER, "password": {"secret": PASSWORD}}), "")]
#[case(json!({"login": "user", "user": USER, "password": {"secret": "guess"}}), "Login")]
#[case(json!({"login": "user", "user": "nobody", "password": {"secret": PASSWORD}}), "Login")]
#[case(json!({"login": "user", "user": USER, "password": {"sealed": "x"}}), "Settings")]
#[tokio::test]
async fn a_login_is_accepted_or_its_failure_is_named(#[case] settings: Json, #[case] fails: &str) {
    let (port, _) = dryline().await;
    let steps = test(&to(port, settings)).await;
    let failed = steps.iter().find(|s| !s.passed);
    assert_eq!(failed.map_or("", |s| s.name.as_str()), fails, "{steps:?}");
    if fails == "Login" {
        assert!(failed.is_some_and(|s| s.cure.contains("password") && !s.answer.contains("guess")), "{steps:?}");
    }
}

#[tokio::test]
async fn who_is_not_there_or_speaks_something_else_is_told() {
    let nobody = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = nobody.local_addr().unwrap().port();
    drop(nobody);
    assert_eq!(names(&test(&to(port, json!({}))).await), [("Name", true), ("Port", false)]);
    let (port, device) = device(b"HTTP/1.1 400 Bad Request\r\n\r\n").await;
    let steps = test(&to(port, json!({}))).await;
    assert_eq!(names(&steps), [("Name", true), ("Port", true), ("Endpoints", false)], "{steps:?}");
    device.abort();
    // Nothing at all is answered.
    let (port, device) = self::device(b"").await;
    let steps = test(&to(port, json!({}))).await;
    assert_eq!(names(&steps), [("Name", true), ("Port", true), ("Endpoints", false)], "{steps:?}");
    assert!(steps[2].answer.contains("No answer"), "{}", steps[2].answer);
    device.abort();
}

/// Answers whatever comes with the same bytes, and then keeps still.
async fn device(answer: &'static [u8]) -> (u16, tokio::task::JoinHandle<()>) {
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let task = tokio::spawn(async move {
        loop {
            let (mut stream, _) = listener.accept().await.unwrap();
            tokio::spawn(async move {
                let mut heard = [0; 256];
                while stream.read(&mut heard).await.is_ok_and(|n| n > 0) {
                    if stream.write_all(answer).await.is_err() {
                        return;
                    }
                }
            });
        }
    });
    (port, task)
}
