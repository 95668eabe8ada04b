//! The HTTP API.

use crate::plant::{Client, Plant};
use actix_web::http::Method;
use havrel_core::{
    frame::Frame,
    quality::Quality,
    sample::{Batch, Value},
    time::SECOND,
};
use rstest::rstest;
use serde_json::{Value as Json, json};
use std::path::Path;
use uuid::Uuid;

#[actix_web::test]
async fn the_description_in_the_repository_is_the_one_served() {
    let plant = Plant::start().await;
    let (_, served, _) = Client::new(&plant.url).send(Method::GET, "/api/openapi.json", &[], None).await;
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/openapi.json");
    if std::env::var_os("HAVREL_WRITE_OPENAPI").is_some() {
        std::fs::write(&file, &served).unwrap();
    }
    let kept = std::fs::read_to_string(&file).unwrap();
    assert!(kept == served, "docs/openapi.json is out of date: HAVREL_WRITE_OPENAPI=1 cargo test --workspace the_description");
    plant.stop().await;
}

#[actix_web::test]
async fn the_first_account_is_the_only_one_made_without_asking() {
    let plant = Plant::start().await;
    let client = Client::new(&plant.url);
    assert_eq!(client.get("/api/session").await.1["needs_first"], true);
    let (status, body) = client.post("/api/session/first", json!({"name": " ", "password": "kelp-and-salt", "code": ""})).await;
    assert_eq!((status, &body["problems"][0]["field"]), (422, &json!("name")));
    let (status, body) = client.post("/api/session/first", json!({"name": "x", "password": "short", "code": ""})).await;
    assert_eq!((status, &body["problems"][0]["field"]), (422, &json!("password")));
    let engineer = plant.engineer().await;
    assert_eq!(engineer.get("/api/session").await.1["role"], "engineer");
    assert_eq!(client.post("/api/session/first", json!({"name": "y", "password": "kelp-and-salt", "code": ""})).await.0, 409);
    assert_eq!(client.post("/api/session", json!({"name": "Plant engineer", "password": "wrong-one"})).await.0, 401);
    assert_eq!(client.post("/api/session", json!({"name": "plant ENGINEER", "password": "kelp-and-salt"})).await.0, 200);
    client.send(Method::DELETE, "/api/session", &[], None).await;
    assert_eq!(client.get("/api/items/tag").await.0, 401);
    plant.stop().await;
}

#[actix_web::test]
async fn strangers_are_turned_away() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let body = Some(json!({"action": "acknowledge", "rules": []}));
    let foreign = [("origin", "http://elsewhere.example")];
    assert_eq!(engineer.send(Method::POST, "/api/alarms/act", &foreign, body.clone()).await.0, 403);
    assert_eq!(
        engineer
            .send(Method::GET, "/api/live", &[("origin", "null"), ("upgrade", "websocket"), ("connection", "upgrade")], None)
            .await
            .0,
        403
    );
    assert_eq!(engineer.send(Method::POST, "/api/alarms/act", &[("origin", &plant.url)], body).await.0, 200);
    let (status, text, _) = engineer.send(Method::GET, "/api/health", &[("host", "plant.example")], None).await;
    assert_eq!(status, 421, "{text}");
    // Guessing passwords is slowed down.
    let client = Client::new(&plant.url);
    let mut last = (0, String::new(), Vec::new());
    for _ in 0..12 {
        last = client.send(Method::POST, "/api/session", &[], Some(json!({"name": "a", "password": "b"}))).await;
    }
    assert_eq!(last.0, 429);
    assert!(last.2.iter().any(|(k, v)| k == "retry-after" && v.parse::<u32>().is_ok()));
    plant.stop().await;
}

#[actix_web::test]
async fn bodies_are_bounded_and_nonsense_is_told() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let large = json!({"why": "x".repeat(33 << 20), "edits": []});
    let (status, text, _) = engineer.send(Method::POST, "/api/edits", &[("if-match", "0")], Some(large)).await;
    assert_eq!(status, 413, "{text}");
    let (status, text, _) = engineer.send(Method::POST, "/api/edits", &[("if-match", "0")], Some(json!([1, 2]))).await;
    assert_eq!(status, 400);
    assert!(text.contains("could not be read"), "{text}");
    assert_eq!(engineer.get("/api/no/such/page").await.0, 404);
    assert_eq!(engineer.get("/api/items/shelf").await.0, 404);
    assert_eq!(engineer.get("/api/values?tags=x").await.0, 422);
    plant.stop().await;
}

