//! A program beside the plant that answers over HTTP: the weather at the quay and the tariff of electricity.

pub mod points;
pub mod serve;

/// The name of the connection in the demo.
pub const NAME: &str = "Weather and tariff";
