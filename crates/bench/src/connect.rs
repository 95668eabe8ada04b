//! Many connections at once, and values that are pushed: a plant of its own process, seen from outside.

use crate::{Figures, Result, load, plant, wire};
use actix_web::http::Method;
use havrel_db::cluster::Cluster;
use serde_json::{Value as Json, json};
use std::{
    path::Path,
    time::{Duration, Instant},
};

/// How long the connections are watched.
const LOOK: Duration = Duration::from_secs(10);
/// Requests with pushed values, and values in each.
const REQUESTS: u64 = 40;
const VALUES: u64 = 20_000;

/// Prints what a hundred connections cost, and how fast values can be pushed.
pub fn measure(figures: &mut Figures, cluster: &Cluster, folder: &Path) -> Result<()> {
    let executor = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    let device = executor.block_on(wire::device())?;
    executor.block_on(cluster.ensure("bench_lines", None))?;
    let (mut building, _) = load::child(cluster, "bench_lines", folder, device, 1000, &["--lines", "--build"])?;
    building.wait()?;
    let (mut plant, told) = load::child(cluster, "bench_lines", folder, device, 1000, &["--lines"])?;
    let port = told["port"].as_u64().and_then(|p| u16::try_from(p).ok()).ok_or("no port")?;
    let cookie = load::sign_in(port)?;
    std::thread::sleep(Duration::from_secs(3));
    let before = (Instant::now(), load::computed(plant.id()));
    std::thread::sleep(LOOK);
    let share = (load::computed(plant.id()) - before.1) / before.0.elapsed().as_secs_f64();
    figures.add("100 connections x 100 registers a second: cores busy", share, "", Some("0.02"));
    let rate = actix_web::rt::System::new().block_on(push(port, &cookie))?;
    figures.add("values pushed in batches of 20,000, until on disk", rate, "values/s", Some("200000"));
    drop(plant.stdin.take());
    plant.wait()?;
    Ok(())
}

/// Pushes values one request after the other; values a second.
async fn push(port: u16, cookie: &str) -> Result<f64> {
    let url = |path: &str| format!("http://127.0.0.1:{port}{path}");
    let client = awc::Client::builder().timeout(Duration::from_secs(60)).finish();
    let asked = client.request(Method::POST, url("/api/tokens")).insert_header(("cookie", cookie.to_owned()));
    let mut made = asked.send_json(&json!({"name": "Bench"})).await.map_err(|e| e.to_string())?;
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
