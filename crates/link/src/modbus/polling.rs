//! Polling over the lines of an open connection. Each rota has its own beat; each line makes one request at a time; what is asked
//! next is decided by [`super::rounds`]. A device that is slow or does not answer gets a further line where the transport
//! allows one, so that the rhythm of a device depends on that device alone.

use super::{
    Settings,
    commands::Service,
    memory::Memory,
    rounds::{Judge, Rounds, Told},
    session::{Route, Session},
    state::{Run, plan_key},
    work::{RotaKey, Work, address_of, unit_of},
};
use crate::{Command, LinkError, LinkPlan, LinkState, life::Stop, now};
use futures_util::{StreamExt as _, future::BoxFuture, stream::FuturesUnordered};
use havrel_core::{
    poll::{Read, Rhythm, phase},
    time::{MILLI, Nanos},
};
use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
    time::Duration,
};
use tokio::time::{Instant, sleep_until};

/// Most lines beside the ordinary ones, for devices that are slow or do not answer.
const MOST_FURTHER: usize = 4;

/// Most commands that wait for a line.
const MOST_WAITING: usize = 8;

/// How long no further line is tried after the device did not allow one.
const NO_FURTHER: Duration = Duration::from_secs(300);

/// What came of a request.
struct Done {
    /// Or why it could not be opened again.
    line: Result<Session, LinkError>,
    /// Whether it is one of the further lines.
    further: bool,
    what: What,
}

enum What {
    /// A reading of a rota, of the plan with this number.
    Read {
        plan: u64,
        rota: usize,
        read: Read,
        result: Result<Vec<u16>, LinkError>,
        took_us: u64,
    },
    /// The line could not be opened, or was closed before it answered anything.
    NoLine {
        plan: u64,
        rota: usize,
        read: Read,
    },
    Command,
}

pub(super) struct Polling<'a> {
    run: &'a mut Run,
    route: Route,
    service: Service,
    /// Counts the plans, so that an answer to a question of an earlier one is not taken for one of this.
    plan: u64,
    memory: Memory,
    rounds: Rounds,
    beats: HashMap<RotaKey, (u32, Rhythm)>,
    began: Instant,
    /// Lines that are free.
    lines: Vec<Session>,
    further: Vec<Session>,
    /// Further lines in use.
    further_busy: usize,
    no_further_until: Option<Instant>,
    jobs: FuturesUnordered<BoxFuture<'static, Done>>,
    /// Commands under way.
    serving: usize,
    /// The last refusal of each rota.
    refused: BTreeMap<RotaKey, LinkError>,
}

