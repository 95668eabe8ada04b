//! MQTT against Debian's broker, with accounts, topic rights, TLS and WebSocket.

use crate::device::*;
use havrel_core::{
    plant::Connection,
    quality::Reason,
    sample::{Value, flag},
    time::SECOND,
};
use havrel_link::{Command, LinkError, LinkPlan, LinkState, Node, TestStep, now};
use havrel_standin::utilities::broker::{Account, Broker, Setup};
use rstest::rstest;
use rumqttc::{AsyncClient, Event, MqttOptions, Packet, QoS};
use serde_json::{Value as Json, json};
use std::{net::SocketAddr, sync::Arc};
use tokio::{sync::mpsc, task::JoinSet, time::timeout};

const METER: &str = "site/meter/M1/json";

fn open() -> Broker {
    Broker::start(&Setup { open: true, ..Setup::default() }).unwrap()
}

/// A broker with an account for everything, one that may only read, and one that may do nothing.
fn closed() -> Broker {
    let account = |user, rights| Account { user, password: "secret", rights };
    let accounts =
        vec![account("all", &["readwrite #"] as &[_]), account("reader", &["read site/#"]), account("nobody", &["read none"])];
    Broker::start(&Setup { accounts, ..Setup::default() }).unwrap()
}

fn to(at: SocketAddr, more: Json) -> Connection {
    let mut settings = json!({"host": at.ip().to_string(), "port": at.port()});
    settings.as_object_mut().unwrap().extend(own(more));
    let set = json!({"name": "c", "kind": "mqtt", "timeout_ms": 2000, "writing": true, "settings": settings});
    serde_json::from_value(set).unwrap()
}

fn as_user(user: &str) -> Json {
    json!({"user": user, "password": {"secret": "secret"}})
}

/// A client that publishes, and hears what it is asked to.
struct Other {
    client: AsyncClient,
    heard: mpsc::Receiver<(String, String)>,
    _task: JoinSet<()>,
}

impl Other {
    async fn new(at: SocketAddr, topics: &[&str]) -> Other {
        let mut options = MqttOptions::new(uuid::Uuid::new_v4().to_string(), at.ip().to_string(), at.port());
        options.set_credentials("all", "secret").set_max_packet_size(1 << 28, 1 << 28);
        let (client, mut polled) = AsyncClient::new(options, 100);
        let (tell, heard) = mpsc::channel(1000);
        let (ready, is_ready) = tokio::sync::oneshot::channel();
        let mut task = JoinSet::new();
        let (mut waiting, mut ready) = (topics.len(), Some(ready));
        task.spawn(async move {
            loop {
                match polled.poll().await {
                    Ok(Event::Incoming(Packet::Publish(came))) => {
                        tell.send((came.topic, String::from_utf8_lossy(&came.payload).into_owned())).await.unwrap();
                    }
                    Ok(Event::Incoming(Packet::SubAck(_))) => waiting -= 1,
                    Ok(Event::Incoming(Packet::ConnAck(_))) => {}
                    Ok(_) => continue,
                    Err(_) => return,
                }
                if waiting == 0
                    && let Some(ready) = ready.take()
                {
                    ready.send(()).unwrap();
                }
            }
        });
        for topic in topics {
            client.subscribe(*topic, QoS::AtLeastOnce).await.unwrap();
        }
        timeout(LONG, is_ready).await.unwrap().unwrap();
        Other { client, heard, _task: task }
    }

    async fn publish(&self, topic: &str, message: impl Into<Vec<u8>>, retain: bool) {
        self.client.publish(topic, QoS::AtLeastOnce, retain, message).await.unwrap();
    }

    async fn next(&mut self) -> (String, String) {
        timeout(LONG, self.heard.recv()).await.unwrap().unwrap()
    }
}

fn told(steps: &[TestStep], name: &str) -> TestStep {
    steps.iter().find(|step| step.name == name).unwrap_or_else(|| panic!("no {name}: {steps:?}")).clone()
}

