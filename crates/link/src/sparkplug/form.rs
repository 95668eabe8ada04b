//! What the forms of a connection to edge nodes and of its tags ask for.

use super::{KIND, settings::LARGEST};
use crate::{
    form::{Field, Section},
    kind::{Capabilities, Description},
    mqtt::form as broker,
};

pub(super) fn describe() -> Description {
    let mut first = broker::reached();
    first.extend([
        Field::text("settings.groups", "Groups, divided by commas").hint("empty: all").width(3),
        Field::number("timeout_ms", "Timeout, ms").usual(1000),
        Field::tick("enabled", "Listening on", true),
        Field::tick("writing", "Allow commands", false),
    ]);
    let host = vec![
        Field::text("settings.host_id", "Host id").usual("havrel").hint("as edge nodes name their primary host").width(3),
        Field::tick("settings.state", "Tell edge nodes that this host is there", true).width(3),
        Field::number("settings.reorder_ms", "Wait for messages that come out of order, ms").usual(1000).width(3),
        Field::text("settings.buffer", "Metric with the level of a buffer").usual("Buffer/Level").hint("empty: none").width(3),
        Field::text("settings.client_id", "Client id").hint("empty: another one at each start").width(3),
        Field::number("settings.keep_alive_s", "Keep-alive, s").usual(30),
        Field::number("settings.largest", "Largest message, bytes").usual(LARGEST).width(2),
    ];
    let mut more = host;
    more.extend(broker::spare("Spare addresses of the broker, or of another one with the same edge nodes"));
    Description {
        kind: KIND,
        title: "Sparkplug B",
        about: "A broker on which edge nodes announce themselves, their devices and metrics.",
        first: "Edge nodes",
        sections: vec![
            Section { title: "", folded: false, fields: first },
            Section { title: "Security", folded: false, fields: broker::security() },
            Section { title: "Host application, session and spare addresses", folded: true, fields: more },
        ],
        point: vec![
            Field::text("group", "Group").width(2),
            Field::text("node", "Edge node").width(2),
            Field::text("device", "Device").hint("empty: the edge node").width(2),
            Field::text("metric", "Metric").hint("such as Inlet/pH").width(3),
            Field::text("member", "Part of its value").hint("such as /Speed; empty: all of it").width(3),
        ],
        starts: Vec::new(),
        can: Capabilities {
            test: true,
            browse: true,
            tree: true,
            health: true,
            changes: true,
            tells: true,
            announces: true,
            ..Capabilities::default()
        },
    }
}
