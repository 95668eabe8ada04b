//! MQTT: our driver against a bare client on the same library that only counts, both behind the same broker on the same cores.

use crate::{Figures, Result, nodes::Nobody};
use bytes::BytesMut;
use havrel_core::{plant::Connection, time::MILLI};
use havrel_link::{Announcer, Health, LinkPlan, LinkState, NothingLeaves, PointPlan, Ports, now, runner, traffic::Tap};
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
    time::timeout,
};

/// Topics, and messages that are sent on them in turn.
const TOPICS: usize = 100;
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
            Form::Json => ["/power", "/energy", "/voltage", "/on"]
                .into_iter()
                .map(|member| json!({"topic": topic, "member": member, "time": "/ts", "clock": "milliseconds"}))
                .collect(),
        }
    }
}

/// Sends all messages, made before, as fast as the broker takes them.
async fn send(at: SocketAddr, form: Form, topics: usize, count: usize) -> Result<()> {
    let mut bytes = BytesMut::new();
    Connect::new("bench-sender").write(&mut bytes)?;
    let mut stream = TcpStream::connect(at).await?;
    stream.write_all(&bytes).await?;
    let mut answer = [0; 4];
    stream.read_exact(&mut answer).await?;
    bytes.clear();
    for n in 0..count {
        Publish::new(format!("bench/{}", n % topics), QoS::AtMostOnce, form.payload(n)).write(&mut bytes)?;
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
    let mut options = MqttOptions::new("bench-bare", at.ip().to_string(), at.port());
    options.set_keep_alive(Duration::from_secs(60));
    let (client, mut polled) = AsyncClient::new(options, 10);
    client.subscribe("bench/#", QoS::AtMostOnce).await?;
    while !matches!(polled.poll().await?, Event::Incoming(Packet::SubAck(_))) {}
    let sending = tokio::spawn(send(at, form, TOPICS, MESSAGES));
    let mut counted = Counted::default();
    while counted.messages < MESSAGES {
        if let Event::Incoming(Packet::Publish(_)) = polled.poll().await? {
            counted.add(1);
        }
    }
    sending.abort();
    Ok(counted.rate())
}

/// How much came, and in which time.
#[derive(Default)]
struct Counted {
    messages: usize,
    first: Option<Instant>,
    last: Option<Instant>,
}

impl Counted {
    fn add(&mut self, messages: usize) {
        let at = Instant::now();
        self.first.get_or_insert(at);
        self.last = Some(at);
        self.messages += messages;
    }

    fn rate(&self) -> f64 {
        let (Some(first), Some(last)) = (self.first, self.last) else { return 0.0 };
        self.messages as f64 / (last - first).as_secs_f64()
    }
}

/// Messages a second that become values of tags, and how many of all did.
async fn ours(at: SocketAddr, form: Form, topics: usize, count: usize) -> Result<(f64, f64)> {
    let settings = json!({"host": at.ip().to_string(), "port": at.port(), "qos": 0});
    let set = json!({"name": "bench", "kind": "mqtt", "timeout_ms": 5000, "settings": settings});
    let connection: Connection = serde_json::from_value(set)?;
    let all = (0..topics).flat_map(|n| form.points(&format!("bench/{n}")));
    let point = |(tag, point): (u32, serde_json::Value)| PointPlan {
        tag,
        point: point.as_object().cloned().unwrap_or_default(),
        scaling: None,
        group: None,
    };
    let points: Vec<PointPlan> = (1..).zip(all).map(point).collect();
    let each = points.len() / topics;
    let (plan, plan_in) = watch::channel(Arc::new(LinkPlan { connection, points, orders: Vec::new() }));
    let (batches_out, mut batches) = mpsc::channel(256);
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
    let running = tokio::spawn(async move { runner("mqtt").run(ports).await });
    // Every topic is granted once all tags say that nothing came yet.
    let mut waiting = topics * each;
    while waiting > 0 {
        let batch = timeout(Duration::from_secs(60), batches.recv()).await?.ok_or("the connection ended")?;
        waiting -= waiting.min(batch.samples.len());
    }
    let sending = tokio::spawn(send(at, form, topics, count));
    let mut counted = Counted::default();
    while counted.messages < count * each {
        let Ok(Some(batch)) = timeout(QUIET, batches.recv()).await else { break };
        let values = batch.samples.iter().filter(|s| batch.value_of(**s).is_some()).count();
        counted.add(values);
    }
    sending.abort();
    drop((plan, commands));
    running.abort();
    Ok((counted.rate() / each as f64, counted.messages as f64 / (count * each) as f64))
}

pub async fn measure(figures: &mut Figures) -> Result<()> {
    let more = "max_queued_messages 0\nset_tcp_nodelay true";
    let broker = Broker::start(&Setup { open: true, more, ..Setup::default() })?;
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
