//! Havrel as an edge node of Sparkplug B on Debian's broker: a host application that a test plays hears it.

use crate::device::*;
use havrel_core::{plant::Connection, publish::Message};
use havrel_link::{LinkError, LinkPlan, LinkState, Outgoing, now};
use havrel_sparkplug::payload::{Metric, MetricValue, Payload};
use havrel_standin::utilities::broker::{Broker, Setup};
use prost::Message as _;
use rumqttc::{AsyncClient, Event, MqttOptions, Packet, QoS};
use serde_json::{Value as Json, json};
use std::{
    net::SocketAddr,
    sync::{Arc, Mutex},
};
use tokio::{
    sync::{Notify, mpsc},
    task::JoinSet,
    time::timeout,
};

fn to(at: SocketAddr, more: Json) -> Connection {
    let mut settings = json!({"host": at.ip().to_string(), "port": at.port(), "group": "Works", "node": "H"});
    settings.as_object_mut().unwrap().extend(own(more));
    let set = json!({"name": "c", "kind": "sparkplug_node", "timeout_ms": 2000, "settings": settings});
    serde_json::from_value(set).unwrap()
}

/// A queue in memory: what is not done comes again in the next session.
#[derive(Default)]
struct Queue {
    state: Mutex<(Vec<Message>, usize, usize)>,
    bell: Notify,
}

impl Queue {
    fn put(&self, topic: &str, value: Json, made: i64) {
        let payload = json!({"v": value, "t": made / 1_000_000, "q": "good", "u": "m"}).to_string().into_bytes();
        let message = Message { publication: Default::default(), made, topic: topic.into(), payload, qos: 0, retain: false };
        self.state.lock().unwrap().0.push(message);
        self.bell.notify_one();
    }

    fn done(&self) -> usize {
        self.state.lock().unwrap().2
    }
}

impl Outgoing for Queue {
    fn open(&self) {
        let mut state = self.state.lock().unwrap();
        state.1 = state.2;
    }

    fn closed(&self, _: bool) {}

    fn next(&self, most: usize) -> Vec<(u64, Message)> {
        let mut state = self.state.lock().unwrap();
        let from = state.1;
        state.1 = state.0.len().min(from + most);
        (from..state.1).map(|n| (n as u64, state.0[n].clone())).collect()
    }

    fn done(&self, number: u64, answer: Result<(), LinkError>) {
        answer.unwrap();
        let mut state = self.state.lock().unwrap();
        assert_eq!(state.2 as u64, number, "in their order");
        state.2 += 1;
    }

    fn bell(&self) -> &Notify {
        &self.bell
    }
}

/// A host application as a test plays it: topic, number, and what each metric tells.
struct Host {
    client: AsyncClient,
    heard: mpsc::Receiver<(String, Payload)>,
    _task: JoinSet<()>,
}

impl Host {
    async fn new(at: SocketAddr) -> Host {
        let options = MqttOptions::new(uuid::Uuid::new_v4().to_string(), at.ip().to_string(), at.port());
        let (client, mut polled) = AsyncClient::new(options, 100);
        let (tell, heard) = mpsc::channel(1000);
        let (ready, is_ready) = tokio::sync::oneshot::channel();
        let (mut task, mut ready) = (JoinSet::new(), Some(ready));
        task.spawn(async move {
            while let Ok(event) = polled.poll().await {
                match event {
                    Event::Incoming(Packet::Publish(came)) => {
                        tell.send((came.topic, Payload::read(&came.payload).unwrap())).await.unwrap();
                    }
                    Event::Incoming(Packet::SubAck(_)) => drop(ready.take().map(|ready| ready.send(()))),
                    _ => {}
                }
            }
        });
        client.subscribe("spBv1.0/Works/#", QoS::AtLeastOnce).await.unwrap();
        timeout(LONG, is_ready).await.unwrap().unwrap();
        Host { client, heard, _task: task }
    }

    async fn next(&mut self) -> (String, Option<u64>, Vec<String>) {
        let (topic, payload) = timeout(LONG, self.heard.recv()).await.unwrap().unwrap();
        let metric = |metric: &Metric| {
            let past = if metric.is_historical == Some(true) { " then" } else { "" };
            let value = metric.read(None).map_or_else(|_| "null".to_owned(), |value| value.text());
            format!("{}={value}{past}", metric.label())
        };
        let told = payload.metrics.iter().filter(|m| m.label() != "bdSeq" && !m.label().starts_with("Node Control"));
        (topic.replace("spBv1.0/Works/", ""), payload.seq, told.map(metric).collect())
    }

    async fn tell_state(&self, online: bool) {
        let message = json!({"online": online, "timestamp": now() / 1_000_000}).to_string();
        self.client.publish("spBv1.0/STATE/scada", QoS::AtLeastOnce, true, message).await.unwrap();
    }
}

