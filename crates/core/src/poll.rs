//! Planning of polls: which addresses travel in one request, and when the next turn is due.

use crate::time::Nanos;
use std::collections::{BTreeSet, HashMap};

/// Something wanted from a linear address space.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Want {
    /// Which address space, for example one table of registers of one device.
    pub space: u32,
    /// First address.
    pub start: u32,
    /// Number of addresses, at least one.
    pub count: u32,
    /// The caller's own index of it.
    pub item: usize,
}

/// One request and the wanted items it answers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Read {
    pub space: u32,
    pub start: u32,
    pub count: u32,
    /// Indices given in [`Want::item`].
    pub items: Vec<usize>,
}

impl Read {
    /// The stretches of it that are wanted, without the gaps between.
    fn parts(&self, wants: &[Want]) -> Vec<Read> {
        pack(self.wanted(wants), |_| u32::MAX, |_| 0)
    }

    fn wanted(&self, wants: &[Want]) -> Vec<Want> {
        self.items.iter().map(|&item| wants[item]).collect()
    }

    /// Smaller requests for the same items, after this one was refused: first without the gaps, then halves. `wants` holds
    /// each item at its own index. Empty: all its items lie at one and the same place, and it cannot be split.
    pub fn split(&self, wants: &[Want], limit: u32) -> Vec<Read> {
        let mut own = self.wanted(wants);
        own.sort_unstable();
        let place = |want: &Want| (want.start, want.count);
        let places = own.chunk_by(|a, b| place(a) == place(b)).count();
        if places < 2 {
            return Vec::new();
        }
        let parts = pack(own.clone(), |_| limit, |_| 0);
        if parts.len() > 1 {
            return parts;
        }
        let half: usize = own.chunk_by(|a, b| place(a) == place(b)).take(places / 2).map(<[Want]>::len).sum();
        let upper = own.split_off(half);
        [own, upper].into_iter().flat_map(|half| pack(half, |_| limit, |_| 0)).collect()
    }

    fn place(&self) -> (u32, u32, u32) {
        (self.space, self.start, self.count)
    }
}

/// Packs wanted items into few requests.
///
/// Overlapping and adjacent items, and those with a gap of at most `gap(item)` unwanted addresses before the second, share a
/// request while it stays within `limit(space)` addresses. An item longer than the limit gets a request of its own, for the device
/// to refuse.
pub fn pack(mut wants: Vec<Want>, limit: impl Fn(u32) -> u32, gap: impl Fn(&Want) -> u32) -> Vec<Read> {
    wants.sort_unstable();
    let mut reads: Vec<Read> = Vec::new();
    for want in wants {
        let end = want.start + want.count;
        if let Some(read) = reads.last_mut()
            && read.space == want.space
            && want.start <= (read.start + read.count).saturating_add(gap(&want))
            && end - read.start <= limit(want.space)
        {
            read.count = read.count.max(end - read.start);
            read.items.push(want.item);
            continue;
        }
        reads.push(Read { space: want.space, start: want.start, count: want.count, items: vec![want.item] });
    }
    reads
}

/// What a device has refused, by its addresses, so that it holds for other plans too.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Refusals {
    /// Where, behind a gap that is not bridged any more, reading begins: space and address; and the refused request that
    /// bridged it.
    closed: HashMap<(u32, u32), (u32, u32, u32)>,
    /// Requests without a gap that were refused: space, first address, number.
    spans: Vec<(u32, u32, u32)>,
    /// Those of them that cannot be split: what the device does not have.
    missing: BTreeSet<(u32, u32, u32)>,
    version: usize,
}

impl Refusals {
    /// Notes a refused request; `wants` holds its items.
    pub fn add(&mut self, read: &Read, wants: &[Want]) {
        let parts = read.parts(wants);
        if parts.len() > 1 {
            self.closed.extend(parts.iter().skip(1).map(|part| ((part.space, part.start), read.place())));
        } else {
            self.spans.push(read.place());
        }
        self.version += 1;
    }

    /// Notes a request that was refused and cannot be split. A larger one that was refused because of it is forgotten, so that
    /// what lies around it travels in few requests again.
    pub fn miss(&mut self, read: &Read) {
        if self.missing.insert(read.place()) {
            let place = read.place();
            self.spans.retain(|span| !covers(*span, place));
            self.closed.retain(|_, request| !covers(*request, place));
            self.version += 1;
        }
    }

    /// Notes that the device has what it had not.
    pub fn found(&mut self, read: &Read) {
        if self.missing.remove(&read.place()) {
            self.version += 1;
        }
    }

