//! A plant under load, as a program of its own: a tenth of its tags is read over Modbus, the others come through the batch
//! boundary, where every driver's values come in.

use crate::Result;
use clap::Args;
use havrel_core::{
    plant::{Edit, Kind, Op, Own, Plant},
    quality::Quality,
    sample::{Batch, Value},
};
use havrel_db::{ConnectOptions, Db, config::By};
use havrel_link::Kinds;
use havrel_live::{Live, now};
use havrel_server::{app::App, routes::serve, sessions};
use serde_json::{Value as Json, json};
use std::{
    net::TcpListener,
    path::PathBuf,
    str::FromStr,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::io::AsyncReadExt;
use uuid::Uuid;

/// The one-time code for the first account of a plant under load.
pub(crate) const CODE: &str = "BENC-HBEN-CHBE";

/// What the plant is.
#[derive(Args)]
pub struct Settings {
    #[arg(long)]
    database: String,
    #[arg(long)]
    folder: PathBuf,
    /// Port of the device.
    #[arg(long, default_value_t = 0)]
    device: u16,
    /// Of a plant under load.
    #[arg(long, default_value_t = 1000)]
    tags: u32,
    /// Only make the configuration.
    #[arg(long)]
    build: bool,
    /// What it is made of.
    #[arg(long, value_enum, default_value = "load")]
    shape: Shape,
}

/// What a plant is made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Shape {
    /// A tenth of its tags over Modbus, the others through the batch boundary.
    Load,
    /// A hundred connections of a hundred registers each, and tags to be pushed.
    Lines,
    /// Connections that read as much as they may, all of it stored.
    Stored,
    /// Topics of a broker with four members each, all of them stored.
    Messages,
    /// Fifty thousand places in a tree.
    Places,
}

/// Connections of a plant of lines, and registers of each.
pub const LINES: u32 = 100;
const REGISTERS: u32 = 100;
/// Tags that can be pushed to.
pub const PUSHED: u32 = 1000;
/// Connections of a plant that stores what it reads, and registers of each; ten times a second.
const STORING: u32 = 16;
const STORED_REGISTERS: u32 = 1000;
/// Topics of a plant that hears messages.
pub const TOPICS: usize = 100;
/// Areas of a plant of places, and units in each.
pub const AREAS: u32 = 50;
pub const UNITS: u32 = 999;

/// Tags read over the wire; the device answers them all.
pub fn on_wire(tags: u32) -> u32 {
    (tags / 10).min(10_000)
}

/// Tags that change each second.
pub fn changing(tags: u32) -> u32 {
    tags / 2
}

fn own(set: Json) -> Own {
    set.as_object().cloned().unwrap_or_default()
}

/// A hundred connections, each with a hundred registers once a second, and tags that are recorded as they are pushed.
async fn build_lines(db: &Db, settings: &Settings) -> Result<()> {
    let [site, push] = [(); 2].map(|()| Uuid::now_v7());
    let mut edits = Vec::new();
    let mut add = |kind, id, set: Json| edits.push(Edit { kind, id, op: Op::Create(own(set), None), seen: None });
    add(Kind::Place, site, json!({"name": "Bench", "level": "site"}));
    let to = json!({"host": "127.0.0.1", "port": settings.device, "base": 0});
    for line in 0..LINES {
        let connection = Uuid::now_v7();
        let set = json!({"name": format!("Line {line}"), "kind": "modbus", "interval_ms": 1000, "settings": to});
        add(Kind::Connection, connection, set);
        for n in 0..REGISTERS {
            let point = json!({"address": format!("holding {n}"), "type": "u16"});
            let name = format!("Line {line} value {n}");
            add(Kind::Tag, Uuid::now_v7(), json!({"name": name, "place": site, "connection": connection, "point": point}));
        }
    }
    add(Kind::Connection, push, json!({"name": "Pushed", "kind": "push"}));
    for n in 0..PUSHED {
        let set =
            json!({"name": format!("Pushed {n}"), "place": site, "connection": push, "record": true, "record_mode": "each_poll"});
        add(Kind::Tag, Uuid::now_v7(), set);
    }
    commit(db, &edits).await
}

