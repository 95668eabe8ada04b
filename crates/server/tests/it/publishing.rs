//! What changes leaves through a broker, waits on disk while it is away, and is told.

use crate::plant::*;
use havrel_core::sample::Value;
use havrel_db::Db;
use havrel_live::Live;
use havrel_standin::utilities::broker::{Broker, Setup};
use rumqttc::{AsyncClient, Event, MqttOptions, Packet, QoS};
use serde_json::{Value as Json, json};
use std::{net::SocketAddr, time::Duration};
use tokio::{sync::mpsc, task::JoinSet, time::timeout};
use uuid::Uuid;

/// An independent client that hears all.
struct Ears {
    client: AsyncClient,
    heard: mpsc::UnboundedReceiver<(String, Json)>,
    _task: JoinSet<()>,
}

impl Ears {
    async fn at(address: SocketAddr) -> Ears {
        let options = MqttOptions::new("ears", address.ip().to_string(), address.port());
        let (client, mut polled) = AsyncClient::new(options, 10);
        let (to, heard) = mpsc::unbounded_channel();
        client.subscribe("works/#", QoS::AtLeastOnce).await.unwrap();
        let (ready, is_ready) = tokio::sync::oneshot::channel();
        let mut ready = Some(ready);
        let mut task = JoinSet::new();
        task.spawn(async move {
            while let Ok(event) = polled.poll().await {
                match event {
                    Event::Incoming(Packet::SubAck(_)) => drop(ready.take().map(|r| r.send(()))),
                    Event::Incoming(Packet::Publish(came)) => {
                        let text = String::from_utf8(came.payload.to_vec()).unwrap();
                        let payload = serde_json::from_str(&text).unwrap_or(Json::String(text));
                        drop(to.send((came.topic, payload)));
                    }
                    _ => {}
                }
            }
        });
        is_ready.await.unwrap();
        Ears { client, heard, _task: task }
    }

    async fn next(&mut self) -> (String, Json) {
        timeout(Duration::from_secs(60), self.heard.recv()).await.expect("a message comes").unwrap()
    }
}

/// A broker's connection, a memory tag “Order” in a place “Out”, and a publication of what lies there.
struct Made {
    connection: Uuid,
    place: Uuid,
    tag: Uuid,
    publication: Uuid,
}

async fn make(engineer: &Client, port: u16, publication: Json) -> Made {
    let made = Made { connection: Uuid::now_v7(), place: Uuid::now_v7(), tag: Uuid::now_v7(), publication: Uuid::now_v7() };
    let memory = Uuid::now_v7();
    let mut set = json!({"name": "Orders", "connection": made.connection, "places": [made.place], "topic": "works/{path}", "plain": true,
        "payload": "{\"v\": \"{value}\", \"q\": \"{quality}\"}"});
    set.as_object_mut().unwrap().extend(publication.as_object().unwrap().clone());
    let edits = json!([
        {"op": "create", "kind": "place", "id": made.place, "set": {"name": "Out"}},
        {"op": "create", "kind": "connection", "id": memory, "set": {"name": "Store", "kind": "memory"}},
        {"op": "create", "kind": "connection", "id": made.connection, "set":
            {"name": "Site broker", "kind": "mqtt", "timeout_ms": 500, "settings": {"host": "127.0.0.1", "port": port}}},
        {"op": "create", "kind": "tag", "id": made.tag, "set": {"name": "Order no", "place": made.place, "connection": memory,
            "point": {"type": "number"}, "writable": true}},
        {"op": "create", "kind": "publication", "id": made.publication, "set": set},
    ]);
    let (status, body) = engineer.edit(0, "Made a publication", edits).await;
    assert_eq!(status, 200, "{body}");
    made
}

async fn write(engineer: &Client, tag: Uuid, value: f64) {
    let (status, body) = engineer.post(&format!("/api/tags/{tag}/write"), json!({"value": value})).await;
    assert_eq!(status, 200, "{body}");
}

/// An address of loopback that nobody uses at present.
fn free() -> SocketAddr {
    std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap()
}

fn open_at(address: SocketAddr) -> Broker {
    Broker::start_at(&Setup { open: true, ..Setup::default() }, address).unwrap()
}

