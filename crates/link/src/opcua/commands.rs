//! What is asked of a server apart from its subscriptions: a page looked at, points read, a value written.

use super::{
    browse,
    learn::learn,
    method,
    node::Node,
    server::{Server, attribute},
    settings::Point,
    shapes::{Shapes, encodings},
    status,
    taken::{Taken, push},
    value,
};
use crate::{Command, LinkError, LinkPlan, PointPlan, RawValue, now, runner::no_broker};
use havrel_core::{
    TagNo,
    quality::Quality,
    sample::{Batch, Value},
    scale::Scaling,
};
use opcua::types::{
    AttributeId, DataValue, NamespaceMap, NodeId, ReadValueId, StatusCode, Variant, VariantScalarTypeId, WriteValue,
};
use std::{sync::Arc, time::Duration};
use tokio::sync::mpsc;

/// What commands are served with.
#[derive(Clone)]
pub(super) struct Service {
    pub server: Server,
    pub namespaces: Arc<NamespaceMap>,
    pub plan: Arc<LinkPlan>,
    pub batches: mpsc::Sender<Batch>,
}

impl Service {
    /// Serves one command.
    pub async fn serve(self, command: Command) {
        // Whoever asked may have gone away meanwhile, so what becomes of the replies does not matter.
        match command {
            // Taken by the life of the connection itself.
            Command::TakePath { .. } | Command::Fill { .. } => {}
            other @ (Command::TryMapping { .. }
            | Command::Publish { .. }
            | Command::Announced { .. }
            | Command::Notify { .. }
            | Command::Served { .. }) => other.refuse(&no_broker()),
            Command::Browse { ask, reply } => drop(reply.send(browse::page(&self.server, &self.namespaces, &ask).await)),
            Command::Read { points, reply } => drop(reply.send(self.read(&points).await)),
            Command::Write { tag, value, reply } => {
                let result = if self.plan.connection.writing {
                    self.write(tag, &value).await
                } else {
                    Err(LinkError::BadRequest("Writing is switched off for this connection.".into()))
                };
                let _ = reply.send(result);
            }
        }
    }

    /// What is read for a point, and what is taken of it.
    fn at(&self, point: &PointPlan) -> Result<(ReadValueId, Taken), LinkError> {
        let at = Point::parse(&point.point).map_err(|(_, words)| LinkError::BadRequest(words))?;
        let unknown = || status::error(StatusCode::BadNodeIdUnknown, self.server.timeout_ms);
        let node = at.node.id(&self.namespaces).ok_or_else(unknown)?;
        let read = ReadValueId { index_range: at.range.clone(), ..attribute(&node, AttributeId::Value) };
        Ok((read, at.taken(point)))
    }

    /// Reads points now, in their order.
    async fn read(&self, points: &[PointPlan]) -> Result<Vec<RawValue>, LinkError> {
        let called = || LinkError::BadRequest("It is a method: it is called, not read.".into());
        let is_method = |p: &PointPlan| Point::parse(&p.point).is_ok_and(|at| at.method.is_some());
        let at: Vec<_> = points.iter().map(|p| if is_method(p) { Err(called()) } else { self.at(p) }).collect();
        let asked: Vec<_> = at.iter().flatten().map(|(read, _)| read.clone()).collect();
        let told = self.server.read(&asked).await?;
        learn(&self.server, told.iter().flat_map(encodings).collect()).await?;
        let mut told = told.into_iter();
        let mut all = Vec::with_capacity(points.len());
        for at in at {
            all.push(match at {
                Err(error) => RawValue { words: error.to_string(), ..RawValue::default() },
                Ok((_, taken)) => raw(&taken, &told.next().unwrap_or_default(), &self.server.shapes),
            });
        }
        Ok(all)
    }

