//! MQTT: our driver against a bare client on the same library that only counts, both behind the same broker on the same cores.

use crate::{
    Figures, Result,
    nodes::Nobody,
    plant::{TOPICS, members},
};
use bytes::BytesMut;
use havrel_core::{plant::Connection, sample::Batch, time::MILLI};
use havrel_link::{Announcer, Command, Health, LinkPlan, LinkState, NothingLeaves, PointPlan, Ports, now, runner, traffic::Tap};
use havrel_standin::utilities::broker::{Broker, Setup};
use rumqttc::{AsyncClient, Connect, Event, MqttOptions, Packet, Publish, QoS};
use serde_json::json;
use std::{
    net::SocketAddr,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
    sync::{mpsc, watch},
    time::{interval, timeout},
};

/// Messages that are sent on all topics in turn.
const MESSAGES: usize = 300_000;
/// Topics of a connection that hears many.
const MANY: usize = 10_000;
/// After so long without a message nothing more comes.
const QUIET: Duration = Duration::from_secs(3);

/// What is sent on a topic.
#[derive(Clone, Copy)]
enum Form {
    Plain,
    /// A document of which four members are taken.
    Json,
}

impl Form {
    fn payload(self, n: usize) -> String {
        match self {
            Form::Plain => format!("{}.5", n % 1000),
            Form::Json => {
                json!({"ts": now() / MILLI + 1, "power": n % 1000, "energy": n, "voltage": 230.5, "on": n.is_multiple_of(2)})
                    .to_string()
            }
        }
    }

    fn points(self, topic: &str) -> Vec<serde_json::Value> {
        match self {
            Form::Plain => vec![json!({"topic": topic, "format": "number"})],
            Form::Json => members(topic),
        }
    }
}

/// Sends documents of four members for some seconds, so many each second, each of a topic with a later time.
pub async fn send_steadily(at: SocketAddr, each_second: usize, seconds: usize) -> Result<()> {
    const TURNS: usize = 20;
    let mut stream = connected(at).await?;
    let (start, mut bytes) = (now() / MILLI, BytesMut::new());
    let mut beat = interval(Duration::from_secs(1) / TURNS as u32);
    for turn in 0..seconds * TURNS {
        beat.tick().await;
        bytes.clear();
        for n in turn * each_second / TURNS..(turn + 1) * each_second / TURNS {
            let at = start + (n / TOPICS * TOPICS * 1000 / each_second) as i64;
            let document = json!({"ts": at, "power": n % 1000, "energy": n, "voltage": 230.5, "on": n.is_multiple_of(2)});
            let topic = format!("bench/{}", n % TOPICS);
            Publish::new(topic, QoS::AtMostOnce, document.to_string().into_bytes()).write(&mut bytes)?;
        }
        stream.write_all(&bytes).await?;
    }
    // The broker closes it once it has read all.
    stream.shutdown().await?;
    let _ = timeout(QUIET, stream.read_to_end(&mut Vec::new())).await;
    Ok(())
}

/// A sender that is connected.
async fn connected(at: SocketAddr) -> Result<TcpStream> {
    let mut bytes = BytesMut::new();
    Connect::new("bench-sender").write(&mut bytes)?;
    let mut stream = TcpStream::connect(at).await?;
    stream.write_all(&bytes).await?;
    let mut answer = [0; 4];
    stream.read_exact(&mut answer).await?;
    Ok(stream)
}

/// Sends messages on topics in turn.
async fn send(at: SocketAddr, form: Form, topics: usize, count: usize) -> Result<()> {
    send_all(at, (0..count).map(|n| (format!("bench/{}", n % topics), form.payload(n).into_bytes()))).await
}

/// Sends all messages, made before, as fast as the broker takes them.
pub async fn send_all(at: SocketAddr, messages: impl Iterator<Item = (String, Vec<u8>)>) -> Result<()> {
    let mut bytes = BytesMut::new();
    let mut stream = connected(at).await?;
    for (topic, payload) in messages {
        Publish::new(topic, QoS::AtMostOnce, payload).write(&mut bytes)?;
    }
    stream.write_all(&bytes).await?;
    stream.flush().await?;
    // The broker may still be reading.
    let mut rest = Vec::new();
    let _ = timeout(QUIET, stream.read_to_end(&mut rest)).await;
    Ok(())
}

/// Messages a second of a client that only counts.
async fn bare(at: SocketAddr, form: Form) -> Result<f64> {
    counting(at, "bench/#", MESSAGES, || send(at, form, TOPICS, MESSAGES)).await
}

/// Messages a second of a client that only counts those of a filter, up to so many.
pub async fn counting<F>(at: SocketAddr, filter: &str, most: usize, sending: impl FnOnce() -> F) -> Result<f64>
where
    F: Future<Output = Result<()>> + Send + 'static,
{
    let mut options = MqttOptions::new("bench-bare", at.ip().to_string(), at.port());
    options.set_keep_alive(Duration::from_secs(60));
    let (client, mut polled) = AsyncClient::new(options, 10);
    client.subscribe(filter, QoS::AtMostOnce).await?;
    while !matches!(polled.poll().await?, Event::Incoming(Packet::SubAck(_))) {}
    let sending = tokio::spawn(sending());
    let mut counted = Counted::default();
    while counted.messages < most {
        if let Event::Incoming(Packet::Publish(_)) = polled.poll().await? {
            counted.add(1);
        }
    }
    sending.abort();
    Ok(counted.rate())
}

