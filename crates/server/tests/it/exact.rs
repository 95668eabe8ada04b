//! Values stay as they are: counters of 64 bits with every digit, through push, memory, history, statistics and report; and the last
//! values come back after a restart.

use crate::{
    keep::{push_item, pushable},
    plant::{Client, Plant, fresh_name},
};
use actix_web::http::Method;
use havrel_core::time::{SECOND, to_text};
use rstest::rstest;
use serde_json::{Value as Json, json};
use std::time::Duration;
use uuid::Uuid;

/// 2^53 + 1: the first whole number that a number of 64 bits with a point cannot hold.
const FIRST: u64 = 9_007_199_254_740_993;

async fn values(client: &Client, no: u32) -> Json {
    client.get(&format!("/api/values?tags={no}")).await.1[0].clone()
}

#[actix_web::test]
async fn large_counters_keep_every_digit() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let pushed = pushable(&engineer, built.place, 1).await;
    let no = plant.live.plant().tags[&pushed.tag].no;
    for value in [json!(FIRST), json!(u64::MAX.to_string()), json!(FIRST + 2)] {
        let (status, told) = push_item(&plant.url, &pushed.token, &json!({"tag": "EX-1/Steam flow", "value": value})).await;
        assert_eq!(status, 200, "{told}");
    }
    let (_, told) =
        push_item(&plant.url, &pushed.token, &json!({"tag": "EX-1/Steam flow", "value": "18446744073709551616"})).await;
    assert!(told.contains("Enter a number."), "one more than 64 bits hold: {told}");
    assert_eq!(values(&engineer, no).await["value"], (FIRST + 2).to_string());
    for _ in 0..400 {
        if plant.live.db.raw(no, 0, i64::MAX, false, 9).await.unwrap().len() == 3 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    let now = havrel_live::now();
    let period = json!({"tags": [pushed.tag], "from": to_text(now - 60 * SECOND), "to": to_text(now + SECOND)});
    let (_, raw) = engineer.post("/api/history/raw", period.clone()).await;
    assert_eq!(raw["tags"][0]["value"], json!([FIRST.to_string(), u64::MAX.to_string(), (FIRST + 2).to_string()]));
    let (_, spans) = engineer.post("/api/history/spans", period).await;
    let span = &spans["tags"][0];
    assert_eq!(
        (&span["first"][0], &span["last"][0], &span["maximum"][0], &span["average_rounded"][0]),
        (&json!(FIRST.to_string()), &json!((FIRST + 2).to_string()), &json!(u64::MAX.to_string()), &json!(true))
    );
    // Kept editions print them too.
    let report = Uuid::now_v7();
    let set = json!({"name": "Counters", "minutes": 10, "sections": [{"kind": "summary", "tags": [pushed.tag]}, {"kind": "values", "tags": [pushed.tag]}]});
    let made = engineer.edit(2, "Report", json!([{"op": "create", "kind": "report", "id": report, "set": set}])).await;
    assert_eq!(made.0, 200, "{}", made.1);
    let (status, edition) = engineer.post(&format!("/api/reports/{report}/editions"), json!({})).await;
    assert_eq!(status, 200, "{edition}");
    let id = edition["id"].as_str().unwrap();
    let (_, csv, _) = engineer.send(Method::GET, &format!("/api/editions/{id}/csv"), &[], None).await;
    for digits in [FIRST, FIRST + 2, u64::MAX] {
        assert!(csv.contains(&digits.to_string()), "{csv}");
    }
    plant.stop().await;
}

#[rstest]
#[case::as_text(json!("9007199254740995"), json!("9007199254740995"))]
#[case::as_a_number(json!(9_007_199_254_740_995_u64), json!("9007199254740995"))]
#[case::the_largest(json!("18446744073709551615"), json!("18446744073709551615"))]
#[case::small(json!(12), json!(12.0))]
#[actix_web::test]
async fn a_written_number_is_the_one_that_was_typed(#[case] typed: Json, #[case] held: Json) {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let [connection, tag] = [(); 2].map(|()| Uuid::now_v7());
    let edits = json!([
        {"op": "create", "kind": "connection", "id": connection, "set": {"name": "Notes", "kind": "memory"}},
        {"op": "create", "kind": "tag", "id": tag, "set": {"name": "Counter", "place": built.place, "connection": connection,
            "writable": true, "point": {"type": "number", "keep": true}}},
    ]);
    assert_eq!(engineer.edit(1, "Added", edits).await.0, 200);
    let (status, told) = engineer.post(&format!("/api/tags/{tag}/write"), json!({"value": typed})).await;
    assert_eq!((status, &told["value"]), (200, &held), "{told}");
    let (status, _) = engineer.post(&format!("/api/tags/{tag}/write"), json!({"value": "much"})).await;
    assert_eq!(status, 422, "bad input is the asker's to mend");
    plant.stop().await;
}

#[actix_web::test]
async fn last_values_come_back_after_a_restart() {
    let name = fresh_name();
    let plant = Plant::start_on(&name).await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let pushed = pushable(&engineer, built.place, 1).await;
    let no = plant.live.plant().tags[&pushed.tag].no;
    let then = to_text(havrel_live::now() - 3600 * SECOND);
    let body = json!({"tag": "EX-1/Steam flow", "value": 12.5, "time": then});
    assert_eq!(push_item(&plant.url, &pushed.token, &body).await.0, 200);
    plant.stop().await;
    let plant = Plant::start_on(&name).await;
    let again = Client::new(&plant.url);
    assert_eq!(again.post("/api/session", json!({"name": "Plant engineer", "password": "kelp-and-salt"})).await.0, 200);
    let shown = again.until(&format!("/api/values?tags={no}"), |b| !b[0]["value"].is_null()).await;
    assert_eq!((&shown[0]["value"], &shown[0]["time"], &shown[0]["quality"]), (&json!(12.5), &json!(then), &json!("good")));
    // What is older still goes to history only.
    let older = json!({"tag": "EX-1/Steam flow", "value": 3.0, "time": to_text(havrel_live::now() - 7200 * SECOND)});
    assert_eq!(push_item(&plant.url, &pushed.token, &older).await.0, 200);
    assert_eq!(values(&again, no).await["value"], 12.5);
    plant.stop().await;
}
