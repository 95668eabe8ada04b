//! Meters that are heard become tags by themselves, once, and in a revision that can be undone.

use crate::plant::*;
use havrel_standin::utilities::broker::{Broker, Setup};
use rumqttc::{AsyncClient, MqttOptions, QoS};
use serde_json::{Value as Json, json};
use tokio::task::JoinSet;
use uuid::Uuid;

/// A client that publishes what a meter tells.
struct Meters {
    client: AsyncClient,
    _task: JoinSet<()>,
}

impl Meters {
    fn at(broker: &Broker) -> Meters {
        let options = MqttOptions::new("meters", broker.address.ip().to_string(), broker.address.port());
        let (client, mut polled) = AsyncClient::new(options, 100);
        let mut task = JoinSet::new();
        task.spawn(async move { while polled.poll().await.is_ok() {} });
        Meters { client, _task: task }
    }

    async fn tell(&self, meter: &str, message: Json) {
        let topic = format!("site/meter/{meter}/json");
        self.client.publish(topic, QoS::AtLeastOnce, true, message.to_string()).await.unwrap();
    }
}

/// A connection to a broker that makes power and energy of each meter.
async fn connect(engineer: &Client, broker: &Broker) -> (Uuid, Uuid) {
    let [connection, mapping] = [(); 2].map(|()| Uuid::now_v7());
    let mapped = json!({"id": mapping, "topics": "site/meter/+/json", "place": "Works/Meters/{3}", "record": true, "tags": [
        {"name": "Power", "unit": "kW", "point": {"member": "/power"}}, {"name": "Energy", "unit": "kWh", "point": {"member": "/energy"}}]});
    let settings = json!({"host": "127.0.0.1", "port": broker.address.port()});
    let set = json!({"name": "Meters", "kind": "mqtt", "settings": settings, "mappings": [mapped]});
    let edits = json!([{"op": "create", "kind": "connection", "id": connection, "set": set}]);
    let (status, body) = engineer.edit(0, "Added the broker", edits).await;
    assert_eq!(status, 200, "{body}");
    (connection, mapping)
}

fn arrival(list: &Json, key: &str) -> Json {
    let all = list["arrivals"].as_array().unwrap();
    all.iter().find(|one| one["key"] == format!("site/meter/{key}/json")).cloned().unwrap_or_default()
}

fn titles(plant: &Plant) -> Vec<String> {
    let now = plant.live.plant();
    let mut all: Vec<String> = now.tags.values().map(|tag| now.tag_path(&tag.set)).collect();
    all.sort();
    all
}

