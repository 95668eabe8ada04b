//! Sparkplug B (Eclipse Sparkplug 3.0) as it travels: topics, payloads, and what a metric tells. Without a socket.

pub mod metric;
pub mod payload;
pub mod topic;
