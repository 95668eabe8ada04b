//! A connection's settings and a tag's point, read and checked.

use super::{Address, Order, Shape, Table, Type};
use crate::{LinkError, tls::Tls};
use havrel_core::plant::{Own, resolve};
use serde::{Deserialize, Serialize};

/// How requests travel.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Transport {
    #[default]
    Tcp,
    /// TCP secured by TLS (MODBUS/TCP Security protocol specification); usually on port 802.
    Tls,
    /// Frames of the serial line, checksum and all, through a TCP connection.
    RtuOverTcp,
    Serial,
}

impl Transport {
    /// Whether requests travel in frames of the serial line.
    pub fn rtu(self) -> bool {
        matches!(self, Transport::RtuOverTcp | Transport::Serial)
    }

    /// Whether there can be several connections at once that do not disturb each other; behind frames of the serial line is one
    /// line, whatever leads to it.
    pub fn many_lines(self) -> bool {
        !self.rtu()
    }
}

/// Parity of a serial line; the specification's usual is even.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Parity {
    None,
    Odd,
    #[default]
    Even,
}

/// One address under which the device is reached.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Path {
    /// Name or address; not for serial lines.
    #[serde(default)]
    pub host: String,
    #[serde(default = "standard_port")]
    pub port: u16,
    /// Of a serial line, such as `/dev/ttyUSB0`.
    #[serde(default)]
    pub device: String,
}

/// A connection's settings.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Settings {
    #[serde(default)]
    pub transport: Transport,
    #[serde(default)]
    pub host: String,
    #[serde(default = "standard_port")]
    pub port: u16,
    #[serde(default)]
    pub device: String,
    #[serde(default = "usual_baud")]
    pub baud: u32,
    #[serde(default)]
    pub parity: Parity,
    /// 1 or 2.
    #[serde(default = "one_u8")]
    pub stop_bits: u8,
    /// 0 to 255; behind a gateway or on a line the number of the device, where a point does not name another.
    #[serde(default = "one_u8")]
    pub unit: u8,
    /// Where the device's manual begins to count: 0 or 1.
    #[serde(default = "one")]
    pub base: u16,
    /// How values stand in several registers, where a point does not say otherwise.
    #[serde(default)]
    pub order: Order,
    /// Most registers in one request, 1 to 125.
    #[serde(default = "most")]
    pub limit: u16,
    /// Most unwanted registers that are read along to save a request, 0 to 100.
    #[serde(default = "usual_gap")]
    pub gap: u16,
    /// Least pause between two requests in milliseconds, 0 to 5,000.
    #[serde(default)]
    pub spacing_ms: u32,
    /// Requests under way at once, each over a TCP connection of its own, 1 to 8.
    #[serde(default = "one_u8")]
    pub parallel: u8,
    /// Function codes by which the device may be written, of 5, 6, 15, 16, 22 and 23.
    #[serde(default = "usual_writes")]
    pub writes: Vec<u8>,
    /// Further addresses of the same device.
    #[serde(default)]
    pub spare: Vec<Path>,
    /// Whether a spare address takes over by itself when the one in use fails.
    #[serde(default = "yes")]
    pub takeover: bool,
    /// With whom a secured connection is made, and as whom.
    #[serde(default)]
    pub tls: Tls,
}

fn standard_port() -> u16 {
    502
}
fn usual_baud() -> u32 {
    19_200
}
fn one_u8() -> u8 {
    1
}
fn one() -> u16 {
    1
}
fn most() -> u16 {
    125
}
fn usual_gap() -> u16 {
    16
}
fn usual_writes() -> Vec<u8> {
    vec![5, 6, 15, 16, 22]
}
fn yes() -> bool {
    true
}

/// Function codes that write (Modbus application protocol V1.1b3, §6).
const WRITES: [u8; 6] = [5, 6, 15, 16, 22, 23];

