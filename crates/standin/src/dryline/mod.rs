//! The OPC UA server “Dryline” of the demo plant: [`nodes`] lists what it shows, [`server`] puts that on a socket.

pub mod nodes;
mod record;
pub mod server;
mod space;
mod types;

/// The name of the server, and of its connection in the demo.
pub const NAME: &str = "Dryline";
