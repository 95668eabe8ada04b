//! What must survive: restarts, a killed server, a database that goes away and comes back.

use crate::plant::{Client, Plant, SHARED, fresh_name, make_reachable};
use havrel_core::{alarm::EventKind, time::SECOND};
use havrel_db::{
    Db,
    alarms::EventFilter,
    cluster::{Care, Cluster},
};
use havrel_live::Live;
use sqlx::Connection as _;
use std::{
    collections::HashMap,
    io::{BufRead, BufReader},
    process::{Child, Command, Stdio},
    time::Duration,
};
use uuid::Uuid;

fn all() -> EventFilter {
    EventFilter { from: 0, to: i64::MAX, rules: None, before: None, limit: 1000 }
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
    let before = db.alarm_events(&all()).await.unwrap();
    assert_eq!(before.len(), 1);
    // The controller goes on; a new program on the same database finds it still high.
    let live = Live::start(db.clone()).await.unwrap();
    let standing = live.alarms.read().unwrap().standing().into_iter().cloned().collect::<Vec<_>>();
    assert_eq!((standing.len(), standing[0].sequence, standing[0].active), (1, 1, true));
    for _ in 0..200 {
        if live.values.read().unwrap().of(level).is_some_and(|s| !s.current.quality.is_bad()) {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    plant.set_level(30.0);
    for _ in 0..200 {
        if db.alarm_events(&all()).await.unwrap().len() == 2 {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    let events = db.alarm_events(&all()).await.unwrap();
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
    let began = havrel_live::now();
    // Starting and stopping wait on a thread of their own: this one carries the connections.
    tokio::task::spawn_blocking(move || drop(first)).await.unwrap();
    engineer.until("/api/health", |b| b["database"] == false).await;
    // Values and alarms go on, and what needs the database says so.
    plant.set_level(75.0);
    engineer.until(&values, |b| b[0]["value"].as_f64().is_some_and(|v| v > 70.0)).await;
    engineer.until("/api/alarms", |b| b["alarms"].as_array().is_some_and(|a| a.len() == 1)).await;
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
    assert_eq!(plant.live.db.alarm_events(&all()).await.unwrap().len(), 1);
    plant.stop().await;
    drop(second);
}

fn free_port() -> u16 {
    std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// The real program on a database of the tests.
struct Program {
    child: Child,
    url: String,
}

impl Program {
    fn start(database: &str) -> Program {
        let mut child = Command::new(env!("CARGO_BIN_EXE_havrel"))
            .args(["serve", "--database", &SHARED.cluster.url(database), "--port", "8720"])
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let url = lines
            .map_while(Result::ok)
            .find_map(|l| l.split_once("open ").map(|(_, u)| u.split(' ').next().unwrap_or("").to_owned()));
        Program { child, url: url.expect("the program serves") }
    }
}

impl Drop for Program {
    fn drop(&mut self) {
        self.child.kill().unwrap();
        self.child.wait().unwrap();
    }
}

#[actix_web::test]
async fn a_killed_server_leaves_nothing_double_and_says_what_was_not_recorded() {
    let name = fresh_name();
    SHARED.cluster.ensure(&name, None).await.unwrap();
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    let (node, _) = db.identity().await.unwrap();
    // A plant to configure it and to run the controller; its own engine is stopped before the program takes over.
    let plant = Plant::on(db.clone()).await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let no = plant.live.plant().tags[&built.level].no;
    plant.live.stop().await;
    let began = havrel_live::now();
    for round in 0..6_u64 {
        let program = Program::start(&name);
        let client = Client::new(&program.url);
        client.until("/api/health", |b| b["database"] == true).await;
        // Up and down through the limit, so that there are events in every life of the server.
        for level in [75.0, 40.0] {
            plant.set_level(level);
            tokio::time::sleep(Duration::from_millis(250 + 37 * round)).await;
        }
    }
    let kept = db.raw(no, began, i64::MAX, false, 100_000).await.unwrap();
    assert!(kept.len() > 20, "{}", kept.len());
    assert!(kept.windows(2).all(|w| w[0].time < w[1].time), "no time twice");
    let mut sequences: HashMap<Uuid, Vec<u32>> = HashMap::new();
    for (_, event) in db.alarm_events(&all()).await.unwrap() {
        sequences.entry(event.rule).or_default().push(event.sequence);
    }
    let sequence = sequences.get_mut(&built.rule).expect("the alarm spoke");
    sequence.sort_unstable();
    assert_eq!(*sequence, (1..=sequence.len() as u32).collect::<Vec<_>>(), "without holes and without doubles");
    let standing = db.standings().await.unwrap();
    assert_eq!(standing[0].sequence, sequence.len() as u32);
    assert!(db.shipped(node).await.unwrap().0 > 6);
    // The next start marks the time since the last frame as not recorded, if it was longer than a second.
    tokio::time::sleep(Duration::from_millis(1200)).await;
    let program = Program::start(&name);
    let client = Client::new(&program.url);
    client.until("/api/health", |b| b["database"] == true).await;
    let mut marks = Vec::new();
    for _ in 0..200 {
        marks = db.unrecorded(began, i64::MAX).await.unwrap();
        if !marks.is_empty() {
            break;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    assert!(marks.iter().any(|m| m.reason == "Havrel was not running" && m.to - m.from > SECOND), "{marks:?}");
}

#[actix_web::test]
async fn an_edit_made_elsewhere_is_followed_even_when_the_bell_is_lost() {
    use havrel_core::plant::{Edit, Kind, Op};
    use havrel_db::config::By;
    let name = fresh_name();
    SHARED.cluster.ensure(&name, None).await.unwrap();
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    let (one, two) = (Live::start(db.clone()).await.unwrap(), Live::start(db.clone()).await.unwrap());
    let by = By { account: None, actor: "Engineer".into(), why: "Added".into(), undoes: None };
    for (n, lost) in [(1, false), (2, true)] {
        if lost {
            // The connections that listen are cut off by the server.
            let mut admin = sqlx::PgConnection::connect_with(&SHARED.cluster.options(&name)).await.unwrap();
            let cut = "select count(pg_terminate_backend(pid)) from pg_stat_activity where query like 'LISTEN%' and datname = current_database()";
            let cut: i64 = sqlx::query_scalar(cut).fetch_one(&mut admin).await.unwrap();
            assert_eq!(cut, 2);
        }
        let own = serde_json::json!({"name": format!("EX-{n}")}).as_object().unwrap().clone();
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
