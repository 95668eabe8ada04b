//! The test of a connection: name, port, security, login, the right to hear edge nodes, and who is heard.

use super::settings::{HostSettings, Settings};
use crate::{
    LinkError,
    mqtt::{
        client::{Event, Session},
        ladder::{granted, to_session},
    },
    net::Path,
    now,
    test::{Rungs, TestStep},
};
use havrel_core::plant::Connection;
use havrel_sparkplug::topic;
use std::{
    collections::BTreeSet,
    time::{Duration, Instant},
};
use tokio::{sync::mpsc, time::timeout};

/// Edge nodes that are named.
const MOST_NAMED: usize = 5;

pub(super) async fn climb_all(connection: &Connection, steps: mpsc::Sender<TestStep>) {
    let settings = match Settings::<HostSettings>::usable(&connection.settings) {
        Ok(settings) => settings,
        Err(error) => return Rungs::refuse(steps, error).await,
    };
    for (i, path) in settings.broker.paths().into_iter().enumerate() {
        if steps.is_closed() {
            return;
        }
        let rungs = Rungs::of_path(steps.clone(), i);
        let _: Option<()> = climb(&settings, &path, connection.timeout_ms, &rungs).await;
    }
}

async fn climb(settings: &Settings, path: &Path, timeout_ms: u32, rungs: &Rungs) -> Option<()> {
    let broker = settings.session(now());
    let mut session = to_session(&broker, path, timeout_ms, rungs).await?;
    for filter in settings.own.filters() {
        let began = Instant::now();
        let level = granted(&mut session, &filter, 1, timeout_ms).await;
        let words = level.map(|level| ((), format!("granted, quality of service {level}")));
        rungs.rung("Subscription", format!("ask for {filter}"), began, words).await?;
    }
    let began = Instant::now();
    let heard = heard(&mut session, timeout_ms).await.map(|words| ((), words));
    rungs.rung("Edge nodes", format!("listen for {timeout_ms} ms"), began, heard).await
}

/// Which edge nodes tell something.
async fn heard(session: &mut Session, timeout_ms: u32) -> Result<String, LinkError> {
    let mut names: BTreeSet<String> = BTreeSet::new();
    let all = async {
        loop {
            match session.events.recv().await {
                Some(Event::Message(came)) => names.extend(topic::read(&came.topic).map(|(_, name)| name.of_node().show())),
                Some(Event::Lost(error)) => return error,
                Some(_) => {}
                None => return LinkError::Closed,
            }
        }
    };
    if let Ok(error) = timeout(Duration::from_millis(timeout_ms.into()), all).await {
        return Err(error);
    }
    let more = names.len().saturating_sub(MOST_NAMED);
    let named = names.iter().take(MOST_NAMED).cloned().collect::<Vec<_>>().join(", ");
    Ok(match (names.len(), more) {
        (0, _) => "nobody was heard; edge nodes tell something only when a value changes".into(),
        (_, 0) => named,
        _ => format!("{named} and {more} more"),
    })
}
