//! Dispatches through the interface: tried, by hand, by the clock, at events, refused and mended, and kept over a restart.

use crate::{
    calls::Outside,
    plant::{Built, Client, Plant, SHARED, fresh_name},
};
use actix_web::http::Method;
use havrel_core::time::{Nanos, SECOND, from_text};
use havrel_db::{
    Db,
    dispatches::{Mark, RunFilter},
};
use havrel_live::{Live, now};
use serde_json::{Value as Json, json};
use std::sync::atomic::Ordering;
use tempfile::TempDir;
use uuid::Uuid;

/// EX-1 with a report of its values, a folder, and a mail server and a hook with a memory.
struct World {
    built: Built,
    report: Uuid,
    folder: Uuid,
    dir: TempDir,
    mail: Uuid,
    hook: Uuid,
    outside: Outside,
}

async fn build(plant: &Plant, engineer: &Client) -> World {
    let built = plant.build(engineer).await;
    let outside = Outside::start().await;
    let dir = tempfile::tempdir().unwrap();
    let [report, folder, mail, hook] = [(); 4].map(|()| Uuid::now_v7());
    let connection = |id, name: &str, kind: &str, settings: Json| {
        json!({"op": "create", "kind": "connection", "id": id,
            "set": {"name": name, "kind": kind, "timeout_ms": 2000, "settings": settings}})
    };
    let sections = json!([{"kind": "values", "tags": [built.level, built.setpoint]}, {"kind": "summary", "tags": [built.level]}]);
    let edits = json!([
        connection(folder, "Share", "folder", json!({"path": dir.path()})),
        connection(mail, "Works mail", "mail",
            json!({"host": "127.0.0.1", "port": outside.mail, "security": "none", "from": "havrel@works.example"})),
        connection(hook, "Gatehouse", "hook", json!({"host": "127.0.0.1", "port": outside.hook, "path": "/reports"})),
        {"op": "create", "kind": "report", "id": report,
            "set": {"name": "Vessel", "place": built.place, "minutes": 15, "zone": "UTC", "sections": sections}},
    ]);
    let (status, told) = engineer.edit(1, "Reports", edits).await;
    assert_eq!(status, 200, "{told}");
    World { built, report, folder, dir, mail, hook, outside }
}

async fn dispatch(client: &Client, seen: i64, set: Json) -> Uuid {
    let id = Uuid::now_v7();
    let (status, told) = client.edit(seen, "Added", json!([{"op": "create", "kind": "dispatch", "id": id, "set": set}])).await;
    assert_eq!(status, 200, "{told}");
    id
}

fn all_sent(runs: &Json, count: usize) -> bool {
    let runs = runs.as_array().unwrap();
    let sent = |run: &Json| run["deliveries"].as_array().unwrap().iter().all(|one| one["state"] == "done");
    runs.len() >= count && runs.iter().all(|run| run["made"] == "done" && sent(run))
}

