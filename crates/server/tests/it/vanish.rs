//! What was acknowledged must not vanish: whatever the database refuses, whoever goes away in the middle, whatever fails.

use crate::{
    keep::{all, free_port, push, pushable},
    plant::{Client, Plant, SHARED, fresh_name, make_reachable},
};
use actix_web::http::Method;
use havrel_core::{
    alarm::SystemAlarm,
    frame::Frame,
    quality::Quality,
    sample::{Batch, Value},
    time::SECOND,
};
use havrel_db::{
    Db,
    cluster::{Care, Cluster, ServerEvent},
};
use serde_json::{Value as Json, json};
use sqlx::{Connection, Executor, PgConnection};
use std::{
    io::{Read, Write},
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};
use uuid::Uuid;

/// A plant, and a plain connection to its database.
pub async fn with_sql() -> (Plant, PgConnection, String) {
    let name = fresh_name();
    let plant = Plant::start_on(&name).await;
    (plant, PgConnection::connect_with(&SHARED.cluster.options(&name)).await.unwrap(), name)
}

async fn lists(client: &Client, alarm: SystemAlarm) -> Json {
    let id = alarm.id().to_string();
    let list = client.until("/api/alarms", |b| b["alarms"].as_array().is_some_and(|a| a.iter().any(|a| a["rule"] == id))).await;
    list["alarms"].as_array().unwrap().iter().find(|a| a["rule"] == id).unwrap().clone()
}

