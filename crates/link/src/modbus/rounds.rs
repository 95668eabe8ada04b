//! The rounds under way: what is still to be asked of whom, and in which order. No input or output: [`super::run`] asks.
//!
//! A round reads everything that one rota wants once. Whatever is most overdue for its interval goes first. A device that is
//! slow or does not answer is asked one request at a time, and not by a line that others wait for, where that can be helped.
//! What a device refuses is split and remembered.

use super::{
    memory::Memory,
    work::{Work, address_of, unit_of},
};
use crate::{LinkError, now};
use havrel_core::{poll::Read, quality::Quality, sample::Batch};
use std::{
    collections::{BTreeMap, HashMap, VecDeque},
    time::Duration,
};
use tokio::time::Instant;

/// What a round adds to the health.
#[derive(Default)]
pub(super) struct Told {
    pub requests: u64,
    pub values: u64,
    pub errors: Vec<LinkError>,
    /// Durations of the requests that were answered with values, in microseconds.
    pub took_us: Vec<u64>,
    /// Requests that the device refused; it answered all the same.
    pub refusals: u64,
}

impl Told {
    /// Whether the device answered at all.
    pub fn answered(&self) -> bool {
        self.refusals > 0 || !self.took_us.is_empty()
    }
}

/// One reading of everything that a rota wants.
pub(super) struct Round {
    began: Instant,
    interval: Duration,
    unit: u8,
    queue: VecDeque<Read>,
    /// Requests under way.
    asked: u32,
    /// What came and was not handed over yet.
    pub batch: Batch,
    pub told: Told,
    /// The last refusal, for the page; its tags know already.
    pub refused: Option<LinkError>,
}

/// The rounds under way, by rota.
#[derive(Default)]
pub(super) struct Rounds {
    open: BTreeMap<usize, Round>,
    /// The requests of each rota, and of which refusals they were made.
    packed: HashMap<usize, (usize, Vec<Read>)>,
}

/// What an answer is judged by.
pub(super) struct Judge<'a> {
    pub work: &'a Work,
    pub memory: &'a mut Memory,
    /// Whether other devices wait for the line over which it came.
    pub shared: bool,
}

impl Rounds {
    /// Begins a round of a rota that is due. A device that rests is not asked; its tags are told so.
    pub fn begin(&mut self, rota: usize, work: &Work, memory: &Memory, at: Instant) {
        let version = memory.refused.version();
        let packed = self.packed.entry(rota).or_insert_with(|| (usize::MAX, Vec::new()));
        if packed.0 != version {
            *packed = (version, work.reads(rota, &memory.refused));
        }
        let of = &work.rotas[rota];
        let interval = Duration::from_millis(of.interval_ms.max(1).into());
        let (batch, told, refused) = Default::default();
        let mut round = Round {
            began: at,
            interval,
            unit: of.unit,
            queue: packed.1.iter().cloned().collect(),
            asked: 0,
            batch,
            told,
            refused,
        };
        if let Some(error) = memory.rests(of.unit, at) {
            round.give_up(work, rota, &error);
        }
        self.open.insert(rota, round);
    }

    /// Whether a round of a rota is under way.
    pub fn has(&self, rota: usize) -> bool {
        self.open.contains_key(&rota)
    }

    /// The next request: of the devices that others need not wait for, or of the slow and silent ones (`apart`).
    pub fn next(&mut self, apart: bool, work: &Work, memory: &Memory, at: Instant) -> Option<(usize, Read)> {
        loop {
            let busy = |unit: u8| self.open.values().any(|round| round.unit == unit && round.asked > 0);
            let fits = |round: &Round| {
                !round.queue.is_empty()
                    && memory.is_apart(round.unit) == apart
                    && (!apart || (!busy(round.unit) && memory.yields(round.unit, at).is_none()))
            };
            let overdue = |round: &Round| (at - round.began).as_secs_f64() / round.interval.as_secs_f64();
            let fitting = self.open.iter().filter(|(_, round)| fits(round));
            let (&rota, _) = fitting.max_by(|(_, a), (_, b)| overdue(a).total_cmp(&overdue(b)))?;
            let round = self.open.get_mut(&rota)?;
            let read = round.queue.pop_front()?;
            let Some(error) = memory.pauses(unit_of(&read), address_of(&read), read.count as u16, at) else {
                round.told.requests += 1;
                round.asked += 1;
                return Some((rota, read));
            };
            work.rotas[rota].mark(&read.items, now(), Quality::of(error.reason()), &mut round.batch);
            round.refused = Some(error);
        }
    }