#[actix_web::test]
async fn edits_need_what_was_seen_and_name_the_field() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let rename = |name: &str| json!([{"op": "patch", "kind": "tag", "id": built.level, "set": {"name": name}}]);
    assert_eq!(engineer.post("/api/edits", json!({"why": "x", "edits": rename("y")})).await.0, 428);
    assert_eq!(engineer.edit(1, "Renamed", rename("Fill level")).await.0, 200);
    let (status, body) = engineer.edit(1, "Renamed", rename("Other")).await;
    assert_eq!(status, 412, "{body}");
    let (status, body) = engineer.edit(2, "Renamed", rename("Temperature setpoint")).await;
    assert_eq!((status, &body["problems"][0]["field"]), (422, &json!("name")));
    let address =
        json!([{"op": "patch", "kind": "tag", "id": built.level, "set": {"point": {"address": "49999999", "type": "u16"}}}]);
    let (status, body) = engineer.edit(2, "Moved", address).await;
    assert_eq!((status, &body["problems"][0]["field"]), (422, &json!("point.address")));
    let host = json!([{"op": "patch", "kind": "connection", "id": built.connection, "set": {"settings": {"host": "http://x"}}}]);
    assert_eq!(engineer.edit(2, "Moved", host).await.1["problems"][0]["field"], "settings.host");
    // Any revision can be undone; what was made by the first was touched by the second.
    let (status, plan) = engineer.post("/api/undo/plan", json!({"revision": 1})).await;
    assert_eq!((status, &plan["conflicts"][0]["id"], &plan["conflicts"][0]["field"]), (200, &json!(built.level), &json!("")));
    assert_eq!(engineer.post("/api/undo", json!({"revision": 1})).await.0, 409);
    assert_eq!(engineer.post("/api/undo", json!({"revision": 77})).await.0, 404);
    assert_eq!(engineer.post("/api/undo", json!({"revision": 2})).await.0, 200);
    let (_, tags) = engineer.get("/api/items/tag").await;
    assert_eq!((&tags["items"][0]["set"]["name"], &tags["revision"]), (&json!("Level"), &json!(3)));
    assert_eq!(tags["items"][0]["source"], "Extraction · holding 0, u16");
    let (_, revisions) = engineer.get("/api/revisions").await;
    assert_eq!((&revisions[0]["undoes"], &revisions[1]["changes"][0]["before"]["name"]), (&json!(2), &json!("Level")));
    let (_, uses) = engineer.get(&format!("/api/items/place/{}/uses", built.place)).await;
    assert_eq!(uses["contents"], json!({"tag": 2, "rule": 1}));
    // Revisions 2 and 3 come to nothing together; going back to 0 leaves the empty plant, and going back again fills it.
    assert_eq!(engineer.get("/api/revisions/compare?from=1&to=3").await.1, json!({"changes": [], "total": 0}));
    let (_, compared) = engineer.get("/api/revisions/compare?from=1&to=2").await;
    assert_eq!((&compared["total"], &compared["changes"][0]["after"]["name"]), (&json!(1), &json!("Fill level")));
    assert_eq!(engineer.get("/api/revisions/compare?from=2&to=9").await.0, 422);
    let back = |to: i64, seen: &'static str| {
        let engineer = &engineer;
        async move {
            let body = Some(json!({"revision": to}));
            engineer.send(Method::POST, "/api/revisions/return", &[("if-match", seen)], body).await.0
        }
    };
    assert_eq!((back(0, "2").await, back(3, "3").await, back(0, "3").await), (412, 422, 200));
    assert_eq!(engineer.get("/api/items/tag").await.1["total"], 0);
    assert_eq!(back(3, "4").await, 200);
    let (_, again) = engineer.get("/api/items/tag").await;
    let mut numbers: Vec<_> = again["items"].as_array().unwrap().iter().map(|t| t["no"].as_u64().unwrap() as u32).collect();
    numbers.sort_unstable();
    assert_eq!(numbers, [built.level_no, built.setpoint_no], "tags that come back keep their numbers");
    plant.stop().await;
}

