//! What a running connection is given and gives.

use crate::{Ask, Children, Health, Identities, LinkError, announced::Announced, served::Served, traffic::Tap};
use async_trait::async_trait;
use havrel_core::{
    TagNo,
    arrival::{Arrival, Mapping},
    notice::Notice,
    plant::{Connection, Own},
    publish::Message,
    quality::Quality,
    sample::{Batch, Value},
    scale::Scaling,
    time::Nanos,
};
use std::sync::Arc;
use tokio::sync::{Notify, mpsc, oneshot, watch};
use uuid::Uuid;

/// Runs connections.
#[async_trait]
pub trait Runner: Send + Sync {
    /// Serves a connection in its own rhythm until its plan's sender goes away.
    async fn run(&self, ports: Ports);
}

/// Where a value is read, for a runner.
#[derive(Clone, Debug, PartialEq)]
pub struct PointPlan {
    /// The tag it is read for.
    pub tag: TagNo,
    /// The kind's own fields; what stands in a block is worked out already.
    pub point: Own,
    pub scaling: Option<Scaling>,
    /// Its polling group, if not the connection's own rhythm.
    pub group: Option<Uuid>,
}

/// All that a runner must know of its connection; compared to see whether an edit touches it.
#[derive(Clone, Debug, PartialEq)]
pub struct LinkPlan {
    pub connection: Connection,
    pub points: Vec<PointPlan>,
    /// Topics on which others write to tags, sorted.
    pub orders: Vec<String>,
    /// Topics on which values leave, sorted; only for a kind that announces what it sends.
    pub topics: Vec<String>,
}

impl LinkPlan {
    /// Every tag with a quality and no value.
    pub(crate) fn marked(&self, at: Nanos, quality: Quality) -> Batch {
        let mut marks = Batch::default();
        self.points.iter().for_each(|p| marks.push_quality(p.tag, at, quality));
        marks
    }
}

/// A message on a topic on which others write.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Received {
    pub topic: String,
    pub payload: Vec<u8>,
    /// Why it may be older than it looks, and is not carried out, as a sentence.
    pub late: Option<&'static str>,
}

/// Tells of what a connection met by itself.
#[derive(Clone, Debug)]
pub struct Announcer {
    connection: Uuid,
    to: mpsc::Sender<(Uuid, Arrival)>,
    orders: mpsc::Sender<(Uuid, Received)>,
}

impl Announcer {
    /// For a connection, into queues that all share.
    pub fn new(connection: Uuid, to: mpsc::Sender<(Uuid, Arrival)>, orders: mpsc::Sender<(Uuid, Received)>) -> Announcer {
        Announcer { connection, to, orders }
    }

    /// Of which connection.
    pub fn connection(&self) -> Uuid {
        self.connection
    }

    /// For a connection of which nobody hears.
    pub fn unheard() -> Announcer {
        Announcer::new(Uuid::nil(), mpsc::channel(1).0, mpsc::channel(1).0)
    }

    /// Announces an arrival. `false`: there was no room, and it must be announced again.
    #[must_use]
    pub fn tell(&self, arrival: Arrival) -> bool {
        self.to.try_send((self.connection, arrival)).is_ok()
    }

    /// Hands on a message by which somebody writes. `false`: there was no room, and it is left out.
    #[must_use]
    pub fn order(&self, received: Received) -> bool {
        self.orders.try_send((self.connection, received)).is_ok()
    }
}

/// Messages that wait to leave through a connection, in their order. Each is given with a number and counts as sent once that is
/// done; after a break what is not done is given again.
pub trait Outgoing: Send + Sync {
    /// A session is open: everything that is not done is given again from now on.
    fn open(&self);

    /// The session is over; `broke`: nobody here ended it.
    fn closed(&self, broke: bool);

    /// The next messages that were not given in this session, at most so many.
    fn next(&self, most: usize) -> Vec<(u64, Message)>;

    /// The other side has a message, or refuses it for good.
    fn done(&self, number: u64, answer: Result<(), LinkError>);

    /// Rung when there is something to give.
    fn bell(&self) -> &Notify;
}

/// Nothing ever leaves.
#[derive(Default)]
pub struct NothingLeaves(Notify);

impl Outgoing for NothingLeaves {
    fn open(&self) {}

