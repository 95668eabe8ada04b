//! What the forms of an MQTT connection and of its tags ask for.

use super::KIND;
use crate::{
    form::{Choice, Control, Field, Section},
    kind::{Capabilities, Description, Start},
    payload_form, tls,
};
use serde_json::json;

const TRANSPORT: &str = "settings.transport";
const SECURED: &[&str] = &["tls", "websocket_tls"];
const WEBSOCKET: &[&str] = &["websocket", "websocket_tls"];

pub(super) fn describe() -> Description {
    Description {
        kind: KIND,
        title: "MQTT",
        about: "A broker through which devices and programs send messages on topics.",
        first: "Broker 1",
        sections: vec![
            Section { title: "", folded: false, fields: first() },
            Section { title: "Security", folded: false, fields: security() },
            Section { title: "Session, last will, test and spare addresses", folded: true, fields: more() },
        ],
        point: point(),
        starts: Start::several(&[
            ("a member of a JSON message", json!({"topic": "site/meter", "format": "json", "member": "/power"})),
            ("a number", json!({"topic": "site/temperature", "format": "number"})),
        ]),
        can: Capabilities {
            test: true,
            browse: true,
            tree: true,
            health: true,
            changes: true,
            listens: true,
            publishes: true,
            ..Capabilities::default()
        },
    }
}

fn port(key: &'static str) -> Field {
    let usual = Field::number(key, "Port").usual(1883).usual_while(TRANSPORT, &["tls"], 8883);
    usual.usual_while(TRANSPORT, &["websocket"], 80).usual_while(TRANSPORT, &["websocket_tls"], 443)
}

/// How a broker is secured.
pub(crate) fn security() -> Vec<Field> {
    let mut security = tls::fields(TRANSPORT, SECURED);
    security.push(
        Field::text("settings.server_name", "Name in the broker’s certificate, if it is not the host")
            .only(TRANSPORT, SECURED)
            .width(6),
    );
    security
}

/// Where a broker is reached, and as whom.
pub(crate) fn reached() -> Vec<Field> {
    let transports = vec![
        Choice::new("tcp", "TCP, in clear"),
        Choice::new("tls", "TCP, secured by TLS"),
        Choice::new("websocket", "WebSocket, in clear"),
        Choice::new("websocket_tls", "WebSocket, secured by TLS"),
    ];
    vec![
        Field::choice(TRANSPORT, "Transport", transports).width(2),
        Field::text("settings.host", "Host").hint("such as 10.0.4.41").width(2),
        port("settings.port"),
        Field::text("settings.path", "Path").usual("/mqtt").only(TRANSPORT, WEBSOCKET),
        Field::choice("settings.version", "Version", vec![Choice::new("5", "MQTT 5"), Choice::new("3.1.1", "MQTT 3.1.1")]),
        Field::text("settings.user", "User").width(2),
        Field::new("settings.password", "Password", Control::Password).hint("encrypted when saved, never shown again").width(2),
    ]
}

fn first() -> Vec<Field> {
    let mut all = reached();
    all.extend([
        Field::choice_of(
            "settings.qos",
            "Quality of service",
            &[(0, "0, at most once"), (1, "1, at least once"), (2, "2, once")],
        )
        .usual(1)
        .width(2),
        Field::number("settings.silent_s", "Silent too long after, s").usual(0).hint("0: never").width(2),
        Field::number("timeout_ms", "Timeout, ms").usual(1000).width(2),
        Field::tick("enabled", "Listening on", true).width(3),
        Field::tick("writing", "Allow writing to topics", false).width(3),
    ]);
    all
}

/// The spare addresses of a broker, under this heading.
pub(crate) fn spare(label: &'static str) -> [Field; 2] {
    let fields = vec![Field::text("host", "Host").width(3), port("port")];
    let spare = Control::List { noun: "Spare address", most: 3, fields };
    [
        Field::new("settings.spare", label, spare).usual(json!([])).width(6),
        Field::tick("settings.takeover", "Switch to the next address if the one in use fails", true)
            .only("settings.spare", &[])
            .width(6),
    ]
}

fn more() -> Vec<Field> {
    const LASTING: &str = "settings.clean";
    let will = |field: Field| field.only("settings.will.topic", &[]);
    let mut all = vec![
        Field::text("settings.client_id", "Client id").hint("empty: another one at each start").width(3),
        Field::number("settings.keep_alive_s", "Keep-alive, s").usual(30),
        Field::number("settings.largest", "Largest message, bytes").usual(1 << 20).width(2),
        Field::tick(LASTING, "Begin each session anew; the broker keeps nothing meanwhile", true).width(4),
        Field::number("settings.expiry_s", "Kept for, s (MQTT 5)").usual(3600).width(2),
        Field::text("settings.will.topic", "Topic of the last will").width(3),
        will(Field::text("settings.will.message", "Its message")).width(3),
        will(Field::choice_of("settings.will.qos", "Its quality of service", &[(0, "0"), (1, "1"), (2, "2")]).usual(0)).width(3),
        will(Field::tick("settings.will.retain", "Retained", false)).width(3),
        Field::text("settings.test_topic", "Topic on which a test may publish").hint("empty: none").width(6),
    ];
    all.extend(spare("Spare addresses of the broker, or of another one with the same messages"));
    all
}

fn point() -> Vec<Field> {
    let mut all = vec![Field::text("topic", "Topic").hint("such as site/boiler").width(4)];
    all.extend(payload_form::fields(true));
    all.extend([
        Field::number("silent_s", "Silent too long after, s").hint("empty: as the connection says").width(3),
        Field::text("write_topic", "Topic to write to").hint("empty: it cannot be written").width(3),
        Field::text("write_message", "Message that writes")
            .hint("{\"setpoint\": {value}}; empty: the value")
            .only("write_topic", &[])
            .width(3),
        Field::tick("write_retain", "Retained", false).only("write_topic", &[]).width(6),
    ]);
    all
}
