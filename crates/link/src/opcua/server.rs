//! What is asked of a server over an open session, in portions that it takes.

use super::{shapes::Shapes, status};
use crate::LinkError;
use opcua::{
    client::Session,
    types::{
        AttributeId, BrowseDescription, BrowseResult, ByteString, DataValue, NodeId, ReadValueId, TimestampsToReturn, VariableId,
        Variant,
    },
};
use std::sync::Arc;

/// Most operations in one request, whatever the server allows.
const MOST_AT_ONCE: usize = 1000;

/// Most nodes in one request for history.
const MOST_HISTORIES: usize = 100;

/// How many operations the server takes in one request (OPC UA Part 5, 6.3.11).
#[derive(Clone, Copy, Debug)]
pub(super) struct Limits {
    pub read: usize,
    pub browse: usize,
    pub items: usize,
    pub history: usize,
}

/// A server behind an open session.
#[derive(Clone)]
pub(super) struct Server {
    pub session: Arc<Session>,
    pub limits: Limits,
    pub timeout_ms: u32,
    /// What is known of its structures.
    pub shapes: Arc<Shapes>,
}

/// The value of a node, or another attribute.
pub(super) fn attribute(node: &NodeId, attribute: AttributeId) -> ReadValueId {
    ReadValueId { node_id: node.clone(), attribute_id: attribute as u32, ..ReadValueId::default() }
}

impl Server {
    /// Asks a server for its limits.
    ///
    /// # Errors
    /// When it does not answer.
    pub async fn of(session: Arc<Session>, timeout_ms: u32) -> Result<Server, LinkError> {
        let limits = Limits { read: 10, browse: 10, items: 10, history: 1 };
        let mut server = Server { session, limits, timeout_ms, shapes: Arc::default() };
        let asked = [
            VariableId::Server_ServerCapabilities_OperationLimits_MaxNodesPerRead,
            VariableId::Server_ServerCapabilities_OperationLimits_MaxNodesPerBrowse,
            VariableId::Server_ServerCapabilities_OperationLimits_MaxMonitoredItemsPerCall,
            VariableId::Server_ServerCapabilities_OperationLimits_MaxNodesPerHistoryReadData,
        ];
        let nodes: Vec<_> = asked.into_iter().map(|id| attribute(&id.into(), AttributeId::Value)).collect();
        let told = server.read(&nodes).await?;
        let limit = |i: usize| match told.get(i).and_then(|d: &DataValue| d.value.as_ref()) {
            // 0 says that there is none.
            Some(Variant::UInt32(n)) if *n > 0 => (*n as usize).min(MOST_AT_ONCE),
            _ => MOST_AT_ONCE,
        };
        // A history is long, so few are read at once.
        let history = limit(3).min(MOST_HISTORIES);
        server.limits = Limits { read: limit(0), browse: limit(1), items: limit(2), history };
        Ok(server)
    }

    /// A failed service.
    pub fn failed(&self, error: &opcua::types::Error) -> LinkError {
        status::error(error.status(), self.timeout_ms)
    }

    /// Reads attributes, in their order.
    ///
    /// # Errors
    /// When the service fails, or answers with fewer values than were asked for.
    pub async fn read(&self, nodes: &[ReadValueId]) -> Result<Vec<DataValue>, LinkError> {
        let mut all = Vec::with_capacity(nodes.len());
        for part in nodes.chunks(self.limits.read.max(1)) {
            let told = self.session.read(part, TimestampsToReturn::Both, 0.0).await.map_err(|e| self.failed(&e))?;
            if told.len() != part.len() {
                return Err(LinkError::WrongAnswer(format!("{} values were asked for, {} came", part.len(), told.len())));
            }
            all.extend(told);
        }
        Ok(all)
    }

    /// The references of nodes, in their order; at most `most` of each.
    ///
    /// # Errors
    /// When the service fails, or answers for fewer nodes than were asked for.
    pub async fn browse(&self, nodes: &[BrowseDescription], most: u32) -> Result<Vec<BrowseResult>, LinkError> {
        let mut all = Vec::with_capacity(nodes.len());
        for part in nodes.chunks(self.limits.browse.max(1)) {
            let told = self.session.browse(part, most, None).await.map_err(|e| self.failed(&e))?;
            if told.len() != part.len() {
                return Err(LinkError::WrongAnswer(format!("{} nodes were asked for, {} came", part.len(), told.len())));
            }
            all.extend(told);
        }
        Ok(all)
    }

    /// Where a page goes on.
    ///
    /// # Errors
    /// When the service fails.
    pub async fn browse_on(&self, from: ByteString) -> Result<BrowseResult, LinkError> {
        let told = self.session.browse_next(false, &[from]).await.map_err(|e| self.failed(&e))?;
        told.into_iter().next().ok_or_else(|| LinkError::WrongAnswer("no page came".into()))
    }

    /// Lets go of pages that nobody asks for.
    pub async fn forget(&self, points: Vec<ByteString>) {
        if !points.is_empty() {
            // Whatever it answers, the server forgets them by itself in the end.
            let _ = self.session.browse_next(true, &points).await;
        }
    }
}
