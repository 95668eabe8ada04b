//! One turn of a group: everything wanted is read once, packed into as few requests as the limits allow, by as many lines
//! as there are. What a device refuses is split and remembered; a device that does not answer rests, so that others
//! behind the same gateway keep their rhythm.

use super::{Address, Encoded, Point, Settings, Table, Type, session::Session};
use crate::{LinkError, LinkPlan, PointPlan, now};
use havrel_core::{
    TagNo,
    plant::Group,
    poll::{Read, Refusals, Want, back_off, pack_around},
    quality::{Quality, Reason},
    sample::{Batch, Value},
    scale::Scaling,
    time::Nanos,
};
use std::{
    collections::{BTreeSet, HashMap, HashSet, VecDeque},
    sync::{Mutex, MutexGuard, PoisonError},
    time::Duration,
};
use tokio::{sync::mpsc, time::Instant};
use uuid::Uuid;

/// A tag as this driver reads it.
#[derive(Clone, Debug)]
pub(super) struct Item {
    pub tag: TagNo,
    pub point: Point,
    pub scaling: Option<Scaling>,
}

/// The tags of one rhythm, and in which requests they are read.
pub(super) struct Rota {
    /// `None`: the connection's own rhythm.
    pub group: Option<Uuid>,
    pub interval_ms: u32,
    /// 0 while paused.
    pub enabled: bool,
    pub items: Vec<Item>,
    wants: Vec<Want>,
    reads: Vec<Read>,
    /// Of the refusals remembered when `reads` was made.
    known: usize,
}

/// What to read, and in which rhythms.
pub(super) struct Work {
    pub rotas: Vec<Rota>,
    by_tag: HashMap<TagNo, (usize, usize)>,
    /// Tags whose address cannot be read.
    pub sourceless: Vec<TagNo>,
    /// The devices that are read.
    units: BTreeSet<u8>,
    limit: u32,
    gap: u32,
}

/// What was learnt about the devices, kept while the connection stands.
#[derive(Default)]
pub(super) struct Memory {
    refused: Refusals,
    /// Addresses that devices do not have: space, first and number.
    missing: HashMap<(u32, u32, u32), Rest>,
    units: HashMap<u8, Rest>,
}

/// Something that is not asked again before a pause is over: a device that did not answer, an address that it refused.
#[derive(Clone, Debug)]
struct Rest {
    failures: u32,
    until: Instant,
    error: LinkError,
}

/// Longest pause before an address that was refused is asked for again.
const LONGEST_PAUSE: Duration = Duration::from_secs(300);

impl Memory {
    /// Notes that an address was refused by itself. The pauses grow: 1 s, 2 s, 4 s …
    pub fn miss(&mut self, unit: u8, at: Address, count: u16, error: LinkError) {
        let place = (space(unit, at.table), at.offset.into(), count.into());
        let failures = self.missing.get(&place).map_or(1, |rest| rest.failures.saturating_add(1));
        let pause = Duration::from_secs(1 << (failures - 1).min(16)).min(LONGEST_PAUSE);
        self.missing.insert(place, Rest { failures, until: Instant::now() + pause, error });
    }

    /// Notes that an address was read.
    pub fn found(&mut self, unit: u8, at: Address, count: u16) {
        self.missing.remove(&(space(unit, at.table), at.offset.into(), count.into()));
    }

    /// Why an address is not asked for at present.
    pub fn pauses(&self, unit: u8, at: Address, count: u16) -> Option<LinkError> {
        let rest = self.missing.get(&(space(unit, at.table), at.offset.into(), count.into()))?;
        (rest.until > Instant::now()).then(|| rest.error.clone())
    }

    /// Forgets addresses that no tag wants any more.
    pub fn keep(&mut self, work: &Work) {
        let wants = work.rotas.iter().flat_map(|rota| &rota.wants);
        let wanted: HashSet<(u32, u32, u32)> = wants.map(|want| (want.space, want.start, want.count)).collect();
        self.missing.retain(|place, _| wanted.contains(place));
    }

    /// How many addresses are not asked for each time, in words.
    pub fn words(&self) -> Option<String> {
        let count = self.missing.len();
        (count > 0).then(|| {
            let (noun, them) = if count == 1 { ("address", "it") } else { ("addresses", "them") };
            format!("The device refuses {count} {noun}; Havrel asks for {them} again after growing pauses of up to 5 min.")
        })
    }
}

fn space(unit: u8, table: Table) -> u32 {
    u32::from(unit) << 8 | table as u32
}

