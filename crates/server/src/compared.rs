//! The files that were compared with the plant lately.

use crate::problem::Problem;
use havrel_jobs::sheet::{Plan, Wrong};
use std::{
    collections::VecDeque,
    sync::{Arc, Mutex, PoisonError},
};
use uuid::Uuid;

/// Comparisons that are kept to be looked at.
const MOST_KEPT: usize = 6;

pub(crate) enum State {
    Working,
    Wrong(Vec<Wrong>),
    Ready(Arc<Plan>),
    Stopped,
}

/// A file that was compared with the plant.
pub(crate) struct Compared {
    pub id: Uuid,
    /// The job that compares, while it does.
    pub job: Mutex<Option<Uuid>>,
    pub what: String,
    pub state: Mutex<State>,
}

/// The files that were compared lately.
#[derive(Default)]
pub(crate) struct Files(Mutex<VecDeque<Arc<Compared>>>);

impl Files {
    pub fn find(&self, id: Uuid) -> Result<Arc<Compared>, Problem> {
        let files = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        files.iter().find(|f| f.id == id).cloned().ok_or_else(|| Problem::missing("file; compare it again"))
    }

    pub fn keep(&self, file: Arc<Compared>) {
        let mut files = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        files.push_back(file);
        if files.len() > MOST_KEPT {
            files.pop_front();
        }
    }

    pub fn forget(&self, id: Uuid) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).retain(|f| f.id != id);
    }
}
