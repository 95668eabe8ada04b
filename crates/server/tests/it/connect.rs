//! Connecting at depth over the API: blocks, the map, the intake, sources without a wire, files of connections.

use crate::plant::*;
use actix_web::http::Method;
use havrel_live::Live;
use serde_json::{Value as Json, json};
use uuid::Uuid;

/// Registers of the simulated vessels: forty for each, level first, temperature after it.
fn vessel(id: Uuid, temperature: Uuid, level: Uuid) -> Json {
    json!({"op": "create", "kind": "layout", "id": id, "set": {"name": "Vessel", "members": [
        {"id": level, "name": "Level", "offset": 0, "point": {"type": "u16"}, "unit": "%", "decimals": 1,
         "scaling": {"raw_low": 0.0, "raw_high": 1000.0, "low": 0.0, "high": 100.0}},
        {"id": temperature, "name": "Temperature", "offset": 2, "point": {"type": "f32"}, "unit": "°C", "decimals": 1}]}})
}

#[actix_web::test]
async fn one_layout_base_and_stride_make_every_vessel() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let [layout, temperature, level, block] = [(); 4].map(|()| Uuid::now_v7());
    let at = |address: &str, count: u32| json!([{"id": block, "name": "Vessels", "layout": layout, "point": {"address": address}, "count": count, "stride": 40}]);
    let edits = json!([vessel(layout, temperature, level),
        {"op": "patch", "kind": "connection", "id": built.connection, "set": {"blocks": at("holding 0", 2)}}]);
    assert_eq!(engineer.edit(1, "Mapped the vessels", edits).await.0, 200);
    let browse = format!("/api/connections/{}/browse", built.connection);
    let (_, first) = engineer.post(&browse, json!({"node": "blocks", "most": 3})).await;
    assert_eq!((first["nodes"].as_array().unwrap().len(), &first["next"]), (3, &json!("3")));
    let (_, rest) = engineer.post(&browse, json!({"node": "blocks", "cursor": first["next"], "most": 3})).await;
    assert_eq!((&rest["next"], &rest["parts"]), (&Json::Null, &json!(["block", "instance", "member", "address"])));
    let rows: Vec<Json> = [first, rest].iter().flat_map(|page| page["nodes"].as_array().unwrap().clone()).collect();
    assert_eq!(rows.len(), 4);
    assert_eq!(rows[3]["parts"], json!(["Vessels", "2", "Temperature", "holding 42–43"]));
    // The tags name member and instance; the scaling comes from the layout.
    let edits: Vec<Json> = rows
        .iter()
        .map(|row| {
            let name = format!("{} {}", row["parts"][2].as_str().unwrap(), row["parts"][1].as_str().unwrap());
            json!({"op": "create", "kind": "tag", "id": Uuid::now_v7(),
                "set": {"name": name, "place": built.place, "connection": built.connection, "point": row["point"], "unit": row["set"]["unit"]}})
        })
        .collect();
    assert_eq!(engineer.edit(2, "Made tags", json!(edits)).await.0, 200);
    let no = |name: &str| plant.live.plant().tags.values().find(|t| t.set.name == name).unwrap().no;
    let (level_1, temperature_2) = (no("Level 1"), no("Temperature 2"));
    plant.set_level(42.0);
    engineer
        .until(&format!("/api/values?tags={level_1}"), |b| b[0]["value"].as_f64().is_some_and(|v| (v - 42.0).abs() < 1.0))
        .await;
    let good = engineer.until(&format!("/api/values?tags={temperature_2}"), |b| b[0]["quality"] == "good").await;
    let second = plant.controller.lock().process.vessels[1].temperature;
    assert!((good[0]["value"].as_f64().unwrap() - second).abs() < 0.5, "{good} {second}");
    // The map knows the tags and what an overlapping block would meet.
    let map = format!("/api/connections/{}/map", built.connection);
    let (_, shown) = engineer.post(&map, json!({})).await;
    let tags = shown["spans"].as_array().unwrap().iter().filter(|s| s["kind"] == "tag").count();
    assert_eq!((tags, shown["spans"][0]["space"].as_str()), (6, Some("unit 1 holding")));
    // The level of the first vessel is read by a tag of its own as well.
    assert_eq!(shown["overlaps"][0]["start"], 0, "{shown}");
    let try_it = json!({"block": {"layout": layout, "point": {"address": "holding 41"}, "count": 1}});
    let (_, tried) = engineer.post(&map, try_it).await;
    let met = tried["overlaps"].as_array().unwrap().iter().filter(|o| o["titles"].to_string().contains("this block")).count();
    assert!(met >= 1, "{tried}");
    let (_, wrong) =
        engineer.post(&map, json!({"block": {"layout": layout, "point": {"address": "holding 65535"}, "count": 1}})).await;
    assert!(wrong["wrong"].as_str().unwrap().contains("beyond the last address"), "{wrong}");
    // One new base moves all of them; a layout in use cannot go, and a member in use cannot be taken out.
    let (status, body) = engineer
        .edit(
            3,
            "Moved",
            json!([{"op": "patch", "kind": "connection", "id": built.connection, "set": {"blocks": at("holding 40", 1)}}]),
        )
        .await;
    assert_eq!((status, body["detail"].as_str().unwrap().contains("2 of its tags")), (422, true), "{body}");
    let (status, _) = engineer
        .edit(
            3,
            "Moved",
            json!([{"op": "patch", "kind": "connection", "id": built.connection, "set": {"blocks": at("holding 40", 2)}}]),
        )
        .await;
    assert_eq!(status, 200);
    let moved = plant.controller.lock().process.vessels[1].level;
    engineer
        .until(&format!("/api/values?tags={level_1}"), |b| b[0]["value"].as_f64().is_some_and(|v| (v - moved).abs() < 0.2))
        .await;
    let (status, body) = engineer.edit(4, "Gone", json!([{"op": "delete", "kind": "layout", "id": layout}])).await;
    assert_eq!((status, body["detail"].as_str().unwrap().contains("block “Vessels” of Extraction")), (409, true), "{body}");
    let (status, body) =
        engineer.edit(4, "Gone", json!([{"op": "patch", "kind": "layout", "id": layout, "set": {"members": []}}])).await;
    assert_eq!((status, body["detail"].as_str().unwrap().contains("On Extraction")), (422, true), "{body}");
    plant.stop().await;
}

