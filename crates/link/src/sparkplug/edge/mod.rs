//! Havrel as an edge node of Sparkplug B: what its publications send becomes metrics, which wait on disk while the broker or the
//! primary host is away and then arrive with their own times.
//!
//! [`speaker`] says what an edge node says, without a socket; [`run`] keeps a connection alive.

mod run;
mod speaker;

use super::settings::{NodeSettings, Settings};
use crate::{
    Identities, Kind, LinkError, Runner, Tester, Wrong,
    form::{Field, Section},
    kind::{Capabilities, Description, within},
    mqtt::{
        client::Event,
        form as broker,
        ladder::{granted, to_session},
    },
    now,
    runner::Ports,
    test::{Rungs, TestStep},
};
use async_trait::async_trait;
use havrel_core::plant::{Connection, Own, Tag};
use havrel_sparkplug::topic;
use std::{
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{sync::mpsc, time::timeout};

/// The connection kind.
pub const KIND: &str = "sparkplug_node";

/// An edge node of Sparkplug B as a kind of connection.
#[derive(Clone, Copy)]
pub struct EdgeNode;

impl Kind for EdgeNode {
    fn name(&self) -> &'static str {
        KIND
    }

    fn describe(&self) -> Description {
        let mut first = broker::reached();
        first.extend([
            Field::text("settings.group", "Group").width(2),
            Field::text("settings.node", "Edge node").width(2),
            Field::text("settings.primary_host", "Primary host").hint("empty: none is waited for").width(2),
            Field::number("timeout_ms", "Timeout, ms").usual(1000).width(2),
            Field::tick("enabled", "Sending on", true).width(4),
        ]);
        let mut more = vec![
            Field::text("settings.client_id", "Client id").hint("empty: another one at each start").width(3),
            Field::number("settings.keep_alive_s", "Keep-alive, s").usual(30),
        ];
        more.extend(broker::spare("Spare addresses of the broker, or of another one with the same host"));
        Description {
            kind: KIND,
            title: "Sparkplug B, as an edge node",
            about: "A broker on which Havrel announces tags as metrics of devices, for other host applications.",
            first: "To another host",
            sections: vec![
                Section { title: "", folded: false, fields: first },
                Section { title: "Security", folded: false, fields: broker::security() },
                Section { title: "Session and spare addresses", folded: true, fields: more },
            ],
            point: Vec::new(),
            starts: Vec::new(),
            can: Capabilities { test: true, health: true, publishes: true, metrics: true, ..Capabilities::default() },
        }
    }

    fn check(&self, connection: &Connection) -> Vec<Wrong> {
        within("settings", Settings::<NodeSettings>::parse(&connection.settings).err().unwrap_or_default())
    }

    fn check_point(&self, _: &Connection, _: &Tag) -> Vec<Wrong> {
        vec![("point".into(), "Nothing is read over this connection; publications send values through it.".into())]
    }

    fn show_point(&self, _: &Connection, _: &Own) -> Option<String> {
        None
    }

    fn addresses(&self, connection: &Connection) -> Vec<String> {
        Settings::<NodeSettings>::parse(&connection.settings).map(|settings| settings.addresses()).unwrap_or_default()
    }

    fn runner(&self) -> Arc<dyn Runner> {
        Arc::new(EdgeNode)
    }

    fn tester(&self) -> Option<&dyn Tester> {
        Some(self)
    }
}

#[async_trait]
impl Runner for EdgeNode {
    async fn run(&self, ports: Ports) {
        run::run(ports).await;
    }
}

#[async_trait]
impl Tester for EdgeNode {
    async fn test(&self, connection: &Connection, _: Arc<dyn Identities>, steps: mpsc::Sender<TestStep>) {
        let settings = match Settings::<NodeSettings>::usable(&connection.settings) {
            Ok(settings) => settings,
            Err(error) => return Rungs::refuse(steps, error).await,
        };
        for (i, path) in settings.broker.paths().into_iter().enumerate() {
            if steps.is_closed() {
                return;
            }
            let rungs = Rungs::of_path(steps.clone(), i);
            let _: Option<()> = climb(&settings, &path, connection.timeout_ms, &rungs).await;
        }
    }
}

async fn climb(settings: &Settings<NodeSettings>, path: &crate::net::Path, timeout_ms: u32, rungs: &Rungs) -> Option<()> {
    let mut session = to_session(&settings.broker_of(None), path, timeout_ms, rungs).await?;
    let commands = settings.own.name().command();
    let began = Instant::now();
    let level = granted(&mut session, &commands, 1, timeout_ms).await;
    let words = level.map(|level| ((), format!("granted, quality of service {level}")));
    rungs.rung("Commands", format!("ask for {commands}"), began, words).await?;
    let host = settings.own.primary_host.trim();
    if host.is_empty() {
        return Some(());
    }
    let began = Instant::now();
    session.subscribe(&[topic::state(host)], 1);
    let told = async {
        loop {
            match session.events.recv().await {
                Some(Event::Message(came)) if came.topic == topic::state(host) => {
                    return Ok(run::HostState::read(&came.payload).is_some_and(|told| told.online));
                }
                Some(Event::Lost(error)) => return Err(error),
                Some(_) => {}
                None => return Err(LinkError::Closed),
            }
        }
    };
    let words = match timeout(Duration::from_millis(timeout_ms.into()), told).await {
        Err(_) => Ok(((), "it has never told that it is there; until it does, everything waits on disk".to_owned())),
        Ok(Err(error)) => Err(error),
        Ok(Ok(true)) => Ok(((), "it is there".to_owned())),
        Ok(Ok(false)) => {
            Ok(((), format!("it is not there at {}; until it is, everything waits on disk", havrel_core::time::to_text(now()))))
        }
    };
    rungs.rung("Primary host", format!("ask how {host} stands"), began, words).await
}
