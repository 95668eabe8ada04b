//! Lookups over HTTP: rows page by page, what they come to, files in every format, kept ones, and the call for programs.

use crate::plant::{Client, Plant, fresh_name};
use actix_web::http::Method;
use havrel_core::time::{Nanos, SECOND, to_text};
use rstest::rstest;
use serde_json::{Value as Json, json};
use std::time::Duration;
use uuid::Uuid;

/// Flow and temperature of EX-1, with 300 values of each in steps of ten seconds from `from` on: the flow rises by one each time
/// and is bad once, the temperature falls.
struct World {
    plant: Plant,
    engineer: Client,
    place: Uuid,
    flow: Uuid,
    temperature: Uuid,
    valve: Uuid,
    from: Nanos,
}

const COUNT: i64 = 300;

impl World {
    async fn new() -> World {
        let plant = Plant::start_on(&fresh_name()).await;
        let engineer = plant.engineer().await;
        let [place, connection, flow, temperature, valve, names] = [(); 6].map(|()| Uuid::now_v7());
        let tag = |id, name: &str, more: Json| {
            let mut set =
                json!({"name": name, "place": place, "connection": connection, "record": true, "record_mode": "each_poll"});
            more.as_object().unwrap().iter().for_each(|(key, value)| set[key] = value.clone());
            json!({"op": "create", "kind": "tag", "id": id, "set": set})
        };
        let states = json!({"name": "Valve", "states": [{"value": 0, "name": "closed"}, {"value": 1, "name": "open"}]});
        let edits = json!([
            {"op": "create", "kind": "place", "id": place, "set": {"name": "EX-1"}},
            {"op": "create", "kind": "states", "id": names, "set": states},
            {"op": "create", "kind": "connection", "id": connection, "set": {"name": "Gateway", "kind": "push"}},
            tag(flow, "Steam flow", json!({"unit": "kg/h", "decimals": 2})),
            tag(temperature, "Temperature", json!({"unit": "°C"})),
            tag(valve, "Drain valve", json!({"states": names})),
        ]);
        assert_eq!(engineer.edit(0, "Built", edits).await.0, 200);
        let token = engineer.post("/api/tokens", json!({"name": "Gateway"})).await.1["token"].as_str().unwrap().to_owned();
        // Even on the clock, so that steps of a minute begin with it.
        let now = havrel_live::now();
        let from = (now - 4 * 3600 * SECOND) / (60 * SECOND) * (60 * SECOND);
        let mut items = Vec::new();
        for n in 0..COUNT {
            let time = to_text(from + n * 10 * SECOND);
            let quality = if n == 100 { "bad" } else { "good" };
            items.push(json!({"tag": "EX-1/Steam flow", "value": n as f64 + 0.25, "time": time, "quality": quality}));
            items.push(json!({"tag": "EX-1/Temperature", "value": 300 - n, "time": time}));
            if n % 60 == 0 {
                items.push(json!({"tag": "EX-1/Drain valve", "value": n / 60 % 2, "time": time}));
            }
        }
        let bearer = format!("Bearer {token}");
        let (status, text, _) = engineer.send(Method::POST, "/api/push", &[("authorization", &bearer)], Some(json!(items))).await;
        assert!(status == 200 && text.contains("\"refused\":0"), "{text}");
        let world = World { plant, engineer, place, flow, temperature, valve, from };
        let all = world.lookup(json!({"tags": [flow, temperature, valve], "shape": "long"}));
        let question = json!({"lookup": all, "rows": 2000});
        let whole = 2 * COUNT as usize + 5;
        world
            .engineer
            .until_told("/api/lookup/rows", &question, |b| b["rows"].as_array().is_some_and(|r| r.len() == whole))
            .await;
        world
    }

    fn lookup(&self, more: Json) -> Json {
        let period = json!({"from": to_text(self.from), "to": to_text(self.from + COUNT * 10 * SECOND)});
        let mut lookup = json!({"tags": [self.flow], "period": period});
        more.as_object().unwrap().iter().for_each(|(key, value)| lookup[key] = value.clone());
        lookup
    }