fn files(world: &World) -> Vec<String> {
    let mut names: Vec<String> =
        std::fs::read_dir(world.dir.path()).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

#[actix_web::test]
async fn a_report_is_sent_by_hand_to_a_folder_a_person_and_a_program() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let world = build(&plant, &engineer).await;
    let deliveries = json!([
        {"connection": world.folder, "file": "{place}", "formats": ["csv", "json", "xlsx"]},
        {"connection": world.mail, "to": ["lead@works.example", "lab@works.example"], "formats": ["csv"]},
        {"connection": world.hook, "formats": ["json"]},
    ]);
    let set = json!({"name": "Vessel now", "report": world.report, "when": {"on": "hand"}, "deliveries": deliveries});
    // Before it is saved it says what it would do.
    let (status, tried) = engineer.post("/api/dispatches/try", json!({"dispatch": set})).await;
    assert_eq!((status, &tried["problems"]), (200, &json!([])), "{tried}");
    assert_eq!(tried["files"][0], json!(["EX-1.csv", "EX-1.json", "EX-1.xlsx"]));
    let bad = json!({"name": "", "report": world.report, "deliveries": [{"connection": world.mail, "formats": []}]});
    let (_, tried) = engineer.post("/api/dispatches/try", json!({"dispatch": bad})).await;
    let fields: Vec<_> = tried["problems"].as_array().unwrap().iter().map(|problem| problem["field"].clone()).collect();
    assert_eq!(fields, [json!("name"), json!("deliveries[0].formats"), json!("deliveries[0].to")]);

    let id = dispatch(&engineer, 2, set).await;
    let viewer = plant.person(&engineer, "viewer").await;
    assert_eq!(viewer.post(&format!("/api/dispatches/{id}/send"), json!({})).await.0, 403);
    let operator = plant.person(&engineer, "operator").await;
    let (status, run) = operator.post(&format!("/api/dispatches/{id}/send"), json!({})).await;
    assert_eq!((status, &run["made"], run["deliveries"].as_array().unwrap().len()), (200, &json!("waiting"), 4), "{run}");
    let runs = engineer.until(&format!("/api/dispatches/runs?dispatch={id}"), |runs| all_sent(runs, 1)).await;
    let minutes = |run: &Json| {
        let at = |field: &str| from_text(run[field].as_str().unwrap()).unwrap();
        (at("to") - at("from")) / 60_000_000_000
    };
    assert_eq!((minutes(&runs[0]), &runs[0]["by"]), (15, &run["by"]));

    // Everywhere the same bytes as the edition.
    let edition = runs[0]["id"].as_str().unwrap();
    let (_, csv, _) = engineer.send(Method::GET, &format!("/api/editions/{edition}/csv"), &[], None).await;
    assert_eq!(files(&world), ["EX-1.csv", "EX-1.json", "EX-1.xlsx"]);
    assert_eq!(std::fs::read_to_string(world.dir.path().join("EX-1.csv")).unwrap(), csv);
    let got = world.outside.post.all();
    let mut to: Vec<&str> = got.iter().filter(|one| one.by == "mail").map(|one| one.to.as_str()).collect();
    to.sort_unstable();
    assert_eq!(to, ["lab@works.example", "lead@works.example"]);
    let mail = got.iter().find(|one| one.by == "mail").unwrap();
    assert!(mail.subject.starts_with("Vessel, ") && mail.text.contains("Place: EX-1") && mail.text.contains("Level"), "{mail:?}");
    assert_eq!((mail.files[0].name.starts_with("Vessel 20"), &mail.files[0].bytes[..]), (true, csv.as_bytes()));
    let hook = got.iter().find(|one| one.by == "hook").unwrap();
    let told: Json = serde_json::from_str(&hook.text).unwrap();
    assert_eq!((&told["edition"], &told["report"]), (&json!(edition), &json!("Vessel")));
    let sent: Json = serde_json::from_slice(&hook.files[0].bytes).unwrap();
    assert!(sent["sections"][0]["rows"][0][3].is_number(), "{sent}");
    // Somebody asks for another period.
    let period = "from=2026-11-01T00:00:00Z&to=2026-11-02T00:00:00Z";
    let (status, run) = operator.post(&format!("/api/dispatches/{id}/send?{period}"), json!({})).await;
    assert_eq!((status, &run["from"], &run["to"]), (200, &json!("2026-11-01T00:00:00Z"), &json!("2026-11-02T00:00:00Z")));
    engineer.until(&format!("/api/dispatches/runs?dispatch={id}"), |runs| all_sent(runs, 2)).await;
    assert_eq!(files(&world), ["EX-1 (2).csv", "EX-1 (2).json", "EX-1 (2).xlsx", "EX-1.csv", "EX-1.json", "EX-1.xlsx"]);
    plant.stop().await;
}

#[actix_web::test]
async fn each_event_makes_one_report_of_its_instant() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let world = build(&plant, &engineer).await;
    plant.set_level(20.0);
    let values = format!("/api/values?tags={}", world.built.level_no);
    engineer.until(&values, |b| b[0]["value"].as_f64().is_some_and(|v| v < 25.0)).await;
    let set = json!({"name": "Full", "report": world.report, "when": {"on": "event"}, "trigger": {"text": "at(\"EX-1/Level\") > 40"},
        "deliveries": [{"connection": world.hook, "formats": ["json"]}]});
    let id = dispatch(&engineer, 2, set).await;
    let runs = format!("/api/dispatches/runs?dispatch={id}");
    for (count, level) in [(1, 60.0), (2, 80.0)] {
        plant.set_level(level);
        engineer.until(&runs, |runs| all_sent(runs, count)).await;
        plant.set_level(20.0);
        engineer.until(&values, |b| b[0]["value"].as_f64().is_some_and(|v| v < 25.0)).await;
    }
    let (_, made) = engineer.get(&runs).await;
    assert_eq!(made.as_array().unwrap().len(), 2, "{made}");
    for run in made.as_array().unwrap() {
        let (_, edition) = engineer.get(&format!("/api/editions/{}/json", run["id"].as_str().unwrap())).await;
        // The level had just passed 40; when the report was made it may have been anywhere.
        let level = edition["sections"][0]["rows"][0][3].as_f64().unwrap();
        assert!((40.0..=80.0).contains(&level), "{edition}");
        assert_eq!(edition["to"], run["at"]);
    }
    // Paused, nothing is made, and nothing is made up for later.
    let paused = json!([{"op": "patch", "kind": "dispatch", "id": id, "set": {"running": false}}]);
    assert_eq!(engineer.edit(3, "Paused", paused).await.0, 200);
    plant.set_level(60.0);
    engineer.until(&values, |b| b[0]["value"].as_f64().is_some_and(|v| v > 55.0)).await;
    let resumed = json!([{"op": "patch", "kind": "dispatch", "id": id, "set": {"running": true}}]);
    assert_eq!(engineer.edit(4, "Resumed", resumed).await.0, 200);
    let (_, sent) = engineer.post(&format!("/api/dispatches/{id}/send"), json!({})).await;
    let all = engineer.until(&runs, |runs| all_sent(runs, 3)).await;
    assert_eq!((all.as_array().unwrap().len(), &all[0]["id"]), (3, &sent["id"]), "{all}");
    plant.stop().await;
}

