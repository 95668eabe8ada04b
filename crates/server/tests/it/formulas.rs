//! Computed tags through the interface: tried, saved, followed live, over a restart, and into the past.

use crate::plant::{Built, Client, Plant, fresh_name};
use havrel_core::time::{Nanos, SECOND, to_text};
use serde_json::{Value as Json, json};
use uuid::Uuid;

/// A tag `name` of EX-1 with a formula, made in revision `seen`. Its id and number.
async fn computed(plant: &Plant, client: &Client, built: &Built, seen: i64, name: &str, text: &str) -> (Uuid, u32) {
    let id = Uuid::now_v7();
    let set = json!({"name": name, "place": built.place, "record": true, "record_mode": "each_poll", "formula": {"text": text}});
    let (status, told) = client.edit(seen, "Added", json!([{"op": "create", "kind": "tag", "id": id, "set": set}])).await;
    assert_eq!(status, 200, "{told}");
    (id, plant.live.plant().tags[&id].no)
}

fn near(value: &Json, wanted: f64) -> bool {
    value.as_f64().is_some_and(|v| (v - wanted).abs() < 6.0)
}

#[actix_web::test]
async fn a_formula_is_tried_saved_and_followed() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(50.0);
    engineer.until(&format!("/api/values?tags={}", built.level_no), |b| near(&b[0]["value"], 50.0)).await;

    // Mistakes are told by their characters, whatever names the tags.
    let tried = async |text: &str, unit: &str| {
        let body = json!({"text": text, "unit": unit, "place": built.place, "run": true});
        engineer.post("/api/formulas/try", body).await
    };
    for (text, unit, from, to, words) in [
        ("1 + at(\"EX-1/Levl\")", "", 7, 18, "There is no tag “EX-1/Levl”."),
        ("at(\"Level\") + at(\"Temperature setpoint\")", "", 12, 13, "°C and % do not measure the same."),
        ("at(\"EX-1/Level\") *", "", 17, 18, "The formula ends too early: something is missing behind this."),
        ("at(\"Level\")", "bar", 0, 11, "The result does not fit the tag's unit: % and bar do not measure the same."),
    ] {
        let (status, told) = tried(text, unit).await;
        assert_eq!((status, &told["wrong"][0]), (200, &json!({"from": from, "to": to, "message": words})), "{told}");
        assert_eq!(told.get("result").unwrap_or(&Json::Null), &Json::Null);
    }
    let (_, told) = tried("average(at(\"Level\"), \"1min\") * 2", "").await;
    assert_eq!(told["wrong"], json!([]), "{told}");
    assert!(near(&told["result"]["value"], 100.0), "{told}");
    assert_eq!((&told["inputs"][0]["title"], &told["unit"], &told["reach_s"]), (&json!("EX-1/Level"), &json!("%"), &json!(60.0)));
    assert!(told["bytes"].as_u64().unwrap() > 1000 && told["counts"] == false);

    let (twice, no) = computed(&plant, &engineer, &built, 1, "Twice", "at(\"EX-1/Level\") * 2").await;
    let values = format!("/api/values?tags={no}");
    engineer.until(&values, |b| near(&b[0]["value"], 100.0) && b[0]["quality"] == "good").await;
    plant.set_level(20.0);
    engineer.until(&values, |b| near(&b[0]["value"], 40.0)).await;
    let (_, items) = engineer.get(&format!("/api/items/tag?only={twice}")).await;
    assert_eq!(items["items"][0]["formulas"]["formula"], "at(\"EX-1/Level\") * 2");
    assert_eq!(items["items"][0]["set"]["formula"]["text"], format!("at(\"{}\") * 2", built.level));
    let (_, sheet) = engineer.get("/api/sheets/tags?computed=true").await;
    assert_eq!((&sheet["total"], &sheet["rows"][0]["source"]), (&json!(1), &json!("= at(\"EX-1/Level\") * 2")));
    let (_, list) = engineer.get("/api/formulas/functions").await;
    assert!(list.as_array().unwrap().iter().any(|f| f["name"] == "average" && f["takes"] == "value, span"));

    // A rename shows; a circle does not come in; what is read does not go.
    let rename = json!([{"op": "patch", "kind": "tag", "id": built.level, "set": {"name": "Fill level"}}]);
    assert_eq!(engineer.edit(2, "Renamed", rename).await.0, 200);
    let (_, items) = engineer.get(&format!("/api/items/tag?only={twice}")).await;
    assert_eq!(items["items"][0]["formulas"]["formula"], "at(\"EX-1/Fill level\") * 2");
    let (_, told) =
        engineer.post("/api/formulas/try", json!({"text": "1 + at(\"Twice\")", "tag": twice, "place": built.place})).await;
    assert_eq!(told["wrong"][0], json!({"from": 7, "to": 14, "message": "It would read itself: it reads EX-1/Twice."}));
    let (status, told) = engineer
        .edit(3, "Circle", json!([{"op": "patch", "kind": "tag", "id": twice, "set": {"formula": {"text": "at(\"Twice\")"}}}]))
        .await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("formula.text")), "{told}");
    let (status, told) =
        engineer.edit(3, "Gone", json!([{"op": "delete", "kind": "tag", "id": built.level, "contents": true}])).await;
    assert_eq!(status, 409);
    assert_eq!(told["detail"], "“EX-1/Fill level” cannot be deleted: the formula of “EX-1/Twice” reads it.");
    let (_, revisions) = engineer.get("/api/revisions?limit=5").await;
    let shown = revisions[1]["changes"][0]["after"]["formula"]["text"].as_str().unwrap().to_owned();
    assert_eq!(shown, "at(\"EX-1/Fill level\") * 2", "people read paths");

    // A lost device makes it bad, and the cause is named.
    plant.controller.lock().process.vessels[0].level = 10.0;
    let pause = json!([{"op": "patch", "kind": "connection", "id": built.connection, "set": {"enabled": false}}]);
    assert_eq!(engineer.edit(3, "Off", pause).await.0, 200);
    let told = engineer.until(&values, |b| b[0]["quality"] == "bad").await;
    assert_eq!(told[0]["reason"], "an input is bad: EX-1/Fill level, the connection is switched off");
    plant.stop().await;
}