    /// All rows, read in pages of so many.
    async fn all(&self, lookup: &Json, page: usize) -> Vec<Vec<Json>> {
        let (mut rows, mut place) = (Vec::new(), Json::Null);
        for _ in 0..10_000 {
            let (status, body) =
                self.engineer.post("/api/lookup/rows", json!({"lookup": lookup, "rows": page, "place": place})).await;
            assert_eq!(status, 200, "{body}");
            rows.extend(body["rows"].as_array().unwrap().iter().map(|row| row.as_array().unwrap().clone()));
            place = body["next"].clone();
            if place.is_null() {
                return rows;
            }
        }
        panic!("it never ends");
    }

    fn at(&self, seconds: i64) -> Json {
        json!(to_text(self.from + seconds * SECOND))
    }

    /// What one line of numbers comes to.
    async fn sums(&self, lookup: &Json) -> Json {
        let (status, text, _) = self.engineer.send(Method::POST, "/api/lookup/sums", &[], Some(json!({"lookup": lookup}))).await;
        assert_eq!(status, 200, "{text}");
        serde_json::from_str(text.lines().last().unwrap()).unwrap()
    }
}

#[actix_web::test]
async fn what_is_stored_is_the_same_wide_and_long_and_however_it_is_paged() {
    let world = World::new().await;
    let wide = world.lookup(json!({"tags": [world.flow, world.temperature, world.valve]}));
    let rows = world.all(&wide, 2000).await;
    assert_eq!(rows.len(), COUNT as usize);
    assert_eq!(rows[0], [world.at(0), json!(0.25), json!(300.0), json!(0.0)]);
    assert_eq!(rows[61], [world.at(610), json!(61.25), json!(239.0), Json::Null]);
    let with = |more: Json| world.lookup(more);
    let mut back = world.all(&with(json!({"tags": wide["tags"], "newest_first": true})), 7).await;
    back.reverse();
    assert_eq!(back, rows);
    assert_eq!(world.all(&wide, 13).await, rows);
    let long = world.all(&with(json!({"tags": wide["tags"], "shape": "long"})), 100).await;
    assert_eq!(long.len(), rows.iter().flatten().filter(|cell| !cell.is_null()).count() - rows.len());
    assert_eq!(long[0][1..4], [json!("EX-1/Steam flow"), json!(0.25), json!("kg/h")]);
    // What held stands in cells in which nothing came, if one wants so.
    let held = world.all(&with(json!({"tags": wide["tags"], "rows": {"of": "stored", "held": true}})), 50).await;
    assert_eq!(held[61][3], json!(1.0));
    let sums = world.sums(&wide).await;
    assert_eq!((&sums["rows"], &sums["columns"][2]["average"]), (&json!(COUNT), &json!(150.5)));
    assert_eq!((&sums["columns"][3]["filled"], &sums["failed"]), (&json!(5), &Json::Null));
    world.plant.stop().await;
}

#[actix_web::test]
async fn rows_are_chosen_by_quality_and_by_comparing_columns() {
    let world = World::new().await;
    let both = json!([world.flow, world.temperature]);
    let good = world.all(&world.lookup(json!({"quality": "good"})), 100).await;
    assert_eq!(good.len() as i64, COUNT - 1);
    let text = "at(\"EX-1/Steam flow\") > 150.0 && at(\"EX-1/Temperature\") > 140.0";
    let compared = world.all(&world.lookup(json!({"tags": both, "condition": {"text": text}})), 3).await;
    let flows: Vec<f64> = compared.iter().map(|row| row[1].as_f64().unwrap()).collect();
    assert_eq!(flows, (150..160).map(|n| f64::from(n) + 0.25).collect::<Vec<_>>());
    let question = |more: Json| json!({"lookup": world.lookup(more)});
    for (more, field) in [
        (json!({"condition": {"text": "at(\"EX-1/Nothing\") > 1.0"}}), "condition"),
        (json!({"condition": {"text": "at(\"EX-1/Temperature\") > 1.0"}}), "condition"),
        (json!({"tags": [Uuid::now_v7()]}), "tags"),
        (json!({"tags": []}), "tags"),
        (json!({"colour": "red"}), "lookup"),
        (json!({"period": {"from": "2026-11-30T06:00:00Z"}}), "period.last_s"),
    ] {
        let (status, body) = world.engineer.post("/api/lookup/rows", question(more)).await;
        assert_eq!((status, &body["problems"][0]["field"]), (422, &json!(field)), "{body}");
    }
    world.plant.stop().await;
}