#[actix_web::test]
async fn what_changes_leaves_and_a_message_by_hand_too() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let broker = Broker::start(&Setup { open: true, ..Setup::default() }).unwrap();
    let mut ears = Ears::at(broker.address).await;
    let made = make(&engineer, broker.address.port(), json!({})).await;
    write(&engineer, made.tag, 7.0).await;
    let (topic, payload) = ears.next().await;
    assert_eq!((topic.as_str(), payload), ("works/out/order-no", json!({"v": 7.0, "q": "good"})));
    let at = format!("/api/connections/{}/publishing", made.connection);
    let state = engineer.until(&at, |state| state["publications"][0]["sent"] == 1).await;
    assert_eq!((&state["waiting"], &state["publications"][0]["topics"]), (&json!(0), &json!(1)));
    // A change of the publication counts without a restart, and is shown before it is saved.
    let set = json!({"name": "Orders", "connection": made.connection, "tags": [made.tag], "topic": "works/{name}",
        "payload": "{value} {unit}", "format": "text"});
    let (status, tried) = engineer.post(&format!("{at}/try"), json!({"publication": set})).await;
    assert_eq!(
        (status, &tried["next"][0]["topic"], &tried["next"][0]["payload"]),
        (200, &json!("works/Order no"), &json!("7.0 "))
    );
    let lines = json!({"name": "x", "connection": made.connection, "tags": [made.tag], "topic": "a", "payload": "{\n  \"v\": \"{value}\"\n}"});
    let (status, tried) = engineer.post(&format!("{at}/try"), json!({"publication": lines})).await;
    assert_eq!((status, &tried["next"][0]["payload"]), (200, &json!("{\"v\":7.0}")), "{tried}");
    let (status, refused) = engineer.post(&format!("{at}/try"), json!({"publication": {"name": "x", "connection": made.connection, "tags": [made.tag], "topic": "a/#", "payload": "1"}})).await;
    assert_eq!((status, &refused["problems"][0]["field"]), (422, &json!("topic")), "{refused}");
    let edit = json!([{"op": "patch", "kind": "publication", "id": made.publication, "set": {"topic": "works/{name}"}}]);
    assert_eq!(engineer.edit(1, "Another topic", edit).await.0, 200);
    assert_eq!(ears.next().await.0, "works/order-no", "the value goes to its new topic at once");
    // By hand, with a line in the journal.
    let message = json!({"topic": "works/test", "payload": "\"hello\"", "qos": 1});
    assert_eq!(engineer.post(&format!("{at}/message"), message).await.0, 204);
    assert_eq!(ears.next().await, ("works/test".into(), json!("hello")));
    let wrong = engineer.post(&format!("{at}/message"), json!({"topic": "works/+", "payload": ""})).await;
    assert_eq!(wrong.0, 422);
    engineer.until("/api/journal", |journal| journal.to_string().contains("Published on works/test through Site broker")).await;
    // A place that is published from is not deleted without a word.
    let (status, body) = engineer.edit(2, "x", json!([{"op": "delete", "kind": "place", "id": made.place}])).await;
    assert!(status == 409 || status == 422, "{status} {body}");
    plant.stop().await;
}

#[actix_web::test]
async fn while_the_broker_is_away_messages_wait_in_order_or_only_the_newest_counts() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let address = free();
    let made = make(&engineer, address.port(), json!({})).await;
    let newest = json!([{"op": "create", "kind": "publication", "id": Uuid::now_v7(), "set": {"name": "Newest", "connection": made.connection,
        "tags": [made.tag], "topic": "works/newest", "payload": "{value}", "format": "text", "keep": false}}]);
    assert_eq!(engineer.edit(1, "Another one", newest).await.0, 200);
    let at = format!("/api/connections/{}/publishing", made.connection);
    for value in 1..=5 {
        write(&engineer, made.tag, f64::from(value)).await;
        engineer.until(&at, |state| state["waiting"] == value).await;
    }
    let (_, state) = engineer.get(&at).await;
    assert!(state["oldest"].is_string(), "{state}");
    let _broker = open_at(address);
    let mut ears = Ears::at(address).await;
    let mut values = Vec::new();
    let mut latest = Vec::new();
    while values.len() < 5 || latest.is_empty() {
        let (topic, payload) = ears.next().await;
        if topic == "works/newest" { latest.push(payload) } else { values.push(payload["v"].clone()) }
    }
    assert_eq!((json!(values), json!(latest)), (json!([1.0, 2.0, 3.0, 4.0, 5.0]), json!([5.0])));
    let state = engineer.until(&at, |state| state["waiting"] == 0).await;
    assert_eq!(state["lost"], 0);
    plant.stop().await;
}

#[actix_web::test]
async fn what_waits_is_there_after_a_restart() {
    let name = fresh_name();
    SHARED.cluster.ensure(&name, None).await.unwrap();
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    let plant = Plant::on(db.clone()).await;
    let engineer = plant.engineer().await;
    let address = free();
    let made = make(&engineer, address.port(), json!({})).await;
    let at = format!("/api/connections/{}/publishing", made.connection);
    for value in 1..=3 {
        write(&engineer, made.tag, f64::from(value)).await;
        engineer.until(&at, |state| state["waiting"] == value).await;
    }
    plant.live.stop().await;
    let _broker = open_at(address);
    let mut ears = Ears::at(address).await;
    let live = Live::start(db, plant.spool.path()).await.unwrap();
    for value in 1..=3 {
        assert_eq!(ears.next().await.1["v"], f64::from(value));
    }
    live.write(made.tag, Value::F64(9.0)).await.unwrap();
    assert_eq!(ears.next().await.1["v"], 9.0, "nothing comes twice");
    live.stop().await;
    plant.stop().await;
}