#[actix_web::test]
async fn what_a_formula_counted_outlasts_a_restart() {
    let name = fresh_name();
    let plant = Plant::start_on(&name).await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(50.0);
    let (_, no) = computed(&plant, &engineer, &built, 1, "Sum", "total(at(\"EX-1/Level\"), \"1s\")").await;
    let values = format!("/api/values?tags={no}");
    let before =
        engineer.until(&values, |b| b[0]["value"].as_f64().is_some_and(|v| v > 30.0)).await[0]["value"].as_f64().unwrap();
    let controller = plant.controller_port;
    plant.stop().await;
    let plant = Plant::start_on(&name).await;
    assert_ne!(controller, plant.controller_port, "its device is another one, so it only knows what was kept");
    let again = Client::new(&plant.url);
    assert_eq!(again.post("/api/session", json!({"name": "Plant engineer", "password": "kelp-and-salt"})).await.0, 200);
    let told = again.until(&values, |b| b[0]["value"].as_f64().is_some_and(|v| v >= before)).await;
    assert_eq!(told[0]["quality"], "uncertain", "what was missed meanwhile is told: {told}");
    assert_eq!(told[0]["reason"], "part of what its formula counts is missing");
    plant.stop().await;
}

#[actix_web::test]
async fn the_past_of_a_new_formula_is_computed_from_history() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(50.0);
    let raw_from = |tag: Uuid, from: Nanos| json!({"tags": [tag], "from": to_text(from), "to": to_text(from + 3600 * SECOND)});
    let has = |answer: &Json, least: usize| answer["tags"][0]["value"].as_array().is_some_and(|v| v.len() >= least);
    // What was before has no part in it.
    let is_there = |answer: &Json| {
        let values = answer["tags"][0]["value"].as_array();
        values.and_then(|values| values.last()?.as_f64()).is_some_and(|last| last > 40.0)
    };
    engineer.until_told("/api/history/raw", &raw_from(built.level, havrel_live::now() - 60 * SECOND), is_there).await;
    let began = havrel_live::now();
    let raw = |tag: Uuid| raw_from(tag, began);
    // Some seconds of history of the input before the formula is there; its own begins a second before it.
    engineer.until_told("/api/history/raw", &raw(built.level), |b| has(b, 30)).await;
    let (id, _) = computed(&plant, &engineer, &built, 1, "Twice", "at(\"EX-1/Level\") * 2").await;
    let path = format!("/api/tags/{id}/past");
    let (status, told) = engineer.post(&path, json!({"from": "2020-01-01T00:00:00Z"})).await;
    assert_eq!((status, told["detail"].as_str().unwrap()), (422, "The beginning must lie in the past, at most three years ago."));
    let setpoint = computed(&plant, &engineer, &built, 2, "Other", "at(\"EX-1/Temperature setpoint\")").await.0;
    let (status, told) = engineer.post(&format!("/api/tags/{setpoint}/past"), json!({"from": to_text(began)})).await;
    assert_eq!(status, 422);
    assert_eq!(told["detail"], "The past of “EX-1/Temperature setpoint” is not recorded, so there is nothing to compute from.");
    // Wait until its own history begins, so that the past ends before it.
    engineer.until_told("/api/history/raw", &raw(id), |b| has(b, 1)).await;
    let (status, told) = engineer.post(&path, json!({"from": to_text(began)})).await;
    assert_eq!(status, 200, "{told}");
    let later = |answer: &Json| -> Vec<f64> {
        let found = &answer["tags"][0];
        let both = found["reason"].as_array().into_iter().flatten().zip(found["value"].as_array().into_iter().flatten());
        both.filter(|(reason, _)| **reason == "computed later from recorded values").filter_map(|(_, v)| v.as_f64()).collect()
    };
    let values = later(&engineer.until_told("/api/history/raw", &raw(id), |b| later(b).len() >= 5).await);
    assert!(values.iter().all(|value| (value - 100.0).abs() < 6.0), "{values:?}");
    let (status, told) = engineer.post(&path, json!({"from": to_text(began)})).await;
    assert_eq!(status, 422, "{told}");
    assert!(told["detail"].as_str().unwrap().starts_with("History holds values of this tag from "), "{told}");
    engineer
        .until("/api/journal?kind=history", |b| {
            b[0]["title"].as_str().is_some_and(|t| t.starts_with("Past of EX-1/Twice computed from"))
        })
        .await;
    plant.stop().await;
}
