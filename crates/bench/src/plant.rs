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
use havrel_link::Drivers;
use havrel_live::{Live, now};
use havrel_web::app::{App, serve};
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

/// What the plant is.
#[derive(Args)]
pub struct Settings {
    #[arg(long)]
    database: String,
    #[arg(long)]
    folder: PathBuf,
    /// Port of the device.
    #[arg(long)]
    device: u16,
    #[arg(long)]
    tags: u32,
    /// Only make the configuration.
    #[arg(long)]
    build: bool,
    /// A hundred connections of a hundred registers each, and tags to be pushed, instead of the other tags.
    #[arg(long)]
    lines: bool,
}

/// Connections of a plant of lines, and registers of each.
pub const LINES: u32 = 100;
const REGISTERS: u32 = 100;
/// Tags that can be pushed to.
pub const PUSHED: u32 = 1000;

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

async fn commit(db: &Db, edits: &[Edit]) -> Result<()> {
    let by = By { account: None, actor: "Bench".into(), why: "Bench".into(), undoes: None };
    db.commit(&Plant::default(), edits, &by, Drivers).await?;
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
    let (_, key) = db.identity().await?;
    if settings.build {
        let began = Instant::now();
        if settings.lines {
            build_lines(&db, &settings).await?;
        } else {
            build(&db, &settings).await?;
        }
        println!("{}", json!({"built_s": began.elapsed().as_secs_f64()}));
        db.close().await;
        return Ok(());
    }
    let began = Instant::now();
    let live = Live::start(db, &settings.folder).await?;
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let port = listener.local_addr()?.port();
    let server = serve(App::new(live.clone(), Vec::new()), &key, listener)?;
    let handle = server.handle();
    let serving = tokio::spawn(server);
    let started = began.elapsed().as_secs_f64();
    // Until every tag of the wire has been read once.
    let wanted = if settings.lines { u64::from(REGISTERS) } else { u64::from(on_wire(settings.tags)) };
    while live.health().iter().all(|(_, h)| h.values < wanted) && began.elapsed() < Duration::from_secs(30) {
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
    println!("{}", json!({"port": port, "started_s": started, "polled_s": began.elapsed().as_secs_f64()}));
    let feeding = (!settings.lines).then(|| tokio::spawn(feed(live.clone(), settings.tags)));
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
