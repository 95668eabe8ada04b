//! The tree and the tables: branches copied, in and out of service, cells written by two people.

use crate::plant::{Client, Plant};
use actix_web::http::Method;
use serde_json::{Value as Json, json};
use uuid::Uuid;

fn cell(row: Uuid, column: &str, text: &str, was: &str) -> Json {
    json!({"id": row, "cells": [{"column": column, "text": text, "was": was}]})
}

#[actix_web::test]
async fn a_branch_is_copied_and_goes_out_of_service() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let pointed = json!([{"op": "patch", "kind": "tag", "id": built.level, "set": {"setpoint": built.setpoint}}]);
    assert_eq!(engineer.edit(1, "Setpoint", pointed).await.0, 200);
    let (status, copied) = engineer.post("/api/places/copy", json!({"places": [built.place]})).await;
    assert_eq!(status, 200, "{copied}");
    let copy = copied["places"][0].as_str().unwrap();
    let (_, tags) = engineer.get(&format!("/api/items/tag?under={copy}")).await;
    let titles: Vec<_> = tags["items"].as_array().unwrap().iter().map(|t| t["title"].as_str().unwrap()).collect();
    assert_eq!(titles, ["EX-2/Level", "EX-2/Temperature setpoint"]);
    assert_eq!(tags["items"][0]["set"]["setpoint"], tags["items"][1]["id"]);
    assert_eq!(engineer.get(&format!("/api/sheets/tags?twice=true&under={copy}")).await.1["total"], 2);
    assert_eq!(engineer.post("/api/places/copy", json!({"places": [Uuid::now_v7()]})).await.0, 422);

    // The original's level is alarmed; out of service it is withdrawn, and nothing counts as bad.
    plant.set_level(75.0);
    let in_alarm = |body: &Json| body["alarms"].as_array().unwrap().len();
    engineer.until("/api/alarms", |b| in_alarm(b) == 2).await;
    let service = |on: bool| json!([{"op": "patch", "kind": "place", "id": built.place, "set": {"in_service": on}}]);
    assert_eq!(engineer.edit(3, "Out of service", service(false)).await.0, 200);
    engineer.until("/api/alarms", |b| in_alarm(b) == 1).await;
    let values = format!("/api/values?tags={}", built.level_no);
    let (_, value) = engineer.get(&values).await;
    assert_eq!((&value[0]["reason"], &value[0]["value"]), (&json!("out of service"), &json!(75.0)));
    let write = format!("/api/tags/{}/write", built.setpoint);
    let (status, told) = engineer.post(&write, json!({"value": 70.0})).await;
    assert_eq!((status, &told["detail"]), (422, &json!("“EX-1” is out of service.")));
    assert_eq!(engineer.get("/api/sheets/tags?in_service=false").await.1["total"], 2);
    assert_eq!(plant.live.counts().bad.get(&built.place), None);
    assert_eq!(engineer.edit(4, "Back in service", service(true)).await.0, 200);
    engineer.until("/api/alarms", |b| in_alarm(b) == 2).await;
    engineer.until(&values, |b| b[0]["quality"] == "good").await;

    // Whoever knows the tree hears only what changed in it.
    let (_, since) = engineer.get("/api/tree?since=4").await;
    assert_eq!((&since["whole"], since["places"].as_array().unwrap().len()), (&json!(false), 1));
    let (_, all) = engineer.get("/api/tree").await;
    assert_eq!((&all["whole"], all["places"].as_array().unwrap().len()), (&json!(true), 2));

    // What refers to the setpoint is told, with where it is.
    let (_, uses) = engineer.get(&format!("/api/items/tag/{}/uses", built.setpoint)).await;
    assert_eq!((&uses["referrers"][0]["id"], &uses["referrers"][0]["kind"]), (&json!(built.level), &json!("tag")));
    // The whole branch may go: what refers inside it goes with it.
    let (_, uses) = engineer.get(&format!("/api/items/place/{}/uses", built.place)).await;
    assert_eq!((&uses["referrers"], &uses["contents"]["tag"]), (&json!([]), &json!(2)));
    plant.stop().await;
}

