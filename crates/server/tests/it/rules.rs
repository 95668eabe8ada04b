//! Alarm rules: of every kind at work, in their sheet, made for many tags, tried and run against what is recorded.

use crate::plant::{Built, Client, Plant};
use serde_json::{Value as Json, json};
use uuid::Uuid;

async fn built() -> (Plant, Client, Built) {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(50.0);
    engineer.until(&format!("/api/values?tags={}", built.level_no), |b| b[0]["quality"] == "good").await;
    (plant, engineer, built)
}

async fn rule(client: &Client, seen: i64, set: Json) -> Uuid {
    let id = Uuid::now_v7();
    let (status, told) = client.edit(seen, "Added", json!([{"op": "create", "kind": "rule", "id": id, "set": set}])).await;
    assert_eq!(status, 200, "{told}");
    id
}

/// The alarm of a rule, once it is there and fits.
async fn alarm(client: &Client, rule: Uuid, fits: impl Fn(&Json) -> bool) -> Json {
    let of = |b: &Json| b["alarms"].as_array().unwrap().iter().find(|a| a["rule"] == json!(rule)).cloned();
    of(&client.until("/api/alarms", |b| of(b).is_some_and(|alarm| fits(&alarm))).await).unwrap()
}

#[actix_web::test]
async fn a_deviation_and_a_condition_raise_alarms_and_are_suppressed_by_design() {
    let (plant, engineer, built) = built().await;
    let setpoint = json!({"text": "at(\"Temperature setpoint\") + 0 * at(\"Level\")"});
    let wrong = json!({"tag": built.level, "kind": "deviation", "level": 5, "setpoint": setpoint});
    let edit = json!([{"op": "create", "kind": "rule", "id": Uuid::now_v7(), "set": wrong}]);
    let (status, told) = engineer.edit(1, "Added", edit).await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("setpoint.text")), "{told}");

    let dry = json!({"tag": built.level, "kind": "expression", "name": "nearly full", "when": {"text": "at(\"Level\") > 60"}});
    let dry = rule(&engineer, 1, dry).await;
    let below = json!({"tag": built.level, "kind": "deviation", "side": "below", "level": 10, "setpoint": {"text": "at(\"Level\") * 0 + 65"},
        "only_while": {"text": "at(\"EX-1/Level\") > 40"}});
    let below = rule(&engineer, 2, below).await;
    let raised = alarm(&engineer, below, |a| a["state"] == "unacknowledged").await;
    assert!(raised["text"].as_str().unwrap().contains("below its setpoint, limit 10.0"), "{raised}");
    plant.set_level(70.0);
    let raised = alarm(&engineer, dry, |a| a["state"] == "unacknowledged").await;
    assert_eq!(raised["text"], "Level: nearly full");
    plant.set_level(20.0);
    let hidden = alarm(&engineer, below, |a| a["state"] == "suppressed_by_design").await;
    assert_eq!(hidden["suppressions"][0]["reason"], "only while at(\"EX-1/Level\") > 40");
    let (_, items) = engineer.get(&format!("/api/items/rule?only={below}")).await;
    assert_eq!(items["items"][0]["formulas"]["only_while"], "at(\"EX-1/Level\") > 40");
    plant.stop().await;
}

#[actix_web::test]
async fn rules_stand_in_a_sheet_and_are_made_for_many_tags() {
    let (plant, engineer, built) = built().await;
    let (_, all) = engineer.get("/api/sheets/rules").await;
    assert_eq!((&all["total"], &all["rows"][0]["id"]), (&json!(1), &json!(built.rule)), "{all}");
    assert_eq!((&all["rows"][0]["title"], &all["rows"][0]["fault"]), (&json!("EX-1/Level high"), &Json::Null));
    for (query, total) in [("kind=high", 1), ("kind=low", 0), ("enabled=false", 0), ("faulty=true", 0), ("text=ex-1%20high", 1)] {
        assert_eq!(engineer.get(&format!("/api/sheets/rules?{query}")).await.1["total"], total, "{query}");
    }
    for query in ["kind=deep", "sort=beauty", "finding=much"] {
        assert_eq!(engineer.get(&format!("/api/sheets/rules?{query}")).await.0, 422, "{query}");
    }
    let rules = json!([{"kind": "high", "level": "90 %"}, {"kind": "low", "level": "10 %", "priority": "3"}, {"kind": "bad_quality", "on_delay_s": "30"}]);
    let body = json!({"under": built.place, "text": "level", "rules": rules});
    let (status, made) = engineer.post("/api/rules/made", body).await;
    assert_eq!((status, &made["tags"]), (200, &json!(1)), "{made}");
    assert_eq!(made["passed"][0]["why"], "have a rule “high” already");
    let rows: Vec<Json> = made["rows"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| {
            let cells: Vec<Json> =
                row["cells"].as_object().unwrap().iter().map(|(c, t)| json!({"column": c, "text": t})).collect();
            json!({"id": row["id"], "fresh": true, "cells": cells})
        })
        .collect();
    assert_eq!(rows.len(), 2, "{made}");
    let (status, done) = engineer.post("/api/tables/rule/rows", json!({"why": "Added rules", "rows": rows})).await;
    assert_eq!((status, &done["changed"]), (200, &json!(2)), "{done}");
    let (_, all) = engineer.get("/api/sheets/rules?sort=priority&down=true").await;
    assert_eq!((&all["total"], &all["rows"][0]["cells"][2]), (&json!(3), &json!("low")), "{all}");
    for rules in [json!([]), json!([{"depth": "3"}])] {
        assert_eq!(engineer.post("/api/rules/made", json!({"under": null, "rules": rules})).await.0, 422);
    }
    plant.stop().await;
}