#[actix_web::test]
async fn a_write_is_checked_read_back_and_journalled() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let path = format!("/api/tags/{}/write", built.setpoint);
    engineer.until(&format!("/api/values?tags={}", built.setpoint_no), |b| b[0]["value"] == 82.0).await;
    let (status, body) = engineer.post(&path, json!({"value": 300.0})).await;
    assert_eq!(status, 422);
    assert_eq!(body["detail"], "The value must be between 20 and 95 °C.");
    let (status, body) = engineer.post(&path, json!({"value": 64.5})).await;
    assert_eq!((status, body), (200, json!({"before": 82.0, "value": 64.5})));
    assert_eq!(plant.controller.lock().process.vessels[0].set.temperature, 64.5);
    let (_, journal) = engineer.get("/api/journal?kind=write").await;
    assert_eq!(journal[0]["detail"], json!({"before": 82.0, "asked": 64.5, "after": 64.5}));
    assert_eq!(journal[0]["actor"], "Plant engineer");
    assert_eq!(engineer.post(&format!("/api/tags/{}/write", built.level), json!({"value": 1.0})).await.0, 422);
    plant.stop().await;
}

#[actix_web::test]
async fn an_alarm_comes_is_acknowledged_returns_and_is_kept() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(40.0);
    engineer.until(&format!("/api/values?tags={}", built.level_no), |b| b[0]["value"].as_f64().is_some_and(|v| v < 45.0)).await;
    plant.set_level(75.0);
    let list = engineer.until("/api/alarms", |b| b["alarms"].as_array().is_some_and(|a| a.len() == 1)).await;
    let alarm = &list["alarms"][0];
    assert_eq!(
        (&alarm["state"], &alarm["priority"], &alarm["place_name"]),
        (&json!("unacknowledged"), &json!(3), &json!("EX-1"))
    );
    assert!(alarm["text"].as_str().unwrap().starts_with("Level high, 7"), "{alarm}");
    let (_, done) =
        engineer.post("/api/alarms/act", json!({"action": "acknowledge", "rules": [built.rule], "comment": "seen"})).await;
    assert_eq!(done["count"], 1);
    plant.set_level(30.0);
    engineer.until("/api/alarms", |b| b["alarms"].as_array().is_some_and(Vec::is_empty)).await;
    let events = engineer
        .until(&format!("/api/alarms/events?under={}", built.place), |b| b.as_array().is_some_and(|e| e.len() == 3))
        .await;
    let kinds: Vec<&str> = events.as_array().unwrap().iter().map(|e| e["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["returned", "acknowledged", "raised"]);
    assert_eq!((&events[1]["actor"], &events[1]["comment"]), (&json!("Plant engineer"), &json!("seen")));
    plant.stop().await;
}

#[actix_web::test]
async fn history_answers_in_columns() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(50.0);
    let began = havrel_live::now();
    let question = |more: Json| {
        let (from, to) = (began - 60_000_000_000, havrel_live::now() + 1_000_000_000);
        let mut body =
            json!({"tags": [built.level], "from": havrel_core::time::to_text(from), "to": havrel_core::time::to_text(to)});
        body.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        body
    };
    let mut raw = Json::Null;
    for _ in 0..200 {
        raw = engineer.post("/api/history/raw", question(json!({}))).await.1;
        if raw["tags"][0]["offset"].as_array().is_some_and(|o| o.len() >= 8) {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(25)).await;
    }
    let columns = &raw["tags"][0];
    let offsets: Vec<i64> = columns["offset"].as_array().unwrap().iter().map(|o| o.as_i64().unwrap()).collect();
    assert!(offsets.len() >= 8 && offsets.windows(2).all(|w| w[0] < w[1]));
    assert_eq!(columns["value"].as_array().unwrap().len(), offsets.len());
    // Between the first and the last of them every value holds until the next.
    let start = havrel_core::time::from_text(raw["start"].as_str().unwrap()).unwrap();
    let values: Vec<f64> = columns["value"].as_array().unwrap().iter().map(|v| v.as_f64().unwrap()).collect();
    let length = |i: usize| (offsets[i + 1] - offsets[i]) as f64;
    let last = offsets.len() - 1;
    let expected = (0..last).map(|i| values[i] * length(i)).sum::<f64>() / (0..last).map(length).sum::<f64>();
    let at = |i: usize| havrel_core::time::to_text(start + offsets[i]);
    let (_, spans) = engineer.post("/api/history/spans", question(json!({"parts": 1, "from": at(0), "to": at(last)}))).await;
    let average = spans["tags"][0]["average"][0].as_f64().unwrap();
    assert!((average - expected).abs() < 1e-6, "{average} instead of {expected}: {spans}");
    let (_, pixels) = engineer.post("/api/history/pixels", question(json!({"parts": 100}))).await;
    assert_eq!(pixels["tags"][0]["limits"], json!([{"kind": "high", "level": 60.0, "priority": 3}]));
    assert!(pixels["complete_until"].as_str().unwrap() > havrel_core::time::to_text(began).as_str());
    let (status, body) = engineer.post("/api/history/raw", json!({"tags": [], "from": "now", "to": "then"})).await;
    assert_eq!((status, &body["problems"][0]["field"]), (422, &json!("from")));
    let (status, _) = engineer
        .post("/api/history/raw", json!({"tags": [Uuid::nil()], "from": "2026-01-01T00:00:00Z", "to": "2026-01-02T00:00:00Z"}))
        .await;
    assert_eq!(status, 422);
    let (status, body) = engineer
        .post("/api/history/raw", json!({"tags": [], "from": "1700-01-01T00:00:00Z", "to": "2200-01-01T00:00:00Z"}))
        .await;
    assert_eq!((status, &body["problems"][0]["field"]), (422, &json!("to")));
    // Ten years are answered too, bounded.
    let (status, _) = engineer
        .post("/api/history/pixels", json!({"tags": [built.level], "from": "2020-01-01T00:00:00Z", "to": "2030-01-01T00:00:00Z"}))
        .await;
    assert_eq!(status, 200);
    plant.stop().await;
}

