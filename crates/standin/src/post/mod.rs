//! A mail server that keeps what it takes, and a program that is told of things by POST; both show on a page what they received.

pub mod page;
pub mod smtp;

use std::{
    collections::VecDeque,
    sync::{Arc, Mutex, PoisonError},
};

/// The names of the connections in the demo.
pub const MAIL: &str = "Works mail";
pub const HOOK: &str = "Gatehouse screen";
/// The login that the mail server takes.
pub const USER: &str = "havrel";
pub const PASSWORD: &str = "kelp-by-post";

/// Most messages that are kept; the oldest go first.
const MOST: usize = 500;
/// Most bytes of files that are kept.
const ROOM: usize = 64 << 20;
/// The largest message and the largest hook, in bytes.
const LARGEST: usize = 16 << 20;

/// Something that was received.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct Received {
    /// Counts from 1.
    pub number: u64,
    /// `mail` or `hook`.
    pub by: &'static str,
    /// Seconds since 1970.
    pub at: u64,
    pub from: String,
    pub to: String,
    pub subject: String,
    pub text: String,
    pub files: Vec<File>,
}

/// A file that came with it.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct File {
    pub name: String,
    pub size: usize,
    #[serde(skip)]
    pub bytes: Arc<[u8]>,
}

impl File {
    fn new(name: &str, bytes: Vec<u8>) -> File {
        File { name: name.to_owned(), size: bytes.len(), bytes: bytes.into() }
    }
}

/// What was received, for all who show it.
#[derive(Clone, Default)]
pub struct Post(Arc<Mutex<(u64, VecDeque<Received>)>>);

/// How much the files of all that is kept take.
fn size(all: &VecDeque<Received>) -> usize {
    all.iter().flat_map(|one| &one.files).map(|file| file.size).sum()
}

impl Post {
    /// Keeps something; it is numbered and dated here.
    pub fn keep(&self, received: Received) {
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_secs());
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.0 += 1;
        let number = kept.0;
        kept.1.push_back(Received { number, at: now, ..received });
        while kept.1.len() > MOST || kept.1.len() > 1 && size(&kept.1) > ROOM {
            kept.1.pop_front();
        }
    }

    /// Everything that is kept, the newest first.
    pub fn all(&self) -> Vec<Received> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).1.iter().rev().cloned().collect()
    }
}
