//! Recorders through the interface: tried, saved, followed into history, paused, and what is removed when it is old.

use crate::plant::{Client, Plant};
use havrel_core::time::{SECOND, to_text};
use serde_json::{Value as Json, json};
use uuid::Uuid;

/// Makes a recorder in revision `seen`.
async fn recorder(client: &Client, seen: i64, set: Json) -> Uuid {
    let id = Uuid::now_v7();
    let (status, told) = client.edit(seen, "Added", json!([{"op": "create", "kind": "recorder", "id": id, "set": set}])).await;
    assert_eq!(status, 200, "{told}");
    id
}

fn is_number(cell: &Json) -> bool {
    cell["value"].is_number()
}

#[actix_web::test]
async fn figures_of_spans_arrive_and_are_asked_for_like_values() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(50.0);
    let set = json!({"name": "Figures", "choices": [{"place": built.place}],
        "when": {"on": "interval", "every_ms": 500, "keep": ["value", "average", "maximum"]}});
    // Before it is saved it says what it would come to.
    let (status, tried) = engineer.post("/api/recorders/try", json!({"recorder": set})).await;
    assert_eq!((status, &tried["tags"], &tried["problems"]), (200, &json!(2), &json!([])), "{tried}");
    assert_eq!(tried["estimate"]["samples_a_day"], json!(172_800.0 * 3.0 * 2.0));
    assert_eq!((&tried["shown"][0]["title"], &tried["shown"][0]["by_itself"]), (&json!("EX-1/Level"), &json!(true)));
    let id = recorder(&engineer, 1, set).await;
    // The setpoint is not recorded by itself; the recorder keeps its value.
    let (_, items) = engineer.get("/api/items/tag").await;
    assert!(items["items"].as_array().unwrap().iter().all(|tag| tag["recorded"] == true), "{items}");

    let rows = format!("/api/recorders/{id}/rows?limit=3");
    let found = engineer
        .until(&rows, |b| b["rows"][1]["cells"].as_array().is_some_and(|cells| cells.len() == 6 && cells.iter().all(is_number)))
        .await;
    let columns: Vec<_> = found["columns"].as_array().unwrap().iter().map(|c| (c["title"].clone(), c["track"].clone())).collect();
    assert_eq!(columns[..2], [(json!("EX-1/Level"), json!("value")), (json!("EX-1/Level"), json!("average"))]);
    let (_, tracks) = engineer.get(&format!("/api/history/tracks?tag={}", built.level)).await;
    let names: Vec<_> = tracks.as_array().unwrap().iter().map(|t| (t["track"].clone(), t["recorder_name"].clone())).collect();
    assert_eq!(names, [(json!("average"), json!("Figures")), (json!("maximum"), json!("Figures"))]);
    let now = havrel_link::now();
    let name = format!("{}.average.{id}", built.level);
    let asked = json!({"tags": [name, built.level], "from": to_text(now - 60 * SECOND), "to": to_text(now)});
    for path in ["/api/history/pixels", "/api/history/raw", "/api/history/spans"] {
        let (status, answer) = engineer.post(path, asked.clone()).await;
        assert_eq!((status, &answer["tags"][0]["tag"], &answer["tags"][1]["tag"]), (200, &json!(name), &json!(built.level)));
    }
    let (_, pixels) = engineer.post("/api/history/pixels", asked).await;
    assert_eq!(
        (pixels["tags"][0]["limits"].as_array().unwrap().len(), pixels["tags"][1]["limits"].as_array().unwrap().len()),
        (0, 1)
    );
    for wrong in ["x", &format!("{}.average", built.level), &format!("{}.value.{id}", built.level), &format!("{name}.x")] {
        let asked = json!({"tags": [wrong], "from": to_text(now - SECOND), "to": to_text(now)});
        assert_eq!(engineer.post("/api/history/raw", asked).await.0, 422, "{wrong}");
    }
    // Whoever follows the value sees where it goes.
    let (_, follow) = engineer.get(&format!("/api/tags/{}/follow", built.level)).await;
    let words = "Recorder “Figures” keeps its value, average, maximum";
    assert!(follow["to"].as_array().unwrap().iter().any(|u| u["words"] == words && u["state"] == "good"), "{follow}");
    plant.stop().await;
}

