//! This machine's clock, watched against one that nobody can set: steps are seen.

use havrel_core::time::{MILLI, Nanos};
use std::time::Instant;

/// A difference beyond this between two looks is a step. A clock that a time service corrects slowly stays far below.
const STEP: Nanos = 250 * MILLI;

/// Compares the wall clock with the steady one at every look.
#[derive(Debug)]
pub(crate) struct Clock {
    began: Instant,
    /// Wall time minus steady time at the last look.
    offset: Nanos,
}

impl Clock {
    /// Begins at a wall time.
    pub fn new(wall: Nanos) -> Clock {
        Clock { began: Instant::now(), offset: wall }
    }

    /// Takes the wall time of now; gives by how much the clock was stepped since the last look, where it was.
    pub fn look(&mut self, wall: Nanos) -> Option<Nanos> {
        let steady = Nanos::try_from(self.began.elapsed().as_nanos()).unwrap_or(Nanos::MAX);
        self.compare(wall, steady)
    }

    fn compare(&mut self, wall: Nanos, steady: Nanos) -> Option<Nanos> {
        let offset = wall.saturating_sub(steady);
        let by = offset.saturating_sub(self.offset);
        self.offset = offset;
        (by.abs() > STEP).then_some(by)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::time::SECOND;
    use rstest::rstest;

    #[rstest]
    #[case::as_it_goes(SECOND, SECOND, None)]
    #[case::set_back(SECOND - 3600 * SECOND, SECOND, Some(-3600 * SECOND))]
    #[case::set_ahead(SECOND + 60 * SECOND, SECOND, Some(60 * SECOND))]
    #[case::corrected_slowly(SECOND + 200 * MILLI, SECOND, None)]
    fn steps_are_seen(#[case] wall: Nanos, #[case] steady: Nanos, #[case] by: Option<Nanos>) {
        let mut clock = Clock::new(0);
        assert_eq!(clock.compare(wall, steady), by);
        assert_eq!(clock.compare(wall + SECOND, steady + SECOND), None, "a step is told once");
    }
}
