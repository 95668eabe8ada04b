//! One turn: everything wanted is read once, packed into as few requests as the limits allow.

use super::{Address, Point, Settings, Table, Type, codec, session::Session};
use crate::{LinkError, LinkPlan};
use havrel_core::{
    TagNo,
    poll::{Read, Want, pack},
    quality::{Quality, Reason},
    sample::{Batch, Value},
    scale::Scaling,
    time::Nanos,
};
use std::collections::HashMap;

/// A tag as this driver reads it.
#[derive(Clone, Debug)]
pub(super) struct Item {
    pub tag: TagNo,
    pub point: Point,
    pub scaling: Option<Scaling>,
}

/// What to read, and in which requests.
pub(super) struct Work {
    pub items: Vec<Item>,
    pub by_tag: HashMap<TagNo, usize>,
    /// Tags whose address cannot be read.
    pub sourceless: Vec<TagNo>,
    reads: Vec<Read>,
}

impl Work {
    pub fn of(plan: &LinkPlan, settings: &Settings) -> Work {
        let mut work = Work { items: Vec::new(), by_tag: HashMap::new(), sourceless: Vec::new(), reads: Vec::new() };
        for p in &plan.points {
            match Point::parse(settings, &p.point) {
                Ok(point) => {
                    work.by_tag.insert(p.tag, work.items.len());
                    work.items.push(Item { tag: p.tag, point, scaling: p.scaling });
                }
                Err(_) => work.sourceless.push(p.tag),
            }
        }
        let wants = work.items.iter().enumerate().map(|(item, i)| Want {
            space: i.point.address.table as u8,
            start: i.point.address.offset.into(),
            count: i.point.width().into(),
            item,
        });
        work.reads = pack(wants.collect(), |space| match Table::ALL[space as usize] {
            table if table.is_bits() => table.read_limit().into(),
            _ => settings.limit.into(),
        });
        work
    }

    /// Marks every tag with one quality.
    pub fn all(&self, at: Nanos, quality: Quality) -> Batch {
        let mut batch = Batch::default();
        self.items.iter().for_each(|i| batch.push_quality(i.tag, at, quality));
        self.sourceless.iter().for_each(|&tag| batch.push_quality(tag, at, Quality::of(Reason::NoSource)));
        batch
    }

    /// Reads everything once. What was read before a failure stays in `batch`.
    ///
    /// # Errors
    /// Only failures after which the connection cannot go on; a refused request becomes the quality of its tags. A
    /// request that answers several tags and is refused is split, and stays split until the plan changes.
    pub async fn turn(&mut self, session: &mut Session, batch: &mut Batch, told: &mut Told) -> Result<(), LinkError> {
        let mut index = 0;
        while index < self.reads.len() {
            let read = &self.reads[index];
            let at = Address { table: Table::ALL[read.space as usize], offset: read.start as u16 };
            let began = std::time::Instant::now();
            told.requests += 1;
            let result = session.read(at, read.count as u16).await;
            told.round_trip_us = u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX);
            match result {
                Ok(words) => {
                    let now = crate::now();
                    for &item in &read.items {
                        let item = &self.items[item];
                        let from = usize::from(item.point.address.offset - at.offset);
                        let part = &words[from..from + usize::from(item.point.width())];
                        item.read(part, now, batch);
                        told.values += 1;
                    }
                }
                Err(error) if error.spares_connection() => {
                    told.errors += 1;
                    if read.items.len() > 1 {
                        let single = |&item: &usize| {
                            let point = &self.items[item].point;
                            let (start, count) = (point.address.offset.into(), point.width().into());
                            Read { space: read.space, start, count, items: vec![item] }
                        };
                        let parts: Vec<Read> = read.items.iter().map(single).collect();
                        self.reads.splice(index..=index, parts);
                        continue;
                    }
                    let quality = Quality::of(error.reason());
                    read.items.iter().for_each(|&i| batch.push_quality(self.items[i].tag, crate::now(), quality));
                    told.refused = Some(error);
                }
                Err(error) => {
                    told.errors += 1;
                    return Err(error);
                }
            }
            index += 1;
        }
        Ok(())
    }
}

/// What a turn adds to the health.
#[derive(Default)]
pub(super) struct Told {
    pub requests: u64,
    pub values: u64,
    pub errors: u64,
    pub round_trip_us: u64,
    /// The last refusal, for the page; its tags know already.
    pub refused: Option<LinkError>,
}

impl Item {
    fn read(&self, words: &[u16], now: Nanos, batch: &mut Batch) {
        match codec::decode(self.point.kind, self.point.order, words) {
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
            (Some(scaling), Some(number)) if self.point.kind != Type::Bool => {
                let (value, clamped) = scaling.apply(number);
                (Value::F64(value), clamped)
            }
            _ => (raw, false),
        }
    }

    /// The raw value of an engineering one.
    pub fn raw(&self, value: &Value) -> Value {
        match (self.scaling, value.number()) {
            (Some(scaling), Some(number)) if self.point.kind != Type::Bool => Value::F64(scaling.invert(number)),
            _ => value.clone(),
        }
    }
}
