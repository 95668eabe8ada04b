//! Equipment classes through the interface: stored, followed live, undone, read anew, and what they refuse.

use crate::plant::{Built, Client, Plant};
use actix_web::http::Method;
use havrel_core::plant::Kind;
use serde_json::{Value as Json, json};
use std::collections::HashSet;
use uuid::Uuid;

/// Makes a class of EX-1; gives its id.
async fn vessel(client: &Client, built: &Built) -> Uuid {
    let body = json!({"name": "Vessel", "places": [built.place]});
    let (status, told) = client.post("/api/classes/made", body).await;
    assert_eq!(status, 200, "{told}");
    told["class"].as_str().unwrap().parse().unwrap()
}

fn revision(plant: &Plant) -> i64 {
    plant.live.plant().revision
}

/// The settings of a class as a form gets them.
async fn settings(client: &Client, class: Uuid) -> Json {
    client.get(&format!("/api/classes/{class}")).await.1["set"].clone()
}

/// The id of a property by its name.
fn property(set: &Json, name: &str) -> String {
    let all = set["properties"].as_object().unwrap();
    all.iter().find(|(_, p)| p["tag"]["name"] == name).unwrap_or_else(|| panic!("no {name} in {set}")).0.clone()
}

/// The tag of a place with this name, and its number.
fn tag(plant: &Plant, place: &str, name: &str) -> Option<(Uuid, u32)> {
    let of = plant.live.plant();
    of.tags.values().find(|t| of.tag_path(&t.set) == format!("{place}/{name}")).map(|t| (t.id, t.no))
}

#[actix_web::test]
async fn a_class_is_made_changed_followed_live_and_read_anew() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(50.0);
    let class = vessel(&engineer, &built).await;
    let set = settings(&engineer, class).await;
    // Registers of two tables became two parameters.
    let parameters = set["parameters"].as_object().unwrap();
    let named = |name: &str| parameters.iter().find(|(_, p)| p["name"] == name).unwrap().0.clone();
    let (base, second) = (named("Base"), named("Base address"));
    // A second vessel reads the same registers, and a computed property comes to both.
    let row = json!({"name": "EX-2", "place": "", "class": class, "cells": {(base): "40001", (second): "11"}});
    let (status, tried) = engineer.post("/api/equipment", json!({"rows": [row], "try": true})).await;
    assert_eq!((status, &tried["tags"], &tried["unbound"]), (200, &json!(2), &json!(0)), "{tried}");
    assert_eq!(tag(&plant, "EX-2", "Level"), None);
    let (status, made) = engineer.post("/api/equipment", json!({"rows": [row]})).await;
    assert_eq!((status, &made["tags"], &made["rules"]), (200, &json!(2), &json!(1)), "{made}");
    let mut properties = set["properties"].clone();
    let half = Uuid::now_v7().to_string();
    properties[&half] = json!({"kind": "computed", "tag": {"name": "Half", "unit": "%", "record": true, "formula": {"text": "own(\"Level\") / 2"}}});
    let edit = json!([{"op": "patch", "kind": "class", "id": class, "set": {"properties": properties}}]);
    let header = [("If-Match", revision(&plant).to_string())];
    let header: Vec<(&str, &str)> = header.iter().map(|(k, v)| (*k, v.as_str())).collect();
    let body = json!({"why": "x", "edits": edit});
    let (status, effect, _) = engineer.send(Method::POST, "/api/edits/difference", &header, Some(body)).await;
    let effect: Json = serde_json::from_str(&effect).unwrap();
    assert_eq!((status, &effect["tags_made"], &effect["recordings_begin"]), (200, &json!(2), &json!(2)), "{effect}");
    assert_eq!(tag(&plant, "EX-1", "Half"), None, "only told");
    assert_eq!(engineer.edit(revision(&plant), "Half", edit).await.0, 200);
    let (_, no) = tag(&plant, "EX-2", "Half").unwrap();
    engineer.until(&format!("/api/values?tags={no}"), |b| b[0]["value"].as_f64().is_some_and(|v| (v - 25.0).abs() < 4.0)).await;

    // Each tag has a number of its own, and what is stored is what runs.
    let now = plant.live.plant();
    let numbers: HashSet<u32> = now.tags.values().map(|t| t.no).collect();
    assert_eq!((numbers.len(), now.tags.len()), (6, 6));
    assert!(numbers.iter().all(|no| *no < 1000));
    let (stored, broken) = plant.live.db.load_plant().await.unwrap();
    assert!(broken.is_empty(), "{broken:?}");
    for kind in Kind::ALL {
        let mut ids = now.ids(kind);
        ids.sort_unstable();
        let mut read = stored.ids(kind);
        read.sort_unstable();
        assert_eq!(ids, read);
        for id in ids {
            assert_eq!(
                (now.own(kind, id).map(|o| o.1), now.effective(kind, id)),
                (stored.own(kind, id).map(|o| o.1), stored.effective(kind, id))
            );
        }
    }
    plant.stop().await;
}

