//! Work on demand: reports, gathered from history and alarms and printed in open formats.

mod csv;
pub mod edition;
pub mod gather;
mod grids;
pub mod html;
mod json;
pub mod listing;
pub mod lookup;
pub mod performance;
pub mod picture;
pub mod press;
pub mod sheet;
mod tables;
pub mod whole;
mod workbook;