#[actix_web::test]
async fn instants_hold_or_lie_on_the_line_and_spans_come_to_the_whole() {
    let world = World::new().await;
    let every = |count: u32, unit: &str| json!({"count": count, "unit": unit});
    let instants = |line: bool| json!({"of": "instants", "every": every(15, "second"), "line": line});
    let held = world.all(&world.lookup(json!({"rows": instants(false)})), 9).await;
    let line = world.all(&world.lookup(json!({"rows": instants(true)})), 9).await;
    assert_eq!((held.len(), &held[1], &line[1]), (200, &vec![world.at(15), json!(1.25)], &vec![world.at(15), json!(1.75)]));
    assert_eq!(held[67], [world.at(1005), Json::Null], "what is bad does not hold");
    let spans = |count, unit| {
        let figures = ["minimum", "maximum", "sum", "count", "good", "states"];
        json!({"of": "spans", "every": every(count, unit), "figures": figures})
    };
    let tags = json!([world.flow, world.valve]);
    let minutes = world.all(&world.lookup(json!({"tags": tags, "rows": spans(1, "minute")})), 4).await;
    let whole = world.all(&world.lookup(json!({"tags": tags, "rows": spans(1, "month")})), 4).await;
    let columns = world
        .engineer
        .post("/api/lookup/rows", json!({"lookup": world.lookup(json!({"tags": tags, "rows": spans(1, "minute")}))}))
        .await
        .1;
    let column = |name: &str| columns["columns"].as_array().unwrap().iter().position(|c| c["title"] == name).unwrap();
    let total = |rows: &[Vec<Json>], name: &str| rows.iter().filter_map(|row| row[column(name)].as_f64()).sum::<f64>();
    for name in
        ["EX-1/Steam flow, sum", "EX-1/Steam flow, count", "EX-1/Drain valve, time “open”", "EX-1/Drain valve, time “closed”"]
    {
        assert_eq!(total(&minutes, name), total(&whole, name), "{name}");
    }
    assert_eq!(total(&whole, "EX-1/Drain valve, time “open”"), 1200.0);
    assert_eq!(total(&whole, "EX-1/Steam flow, count"), f64::from(299));
    assert_eq!((minutes.len(), columns["total"].as_u64()), (50, Some(50)));
    assert_eq!(minutes[0][0..2], [world.at(0), world.at(60)]);
    world.plant.stop().await;
}

#[rstest]
#[case::lines("csv", "text/csv; charset=utf-8")]
#[case::objects("ndjson", "application/x-ndjson")]
#[case::whole("json", "application/json")]
#[case::workbook("xlsx", "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet")]
#[case::columns("parquet", "application/vnd.apache.parquet")]
#[actix_web::test]
async fn a_file_is_written_as_a_job_and_fetched_by_its_asker(#[case] format: &str, #[case] media: &str) {
    let world = World::new().await;
    let lookup = world.lookup(json!({"tags": [world.flow, world.valve]}));
    let body = json!({"lookup": lookup, "format": format, "name": "Flow: a/b"});
    let (status, begun) = world.engineer.post("/api/lookup/files", body).await;
    assert_eq!((status, &begun["name"]), (200, &json!(format!("Flow_ a_b.{format}"))), "{begun}");
    let path = format!("/api/lookup/files/{}", begun["id"].as_str().unwrap());
    let done = world.engineer.until(&path, |file| !file["bytes"].is_null()).await;
    assert_eq!((&done["rows"], &done["failed"]), (&json!(COUNT), &Json::Null));
    let (status, text, head) = world.engineer.send(Method::GET, &format!("{path}/content"), &[], None).await;
    let header = |name: &str| head.iter().find(|(key, _)| key == name).map(|(_, value)| value.clone()).unwrap_or_default();
    assert_eq!((status, header("content-type").as_str()), (200, media));
    assert_eq!(header("content-length"), done["bytes"].to_string());
    let first = to_text(world.from);
    match format {
        "csv" => {
            assert!(
                text.starts_with(&format!("Time,\"EX-1/Steam flow, kg/h\",EX-1/Drain valve\r\n{first},0.25,closed\r\n")),
                "{text}"
            );
            assert_eq!(text.lines().count() as i64, COUNT + 1);
        }
        "ndjson" => {
            let row: Json = serde_json::from_str(text.lines().next().unwrap()).unwrap();
            assert_eq!(row, json!({"Time": first, "EX-1/Steam flow": 0.25, "EX-1/Drain valve": "closed"}));
        }
        "json" => {
            let whole: Json = serde_json::from_str(&text).unwrap();
            assert_eq!(whole["columns"][1], json!({"title": "EX-1/Steam flow", "unit": "kg/h"}));
            assert_eq!(
                (whole["rows"].as_array().unwrap().len() as i64, &whole["rows"][0]),
                (COUNT, &json!([first, 0.25, "closed"]))
            );
        }
        "xlsx" => assert!(text.starts_with("PK")),
        _ => assert!(text.starts_with("PAR1") && text.ends_with("PAR1")),
    }
    // Nobody else gets at it.
    let other = world.plant.person(&world.engineer, "operator").await;
    assert_eq!(other.get(&path).await.0, 404);
    assert_eq!(world.engineer.send(Method::DELETE, &path, &[], None).await.0, 204);
    assert_eq!(world.engineer.get(&path).await.0, 404);
    world.plant.stop().await;
}