impl<'a> Polling<'a> {
    /// Polls over these lines, which were opened on this way.
    pub fn new(run: &'a mut Run, plan: Arc<LinkPlan>, route: Route, lines: Vec<Session>) -> Polling<'a> {
        let settings = route.settings.clone();
        let work = Arc::new(Work::of(&plan, &settings));
        let service = Service { work, plan, settings, looked: Arc::default(), batches: run.life.ports.batches.clone() };
        Polling {
            run,
            route,
            service,
            plan: 0,
            memory: Memory::default(),
            rounds: Rounds::default(),
            beats: HashMap::new(),
            began: Instant::now(),
            lines,
            further: Vec::new(),
            further_busy: 0,
            no_further_until: None,
            jobs: FuturesUnordered::new(),
            serving: 0,
            refused: BTreeMap::new(),
        }
    }

    /// Polls until the connection ends or has to be made anew.
    pub async fn run(mut self) -> Stop {
        let stop = self.poll().await;
        // What was asked of a device and is under way gets its answer; readings do not matter any more.
        while self.serving > 0
            && let Some(done) = self.jobs.next().await
        {
            self.serving -= usize::from(matches!(done.what, What::Command));
        }
        for line in self.lines.drain(..).chain(self.further.drain(..)) {
            line.close().await;
        }
        stop
    }

    async fn poll(&mut self) -> Stop {
        if let Err(stop) = self.take_plan().await {
            return stop;
        }
        loop {
            self.dispatch();
            if let Err(stop) = self.hand_over().await {
                return stop;
            }
            let wakes = self.wakes();
            tokio::select! {
                biased;
                changed = self.run.life.ports.plan.changed() => {
                    if changed.is_err() {
                        return Stop::End;
                    }
                    let next = self.run.life.ports.plan.borrow_and_update().clone();
                    let before = &self.service.plan.connection;
                    let same_line = Settings::parse(&next.connection.settings).as_ref() == Ok(&self.service.settings)
                        && (next.connection.enabled, next.connection.timeout_ms) == (true, before.timeout_ms);
                    if !same_line {
                        return Stop::Again;
                    }
                    self.service.work = Arc::new(Work::of(&next, &self.service.settings));
                    self.service.plan = next;
                    if let Err(stop) = self.take_plan().await {
                        return stop;
                    }
                }
                command = self.run.life.ports.commands.recv(), if self.run.life.waiting.len() < MOST_WAITING => match command {
                    None => return Stop::End,
                    Some(Command::TakePath { path, reply }) => {
                        if self.run.take_path(path, reply) {
                            return Stop::Again;
                        }
                    }
                    Some(command) => self.run.life.waiting.push_back(command),
                },
                Some(done) = self.jobs.next(), if !self.jobs.is_empty() => {
                    if let Err(error) = self.done(done) {
                        return self.failed(error).await;
                    }
                }
                () = sleep_until(wakes) => self.begin_rounds(),
            }
        }
    }

    /// Takes a plan into use. Rounds under way begin anew; beats of rotas that stay go on.
    async fn take_plan(&mut self) -> Result<(), Stop> {
        self.plan += 1;
        let work = &self.service.work;
        self.memory.keep(work);
        self.rounds = Rounds::default();
        self.refused.clear();
        let at = self.clock(Instant::now());
        let wall = now();
        let rotas: HashMap<RotaKey, u32> = work.rotas.iter().filter(|r| r.enabled).map(|r| (r.key(), r.interval_ms)).collect();
        self.beats.retain(|key, (interval_ms, _)| rotas.get(key) == Some(interval_ms));
        for (key, interval_ms) in rotas {
            self.beats.entry(key).or_insert_with(|| {
                let interval = Nanos::from(interval_ms) * MILLI;
                // A group keeps its place in the second wherever and whenever the program starts.
                let spread = key.0.map_or_else(|| plan_key(&self.service.settings), |id| id.as_u128());
                let phase = (phase(spread, interval) - wall.rem_euclid(interval)).rem_euclid(interval);
                (interval_ms, Rhythm::phased(at, interval, phase))
            });
        }
        let unread = work.unread(now());
        if !unread.is_empty() && self.service.batches.send(unread).await.is_err() {
            return Err(Stop::End);
        }
        Ok(())
    }

    fn clock(&self, at: Instant) -> Nanos {
        Nanos::try_from((at - self.began).as_nanos()).unwrap_or(Nanos::MAX)
    }

    /// When something is to be done that no answer brings about.
    fn wakes(&self) -> Instant {
        let waits = self.service.work.rotas.iter().enumerate().filter(|(rota, r)| r.enabled && !self.rounds.has(*rota));
        let due = waits.filter_map(|(_, r)| self.beats.get(&r.key())).map(|(_, rhythm)| rhythm.due()).min();
        let due = self.began + Duration::from_nanos(due.unwrap_or(Nanos::MAX / 4).max(0).unsigned_abs());
        let free = self.rounds.wakes(&self.memory, Instant::now()).filter(|_| !self.lines.is_empty());
        free.map_or(due, |free| free.min(due))
    }

    /// Begins the rounds that are due.
    fn begin_rounds(&mut self) {
        let at = Instant::now();
        let clock = self.clock(at);
        let work = self.service.work.clone();
        for (rota, of) in work.rotas.iter().enumerate() {
            let due = self.beats.get(&of.key()).is_some_and(|(_, rhythm)| rhythm.due() <= clock);
            if of.enabled && due && !self.rounds.has(rota) {
                self.rounds.begin(rota, &work, &self.memory, at);
            }
        }
    }

    /// Whether a device that holds up others can have a line of its own.
    fn may_go_further(&self) -> bool {
        self.service.settings.transport.many_lines()
            && self.service.work.units.len() > 1
            && self.no_further_until.is_none_or(|until| until <= Instant::now())
            && !self.route.learnt.is_crowded()
            && !self.route.learnt.is_single()
    }

    /// Gives each free line something to do.
    fn dispatch(&mut self) {
        let at = Instant::now();
        let further = self.may_go_further();
        let work = self.service.work.clone();
        let alone = work.units.iter().all(|unit| self.memory.is_apart(*unit));
        // Where there are no other lines, or no others to hold up, the ordinary lines serve all.
        let all = !further || alone;
        while !self.lines.is_empty() {
            if let Some(command) = self.next_command(|apart| all || !apart) {
                let line = self.lines.pop();
                self.serve(line, false, command);
                continue;
            }
            let next = self.rounds.next(false, &work, &self.memory, at);
            let next = next.or_else(|| if all { self.rounds.next(true, &work, &self.memory, at) } else { None });
            let Some((rota, read)) = next else { break };
            let line = self.lines.pop();
            self.ask(line, false, rota, read);
        }
        while further && self.further_busy < MOST_FURTHER {
            if let Some(command) = self.next_command(|apart| apart) {
                let line = self.further.pop();
                self.serve(line, true, command);
                continue;
            }
            let Some((rota, read)) = self.rounds.next(true, &work, &self.memory, at) else { break };
            let line = self.further.pop();
            self.ask(line, true, rota, read);
        }
        if !further || !work.units.iter().any(|unit| self.memory.is_apart(*unit)) {
            // Nobody needs them any more, and the device may allow few.
            self.further.clear();
        }
    }

    fn next_command(&mut self, wanted: impl Fn(bool) -> bool) -> Option<Command> {
        let fits = |command: &Command| wanted(self.memory.is_apart(self.service.unit(command)));
        let place = self.run.life.waiting.iter().position(fits)?;
        self.run.life.waiting.remove(place)
    }

    fn serve(&mut self, line: Option<Session>, further: bool, command: Command) {
        self.serving += 1;
        self.further_busy += usize::from(further);
        let (service, route) = (self.service.clone(), self.route.clone());
        self.jobs.push(Box::pin(async move {
            let what = What::Command;
            let mut line = match open(line, route).await {
                Ok(line) => line,
                Err(error) => {
                    command.refuse(&error);
                    return Done { line: Err(error), further, what };
                }
            };
            // A failure of one device need not concern the others on the line; if the line itself failed, the next reading shows it.
            let line = match service.serve(&mut line, command).await {
                Ok(()) => Ok(line),
                Err(_) => line.reopen().await.map(|()| line),
            };
            Done { line, further, what }
        }));
    }

    fn ask(&mut self, line: Option<Session>, further: bool, rota: usize, read: Read) {
        self.further_busy += usize::from(further);
        let (plan, route, several) = (self.plan, self.route.clone(), self.service.work.units.len() > 1);
        self.jobs.push(Box::pin(async move {
            let mut line = match open(line, route).await {
                Ok(line) => line,
                Err(error) => return Done { line: Err(error), further, what: What::NoLine { plan, rota, read } },
            };
            let fresh = line.is_fresh();
            let result = line.read(unit_of(&read), address_of(&read), read.count as u16).await;
            if further && fresh && result == Err(LinkError::Closed) {
                return Done { line: Err(LinkError::Closed), further, what: What::NoLine { plan, rota, read } };
            }
            let took_us = line.took_us;
            // An answer that comes late must belong to nobody.
            let anew = several && result.as_ref().is_err_and(|e| !e.spares_connection());
            let line = if anew { line.reopen().await.map(|()| line) } else { Ok(line) };
            Done { line, further, what: What::Read { plan, rota, read, result, took_us } }
        }));
    }

    /// Takes in what a line did. `Err`: the connection cannot go on.
    fn done(&mut self, done: Done) -> Result<(), LinkError> {
        self.further_busy -= usize::from(done.further);
        let lost = match (done.line, done.further) {
            (Ok(line), true) => {
                self.further.push(line);
                None
            }
            (Ok(mut line), false) => {
                let beside = self.further_busy + self.further.len();
                if line.take_cut() && beside > 0 {
                    self.route.learnt.crowded();
                }
                self.lines.push(line);
                None
            }
            (Err(error), further) => Some(error).filter(|_| !further),
        };
        match done.what {
            What::Command => self.serving -= 1,
            What::NoLine { plan, rota, read } => {
                self.no_further_until = Some(Instant::now() + NO_FURTHER);
                if plan == self.plan {
                    self.rounds.put_back(rota, read);
                }
            }
            What::Read { plan, rota, read, result, took_us } if plan == self.plan => {
                let work = &self.service.work;
                let shared = !done.further && work.units.len() > 1;
                self.rounds.settle(rota, read, result, took_us, Judge { work, memory: &mut self.memory, shared })?;
            }
            What::Read { .. } => {}
        }
        lost.map_or(Ok(()), Err)
    }

    /// Hands over what came of the rounds that are over.
    async fn hand_over(&mut self) -> Result<(), Stop> {
        while let Some((rota, round)) = self.rounds.over() {
            let key = self.service.work.rotas[rota].key();
            let clock = self.clock(Instant::now());
            let mut overruns = 0;
            if let Some((_, rhythm)) = self.beats.get_mut(&key) {
                let before = rhythm.overruns();
                rhythm.done(clock);
                overruns = rhythm.overruns() - before;
            }
            match round.refused {
                Some(error) => self.refused.insert(key, error),
                None => self.refused.remove(&key),
            };
            self.tell(round.told, overruns);
            if !round.batch.is_empty() && self.service.batches.send(round.batch).await.is_err() {
                return Err(Stop::End);
            }
        }
        Ok(())
    }

    /// Hands over what came before the connection failed.
    async fn failed(&mut self, error: LinkError) -> Stop {
        let (batch, told) = self.rounds.gathered();
        self.tell(told, 0);
        if !batch.is_empty() && self.service.batches.send(batch).await.is_err() {
            return Stop::End;
        }
        Stop::Failed(error)
    }

    /// Adds to the health what a round tells.
    fn tell(&mut self, told: Told, overruns: u64) {
        let answered = told.answered();
        if answered {
            self.run.life.failures = 0;
        }
        told.took_us.iter().for_each(|&took| self.run.durations.add(took));
        let rate = self.run.rate.add(now(), told.values);
        let (p50_us, p95_us) = self.run.durations.percentiles();
        let path = self.run.life.path;
        let mut learnt = self.route.learnt.words();
        learnt.extend(self.memory.words());
        let refused = self.refused.values().next();
        self.run.life.ports.health.send_modify(|h| {
            h.learnt = learnt;
            h.requests += told.requests;
            h.values += told.values;
            h.rate = rate;
            h.overruns += overruns;
            told.errors.iter().for_each(|error| h.count(error));
            (h.p50_us, h.p95_us) = (p50_us, p95_us);
            if let Some(&took) = told.took_us.last() {
                h.round_trip_us = took;
            }
            if answered {
                h.answered = now();
                if h.path != path {
                    (h.path, h.path_since) = (path, now());
                }
            }
            if answered || h.state == LinkState::Running {
                h.enter(LinkState::Running, refused);
            }
        });
    }
}

/// The line, or a new one where there is none yet.
async fn open(line: Option<Session>, route: Route) -> Result<Session, LinkError> {
    match line {
        Some(line) => Ok(line),
        None => Session::open(route).await,
    }
}