    fn closed(&self, _: bool) {}

    fn next(&self, _: usize) -> Vec<(u64, Message)> {
        Vec::new()
    }

    fn done(&self, _: u64, _: Result<(), LinkError>) {}

    fn bell(&self) -> &Notify {
        &self.0
    }
}

/// How a running connection hangs together with the rest.
pub struct Ports {
    /// What to do; the connection ends when its sender goes away.
    pub plan: watch::Receiver<Arc<LinkPlan>>,
    pub batches: mpsc::Sender<Batch>,
    pub commands: mpsc::Receiver<Command>,
    pub health: watch::Sender<Health>,
    pub tap: Tap,
    pub announcer: Announcer,
    pub outgoing: Arc<dyn Outgoing>,
    /// Gives the certificate by which servers know this installation.
    pub identities: Arc<dyn Identities>,
}

/// Something for a running connection to do between its polls.
#[derive(Debug)]
pub enum Command {
    /// Writes a value in engineering units and answers with what the device then holds. Never repeated by itself.
    Write { tag: TagNo, value: Value, reply: Reply<Value> },
    /// Reads a page of what the device offers, over the connection that is already open.
    Browse { ask: Ask, reply: Reply<Children> },
    /// Reads these points now, of tags or not, and answers in their order.
    Read { points: Vec<PointPlan>, reply: Reply<Vec<RawValue>> },
    /// Lists the edge nodes and devices that announced themselves.
    Announced { reply: Reply<Vec<Announced>> },
    /// Tells how a broker of our own fares, and who is connected to it.
    Served { reply: Reply<Box<Served>> },
    /// Tries a mapping on what can be heard now.
    TryMapping { mapping: Mapping, reply: Reply<Vec<Arrival>> },
    /// Sends a message by hand, ahead of what waits, and answers once the other side has it.
    Publish { message: Message, reply: Reply<()> },
    /// Tells somebody something, and answers with what the server said.
    Notify { notice: Box<Notice>, reply: Reply<String> },
    /// Takes another address of the device into use.
    TakePath { path: usize, reply: Reply<()> },
    /// Brings in what the device itself recorded within a span, from and to; without one, ends what goes on. The answer says that it
    /// has begun.
    Fill { span: Option<(Nanos, Nanos)>, reply: Reply<()> },
}

/// Where the answer to a command goes.
pub type Reply<T> = oneshot::Sender<Result<T, LinkError>>;

impl Command {
    /// Answers a command that is not carried out.
    pub fn refuse(self, error: &LinkError) {
        let error = error.clone();
        // Whoever asked may have gone away meanwhile.
        match self {
            Command::Write { reply, .. } => drop(reply.send(Err(error))),
            Command::Browse { reply, .. } => drop(reply.send(Err(error))),
            Command::Read { reply, .. } => drop(reply.send(Err(error))),
            Command::Announced { reply } => drop(reply.send(Err(error))),
            Command::Served { reply } => drop(reply.send(Err(error))),
            Command::TryMapping { reply, .. } => drop(reply.send(Err(error))),
            Command::Notify { reply, .. } => drop(reply.send(Err(error))),
            Command::TakePath { reply, .. } | Command::Fill { reply, .. } | Command::Publish { reply, .. } => {
                drop(reply.send(Err(error)))
            }
        }
    }

    /// The same for a source that has no device: a value read from it says that it is not made of bytes.
    pub(crate) fn refuse_without_device(self, words: &str) {
        match self {
            Command::Read { points, reply } => {
                let none = || RawValue { words: "It is not made of bytes.".into(), ..RawValue::default() };
                drop(reply.send(Ok(points.iter().map(|_| none()).collect())));
            }
            other => other.refuse(&LinkError::BadRequest(words.into())),
        }
    }
}

/// Why a mapping is not tried, and nothing published, at a device that is asked for what it holds.
pub(crate) fn no_broker() -> LinkError {
    LinkError::BadRequest("Only a connection to a broker can do this.".into())
}

/// A value from its bytes up.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RawValue {
    pub bytes: Vec<u8>,
    pub decoded: Option<Value>,
    /// In engineering units.
    pub scaled: Option<Value>,
    /// Why it could not be read or decoded; empty where it could.
    pub words: String,
}