#[actix_web::test]
async fn a_kept_lookup_follows_new_names_and_is_read_by_programs_with_a_token_that_reads() {
    let world = World::new().await;
    let text = "at(\"EX-1/Steam flow\") > 297.0";
    let lookup = world.lookup(json!({"condition": {"text": text}}));
    let viewer = world.plant.person(&world.engineer, "viewer").await;
    assert_eq!(viewer.post("/api/lookups", json!({"name": "High flow", "lookup": lookup})).await.0, 403);
    let operator = world.plant.person(&world.engineer, "operator").await;
    let (status, made) = operator.post("/api/lookups", json!({"name": "High flow", "lookup": lookup})).await;
    assert_eq!(status, 200, "{made}");
    let id = made["id"].as_str().unwrap();
    let (status, taken) = viewer.get("/api/lookups").await;
    assert_eq!((status, &taken[0]["name"], &taken[0]["removable"]), (200, &json!("High flow"), &json!(false)));
    let rename = json!([{"op": "patch", "kind": "tag", "id": world.flow, "set": {"name": "Live steam"}}]);
    assert_eq!(world.engineer.edit(1, "Named", rename).await.0, 200);
    assert_eq!(viewer.get("/api/lookups").await.1[0]["lookup"]["condition"]["text"], "at(\"EX-1/Live steam\") > 297.0");

    let token = async |body: Json| world.engineer.post("/api/tokens", body).await.1["token"].as_str().unwrap().to_owned();
    let path = format!("/api/lookups/{id}/rows?format=ndjson");
    let call = async |token: &str, path: &str| {
        let nobody = Client::new(&world.plant.url);
        let bearer = format!("Bearer {token}");
        let (status, text, _) = nobody.send(Method::GET, path, &[("authorization", &bearer)], None).await;
        (status, text)
    };
    let reads = token(json!({"name": "Notebook", "reads": true})).await;
    let (status, rows) = call(&reads, &path).await;
    assert_eq!((status, rows.lines().count()), (200, 3), "{rows}");
    let last: Json = serde_json::from_str(rows.lines().last().unwrap()).unwrap();
    assert_eq!(last, json!({"Time": to_text(world.from + 2990 * SECOND), "EX-1/Live steam": 299.25}));
    // Another period than the kept one.
    let later = format!("{path}&from={}&to={}", to_text(world.from + 2985 * SECOND), to_text(world.from + 3000 * SECOND));
    assert_eq!(call(&reads, &later).await.1.lines().count(), 1);
    assert_eq!(call(&reads, &path.replace("ndjson", "xlsx")).await.0, 422);
    // Each token does what it is for, and no more.
    assert_eq!(call(&token(json!({"name": "Pushes"})).await, &path).await.0, 403);
    let push = json!([{"tag": "EX-1/Live steam", "value": 1.0}]);
    let bearer = format!("Bearer {reads}");
    assert_eq!(world.engineer.send(Method::POST, "/api/push", &[("authorization", &bearer)], Some(push)).await.0, 403);
    let elsewhere = Uuid::now_v7();
    let place = json!([{"op": "create", "kind": "place", "id": elsewhere, "set": {"name": "Elsewhere"}}]);
    assert_eq!(world.engineer.edit(2, "Built", place).await.0, 200);
    let narrow = token(json!({"name": "Elsewhere", "reads": true, "place": elsewhere})).await;
    assert_eq!(call(&narrow, &path).await.0, 422);
    let wide = token(json!({"name": "Vessel", "reads": true, "place": world.place})).await;
    assert_eq!(call(&wide, &path).await.0, 200);
    assert_eq!(call("hv_nothing", &path).await.0, 401);
    assert_eq!(viewer.get(&path).await.0, 200, "whoever is signed in needs no token");
    assert_eq!(operator.send(Method::DELETE, &format!("/api/lookups/{id}"), &[], None).await.0, 204);
    assert_eq!(call(&reads, &path).await.0, 404);
    let _ = (world.temperature, world.valve);
    world.plant.stop().await;
}