/// A database that takes nothing for reasons of its own is waited for: nothing is let go.
#[actix_web::test]
async fn while_the_database_refuses_everything_waits_in_order() {
    let (plant, mut sql, _) = with_sql().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let values = format!("/api/values?tags={}", built.level_no);
    engineer.until(&values, |b| b[0]["quality"] == "good").await;
    let began = havrel_live::now();
    sql.execute(
        "create function refuse() returns trigger language plpgsql as $$
         begin raise exception 'cannot execute INSERT in a read-only transaction' using errcode = '25006'; end $$;
         create trigger refuse before insert on sample for each statement execute function refuse()",
    )
    .await
    .unwrap();
    engineer.until("/api/health", |b| b["database"] == false).await;
    let gone = havrel_live::now();
    assert!(plant.live.database().message.contains("read-only"), "{}", plant.live.database().message);
    // What needs no sample stored is answered as ever.
    assert_eq!(engineer.get("/api/journal").await.0, 200);
    tokio::time::sleep(Duration::from_secs(2)).await;
    assert!(plant.live.spool_state().frames > 5);
    sql.execute("drop trigger refuse on sample").await.unwrap();
    engineer.until("/api/health", |b| b["database"] == true).await;
    let back = havrel_live::now();
    let mut kept = Vec::new();
    for _ in 0..200 {
        kept = plant.live.db.raw(built.level_no, began, i64::MAX, false, 100_000).await.unwrap();
        if kept.last().is_some_and(|k| k.time > back) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    // However slowly a busy machine polls, there are values from while nothing could be stored.
    assert!(kept.windows(2).all(|w| w[1].time - w[0].time < back - gone), "a hole as long as the database was away");
    assert!(plant.live.db.unrecorded(began, i64::MAX).await.unwrap().is_empty());
    plant.stop().await;
}

/// What it refuses because of what it holds is taken out, alone, and said.
#[actix_web::test]
async fn only_the_entry_that_is_refused_is_taken_out() {
    let (plant, mut sql, _) = with_sql().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let pushed = pushable(&engineer, built.place, 1).await;
    let odd = f64::to_bits(13.0).cast_signed();
    let refuse = format!("alter table sample add constraint odd check (bits <> {odd})");
    sql.execute(sqlx::AssertSqlSafe(refuse)).await.unwrap();
    let began = havrel_live::now();
    let no = plant.live.plant().tags.values().find(|t| t.id == pushed.tag).unwrap().no;
    let mut batch = Batch::default();
    for n in 0..40 {
        batch.push(no, began + n * 1000, Quality::GOOD, 0, &Value::F64(n as f64));
    }
    plant.live.push(batch, &Default::default()).await.unwrap();
    let alarm = lists(&engineer, SystemAlarm::Quarantine).await;
    assert_eq!((&alarm["place_name"], &alarm["state"]), (&json!("Havrel"), &json!("returned_unacknowledged")));
    let kept = plant.live.db.raw(no, began, i64::MAX, false, 1000).await.unwrap();
    let values: Vec<f64> = kept.iter().map(|k| k.value.as_ref().and_then(Value::number).unwrap()).collect();
    let wanted: Vec<f64> = (0..40).filter(|n| *n != 13).map(f64::from).collect();
    assert_eq!(values, wanted);
    let gaps = plant.live.db.unrecorded(began, i64::MAX).await.unwrap();
    assert_eq!(gaps.iter().map(|g| (g.from, g.to)).collect::<Vec<_>>(), [(began + 13_000, began + 13_000)]);
    let bytes = std::fs::read(plant.spool.path().join("quarantine/quarantine.frames")).unwrap();
    let (frame, _) = Frame::decode(&bytes).unwrap();
    assert_eq!(frame.batch.samples.iter().map(|s| f64::from_bits(s.bits)).collect::<Vec<_>>(), [13.0]);
    let journal = engineer.until("/api/journal?kind=system", |b| b.to_string().contains("refused 1 entry by content")).await;
    assert!(journal.to_string().contains("EX-1/Steam flow"), "{journal}");
    // It is acknowledged like any other, and stays in the list of what happened.
    assert_eq!(engineer.post("/api/alarms/act", json!({"action": "acknowledge", "rules": [alarm["rule"]]})).await.1["count"], 1);
    let events = plant.live.db.alarm_events(&all(), None, 1000).await.unwrap();
    assert_eq!(events.iter().filter(|(_, e)| e.rule == SystemAlarm::Quarantine.id()).count(), 3);
    plant.stop().await;
}

/// More than one frame may hold, in one turn.
#[actix_web::test]
async fn many_large_texts_are_all_stored() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let pushed = pushable(&engineer, built.place, 1).await;
    let no = plant.live.plant().tags.values().find(|t| t.id == pushed.tag).unwrap().no;
    let began = havrel_live::now();
    let text = "kelp ".repeat(500);
    let mut batch = Batch::default();
    for n in 0..9000 {
        batch.push(no, began + n, Quality::GOOD, 0, &Value::Text(format!("{n} {text}")));
    }
    let seq = plant.live.push(batch, &Default::default()).await.unwrap();
    plant.live.on_disk(seq).await.unwrap();
    for _ in 0..400 {
        if plant.live.db.shipped(plant.live.node).await.unwrap().seq >= seq {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert_eq!(plant.live.db.raw(no, began, began + 9000, false, 10_000).await.unwrap().len(), 9000);
    assert_eq!(plant.live.spool_state().lost, 0);
    plant.stop().await;
}

/// Whoever sends an import and goes away leaves nothing that spoils the answers of others.
#[actix_web::test]
async fn an_aborted_import_spoils_no_answer() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    engineer.until(&format!("/api/values?tags={}", built.level_no), |b| b[0]["quality"] == "good").await;
    let at = havrel_live::now() - 3600 * SECOND;
    let address = plant.url.trim_start_matches("http://").to_owned();
    for round in 0..10u64 {
        let mut frame = Frame::empty(Uuid::from_u128(5), 1, 0, round + 1, at);
        for n in 0..20_000 {
            frame.batch.push(built.level_no, at + n, Quality::GOOD, 0, &Value::F64(n as f64));
        }
        let body = frame.encode().unwrap();
        let head = format!(
            "POST /api/history/import HTTP/1.1\r\nhost: {address}\r\ncookie: {}\r\ncontent-length: {}\r\n\r\n",
            engineer.cookie_text(),
            body.len()
        );
        let address = address.clone();
        let sent = tokio::task::spawn_blocking(move || {
            let mut stream = std::net::TcpStream::connect(address).unwrap();
            stream.write_all(head.as_bytes()).unwrap();
            stream.write_all(&body).unwrap();
            std::thread::sleep(Duration::from_millis(10 + 20 * round));
        });
        sent.await.unwrap();
        for _ in 0..6 {
            let (status, journal) = engineer.get("/api/journal").await;
            assert!(status == 200 && !journal.as_array().unwrap().is_empty(), "round {round}: {status} {journal}");
            assert_eq!(engineer.get("/api/session").await.1["signed_in"], true, "round {round}");
        }
    }
    plant.stop().await;
}

/// The engine fails: health says so, and it goes on from what is durable.
#[actix_web::test]
async fn an_engine_that_fails_is_seen_and_started_again() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(75.0);
    let stands = |b: &Json| b["alarms"].as_array().is_some_and(|a| a.iter().any(|a| a["rule"] == built.rule.to_string()));
    engineer.until("/api/alarms", stands).await;
    plant.live.fail_engine().await;
    let sick = engineer.until("/api/health", |b| b["ok"] == false).await;
    assert_eq!(sick["faults"], json!(["the engine"]));
    engineer.until("/api/health", |b| b["ok"] == true).await;
    let told = lists(&engineer, SystemAlarm::Restarted).await;
    assert_eq!(told["text"], "Restarted after a fault: the engine");
    // The alarm stands as before, once, and returns as if nothing had been.
    assert!(stands(&engineer.get("/api/alarms").await.1));
    plant.set_level(40.0);
    let returned = |b: &Json| {
        let rule = built.rule.to_string();
        b["alarms"].as_array().is_some_and(|a| a.iter().any(|a| a["rule"] == rule && a["state"] == "returned_unacknowledged"))
    };
    engineer.until("/api/alarms", returned).await;
    assert_eq!(engineer.post("/api/alarms/act", json!({"action": "acknowledge", "rules": [built.rule]})).await.0, 200);
    let events = plant.live.db.alarm_events(&all(), None, 1000).await.unwrap();
    let mut sequence: Vec<u32> = events.iter().filter(|(_, e)| e.rule == built.rule).map(|(_, e)| e.sequence).collect();
    sequence.reverse();
    assert_eq!(sequence, (1..=sequence.len() as u32).collect::<Vec<_>>());
    let journal = engineer.get("/api/journal?kind=system").await.1;
    assert!(journal.to_string().contains("told to fail"), "the cause is kept: {journal}");
    plant.stop().await;
}

