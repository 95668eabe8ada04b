//! A simulated part of Brackmere Kelp Works: Landing and Extraction behind two Modbus TCP controllers, Drying and
//! Packing behind an OPC UA server, Utilities behind an MQTT broker, Effluent as an edge node of Sparkplug B on the same broker,
//! weather and tariff from a program over HTTP.
//!
//! [`process`] is what happens, in fixed steps and seeded, so that the same seed gives the same plant; [`maps`] lists what
//! the controllers show of it, [`registers`] how; [`serve`] puts them on sockets; [`faults`] go wrong on command, through
//! [`control`]; [`history`] makes a past; [`plant`] is how the demo is configured. The demo, the tests and the browser runs all use it.

pub mod control;
pub mod dryline;
pub mod effluent;
pub mod faults;
pub mod history;
pub mod maps;
pub mod plant;
#[cfg(test)]
mod planted;
pub mod points;
pub mod post;
pub mod process;
pub mod registers;
mod relay;
pub mod serve;
pub mod service;
pub mod utilities;
