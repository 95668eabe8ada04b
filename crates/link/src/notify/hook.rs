//! A program that is told of things by a request of HTTP (a web hook).

use super::Courier;
use crate::{
    Identities, Kind, LinkError, Runner, Tester, Wrong,
    form::{Field, Section},
    http::{
        client::Caller,
        form,
        settings::{Scheme, Settings},
    },
    kind::{Capabilities, Description, within},
    runner::Ports,
    test::{Rungs, TestStep},
};
use async_trait::async_trait;
use base64::prelude::{BASE64_STANDARD, Engine};
use havrel_core::{
    notice::{Enclosed, Notice},
    plant::{Connection, Own, Tag},
};
use serde_json::json;
use std::{sync::Arc, time::Instant};
use tokio::sync::mpsc;

/// The connection kind.
pub const KIND: &str = "hook";

/// A web hook as a kind of connection.
#[derive(Clone, Copy)]
pub struct Hook;

impl Kind for Hook {
    fn name(&self) -> &'static str {
        KIND
    }

    fn describe(&self) -> Description {
        let mut fields = form::reach("Path", "such as /hooks/havrel");
        fields.extend(form::login());
        fields.push(Field::number("timeout_ms", "Timeout, ms").usual(10_000).width(2));
        fields.push(Field::tick("enabled", "On", true).width(2));
        Description {
            kind: KIND,
            title: "Web hook",
            about: "A program that is told of alarms and gets reports by a POST of JSON.",
            first: "Hook",
            sections: vec![
                Section { title: "", folded: false, fields },
                Section { title: "Security", folded: false, fields: form::security() },
                Section { title: "Headers", folded: true, fields: vec![form::headers()] },
            ],
            point: Vec::new(),
            starts: Vec::new(),
            can: Capabilities { test: true, asks: true, health: true, hooks: true, ..Capabilities::default() },
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
        let shown = |settings: Settings| settings.show(&settings.paths()[0]);
        Settings::parse(&connection.settings).map(shown).into_iter().collect()
    }

    fn runner(&self) -> Arc<dyn Runner> {
        Arc::new(Hook)
    }

    fn tester(&self) -> Option<&dyn Tester> {
        Some(self)
    }
}

/// A program, and how long it has for each answer.
struct Program {
    settings: Arc<Settings>,
    timeout_ms: u32,
}

impl Program {
    fn caller(&self) -> Caller {
        Caller::new(self.settings.clone(), self.settings.paths().swap_remove(0), self.timeout_ms)
    }
}

#[async_trait]
impl Courier for Program {
    async fn reach(&self) -> Result<(), LinkError> {
        self.caller().dial().await.map(drop)
    }

    async fn carry(&self, notice: &Notice) -> Result<String, LinkError> {
        let mut content = notice.content.clone();
        if !notice.files.is_empty() {
            let file =
                |file: &Enclosed| json!({"name": file.name, "type": file.media, "content": BASE64_STANDARD.encode(&file.bytes)});
            content["files"] = notice.files.iter().map(file).collect();
        }
        self.caller().tell(content.to_string()).await.map(|status| status.to_string())
    }
}

#[async_trait]
impl Runner for Hook {
    async fn run(&self, ports: Ports) {
        let courier = |ports: &Ports| {
            let plan = ports.plan.borrow();
            let settings = Arc::new(Settings::usable(&plan.connection.settings)?);
            Ok(Box::new(Program { settings, timeout_ms: plan.connection.timeout_ms }) as Box<dyn Courier>)
        };
        super::run(ports, courier).await;
    }
}

#[async_trait]
impl Tester for Hook {
    async fn test(&self, connection: &Connection, _: Arc<dyn Identities>, steps: mpsc::Sender<TestStep>) {
        match Settings::usable(&connection.settings) {
            Ok(settings) => {
                let program = Program { settings: Arc::new(settings), timeout_ms: connection.timeout_ms };
                let _: Option<()> = climb(&program, &Rungs::of_path(steps, 0)).await;
            }
            Err(error) => Rungs::refuse(steps, error).await,
        }
    }
}

/// Nothing is posted: whatever stands behind would take it for an alarm.
async fn climb(program: &Program, rungs: &Rungs) -> Option<()> {
    let settings = &program.settings;
    let path = settings.paths().swap_remove(0);
    rungs.open_port(path.host.trim(), settings.port_of(&path), program.timeout_ms).await?;
    if settings.scheme == Scheme::Https {
        let began = Instant::now();
        let secured = program.caller().dial().await.map(|words| ((), words));
        rungs.rung("Security", "agree on TLS and look at the certificate".into(), began, secured).await?;
    }
    Some(())
}
