//! What must survive a hard end: the server killed and the database crashed at random points.

use crate::{
    keep::{all, free_port},
    plant::{Built, Client, Plant, make_reachable},
};
use havrel_core::{alarm::EventKind, time::SECOND};
use havrel_db::{
    Db,
    cluster::{Care, Cluster},
};
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;
use serde_json::json;
use std::{
    collections::HashMap,
    fs,
    io::{BufRead, BufReader},
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::Duration,
};
use uuid::Uuid;

/// The real program on a database of the tests.
struct Program {
    child: Child,
    url: String,
}

impl Program {
    fn start(database: &str, data: &Path) -> Program {
        let mut child = Command::new(env!("CARGO_BIN_EXE_havrel"))
            .args(["serve", "--database", database, "--port", "8720", "--data"])
            .arg(data)
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

/// A database server that can be made to crash.
struct Database {
    folder: PathBuf,
    port: u16,
    cluster: Option<Cluster>,
}

impl Database {
    fn start(&mut self) {
        let care = Care { careless: true, port: Some(self.port) };
        self.cluster = Some(Cluster::start(&self.folder, care).unwrap());
    }

    /// Ends it at once, as a crash would; what was not in its log is gone.
    fn crash(&mut self) {
        let pid = fs::read_to_string(self.folder.join("data/postmaster.pid")).unwrap();
        let killed = Command::new("kill").args(["-QUIT", pid.lines().next().unwrap()]).status().unwrap();
        assert!(killed.success());
        self.cluster = None;
    }
}

/// Does something slow on a thread of its own: this one carries the controller.
async fn elsewhere(mut database: Database, work: fn(&mut Database)) -> Database {
    let done = tokio::task::spawn_blocking(move || {
        work(&mut database);
        database
    });
    done.await.unwrap()
}

/// How many rounds: 1,000 with `./havrel test --long`.
fn rounds() -> u64 {
    std::env::var("HAVREL_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(50)
}

#[actix_web::test]
async fn what_was_acknowledged_is_there_whatever_is_killed() {
    let seed: u64 = Uuid::new_v4().as_u64_pair().0;
    println!("seed {seed}");
    let mut luck = Pcg64Mcg::seed_from_u64(seed);
    let folder = tempfile::tempdir().unwrap();
    make_reachable(folder.path());
    let mut database = Database { folder: folder.path().join("cluster"), port: free_port(), cluster: None };
    database.start();
    let server = database.cluster.as_ref().unwrap();
    server.ensure("plant", None).await.unwrap();
    let (options, url) = (server.options("plant"), server.url("plant"));
    // A plant to configure it and to run the controller; its own engine is stopped before the program takes over.
    let plant = Plant::on(Db::open(options.clone()).await.unwrap()).await;
    let mut client = plant.engineer().await;
    let built = plant.build(&client).await;
    plant.live.stop().await;
    let data = folder.path().join("data");
    let began = havrel_live::now();
    let mut acknowledged = 0;
    for round in 0..rounds() {
        let program = Program::start(&url, &data);
        client.url.clone_from(&program.url);
        let mut pause = |most: u64| tokio::time::sleep(Duration::from_millis(luck.random_range(0..most)));
        plant.set_level(75.0);
        pause(400).await;
        let crash = round % 3 == 1;
        if crash {
            database = elsewhere(database, Database::crash).await;
            pause(200).await;
        }
        acknowledged += acknowledge(&client, built.rule).await;
        plant.set_level(40.0);
        pause(300).await;
        drop(program);
        if crash {
            database = elsewhere(database, Database::start).await;
        }
    }
    let _program = Program::start(&url, &data);
    let db = Db::open(options).await.unwrap();
    settle(&db, built).await;
    compare(&db, built, began, acknowledged).await;
}

/// Acknowledges the alarm if it stands; gives whether the server said that it is kept.
async fn acknowledge(client: &Client, rule: Uuid) -> usize {
    let (status, body) = client.post("/api/alarms/act", json!({"action": "acknowledge", "rules": [rule], "comment": ""})).await;
    if status == 200 { body["count"].as_u64().unwrap_or(0) as usize } else { 0 }
}

/// Waits until the last program has shipped what was left and goes on.
async fn settle(db: &Db, built: Built) {
    let started = havrel_live::now();
    for _ in 0..400 {
        let newest = db.raw(built.level_no, started, i64::MAX, false, 10).await.unwrap();
        if !newest.is_empty() {
            return;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    panic!("nothing new arrives");
}

async fn compare(db: &Db, built: Built, began: i64, acknowledged: usize) {
    let kept = db.raw(built.level_no, began, i64::MAX, false, 100_000).await.unwrap();
    assert!(kept.windows(2).all(|w| w[0].time < w[1].time), "in order, and no time twice");
    let marks = db.unrecorded(began, i64::MAX).await.unwrap();
    assert!(marks.iter().all(|m| m.reason == "Havrel was not running"), "{marks:?}");
    // Read ten times a second: a longer pause is one of those that are marked.
    for pair in kept.windows(2) {
        let (from, to) = (pair[0].time, pair[1].time);
        let told = marks.iter().any(|m| m.from < to && m.to > from);
        assert!(to - from < 2 * SECOND || told, "{from} to {to} is missing and nobody says so: {marks:?}");
    }
    let mut sequences: HashMap<Uuid, Vec<u32>> = HashMap::new();
    let mut seen = 0;
    let mut before = None;
    loop {
        let page = db.alarm_events(&all(), before, 1000).await.unwrap();
        let Some((last, _)) = page.last() else { break };
        before = Some(*last);
        for (_, event) in page {
            seen += usize::from(event.kind == EventKind::Acknowledged);
            sequences.entry(event.rule).or_default().push(event.sequence);
        }
    }
    // One that was kept but whose answer was cut off by the kill may be there beside those that were answered.
    assert!(seen >= acknowledged, "{acknowledged} were acknowledged, {seen} are there");
    assert!(acknowledged > 0, "no round got as far as an answer");
    let sequence = sequences.get_mut(&built.rule).expect("the alarm spoke");
    sequence.sort_unstable();
    assert_eq!(*sequence, (1..=sequence.len() as u32).collect::<Vec<_>>(), "without holes and without doubles");
    println!("{} samples, {seen} acknowledgements of which {acknowledged} were answered, {} marks", kept.len(), marks.len());
}