#[actix_web::test]
async fn what_is_refused_is_told_tried_again_and_stopped() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let world = build(&plant, &engineer).await;
    world.outside.refuses.store(true, Ordering::Relaxed);
    let deliveries = json!([
        {"connection": world.mail, "to": ["nobody@works.example"], "formats": ["csv"]},
        {"connection": world.folder, "formats": ["csv"]},
    ]);
    let set = json!({"name": "Refused", "report": world.report, "when": {"on": "hand"}, "deliveries": deliveries});
    let id = dispatch(&engineer, 2, set).await;
    let gone = world.dir.path().with_extension("away");
    std::fs::rename(world.dir.path(), &gone).unwrap();
    engineer.post(&format!("/api/dispatches/{id}/send"), json!({})).await;
    let runs = format!("/api/dispatches/runs?dispatch={id}");
    let tried = |runs: &Json| runs[0]["deliveries"].as_array().unwrap().iter().all(|one| one["attempts"].as_u64() >= Some(1));
    let refused = engineer.until(&runs, tried).await;
    let [mail, folder] = [0, 1].map(|n| refused[0]["deliveries"][n].clone());
    assert!(mail["state"] == "failed" && mail["answer"].as_str().unwrap().contains("550"), "{mail}");
    assert!(folder["state"] == "again" && folder["next_at"] != "", "a folder may come back: {folder}");
    assert!(folder["answer"].as_str().unwrap().contains("there is no such folder"), "{folder}");
    // Nobody has to look: an alarm says it.
    let standing = engineer.until("/api/alarms", |all| all.to_string().contains("Could not send")).await;
    assert!(standing.to_string().contains("nobody@works.example"), "{standing}");
    let (_, failed) = engineer.get("/api/dispatches/runs?failed=true").await;
    assert_eq!(failed.as_array().unwrap().len(), 1);

    // Mended on the other side, it is sent at once when somebody says so.
    world.outside.refuses.store(false, Ordering::Relaxed);
    std::fs::rename(&gone, world.dir.path()).unwrap();
    let run = refused[0]["id"].as_str().unwrap();
    let again = format!("/api/dispatches/runs/{run}/again");
    for _ in 0..20 {
        if all_sent(&engineer.get(&runs).await.1, 1) {
            break;
        }
        engineer.post(&again, json!({})).await;
        tokio::time::sleep(std::time::Duration::from_millis(500)).await;
    }
    engineer.until(&runs, |runs| all_sent(runs, 1)).await;
    assert_eq!((files(&world).len(), world.outside.post.all().len()), (1, 1));
    assert_eq!(engineer.post(&again, json!({})).await.0, 409);
    assert_eq!(engineer.post(&format!("/api/dispatches/runs/{run}/stop"), json!({})).await.0, 409);
    assert_eq!(engineer.post(&format!("/api/dispatches/runs/{}/stop", Uuid::now_v7()), json!({})).await.0, 404);

    // Somebody stops what is still tried.
    std::fs::rename(world.dir.path(), &gone).unwrap();
    let (_, second) = engineer.post(&format!("/api/dispatches/{id}/send"), json!({})).await;
    engineer.until(&runs, tried).await;
    let (status, stopped) =
        engineer.post(&format!("/api/dispatches/runs/{}/stop", second["id"].as_str().unwrap()), json!({})).await;
    assert_eq!((status, &stopped["deliveries"][1]["state"]), (200, &json!("failed")), "{stopped}");
    std::fs::rename(&gone, world.dir.path()).unwrap();
    plant.stop().await;
}

