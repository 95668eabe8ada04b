//! Listening to topics for whoever looks: over a session of its own, so that what comes there disturbs no tag, and only while
//! somebody asks.

use super::{
    client::{As, Event, Session},
    heard::Topics,
    settings::{Path, Settings},
};
use crate::{LinkError, now};
use std::{
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};
use tokio::{sync::watch, task::JoinSet, time::Instant};

/// Most filters that are listened to at once.
const MOST: usize = 3;
/// After so long without a question nobody listens any more.
const IDLE: Duration = Duration::from_secs(120);

/// How far it is.
#[derive(Clone, Debug, PartialEq)]
enum Stage {
    Beginning,
    Hearing,
    Failed(LinkError),
}

/// One filter that is listened to.
pub(super) struct Listening {
    filter: String,
    topics: Arc<Mutex<Topics>>,
    stage: watch::Receiver<Stage>,
    asked: Instant,
    _task: JoinSet<()>,
}

/// All that is listened to; it ends when it is dropped.
#[derive(Default)]
pub(super) struct Ears(Vec<Listening>);

/// What one look needs.
#[derive(Clone)]
pub(super) struct Look {
    topics: Arc<Mutex<Topics>>,
    stage: watch::Receiver<Stage>,
}

impl Look {
    /// The topics, once there is an answer to the filter.
    ///
    /// # Errors
    /// Why nothing is heard.
    pub async fn topics(&mut self) -> Result<MutexGuard<'_, Topics>, LinkError> {
        let stage = self.stage.wait_for(|stage| *stage != Stage::Beginning).await.map_err(|_| LinkError::Closed)?.clone();
        match stage {
            Stage::Failed(error) => Err(error),
            _ => Ok(self.topics.lock().unwrap_or_else(PoisonError::into_inner)),
        }
    }
}

impl Ears {
    /// Listens to a filter, as long as somebody asks.
    pub fn listen(&mut self, filter: &str, settings: &Settings, path: &Path, timeout_ms: u32) -> Look {
        // One that failed is begun anew.
        self.0.retain(|one| one.filter != filter || !matches!(*one.stage.borrow(), Stage::Failed(_)));
        if let Some(one) = self.0.iter_mut().find(|one| one.filter == filter) {
            one.asked = Instant::now();
            return Look { topics: one.topics.clone(), stage: one.stage.clone() };
        }
        while self.0.len() >= MOST {
            let oldest = self.0.iter().enumerate().min_by_key(|(_, one)| one.asked).map_or(0, |(i, _)| i);
            self.0.swap_remove(oldest);
        }
        let topics: Arc<Mutex<Topics>> = Arc::default();
        let (tell, stage) = watch::channel(Stage::Beginning);
        let mut task = JoinSet::new();
        task.spawn(hear(filter.to_owned(), settings.clone(), path.clone(), timeout_ms, topics.clone(), tell));
        let look = Look { topics: topics.clone(), stage: stage.clone() };
        self.0.push(Listening { filter: filter.to_owned(), topics, stage, asked: Instant::now(), _task: task });
        look
    }

    /// Ends what nobody asked for of late.
    pub fn tire(&mut self) {
        self.0.retain(|one| one.asked.elapsed() < IDLE);
    }
}

async fn hear(
    filter: String,
    settings: Settings,
    path: Path,
    timeout_ms: u32,
    topics: Arc<Mutex<Topics>>,
    stage: watch::Sender<Stage>,
) {
    let heard = async {
        let mut session = Session::open(&settings, &path, timeout_ms, As::Beside).await?;
        session.subscribe(std::slice::from_ref(&filter), 0);
        while let Some(event) = session.events.recv().await {
            match event {
                Event::Message(came) => topics.lock().unwrap_or_else(PoisonError::into_inner).hear(&came, now()),
                Event::Subscribed(answers) => {
                    answers.into_iter().next().unwrap_or(Err(LinkError::Closed))?;
                    stage.send_replace(Stage::Hearing);
                }
                Event::Lost(error) => return Err(error),
                Event::Opened { .. } | Event::Sent(_) | Event::Published(..) => {}
            }
        }
        Err(LinkError::Closed)
    };
    let result: Result<(), LinkError> = heard.await;
    if let Err(error) = result {
        stage.send_replace(Stage::Failed(error));
    }
}
