//! Havrel's core: the rules of the job and the engine that runs them.
//!
//! Nothing here does I/O, reads a clock or draws a random number. Time comes in as [`time::Nanos`], bytes come in as
//! slices, and everything that should happen goes out as values. The running plant, the tests and later the trials
//! and backtests all use this same code.

pub mod access;
pub mod alarm;
pub mod arrival;
pub mod call_out;
pub mod dispatch;
pub mod engine;
pub mod formula;
pub mod frame;
pub mod history;
pub mod intake;
pub mod lookup;
pub mod notice;
pub mod number;
pub mod plant;
pub mod poll;
pub mod publish;
pub mod quality;
pub mod report;
pub mod sample;
pub mod scale;
pub mod signal;
pub mod text;
pub mod time;
pub mod trial;
pub mod unit;

/// The number of a tag: given once by the database, never reused; used in spool, history and live feed.
pub type TagNo = u32;
