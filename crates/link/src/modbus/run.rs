//! The life of one connection: connect, poll each group on its beat, serve commands in between, recover by itself, over a
//! spare address if need be.

use super::{
    Settings,
    learnt::Learnt,
    look,
    session::{Session, Way},
    turn::{Memory, Told, Work},
};
use crate::{
    Command, LinkError, LinkPlan, LinkState, Ports, RawValue,
    health::{Durations, Rate},
    now,
};
use havrel_core::{
    TagNo,
    poll::{Rhythm, back_off, phase},
    quality::Quality,
    sample::{Batch, Value},
    time::{MILLI, Nanos},
};
use rand::RngExt as _;
use std::{collections::HashMap, sync::Arc, time::Duration};
use tokio::time::{Instant, sleep_until};
use uuid::Uuid;

/// Why polling stopped.
enum Stop {
    /// The plan's sender is gone: the connection was deleted or the program ends.
    End,
    /// Connect anew, at once.
    Again,
    /// Connect anew after a pause, or at once over another address.
    Failed(LinkError),
}

struct Run {
    ports: Ports,
    failures: u32,
    /// Which address is in use.
    path: usize,
    durations: Durations,
    rate: Rate,
    /// Of the device that these settings reach.
    learnt: (Option<Settings>, Arc<Learnt>),
}