#[actix_web::test]
async fn a_rule_is_tried_on_made_up_values_before_it_is_there() {
    let (plant, engineer, built) = built().await;
    let set = json!({"kind": "high", "level": 80, "on_delay_s": 5});
    let made = |shape: Json| {
        let mut shape = shape;
        shape["tag"] = json!(built.level);
        json!({"tag": built.level, "set": set, "seconds": 100, "every_s": 1, "made_up": [shape]})
    };
    let (status, tried) = engineer.post("/api/rules/trial", made(json!({"shape": "ramp", "from": 0, "to": 100}))).await;
    assert_eq!((status, &tried["spans"]), (200, &json!([[86.0, null]])), "{tried}");
    assert_eq!(tried["events"][0]["text"], "Level high, 85.0 % over 80.0");
    assert_eq!(tried["columns"][0]["values"].as_array().unwrap().len(), 101);
    let (_, tried) = engineer.post("/api/rules/trial", made(json!({"shape": "hold", "value": 90, "bad": [3, 50]}))).await;
    assert_eq!(tried["spans"], json!([[55.0, null]]));
    let when = json!({"kind": "expression", "name": "nearly full", "when": {"text": "at(\"Level\") > 80"}});
    let mut named = made(json!({"shape": "hold", "value": 90}));
    named["set"] = when;
    assert_eq!(engineer.post("/api/rules/trial", named.clone()).await.1["events"][0]["text"], "Level: nearly full");
    let twice = named["made_up"][0].clone();
    named["made_up"].as_array_mut().unwrap().push(twice);
    assert_eq!(engineer.post("/api/rules/trial", named).await.0, 422);
    // Nothing of it is recorded, and the rule that is there is as it was.
    let (_, events) = engineer.get("/api/alarms/events").await;
    assert_eq!((events, engineer.get("/api/sheets/rules").await.1["total"].clone()), (json!([]), json!(1)));
    for (body, field) in [
        (made(json!({"shape": "points", "points": []})), "made_up"),
        (made(json!({"shape": "points", "points": [[5, 1], [4, 1]]})), "made_up"),
        (json!({"tag": built.level, "set": {"kind": "high"}, "seconds": 10, "every_s": 1, "made_up": []}), "level"),
        (json!({"tag": built.level, "set": set, "seconds": 0, "every_s": 1, "made_up": []}), "seconds"),
        (json!({"tag": built.level, "set": set, "seconds": 86400, "every_s": 0.01, "made_up": []}), "every_s"),
        (
            json!({"tag": built.level, "set": set, "seconds": 9, "every_s": 1,
            "made_up": [{"tag": built.setpoint, "shape": "hold", "value": 1}]}),
            "made_up",
        ),
    ] {
        let (status, told) = engineer.post("/api/rules/trial", body).await;
        assert_eq!((status, &told["problems"][0]["field"]), (422, &json!(field)), "{told}");
    }
    plant.stop().await;
}

#[actix_web::test]
async fn a_rule_is_run_against_what_is_recorded_and_calmed() {
    let (plant, engineer, built) = built().await;
    let start = engineer.get("/api/instant").await.1["at"].as_str().unwrap().to_owned();
    // The level swings around 50, four times.
    let value = format!("/api/values?tags={}", built.level_no);
    for level in [57.0, 42.0, 57.0, 42.0, 57.0, 42.0, 57.0, 40.0] {
        plant.set_level(level);
        engineer.until(&value, |b| b[0]["value"].as_f64().is_some_and(|v| (v > 50.0) == (level > 50.0))).await;
    }
    let history = json!({"tags": [built.level], "from": start, "to": "2060-01-01T00:00:00Z"});
    let last = |b: &Json| b["tags"][0]["value"].as_array()?.last()?.as_f64();
    engineer.until_told("/api/history/raw", &history, |b| last(b).is_some_and(|v| v < 41.0)).await;
    let now = engineer.get("/api/instant").await.1["at"].as_str().unwrap().to_owned();
    let body = json!({"tag": built.level, "rule": built.rule, "set": {"level": 50.0}, "from": start, "to": now});
    let (status, done) = engineer.post("/api/rules/backtest", body).await;
    assert_eq!((status, &done["blind"]), (200, &json!(false)), "{done}");
    assert_eq!((&done["as_it_is"]["alarms"], &done["proposed"]["alarms"]), (&json!(0), &json!(4)), "{done}");
    assert!(done["proposed"]["chattering"].as_u64().unwrap() >= 3, "{done}");
    assert!(done["calmer"]["judged"]["chattering"].as_u64().unwrap() < 3, "{done}");
    for (from, to, field) in
        [("x", now.as_str(), "from"), (now.as_str(), start.as_str(), "to"), ("2020-01-01T00:00:00Z", now.as_str(), "to")]
    {
        let body = json!({"tag": built.level, "set": {"kind": "high", "level": 1}, "from": from, "to": to});
        let (status, told) = engineer.post("/api/rules/backtest", body).await;
        assert_eq!((status, &told["problems"][0]["field"]), (422, &json!(field)), "{told}");
    }
    plant.stop().await;
}
