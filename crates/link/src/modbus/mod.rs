//! Modbus over TCP, over TCP with the frames of the serial line, and over a serial line (Modbus application protocol
//! V1.1b3, Modbus messaging on TCP/IP V1.0b, Modbus over serial line V1.02).
//!
//! [`address`], [`codec`] and [`settings`] are pure; [`wire`] is the stream and [`session`] one open connection with one
//! request at a time. [`work`] says what is read in which rhythm, [`memory`] what was learnt about the devices, [`rounds`] what
//! is asked next; [`polling`] asks it over the lines there are, [`commands`] serves what is asked in between, and [`run`] keeps
//! the connection alive.

pub mod address;
pub mod codec;
mod commands;
mod form;
mod ladder;
mod learnt;
mod look;
mod memory;
mod polling;
mod rounds;
mod run;
pub mod session;
pub mod settings;
mod state;
mod wire;
mod work;

pub use address::{Address, Table};
pub use codec::{Encoded, Order, Shape, Type};
pub use settings::{Point, Settings, Transport};

use crate::{
    Identities, Kind, Runner, Spaces, Tester, Wrong,
    kind::{Description, within},
    runner::Ports,
    spaces::{Occupied, OtherReading},
    test::TestStep,
};
use async_trait::async_trait;
use havrel_core::plant::{Connection, Own, Tag};
use std::sync::Arc;
use tokio::sync::mpsc;

/// The connection kind.
pub const KIND: &str = "modbus";

/// Modbus as a kind of connection.
#[derive(Clone, Copy)]
pub struct Modbus;

impl Kind for Modbus {
    fn name(&self) -> &'static str {
        KIND
    }

    fn describe(&self) -> Description {
        form::describe()
    }

    fn check(&self, connection: &Connection) -> Vec<Wrong> {
        within("settings", Settings::parse(&connection.settings).err().unwrap_or_default())
    }

    fn check_point(&self, connection: &Connection, tag: &Tag) -> Vec<Wrong> {
        // Wrong settings of the connection are told at the connection.
        let Ok(settings) = Settings::parse(&connection.settings) else { return Vec::new() };
        match Point::parse(&settings, &tag.point) {
            Err(wrong) => within("point", [wrong]),
            Ok(point) if tag.writable && point.read_only() => {
                vec![("writable".into(), "Input registers and discrete inputs can only be read.".into())]
            }
            Ok(_) => Vec::new(),
        }
    }

    fn show_point(&self, connection: &Connection, point: &Own) -> Option<String> {
        let (settings, point) = read(connection, point)?;
        Some(point.show(&settings))
    }

    fn addresses(&self, connection: &Connection) -> Vec<String> {
        Settings::parse(&connection.settings).map(|s| s.paths().iter().map(settings::Path::show).collect()).unwrap_or_default()
    }

    fn leads_to(&self, connection: &Connection) -> String {
        let shown = |s: Settings| format!("{} · unit {}", s.paths()[0].show(), s.unit);
        Settings::parse(&connection.settings).map(shown).unwrap_or_default()
    }

    fn runner(&self) -> Arc<dyn Runner> {
        Arc::new(Modbus)
    }

    fn tester(&self) -> Option<&dyn Tester> {
        Some(self)
    }

    fn spaces(&self) -> Option<&dyn Spaces> {
        Some(self)
    }
}

impl Spaces for Modbus {
    fn occupies(&self, connection: &Connection, point: &Own) -> Option<Occupied> {
        let (_, point) = read(connection, point)?;
        let space = format!("unit {} {}", point.unit, point.address.table.word());
        Some(Occupied { space, start: point.address.offset.into(), count: point.width().into(), bits: point.shape.bits })
    }

    fn other_readings(&self, connection: &Connection, point: &Own) -> Vec<OtherReading> {
        let Ok(settings) = Settings::parse(&connection.settings) else { return Vec::new() };
        let others = Point::others(&settings, point).into_iter();
        others.map(|o| OtherReading { shown: o.address.to_string(), write: o.write, why: o.why.to_owned() }).collect()
    }

    fn address(&self, connection: &Connection, point: &Own) -> Option<String> {
        Some(read(connection, point)?.1.show_span())
    }
}

