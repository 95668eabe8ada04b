//! What the demo hears as messages: the utilities behind their broker.

use super::{Builder, RuleRow, rule, states_of};
use crate::utilities::{
    NAME,
    points::{Point, ROOT, points},
    serve::{PASSWORD, USER},
};
use havrel_core::plant::Kind;
use serde_json::{Value as Json, json};
use uuid::Uuid;

/// The utilities behind their broker: the boiler, the compressor and half of the meters; the others are left to be found.
pub(super) fn utilities(b: &mut Builder, port: u16) {
    let settings = json!({"host": "127.0.0.1", "port": port, "user": USER, "password": {"secret": PASSWORD},
        "test_topic": "havrel/test", "silent_s": 30});
    let set = json!({"name": NAME, "kind": "mqtt", "writing": true, "settings": settings});
    let connection = b.add(Kind::Connection, set);
    let left = |place: &str| ["M5", "M6", "M7", "M8"].iter().any(|meter| place.ends_with(meter));
    for (order, point) in points().iter().filter(|point| !left(&point.place)).enumerate() {
        let place = b.place(&point.place);
        let mut set = json!({
            "name": point.name, "place": place, "connection": connection, "point": source(point), "unit": point.unit,
            "decimals": point.decimals, "order": order, "record": true, "note": point.note, "writable": !point.set.is_empty(),
        });
        if let Some((low, high)) = point.range {
            set["range_low"] = json!(low);
            set["range_high"] = json!(high);
            // Some counters run far.
            set["record_deadband"] = json!(((high - low) / 1000.0).min(0.5));
        }
        if let Some(states) = states_of(b, point.name) {
            set["states"] = json!(states);
        }
        let id = b.add(Kind::Tag, set);
        b.tags.insert((point.place.clone(), point.name.to_owned()), id);
    }
    let (pressure, wanted) = (b.tag("Utilities/Boiler", "Steam pressure"), b.tag("Utilities/Boiler", "Pressure setpoint"));
    b.set(pressure, "setpoint", json!(wanted));
    UTILITY_RULES.iter().for_each(|row| rule(b, row.0, row));
    publications(b, connection);
}

/// What others hear of the plant through the same broker: the vessels, one message each.
fn publications(b: &mut Builder, connection: Uuid) {
    let extraction = b.place("Extraction");
    let payload =
        "{\n  \"sent\": \"{now}\",\n  \"{name}\": {\"value\": \"{value}\", \"unit\": \"{unit}\", \"quality\": \"{quality}\"}\n}";
    b.add(
        Kind::Publication,
        json!({"name": "Vessels to the laboratory", "connection": connection, "places": [extraction], "words": "EX-",
            "topic": "havrel/{2}/{3}", "plain": true, "payload": payload, "when": {"on": "interval", "every_ms": 10_000}}),
    );
}

/// Where a tag of a point is heard.
fn source(point: &Point) -> Json {
    let topic = format!("{ROOT}/{}", point.topic);
    let mut source = match point.member {
        "" => json!({"topic": topic, "format": "number"}),
        member => json!({"topic": topic, "member": format!("/{member}"), "time": "/ts", "clock": "milliseconds"}),
    };
    if !point.set.is_empty() {
        source["write_topic"] = json!(format!("{ROOT}/{}", point.set));
        source["write_message"] = json!(format!("{{\"{}\": {{value}}}}", point.member));
    }
    source
}

const UTILITY_RULES: &[RuleRow<'static>] = &[
    (
        "Utilities/Boiler",
        "Steam pressure",
        "low",
        7.2,
        0.2,
        20.0,
        3,
        "More steam is drawn than the burner gives.",
        "Ask Extraction to heat one vessel after the other.",
    ),
    (
        "Utilities/Air compressor",
        "Air pressure",
        "low",
        6.2,
        0.2,
        10.0,
        2,
        "The compressor does not load, or a line leaks.",
        "Check the compressor; close the line to Packing.",
    ),
];
