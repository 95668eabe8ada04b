//! How a broker of our own fares and what its accounts may do, for whoever looks.

pub use crate::broker::book::{Client, Refusal, Why};
pub use crate::broker::child::settle;
pub use crate::broker::served::{Address, Figures, Served, ServedClient};
pub use crate::broker::settings::{Allowed, Received, allowed};
