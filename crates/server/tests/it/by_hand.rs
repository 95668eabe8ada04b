//! Values set by hand, and names for states, through the interface.

use crate::plant::{Client, Plant, fresh_name};
use actix_web::http::Method;
use havrel_core::time::{SECOND, to_text};
use serde_json::{Value as Json, json};

async fn set(client: &Client, path: &str, body: Json) -> (u16, Json) {
    let (status, text, _) = client.send(Method::PUT, path, &[], Some(body)).await;
    (status, serde_json::from_str(&text).unwrap_or(Json::Null))
}

/// The simulated level is never quite still.
fn near(value: &Json, wanted: f64) -> bool {
    value["value"].as_f64().is_some_and(|v| (v - wanted).abs() < 3.0)
}

#[actix_web::test]
async fn a_value_set_by_hand_is_marked_everywhere_until_it_is_released() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(50.0);
    let values = format!("/api/values?tags={}", built.level_no);
    engineer.until(&values, |b| near(&b[0], 50.0)).await;
    let path = format!("/api/tags/{}/by-hand", built.level);

    // What is wrong is told at its field, and nothing is set.
    for (body, field, words) in [
        (json!({"value": 120.0, "reason": "x"}), "value", "The value must be between 0 and 100 %."),
        (json!({"value": "much", "reason": "x"}), "value", "“much” is neither a number nor one of the tag's state names."),
        (json!({"value": 70.0, "reason": "  "}), "reason", "Write something."),
        (json!({"value": 70.0, "reason": "x", "until": "2020-01-01T00:00:00Z"}), "value", "It must end in the future."),
        (json!({"value": 70.0, "reason": "x", "until": "later"}), "until", ""),
        (json!({"value": [], "reason": "x"}), "value", "A value is on or off, a number or a text."),
    ] {
        let (status, told) = set(&engineer, &path, body).await;
        assert_eq!((status, told["problems"][0]["field"].as_str().unwrap_or_default()), (422, field), "{told}");
        assert!(told["detail"].as_str().unwrap().starts_with(words), "{told}");
    }
    assert_eq!(engineer.get("/api/by-hand").await.1, json!([]));
    assert_eq!(engineer.send(Method::DELETE, &path, &[], None).await.0, 404);

    let (status, told) = set(&engineer, &path, json!({"value": 70.0, "reason": "Sensor is out for cleaning"})).await;
    assert_eq!(status, 204, "{told}");
    let (_, shown) = engineer.get(&values).await;
    assert_eq!(
        (&shown[0]["value"], &shown[0]["by_hand"], &shown[0]["reason"]),
        (&json!(70.0), &json!(true), &json!("set by hand"))
    );
    // It is judged as any value: the limit is 60.
    engineer.until("/api/alarms", |b| b["alarms"][0]["text"] == "Level high, 70.0 % over 60.0").await;
    let (_, list) = engineer.get("/api/by-hand").await;
    assert_eq!(
        (&list[0]["title"], &list[0]["shown"], &list[0]["owner"]),
        (&json!("EX-1/Level"), &json!("70.0 %"), &json!("Plant engineer"))
    );
    assert_eq!(engineer.get("/api/sheets/tags?by_hand=true&moment=1").await.1["rows"][0]["name"], "Level");
    assert_eq!(engineer.get("/api/sheets/tags?in_alarm=true&moment=1").await.1["total"], 1);

    // The source goes on and does not show; released, it shows at once.
    plant.set_level(40.0);
    assert_eq!(engineer.get(&values).await.1[0]["value"], 70.0);
    assert_eq!(engineer.send(Method::DELETE, &path, &[], None).await.0, 204);
    let shown = engineer.until(&values, |b| near(&b[0], 40.0)).await;
    assert_eq!((&shown[0]["by_hand"], &shown[0]["quality"]), (&Json::Null, &json!("good")));

    // History tells the span, and each sample its reason.
    let now = havrel_live::now();
    let period = json!({"tags": [built.level], "from": to_text(now - 60 * SECOND), "to": to_text(now)});
    let mut tries = 0;
    let drawn = loop {
        let (_, drawn) = engineer.post("/api/history/pixels", period.clone()).await;
        tries += 1;
        let ended = drawn["tags"][0]["last"].as_array().unwrap().last().is_some_and(|v| *v != 70.0);
        let told = !drawn["tags"][0]["by_hand"].as_array().unwrap().is_empty();
        if (ended && told) || tries == 200 {
            break drawn;
        }
        tokio::time::sleep(std::time::Duration::from_millis(25)).await;
    };
    let spans = drawn["tags"][0]["by_hand"].as_array().unwrap();
    assert_eq!(spans.len(), 1, "{drawn}");
    assert!(spans[0][1].as_i64() > spans[0][0].as_i64());
    let (_, raw) = engineer.post("/api/history/raw", period.clone()).await;
    let reasons: Vec<_> = raw["tags"][0]["reason"].as_array().unwrap().iter().filter(|r| **r == "set by hand").collect();
    assert_eq!(reasons.len(), 1);
    let (_, stats) = engineer.post("/api/history/spans", period).await;
    assert!(stats["tags"][0]["by_hand"][0].as_f64().unwrap() > 0.0);
    let (_, journal) = engineer.get("/api/journal?kind=by_hand").await;
    let titles: Vec<_> = journal.as_array().unwrap().iter().map(|e| e["title"].as_str().unwrap()).collect();
    assert_eq!(
        titles,
        [
            "Released EX-1/Level, which Plant engineer had set by hand",
            "Set EX-1/Level by hand to 70.0 %: Sensor is out for cleaning"
        ]
    );

    // Its end releases it by itself.
    let until = to_text(havrel_live::now() + SECOND / 2);
    assert_eq!(set(&engineer, &path, json!({"value": 33.0, "reason": "Short", "until": until})).await.0, 204);
    engineer.until("/api/by-hand", |b| b == &json!([])).await;
    engineer.until(&values, |b| b[0]["by_hand"].is_null() && near(&b[0], 40.0)).await;
    let ended = "EX-1/Level is no longer set by hand: its time ended";
    engineer.until("/api/journal?kind=by_hand", |b| b[0]["title"] == ended).await;

    // A tag that is deleted takes it along.
    assert_eq!(set(&engineer, &path, json!({"value": 33.0, "reason": "Gone soon"})).await.0, 204);
    let gone = json!([{"op": "delete", "kind": "tag", "id": built.level, "contents": true}]);
    assert_eq!(engineer.edit(1, "Deleted", gone).await.0, 200);
    engineer.until("/api/journal?kind=by_hand", |b| b[0]["title"].as_str().unwrap().ends_with("the tag is gone")).await;
    assert!(plant.live.db.hands().await.unwrap().is_empty());
    plant.stop().await;
}

