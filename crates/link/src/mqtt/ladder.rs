//! The test of a connection before it is trusted: a ladder that stops at the first rung that breaks. Each spare address is
//! climbed too.

use super::{
    client::{As, Event, Given, Session},
    settings::{Path, Settings},
};
use crate::{LinkError, Offer, TestStep, net, test::Rungs};
use havrel_core::plant::Connection;
use std::{net::SocketAddr, time::Instant};
use tokio::{
    sync::mpsc,
    time::{Duration, timeout},
};

/// A topic that is offered for the test.
const TEST_TOPIC: &str = "havrel/test";

pub(super) async fn climb_all(connection: &Connection, steps: mpsc::Sender<TestStep>) {
    let settings = match Settings::usable(&connection.settings) {
        Ok(settings) => settings,
        Err(error) => return Rungs::refuse(steps, error).await,
    };
    for (i, path) in settings.paths().into_iter().enumerate() {
        if steps.is_closed() {
            return;
        }
        // When one address fails, the others are tested all the same.
        let rungs = Rungs::of_path(steps.clone(), i);
        let _: Option<()> = climb(&settings, &path, connection.timeout_ms, &rungs).await;
    }
}

/// The rungs up to an open session, beside the one that may run.
pub(crate) async fn to_session(settings: &Settings, path: &Path, timeout_ms: u32, rungs: &Rungs) -> Option<Session> {
    let began = Instant::now();
    let (host, port) = (path.host.trim(), settings.port_of(path));
    let found = net::resolve(host, port).await.map(|f| {
        let words = f.iter().map(|a| a.ip().to_string()).collect::<Vec<_>>().join(", ");
        (f, words)
    });
    let found = rungs.rung("Name", format!("look up {host}"), began, found).await?;
    let began = Instant::now();
    let opened = net::connect(host, &found, timeout_ms).await.map(|stream| (stream, "open".to_owned()));
    let stream = rungs.rung("Port", format!("open port {port}"), began, opened).await?;
    if settings.transport.secured() {
        let began = Instant::now();
        let name = Some(settings.server_name.trim()).filter(|name| !name.is_empty()).unwrap_or(host);
        let secured = settings.tls.secure(stream, name, timeout_ms).await.map(|secured| ((), secured.words));
        rungs.rung("Security", "agree on TLS and look at the certificate".into(), began, secured).await?;
    } else {
        drop(stream);
    }

    let began = Instant::now();
    let who = match settings.user.trim() {
        "" => "without a name".to_owned(),
        user => format!("as {user}"),
    };
    let opened = Session::open(settings, path, timeout_ms, As::Beside).await;
    let offers = match &opened {
        Err(LinkError::OtherVersion | LinkError::Closed | LinkError::OtherProtocol(_)) => {
            other_version(settings, path, timeout_ms).await.into_iter().collect()
        }
        _ => Vec::new(),
    };
    let opened = match opened {
        Ok(session) => {
            let words = format!("{}{}", session.words, warnings(settings, path, &found, timeout_ms).await);
            Ok((session, words))
        }
        Err(error) => Err(error),
    };
    let tried = format!("connect {who} in {}", settings.version.words());
    rungs.rung_with("Login", tried, began, opened, offers).await
}

async fn climb(settings: &Settings, path: &Path, timeout_ms: u32, rungs: &Rungs) -> Option<()> {
    let mut session = to_session(settings, path, timeout_ms, rungs).await?;
    let began = Instant::now();
    let topic = settings.test_topic.as_str();
    if topic.is_empty() {
        let words = "not tried: no topic is allowed for it".to_owned();
        let offer = Offer {
            field: "settings.test_topic".into(),
            value: TEST_TOPIC.into(),
            words: format!("Allow the topic {TEST_TOPIC}"),
        };
        return rungs
            .rung_with("Round trip", "publish a message and wait for it".into(), began, Ok(((), words)), vec![offer])
            .await;
    }
    let granted = granted(&mut session, topic, settings.qos, timeout_ms).await;
    let granted = granted.map(|level| ((), format!("granted, quality of service {level}")));
    rungs.rung("Subscription", format!("ask for {topic}"), began, granted).await?;
    let began = Instant::now();
    let back = round_trip(&mut session, topic, timeout_ms).await;
    rungs
        .rung("Round trip", format!("publish on {topic} and wait for it"), began, back.map(|()| ((), "it came back".into())))
        .await
}

/// The other version of the protocol, where the broker takes it.
async fn other_version(settings: &Settings, path: &Path, timeout_ms: u32) -> Option<Offer> {
    let (version, value) = settings.version.other();
    let other = Settings { version, ..settings.clone() };
    Session::open(&other, path, timeout_ms, As::Beside).await.ok()?;
    Some(Offer { field: "settings.version".into(), value: value.into(), words: format!("Use {}", version.words()) })
}

/// What is unsafe about a broker, after “a new session”.
async fn warnings(settings: &Settings, path: &Path, found: &[SocketAddr], timeout_ms: u32) -> String {
    let mut words = String::new();
    let named = !settings.user.trim().is_empty();
    if !named || Session::open(settings, path, timeout_ms, As::Nobody).await.is_ok() {
        words += "; the broker takes anybody";
    }
    if !settings.transport.secured() && !found.iter().all(|address| address.ip().is_loopback()) {
        words += if named { "; password and values travel in clear" } else { "; values travel in clear" };
    }
    words
}

/// Asks for a topic. Gives the quality of service that is granted.
pub(crate) async fn granted(session: &mut Session, topic: &str, level: u8, timeout_ms: u32) -> Result<u8, LinkError> {
    session.subscribe(&[topic.to_owned()], level);
    let answer = async {
        loop {
            match session.events.recv().await {
                Some(Event::Subscribed(answers)) => return answers.into_iter().next().unwrap_or(Err(LinkError::Closed)),
                Some(Event::Lost(error)) => return Err(error),
                Some(_) => {}
                None => return Err(LinkError::Closed),
            }
        }
    };
    timeout(Duration::from_millis(timeout_ms.into()), answer).await.unwrap_or(Err(LinkError::Silent(timeout_ms)))
}

/// Publishes a message of our own and waits for it: some brokers grant what they then drop, and confirm what they refuse.
async fn round_trip(session: &mut Session, topic: &str, timeout_ms: u32) -> Result<(), LinkError> {
    let message = format!("Test of a connection, {}", uuid::Uuid::new_v4());
    if let Given::Refused(error) = session.publish(topic, message.clone().into_bytes(), 1, false) {
        return Err(error);
    }
    let back = async {
        loop {
            match session.events.recv().await {
                Some(Event::Message(came)) if came.payload == message.as_bytes() => return Ok(()),
                Some(Event::Published(_, Err(error)) | Event::Lost(error)) => return Err(error),
                Some(_) => {}
                None => return Err(LinkError::Closed),
            }
        }
    };
    let not_back = || LinkError::NotBack(topic.to_owned());
    timeout(Duration::from_millis(timeout_ms.into()), back).await.unwrap_or_else(|_| Err(not_back()))
}