#[actix_web::test]
async fn a_report_over_a_period_without_anything_says_so() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let place = Uuid::now_v7();
    let tag = Uuid::now_v7();
    let edits = json!([
        {"op": "create", "kind": "place", "id": place, "set": {"name": "EX-1"}},
        {"op": "create", "kind": "tag", "id": tag, "set": {"name": "Level", "place": place, "unit": "%"}},
    ]);
    assert_eq!(engineer.edit(0, "Built", edits).await.0, 200);
    let kinds = ["summary", "values", "trend"].map(|kind| json!({"kind": kind, "tags": [tag]}));
    let sections: Vec<Json> = kinds.into_iter().chain([json!({"kind": "alarms"})]).collect();
    let set = json!({"name": "Empty", "place": place, "minutes": 44_640, "sections": sections});
    let (status, html, _) = engineer.send(Method::POST, "/api/reports/preview", &[], Some(set.clone())).await;
    assert_eq!(status, 200);
    for words in ["Nothing was recorded in this period.", "No alarms in this period.", "<td class=\"n\">–</td>", "0.0 %"] {
        assert!(html.contains(words), "{words}: {html}");
    }
    let label = json!({"width": 5, "height": 50});
    let edits = json!([{"op": "create", "kind": "report", "id": Uuid::now_v7(), "set": {"name": "Small", "label": label}}]);
    let (status, body) = engineer.edit(1, "Added", edits).await;
    assert_eq!((status, &body["problems"][0]["field"]), (422, &json!("label")));
    plant.stop().await;
}

#[actix_web::test]
async fn a_kept_trend_is_replaced_only_by_whom_it_belongs_to() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let operator = plant.person(&engineer, "operator").await;
    let trend = |end: f64, replace: bool| json!({"name": "Level", "replace": replace, "trend": {"tags": [built.level], "span": 60, "end": end}});
    assert_eq!(engineer.post("/api/trends", trend(1e12, false)).await.0, 200);
    let (status, body) = operator.post("/api/trends", trend(1e12, true)).await;
    assert_eq!(
        (status, &body["problems"][0]["message"]),
        (422, &json!("“Level” belongs to Plant engineer. Choose another name."))
    );
    assert_eq!(operator.get("/api/trends").await.1[0]["removable"], false);
    assert_eq!(engineer.post("/api/trends", trend(1e12, true)).await.0, 200);
    // What no browser could show is not kept.
    let (status, body) = engineer.post("/api/trends", trend(1e300, true)).await;
    assert_eq!((status, &body["problems"][0]["field"]), (422, &json!("trend.end")));
    plant.stop().await;
}

