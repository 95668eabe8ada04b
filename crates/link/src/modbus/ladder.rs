//! The test of a connection before it is trusted: a ladder that stops at the first rung that breaks. Each spare address is
//! climbed too.

use super::{
    Address, Settings, Table,
    session::{Route, Session},
    settings::{Path, Transport},
    wire,
};
use crate::{LinkError, TestStep, net, test::Rungs, traffic::Tap};
use havrel_core::plant::Connection;
use std::{sync::Arc, time::Instant};
use tokio::sync::mpsc;

pub(super) async fn climb_all(connection: &Connection, steps: mpsc::Sender<TestStep>) {
    let settings = match Settings::usable(&connection.settings) {
        Ok(settings) => settings,
        Err(error) => return Rungs::refuse(steps, error).await,
    };
    for (i, path) in settings.paths().into_iter().enumerate() {
        let ladder = Rungs::of_path(steps.clone(), i);
        if steps.is_closed() {
            return;
        }
        // When one address fails, the others are tested all the same.
        let _: Option<()> = climb(&settings, path, connection.timeout_ms, &ladder).await;
    }
}

async fn climb(settings: &Settings, path: Path, timeout_ms: u32, ladder: &Rungs) -> Option<()> {
    let began = Instant::now();
    let stream = if settings.transport == Transport::Serial {
        let opened = wire::open_line(settings, &path).map(|line| (line, "open".to_owned()));
        ladder.rung("Line", format!("open {} at {} baud", path.device, settings.baud), began, opened).await?
    } else {
        let found = net::resolve(&path.host, path.port).await.map(|f| {
            let words = f.iter().map(|a| a.ip().to_string()).collect::<Vec<_>>().join(", ");
            (f, words)
        });
        let found = ladder.rung("Name", format!("look up {}", path.host), began, found).await?;
        let began = Instant::now();
        let opened = net::connect(&path.host, &found, timeout_ms).await;
        let opened = opened.map(|stream| (Box::new(stream) as Box<dyn wire::Wire>, "open".to_owned()));
        let stream = ladder.rung("Port", format!("open port {}", path.port), began, opened).await?;
        if settings.transport == Transport::Tls {
            let began = Instant::now();
            let secured = wire::secure(stream, settings, &path, timeout_ms).await;
            ladder.rung("Security", "agree on TLS and look at the certificate".into(), began, secured).await?
        } else {
            stream
        }
    };

    // Any answer at all, even a refusal, proves that the protocol is spoken.
    let began = Instant::now();
    let route = Route { settings: settings.clone(), path, timeout_ms, tap: Tap::default(), learnt: Arc::default() };
    let mut session = Session::over(stream, route.clone());
    let mut first = None;
    let mut spoken = Err(LinkError::Silent(timeout_ms));
    for table in [Table::Holding, Table::Input, Table::Coil, Table::Discrete] {
        let address = Address { table, offset: 0 };
        match session.read(settings.unit, address, 1).await {
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
    let asked = format!("ask unit {} for a register", settings.unit);
    if let Err(silence @ (LinkError::Silent(_) | LinkError::WrongUnit(_))) = &spoken {
        // Some devices allow one connection only.
        session.close().await;
        return ladder.rung("Protocol", asked, began, Err(why_silent(&route, silence).await)).await;
    }
    ladder.rung("Protocol", asked, began, spoken).await?;

    let value = match first {
        Some((address, word)) => Ok(((), format!("{address} holds {word}"))),
        None => Err(LinkError::NoSuchAddress("value at the first address of any table".into())),
    };
    let result = ladder.rung("Value", "read one value".into(), began, value).await;
    session.close().await;
    result
}

/// Longest wait for an answer that comes late, and for each other unit, in milliseconds.
const LONG_MS: u32 = 10_000;
const SHORT_MS: u32 = 1000;
/// Units that are often there: devices with a connection of their own answer to one of these.
const LIKELY: [u8; 5] = [1, 255, 0, 2, 247];

/// Finds out why a unit does not answer: it is slow, another one is there, or nobody is.
async fn why_silent(route: &Route, silence: &LinkError) -> LinkError {
    let first = Address { table: Table::Holding, offset: 0 };
    let own = route.settings.unit;
    if matches!(silence, LinkError::Silent(_))
        && let Ok(mut session) = Session::open(Route { timeout_ms: (route.timeout_ms * 4).min(LONG_MS), ..route.clone() }).await
    {
        let heard = session.read(own, first, 1).await;
        let took_ms = u32::try_from(session.took_us / 1000).unwrap_or(u32::MAX);
        session.close().await;
        match heard {
            Ok(_) => return LinkError::Late(took_ms, route.timeout_ms),
            Err(error) if error.spares_connection() => return LinkError::Late(took_ms, route.timeout_ms),
            Err(LinkError::Silent(_)) => {}
            Err(error) => return error,
        }
    }
    for unit in LIKELY.into_iter().filter(|unit| *unit != own) {
        let Ok(mut session) = Session::open(Route { timeout_ms: route.timeout_ms.min(SHORT_MS), ..route.clone() }).await else {
            break;
        };
        let heard = session.read(unit, first, 1).await;
        session.close().await;
        if heard.map_or_else(|error| error.spares_connection(), |_| true) {
            return LinkError::OtherUnit(own, unit);
        }
    }
    match silence {
        LinkError::Silent(_) => LinkError::NobodyAnswers(route.timeout_ms),
        other => other.clone(),
    }
}
