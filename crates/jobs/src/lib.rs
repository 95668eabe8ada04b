//! Work on demand: reports, gathered from history and alarms and printed in open formats.

pub mod csv;
pub mod gather;
pub mod html;
pub mod listing;
pub mod performance;
pub mod picture;
pub mod press;
pub mod sheet;
mod tables;
pub mod whole;
