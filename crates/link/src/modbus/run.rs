//! The life of one connection: connect, have it polled, recover by itself, over a spare address if need be.

use super::{
    Settings,
    polling::Polling,
    session::{Route, Session},
    state::Run,
    work::Work,
};
use crate::{
    LinkError, LinkPlan, Ports,
    health::{Durations, Rate},
    life::{Life, Paths, Stop},
    now,
};
use havrel_core::{quality::Quality, sample::Batch};
use std::sync::Arc;

pub(super) async fn run(ports: Ports) {
    let rate = Rate::new(now());
    let mut run = Run { life: Life::new(ports), durations: Durations::default(), rate, learnt: Default::default() };
    loop {
        let plan = run.life.ports.plan.borrow_and_update().clone();
        let stop = match Settings::usable(&plan.connection.settings) {
            Err(error) => Stop::Failed(error),
            Ok(_) if !plan.connection.enabled => Stop::Failed(LinkError::SwitchedOff),
            Ok(settings) => run.connect(plan, settings).await,
        };
        let error = match stop {
            Stop::End => return,
            Stop::Again => continue,
            Stop::Failed(error) => error,
        };
        if run.failed(error).await.is_err() {
            return;
        }
    }
}

impl Run {
    async fn connect(&mut self, plan: Arc<LinkPlan>, settings: Settings) -> Stop {
        self.life.connecting();
        let paths = settings.paths();
        self.life.path = self.life.path.min(paths.len() - 1);
        let timeout_ms = plan.connection.timeout_ms;
        let path = paths[self.life.path].clone();
        if self.learnt.0.as_ref() != Some(&settings) {
            self.learnt = (Some(settings.clone()), Arc::default());
        }
        let (tap, learnt) = (self.life.ports.tap.clone(), self.learnt.1.clone());
        let route = Route { settings: settings.clone(), path, timeout_ms, tap, learnt };
        let mut lines = Vec::new();
        for _ in 0..settings.parallel {
            match Session::open(route.clone()).await {
                Ok(line) => lines.push(line),
                // A device that allows fewer connections than wished is served over those it allows.
                Err(_) if !lines.is_empty() => break,
                Err(error) => return Stop::Failed(error),
            }
        }
        Polling::new(self, plan, route, lines).run().await
    }

    /// Tells the failure, and waits before the next try. `Err`: the connection ends.
    async fn failed(&mut self, error: LinkError) -> Result<(), ()> {
        let plan = self.life.ports.plan.borrow().clone();
        let (marks, paths) = match Settings::parse(&plan.connection.settings) {
            Ok(settings) => {
                let marks = Work::of(&plan, &settings).all(now(), Quality::of(error.reason()));
                (marks, Paths { count: settings.paths().len(), takeover: settings.takeover })
            }
            Err(_) => (Batch::default(), Paths { count: 0, takeover: false }),
        };
        self.life.failed(error, marks, paths).await
    }
}