#[actix_web::test]
async fn a_file_that_is_not_waited_for_stops() {
    let world = World::new().await;
    // Ten million spans take minutes.
    let long = json!({"from": "2010-01-01T00:00:00Z", "to": "2026-01-01T00:00:00Z"});
    let every = json!({"count": 1, "unit": "minute"});
    let lookup = world.lookup(json!({"period": long, "rows": {"of": "spans", "every": every, "figures": ["last"]}}));
    let (status, begun) = world.engineer.post("/api/lookup/files", json!({"lookup": lookup, "format": "csv"})).await;
    assert_eq!(status, 200, "{begun}");
    let path = format!("/api/lookup/files/{}", begun["id"].as_str().unwrap());
    world.engineer.until(&path, |file| file["rows"].as_u64() > Some(0)).await;
    assert_eq!(world.engineer.get(&format!("{path}/content")).await.0, 409);
    assert_eq!(world.engineer.send(Method::DELETE, &path, &[], None).await.0, 204);
    for _ in 0..400 {
        if world.plant.live.jobs.running().is_empty() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    assert!(world.plant.live.jobs.running().is_empty());
    world.plant.stop().await;
}

#[actix_web::test]
async fn a_table_of_a_report_holds_the_numbers_of_the_lookup() {
    let world = World::new().await;
    let every = json!({"count": 10, "unit": "minute"});
    let spans = json!({"of": "spans", "every": every, "figures": ["maximum"]});
    let looked_up = world.all(&world.lookup(json!({"tags": [world.flow, world.temperature], "rows": spans})), 100).await;
    let report = Uuid::now_v7();
    let tags = json!([world.flow, world.temperature]);
    let table = json!({"kind": "table", "tags": tags, "every": every, "figure": "maximum", "below": ["sum", "average"]});
    let set = |section: &Json| json!({"name": "Flow", "zone": "Europe/Oslo", "sections": [section]});
    let create = |section: &Json| json!([{"op": "create", "kind": "report", "id": report, "set": set(section)}]);
    for (field, value, at) in [
        ("every", json!({"count": 0, "unit": "day"}), "sections[0].every.count"),
        ("figure", json!("states"), "sections[0].figure"),
    ] {
        let mut wrong = table.clone();
        wrong[field] = value;
        let (status, body) = world.engineer.edit(1, "Wrong", create(&wrong)).await;
        assert_eq!((status, &body["problems"][0]["field"]), (422, &json!(at)), "{body}");
    }
    assert_eq!(world.engineer.edit(1, "Report", create(&table)).await.0, 200);
    let period = format!("?from={}&to={}", to_text(world.from), to_text(world.from + COUNT * 10 * SECOND));
    let (status, edition) = world.engineer.post(&format!("/api/reports/{report}/editions{period}"), json!({})).await;
    assert_eq!(status, 200, "{edition}");
    let path = format!("/api/editions/{}/json", edition["id"].as_str().unwrap());
    let (_, made) = world.engineer.get(&path).await;
    let section = &made["sections"][0];
    assert_eq!(section["columns"], json!(["From", "To", "EX-1 Steam flow, kg/h", "EX-1 Temperature, °C"]));
    let rows: Vec<Vec<Json>> = serde_json::from_value(section["rows"].clone()).unwrap();
    assert_eq!(rows[..rows.len() - 2], looked_up[..]);
    let sum: f64 = looked_up.iter().filter_map(|row| row[2].as_f64()).sum();
    assert_eq!((&rows[rows.len() - 2][0], rows[rows.len() - 2][2].as_f64()), (&json!("Sum"), Some(sum)));
    assert_eq!(rows[rows.len() - 1][2].as_f64(), Some(sum / looked_up.len() as f64));
    let (_, page, _) = world.engineer.send(Method::GET, &path.replace("/json", "/html"), &[], None).await;
    assert!(page.contains("Maximum of each span") && page.contains("EX-1 Steam flow, kg/h"), "{page}");
    world.plant.stop().await;
}
