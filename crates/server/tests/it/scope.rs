//! Who sees a part of the plant sees nothing of the rest, on no route and not on the feed.

use crate::{
    feed::Feed,
    plant::{Built, Client, Plant},
};
use actix_web::http::Method;
use havrel_core::access::Scope;
use rstest::rstest;
use serde_json::{Value as Json, json};
use std::collections::BTreeMap;
use uuid::Uuid;

/// Stands in every name and text that must not be seen.
const MARK: &str = "Quarantined";
/// The value that must not be seen.
const VALUE: f64 = 4711.25;

struct Hidden {
    place: Uuid,
    class: Uuid,
    connection: Uuid,
    tag: Uuid,
    no: u32,
    rule: Uuid,
    report: Uuid,
    edition: String,
    trend: String,
    lookup: String,
    note: String,
}

/// A second branch of which everything is marked.
async fn hide(plant: &Plant, engineer: &Client) -> Hidden {
    let [place, class, connection, broker, tag, rule, report, states, publication] = [(); 9].map(|()| Uuid::now_v7());
    let edits = json!([
        {"op": "create", "kind": "class", "id": class, "set": {"name": "Quarantined class", "note": "Quarantined note",
            "properties": {(Uuid::now_v7().to_string()): {"tag": {"name": "Quarantined property"}}}}},
        {"op": "create", "kind": "place", "id": place, "set": {"name": "Quarantined cellar", "class": class}},
        {"op": "create", "kind": "connection", "id": connection, "set": {"name": "Quarantined store", "kind": "memory"}},
        {"op": "create", "kind": "states", "id": states, "set": {"name": "Quarantined names", "states": [{"value": 0, "name": "Quarantined"}]}},
        {"op": "create", "kind": "tag", "id": tag, "set": {"name": "Quarantined brine", "place": place, "connection": connection,
            "point": {"type": "number", "keep": true}, "writable": true, "record": true, "record_mode": "each_poll", "range_high": 9999.0}},
        {"op": "create", "kind": "rule", "id": rule, "set": {"tag": tag, "kind": "high", "level": 10.0, "action": "Quarantined act"}},
        {"op": "create", "kind": "report", "id": report, "set": {"name": "Quarantined report", "place": place,
            "sections": [{"kind": "values", "tags": [tag]}, {"kind": "alarms"}]}},
        {"op": "create", "kind": "connection", "id": broker, "set": {"name": "Quarantined broker", "kind": "mqtt", "enabled": false,
            "settings": {"host": "127.0.0.1"}}},
        {"op": "create", "kind": "publication", "id": publication, "set": {"name": "Quarantined sending", "connection": broker,
            "tags": [tag], "topic": "quarantined", "payload": "{value}", "format": "text"}},
    ]);
    let (status, body) = engineer.edit(1, "Quarantined revision", edits).await;
    assert_eq!(status, 200, "{body}");
    let no = plant.live.plant().tags[&tag].no;
    let (status, body) = engineer.post(&format!("/api/tags/{tag}/write"), json!({"value": VALUE})).await;
    assert_eq!(status, 200, "{body}");
    engineer.until("/api/alarms", |b| b["alarms"].to_string().contains(MARK)).await;
    let by_hand = json!({"value": VALUE, "reason": "Quarantined reason"});
    let hand = engineer.send(Method::PUT, &format!("/api/tags/{tag}/by-hand"), &[], Some(by_hand)).await;
    assert_eq!(hand.0, 204, "{}", hand.1);
    let (_, note) =
        engineer.post("/api/notes", json!({"tag": tag, "at": "2026-11-03T10:00:00Z", "text": "Quarantined note"})).await;
    let (_, trend) =
        engineer.post("/api/trends", json!({"name": "Quarantined trend", "trend": {"tags": [tag], "span": 60}})).await;
    let lookup = json!({"tags": [tag], "period": {"last_s": 86_400.0}});
    let (_, lookup) = engineer.post("/api/lookups", json!({"name": "Quarantined lookup", "lookup": lookup})).await;
    let view = json!({"name": "Quarantined view", "view": {}});
    engineer.post("/api/views/tags", view).await;
    engineer.post("/api/tokens", json!({"name": "Quarantined token"})).await;
    let (status, edition) = engineer.post(&format!("/api/reports/{report}/editions"), json!({})).await;
    assert_eq!(status, 200, "{edition}");
    let text = |json: &Json| json["id"].as_str().unwrap().to_owned();
    let (edition, trend, lookup, note) = (text(&edition), text(&trend), text(&lookup), text(&note));
    Hidden { place, class, connection, tag, no, rule, report, edition, trend, lookup, note }
}

