//! The utilities of the demo plant, which publish JSON over MQTT: [`points`] lists what they tell, from which their messages, the
//! demo's tags and the made-up past come; [`broker`] runs the site's broker, and [`serve`] publishes.

pub mod broker;
pub mod points;
pub mod serve;

/// The name of the broker's connection in the demo.
pub const NAME: &str = "Utilities";
