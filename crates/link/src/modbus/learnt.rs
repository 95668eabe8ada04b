//! What a connection has learnt about its devices while it talked to them, and works around from then on.

use std::{
    collections::BTreeSet,
    sync::{Mutex, MutexGuard, PoisonError},
};

/// So many connections in a row that ended after one answer show how a device works.
const SURE: u32 = 2;

/// So many connections that were closed while further ones were open show that the device does not allow those.
const CROWDED: u32 = 3;

/// What was learnt; shared by the lines of a connection.
#[derive(Debug, Default)]
pub struct Learnt(Mutex<Known>);

#[derive(Debug, Default)]
struct Known {
    /// Devices that do not know function 22.
    unmasked: BTreeSet<u8>,
    /// Connections in a row that the device closed after one answer.
    single: u32,
    /// Connections that the device closed while further ones were open.
    crowded: u32,
}

impl Learnt {
    fn lock(&self) -> MutexGuard<'_, Known> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The device does not know function 22 (mask write register).
    pub fn lacks_mask(&self, unit: u8) {
        self.lock().unmasked.insert(unit);
    }

    /// Whether function 22 may be tried.
    pub fn may_mask(&self, unit: u8) -> bool {
        !self.lock().unmasked.contains(&unit)
    }

    /// The device closed a connection over which it had given so many answers.
    pub fn closed_after(&self, answers: u32) {
        let mut known = self.lock();
        known.single = if answers == 1 { known.single + 1 } else { 0 };
    }

    /// Whether the device closes the connection after each answer, so that each request needs one of its own.
    pub fn is_single(&self) -> bool {
        self.lock().single >= SURE
    }

    /// The device closed a connection while further ones were open.
    pub fn crowded(&self) {
        self.lock().crowded += 1;
    }

    /// Whether the device allows no further connections, so that all devices behind it share the ordinary ones.
    pub fn is_crowded(&self) -> bool {
        self.lock().crowded >= CROWDED
    }

    /// The same in words, for the page.
    pub fn words(&self) -> Vec<String> {
        let known = self.lock();
        let mut words = Vec::new();
        if known.single >= SURE {
            words.push("The device closes the connection after each answer; each request opens a new one.".to_owned());
        }
        if known.crowded >= CROWDED {
            words.push(
                "The device closes connections while several are open; a slow unit waits until the others were read.".to_owned(),
            );
        }
        words.extend(known.unmasked.iter().map(|unit| {
            format!(
                "Unit {unit} does not know function 22. A bit is written by reading its register and writing it back; \
                 a change by the device in between is undone."
            )
        }));
        words
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_device_that_always_closes_after_one_answer_gets_a_connection_for_each_request() {
        let learnt = Learnt::default();
        learnt.closed_after(1);
        learnt.closed_after(7);
        learnt.closed_after(1);
        assert!(!learnt.is_single());
        learnt.closed_after(1);
        assert!(learnt.is_single() && learnt.words().len() == 1);
    }
}
