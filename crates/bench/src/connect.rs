//! Many connections at once, and values that are pushed: a plant of its own process, seen from outside.

use crate::{Figures, Result, load, messages, plant, wire};
use actix_web::http::Method;
use havrel_db::cluster::Cluster;
use serde_json::{Value as Json, json};
use sqlx::{Connection as _, PgConnection};
use std::{
    path::Path,
    time::{Duration, Instant},
};

/// Until everything is in its rhythm.
const SETTLE: Duration = Duration::from_secs(3);
/// How long the connections are watched.
const LOOK: Duration = Duration::from_secs(10);
/// Requests with pushed values, and values in each.
const REQUESTS: u64 = 40;
const VALUES: u64 = 20_000;

/// Prints what a hundred connections cost, how fast values can be pushed, and how many that are read are stored.
pub fn measure(figures: &mut Figures, cluster: &Cluster, folder: &Path) -> Result<()> {
    let executor = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    let device = executor.block_on(wire::device())?;
    let (mut plant, port) =
        load::grown(&executor, cluster, folder, "bench_lines", &["--device", &device.to_string(), "--shape", "lines"])?;
    let cookie = load::sign_in(port)?;
    std::thread::sleep(SETTLE);
    let before = (Instant::now(), load::computed(plant.id()), counter(port, "connection_overruns")?);
    std::thread::sleep(LOOK);
    let share = (load::computed(plant.id()) - before.1) / before.0.elapsed().as_secs_f64();
    let overruns = counter(port, "connection_overruns")? - before.2;
    figures.add("100 connections x 100 registers a second: cores busy", share, "", Some("0.02"));
    figures.add("100 connections x 100 registers a second: polls left out", overruns, "", Some("0"));
    let rate = actix_web::rt::System::new().block_on(push(port, &cookie))?;
    figures.add("values pushed in batches of 20,000, until on disk", rate, "values/s", Some("200000"));
    load::end(&mut plant)?;
    stored(figures, &executor, cluster, folder, device)?;
    heard(figures, &executor, cluster, folder)
}

