//! What a person does about alarms: acknowledged, shelved, out of service, reset, one or all of a place, and looked back to.

use crate::plant::{Built, Client, Plant};
use actix_web::http::Method;
use serde_json::{Value as Json, json};
use uuid::Uuid;

/// A plant whose level is beyond its limit, with the alarm that this raised.
async fn alarmed() -> (Plant, Client, Built) {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(90.0);
    until_state(&engineer, "unacknowledged").await;
    (plant, engineer, built)
}

/// The first alarm of the list, once it is in this state.
async fn until_state(client: &Client, state: &str) -> Json {
    client.until("/api/alarms", |b| b["alarms"][0]["state"] == state).await["alarms"][0].clone()
}

/// A time so many hours from now.
async fn in_hours(client: &Client, hours: i64) -> String {
    let now = client.get("/api/instant").await.1["at"].as_str().unwrap().to_owned();
    havrel_core::time::to_text(havrel_core::time::from_text(&now).unwrap() + hours * 3600 * havrel_core::time::SECOND)
}

#[actix_web::test]
async fn an_alarm_is_shelved_with_reason_and_end_and_told_again_when_it_is_unshelved() {
    let (plant, engineer, built) = alarmed().await;
    let act = "/api/alarms/act";
    for (until, comment, field) in [
        (json!(in_hours(&engineer, 1).await), "", "comment"),
        (Json::Null, "probe is cleaned", "until"),
        (json!(in_hours(&engineer, -1).await), "probe is cleaned", "until"),
        (json!(in_hours(&engineer, 24 * 8).await), "probe is cleaned", "until"),
        (json!("tomorrow"), "probe is cleaned", "until"),
    ] {
        let body = json!({"action": "shelve", "rules": [built.rule], "until": until, "comment": comment});
        let (status, told) = engineer.post(act, body).await;
        assert_eq!((status, &told["problems"][0]["field"]), (422, &json!(field)), "{told}");
    }
    let until = in_hours(&engineer, 1).await;
    let body = json!({"action": "shelve", "rules": [built.rule], "until": until, "comment": "probe is cleaned"});
    assert_eq!(engineer.post(act, body).await.1["count"], 1);
    let shelved = until_state(&engineer, "shelved").await;
    assert_eq!((&shelved["condition"], &shelved["title"]), (&json!("active"), &json!("Level high")));
    let why = &shelved["suppressions"][0];
    assert_eq!(
        (&why["kind"], &why["by"], &why["until"], &why["reason"]),
        (&json!("shelved"), &json!("Plant engineer"), &json!(until), &json!("probe is cleaned"))
    );
    // How it stood then is known afterwards.
    let then = engineer.get("/api/instant").await.1["at"].as_str().unwrap().to_owned();
    assert_eq!(engineer.post(act, json!({"action": "unshelve", "rules": [built.rule]})).await.1["count"], 1);
    until_state(&engineer, "unacknowledged").await;
    assert_eq!(engineer.post(act, json!({"action": "unshelve", "rules": [built.rule]})).await.1["count"], 0);
    let (_, past, _) = engineer.send(Method::GET, "/api/alarms", &[("Havrel-Instant", &then)], None).await;
    let past: Json = serde_json::from_str(&past).unwrap();
    assert_eq!(
        (&past["alarms"][0]["state"], &past["alarms"][0]["suppressions"][0]["by"]),
        (&json!("shelved"), &why["by"]),
        "{past}"
    );
    let of_rule = format!("/api/alarms/events?rule={}", built.rule);
    let events = engineer.until(&of_rule, |b| b.as_array().is_some_and(|e| e.len() >= 3)).await;
    let kinds: Vec<&str> = events.as_array().unwrap().iter().map(|e| e["kind"].as_str().unwrap()).collect();
    assert!(kinds.starts_with(&["unshelved", "shelved"]), "{kinds:?}");
    assert_eq!(engineer.get(&format!("/api/alarms/events?rule={}", Uuid::nil())).await.1, json!([]));
    engineer.until("/api/journal", |b| b.to_string().contains("Shelved EX-1/Level high")).await;
    plant.stop().await;
}

#[actix_web::test]
async fn out_of_service_is_for_engineers_and_a_whole_place_is_one_step() {
    let (plant, engineer, built) = alarmed().await;
    let operator = plant.person(&engineer, "operator").await;
    let act = "/api/alarms/act";
    let body = json!({"action": "take_out_of_service", "under": built.place, "comment": "valve is away"});
    assert_eq!(operator.post(act, body.clone()).await.0, 403);
    assert_eq!(engineer.post(act, json!({"action": "acknowledge", "under": built.place, "rules": [built.rule]})).await.0, 422);
    assert_eq!(engineer.post(act, body).await.1["count"], 1);
    let idle = until_state(&engineer, "out_of_service").await;
    assert_eq!(idle["suppressions"][0]["until"], "");
    // Shelved as well, it stays suppressed until both are over.
    let shelve = json!({"action": "shelve", "rules": [built.rule], "until": in_hours(&engineer, 1).await, "comment": "both"});
    assert_eq!(operator.post(act, shelve).await.1["count"], 1);
    let put_back = json!({"action": "put_in_service", "under": built.place});
    assert_eq!(operator.post(act, put_back.clone()).await.0, 403);
    assert_eq!(engineer.post(act, put_back).await.1["count"], 1);
    until_state(&engineer, "shelved").await;
    assert_eq!(operator.post(act, json!({"action": "unshelve", "rules": [built.rule]})).await.1["count"], 1);
    until_state(&engineer, "unacknowledged").await;
    engineer.until("/api/journal", |b| b.to_string().contains("Took out of service 1 alarm of EX-1")).await;
    // Of a rule that is switched off nothing stands, and nothing is suppressed.
    let off = json!([{"op": "patch", "kind": "rule", "id": built.rule, "set": {"enabled": false}}]);
    assert_eq!(engineer.edit(plant.live.plant().revision, "Off", off).await.0, 200);
    engineer.until("/api/alarms", |b| b["alarms"] == json!([])).await;
    plant.stop().await;
}

#[actix_web::test]
async fn a_latched_alarm_holds_until_it_is_reset_and_one_for_nobody_needs_no_acknowledgement() {
    let (plant, engineer, built) = alarmed().await;
    let set = |fields: Json| json!([{"op": "patch", "kind": "rule", "id": built.rule, "set": fields}]);
    let revision = || plant.live.plant().revision;
    assert_eq!(engineer.edit(revision(), "Latched", set(json!({"latch": true}))).await.0, 200);
    plant.set_level(20.0);
    until_state(&engineer, "latched_unacknowledged").await;
    let then = engineer.get("/api/instant").await.1["at"].as_str().unwrap().to_owned();
    let act = |action: &str| json!({"action": action, "rules": [built.rule]});
    assert_eq!(engineer.post("/api/alarms/act", act("acknowledge")).await.1["count"], 1);
    until_state(&engineer, "latched_acknowledged").await;
    assert_eq!(engineer.post("/api/alarms/act", act("reset")).await.1["count"], 1);
    engineer.until("/api/alarms", |b| b["alarms"] == json!([])).await;
    let (_, past, _) = engineer.send(Method::GET, "/api/alarms", &[("Havrel-Instant", &then)], None).await;
    assert!(past.contains("latched_unacknowledged"), "{past}");
    let quiet = set(json!({"latch": false, "acknowledge": false}));
    assert_eq!(engineer.edit(revision(), "For nobody", quiet).await.0, 200);
    plant.set_level(90.0);
    until_state(&engineer, "acknowledged").await;
    plant.stop().await;
}
