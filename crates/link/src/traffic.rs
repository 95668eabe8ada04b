//! What passes between Havrel and a device, for whoever looks: nothing is kept or made while nobody does.

use havrel_core::time::Nanos;
use std::sync::Arc;
use tokio::sync::broadcast;

/// Exchanges that wait for a slow onlooker; older ones are left out, and said to be.
const WAITING: usize = 2048;
/// Most bytes of one message that are shown.
pub const MOST_BYTES: usize = 300;

/// One request and what came of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Exchange {
    /// When the request left.
    pub at: Nanos,
    pub took_us: u64,
    /// Number of the device on its line.
    pub unit: u8,
    /// The request in words: “read holding 0–9”.
    pub asked: String,
    /// The answer in words, or what went wrong.
    pub answered: String,
    pub passed: bool,
    pub sent: Vec<u8>,
    pub received: Vec<u8>,
}

/// Where a connection's exchanges can be watched.
#[derive(Clone, Debug)]
pub struct Tap(broadcast::Sender<Arc<Exchange>>);

impl Default for Tap {
    fn default() -> Tap {
        Tap(broadcast::channel(WAITING).0)
    }
}

impl Tap {
    /// Whether anybody watches.
    pub fn open(&self) -> bool {
        self.0.receiver_count() > 0
    }

    /// Watches from now on.
    pub fn watch(&self) -> broadcast::Receiver<Arc<Exchange>> {
        self.0.subscribe()
    }

    /// Shows an exchange to those who watch.
    pub fn tell(&self, exchange: Exchange) {
        // Whoever watched may have left since it was asked.
        let _ = self.0.send(Arc::new(exchange));
    }
}
