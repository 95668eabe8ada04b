//! The test of a connection: step by step, each with its answer and what usually mends it.

use async_trait::async_trait;
use havrel_core::plant::Connection;
use serde::Serialize;
use tokio::sync::mpsc;
use utoipa::ToSchema;

/// Tries connections, saved or not.
#[async_trait]
pub trait Tester: Send + Sync {
    /// Tries the connection step by step, stopping at the first that fails. Dropping the receiver cancels.
    async fn test(&self, connection: &Connection, steps: mpsc::Sender<TestStep>);
}

/// One rung of a test: what was tried, what came back, what usually mends it.
#[derive(Clone, Debug, Default, PartialEq, Serialize, ToSchema)]
pub struct TestStep {
    pub name: String,
    pub tried: String,
    pub passed: bool,
    pub answer: String,
    pub cure: String,
    /// What the settings could take over so that it passes.
    pub offer: Option<Offer>,
    pub took_us: u64,
}

/// Something found out by a test that a setting could hold.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, ToSchema)]
#[schema(as = SettingOffer)]
pub struct Offer {
    /// A field of the connection, such as `settings.tls.fingerprint`.
    pub field: &'static str,
    pub value: String,
    /// What taking it does.
    pub words: &'static str,
}
