//! The files that were written lately of lookups.

use crate::problem::Problem;
use havrel_jobs::lookup::Made;
use havrel_live::jobs::Job;
use std::{
    collections::VecDeque,
    fs::File,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};
use uuid::Uuid;

/// Files that are kept to be fetched.
const MOST_KEPT: usize = 6;

pub(crate) enum State {
    Working,
    /// With its length in bytes.
    Ready(Arc<File>, u64),
    Failed(String),
}

/// A lookup that is written as a file, for one account.
pub(crate) struct Writing {
    pub id: Uuid,
    pub account: Uuid,
    pub name: String,
    pub made: Made,
    pub job: Arc<Job>,
    /// With the rows that were written so far.
    pub state: Mutex<(State, u64)>,
}

impl Writing {
    pub fn state(&self) -> MutexGuard<'_, (State, u64)> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// The files that were written lately.
#[derive(Default)]
pub(crate) struct LookupFiles(Mutex<VecDeque<Arc<Writing>>>);

impl LookupFiles {
    fn all(&self) -> MutexGuard<'_, VecDeque<Arc<Writing>>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A file of an account.
    pub fn of(&self, id: Uuid, account: Uuid) -> Result<Arc<Writing>, Problem> {
        let found = self.all().iter().find(|file| file.id == id && file.account == account).cloned();
        found.ok_or_else(|| Problem::missing("file; write it again"))
    }

    /// Keeps a file, in place of the oldest that is done where there is no room.
    pub fn keep(&self, file: Arc<Writing>) -> Result<(), Problem> {
        let mut all = self.all();
        if all.len() >= MOST_KEPT {
            // What still is being written is not taken from whoever waits for it.
            let old = all.iter().position(|file| !matches!(file.state().0, State::Working)).ok_or_else(Problem::busy)?;
            all.remove(old);
        }
        all.push_back(file);
        Ok(())
    }

    pub fn forget(&self, id: Uuid) {
        self.all().retain(|file| file.id != id);
    }
}
