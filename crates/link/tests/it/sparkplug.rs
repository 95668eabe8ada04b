//! A host application of Sparkplug B on Debian's broker, with an edge node that a test plays.

use crate::device::*;
use havrel_core::{plant::Connection, quality::Reason, sample::Value};
use havrel_link::{
    Command, LinkError, LinkPlan, LinkState,
    announced::{Announced, State},
};
use havrel_sparkplug::{
    payload::{Metric, MetricValue, Payload},
    topic::{Name, What, state},
};
use havrel_standin::utilities::broker::{Broker, Setup};
use prost::Message as _;
use rumqttc::{AsyncClient, Event, LastWill, MqttOptions, Packet, QoS};
use serde_json::{Value as Json, json};
use std::{net::SocketAddr, sync::Arc};
use tokio::{
    sync::{mpsc, oneshot},
    task::JoinSet,
    time::timeout,
};

fn open() -> Broker {
    Broker::start(&Setup { open: true, ..Setup::default() }).unwrap()
}

fn to(at: SocketAddr, more: Json) -> Connection {
    let mut settings = json!({"host": at.ip().to_string(), "port": at.port(), "reorder_ms": 100});
    settings.as_object_mut().unwrap().extend(own(more));
    let set = json!({"name": "c", "kind": "sparkplug", "timeout_ms": 2000, "writing": true, "settings": settings});
    serde_json::from_value(set).unwrap()
}

fn number(name: &str, value: f64) -> Metric {
    let ms = havrel_link::now() / 1_000_000;
    Metric {
        name: Some(name.into()),
        timestamp: Some(ms as u64),
        datatype: Some(10),
        value: Some(MetricValue::Double(value)),
        ..Metric::default()
    }
}

fn bytes(seq: Option<u64>, metrics: Vec<Metric>) -> Vec<u8> {
    let ms = havrel_link::now() / 1_000_000;
    Payload { timestamp: Some(ms as u64), seq, metrics, ..Payload::default() }.encode_to_vec()
}

fn pump() -> Name {
    Name::new("Works", "ES-1", "Pump")
}

/// An edge node as a test plays it.
struct Edge {
    client: AsyncClient,
    heard: mpsc::Receiver<(String, Vec<u8>)>,
    task: JoinSet<()>,
}

impl Edge {
    /// One that hears commands and how the host stands.
    async fn new(at: SocketAddr) -> Edge {
        let mut options = MqttOptions::new(uuid::Uuid::new_v4().to_string(), at.ip().to_string(), at.port());
        let death = pump().of_node().tells(What::Death);
        options.set_last_will(LastWill::new(death, bytes(None, vec![]), QoS::AtLeastOnce, false));
        let (client, mut polled) = AsyncClient::new(options, 100);
        let (tell, heard) = mpsc::channel(1000);
        let mut task = JoinSet::new();
        task.spawn(async move {
            while let Ok(event) = polled.poll().await {
                if let Event::Incoming(Packet::Publish(came)) = event {
                    tell.send((came.topic, came.payload.to_vec())).await.unwrap();
                }
            }
        });
        for topic in ["spBv1.0/STATE/#", "spBv1.0/Works/NCMD/#", "spBv1.0/Works/DCMD/#"] {
            client.subscribe(topic, QoS::AtLeastOnce).await.unwrap();
        }
        Edge { client, heard, task }
    }

    async fn say(&self, topic: String, message: Vec<u8>, retain: bool) {
        self.client.publish(topic, QoS::AtLeastOnce, retain, message).await.unwrap();
    }

    async fn born(&self) {
        self.say(pump().of_node().tells(What::Birth), bytes(Some(0), vec![number("Level", 5.0)]), false).await;
        self.say(pump().tells(What::Birth), bytes(Some(1), vec![number("Speed", 100.0)]), false).await;
    }