#[rstest]
#[case("5")]
#[case("3.1.1")]
#[tokio::test]
async fn a_test_climbs_to_a_message_that_comes_back(#[case] version: &str) {
    let broker = open();
    let steps = test(&to(broker.address, json!({"version": version}))).await;
    assert_eq!(names(&steps), [("Name", true), ("Port", true), ("Login", true), ("Round trip", true)], "{steps:?}");
    assert_eq!(told(&steps, "Login").answer, "a new session; the broker takes anybody");
    let offer = &told(&steps, "Round trip").offers[0];
    assert_eq!(offer.field, "settings.test_topic");
    let steps = test(&to(broker.address, json!({"version": version, "test_topic": offer.value}))).await;
    assert_eq!(names(&steps)[3..], [("Subscription", true), ("Round trip", true)], "{steps:?}");
    assert_eq!(told(&steps, "Subscription").answer, "granted, quality of service 1");
}

#[rstest]
#[case("5", "reader", "Round trip", LinkError::NotAllowed("publish on this topic"))]
#[case("3.1.1", "reader", "Round trip", LinkError::NotBack("site/test".into()))]
#[case("5", "all", "", LinkError::Closed)]
#[case("5", "stranger", "Login", LinkError::NotAllowed("connect"))]
#[case("3.1.1", "stranger", "Login", LinkError::NotAllowed("connect"))]
#[tokio::test]
async fn what_an_account_may_not_is_told(
    #[case] version: &str,
    #[case] user: &str,
    #[case] fails: &str,
    #[case] error: LinkError,
) {
    let broker = closed();
    let mut settings = json!({"version": version, "test_topic": "site/test"});
    settings.as_object_mut().unwrap().extend(own(as_user(user)));
    let steps = test(&to(broker.address, settings)).await;
    let failed: Vec<_> = steps.iter().filter(|step| !step.passed).map(|step| (step.name.as_str(), step.answer.clone())).collect();
    let expected = if fails.is_empty() { Vec::new() } else { vec![(fails, error.to_string())] };
    assert_eq!(failed, expected);
    if user != "stranger" {
        assert_eq!(told(&steps, "Login").answer, "a new session", "nobody else is let in");
    }
}

#[rstest]
#[case("5")]
#[case("3.1.1")]
#[tokio::test]
async fn one_message_gives_several_tags_their_values_with_their_own_time(#[case] version: &str) {
    let broker = closed();
    let mut settings = as_user("reader");
    settings["version"] = version.into();
    let member = |member: &str| json!({"topic": METER, "member": member, "time": "/ts", "clock": "milliseconds"});
    let points = vec![at(1, member("/power")), at(2, member("/phase/1")), at(3, json!({"topic": "site/plain"}))];
    let mut running = run(to(broker.address, settings), points);
    running.state(LinkState::Running).await;
    assert_eq!(running.until(3, |_, _| true).await.1, Reason::NeverHeard);
    let other = Other::new(broker.address, &[]).await;
    let ts = now() / SECOND * 1000 - 5000;
    other.publish(METER, json!({"ts": ts, "power": 12.5, "phase": [1, true]}).to_string(), false).await;
    let mut seen = 0;
    while seen < 2 {
        let batch = timeout(LONG, running.batches.recv()).await.unwrap().unwrap();
        // One without a time of its own says that the value still holds.
        for sample in batch.samples.iter().filter(|s| s.flags & flag::OWN_TIME != 0) {
            assert_eq!((sample.time, sample.quality.reason()), (ts * 1_000_000, Reason::Fine));
            let expected = if sample.tag == 1 { Value::F64(12.5) } else { Value::Bool(true) };
            assert_eq!(batch.value_of(*sample), Some(expected));
            seen += 1;
        }
    }
    other.publish(METER, "{\"power\": 1", false).await;
    assert_eq!(running.until(1, |_, _| true).await, (None, Reason::DoesNotFit));
    other.publish("site/plain", "7", false).await;
    assert_eq!(running.value(3).await, Value::F64(7.0));
    running.end().await;
}

#[tokio::test]
async fn what_the_broker_kept_says_so_until_the_next_message() {
    let broker = closed();
    let other = Other::new(broker.address, &[]).await;
    other.publish("site/kept", "4", true).await;
    other.publish("site/other", "1", true).await;
    let mut running = run(to(broker.address, as_user("all")), vec![at(1, json!({"topic": "site/kept", "silent_s": 1}))]);
    assert_eq!(running.until(1, |value, _| value.is_some()).await, (Some(Value::F64(4.0)), Reason::Retained));
    assert_eq!(running.until(1, |_, _| true).await, (None, Reason::SilentTooLong));
    other.publish("site/kept", "5", true).await;
    assert_eq!(running.value(1).await, Value::F64(5.0));
    // A tag that is added hears what was kept before it came.
    let connection = to(broker.address, as_user("all"));
    let points = vec![at(1, json!({"topic": "site/kept"})), at(2, json!({"topic": "site/other"}))];
    running.plan.send_replace(Arc::new(LinkPlan { connection, points, orders: Vec::new(), topics: Vec::new() }));
    assert_eq!(running.until(2, |value, _| value.is_some()).await, (Some(Value::F64(1.0)), Reason::Retained));
    running.end().await;
}

