//! Planning of polls: which addresses travel in one request, and when the next turn is due.

use crate::time::Nanos;

/// Something wanted from a linear address space.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Want {
    /// Which address space, for example a Modbus table.
    pub space: u8,
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
    pub space: u8,
    pub start: u32,
    pub count: u32,
    /// Indices given in [`Want::item`].
    pub items: Vec<usize>,
}

/// Packs wanted items into as few requests as touching neighbours allow.
///
/// Overlapping and adjacent items share a request while it stays within `limit(space)` addresses; nothing that nobody
/// wants is read. An item longer than the limit gets a request of its own, for the device to refuse.
pub fn pack(mut wants: Vec<Want>, limit: impl Fn(u8) -> u32) -> Vec<Read> {
    wants.sort_unstable();
    let mut reads: Vec<Read> = Vec::new();
    for want in wants {
        let end = want.start + want.count;
        if let Some(read) = reads.last_mut()
            && read.space == want.space
            && want.start <= read.start + read.count
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

    fn want(start: u32, count: u32, item: usize) -> Want {
        Want { space: 0, start, count, item }
    }

    #[test]
    fn neighbours_share_a_request_and_gaps_do_not() {
        let reads = pack(vec![want(2, 2, 1), want(0, 2, 0), want(10, 1, 2)], |_| 125);
        assert_eq!(reads.len(), 2);
        assert_eq!((reads[0].start, reads[0].count, reads[0].items.clone()), (0, 4, vec![0, 1]));
        assert_eq!((reads[1].start, reads[1].count), (10, 1));
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
            spans in prop::collection::vec((0u8..4, 0u32..400, 1u32..8), 0..120), limit in 8u32..126,
        ) {
            let wants: Vec<Want> = spans.iter().enumerate()
                .map(|(item, &(space, start, count))| Want { space, start, count, item }).collect();
            let reads = pack(wants.clone(), |_| limit);
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
                prop_assert!(covered.iter().all(|&c| c), "an address nobody wants was read");
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
