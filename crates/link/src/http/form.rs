//! What the forms of an HTTP connection and of its tags ask for.

use super::KIND;
use crate::{
    form::{Choice, Control, Field, Section},
    kind::{Capabilities, Description, Start},
    payload_form, tls,
};
use serde_json::json;

const SCHEME: &str = "settings.scheme";
const SECURED: &[&str] = &["https"];
const LOGIN: &str = "settings.login";

pub(super) fn describe() -> Description {
    let mut point = vec![Field::text("path", "Path").hint("such as /weather").width(4)];
    point.extend(payload_form::fields(false));
    Description {
        kind: KIND,
        title: "HTTP",
        about: "A program that answers requests with JSON, text or numbers.",
        first: "Program 1",
        sections: vec![
            Section { title: "", folded: false, fields: first() },
            Section { title: "Security", folded: false, fields: security() },
            Section { title: "Headers, redirects, size and spare addresses", folded: true, fields: more() },
        ],
        point,
        starts: Start::several(&[
            ("a member of a JSON answer", json!({"path": "/status", "format": "json", "member": "/power"})),
            ("a number", json!({"path": "/temperature", "format": "number"})),
        ]),
        can: Capabilities { test: true, browse: true, tree: true, asks: true, health: true, ..Capabilities::default() },
    }
}

fn port(key: &'static str) -> Field {
    Field::number(key, "Port").usual(80).usual_while(SCHEME, SECURED, 443)
}

/// Where a program is reached; `path` is what the path of the connection is called.
pub(crate) fn reach(path: &'static str, hint: &'static str) -> Vec<Field> {
    let schemes = vec![Choice::new("http", "HTTP, in clear"), Choice::new("https", "HTTPS, secured by TLS")];
    vec![
        Field::choice(SCHEME, "Transport", schemes).width(2),
        Field::text("settings.host", "Host").hint("such as 10.0.4.51").width(2),
        port("settings.port"),
        Field::text("settings.path", path).hint(hint).width(2),
    ]
}

/// How Havrel says who it is.
pub(crate) fn login() -> Vec<Field> {
    let logins = vec![
        Choice::new("none", "none"),
        Choice::new("basic", "user and password"),
        Choice::new("bearer", "token (bearer)"),
        Choice::new("header", "a header"),
    ];
    vec![
        Field::choice(LOGIN, "Login", logins).width(2),
        Field::text("settings.user", "User").only(LOGIN, &["basic"]).width(2),
        Field::text("settings.header", "Name of the header").hint("such as X-Api-Key").only(LOGIN, &["header"]).width(2),
        Field::new("settings.secret", "Password, token or text of the header", Control::Password)
            .hint("encrypted when saved, never shown again")
            .only(LOGIN, &["basic", "bearer", "header"])
            .width(2),
    ]
}

/// How the stream is secured.
pub(crate) fn security() -> Vec<Field> {
    let mut fields = tls::fields(SCHEME, SECURED);
    let name = Field::text("settings.server_name", "Name in the program’s certificate, if it is not the host");
    fields.push(name.only(SCHEME, SECURED).width(6));
    fields
}

/// Headers of our own.
pub(crate) fn headers() -> Field {
    let header = vec![Field::text("name", "Name").width(3), Field::text("value", "Text").width(3)];
    let headers = Control::List { noun: "Header", most: 20, fields: header };
    Field::new("settings.headers", "Headers that are sent with each request", headers).usual(json!([])).width(6)
}

fn first() -> Vec<Field> {
    let request = vec![
        Field::text("path", "Path").hint("such as /weather").width(3),
        Field::choice("method", "Method", vec![Choice::new("GET", "GET"), Choice::new("POST", "POST")]).width(2),
        Field::text("body", "Body").hint("JSON").only("method", &["POST"]).width(6),
    ];
    let requests = Control::List { noun: "Request", most: 100, fields: request };
    let mut fields = reach("Before every path", "such as /api");
    fields.push(Field::new("settings.requests", "What is asked for", requests).usual(json!([])).width(6));
    fields.extend(login());
    fields.extend([
        Field::number("interval_ms", "Interval, ms").usual(1000).width(2),
        Field::number("timeout_ms", "Timeout, ms").usual(1000).width(2),
        Field::new("groups", "Groups with an interval of their own", Control::Groups).usual(json!([])).width(6),
        Field::tick("enabled", "Asking on", true).width(3),
    ]);
    fields
}

fn more() -> Vec<Field> {
    let spare = vec![Field::text("host", "Host").width(3), port("port")];
    let spare = Control::List { noun: "Spare address", most: 3, fields: spare };
    vec![
        headers(),
        Field::tick("settings.elsewhere", "An answer may send on to another host, which hears nothing of the login", false)
            .width(6),
        Field::number("settings.largest", "Largest answer, bytes").usual(1 << 20).width(2),
        Field::new("settings.spare", "Spare addresses of the program, or of another one with the same answers", spare)
            .usual(json!([]))
            .width(6),
        Field::tick("settings.takeover", "Switch to the next address if the one in use fails", true)
            .only("settings.spare", &[])
            .width(6),
    ]
}
