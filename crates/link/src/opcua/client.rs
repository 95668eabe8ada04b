//! One session with a server over one address.

use super::{
    dial::{Dial, within},
    endpoints::{choose, endpoints},
    prepared::{Prepared, shut_out, trusted},
    settings::{Security, Settings},
    status,
};
use crate::{Identities, LinkError};
use havrel_core::time::Nanos;
use opcua::{
    client::{Session, SessionConnectMode, SessionPollResult, SubscriptionActivity},
    types::{Error, NamespaceMap, StatusCode},
};
use std::{
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};
use tempfile::TempDir;
use tokio::{sync::mpsc, task::JoinHandle, time::Instant};

/// What happened to a session.
#[derive(Debug)]
pub(super) enum Event {
    /// The connection broke; the session tries to go on.
    Lost(LinkError),
    /// It goes on: with the session that was there, or with a new one.
    Again { fresh: bool },
    /// It does not go on.
    Over(LinkError),
}

/// A session that is open.
pub(super) struct Speaking {
    pub session: Arc<Session>,
    pub namespaces: NamespaceMap,
    pub events: mpsc::UnboundedReceiver<Event>,
    /// Answers to the requests that carry values.
    pub published: Arc<AtomicU64>,
    /// Whose certificates count, and until when they are valid.
    pub until: Vec<(&'static str, Nanos)>,
    task: JoinHandle<()>,
    /// Holds files that the library reads.
    _folder: Arc<TempDir>,
}

impl Drop for Speaking {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Speaking {
    /// Opens a session.
    ///
    /// # Errors
    /// In words that say what to do.
    pub async fn open(prepared: Prepared) -> Result<Speaking, LinkError> {
        let dial = prepared.dial.clone();
        let failed = |e: Error| dial.error(e.status());
        let (session, lived) = prepared.builder()?.build(prepared.client.certificate_store().clone()).map_err(failed)?;
        let (tell, mut events) = mpsc::unbounded_channel();
        let published = Arc::new(AtomicU64::new(0));
        let task = tokio::spawn(follow(lived.enter(), dial.clone(), tell, published.clone()));
        let shut_out = |error| if prepared.secured() { shut_out(error) } else { error };
        let mut speaking = Speaking {
            session,
            namespaces: NamespaceMap::new(),
            events: mpsc::unbounded_channel().1,
            published,
            task,
            until: prepared.until.clone(),
            _folder: prepared.folder.clone(),
        };
        match within(dial.timeout_ms, events.recv()).await? {
            Some(Event::Again { .. }) => {}
            Some(Event::Lost(error) | Event::Over(error)) => return Err(status::at_login(shut_out(error))),
            None => return Err(shut_out(LinkError::Closed)),
        }
        speaking.events = events;
        let names = within(dial.timeout_ms, speaking.session.read_namespace_array()).await?;
        speaking.namespaces = names.map_err(failed)?;
        Ok(speaking)
    }

    /// Ends it in good order, as far as the server answers.
    pub async fn close(self) {
        let limit = Duration::from_secs(2);
        // A server that does not answer ends the session by itself later.
        let _ = tokio::time::timeout(limit, self.session.disconnect()).await;
    }
}

/// Turns the library's stream of events into ours.
async fn follow(
    lived: impl futures_util::Stream<Item = Result<SessionPollResult, StatusCode>>,
    dial: Dial,
    tell: mpsc::UnboundedSender<Event>,
    published: Arc<AtomicU64>,
) {
    use futures_util::StreamExt as _;
    let mut lived = std::pin::pin!(lived);
    while let Some(event) = lived.next().await {
        let told = match event {
            Ok(SessionPollResult::ConnectionLost(code) | SessionPollResult::ReconnectFailed(code)) => {
                Event::Lost(dial.error(code))
            }
            Ok(SessionPollResult::Reconnected(mode)) => Event::Again { fresh: matches!(mode, SessionConnectMode::NewSession(_)) },
            Ok(SessionPollResult::Subscription(SubscriptionActivity::Publish)) => {
                published.fetch_add(1, Ordering::Relaxed);
                continue;
            }
            Ok(_) => continue,
            Err(code) => {
                // Nobody listening means that the session is being dropped.
                let _ = tell.send(Event::Over(dial.error(code)));
                return;
            }
        };
        if tell.send(told).is_err() {
            return;
        }
    }
    let _ = tell.send(Event::Over(LinkError::Closed));
}

/// Opens a session over one of the addresses: finds the endpoint that the settings ask for, judges its certificate and logs in.
///
/// # Errors
/// In words that say what to do.
pub(super) async fn open(
    path: usize,
    settings: &Settings,
    timeout_ms: u32,
    identities: &Arc<dyn Identities>,
) -> Result<Speaking, LinkError> {
    let target = settings.paths()[path].target().map_err(|words| LinkError::BadRequest(words.to_owned()))?;
    let dial = Dial::new(target, timeout_ms);
    let endpoint = choose(&endpoints(&dial).await?, settings)?;
    let secured = settings.security != Security::None;
    let server = secured.then(|| trusted(&dial, settings, path, &endpoint)).transpose()?;
    Speaking::open(Prepared::new(dial, settings, endpoint, server, identities).await?).await
}

/// How long a service took.
pub(super) fn micros(began: Instant) -> u64 {
    u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX)
}