#[async_trait]
impl Tester for Modbus {
    async fn test(&self, connection: &Connection, _: Arc<dyn Identities>, steps: mpsc::Sender<TestStep>) {
        ladder::climb_all(connection, steps).await;
    }
}

#[async_trait]
impl Runner for Modbus {
    async fn run(&self, ports: Ports) {
        run::run(ports).await;
    }
}

/// A point and the settings it is read with; `None` where either is wrong.
fn read(connection: &Connection, point: &Own) -> Option<(Settings, Point)> {
    let settings = Settings::parse(&connection.settings).ok()?;
    let point = Point::parse(&settings, point).ok()?;
    Some((settings, point))
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
    #[case(json!({"transport": "serial"}), "device")]
    #[case(json!({"transport": "serial", "device": "/etc/passwd"}), "device")]
    #[case(json!({"transport": "rtu_over_tcp", "parallel": 2}), "parallel")]
    #[case(json!({"transport": "telepathy"}), "transport")]
    #[case(json!({"parallel": 9}), "parallel")]
    #[case(json!({"spacing_ms": 5001}), "spacing_ms")]
    #[case(json!({"gap": 101}), "gap")]
    #[case(json!({"writes": [6, 7]}), "writes")]
    #[case(json!({"baud": 12}), "baud")]
    #[case(json!({"spare": [{"host": "10.0.4.22"}, {"host": ""}]}), "spare[1].host")]
    fn a_wrong_setting_is_named(#[case] more: Json, #[case] field: &str) {
        let wrong = settings(more).unwrap_err();
        assert_eq!(wrong.iter().map(|w| w.0.as_str()).collect::<Vec<_>>(), [field], "{wrong:?}");
    }

    #[test]
    fn what_is_not_set_is_usual() {
        let s = settings(json!({})).unwrap();
        assert_eq!((s.port, s.unit, s.base, s.order, s.limit), (502, 1, 1, Order::Abcd, 125));
        assert_eq!((s.gap, s.parallel, s.spacing_ms, s.writes), (16, 1, 0, vec![5, 6, 15, 16, 22]));
        assert!(settings(json!({"host": "[fe80::1]"})).is_ok() && settings(json!({"host": "wash-plc.local"})).is_ok());
    }

    #[rstest]
    #[case(json!({"address": "40001", "type": "f32"}), Ok("holding 0–1, f32"))]
    #[case(json!({"address": "40001", "type": "u16"}), Ok("holding 0, u16"))]
    #[case(json!({"address": 40001, "type": "u16"}), Ok("holding 0, u16"))]
    #[case(json!({"address": true, "type": "u16"}), Err("address"))]
    #[case(json!({"address": "17", "type": "text", "length": 8}), Ok("holding 16–23, text"))]
    #[case(json!({"address": "10001", "type": "bool"}), Ok("discrete 0, bool"))]
    #[case(json!({"address": "coil 1", "type": "u16"}), Err("type"))]
    #[case(json!({"address": "465536", "type": "u32"}), Err("address"))]
    #[case(json!({"address": "465536", "type": "u16"}), Ok("holding 65535, u16"))]
    #[case(json!({"address": "40001", "type": "f64", "offset": 10}), Ok("holding 10–13, f64"))]
    #[case(json!({"address": "40001", "type": "bool", "bit": 3}), Ok("holding 0 bit 3, bool"))]
    #[case(json!({"address": "40001", "type": "u32", "bit": 12, "bits": 8}), Ok("holding 0–1 bits 12–19, u32"))]
    #[case(json!({"address": "40001", "type": "bcd", "length": 2, "unit": 7}), Ok("holding 0–1, bcd, unit 7"))]
    #[case(json!({"address": "40001", "type": "bool", "bit": 16}), Err("bit"))]
    #[case(json!({"address": "40001", "type": "u16", "bit": 12, "bits": 5}), Err("bit"))]
    #[case(json!({"address": "40001", "type": "f32", "bit": 1}), Err("bit"))]
    #[case(json!({"address": "coil 1", "type": "bool", "bit": 1}), Err("bit"))]
    #[case(json!({"address": "40001", "type": "u16", "bits": 2}), Err("bits"))]
    #[case(json!({"address": "40001", "type": "bcd", "length": 5}), Err("length"))]
    #[case(json!({"address": "40001", "type": "u16", "offset": 65536}), Err("address"))]
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