#[actix_web::test]
async fn a_row_is_taken_at_an_event_and_by_hand_and_none_while_paused() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(20.0);
    engineer.until(&format!("/api/values?tags={}", built.level_no), |b| b[0]["value"].as_f64().is_some_and(|v| v < 25.0)).await;
    let set = json!({"name": "Full", "tags": [built.level, built.setpoint], "when": {"on": "event"},
        "trigger": {"text": "at(\"EX-1/Level\") > 40"}});
    let id = recorder(&engineer, 1, set).await;
    let rows = format!("/api/recorders/{id}/rows");
    let (_, none) = engineer.get(&rows).await;
    assert_eq!(none["rows"], json!([]));
    // The door has taken the plan in when it answers; the level is read ten times a second.
    engineer.until(&format!("/api/values?tags={}", built.level_no), |b| b[0]["quality"] == "good").await;
    plant.set_level(50.0);
    let found = engineer.until(&rows, |b| b["rows"].as_array().is_some_and(|rows| rows.len() == 1)).await;
    assert!(found["rows"][0]["cells"][0]["value"].as_f64().is_some_and(|v| v > 40.0), "{found}");
    assert_eq!(found["rows"][0]["actor"], "");

    let viewer = plant.person(&engineer, "viewer").await;
    assert_eq!(viewer.post(&format!("/api/recorders/{id}/take"), json!({})).await.0, 403);
    let operator = plant.person(&engineer, "operator").await;
    assert_eq!(operator.post(&format!("/api/recorders/{id}/take"), json!({})).await.0, 204);
    let (_, found) = engineer.get(&rows).await;
    assert_eq!(
        (found["rows"].as_array().unwrap().len(), &found["rows"][0]["actor"]),
        (2, &json!("operator")),
        "it is there once it is told"
    );
    let (_, journal) = engineer.get("/api/journal?kind=record").await;
    assert!(journal.to_string().contains("Recorded 2 values by “Full”"), "{journal}");

    let (status, _) =
        engineer.edit(2, "Paused", json!([{"op": "patch", "kind": "recorder", "id": id, "set": {"running": false}}])).await;
    assert_eq!(status, 200);
    assert_eq!(operator.post(&format!("/api/recorders/{id}/take"), json!({})).await.0, 409);
    let (_, state) = engineer.get("/api/recorders").await;
    assert_eq!((&state["recorders"][0]["rows"], &state["recorders"][0]["tags"]), (&json!(2), &json!(2)), "{state}");
    assert!(state["recorders"][0]["last"].is_string() && state["disk"]["bytes"].as_i64().unwrap() > 0);
    assert_eq!(operator.post(&format!("/api/recorders/{}/take", Uuid::now_v7()), json!({})).await.0, 404);
    plant.stop().await;
}

#[actix_web::test]
async fn what_is_wrong_is_told_while_it_is_typed_and_the_tags_show_all_the_same() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let tried = async |set: Json| engineer.post("/api/recorders/try", json!({"recorder": set})).await;
    let set = json!({"name": "x", "choices": [{"place": built.place}], "when": {"on": "event"}, "trigger": {"text": "at(\"EX-1/Levl\") >"}});
    let (status, told) = tried(set).await;
    assert_eq!((status, &told["tags"]), (200, &json!(2)), "{told}");
    assert_eq!((&told["problems"][0]["field"], &told["estimate"]["unknown"]), (&json!("trigger"), &json!(2)), "{told}");
    let (status, told) = tried(json!({"name": "x", "choices": "all"})).await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("choices")), "{told}");
    let viewer = plant.person(&engineer, "viewer").await;
    assert_eq!(viewer.post("/api/recorders/try", json!({"recorder": {"name": "x"}})).await.0, 403);
    plant.stop().await;
}

#[actix_web::test]
async fn what_is_older_than_it_is_kept_for_is_removed_unless_something_else_keeps_it() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let set = json!({"name": "Short", "choices": [{"place": built.place}], "keep_days": 2,
        "when": {"on": "interval", "every_ms": 500, "keep": ["value", "average"]}});
    let id = recorder(&engineer, 1, set).await;
    let last = engineer.until("/api/recorders", |b| b["recorders"][0]["last"].is_string()).await;
    assert!(last["recorders"][0]["last"].is_string());
    let (level, setpoint) = (plant.live.plant().tags[&built.level].no, built.setpoint_no);
    let count = async |no: u32| plant.live.db.counted(&[no], 0, i64::MAX, 1000).await.unwrap()[0];
    let day = 86_400 * SECOND;
    let now = havrel_link::now();
    assert_eq!(plant.live.remove_aged(now + day).await.unwrap(), 0, "nothing is old yet");
    assert!(count(setpoint).await > 0);
    let before = count(level).await;
    assert!(plant.live.remove_aged(now + 3 * day).await.unwrap() > 0);
    assert!(count(level).await >= before, "the tag records it itself, for ever");
    let (_, tracks) = engineer.get(&format!("/api/recorders/{id}/rows?until={}", to_text(now))).await;
    assert!(tracks.is_object());
    // One that keeps for longer, or for ever, counts.
    recorder(&engineer, 2, json!({"name": "Long", "tags": [built.setpoint], "when": {"on": "hand"}})).await;
    assert_eq!(engineer.post(&format!("/api/recorders/{id}/take"), json!({})).await.0, 204);
    let kept = count(setpoint).await;
    assert!(kept > 0);
    plant.live.remove_aged(havrel_link::now() + 30 * day).await.unwrap();
    assert!(count(setpoint).await >= kept);
    plant.stop().await;
}
