//! Devices for the tests, and a connection run against them.

use havrel_core::{
    TagNo,
    arrival::Arrival,
    plant::{Connection, Own},
    quality::Reason,
    sample::{Batch, Value},
};
use havrel_link::{
    Announcer, Ask, Children, Command, Health, Identities, Identity, LinkError, LinkPlan, LinkState, NothingLeaves, Outgoing,
    PointPlan, Ports, TestStep, kind, now, runner, traffic::Tap,
};
use serde_json::{Value as Json, json};
use std::{
    future::Future,
    os::unix::fs::PermissionsExt as _,
    path::Path,
    sync::{Arc, OnceLock},
    time::Duration,
};
use tempfile::TempDir;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpListener, TcpStream},
    sync::{mpsc, oneshot, watch},
    task::JoinHandle,
    time::timeout,
};
use uuid::Uuid;

/// Longer than anything here takes, so that a failure is a failure and not a slow machine.
pub const LONG: Duration = Duration::from_secs(20);

pub fn own(value: Json) -> Own {
    value.as_object().unwrap().clone()
}

/// A connection to a port of the loopback: read every 100 ms, 200 ms for an answer.
pub fn connection(port: u16, settings: Json) -> Connection {
    let mut all = json!({"host": "127.0.0.1", "port": port, "base": 0});
    all.as_object_mut().unwrap().extend(own(settings));
    let set = json!({"name": "c", "kind": "modbus", "interval_ms": 100, "timeout_ms": 200, "writing": true, "settings": all});
    serde_json::from_value(set).unwrap()
}

pub fn point(tag: TagNo, address: &str, kind: &str) -> PointPlan {
    let length = if kind == "text" { 8 } else { 1 };
    at(tag, json!({"address": address, "type": kind, "length": length}))
}

/// A tag with these fields for its point.
pub fn at(tag: TagNo, point: Json) -> PointPlan {
    PointPlan { tag, point: own(point), scaling: None, group: None }
}

/// The certificate of this installation, the same in all tests.
struct Ours;

impl Identities for Ours {
    fn folder(&self) -> &Path {
        static FOLDER: OnceLock<TempDir> = OnceLock::new();
        FOLDER
            .get_or_init(|| {
                let folder = tempfile::tempdir().unwrap();
                // A broker that root starts runs as another user, who must be able to pass.
                std::fs::set_permissions(folder.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
                folder
            })
            .path()
    }

    fn identity(&self) -> Result<Arc<Identity>, LinkError> {
        static MADE: OnceLock<Arc<Identity>> = OnceLock::new();
        Ok(MADE.get_or_init(|| Arc::new(Identity::make(&["localhost".to_owned()], now()).unwrap())).clone())
    }
}

/// A connection that runs.
pub struct Running {
    pub plan: watch::Sender<Arc<LinkPlan>>,
    pub batches: mpsc::Receiver<Batch>,
    pub commands: mpsc::Sender<Command>,
    pub health: watch::Receiver<Health>,
    /// What it announced.
    pub arrivals: mpsc::Receiver<(Uuid, Arrival)>,
    pub tap: Tap,
    task: JoinHandle<()>,
}

pub fn run(connection: Connection, points: Vec<PointPlan>) -> Running {
    sending(connection, points, Arc::new(NothingLeaves::default()))
}

/// The same for one through which messages leave.
pub fn sending(connection: Connection, points: Vec<PointPlan>, outgoing: Arc<dyn Outgoing>) -> Running {
    let kind = connection.kind.clone();
    let (plan, plan_in) = watch::channel(Arc::new(LinkPlan { connection, points, orders: Vec::new(), topics: Vec::new() }));
    let (batches_out, batches) = mpsc::channel(256);
    let (commands, commands_in) = mpsc::channel(8);
    let (health_out, health) = watch::channel(Health::new(LinkState::Connecting));
    let (announced, arrivals) = mpsc::channel(256);
    let tap = Tap::default();
    let ports = Ports {
        plan: plan_in,
        batches: batches_out,
        commands: commands_in,
        health: health_out,
        tap: tap.clone(),
        announcer: Announcer::new(Uuid::new_v4(), announced, mpsc::channel(1).0),
        outgoing,
        identities: Arc::new(Ours),
    };
    let task = tokio::spawn(async move { runner(&kind).run(ports).await });
    Running { plan, batches, commands, health, arrivals, tap, task }
}

impl Running {
    /// Waits for the first sample of a tag that `wanted` likes.
    pub async fn until(&mut self, tag: TagNo, mut wanted: impl FnMut(&Option<Value>, Reason) -> bool) -> (Option<Value>, Reason) {
        let search = async {
            loop {
                let batch = self.batches.recv().await.expect("the connection goes on");
                for sample in batch.samples.iter().filter(|s| s.tag == tag) {
                    let (value, reason) = (batch.value_of(*sample), sample.quality.reason());
                    if wanted(&value, reason) {
                        return (value, reason);
                    }
                }
            }
        };
        timeout(LONG, search).await.expect("a sample comes in time")
    }

