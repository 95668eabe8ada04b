//! The life of one connection: connect, poll on the beat, serve commands in between, recover by itself.

use super::{
    Settings, codec, look,
    session::Session,
    turn::{Told, Work},
};
use crate::{Command, Health, LinkError, LinkPlan, LinkState, now};
use havrel_core::{
    poll::{Rhythm, back_off},
    quality::Quality,
    sample::{Batch, Value},
    time::{MILLI, Nanos},
};
use rand::RngExt as _;
use std::{sync::Arc, time::Duration};
use tokio::{
    sync::{mpsc, watch},
    time::{Instant, sleep_until},
};

struct Ports {
    plan: watch::Receiver<Arc<LinkPlan>>,
    batches: mpsc::Sender<Batch>,
    commands: mpsc::Receiver<Command>,
    health: watch::Sender<Health>,
}

/// Why polling stopped.
enum Stop {
    /// The plan's sender is gone: the connection was deleted or the program ends.
    End,
    /// Connect anew, at once.
    Again,
    /// Connect anew after a pause.
    Failed(LinkError),
}

pub(super) async fn run(
    plan: watch::Receiver<Arc<LinkPlan>>,
    batches: mpsc::Sender<Batch>,
    commands: mpsc::Receiver<Command>,
    health: watch::Sender<Health>,
) {
    let mut ports = Ports { plan, batches, commands, health };
    let mut failures = 0;
    loop {
        let plan = ports.plan.borrow_and_update().clone();
        let stop = match Settings::parse(&plan.connection.settings) {
            Err(wrong) => Stop::Failed(LinkError::BadRequest(wrong[0].1.clone())),
            Ok(_) if !plan.connection.enabled => Stop::Failed(LinkError::SwitchedOff),
            Ok(settings) => {
                ports.health.send_modify(|h| {
                    if h.state != LinkState::Trouble {
                        h.enter(LinkState::Connecting, None);
                    }
                });
                match Session::open(&settings, plan.connection.timeout_ms).await {
                    Err(error) => Stop::Failed(error),
                    Ok(mut session) => {
                        let stop = ports.poll(&mut session, plan.clone(), settings, &mut failures).await;
                        session.close().await;
                        stop
                    }
                }
            }
        };
        let error = match stop {
            Stop::End => return,
            Stop::Again => continue,
            Stop::Failed(error) => error,
        };
        failures += 1;
        let off = error == LinkError::SwitchedOff;
        let plan = ports.plan.borrow().clone();
        ports.health.send_modify(|h| {
            h.enter(if off { LinkState::Off } else { LinkState::Trouble }, Some(&error));
            h.reconnects += u64::from(!off);
        });
        if let Ok(settings) = Settings::parse(&plan.connection.settings)
            && ports.batches.send(Work::of(&plan, &settings).all(now(), Quality::of(error.reason()))).await.is_err()
        {
            return;
        }
        let pause = if off { Nanos::MAX } else { back_off(failures, rand::rng().random()) };
        if ports.wait(pause, &error).await.is_err() {
            return;
        }
    }
}

impl Ports {
    /// Waits out a pause, refusing commands; a new plan ends it. `Err`: the connection ends.
    async fn wait(&mut self, pause: Nanos, error: &LinkError) -> Result<(), ()> {
        let until = Instant::now() + Duration::from_nanos(pause.min(i64::MAX / 4).unsigned_abs());
        loop {
            tokio::select! {
                changed = self.plan.changed() => return changed.map_err(drop),
                command = self.commands.recv() => refuse(command.ok_or(())?, error),
                () = sleep_until(until) => return Ok(()),
            }
        }
    }

