//! What leaves Havrel for people and other programs: what it says, what is enclosed, and when it is tried again.

use crate::time::{Nanos, SECOND};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use uuid::Uuid;

/// The pause after a first failure; doubled with each further one, up to the longest.
const PAUSE: Nanos = 15 * SECOND;
const LONGEST_PAUSE: Nanos = 600 * SECOND;
/// So often something is tried.
pub const MOST_ATTEMPTS: u32 = 20;

/// Something that one person, or one program, is told or given.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Notice {
    pub id: Uuid,
    /// The address of an e-mail; empty for a program or a folder.
    pub to: String,
    pub subject: String,
    /// In words, for people.
    pub text: String,
    /// The same for programs.
    pub content: serde_json::Value,
    /// What is enclosed; it is made anew from what is kept, and never kept with the notice.
    #[serde(skip)]
    pub files: Vec<Enclosed>,
}

/// A file that goes with a notice.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Enclosed {
    /// Its name with its ending. Where it goes into a folder, names of folders stand before it, divided by `/`.
    pub name: String,
    /// Its media type (RFC 6838): `application/pdf`.
    pub media: &'static str,
    pub bytes: Arc<[u8]>,
}

/// How often something was tried, and what came of it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Tries {
    pub attempts: u32,
    /// When it is tried next; `None`: never again.
    pub next_at: Option<Nanos>,
    pub sent_at: Option<Nanos>,
    /// What the other side said last, or why it is not sent.
    pub answer: String,
}

impl Tries {
    /// Of something that is first tried at an instant.
    pub fn from(at: Nanos) -> Tries {
        Tries { next_at: Some(at), ..Tries::default() }
    }

    /// Whether it is to be tried now. What would wait for longer than any pause waits for a clock that was set back.
    pub fn is_due(&self, now: Nanos) -> bool {
        self.next_at.is_some_and(|at| at <= now || at.saturating_sub(now) > LONGEST_PAUSE)
    }

    /// The other side has it.
    pub fn sent(&mut self, now: Nanos, answer: &str) {
        self.attempts += 1;
        (self.next_at, self.sent_at) = (None, Some(now));
        answer.clone_into(&mut self.answer);
    }

    /// It could not be sent; `lasting`: it would be refused again. Whether it is given up.
    pub fn failed(&mut self, now: Nanos, answer: &str, lasting: bool) -> bool {
        self.attempts += 1;
        answer.clone_into(&mut self.answer);
        let pause = (PAUSE << (self.attempts - 1).min(10)).min(LONGEST_PAUSE);
        self.next_at = (!lasting && self.attempts < MOST_ATTEMPTS).then(|| now.saturating_add(pause));
        self.next_at.is_none()
    }

    /// Nobody needs it any more.
    pub fn drop_it(&mut self, why: &str) {
        self.next_at = None;
        self.answer = if self.answer.is_empty() { why.to_owned() } else { format!("{why} Before that: {}", self.answer) };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_fails_is_tried_again_after_growing_pauses_until_it_is_given_up() {
        let mut tries = Tries::from(0);
        let (mut now, mut pauses) = (0, Vec::new());
        assert!(tries.is_due(0));
        while !tries.failed(now, "No answer.", false) {
            pauses.push((tries.next_at.unwrap() - now) / SECOND);
            now = tries.next_at.unwrap();
        }
        assert_eq!((pauses.len(), &pauses[..7]), (MOST_ATTEMPTS as usize - 1, &[15, 30, 60, 120, 240, 480, 600][..]));
        let waits = Tries::from(LONGEST_PAUSE);
        assert!(!waits.is_due(0) && waits.is_due(LONGEST_PAUSE) && waits.is_due(-60 * SECOND), "the clock was set back");
        let mut refused = Tries::from(0);
        assert!(refused.failed(0, "550 nobody of this name", true) && refused.next_at.is_none());
        let mut late = Tries { attempts: 2, next_at: Some(9), ..Tries::default() };
        late.sent(9, "250 taken");
        assert_eq!((late.attempts, late.next_at, late.sent_at), (3, None, Some(9)));
    }
}