fn address_of(read: &Read) -> Address {
    Address { table: table_of(read.space), offset: read.start as u16 }
}

fn unit_of(read: &Read) -> u8 {
    (read.space >> 8) as u8
}

fn table_of(space: u32) -> Table {
    Table::ALL[(space & 0xff) as usize]
}

impl Rota {
    fn new(group: Option<&Group>, plan: &LinkPlan) -> Rota {
        let interval_ms = group.map_or(plan.connection.interval_ms, |g| g.interval_ms);
        let enabled = group.is_none_or(|g| g.enabled);
        let (items, wants, reads) = (Vec::new(), Vec::new(), Vec::new());
        Rota { group: group.map(|g| g.id), interval_ms, enabled, items, wants, reads, known: usize::MAX }
    }

    fn add(&mut self, p: &PointPlan, point: Point) {
        let (start, count) = (point.address.offset.into(), point.width().into());
        self.wants.push(Want { space: space(point.unit, point.address.table), start, count, item: self.items.len() });
        self.items.push(Item { tag: p.tag, point, scaling: p.scaling });
    }

    fn pack(&mut self, limit: u32, gap: u32, refused: &Refusals) {
        if self.known == refused.version() {
            return;
        }
        self.known = refused.version();
        let most = |space: u32| if table_of(space).is_bits() { table_of(space).read_limit().into() } else { limit };
        self.reads = pack_around(&self.wants, most, gap, refused);
    }
}

impl Work {
    pub fn of(plan: &LinkPlan, settings: &Settings) -> Work {
        let mut rotas = vec![Rota::new(None, plan)];
        rotas.extend(plan.connection.groups.iter().map(|g| Rota::new(Some(g), plan)));
        let place: HashMap<Option<Uuid>, usize> = rotas.iter().enumerate().map(|(i, r)| (r.group, i)).collect();
        let mut by_tag = HashMap::with_capacity(plan.points.len());
        let mut sourceless = Vec::new();
        for p in &plan.points {
            let rota = place.get(&p.group).copied().unwrap_or(0);
            match Point::parse(settings, &p.point) {
                Ok(point) => {
                    by_tag.insert(p.tag, (rota, rotas[rota].items.len()));
                    rotas[rota].add(p, point);
                }
                Err(_) => sourceless.push(p.tag),
            }
        }
        // The connection's own rhythm goes on even with no tags: it finds out whether the device is there.
        let wanted = |r: &Rota| r.group.is_none() || !r.items.is_empty();
        let kept: Vec<usize> = (0..rotas.len()).filter(|&i| wanted(&rotas[i])).collect();
        by_tag.values_mut().for_each(|(rota, _)| *rota = kept.iter().position(|k| k == rota).unwrap_or(0));
        rotas.retain(wanted);
        let read = rotas.iter().filter(|r| r.enabled);
        let units = read.flat_map(|r| r.items.iter().map(|i| i.point.unit)).collect();
        Work { rotas, by_tag, sourceless, units, limit: settings.limit.into(), gap: settings.gap.into() }
    }

    /// A tag as this driver reads it.
    pub fn item(&self, tag: TagNo) -> Option<&Item> {
        self.by_tag.get(&tag).map(|&(rota, item)| &self.rotas[rota].items[item])
    }

    /// Whether nothing is read at all.
    pub fn idle(&self) -> bool {
        self.rotas.iter().all(|r| r.items.is_empty())
    }

    /// Marks every tag with one quality.
    pub fn all(&self, at: Nanos, quality: Quality) -> Batch {
        let mut batch = Batch::default();
        for rota in &self.rotas {
            let quality = if rota.enabled { quality } else { Quality::of(Reason::Paused) };
            rota.items.iter().for_each(|i| batch.push_quality(i.tag, at, quality));
        }
        self.mark_sourceless(at, &mut batch);
        batch
    }

    /// Marks the tags that are not read: of paused groups, and without an address that could be.
    pub fn unread(&self, at: Nanos) -> Batch {
        let mut batch = Batch::default();
        let paused = self.rotas.iter().filter(|r| !r.enabled).flat_map(|r| &r.items);
        paused.for_each(|i| batch.push_quality(i.tag, at, Quality::of(Reason::Paused)));
        self.mark_sourceless(at, &mut batch);
        batch
    }

    fn mark_sourceless(&self, at: Nanos, batch: &mut Batch) {
        self.sourceless.iter().for_each(|&tag| batch.push_quality(tag, at, Quality::of(Reason::NoSource)));
    }

