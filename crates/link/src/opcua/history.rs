//! What a server has recorded itself (HistoryRead, OPC UA Part 11, 6.5.3): after an outage it fills the gap.

use super::{
    inbox::{Inbox, Times, counted},
    server::{Server, attribute},
    settings::Point,
    taken::{Taken, push},
    value,
};
use crate::{LinkError, LinkPlan, now};
use havrel_core::{
    TagNo,
    sample::{Batch, flag},
    time::Nanos,
};
use opcua::{
    client::HistoryReadAction,
    types::{
        AttributeId, ByteString, DateTime, HistoryData, HistoryReadValueId, NamespaceMap, NodeId, ReadRawModifiedDetails,
        ReadValueId, TimestampsToReturn, Variant,
    },
};
use std::{
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};
use tokio::sync::mpsc;

/// Most values that one gap is filled with; a server with more of them is asked no further.
const MOST_VALUES: usize = 1_000_000;
/// Values of a node in one answer.
const MOST_IN_ANSWER: u32 = 1_000;
/// The bit of the access level that says that history can be read (Part 3, 8.57).
const HISTORY_READ: u8 = 1 << 2;

/// A time without values.
pub(super) struct Gap {
    /// When the last values came, of each tag.
    pub before: Times,
    /// When the connection was lost.
    pub from: Nanos,
}

/// What is needed to fill one.
pub(super) struct Filling {
    pub gap: Arc<Gap>,
    pub server: Server,
    pub namespaces: Arc<NamespaceMap>,
    pub plan: Arc<LinkPlan>,
    pub inbox: Arc<Inbox>,
    pub batches: mpsc::Sender<Batch>,
    /// How long the first values take to come.
    pub pause: Duration,
    /// Where a gap ends that somebody named; otherwise the values that come tell.
    pub until: Option<Nanos>,
    /// How many values came so far.
    pub filled: Arc<AtomicU64>,
}

/// A tag whose node has a history.
struct Recorded {
    tag: TagNo,
    read: ReadValueId,
    taken: Taken,
    from: Option<ByteString>,
}

impl Filling {
    /// Fills the gap; says in a sentence what came of it, and nothing where the server has no history of the tags.
    ///
    /// # Errors
    /// When the server does not answer.
    pub async fn fill(self) -> Result<Option<String>, LinkError> {
        // The values that come anyway tell where the gap ends.
        tokio::time::sleep(self.pause).await;
        let until = self.until.unwrap_or_else(now);
        let mut recorded = self.recorded().await?;
        if recorded.is_empty() {
            return Ok(self.until.map(|_| "The server records none of the tags.".to_owned()));
        }
        let after = if self.until.is_some() { Times::default() } else { self.inbox.first() };
        let (tags, mut filled, mut whole) = (recorded.len(), 0, true);
        while !recorded.is_empty() {
            let part: Vec<Recorded> = recorded.drain(..recorded.len().min(self.server.limits.history)).collect();
            let (batch, unfinished) = self.read(part, until, &after).await?;
            filled += batch.samples.len();
            self.filled.store(filled as u64, Ordering::Relaxed);
            if !batch.is_empty() && self.batches.send(batch).await.is_err() {
                return Ok(None);
            }
            if filled > MOST_VALUES {
                whole = false;
                break;
            }
            recorded.extend(unfinished);
        }
        let limit = if whole { "" } else { ", and no more, as there are too many" };
        let moment = |at: Nanos| havrel_core::time::to_text(at).chars().take(19).collect::<String>().replace('T', " ");
        let span = match self.until {
            Some(until) => format!("period from {} to {} UTC", moment(self.gap.from), moment(until)),
            None => format!("gap from {} UTC on", moment(self.gap.from)),
        };
        let (values, tags) = (counted(filled, "value"), counted(tags, "tag"));
        Ok(Some(format!("The {span} is filled with {values} of {tags} that the server recorded{limit}.")))
    }

    /// The tags whose nodes have a history that may be read.
    async fn recorded(&self) -> Result<Vec<Recorded>, LinkError> {
        let at = |point: &crate::PointPlan| {
            let at = Point::parse(&point.point).ok()?;
            let node: NodeId = at.node.id(&self.namespaces)?;
            let read = ReadValueId { index_range: at.range.clone(), ..attribute(&node, AttributeId::Value) };
            Some(Recorded { tag: point.tag, read, taken: at.taken(point), from: None })
        };
        let all: Vec<Recorded> = self.plan.points.iter().filter_map(at).collect();
        let asked: Vec<_> = all.iter().map(|r| attribute(&r.read.node_id, AttributeId::UserAccessLevel)).collect();
        let told = self.server.read(&asked).await?;
        let can = |told: &opcua::types::DataValue| matches!(told.value, Some(Variant::Byte(bits)) if bits & HISTORY_READ != 0);
        Ok(all.into_iter().zip(&told).filter(|(_, told)| can(told)).map(|(recorded, _)| recorded).collect())
    }

    /// Reads once for some tags. Gives the values, and the tags of which there are more.
    async fn read(&self, mut part: Vec<Recorded>, until: Nanos, after: &Times) -> Result<(Batch, Vec<Recorded>), LinkError> {
        let time = |at: Nanos| DateTime::from(value::ticks(at));
        let details = ReadRawModifiedDetails {
            is_read_modified: false,
            start_time: time(self.gap.from),
            end_time: time(until),
            num_values_per_node: MOST_IN_ANSWER,
            return_bounds: false,
        };
        let asked: Vec<_> = part
            .iter()
            .map(|r| HistoryReadValueId {
                node_id: r.read.node_id.clone(),
                index_range: r.read.index_range.clone(),
                continuation_point: r.from.clone().unwrap_or_else(ByteString::null),
                ..HistoryReadValueId::default()
            })
            .collect();
        let action = HistoryReadAction::ReadRawModifiedDetails(details);
        let told = self.server.session.history_read(action, TimestampsToReturn::Both, false, &asked).await;
        let told = told.map_err(|e| self.server.failed(&e))?;
        let (mut batch, mut more) = (Batch::default(), Vec::new());
        for (mut recorded, told) in part.drain(..).zip(told) {
            // A node whose history cannot be read after all leaves its gap.
            if told.status_code.is_bad() {
                continue;
            }
            let values = told.history_data.inner_as::<HistoryData>().and_then(|data| data.data_values.as_ref());
            let (low, high) = (self.gap.before.of(recorded.tag), after.of(recorded.tag));
            for data in values.into_iter().flatten().take(MOST_IN_ANSWER as usize) {
                let before = batch.samples.len();
                push(&mut batch, recorded.tag, data, &recorded.taken, &self.server.shapes, until);
                let wanted = batch.samples.get(before).is_some_and(|s| {
                    s.flags & flag::OWN_TIME != 0 && low.is_none_or(|low| s.time > low) && high.is_none_or(|high| s.time < high)
                });
                if !wanted {
                    batch.samples.truncate(before);
                }
            }
            if !told.continuation_point.is_null_or_empty() && values.is_some_and(|values| !values.is_empty()) {
                recorded.from = Some(told.continuation_point);
                more.push(recorded);
            }
        }
        Ok((batch, more))
    }
}
