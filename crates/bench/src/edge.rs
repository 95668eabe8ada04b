//! Sparkplug B: our host application against a bare client on the same library that only counts, both behind the same broker on the
//! same cores.

use crate::{
    Figures, Result,
    messages::{Counted, Driver, broker, counting, send_all},
};
use havrel_core::time::MILLI;
use havrel_link::now;
use havrel_sparkplug::{
    payload::{Metric, MetricValue, Payload},
    topic::{Name, What},
};
use prost::Message as _;
use serde_json::json;
use std::{net::SocketAddr, time::Instant};

/// Metrics of the device, messages that it sends, and metrics in each of them.
const METRICS: usize = 50_000;
const MESSAGES: usize = 50_000;
const EACH: usize = 20;

fn device() -> Name {
    Name::new("Bench", "Node", "Device")
}

fn stamp() -> Option<u64> {
    u64::try_from(now() / MILLI).ok()
}

fn message(name: &Name, what: What, seq: usize, metrics: Vec<Metric>) -> (String, Vec<u8>) {
    let payload = Payload { timestamp: stamp(), seq: Some((seq % 256) as u64), metrics, ..Payload::default() };
    (name.tells(what), payload.encode_to_vec())
}

fn births() -> Vec<(String, Vec<u8>)> {
    let metric = |n: usize| Metric {
        name: Some(format!("Line {}/Value {n}", n / 100)),
        alias: Some(n as u64),
        datatype: Some(10),
        value: Some(MetricValue::Double(0.5)),
        ..Metric::default()
    };
    let own = message(&device().of_node(), What::Birth, 0, Vec::new());
    vec![own, message(&device(), What::Birth, 1, (0..METRICS).map(metric).collect())]
}

fn data() -> impl Iterator<Item = (String, Vec<u8>)> + Send {
    (0..MESSAGES).map(|n| {
        let metric = |k: usize| Metric {
            alias: Some(((n * EACH + k) % METRICS) as u64),
            timestamp: stamp(),
            value: Some(MetricValue::Double((n % 1000) as f64)),
            ..Metric::default()
        };
        message(&device(), What::Data, n + 2, (0..EACH).map(metric).collect())
    })
}

async fn ours(at: SocketAddr) -> Result<(f64, f64, f64)> {
    let point =
        |n: usize| json!({"group": "Bench", "node": "Node", "device": "Device", "metric": format!("Line {}/Value {n}", n / 100)});
    let points: Vec<_> = (0..METRICS).map(point).collect();
    let settings = json!({"host": at.ip().to_string(), "port": at.port(), "state": false});
    let mut driver = Driver::start("sparkplug", &settings, &points)?;
    // They say that no birth came yet; the broker has granted the topics long before the last of them does so.
    driver.samples(METRICS).await?;
    let began = Instant::now();
    let sending = tokio::spawn(send_all(at, births().into_iter()));
    let mut born = Counted::default();
    driver.count(&mut born, METRICS).await;
    let birth_s = began.elapsed().as_secs_f64();
    sending.abort();
    let sending = tokio::spawn(send_all(at, data()));
    let mut counted = Counted::default();
    driver.count(&mut counted, MESSAGES * EACH).await;
    sending.abort();
    driver.end();
    Ok((birth_s, counted.rate(), counted.messages as f64 / (MESSAGES * EACH) as f64))
}

pub async fn measure(figures: &mut Figures) -> Result<()> {
    let broker = broker()?;
    let at = broker.address;
    let limit = counting(at, "spBv1.0/#", MESSAGES, || send_all(at, data())).await? * EACH as f64;
    let (birth_s, rate, share) = ours(at).await?;
    figures.add("Sparkplug B: birth of a device with 50,000 metrics, all of them tags", birth_s, "s", None);
    figures.ratio("Sparkplug B: metrics a second that become values, 20 in a message", rate, limit, "metrics/s", None);
    figures.add("  of those sent became values", share, "", None);
    Ok(())
}