/// Counts what a broker passes on to the database, with the broker and its sender on the same cores.
fn heard(figures: &mut Figures, executor: &tokio::runtime::Runtime, cluster: &Cluster, folder: &Path) -> Result<()> {
    const EACH_SECOND: usize = 20_000;
    const SECONDS: usize = 10;
    let name = "bench_heard";
    let broker = messages::broker()?;
    let shape = ["--device", &broker.address.port().to_string(), "--shape", "messages"];
    let (mut plant, _) = load::grown(executor, cluster, folder, name, &shape)?;
    std::thread::sleep(SETTLE);
    let before = rows(executor, cluster, name)?;
    let began = Instant::now();
    executor.block_on(messages::send_steadily(broker.address, EACH_SECOND, SECONDS))?;
    let (mut took, mut stored) = (began.elapsed(), 0.0);
    // Until all are there, or no more come.
    while stored < (4 * EACH_SECOND * SECONDS) as f64 && began.elapsed() - took < SETTLE {
        let there = rows(executor, cluster, name)? - before;
        if there > stored {
            (took, stored) = (began.elapsed(), there);
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    let took = took.as_secs_f64();
    let mut plain = executor.block_on(load::copied(&cluster.options(name)))?;
    plain.sort_by(f64::total_cmp);
    let title = "20,000 messages of four JSON members a second: values stored, against plain COPY";
    figures.ratio(title, stored / took, plain[plain.len() / 2], "values/s", None);
    figures.add("  of those sent were stored", stored / (4 * EACH_SECOND * SECONDS) as f64, "", Some("1"));
    figures.add("  until the last one was stored, after it was sent", took - SECONDS as f64, "s", None);
    load::end(&mut plant)
}

/// Samples in a database.
fn rows(executor: &tokio::runtime::Runtime, cluster: &Cluster, name: &str) -> Result<f64> {
    executor.block_on(async {
        let mut sql = PgConnection::connect_with(&cluster.options(name)).await?;
        Ok(sqlx::query_scalar::<_, i64>("select count(*) from sample").fetch_one(&mut sql).await? as f64)
    })
}

/// Counts what comes from devices in this program to the database, all on the same cores.
fn stored(
    figures: &mut Figures,
    executor: &tokio::runtime::Runtime,
    cluster: &Cluster,
    folder: &Path,
    device: u16,
) -> Result<()> {
    let name = "bench_stored";
    let (mut plant, port) =
        load::grown(executor, cluster, folder, name, &["--device", &device.to_string(), "--shape", "stored"])?;
    std::thread::sleep(SETTLE);
    let rows = || rows(executor, cluster, name);
    let (began, before, read) = (Instant::now(), rows()?, counter(port, "connection_values")?);
    std::thread::sleep(LOOK);
    let (seconds, after, polled) = (began.elapsed().as_secs_f64(), rows()?, counter(port, "connection_values")?);
    let mut plain = executor.block_on(load::copied(&cluster.options(name)))?;
    plain.sort_by(f64::total_cmp);
    figures.add("polled ten times a second: values read", (polled - read) / seconds, "values/s", None);
    figures.ratio(
        "polled ten times a second: values stored, against plain COPY beside it",
        (after - before) / seconds,
        plain[plain.len() / 2],
        "values/s",
        Some("150000 values/s"),
    );
    figures.add("  age of what waits in the spool afterwards", counter(port, "spool_behind_seconds")?, "s", None);
    load::end(&mut plant)
}

/// The sum of a figure over all connections, as the program tells it.
fn counter(port: u16, name: &str) -> Result<f64> {
    let text = actix_web::rt::System::new().block_on(async move {
        let url = format!("http://127.0.0.1:{port}/metrics");
        let mut answer = awc::Client::default().get(url).send().await.map_err(|e| e.to_string())?;
        let bytes = answer.body().limit(4 << 20).await.map_err(|e| e.to_string())?;
        Ok::<_, crate::Failure>(String::from_utf8_lossy(&bytes).into_owned())
    })?;
    let prefix = format!("havrel_{name}");
    let of = |line: &str| line.strip_prefix(prefix.as_str())?.rsplit(' ').next()?.parse::<f64>().ok();
    let found: Vec<f64> = text.lines().filter_map(of).collect();
    if found.is_empty() { Err(format!("{prefix} is not among the metrics").into()) } else { Ok(found.iter().sum()) }
}

/// Pushes values one request after the other; values a second.
async fn push(port: u16, cookie: &str) -> Result<f64> {
    let url = |path: &str| format!("http://127.0.0.1:{port}{path}");
    let client = awc::Client::builder().timeout(Duration::from_secs(60)).finish();
    let asked = client.request(Method::POST, url("/api/tokens")).insert_header(("cookie", cookie.to_owned()));
    let mut made = asked.send_json(&json!({"name": "Bench", "most_values": 1_000_000})).await.map_err(|e| e.to_string())?;
    let made: Json = made.json().await?;
    let token = made["token"].as_str().ok_or("no token")?.to_owned();
    let first = plant::LINES * 100 + 1;
    let bodies: Vec<String> = (0..REQUESTS)
        .map(|r| {
            let line =
                |i: u64| format!("{{\"tag\":{},\"value\":{}}}\n", u64::from(first) + i % u64::from(plant::PUSHED), r + i % 97);
            (0..VALUES).map(line).collect()
        })
        .collect();
    let began = Instant::now();
    let mut taken = 0;
    for body in bodies {
        let request = client.request(Method::POST, url("/api/push"));
        let request = request.insert_header(("authorization", format!("Bearer {token}")));
        let request = request.insert_header(("content-type", "application/x-ndjson"));
        let mut answer = request.send_body(body).await.map_err(|e| e.to_string())?;
        let told: Json = answer.json().await?;
        taken += told["taken"].as_u64().unwrap_or(0);
    }
    if taken != REQUESTS * VALUES {
        return Err(format!("{taken} of {} pushed values were taken", REQUESTS * VALUES).into());
    }
    Ok(taken as f64 / began.elapsed().as_secs_f64())
}
