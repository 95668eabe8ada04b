//! What people and other programs are told or given, on its way out: mail through a server (RFC 5321), web hooks over HTTP, and files in
//! folders.
//!
//! Nothing is read over these connections. Each message is a session of its own; between messages the connection looks now and then
//! whether its server still answers, so that one that is gone is known before it is needed.

mod client;
pub mod folder;
pub mod hook;
pub mod mail;
pub mod settings;

use crate::{
    Command, LinkError, LinkState, Ports,
    life::{Life, Paths},
};
use async_trait::async_trait;
use havrel_core::{notice::Notice, sample::Batch};
use std::time::{Duration, Instant};
use tokio::time::sleep;

/// How often a connection looks whether its server answers.
const LOOK: Duration = Duration::from_secs(600);

/// Carries messages to one server.
#[async_trait]
trait Courier: Send + Sync {
    /// Whether the server could take messages now.
    async fn reach(&self) -> Result<(), LinkError>;

    /// Gives a message to the server; what that said.
    async fn carry(&self, notice: &Notice) -> Result<String, LinkError>;
}

/// Serves a connection: `courier` reads its settings whenever they change.
async fn run(ports: Ports, courier: impl Fn(&Ports) -> Result<Box<dyn Courier>, LinkError> + Send) {
    let mut life = Life::new(ports);
    loop {
        let enabled = life.ports.plan.borrow_and_update().connection.enabled;
        let made = if enabled { courier(&life.ports) } else { Err(LinkError::SwitchedOff) };
        // A server of which the settings are wrong has no address to be tried.
        let count = usize::from(made.is_ok() || !enabled);
        let ended = match made {
            Ok(courier) => serve(&mut life, &*courier).await,
            Err(error) => Ended::Failed(error),
        };
        match ended {
            Ended::Over => return,
            Ended::Changed => life.failures = 0,
            Ended::Failed(error) => {
                if life.failed(error, Batch::default(), Paths { count, takeover: false }).await.is_err() {
                    return;
                }
            }
        }
    }
}

enum Ended {
    Over,
    Changed,
    Failed(LinkError),
}

async fn serve(life: &mut Life, courier: &dyn Courier) -> Ended {
    life.connecting();
    loop {
        let began = Instant::now();
        if let Err(error) = courier.reach().await {
            return Ended::Failed(error);
        }
        answered(life, began);
        let look = sleep(LOOK);
        tokio::pin!(look);
        loop {
            tokio::select! {
                changed = life.ports.plan.changed() => return if changed.is_ok() { Ended::Changed } else { Ended::Over },
                command = life.ports.commands.recv() => match command {
                    None => return Ended::Over,
                    Some(Command::Notify { notice, reply }) => {
                        let began = Instant::now();
                        let told = courier.carry(&notice).await;
                        let failed = told.as_ref().err().filter(|error| !error.spares_connection()).cloned();
                        // Whoever asked may have gone away meanwhile.
                        let _ = reply.send(told);
                        if let Some(error) = failed {
                            return Ended::Failed(error);
                        }
                        answered(life, began);
                    }
                    Some(other) => other.refuse_without_device("This connection only tells and sends."),
                },
                () = &mut look => break,
            }
        }
    }
}

/// The server answered.
fn answered(life: &mut Life, began: Instant) {
    life.failures = 0;
    let took = u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
    life.ports.health.send_modify(|health| {
        health.enter(LinkState::Running, None);
        health.requests += 1;
        health.round_trip_us = took;
        health.answered = crate::now();
    });
}

/// Nothing is read over such a connection.
fn no_points() -> Vec<crate::Wrong> {
    vec![("point".into(), "Nothing is read over this connection; it only tells people and programs.".into())]
}
