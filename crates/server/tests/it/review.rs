//! The review of alarm rules: argued for by the site's guide, checked by somebody, and what speaks against them.

use crate::plant::{Client, Plant};
use serde_json::{Value as Json, json};
use uuid::Uuid;

async fn found(client: &Client, finding: &str) -> (u64, u64) {
    let (status, review) = client.get("/api/alarms/review").await;
    assert_eq!(status, 200, "{review}");
    let all = review["found"].as_array().unwrap();
    let count = all.iter().find(|one| one["finding"] == finding).map(|one| one["count"].as_u64().unwrap()).unwrap();
    let (_, sheet) = client.get(&format!("/api/sheets/rules?finding={finding}")).await;
    (count, sheet["total"].as_u64().unwrap())
}

async fn row(client: &Client, rule: Uuid) -> Json {
    client.get(&format!("/api/sheets/rules?only={rule}")).await.1["rows"][0].clone()
}

#[actix_web::test]
async fn a_priority_is_argued_for_and_checked() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    assert_eq!(found(&engineer, "not_argued").await, (1, 1));
    let patch = |set: Json| json!([{"op": "patch", "kind": "rule", "id": built.rule, "set": set}]);
    let argument = json!({"consequences": {"equipment": 2}, "respond_min": 10, "if_ignored": "The vessel runs over."});
    let (status, given) = engineer.post("/api/rules/argued", json!({"consequences": {"equipment": 2}, "respond_min": 10})).await;
    assert_eq!((status, &given["priority"]), (200, &json!(2)));
    // The rule has priority 3: that needs a reason.
    let (status, told) = engineer.edit(1, "Argued", patch(argument.clone())).await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("overruled")), "{told}");
    let mut reasoned = argument;
    reasoned["overruled"] = "the drain is shared".into();
    assert_eq!(engineer.edit(1, "Argued", patch(reasoned)).await.0, 200);
    assert_eq!((found(&engineer, "not_argued").await, found(&engineer, "overruled").await), ((0, 0), (1, 1)));
    assert_eq!(row(&engineer, built.rule).await["argued"], 2);

    assert_eq!(found(&engineer, "unchecked").await, (1, 1));
    let checked = json!({"rules": [built.rule], "revision": 1});
    assert_eq!(engineer.post("/api/rules/checked", checked).await.0, 412, "it has changed since");
    let (status, done) = engineer.post("/api/rules/checked", json!({"rules": [built.rule], "revision": 2})).await;
    assert_eq!((status, &done["revision"]), (200, &json!(3)), "{done}");
    assert_eq!(found(&engineer, "unchecked").await, (0, 0));
    let of = row(&engineer, built.rule).await;
    assert_eq!((&of["checked"], &of["checked_by"]), (&json!(true), &json!("Plant engineer")));
    assert_eq!(engineer.edit(3, "Changed", patch(json!({"on_delay_s": 7}))).await.0, 200);
    assert_eq!(
        (row(&engineer, built.rule).await["checked"].clone(), found(&engineer, "unchecked").await),
        (json!(false), (1, 1))
    );

    // Another guide of the site gives another priority; there is one.
    let guide = json!({"priorities": [[2, 1, 1], [4, 3, 2], [4, 4, 3]]});
    let create = |set: &Json| json!([{"op": "create", "kind": "guide", "id": Uuid::now_v7(), "set": set}]);
    assert_eq!(engineer.edit(4, "Guide", create(&guide)).await.0, 200);
    assert_eq!(found(&engineer, "overruled").await, (0, 0));
    let (status, told) = engineer.edit(5, "Guide", create(&guide)).await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("priorities")), "{told}");
    let (_, view) = engineer.get("/api/alarms/guide").await;
    assert_eq!((&view["guide"]["soon_min"], &view["guide"]["priorities"][1][1]), (&json!(5.0), &json!(3)));
    let id = view["id"].as_str().unwrap();
    let upside = json!([{"op": "patch", "kind": "guide", "id": id, "set": {"priorities": [[1, 2, 1], [4, 3, 2], [4, 4, 3]]}}]);
    assert_eq!(engineer.edit(5, "Guide", upside).await.0, 422);
    plant.stop().await;
}

#[actix_web::test]
async fn history_speaks_against_rules_too() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    assert_eq!(found(&engineer, "never_came").await, (1, 1));
    plant.set_level(90.0);
    engineer.until("/api/alarms", |b| b["alarms"][0]["rule"] == json!(built.rule)).await;
    engineer.until("/api/sheets/alarms", |b| b["total"] == 1).await;
    assert_eq!(found(&engineer, "never_came").await, (0, 0));
    assert_eq!((found(&engineer, "always_stands").await, found(&engineer, "chatters").await), ((0, 0), (0, 0)));
    for (level, n) in [(10.0, 2), (90.0, 3), (10.0, 4), (90.0, 5)] {
        plant.set_level(level);
        engineer.until("/api/sheets/alarms", |b| b["total"] == n).await;
    }
    assert_eq!(found(&engineer, "chatters").await, (1, 1), "three times within a minute");
    let (status, told) = engineer.get("/api/sheets/rules?finding=nothing").await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("finding")));
    plant.stop().await;
}
