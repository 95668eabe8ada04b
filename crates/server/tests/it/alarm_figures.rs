//! The history of alarms by a filter and as a file, and its figures.

use crate::plant::{Built, Client, Plant};
use actix_web::http::Method;
use havrel_core::{
    alarm::{AlarmEvent, EventKind, KeptValue},
    frame::Frame,
    quality::Quality,
    sample::{Batch, Value},
    time::{Nanos, SECOND, from_text, to_text},
};
use serde_json::{Value as Json, json};
use uuid::Uuid;

const NOON: &str = "2026-03-02T12:00:00Z";

fn noon() -> Nanos {
    from_text(NOON).unwrap()
}

fn kept((name, text): (&str, &str)) -> KeptValue {
    KeptValue { name: name.into(), text: text.into() }
}

fn event(rule: Uuid, sequence: u32, kind: EventKind, at: Nanos) -> AlarmEvent {
    let comment = if kind == EventKind::Acknowledged { "steam was short" } else { "" };
    AlarmEvent {
        rule,
        sequence,
        kind,
        priority: 3,
        occurred_at: at,
        decided_at: at,
        value: 84.6.into(),
        limit: 82.0,
        suppressed: false,
        first_out: sequence == 1 && kind == EventKind::Raised,
        until: None,
        actor: if kind == EventKind::Acknowledged { "Shift lead".into() } else { String::new() },
        comment: comment.into(),
        text: "Level high, 84.6 % over 82.0".into(),
        values: if kind == EventKind::Raised {
            [("Pump", "Running"), ("Flow", "3.2 m³/h")].map(kept).to_vec()
        } else {
            Vec::new()
        },
    }
}

/// A plant with one quiet rule, whose history holds a flood of twelve alarms from noon on, the rule's among them.
async fn flooded() -> (Plant, Client, Built) {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(50.0);
    let rules = std::iter::once(built.rule).chain((1..12).map(Uuid::from_u128));
    let mut frame = Frame::empty(Uuid::from_u128(9), 1, 0, 1, noon());
    for (n, rule) in (0..).zip(rules) {
        let at = noon() + n * 20 * SECOND;
        frame.events.push(event(rule, 1, EventKind::Raised, at));
        frame.events.push(event(rule, 2, EventKind::Acknowledged, at + 120 * SECOND));
        frame.events.push(event(rule, 3, EventKind::Returned, at + 300 * SECOND));
    }
    plant.live.db.append(&[frame]).await.unwrap();
    (plant, engineer, built)
}

const DAY: &str = "from=2026-03-02T00:00:00Z&to=2026-03-03T00:00:00Z";

#[actix_web::test]
async fn figures_tell_of_a_flood_and_of_each_rule() {
    let (plant, engineer, built) = flooded().await;
    let (status, found) = engineer.get(&format!("/api/alarms/performance?{DAY}")).await;
    assert_eq!((status, &found["count"], &found["by_priority"]), (200, &json!(12), &json!([0, 0, 12, 0])), "{found}");
    assert_eq!(found["from"], NOON, "before the first event nothing is known");
    let flood = &found["floods"][0];
    assert_eq!((&flood["from"], &flood["count"], &flood["most"]), (&json!(NOON), &json!(12), &json!(12)));
    assert_eq!((&flood["first"][0]["rule"], &flood["first"][0]["title"]), (&json!(built.rule), &json!("Level high")));
    assert_eq!((&found["acknowledged"]["count"], &found["acknowledged"]["median_s"]), (&json!(12), &json!(120.0)));
    assert_eq!(found["returned"]["longest_s"], 300.0);
    let of = |found: &Json, measure: &str| {
        let figure = found["figures"].as_array().unwrap().iter().find(|f| f["measure"] == measure).cloned().unwrap();
        (figure["value"].as_f64().unwrap(), figure["grade"].as_str().unwrap().to_owned())
    };
    assert_eq!(of(&found, "most"), (12.0, "missed".into()));
    assert_eq!(of(&found, "average"), (12.0 / 72.0, "met".into()));
    assert_eq!(found["areas"], json!([]));
    let under = format!("/api/alarms/performance?{DAY}&under={}", built.place);
    let (_, of_place) = engineer.get(&under).await;
    assert_eq!((&of_place["count"], &of_place["rules"][0]["exists"]), (&json!(1), &json!(true)), "{of_place}");

    // An operator's area is a name that places share.
    let named = json!([{"op": "patch", "kind": "place", "id": built.place, "set": {"operator_area": "Wet end"}}]);
    assert_eq!(engineer.edit(1, "Named", named).await.0, 200);
    assert_eq!(engineer.get("/api/alarms/areas").await.1, json!(["Wet end"]));
    let (_, whole) = engineer.get(&format!("/api/alarms/performance?{DAY}")).await;
    assert_eq!((&whole["areas"][0]["name"], &whole["areas"][0]["count"]), (&json!("Wet end"), &json!(1)), "{whole}");
    assert_eq!(of(&whole["areas"][0], "most"), (1.0, "met".into()));
    let (_, of_area) = engineer.get(&format!("/api/alarms/performance?{DAY}&area=Wet%20end")).await;
    assert_eq!(of_area["count"], 1);
    let (_, unwatched) = engineer.get(&format!("/api/alarms/performance?{DAY}&area=")).await;
    assert_eq!(unwatched["count"], 0, "a deleted rule belongs to no area");
    let (status, told) = engineer.get("/api/alarms/performance?from=2026-03-02T00:00:00Z&to=2026-03-01T00:00:00Z").await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("to")));
    plant.stop().await;
}