#[actix_web::test]
async fn a_schedule_is_read_back_and_a_report_that_is_deleted_takes_its_dispatches_with_it() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let world = build(&plant, &engineer).await;
    let with = |cron: &str, covers: &str| json!({"name": "Morning", "report": world.report, "covers": covers, "when": {"on": "schedule", "cron": cron}});
    let (_, tried) = engineer.post("/api/dispatches/try", json!({"dispatch": with("0 6 * * *", "day")})).await;
    let times = tried["times"].as_array().unwrap();
    assert!(times.len() == 5 && times.iter().all(|time| time["at"].as_str().unwrap().ends_with("T06:00:00Z")), "{tried}");
    assert!(times.iter().all(|time| time["to"].as_str().unwrap().ends_with("T00:00:00Z")), "{tried}");
    assert!(tried["words"].as_str().unwrap().contains("06:00"), "{tried}");
    for bad in ["0 6 * *", "0 0 30 2 *", "every day"] {
        let (_, tried) = engineer.post("/api/dispatches/try", json!({"dispatch": with(bad, "day")})).await;
        assert_eq!((&tried["problems"][0]["field"], &tried["times"]), (&json!("when.cron"), &json!([])), "{tried}");
    }
    let id = dispatch(&engineer, 2, with("* * * * *", "hour")).await;
    let (_, all) = engineer.get("/api/dispatches").await;
    assert!(all[0]["id"] == json!(id) && all[0]["next"] != "" && all[0]["last"].is_null(), "{all}");
    let gone = json!([{"op": "delete", "kind": "report", "id": world.report, "contents": true}]);
    let (status, told) = engineer.edit(3, "Gone", gone).await;
    assert_eq!(status, 200, "{told}");
    assert_eq!(engineer.get("/api/items/dispatch").await.1["items"], json!([]));
    plant.stop().await;
}

#[actix_web::test]
async fn after_a_stop_of_three_days_it_is_caught_up_as_each_dispatch_says_and_only_once() {
    const DAY: Nanos = 86_400 * SECOND;
    let name = fresh_name();
    let plant = Plant::start_on(&name).await;
    let engineer = plant.engineer().await;
    let world = build(&plant, &engineer).await;
    // Due in the middle of each day, as far from now as can be.
    let hour = (now().rem_euclid(DAY) / (3600 * SECOND) + 12) % 24;
    let mut ids = Vec::new();
    for (seen, missed) in (2..).zip(["all", "last", "none"]) {
        let when = json!({"on": "schedule", "cron": format!("0 {hour} * * *"), "missed": missed});
        let set = json!({"name": missed, "report": world.report, "covers": "day", "when": when,
            "deliveries": [{"connection": world.folder, "file": format!("{missed} {{from}}"), "formats": ["csv"]}]});
        ids.push(dispatch(&engineer, seen, set).await);
    }
    plant.stop().await;
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    let stopped = |id: &Uuid| (*id, Mark { since: now() - 5 * DAY, until: now() - 3 * DAY });
    db.set_off(&[], &ids.iter().map(stopped).collect::<Vec<_>>()).await.unwrap();
    let made = async |live: &Live| {
        let mut counts = Vec::new();
        for id in &ids {
            let filter = RunFilter { dispatch: Some(*id), ..RunFilter::default() };
            counts.push(live.db.runs(&filter, 100).await.unwrap().iter().filter(|run| run.making.sent_at.is_some()).count());
        }
        counts
    };
    let folder = tempfile::tempdir().unwrap();
    // Killed at once, again and again: each start goes on where the one before was.
    for wait in [5, 50, 200, 800] {
        let live = Live::start(db.clone(), folder.path()).await.unwrap();
        tokio::time::sleep(std::time::Duration::from_millis(wait)).await;
        live.stop().await;
    }
    let live = Live::start(db.clone(), folder.path()).await.unwrap();
    for _ in 0..1600 {
        if made(&live).await == [3, 1, 0] && files(&world).len() == 4 {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(25)).await;
    }
    assert_eq!(made(&live).await, [3, 1, 0]);
    assert_eq!(files(&world).len(), 4, "{:?}", files(&world));
    // A stop is no failure: nothing is given up because of it, and nothing waits for longer.
    let runs = live.db.runs(&RunFilter::default(), 100).await.unwrap();
    let attempts: Vec<u32> = runs.iter().flat_map(|run| &run.deliveries).map(|parcel| parcel.tries.attempts).collect();
    assert_eq!(attempts, [1; 4]);
    live.stop().await;
}
