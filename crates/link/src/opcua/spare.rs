//! Sessions with what they deliver: the one in use, and one that is kept ready at the next address.

use super::{
    client::{self, Event, Speaking},
    items::Items,
    server::Server,
    settings::Settings,
};
use crate::{Identities, LinkError, LinkPlan};
use opcua::types::NamespaceMap;
use std::{sync::Arc, time::Duration};
use tokio::{
    task::JoinSet,
    time::{Instant, sleep_until},
};

/// How long after a failure the spare session is opened anew.
const SPARE_AGAIN: Duration = Duration::from_secs(5);

/// A session with what it delivers.
pub(super) struct Serving {
    /// Over which address.
    pub path: usize,
    pub speaking: Speaking,
    pub server: Server,
    pub namespaces: Arc<NamespaceMap>,
    pub items: Items,
}

impl Serving {
    /// Opens one; it delivers nothing yet.
    ///
    /// # Errors
    /// In words that say what to do.
    pub async fn open(
        path: usize,
        plan: &LinkPlan,
        settings: &Settings,
        identities: &Arc<dyn Identities>,
    ) -> Result<Serving, LinkError> {
        let timeout_ms = plan.connection.timeout_ms;
        let speaking = client::open(path, settings, timeout_ms, identities).await?;
        match Server::of(speaking.session.clone(), timeout_ms).await {
            Ok(server) => {
                let namespaces = Arc::new(speaking.namespaces.clone());
                let items = Items::new(server.shapes.clone());
                Ok(Serving { path, speaking, server, namespaces, items })
            }
            Err(error) => {
                speaking.close().await;
                Err(error)
            }
        }
    }

    /// The same, with all that a plan wants, but silent until it is needed.
    pub async fn ready(
        path: usize,
        plan: Arc<LinkPlan>,
        settings: Settings,
        identities: Arc<dyn Identities>,
    ) -> Result<Box<Serving>, LinkError> {
        let mut serving = Serving::open(path, &plan, &settings, &identities).await?;
        serving.items.silent = true;
        match serving.items.follow(&plan, &settings, &serving.speaking, &serving.server).await {
            Ok(_) => Ok(Box::new(serving)),
            Err(error) => {
                serving.speaking.close().await;
                Err(error)
            }
        }
    }
}

/// The session that is kept ready at the next address.
#[derive(Default)]
pub(super) struct Spare {
    pub ready: Option<Box<Serving>>,
    pub opening: JoinSet<Result<Box<Serving>, LinkError>>,
    /// When the next try begins.
    pub next: Option<Instant>,
    /// Why it is not ready.
    pub trouble: String,
}

/// What became of the spare session.
pub(super) enum SpareEvent {
    /// It is time to open it.
    Open,
    Opened(Result<Box<Serving>, LinkError>),
    Session(Option<Event>),
}

impl Spare {
    /// Waits until something becomes of it.
    pub async fn event(&mut self) -> SpareEvent {
        let next = self.next;
        let ready = async {
            match &mut self.ready {
                Some(ready) => ready.speaking.events.recv().await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            event = ready => SpareEvent::Session(event),
            Some(opened) = self.opening.join_next() => {
                SpareEvent::Opened(opened.unwrap_or_else(|e| Err(LinkError::BadRequest(e.to_string()))))
            }
            () = sleep_until(next.unwrap_or_else(Instant::now)), if next.is_some() => SpareEvent::Open,
        }
    }

    /// Lets go of it; another try follows.
    pub fn lose(&mut self, why: &LinkError) {
        if let Some(ready) = self.ready.take() {
            tokio::spawn(ready.speaking.close());
        }
        (self.next, self.trouble) = (Some(Instant::now() + SPARE_AGAIN), why.to_string());
    }

    /// How it stands, in a sentence.
    pub fn words(&self, address: &str) -> Option<String> {
        match (&self.ready, self.trouble.is_empty()) {
            (Some(_), _) => Some(format!("{address} is ready to take over.")),
            (None, false) => Some(format!("{address} is not ready to take over: {}", self.trouble)),
            (None, true) => None,
        }
    }
}
