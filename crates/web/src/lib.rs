//! HTTP and WebSocket for Havrel, on Actix Web: routes, sign-in, and the files of the front end.

pub mod api;
pub mod app;
mod assets;
pub mod auth;
pub mod demo;
mod guard;
mod metrics;
pub mod problem;
mod socket;
pub mod standin;
