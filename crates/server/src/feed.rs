//! What the live feed says. The front end's types are made from these.

use crate::api::{alarms::EventView, values::ValueView};
use havrel_link::LinkState;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap};
use utoipa::ToSchema;
use uuid::Uuid;

/// One message of the feed; what has not changed is left out.
#[derive(Serialize, ToSchema)]
pub struct FeedMessage {
    /// Counts the messages of this socket; the browser answers with it.
    pub n: u64,
    pub now: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub values: Vec<ValueView>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub alarms: Option<FeedAlarms>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub revision: Option<i64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub status: Option<Status>,
    /// The session has ended: nothing more comes.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub ended: bool,
}

/// What happened to alarms.
#[derive(Serialize, ToSchema)]
pub struct FeedAlarms {
    pub epoch: Uuid,
    pub last: u64,
    /// Events cannot be given one by one: read the list anew.
    pub anew: bool,
    pub events: Vec<EventView>,
}

/// How the server is.
#[derive(Serialize, ToSchema)]
pub struct Status {
    pub database_ok: bool,
    pub database_since: String,
    /// What the database says when it takes nothing; empty while it does.
    pub database_trouble: String,
    /// Parts of the program that do not run at present, in words.
    pub faults: Vec<String>,
    pub spool_frames: usize,
    pub spool_bytes: u64,
    pub spool_room: u64,
    pub spool_oldest: String,
    pub spool_trouble: String,
    pub lost: u64,
    /// Tags that are bad now, by place.
    pub bad: HashMap<Uuid, usize>,
    pub by_hand: ByHandCount,
    pub connections: HashMap<Uuid, ConnectionStatus>,
    /// Work that goes on by itself.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub jobs: Vec<JobStatus>,
}

/// How far a job is.
#[derive(Serialize, ToSchema)]
pub struct JobStatus {
    pub id: Uuid,
    pub title: String,
    pub done: u64,
    pub total: u64,
}

/// How a connection is.
#[derive(Serialize, ToSchema)]
pub struct ConnectionStatus {
    pub state: ConnectionState,
    pub since: String,
    pub message: String,
    pub cure: String,
    pub round_trip_us: u64,
    pub p50_us: u64,
    pub p95_us: u64,
    pub requests: u64,
    pub values: u64,
    /// Values a second.
    pub rate: f64,
    pub errors: u64,
    pub errors_by_kind: BTreeMap<String, u64>,
    pub overruns: u64,
    pub reconnects: u64,
    pub answered: String,
    /// Time of the oldest current value among its tags; empty where there is none.
    pub oldest: String,
    /// Which address is in use, and since when.
    pub path: usize,
    pub path_since: String,
    /// How many values that the device recorded itself were brought in so far; none goes on without.
    pub filling: Option<u64>,
    /// What was found out about the device and is worked around, in sentences.
    pub learnt: Vec<String>,
}

/// How a connection stands.
#[derive(Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ConnectionState {
    Off,
    Connecting,
    Running,
    Trouble,
}

impl From<LinkState> for ConnectionState {
    fn from(state: LinkState) -> ConnectionState {
        match state {
            LinkState::Off => ConnectionState::Off,
            LinkState::Connecting => ConnectionState::Connecting,
            LinkState::Running => ConnectionState::Running,
            LinkState::Trouble => ConnectionState::Trouble,
        }
    }
}

/// Values set by hand.
#[derive(Serialize, ToSchema)]
pub struct ByHandCount {
    /// How many there are.
    pub count: usize,
    /// Rises when the list of them changes.
    pub version: u64,
}

impl From<(usize, u64)> for ByHandCount {
    fn from((count, version): (usize, u64)) -> ByHandCount {
        ByHandCount { count, version }
    }
}
