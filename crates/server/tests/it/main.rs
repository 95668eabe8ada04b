//! The whole server over HTTP and WebSocket, with a real database and the simulated controller on loopback.

mod api;
mod connect;
mod doors;
mod exact;
mod feed;
mod hands;
mod keep;
mod kill;
mod model;
mod plant;
mod scope;
mod secrets;
mod upkeep;
mod vanish;