#[actix_web::test]
async fn meters_become_tags_once_and_come_again_only_when_somebody_says_so() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let broker = Broker::start(&Setup { open: true, ..Setup::default() }).unwrap();
    let meters = Meters::at(&broker);
    meters.tell("M1", json!({"power": 3, "energy": 40})).await;
    let (connection, mapping) = connect(&engineer, &broker).await;
    let at = format!("/api/connections/{connection}/arrivals");
    let first = engineer.until(&at, |list| arrival(list, "M1")["left"] == 2).await;
    assert_eq!(titles(&plant), ["Works/Meters/M1/Energy", "Works/Meters/M1/Power"]);
    let power = plant.live.plant().tags.values().find(|t| t.set.name == "Power").unwrap().clone();
    assert_eq!((power.set.record, power.set.unit.as_str()), (true, "kW"));
    engineer.until(&format!("/api/values?tags={}", power.no), |b| b[0]["value"] == 3.0).await;
    // A meter heard later, which tells less at first, and one whose message is broken.
    meters.tell("M2", json!({"power": 5})).await;
    meters.tell("M3", json!("half")).await;
    let list = engineer.until(&at, |list| arrival(list, "M3")["refused"] != Json::Null && arrival(list, "M2")["left"] == 1).await;
    assert_eq!(
        (arrival(&list, "M3")["refused"].as_str(), &list["total"]),
        (Some("The message holds none of the values."), &json!(3))
    );
    // Taken away, it does not come again with the next message.
    let revision = arrival(&first, "M1")["revision"].clone();
    let (_, revisions) = engineer.get("/api/revisions").await;
    let made = revisions.as_array().unwrap().iter().find(|r| r["number"] == revision).unwrap().clone();
    assert_eq!((made["why"].as_str(), made["actor"].as_str()), (Some("1 arrival of Meters made 2 tags"), Some("Havrel")));
    let m1 = json!({"mapping": mapping, "key": "site/meter/M1/json"});
    let (status, body) = engineer.post(&format!("{at}/undo"), m1.clone()).await;
    assert_eq!(status, 200, "{body}");
    assert_eq!(engineer.post(&format!("{at}/undo"), m1.clone()).await.0, 409, "nothing is left of it");
    meters.tell("M1", json!({"power": 4, "energy": 41})).await;
    meters.tell("M4", json!({"power": 6, "energy": 42})).await;
    let list = engineer.until(&at, |list| arrival(list, "M4")["left"] == 2).await;
    assert_eq!((&arrival(&list, "M1")["left"], &arrival(&list, "M1")["tags"]), (&json!(0), &json!(2)));
    assert!(titles(&plant).iter().all(|title| !title.contains("M1")));
    let (status, body) = engineer.post(&format!("{at}/again"), m1).await;
    assert_eq!((status, &body["now"]), (200, &json!(true)));
    engineer.until(&at, |list| arrival(list, "M1")["left"] == 2).await;
    let unknown = json!({"mapping": mapping, "key": "site/meter/M9/json"});
    assert_eq!(engineer.post(&format!("{at}/again"), unknown).await.0, 422);
    plant.stop().await;
}

#[actix_web::test]
async fn a_restart_makes_nothing_twice_and_a_name_that_is_taken_refuses_its_meter_alone() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let broker = Broker::start(&Setup { open: true, ..Setup::default() }).unwrap();
    let meters = Meters::at(&broker);
    let (connection, _) = connect(&engineer, &broker).await;
    let [works, all, m2] = [(); 3].map(|()| Uuid::now_v7());
    let place = |id: Uuid, name: &str, parent: Option<Uuid>| json!({"op": "create", "kind": "place", "id": id, "set": {"name": name, "parent": parent}});
    let taken = json!({"op": "create", "kind": "tag", "id": Uuid::now_v7(), "set": {"name": "Energy", "place": m2}});
    let edits = json!([place(works, "Works", None), place(all, "Meters", Some(works)), place(m2, "M2", Some(all)), taken]);
    let (status, body) = engineer.edit(1, "Made a place", edits).await;
    assert_eq!(status, 200, "{body}");
    for meter in ["M1", "M2", "M\u{202E}3"] {
        meters.tell(meter, json!({"power": 1, "energy": 2})).await;
    }
    let at = format!("/api/connections/{connection}/arrivals");
    let list = engineer.until(&at, |list| list["total"] == 3).await;
    assert_eq!(arrival(&list, "M2")["refused"], "Works/Meters/M2/Energy is another tag already.");
    // The name of a place may not hold what turns the direction of writing: the door says so, and the others go through.
    let odd = arrival(&list, "M\u{202E}3");
    assert!(odd["refused"].as_str().unwrap().contains("U+202E"), "{odd}");
    assert_eq!(arrival(&list, "M1")["left"], 2);
    // Everything is announced anew by a connection that begins again.
    let before = plant.live.plant().revision;
    for enabled in [false, true] {
        let edit = json!([{"op": "patch", "kind": "connection", "id": connection, "set": {"enabled": enabled}}]);
        let seen = plant.live.plant().revision;
        assert_eq!(engineer.edit(seen, "Switched", edit).await.0, 200);
    }
    meters.tell("M5", json!({"power": 1, "energy": 2})).await;
    engineer.until(&at, |list| arrival(list, "M5")["left"] == 2).await;
    assert_eq!(plant.live.plant().revision, before + 3, "two switches and one meter");
    plant.stop().await;
}