/// A push that comes while the program stops may succeed later, and says so.
#[actix_web::test]
async fn a_push_during_a_stop_is_to_be_sent_again() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let pushed = pushable(&engineer, built.place, 1).await;
    assert_eq!(push(&plant.url, &pushed.token, 1.0).await, 200);
    plant.live.stop().await;
    let client = Client::new(&plant.url);
    let bearer = format!("Bearer {}", pushed.token);
    let body = json!({"tag": "EX-1/Steam flow", "value": 2.0});
    let (status, text, head) = client.send(Method::POST, "/api/push", &[("authorization", &bearer)], Some(body)).await;
    assert_eq!(status, 503, "{text}");
    assert!(head.iter().any(|(name, _)| name == "retry-after"), "{head:?}");
}

/// While the database is away what needs none is done at once, and what must be written down is.
#[actix_web::test]
async fn without_a_database_writes_are_journalled_and_nobody_waits() {
    let folder = tempfile::tempdir().unwrap();
    make_reachable(folder.path());
    let port = free_port();
    let care = Care { careless: true, port: Some(port) };
    let cluster = Cluster::start(&folder.path().join("cluster"), care).unwrap();
    cluster.ensure("plant", None).await.unwrap();
    let plant = Plant::on(Db::open(cluster.options("plant")).await.unwrap()).await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    engineer.until(&format!("/api/values?tags={}", built.setpoint_no), |b| b[0]["quality"] == "good").await;
    plant.set_level(75.0);
    engineer.until("/api/alarms", |b| b["alarms"].as_array().is_some_and(|a| a.len() == 1)).await;
    tokio::task::spawn_blocking(move || drop(cluster)).await.unwrap();
    engineer.until("/api/health", |b| b["database"] == false).await;
    let quick = async |method: Method, path: &str, body: Option<Json>| {
        let began = Instant::now();
        let (status, text, _) = engineer.send(method, path, &[], body).await;
        assert!(began.elapsed() < Duration::from_millis(1500), "{path} took {:?}", began.elapsed());
        (status, text)
    };
    let write = format!("/api/tags/{}/write", built.setpoint);
    assert_eq!(quick(Method::POST, &write, Some(json!({"value": 66.5}))).await.0, 200);
    let acknowledge = json!({"action": "acknowledge", "rules": [built.rule], "comment": "seen"});
    assert_eq!(quick(Method::POST, "/api/alarms/act", Some(acknowledge)).await.0, 200);
    for path in ["/api/session", "/api/alarms", "/api/tree", "/api/units", "/api/by-hand"] {
        assert_eq!(quick(Method::GET, path, None).await.0, 200, "{path}");
    }
    for path in ["/api/journal", "/api/revisions", "/api/accounts"] {
        assert_eq!(quick(Method::GET, path, None).await.0, 503, "{path}");
    }
    let place = folder.path().join("cluster");
    let again = tokio::task::spawn_blocking(move || Cluster::start(&place, care).unwrap()).await.unwrap();
    engineer.until("/api/health", |b| b["database"] == true).await;
    let journal = engineer.until("/api/journal", |b| b.to_string().contains("Wrote 66.5")).await.to_string();
    assert!(
        journal.contains("Asked to write 66.5 °C to EX-1/Temperature setpoint") && journal.contains("Acknowledged"),
        "{journal}"
    );
    plant.stop().await;
    tokio::task::spawn_blocking(move || drop(again)).await.unwrap();
}