    /// Puts a request back that could not be made.
    pub fn put_back(&mut self, rota: usize, read: Read) {
        if let Some(round) = self.open.get_mut(&rota) {
            round.asked -= 1;
            round.told.requests -= 1;
            round.queue.push_front(read);
        }
    }

    /// When the first slow device that leaves the line to others may be asked.
    pub fn wakes(&self, memory: &Memory, at: Instant) -> Option<Instant> {
        let waiting = self.open.values().filter(|round| !round.queue.is_empty());
        waiting.filter_map(|round| memory.yields(round.unit, at)).min()
    }

    /// Takes in what came of a request. `Err`: the connection cannot go on, because no device behind it answers.
    pub fn settle(
        &mut self,
        rota: usize,
        read: Read,
        result: Result<Vec<u16>, LinkError>,
        took_us: u64,
        judge: Judge<'_>,
    ) -> Result<(), LinkError> {
        let Judge { work, memory, shared } = judge;
        let Some(round) = self.open.get_mut(&rota) else { return Ok(()) };
        round.asked -= 1;
        let (at, of, unit) = (Instant::now(), &work.rotas[rota], unit_of(&read));
        let took = Duration::from_micros(took_us);
        let error = match result {
            Ok(words) => {
                let time = now();
                for &item in &read.items {
                    let item = &of.items[item];
                    let from = (u32::from(item.point.address.offset) - read.start) as usize;
                    item.read(&words[from..from + usize::from(item.point.width())], time, &mut round.batch);
                }
                round.told.values += read.items.len() as u64;
                round.told.took_us.push(took_us);
                memory.answered(unit, took, work.shortest_ms(), shared, at);
                memory.refused.found(&read);
                memory.found(unit, address_of(&read), read.count as u16);
                return Ok(());
            }
            // A greeting that is refused was answered all the same.
            Err(error) if error.spares_connection() && read.items.is_empty() => {
                memory.answered(unit, took, work.shortest_ms(), shared, at);
                round.told.refusals += 1;
                return Ok(());
            }
            Err(error) => error,
        };
        if error.spares_connection() {
            round.told.errors.push(error.clone());
            round.told.refusals += 1;
            memory.answered(unit, took, work.shortest_ms(), shared, at);
            let parts = read.split(&of.wants, work.limit);
            if parts.is_empty() {
                of.mark(&read.items, now(), Quality::of(error.reason()), &mut round.batch);
                if error.lasts() {
                    memory.refused.miss(&read);
                    memory.miss(unit, address_of(&read), read.count as u16, error.clone(), at);
                }
                round.refused = Some(error);
            } else {
                memory.refused.add(&read, &of.wants);
                parts.into_iter().rev().for_each(|part| round.queue.push_front(part));
            }
            return Ok(());
        }
        if work.units.len() == 1 {
            return Err(error);
        }
        of.mark(&read.items, now(), Quality::of(error.reason()), &mut round.batch);
        memory.failed(unit, error.clone(), took, shared, at);
        // The error that ends the connection is counted when it does.
        if let Some(last) = memory.all_rest(work) {
            return Err(last);
        }
        round.told.errors.push(error.clone());
        for (&rota, round) in self.open.iter_mut().filter(|(_, round)| round.unit == unit) {
            round.give_up(work, rota, &error);
        }
        Ok(())
    }

    /// Takes out a round that is over.
    pub fn over(&mut self) -> Option<(usize, Round)> {
        let rota = *self.open.iter().find(|(_, round)| round.queue.is_empty() && round.asked == 0)?.0;
        self.open.remove_entry(&rota)
    }

    /// Takes out all that came and was not handed over yet, and what it adds to the health.
    pub fn gathered(&mut self) -> (Batch, Told) {
        let (mut batch, mut told) = (Batch::default(), Told::default());
        for round in std::mem::take(&mut self.open).into_values() {
            round.batch.samples.iter().for_each(|sample| batch.copy_from(&round.batch, *sample));
            told.requests += round.told.requests;
            told.values += round.told.values;
            told.refusals += round.told.refusals;
            told.errors.extend(round.told.errors);
            told.took_us.extend(round.told.took_us);
        }
        (batch, told)
    }
}

impl Round {
    /// Leaves out what is still to be asked, because the device does not answer.
    fn give_up(&mut self, work: &Work, rota: usize, error: &LinkError) {
        let quality = Quality::of(error.reason());
        for read in self.queue.drain(..) {
            work.rotas[rota].mark(&read.items, now(), quality, &mut self.batch);
        }
        self.refused = Some(LinkError::UnitSilent(self.unit));
    }
}