fn told(topic: &str, seq: u64, metrics: &[&str]) -> (String, Option<u64>, Vec<String>) {
    (topic.to_owned(), Some(seq), metrics.iter().map(|&metric| metric.to_owned()).collect())
}

/// A connection that sends on these topics.
fn started(connection: Connection, queue: &Arc<Queue>) -> Running {
    let running = sending(connection.clone(), Vec::new(), queue.clone());
    let topics = vec!["Fan/Speed".to_owned(), "Tank/Level".to_owned()];
    running.plan.send_replace(Arc::new(LinkPlan { connection, points: Vec::new(), orders: Vec::new(), topics }));
    running
}

#[tokio::test]
async fn metrics_are_announced_told_and_announced_again_on_request() {
    let broker = Broker::start(&Setup { open: true, ..Setup::default() }).unwrap();
    let mut host = Host::new(broker.address).await;
    let queue = Arc::new(Queue::default());
    queue.put("Tank/Level", json!(1.5), now() - 60_000_000_000);
    queue.put("Tank/Level", json!(2.5), now() - 30_000_000_000);
    queue.put("Elsewhere", json!(1), now());
    let mut running = started(to(broker.address, json!({})), &queue);
    running.state(LinkState::Running).await;
    assert_eq!(host.next().await, told("NBIRTH/H", 0, &[]));
    assert_eq!(host.next().await, told("DBIRTH/H/Tank", 1, &["Level=2.5"]));
    assert_eq!(host.next().await, told("DDATA/H/Tank", 2, &["alias 1=1.5 then", "alias 1=2.5 then"]));
    assert_eq!(host.next().await, told("DDATA/H/Tank", 3, &["alias 1=2.5"]));
    queue.put("Tank/Level", json!(3.5), now());
    assert_eq!(host.next().await, told("DDATA/H/Tank", 4, &["alias 1=3.5"]));
    queue.put("Fan/Speed", json!(7), now());
    assert_eq!(host.next().await, told("DBIRTH/H/Fan", 5, &["Speed=7"]));
    assert_eq!(host.next().await, told("DDATA/H/Fan", 6, &["alias 2=7"]));
    let rebirth =
        Metric { name: Some("Node Control/Rebirth".into()), value: Some(MetricValue::Boolean(true)), ..Metric::default() };
    let ask = Payload { metrics: vec![rebirth], ..Payload::default() }.encode_to_vec();
    host.client.publish("spBv1.0/Works/NCMD/H", QoS::AtMostOnce, false, ask).await.unwrap();
    assert_eq!(host.next().await.0, "NCMD/H");
    assert_eq!(host.next().await, told("NBIRTH/H", 0, &[]));
    assert_eq!(host.next().await, told("DBIRTH/H/Fan", 1, &["Speed=7"]));
    assert_eq!(host.next().await, told("DBIRTH/H/Tank", 2, &["Level=3.5"]));
    // All of it is done once the broker has read it, and a broken session ends with the word of its death.
    running.health.wait_for(|_| queue.done() == 5).await.unwrap();
    running.abort();
    assert_eq!(host.next().await.0, "NDEATH/H");
}

#[tokio::test]
async fn while_the_primary_host_is_away_everything_waits() {
    let broker = Broker::start(&Setup { open: true, ..Setup::default() }).unwrap();
    let mut host = Host::new(broker.address).await;
    host.tell_state(false).await;
    let queue = Arc::new(Queue::default());
    queue.put("Tank/Level", json!(1.5), now());
    let connection = to(broker.address, json!({"primary_host": "scada"}));
    let mut running = started(connection.clone(), &queue);
    running.health.wait_for(|health| health.learnt.iter().any(|words| words.contains("scada is not there"))).await.unwrap();
    let steps = test(&connection).await;
    assert_eq!(names(&steps).last(), Some(&("Primary host", true)));
    assert!(steps.last().unwrap().answer.starts_with("it is not there"), "{steps:?}");
    host.tell_state(true).await;
    assert_eq!(host.next().await, told("NBIRTH/H", 0, &[]));
    assert_eq!(host.next().await, told("DBIRTH/H/Tank", 1, &["Level=1.5"]));
    let data = host.next().await;
    assert_eq!((data.0.as_str(), data.1), ("DDATA/H/Tank", Some(2)));
    // The last will of a session before does not count.
    let old = json!({"online": false, "timestamp": 5}).to_string();
    host.client.publish("spBv1.0/STATE/scada", QoS::AtLeastOnce, true, old).await.unwrap();
    queue.put("Tank/Level", json!(2.5), now());
    assert_eq!(host.next().await.0, "DDATA/H/Tank");
    host.tell_state(false).await;
    while host.next().await.0 != "NDEATH/H" {}
    queue.put("Tank/Level", json!(9.5), now());
    host.tell_state(true).await;
    assert_eq!(host.next().await, told("NBIRTH/H", 0, &[]));
    assert_eq!(host.next().await, told("DBIRTH/H/Tank", 1, &["Level=9.5"]));
}