    /// Changes whenever something is learnt.
    pub fn version(&self) -> usize {
        self.version
    }

    fn hit(&self, read: &Read) -> bool {
        self.spans.iter().any(|span| covers(read.place(), *span))
    }

    /// How much of the gap before an item may be bridged: nothing that is missing.
    fn free_before(&self, want: &Want, gap: u32) -> u32 {
        // No protocol here asks for more than 2,000 addresses at once.
        let from = (want.space, want.start.saturating_sub(gap.saturating_add(2000)), 0);
        let before = self.missing.range(from..(want.space, want.start, 0));
        before.map(|(_, start, count)| want.start.saturating_sub(start + count)).fold(gap, u32::min)
    }
}

/// Whether a span (space, first address, number) covers another.
fn covers(outer: (u32, u32, u32), inner: (u32, u32, u32)) -> bool {
    outer.0 == inner.0 && outer.1 <= inner.1 && inner.1 + inner.2 <= outer.1 + outer.2
}

/// Packs around what a device has refused before: no gap is bridged that was in a refused request, and no request covers
/// one that was refused without a gap, unless it is a single item. What the device does not have is asked for alone, once
/// however many items want it.
pub fn pack_around(wants: &[Want], limit: impl Fn(u32) -> u32, gap: u32, refused: &Refusals) -> Vec<Read> {
    let is_missing = |want: &Want| refused.missing.contains(&(want.space, want.start, want.count));
    let (mut missing, there): (Vec<Want>, Vec<Want>) = wants.iter().partition(|want| is_missing(want));
    let bridge = |want: &Want| {
        if refused.closed.contains_key(&(want.space, want.start)) { 0 } else { refused.free_before(want, gap) }
    };
    let mut open = pack(there, &limit, bridge);
    open.reverse();
    let mut reads = Vec::new();
    while let Some(read) = open.pop() {
        let parts = if refused.hit(&read) { read.split(wants, limit(read.space)) } else { Vec::new() };
        if parts.is_empty() {
            reads.push(read);
        } else {
            open.extend(parts.into_iter().rev());
        }
    }
    missing.sort_unstable();
    let alone = missing.chunk_by(|a, b| (a.space, a.start, a.count) == (b.space, b.start, b.count));
    reads.extend(alone.map(|same| {
        let Want { space, start, count, .. } = same[0];
        Read { space, start, count, items: same.iter().map(|want| want.item).collect() }
    }));
    reads
}