#[actix_web::test]
async fn a_range_is_scanned_and_an_address_shows_both_its_readings() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let scan = format!("/api/connections/{}/scan", built.connection);
    let (status, text, _) = engineer.send(Method::POST, &scan, &[], Some(json!({"node": "holding", "from": 0, "to": 149}))).await;
    let steps: Vec<Json> = text.lines().map(|l| serde_json::from_str(l).unwrap()).collect();
    assert_eq!((status, steps.len(), steps[1]["reached"].as_u64()), (200, 2, Some(149)), "{text}");
    assert_eq!(steps[0]["found"][0][0], 0, "{text}");
    assert!(steps[0]["busy"].as_u64().unwrap() > 3);
    let body = json!({"connection": built.connection, "point": {"address": "3", "type": "f32"}});
    let (_, shown) = engineer.post("/api/points/check", body).await;
    assert_eq!((shown["shown"].as_str(), shown["others"][0]["shown"].as_str()), (Some("holding 3–4, f32"), Some("holding 2")));
    let temperature = shown["others"][0]["now"].as_str().unwrap().parse::<f64>().unwrap();
    assert!((5.0..120.0).contains(&temperature), "read from 1 it is the temperature: {shown}");
    plant.stop().await;
}

#[actix_web::test]
async fn names_follow_from_an_example_and_clashes_are_told() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    plant.build(&engineer).await;
    let rows = json!([["Vessels", "1", "Level"], ["Vessels", "1", "Temperature"], ["Vessels", "2", "Level"]]);
    let body = json!({"parts": ["block", "instance", "member"], "rows": rows, "examples": [[0, "EX-1 Level"]]});
    let (_, named) = engineer.post("/api/intake/names", body).await;
    assert_eq!(named["names"], json!(["EX-1 Level", "EX-1 Temperature", "EX-2 Level"]));
    assert_eq!(named["words"], "“EX-” · the instance · “ ” · the member");
    let (_, clashes) =
        engineer.post("/api/intake/clashes", json!({"rows": [["EX-1", "Level"], ["EX-1", "New"], ["EX-9", "Level"]]})).await;
    assert_eq!((clashes["clashes"].as_array().unwrap().len(), clashes["clashes"][0]["row"].as_u64()), (1, Some(0)), "{clashes}");
    assert!(clashes["clashes"][0]["source"].as_str().unwrap().contains("holding 0"));
    assert!(clashes["places"]["EX-1"].is_string() && clashes["places"]["EX-9"].is_null());
    plant.stop().await;
}

