//! What a connection reads: its tags with their addresses and scaling, and the rotas they are read in.

use super::{Address, Encoded, Point, Settings, Table, Type};
use crate::{LinkPlan, PointPlan};
use havrel_core::{
    TagNo,
    plant::Group,
    poll::{Read, Refusals, Want, pack_around},
    quality::{Quality, Reason},
    sample::{Batch, Value},
    scale::Scaling,
    time::Nanos,
};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use uuid::Uuid;

/// A tag as this driver reads it.
#[derive(Clone, Debug)]
pub(super) struct Item {
    pub tag: TagNo,
    pub point: Point,
    pub scaling: Option<Scaling>,
}

/// The tags of one device that have one rhythm.
pub(super) struct Rota {
    /// `None`: the connection's own rhythm.
    pub group: Option<Uuid>,
    pub unit: u8,
    pub interval_ms: u32,
    /// Not while the group is paused.
    pub enabled: bool,
    /// Empty: it only finds out whether the device is there.
    pub items: Vec<Item>,
    /// What the items want, each at the item's own index.
    pub wants: Vec<Want>,
}

/// What to read, and in which rhythms.
pub(super) struct Work {
    pub rotas: Vec<Rota>,
    by_tag: HashMap<TagNo, (usize, usize)>,
    /// Tags whose address cannot be read.
    sourceless: Vec<TagNo>,
    /// The devices that are read.
    pub units: BTreeSet<u8>,
    /// Most registers in one request.
    pub limit: u32,
    gap: u32,
}

/// What makes a rota: its group and its device.
pub(super) type RotaKey = (Option<Uuid>, u8);

pub(super) fn space(unit: u8, table: Table) -> u32 {
    u32::from(unit) << 8 | table as u32
}

pub(super) fn address_of(read: &Read) -> Address {
    Address { table: table_of(read.space), offset: read.start as u16 }
}

pub(super) fn unit_of(read: &Read) -> u8 {
    (read.space >> 8) as u8
}

fn table_of(space: u32) -> Table {
    Table::ALL[(space & 0xff) as usize]
}

impl Rota {
    fn new(plan: &LinkPlan, key: RotaKey) -> Rota {
        let group: Option<&Group> = plan.connection.groups.iter().find(|g| Some(g.id) == key.0);
        let interval_ms = group.map_or(plan.connection.interval_ms, |g| g.interval_ms);
        let enabled = group.is_none_or(|g| g.enabled);
        Rota { group: key.0, unit: key.1, interval_ms, enabled, items: Vec::new(), wants: Vec::new() }
    }

    pub fn key(&self) -> RotaKey {
        (self.group, self.unit)
    }

    fn add(&mut self, p: &PointPlan, point: Point) {
        let (start, count) = (point.address.offset.into(), point.width().into());
        self.wants.push(Want { space: space(point.unit, point.address.table), start, count, item: self.items.len() });
        self.items.push(Item { tag: p.tag, point, scaling: p.scaling });
    }

    /// Gives tags of it one quality.
    pub fn mark(&self, items: &[usize], at: Nanos, quality: Quality, batch: &mut Batch) {
        items.iter().for_each(|&i| batch.push_quality(self.items[i].tag, at, quality));
    }
}

impl Work {
    pub fn of(plan: &LinkPlan, settings: &Settings) -> Work {
        let known: BTreeSet<Uuid> = plan.connection.groups.iter().map(|g| g.id).collect();
        let mut rotas: Vec<Rota> = Vec::new();
        let mut place: BTreeMap<RotaKey, usize> = BTreeMap::new();
        let mut by_tag = HashMap::with_capacity(plan.points.len());
        let mut sourceless = Vec::new();
        for p in &plan.points {
            let Ok(point) = Point::parse(settings, &p.point) else {
                sourceless.push(p.tag);
                continue;
            };
            let key = (p.group.filter(|group| known.contains(group)), point.unit);
            let rota = *place.entry(key).or_insert_with(|| {
                rotas.push(Rota::new(plan, key));
                rotas.len() - 1
            });
            by_tag.insert(p.tag, (rota, rotas[rota].items.len()));
            rotas[rota].add(p, point);
        }
        // Whether the device is there is found out even where nothing is read from it.
        if rotas.iter().all(|rota| !rota.enabled) {
            rotas.push(Rota::new(plan, (None, settings.unit)));
        }
        let units = rotas.iter().filter(|r| r.enabled).map(|r| r.unit).collect();
        Work { rotas, by_tag, sourceless, units, limit: settings.limit.into(), gap: settings.gap.into() }
    }

    /// The requests of one round of a rota.
    pub fn reads(&self, rota: usize, refused: &Refusals) -> Vec<Read> {
        let rota = &self.rotas[rota];
        if rota.items.is_empty() {
            return vec![Read { space: space(rota.unit, Table::Holding), start: 0, count: 1, items: Vec::new() }];
        }
        let most = |space: u32| if table_of(space).is_bits() { table_of(space).read_limit().into() } else { self.limit };
        pack_around(&rota.wants, most, self.gap, refused)
    }

    /// The shortest rhythm, in milliseconds.
    pub fn shortest_ms(&self) -> u32 {
        self.rotas.iter().filter(|r| r.enabled).map(|r| r.interval_ms).min().unwrap_or(1000)
    }

    /// A tag as this driver reads it.
    pub fn item(&self, tag: TagNo) -> Option<&Item> {
        self.by_tag.get(&tag).map(|&(rota, item)| &self.rotas[rota].items[item])
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
}

impl Item {
    /// Takes the item's value out of its registers.
    pub fn read(&self, words: &[u16], now: Nanos, batch: &mut Batch) {
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
        Scaling::of(self.scaling, raw)
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