/// When, within its interval, something with this key is due: the same always, and evenly spread over keys, so that a
/// thousand groups of one interval do not all fire at once.
pub fn phase(key: u128, interval: Nanos) -> Nanos {
    // The fractional part of multiples of the golden ratio spreads any keys, near neighbours too.
    let mixed = ((key ^ (key >> 64)) as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    let share = u128::from(mixed) * u128::from(interval.max(1).unsigned_abs());
    (share >> 64) as Nanos
}

/// A rhythm that does not drift: turn `n` is due at `origin + n × interval`, however long earlier turns took.
#[derive(Clone, Debug)]
pub struct Rhythm {
    origin: Nanos,
    interval: Nanos,
    next: i64,
    overruns: u64,
}

impl Rhythm {
    /// Starts now. Intervals below one millisecond count as one.
    pub fn new(origin: Nanos, interval: Nanos) -> Rhythm {
        Rhythm { origin, interval: interval.max(crate::time::MILLI), next: 0, overruns: 0 }
    }

    /// The same for a beat that falls on `phase` beyond whole intervals; the first turn is due at once all the same.
    pub fn phased(now: Nanos, interval: Nanos, phase: Nanos) -> Rhythm {
        let interval = interval.max(crate::time::MILLI);
        Rhythm::new(now - (now - phase).rem_euclid(interval), interval)
    }

    /// When the coming turn is due.
    pub fn due(&self) -> Nanos {
        self.origin + self.next * self.interval
    }

    /// Tells that the turn which was due is over at `now`. Turns missed meanwhile are counted and left out.
    pub fn done(&mut self, now: Nanos) {
        let due_after = (now - self.origin).div_euclid(self.interval) + 1;
        let next = self.next + 1;
        if due_after > next {
            // A turn that falls due exactly now has not been missed.
            let start = if self.origin + (due_after - 1) * self.interval == now { due_after - 1 } else { due_after };
            self.overruns += (start - next) as u64;
            self.next = start;
        } else {
            self.next = next;
        }
    }

    /// How many turns were left out because an earlier one took too long.
    pub fn overruns(&self) -> u64 {
        self.overruns
    }
}

/// How long to wait before try number `failures` (1 is the first) to connect again: doubling from half a second to
/// thirty, then spread by `jitter` (0 to 1) over half to all of it, so that many clients do not come back in one blow.
pub fn back_off(failures: u32, jitter: f64) -> Nanos {
    let full = (500 * crate::time::MILLI) << failures.saturating_sub(1).min(6);
    let full = full.min(30 * crate::time::SECOND) as f64;
    (full * (0.5 + 0.5 * jitter.clamp(0.0, 1.0))) as Nanos
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::time::{MILLI, SECOND};
    use proptest::prelude::*;
    use rstest::rstest;

    fn want(start: u32, count: u32, item: usize) -> Want {
        Want { space: 0, start, count, item }
    }

    #[test]
    fn neighbours_share_a_request_and_gaps_do_not() {
        let reads = pack(vec![want(2, 2, 1), want(0, 2, 0), want(10, 1, 2)], |_| 125, |_| 0);
        assert_eq!(reads.len(), 2);
        assert_eq!((reads[0].start, reads[0].count, reads[0].items.clone()), (0, 4, vec![0, 1]));
        assert_eq!((reads[1].start, reads[1].count), (10, 1));
    }

    #[test]
    fn what_is_refused_is_read_without_its_gaps_then_in_halves() {
        let wants = vec![want(0, 2, 0), want(4, 2, 1), want(6, 2, 2), want(8, 2, 3)];
        let reads = pack(wants.clone(), |_| 125, |_| 4);
        assert_eq!((reads.len(), reads[0].count), (1, 10));
        let parts = reads[0].split(&wants, 125);
        assert_eq!(parts.iter().map(|r| (r.start, r.count)).collect::<Vec<_>>(), [(0, 2), (4, 6)]);
        let halves = parts[1].split(&wants, 125);
        assert_eq!(halves.iter().map(|r| (r.start, r.count)).collect::<Vec<_>>(), [(4, 2), (6, 4)]);
        assert!(halves[0].split(&wants, 125).is_empty());
        // A gap that was refused is closed wherever the limits would have cut otherwise.
        let mut refused = Refusals::default();
        refused.add(&reads[0], &wants);
        let around = pack_around(&wants, |_| 8, 4, &refused);
        assert_eq!(around.iter().map(|r| (r.start, r.count)).collect::<Vec<_>>(), [(0, 2), (4, 6)]);
    }

    /// Asks until nothing is refused any more that was not known; gives the requests of one turn.
    fn settle(wants: &[Want], gap: u32, refused: &mut Refusals, lacks: &[u32]) -> Vec<(u32, u32, usize)> {
        loop {
            let known = refused.version();
            let mut open = pack_around(wants, |_| 125, gap, refused);
            let turn = open.iter().map(|r| (r.start, r.count, r.items.len())).collect();
            while let Some(read) = open.pop() {
                if !lacks.iter().any(|at| (read.start..read.start + read.count).contains(at)) {
                    continue;
                }
                let parts = read.split(wants, 125);
                if parts.is_empty() {
                    refused.miss(&read)
                } else {
                    refused.add(&read, wants)
                }
                open.extend(parts);
            }
            if refused.version() == known {
                return turn;
            }
        }
    }

    #[rstest]
    #[case::one(&[13], &[(1, 12, 12), (14, 7, 7), (13, 1, 1)])]
    #[case::two(&[13, 17], &[(1, 12, 12), (14, 3, 3), (18, 3, 3), (13, 1, 1), (17, 1, 1)])]
    #[case::the_first(&[1], &[(2, 19, 19), (1, 1, 1)])]
    fn what_lies_around_a_missing_address_travels_in_few_requests(#[case] lacks: &[u32], #[case] turn: &[(u32, u32, usize)]) {
        let wants: Vec<Want> = (1..=20).map(|at| want(at, 1, at as usize - 1)).collect();
        assert_eq!(settle(&wants, 4, &mut Refusals::default(), lacks), turn);
    }

    #[test]
    fn gaps_are_bridged_again_once_the_fault_is_known_to_lie_elsewhere() {
        let wants: Vec<Want> = [1, 3, 5, 7, 9, 11].into_iter().enumerate().map(|(i, at)| want(at, 1, i)).collect();
        let mut refused = Refusals::default();
        assert_eq!(settle(&wants, 4, &mut refused, &[7]), [(1, 5, 3), (9, 3, 2), (7, 1, 1)]);
        refused.found(&Read { space: 0, start: 7, count: 1, items: vec![3] });
        assert_eq!(settle(&wants, 4, &mut refused, &[]), [(1, 11, 6)]);
    }

    #[test]
    fn a_missing_address_is_asked_for_once_however_many_want_it() {
        let wants: Vec<Want> = (0..10).map(|item| want(5, 2, item)).collect();
        let mut refused = Refusals::default();
        assert_eq!(settle(&wants, 4, &mut refused, &[5]), [(5, 2, 10)]);
    }

    #[test]
    fn groups_of_one_interval_are_spread_over_it() {
        let mut slots = [0; 10];
        (0..1000u128).for_each(|key| slots[(phase(key, SECOND) / (100 * MILLI)) as usize] += 1);
        assert!(slots.iter().all(|n| (80..=120).contains(n)), "{slots:?}");
        let rhythm = Rhythm::phased(5 * SECOND + 300 * MILLI, SECOND, 700 * MILLI);
        assert_eq!(rhythm.due(), 4 * SECOND + 700 * MILLI, "due at once");
    }

    #[test]
    fn rhythm_keeps_its_beat_and_counts_what_it_missed() {
        let mut rhythm = Rhythm::new(0, SECOND);
        rhythm.done(200 * MILLI);
        assert_eq!(rhythm.due(), SECOND);
        rhythm.done(3_400 * MILLI);
        assert_eq!((rhythm.due(), rhythm.overruns()), (4 * SECOND, 2));
    }

    #[test]
    fn back_off_doubles_up_to_half_a_minute() {
        assert_eq!(back_off(1, 1.0), SECOND / 2);
        assert_eq!(back_off(3, 1.0), 2 * SECOND);
        assert_eq!(back_off(40, 1.0), 30 * SECOND);
        assert_eq!(back_off(40, 0.0), 15 * SECOND);
    }

    proptest! {
        #[test]
        fn every_want_is_read_once_within_limits(
            spans in prop::collection::vec((0u32..4, 0u32..400, 1u32..8), 0..120), limit in 8u32..126, gap in 0u32..12,
            bad in prop::collection::vec((0u32..4, 0u32..400), 0..6),
        ) {
            let wants: Vec<Want> = spans.iter().enumerate()
                .map(|(item, &(space, start, count))| Want { space, start, count, item }).collect();
            // A device that lacks some addresses: what covers one is refused, split and remembered, until all is settled.
            let lacks = |r: &Read| bad.iter().any(|&(space, at)| r.space == space && r.start <= at && at < r.start + r.count);
            let mut refused = Refusals::default();
            let mut reads = pack_around(&wants, |_| limit, gap, &refused);
            let mut missing = BTreeSet::new();
            while let Some(bad) = reads.iter().find(|r| lacks(r) && !missing.contains(&r.place())) {
                let before = refused.version();
                if bad.split(&wants, limit).is_empty() {
                    refused.miss(bad);
                    missing.insert(bad.place());
                } else {
                    refused.add(bad, &wants);
                }
                reads = pack_around(&wants, |_| limit, gap, &refused);
                prop_assert!(before < refused.version() && refused.version() < 1000, "it comes to an end");
            }
            let mut seen = vec![0; wants.len()];
            for read in &reads {
                prop_assert!(read.count <= limit);
                let mut covered = vec![false; read.count as usize];
                for &item in &read.items {
                    let w = wants[item];
                    seen[item] += 1;
                    prop_assert!(w.space == read.space && w.start >= read.start);
                    prop_assert!(w.start + w.count <= read.start + read.count);
                    for at in w.start..w.start + w.count { covered[(at - read.start) as usize] = true; }
                }
                let longest = covered.split(|&c| c).map(<[bool]>::len).max().unwrap_or(0);
                prop_assert!(longest as u32 <= gap, "a gap that is too long was bridged");
            }
            prop_assert!(seen.iter().all(|&n| n == 1));
        }

        #[test]
        fn the_next_turn_is_never_past_and_always_on_the_beat(steps in prop::collection::vec(0i64..5_000_000_000, 1..60)) {
            let mut rhythm = Rhythm::new(7, SECOND);
            for took in steps {
                let now = rhythm.due() + took;
                rhythm.done(now);
                prop_assert!(rhythm.due() >= now);
                prop_assert_eq!((rhythm.due() - 7) % SECOND, 0);
            }
        }
    }
}
