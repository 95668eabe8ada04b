//! A connection of a kind that this program does not know, as a newer or older one may have made: it is shown with what mends
//! it, and its tags are bad.

use crate::{LinkError, Ports, Runner, now};
use async_trait::async_trait;
use havrel_core::{
    quality::{Quality, Reason},
    sample::Batch,
};

/// Stands in for the runner that is missing.
pub struct Unserved;

const CURE: &str =
    "Another version of Havrel made it. Start that version, or add the connection anew with one of the kinds offered here.";

#[async_trait]
impl Runner for Unserved {
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
                    Some(command) = ports.commands.recv() => command.refuse(&LinkError::SwitchedOff),
                }
            }
        }
    }
}
