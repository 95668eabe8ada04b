//! Chattering: an alarm that comes again and again faster than anybody can act on it.

use crate::time::{Nanos, SECOND};

/// So many within a minute are chatter (ISA-18.2-2016, 3.1: chattering alarm; EEMUA 191 ed. 3, appendix 9).
pub const CHATTER: usize = 3;
const MINUTE: Nanos = 60 * SECOND;

/// Which of an alarm's comings, given in the order of their time, are chatter.
pub fn chatter(at: &[Nanos]) -> Vec<bool> {
    let mut chatters = vec![false; at.len()];
    for first in 0..at.len().saturating_sub(CHATTER - 1) {
        if at[first + CHATTER - 1] - at[first] <= MINUTE {
            chatters[first..first + CHATTER].fill(true);
        }
    }
    chatters
}
