//! The whole server over HTTP and WebSocket, with a real database and the simulated controller on loopback.

mod alarm_figures;
mod alarms;
mod api;
mod arrivals;
mod by_hand;
mod calls;
mod classes;
mod connect;
mod doors;
mod exact;
mod feed;
mod formulas;
mod keep;
mod kill;
mod loop_checks;
mod model;
mod past;
mod plant;
mod publishing;
mod review;
mod roles;
mod rules;
mod scope;
mod secrets;
mod upkeep;
mod vanish;
