//! Keeps a broker of our own running, follows its log, and tells it of other accounts while it runs.

use super::{
    book::{Book, Watch},
    child::{Child, Home, open},
    files::OURSELVES,
    served::{Counts, MOST_CLIENTS, OF_ITSELF, served},
    settings::{Settings, Transport},
};
use crate::{
    Command, LinkError, LinkState,
    life::{Life, Paths, Stop},
    mqtt::{
        client::{As, Event, Session},
        settings::{Path, Settings as Reached},
    },
    now,
    runner::Ports,
};
use havrel_core::plant::Secret;
use std::{
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tokio::{
    task::spawn_blocking,
    time::{MissedTickBehavior, interval, sleep},
};

/// How long the broker may take until it listens.
const PATIENCE: Duration = Duration::from_secs(15);
/// How long its answer to a session of ours may take, in ms.
const ANSWER_MS: u32 = 5_000;
/// A broker that ran for so long counts as one that works.
const SOON: Duration = Duration::from_secs(10);
/// How often is looked after it.
const LOOK: Duration = Duration::from_secs(1);

pub(super) async fn run(ports: Ports) {
    let mut life = Life::new(ports);
    let book = Arc::new(Mutex::new(Book::default()));
    loop {
        let plan = life.ports.plan.borrow_and_update().clone();
        let stop = match Settings::usable(&plan.connection.settings) {
            Err(error) => Stop::Failed(error),
            Ok(_) if !plan.connection.enabled => Stop::Failed(LinkError::SwitchedOff),
            Ok(settings) => serve(&mut life, settings, &book).await,
        };
        let error = match stop {
            Stop::End => return,
            Stop::Again => continue,
            Stop::Failed(error) => error,
        };
        open(&book).begin();
        let usable = Settings::parse(&life.ports.plan.borrow().connection.settings).is_ok();
        let paths = Paths { count: usize::from(usable), takeover: false };
        if life.failed(error, Default::default(), paths).await.is_err() {
            return;
        }
    }
}

/// Starts the broker and keeps it until something ends it.
async fn serve(life: &mut Life, mut settings: Settings, book: &Arc<Mutex<Book>>) -> Stop {
    life.connecting();
    let name = life.ports.announcer.connection().simple().to_string();
    let home = match Home::of(life.ports.identities.folder(), &name) {
        Ok(home) => home,
        Err(error) => return Stop::Failed(error),
    };
    let mut watch = Watch::new();
    let started = {
        let (home, settings, book, watched) = (home.clone(), settings.clone(), book.clone(), watch.on);
        spawn_blocking(move || Child::start(&home, &settings, watched, book)).await
    };
    let mut child = match started {
        Ok(Ok(child)) => child,
        Ok(Err(error)) => return Stop::Failed(error),
        Err(error) => return Stop::Failed(LinkError::NotStarted(error.to_string())),
    };
    let mut session = match listening(&mut child, book).await {
        Ok(session) => session,
        Err(error) => return Stop::Failed(error),
    };
    let unlimited = child.limit(settings.clients).err().map(|error| format!("The number of clients is not limited: {error}."));
    let began = Instant::now();
    let mut counts = Counts::default();
    let mut looks = interval(LOOK);
    looks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    let mut lines = open(book).lines;
    tell(life, &settings, unlimited.clone());
    loop {
        tokio::select! {
            changed = life.ports.plan.changed() => {
                if changed.is_err() {
                    return Stop::End;
                }
                let next = life.ports.plan.borrow_and_update().clone();
                let wanted = match Settings::usable(&next.connection.settings) {
                    Ok(wanted) if next.connection.enabled && wanted.standing() == settings.standing() => wanted,
                    _ => return Stop::Again,
                };
                if wanted != settings {
                    settings = wanted;
                    if let Err(error) = child.tell(&settings, watch.on) {
                        return Stop::Failed(error);
                    }
                }
                tell(life, &settings, unlimited.clone());
            }
            command = life.ports.commands.recv() => match command {
                None => return Stop::End,
                Some(Command::Served { reply }) => {
                    // Copied first: the log is not held up by what is worked out from it.
                    let seen = open(book).seen(MOST_CLIENTS);
                    let told = served(&settings, &home, seen, counts.figures(now()), watch.on);
                    // Whoever asked may have gone away meanwhile.
                    let _ = reply.send(Ok(Box::new(told)));
                }
                Some(other) => other.refuse(&LinkError::BadRequest("A broker has no values of its own.".into())),
            },
            event = session.events.recv() => match event {
                Some(Event::Message(came)) => {
                    counts.hear(&came.topic, &came.payload, now());
                    life.ports.health.send_modify(|h| h.answered = now());
                }
                Some(Event::Lost(_)) | None => match listening(&mut child, book).await {
                    Ok(again) => session = again,
                    Err(error) => return Stop::Failed(error),
                },
                Some(_) => {}
            },
            _ = looks.tick() => {
                if began.elapsed() >= SOON {
                    life.failures = 0;
                }
                if let Some(status) = child.ended() {
                    return Stop::Failed(why(&mut child, book, &status).await);
                }
                let all = open(book).lines;
                let figures = counts.figures(now());
                if watch.second(all - lines, figures.messages_in + figures.messages_out)
                    && let Err(error) = child.tell(&settings, watch.on)
                {
                    return Stop::Failed(error);
                }
                lines = all;
            }
        }
    }
}

/// Tells that it runs, and what of it could surprise.
fn tell(life: &Life, settings: &Settings, unlimited: Option<String>) {
    let mut learnt: Vec<String> = unlimited.into_iter().collect();
    if settings.is_local() {
        learnt.push("Only programs of this machine reach it; its settings open it to a network.".to_owned());
    } else if settings.transport != Transport::Tls {
        learnt.push("Messages and passwords cross the network in clear where a device does not use the secured port.".to_owned());
    }
    let closed = settings.accounts.iter().filter(|account| matches!(account.password, Some(Secret::Sealed(_)))).count();
    if closed > 0 {
        let words = "Accounts whose password cannot be opened with the key of this machine, and must be given another one";
        learnt.push(format!("{words}: {closed}."));
    }
    if !settings.accounts.iter().any(|account| account.enabled) {
        learnt.push("It has no account yet, so that nobody can connect.".to_owned());
    }
    life.ports.health.send_modify(|h| {
        h.enter(LinkState::Running, None);
        h.learnt = learnt;
    });
}

/// Waits until the broker listens, and opens a session of ours that hears its figures.
async fn listening(child: &mut Child, book: &Mutex<Book>) -> Result<Session, LinkError> {
    let reached = Reached {
        user: OURSELVES.into(),
        password: Some(Secret::Plain(child.password.clone())),
        // One that stands still is noticed soon.
        keep_alive_s: 5,
        ..Reached::default()
    };
    let path = Path { host: "127.0.0.1".into(), port: Some(child.port) };
    let until = Instant::now() + PATIENCE;
    loop {
        let failed = match Session::open(&reached, &path, ANSWER_MS, As::Ourselves).await {
            Ok(session) => {
                session.subscribe(&[OF_ITSELF.to_owned()], 0);
                return Ok(session);
            }
            Err(error) => error,
        };
        if let Some(status) = child.ended() {
            return Err(why(child, book, &status).await);
        }
        if Instant::now() > until {
            return Err(LinkError::NotStarted(format!("it does not answer: {}", failed.to_string().trim_end_matches('.'))));
        }
        sleep(LOOK / 20).await;
    }
}

/// Why it ended, in its own words where it had any.
async fn why(child: &mut Child, book: &Mutex<Book>, status: &str) -> LinkError {
    child.said_all().await;
    let troubles = open(book).troubles();
    let said = troubles.iter().map(|words| words.trim_end_matches('.')).collect::<Vec<_>>().join("; ");
    LinkError::NotStarted(if said.is_empty() { format!("it ended, {status}") } else { said })
}
