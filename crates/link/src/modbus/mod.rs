//! Modbus TCP (Modbus application protocol V1.1b3, Modbus messaging on TCP/IP V1.0b).
//!
//! [`address`] and [`codec`] are pure; [`session`] is one open connection with one request at a time; [`turn`] reads
//! everything wanted once; [`run`] keeps the rhythm, the recovery and the health.

pub mod address;
pub mod codec;
mod ladder;
mod run;
pub mod session;
mod turn;

pub use address::{Address, Table};
pub use codec::{Order, Type};

use crate::{Command, Driver, Found, Health, LinkError, LinkPlan, Page, Reading, TestStep};
use async_trait::async_trait;
use havrel_core::{
    plant::{Connection, Own, Tag, resolve},
    sample::Batch,
};
use serde::Deserialize;
use session::Session;
use std::sync::Arc;
use tokio::sync::{mpsc, watch};

/// The connection kind.
pub const KIND: &str = "modbus_tcp";

/// A connection's settings.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Settings {
    /// Name or address.
    pub host: String,
    #[serde(default = "standard_port")]
    pub port: u16,
    /// 0 to 255; behind a gateway the number of the device on its line.
    #[serde(default = "one_u8")]
    pub unit: u8,
    /// Where the device's manual begins to count: 0 or 1.
    #[serde(default = "one")]
    pub base: u16,
    /// How 32-bit values stand in two registers, where a point does not say otherwise.
    #[serde(default)]
    pub order: Order,
    /// Most registers in one request, 1 to 125.
    #[serde(default = "most")]
    pub limit: u16,
}

fn standard_port() -> u16 {
    502
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

#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct PointText {
    address: String,
    #[serde(rename = "type")]
    kind: Type,
    #[serde(default)]
    order: Option<Order>,
    #[serde(default = "one")]
    length: u16,
}

/// Where a tag stands in the device and how to read it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Point {
    pub address: Address,
    pub kind: Type,
    pub order: Order,
    pub length: u16,
}

impl Point {
    /// Registers or bits it takes.
    pub fn width(&self) -> u16 {
        self.kind.width(self.length)
    }

    /// Reads a point's fields.
    ///
    /// # Errors
    /// The field and a sentence.
    pub fn parse(settings: &Settings, own: &Own) -> Result<Point, (String, String)> {
        let text: PointText = resolve(None, own)?;
        let wrong = |field: &str, message: &str| Err((field.to_owned(), message.to_owned()));
        let address = Address::parse(&text.address, settings.base).map_err(|m| ("address".to_owned(), m))?;
        if address.table.is_bits() && text.kind != Type::Bool {
            return wrong("type", "Coils and discrete inputs hold only on and off.");
        }
        if text.kind == Type::Text && !(1..=settings.limit).contains(&text.length) {
            return wrong("length", "Text takes at least one register and at most what one request may carry.");
        }
        let point = Point { address, kind: text.kind, order: text.order.unwrap_or(settings.order), length: text.length };
        if u32::from(address.offset) + u32::from(point.width()) > 65_536 {
            return wrong("address", "It would reach beyond the last address.");
        }
        Ok(point)
    }
}

impl Settings {
    /// Reads a connection's settings.
    ///
    /// # Errors
    /// Every field that is wrong, with a sentence.
    pub fn parse(own: &Own) -> Result<Settings, Vec<(String, String)>> {
        let settings: Settings = resolve(None, own).map_err(|wrong| vec![wrong])?;
        let mut wrong: Vec<(&str, &str)> = Vec::new();
        let host = settings.host.trim();
        if host.is_empty() {
            wrong.push(("host", "Give the name or address of the device."));
        } else if host.len() > 253 || !host.chars().all(|c| c.is_ascii_alphanumeric() || ".-_:[]".contains(c)) {
            wrong.push(("host", "This is neither a name nor an address; leave out the protocol and the port."));
        }
        if settings.port == 0 {
            wrong.push(("port", "A port lies between 1 and 65535; Modbus uses 502."));
        }
        if settings.base > 1 {
            wrong.push(("base", "Manuals count from 0 or from 1."));
        }
        if !(1..=125).contains(&settings.limit) {
            wrong.push(("limit", "One request carries 1 to 125 registers."));
        }
        if wrong.is_empty() { Ok(settings) } else { Err(wrong.into_iter().map(|(f, m)| (f.into(), m.into())).collect()) }
    }
}

/// The driver.
pub struct Modbus;

/// What a browse asks for.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Look {
    table: String,
    #[serde(default)]
    start: u16,
    #[serde(default = "page")]
    count: u16,
}

fn page() -> u16 {
    32
}

