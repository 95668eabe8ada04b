//! The utilities of the demo plant, which publish JSON over MQTT: [`points`] lists what they tell, from which their messages, the
//! demo's tags and the made-up past come; [`broker`] runs the site's broker, [`secured`] lets clients reach it over TLS,
//! [`locked`] turns them away, and [`serve`] publishes.

pub mod broker;
mod locked;
pub mod points;
mod secured;
pub mod serve;

/// The name of the broker's connection in the demo.
pub const NAME: &str = "Utilities";