/// Requests for an operation that ask for what is hidden in every way they can.
fn requests(path: &str, hidden: &Hidden) -> Vec<(String, Json)> {
    let id = match path {
        p if p.starts_with("/api/tags") => hidden.tag.to_string(),
        p if p.starts_with("/api/connections") => hidden.connection.to_string(),
        p if p.starts_with("/api/reports") => hidden.report.to_string(),
        p if p.starts_with("/api/editions") => hidden.edition.clone(),
        p if p.starts_with("/api/trends") => hidden.trend.clone(),
        p if p.starts_with("/api/lookups") => hidden.lookup.clone(),
        p if p.starts_with("/api/notes") => hidden.note.clone(),
        p if p.starts_with("/api/classes") => hidden.class.to_string(),
        _ => hidden.place.to_string(),
    };
    let class = hidden.class.to_string();
    let mut paths =
        vec![path.replace("{id}", &id).replace("{format}", "csv").replace("{class}", &class).replace("{other}", &class)];
    let kinds = ["class", "place", "layout", "states", "connection", "tag", "rule", "report", "publication"];
    if path.contains("{kind}") {
        let of =
            |kind: &str, path: &str| path.replace("{kind}", kind).replace(&hidden.place.to_string(), &hidden.tag.to_string());
        paths = kinds.iter().flat_map(|kind| paths.iter().map(move |path| of(kind, path))).collect();
    }
    let paths: Vec<String> = paths.iter().map(|p| p.replace("{sheet}", "tags")).collect();
    let queries = [
        String::new(),
        format!("?text=quarantined&tags={}&from=1&to=9&since=0", hidden.no),
        format!(
            "?text=quarantined&under={}&tag={}&connection={}&only={}",
            hidden.place, hidden.tag, hidden.connection, hidden.tag
        ),
        format!("?at={}", hidden.place),
    ];
    let period = json!({"from": "2026-01-01T00:00:00Z", "to": "2027-12-31T00:00:00Z"});
    let mut body = json!({
        "tags": [hidden.tag], "rules": [hidden.rule], "tag": hidden.tag, "at": "2026-11-03T10:00:00Z", "text": "x", "name": "x",
        "trend": {"tags": [hidden.tag], "span": 60}, "value": 1, "reason": "x", "why": "x", "edits": [], "rows": [], "parts": [],
        "examples": [], "connection": hidden.connection, "point": {}, "points": [], "node": "", "most": 10, "view": {},
        "places": [hidden.place], "class": hidden.class, "cells": {}, "place": "Quarantined cellar", "try": true, "taken": [], "revision": 1, "revisions": [2], "kind": "tag", "settings": {}
    });
    body.as_object_mut().unwrap().extend(period.as_object().unwrap().clone());
    if path.starts_with("/api/lookup") {
        let lookup = json!({"tags": [hidden.tag], "choices": [{"place": hidden.place}], "period": {"last_s": 86_400.0}});
        body = json!({"lookup": lookup, "format": "csv", "name": "x"});
    }
    if path == "/api/reports/preview" {
        body = json!({"name": "x", "place": hidden.place, "sections": [{"kind": "values", "tags": [hidden.tag]}, {"kind": "alarms"}]});
    }
    queries
        .iter()
        .flat_map(|query| paths.iter().map(move |path| format!("{path}{query}")))
        .map(|path| (path, body.clone()))
        .collect()
}

/// What every operation answers to a client.
async fn ask_all(client: &Client, document: &Json, hidden: &Hidden, only_reading: bool) -> BTreeMap<String, String> {
    let mut told = BTreeMap::new();
    for (path, item) in document["paths"].as_object().unwrap() {
        // Not about the plant, or ends what is needed here.
        if path.starts_with("/api/session")
            || path.starts_with("/api/accounts")
            || path == "/api/openapi.json"
            || path == "/api/push"
        {
            continue;
        }
        for method in item.as_object().unwrap().keys() {
            let reads = ["find", "pixels", "raw", "spans", "preview", "compare", "browse", "lookup/rows", "lookup/sums"]
                .iter()
                .any(|word| path.ends_with(word));
            // What passes between a connection and its device flows on without an end.
            if only_reading && (method != "get" && !reads || path.ends_with("traffic")) {
                continue;
            }
            let method = Method::from_bytes(method.to_uppercase().as_bytes()).unwrap();
            for (path, body) in requests(path, hidden) {
                let body = (method != Method::GET && method != Method::DELETE).then_some(body);
                let headers = [("if-match", "2")];
                let (status, text, _) = client.send(method.clone(), &path, &headers, body).await;
                assert!(status < 500 || status == 502, "{method} {path}: {status} {text}");
                told.insert(format!("{method} {path}"), format!("{status} {text}"));
            }
        }
    }
    told
}