    /// Reads one rota once and hands over what came.
    ///
    /// # Errors
    /// Only failures after which the connection cannot go on; a refused request becomes the quality of its tags, and so
    /// does a device that does not answer while others do.
    pub async fn turn(
        &mut self,
        rota: usize,
        lines: &mut [Session],
        memory: &mut Memory,
        batches: &mpsc::Sender<Batch>,
    ) -> (Told, Result<(), LinkError>) {
        let several = self.units.len() > 1;
        let rota = &mut self.rotas[rota];
        rota.pack(self.limit, self.gap, &memory.refused);
        let now_at = Instant::now();
        // Devices that answer go first; those that did not, or are not known yet, must not hold them up.
        let doubtful = |r: &Read| memory.units.get(&unit_of(r)).is_some_and(|rest| rest.failures > 0);
        let (late, first): (Vec<Read>, Vec<Read>) = rota.reads.iter().cloned().partition(doubtful);
        let turn = Turn {
            rota,
            limit: self.limit,
            several,
            began: now_at,
            batches,
            shared: Mutex::new(Shared {
                queue: first.into_iter().chain(late).collect(),
                memory,
                batch: Batch::default(),
                told: Told::default(),
            }),
        };
        let results = futures_util::future::join_all(lines.iter_mut().map(|line| turn.serve(line))).await;
        let Shared { batch, told, memory, .. } = turn.shared.into_inner().unwrap_or_else(PoisonError::into_inner);
        let mut result = results.into_iter().collect::<Result<Vec<()>, LinkError>>().map(drop);
        if let Some(rest) = all_rest(&self.units, memory) {
            result = Err(rest);
        }
        if !batch.is_empty() && batches.send(batch).await.is_err() {
            return (told, Err(LinkError::SwitchedOff));
        }
        (told, result)
    }
}

/// The error of the devices when none of several answers any more.
fn all_rest(units: &BTreeSet<u8>, memory: &Memory) -> Option<LinkError> {
    let rests: Vec<&Rest> = units.iter().filter_map(|u| memory.units.get(u)).filter(|r| r.failures > 0).collect();
    (units.len() > 1 && rests.len() == units.len()).then(|| rests[0].error.clone())
}

struct Turn<'a> {
    rota: &'a Rota,
    limit: u32,
    several: bool,
    began: Instant,
    batches: &'a mpsc::Sender<Batch>,
    shared: Mutex<Shared<'a>>,
}

/// What the lines of a turn share; locked only between requests.
struct Shared<'a> {
    queue: VecDeque<Read>,
    memory: &'a mut Memory,
    batch: Batch,
    told: Told,
}

impl<'a> Turn<'a> {
    fn lock(&self) -> MutexGuard<'_, Shared<'a>> {
        self.shared.lock().unwrap_or_else(PoisonError::into_inner)
    }

    async fn serve(&self, line: &mut Session) -> Result<(), LinkError> {
        loop {
            let Some(read) = self.next() else { return Ok(()) };
            let unit = unit_of(&read);
            let at = address_of(&read);
            let result = line.read(unit, at, read.count as u16).await;
            let Err(error) = self.settle(read, result, line.took_us) else { continue };
            // What was read before must not wait for the device that does not answer.
            let gathered = std::mem::take(&mut self.lock().batch);
            if !gathered.is_empty() && self.batches.send(gathered).await.is_err() {
                return Err(LinkError::SwitchedOff);
            }
            if !self.several {
                return Err(error);
            }
            line.reopen().await?;
        }
    }

    /// The next request to make. Devices that rest are passed over, and their tags told so.
    fn next(&self) -> Option<Read> {
        let mut guard = self.lock();
        let shared = &mut *guard;
        while let Some(read) = shared.queue.pop_front() {
            if let Some(error) = shared.memory.pauses(unit_of(&read), address_of(&read), read.count as u16) {
                let quality = Quality::of(error.reason());
                read.items.iter().for_each(|&i| shared.batch.push_quality(self.rota.items[i].tag, now(), quality));
                shared.told.refused = Some(error);
                continue;
            }
            let Some(rest) = shared.memory.units.get(&unit_of(&read)).filter(|r| r.failures > 0) else {
                shared.told.requests += 1;
                return Some(read);
            };
            let spent = u128::from(self.rota.interval_ms) <= self.began.elapsed().as_millis();
            if rest.until <= Instant::now() && !spent {
                shared.told.requests += 1;
                return Some(read);
            }
            let quality = Quality::of(rest.error.reason());
            read.items.iter().for_each(|&i| shared.batch.push_quality(self.rota.items[i].tag, now(), quality));
            shared.told.refused = Some(LinkError::UnitSilent(unit_of(&read)));
        }
        None
    }