#[async_trait]
impl Driver for Modbus {
    fn kind(&self) -> &'static str {
        KIND
    }

    fn check(&self, connection: &Connection) -> Vec<(String, String)> {
        let wrong = Settings::parse(&connection.settings).err().unwrap_or_default();
        wrong.into_iter().map(|(field, message)| (format!("settings.{field}"), message)).collect()
    }

    fn check_point(&self, connection: &Connection, tag: &Tag) -> Vec<(String, String)> {
        // Wrong settings of the connection are told at the connection.
        let Ok(settings) = Settings::parse(&connection.settings) else { return Vec::new() };
        match Point::parse(&settings, &tag.point) {
            Err((field, message)) => vec![(format!("point.{field}"), message)],
            Ok(point) if tag.writable && matches!(point.address.table, Table::Input | Table::Discrete) => {
                vec![("writable".into(), "Input registers and discrete inputs can only be read.".into())]
            }
            Ok(_) => Vec::new(),
        }
    }

    fn show_point(&self, connection: &Connection, point: &Own) -> Option<String> {
        let point = Point::parse(&Settings::parse(&connection.settings).ok()?, point).ok()?;
        let first = point.address;
        let last = first.offset + (point.width() - 1);
        let range = if last > first.offset { format!("{first}–{last}") } else { first.to_string() };
        Some(format!("{range}, {}", point.kind.name()))
    }

    async fn test(&self, connection: &Connection, steps: mpsc::Sender<TestStep>) {
        ladder::climb_all(connection, steps).await;
    }

    async fn browse(&self, connection: &Connection, request: &Own) -> Result<Page, LinkError> {
        let settings = Settings::parse(&connection.settings).map_err(|w| LinkError::BadRequest(w[0].1.clone()))?;
        let mut session = Session::open(&settings, connection.timeout_ms).await?;
        let page = look(&mut session, &settings, request).await;
        session.close().await;
        page
    }

    async fn run(
        &self,
        plan: watch::Receiver<Arc<LinkPlan>>,
        batches: mpsc::Sender<Batch>,
        commands: mpsc::Receiver<Command>,
        health: watch::Sender<Health>,
    ) {
        run::run(plan, batches, commands, health).await;
    }
}

/// Reads a page of one table and shows each register in every reading.
async fn look(session: &mut Session, settings: &Settings, request: &Own) -> Result<Page, LinkError> {
    let look: Look = resolve(None, request).map_err(|(field, m)| LinkError::BadRequest(format!("{field}: {m}")))?;
    let table = Table::from_word(&look.table)
        .ok_or_else(|| LinkError::BadRequest("The tables are coil, discrete, input and holding.".into()))?;
    let count = look.count.clamp(1, 125).min(65_535 - look.start.min(65_534));
    let limit = if table.is_bits() { table.read_limit() } else { settings.limit };
    let mut words: Vec<Result<u16, LinkError>> = Vec::with_capacity(usize::from(count));
    let mut at = look.start;
    while words.len() < usize::from(count) {
        let part = limit.min(count - words.len() as u16);
        match session.read(Address { table, offset: at }, part).await {
            Ok(read) => words.extend(read.into_iter().map(Ok)),
            Err(error) if error.spares_connection() && part > 1 => {
                // One address the device lacks spoils the whole request: ask for each by itself.
                for offset in at..at + part {
                    match session.read(Address { table, offset }, 1).await {
                        Ok(read) => words.push(Ok(read[0])),
                        Err(error) if error.spares_connection() => words.push(Err(error)),
                        Err(error) => return Err(error),
                    }
                }
            }
            Err(error) if error.spares_connection() => words.push(Err(error)),
            Err(error) => return Err(error),
        }
        at = at.saturating_add(part);
    }
    let items = (0..words.len()).map(|i| found(table, look.start, i, &words, settings.order)).collect();
    Ok(Page { read_at: crate::now(), items })
}