#[tokio::test]
async fn a_broker_that_goes_away_and_comes_back_is_told_and_heard_again() {
    let setup = Setup { open: true, ..Setup::default() };
    let broker = Broker::start(&setup).unwrap();
    let address = broker.address;
    let mut running = run(to(address, json!({})), vec![at(1, json!({"topic": "a"}))]);
    running.state(LinkState::Running).await;
    let other = Other::new(address, &["a"]).await;
    other.publish("a", "1", false).await;
    assert_eq!(running.value(1).await, Value::F64(1.0));
    drop((broker, other));
    assert_eq!(running.until(1, |_, reason| reason != Reason::Fine).await, (None, Reason::NotConnected));
    let broker = Broker::start_at(&setup, address).unwrap();
    assert_eq!(running.until(1, |_, reason| reason != Reason::NotConnected).await, (None, Reason::NotRetained));
    let other = Other::new(broker.address, &[]).await;
    other.publish("a", "2", false).await;
    assert_eq!(running.value(1).await, Value::F64(2.0));
    running.end().await;
}

#[rstest]
#[case("5", "all", Ok(Value::F64(8.5)))]
#[case("3.1.1", "all", Ok(Value::F64(8.5)))]
#[case("5", "reader", Err(LinkError::NotAllowed("publish on this topic")))]
#[tokio::test]
async fn a_value_is_written_as_a_message(#[case] version: &str, #[case] user: &str, #[case] expected: Result<Value, LinkError>) {
    let broker = closed();
    let mut other = Other::new(broker.address, &["boiler/set"]).await;
    let mut settings = as_user(user);
    settings["version"] = version.into();
    let point = json!({"topic": "site/boiler", "write_topic": "boiler/set", "write_message": "{\"pressure\": {value}}"});
    let mut running = run(to(broker.address, settings), vec![at(1, point), at(2, json!({"topic": "site/x"}))]);
    running.state(LinkState::Running).await;
    assert_eq!(running.write(1, Value::F64(8.5)).await, expected);
    if expected.is_ok() {
        assert_eq!(other.next().await, ("boiler/set".into(), "{\"pressure\": 8.5}".into()));
    }
    assert!(running.write(2, Value::F64(1.0)).await.unwrap_err().to_string().contains("Enter a topic to write to"));
    running.end().await;
}

/// Stops a process, or lets it go on.
fn signal(process: u32, signal: &str) {
    let status = std::process::Command::new("kill").args([signal, &process.to_string()]).status().unwrap();
    assert!(status.success());
}

#[tokio::test]
async fn a_confirmation_that_comes_late_is_not_taken_for_that_of_the_next_value() {
    let account = Account { user: "all", password: "secret", rights: &["readwrite a/#"] };
    let broker = Broker::start(&Setup { accounts: vec![account], ..Setup::default() }).unwrap();
    let mut connection = to(broker.address, as_user("all"));
    connection.timeout_ms = 2000;
    let point = |topic: &str| json!({"topic": topic, "write_topic": topic});
    let mut running = run(connection, vec![at(1, point("a/x")), at(2, point("b/x"))]);
    running.state(LinkState::Running).await;
    signal(broker.process(), "-STOP");
    assert_eq!(running.write(1, Value::F64(1.0)).await, Err(LinkError::Silent(2000)));
    let second = running.write(2, Value::F64(2.0));
    let go_on = async { signal(broker.process(), "-CONT") };
    assert_eq!(tokio::join!(second, go_on).0, Err(LinkError::NotAllowed("publish on this topic")));
    running.end().await;
}