    async fn write(&self, tag: TagNo, new: &Value) -> Result<Value, LinkError> {
        let missing = || LinkError::BadRequest("The tag has no source it can be written to.".into());
        let point = self.plan.points.iter().find(|p| p.tag == tag).ok_or_else(missing)?;
        let (at, taken) = self.at(point)?;
        if let Some(method) = &Point::parse(&point.point).ok().and_then(|at| at.method) {
            return self.call(tag, at.node_id, method, new).await;
        }
        if !taken.part.is_whole() {
            let words = "A member of a structure cannot be written alone. Write to a node of its own, where the server has one.";
            return Err(LinkError::BadRequest(words.into()));
        }
        let asked = [at.clone(), attribute(&at.node_id, AttributeId::UserAccessLevel)];
        let told = self.server.read(&asked).await?;
        if matches!(told[1].value, Some(Variant::Byte(bits)) if bits & 2 == 0) {
            return Err(status::error(StatusCode::BadUserAccessDenied, self.server.timeout_ms));
        }
        let kind = match told[0].value.as_ref().map(single) {
            Some(Some(kind)) => kind,
            _ => return Err(LinkError::BadRequest("The node holds no single value that could be written.".into())),
        };
        let raw = match (point.scaling, new.number()) {
            (Some(scaling), Some(number)) if kind != VariantScalarTypeId::Boolean => Value::F64(scaling.invert(number)),
            _ => new.clone(),
        };
        let raw = match (&raw, kind) {
            // What scaling makes of a number need not be whole; the node holds steps.
            (Value::F64(number), kind) if point.scaling.is_some() && is_whole(kind) => Value::F64(number.round()),
            _ => raw,
        };
        let mut sent = value::variant(&raw, kind).map_err(LinkError::BadRequest)?;
        if !matches!(at.index_range, opcua::types::NumericRange::None) {
            let array = opcua::types::Array::new(kind, vec![sent]);
            sent = Variant::Array(Box::new(array.map_err(|_| LinkError::BadRequest("The element cannot be written.".into()))?));
        }
        // Many servers refuse a status or a time that comes along (Part 4, 5.11.4), so the value goes alone.
        let write = WriteValue {
            node_id: at.node_id.clone(),
            attribute_id: AttributeId::Value as u32,
            index_range: at.index_range.clone(),
            value: DataValue { value: Some(sent.clone()), ..DataValue::default() },
        };
        let answered = self.server.session.write(&[write]).await.map_err(|e| self.server.failed(&e))?;
        let code = answered.first().copied().unwrap_or(StatusCode::BadUnknownResponse);
        if code.is_bad() {
            return Err(status::error(code, self.server.timeout_ms));
        }
        // A server may take a value over only with its next cycle.
        let mut held = self.server.read(std::slice::from_ref(&at)).await?;
        for _ in 0..READ_BACKS {
            if same(&held[0], &sent) {
                break;
            }
            tokio::time::sleep(READ_BACK).await;
            held = self.server.read(std::slice::from_ref(&at)).await?;
        }
        let mut batch = Batch::default();
        push(&mut batch, tag, &held[0], &taken, &self.server.shapes, now());
        // The page should see at once what the server now holds; if nobody takes samples any more, the connection ends next.
        let _ = self.batches.send(batch).await;
        let now_held = held[0].value.clone().unwrap_or_default();
        let read_back = taken.of(&now_held, &self.server.shapes);
        let read_back = read_back.map_err(|reason| LinkError::WrongAnswer(reason.words().to_owned()))?.0;
        if same(&held[0], &sent) { Ok(read_back) } else { Err(LinkError::ReadBack(read_back.to_json().to_string())) }
    }
}

impl Service {
    /// Calls the method behind a tag. The tag then holds what it gave, or what it was called with.
    async fn call(&self, tag: TagNo, object: NodeId, method: &Node, new: &Value) -> Result<Value, LinkError> {
        let unknown = || status::error(StatusCode::BadNodeIdUnknown, self.server.timeout_ms);
        let method = method.id(&self.namespaces).ok_or_else(unknown)?;
        let gave = method::call(&self.server, object, method, new).await?;
        let mut batch = Batch::default();
        batch.push(tag, now(), Quality::GOOD, 0, &gave);
        // If nobody takes samples any more, the connection ends next.
        let _ = self.batches.send(batch).await;
        Ok(gave)
    }
}

/// How often a value that was written is read back until it is there, and with which pause.
const READ_BACKS: usize = 8;
const READ_BACK: Duration = Duration::from_millis(125);

/// Whether a server holds what was sent.
fn same(held: &DataValue, sent: &Variant) -> bool {
    held.value.as_ref().is_some_and(|held| value::value(held) == value::value(sent))
}

fn is_whole(kind: VariantScalarTypeId) -> bool {
    use VariantScalarTypeId as Id;
    matches!(kind, Id::SByte | Id::Byte | Id::Int16 | Id::UInt16 | Id::Int32 | Id::UInt32 | Id::Int64 | Id::UInt64)
}

/// The type of a single value, or of the one element of a range.
fn single(held: &Variant) -> Option<VariantScalarTypeId> {
    match held {
        Variant::Array(array) => match array.values.as_slice() {
            [one] => one.scalar_type_id(),
            _ => None,
        },
        one => one.scalar_type_id(),
    }
}

fn raw(taken: &Taken, told: &DataValue, shapes: &Shapes) -> RawValue {
    let code = told.status.unwrap_or(StatusCode::Good);
    let none = |words: &str| RawValue { words: words.to_owned(), ..RawValue::default() };
    match told.value.as_ref().map(|held| taken.part.value(held, shapes)) {
        Some(Ok(decoded)) => {
            let scaled = Some(Scaling::of(taken.scaling, decoded.clone()).0);
            RawValue { bytes: Vec::new(), decoded: Some(decoded), scaled, words: String::new() }
        }
        Some(Err(reason)) if !code.is_bad() => none(reason.words()),
        _ if code.is_bad() => none(&status::error(code, 0).to_string()),
        _ => none("The server gives no value."),
    }
}