pub(super) async fn run(ports: Ports) {
    let rate = Rate::new(now());
    let mut run = Run { ports, failures: 0, path: 0, durations: Durations::default(), rate, learnt: Default::default() };
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
        let way = Way { settings: settings.clone(), path, timeout_ms, tap, learnt };
        let mut lines = Vec::new();
        for _ in 0..settings.parallel {
            match Session::open(way.clone()).await {
                Ok(line) => lines.push(line),
                // A device that allows fewer connections than wished is served over those it allows.
                Err(_) if !lines.is_empty() => break,
                Err(error) => return Stop::Failed(error),
            }
        }
        let stop = self.poll(&mut lines, plan, settings).await;
        for line in lines {
            line.close().await;
        }
        stop
    }

    /// Tells the failure, and waits before the next try. `Err`: the connection ends.
    async fn failed(&mut self, error: LinkError) -> Result<(), ()> {
        self.failures += 1;
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
                    other => refuse(other, error),
                },
                () = sleep_until(until) => return Ok(()),
            }
        }
    }

    /// Takes another address into use by hand. Whether there is one with that number.
    fn take_path(&mut self, path: usize, reply: tokio::sync::oneshot::Sender<Result<(), LinkError>>) -> bool {
        let plan = self.ports.plan.borrow().clone();
        let paths = Settings::parse(&plan.connection.settings).map_or(0, |s| s.paths().len());
        let known = path < paths;
        if known {
            (self.path, self.failures) = (path, 0);
        }
        // Whoever asked may have gone away meanwhile.
        let _ = reply.send(if known { Ok(()) } else { Err(LinkError::BadRequest("There is no such address.".into())) });
        known
    }

    async fn poll(&mut self, lines: &mut [Session], mut plan: Arc<LinkPlan>, settings: Settings) -> Stop {
        let mut work = Work::of(&plan, &settings);
        let mut memory = Memory::default();
        // Kept apart: a register that somebody views need not belong to a tag.
        let mut looked = Memory::default();
        let began = Instant::now();
        let clock = |at: Instant| Nanos::try_from((at - began).as_nanos()).unwrap_or(Nanos::MAX);
        let wall = now();
        // A group keeps its place in the second wherever and whenever the program starts.
        let beat = |id: Option<Uuid>, interval_ms: u32, at: Nanos| {
            let interval = Nanos::from(interval_ms) * MILLI;
            let key = id.map_or_else(|| plan_key(&settings), |id| id.as_u128());
            Rhythm::phased(at, interval, (phase(key, interval) - wall.rem_euclid(interval)).rem_euclid(interval))
        };
        let mut beats: HashMap<Option<Uuid>, (u32, Rhythm)> = HashMap::new();
        let mut fresh = true;
        loop {
            if std::mem::take(&mut fresh) {
                let at = clock(Instant::now());
                beats.retain(|id, (interval, _)| {
                    work.rotas.iter().any(|r| r.enabled && r.group == *id && r.interval_ms == *interval)
                });
                for rota in work.rotas.iter().filter(|r| r.enabled) {
                    beats.entry(rota.group).or_insert_with(|| (rota.interval_ms, beat(rota.group, rota.interval_ms, at)));
                }
                let unread = work.unread(now());
                if !unread.is_empty() && self.ports.batches.send(unread).await.is_err() {
                    return Stop::End;
                }
            }
            let next = beats.iter().min_by_key(|(_, (_, rhythm))| rhythm.due()).map(|(id, (_, rhythm))| (*id, rhythm.due()));
            let (group, due) = next.unwrap_or((None, Nanos::MAX / 4));
            let due = began + Duration::from_nanos(due.max(0).unsigned_abs());
            tokio::select! {
                biased;
                changed = self.ports.plan.changed() => {
                    if changed.is_err() {
                        return Stop::End;
                    }
                    let next = self.ports.plan.borrow_and_update().clone();
                    let same_line = Settings::parse(&next.connection.settings).as_ref() == Ok(&settings)
                        && (next.connection.enabled, next.connection.timeout_ms) == (true, plan.connection.timeout_ms);
                    if !same_line {
                        return Stop::Again;
                    }
                    plan = next;
                    work = Work::of(&plan, &settings);
                    memory.keep(&work);
                    fresh = true;
                }
                command = self.ports.commands.recv() => {
                    let Some(command) = command else { return Stop::End };
                    match self.serve(&mut lines[0], &work, &plan, &settings, &mut looked, command).await {
                        Ok(false) => {}
                        Ok(true) => return Stop::Again,
                        Err(error) => return Stop::Failed(error),
                    }
                }
                () = sleep_until(due) => {
                    let Some(rota) = work.rotas.iter().position(|r| r.group == group) else { continue };
                    let (told, result) = if work.idle() {
                        (Told::default(), greet(&mut lines[0], &settings).await)
                    } else {
                        work.turn(rota, lines, &mut memory, &self.ports.batches).await
                    };
                    let mut overruns = 0;
                    if let Some((_, rhythm)) = beats.get_mut(&group) {
                        let before = rhythm.overruns();
                        rhythm.done(clock(Instant::now()));
                        overruns = rhythm.overruns() - before;
                    }
                    self.tell(told, overruns, &memory, &result);
                    if let Err(error) = result {
                        return Stop::Failed(error);
                    }
                    self.failures = 0;
                }
            }
        }
    }

    /// Adds a turn to the health.
    fn tell(&mut self, told: Told, overruns: u64, memory: &Memory, result: &Result<(), LinkError>) {
        told.took_us.iter().for_each(|&took| self.durations.add(took));
        let rate = self.rate.add(now(), told.values);
        let (p50_us, p95_us) = self.durations.percentiles();
        let path = self.path;
        let mut learnt = self.learnt.1.words();
        learnt.extend(memory.words());
        self.ports.health.send_modify(|h| {
            h.learnt = learnt;
            h.requests += told.requests;
            h.values += told.values;
            h.rate = rate;
            h.overruns += overruns;
            // The error that ends the connection is counted when it does.
            let ends = result.is_err();
            let counted = told.errors.len() - usize::from(ends && !told.errors.is_empty());
            told.errors[..counted].iter().for_each(|error| h.count(error));
            (h.p50_us, h.p95_us) = (p50_us, p95_us);
            if let Some(&took) = told.took_us.last() {
                h.round_trip_us = took;
            }
            if result.is_ok() {
                h.answered = now();
                if h.path != path {
                    (h.path, h.path_since) = (path, now());
                }
                h.enter(LinkState::Running, told.refused.as_ref());
            }
        });
    }

    /// Serves one command. Gives whether to connect anew. `Err`: the connection cannot go on; whoever asked has been told.
    async fn serve(
        &mut self,
        line: &mut Session,
        work: &Work,
        plan: &LinkPlan,
        settings: &Settings,
        looked: &mut Memory,
        command: Command,
    ) -> Result<bool, LinkError> {
        // Whoever asked may have gone away meanwhile, so what becomes of the replies does not matter.
        let failed = match command {
            Command::TakePath { path, reply } => return Ok(self.take_path(path, reply)),
            Command::Browse { request, reply } => {
                let page = look::look(line, settings, &request, looked).await;
                let failed = page.as_ref().err().cloned();
                let _ = reply.send(page);
                failed
            }
            Command::Raw { tags, reply } => {
                let mut raw = Vec::new();
                let mut failed = None;
                for tag in tags {
                    match read_raw(line, work, tag).await {
                        Ok(value) => raw.push(value),
                        Err(error) => {
                            failed = Some(error);
                            break;
                        }
                    }
                }
                let _ = reply.send(failed.clone().map_or(Ok(raw), Err));
                failed
            }
            Command::Write { tag, value, reply } => {
                let result = if plan.connection.writing {
                    self.write(line, work, tag, &value).await
                } else {
                    Err(LinkError::BadRequest("Writing is switched off for this connection.".into()))
                };
                let failed = result.as_ref().err().cloned();
                let _ = reply.send(result);
                failed
            }
        };
        // What was asked of one device says nothing of the others on the line; if it is the line, the next turn finds out.
        if failed.is_some_and(|e| !e.spares_connection()) {
            line.reopen().await?;
        }
        Ok(false)
    }

    async fn write(&mut self, line: &mut Session, work: &Work, tag: TagNo, value: &Value) -> Result<Value, LinkError> {
        let missing = || LinkError::BadRequest("The tag has no source it can be written to.".into());
        let item = work.item(tag).ok_or_else(missing)?;
        let point = item.point;
        let encoded = item.encode(value).map_err(LinkError::BadRequest)?;
        let answered = line.write(point.unit, point.address, &encoded).await?;
        let held = match answered {
            Some(words) => words,
            None => line.read(point.unit, point.address, point.width()).await?,
        };
        let wrong = |reason: havrel_core::quality::Reason| LinkError::WrongAnswer(reason.words().to_owned());
        let (read_back, _) = item.engineering(point.shape.decode(&held).map_err(wrong)?);
        let mut batch = Batch::default();
        batch.push(tag, now(), Quality::GOOD, 0, &read_back);
        // The page should see at once what the device now holds; if nobody takes samples any more, polling ends next.
        let _ = self.ports.batches.send(batch).await;
        let same = match &encoded {
            super::Encoded::Words(words) => held == *words,
            super::Encoded::Masked(parts) => held.iter().zip(parts).all(|(held, (mask, set))| held & mask == *set),
        };
        if same { Ok(read_back) } else { Err(LinkError::ReadBack(read_back.to_json().to_string())) }
    }
}