/// A place with a push connection, and tags of it: number, switch, text.
async fn push_plant(engineer: &Client) -> Uuid {
    let [place, other, connection] = [(); 3].map(|()| Uuid::now_v7());
    let tag = |name: &str, holds: &str, place: Uuid| {
        json!({"op": "create", "kind": "tag", "id": Uuid::now_v7(), "set": {"name": name, "place": place, "connection": connection,
            "point": {"type": holds}, "record": true, "record_mode": "each_poll"}})
    };
    let edits = json!([
        {"op": "create", "kind": "place", "id": place, "set": {"name": "Utilities"}},
        {"op": "create", "kind": "place", "id": other, "set": {"name": "Effluent"}},
        {"op": "create", "kind": "connection", "id": connection, "set": {"name": "Boiler house", "kind": "push"}},
        tag("Steam flow", "number", place), tag("Burner", "switch", place), tag("Operator note", "text", place), tag("pH", "number", other)]);
    let (status, body) = engineer.edit(0, "Made what is pushed", edits).await;
    assert_eq!(status, 200, "{body}");
    place
}

async fn send(url: &str, token: &str, kind: &str, body: String) -> (u16, Json) {
    let request = awc::Client::builder().timeout(std::time::Duration::from_secs(20)).finish().post(format!("{url}/api/push"));
    let request = request.insert_header(("content-type", kind)).insert_header(("authorization", format!("Bearer {token}")));
    let mut response = request.send_body(body).await.unwrap();
    let bytes = response.body().await.unwrap();
    (response.status().as_u16(), serde_json::from_slice(&bytes).unwrap_or_default())
}