fn found(table: Table, start: u16, i: usize, words: &[Result<u16, LinkError>], order: Order) -> Found {
    let address = Address { table, offset: start + i as u16 };
    let mut found = Found { label: address.to_string(), manual: address.manual(), refused: String::new(), readings: Vec::new() };
    if let Err(error) = &words[i] {
        found.refused = error.to_string();
        return found;
    }
    let kinds: &[Type] =
        if table.is_bits() { &[Type::Bool] } else { &[Type::U16, Type::I16, Type::U32, Type::I32, Type::F32, Type::Text] };
    for &kind in kinds {
        let width = usize::from(kind.width(1));
        let part: Option<Vec<u16>> = words.get(i..i + width).and_then(|w| w.iter().map(|r| r.clone().ok()).collect());
        let Some(Ok(value)) = part.map(|part| codec::decode(kind, order, &part)) else { continue };
        let text = match value.to_json() {
            serde_json::Value::String(text) => text,
            other => other.to_string(),
        };
        found.readings.push(Reading { kind: kind.name().into(), text });
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    fn own(value: Json) -> Own {
        value.as_object().unwrap().clone()
    }

    fn settings(more: Json) -> Result<Settings, Vec<(String, String)>> {
        let mut all = json!({"host": "10.0.4.21"});
        all.as_object_mut().unwrap().extend(own(more));
        Settings::parse(&own(all))
    }

    #[rstest]
    #[case(json!({"host": " "}), "host")]
    #[case(json!({"host": "tcp://10.0.4.21"}), "host")]
    #[case(json!({"host": "x".repeat(300)}), "host")]
    #[case(json!({"port": 0}), "port")]
    #[case(json!({"port": 70000}), "port")]
    #[case(json!({"unit": 256}), "unit")]
    #[case(json!({"base": 2}), "base")]
    #[case(json!({"limit": 126}), "limit")]
    #[case(json!({"order": "ACBD"}), "order")]
    #[case(json!({"colour": 1}), "colour")]
    fn a_wrong_setting_is_named(#[case] more: Json, #[case] field: &str) {
        let wrong = settings(more).unwrap_err();
        assert_eq!(wrong.iter().map(|w| w.0.as_str()).collect::<Vec<_>>(), [field], "{wrong:?}");
    }

    #[test]
    fn what_is_not_set_is_usual() {
        let s = settings(json!({})).unwrap();
        assert_eq!((s.port, s.unit, s.base, s.order, s.limit), (502, 1, 1, Order::Abcd, 125));
        assert!(settings(json!({"host": "[fe80::1]"})).is_ok() && settings(json!({"host": "wash-plc.local"})).is_ok());
    }

    #[rstest]
    #[case(json!({"address": "40001", "type": "f32"}), Ok("holding 0–1, f32"))]
    #[case(json!({"address": "40001", "type": "u16"}), Ok("holding 0, u16"))]
    #[case(json!({"address": "17", "type": "text", "length": 8}), Ok("holding 16–23, text"))]
    #[case(json!({"address": "10001", "type": "bool"}), Ok("discrete 0, bool"))]
    #[case(json!({"address": "coil 1", "type": "u16"}), Err("type"))]
    #[case(json!({"address": "465536", "type": "u32"}), Err("address"))]
    #[case(json!({"address": "465536", "type": "u16"}), Ok("holding 65535, u16"))]
    #[case(json!({"address": "40001", "type": "text", "length": 126}), Err("length"))]
    #[case(json!({"address": "40001", "type": "text", "length": 0}), Err("length"))]
    #[case(json!({"address": "40001", "type": "f16"}), Err("type"))]
    #[case(json!({"address": "here", "type": "u16"}), Err("address"))]
    #[case(json!({"type": "u16"}), Err(""))]
    fn a_point_is_shown_as_it_goes_on_the_wire_or_its_field_is_named(#[case] point: Json, #[case] expected: Result<&str, &str>) {
        let connection: Connection =
            serde_json::from_value(json!({"name": "c", "kind": KIND, "settings": {"host": "10.0.4.21"}})).unwrap();
        let shown = Modbus.show_point(&connection, &own(point.clone()));
        let tag: Tag = serde_json::from_value(json!({"place": uuid::Uuid::nil(), "name": "t", "point": point})).unwrap();
        let wrong = Modbus.check_point(&connection, &tag);
        match expected {
            Ok(words) => assert_eq!((shown.as_deref(), wrong.len()), (Some(words), 0)),
            Err(field) => {
                assert_eq!(shown, None);
                assert_eq!(wrong.iter().map(|w| w.0.clone()).collect::<Vec<_>>(), [format!("point.{field}")], "{wrong:?}");
            }
        }
    }

    #[test]
    fn what_can_only_be_read_is_not_made_writable() {
        let connection: Connection =
            serde_json::from_value(json!({"name": "c", "kind": KIND, "settings": {"host": "10.0.4.21"}})).unwrap();
        for (address, writable) in [("30001", false), ("40001", true)] {
            let tag =
                json!({"place": uuid::Uuid::nil(), "name": "t", "writable": true, "point": {"address": address, "type": "u16"}});
            let wrong = Modbus.check_point(&connection, &serde_json::from_value(tag).unwrap());
            assert_eq!(wrong.is_empty(), writable, "{address}: {wrong:?}");
        }
    }
}
