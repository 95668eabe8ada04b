//! A plant under load, seen from outside: start, memory, and how old a value is when it reaches a browser.

use crate::{Figures, Result, plant, quantile, wire};
use actix_web::http::Method;
use futures_util::{SinkExt, StreamExt};
use havrel_core::time::from_text;
use havrel_db::cluster::Cluster;
use havrel_live::now;
use serde_json::{Value as Json, json};
use sqlx::{Connection as _, PgConnection};
use std::{
    fs,
    io::{BufRead, BufReader},
    path::Path,
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};
use tokio_tungstenite::tungstenite::{Message, client::IntoClientRequest};

/// Browsers that look on, and tags that each watches.
const BROWSERS: usize = 50;
const WATCHED: usize = 200;
/// How long they look, after a while in which everything settles.
const LOOK: Duration = Duration::from_secs(10);
const SETTLE: Duration = Duration::from_secs(3);

/// Starts the program of a plant; gives what it tells first.
fn child(cluster: &Cluster, name: &str, folder: &Path, more: &[&str]) -> Result<(Child, Json)> {
    let mut command = Command::new(std::env::current_exe()?);
    command.args(["plant", "--database", &cluster.url(name)]);
    command.arg("--folder").arg(folder.join(name));
    command.args(more);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn()?;
    let mut line = String::new();
    if let Some(output) = child.stdout.as_mut() {
        BufReader::new(output).read_line(&mut line)?;
    }
    Ok((child, serde_json::from_str(&line).map_err(|_| "the plant under load did not start")?))
}

/// A plant that is built and runs, with the port it serves on.
pub(crate) fn grown(
    executor: &tokio::runtime::Runtime,
    cluster: &Cluster,
    folder: &Path,
    name: &str,
    more: &[&str],
) -> Result<(Child, u16)> {
    executor.block_on(cluster.ensure(name, None))?;
    let building = [more, &["--build"]].concat();
    child(cluster, name, folder, &building)?.0.wait()?;
    let (plant, told) = child(cluster, name, folder, more)?;
    Ok((plant, port_of(&told)?))
}

fn port_of(told: &Json) -> Result<u16> {
    Ok(told["port"].as_u64().and_then(|p| u16::try_from(p).ok()).ok_or("no port")?)
}

/// Ends a plant in good order.
pub(crate) fn end(plant: &mut Child) -> Result<()> {
    drop(plant.stdin.take());
    plant.wait()?;
    Ok(())
}

/// Rows a second that plain COPY brings into a table without an index, several times over.
pub(crate) async fn copied(options: &havrel_db::ConnectOptions) -> Result<Vec<f64>> {
    const ROWS: usize = 100_000;
    let mut sql = PgConnection::connect_with(options).await?;
    sqlx::query("create table plain (tag int, at bigint, bits float8, quality smallint)").execute(&mut sql).await?;
    let mut rates = Vec::new();
    for turn in 0..5 {
        let line = |n: usize| format!("{}\t{}\t{}\t0\n", n % 1000, turn * ROWS + n, (n % 977) as f64 / 8.0);
        let text: String = (0..ROWS).map(line).collect();
        let began = Instant::now();
        let mut copy = sql.copy_in_raw("copy plain from stdin").await?;
        copy.send(text.into_bytes()).await?;
        copy.finish().await?;
        rates.push(ROWS as f64 / began.elapsed().as_secs_f64());
    }
    Ok(rates)
}

/// What a process holds in memory, in MB: now, and at its highest.
pub fn memory(pid: u32) -> (f64, f64) {
    let text = fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let of = |name: &str| {
        let line = text.lines().find_map(|l| l.strip_prefix(name));
        line.and_then(|l| l.trim().trim_end_matches(" kB").parse::<f64>().ok()).unwrap_or(f64::NAN) / 1024.0
    };
    (of("VmRSS:"), of("VmHWM:"))
}

/// Seconds a process has computed.
pub(crate) fn computed(pid: u32) -> f64 {
    let text = fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
    let fields: Vec<&str> = text.rsplit(')').next().unwrap_or_default().split_whitespace().collect();
    let ticks = |i: usize| fields.get(i).and_then(|f| f.parse::<f64>().ok()).unwrap_or(0.0);
    (ticks(11) + ticks(12)) / 100.0
}