#[actix_web::test]
async fn programs_push_values_with_their_own_times() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let place = push_plant(&engineer).await;
    let (status, made) = engineer.post("/api/tokens", json!({"name": "Boiler gateway", "place": place})).await;
    assert_eq!(status, 200, "{made}");
    let token = made["token"].as_str().unwrap().to_owned();
    let json_type = "application/json";
    let one = json!({"tag": "Utilities/Steam flow", "value": 4.25, "time": "2026-11-20T06:00:00.0000001Z"}).to_string();
    assert_eq!(send(&plant.url, "wrong", json_type, one.clone()).await.0, 401);
    let (status, taken) = send(&plant.url, &token, json_type, one).await;
    assert_eq!((status, &taken["taken"]), (200, &json!(1)), "{taken}");
    let no = |name: &str| plant.live.plant().tags.values().find(|t| t.set.name == name).unwrap().no;
    let (flow, burner, note) = (no("Steam flow"), no("Burner"), no("Operator note"));
    let shown = engineer.until(&format!("/api/values?tags={flow}"), |b| b[0]["quality"] == "good").await;
    assert_eq!((shown[0]["value"].as_f64(), shown[0]["time"].as_str()), (Some(4.25), Some("2026-11-20T06:00:00.0000001Z")));
    // Wrong items are named; the others are taken.
    let batch = json!([
        {"tag": burner, "value": true}, {"tag": "Utilities/Operator note", "value": "all well"},
        {"tag": "Utilities/Nothing", "value": 1}, {"tag": "Effluent/pH", "value": 7}, {"tag": flow, "value": "much"},
        {"tag": flow, "value": 5, "time": "soon"}, {"tag": flow, "value": 6, "quality": "splendid"}, {"value": 3}, 12,
        {"tag": flow, "value": 7, "quality": "uncertain"}]);
    let (status, taken) = send(&plant.url, &token, json_type, batch.to_string()).await;
    assert_eq!((status, &taken["taken"], &taken["refused"]), (200, &json!(3), &json!(7)), "{taken}");
    let told: Vec<(u64, &str)> =
        taken["items"].as_array().unwrap().iter().map(|i| (i["item"].as_u64().unwrap(), i["field"].as_str().unwrap())).collect();
    assert_eq!(told, [(2, "tag"), (3, "tag"), (4, "value"), (5, "time"), (6, "quality"), (7, ""), (8, "")]);
    assert!(taken["items"][1]["message"].as_str().unwrap().contains("does not reach"), "{taken}");
    engineer.until(&format!("/api/values?tags={flow}"), |b| b[0]["quality"] == "uncertain" && b[0]["value"] == 7.0).await;
    engineer.until(&format!("/api/values?tags={note}"), |b| b[0]["value"] == "all well").await;
    // Lines as a stream, some of them broken; every good one is in history with its own time.
    let mut lines: String = (0..25_000)
        .map(|i| {
            format!(
                "{{\"tag\":{flow},\"value\":{i},\"time\":\"2026-11-21T00:{:02}:{:02}.{:03}Z\"}}\n",
                i / 10_000,
                i / 1000 % 10,
                i % 1000
            )
        })
        .collect();
    lines += "{\"tag\": 1,\n\n";
    let (status, taken) = send(&plant.url, &token, "application/x-ndjson", lines).await;
    assert_eq!((status, &taken["taken"], &taken["refused"]), (200, &json!(25_000), &json!(1)), "{taken}");
    let tag = plant.live.plant().tags.values().find(|t| t.no == flow).unwrap().id;
    let ask = json!({"tags": [tag], "from": "2026-11-21T00:00:00Z", "to": "2026-11-21T00:10:00Z", "parts": 100_000});
    for attempt in 0.. {
        let (_, raw) = engineer.post("/api/history/raw", ask.clone()).await;
        let count = raw["tags"][0]["offset"].as_array().map_or(0, Vec::len);
        if count == 25_000 {
            break;
        }
        assert!(attempt < 200, "{count} of 25,000 are in history");
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    let id = made["id"].as_str().unwrap();
    assert!(!engineer.get("/api/tokens").await.1.to_string().contains(&token), "the token is shown once");
    assert_eq!(engineer.send(Method::DELETE, &format!("/api/tokens/{id}"), &[], None).await.0, 204);
    assert_eq!(send(&plant.url, &token, json_type, json!({"tag": flow, "value": 1}).to_string()).await.0, 401);
    plant.stop().await;
}

