//! The life of a connection apart from its protocol: fail with words, wait, try again, over a spare address if there is one.

use crate::{Command, LinkError, LinkState, Ports, health::Rate, now, runner::Reply};
use havrel_core::{poll::back_off, sample::Batch, time::Nanos};
use rand::RngExt as _;
use std::{collections::VecDeque, time::Duration};
use tokio::time::{Instant, sleep_until};

/// Why a connection stopped serving.
pub(crate) enum Stop {
    /// The plan's sender is gone: the connection was deleted or the program ends.
    End,
    /// Connect anew, at once.
    Again,
    /// Connect anew after a pause, or at once over another address.
    Failed(LinkError),
}

/// The addresses of a device.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Paths {
    /// How many there are; 0 where the settings are wrong.
    pub count: usize,
    /// Whether the next one takes over by itself.
    pub takeover: bool,
}

/// A connection that runs.
pub(crate) struct Life {
    pub ports: Ports,
    /// Tries in a row that failed.
    pub failures: u32,
    /// Which address is in use.
    pub path: usize,
    /// Commands that wait, also over a new connection.
    pub waiting: VecDeque<Command>,
    rate: Rate,
}

impl Life {
    pub fn new(ports: Ports) -> Life {
        Life { ports, failures: 0, path: 0, waiting: VecDeque::new(), rate: Rate::new(now()) }
    }

    /// Hands on what came, and counts it. `Err`: nobody takes it any more.
    pub async fn hand_on(&mut self, batch: Batch) -> Result<(), ()> {
        let count = batch.samples.len() as u64;
        if count == 0 {
            return Ok(());
        }
        let rate = self.rate.add(now(), count);
        self.ports.health.send_modify(|h| {
            h.values += count;
            h.rate = rate;
        });
        self.ports.batches.send(batch).await.map_err(drop)
    }

    /// Takes another address into use by hand. Whether there is one with that number.
    pub fn take_path(&mut self, path: usize, reply: Reply<()>, count: usize) -> bool {
        let known = path < count;
        if known {
            (self.path, self.failures) = (path, 0);
        }
        // Whoever asked may have gone away meanwhile.
        let _ = reply.send(if known { Ok(()) } else { Err(LinkError::BadRequest("There is no such address.".into())) });
        known
    }

    /// Tells that a connection begins, unless it is in trouble anyway.
    pub fn connecting(&self) {
        self.ports.health.send_modify(|h| {
            if h.state != LinkState::Trouble {
                h.enter(LinkState::Connecting, None);
            }
        });
    }

    /// Tells the failure, with what becomes of the tags, and waits before the next try. `Err`: the connection ends.
    pub async fn failed(&mut self, error: LinkError, marks: Batch, paths: Paths) -> Result<(), ()> {
        self.failures += 1;
        self.waiting.drain(..).for_each(|command| command.refuse(&error));
        let off = error == LinkError::SwitchedOff;
        self.ports.health.send_modify(|h| {
            h.enter(if off { LinkState::Off } else { LinkState::Trouble }, Some(&error));
            h.reconnects += u64::from(!off);
            if !off {
                h.count(&error);
            }
        });
        if !marks.is_empty() && self.ports.batches.send(marks).await.is_err() {
            return Err(());
        }
        if paths.count == 0 {
            return self.wait(Nanos::MAX, &error, paths).await;
        }
        let count = paths.count as u32;
        if paths.takeover && !off {
            self.path = (self.path + 1) % paths.count;
        }
        // Each address is tried once before there is a pause.
        let round = if paths.takeover { self.failures.div_ceil(count) } else { self.failures };
        let pause = match off {
            true => Nanos::MAX,
            false if paths.takeover && !self.failures.is_multiple_of(count) => 0,
            false => back_off(round, rand::rng().random()),
        };
        self.wait(pause, &error, paths).await
    }

    /// Waits out a pause, refusing commands; a new plan ends it. `Err`: the connection ends.
    async fn wait(&mut self, pause: Nanos, error: &LinkError, paths: Paths) -> Result<(), ()> {
        let until = Instant::now() + Duration::from_nanos(pause.min(i64::MAX / 4).unsigned_abs());
        loop {
            tokio::select! {
                changed = self.ports.plan.changed() => return changed.map_err(drop),
                command = self.ports.commands.recv() => match command.ok_or(())? {
                    Command::TakePath { path, reply } => {
                        if self.take_path(path, reply, paths.count) {
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