/// The process that runs on a cluster's data.
fn postmaster(folder: &Path) -> String {
    let text = std::fs::read_to_string(folder.join("data/postmaster.pid")).unwrap();
    text.lines().next().unwrap().trim().to_owned()
}

fn kill(signal: &str, process: &str) {
    assert!(Command::new("kill").args([signal, process]).status().unwrap().success());
}

/// Our own server comes back by itself, and an orphan of it is ended before another is started.
#[test]
fn a_database_server_that_is_killed_comes_back() {
    let folder = tempfile::tempdir().unwrap();
    make_reachable(folder.path());
    let place = folder.path().join("cluster");
    let care = Care { careless: true, port: Some(free_port()) };
    let mut cluster = Cluster::start(&place, care).unwrap();
    let (told, events) = std::sync::mpsc::channel();
    cluster.watch(move |event| drop(told.send(event)));
    for _ in 0..2 {
        let before = postmaster(&place);
        kill("-KILL", &before);
        let first = events.recv_timeout(Duration::from_secs(20)).unwrap();
        assert!(matches!(first, ServerEvent::Ended(_)), "{first:?}");
        let mut event = first;
        while event != ServerEvent::Running {
            event = events.recv_timeout(Duration::from_secs(60)).unwrap();
        }
        assert_ne!(postmaster(&place), before);
    }
    drop(cluster);
    // The guard is killed with its program: the server stays behind alone, and the next start ends it.
    let alone = Cluster::start(&place, care).unwrap();
    let orphan = postmaster(&place);
    let stat = std::fs::read_to_string(format!("/proc/{orphan}/stat")).unwrap();
    let guard = stat.rsplit_once(')').unwrap().1.split_whitespace().nth(1).unwrap().to_owned();
    kill("-KILL", &guard);
    let again = Cluster::start(&place, Care { port: Some(free_port()), ..care }).unwrap();
    assert_ne!(postmaster(&place), orphan);
    let state = std::fs::read_to_string(format!("/proc/{orphan}/stat")).unwrap_or_default();
    assert!(state.is_empty() || state.contains(") Z"), "the orphan was ended: {state}");
    drop((alone, again));
}

