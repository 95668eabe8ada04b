//! The test of a connection before it is trusted: a ladder that stops at the first rung that breaks. Each spare address is
//! climbed too.

use super::{
    client::Speaking,
    dial::Dial,
    endpoints::{self, choose},
    prepared::{Prepared, trusted},
    settings::{Login, Security, Settings},
    status,
};
use crate::{Identities, LinkError, Offer, TestStep, net, test::Rungs};
use havrel_core::plant::Connection;
use opcua::types::{AttributeId, EndpointDescription, ReadValueId, TimestampsToReturn, VariableId};
use std::{sync::Arc, time::Instant};
use tokio::sync::mpsc;

pub(super) async fn climb_all(connection: &Connection, identities: &Arc<dyn Identities>, steps: mpsc::Sender<TestStep>) {
    let settings = match Settings::usable(&connection.settings) {
        Ok(settings) => settings,
        Err(error) => return Rungs::refuse(steps, error).await,
    };
    for path in 0..settings.paths().len() {
        if steps.is_closed() {
            return;
        }
        // When one address fails, the others are tested all the same.
        let rungs = Rungs::of_path(steps.clone(), path);
        let _: Option<()> = climb(&settings, path, connection.timeout_ms, identities, &rungs).await;
    }
}

async fn climb(settings: &Settings, path: usize, timeout_ms: u32, identities: &Arc<dyn Identities>, rungs: &Rungs) -> Option<()> {
    let began = Instant::now();
    let target = settings.paths().get(path)?.target().ok()?;
    let found = net::resolve(&target.host, target.port).await.map(|f| {
        let words = f.iter().map(|a| a.ip().to_string()).collect::<Vec<_>>().join(", ");
        (f, words)
    });
    let found = rungs.rung("Name", format!("look up {}", target.host), began, found).await?;
    let began = Instant::now();
    let opened = net::connect(&target.host, &found, timeout_ms).await.map(|_| ((), "open".to_owned()));
    rungs.rung("Port", format!("open port {}", target.port), began, opened).await?;

    let began = Instant::now();
    let url = target.url.clone();
    let dial = Dial::new(target, timeout_ms);
    let (found, offers) = match endpoints::endpoints(&dial).await {
        Ok(found) => {
            let offers = better(&found, settings).into_iter().chain(others(&dial, path).await).collect();
            let words = offered(&found, settings);
            (Ok((found, words)), offers)
        }
        Err(error) => (Err(error), Vec::new()),
    };
    let found = rungs.rung_with("Endpoints", "ask the server what it offers".into(), began, found, offers).await?;

    let began = Instant::now();
    let chosen = choose(&found, settings).map(|endpoint| {
        let named = endpoint.endpoint_url.as_ref();
        let words = match named != url && !named.is_empty() {
            true => format!("found; the server calls it {named}, and Havrel uses {url}"),
            false => "found".to_owned(),
        };
        (endpoint, words)
    });
    let tried = format!("look for messages {}", settings.security.words());
    let endpoint = rungs.rung("Endpoint", tried, began, chosen).await?;

    let mut server = None;
    let secured = settings.security != Security::None;
    if secured {
        let began = Instant::now();
        let judged = trusted(&dial, settings, path, &endpoint).map(|trusted| {
            let words = trusted.words.clone();
            (trusted, words)
        });
        server = Some(rungs.rung("Certificate", "judge the server’s certificate".into(), began, judged).await?);
    }
    let in_clear = endpoints::tells_password(&endpoint, settings.login);
    let began = Instant::now();
    let prepared = Prepared::new(dial, settings, endpoint, server, identities).await;
    let prepared = match (prepared, secured) {
        (Ok(prepared), false) => prepared,
        (Ok(prepared), true) => {
            let opened = prepared.channel().await;
            let tried = format!("open it with Havrel’s certificate {}", prepared.own);
            let opened = opened.map(|()| (prepared, format!("messages are {}", settings.security.words())));
            rungs.rung("Secure channel", tried, began, opened).await?
        }
        (Err(error), _) => return rungs.rung("Login", login_words(settings), began, Err(error)).await,
    };

    let began = Instant::now();
    let opened = Speaking::open(prepared).await.map(|speaking| {
        let clear = if in_clear { "; the password went over the network unprotected" } else { "" };
        (speaking, format!("the session is open{clear}"))
    });
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
        Login::Certificate => "open a session with the certificate of the login".into(),
    }
}

/// What a server offers, one in a line, the best first, and why some of it is of no use.
fn offered(found: &[EndpointDescription], settings: &Settings) -> String {
    let mut all: Vec<String> = Vec::new();
    for endpoint in found {
        let why = match endpoints::security_of(endpoint) {
            None => " (Havrel does not take this policy any more)",
            Some(_) if !endpoints::takes(endpoint, settings.login) => " (not with this login)",
            Some(_) => "",
        };
        let words = format!("{}{why}", endpoints::words_of(endpoint));
        if !all.contains(&words) {
            all.push(words);
        }
    }
    if all.is_empty() { "none".into() } else { format!("\n{}", all.join("\n")) }
}

/// A better security than the chosen one, where the server offers one for this login.
fn better(found: &[EndpointDescription], settings: &Settings) -> Option<Offer> {
    let taken = |s: &Security| found.iter().any(|e| endpoints::security_of(e) == Some(*s) && endpoints::takes(e, settings.login));
    let best = Security::ALL.into_iter().find(taken)?;
    let field = "settings.security".into();
    let words = format!("Use the best: {}", best.words());
    (best != settings.security).then(|| Offer { field, value: best.name().into(), words })
}

/// Most servers that are named where one knows of others.
const MOST_OTHERS: usize = 4;

/// Other servers that this one knows of (FindServers, OPC UA Part 4, 5.5.2). One that knows of none, or does not tell, is fine.
async fn others(dial: &Dial, path: usize) -> Vec<Offer> {
    let field = path.checked_sub(1).map_or_else(|| "settings.url".to_owned(), |n| format!("settings.spare[{n}].url"));
    let found = endpoints::others(dial).await.unwrap_or_default();
    let offer =
        |(name, url): (String, String)| Offer { field: field.clone(), words: format!("Go to {name} at {url}"), value: url };
    found.into_iter().take(MOST_OTHERS).map(offer).collect()
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
    let time = time.to_json().as_str().map_or_else(String::new, |t| t.chars().take(19).collect::<String>().replace('T', " "));
    Ok(((), format!("the server is {state}; its clock reads {time} UTC")))
}
