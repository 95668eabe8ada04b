//! What is secret stays so: sealed in the database, and in nothing that leaves.

use crate::plant::{Client, Plant, SHARED, fresh_name};
use actix_web::http::Method;
use serde_json::{Value as Json, json};
use sqlx::{Connection as _, PgConnection};
use std::time::Duration;
use uuid::Uuid;

/// A certificate and its private key (PEM).
fn pair() -> (String, String) {
    let made = rcgen::generate_simple_self_signed(["havrel".to_owned()]).unwrap();
    (made.cert.pem(), made.signing_key.serialize_pem())
}

async fn plant() -> (Plant, Client, Uuid, String) {
    plant_on(&fresh_name()).await
}

async fn plant_on(database: &str) -> (Plant, Client, Uuid, String) {
    let plant = Plant::start_on(database).await;
    let engineer = plant.engineer().await;
    let (certificate, key) = pair();
    let id = Uuid::now_v7();
    let settings = json!({"host": "127.0.0.1", "port": plant.controller_port, "transport": "tls",
        "tls": {"certificate": certificate, "key": {"secret": key}}});
    let set = json!({"name": "Dosing", "kind": "modbus", "enabled": false, "settings": settings});
    let made = engineer.edit(0, "Added Dosing", json!([{"op": "create", "kind": "connection", "id": id, "set": set}])).await;
    assert_eq!(made.0, 200, "{}", made.1);
    (plant, engineer, id, key)
}

/// The settings that a client sees.
async fn seen(client: &Client, id: Uuid) -> Json {
    client.get(&format!("/api/items/connection?only={id}")).await.1["items"][0]["set"]["settings"].clone()
}

async fn import(client: &Client, file: Json, seen: &str) -> u16 {
    client.send(Method::POST, "/api/connections/import", &[("if-match", seen)], Some(file)).await.0
}

/// The sealed text as it is stored.
fn sealed(plant: &Plant, id: Uuid) -> Option<String> {
    let held = plant.live.plant();
    held.connections[&id].set.settings.get("tls")?["key"]["sealed"].as_str().map(str::to_owned)
}

#[actix_web::test]
async fn nothing_that_leaves_holds_a_secret() {
    let database = fresh_name();
    let (plant, engineer, id, key) = plant_on(&database).await;
    let first = sealed(&plant, id).expect("it is sealed");
    // Another key, and back, so that the journal has something to show.
    let mut settings = seen(&engineer, id).await;
    assert_eq!(settings["tls"]["key"], json!({"kept": true}));
    settings["tls"]["certificate"] = json!(pair().0);
    settings["tls"]["key"] = json!({"secret": pair().1});
    let patch = json!([{"op": "patch", "kind": "connection", "id": id, "set": {"settings": settings}}]);
    assert_eq!(engineer.edit(1, "Another key", patch).await.0, 200);
    let second = sealed(&plant, id).unwrap();
    assert_ne!(first, second);

    let body = key.lines().nth(1).unwrap();
    let mut all = String::new();
    for path in [
        "/api/items/connection",
        "/api/revisions",
        "/api/revisions/compare?from=0&to=2",
        "/api/connections/export",
        "/api/plant/file",
        "/api/journal",
    ] {
        let (status, told) = engineer.get(path).await;
        assert_eq!(status, 200, "{path}: {told}");
        all += &told.to_string();
    }
    let (status, told) = engineer.post("/api/undo/plan", json!({"revision": 1})).await;
    assert_eq!((status, told["conflicts"].as_array().map(Vec::len)), (200, Some(1)), "{told}");
    all += &told.to_string();
    assert!(all.contains("Dosing") && all.contains("kept"), "it was looked at");
    for secret in [body, &first, &second] {
        assert!(!all.contains(secret), "{secret} left");
    }

    // Nor does it lie readable in any table.
    let query = "select own::text as line from connection union all select coalesce(after, before)::text from revision_change \
                 union all select detail::text from journal";
    let mut sql = PgConnection::connect_with(&SHARED.cluster.options(&database)).await.unwrap();
    let lines: Vec<String> = sqlx::query_scalar(query).fetch_all(&mut sql).await.unwrap();
    assert!(lines.len() >= 4 && lines.iter().any(|l| l.contains(&second)), "{}", lines.len());
    assert!(!lines.iter().any(|l| l.contains(body)));
    plant.stop().await;
}

