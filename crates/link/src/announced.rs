//! What announced itself over a connection: edge nodes and their devices, for whoever looks.

pub use crate::sparkplug::entity::State;
use havrel_core::time::Nanos;

/// An edge node, or a device behind one.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Announced {
    /// As [`crate::Node::id`] names it, for what lies below it.
    pub id: String,
    pub group: String,
    pub node: String,
    /// Empty for the edge node itself.
    pub device: String,
    pub state: State,
    pub since: Nanos,
    /// When something of its edge node came last; 0 if never.
    pub heard: Nanos,
    pub births: u64,
    /// Metrics that it announced, and how many of them tags read.
    pub metrics: u64,
    pub taken: u64,
    /// Values that came later, out of its buffer.
    pub history: u64,
    /// Of an edge node: messages that never came, and requests for its birth.
    pub missing: u64,
    pub asked: u64,
    /// Of an edge node: how full it says that its buffer is; empty where it does not tell.
    pub buffer: String,
    /// What is odd about it, in sentences.
    pub words: Vec<String>,
}
