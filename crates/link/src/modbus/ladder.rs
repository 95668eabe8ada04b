//! The test of a connection before it is trusted: a ladder that stops at the first rung that breaks.

use super::{Address, Settings, Table, session};
use crate::{LinkError, TestStep};
use havrel_core::plant::Connection;
use session::Session;
use std::time::Instant;
use tokio::sync::mpsc;

struct Ladder {
    steps: mpsc::Sender<TestStep>,
}

impl Ladder {
    /// Reports a rung; `None` ends the climb.
    async fn rung<T>(&self, name: &str, tried: String, began: Instant, result: Result<(T, String), LinkError>) -> Option<T> {
        let took_us = u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
        let (value, answer, cure) = match result {
            Ok((value, answer)) => (Some(value), answer, String::new()),
            Err(error) => (None, error.to_string(), error.cure().to_owned()),
        };
        let step = TestStep { name: name.into(), tried, passed: value.is_some(), answer, cure, took_us };
        // Nobody listening any more means that the test was cancelled.
        self.steps.send(step).await.ok().and(value)
    }
}

pub(super) async fn climb_all(connection: &Connection, steps: mpsc::Sender<TestStep>) {
    climb(connection, Ladder { steps }).await;
}

async fn climb(connection: &Connection, ladder: Ladder) -> Option<()> {
    let began = Instant::now();
    let settings = Settings::parse(&connection.settings).map_err(|w| LinkError::BadRequest(w[0].1.clone()));
    let settings = match settings {
        Ok(settings) => settings,
        Err(error) => return ladder.rung("Settings", "the form".into(), began, Err(error)).await,
    };
    let found = session::resolve(&settings).await;
    let names = found.map(|f| {
        let words = f.iter().map(|a| a.ip().to_string()).collect::<Vec<_>>().join(", ");
        (f, words)
    });
    let found = ladder.rung("Name", format!("look up {}", settings.host), began, names).await?;

    let began = Instant::now();
    let opened = session::connect(&settings, &found, connection.timeout_ms).await;
    let opened = opened.map(|stream| (stream, "open".to_owned()));
    let stream = ladder.rung("Port", format!("open port {}", settings.port), began, opened).await?;

    // Any answer at all, even a refusal, proves that the protocol is spoken.
    let began = Instant::now();
    let mut session = Session::over(stream, settings.unit, connection.timeout_ms);
    let mut first = None;
    let mut spoken = Err(LinkError::Silent(connection.timeout_ms));
    for table in [Table::Holding, Table::Input, Table::Coil, Table::Discrete] {
        let address = Address { table, offset: 0 };
        match session.read(address, 1).await {
            Ok(words) => {
                first = Some((address, words[0]));
                spoken = Ok(((), "answers in Modbus".to_owned()));
                break;
            }
            Err(LinkError::NoSuchAddress(_) | LinkError::Refused(_)) => {
                spoken = Ok(((), "answers in Modbus".to_owned()));
            }
            Err(error) => {
                spoken = Err(error);
                break;
            }
        }
    }
    ladder.rung("Protocol", format!("ask unit {} for a register", settings.unit), began, spoken).await?;

    let value = match first {
        Some((address, word)) => Ok(((), format!("{address} holds {word}"))),
        None => Err(LinkError::NoSuchAddress("value at the first address of any table".into())),
    };
    let result = ladder.rung("Value", "read one value".into(), began, value).await;
    session.close().await;
    result
}