impl Path {
    fn check(&self, transport: Transport) -> Option<(&'static str, &'static str)> {
        if transport == Transport::Serial {
            let name = self.device.trim();
            let known = name.starts_with("/dev/") && name.len() <= 100 && !name.contains("..");
            return (!known).then_some(("device", "Enter the device of the line, like /dev/ttyUSB0."));
        }
        let host = self.host.trim();
        if host.is_empty() {
            return Some(("host", "Enter the name or address of the device."));
        }
        if let Some((_, port)) = host.split_once(':')
            && !port.is_empty()
            && port.bytes().all(|b| b.is_ascii_digit())
        {
            return Some(("host", "Put the port into the field Port, and only the name or address here."));
        }
        if host.len() > 253 || !host.chars().all(|c| c.is_ascii_alphanumeric() || ".-_:[]".contains(c)) {
            return Some(("host", "This is neither a name nor an address; leave out the protocol and the port."));
        }
        (self.port == 0).then_some(("port", "A port lies between 1 and 65535; Modbus uses 502."))
    }

    /// As people write it.
    pub fn show(&self) -> String {
        if self.device.is_empty() { format!("{}:{}", self.host.trim(), self.port) } else { self.device.trim().to_owned() }
    }
}

impl Settings {
    /// Reads a connection's settings.
    ///
    /// # Errors
    /// Every field that is wrong, with a sentence.
    pub fn parse(own: &Own) -> Result<Settings, Vec<(String, String)>> {
        let settings: Settings = resolve(None, own).map_err(|wrong| vec![wrong])?;
        let mut wrong: Vec<(String, String)> = Vec::new();
        for (i, path) in settings.paths().into_iter().enumerate() {
            let told = path.check(settings.transport);
            let at = |field: &str| if i == 0 { field.to_owned() } else { format!("spare[{}].{field}", i - 1) };
            wrong.extend(told.map(|(field, words)| (at(field), words.to_owned())));
        }
        let mut say = |bad: bool, field: &str, words: &str| {
            if bad {
                wrong.push((field.into(), words.into()));
            }
        };
        say(settings.base > 1, "base", "Manuals count from 0 or from 1.");
        say(!(1..=125).contains(&settings.limit), "limit", "One request carries 1 to 125 registers.");
        say(settings.gap > 100, "gap", "The largest gap to read across is 100 registers.");
        say(settings.spacing_ms > 5000, "spacing_ms", "The pause is at most 5,000 ms.");
        say(!(1..=8).contains(&settings.parallel), "parallel", "Enter 1 to 8 requests at once.");
        let alone = settings.transport.rtu() && settings.parallel != 1;
        say(alone, "parallel", "On a serial line one request goes at a time.");
        say(
            settings.writes.iter().any(|code| !WRITES.contains(code)),
            "writes",
            "The write functions are 5, 6, 15, 16, 22 and 23.",
        );
        say(settings.spare.len() > 3, "spare", "There are at most three spare addresses.");
        say(!(1..=2).contains(&settings.stop_bits), "stop_bits", "Enter 1 or 2 stop bits.");
        say(!(300..=921_600).contains(&settings.baud), "baud", "The speed lies between 300 and 921,600 baud.");
        if settings.transport == Transport::Tls {
            wrong.extend(settings.tls.check().into_iter().map(|(field, words)| (format!("tls.{field}"), words.to_owned())));
        }
        if wrong.is_empty() { Ok(settings) } else { Err(wrong) }
    }

    /// Every address under which the device is reached, the first before the spare ones.
    pub fn paths(&self) -> Vec<Path> {
        let serial = self.transport == Transport::Serial;
        let mut first = Path { host: self.host.clone(), port: self.port, device: self.device.clone() };
        if !serial {
            first.device.clear();
        }
        [first].into_iter().chain(self.spare.iter().cloned()).collect()
    }

    /// The settings with which a request can be made at all, for a running connection.
    pub(crate) fn usable(own: &Own) -> Result<Settings, LinkError> {
        Settings::parse(own).map_err(|wrong| LinkError::BadRequest(wrong[0].1.clone()))
    }
}

/// A plain number is an address too: where a class works it out, no quotation marks are around it.
fn text_or_number<'de, D: serde::Deserializer<'de>>(from: D) -> Result<String, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Written {
        Number(u64),
        Text(String),
    }
    Ok(match Written::deserialize(from)? {
        Written::Number(number) => number.to_string(),
        Written::Text(text) => text,
    })
}

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct PointText {
    #[serde(deserialize_with = "text_or_number")]
    address: String,
    #[serde(rename = "type")]
    kind: Type,
    #[serde(default)]
    order: Option<Order>,
    #[serde(default = "one")]
    length: u16,
    /// Lowest bit of those taken, 0 to 15 (63 in wider types), and how many.
    #[serde(default)]
    bit: Option<u8>,
    #[serde(default)]
    bits: Option<u8>,
    #[serde(default)]
    unit: Option<u8>,
    /// Addresses beyond `address`.
    #[serde(default)]
    offset: u32,
}