/// Connections that are read ten times a second, and every value of them stored.
async fn build_stored(db: &Db, settings: &Settings) -> Result<()> {
    let site = Uuid::now_v7();
    let mut edits = Vec::new();
    let mut add = |kind, id, set: Json| edits.push(Edit { kind, id, op: Op::Create(own(set), None), seen: None });
    add(Kind::Place, site, json!({"name": "Bench", "level": "site"}));
    let to = json!({"host": "127.0.0.1", "port": settings.device, "base": 0});
    for line in 0..STORING {
        let connection = Uuid::now_v7();
        let set = json!({"name": format!("Line {line}"), "kind": "modbus", "interval_ms": 100, "settings": to});
        add(Kind::Connection, connection, set);
        for n in 0..STORED_REGISTERS {
            // The low words of the device's clock: never the same twice.
            let point = json!({"address": format!("holding {}", n * 2 + 1), "type": "u16"});
            let name = format!("Line {line} value {n}");
            let set = json!({"name": name, "place": site, "connection": connection, "point": point, "record": true,
                "record_mode": "each_poll"});
            add(Kind::Tag, Uuid::now_v7(), set);
        }
    }
    commit(db, &edits).await
}

/// Where the four members of a document are read.
pub fn members(topic: &str) -> Vec<Json> {
    ["/power", "/energy", "/voltage", "/on"]
        .into_iter()
        .map(|member| json!({"topic": topic, "member": member, "time": "/ts", "clock": "milliseconds"}))
        .collect()
}

/// A connection that hears JSON, and every value of it stored.
async fn build_messages(db: &Db, settings: &Settings) -> Result<()> {
    let [site, broker] = [(); 2].map(|()| Uuid::now_v7());
    let mut edits = Vec::new();
    let mut add = |kind, id, set: Json| edits.push(Edit { kind, id, op: Op::Create(own(set), None), seen: None });
    add(Kind::Place, site, json!({"name": "Bench", "level": "site"}));
    let to = json!({"host": "127.0.0.1", "port": settings.device, "qos": 0});
    add(Kind::Connection, broker, json!({"name": "Broker", "kind": "mqtt", "timeout_ms": 5000, "settings": to}));
    for topic in 0..TOPICS {
        for (n, point) in members(&format!("bench/{topic}")).into_iter().enumerate() {
            let name = format!("Topic {topic} value {n}");
            let set = json!({"name": name, "place": site, "connection": broker, "point": point, "record": true,
                "record_mode": "each_poll"});
            add(Kind::Tag, Uuid::now_v7(), set);
        }
    }
    commit(db, &edits).await
}

/// Areas with units in each, and a tag in every hundredth.
async fn build_places(db: &Db) -> Result<()> {
    let site = Uuid::now_v7();
    let mut edits = Vec::new();
    let mut add = |kind, id, set: Json| edits.push(Edit { kind, id, op: Op::Create(own(set), None), seen: None });
    add(Kind::Place, site, json!({"name": "Bench", "level": "site"}));
    for a in 0..AREAS {
        let area = Uuid::now_v7();
        add(Kind::Place, area, json!({"name": format!("Area {a}"), "level": "area", "parent": site, "order": a}));
        for u in 0..UNITS {
            let unit = Uuid::now_v7();
            add(Kind::Place, unit, json!({"name": format!("Unit {a}-{u}"), "level": "unit", "parent": area, "order": u}));
            if u % 100 == 0 {
                add(Kind::Tag, Uuid::now_v7(), json!({"name": "Level", "place": unit}));
            }
        }
    }
    commit(db, &edits).await
}

async fn commit(db: &Db, edits: &[Edit]) -> Result<()> {
    let by = By { account: None, actor: "Bench".into(), why: "Bench".into(), undoes: None };
    db.commit(&Plant::default(), edits, &by, Kinds).await?;
    Ok(())
}

