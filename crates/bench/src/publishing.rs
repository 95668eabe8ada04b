//! Publishing: what `core` makes of changes, and what leaves through a broker against a bare client on the same library.

use crate::{Figures, Result, nodes::Nobody};
use havrel_core::{
    engine::Current,
    plant::{Connection, Kind, Plant, Stored},
    publish::{Message, Publisher},
    quality::Quality,
    sample::Value,
};
use havrel_link::{Announcer, Health, LinkError, LinkPlan, LinkState, Outgoing, Ports, now, runner, traffic::Tap};
use havrel_standin::utilities::broker::{Broker, Setup};
use rumqttc::{AsyncClient, Event, MqttOptions, NetworkOptions, Packet, QoS};
use serde_json::json;
use std::{
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{
    sync::{Notify, mpsc, watch},
    time::timeout,
};
use uuid::Uuid;

/// Messages that leave.
const MESSAGES: u64 = 50_000;
/// Tags of which values change, and how often each does.
const TAGS: u32 = 100_000;
const CHANGES: u32 = 3;
/// Longest wait for all confirmations.
const PATIENCE: Duration = Duration::from_secs(120);

fn payload(n: u64) -> String {
    json!({"value": n % 1000, "time": "2026-11-03T10:00:00.000000001Z", "quality": "good"}).to_string()
}

/// A queue of messages that are all there, with counts of what is done.
#[derive(Default)]
struct Full {
    given: AtomicU64,
    done: AtomicU64,
    refused: AtomicU64,
    bell: Notify,
    begun: Notify,
    all: Notify,
}

impl Outgoing for Full {
    fn open(&self) {
        self.bell.notify_one();
    }

    fn closed(&self, _: bool) {}

    fn next(&self, most: usize) -> Vec<(u64, Message)> {
        let message = |number: u64| Message {
            publication: Uuid::nil(),
            made: 0,
            topic: format!("bench/{}", number % 100),
            payload: payload(number).into_bytes(),
            qos: 1,
            retain: false,
        };
        let first = self.given.load(Ordering::Relaxed);
        if first == 0 {
            self.begun.notify_one();
        }
        let last = (first + most as u64).min(MESSAGES);
        self.given.store(last, Ordering::Relaxed);
        (first..last).map(|number| (number, message(number))).collect()
    }

    fn done(&self, _: u64, answer: std::result::Result<(), LinkError>) {
        self.refused.fetch_add(u64::from(answer.is_err()), Ordering::Relaxed);
        if self.done.fetch_add(1, Ordering::Relaxed) + 1 == MESSAGES {
            self.all.notify_one();
        }
    }

    fn bell(&self) -> &Notify {
        &self.bell
    }
}

/// Confirmed messages a second of our driver.
async fn ours(at: SocketAddr) -> Result<f64> {
    let settings = json!({"host": at.ip().to_string(), "port": at.port()});
    let connection: Connection =
        serde_json::from_value(json!({"name": "bench", "kind": "mqtt", "timeout_ms": 5000, "settings": settings}))?;
    let (plan, plan_in) =
        watch::channel(Arc::new(LinkPlan { connection, points: Vec::new(), orders: Vec::new(), topics: Vec::new() }));
    let (batches, _batches) = mpsc::channel(16);
    let (commands, commands_in) = mpsc::channel(8);
    let (health, _health) = watch::channel(Health::new(LinkState::Connecting));
    let queue = Arc::new(Full::default());
    let ports = Ports {
        plan: plan_in,
        batches,
        commands: commands_in,
        health,
        tap: Tap::default(),
        announcer: Announcer::unheard(),
        outgoing: queue.clone(),
        identities: Arc::new(Nobody),
    };
    let running = tokio::spawn(async move { runner("mqtt").run(ports).await });
    timeout(PATIENCE, queue.begun.notified()).await?;
    let began = Instant::now();
    timeout(PATIENCE, queue.all.notified()).await?;
    let rate = MESSAGES as f64 / began.elapsed().as_secs_f64();
    drop((plan, commands));
    running.abort();
    match queue.refused.load(Ordering::Relaxed) {
        0 => Ok(rate),
        refused => Err(format!("{refused} messages were refused").into()),
    }
}

/// The same of a client that only publishes and counts confirmations.
async fn bare(at: SocketAddr) -> Result<f64> {
    let mut options = MqttOptions::new("bench-bare", at.ip().to_string(), at.port());
    options.set_inflight(100);
    let (client, mut polled) = AsyncClient::new(options, 16);
    let mut network = NetworkOptions::new();
    network.set_tcp_nodelay(true);
    polled.set_network_options(network);
    while !matches!(polled.poll().await?, Event::Incoming(Packet::ConnAck(_))) {}
    let began = Instant::now();
    let sending = tokio::spawn(async move {
        for n in 0..MESSAGES {
            if client.publish(format!("bench/{}", n % 100), QoS::AtLeastOnce, false, payload(n)).await.is_err() {
                return;
            }
        }
        // The client must outlast its last message.
        std::future::pending::<()>().await;
    });
    let mut confirmed = 0;
    while confirmed < MESSAGES {
        if let Event::Incoming(Packet::PubAck(_)) = polled.poll().await? {
            confirmed += 1;
        }
    }
    sending.abort();
    Ok(MESSAGES as f64 / began.elapsed().as_secs_f64())
}

/// Messages a second that are made of changes, each tag on its own topic.
fn made() -> Result<f64> {
    let (place, connection) = (Uuid::now_v7(), Uuid::now_v7());
    let item = |kind, no: u32, set: serde_json::Value, id: Uuid| Stored {
        kind,
        id,
        no,
        revision: 1,
        own: set.as_object().cloned().unwrap_or_default(),
    };
    let set = json!({"name": "Out", "connection": connection, "places": [place], "topic": "bench/{path}", "plain": true,
        "payload": "{\"value\": \"{value}\", \"time\": \"{time}\", \"quality\": \"{quality}\"}"});
    let mut stored = vec![
        item(Kind::Place, 0, json!({"name": "Works"}), place),
        item(Kind::Connection, 0, json!({"name": "Broker", "kind": "mqtt"}), connection),
        item(Kind::Publication, 0, set, Uuid::now_v7()),
    ];
    stored.extend((1..=TAGS).map(|no| item(Kind::Tag, no, json!({"name": format!("T {no}"), "place": place}), Uuid::now_v7())));
    let (plant, broken) = Plant::from_stored(1, stored);
    if let Some((_, words)) = broken.first() {
        return Err(words.clone().into());
    }
    let mut publisher = Publisher::of(&Arc::new(plant), connection, now());
    let mut out = Vec::new();
    let began = Instant::now();
    let mut count = 0;
    for round in 1..=CHANGES {
        for tag in 1..=TAGS {
            let at = now();
            let value = Some(Value::F64(f64::from(tag + round) / 10.0));
            let current = Current { value, time: at, quality: Quality::GOOD, told: at, ..Current::UNREAD };
            publisher.take(tag, &current, at, &mut out);
        }
        count += out.len();
        out.clear();
    }
    if count != (TAGS * CHANGES) as usize {
        return Err(format!("{count} messages were made of {} changes", TAGS * CHANGES).into());
    }
    Ok(count as f64 / began.elapsed().as_secs_f64())
}

pub async fn measure(figures: &mut Figures) -> Result<()> {
    figures.add("Publishing: messages a second made of changes of 100,000 tags", made()?, "messages/s", None);
    let more = "max_queued_messages 0\nset_tcp_nodelay true";
    let broker = Broker::start(&Setup { open: true, more, ..Setup::default() })?;
    let limit = bare(broker.address).await?;
    let rate = ours(broker.address).await?;
    figures.ratio("Publishing: messages a second confirmed by the broker", rate, limit, "messages/s", None);
    Ok(())
}