#[actix_web::test]
async fn a_thousand_tags_come_into_service_a_few_at_a_time() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let place = Uuid::now_v7();
    let mut edits = vec![json!({"op": "create", "kind": "place", "id": place, "set": {"name": "Many", "in_service": false}})];
    edits.extend((0..1000).map(|n| {
        json!({"op": "create", "kind": "tag", "id": Uuid::now_v7(), "set":
            {"name": format!("T{n}"), "place": place, "connection": built.connection, "point": {"address": (n % 8).to_string(), "type": "u16"}}})
    }));
    assert_eq!(engineer.edit(1, "Many", json!(edits)).await.0, 200);
    assert!(plant.live.jobs.running().is_empty());
    let into = json!([{"op": "patch", "kind": "place", "id": place, "set": {"in_service": true}}]);
    assert_eq!(engineer.edit(2, "Into service", into).await.0, 200);
    let good = format!("/api/sheets/tags?quality=good&under={place}&moment=");
    let mut seen = Vec::new();
    for moment in 0.. {
        let total = engineer.get(&format!("{good}{moment}")).await.1["total"].as_u64().unwrap();
        seen.push(total);
        if total == 1000 {
            break;
        }
        assert!(moment < 800, "only {total} ever came");
        tokio::time::sleep(std::time::Duration::from_millis(10)).await;
    }
    assert!(seen.iter().any(|n| *n > 0 && *n < 1000), "all at once");
    assert!(seen.is_sorted());
    plant.stop().await;
}

#[actix_web::test]
async fn cells_are_written_by_many_rows_and_two_people() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let write = async |rows: Json, only_try: bool| {
        engineer.post("/api/tables/tag/rows", json!({"why": "Sheet", "rows": rows, "try": only_try})).await
    };
    let (_, columns) = engineer.get("/api/tables/tag/columns").await;
    let at = |key: &str| columns.as_array().unwrap().iter().position(|c| c["key"] == key).unwrap();
    let (_, sheet) = engineer.get("/api/sheets/tags?sort=range_low").await;
    assert_eq!(
        (&sheet["rows"][0]["cells"][at("name")], &sheet["rows"][0]["cells"][at("range_high")]),
        (&json!("Level"), &json!("100"))
    );

    let both = json!([cell(built.level, "unit", "mm", "%"), cell(built.setpoint, "range_high", "90", "95")]);
    assert_eq!(write(both.clone(), true).await, (200, json!({"revision": 1, "changed": 2})));
    assert_eq!(write(both.clone(), false).await, (200, json!({"revision": 2, "changed": 2})));
    assert_eq!(plant.live.plant().tags[&built.level].set.unit, "mm");
    // Again the same: by now both hold what is wanted.
    assert_eq!(write(both, false).await, (200, json!({"revision": 2, "changed": 0})));

    let (status, told) = write(json!([cell(built.level, "unit", "m", "%")]), false).await;
    assert_eq!((status, &told["problems"][0]["now"], &told["problems"][0]["field"]), (412, &json!("mm"), &json!("unit")));
    let wrong = json!([cell(built.level, "note", "x", ""), cell(built.setpoint, "decimals", "99", "1")]);
    for only_try in [true, false] {
        let (status, told) = write(wrong.clone(), only_try).await;
        assert_eq!((status, &told["problems"][0]["edit"], &told["problems"][0]["field"]), (422, &json!(1), &json!("decimals")));
    }
    assert_eq!(plant.live.plant().tags[&built.level].set.note, "");
    assert_eq!(engineer.get("/api/tables/report/columns").await.0, 404);

    let keep = |name: &str| json!({"name": name, "view": {"columns": ["name", "unit"]}});
    assert_eq!(engineer.post("/api/views/tags", keep("Units")).await.0, 200);
    let (_, made) = engineer.post("/api/views/tags", keep("UNITS")).await;
    let (_, kept) = engineer.get("/api/views/tags").await;
    assert_eq!(
        (kept.as_array().unwrap().len(), &kept[0]["name"], &kept[0]["view"]["columns"][1]),
        (1, &json!("UNITS"), &json!("unit"))
    );
    let large = json!({"name": "Large", "view": {"x": "y".repeat(9000)}});
    assert_eq!(engineer.post("/api/views/tags", large).await.0, 422);
    let one = format!("/api/views/{}", kept[0]["id"].as_str().unwrap());
    assert_ne!(made["id"], json!(null));
    assert_eq!(engineer.send(Method::DELETE, &one, &[], None).await.0, 204);
    assert_eq!(engineer.send(Method::DELETE, &one, &[], None).await.0, 404);
    plant.stop().await;
}

/// Sends a file to be compared and waits for the answer.
async fn compared(client: &Client, query: &str, body: String) -> (String, Json) {
    let request =
        awc::Client::new().post(format!("{}/api/files?{query}", client.url)).insert_header(("cookie", client.cookie_text()));
    let mut answer = request.send_body(body).await.unwrap();
    assert_eq!(answer.status(), 200);
    let id = answer.json::<Json>().await.unwrap()["id"].as_str().unwrap().to_owned();
    let view = client.until(&format!("/api/files/{id}"), |b| b["state"] != "working").await;
    (id, view)
}

