//! A mail server that takes messages (SMTP: RFC 5321; submission: RFC 6409; TLS: RFC 3207, RFC 8314).

use super::{
    Courier, client,
    settings::{Security, Settings},
};
use crate::{
    Identities, Kind, LinkError, Runner, Tester, Wrong,
    form::{Choice, Control, Field, Section},
    kind::{Capabilities, Description, within},
    runner::Ports,
    test::{Rungs, TestStep},
};
use async_trait::async_trait;
use havrel_core::{
    notice::Notice,
    plant::{Connection, Own, Tag},
};
use std::{sync::Arc, time::Instant};
use tokio::sync::mpsc;

/// The connection kind.
pub const KIND: &str = "mail";

/// A mail server as a kind of connection.
#[derive(Clone, Copy)]
pub struct Mail;

impl Kind for Mail {
    fn name(&self) -> &'static str {
        KIND
    }

    fn describe(&self) -> Description {
        const SECURITY: &str = "settings.security";
        let securities = vec![
            Choice::new("start_tls", "TLS after the hello (STARTTLS)"),
            Choice::new("tls", "TLS from the start"),
            Choice::new("none", "none, in clear"),
        ];
        let port = Field::number("settings.port", "Port").usual(587).usual_while(SECURITY, &["tls"], 465).usual_while(
            SECURITY,
            &["none"],
            25,
        );
        let fields = vec![
            Field::text("settings.host", "Host").hint("such as mail.works.example").width(3),
            Field::choice(SECURITY, "Security", securities).width(2),
            port,
            Field::text("settings.user", "User").hint("empty: without login").width(2),
            Field::new("settings.secret", "Password", Control::Password)
                .hint("encrypted when saved, never shown again")
                .only("settings.user", &[])
                .width(2),
            Field::text("settings.from", "Messages come from").hint("such as havrel@works.example").width(2),
            Field::number("timeout_ms", "Timeout, ms").usual(10_000).width(2),
            Field::tick("enabled", "On", true).width(2),
        ];
        let trust = Field::new("settings.trust", "Certificates of trusted authorities", Control::Pem)
            .usual("")
            .hint("PEM; beside those that this machine trusts")
            .only(SECURITY, &["start_tls", "tls"])
            .width(6);
        Description {
            kind: KIND,
            title: "Mail server",
            about: "Takes the messages that tell people of alarms and bring them reports (SMTP).",
            first: "Mail",
            sections: vec![
                Section { title: "", folded: false, fields },
                Section { title: "Security", folded: true, fields: vec![trust] },
            ],
            point: Vec::new(),
            starts: Vec::new(),
            can: Capabilities { test: true, asks: true, health: true, mails: true, ..Capabilities::default() },
        }
    }

    fn check(&self, connection: &Connection) -> Vec<Wrong> {
        within("settings", Settings::parse(&connection.settings).err().unwrap_or_default())
    }

    fn check_point(&self, _: &Connection, _: &Tag) -> Vec<Wrong> {
        super::no_points()
    }

    fn show_point(&self, _: &Connection, _: &Own) -> Option<String> {
        None
    }

    fn addresses(&self, connection: &Connection) -> Vec<String> {
        let shown = |s: Settings| format!("{}:{}", s.host.trim(), s.port());
        Settings::parse(&connection.settings).map(shown).into_iter().collect()
    }

    fn runner(&self) -> Arc<dyn Runner> {
        Arc::new(Mail)
    }

    fn tester(&self) -> Option<&dyn Tester> {
        Some(self)
    }
}

/// A mail server, and how long it has for each answer.
struct Server {
    settings: Settings,
    timeout_ms: u32,
}

#[async_trait]
impl Courier for Server {
    async fn reach(&self) -> Result<(), LinkError> {
        client::Session::open(&self.settings, self.timeout_ms).await?.quit().await;
        Ok(())
    }

    async fn carry(&self, notice: &Notice) -> Result<String, LinkError> {
        let mut session = client::Session::open(&self.settings, self.timeout_ms).await?;
        let told = session.send(&self.settings.from, notice).await;
        session.quit().await;
        told
    }
}

#[async_trait]
impl Runner for Mail {
    async fn run(&self, ports: Ports) {
        let courier = |ports: &Ports| {
            let plan = ports.plan.borrow();
            let settings =
                Settings::parse(&plan.connection.settings).map_err(|wrong| LinkError::BadRequest(wrong[0].1.clone()))?;
            Ok(Box::new(Server { settings, timeout_ms: plan.connection.timeout_ms }) as Box<dyn Courier>)
        };
        super::run(ports, courier).await;
    }
}

#[async_trait]
impl Tester for Mail {
    async fn test(&self, connection: &Connection, _: Arc<dyn Identities>, steps: mpsc::Sender<TestStep>) {
        match Settings::parse(&connection.settings) {
            Ok(settings) => {
                let rungs = Rungs::of_path(steps, 0);
                let _: Option<()> = climb(&settings, connection.timeout_ms, &rungs).await;
            }
            Err(wrong) => Rungs::refuse(steps, LinkError::BadRequest(wrong[0].1.clone())).await,
        }
    }
}

async fn climb(settings: &Settings, timeout_ms: u32, rungs: &Rungs) -> Option<()> {
    let found = rungs.open_port(settings.host.trim(), settings.port(), timeout_ms).await?;
    let began = Instant::now();
    let tried = match settings.security {
        Security::Tls => "agree on TLS and say hello",
        Security::StartTls | Security::None => "say hello",
    };
    let greeted = client::Session::hello(settings, timeout_ms).await.map(|session| {
        let words = session.words();
        (session, words)
    });
    let mut session = rungs.rung("Hello", tried.into(), began, greeted).await?;
    if settings.security == Security::StartTls {
        let began = Instant::now();
        let secured = session.start_tls(settings).await.map(|()| ((), "TLS, the certificate is trusted".to_owned()));
        rungs.rung("Security", "agree on TLS (STARTTLS)".into(), began, secured).await?;
    }
    if !settings.user.trim().is_empty() {
        let clear = settings.security == Security::None && !found.iter().all(|address| address.ip().is_loopback());
        let began = Instant::now();
        let known = session.log_in(settings).await;
        let known = known.map(|words| ((), if clear { format!("{words}; the password travels in clear") } else { words }));
        rungs.rung("Login", format!("log in as {}", settings.user.trim()), began, known).await?;
    }
    let began = Instant::now();
    let taken = session.try_from(&settings.from).await.map(|words| ((), words));
    rungs.rung("Sender", format!("offer a message from {}, and take it back", settings.from), began, taken).await?;
    session.quit().await;
    Some(())
}
