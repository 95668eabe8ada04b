//! What people ask of devices over the running connections: to write, to read now, to look, to take another address, to give what they
//! recorded.

use crate::{Live, LiveError, links};
use havrel_core::{
    TagNo,
    access::Actor,
    arrival::{Arrival, Mapping},
    plant::{Connection, Item, Plant, Tag, connection::MEMORY},
    sample::Value,
    time::Nanos,
};
use havrel_link::{
    Ask, Children, Command, LinkError, PointPlan, RawValue, announced::Announced, served::Served, traffic::Exchange,
};
use serde_json::{Value as Json, json};
use std::sync::{Arc, PoisonError};
use tokio::sync::{broadcast, oneshot};
use uuid::Uuid;

impl Live {
    /// The tag and its connection, where the value may be written.
    fn writable<'a>(
        &self,
        plant: &'a Plant,
        tag: Uuid,
        value: &Value,
    ) -> Result<(&'a Item<Tag>, &'a Item<Connection>), LiveError> {
        let refused = |words: &str| Err(LiveError::Refused(words.to_owned()));
        let Some(item) = plant.tags.get(&tag) else { return refused("There is no such tag.") };
        item.set.check_write(value).map_err(LiveError::Refused)?;
        if let Some(place) = plant.out_of_service(item.set.place) {
            return Err(LiveError::Refused(format!("“{}” is out of service.", plant.path(Some(place)))));
        }
        let Some(connection) = item.set.connection.and_then(|id| plant.connections.get(&id)) else {
            return refused("The tag has no connection to write to.");
        };
        if !connection.set.writing && connection.set.kind != MEMORY {
            return Err(LiveError::Refused(format!("Writing is switched off for the connection “{}”.", connection.set.name)));
        }
        Ok((item, connection))
    }

    /// Writes a value in engineering units to the device and answers with what it then holds.
    ///
    /// # Errors
    /// When the value may not be written, or the device does not take it.
    pub async fn write(&self, tag: Uuid, value: Value) -> Result<Value, LiveError> {
        let plant = self.plant();
        let (item, connection) = self.writable(&plant, tag, &value)?;
        let (reply, answer) = oneshot::channel();
        self.command(connection.id, Command::Write { tag: item.no, value, reply }).await?;
        let held = answer.await.map_err(|_| LinkError::SwitchedOff)??;
        self.keep(&item.set, item.no, &connection.set.kind, &held).await?;
        Ok(held)
    }

    /// Writes a value as somebody asks for it, or a program where nobody is named: the journal says what is asked for before it is done,
    /// and what came of it. Gives what the tag held before, and what came of it.
    ///
    /// # Errors
    /// When the value may not be written, or what is asked for cannot be written down: then it is not done.
    pub async fn write_down(
        &self,
        actor: Option<&Actor>,
        tag: Uuid,
        value: Value,
        asked: &Json,
    ) -> Result<(Json, Result<Value, LiveError>), LiveError> {
        let plant = self.plant();
        let (item, _) = self.writable(&plant, tag, &value)?;
        let before = {
            let values = self.values.read().unwrap_or_else(PoisonError::into_inner);
            values.of(item.no).and_then(|s| s.current.value.as_ref().map(Value::to_json)).unwrap_or(Json::Null)
        };
        let path = plant.tag_path(&item.set);
        let shown = |value: &Value| format!("{} {}", plant.print(&item.set, value), item.set.unit).trim().to_owned();
        let wanted = shown(&value);
        let detail = json!({"before": before, "asked": asked});
        self.note("write", actor, Some(tag), &format!("Asked to write {wanted} to {path}"), detail).await?;
        let result = self.write(tag, value).await;
        let (title, detail) = match &result {
            Ok(held) => {
                let detail = json!({"before": before, "asked": asked, "after": held.to_json()});
                (format!("Wrote {} to {path}", shown(held)), detail)
            }
            Err(error) => (format!("Could not write {wanted} to {path}: {error}"), json!({"before": before, "asked": asked})),
        };
        if let Err(error) = self.note("write", actor, Some(tag), &title, detail).await {
            // It is handed on all the same; what was asked for stands in the journal already.
            tracing::error!(%error, title, "what came of a write is not on disk yet");
        }
        Ok((before, result))
    }

    /// Reads tags of one connection now and gives the bytes they are made of, at most 200, in their order.
    ///
    /// # Errors
    /// When the connection does not run.
    pub async fn raw(&self, connection: Uuid, tags: &[TagNo]) -> Result<Vec<RawValue>, LiveError> {
        let tags = &tags[..tags.len().min(200)];
        let links = || self.links.lock().unwrap_or_else(PoisonError::into_inner);
        let points = links().get(&connection).map_or_else(|| vec![None; tags.len()], |line| line.points(tags));
        let read: Vec<PointPlan> = points.iter().flatten().cloned().collect();
        let mut values = self.read(connection, read).await?.into_iter();
        let without = || RawValue { words: "It has no source that can be read.".into(), ..RawValue::default() };
        Ok(points.iter().map(|point| point.as_ref().and_then(|_| values.next()).unwrap_or_else(without)).collect())
    }

    /// Reads points of one connection now, of tags or not, and answers in their order.
    ///
    /// # Errors
    /// When the connection does not run.
    pub async fn read(&self, connection: Uuid, points: Vec<PointPlan>) -> Result<Vec<RawValue>, LiveError> {
        let (reply, answer) = oneshot::channel();
        self.command(connection, Command::Read { points, reply }).await?;
        Ok(answer.await.map_err(|_| LinkError::SwitchedOff)??)
    }

    /// Takes another address of a connection into use by hand.
    ///
    /// # Errors
    /// When there is no such address or connection.
    pub async fn take_path(&self, connection: Uuid, path: usize) -> Result<(), LiveError> {
        let (reply, answer) = oneshot::channel();
        self.command(connection, Command::TakePath { path, reply }).await?;
        Ok(answer.await.map_err(|_| LinkError::SwitchedOff)??)
    }

    /// Has a connection bring in what its device recorded itself within a span; without one, ends that.
    ///
    /// # Errors
    /// When the connection does not run, or does so already.
    pub async fn fill(&self, connection: Uuid, span: Option<(Nanos, Nanos)>) -> Result<(), LiveError> {
        let (reply, answer) = oneshot::channel();
        self.command(connection, Command::Fill { span, reply }).await?;
        Ok(answer.await.map_err(|_| LinkError::SwitchedOff)??)
    }

    /// Watches what passes between a connection and its device, from now on.
    ///
    /// # Errors
    /// When there is no such connection.
    pub fn traffic(&self, connection: Uuid) -> Result<broadcast::Receiver<Arc<Exchange>>, LiveError> {
        let links = self.links.lock().unwrap_or_else(PoisonError::into_inner);
        let line = links.get(&connection).ok_or_else(|| LiveError::Refused("There is no such connection.".into()))?;
        Ok(line.tap().watch())
    }

    /// Looks at what a device holds, over the running connection.
    ///
    /// # Errors
    /// When the connection does not run or the device refuses.
    pub async fn browse(&self, connection: Uuid, ask: Ask) -> Result<Children, LiveError> {
        let (reply, answer) = oneshot::channel();
        self.command(connection, Command::Browse { ask, reply }).await?;
        Ok(answer.await.map_err(|_| LinkError::SwitchedOff)??)
    }

    /// Lists the edge nodes and devices that announced themselves over a connection.
    ///
    /// # Errors
    /// When it does not run, or nobody announces anything over it.
    pub async fn announced(&self, connection: Uuid) -> Result<Vec<Announced>, LiveError> {
        let (reply, answer) = oneshot::channel();
        self.command(connection, Command::Announced { reply }).await?;
        Ok(answer.await.map_err(|_| LinkError::SwitchedOff)??)
    }

    /// Tells how a broker of our own fares.
    ///
    /// # Errors
    /// When it does not run, or the connection is no such broker.
    pub async fn served(&self, connection: Uuid) -> Result<Served, LiveError> {
        let (reply, answer) = oneshot::channel();
        self.command(connection, Command::Served { reply }).await?;
        Ok(*answer.await.map_err(|_| LinkError::SwitchedOff)??)
    }

    /// Tries a mapping on what a connection can hear now.
    ///
    /// # Errors
    /// When it cannot be used, or nothing is heard.
    pub async fn try_mapping(&self, connection: Uuid, mapping: Mapping) -> Result<Vec<Arrival>, LiveError> {
        let (reply, answer) = oneshot::channel();
        self.command(connection, Command::TryMapping { mapping, reply }).await?;
        Ok(answer.await.map_err(|_| LinkError::SwitchedOff)??)
    }

    pub(crate) async fn command(&self, connection: Uuid, command: Command) -> Result<(), LiveError> {
        let line = self.links.lock().unwrap_or_else(PoisonError::into_inner).get(&connection).map(links::Line::commands);
        let Some(line) = line else {
            return Err(match self.plant().connections.contains_key(&connection) {
                true => LinkError::SwitchedOff.into(),
                false => LiveError::Refused("There is no such connection.".into()),
            });
        };
        line.send(command).await.map_err(|_| LinkError::SwitchedOff.into())
    }
}
