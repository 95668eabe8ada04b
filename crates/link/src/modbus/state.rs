//! What a running connection knows.

use super::{Settings, learnt::Learnt};
use crate::{
    health::{Durations, Rate},
    life::Life,
    runner::Reply,
};
use std::sync::Arc;

/// A connection that runs.
pub(super) struct Run {
    pub life: Life,
    pub durations: Durations,
    pub rate: Rate,
    /// Of the device that these settings reach.
    pub learnt: (Option<Settings>, Arc<Learnt>),
}

impl Run {
    /// Takes another address into use by hand. Whether there is one with that number.
    pub fn take_path(&mut self, path: usize, reply: Reply<()>) -> bool {
        let plan = self.life.ports.plan.borrow().clone();
        let count = Settings::parse(&plan.connection.settings).map_or(0, |s| s.paths().len());
        self.life.take_path(path, reply, count)
    }
}

/// What spreads connections over the interval: whom they talk to.
pub(super) fn plan_key(settings: &Settings) -> u128 {
    let text = settings.paths()[0].show();
    text.bytes().fold(0xcbf2_9ce4_8422_2325_u128, |sum, b| (sum ^ u128::from(b)).wrapping_mul(0x100_0000_01b3))
}