#[rstest]
#[case("5")]
#[case("3.1.1")]
#[tokio::test]
async fn the_last_will_is_published_when_the_connection_breaks_and_not_when_it_ends(#[case] version: &str) {
    let broker = open();
    let mut other = Other::new(broker.address, &["will", "marker"]).await;
    let settings = json!({"version": version, "will": {"topic": "will", "message": "gone"}});
    let mut running = run(to(broker.address, settings.clone()), Vec::new());
    running.state(LinkState::Running).await;
    running.end().await;
    other.publish("marker", "1", false).await;
    assert_eq!(other.next().await.0, "marker");
    let mut running = run(to(broker.address, settings), Vec::new());
    running.state(LinkState::Running).await;
    running.abort();
    assert_eq!(other.next().await, ("will".into(), "gone".into()));
}

/// Looks until what is below a node is there.
async fn below(running: &Running, node: &str, wanted: usize) -> Vec<Node> {
    let look = async {
        loop {
            let nodes = running.below(node).await;
            if nodes.len() >= wanted {
                return nodes;
            }
            tokio::task::yield_now().await;
        }
    };
    timeout(LONG, look).await.expect("it is heard in time")
}

#[tokio::test]
async fn topics_appear_while_somebody_looks() {
    let broker = closed();
    let other = Other::new(broker.address, &[]).await;
    other.publish("site/kept", "on", true).await;
    other.publish("elsewhere/kept", "on", true).await;
    let mut running = run(to(broker.address, as_user("all")), Vec::new());
    running.state(LinkState::Running).await;
    let top = below(&running, "filter=site/#;", 1).await;
    assert_eq!(top.iter().map(|n| n.name.as_str()).collect::<Vec<_>>(), ["site"]);
    other.publish(METER, "{\"power\": 12.5}", false).await;
    let site = below(&running, &top[0].id, 2).await;
    assert_eq!(site.iter().map(|n| (n.name.as_str(), n.about.as_str())).collect::<Vec<_>>(), [("kept", "switch"), ("meter", "")]);
    assert!(site[0].description.starts_with("2 bytes, last ") && site[0].description.ends_with(", retained"), "{site:?}");
    let message = &below(&running, &below(&running, &site[1].id, 1).await[0].id, 1).await[0];
    let member = &below(&running, &message.id, 1).await[0];
    assert_eq!((member.name.as_str(), member.readings[0].text.as_str()), ("power", "12.5"));
    assert_eq!(member.point, Some(own(json!({"topic": METER, "member": "/power", "type": "f64"}))));
    assert_eq!(below(&running, "", 2).await.len(), 2, "without a filter, all of it");
    let refused = running.page("filter=site/#/x;", "", 10).await.unwrap_err();
    assert!(matches!(refused, LinkError::BadRequest(_)));
    running.end().await;
}

#[tokio::test]
async fn a_secured_broker_is_trusted_by_its_fingerprint_and_by_its_authority() {
    let made = rcgen::generate_simple_self_signed(["broker.site".to_owned()]).unwrap();
    let (certificate, key) = (made.cert.pem(), made.signing_key.serialize_pem());
    let broker = Broker::start(&Setup { open: true, tls: Some((certificate.clone(), key)), ..Setup::default() }).unwrap();
    let secured = broker.secured.unwrap();
    let steps = test(&to(secured, json!({"transport": "tls"}))).await;
    let refused = told(&steps, "Security");
    assert!(!refused.passed && refused.answer.contains("no trusted authority has signed it"), "{refused:?}");
    let fingerprint = &refused.offers[0].value;
    for tls in
        [json!({"tls": {"fingerprint": fingerprint}}), json!({"tls": {"trust": certificate}, "server_name": "broker.site"})]
    {
        for version in ["5", "3.1.1"] {
            let mut settings = json!({"transport": "tls", "version": version, "test_topic": "t"});
            settings.as_object_mut().unwrap().extend(own(tls.clone()));
            let steps = test(&to(secured, settings.clone())).await;
            assert!(steps.iter().all(|step| step.passed) && steps.len() == 6, "{steps:?}");
        }
    }
    let wrong = json!({"transport": "tls", "tls": {"trust": certificate}});
    let mut running = run(to(secured, wrong), vec![at(1, json!({"topic": "a"}))]);
    let health = running.state(LinkState::Trouble).await;
    assert!(health.message.contains("it was issued for another name or address"), "{}", health.message);
    running.end().await;
    let steps = test(&to(broker.address, json!({"transport": "tls", "tls": {"trust": certificate}}))).await;
    assert!(!told(&steps, "Security").passed, "a port in clear");
}

