//! Browsing a connection: what it offers is a tree of nodes, read one page at a time.

use havrel_core::{plant::Own, time::Nanos};
use serde::Serialize;
use utoipa::ToSchema;

/// What lies below a node.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ask {
    /// The node's [`Node::id`]; empty for the top.
    pub node: String,
    /// Where the page begins: empty for the first one, then [`Children::next`]. In an address space it is an address.
    pub cursor: String,
    /// Most nodes of the page.
    pub most: usize,
}

/// A page of what lies below a node.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Children {
    pub read_at: Nanos,
    /// What [`Node::parts`] are called.
    pub parts: Vec<&'static str>,
    pub nodes: Vec<Node>,
    /// Where the next page begins; `None` after the last one.
    pub next: Option<String>,
}

/// Something that a connection offers.
#[derive(Clone, Debug, Default, PartialEq, Serialize, ToSchema)]
pub struct Node {
    /// Names it within its connection; means nothing to anybody but its kind.
    pub id: String,
    /// As people call it.
    pub name: String,
    /// What it is made of, in the order in which the page names its parts; names of tags are made from it.
    pub parts: Vec<String>,
    /// Whether anything lies below it.
    pub branch: bool,
    /// Whether it is a part of the value of the node above it: an element or a member.
    pub inside: bool,
    /// The type of an object of which the device may have several alike; empty where it tells none. Names it like `id`.
    pub of_type: String,
    /// What it is, in a few words, such as the type of its value.
    pub about: String,
    /// What the device itself says of it.
    pub description: String,
    /// Whether the device lets it be written.
    pub writable: bool,
    /// The names of the states it has, by their value.
    pub states: Vec<State>,
    /// Where a tag of it is read; null where it holds no value. A reading adds its fields.
    #[schema(value_type = Option<Object>)]
    pub point: Option<Own>,
    /// Settings that a tag of it would begin with, such as its engineering unit and range.
    #[schema(value_type = Object)]
    pub set: Own,
    /// Why the device did not give it; empty where it did.
    pub refused: String,
    /// What it holds now, in every reading that makes sense.
    pub readings: Vec<Reading>,
}

/// The name of a state.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = NodeState)]
pub struct State {
    pub value: i64,
    pub name: String,
}

/// One way to read what a node holds.
#[derive(Clone, Debug, PartialEq, Serialize, ToSchema)]
pub struct Reading {
    /// Fields that a point which reads it so has beside the node's own.
    #[schema(value_type = Object)]
    pub point: Own,
    pub text: String,
}