#[actix_web::test]
async fn what_is_not_typed_again_is_kept_through_edits_files_and_undo() {
    let (plant, engineer, id, _) = plant().await;
    let first = sealed(&plant, id).unwrap();
    let mut settings = seen(&engineer, id).await;
    settings["port"] = json!(802);
    let patch = |settings: &Json| json!([{"op": "patch", "kind": "connection", "id": id, "set": {"settings": settings}}]);
    assert_eq!(engineer.edit(1, "Another port", patch(&settings)).await.0, 200);
    assert_eq!(sealed(&plant, id).as_deref(), Some(first.as_str()));

    // A file of connections that went out comes in again.
    let file = engineer.get("/api/connections/export").await.1;
    let mut changed = file.clone();
    changed["connections"][0]["set"]["settings"]["port"] = json!(803);
    assert_eq!(import(&engineer, changed, "2").await, 200);
    assert_eq!(sealed(&plant, id).as_deref(), Some(first.as_str()));

    // Taken away, it comes back by undo, still sealed as it was.
    settings["tls"] = json!({});
    assert_eq!(engineer.edit(3, "Without a key", patch(&settings)).await.0, 200);
    assert_eq!(sealed(&plant, id), None);
    assert_eq!(engineer.post("/api/undo", json!({"revision": 4})).await.0, 200);
    assert_eq!(sealed(&plant, id).as_deref(), Some(first.as_str()));

    // On another plant there is none to keep; the connection comes in all the same and says what it lacks.
    let other = Plant::start().await;
    let stranger = other.engineer().await;
    assert_eq!(import(&stranger, file, "0").await, 200);
    assert_eq!(sealed(&other, id), None);
    let mut on = seen(&stranger, id).await;
    on["port"] = json!(other.controller_port);
    let patch = json!([{"op": "patch", "kind": "connection", "id": id, "set": {"enabled": true, "settings": on}}]);
    assert_eq!(stranger.edit(1, "Switched on", patch).await.0, 200);
    let lacks = || other.live.health()[&id].message.contains("private key is missing");
    for _ in 0..400 {
        if lacks() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    assert!(lacks(), "{:?}", other.live.health()[&id]);
    other.stop().await;
    plant.stop().await;
}

#[actix_web::test]
async fn a_saved_connection_is_tested_with_its_own_key_and_a_wrong_one_is_refused_at_its_field() {
    let (plant, engineer, id, _) = plant().await;
    let mut settings = seen(&engineer, id).await;
    let body = json!({"name": "Dosing", "kind": "modbus", "settings": settings});
    // The controller speaks no TLS, so it gets exactly as far as that; without its key not so far.
    let last = async |path: String| {
        let (_, text, _) = engineer.send(Method::POST, &path, &[], Some(body.clone())).await;
        serde_json::from_str::<Json>(text.lines().last().unwrap()).unwrap()
    };
    let with = last(format!("/api/connections/test?id={id}")).await;
    assert!(with["answer"].as_str().unwrap().contains("The secured connection failed"), "{with}");
    let without = last("/api/connections/test".into()).await;
    assert!(without["answer"].as_str().unwrap().contains("private key is missing"), "{without}");

    settings["tls"]["key"] = json!({"secret": "kelp and salt"});
    let patch = json!([{"op": "patch", "kind": "connection", "id": id, "set": {"settings": settings}}]);
    let (status, told) = engineer.edit(1, "A wrong key", patch).await;
    assert_eq!((status, told["problems"][0]["field"].as_str()), (422, Some("settings.tls.key")), "{told}");
    assert!(!told.to_string().contains("kelp and salt"));
    plant.stop().await;
}