/// Makes the first account and gives its cookie.
pub(crate) fn sign_in(port: u16) -> Result<String> {
    actix_web::rt::System::new().block_on(async move {
        let url = format!("http://127.0.0.1:{port}/api/session/first");
        let body = json!({"name": "Plant engineer", "password": "kelp-and-salt", "code": crate::plant::CODE});
        let response = awc::Client::default().request(Method::POST, url).send_json(&body).await.map_err(|e| e.to_string())?;
        let cookies = response.cookies().map_err(|e| e.to_string())?;
        Ok(cookies.iter().find(|c| c.name() == "havrel").map(|c| format!("havrel={}", c.value())).ok_or("no cookie")?)
    })
}

/// One browser: watches tags and notes how old each value is when it comes, in milliseconds: by the time of the sample, or
/// for values that are stamps by the stamp.
async fn look(port: u16, cookie: String, watched: Vec<u32>, stamps: bool) -> Result<Vec<f64>> {
    let mut request = format!("ws://127.0.0.1:{port}/api/live").into_client_request()?;
    request.headers_mut().insert("cookie", cookie.parse()?);
    request.headers_mut().insert("origin", format!("http://127.0.0.1:{port}").parse()?);
    let (mut socket, _) = tokio_tungstenite::connect_async(request).await?;
    socket.send(Message::text(json!({"watch": watched, "follow": 0}).to_string())).await?;
    let began = Instant::now();
    let mut ages = Vec::new();
    while began.elapsed() < SETTLE + LOOK {
        let Ok(Some(message)) = tokio::time::timeout(Duration::from_secs(5), socket.next()).await else { break };
        let Message::Text(text) = message? else { continue };
        let message: Json = serde_json::from_str(&text)?;
        socket.send(Message::text(json!({"got": message["n"]}).to_string())).await?;
        if began.elapsed() < SETTLE {
            continue;
        }
        for value in message["values"].as_array().into_iter().flatten() {
            ages.push(if stamps {
                f64::from(wire::stamp().wrapping_sub(value["value"].as_u64().unwrap_or(0) as u32))
            } else {
                (now() - from_text(value["time"].as_str().unwrap_or_default()).unwrap_or(0)) as f64 / 1e6
            });
        }
    }
    Ok(ages)
}

/// Prints how a plant of so many tags starts, what it holds, and how fast values reach browsers.
pub fn measure(figures: &mut Figures, cluster: &Cluster, folder: &Path, tags: u32) -> Result<()> {
    let executor = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    let device = executor.block_on(wire::device())?;
    let name = format!("bench_{tags}");
    executor.block_on(cluster.ensure(&name, None))?;
    let title = |words: &str| format!("{tags} tags: {words}");
    let (device, count) = (device.to_string(), tags.to_string());
    let settings = ["--device", &device, "--tags", &count];
    let (mut building, told) = child(cluster, &name, folder, &[&settings[..], &["--build"]].concat())?;
    building.wait()?;
    figures.add(&title("one revision that makes them all"), told["built_s"].as_f64().unwrap_or(f64::NAN), "s", None);
    let (mut plant, told) = child(cluster, &name, folder, &settings)?;
    figures.add(&title("start until it serves"), told["started_s"].as_f64().unwrap_or(f64::NAN), "s", None);
    figures.add(&title("start until every polled tag was read"), told["polled_s"].as_f64().unwrap_or(f64::NAN), "s", Some("2"));
    let port = port_of(&told)?;
    let cookie = sign_in(port)?;
    let busy = (Instant::now(), computed(plant.id()));
    let (fed, stamped) = executor.block_on(async {
        // Numbers are given in order; those fed change, the first of all are read from the device.
        let first = plant::on_wire(tags) + 1;
        let fed = plant::changing(tags) - plant::on_wire(tags);
        let mut browsers = tokio::task::JoinSet::new();
        for b in 0..BROWSERS {
            let watched = (0..WATCHED).map(|i| first + ((b * WATCHED + i) as u32 % fed)).collect();
            browsers.spawn(look(port, cookie.clone(), watched, false));
        }
        let stamps: Vec<u32> = (1..=plant::on_wire(tags).min(1000)).collect();
        let stamped = tokio::spawn(look(port, cookie.clone(), stamps, true));
        let mut ages = Vec::new();
        while let Some(done) = browsers.join_next().await {
            ages.extend(done??);
        }
        Ok::<_, crate::Failure>((ages, stamped.await??))
    })?;
    let share = (computed(plant.id()) - busy.1) / busy.0.elapsed().as_secs_f64();
    let (held, highest) = memory(plant.id());
    let goal = if tags > 10_000 { "600" } else { "200" };
    figures.add(&title("memory while it runs"), held, "MB", Some(goal));
    figures.add(&title("memory at its highest"), highest, "MB", Some(goal));
    figures.add(&title("cores busy"), share, "", None);
    let seconds = LOOK.as_secs_f64();
    figures.add(&title("values that reached 50 browsers"), fed.len() as f64 / seconds, "values/s", None);
    let goals = [(0.5, "p50", None, None), (0.95, "p95", None, Some("150")), (0.99, "p99", Some("300"), None)];
    for (what, mut ages) in [("batch boundary to 50 browsers", fed), ("answer of the device to a browser", stamped)] {
        ages.sort_by(f64::total_cmp);
        for (share, word, with_fifty, of_device) in goals {
            let goal = if what.starts_with("batch") { with_fifty } else { of_device };
            figures.add(&title(&format!("{what}, {word}")), quantile(&ages, share), "ms", goal);
        }
    }
    browser(figures, port, "load", &title("in a browser"))?;
    end(&mut plant)
}

