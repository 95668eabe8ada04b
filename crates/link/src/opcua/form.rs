//! What the forms of an OPC UA connection and of its tags ask for.

use super::KIND;
use crate::{
    form::{Choice, Control, Field, Section},
    kind::{Capabilities, Description},
};
use serde_json::json;

const LOGIN: &str = "settings.login";
pub(super) fn describe() -> Description {
    Description {
        kind: KIND,
        title: "OPC UA",
        about: "A server that is read over opc.tcp. A server of the older generation, which needs Windows, is reached through a bridge to OPC UA.",
        first: "Server 1",
        sections: vec![
            Section { title: "", folded: false, fields: first() },
            Section { title: "Groups and spare addresses", folded: true, fields: more() },
        ],
        point: vec![
            Field::text("address", "Node").hint("such as nsu=urn:dryer;s=Zone1.Temperature").width(6),
            Field::text("element", "Element of an array").hint("3, or 2:5").width(3),
        ],
        starts: Vec::new(),
        can: Capabilities { test: true, browse: true, tree: true, asks: true, health: true, ..Capabilities::default() },
    }
}

fn first() -> Vec<Field> {
    vec![
        Field::text("settings.url", "Address").hint("such as opc.tcp://10.0.4.31:4840").width(4),
        Field::choice(
            LOGIN,
            "Log in",
            vec![Choice::new("anonymous", "as nobody (anonymous)"), Choice::new("user", "with name and password")],
        )
        .width(2),
        Field::text("settings.user", "User name").only(LOGIN, &["user"]).width(3),
        Field::new("settings.password", "Password", Control::Password)
            .hint("encrypted when saved, never shown again")
            .only(LOGIN, &["user"])
            .width(3),
        Field::number("interval_ms", "Publishing interval, ms").usual(1000).width(2),
        Field::number("settings.queue", "Values kept for each tag").usual(10).hint("between two messages").width(2),
        Field::number("timeout_ms", "Timeout, ms").usual(1000).width(2),
        Field::tick("enabled", "Reading on", true).width(3),
        Field::tick("writing", "Allow writing to the server", false).width(3),
    ]
}

fn more() -> Vec<Field> {
    let spare = Control::List { noun: "Spare address", most: 3, fields: vec![Field::text("url", "Address").width(6)] };
    vec![
        Field::new("groups", "Groups", Control::Groups).usual(json!([])).width(6),
        Field::new("settings.spare", "Spare addresses of the same server, or of a redundant one", spare)
            .usual(json!([]))
            .width(6),
        Field::tick("settings.takeover", "Switch to the next address if the one in use fails", true)
            .only("settings.spare", &[])
            .width(6),
    ]
}