#[actix_web::test]
async fn a_table_goes_out_is_edited_compared_taken_in_and_undone() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let (_, text, head) = engineer.send(Method::GET, "/api/tables/tag/file?mark=semicolon", &[], None).await;
    assert!(head.iter().any(|(k, v)| k == "content-disposition" && v.contains("tags.csv")));
    let (_, same) = compared(&engineer, "what=tag&remove=true", text.clone()).await;
    assert_eq!((&same["state"], &same["unchanged"], &same["counts"]), (&json!("ready"), &json!(2), &json!([])));

    let lines: Vec<&str> = text.lines().collect();
    let edited = format!("{}\r\n{}\r\n", lines[0], lines[1].replace(";%;", ";mm;"));
    let (id, view) = compared(&engineer, "what=tag&remove=true", edited).await;
    let told: Vec<_> = view["differences"]
        .as_array()
        .unwrap()
        .iter()
        .map(|d| (d["outcome"].as_str().unwrap(), d["title"].as_str().unwrap()))
        .collect();
    assert_eq!(told, [("removed", "EX-1/Temperature setpoint"), ("changed", "EX-1/Level")]);
    assert_eq!(view["differences"][1]["cells"], json!([{"column": "unit", "before": "%", "after": "mm"}]));
    assert_eq!(plant.live.plant().revision, 1);
    let take = format!("/api/files/{id}/take");
    assert_eq!(engineer.post(&take, json!({"why": " "})).await.0, 422);
    assert_eq!(engineer.post(&take, json!({"why": "Took tags.csv in"})).await, (200, json!({"revision": 2})));
    assert_eq!(plant.live.plant().tags.len(), 1);
    assert_eq!(engineer.post(&take, json!({"why": "again"})).await.0, 404);
    assert_eq!(engineer.post("/api/undo", json!({"revision": 2})).await.0, 200);
    assert_eq!(plant.live.plant().tags[&built.level].set.unit, "%");
    assert_eq!(plant.live.plant().tags.len(), 2);

    // What somebody else changes between the difference and the taking in is not overwritten.
    let (id, _) = compared(&engineer, "what=tag", "place,name,unit\nEX-1,Level,m\n".into()).await;
    let unit = json!([{"op": "patch", "kind": "tag", "id": built.level, "set": {"unit": "l"}}]);
    assert_eq!(engineer.edit(3, "Meanwhile", unit).await.0, 200);
    assert_eq!(engineer.post(&format!("/api/files/{id}/take"), json!({"why": "x"})).await.0, 412);
    assert_eq!(plant.live.plant().tags[&built.level].set.unit, "l");

    let (id, wrong) = compared(&engineer, "what=tag", "place,name,range_low\nEX-1,Level,much\n".into()).await;
    assert_eq!((&wrong["wrong"][0]["line"], &wrong["wrong"][0]["column"]), (&json!(2), &json!("range_low")));
    assert_eq!(engineer.post(&format!("/api/files/{id}/take"), json!({"why": "x"})).await.0, 409);
    assert_eq!(engineer.send(Method::DELETE, &format!("/api/files/{id}"), &[], None).await.0, 204);
    assert_eq!(engineer.get(&format!("/api/files/{id}")).await.0, 404);
    plant.stop().await;
}

#[actix_web::test]
async fn a_whole_plant_travels_to_an_empty_one() {
    let first = Plant::start().await;
    let engineer = first.engineer().await;
    let built = first.build(&engineer).await;
    let (_, file, _) = engineer.send(Method::GET, "/api/plant/file", &[], None).await;
    let second = Plant::start().await;
    let other = second.engineer().await;
    let (id, view) = compared(&other, "what=plant&remove=true", file.clone()).await;
    assert_eq!(view["state"], "ready", "{view}");
    assert_eq!(other.post(&format!("/api/files/{id}/take"), json!({"why": "Plant of another"})).await.0, 200);
    let no = second.live.plant().tags[&built.level].no;
    other.until(&format!("/api/values?tags={no}"), |b| b[0]["quality"] == "good").await;
    let (_, again, _) = other.send(Method::GET, "/api/plant/file", &[], None).await;
    let items = |text: &str| serde_json::from_str::<Json>(text).unwrap()["items"].clone();
    assert_eq!(items(&file), items(&again));
    first.stop().await;
    second.stop().await;
}
