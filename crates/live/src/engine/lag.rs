//! How far the engine is behind: from when it was told to look until it did.

use std::time::Duration;

/// Alarms that are judged later than this come too late to be relied on.
const BEHIND: Duration = Duration::from_secs(5);
/// Below this it has caught up.
const CAUGHT_UP: Duration = Duration::from_secs(1);

/// Whether the engine is behind.
#[derive(Debug, Default)]
pub(super) struct Lag {
    /// Not known before the first look: an alarm of an earlier program may stand.
    behind: Option<bool>,
}

impl Lag {
    /// Takes in how late it was; gives whether it is behind where that is new.
    pub fn look(&mut self, late: Duration) -> Option<bool> {
        let behind = if self.behind == Some(true) { late > CAUGHT_UP } else { late > BEHIND };
        let was = self.behind.replace(behind);
        (was != Some(behind)).then_some(behind)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_told_once_and_until_it_has_caught_up() {
        let mut lag = Lag::default();
        let told = [0, 4900, 5100, 9000, 3000, 1100, 900, 2000, 6000].map(|ms| lag.look(Duration::from_millis(ms)));
        assert_eq!(told, [Some(false), None, Some(true), None, None, None, Some(false), None, Some(true)]);
    }
}