async fn build(db: &Db, settings: &Settings) -> Result<()> {
    let [site, connection] = [(); 2].map(|()| Uuid::now_v7());
    let mut edits = Vec::new();
    let mut add = |kind, id, set: Json| edits.push(Edit { kind, id, op: Op::Create(own(set), None), seen: None });
    add(Kind::Place, site, json!({"name": "Bench", "level": "site"}));
    let to = json!({"host": "127.0.0.1", "port": settings.device, "base": 0});
    add(Kind::Connection, connection, json!({"name": "Clock", "kind": "modbus", "interval_ms": 1000, "settings": to}));
    let mut place = site;
    for n in 0..settings.tags {
        if n % 100 == 0 {
            place = Uuid::now_v7();
            add(Kind::Place, place, json!({"name": format!("Unit {}", n / 100), "level": "unit", "parent": site, "order": n}));
        }
        let id = Uuid::now_v7();
        let mut set = json!({"name": format!("Value {n}"), "place": place, "unit": "%", "order": n, "record": n % 10 == 5});
        if n < on_wire(settings.tags) {
            set["connection"] = json!(connection);
            set["point"] = json!({"address": format!("holding {}", n * 2), "type": "u32"});
        } else if n % 10 == 1 {
            let rule = json!({"tag": id, "kind": "high", "level": 99.9, "deadband": 1.0, "on_delay_s": 60.0});
            add(Kind::Tag, id, set);
            add(Kind::Rule, Uuid::now_v7(), rule);
            continue;
        }
        add(Kind::Tag, id, set);
    }
    commit(db, &edits).await
}

/// Builds or serves; tells on standard output, one JSON object a line.
pub async fn run(settings: Settings) -> Result<()> {
    let db = Db::open(ConnectOptions::from_str(&settings.database)?).await?;
    db.set_setup_code(&sessions::hash(CODE)).await?;
    if settings.build {
        let began = Instant::now();
        match settings.shape {
            Shape::Load => build(&db, &settings).await?,
            Shape::Lines => build_lines(&db, &settings).await?,
            Shape::Stored => build_stored(&db, &settings).await?,
            Shape::Messages => build_messages(&db, &settings).await?,
            Shape::Places => build_places(&db).await?,
        }
        println!("{}", json!({"built_s": began.elapsed().as_secs_f64()}));
        db.close().await;
        return Ok(());
    }
    let began = Instant::now();
    let live = Live::start(db, &settings.folder).await?;
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let port = listener.local_addr()?.port();
    let server = serve(App::new(live.clone(), Vec::new()), listener)?;
    let handle = server.handle();
    let serving = tokio::spawn(server);
    let started = began.elapsed().as_secs_f64();
    // Until every tag of the wire has been read once.
    let wanted = u64::from(match settings.shape {
        Shape::Load => on_wire(settings.tags),
        Shape::Lines => REGISTERS,
        Shape::Stored => STORED_REGISTERS,
        Shape::Messages | Shape::Places => 0,
    });
    while wanted > 0 && live.health().iter().all(|(_, h)| h.values < wanted) && began.elapsed() < Duration::from_secs(30) {
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
    println!("{}", json!({"port": port, "started_s": started, "polled_s": began.elapsed().as_secs_f64()}));
    let feeding = (settings.shape == Shape::Load).then(|| tokio::spawn(feed(live.clone(), settings.tags)));
    // Whoever started us closes our input.
    let _ = tokio::io::stdin().read_to_end(&mut Vec::new()).await;
    if let Some(feeding) = feeding {
        feeding.abort();
    }
    live.stop().await;
    handle.stop(false).await;
    serving.await??;
    Ok(())
}

/// Twenty batches each second, so that half of the tags change once a second.
async fn feed(live: Arc<Live>, tags: u32) {
    let first = on_wire(tags);
    let each = (changing(tags) - first) / 20;
    let mut numbers: Vec<u32> = live.plant().tags.values().map(|t| t.no).collect();
    numbers.sort_unstable();
    let fed = &numbers[first as usize..];
    let mut beat = tokio::time::interval(Duration::from_millis(50));
    let mut turn = 0u32;
    loop {
        beat.tick().await;
        let mut batch = Batch::default();
        let at = now();
        for i in 0..each {
            let index = (turn % 20) * each + i;
            let value = f64::from((turn / 20 + index) % 1000) / 10.0;
            batch.push(fed[index as usize], at, Quality::GOOD, 0, &Value::F64(value));
        }
        turn += 1;
        if live.take(batch).await.is_err() {
            return;
        }
    }
}