#[actix_web::test]
async fn sheets_give_rows_by_their_index() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let (_, sheet) = engineer.get("/api/sheets/tags?sort=name&from=1&count=5").await;
    assert_eq!((&sheet["total"], &sheet["rows"][0]["name"]), (&json!(2), &json!("Temperature setpoint")));
    let (_, sheet) = engineer.get(&format!("/api/sheets/tags?text=ex-1%20lev&under={}", built.place)).await;
    let row = &sheet["rows"][0];
    assert_eq!((&row["no"], &row["limits"], &row["recorded"]), (&json!(built.level_no), &json!("high 60"), &json!("each_poll")));
    assert_eq!((&row["source"], &row["place_path"]), (&json!("Extraction · holding 0, u16"), &json!("EX-1")));
    assert_eq!(engineer.get("/api/sheets/tags?sort=colour").await.0, 422);
    assert_eq!(engineer.get("/api/sheets/tags?from=99999999").await.1["rows"], json!([]));

    plant.set_level(75.0);
    let first = engineer.until("/api/sheets/alarms", |b| b["total"] == 1).await;
    assert_eq!(first["rows"][0]["kind"], "raised");
    plant.set_level(30.0);
    let all = engineer.until("/api/sheets/alarms?count=1", |b| b["total"] == 2).await;
    assert_eq!(all["rows"][0]["kind"], "returned");
    // Rows keep their index as long as the newest event that is counted is the same.
    let (_, before) = engineer.get(&format!("/api/sheets/alarms?upto={}", first["upto"])).await;
    assert_eq!((&before["total"], &before["rows"][0]["kind"]), (&json!(1), &json!("raised")));
    let (_, older) = engineer.get("/api/sheets/alarms?from=1&count=10").await;
    assert_eq!((older["rows"].as_array().unwrap().len(), &older["rows"][0]["kind"]), (1, &json!("raised")));
    plant.stop().await;
}

#[actix_web::test]
async fn an_edition_stays_as_it_was_made() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let report = Uuid::now_v7();
    let sections = json!([{"kind": "text", "text": "<b>Shift</b>"}, {"kind": "summary", "tags": [built.level]}, {"kind": "trend", "tags": [built.level]}, {"kind": "alarms"}]);
    let set = json!({"name": "Shift", "place": built.place, "minutes": 15, "zone": "Europe/Oslo", "sections": sections});
    let (status, html, _) = engineer.send(Method::POST, "/api/reports/preview", &[], Some(set.clone())).await;
    assert_eq!(status, 200);
    assert!(html.contains("&lt;b&gt;Shift") && html.contains("Level"), "{html}");
    assert_eq!(
        engineer.edit(1, "Added report", json!([{"op": "create", "kind": "report", "id": report, "set": set}])).await.0,
        200
    );
    let (_, edition) = engineer.post(&format!("/api/reports/{report}/editions"), json!({})).await;
    let fetch = |format: &'static str| format!("/api/editions/{}/{format}", edition["id"].as_str().unwrap());
    let (_, first, head) = engineer.send(Method::GET, &fetch("html"), &[], None).await;
    assert!(head.iter().any(|(k, v)| k == "content-disposition" && v.contains("attachment") && v.contains(".html")));
    let (_, table, _) = engineer.send(Method::GET, &fetch("csv"), &[], None).await;
    assert!(table.starts_with("Report,Shift\r\nPlace,EX-1\r\n"), "{table}");
    // A rename later changes nothing in it, and the tag cannot go while the report shows it.
    let rename = json!([{"op": "patch", "kind": "tag", "id": built.level, "set": {"name": "Fill"}}]);
    assert_eq!(engineer.edit(2, "Renamed", rename).await.0, 200);
    assert_eq!(engineer.send(Method::GET, &fetch("html"), &[], None).await.1, first);
    let (status, body) =
        engineer.edit(3, "Deleted", json!([{"op": "delete", "kind": "tag", "id": built.level, "contents": true}])).await;
    assert_eq!(status, 409);
    assert!(body["detail"].as_str().unwrap().contains("report “Shift” uses"), "{body}");
    // Another period than its own is chosen for one edition.
    let of = |from: &str, to: &str| format!("/api/reports/{report}/editions?from={from}&to={to}");
    let (_, chosen) = engineer.post(&of("2026-11-01T06:00:00Z", "2026-11-01T14:00:00Z"), json!({})).await;
    assert_eq!((&chosen["from"], &chosen["to"]), (&json!("2026-11-01T06:00:00Z"), &json!("2026-11-01T14:00:00Z")), "{chosen}");
    for (from, to) in [
        ("2026-11-01T06:00:00Z", "2026-11-01T06:00:00Z"),
        ("2026-01-01T00:00:00Z", "2026-02-02T00:00:00Z"),
        ("soon", "2026-02-02T00:00:00Z"),
    ] {
        assert_eq!(engineer.post(&of(from, to), json!({})).await.0, 422, "{from} to {to}");
    }
    let half = engineer.post(&format!("/api/reports/{report}/editions?to=2026-11-01T06:00:00Z"), json!({})).await;
    assert_eq!(half.0, 422);
    plant.stop().await;
}

