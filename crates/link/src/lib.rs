//! Device protocols behind one trait: one folder each, pure codecs beside the sockets.
//!
//! A [`Driver`] runs one task per connection. It owns its rhythm, turns what it reads into batches of samples, and tells
//! its health. Whatever a device does (nothing, nonsense, half an answer) becomes a quality and a sentence, never a panic.

pub mod error;
pub mod modbus;

pub use error::LinkError;

use async_trait::async_trait;
use havrel_core::{
    TagNo,
    plant::{Connection, Own, Tag},
    sample::{Batch, Value},
    scale::Scaling,
    time::Nanos,
};
use serde::Serialize;
use std::{
    sync::Arc,
    time::{SystemTime, UNIX_EPOCH},
};
use tokio::sync::{mpsc, oneshot, watch};

/// One tag of a connection, for its driver.
#[derive(Clone, Debug, PartialEq)]
pub struct PointPlan {
    pub tag: TagNo,
    pub point: Own,
    pub scaling: Option<Scaling>,
}

/// All that a driver must know of its connection; compared to see whether an edit touches it.
#[derive(Clone, Debug, PartialEq)]
pub struct LinkPlan {
    pub connection: Connection,
    pub points: Vec<PointPlan>,
}

/// Something for a running connection to do between its polls.
#[derive(Debug)]
pub enum Command {
    /// Writes a value in engineering units and answers with what the device then holds. Never repeated by itself.
    Write { tag: TagNo, value: Value, reply: oneshot::Sender<Result<Value, LinkError>> },
    /// Looks at what is there, over the connection that is already open.
    Browse { request: Own, reply: oneshot::Sender<Result<Page, LinkError>> },
}

/// How a connection fares.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum LinkState {
    Off,
    Connecting,
    Running,
    Trouble,
}

/// A connection's health, as it stands now. Counters run since the program started.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Health {
    pub state: LinkState,
    pub since: Nanos,
    /// What is wrong, and what usually mends it; empty while nothing is.
    pub message: String,
    pub cure: String,
    /// Duration of the last request in microseconds.
    pub round_trip_us: u64,
    pub requests: u64,
    pub values: u64,
    pub errors: u64,
    /// Polls left out because the one before took too long.
    pub overruns: u64,
    pub reconnects: u64,
    /// When the device answered last; 0 if never.
    pub answered: Nanos,
}

impl Health {
    /// Before anything was tried.
    pub fn new(state: LinkState) -> Health {
        Health {
            state,
            since: now(),
            message: String::new(),
            cure: String::new(),
            round_trip_us: 0,
            requests: 0,
            values: 0,
            errors: 0,
            overruns: 0,
            reconnects: 0,
            answered: 0,
        }
    }

    /// Moves to a state; `since` moves only where the state does.
    pub(crate) fn enter(&mut self, state: LinkState, trouble: Option<&LinkError>) {
        if self.state != state {
            self.state = state;
            self.since = now();
        }
        self.message = trouble.map(ToString::to_string).unwrap_or_default();
        self.cure = trouble.map(|e| e.cure().to_owned()).unwrap_or_default();
    }
}

/// One rung of a test: what was tried, what came back, what usually mends it.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct TestStep {
    pub name: String,
    pub tried: String,
    pub passed: bool,
    pub answer: String,
    pub cure: String,
    pub took_us: u64,
}

/// Something found by browsing, with its contents in every reading that makes sense.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Found {
    /// As it goes on the wire.
    pub label: String,
    /// As manuals write it.
    pub manual: String,
    /// Why the device did not give it; empty where it did.
    pub refused: String,
    pub readings: Vec<Reading>,
}

/// One interpretation of found contents.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Reading {
    /// The `type` a point would have.
    pub kind: String,
    pub text: String,
}

/// A page of found things.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Page {
    pub read_at: Nanos,
    pub items: Vec<Found>,
}

/// A device protocol.
#[async_trait]
pub trait Driver: Send + Sync {
    /// The connection kind it serves.
    fn kind(&self) -> &'static str;

    /// What is wrong with a connection's settings: field and sentence.
    fn check(&self, connection: &Connection) -> Vec<(String, String)>;

    /// What is wrong with a tag's address in such a connection.
    fn check_point(&self, connection: &Connection, tag: &Tag) -> Vec<(String, String)>;

    /// A point in words, with the address as it goes on the wire.
    fn show_point(&self, connection: &Connection, point: &Own) -> Option<String>;

    /// Tries the connection step by step, stopping at the first that fails. Dropping the receiver cancels.
    async fn test(&self, connection: &Connection, steps: mpsc::Sender<TestStep>);

    /// Looks at what is there, over a connection of its own.
    async fn browse(&self, connection: &Connection, request: &Own) -> Result<Page, LinkError>;

    /// Serves a connection until its plan's sender goes away.
    async fn run(
        &self,
        plan: watch::Receiver<Arc<LinkPlan>>,
        batches: mpsc::Sender<Batch>,
        commands: mpsc::Receiver<Command>,
        health: watch::Sender<Health>,
    );
}

/// The driver of a connection kind.
pub fn driver(kind: &str) -> Option<Arc<dyn Driver>> {
    (kind == modbus::KIND).then(|| Arc::new(modbus::Modbus) as Arc<dyn Driver>)
}

/// Checks settings with the drivers, for the one door of the configuration.
pub struct Drivers;

impl havrel_core::plant::SourceCheck for Drivers {
    fn connection(&self, connection: &Connection) -> Vec<(String, String)> {
        match driver(&connection.kind) {
            Some(driver) => driver.check(connection),
            None => vec![("kind".into(), format!("There is no connection kind “{}”.", connection.kind))],
        }
    }

    fn point(&self, connection: &Connection, tag: &Tag) -> Vec<(String, String)> {
        driver(&connection.kind).map(|d| d.check_point(connection, tag)).unwrap_or_default()
    }
}

/// The time of this machine.
pub fn now() -> Nanos {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| i64::try_from(d.as_nanos()).unwrap_or(i64::MAX))
}
