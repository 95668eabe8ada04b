//! A simulated part of Brackmere Kelp Works: extraction vessels behind one Modbus TCP controller.
//!
//! [`vessel`] is the process, in fixed steps and seeded, so that the same seed gives the same plant; [`registers`] is how
//! the controller shows it; [`serve`] puts it on a socket. The demo, the tests and the browser runs all use it.

pub mod registers;
pub mod serve;
pub mod vessel;