/// How much came, and in which time.
#[derive(Default)]
pub struct Counted {
    pub messages: usize,
    first: Option<Instant>,
    last: Option<Instant>,
}

impl Counted {
    pub fn add(&mut self, messages: usize) {
        let at = Instant::now();
        self.first.get_or_insert(at);
        self.last = Some(at);
        self.messages += messages;
    }

    pub fn rate(&self) -> f64 {
        let (Some(first), Some(last)) = (self.first, self.last) else { return 0.0 };
        self.messages as f64 / (last - first).as_secs_f64()
    }
}

/// Messages a second that become values of tags, and how many of all did.
async fn ours(at: SocketAddr, form: Form, topics: usize, count: usize) -> Result<(f64, f64)> {
    let all: Vec<serde_json::Value> = (0..topics).flat_map(|n| form.points(&format!("bench/{n}"))).collect();
    let each = all.len() / topics;
    let settings = json!({"host": at.ip().to_string(), "port": at.port(), "qos": 0});
    let mut driver = Driver::start("mqtt", &settings, &all)?;
    // Every topic is granted once all tags say that nothing came yet.
    driver.samples(topics * each).await?;
    let sending = tokio::spawn(send(at, form, topics, count));
    let mut counted = Counted::default();
    driver.count(&mut counted, count * each).await;
    sending.abort();
    driver.end();
    Ok((counted.rate() / each as f64, counted.messages as f64 / (count * each) as f64))
}

/// A connection that runs for a measurement.
pub struct Driver {
    plan: watch::Sender<Arc<LinkPlan>>,
    commands: mpsc::Sender<Command>,
    batches: mpsc::Receiver<Batch>,
    running: tokio::task::JoinHandle<()>,
}

impl Driver {
    /// Runs a connection of a kind whose tags, numbered from 1, read these points.
    pub fn start(kind: &'static str, settings: &serde_json::Value, points: &[serde_json::Value]) -> Result<Driver> {
        let set = json!({"name": "bench", "kind": kind, "timeout_ms": 5000, "settings": settings});
        let connection: Connection = serde_json::from_value(set)?;
        let point = |(tag, point): (u32, &serde_json::Value)| PointPlan {
            tag,
            point: point.as_object().cloned().unwrap_or_default(),
            scaling: None,
            group: None,
        };
        let points: Vec<PointPlan> = (1..).zip(points).map(point).collect();
        let (plan, plan_in) = watch::channel(Arc::new(LinkPlan { connection, points, orders: Vec::new(), topics: Vec::new() }));
        let (batches_out, batches) = mpsc::channel(256);
        let (commands, commands_in) = mpsc::channel(8);
        let (health_out, _health) = watch::channel(Health::new(LinkState::Connecting));
        let identities = Arc::new(Nobody);
        let ports = Ports {
            plan: plan_in,
            batches: batches_out,
            commands: commands_in,
            health: health_out,
            tap: Tap::default(),
            announcer: Announcer::unheard(),
            outgoing: Arc::new(NothingLeaves::default()),
            identities,
        };
        let running = tokio::spawn(async move { runner(kind).run(ports).await });
        Ok(Driver { plan, commands, batches, running })
    }

    /// Waits for so many samples, whatever they say.
    pub async fn samples(&mut self, mut waiting: usize) -> Result<()> {
        while waiting > 0 {
            let batch = timeout(Duration::from_secs(60), self.batches.recv()).await?.ok_or("the connection ended")?;
            waiting -= waiting.min(batch.samples.len());
        }
        Ok(())
    }

    /// Counts values until there are so many, or no more come.
    pub async fn count(&mut self, counted: &mut Counted, most: usize) {
        while counted.messages < most {
            let Ok(Some(batch)) = timeout(QUIET, self.batches.recv()).await else { break };
            let values = batch.samples.iter().filter(|s| batch.value_of(**s).is_some()).count();
            counted.add(values);
        }
    }

    pub fn end(self) {
        drop((self.plan, self.commands));
        self.running.abort();
    }
}

/// A broker that takes anybody and lets nothing wait.
pub fn broker() -> Result<Broker> {
    let more = "max_queued_messages 0\nset_tcp_nodelay true";
    Ok(Broker::start(&Setup { open: true, more, ..Setup::default() })?)
}

pub async fn measure(figures: &mut Figures) -> Result<()> {
    let broker = broker()?;
    for (form, name, goal) in [
        (Form::Plain, "MQTT: messages a second, a number each", "40,000 messages/s"),
        (Form::Json, "MQTT: messages a second, four members of JSON each", "20,000 messages/s"),
    ] {
        let limit = bare(broker.address, form).await?;
        let (rate, share) = ours(broker.address, form, TOPICS, MESSAGES).await?;
        figures.ratio(name, rate, limit, "messages/s", None);
        figures.add("  of those sent became values", share, "", Some(goal));
    }
    let (rate, share) = ours(broker.address, Form::Plain, MANY, MESSAGES).await?;
    figures.add("MQTT: messages a second on 10,000 topics", rate, "messages/s", None);
    figures.add("  of those sent became values", share, "", None);
    Ok(())
}
