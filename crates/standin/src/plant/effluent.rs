//! What the demo hears of the remote station at the outlet; its basin is left to be found.

use super::{Builder, RuleRow, rule};
use crate::{
    effluent::{
        GROUP, NAME, NODE,
        points::{POINTS, Point},
    },
    utilities::serve::{PASSWORD, USER},
};
use havrel_core::plant::Kind;
use serde_json::{Value as Json, json};

/// Where a tag of a point is read.
pub fn source(point: &Point) -> Json {
    let mut source = json!({"group": GROUP, "node": NODE, "device": point.device, "metric": point.metric});
    if !point.member.is_empty() {
        source["member"] = json!(format!("/{}", point.member));
    }
    source
}

/// The station, through the broker of the site.
pub(super) fn station(b: &mut Builder, port: u16) {
    let settings = json!({"host": "127.0.0.1", "port": port, "user": USER, "password": {"secret": PASSWORD}});
    let set = json!({"name": NAME, "kind": "sparkplug", "writing": true, "settings": settings});
    let connection = b.add(Kind::Connection, set);
    for (order, point) in POINTS.iter().filter(|point| point.device != "Basin").enumerate() {
        let place = b.place(&point.path());
        let mut set = json!({
            "name": point.name, "place": place, "connection": connection, "point": source(point), "unit": point.unit,
            "decimals": point.decimals, "order": order, "record": true, "note": point.note, "writable": point.writable,
        });
        if let Some((low, high)) = point.range {
            set["range_low"] = json!(low);
            set["range_high"] = json!(high);
            set["record_deadband"] = json!((high - low) / 1000.0);
        }
        let id = b.add(Kind::Tag, set);
        b.tags.insert((point.path(), point.name.to_owned()), id);
    }
    RULES.iter().for_each(|row| rule(b, row.0, row));
}

const RULES: &[RuleRow<'static>] = &[
    (
        "Effluent/Outlet",
        "pH",
        "high",
        7.85,
        0.05,
        60.0,
        2,
        "A vessel is discharged faster than acid is dosed.",
        "Ask Extraction to hold the next discharge; check the dosing of acid.",
    ),
    (
        "Effluent/Outlet",
        "Turbidity",
        "high",
        32.0,
        2.0,
        60.0,
        2,
        "Fine particles pass the clarifier.",
        "Slow the pump; let the basin settle.",
    ),
];