#[actix_web::test]
async fn memory_outlasts_a_restart_and_figures_tell_of_havrel_itself() {
    let name = fresh_name();
    let plant = Plant::start_on(&name).await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let [memory, figures, kept, lost, initial] = [(); 5].map(|()| Uuid::now_v7());
    let tag = |id: Uuid, name: &str, connection: Uuid, point: Json| json!({"op": "create", "kind": "tag", "id": id, "set": {"name": name, "place": built.place, "connection": connection, "point": point, "writable": connection == memory}});
    let edits = json!([
        {"op": "create", "kind": "connection", "id": memory, "set": {"name": "Memory", "kind": "memory"}},
        {"op": "create", "kind": "connection", "id": figures, "set": {"name": "Havrel", "kind": "figures"}},
        tag(kept, "Batch size", memory, json!({"type": "number", "keep": true})),
        tag(lost, "Note", memory, json!({"type": "text"})),
        tag(initial, "Product", memory, json!({"type": "text", "initial": "MV"})),
        tag(Uuid::now_v7(), "Extraction p95", figures, json!({"figure": "p95", "connection": built.connection})),
        tag(Uuid::now_v7(), "Spool fill", figures, json!({"figure": "spool_fill"})),
        tag(Uuid::now_v7(), "Extraction runs", figures, json!({"figure": "running", "connection": built.connection}))]);
    let (status, body) = engineer.edit(1, "Made memory", edits).await;
    assert_eq!(status, 200, "{body}");
    let no = |live: &Live, name: &str| live.plant().tags.values().find(|t| t.set.name == name).unwrap().no;
    let (batch, note, product) = (no(&plant.live, "Batch size"), no(&plant.live, "Note"), no(&plant.live, "Product"));
    let shown = engineer.until(&format!("/api/values?tags={batch},{product}"), |b| b[1]["value"] == "MV").await;
    assert_eq!(
        (shown[0]["quality"].as_str(), shown[0]["reason"].as_str()),
        (Some("uncertain"), Some("no value was set or sent yet"))
    );
    assert_eq!(engineer.post(&format!("/api/tags/{kept}/write"), json!({"value": 1250})).await.0, 200);
    assert_eq!(engineer.post(&format!("/api/tags/{lost}/write"), json!({"value": "rinse twice"})).await.0, 200);
    assert_eq!(engineer.post(&format!("/api/tags/{kept}/write"), json!({"value": "much"})).await.0, 422);
    engineer.until(&format!("/api/values?tags={note}"), |b| b[0]["value"] == "rinse twice").await;
    let (p95, runs) = (no(&plant.live, "Extraction p95"), no(&plant.live, "Extraction runs"));
    engineer
        .until(&format!("/api/values?tags={runs},{p95}"), |b| b[0]["value"] == 1.0 && b[1]["value"].as_f64() > Some(0.0))
        .await;
    let fill = no(&plant.live, "Spool fill");
    engineer.until(&format!("/api/values?tags={fill}"), |b| b[0]["quality"] == "good").await;
    // Switched off it is bad; switched on again it holds what it held.
    let switch = |on: bool| json!([{"op": "patch", "kind": "connection", "id": memory, "set": {"enabled": on}}]);
    assert_eq!(engineer.edit(2, "Off", switch(false)).await.0, 200);
    engineer.until(&format!("/api/values?tags={note}"), |b| b[0]["reason"] == "the connection is switched off").await;
    assert_eq!(engineer.edit(3, "On", switch(true)).await.0, 200);
    engineer.until(&format!("/api/values?tags={note}"), |b| b[0]["value"] == "rinse twice" && b[0]["quality"] == "good").await;
    plant.stop().await;
    let plant = Plant::start_on(&name).await;
    let again = Client::new(&plant.url);
    assert_eq!(again.post("/api/session", json!({"name": "Plant engineer", "password": "kelp-and-salt"})).await.0, 200);
    let shown = again.until(&format!("/api/values?tags={batch},{note},{product}"), |b| b[2]["value"] == "MV").await;
    assert_eq!((shown[0]["value"].as_f64(), shown[0]["quality"].as_str()), (Some(1250.0), Some("good")));
    assert_eq!(shown[1]["quality"], "uncertain", "what was not to be kept is gone");
    plant.stop().await;
}

