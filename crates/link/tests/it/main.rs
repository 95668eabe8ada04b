//! The Modbus driver against servers on loopback: the simulated controller, and devices that behave badly.

mod bad;
mod device;
mod good;
