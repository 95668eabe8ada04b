//! The test of a connection before it is trusted: a ladder that stops at the first rung that breaks. Each spare address is climbed
//! too.

use super::{
    client::{Answer, Caller},
    settings::{Path, Request, Scheme, Settings},
};
use crate::{LinkError, TestStep, test::Rungs};
use havrel_core::plant::Connection;
use std::{sync::Arc, time::Instant};
use tokio::sync::mpsc;

/// Most requests that a test makes.
const MOST: usize = 10;

pub(super) async fn climb_all(connection: &Connection, steps: mpsc::Sender<TestStep>) {
    let settings = match Settings::usable(&connection.settings) {
        Ok(settings) => Arc::new(settings),
        Err(error) => return Rungs::refuse(steps, error).await,
    };
    for (i, path) in settings.paths().into_iter().enumerate() {
        if steps.is_closed() {
            return;
        }
        // When one address fails, the others are tested all the same.
        let rungs = Rungs::of_path(steps.clone(), i);
        let _: Option<()> = climb(&settings, path, connection.timeout_ms, &rungs).await;
    }
}

async fn climb(settings: &Arc<Settings>, path: Path, timeout_ms: u32, rungs: &Rungs) -> Option<()> {
    let found = rungs.open_port(path.host.trim(), settings.port_of(&path), timeout_ms).await?;
    let mut caller = Caller::new(settings.clone(), path, timeout_ms);
    if settings.scheme == Scheme::Https {
        let began = Instant::now();
        let secured = caller.dial().await.map(|words| ((), words));
        rungs.rung("Security", "agree on TLS and look at the certificate".into(), began, secured).await?;
    }
    let clear = settings.scheme == Scheme::Http && !found.iter().all(|address| address.ip().is_loopback());
    let mut requests = settings.requests.clone();
    if requests.is_empty() {
        requests.push(Request::default());
    }
    let mut all = Some(());
    for (i, request) in requests.iter().take(MOST).enumerate() {
        let began = Instant::now();
        let asked = caller.ask(request, None).await.map_err(super::client::Failed::error);
        let answer = asked.and_then(|answer| read(&answer)).map(|mut words| {
            if clear && i == 0 {
                words +=
                    if settings.secret.is_some() { "; login and values travel in clear" } else { "; values travel in clear" };
            }
            ((), words)
        });
        let shown = if request.path.is_empty() { "/" } else { &request.path };
        // A request that fails does not keep the others from being tried.
        let passed = rungs.rung("Request", format!("{} {shown}", request.method.name()), began, answer).await;
        all = all.and(passed);
    }
    all
}

/// An answer in words.
///
/// # Errors
/// When it is a page for people.
fn read(answer: &Answer) -> Result<String, LinkError> {
    let media = answer.media.split(';').next().unwrap_or_default().trim();
    if media == "text/html" {
        return Err(LinkError::WrongAnswer("it is a page for people (text/html)".into()));
    }
    let size = answer.body.len();
    let told = if media.is_empty() { "of no told type" } else { media };
    let json = serde_json::from_slice::<serde_json::Value>(&answer.body);
    let what = match &json {
        Ok(serde_json::Value::Object(members)) => format!("JSON with {} members", members.len()),
        Ok(serde_json::Value::Array(all)) => format!("JSON with {} elements", all.len()),
        Ok(_) => "one value".to_owned(),
        Err(_) if media.ends_with("json") => return Err(LinkError::WrongAnswer("it is no JSON, though it says so".into())),
        Err(_) => "no JSON".to_owned(),
    };
    Ok(format!("{}, {told}, {size} bytes, {what}", answer.status))
}