#[actix_web::test]
async fn connections_travel_as_a_file_from_plant_to_plant() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let [layout, temperature, level] = [(); 3].map(|()| Uuid::now_v7());
    let groups = json!([{"id": Uuid::now_v7(), "name": "Slow", "interval_ms": 5000}]);
    let blocks = json!([{"id": Uuid::now_v7(), "name": "Vessels", "layout": layout, "point": {"address": "holding 0"}, "count": 2, "stride": 40}]);
    let edits = json!([vessel(layout, temperature, level),
        {"op": "patch", "kind": "connection", "id": built.connection, "set": {"groups": groups, "blocks": blocks}}]);
    assert_eq!(engineer.edit(1, "Mapped", edits).await.0, 200);
    let (status, file) = engineer.get(&format!("/api/connections/export?only={}", built.connection)).await;
    assert_eq!((status, file["layouts"].as_array().unwrap().len()), (200, 1));
    // Into the same plant it changes nothing.
    let import = async |client: &Client, seen: &str, file: &Json| {
        client.send(Method::POST, "/api/connections/import", &[("if-match", seen)], Some(file.clone())).await
    };
    let (status, text, _) = import(&engineer, "2", &file).await;
    assert_eq!((status, text.contains("Nothing would change")), (422, true), "{text}");
    let other = Plant::start().await;
    let there = other.engineer().await;
    assert_eq!(import(&there, "0", &file).await.0, 200);
    let copy = other.live.plant();
    let connection = &copy.connections[&built.connection].set;
    assert!(!connection.enabled, "nothing is polled unseen");
    assert_eq!((connection.groups.len(), connection.blocks.len(), copy.layouts.len()), (1, 1, 1));
    assert_eq!(
        there.get("/api/connections/export").await.1["connections"][0]["set"]["groups"],
        file["connections"][0]["set"]["groups"]
    );
    let mut wrong = file.clone();
    wrong["version"] = json!(2);
    assert_eq!(import(&there, "1", &wrong).await.0, 422);
    let mut dangling = file.clone();
    dangling["layouts"] = json!([]);
    dangling["connections"][0]["id"] = json!(Uuid::now_v7());
    dangling["connections"][0]["set"]["blocks"][0]["layout"] = json!(Uuid::now_v7());
    let (status, text, _) = import(&there, "1", &dangling).await;
    assert_eq!((status, text.contains("layout it names does not exist")), (422, true), "{text}");
    other.stop().await;
    plant.stop().await;
}

#[actix_web::test]
async fn what_is_new_or_gone_below_a_node_is_told_until_somebody_takes_note() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let url = format!("/api/connections/{}/listed", built.connection);
    let list = |names: &[&str], note: bool| {
        let nodes: Vec<_> = names.iter().map(|name| json!([format!("s={name}"), name])).collect();
        json!({"node": "i=85", "nodes": nodes, "note": note})
    };
    let (status, first) = engineer.post(&url, list(&["Press", "Mill"], false)).await;
    assert_eq!((status, first), (200, json!({"since": "", "new": [], "gone": []})));
    for _ in 0..2 {
        let (_, told) = engineer.post(&url, list(&["Press", "Dryer"], false)).await;
        assert_eq!((&told["new"], &told["gone"]), (&json!(["s=Dryer"]), &json!([["s=Mill", "Mill"]])));
        assert!(told["since"].as_str().unwrap().starts_with("20"));
    }
    engineer.post(&url, list(&["Press", "Dryer"], true)).await;
    let (_, told) = engineer.post(&url, list(&["Press", "Dryer"], false)).await;
    assert_eq!((&told["new"], &told["gone"]), (&json!([]), &json!([])));
    let other = format!("/api/connections/{}/listed", Uuid::now_v7());
    assert_eq!(engineer.post(&other, list(&["Press"], false)).await.0, 404);
    let long = json!({"node": "x".repeat(2001), "nodes": [], "note": false});
    assert_eq!(engineer.post(&url, long).await.0, 422);
    // Who may not configure is not asked what there is.
    let viewer = plant.person(&engineer, "viewer").await;
    assert_eq!(viewer.post(&url, list(&["Press"], false)).await.0, 403);
}
