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
use havrel_live::Live;
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
async fn with_sql() -> (Plant, PgConnection, String) {
    let name = fresh_name();
    SHARED.cluster.ensure(&name, None).await.unwrap();
    let plant = Plant::on(Db::open(SHARED.cluster.options(&name)).await.unwrap()).await;
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
    assert!(kept.windows(2).all(|w| w[1].time - w[0].time < SECOND), "no second without a sample");
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
    assert_eq!(engineer.post("/api/alarms/acknowledge", json!({"rules": [alarm["rule"]]})).await.1["count"], 1);
    let events = plant.live.db.alarm_events(&all()).await.unwrap();
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
    assert_eq!(engineer.post("/api/alarms/acknowledge", json!({"rules": [built.rule]})).await.0, 200);
    let events = plant.live.db.alarm_events(&all()).await.unwrap();
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
    let acknowledge = json!({"rules": [built.rule], "comment": "seen"});
    assert_eq!(quick(Method::POST, "/api/alarms/acknowledge", Some(acknowledge)).await.0, 200);
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

/// Nothing from outside decides what is deleted.
#[test]
fn a_variable_of_the_environment_deletes_nothing() {
    let folder = tempfile::tempdir().unwrap();
    make_reachable(folder.path());
    let precious = folder.path().join("precious");
    std::fs::create_dir(&precious).unwrap();
    let data = folder.path().join("data");
    let mut child = Command::new(env!("CARGO_BIN_EXE_havrel"))
        .args(["account", "--data"])
        .arg(&data)
        .args(["list"])
        .env("HAVREL_REMOVE", &precious)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    child.wait().unwrap();
    let cluster = Cluster::start(&folder.path().join("cluster"), Care { careless: true, port: None }).unwrap();
    drop(cluster);
    assert!(precious.exists());
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

/// A data folder of the release of 27 November 2026: a backup of its database, and a spool with frames beyond it.
#[actix_web::test]
async fn a_folder_of_an_earlier_release_is_opened_with_everything_in_it() {
    let release = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/releases/2026-11-27");
    let name = fresh_name();
    let place = SHARED.cluster.place(&name);
    havrel_db::backup::restore(&place, &release.join("havrel.backup"), "test").await.unwrap();
    let data = tempfile::tempdir().unwrap();
    let spool = data.path().join("spool");
    std::fs::create_dir(&spool).unwrap();
    let segment = "00000000000000000001.frames";
    std::fs::copy(release.join(segment), spool.join(segment)).unwrap();
    let bytes = std::fs::read(release.join(segment)).unwrap();
    let mut frames = Vec::new();
    let mut rest = &bytes[..];
    while let Ok((frame, taken)) = Frame::decode(rest) {
        frames.push(frame);
        rest = &rest[taken..];
    }
    let last = frames.last().unwrap().seq;
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    let shipped = db.shipped(frames[0].node).await.unwrap().seq;
    assert!(shipped < last, "the spool holds frames that the database lacks");
    let live = Live::start(db.clone(), data.path()).await.unwrap();
    let plant = live.plant();
    assert_eq!((plant.connections.len(), plant.tags.len(), plant.rules.len()), (3, 138, 13));
    assert_eq!(live.hands().len(), 1);
    for _ in 0..400 {
        if db.shipped(live.node).await.unwrap().seq > last {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    // Every sample of the old frames is there, whichever way it came.
    for frame in &frames {
        for sample in &frame.batch.samples {
            let kept = db.raw(sample.tag, sample.time, sample.time, false, 10).await.unwrap();
            assert_eq!(kept.len(), 1, "tag {} at {}", sample.tag, sample.time);
        }
    }
    assert_eq!(db.accounts().await.unwrap().iter().map(|a| a.name.as_str()).collect::<Vec<_>>(), ["Keeper", "Shift lead"]);
    assert!(db.account_named("Keeper").await.unwrap().is_some());
    live.stop().await;
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

/// A connection of a kind that this program does not know, as another version may have made it, is shown with what mends it.
#[actix_web::test]
async fn a_kind_that_no_driver_serves_is_shown() {
    let (plant, mut sql, name) = with_sql().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.live.stop().await;
    sql.execute("update connection set own = jsonb_set(own, '{kind}', '\"elder_wire\"')").await.unwrap();
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    let data = tempfile::tempdir().unwrap();
    let live = Live::start(db, data.path()).await.unwrap();
    let mut health = None;
    for _ in 0..200 {
        health = live.health().remove(&built.connection).filter(|h| !h.message.is_empty());
        if health.is_some() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    let health = health.expect("the connection is there");
    assert!(health.message.contains("elder_wire") && health.cure.contains("Another version of Havrel"), "{health:?}");
    assert_eq!(live.plant().connections[&built.connection].set.kind, "elder_wire");
    live.stop().await;
}

/// What is kept on disk is for its owner alone.
#[actix_web::test]
async fn files_are_for_their_owner() {
    use std::os::unix::fs::PermissionsExt;
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    engineer.until(&format!("/api/values?tags={}", built.level_no), |b| b[0]["quality"] == "good").await;
    let mut files = 0;
    for entry in std::fs::read_dir(plant.spool.path().join("spool")).unwrap() {
        let mode = entry.unwrap().metadata().unwrap().permissions().mode() & 0o777;
        assert_eq!(mode, 0o600);
        files += 1;
    }
    assert!(files >= 2, "the lock and a segment");
    plant.stop().await;
}

/// A PostgreSQL elsewhere is reached over TLS, and only with the certificate that was asked for.
#[actix_web::test]
async fn a_database_elsewhere_is_reached_over_tls() {
    use std::os::unix::fs::{MetadataExt, PermissionsExt, chown};
    let folder = tempfile::tempdir().unwrap();
    make_reachable(folder.path());
    let care = Care { careless: true, port: Some(free_port()) };
    let cluster = Cluster::start(&folder.path().join("cluster"), care).unwrap();
    cluster.ensure("plant", None).await.unwrap();
    let made = rcgen::generate_simple_self_signed(vec!["127.0.0.1".to_owned(), "localhost".to_owned()]).unwrap();
    let other = rcgen::generate_simple_self_signed(vec!["127.0.0.1".to_owned()]).unwrap();
    let data = folder.path().join("cluster/data");
    let owner = std::fs::metadata(&data).unwrap();
    for (name, text) in [("tls.crt", made.cert.pem()), ("tls.key", made.signing_key.serialize_pem())] {
        std::fs::write(data.join(name), text).unwrap();
        std::fs::set_permissions(data.join(name), std::fs::Permissions::from_mode(0o600)).unwrap();
        chown(data.join(name), Some(owner.uid()), Some(owner.gid())).unwrap();
    }
    let mut admin = PgConnection::connect_with(&cluster.options("postgres")).await.unwrap();
    for statement in [
        "alter system set ssl_cert_file = 'tls.crt'",
        "alter system set ssl_key_file = 'tls.key'",
        "alter system set ssl = on",
        "select pg_reload_conf()",
    ] {
        admin.execute(statement).await.unwrap();
    }
    let authority = folder.path().join("authority.pem");
    std::fs::write(&authority, made.cert.pem()).unwrap();
    let stranger = folder.path().join("stranger.pem");
    std::fs::write(&stranger, other.cert.pem()).unwrap();
    let url = cluster.url("plant");
    let with = |root: &Path| format!("{url}?sslmode=verify-full&sslrootcert={}&application_name=plant", root.display());
    let place = |url: &str| havrel_db::backup::Place::from_url(url).unwrap();
    let mut connected = None;
    for _ in 0..100 {
        connected = PgConnection::connect_with(&place(&with(&authority)).connect()).await.ok();
        if connected.is_some() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let mut sql = connected.expect("over TLS, checked");
    let asked = "select ssl, application_name from pg_stat_ssl join pg_stat_activity using (pid) where pid = pg_backend_pid()";
    let (tls, name): (bool, String) = sqlx::query_as(asked).fetch_one(&mut sql).await.unwrap();
    assert_eq!((tls, name.as_str()), (true, "plant"), "parameters of the address are kept");
    assert!(PgConnection::connect_with(&place(&with(&stranger)).connect()).await.is_err());
    let unknown = havrel_db::backup::Place::from_url(&format!("{url}?sslmod=require")).err().unwrap().to_string();
    assert!(unknown.contains("it sets sslmod, but can only set"), "{unknown}");
    // The programs that back up take the same way.
    let file = folder.path().join("plant.backup");
    Db::open(place(&with(&authority)).connect()).await.unwrap().close().await;
    assert!(havrel_db::backup::dump(&place(&with(&authority)), &file, |_| ()).unwrap() > 0);
    assert!(havrel_db::backup::dump(&place(&with(&stranger)), &file, |_| ()).is_err());
}

/// Whoever keeps the machine gets back in without a page.
#[actix_web::test]
async fn accounts_are_kept_from_the_command_line() {
    let (plant, _, name) = with_sql().await;
    let engineer = plant.engineer().await;
    let url = SHARED.cluster.url(&name);
    let run = async |arguments: &[&str], input: &str| {
        let mut child = Command::new(env!("CARGO_BIN_EXE_havrel"))
            .args(["account", "--database", &url])
            .args(arguments)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        let done = tokio::task::spawn_blocking(move || child.wait_with_output().unwrap()).await.unwrap();
        let text = String::from_utf8_lossy(&done.stdout).into_owned() + &String::from_utf8_lossy(&done.stderr);
        (done.status.success(), text)
    };
    assert!(run(&["add", "Shift lead", "--role", "operator"], "short\n").await.1.contains("at least 8 characters"));
    assert!(run(&["add", "Shift lead", "--role", "operator"], "kelp-and-salt\n").await.0);
    assert!(!run(&["role", "Plant engineer", "viewer"], "").await.0, "the last engineer");
    assert!(run(&["password", "plant engineer"], "another-word\n").await.0);
    assert!(run(&["disable", "Shift lead"], "").await.0);
    let (_, listed) = run(&["list"], "").await;
    assert!(
        listed.contains("Plant engineer\tengineer\tenabled") && listed.contains("Shift lead\toperator\tdisabled"),
        "{listed}"
    );
    assert!(!run(&["code"], "").await.0, "there is an account already");
    let client = Client::new(&plant.url);
    let enter = |password: &str| json!({"name": "Plant engineer", "password": password});
    assert_eq!(client.post("/api/session", enter("kelp-and-salt")).await.0, 401);
    assert_eq!(client.post("/api/session", enter("another-word")).await.0, 200);
    drop(engineer);
    plant.stop().await;
}
