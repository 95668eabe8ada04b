//! What the server records itself: the last hour of some nodes, read by clients that ask for history (OPC UA Part 11, 6.5.3).

use async_trait::async_trait;
use opcua::{
    server::{
        ContinuationPoint, CreateMonitoredItem,
        address_space::AddressSpace,
        diagnostics::NamespaceMetadata,
        node_manager::{
            HistoryNode, MethodCall, MonitoredItemRef, MonitoredItemUpdateRef, ParsedReadValueId, RequestContext, ServerContext,
            WriteNode,
            memory::{InMemoryNodeManagerImpl, InMemoryNodeManagerImplBuilder, SimpleNodeManagerBuilder, SimpleNodeManagerImpl},
        },
    },
    sync::RwLock,
    types::{DataValue, DateTime, HistoryData, MonitoringMode, NodeId, ReadRawModifiedDetails, StatusCode, TimestampsToReturn},
};
use std::{
    collections::{HashMap, VecDeque},
    sync::{Arc, Mutex, PoisonError},
};

/// Most values of a node: an hour, where it changes with every look at the process.
const MOST: usize = 18_000;
/// Most values of a node in one answer.
const MOST_IN_ANSWER: usize = 1_000;

/// Values in the order of their times, by the identifier of their node. It outlasts the server that fills it.
#[derive(Default)]
pub struct Record(Mutex<HashMap<String, VecDeque<DataValue>>>);

impl Record {
    /// Keeps a value, if it is another one than the last.
    pub fn add(&self, node: &str, data: &DataValue) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let values = all.entry(node.to_owned()).or_default();
        if values.back().is_some_and(|last| last.value == data.value && last.status == data.status) {
            return;
        }
        values.push_back(data.clone());
        if values.len() > MOST {
            values.pop_front();
        }
    }

    /// Values within a span, after so many that were given already, and whether there are more.
    fn read(&self, node: &NodeId, from: DateTime, to: DateTime, skip: usize, most: usize) -> (Vec<DataValue>, bool) {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let within = |data: &&DataValue| data.source_timestamp.is_some_and(|at| at >= from && at <= to);
        let values = all.get(&node.identifier.to_string().replacen("s=", "", 1));
        let mut found = values.into_iter().flatten().filter(within).skip(skip);
        let given: Vec<_> = found.by_ref().take(most).cloned().collect();
        (given, found.next().is_some())
    }
}

/// Makes the keeper of the plant's nodes, with their record.
pub struct Builder {
    pub metadata: NamespaceMetadata,
    pub name: &'static str,
    pub record: Arc<Record>,
}

impl InMemoryNodeManagerImplBuilder for Builder {
    type Impl = Recording;

    fn build(self, context: ServerContext, space: &mut AddressSpace) -> Recording {
        Recording { simple: SimpleNodeManagerBuilder::new(self.metadata, self.name).build(context, space), record: self.record }
    }
}

/// The library's keeper of nodes in memory, which has no history, with one.
pub struct Recording {
    pub simple: SimpleNodeManagerImpl,
    record: Arc<Record>,
}

#[async_trait]
impl InMemoryNodeManagerImpl for Recording {
    async fn init(&self, space: &mut AddressSpace, context: ServerContext) {
        self.simple.init(space, context).await;
    }

    fn name(&self) -> &str {
        self.simple.name()
    }

    fn namespaces(&self) -> Vec<NamespaceMetadata> {
        self.simple.namespaces()
    }

    async fn read_values(
        &self,
        context: &RequestContext,
        space: &RwLock<AddressSpace>,
        nodes: &[&ParsedReadValueId],
        max_age: f64,
        timestamps: TimestampsToReturn,
    ) -> Vec<DataValue> {
        self.simple.read_values(context, space, nodes, max_age, timestamps).await
    }

    async fn create_value_monitored_items(
        &self,
        context: &RequestContext,
        space: &RwLock<AddressSpace>,
        items: &mut [&mut &mut CreateMonitoredItem],
    ) {
        self.simple.create_value_monitored_items(context, space, items).await;
    }

    async fn modify_monitored_items(&self, context: &RequestContext, items: &[&MonitoredItemUpdateRef]) {
        self.simple.modify_monitored_items(context, items).await;
    }

    async fn set_monitoring_mode(&self, context: &RequestContext, mode: MonitoringMode, items: &[&MonitoredItemRef]) {
        self.simple.set_monitoring_mode(context, mode, items).await;
    }

    async fn delete_monitored_items(&self, context: &RequestContext, items: &[&MonitoredItemRef]) {
        self.simple.delete_monitored_items(context, items).await;
    }

    async fn write(
        &self,
        context: &RequestContext,
        space: &RwLock<AddressSpace>,
        nodes: &mut [&mut WriteNode],
    ) -> Result<(), StatusCode> {
        self.simple.write(context, space, nodes).await
    }

    async fn call(
        &self,
        context: &RequestContext,
        space: &RwLock<AddressSpace>,
        methods: &mut [&mut &mut MethodCall],
    ) -> Result<(), StatusCode> {
        self.simple.call(context, space, methods).await
    }

    async fn history_read_raw_modified(
        &self,
        _: &RequestContext,
        details: &ReadRawModifiedDetails,
        nodes: &mut [&mut &mut HistoryNode],
        _: TimestampsToReturn,
    ) -> Result<(), StatusCode> {
        let wanted = match details.num_values_per_node as usize {
            0 => MOST_IN_ANSWER,
            wanted => wanted.min(MOST_IN_ANSWER),
        };
        for node in nodes {
            let skip = node.continuation_point().and_then(|point| point.get::<usize>().copied()).unwrap_or(0);
            let (given, more) = self.record.read(node.node_id(), details.start_time, details.end_time, skip, wanted);
            let next = more.then(|| ContinuationPoint::new(Box::new(skip + given.len())));
            node.set_next_continuation_point(next);
            node.set_result(HistoryData { data_values: Some(given) });
            node.set_status(StatusCode::Good);
        }
        Ok(())
    }
}