/// What spreads connections over the interval: whom they talk to.
fn plan_key(settings: &Settings) -> u128 {
    let text = settings.paths()[0].show();
    text.bytes().fold(0xcbf2_9ce4_8422_2325_u128, |sum, b| (sum ^ u128::from(b)).wrapping_mul(0x100_0000_01b3))
}

/// Nothing to read: still find out whether the device is there.
async fn greet(line: &mut Session, settings: &Settings) -> Result<(), LinkError> {
    let first = super::Address { table: super::Table::Holding, offset: 0 };
    let heard = line.read(settings.unit, first, 1).await.map(drop);
    heard.or_else(|e| if e.spares_connection() { Ok(()) } else { Err(e) })
}

/// One tag's registers, and what they make.
async fn read_raw(line: &mut Session, work: &Work, tag: TagNo) -> Result<RawValue, LinkError> {
    let mut raw = RawValue { tag, bytes: Vec::new(), decoded: None, scaled: None, words: String::new() };
    let Some(item) = work.item(tag) else {
        raw.words = "It has no source that can be read.".into();
        return Ok(raw);
    };
    match line.read(item.point.unit, item.point.address, item.point.width()).await {
        Ok(words) => {
            raw.bytes = words.iter().flat_map(|w| w.to_be_bytes()).collect();
            match item.point.shape.decode(&words) {
                Ok(value) => {
                    raw.scaled = Some(item.engineering(value.clone()).0);
                    raw.decoded = Some(value);
                }
                Err(reason) => raw.words = reason.words().into(),
            }
            Ok(raw)
        }
        Err(error) if error.spares_connection() => {
            raw.words = error.to_string();
            Ok(raw)
        }
        Err(error) => Err(error),
    }
}

fn refuse(command: Command, error: &LinkError) {
    // Whoever asked may have gone away meanwhile.
    match command {
        Command::Write { reply, .. } => drop(reply.send(Err(error.clone()))),
        Command::Browse { reply, .. } => drop(reply.send(Err(error.clone()))),
        Command::Raw { reply, .. } => drop(reply.send(Err(error.clone()))),
        Command::TakePath { reply, .. } => drop(reply.send(Err(error.clone()))),
    }
}