    async fn poll(&mut self, session: &mut Session, plan: Arc<LinkPlan>, settings: Settings, failures: &mut u32) -> Stop {
        let mut plan = plan;
        let mut work = Work::of(&plan, &settings);
        let began = Instant::now();
        let clock = |at: Instant| Nanos::try_from((at - began).as_nanos()).unwrap_or(Nanos::MAX);
        let mut rhythm = Rhythm::new(0, Nanos::from(plan.connection.interval_ms) * MILLI);
        let mut overruns_before = 0;
        loop {
            let due = began + Duration::from_nanos(rhythm.due().unsigned_abs());
            tokio::select! {
                biased;
                changed = self.plan.changed() => {
                    if changed.is_err() {
                        return Stop::End;
                    }
                    let next = self.plan.borrow_and_update().clone();
                    let same_line = Settings::parse(&next.connection.settings).as_ref() == Ok(&settings)
                        && (next.connection.enabled, next.connection.timeout_ms) == (true, plan.connection.timeout_ms);
                    if !same_line {
                        return Stop::Again;
                    }
                    if next.connection.interval_ms != plan.connection.interval_ms {
                        rhythm = Rhythm::new(clock(Instant::now()), Nanos::from(next.connection.interval_ms) * MILLI);
                        overruns_before = 0;
                    }
                    plan = next;
                    work = Work::of(&plan, &settings);
                }
                command = self.commands.recv() => {
                    let Some(command) = command else { return Stop::End };
                    if let Err(error) = self.serve(session, &work, &plan, &settings, command).await {
                        return Stop::Failed(error);
                    }
                }
                () = sleep_until(due) => {
                    let mut told = Told::default();
                    let mut batch = Batch::default();
                    let result = match work.items.is_empty() {
                        // Nothing to read: still find out whether the device is there.
                        true => session.read(super::Address { table: super::Table::Holding, offset: 0 }, 1).await
                            .map(drop).or_else(|e| if e.spares_connection() { Ok(()) } else { Err(e) }),
                        false => work.turn(session, &mut batch, &mut told).await,
                    };
                    rhythm.done(clock(Instant::now()));
                    let overruns = rhythm.overruns() - overruns_before;
                    overruns_before = rhythm.overruns();
                    work.sourceless.iter().for_each(|&tag| {
                        batch.push_quality(tag, now(), Quality::of(havrel_core::quality::Reason::NoSource));
                    });
                    self.health.send_modify(|h| {
                        h.requests += told.requests;
                        h.values += told.values;
                        h.errors += told.errors;
                        h.overruns += overruns;
                        if result.is_ok() {
                            h.round_trip_us = told.round_trip_us;
                            h.answered = now();
                            h.enter(LinkState::Running, told.refused.as_ref());
                        }
                    });
                    if !batch.is_empty() && self.batches.send(batch).await.is_err() {
                        return Stop::End;
                    }
                    match result {
                        Ok(()) => *failures = 0,
                        Err(error) => return Stop::Failed(error),
                    }
                }
            }
        }
    }

    /// Serves one command. `Err`: the connection cannot go on; whoever asked has been told.
    async fn serve(
        &mut self,
        session: &mut Session,
        work: &Work,
        plan: &LinkPlan,
        settings: &Settings,
        command: Command,
    ) -> Result<(), LinkError> {
        let failed = match command {
            Command::Browse { request, reply } => {
                let page = look(session, settings, &request).await;
                let failed = page.as_ref().err().cloned();
                // Whoever asked may have gone away meanwhile.
                let _ = reply.send(page);
                failed
            }
            Command::Write { tag, value, reply } => {
                let result = if plan.connection.writing {
                    self.write(session, work, tag, &value).await
                } else {
                    Err(LinkError::BadRequest("Writing is switched off for this connection.".into()))
                };
                let failed = result.as_ref().err().cloned();
                let _ = reply.send(result);
                failed
            }
        };
        failed.filter(|e| !e.spares_connection()).map_or(Ok(()), Err)
    }

    async fn write(&mut self, session: &mut Session, work: &Work, tag: u32, value: &Value) -> Result<Value, LinkError> {
        let missing = || LinkError::BadRequest("The tag has no source it can be written to.".into());
        let item = work.by_tag.get(&tag).map(|&i| &work.items[i]).ok_or_else(missing)?;
        let point = item.point;
        let words = codec::encode(point.kind, point.order, point.length, &item.raw(value)).map_err(LinkError::BadRequest)?;
        session.write(point.address, &words).await?;
        let held = session.read(point.address, point.width()).await?;
        let raw =
            codec::decode(point.kind, point.order, &held).map_err(|reason| LinkError::WrongAnswer(reason.words().to_owned()))?;
        let (read_back, _) = item.engineering(raw);
        let mut batch = Batch::default();
        batch.push(tag, now(), Quality::GOOD, 0, &read_back);
        // The page should see at once what the device now holds; if nobody takes samples any more, polling ends next.
        let _ = self.batches.send(batch).await;
        if held != words {
            return Err(LinkError::ReadBack(read_back.to_json().to_string()));
        }
        Ok(read_back)
    }
}

fn refuse(command: Command, error: &LinkError) {
    // Whoever asked may have gone away meanwhile.
    match command {
        Command::Write { reply, .. } => drop(reply.send(Err(error.clone()))),
        Command::Browse { reply, .. } => drop(reply.send(Err(error.clone()))),
    }
}