#[actix_web::test]
async fn the_board_shows_equipment_in_short_and_what_like_equipment_comes_to() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(50.0);
    let class = vessel(&engineer, &built).await;
    let set = settings(&engineer, class).await;
    let parameters = set["parameters"].as_object().unwrap();
    let base = parameters.iter().find(|(_, p)| p["name"] == "Base").unwrap().0.clone();
    let rows = json!([{"name": "EX-2", "place": "", "class": class, "cells": {(base): "40001"}},
        {"name": "EX-3", "place": "", "class": class, "cells": {}}]);
    assert_eq!(engineer.post("/api/equipment", json!({"rows": rows})).await.0, 200);
    let mut properties = set["properties"].clone();
    properties[property(&set, "Level")]["main"] = json!(true);
    properties[property(&set, "Level")]["roll_up"] = json!("sum");
    let edit = json!([{"op": "patch", "kind": "class", "id": class, "set": {"properties": properties}}]);
    assert_eq!(engineer.edit(revision(&plant), "Figure", edit).await.0, 200);
    let (status, board) = engineer.get("/api/board").await;
    assert_eq!(status, 200, "{board}");
    // Without a place above them each vessel stands alone.
    let areas = board["areas"].as_array().unwrap();
    let told: Vec<_> =
        areas.iter().map(|a| (a["name"].clone(), a["lines"][0]["class"].clone(), a["figures"][0]["of"].clone())).collect();
    assert_eq!(told, ["EX-1", "EX-2", "EX-3"].map(|name| (json!(name), json!("Vessel"), json!(1))));
    assert_eq!((&areas[0]["figures"][0]["how"], &areas[0]["figures"][0]["unit"]), (&json!("sum"), &json!("%")));
    let level = tag(&plant, "EX-1", "Level").unwrap().0;
    assert_eq!(areas[0]["lines"][0]["main"], json!([level]));
    assert_eq!(board["tags"].as_array().unwrap().len(), 3);
    engineer
        .until("/api/board/figures", |b| {
            let figures = b["figures"].as_array().unwrap();
            let near = |at: usize| figures[at]["value"].as_f64().is_some_and(|v| (v - 50.0).abs() < 8.0);
            // EX-3 is read from nowhere yet.
            b["revision"] == revision(&plant)
                && near(0)
                && near(1)
                && figures[2] == json!({"value": null, "counted": 0, "uncertain": 0})
        })
        .await;
    plant.stop().await;
}