/// Prints how the plant column fares with fifty thousand places.
pub fn tree(figures: &mut Figures, cluster: &Cluster, folder: &Path) -> Result<()> {
    let executor = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
    let (mut plant, port) = grown(&executor, cluster, folder, "bench_places", &["--shape", "places"])?;
    sign_in(port)?;
    browser(figures, port, "tree", "50,000 places in a browser")?;
    end(&mut plant)
}

/// What the browser measures: key, words, unit and goal.
const SEEN: [(&str, &str, &str, Option<&str>); 24] = [
    ("sheet_fps", "frames while the sheet is scrolled", "fps", Some("55")),
    ("sheet_bare", "frames of a bare list scrolled as fast", "fps", None),
    ("sheet_task", "longest task while the sheet is scrolled", "ms", Some("50")),
    ("board_values", "values on one board", "values", Some("2,000")),
    ("board_fps", "frames while they change and the board is scrolled", "fps", Some("55")),
    ("board_task", "longest task meanwhile", "ms", Some("50")),
    ("trend_fps", "frames while a trend of 8 tags runs", "fps", Some("55")),
    ("trend_task", "longest task while a trend of 8 tags runs", "ms", Some("50")),
    ("large_fps", "frames while a trend of 8 x 20,000 points runs", "fps", Some("55")),
    ("large_task", "longest task while a trend of 8 x 20,000 points runs", "ms", Some("50")),
    ("find_ms", "anything found by a word", "ms", Some("50")),
    ("intake_fps", "frames while an intake of 10,000 rows is scrolled", "fps", Some("55")),
    ("intake_bare", "frames of a bare list scrolled as fast", "fps", None),
    ("intake_task", "longest task while it is scrolled", "ms", Some("50")),
    ("intake_typing", "longest task while a name is typed in it", "ms", Some("50")),
    ("intake_names", "10,000 names by one example", "ms", None),
    ("intake_create", "10,000 tags created from it", "s", Some("10")),
    ("tree_fps", "frames while the column is scrolled", "fps", Some("55")),
    ("tree_bare", "frames of a bare list scrolled as fast", "fps", None),
    ("tree_task", "longest task while it is scrolled", "ms", Some("50")),
    ("tree_open", "a branch of 999 opened", "ms", Some("100")),
    ("tree_filter", "filtered by a letter more, the longest of six", "ms", Some("100")),
    ("tree_move", "a place moved until it is seen there", "ms", Some("100")),
    ("tree_after", "longest task while a move of somebody else comes in", "ms", Some("50")),
];

/// Frames and long tasks of the interface in a real browser. Needs the packages of `e2e`.
fn browser(figures: &mut Figures, port: u16, part: &str, title: &str) -> Result<()> {
    let e2e = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../e2e");
    let output = Command::new("npx")
        .args(["--no-install", "playwright", "test", "--config", "bench.config.ts", "--grep", part])
        .current_dir(e2e)
        .env("HAVREL_BENCH_URL", format!("http://127.0.0.1:{port}"))
        .output()?;
    let text = String::from_utf8_lossy(&output.stdout);
    let told: Vec<Json> =
        text.lines().filter_map(|l| l.strip_prefix("figures ")).filter_map(|l| serde_json::from_str(l).ok()).collect();
    if told.is_empty() || !output.status.success() {
        return Err(format!("the browser did not measure all:\n{text}").into());
    }
    for (key, words, unit, goal) in SEEN {
        if let Some(value) = told.iter().find_map(|t| t[key].as_f64()) {
            figures.add(&format!("{title}: {words}"), value, unit, goal);
        }
    }
    Ok(())
}
