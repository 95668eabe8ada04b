//! Points through the interface: proven while their source moves, lists of what is open, bound from the source, and followed.

use crate::plant::Plant;
use actix_web::http::Method;
use serde_json::{Value as Json, json};
use std::collections::HashMap;
use uuid::Uuid;

/// How many tags a query of the sheet finds.
async fn found(client: &crate::plant::Client, query: &str) -> Json {
    client.get(&format!("/api/sheets/tags?{query}")).await.1["total"].clone()
}

#[actix_web::test]
async fn a_point_is_proven_while_its_source_moves_and_stays_so_until_its_way_changes() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let tag = built.level;
    let checks = format!("/api/tags/{tag}/loop-checks");
    let look = format!("{checks}/look");
    plant.set_level(20.0);
    engineer.until(&format!("/api/values?tags={}", built.level_no), |b| b[0]["quality"] == "good").await;
    assert_eq!(engineer.get(&checks).await.1, json!({"proof": "never", "checks": []}));
    assert_eq!(found(&engineer, "proof=never").await, json!(2));
    // Nobody looked yet, and then nothing moved.
    let (status, told) = engineer.post(&checks, json!({"passed": true})).await;
    assert_eq!((status, &told["detail"]), (422, &json!("Watch the point first, and move its source.")), "{told}");
    // The process moves by itself; only what the controller shows is held still while the clock of the test does not tick.
    // The device is asked at once; the value of the tag comes with the next poll.
    let at_first = |b: &Json| b["seen"]["value"]["last"].as_f64().is_some_and(|v| (v - 20.0).abs() < 8.0);
    let seen = engineer.until_told(&look, &json!({}), at_first).await;
    assert!(seen["bytes"].as_str().unwrap().split(' ').count() >= 2, "{seen}");
    let (status, noted) = engineer.post(&look, json!({"applied": 20.0})).await;
    assert_eq!((status, noted["seen"]["steps"].as_array().unwrap().len()), (200, 1), "{noted}");
    plant.set_level(70.0);
    let moved = engineer
        .until_told(&look, &json!({}), |b| {
            b["seen"]["moved"] == true && b["seen"]["value"]["highest"].as_f64().is_some_and(|v| v > 60.0)
        })
        .await;
    assert!(moved["seen"]["sent"]["changes"].as_u64().unwrap() > 0, "{moved}");
    engineer.post(&look, json!({"applied": 70.0})).await;
    let (status, check) = engineer.post(&checks, json!({"passed": true, "remark": "by the sight glass"})).await;
    assert_eq!((status, &check["passed"], &check["remark"]), (200, &json!(true), &json!("by the sight glass")), "{check}");
    let off: Vec<f64> = check["seen"]["steps"].as_array().unwrap().iter().map(|s| s["deviation"].as_f64().unwrap()).collect();
    assert!(off.len() == 2 && off.iter().all(|by| by.abs() < 10.0), "{check}");
    // The look is used up.
    assert_eq!(engineer.post(&checks, json!({"passed": true})).await.0, 422);
    assert_eq!(engineer.get(&checks).await.1["proof"], "proven");
    assert_eq!((found(&engineer, "proof=proven").await, found(&engineer, "proof=never&moment=2").await), (json!(1), json!(1)));
    let (_, rows) = engineer.get("/api/sheets/tags?proof=proven").await;
    assert_eq!((&rows["rows"][0]["id"], &rows["rows"][0]["proof"]), (&json!(tag), &json!("proven")));

    // Another name changes nothing; another register does, and says so in list, record and report.
    let revision = || plant.live.plant().revision;
    let rename = json!([{"op": "patch", "kind": "tag", "id": tag, "set": {"name": "Vessel level"}}]);
    assert_eq!(engineer.edit(revision(), "Renamed", rename).await.0, 200);
    assert_eq!(engineer.get(&checks).await.1["proof"], "proven");
    let other = json!([{"op": "patch", "kind": "tag", "id": tag, "set": {"point": {"address": "40003", "type": "u16"}}}]);
    assert_eq!(engineer.edit(revision(), "Other register", other).await.0, 200);
    let (_, told) = engineer.get(&checks).await;
    assert_eq!((&told["proof"], &told["checks"][0]["changed"]), (&json!("changed"), &json!(["point"])));
    assert_eq!(found(&engineer, "proof=changed&moment=2").await, json!(1));
    let section = json!({"name": "Loops", "sections": [{"kind": "loop_checks", "proofs": ["never", "changed"]}]});
    let (status, page, _) = engineer.send(Method::POST, "/api/reports/preview", &[], Some(section)).await;
    assert_eq!(status, 200, "{page}");
    assert!(page.contains("2 points: 1 never checked, 1 changed since proven."), "{page}");
    assert!(page.contains("changed since proven (point)") && page.contains("Vessel level"), "{page}");
    let (status, _, _) = engineer
        .send(Method::POST, "/api/reports/preview", &[], Some(json!({"name": "x", "sections": [{"kind": "loop_checks"}]})))
        .await;
    assert_eq!(status, 422);

    // What is kept is read anew, and the journal knows of it.
    let last: HashMap<Uuid, _> = plant.live.db.last_loop_checks().await.unwrap().into_iter().map(|c| (c.tag, c)).collect();
    let kept = plant.live.last_checks()[&tag].clone();
    assert_eq!((&last[&tag].way, last[&tag].passed, last[&tag].at), (&kept.way, kept.passed, kept.at));
    assert_eq!((&last[&tag].seen.value, last[&tag].seen.steps.len()), (&kept.seen.value, 2));
    engineer.until("/api/journal", |b| b.to_string().contains("by a loop check")).await;
    plant.stop().await;
}