/// Whether a text holds the mark or the hidden value, rounded or not. The same digits inside a time or an identity are chance.
fn leaks(text: &str) -> bool {
    let digits = "4711";
    let alone = text.match_indices(digits).any(|(at, _)| {
        let before = text[..at].chars().next_back();
        let after = text[at + digits.len()..].chars().next();
        !before.is_some_and(|c| c.is_alphanumeric() || ".-".contains(c))
            && !after.is_some_and(|c| c.is_alphanumeric() || c == '-')
    });
    alone || text.contains(MARK)
}

#[rstest]
#[case(r#"{"value":4711.25}"#, true)]
#[case(r#"{"value":4711}"#, true)]
#[case("Brine;4711,3;kg", true)]
#[case("a Quarantined store", true)]
#[case("2026-11-29T12:26:32.434711132Z", false)]
#[case("019ac5f0-4711-7a05-8b4f-0647114711fe", false)]
fn the_hidden_value_is_found_and_nothing_else(#[case] text: &str, #[case] hidden: bool) {
    assert_eq!(leaks(text), hidden, "{text}");
}

#[actix_web::test]
async fn no_route_tells_of_what_lies_outside_a_scope() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let hidden = hide(&plant, &engineer).await;
    let document: Json = serde_json::from_str(&engineer.send(Method::GET, "/api/openapi.json", &[], None).await.1).unwrap();
    // Who sees everything is told it, by most routes that only read: what is searched for can be found.
    let told = ask_all(&engineer, &document, &hidden, true).await;
    let telling: Vec<&String> = told.iter().filter(|(_, text)| leaks(text)).map(|(path, _)| path).collect();
    assert!(telling.len() > 20, "{telling:#?}");
    let narrow = narrowed(&plant, &engineer, &built, "engineer").await;
    for (request, answer) in ask_all(&narrow, &document, &hidden, false).await {
        assert!(!leaks(&answer), "{request} tells: {answer}");
    }
    // What lies in it is there, and what is left out is whole.
    let (_, tags) = narrow.get("/api/items/tag").await;
    assert_eq!((tags["total"].as_u64(), tags["items"][0]["title"].as_str()), (Some(2), Some("EX-1/Level")));
    let (_, tree) = narrow.get("/api/tree").await;
    assert_eq!(tree["places"].as_array().unwrap().len(), 1);
    let (_, values) = narrow.get(&format!("/api/values?tags={},{}", built.level_no, hidden.no)).await;
    assert_eq!(values.as_array().unwrap().len(), 1, "{values}");
    // Nothing hidden was changed or taken away.
    for (path, count) in [("/api/by-hand", 1), ("/api/trends", 1), ("/api/views/tags", 1), ("/api/tokens", 1)] {
        let (_, list) = engineer.get(path).await;
        assert_eq!(
            list.as_array().unwrap().iter().filter(|row| row.to_string().contains(MARK) || path == "/api/by-hand").count(),
            count,
            "{path}: {list}"
        );
    }
    assert!(plant.live.plant().tags.contains_key(&hidden.tag));
    plant.stop().await;
}

#[actix_web::test]
async fn the_feed_tells_only_what_lies_in_a_scope_and_follows_it_when_it_changes() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let hidden = hide(&plant, &engineer).await;
    let narrow = narrowed(&plant, &engineer, &built, "operator").await;
    let mut feed = Feed::open(&narrow).await;
    feed.say(json!({"watch": [built.level_no, hidden.no], "follow": 0})).await;
    let mut statuses = 0;
    feed.until(|message| {
        assert!(!leaks(&message.to_string()) && !message.to_string().contains(&hidden.connection.to_string()), "{message}");
        statuses += usize::from(message["status"].is_object());
        statuses == 3
    })
    .await;
    let write = json!({"value": VALUE + 1.0});
    assert_eq!(narrow.post(&format!("/api/tags/{}/write", hidden.tag), write).await.0, 404);
    // Seeing more counts at once, on the socket that is open.
    plant.scopes.lock().unwrap().clear();
    let (mut values, mut anew) = (false, false);
    feed.until(|message| {
        values |= message["values"].to_string().contains("4711.25");
        anew |= message["alarms"]["anew"] == true;
        values && anew
    })
    .await;
    plant.stop().await;
}

/// An account that sees only the branch that was built.
async fn narrowed(plant: &Plant, engineer: &Client, built: &Built, role: &str) -> Client {
    let client = plant.person(engineer, role).await;
    let (_, accounts) = engineer.get("/api/accounts").await;
    let account = accounts.as_array().unwrap().iter().find(|a| a["name"] == role).unwrap()["id"].as_str().unwrap().to_owned();
    let scope = Scope::Branches([built.place].into());
    plant.scopes.lock().unwrap().insert(Uuid::parse_str(&account).unwrap(), scope);
    client
}
