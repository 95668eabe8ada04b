//! A connection of a kind that this program does not know, as a newer or older one may have made: it is shown with what mends
//! it, and its tags are bad.

use crate::{Command, Driver, LinkError, Page, Ports, TestStep, now};
use async_trait::async_trait;
use havrel_core::{
    plant::{Connection, Own, Tag},
    quality::{Quality, Reason},
    sample::Batch,
};
use tokio::sync::mpsc;

/// Stands in for the driver that is missing.
pub struct Unserved;

const CURE: &str =
    "Another version of Havrel made it. Start that version, or add the connection anew with one of the kinds offered here.";

#[async_trait]
impl Driver for Unserved {
    fn kind(&self) -> &'static str {
        ""
    }

    fn check(&self, connection: &Connection) -> Vec<(String, String)> {
        vec![("kind".into(), format!("There is no connection kind “{}”.", connection.kind))]
    }

    fn check_point(&self, _: &Connection, _: &Tag) -> Vec<(String, String)> {
        Vec::new()
    }

    fn show_point(&self, _: &Connection, _: &Own) -> Option<String> {
        None
    }

    async fn test(&self, connection: &Connection, steps: mpsc::Sender<TestStep>) {
        let step = TestStep {
            name: "Kind".into(),
            tried: format!("connection kind “{}”", connection.kind),
            passed: false,
            answer: "This version of Havrel does not know it.".into(),
            cure: CURE.into(),
            offer: None,
            took_us: 0,
        };
        // Whoever asked may have gone away.
        let _ = steps.send(step).await;
    }

    async fn browse(&self, _: &Connection, _: &Own) -> Result<Page, LinkError> {
        Err(LinkError::SwitchedOff)
    }

    async fn run(&self, mut ports: Ports) {
        loop {
            let plan = ports.plan.borrow_and_update().clone();
            let words = format!("This version of Havrel does not know the connection kind “{}”.", plan.connection.kind);
            ports.health.send_modify(|health| health.fail(&words, CURE));
            let mut batch = Batch::default();
            plan.points.iter().for_each(|p| batch.push_quality(p.tag, now(), Quality::of(Reason::NoSource)));
            if ports.batches.send(batch).await.is_err() {
                return;
            }
            loop {
                tokio::select! {
                    changed = ports.plan.changed() => match changed {
                        Ok(()) => break,
                        Err(_) => return,
                    },
                    Some(command) = ports.commands.recv() => refuse(command),
                }
            }
        }
    }
}

/// Answers a command that nobody can carry out.
fn refuse(command: Command) {
    // Whoever asked may have gone away.
    match command {
        Command::Write { reply, .. } => drop(reply.send(Err(LinkError::SwitchedOff))),
        Command::Browse { reply, .. } => drop(reply.send(Err(LinkError::SwitchedOff))),
        Command::Raw { reply, .. } => drop(reply.send(Err(LinkError::SwitchedOff))),
        Command::TakePath { reply, .. } => drop(reply.send(Err(LinkError::SwitchedOff))),
    }
}