    /// The next message on a topic.
    async fn next(&mut self, topic: &str) -> Vec<u8> {
        let search = async {
            loop {
                let (on, message) = self.heard.recv().await.unwrap();
                if on == topic {
                    return message;
                }
            }
        };
        timeout(LONG, search).await.unwrap_or_else(|_| panic!("nothing on {topic}"))
    }
}

async fn announced(running: &Running) -> Vec<Announced> {
    let (reply, answer) = oneshot::channel();
    running.commands.send(Command::Announced { reply }).await.unwrap();
    timeout(LONG, answer).await.unwrap().unwrap().unwrap()
}

fn speed() -> Json {
    json!({"group": "Works", "node": "ES-1", "device": "Pump", "metric": "Speed"})
}

#[tokio::test]
async fn an_edge_node_is_asked_for_its_birth_and_lives_and_dies() {
    let broker = open();
    let mut edge = Edge::new(broker.address).await;
    let mut running = run(to(broker.address, json!({})), vec![at(1, speed())]);
    running.state(LinkState::Running).await;
    let asked = Payload::read(&edge.next("spBv1.0/Works/NCMD/ES-1").await).unwrap();
    let told = (asked.metrics[0].label(), asked.metrics[0].read(None), asked.seq);
    assert_eq!(told, ("Node Control/Rebirth".into(), Ok(Value::Bool(true)), None));
    edge.born().await;
    assert_eq!(running.value(1).await, Value::F64(100.0));
    edge.say(pump().tells(What::Data), bytes(Some(2), vec![number("Speed", 120.0)]), false).await;
    assert_eq!(running.value(1).await, Value::F64(120.0));
    let all = announced(&running).await;
    let told: Vec<_> = all.iter().map(|one| (one.device.as_str(), one.state, one.metrics, one.taken, one.births)).collect();
    assert_eq!(told, [("", State::Online, 1, 0, 1), ("Pump", State::Online, 1, 1, 1)]);
    // A lost message is noticed, and the birth is asked for anew.
    edge.say(pump().tells(What::Data), bytes(Some(4), vec![number("Speed", 140.0)]), false).await;
    assert_eq!(running.value(1).await, Value::F64(140.0));
    let again = edge.next("spBv1.0/Works/NCMD/ES-1");
    again.await;
    assert_eq!(announced(&running).await[0].missing, 1);
    // With other groups nothing of it is known any more, and it is born again with the first ones.
    let with = |groups: &str| {
        let plan = running.plan.borrow().clone();
        let connection = to(broker.address, json!({"groups": groups}));
        Arc::new(LinkPlan { connection, ..(*plan).clone() })
    };
    running.plan.send_replace(with("Elsewhere"));
    edge.next("spBv1.0/Works/NCMD/ES-1").await;
    assert_eq!(
        announced(&running).await.iter().map(|one| (one.device.as_str(), one.births)).collect::<Vec<_>>(),
        [("", 0), ("Pump", 0)]
    );
    running.plan.send_replace(with("Works"));
    edge.next("spBv1.0/Works/NCMD/ES-1").await;
    edge.born().await;
    running.until(1, |value, reason| *value == Some(Value::F64(100.0)) && reason == Reason::Fine).await;
    // Its cable is cut: the broker tells so.
    edge.task.shutdown().await;
    assert_eq!(running.until(1, |_, reason| reason != Reason::Fine).await, (None, Reason::NodeOffline));
}

