//! The test of a connection before it is trusted: a ladder that stops at the first rung that breaks. Each spare address is
//! climbed too.

use super::{
    client::{self, Dial, Speaking},
    settings::{Login, Path, Security, Settings},
    status,
};
use crate::{LinkError, TestStep, net, test::Rungs};
use havrel_core::plant::Connection;
use opcua::types::{AttributeId, EndpointDescription, ReadValueId, TimestampsToReturn, VariableId};
use std::time::Instant;
use tokio::sync::mpsc;

pub(super) async fn climb_all(connection: &Connection, steps: mpsc::Sender<TestStep>) {
    let settings = match Settings::usable(&connection.settings) {
        Ok(settings) => settings,
        Err(error) => {
            let rungs = Rungs::of_path(steps, 0);
            let _: Option<()> = rungs.rung("Settings", "the form".into(), Instant::now(), Err(error)).await;
            return;
        }
    };
    for (i, path) in settings.paths().into_iter().enumerate() {
        if steps.is_closed() {
            return;
        }
        // When one address fails, the others are tested all the same.
        let _: Option<()> = climb(&settings, &path, connection.timeout_ms, &Rungs::of_path(steps.clone(), i)).await;
    }
}

async fn climb(settings: &Settings, path: &Path, timeout_ms: u32, rungs: &Rungs) -> Option<()> {
    let began = Instant::now();
    let target = path.target().ok()?;
    let found = net::resolve(&target.host, target.port).await.map(|f| {
        let words = f.iter().map(|a| a.ip().to_string()).collect::<Vec<_>>().join(", ");
        (f, words)
    });
    let found = rungs.rung("Name", format!("look up {}", target.host), began, found).await?;
    let began = Instant::now();
    let opened = net::connect(&target.host, &found, timeout_ms).await.map(|_| ((), "open".to_owned()));
    rungs.rung("Port", format!("open port {}", target.port), began, opened).await?;

    let began = Instant::now();
    let dial = Dial::new(target, timeout_ms);
    let endpoints = client::endpoints(&dial).await.map(|found| {
        let words = offered(&found, settings);
        (found, words)
    });
    let found = rungs.rung("Endpoints", "ask the server what it offers".into(), began, endpoints).await?;

    let began = Instant::now();
    let chosen = client::choose(&found, settings).map(|endpoint| {
        let named = endpoint.endpoint_url.as_ref();
        let other = named != path.show().as_str() && !named.is_empty();
        let words = match other {
            true => format!("found; the server calls it {named}, and Havrel uses {}", path.show()),
            false => "found".to_owned(),
        };
        (endpoint, words)
    });
    let tried = format!("look for messages {}", settings.security.words());
    let endpoint = rungs.rung("Endpoint", tried, began, chosen).await?;

    let began = Instant::now();
    let opened = Speaking::open(&dial, settings, endpoint).await.map(|s| (s, "the session is open".to_owned()));
    let session = rungs.rung("Login", login_words(settings), began, opened).await?;

    let began = Instant::now();
    let read = value(&session, timeout_ms).await;
    let result = rungs.rung("Value", "read the server’s state and clock".into(), began, read).await;
    session.close().await;
    result
}

fn login_words(settings: &Settings) -> String {
    match settings.login {
        Login::Anonymous => "open a session as nobody (anonymous)".into(),
        Login::User => format!("open a session as {}", settings.user.trim()),
    }
}

/// What a server offers, the best first, and why some of it is of no use.
fn offered(found: &[EndpointDescription], settings: &Settings) -> String {
    let mut all: Vec<String> = Vec::new();
    for endpoint in found {
        let why = match client::security_of(endpoint) {
            None => " (Havrel does not take this policy any more)",
            Some(security) if security != Security::None => " (Havrel cannot use it yet)",
            Some(_) if !client::takes(endpoint, settings.login) => " (not with this login)",
            Some(_) => "",
        };
        let words = format!("{}{why}", client::words_of(endpoint));
        if !all.contains(&words) {
            all.push(words);
        }
    }
    if all.is_empty() { "none".into() } else { all.join("; ") }
}

async fn value(speaking: &Speaking, timeout_ms: u32) -> Result<((), String), LinkError> {
    let node =
        |id: VariableId| ReadValueId { node_id: id.into(), attribute_id: AttributeId::Value as u32, ..ReadValueId::default() };
    let nodes = [node(VariableId::Server_ServerStatus_State), node(VariableId::Server_ServerStatus_CurrentTime)];
    let read = speaking.session.read(&nodes, TimestampsToReturn::Both, 0.0).await;
    let read = read.map_err(|e| status::error(e.status(), timeout_ms))?;
    let held: Vec<_> = read.iter().map(|d| d.value.as_ref().and_then(|v| super::value::value(v).ok())).collect();
    let [Some(state), Some(time)] = held.as_slice() else {
        return Err(LinkError::WrongAnswer("it tells neither state nor time".into()));
    };
    let state = match state.number() {
        Some(0.0) => "running",
        Some(1.0) => "failed",
        Some(2.0) => "without configuration",
        Some(3.0) => "suspended",
        Some(4.0) => "shutting down",
        Some(5.0) => "testing",
        Some(6.0) => "in a communication fault",
        _ => "in an unknown state",
    };
    Ok(((), format!("the server is {state}; its clock reads {}", time.to_json().as_str().unwrap_or_default())))
}