#[actix_web::test]
async fn others_write_only_what_was_allowed_with_the_checks_of_a_write_by_hand() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let broker = Broker::start(&Setup { open: true, ..Setup::default() }).unwrap();
    let ears = Ears::at(broker.address).await;
    let say = |topic: &'static str, payload: &'static str, retain: bool| {
        let client = ears.client.clone();
        async move { client.publish(topic, QoS::AtLeastOnce, retain, payload).await.unwrap() }
    };
    say("works/out/order-no/set", "{\"v\": 66}", true).await;
    let made = make(&engineer, broker.address.port(), json!({})).await;
    let no = plant.live.plant().tags[&made.tag].no;
    let at = format!("/api/connections/{}/publishing", made.connection);
    // Off until it is allowed for this tag.
    let same = json!([{"op": "patch", "kind": "publication", "id": made.publication, "set": {"write_tags": [made.tag], "write_topic": "works/{path}"}}]);
    let (status, body) = engineer.edit(1, "The same topic", same).await;
    assert_eq!((status, &body["problems"][0]["field"]), (422, &json!("write_topic")), "{body}");
    let allow = json!([
        {"op": "patch", "kind": "tag", "id": made.tag, "set": {"write_high": 100.0}},
        {"op": "patch", "kind": "publication", "id": made.publication, "set":
            {"write_tags": [made.tag], "write_topic": "works/{path}/set", "write_member": "/v"}}]);
    let (status, body) = engineer.edit(1, "Allowed", allow).await;
    assert_eq!(status, 200, "{body}");
    // What the broker retained is as old as nobody knows.
    let state = engineer.until(&at, |state| state["publications"][0]["write_refused"] == 1).await;
    assert!(state["publications"][0]["write_words"].as_str().unwrap().contains("retained"), "{state}");
    say("works/out/order-no/set", "{\"v\": 5}", false).await;
    engineer.until(&format!("/api/values?tags={no}"), |values| values[0]["value"] == 5.0).await;
    say("works/out/order-no/set", "{\"v\": 500}", false).await;
    let state = engineer.until(&at, |state| state["publications"][0]["write_refused"] == 2).await;
    assert_eq!(state["publications"][0]["written"], 1);
    assert!(state["publications"][0]["write_words"].as_str().unwrap().contains("at most 100"), "{state}");
    say("works/out/order-no/set", "{\"w\": 7}", false).await;
    engineer.until(&at, |state| state["publications"][0]["write_refused"] == 3).await;
    let journal = engineer.until("/api/journal", |journal| journal.to_string().contains("Wrote 5")).await.to_string();
    assert!(journal.contains("Asked to write 5") && !journal.contains("500"), "{journal}");
    // Paused, nothing is written any more.
    let pause = json!([{"op": "patch", "kind": "publication", "id": made.publication, "set": {"enabled": false}}]);
    assert_eq!(engineer.edit(2, "Paused", pause).await.0, 200);
    say("works/out/order-no/set", "{\"v\": 9}", false).await;
    engineer
        .edit(3, "Resumed", json!([{"op": "patch", "kind": "publication", "id": made.publication, "set": {"enabled": true}}]))
        .await;
    engineer.until(&at, |state| state["publications"][0]["write_refused"].as_u64() >= Some(4)).await;
    say("works/out/order-no/set", "{\"v\": 11}", false).await;
    engineer.until(&format!("/api/values?tags={no}"), |values| values[0]["value"] == 11.0).await;
    // 9 was never written, or it would be the third.
    let state = engineer.until(&at, |state| state["publications"][0]["written"].as_u64() >= Some(2)).await;
    assert_eq!(state["publications"][0]["written"], 2, "{state}");
    plant.stop().await;
}

#[actix_web::test]
async fn a_disk_that_refuses_is_told_and_messages_leave_all_the_same() {
    let name = fresh_name();
    let plant = Plant::start_on(&name).await;
    let engineer = plant.engineer().await;
    let broker = Broker::start(&Setup { open: true, ..Setup::default() }).unwrap();
    let mut ears = Ears::at(broker.address).await;
    // A file stands where the folder of the queues would be.
    std::fs::write(plant.spool.path().join("outbox"), "").unwrap();
    let made = make(&engineer, broker.address.port(), json!({})).await;
    let at = format!("/api/connections/{}/publishing", made.connection);
    engineer.until(&at, |state| !state["trouble"].as_str().unwrap().is_empty()).await;
    write(&engineer, made.tag, 4.0).await;
    assert_eq!(ears.next().await.1["v"], 4.0);
    // Once the disk takes it again, it is used again.
    std::fs::remove_file(plant.spool.path().join("outbox")).unwrap();
    engineer.until(&at, |state| state["trouble"] == "").await;
    write(&engineer, made.tag, 5.0).await;
    assert_eq!(ears.next().await.1["v"], 5.0);
    assert!(plant.spool.path().join("outbox").join(made.connection.to_string()).is_dir());
    plant.stop().await;
}