    /// Takes in what came of a request. `Err`: the line cannot be used as it is.
    fn settle(&self, read: Read, result: Result<Vec<u16>, LinkError>, took_us: u64) -> Result<(), LinkError> {
        let mut guard = self.lock();
        let shared = &mut *guard;
        let unit = unit_of(&read);
        let error = match result {
            Ok(words) => {
                let at = now();
                for &item in &read.items {
                    let item = &self.rota.items[item];
                    let from = (u32::from(item.point.address.offset) - read.start) as usize;
                    item.read(&words[from..from + usize::from(item.point.width())], at, &mut shared.batch);
                }
                shared.told.values += read.items.len() as u64;
                shared.told.took_us.push(took_us);
                shared.memory.units.remove(&unit);
                shared.memory.refused.found(&read);
                shared.memory.found(unit, address_of(&read), read.count as u16);
                return Ok(());
            }
            Err(error) => error,
        };
        shared.told.errors.push(error.clone());
        if error.spares_connection() {
            shared.memory.units.remove(&unit);
            let parts = read.split(&self.rota.wants, self.limit);
            if parts.is_empty() {
                let quality = Quality::of(error.reason());
                read.items.iter().for_each(|&i| shared.batch.push_quality(self.rota.items[i].tag, now(), quality));
                if error.lasts() {
                    shared.memory.refused.miss(&read);
                    shared.memory.miss(unit, address_of(&read), read.count as u16, error.clone());
                }
                shared.told.refused = Some(error);
            } else {
                shared.memory.refused.add(&read, &self.rota.wants);
                parts.into_iter().rev().for_each(|part| shared.queue.push_front(part));
            }
            return Ok(());
        }
        if self.several {
            let failures = shared.memory.units.get(&unit).map_or(1, |r| r.failures + 1);
            let until = Instant::now() + Duration::from_nanos(back_off(failures, 0.5).unsigned_abs());
            shared.memory.units.insert(unit, Rest { failures, until, error: error.clone() });
            let quality = Quality::of(error.reason());
            read.items.iter().for_each(|&i| shared.batch.push_quality(self.rota.items[i].tag, now(), quality));
            shared.told.refused = Some(LinkError::UnitSilent(unit));
        }
        Err(error)
    }
}

/// What a turn adds to the health.
#[derive(Default)]
pub(super) struct Told {
    pub requests: u64,
    pub values: u64,
    pub errors: Vec<LinkError>,
    /// Durations of the requests that were answered.
    pub took_us: Vec<u64>,
    /// The last refusal, for the page; its tags know already.
    pub refused: Option<LinkError>,
}

impl Item {
    fn read(&self, words: &[u16], now: Nanos, batch: &mut Batch) {
        match self.point.shape.decode(words) {
            Err(reason) => batch.push_quality(self.tag, now, Quality::of(reason)),
            Ok(raw) => {
                let (value, clamped) = self.engineering(raw);
                let quality = if clamped { Quality::of(Reason::Clamped) } else { Quality::GOOD };
                batch.push(self.tag, now, quality, 0, &value);
            }
        }
    }

    /// The value in engineering units.
    pub fn engineering(&self, raw: Value) -> (Value, bool) {
        match (self.scaling, raw.number()) {
            (Some(scaling), Some(number)) if self.point.shape.kind != Type::Bool => {
                let (value, clamped) = scaling.apply(number);
                (Value::F64(value), clamped)
            }
            _ => (raw, false),
        }
    }

    /// What to send so that the device holds an engineering value.
    ///
    /// # Errors
    /// A value that it cannot hold, with a sentence; for one between two steps the values on either side of it.
    pub fn encode(&self, value: &Value) -> Result<Encoded, String> {
        let raw = self.raw(value);
        let between = raw.number().filter(|raw| raw.is_finite() && raw.fract() != 0.0 && self.point.shape.kind.is_whole());
        self.point.shape.encode(&raw).map_err(|words| match between {
            None => words,
            Some(raw) => {
                let beside = [raw.floor(), raw.ceil()].map(|raw| self.engineering(Value::F64(raw)).0.to_json());
                format!("The device holds steps here; the nearest values are {} and {}.", beside[0], beside[1])
            }
        })
    }

    /// The raw value of an engineering one.
    fn raw(&self, value: &Value) -> Value {
        match (self.scaling, value.number()) {
            (Some(scaling), Some(number)) if self.point.shape.kind != Type::Bool => Value::F64(scaling.invert(number)),
            _ => value.clone(),
        }
    }
}
