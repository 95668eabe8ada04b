//! The drivers against servers on loopback: the simulated plant, and devices that behave badly.

mod bad;
mod broker;
mod depth;
mod device;
mod edge;
mod good;
mod http;
mod learnt;
mod mqtt;
mod notify;
mod opcua;
mod plain;
mod secured;
mod sparkplug;
mod structures;
mod trusted;
mod units;
