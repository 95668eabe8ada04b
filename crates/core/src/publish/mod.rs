//! Publishing: from values to messages. A publication chooses tags; those that share a topic share a message ([`Publisher`]). What a
//! topic and a payload are made of stands in [`template`].

mod bytes;
mod order;
mod publisher;
pub mod template;

pub use order::{Order, ordered, orders};
pub use publisher::{METRIC, Message, Outline, Publisher, Summary};
pub use template::{Payload, Topic};

#[cfg(test)]
mod tests;
