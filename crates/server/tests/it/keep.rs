//! What must survive: restarts, a killed server, a database that goes away and comes back.

use crate::plant::{Client, Plant, SHARED, fresh_name, make_reachable};
use havrel_core::{
    alarm::EventKind,
    plant::{Edit, Kind, Op},
    quality::Quality,
    sample::{Batch, Value},
    time::SECOND,
};
use havrel_db::{
    Db,
    alarms::EventFilter,
    cluster::{Care, Cluster},
    config::By,
};
use havrel_live::Live;
use serde_json::json;
use sqlx::Connection as _;
use std::time::Duration;
use uuid::Uuid;

pub fn all() -> EventFilter {
    EventFilter::ALL
}

#[actix_web::test]
async fn alarms_stand_as_before_after_a_restart() {
    let name = fresh_name();
    SHARED.cluster.ensure(&name, None).await.unwrap();
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    let plant = Plant::on(db.clone()).await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(75.0);
    engineer.until("/api/alarms", |b| b["alarms"].as_array().is_some_and(|a| a.len() == 1)).await;
    let level = plant.live.plant().tags[&built.level].no;
    plant.live.stop().await;
    let before = db.alarm_events(&all(), None, 1000).await.unwrap();
    assert_eq!(before.len(), 1);
    // The controller goes on; a new program on the same database finds it still high.
    let live = Live::start(db.clone(), plant.spool.path()).await.unwrap();
    let standing = live.alarms.read().unwrap().standing().into_iter().cloned().collect::<Vec<_>>();
    assert_eq!((standing.len(), standing[0].sequence, standing[0].is_active()), (1, 1, true));
    for _ in 0..200 {
        if live.values.read().unwrap().of(level).is_some_and(|s| !s.current.quality.is_bad()) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    plant.set_level(30.0);
    for _ in 0..200 {
        if db.alarm_events(&all(), None, 1000).await.unwrap().len() == 2 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    let events = db.alarm_events(&all(), None, 1000).await.unwrap();
    assert_eq!(
        events.iter().map(|(_, e)| (e.kind, e.sequence)).collect::<Vec<_>>(),
        [(EventKind::Returned, 2), (EventKind::Raised, 1)]
    );
    live.stop().await;
}

#[actix_web::test]
async fn the_database_may_go_and_come_back() {
    let folder = tempfile::tempdir().unwrap();
    make_reachable(folder.path());
    let first = Cluster::start(&folder.path().join("cluster"), Care { careless: true, port: Some(free_port()) }).unwrap();
    let port = first.port();
    first.ensure("plant", None).await.unwrap();
    let options = first.options("plant");
    let plant = Plant::on(Db::open(options.clone()).await.unwrap()).await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let values = format!("/api/values?tags={}", built.level_no);
    engineer.until(&values, |b| b[0]["quality"] == "good").await;
    let pushed = pushable(&engineer, built.place, 1).await;
    assert_eq!(push(&plant.url, &pushed.token, 1.0).await, 200);
    let began = havrel_live::now();
    // Starting and stopping wait on a thread of their own: this one carries the connections.
    tokio::task::spawn_blocking(move || drop(first)).await.unwrap();
    engineer.until("/api/health", |b| b["database"] == false).await;
    // Values and alarms go on, and what needs the database says so.
    plant.set_level(75.0);
    engineer.until(&values, |b| b[0]["value"].as_f64().is_some_and(|v| v > 70.0)).await;
    engineer.until("/api/alarms", |b| b["alarms"].as_array().is_some_and(|a| a.len() == 1)).await;
    // A program that pushed before pushes on; one that nobody knows waits until it can be asked about.
    for value in [2.0, 3.0] {
        assert_eq!(push(&plant.url, &pushed.token, value).await, 200);
    }
    assert_eq!(push(&plant.url, "hv_unknown", 9.0).await, 503);
    let (status, body) = engineer.get("/api/journal").await;
    assert_eq!(status, 503, "{body}");
    assert!(body["detail"].as_str().unwrap().contains("database does not answer"));
    let waiting = plant.live.spool_state();
    assert!(waiting.frames > 0 && waiting.lost == 0);
    // Away for longer than the longest pause between samples that is allowed below.
    while havrel_live::now() - began < 3 * SECOND {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let place = folder.path().join("cluster");
    let again = move || Cluster::start(&place, Care { careless: true, port: Some(port) }).unwrap();
    let second = tokio::task::spawn_blocking(again).await.unwrap();
    engineer.until("/api/health", |b| b["database"] == true).await;
    let back = havrel_live::now();
    let journal = engineer.until("/api/journal?kind=system", |b| b[0]["title"].is_string()).await;
    assert!(journal[0]["title"].as_str().unwrap().ends_with("0 samples were lost"), "{journal}");
    let no = plant.live.plant().tags[&built.level].no;
    let mut kept = Vec::new();
    for _ in 0..200 {
        kept = plant.live.db.raw(no, began, i64::MAX, false, 100_000).await.unwrap();
        if kept.last().is_some_and(|k| k.time > back) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    // Read ten times a second: no second without a sample, from before the stop until after it.
    assert!(
        kept.windows(2).all(|w| w[1].time - w[0].time < SECOND),
        "{:?}",
        kept.iter().map(|k| k.time - began).collect::<Vec<_>>()
    );
    assert_eq!(plant.live.db.alarm_events(&all(), None, 1000).await.unwrap().len(), 1);
    let no = plant.live.plant().tags[&pushed.tag].no;
    let held: Vec<_> =
        plant.live.db.raw(no, 0, i64::MAX, false, 100).await.unwrap().into_iter().filter_map(|k| k.value).collect();
    assert_eq!(held, [1.0, 2.0, 3.0].map(Value::F64));
    plant.stop().await;
    drop(second);
}

pub struct Pushed {
    pub tag: Uuid,
    pub token: String,
}

/// A recorded tag that can be pushed to, and a token for it.
pub async fn pushable(engineer: &Client, place: Uuid, seen: i64) -> Pushed {
    let [connection, tag] = [(); 2].map(|()| Uuid::now_v7());
    let edits = json!([
        {"op": "create", "kind": "connection", "id": connection, "set": {"name": "Gateway", "kind": "push"}},
        {"op": "create", "kind": "tag", "id": tag, "set": {"name": "Steam flow", "place": place, "connection": connection,
            "record": true, "record_mode": "each_poll"}},
    ]);
    assert_eq!(engineer.edit(seen, "Added", edits).await.0, 200);
    let token = engineer.post("/api/tokens", json!({"name": "Gateway"})).await.1["token"].as_str().unwrap().to_owned();
    Pushed { tag, token }
}

pub async fn push(url: &str, token: &str, value: f64) -> u16 {
    push_item(url, token, &json!({"tag": "EX-1/Steam flow", "value": value})).await.0
}

/// Pushes one item; gives status and answer.
pub async fn push_item(url: &str, token: &str, item: &serde_json::Value) -> (u16, String) {
    let request = awc::Client::builder().timeout(Duration::from_secs(20)).finish().post(format!("{url}/api/push"));
    let request = request.insert_header(("authorization", format!("Bearer {token}")));
    let mut answer = request.send_json(item).await.unwrap();
    let text = answer.body().await.unwrap();
    (answer.status().as_u16(), String::from_utf8_lossy(&text).into_owned())
}

/// Ten minutes at 5,000 samples each second with `./havrel test --long`; a tenth of the tags otherwise.
#[actix_web::test]
async fn a_long_absence_of_the_database_loses_and_doubles_nothing() {
    const SECONDS: i64 = 600;
    let count = if std::env::var_os("HAVREL_LONG").is_some() { 5000 } else { 500 };
    let folder = tempfile::tempdir().unwrap();
    make_reachable(folder.path());
    let place = folder.path().join("cluster");
    let care = Care { careless: true, port: Some(free_port()) };
    let first = Cluster::start(&place, care).unwrap();
    first.ensure("plant", None).await.unwrap();
    let live = Live::start(Db::open(first.options("plant")).await.unwrap(), &folder.path().join("spool")).await.unwrap();
    let (unit, mut edits) = (Uuid::now_v7(), Vec::new());
    let mut add = |kind, id, own: serde_json::Value| {
        let own = own.as_object().unwrap().clone();
        edits.push(Edit { kind, id, op: Op::Create(own, None), seen: None });
    };
    add(Kind::Place, unit, json!({"name": "Unit"}));
    for n in 0..count {
        add(
            Kind::Tag,
            Uuid::now_v7(),
            json!({"name": format!("Tag {n}"), "place": unit, "record": true, "record_mode": "each_poll"}),
        );
    }
    let by = By { account: None, actor: "Engineer".into(), why: "Added".into(), undoes: None };
    let plant = live.commit(&edits, &by).await.unwrap();
    let mut numbers: Vec<u32> = plant.tags.values().map(|t| t.no).collect();
    numbers.sort_unstable();
    tokio::task::spawn_blocking(move || drop(first)).await.unwrap();
    until(|| !live.database().ok).await;
    let began = havrel_live::now() - SECONDS * SECOND;
    for second in 0..SECONDS {
        let mut batch = Batch::default();
        for &no in &numbers {
            batch.push(no, began + second * SECOND, Quality::GOOD, 0, &Value::F64(second as f64));
        }
        live.take(batch).await.unwrap();
    }
    // The page would show the newest, however much waits.
    let last = numbers[numbers.len() / 2];
    until(|| live.values.read().unwrap().of(last).unwrap().current.value == Some(Value::F64(SECONDS as f64 - 1.0))).await;
    // What is shown may still be on its way to the disk; a line behind it is told once both are there.
    live.note("note", None, None, "Everything was taken", json!({})).await.unwrap();
    let waiting = live.spool_state();
    assert!(waiting.frames > 0 && waiting.lost == 0 && waiting.trouble.is_empty(), "{waiting:?}");
    let second = tokio::task::spawn_blocking(move || Cluster::start(&place, care).unwrap()).await.unwrap();
    until(|| live.spool_state().frames == 0).await;
    for &no in numbers.iter().step_by(97) {
        let kept = live.db.raw(no, began, i64::MAX, false, 10_000).await.unwrap();
        let expected = (0..SECONDS).map(|s| (began + s * SECOND, Some(Value::F64(s as f64))));
        assert!(kept.into_iter().map(|k| (k.time, k.value)).eq(expected), "tag {no}");
    }
    live.stop().await;
    drop(second);
}

/// Waits for something that takes at most minutes.
async fn until(mut pleases: impl FnMut() -> bool) {
    for _ in 0..6000 {
        if pleases() {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("what was waited for did not come");
}

pub fn free_port() -> u16 {
    std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

#[actix_web::test]
async fn an_edit_made_elsewhere_is_followed_even_when_the_bell_is_lost() {
    let name = fresh_name();
    SHARED.cluster.ensure(&name, None).await.unwrap();
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    let folders = [(); 2].map(|()| tempfile::tempdir().unwrap());
    let one = Live::start(db.clone(), folders[0].path()).await.unwrap();
    let two = Live::start(db.clone(), folders[1].path()).await.unwrap();
    let by = By { account: None, actor: "Engineer".into(), why: "Added".into(), undoes: None };
    for (n, lost) in [(1, false), (2, true)] {
        if lost {
            // The connections that listen are cut off by the server.
            let mut admin = sqlx::PgConnection::connect_with(&SHARED.cluster.options(&name)).await.unwrap();
            let cut = "select count(pg_terminate_backend(pid)) from pg_stat_activity where query like 'LISTEN%' and datname = current_database()";
            let cut: i64 = sqlx::query_scalar(cut).fetch_one(&mut admin).await.unwrap();
            assert_eq!(cut, 2);
        }
        let own = json!({"name": format!("EX-{n}")}).as_object().unwrap().clone();
        let edit = Edit { kind: Kind::Place, id: Uuid::now_v7(), op: Op::Create(own, None), seen: None };
        assert_eq!(one.commit(&[edit], &by).await.unwrap().revision, n);
        let mut followed = false;
        for _ in 0..400 {
            followed = two.plant().revision == n;
            if followed {
                break;
            }
            tokio::time::sleep(Duration::from_millis(25)).await;
        }
        assert!(followed, "revision {n} arrives, bell lost: {lost}");
    }
    assert_eq!(two.plant().places.len(), 2);
    one.stop().await;
    two.stop().await;
}