/// A disk that takes no more bytes: what cannot be written down is not done.
#[actix_web::test]
async fn what_cannot_be_journalled_is_not_done() {
    let (plant, _, name) = with_sql().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    engineer.until(&format!("/api/values?tags={}", built.setpoint_no), |b| b[0]["quality"] == "good").await;
    plant.live.stop().await;
    // The real program, whose files may not grow beyond 24 KiB.
    let database = SHARED.cluster.url(&name);
    let data = tempfile::tempdir().unwrap();
    let mut child = Command::new("/bin/sh")
        .args(["-c", "trap '' XFSZ; ulimit -f 48; exec \"$0\" serve --database \"$1\" --data \"$2\" --port 8750"])
        .arg(env!("CARGO_BIN_EXE_havrel"))
        .arg(&database)
        .arg(data.path())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let mut out = child.stdout.take().unwrap();
    let url = tokio::task::spawn_blocking(move || {
        let mut text = String::new();
        let mut byte = [0];
        while !text.contains("Ctrl-C") && out.read(&mut byte).unwrap() == 1 {
            text.push(char::from(byte[0]));
        }
        text.split("open ").nth(1).and_then(|t| t.split(' ').next()).unwrap_or_default().to_owned()
    });
    let client = Client::with_cookie_of(&engineer, &url.await.unwrap());
    let mut refused = false;
    for _ in 0..400 {
        let (_, text, _) = client.send(Method::GET, "/metrics", &[], None).await;
        refused = text.contains("havrel_spool_disk_up 0");
        if refused {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    assert!(refused, "the disk never refused");
    let write = format!("/api/tags/{}/write", built.setpoint);
    let (status, body) = client.post(&write, json!({"value": 33.0})).await;
    assert_eq!(status, 503, "{body}");
    let now = client.get(&format!("/api/values?tags={}", built.setpoint_no)).await.1;
    assert_ne!(now[0]["value"], json!(33.0), "nothing was written to the device");
    child.kill().unwrap();
    child.wait().unwrap();
}

/// Where Debian's package faketime puts its library.
const FAKETIME: &str = "/usr/lib/x86_64-linux-gnu/faketime/libfaketime.so.1";

/// The real program on a machine whose clock is stepped back and forth: values, alarms and sessions go on at once. With
/// `./havrel test --long`, which installs what steps the clock.
#[actix_web::test]
async fn a_machine_whose_clock_is_stepped_goes_on() {
    if std::env::var_os("HAVREL_LONG").is_none() || !Path::new(FAKETIME).exists() {
        return;
    }
    let (plant, _, name) = with_sql().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.live.stop().await;
    let data = tempfile::tempdir().unwrap();
    let clock = data.path().join("clock");
    std::fs::write(&clock, "+0").unwrap();
    let mut child = Command::new(env!("CARGO_BIN_EXE_havrel"))
        .args(["serve", "--port", "8751", "--database", &SHARED.cluster.url(&name), "--data"])
        .arg(data.path())
        .env("LD_PRELOAD", FAKETIME)
        .env("FAKETIME_TIMESTAMP_FILE", &clock)
        .envs([("FAKETIME_NO_CACHE", "1"), ("FAKETIME_DONT_FAKE_MONOTONIC", "1"), ("DONT_FAKE_MONOTONIC", "1")])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let client = Client::with_cookie_of(&engineer, "http://127.0.0.1:8751");
    for _ in 0..200 {
        if std::net::TcpStream::connect("127.0.0.1:8751").is_ok() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    let values = format!("/api/values?tags={}", built.level_no);
    let near = |wanted: f64| move |b: &Json| b[0]["value"].as_f64().is_some_and(|v| (v - wanted).abs() < 3.0);
    let mut high = false;
    for offset in ["-3600", "+0", "+7200", "-86400", "+0"] {
        std::fs::write(&clock, offset).unwrap();
        high = !high;
        let level = if high { 75.0 } else { 40.0 };
        plant.set_level(level);
        let began = Instant::now();
        let shown = client.until(&values, near(level)).await;
        assert!(began.elapsed() < Duration::from_secs(3), "after {offset} it took {:?}", began.elapsed());
        assert_eq!(shown[0]["quality"], "good", "after {offset}");
        let raised = |b: &Json| {
            let all = b["alarms"].as_array().unwrap();
            let returned = all.iter().find(|a| a["rule"] == built.rule.to_string()).map(|a| a["returned_at"] != "");
            returned == Some(!high)
        };
        client.until("/api/alarms", raised).await;
        assert!(began.elapsed() < Duration::from_secs(3), "the alarm came {:?} after {offset}", began.elapsed());
        assert_eq!(client.get("/api/session").await.1["signed_in"], true);
    }
    let journal = client.until("/api/journal?kind=system", |b| b.to_string().matches("clock was set").count() == 5).await;
    assert!(journal.to_string().contains("set back by 1 h"), "{journal}");
    let mut kept = Vec::new();
    for _ in 0..100 {
        kept = plant.live.db.raw(built.level_no, 0, i64::MAX, false, 100_000).await.unwrap();
        if kept.iter().any(|k| k.epoch == 5) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    child.kill().unwrap();
    child.wait().unwrap();
    let late = kept.iter().filter(|k| k.flags & havrel_core::sample::flag::LATE != 0).count();
    let epochs: std::collections::BTreeSet<u32> = kept.iter().map(|k| k.epoch).collect();
    assert_eq!((late, epochs.len()), (0, 6), "every epoch has its samples, none of them late");
}
