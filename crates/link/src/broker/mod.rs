//! A broker of our own for a site that has none: Debian’s broker as a child of this program, with accounts and topic rights, off
//! until somebody adds it.
//!
//! [`settings`] says what it is told and what an account may do, [`files`] writes that down as the broker reads it, [`book`] reads
//! its log, and [`served`] puts together what is shown of it; all four are pure. [`child`] starts and stops it, [`run`] keeps it
//! running, [`ladder`] tries beforehand whether it could.

pub(crate) mod book;
pub(crate) mod child;
mod files;
mod ladder;
mod run;
pub(crate) mod served;
pub(crate) mod settings;

use crate::{
    Identities, Kind, Runner, Tester, Wrong,
    form::{Choice, Control, Field, Section},
    kind::{Capabilities, Description, within},
    runner::Ports,
    test::{Rungs, TestStep},
};
use async_trait::async_trait;
use havrel_core::plant::{Connection, Own, Tag};
use settings::{Reach, Settings};
use std::sync::Arc;
use tokio::sync::mpsc;

/// The connection kind.
pub const KIND: &str = "broker";

/// A broker of our own as a kind of connection.
#[derive(Clone, Copy)]
pub struct Broker;

fn reached() -> Vec<Field> {
    const REACH: &str = "settings.reach";
    const TRANSPORT: &str = "settings.transport";
    const WEBSOCKET: &str = "settings.websocket";
    let reach = vec![
        Choice::new("machine", "Programs of this machine only"),
        Choice::new("networks", "Every network of this machine"),
        Choice::new("address", "One address of this machine"),
    ];
    let transports = vec![
        Choice::new("clear", "In clear"),
        Choice::new("both", "In clear, and secured by TLS"),
        Choice::new("tls", "Secured by TLS only"),
    ];
    let websockets = vec![Choice::new("none", "No"), Choice::new("clear", "In clear"), Choice::new("tls", "Secured by TLS")];
    vec![
        Field::choice(REACH, "Reached by", reach).width(2),
        Field::text("settings.address", "Address").hint("such as 10.0.4.9").only(REACH, &["address"]).width(2),
        Field::choice(TRANSPORT, "Messages travel", transports).width(2),
        Field::number("settings.port", "Port").usual(1883).only(TRANSPORT, &["clear", "both"]),
        Field::number("settings.tls_port", "Secured port").usual(8883).only(TRANSPORT, &["both", "tls"]),
        Field::choice(WEBSOCKET, "Also over WebSocket", websockets).width(2),
        Field::number("settings.websocket_port", "WebSocket port").usual(9001).only(WEBSOCKET, &["clear", "tls"]),
        Field::tick("enabled", "Switched on", true).width(2),
    ]
}

fn secured() -> Vec<Field> {
    const IDENTITY: &str = "settings.identity";
    let certificates = vec![Choice::new("made", "Made by Havrel"), Choice::new("given", "Given here")];
    vec![
        Field::choice(IDENTITY, "Certificate of the secured ports", certificates).width(3),
        Field::text("settings.names", "Names by which devices know this machine")
            .hint("divided by commas; its host name and addresses are added")
            .only(IDENTITY, &["made"])
            .width(3),
        Field::new("settings.certificate", "Certificate", Control::Pem)
            .usual("")
            .hint("PEM, with those that issued it")
            .only(IDENTITY, &["given"])
            .width(3),
        Field::new("settings.key", "Private key", Control::PemSecret)
            .hint("PEM; encrypted when saved, never shown again")
            .only(IDENTITY, &["given"])
            .width(3),
    ]
}

fn limits() -> Vec<Field> {
    vec![
        Field::number("settings.clients", "Most clients").usual(200).width(2),
        Field::number("settings.largest", "Largest message, bytes").usual(1 << 20).width(2),
        Field::number("settings.queued", "Most messages that wait for a client").usual(1000).width(2),
        Field::number("settings.forget_days", "Forget a client that stays away after, days").usual(14).width(3),
        Field::tick("settings.keep", "Retained and waiting messages outlive a restart", true).width(3),
    ]
}

impl Kind for Broker {
    fn name(&self) -> &'static str {
        KIND
    }

    fn describe(&self) -> Description {
        Description {
            kind: KIND,
            title: "Broker run by Havrel",
            about: "For a site without a broker: devices and programs connect here, each with an account and topic rights.",
            first: "Site broker",
            sections: vec![
                Section { title: "", folded: false, fields: reached() },
                Section { title: "Certificate", folded: true, fields: secured() },
                Section { title: "Limits and persistence", folded: true, fields: limits() },
            ],
            point: Vec::new(),
            starts: Vec::new(),
            can: Capabilities { test: true, health: true, serves: true, ..Capabilities::default() },
        }
    }

    fn check(&self, connection: &Connection) -> Vec<Wrong> {
        within("settings", Settings::parse(&connection.settings).err().unwrap_or_default())
    }

    fn check_point(&self, _: &Connection, _: &Tag) -> Vec<Wrong> {
        vec![("point".into(), "A broker has no values; add an MQTT connection to it, which hears its topics.".into())]
    }

    fn show_point(&self, _: &Connection, _: &Own) -> Option<String> {
        None
    }

    fn leads_to(&self, connection: &Connection) -> String {
        let Ok(settings) = Settings::parse(&connection.settings) else { return String::new() };
        let at = match settings.reach {
            Reach::Machine => "this machine",
            Reach::Networks => "every network",
            Reach::Address => settings.address.trim(),
        };
        let ports: Vec<String> = settings.listeners().iter().map(|listener| listener.port.to_string()).collect();
        format!("{at}, port {}", ports.join(", "))
    }

    fn hash(&self, settings: &mut Own) {
        files::hash_all(settings);
    }

    fn runner(&self) -> Arc<dyn Runner> {
        Arc::new(Broker)
    }

    fn tester(&self) -> Option<&dyn Tester> {
        Some(self)
    }
}

#[async_trait]
impl Runner for Broker {
    async fn run(&self, ports: Ports) {
        run::run(ports).await;
    }
}

#[async_trait]
impl Tester for Broker {
    async fn test(&self, connection: &Connection, identities: Arc<dyn Identities>, steps: mpsc::Sender<TestStep>) {
        match Settings::usable(&connection.settings) {
            Ok(settings) => {
                let _: Option<()> = ladder::climb(&settings, identities.folder(), &Rungs::of_path(steps, 0)).await;
            }
            Err(error) => Rungs::refuse(steps, error).await,
        }
    }
}