#[actix_web::test]
async fn what_is_left_out_and_comes_back_is_the_tag_that_it_was() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let class = vessel(&engineer, &built).await;
    let set = settings(&engineer, class).await;
    let row = json!({"name": "EX-2", "place": "", "class": class, "cells": {}});
    let (status, made) = engineer.post("/api/equipment", json!({"rows": [row]})).await;
    assert_eq!((status, &made["unbound"]), (200, &json!(2)), "{made}");
    let before = tag(&plant, "EX-2", "Level").unwrap();
    let place = plant.live.plant().tags[&before.0].set.place;
    let without = async |list: Json| {
        let edit = json!([{"op": "patch", "kind": "place", "id": place, "set": {"without": list}}]);
        assert_eq!(engineer.edit(revision(&plant), "Left out", edit).await.0, 200);
    };
    without(json!([property(&set, "Level")])).await;
    assert_eq!(tag(&plant, "EX-2", "Level"), None);
    without(Json::Null).await;
    assert_eq!(tag(&plant, "EX-2", "Level"), Some(before));
    // The equipment says so, and its overrides are put back by the page.
    let edit = json!([{"op": "patch", "kind": "tag", "id": before.0, "set": {"unit": "m", "range_high": 100.0}}]);
    assert_eq!(engineer.edit(revision(&plant), "Own", edit).await.0, 200);
    let (_, equipment) = engineer.get(&format!("/api/places/{place}/equipment")).await;
    let own: Vec<_> = equipment["overrides"]
        .as_array()
        .unwrap()
        .iter()
        .map(|o| (o["field"].clone(), o["own"].clone(), o["inherited"].clone()))
        .collect();
    assert_eq!(own, [(json!("unit"), json!("m"), json!("%"))], "what is inherited anyhow does not become own");
    let (_, item) = engineer.get(&format!("/api/items/tag?only={}", before.0)).await;
    assert_eq!((&item["items"][0]["own"]["unit"], &item["items"][0]["inherited"]["unit"]), (&json!("m"), &json!("%")));
    plant.stop().await;
}

#[actix_web::test]
async fn what_does_not_go_with_a_class_is_refused_whole() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let class = vessel(&engineer, &built).await;
    let seen = revision(&plant);
    let level = tag(&plant, "EX-1", "Level").unwrap().0;
    let (status, told) = engineer.edit(seen, "Gone", json!([{"op": "delete", "kind": "class", "id": class}])).await;
    assert_eq!((status, told["detail"].as_str().unwrap()), (409, "“Vessel” cannot be deleted: “EX-1” is an instance of it."));
    let (status, told) =
        engineer.edit(seen, "Gone", json!([{"op": "delete", "kind": "tag", "id": level, "contents": true}])).await;
    assert_eq!(status, 422);
    assert!(told["detail"].as_str().unwrap().starts_with("This belongs to the equipment class."), "{told}");
    let wrong =
        json!({"rows": [{"name": "A", "place": "Nowhere", "class": class}, {"name": "EX-1", "place": "", "class": class}]});
    let (status, told) = engineer.post("/api/equipment", wrong).await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("place")), "{told}");
    let twice = json!({"rows": [{"name": "B", "place": "", "class": class}, {"name": "EX-1", "place": "", "class": class}]});
    let (status, told) = engineer.post("/api/equipment", twice).await;
    assert_eq!((status, &told["problems"][0]["edit"], &told["problems"][0]["field"]), (422, &json!(1), &json!("name")), "{told}");
    // Two engineers at one class: the second one is told.
    let name = |name: &str| json!([{"op": "patch", "kind": "class", "id": class, "set": {"name": name}}]);
    assert_eq!(engineer.edit(seen, "Renamed", name("Tank")).await.0, 200);
    assert_eq!(engineer.edit(seen, "Renamed", name("Vat")).await.0, 412);
    let body = json!({"name": "Other", "places": [built.place], "try": true});
    let (status, told) = engineer.post("/api/classes/made", body).await;
    assert_eq!((status, told["detail"].as_str().unwrap()), (422, "“EX-1” is of a class already."));
    assert_eq!(revision(&plant), seen + 1);
    plant.stop().await;
}

#[actix_web::test]
async fn a_tag_may_have_no_connection_whatever_its_class_says() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    vessel(&engineer, &built).await;
    let bound = |of: &havrel_core::plant::Plant| of.tags[&built.level].set.connection;
    let patch = |set: Json| json!([{"op": "patch", "kind": "tag", "id": built.level, "set": set}]);
    let (status, told) = engineer.edit(revision(&plant), "Unbound", patch(json!({"connection": {"empty": true}}))).await;
    assert_eq!((status, bound(&plant.live.plant())), (200, None), "{told}");
    let (stored, broken) = plant.live.db.load_plant().await.unwrap();
    assert_eq!((bound(&stored), broken.len()), (None, 0));
    assert_eq!(engineer.get("/api/sheets/tags?bound=false").await.1["total"], 1);
    // To put it back takes the override away.
    assert_eq!(engineer.edit(revision(&plant), "Put back", patch(json!({"connection": null}))).await.0, 200);
    assert_eq!(bound(&plant.live.plant()), Some(built.connection));
    plant.stop().await;
}
