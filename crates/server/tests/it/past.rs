//! Looking back: values, names, limits and alarms as they stood at an instant, and nothing that acts.

use crate::plant::{Client, Plant};
use actix_web::http::Method;
use serde_json::{Value as Json, json};

/// Asks as of an instant.
async fn at(client: &Client, path: &str, instant: &str) -> (u16, Json) {
    let (status, body, _) = client.send(Method::GET, path, &[("Havrel-Instant", instant)], None).await;
    (status, serde_json::from_str(&body).unwrap_or(Json::Null))
}

/// The time now, once history has all up to then.
async fn settled(client: &Client) -> String {
    let now = client.get("/api/instant").await.1["at"].as_str().unwrap().to_owned();
    client.until("/api/instant", |b| b["complete_until"].as_str().unwrap() > now.as_str()).await;
    now
}

#[actix_web::test]
async fn everything_is_shown_as_it_stood_and_nothing_can_be_changed() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let before = engineer.get("/api/instant").await.1["at"].as_str().unwrap().to_owned();
    let built = plant.build(&engineer).await;
    let values = format!("/api/values?tags={}", built.level_no);
    plant.set_level(30.0);
    engineer.until(&values, |b| b[0]["value"].as_f64().is_some_and(|v| (v - 30.0).abs() < 5.0)).await;
    let quiet = settled(&engineer).await;
    let revision = plant.live.plant().revision;
    // Then the level rises over its limit, and after that it gets another name, and another limit.
    plant.set_level(90.0);
    engineer.until("/api/alarms", |b| b["alarms"].to_string().contains("unacknowledged")).await;
    let alarmed = settled(&engineer).await;
    let edits = json!([{"op": "patch", "kind": "tag", "id": built.level, "set": {"name": "Vessel level"}},
        {"op": "patch", "kind": "rule", "id": built.rule, "set": {"level": 99.0}}]);
    assert_eq!(engineer.edit(revision, "Renamed", edits).await.0, 200);
    engineer.post("/api/alarms/act", json!({"action": "acknowledge", "rules": [built.rule]})).await;
    engineer.until("/api/alarms", |b| b["alarms"] == json!([])).await;
    settled(&engineer).await;

    let (status, told) = at(&engineer, "/api/instant", &quiet).await;
    assert_eq!(
        (status, &told["at"], &told["revision"], &told["configured"]),
        (200, &json!(quiet), &json!(revision), &json!(true))
    );
    let (_, held) = at(&engineer, &values, &quiet).await;
    assert!((held[0]["value"].as_f64().unwrap() - 30.0).abs() < 5.0 && held[0]["quality"] == "good", "{held}");
    assert!(held[0]["time"].as_str().unwrap() <= quiet.as_str(), "{held}");
    assert!(at(&engineer, &values, &alarmed).await.1[0]["value"].as_f64().unwrap() > 70.0);
    let (_, tags) = at(&engineer, "/api/items/tag", &quiet).await;
    let names: Vec<&str> = tags["items"].as_array().unwrap().iter().map(|t| t["set"]["name"].as_str().unwrap()).collect();
    assert!(names.contains(&"Level") && !names.contains(&"Vessel level"), "{names:?}");
    assert_eq!(at(&engineer, "/api/items/rule", &quiet).await.1["items"][0]["set"]["level"], 60.0);
    let (_, rows) = at(&engineer, "/api/sheets/tags?sort=name", &quiet).await;
    assert_eq!((&rows["revision"], &rows["rows"][0]["name"]), (&json!(revision), &json!("Level")));
    assert_eq!(at(&engineer, "/api/alarms", &quiet).await.1["alarms"], json!([]));
    let (_, alarms) = at(&engineer, "/api/alarms", &alarmed).await;
    assert_eq!(
        (&alarms["alarms"][0]["rule"], &alarms["alarms"][0]["state"]),
        (&json!(built.rule), &json!("unacknowledged")),
        "{alarms}"
    );
    assert_eq!(at(&engineer, "/api/sheets/alarms", &quiet).await.1["total"], 0);
    assert_eq!(at(&engineer, "/api/board/figures", &quiet).await.0, 200);
    // What was not recorded has no value of then.
    let unrecorded = at(&engineer, &format!("/api/values?tags={}", built.setpoint_no), &quiet).await.1;
    assert_eq!((&unrecorded[0]["value"], &unrecorded[0]["quality"]), (&Json::Null, &json!("bad")), "{unrecorded}");
    // Before there was a configuration, the present one is shown and said.
    let (_, told) = at(&engineer, "/api/instant", &before).await;
    assert_eq!((&told["configured"], &told["revision"]), (&json!(false), &json!(plant.live.plant().revision)));

    let now = [("Havrel-Instant", quiet.as_str())];
    let write = format!("/api/tags/{}/write", built.setpoint);
    let acts = [
        (write.as_str(), json!({"value": 70.0})),
        ("/api/edits", json!({"why": "x", "edits": []})),
        ("/api/alarms/act", json!({"action": "acknowledge", "rules": []})),
        ("/api/reports/preview", json!({"name": "x"})),
    ];
    for (path, body) in acts {
        let (status, told, _) = engineer.send(Method::POST, path, &now, Some(body)).await;
        assert_eq!(status, 409, "{path}: {told}");
    }
    for path in [format!("/api/tags/{}/follow", built.level), "/api/sheets/tags?quality=bad".to_owned()] {
        assert_eq!(at(&engineer, &path, &quiet).await.0, 409, "{path}");
    }
    for wrong in ["2999-01-01T00:00:00Z", "yesterday", "", "9999999999999999"] {
        assert_eq!(at(&engineer, "/api/alarms", wrong).await.0, 400, "{wrong}");
    }
    plant.stop().await;
}

#[actix_web::test]
async fn what_was_deleted_since_is_there_again() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let whole = settled(&engineer).await;
    let there = plant.live.plant();
    let gone = json!([{"op": "delete", "kind": "place", "id": built.place, "contents": true}]);
    assert_eq!(engineer.edit(there.revision, "Deleted", gone).await.0, 200);
    assert_eq!(engineer.get("/api/items/tag").await.1["total"], 0);
    for path in ["/api/items/place", "/api/items/tag", "/api/items/rule", "/api/tree"] {
        let (status, then) = at(&engineer, path, &whole).await;
        assert_eq!((status, then["revision"].as_i64()), (200, Some(there.revision)), "{path}");
    }
    assert_eq!(at(&engineer, "/api/items/tag", &whole).await.1["total"], 2);
    plant.stop().await;
}
