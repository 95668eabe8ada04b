//! Device protocols behind one trait: one folder each, pure codecs beside the sockets.
//!
//! A [`Driver`] runs one task per connection. It owns its rhythm, turns what it reads into batches of samples, and tells
//! its health. Whatever a device does (nothing, nonsense, half an answer) becomes a quality and a sentence, never a panic.

pub mod error;
pub mod health;
pub mod modbus;
pub mod plain;
pub mod signal;
pub mod tls;
pub mod traffic;
mod unserved;

pub use error::LinkError;
pub use health::{Health, LinkState};

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
use uuid::Uuid;

/// One tag of a connection, for its driver.
#[derive(Clone, Debug, PartialEq)]
pub struct PointPlan {
    pub tag: TagNo,
    /// The driver's own fields; what stands in a block is worked out already.
    pub point: Own,
    pub scaling: Option<Scaling>,
    /// Its polling group, if not the connection's own rhythm.
    pub group: Option<Uuid>,
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
    /// Reads these tags now and answers with the bytes they are made of.
    Raw { tags: Vec<TagNo>, reply: oneshot::Sender<Result<Vec<RawValue>, LinkError>> },
    /// Takes another address of the device into use.
    TakePath { path: usize, reply: oneshot::Sender<Result<(), LinkError>> },
}

/// A tag from its bytes up.
#[derive(Clone, Debug, PartialEq)]
pub struct RawValue {
    pub tag: TagNo,
    pub bytes: Vec<u8>,
    pub decoded: Option<Value>,
    /// In engineering units.
    pub scaled: Option<Value>,
    /// Why it could not be read or decoded; empty where it could.
    pub words: String,
}

impl RawValue {
    /// Of a tag that is not made of bytes.
    pub(crate) fn none(tag: TagNo) -> RawValue {
        RawValue { tag, bytes: Vec::new(), decoded: None, scaled: None, words: "It is not made of bytes.".into() }
    }
}

/// How a running connection hangs together with the rest.
pub struct Ports {
    /// What to do; the connection ends when its sender goes away.
    pub plan: watch::Receiver<Arc<LinkPlan>>,
    pub batches: mpsc::Sender<Batch>,
    pub commands: mpsc::Receiver<Command>,
    pub health: watch::Sender<Health>,
    pub tap: traffic::Tap,
}

/// What a point takes of its device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Occupied {
    /// Which linear space, in words: “unit 1 holding”.
    pub space: String,
    pub start: u32,
    pub count: u32,
    /// First bit and how many, where it takes only some bits.
    pub bits: Option<(u8, u8)>,
}

/// Another way to read an address as it is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OtherReading {
    /// As it would go on the wire.
    pub shown: String,
    /// How to write it so that only this is meant.
    pub write: String,
    pub why: String,
}

/// One rung of a test: what was tried, what came back, what usually mends it.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct TestStep {
    pub name: String,
    pub tried: String,
    pub passed: bool,
    pub answer: String,
    pub cure: String,
    /// What the settings could take over so that it passes.
    pub offer: Option<Offer>,
    pub took_us: u64,
}

/// Something found out by a test that a setting could hold.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Offer {
    /// Of the connection's settings.
    pub field: &'static str,
    pub value: String,
    /// What taking it does.
    pub words: &'static str,
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
    pub kind: &'static str,
    /// The `order` a point would have.
    pub order: &'static str,
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

    /// What a point takes of its device's addresses; `None` where it is wrong, or the kind has no such thing.
    fn occupies(&self, _connection: &Connection, _point: &Own) -> Option<Occupied> {
        None
    }

    /// In which other ways the address of a point can be read.
    fn other_readings(&self, _connection: &Connection, _point: &Own) -> Vec<OtherReading> {
        Vec::new()
    }

    /// Every address under which the device is reached, the first before the spare ones.
    fn paths(&self, _connection: &Connection) -> Vec<String> {
        Vec::new()
    }

    /// Serves a connection until its plan's sender goes away.
    async fn run(&self, ports: Ports);
}

/// The driver of a connection kind.
pub fn driver(kind: &str) -> Option<Arc<dyn Driver>> {
    match kind {
        modbus::KIND => Some(Arc::new(modbus::Modbus)),
        signal::KIND => Some(Arc::new(signal::Signals)),
        _ => plain::Plain::of(kind).map(|plain| Arc::new(plain) as Arc<dyn Driver>),
    }
}

/// The same; for a kind that none serves, one that says so.
pub fn driver_or_words(kind: &str) -> Arc<dyn Driver> {
    driver(kind).unwrap_or_else(|| Arc::new(unserved::Unserved))
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
