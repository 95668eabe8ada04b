//! What was learnt about the devices behind a connection, kept while it stands: what they lack, which of them do not answer,
//! and which are slow.

use super::{
    Address,
    work::{Work, space},
};
use crate::LinkError;
use havrel_core::poll::{Refusals, back_off};
use std::{
    collections::{HashMap, HashSet},
    time::Duration,
};
use tokio::time::Instant;

/// Longest pause before an address that was refused is asked for again.
const LONGEST_PAUSE: Duration = Duration::from_secs(300);

/// A device is never called slow that answers within this time.
const BRISK: Duration = Duration::from_millis(100);

/// On a line that devices share, a slow one rests so many times as long as it took, so that the others keep three quarters
/// of the line.
const SHARE: u32 = 3;

#[derive(Default)]
pub(super) struct Memory {
    pub refused: Refusals,
    /// Addresses that devices do not have: space, first and number.
    missing: HashMap<(u32, u32, u32), Rest>,
    units: HashMap<u8, Unit>,
}

/// Something that is not asked again before a pause is over: a device that did not answer, an address that it refused.
#[derive(Clone, Debug)]
struct Rest {
    failures: u32,
    until: Instant,
    error: LinkError,
}

/// How a device answers.
#[derive(Default)]
struct Unit {
    /// Of one that did not answer.
    rest: Option<Rest>,
    /// How long it usually takes, smoothed.
    took: Duration,
    slow: bool,
    /// When a slow one on a shared line may be asked again.
    yields: Option<Instant>,
}

impl Memory {
    /// Notes that an address was refused by itself. The pauses grow: 1 s, 2 s, 4 s …
    pub fn miss(&mut self, unit: u8, at: Address, count: u16, error: LinkError, now: Instant) {
        let place = (space(unit, at.table), at.offset.into(), count.into());
        let failures = self.missing.get(&place).map_or(1, |rest| rest.failures.saturating_add(1));
        let pause = Duration::from_secs(1 << (failures - 1).min(16)).min(LONGEST_PAUSE);
        self.missing.insert(place, Rest { failures, until: now + pause, error });
    }

    /// Notes that an address was read.
    pub fn found(&mut self, unit: u8, at: Address, count: u16) {
        self.missing.remove(&(space(unit, at.table), at.offset.into(), count.into()));
    }

    /// Why an address is not asked for at present.
    pub fn pauses(&self, unit: u8, at: Address, count: u16, now: Instant) -> Option<LinkError> {
        let rest = self.missing.get(&(space(unit, at.table), at.offset.into(), count.into()))?;
        (rest.until > now).then(|| rest.error.clone())
    }

    /// Forgets addresses and devices that no tag wants any more.
    pub fn keep(&mut self, work: &Work) {
        let wants = work.rotas.iter().flat_map(|rota| &rota.wants);
        let wanted: HashSet<(u32, u32, u32)> = wants.map(|want| (want.space, want.start, want.count)).collect();
        self.missing.retain(|place, _| wanted.contains(place));
        self.units.retain(|unit, _| work.units.contains(unit));
    }

    /// Notes that a device answered, and after what time; it is slow if that is more than a quarter of the shortest interval.
    /// `shared`: others wait for the same line.
    pub fn answered(&mut self, unit: u8, took: Duration, shortest_ms: u32, shared: bool, now: Instant) {
        let unit = self.units.entry(unit).or_default();
        unit.rest = None;
        unit.took = if unit.took.is_zero() { took } else { (unit.took * 3 + took) / 4 };
        let limit = (Duration::from_millis(shortest_ms.into()) / 4).max(BRISK);
        // Between half the limit and the limit it stays what it is, so that it does not change with every answer.
        unit.slow = unit.took > limit || (unit.slow && unit.took > limit / 2);
        unit.yields = (unit.slow && shared).then(|| now + took * SHARE);
    }

    /// Notes that a device did not answer. The pauses grow; on a shared line they also leave it to the others.
    pub fn failed(&mut self, unit: u8, error: LinkError, took: Duration, shared: bool, now: Instant) {
        let unit = self.units.entry(unit).or_default();
        let failures = unit.rest.as_ref().map_or(1, |rest| rest.failures.saturating_add(1));
        let pause = Duration::from_nanos(back_off(failures, 0.5).unsigned_abs());
        let pause = if shared { pause.max(took * SHARE) } else { pause };
        unit.rest = Some(Rest { failures, until: now + pause, error });
    }

    /// Why a device is not asked at present.
    pub fn rests(&self, unit: u8, now: Instant) -> Option<LinkError> {
        let rest = self.units.get(&unit)?.rest.as_ref()?;
        (rest.until > now).then(|| rest.error.clone())
    }

    /// Until when a slow device leaves the line to the others.
    pub fn yields(&self, unit: u8, now: Instant) -> Option<Instant> {
        self.units.get(&unit)?.yields.filter(|until| *until > now)
    }

    /// Whether a device would hold up others that shared a line with it: it did not answer, or answers slowly.
    pub fn is_apart(&self, unit: u8) -> bool {
        self.units.get(&unit).is_some_and(|u| u.slow || u.rest.is_some())
    }

    /// The error of the devices when none of several answers any more.
    pub fn all_rest(&self, work: &Work) -> Option<LinkError> {
        let rests: Vec<&Rest> = work.units.iter().filter_map(|u| self.units.get(u)?.rest.as_ref()).collect();
        (work.units.len() > 1 && rests.len() == work.units.len()).then(|| rests[0].error.clone())
    }

    /// What is worked around, in words: addresses that are not asked for each time, devices that are slow.
    pub fn words(&self) -> Vec<String> {
        let mut words = Vec::new();
        let count = self.missing.len();
        if count > 0 {
            let (noun, them) = if count == 1 { ("address", "it") } else { ("addresses", "them") };
            words.push(format!(
                "The device refuses {count} {noun}; Havrel asks for {them} again after growing pauses of up to 5 min."
            ));
        }
        let mut slow: Vec<(u8, u128)> =
            self.units.iter().filter(|(_, unit)| unit.slow).map(|(no, unit)| (*no, unit.took.as_millis())).collect();
        slow.sort_unstable();
        words.extend(
            slow.iter().map(|(no, ms)| format!("Unit {no} is slow ({ms} ms a request); it does not hold up the others.")),
        );
        words
    }
}
