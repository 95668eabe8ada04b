//! HTTP and WebSocket for Havrel, on Actix Web: routes, sign-in, and the files of the front end.

pub mod api;
pub mod app;
mod assets;
pub mod auth;
mod body;
mod call_page;
mod compared;
pub mod demo;
mod describe;
pub mod earlier;
mod feed;
mod guard;
pub mod limits;
mod metrics;
pub mod past;
pub mod problem;
mod push_index;
pub mod routes;
pub mod sessions;
mod socket;
pub mod standin;
pub mod tokens;
mod written;
