//! Frames from elsewhere: samples and alarm events of the past, taken into history.

use crate::{Live, LiveError, now};
use havrel_core::{engine::CLOCK_TOLERANCE, frame::Frame};
use std::collections::HashSet;

/// How much an import took in. What was there before counts too: sending again is harmless.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Imported {
    pub frames: usize,
    pub samples: usize,
    pub events: usize,
}

impl Live {
    /// Takes frames of one other node into history, in the order of their numbers; each goes in whole and once. They may
    /// hold samples of tags, events of rules and rows of recorders that exist, not later than now, and neither standings nor gaps.
    ///
    /// # Errors
    /// When a frame holds what it may not (then nothing of the call is taken), or the database does not answer.
    pub async fn import(&self, frames: &[Frame]) -> Result<Imported, LiveError> {
        let plant = self.plant();
        let tags: HashSet<u32> = plant.tags.values().map(|t| t.no).collect();
        let latest = now() + CLOCK_TOLERANCE;
        let mut taken = Imported { frames: frames.len(), ..Imported::default() };
        let refuse = |frame: &Frame, words: &str| Err(LiveError::Refused(format!("Frame {}: {words}", frame.seq)));
        for frame in frames {
            if frame.node == self.node {
                return refuse(frame, "these are this node's own frames.");
            }
            if frames.first().is_some_and(|first| first.node != frame.node) {
                return refuse(frame, "all frames of an import come from one node.");
            }
            if !frame.states.is_empty() || !frame.gaps.is_empty() {
                return refuse(frame, "standings and gaps cannot be imported.");
            }
            if let Some(s) = frame.batch.samples.iter().find(|s| !tags.contains(&s.tag)) {
                return refuse(frame, &format!("there is no tag with number {}.", s.tag));
            }
            if let Some(e) = frame.events.iter().find(|e| !plant.rules.contains_key(&e.rule)) {
                return refuse(frame, &format!("there is no alarm rule {}.", e.rule));
            }
            if let Some(t) = frame.tracked.iter().find(|t| !tags.contains(&t.sample.tag)) {
                return refuse(frame, &format!("there is no tag with number {}.", t.sample.tag));
            }
            let recorders = frame.tracked.iter().map(|t| t.recorder).chain(frame.rows.iter().map(|r| r.recorder));
            if let Some(recorder) = recorders.into_iter().find(|recorder| !plant.recorders.contains_key(recorder)) {
                return refuse(frame, &format!("there is no recorder {recorder}."));
            }
            let last = frame.span().map(|(_, last)| last).into_iter().chain(frame.rows.iter().map(|r| r.at)).max();
            if last.is_some_and(|t| t > latest) {
                return refuse(frame, "it holds times that are still to come.");
            }
            taken.samples += frame.batch.samples.len() + frame.tracked.len();
            taken.events += frame.events.len();
        }
        self.db.import(frames).await?;
        Ok(taken)
    }
}
