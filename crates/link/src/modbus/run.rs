//! The life of one connection: connect, have it polled, recover by itself, over a spare address if need be.

use super::{
    Settings,
    polling::Polling,
    session::{Route, Session},
    state::{Run, Stop},
    work::Work,
};
use crate::{
    Command, LinkError, LinkPlan, LinkState, Ports,
    health::{Durations, Rate},
    now,
};
use havrel_core::{poll::back_off, quality::Quality, time::Nanos};
use rand::RngExt as _;
use std::{collections::VecDeque, sync::Arc, time::Duration};
use tokio::time::{Instant, sleep_until};

pub(super) async fn run(ports: Ports) {
    let rate = Rate::new(now());
    let mut run = Run {
        ports,
        failures: 0,
        path: 0,
        durations: Durations::default(),
        rate,
        waiting: VecDeque::new(),
        learnt: Default::default(),
    };
    loop {
        let plan = run.ports.plan.borrow_and_update().clone();
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
        self.ports.health.send_modify(|h| {
            if h.state != LinkState::Trouble {
                h.enter(LinkState::Connecting, None);
            }
        });
        let paths = settings.paths();
        self.path = self.path.min(paths.len() - 1);
        let timeout_ms = plan.connection.timeout_ms;
        let path = paths[self.path].clone();
        if self.learnt.0.as_ref() != Some(&settings) {
            self.learnt = (Some(settings.clone()), Arc::default());
        }
        let (tap, learnt) = (self.ports.tap.clone(), self.learnt.1.clone());
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
        self.failures += 1;
        self.waiting.drain(..).for_each(|command| command.refuse(&error));
        let off = error == LinkError::SwitchedOff;
        let plan = self.ports.plan.borrow().clone();
        self.ports.health.send_modify(|h| {
            h.enter(if off { LinkState::Off } else { LinkState::Trouble }, Some(&error));
            h.reconnects += u64::from(!off);
            if !off {
                h.count(&error);
            }
        });
        let Ok(settings) = Settings::parse(&plan.connection.settings) else { return self.wait(Nanos::MAX, &error).await };
        if self.ports.batches.send(Work::of(&plan, &settings).all(now(), Quality::of(error.reason()))).await.is_err() {
            return Err(());
        }
        let paths = settings.paths().len() as u32;
        if settings.takeover && !off {
            self.path = (self.path + 1) % paths as usize;
        }
        // Each address is tried once before there is a pause.
        let round = if settings.takeover { self.failures.div_ceil(paths) } else { self.failures };
        let pause = match off {
            true => Nanos::MAX,
            false if settings.takeover && !self.failures.is_multiple_of(paths) => 0,
            false => back_off(round, rand::rng().random()),
        };
        self.wait(pause, &error).await
    }

    /// Waits out a pause, refusing commands; a new plan ends it. `Err`: the connection ends.
    async fn wait(&mut self, pause: Nanos, error: &LinkError) -> Result<(), ()> {
        let until = Instant::now() + Duration::from_nanos(pause.min(i64::MAX / 4).unsigned_abs());
        loop {
            tokio::select! {
                changed = self.ports.plan.changed() => return changed.map_err(drop),
                command = self.ports.commands.recv() => match command.ok_or(())? {
                    Command::TakePath { path, reply } => {
                        if self.take_path(path, reply) {
                            return Ok(());
                        }
                    }
                    other => other.refuse(error),
                },
                () = sleep_until(until) => return Ok(()),
            }
        }
    }
}