    pub async fn value(&mut self, tag: TagNo) -> Value {
        self.until(tag, |value, reason| value.is_some() && reason == Reason::Fine).await.0.unwrap()
    }

    /// Writes a value and gives what the device then holds.
    pub async fn write(&self, tag: TagNo, value: Value) -> Result<Value, LinkError> {
        let (reply, answer) = oneshot::channel();
        self.commands.send(Command::Write { tag, value, reply }).await.unwrap();
        timeout(LONG, answer).await.expect("an answer comes").unwrap()
    }

    /// Looks at what lies below a node, from an address on.
    pub async fn browse(&self, node: &str, from: u16, most: usize) -> Result<Children, LinkError> {
        timeout(LONG, self.ask(node, from, most).await).await.expect("an answer comes").unwrap()
    }

    /// The same; the answer comes later.
    pub async fn ask(&self, node: &str, from: u16, most: usize) -> oneshot::Receiver<Result<Children, LinkError>> {
        let (reply, answer) = oneshot::channel();
        let ask = Ask { node: node.into(), cursor: from.to_string(), most };
        self.commands.send(Command::Browse { ask, reply }).await.unwrap();
        answer
    }

    pub async fn state(&mut self, wanted: LinkState) -> Health {
        timeout(LONG, self.health.wait_for(|h| h.state == wanted)).await.expect("the state comes in time").unwrap().clone()
    }

    /// Breaks off in the middle of whatever it does.
    pub fn abort(self) {
        self.task.abort();
    }

    /// Ends the connection as deleting it does: its plan goes away.
    pub async fn end(self) {
        drop(self.plan);
        drop(self.batches);
        timeout(LONG, self.task).await.expect("it ends by itself").unwrap();
    }
}

/// Every step of a test.
pub async fn test(connection: &Connection) -> Vec<TestStep> {
    let (steps, mut received) = mpsc::channel(16);
    let tester = kind(&connection.kind).unwrap().tester().unwrap();
    let collect = async {
        let mut all = Vec::new();
        while let Some(step) = received.recv().await {
            all.push(step);
        }
        all
    };
    timeout(LONG, async { tokio::join!(tester.test(connection, Arc::new(Ours), steps), collect).1 }).await.expect("the test ends")
}

pub fn names(steps: &[TestStep]) -> Vec<(&str, bool)> {
    steps.iter().map(|s| (s.name.as_str(), s.passed)).collect()
}

/// A server that hands each connection to `serve`.
pub async fn listen<F, S>(serve: S) -> u16
where
    S: Fn(TcpStream) -> F + Send + 'static,
    F: Future<Output = ()> + Send + 'static,
{
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            tokio::spawn(serve(stream));
        }
    });
    port
}

/// A request as it came: transaction, unit, function, address, count or value.
#[derive(Clone, Copy, Debug)]
pub struct Asked {
    pub transaction: u16,
    pub unit: u8,
    pub function: u8,
    pub start: u16,
    pub count: u16,
}

pub async fn ask(stream: &mut TcpStream) -> Option<Asked> {
    let mut head = [0; 12];
    stream.read_exact(&mut head).await.ok()?;
    let word = |i: usize| u16::from_be_bytes([head[i], head[i + 1]]);
    // What follows a write of several registers is of no interest here.
    let rest = usize::from(word(4)).saturating_sub(6);
    let mut skipped = vec![0; rest];
    stream.read_exact(&mut skipped).await.ok()?;
    Some(Asked { transaction: word(0), unit: head[6], function: head[7], start: word(8), count: word(10) })
}

/// Sends an answer with this body (function code and what follows).
pub async fn answer(stream: &mut TcpStream, asked: Asked, body: &[u8]) -> bool {
    let mut bytes = Vec::from(asked.transaction.to_be_bytes());
    bytes.extend([0, 0]);
    bytes.extend((body.len() as u16 + 1).to_be_bytes());
    bytes.push(asked.unit);
    bytes.extend(body);
    stream.write_all(&bytes).await.is_ok()
}

/// Registers that hold their own address.
pub fn registers(asked: Asked) -> Vec<u8> {
    let words = (asked.start..asked.start + asked.count).flat_map(u16::to_be_bytes);
    [asked.function, (asked.count * 2) as u8].into_iter().chain(words).collect()
}
