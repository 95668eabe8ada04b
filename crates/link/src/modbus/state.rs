//! What a running connection knows, and how it stops.

use super::{Settings, learnt::Learnt};
use crate::{
    Command, LinkError, Ports,
    health::{Durations, Rate},
};
use std::{collections::VecDeque, sync::Arc};

/// Why polling stopped.
pub(super) enum Stop {
    /// The plan's sender is gone: the connection was deleted or the program ends.
    End,
    /// Connect anew, at once.
    Again,
    /// Connect anew after a pause, or at once over another address.
    Failed(LinkError),
}

/// A connection that runs.
pub(super) struct Run {
    pub ports: Ports,
    /// Tries in a row that failed.
    pub failures: u32,
    /// Which address is in use.
    pub path: usize,
    pub durations: Durations,
    pub rate: Rate,
    /// Commands that wait for a line, also over a new connection.
    pub waiting: VecDeque<Command>,
    /// Of the device that these settings reach.
    pub learnt: (Option<Settings>, Arc<Learnt>),
}

impl Run {
    /// Takes another address into use by hand. Whether there is one with that number.
    pub fn take_path(&mut self, path: usize, reply: tokio::sync::oneshot::Sender<Result<(), LinkError>>) -> bool {
        let plan = self.ports.plan.borrow().clone();
        let paths = Settings::parse(&plan.connection.settings).map_or(0, |s| s.paths().len());
        let known = path < paths;
        if known {
            (self.path, self.failures) = (path, 0);
        }
        // Whoever asked may have gone away meanwhile.
        let _ = reply.send(if known { Ok(()) } else { Err(LinkError::BadRequest("There is no such address.".into())) });
        known
    }
}

/// What spreads connections over the interval: whom they talk to.
pub(super) fn plan_key(settings: &Settings) -> u128 {
    let text = settings.paths()[0].show();
    text.bytes().fold(0xcbf2_9ce4_8422_2325_u128, |sum, b| (sum ^ u128::from(b)).wrapping_mul(0x100_0000_01b3))
}