#[actix_web::test]
async fn history_is_found_by_period_words_priority_kind_and_rule() {
    let (plant, engineer, built) = flooded().await;
    let total = async |query: &str| engineer.get(&format!("/api/sheets/alarms?{query}")).await.1["total"].clone();
    assert_eq!(total("").await, 36);
    let day = "since=2026-03-02T00:00:00Z&until=2026-03-02T12:01:00Z";
    assert_eq!(total(day).await, 3, "what occurs at its end is not in a period");
    for (query, found) in [
        ("kinds=raised", 12),
        ("kinds=raised,returned", 24),
        ("priorities=43", 36),
        ("priorities=20", 0),
        ("text=STEAM%20lead", 12),
        // The place of the rule that is there.
        ("text=ex-1", 3),
        ("text=ex-1%20steam", 1),
        ("text=50%25_", 0),
    ] {
        assert_eq!(total(query).await, found, "{query}");
    }
    assert_eq!(total(&format!("rule={}", built.rule)).await, 3);
    let (_, first) = engineer.get("/api/sheets/alarms?kinds=raised&count=1").await;
    assert_eq!(first["rows"][0]["first_out"], true);
    assert_eq!(total("since=2026-03-02T12:03:00Z").await, 24, "without an end it goes on");
    assert_eq!(total("until=2026-03-02T12:01:00Z").await, 3);
    let upside = "since=2026-03-02T12:00:00Z&until=2026-03-02T12:00:00Z";
    for (query, field) in [("kinds=gone", "kinds"), ("priorities=7", "priorities"), (upside, "until"), ("since=x", "since")] {
        let (status, told) = engineer.get(&format!("/api/sheets/alarms?{query}")).await;
        assert_eq!((status, &told["problems"][0]["field"]), (422, &json!(field)), "{told}");
    }
    plant.stop().await;
}

#[actix_web::test]
async fn history_is_a_file() {
    let (plant, engineer, built) = flooded().await;
    let file = format!("/api/alarms/history/file?rule={}", built.rule);
    let (status, text, _) = engineer.send(Method::GET, &format!("{file}&format=csv"), &[], None).await;
    assert_eq!(status, 200);
    let lines: Vec<&str> = text.split("\r\n").collect();
    assert_eq!(lines[0], "Time,Place,Alarm,Event,Priority,Value,Limit,Who,Comment,Values with it,Known at");
    let came = "2026-03-02T12:00:00Z,EX-1,\"Level high, 84.6 % over 82.0\",\"came, first out\",3,84.6,82,,,Pump: Running; Flow: 3.2 m³/h,2026-03-02T12:00:00Z";
    assert_eq!((lines[3], lines.len()), (came, 5), "{text}");
    assert!(lines[2].contains("Shift lead,steam was short"), "{text}");
    let (status, text, _) = engineer.send(Method::GET, &format!("{file}&format=xlsx&zone=Europe/Oslo"), &[], None).await;
    assert!(status == 200 && text.starts_with("PK"), "{status}");
    let (status, told) = engineer.get(&format!("{file}&format=doc")).await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("format")));
    plant.stop().await;
}

