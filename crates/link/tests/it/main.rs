//! The Modbus driver against servers on loopback: the simulated controller, and devices that behave badly.

mod bad;
mod depth;
mod device;
mod good;
mod learnt;
mod plain;
mod secured;
mod units;
