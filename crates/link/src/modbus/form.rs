//! What the forms of a Modbus connection and of its tags ask for.

use super::{KIND, Order, Type};
use crate::{
    form::{Choice, Control, Field, Section, While, choices},
    kind::{Capabilities, Description},
    tls,
};
use serde_json::json;

/// Where requests travel in frames of a network rather than of a line.
const NETWORK: &[&str] = &["tcp", "tls", "rtu_over_tcp"];
const SERIAL: &[&str] = &["serial"];
/// Where there can be several connections to one device.
const OWN_FRAMES: &[&str] = &["tcp", "tls"];
const TLS: &[&str] = &["tls"];
const TRANSPORT: &str = "settings.transport";

pub(super) fn describe() -> Description {
    Description {
        kind: KIND,
        title: "Modbus",
        about: "A controller or device that is read over TCP, over TCP with serial frames, or over a serial line.",
        first: "Controller 1",
        sections: vec![
            Section { title: "", folded: false, fields: first() },
            Section { title: "Security", folded: false, fields: tls::fields(TRANSPORT, TLS) },
            Section { title: "Requests, groups and spare addresses", folded: true, fields: more() },
        ],
        point: point(),
        starts: Vec::new(),
        can: Capabilities { test: true, browse: true, spaces: true, asks: true, health: true, ..Capabilities::default() },
    }
}

fn first() -> Vec<Field> {
    vec![
        Field::choice(
            TRANSPORT,
            "Transport",
            vec![
                Choice::new("tcp", "TCP"),
                Choice::new("tls", "TCP, secured by TLS"),
                Choice::new("rtu_over_tcp", "TCP with serial frames (RTU)"),
                Choice::new("serial", "Serial line (RTU)"),
            ],
        )
        .width(2),
        Field::text("settings.device", "Line").hint("such as /dev/ttyUSB0").only(TRANSPORT, SERIAL).width(2),
        Field::number("settings.baud", "Baud").usual(19_200).only(TRANSPORT, SERIAL),
        Field::choice("settings.parity", "Parity", choices(&["even", "odd", "none"])).only(TRANSPORT, SERIAL),
        Field::choice_of("settings.stop_bits", "Stop bits", &[(1, "1"), (2, "2")]).usual(1).only(TRANSPORT, SERIAL),
        Field::text("settings.host", "Host").hint("such as 10.0.4.21").only(TRANSPORT, NETWORK),
        port("settings.port").only(TRANSPORT, NETWORK),
        Field::number("settings.unit", "Unit id").usual(1),
        Field::choice_of("settings.base", "Manual counts from", &[(0, "0"), (1, "1")]).usual(1),
        Field::choice("settings.order", "Byte order", Order::ALL.iter().map(|o| Choice::new(o.name(), o.name())).collect()),
        Field::number("interval_ms", "Poll interval, ms").usual(1000),
        Field::number("timeout_ms", "Timeout, ms").usual(1000),
        Field::tick("enabled", "Polling on", true).width(3),
        Field::tick("writing", "Allow writing to the device", false).width(3),
    ]
}

/// Modbus has port 502; secured, 802 (MODBUS/TCP Security protocol specification).
fn port(key: &'static str) -> Field {
    Field::number(key, "Port").usual(502).usual_while(TRANSPORT, TLS, 802)
}

fn more() -> Vec<Field> {
    // Functions that write (Modbus application protocol V1.1b3, §6).
    let functions = [
        (5, "one coil (5)"),
        (15, "many coils (15)"),
        (6, "one register (6)"),
        (16, "many registers (16)"),
        (22, "bits of a register (22)"),
        (23, "write and read back at once (23)"),
    ];
    let functions = functions.iter().map(|(code, words)| Choice::new(code.to_string(), words)).collect();
    let spare = vec![
        Field::text("device", "Line").only(TRANSPORT, SERIAL).width(4),
        Field::text("host", "Host").only(TRANSPORT, NETWORK).width(3),
        port("port").only(TRANSPORT, NETWORK),
    ];
    let spare = Control::List { noun: "Spare address", most: 3, fields: spare };
    vec![
        Field::number("settings.limit", "Registers per request").usual(125).hint("1 to 125"),
        Field::number("settings.gap", "Largest gap to read across").usual(16).hint("registers nobody wants").width(2),
        Field::number("settings.spacing_ms", "Pause between requests, ms").usual(0).width(2),
        Field::number("settings.parallel", "Requests at once").usual(1).hint("1 to 8").only(TRANSPORT, OWN_FRAMES),
        Field::new("settings.writes", "Write with functions", Control::Ticks { options: functions })
            .usual(json!([5, 6, 15, 16, 22]))
            .width(6),
        Field::new("groups", "Polling groups", Control::Groups).usual(json!([])).width(6),
        Field::new("settings.spare", "Spare addresses of the same device", spare).usual(json!([])).width(6),
        Field::tick("settings.takeover", "Switch to the next address if the one in use fails", true)
            .only("settings.spare", &[])
            .width(6),
    ]
}

fn point() -> Vec<Field> {
    const UNSIGNED: &[&str] = &["u16", "u32", "u64"];
    const LONG: &[&str] = &["u64", "i64", "f64"];
    use Type::{Bcd, Bool, F32, F64, I16, I32, I64, Text, U16, U32, U64};
    let types = [U16, I16, U32, I32, U64, I64, F32, F64, Bcd, Bool, Text];
    let types = types.iter().map(|t| Choice::new(t.name(), t.name())).collect();
    let order = |o: &Order| {
        let only = (o.name().len() > 4).then_some(While { field: "type", is: LONG });
        Choice { only, ..Choice::new(o.name(), o.name()) }
    };
    let orders = [Choice::new("", "as set")].into_iter().chain(Order::ALL.iter().map(order)).collect();
    vec![
        Field::new("address", "Address", Control::Address).usual("").width(4),
        Field::choice("type", "Type", types).width(2),
        Field::choice("order", "Order", orders).width(2),
        Field::number("length", "Registers").only("type", &["text", "bcd"]).width(2),
        Field::number("bit", "From bit").only("type", &["bool", "u16", "u32", "u64"]).width(2),
        Field::number("bits", "Number of bits").only("type", UNSIGNED).width(2),
        Field::number("unit", "Unit id").width(2),
    ]
}