#[tokio::test]
async fn messages_come_over_a_web_socket() {
    let broker = Broker::start(&Setup { open: true, websocket: true, ..Setup::default() }).unwrap();
    let other = Other::new(broker.address, &[]).await;
    for version in ["5", "3.1.1"] {
        let settings = json!({"transport": "websocket", "version": version});
        let mut running = run(to(broker.websocket.unwrap(), settings), vec![at(1, json!({"topic": "a"}))]);
        assert_eq!(running.until(1, |_, _| true).await.1, Reason::NeverHeard);
        other.publish("a", "3", false).await;
        assert_eq!(running.value(1).await, Value::F64(3.0));
        running.end().await;
    }
}

#[tokio::test]
async fn a_session_that_is_kept_brings_what_came_meanwhile() {
    let broker = open();
    let settings = json!({"clean": false, "client_id": "havrel-1"});
    let points = vec![at(1, json!({"topic": "a"}))];
    let mut running = run(to(broker.address, settings.clone()), points.clone());
    assert_eq!(running.until(1, |_, _| true).await.1, Reason::NeverHeard);
    running.end().await;
    let other = Other::new(broker.address, &["a"]).await;
    other.publish("a", "5", false).await;
    let mut running = run(to(broker.address, settings.clone()), points);
    assert_eq!(running.value(1).await, Value::F64(5.0));
    // Another client with the same id ends the session.
    let mut second = run(to(broker.address, settings), Vec::new());
    second.state(LinkState::Running).await;
    let health = running.state(LinkState::Trouble).await;
    // This broker does not say why.
    assert_eq!((health.message, health.cure.contains("same client id")), (LinkError::Ended.to_string(), true));
    running.end().await;
    second.end().await;
}

#[rstest]
#[case("5")]
#[case("3.1.1")]
#[tokio::test]
async fn a_message_that_is_too_large_harms_no_other(#[case] version: &str) {
    let broker = open();
    let settings = json!({"version": version, "largest": 2000});
    let points = vec![at(1, json!({"topic": "a"})), at(2, json!({"topic": "b"}))];
    let mut running = run(to(broker.address, settings), points);
    assert_eq!(running.until(2, |_, _| true).await.1, Reason::NeverHeard);
    let other = Other::new(broker.address, &[]).await;
    other.publish("a", vec![b'1'; 5000], false).await;
    if version == "3.1.1" {
        assert_eq!(running.until(1, |_, reason| reason != Reason::NeverHeard).await, (None, Reason::DoesNotFit));
        // What is not even read to its end ends the session, which begins anew.
        other.publish("a", vec![b'1'; 17 << 20], false).await;
        let health = running.state(LinkState::Trouble).await;
        assert_eq!(health.message, LinkError::TooLarge(2000).to_string());
        running.state(LinkState::Running).await;
        assert_eq!(running.until(2, |_, reason| reason != Reason::NotConnected).await.1, Reason::NeverHeard);
    }
    other.publish("b", "6", false).await;
    assert_eq!(running.value(2).await, Value::F64(6.0));
    running.end().await;
}

#[tokio::test]
async fn another_program_on_the_port_is_told() {
    let silent = listen(|stream| async move {
        let _held = stream;
        std::future::pending::<()>().await;
    });
    let port = silent.await;
    let steps = test(&to(SocketAddr::from(([127, 0, 0, 1], port)), json!({}))).await;
    assert_eq!(told(&steps, "Login").answer, LinkError::Silent(2000).to_string());
    let closing = listen(|stream| async move { drop(stream) }).await;
    let steps = test(&to(SocketAddr::from(([127, 0, 0, 1], closing)), json!({}))).await;
    assert!(!told(&steps, "Login").passed);
}

