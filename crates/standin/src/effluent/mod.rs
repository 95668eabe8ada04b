//! The remote station at the outlet, an edge node of Sparkplug B with a buffer of its own: [`points`] lists what it measures, from
//! which its metrics, the demo's tags and the made-up past come; [`node`] speaks and keeps what it cannot say, and [`serve`] is its
//! life on the broker of the site.

pub mod node;
pub mod points;
pub mod serve;

/// The name of the connection in the demo.
pub const NAME: &str = "Effluent";
/// Group and name of the edge node.
pub const GROUP: &str = "Brackmere";
pub const NODE: &str = "Effluent station";
