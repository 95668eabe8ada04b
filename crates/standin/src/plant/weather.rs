//! What the demo asks for over HTTP: the weather at the quay and the tariff of electricity.

use super::{Builder, RuleRow, rule};
use crate::service::{NAME, points::POINTS, serve::TOKEN};
use havrel_core::plant::Kind;
use serde_json::json;

/// The service, asked every five seconds.
pub(super) fn service(b: &mut Builder, port: u16) {
    let settings = json!({"host": "127.0.0.1", "port": port, "login": "bearer", "secret": {"secret": TOKEN},
        "requests": [{"path": "/weather"}, {"path": "/tariff"}]});
    let connection = b.add(Kind::Connection, json!({"name": NAME, "kind": "http", "interval_ms": 5000, "settings": settings}));
    for (order, point) in POINTS.iter().enumerate() {
        let place = b.place(point.place);
        let source = json!({"path": point.path, "member": point.member, "time": "/at"});
        let set = json!({"name": point.name, "place": place, "connection": connection, "point": source, "unit": point.unit,
            "decimals": point.decimals, "order": 20 + order, "record": true, "range_low": point.range.0, "range_high": point.range.1});
        let id = b.add(Kind::Tag, set);
        b.tags.insert((point.place.to_owned(), point.name.to_owned()), id);
    }
    RULES.iter().for_each(|row| rule(b, row.0, row));
}

const RULES: &[RuleRow<'static>] = &[
    (
        "Utilities/Weather",
        "Wind speed",
        "high",
        14.0,
        2.0,
        30.0,
        2,
        "A front passes.",
        "Stop unloading at the quay; close the roof lights of the drying hall.",
    ),
    (
        "Utilities",
        "Price of electricity",
        "high",
        0.24,
        0.01,
        0.0,
        1,
        "It is the dearest hour of the day.",
        "Put off grinding until the price falls.",
    ),
];
