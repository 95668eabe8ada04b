//! Plants of earlier revisions, kept for whoever looks back.

use havrel_core::plant::Plant;
use std::sync::{Arc, Mutex, PoisonError};

/// Plants that are kept.
const MOST_KEPT: usize = 4;

/// Plants of earlier revisions, the last used at the end.
#[derive(Default)]
pub struct Earlier(Mutex<Vec<Arc<Plant>>>);

impl Earlier {
    /// The plant of a revision, where it is kept.
    pub fn find(&self, revision: i64) -> Option<Arc<Plant>> {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let at = kept.iter().position(|plant| plant.revision == revision)?;
        let plant = kept.remove(at);
        kept.push(plant.clone());
        Some(plant)
    }

    /// Keeps a plant, in place of the one that was used longest ago.
    pub fn keep(&self, plant: Arc<Plant>) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() >= MOST_KEPT {
            kept.remove(0);
        }
        kept.push(plant);
    }
}