#[actix_web::test]
async fn what_is_only_recorded_is_in_the_history_and_in_no_list() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let quiet = json!([{"op": "patch", "kind": "rule", "id": built.rule, "set": {"priority": 0}}]);
    assert_eq!(engineer.edit(1, "Made quiet", quiet).await.0, 200);
    plant.set_level(90.0);
    engineer.until("/api/sheets/alarms?priorities=0", |b| b["total"] == 1).await;
    assert_eq!(engineer.get("/api/alarms").await.1["alarms"], json!([]));
    let (_, metrics, _) = engineer.send(Method::GET, "/metrics", &[], None).await;
    assert!(metrics.contains("alarms_standing{priority=\"3\"} 0"), "{metrics}");
    let (_, tags) = engineer.get("/api/sheets/tags?in_alarm=true").await;
    assert_eq!(tags["total"], 0);
    let wrong = json!([{"op": "patch", "kind": "rule", "id": built.rule, "set": {"priority": 5, "first_out": " trip"}}]);
    let (status, told) = engineer.edit(2, "Wrong", wrong).await;
    let fields: Vec<&str> = told["problems"].as_array().unwrap().iter().map(|p| p["field"].as_str().unwrap()).collect();
    assert_eq!((status, fields), (422, vec!["priority", "first_out"]), "{told}");
    plant.stop().await;
}

#[actix_web::test]
async fn what_moved_before_an_alarm_is_told_from_history_with_what_others_did() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let [store, feed, calm, far, other] = [(); 5].map(|()| Uuid::now_v7());
    let tag = |name: &str, place: Uuid| {
        json!({"name": name, "place": place, "connection": store, "point": {"type": "number"}, "writable": true, "record": true,
            "range_low": 0.0, "range_high": 100.0})
    };
    let edits = json!([
        {"op": "create", "kind": "place", "id": other, "set": {"name": "EX-2"}},
        {"op": "create", "kind": "connection", "id": store, "set": {"name": "Store", "kind": "memory"}},
        {"op": "create", "kind": "tag", "id": feed, "set": tag("Feed", built.place)},
        {"op": "create", "kind": "tag", "id": calm, "set": tag("Steam", built.place)},
        {"op": "create", "kind": "tag", "id": far, "set": tag("Feed", other)},
    ]);
    let (status, told) = engineer.edit(1, "More", edits).await;
    assert_eq!(status, 200, "{told}");
    // Four hours in which both feeds step up at the end, and steam does what it always does.
    let (now, live) = (havrel_live::now(), &plant.live);
    let at = now - 3600 * SECOND;
    let no = |id: Uuid| live.plant().tags[&id].no;
    let mut batch = Batch::default();
    for second in (0..4 * 3600).step_by(10) {
        let time = at - (4 * 3600 - second) * SECOND;
        let late = second > 4 * 3600 - 120;
        let wave = 40.0 + 10.0 * (second as f64 / 600.0).sin();
        for (tag, value) in [(feed, if late { 80.0 } else { 30.0 }), (far, if late { 80.0 } else { 30.0 }), (calm, wave)] {
            batch.push(no(tag), time, Quality::GOOD, 0, &Value::F64(value));
        }
    }
    let frame = Frame { batch, ..Frame::empty(Uuid::now_v7(), 1, 0, 1, at) };
    live.import(&[frame]).await.unwrap();
    let path = format!("/api/alarms/before?rule={}&at={}", built.rule, to_text(at));
    let (status, told) = engineer.get(&path).await;
    assert_eq!(status, 200, "{told}");
    let moved: Vec<_> = told["moved"].as_array().unwrap().iter().map(|one| (&one["title"], &one["how"])).collect();
    assert_eq!(moved, [(&json!("EX-1/Feed"), &json!("high")), (&json!("EX-2/Feed"), &json!("high"))], "the nearer one first");
    let since = told["moved"][0]["since"].as_str().unwrap();
    assert!(since > to_text(at - 130 * SECOND).as_str() && since < to_text(at - 60 * SECOND).as_str(), "{since}");
    assert_eq!((&told["looked_at"], &told["left_out"]), (&json!(3), &json!(0)));
    // What somebody writes now stands before an alarm that comes now, and not before the earlier one.
    assert_eq!(told["done"], json!([]));
    assert_eq!(engineer.post(&format!("/api/tags/{feed}/write"), json!({"value": 50.0})).await.0, 200);
    let path = format!("/api/alarms/before?rule={}&at={}", built.rule, to_text(havrel_live::now() + SECOND));
    let told = engineer.until(&path, |told| told["done"].as_array().is_some_and(|done| !done.is_empty())).await;
    assert!(told["done"][0]["title"].as_str().unwrap().contains("Feed"), "{told}");
    assert_eq!(engineer.get(&format!("/api/alarms/before?rule={store}&at=2026-12-01T00:00:00Z")).await.0, 404);
    plant.stop().await;
}