#[rstest]
#[case(json!({"host": "127.0.0.1"}), true)]
#[case(json!({"host": "127.0.0.1", "unit": 9}), false)]
#[actix_web::test]
async fn a_connection_is_tested_before_it_is_saved(#[case] mut settings: Json, #[case] passes: bool) {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    settings["port"] = json!(plant.controller_port);
    let body = json!({"name": "c", "kind": "modbus", "timeout_ms": 500, "settings": settings});
    let (_, text, _) = engineer.send(Method::POST, "/api/connections/test", &[], Some(body)).await;
    let steps: Vec<Json> = text.lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    assert_eq!(steps.len(), if passes { 4 } else { 3 }, "{text}");
    assert_eq!(steps.last().unwrap()["passed"], passes);
    assert!(engineer.get("/api/items/connection").await.1["items"].as_array().unwrap().is_empty());
    let (status, body) =
        engineer.post("/api/connections/test", json!({"name": "c", "kind": "modbus", "settings": {"host": ""}})).await;
    assert_eq!((status, &body["problems"][0]["field"]), (422, &json!("settings.host")));
    plant.stop().await;
}

#[actix_web::test]
async fn frames_from_elsewhere_are_imported_once_and_checked_first() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let past = havrel_live::now() - 3600 * SECOND;
    let frame = |seq: u64, tag: u32, at: i64| {
        let mut batch = Batch::default();
        batch.push(tag, at, Quality::GOOD, 0, &Value::F64(seq as f64));
        let (events, states, gaps) = (Vec::new(), Vec::new(), Vec::new());
        Frame { batch, events, states, gaps, ..Frame::empty(Uuid::from_u128(5), 1, 0, seq, at) }
    };
    let send = |bytes: Vec<u8>| {
        let request = awc::Client::default().post(format!("{}/api/history/import", plant.url));
        let request = request.insert_header(("cookie", engineer.cookie_text()));
        async move {
            let mut response = request.send_body(bytes).await.unwrap();
            (response.status().as_u16(), response.json::<Json>().await.unwrap())
        }
    };
    // The newer first, as a past is loaded.
    let two = [frame(1, built.level_no, past).encode().unwrap(), frame(2, built.level_no, past - 1).encode().unwrap()].concat();
    for _ in 0..2 {
        let (status, body) = send(two.clone()).await;
        assert_eq!((status, body), (200, json!({"frames": 2, "samples": 2, "events": 0})));
    }
    let kept = plant.live.db.raw(built.level_no, past - SECOND, past, false, 10).await.unwrap();
    assert_eq!(kept.iter().map(|k| k.time - past).collect::<Vec<_>>(), [-1, 0]);
    let own = Frame { node: plant.live.node, ..frame(9, built.level_no, past) };
    let mut torn = two.clone();
    torn.pop();
    for (bytes, words) in [
        (frame(3, 999_999, past).encode().unwrap(), "no tag with number 999999"),
        (frame(3, built.level_no, past + 7200 * SECOND).encode().unwrap(), "still to come"),
        (own.encode().unwrap(), "this node's own"),
        (torn, "Frame 2 cannot be read"),
        (b"nonsense".to_vec(), "Frame 1 cannot be read"),
    ] {
        let (status, body) = send(bytes).await;
        assert!(status == 422 && body["detail"].as_str().unwrap().contains(words), "{words}: {status} {body}");
    }
    plant.stop().await;
}

#[actix_web::test]
async fn the_program_tells_how_it_is() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    plant.build(&engineer).await;
    plant.set_level(75.0);
    engineer.until("/api/alarms", |b| b["alarms"].as_array().is_some_and(|a| a.len() == 1)).await;
    let (status, text, head) = Client::new(&plant.url).send(Method::GET, "/metrics", &[], None).await;
    assert_eq!(status, 200, "{text}");
    assert!(head.iter().any(|(name, value)| name == "content-type" && value.starts_with("application/openmetrics-text")));
    for line in [
        "havrel_database_up 1.0",
        "havrel_tags 2.0",
        "havrel_alarms_waiting{priority=\"3\"} 1.0",
        "havrel_connection_up{connection=\"Extraction\"} 1.0",
        "# EOF",
    ] {
        assert!(text.lines().any(|l| l == line), "{line} is missing in\n{text}");
    }
    plant.stop().await;
}
