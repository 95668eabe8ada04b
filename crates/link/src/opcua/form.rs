//! What the forms of an OPC UA connection and of its tags ask for.

use super::{KIND, settings::Security};
use crate::{
    form::{Choice, Control, Field, Section},
    kind::{Capabilities, Description},
};
use serde_json::json;

const LOGIN: &str = "settings.login";
const SECURITY: &str = "settings.security";
/// Everything but messages in clear.
const SECURED: &[&str] = &[
    "aes256_sha256_rsa_pss_encrypt",
    "aes128_sha256_rsa_oaep_encrypt",
    "basic256_sha256_encrypt",
    "aes256_sha256_rsa_pss_sign",
    "aes128_sha256_rsa_oaep_sign",
    "basic256_sha256_sign",
];

pub(super) fn describe() -> Description {
    Description {
        kind: KIND,
        title: "OPC UA",
        about: "A server that is read over opc.tcp. A server of the older generation, which needs Windows, is reached through a bridge to OPC UA.",
        first: "Server 1",
        sections: vec![
            Section { title: "", folded: false, fields: first() },
            Section { title: "Certificates", folded: false, fields: certificates() },
            Section { title: "How values come", folded: true, fields: coming() },
            Section { title: "Groups and spare addresses", folded: true, fields: more() },
        ],
        point: vec![
            Field::text("address", "Node").hint("such as nsu=urn:dryer;s=Zone1.Temperature").width(6),
            Field::text("element", "Element of an array").hint("3, or 2:5").width(2),
            Field::text("part", "Member of a structure").hint("/temperature, or /2/temperature").width(2),
            Field::choice(
                "type",
                "Holds",
                vec![
                    Choice::new("", "what the server sends"),
                    Choice::new("bool", "a switch"),
                    Choice::new("i64", "a whole number"),
                    Choice::new("f64", "a number"),
                    Choice::new("text", "text"),
                ],
            )
            .width(2),
            Field::text("method", "Method of the node").hint("called when the tag is written").width(2),
            Field::text("arguments", "Its arguments").hint("From: UInt32, Name: String").width(2),
            Field::text("deadband", "Deadband").hint("0.5 or 2 %; otherwise the connection’s").width(2),
        ],
        starts: Vec::new(),
        can: Capabilities {
            test: true,
            browse: true,
            tree: true,
            tells: true,
            changes: true,
            records: true,
            asks: true,
            health: true,
            ..Capabilities::default()
        },
    }
}

fn first() -> Vec<Field> {
    vec![
        Field::text("settings.url", "Address").hint("such as opc.tcp://10.0.4.31:4840").width(4),
        Field::choice(
            LOGIN,
            "Log in",
            vec![
                Choice::new("anonymous", "as nobody (anonymous)"),
                Choice::new("user", "with name and password"),
                Choice::new("certificate", "with a certificate"),
            ],
        )
        .width(2),
        Field::text("settings.user", "User name").only(LOGIN, &["user"]).width(3),
        Field::new("settings.password", "Password", Control::Password)
            .hint("encrypted when saved, never shown again")
            .only(LOGIN, &["user"])
            .width(3),
        Field::new("settings.certificate", "Certificate of the login", Control::Pem)
            .usual("")
            .only(LOGIN, &["certificate"])
            .width(3),
        Field::new("settings.key", "Its private key (RSA)", Control::PemSecret)
            .hint("encrypted when saved, never shown again")
            .only(LOGIN, &["certificate"])
            .width(3),
        Field::choice(SECURITY, "Security of messages", security()).hint("the test offers the best of the server").width(6),
        Field::number("interval_ms", "Publishing interval, ms").usual(1000).width(2),
        Field::number("timeout_ms", "Timeout, ms").usual(1000).width(2),
        Field::tick("enabled", "Reading on", true).width(3),
        Field::tick("writing", "Allow writing to the server", false).width(3),
    ]
}

/// In clear first, as it is the default of connections that do not name one.
fn security() -> Vec<Choice> {
    let best = Security::ALL.into_iter().filter(|s| *s != Security::None);
    [Security::None].into_iter().chain(best).map(|s| Choice::new(s.name(), s.words())).collect()
}

fn coming() -> Vec<Field> {
    const DELIVERY: &str = "settings.delivery";
    let ways = vec![
        Choice::new("changes", "the server sends what changes (subscription)"),
        Choice::new("reads", "Havrel reads at each interval, for servers without subscriptions"),
    ];
    let sent = |field: Field| field.only(DELIVERY, &["changes"]).width(2);
    vec![
        Field::choice(DELIVERY, "Values come because", ways).width(6),
        sent(Field::number("settings.sampling_ms", "Sampling interval, ms").hint("nothing: as often as it sends")),
        sent(Field::text("settings.deadband", "Deadband of all tags").hint("0.5 in the unit, or 2 % of the range")),
        sent(Field::number("settings.queue", "Values kept for each tag").usual(10).hint("between two messages")),
        Field::tick("settings.fill", "Fill gaps after an outage with what the server recorded", true).width(6),
    ]
}

fn certificates() -> Vec<Field> {
    let fields = [
        Field::new("settings.fingerprint", "Fingerprint of the server’s certificate (SHA-256)", Control::Fingerprint)
            .usual("")
            .hint("the test shows it; only this certificate is then trusted")
            .width(6),
        Field::new("settings.authority", "or authorities that vouch for the server", Control::Pem).usual("").width(3),
        Field::new("settings.revoked", "What they have revoked", Control::Pem).usual("").width(3),
        Field::tick("settings.expired", "Accept a trusted certificate outside its validity period", false).width(6),
        Field::new("own", "Havrel’s own certificate, which the server must trust", Control::OwnCertificate).width(6),
    ];
    fields.into_iter().map(|field| field.only(SECURITY, SECURED)).collect()
}

fn more() -> Vec<Field> {
    let fingerprint = Field::new("fingerprint", "Fingerprint, if its certificate is another one", Control::Fingerprint).usual("");
    let fields = vec![Field::text("url", "Address").width(6), fingerprint.only(SECURITY, SECURED).width(6)];
    let spare = Control::List { noun: "Spare address", most: 3, fields };
    vec![
        Field::new("groups", "Groups", Control::Groups).usual(json!([])).width(6),
        Field::new("settings.spare", "Spare addresses of the same server, or of a redundant one", spare)
            .usual(json!([]))
            .width(6),
        Field::tick("settings.takeover", "Switch to the next address if the one in use fails", true)
            .only("settings.spare", &[])
            .width(6),
        Field::tick("settings.warm", "Keep a session open at the next address, which then takes over without a gap", true)
            .only("settings.spare", &[])
            .width(6),
    ]
}