#[actix_web::test]
async fn what_fails_needs_a_reason_and_what_cannot_be_checked_says_why() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let checks = format!("/api/tags/{}/loop-checks", built.level);
    let look = format!("{checks}/look");
    engineer.until_told(&look, &json!({}), |b| b["trouble"] == "").await;
    let (status, told) = engineer.post(&checks, json!({"passed": false})).await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("remark")), "{told}");
    let (status, _) = engineer.post(&checks, json!({"passed": false, "remark": "Wired to EX-2"})).await;
    assert_eq!(status, 200);
    assert_eq!(engineer.get(&checks).await.1["proof"], "failed");
    assert_eq!(found(&engineer, "proof=failed").await, json!(1));
    assert_eq!(engineer.get("/api/sheets/tags?proof=perhaps").await.0, 422);
    for wrong in [json!({"applied": "much"}), json!({"applied": "1e400"}), json!([])] {
        assert!((400..500).contains(&engineer.post(&look, wrong).await.0));
    }
    // What somebody set by hand does not come from the source.
    let by_hand = json!({"value": 42.0, "reason": "calibration"});
    engineer.send(Method::PUT, &format!("/api/tags/{}/by-hand", built.level), &[], Some(by_hand)).await;
    let hand =
        engineer.until_told(&look, &json!({"again": true}), |b| b["trouble"].as_str().unwrap().contains("set by hand")).await;
    assert_eq!(hand["seen"]["value"], Json::Null, "{hand}");
    let (status, told) = engineer.post(&look, json!({"applied": 42.0})).await;
    assert_eq!(status, 422, "{told}");
    // Memory has no loop.
    let [memory, note] = [(); 2].map(|()| Uuid::now_v7());
    let edits = json!([
        {"op": "create", "kind": "connection", "id": memory, "set": {"name": "Notes", "kind": "memory"}},
        {"op": "create", "kind": "tag", "id": note, "set": {"name": "Note", "place": built.place, "connection": memory, "point": {"type": "number"}}},
    ]);
    assert_eq!(engineer.edit(plant.live.plant().revision, "Memory", edits).await.0, 200);
    assert_eq!(engineer.get(&format!("/api/tags/{note}/loop-checks")).await.1["proof"], Json::Null);
    let (status, told) = engineer.post(&format!("/api/tags/{note}/loop-checks/look"), json!({})).await;
    assert_eq!(status, 422, "{told}");
    plant.stop().await;
}

#[actix_web::test]
async fn found_values_are_matched_onto_open_tags_and_a_cut_cable_is_named() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let [open, mean] = [(); 2].map(|()| Uuid::now_v7());
    let edits = json!([
        {"op": "create", "kind": "tag", "id": open, "set": {"name": "Temperature", "place": built.place, "unit": "°C"}},
        {"op": "create", "kind": "tag", "id": mean, "set": {"name": "Half", "place": built.place, "unit": "%",
            "formula": {"text": format!("at(\"{}\") / 2", built.level)}}},
    ]);
    assert_eq!(engineer.edit(plant.live.plant().revision, "Open", edits).await.0, 200);
    assert_eq!((found(&engineer, "bound=false").await, found(&engineer, "answered=true").await), (json!(1), json!(2)));
    let items = json!([{"path": ["Vessels", "EX_1"], "name": "TempPV", "unit": "°C", "holds": "number"},
        {"path": ["Vessels", "EX_1"], "name": "Level", "unit": "%", "holds": "number"}]);
    let (status, told) = engineer.post("/api/sources/match", json!({"found": items})).await;
    assert_eq!((status, &told["open"]), (200, &json!(1)), "{told}");
    assert_eq!(told["matched"][0]["best"]["tag"], json!(open), "{told}");
    assert_eq!(told["matched"][1], json!({"best": null, "rivals": []}), "the level has its source");
    let (status, told) = engineer.post("/api/sources/match", json!({"found": items, "under": Uuid::now_v7()})).await;
    assert_eq!((status, &told["matched"][0]["best"]), (200, &Json::Null));
    let deep = json!([{"path": vec!["x"; 41], "name": "x"}]);
    assert_eq!(engineer.post("/api/sources/match", json!({"found": deep})).await.0, 422);

    let follow = format!("/api/tags/{mean}/follow");
    let good = engineer.until(&follow, |b| b["broken_tag"].is_null()).await;
    let kinds = |from: &Json| -> Vec<Json> { from["joints"].as_array().unwrap().iter().map(|j| j["kind"].clone()).collect() };
    assert_eq!(kinds(&good["from"]), ["formula", "value"]);
    assert_eq!(kinds(&good["from"]["inputs"][0]), ["connection", "point", "scaling", "value"]);
    let (_, level) = engineer.get(&format!("/api/tags/{}/follow", built.level)).await;
    let users: Vec<&str> = level["to"].as_array().unwrap().iter().map(|u| u["kind"].as_str().unwrap()).collect();
    assert_eq!(users, ["history", "rule", "tag"], "{level}");
    // The connection is paused: that is what breaks the formula.
    let pause = json!([{"op": "patch", "kind": "connection", "id": built.connection, "set": {"enabled": false}}]);
    assert_eq!(engineer.edit(plant.live.plant().revision, "Paused", pause).await.0, 200);
    let broken = engineer.until(&follow, |b| b["broken_tag"] == json!(built.level)).await;
    let joints = &broken["from"]["inputs"][0]["joints"];
    assert_eq!(
        (&broken["broken_joint"], &joints[0]["state"], &joints[1]["state"]),
        (&json!(0), &json!("bad"), &json!("unreached"))
    );
    assert_eq!(joints[0]["reason"], "the connection is switched off", "{broken}");
    assert_eq!(engineer.get(&format!("/api/tags/{}/follow", Uuid::now_v7())).await.0, 404);
    plant.stop().await;
}
