//! Linear address spaces: devices whose values lie side by side in numbered registers, so that layouts can be mapped onto them.

use havrel_core::plant::{Connection, Own};

/// What a kind knows of the address spaces of its devices. The children of such a space are browsed by address.
pub trait Spaces: Send + Sync {
    /// What a point takes of its device's addresses; `None` where it is wrong.
    fn occupies(&self, connection: &Connection, point: &Own) -> Option<Occupied>;

    /// In which other ways the address of a point can be read.
    fn other_readings(&self, connection: &Connection, point: &Own) -> Vec<OtherReading>;

    /// The address of a point alone, as manuals of the device write it, without type or device.
    fn address(&self, connection: &Connection, point: &Own) -> Option<String>;
}

/// What a point takes of its device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Occupied {
    /// Which linear space, in words: “unit 1 holding”.
    pub space: String,
    pub start: u32,
    pub count: u32,
    /// First bit and how many, where it takes only some bits.
    pub bits: Option<(u8, u8)>,
}

/// Another way to read an address as it is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OtherReading {
    /// As it would go on the wire.
    pub shown: String,
    /// How to write it so that only this is meant.
    pub write: String,
    pub why: String,
}