/// Where a tag stands in the device and how to read it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    pub unit: u8,
    pub address: Address,
    pub shape: Shape,
}

/// One way to read an address that can be read in more than one.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Other {
    pub address: Address,
    /// How it would have to be written to be clear.
    pub write: String,
    pub why: &'static str,
}

impl Point {
    /// Registers or bits it takes.
    pub fn width(&self) -> u16 {
        self.shape.width()
    }

    /// Reads a point's fields.
    ///
    /// # Errors
    /// The field and a sentence.
    pub fn parse(settings: &Settings, own: &Own) -> Result<Point, (String, String)> {
        let text: PointText = resolve(None, own)?;
        let wrong = |field: &str, message: &str| Err((field.to_owned(), message.to_owned()));
        let first = Address::parse(&text.address, settings.base).map_err(|m| ("address".to_owned(), m))?;
        if first.table.is_bits() && text.kind != Type::Bool {
            return wrong("type", "Coils and discrete inputs hold only on and off.");
        }
        if text.kind == Type::Text && !(1..=settings.limit).contains(&text.length) {
            return wrong("length", "Text takes at least one register and at most what one request may carry.");
        }
        if text.kind == Type::Bcd && !(1..=4).contains(&text.length) {
            return wrong("length", "Packed decimals take 1 to 4 registers.");
        }
        let order = text.order.unwrap_or(settings.order);
        let mut shape = Shape { kind: text.kind, order, length: text.length, bits: None };
        if let Some(bit) = text.bit {
            let count = text.bits.unwrap_or(1);
            let room = shape.width() * 16;
            if first.table.is_bits() || !matches!(text.kind, Type::Bool | Type::U16 | Type::U32 | Type::U64) {
                return wrong("bit", "Bits are taken out of registers, as on or off or as an unsigned number.");
            }
            if count == 0 || u16::from(bit) + u16::from(count) > room || (text.kind == Type::Bool && count > 1) {
                return wrong("bit", &format!("The bits here are 0 to {}.", room - 1));
            }
            shape.bits = Some((bit, count));
        } else if text.bits.is_some() {
            return wrong("bits", "Enter the first bit.");
        }
        let offset = u32::from(first.offset).saturating_add(text.offset);
        if offset.saturating_add(shape.width().into()) > 65_536 {
            return wrong("address", "It would reach beyond the last address.");
        }
        let address = Address { table: first.table, offset: offset as u16 };
        Ok(Point { unit: text.unit.unwrap_or(settings.unit), address, shape })
    }

    /// In words, with the address as it goes on the wire; the unit only where it is not the connection's own.
    pub fn show(&self, settings: &Settings) -> String {
        let mut words = self.show_span();
        match self.shape.bits {
            Some((bit, 1)) => words += &format!(" bit {bit}"),
            Some((bit, count)) => words += &format!(" bits {bit}–{}", bit + count - 1),
            None => {}
        }
        words += &format!(", {}", self.shape.kind.name());
        if self.unit != settings.unit {
            words += &format!(", unit {}", self.unit);
        }
        words
    }

    /// The addresses it takes, as they go on the wire.
    pub fn show_span(&self) -> String {
        let first = self.address;
        let last = first.offset + (self.width() - 1);
        if last > first.offset { format!("{first}–{last}") } else { first.to_string() }
    }

    /// The other ways in which an address, as it is written, can be read.
    pub fn others(settings: &Settings, own: &Own) -> Vec<Other> {
        let Ok(text) = resolve::<PointText>(None, own) else { return Vec::new() };
        Address::others(&text.address, settings.base)
            .into_iter()
            .map(|(address, why)| Other { address, write: address.manual(), why })
            .collect()
    }

    /// Whether the table can only be read.
    pub fn read_only(&self) -> bool {
        matches!(self.address.table, Table::Input | Table::Discrete)
    }
}