#[rstest]
#[case("5")]
#[case("3.1.1")]
#[tokio::test]
async fn what_arrives_is_announced_and_its_tags_begin_with_the_message_that_came(#[case] version: &str) {
    let broker = open();
    let mapping = json!({"id": uuid::Uuid::from_u128(5), "topics": "site/meter/+/json", "place": "Meters/{3}",
        "tags": [{"name": "Power", "point": {"member": "/power"}}]});
    let mut connection = to(broker.address, json!({"version": version}));
    connection.mappings = vec![serde_json::from_value(mapping).unwrap()];
    let other = Other::new(broker.address, &[]).await;
    other.publish("site/meter/M1/json", r#"{"power": 3}"#, true).await;
    let mut running = run(connection.clone(), Vec::new());
    let (_, first) = timeout(LONG, running.arrivals.recv()).await.unwrap().unwrap();
    assert_eq!((first.key.as_str(), first.tags[0].place.as_str()), ("site/meter/M1/json", "Meters/M1"));
    other.publish("site/meter/M2/json", r#"{"power": 4}"#, false).await;
    let (_, second) = timeout(LONG, running.arrivals.recv()).await.unwrap().unwrap();
    assert_eq!(second.tags[0].point["topic"], "site/meter/M2/json");
    // Tags of what was heard already have their values without another message.
    let points = [(1, &first), (2, &second)].map(|(no, arrival)| at(no, Json::Object(arrival.tags[0].point.clone())));
    running.plan.send_replace(Arc::new(LinkPlan { connection, points: points.to_vec(), orders: Vec::new(), topics: Vec::new() }));
    assert_eq!(running.value(2).await, Value::F64(4.0));
    other.publish("site/meter/M1/json", r#"{"power": 5}"#, false).await;
    while running.value(1).await != Value::F64(5.0) {}
    other.publish("elsewhere", "1", false).await;
    other.publish("site/meter/M1/json", r#"{"power": 6}"#, false).await;
    // One message gives one sample: the topic is heard through the mapping alone.
    let batch = timeout(LONG, running.batches.recv()).await.unwrap().unwrap();
    let heard: Vec<_> = batch.samples.iter().filter(|s| s.tag == 1).filter_map(|s| batch.value_of(*s)).collect();
    assert_eq!(heard, [Value::F64(6.0)]);
    assert!(running.arrivals.try_recv().is_err(), "each topic is announced once");
    running.end().await;
}

#[tokio::test]
async fn a_mapping_is_tried_on_what_can_be_heard() {
    let broker = open();
    let other = Other::new(broker.address, &[]).await;
    other.publish("site/meter/M1/json", r#"{"power": 3}"#, true).await;
    other.publish("site/meter/M2/json", "half", true).await;
    let running = run(to(broker.address, json!({})), Vec::new());
    let tried = |place: &str| {
        let mapping = json!({"id": uuid::Uuid::nil(), "topics": "site/#", "place": place,
            "tags": [{"name": "Power", "point": {"member": "/power"}}]});
        let (reply, answer) = tokio::sync::oneshot::channel();
        let command = Command::TryMapping { mapping: serde_json::from_value(mapping).unwrap(), reply };
        let commands = running.commands.clone();
        async move {
            commands.send(command).await.unwrap();
            timeout(LONG, answer).await.unwrap().unwrap()
        }
    };
    let mut told = Vec::new();
    while told.len() < 2 {
        told = tried("Meters/{3}").await.unwrap_or_default();
    }
    let told: Vec<_> = told.iter().map(|a| (a.key.as_str(), a.tags.len(), a.refused.is_empty())).collect();
    assert_eq!(told, [("site/meter/M1/json", 1, true), ("site/meter/M2/json", 0, false)]);
    let LinkError::BadRequest(words) = tried("{x}").await.unwrap_err() else { panic!() };
    assert_eq!(words, "Braces hold the number of a level, such as {3}.");
    running.end().await;
}

#[tokio::test]
async fn a_retained_message_that_cannot_be_read_costs_its_own_topic_only() {
    let broker = open();
    let other = Other::new(broker.address, &[]).await;
    other.publish("site/big", vec![b'1'; 17 << 20], true).await;
    other.publish("site/small", "7", true).await;
    let topic = |tag, topic: &str| at(tag, json!({"topic": topic, "format": "number"}));
    let points = vec![topic(1, "site/small"), topic(2, "site/big"), topic(3, "site/other")];
    let mut running = run(to(broker.address, json!({"version": "3.1.1"})), points);
    running.until(2, |_, reason| reason == Reason::DoesNotFit).await;
    let told = |words: &String| words.starts_with("The broker retains a message on site/big that is too large to be read");
    timeout(LONG, running.health.wait_for(|health| health.learnt.iter().any(told))).await.unwrap().unwrap();
    other.publish("site/small", "8", false).await;
    running.until(1, |value, reason| *value == Some(Value::F64(8.0)) && reason == Reason::Fine).await;
}
