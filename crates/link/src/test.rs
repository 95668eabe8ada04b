//! The test of a connection: step by step, each with its answer and what usually mends it.

use crate::{Identities, LinkError, Offer, net};
use async_trait::async_trait;
use havrel_core::plant::Connection;
use serde::Serialize;
use std::{net::SocketAddr, sync::Arc, time::Instant};
use tokio::sync::mpsc;
use utoipa::ToSchema;

/// Tries connections, saved or not.
#[async_trait]
pub trait Tester: Send + Sync {
    /// Tries the connection step by step, stopping at the first that fails. Dropping the receiver cancels.
    async fn test(&self, connection: &Connection, identities: Arc<dyn Identities>, steps: mpsc::Sender<TestStep>);
}

/// One rung of a test: what was tried, what came back, what usually mends it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, ToSchema)]
pub struct TestStep {
    pub name: String,
    pub tried: String,
    pub passed: bool,
    pub answer: String,
    pub cure: String,
    /// What the settings could take over, so that it passes or is better.
    pub offers: Vec<Offer>,
    pub took_us: u64,
}

/// Reports the rungs of one address, one after the other.
pub(crate) struct Rungs {
    steps: mpsc::Sender<TestStep>,
    /// What stands before the name of each rung.
    prefix: String,
}

impl Rungs {
    /// Of the first address, or of a spare one.
    pub fn of_path(steps: mpsc::Sender<TestStep>, path: usize) -> Rungs {
        Rungs { steps, prefix: if path == 0 { String::new() } else { format!("Spare {path}: ") } }
    }

    /// Reports that the form itself is wrong, so that nothing is tried.
    pub async fn refuse(steps: mpsc::Sender<TestStep>, error: LinkError) {
        let rungs = Rungs::of_path(steps, 0);
        let _: Option<()> = rungs.rung("Settings", "the form".into(), Instant::now(), Err(error)).await;
    }

    /// The rungs that everything with a name and a port begins with: looks up the name and opens the port.
    pub async fn open_port(&self, host: &str, port: u16, timeout_ms: u32) -> Option<Vec<SocketAddr>> {
        let began = Instant::now();
        let found = net::resolve(host, port).await.map(|found| {
            let words = found.iter().map(|address| address.ip().to_string()).collect::<Vec<_>>().join(", ");
            (found, words)
        });
        let found = self.rung("Name", format!("look up {host}"), began, found).await?;
        let began = Instant::now();
        let opened = net::connect(host, &found, timeout_ms).await.map(|stream| (drop(stream), "open".to_owned()));
        self.rung("Port", format!("open port {port}"), began, opened).await?;
        Some(found)
    }

    /// Reports a rung; `None` ends the climb.
    pub async fn rung<T>(&self, name: &str, tried: String, began: Instant, result: Result<(T, String), LinkError>) -> Option<T> {
        self.rung_with(name, tried, began, result, Vec::new()).await
    }

    /// The same with something to take over although it passes.
    pub async fn rung_with<T>(
        &self,
        name: &str,
        tried: String,
        began: Instant,
        result: Result<(T, String), LinkError>,
        mut offers: Vec<Offer>,
    ) -> Option<T> {
        let took_us = u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
        let (value, answer, cure) = match result {
            Ok((value, answer)) => (Some(value), answer, String::new()),
            Err(error) => {
                offers.extend(error.offer());
                (None, error.to_string(), error.cure().to_owned())
            }
        };
        let name = format!("{}{name}", self.prefix);
        let step = TestStep { name, tried, passed: value.is_some(), answer, cure, offers, took_us };
        // Nobody listening any more means that the test was cancelled.
        self.steps.send(step).await.ok().and(value)
    }
}
