//! HTTP and WebSocket for Havrel, on Actix Web: routes, sign-in, and the files of the front end.

pub mod api;
pub mod app;
mod assets;
pub mod auth;
mod body;
pub mod demo;
mod guard;
pub mod limits;
mod metrics;
pub mod problem;
pub mod sessions;
mod socket;
pub mod standin;
pub mod tokens;