#[tokio::test]
async fn a_host_says_that_it_is_there_and_when_it_goes() {
    let broker = open();
    let topic = state("havrel");
    let mut edge = Edge::new(broker.address).await;
    let read = |message: Vec<u8>| {
        let told: Json = serde_json::from_slice(&message).unwrap();
        assert!(told["timestamp"].is_i64(), "{told}");
        told["online"].as_bool().unwrap()
    };
    let running = run(to(broker.address, json!({"client_id": "host"})), vec![]);
    assert!(read(edge.next(&topic).await));
    // Another client takes the session: the broker publishes the last will, and the host comes back.
    let mut options = MqttOptions::new("host", broker.address.ip().to_string(), broker.address.port());
    options.set_credentials("x", "y");
    let (_client, mut polled) = AsyncClient::new(options, 10);
    polled.poll().await.unwrap();
    assert!(!read(edge.next(&topic).await));
    drop(polled);
    assert!(read(edge.next(&topic).await));
    // Somebody tells that it is gone although it is there.
    edge.say(topic.clone(), json!({"online": false, "timestamp": 5}).to_string().into_bytes(), true).await;
    assert!(!read(edge.next(&topic).await) && read(edge.next(&topic).await));
    drop(running);
    assert!(!read(edge.next(&topic).await));
}

#[tokio::test]
async fn a_value_that_is_written_counts_once_the_device_tells_it() {
    let broker = open();
    let mut edge = Edge::new(broker.address).await;
    let mut running = run(to(broker.address, json!({})), vec![at(1, speed())]);
    edge.next("spBv1.0/Works/NCMD/ES-1").await;
    assert!(running.write(1, Value::F64(7.0)).await.is_err_and(|error| error.to_string().contains("not online")));
    edge.born().await;
    running.value(1).await;
    let running = Arc::new(running);
    let write = |value: f64| {
        let running = running.clone();
        tokio::spawn(async move { running.write(1, Value::F64(value)).await })
    };
    let written = write(7.5);
    let command = Payload::read(&edge.next("spBv1.0/Works/DCMD/ES-1/Pump").await).unwrap();
    assert_eq!((command.metrics[0].label().as_str(), command.metrics[0].read(None)), ("Speed", Ok(Value::F64(7.5))));
    // A value that was under way is no answer.
    edge.say(pump().tells(What::Data), bytes(Some(2), vec![number("Speed", 100.0)]), false).await;
    edge.say(pump().tells(What::Data), bytes(Some(3), vec![number("Speed", 7.5)]), false).await;
    assert_eq!(written.await.unwrap(), Ok(Value::F64(7.5)));
    let written = write(900.0);
    edge.next("spBv1.0/Works/DCMD/ES-1/Pump").await;
    edge.say(pump().tells(What::Data), bytes(Some(4), vec![number("Speed", 60.0)]), false).await;
    assert_eq!(written.await.unwrap(), Err(LinkError::ReadBack("60.0".into())));
    assert_eq!(write(8.0).await.unwrap(), Err(LinkError::NotTold));
    assert!(write(f64::NAN).await.unwrap().is_err());
}

#[tokio::test]
async fn what_is_retained_or_no_payload_is_left_out_and_the_test_names_who_is_heard() {
    let broker = open();
    let mut edge = Edge::new(broker.address).await;
    edge.say(pump().of_node().tells(What::Birth), bytes(Some(0), vec![number("Level", 1.0)]), true).await;
    // The broker retains it once it passes on what came afterwards.
    edge.say("spBv1.0/Works/NCMD/Nobody".into(), Vec::new(), false).await;
    edge.next("spBv1.0/Works/NCMD/Nobody").await;
    let mut running = run(to(broker.address, json!({})), vec![]);
    running.state(LinkState::Running).await;
    edge.say(pump().tells(What::Data), b"{\"no\": \"payload\"}".to_vec(), false).await;
    running.health.wait_for(|health| health.learnt.iter().any(|words| words.contains("none of Sparkplug B"))).await.unwrap();
    assert_eq!(announced(&running).await, []);
    let steps = test(&to(broker.address, json!({"groups": "Works"}))).await;
    let names = names(&steps);
    assert_eq!(names[..3], [("Name", true), ("Port", true), ("Login", true)]);
    assert_eq!(names[3..], [("Subscription", true), ("Subscription", true), ("Edge nodes", true)]);
    assert_eq!(steps.last().unwrap().answer, "Works/ES-1");
}