#[actix_web::test]
async fn a_restart_keeps_what_was_set_to_stay_and_releases_the_rest() {
    let name = fresh_name();
    let plant = Plant::start_on(&name).await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let later = to_text(havrel_live::now() + 3600 * SECOND);
    let path = |tag: uuid::Uuid| format!("/api/tags/{tag}/by-hand");
    let stays = json!({"value": 71.0, "reason": "Stays", "until": later, "keeps": true});
    assert_eq!(set(&engineer, &path(built.level), stays).await.0, 204);
    assert_eq!(set(&engineer, &path(built.setpoint), json!({"value": 50.0, "reason": "Goes"})).await.0, 204);
    plant.stop().await;
    let plant = Plant::start_on(&name).await;
    let again = Client::new(&plant.url);
    assert_eq!(again.post("/api/session", json!({"name": "Plant engineer", "password": "kelp-and-salt"})).await.0, 200);
    let (_, list) = again.get("/api/by-hand").await;
    assert_eq!((list.as_array().unwrap().len(), &list[0]["reason"], &list[0]["until"]), (1, &json!("Stays"), &json!(later)));
    let (_, shown) = again.get(&format!("/api/values?tags={}", built.level_no)).await;
    assert_eq!((&shown[0]["value"], &shown[0]["by_hand"]), (&json!(71.0), &json!(true)));
    let ended = "EX-1/Temperature setpoint is no longer set by hand: Havrel was started anew";
    again.until("/api/journal?kind=by_hand", |b| b[0]["title"] == ended).await;
    plant.stop().await;
}

#[actix_web::test]
async fn states_have_names_wherever_the_value_is() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let states = uuid::Uuid::now_v7();
    let set_of = json!({"name": "Recipe", "states": [{"value": 55, "name": "Warm"}, {"value": 70, "name": "Hot"}]});
    let edits = json!([
        {"op": "create", "kind": "states", "id": states, "set": set_of},
        {"op": "patch", "kind": "tag", "id": built.setpoint, "set": {"states": states, "unit": ""}},
        {"op": "create", "kind": "rule", "id": uuid::Uuid::now_v7(), "set": {"tag": built.setpoint, "kind": "high", "level": 70.0}},
    ]);
    let (status, told) = engineer.edit(1, "Names", edits).await;
    assert_eq!(status, 200, "{told}");
    // Written by name, journalled by name.
    let (status, told) = engineer.post(&format!("/api/tags/{}/write", built.setpoint), json!({"value": "warm"})).await;
    assert_eq!((status, told["value"].as_f64().unwrap().round()), (200, 55.0), "{told}");
    assert_eq!(engineer.get("/api/journal?kind=write").await.1[0]["title"], "Wrote Warm to EX-1/Temperature setpoint");
    let hand = format!("/api/tags/{}/by-hand", built.setpoint);
    assert_eq!(set(&engineer, &hand, json!({"value": "Hot", "reason": "Trial"})).await.0, 204);
    assert_eq!(engineer.get("/api/by-hand").await.1[0]["shown"], "Hot");
    // A set in use does not go, and says for whom.
    let gone = json!([{"op": "delete", "kind": "states", "id": states}]);
    let (status, told) = engineer.edit(2, "Gone", gone).await;
    assert_eq!(status, 409);
    assert_eq!(told["detail"], "“Recipe” cannot be deleted: it names the states of “EX-1/Temperature setpoint”.");
    let twice = json!([{"op": "create", "kind": "states", "id": uuid::Uuid::now_v7(), "set": {"name": "Recipe", "states": [{"value": 1, "name": "x"}]}}]);
    assert_eq!(engineer.edit(2, "Twice", twice).await.1["detail"], "There is already a set of state names “Recipe”.");
    let (_, units) = engineer.get("/api/units").await;
    let fahrenheit = units.as_array().unwrap().iter().find(|u| u["symbol"] == "°F").unwrap();
    assert_eq!(
        (&fahrenheit["ucum"], &fahrenheit["common"], &fahrenheit["quantity"]),
        (&json!("[degF]"), &json!("FAH"), &json!("temperature"))
    );
    plant.stop().await;
}
