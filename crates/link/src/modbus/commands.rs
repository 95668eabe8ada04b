//! What is asked of a device apart from polling: a value written, a page looked at, the bytes of a tag.

use super::{
    Encoded, Point, Settings, look,
    memory::Memory,
    session::Session,
    work::{Item, Work},
};
use crate::{Command, LinkError, LinkPlan, PointPlan, RawValue, now, runner::no_broker};
use havrel_core::{
    TagNo,
    quality::Quality,
    sample::{Batch, Value},
};
use std::sync::{Arc, Mutex};
use tokio::sync::mpsc;

/// What commands are served with.
#[derive(Clone)]
pub(super) struct Service {
    pub work: Arc<Work>,
    pub plan: Arc<LinkPlan>,
    pub settings: Settings,
    /// What pages lack; kept apart from what polling learns: a register that somebody views need not belong to a tag.
    pub looked: Arc<Mutex<Memory>>,
    pub batches: mpsc::Sender<Batch>,
}

impl Service {
    /// The device that a command asks; of several the first.
    pub fn unit(&self, command: &Command) -> u8 {
        let unit = match command {
            Command::Browse { ask, .. } => look::Space::of(&ask.node, &self.settings).map(|space| space.unit),
            Command::Write { tag, .. } => self.work.item(*tag).map(|item| item.point.unit),
            Command::Read { points, .. } => points.first().and_then(|p| self.point(p).ok()).map(|item| item.point.unit),
            Command::TakePath { .. } | Command::Fill { .. } => None,
            Command::TryMapping { .. } | Command::Publish { .. } | Command::Announced { .. } => None,
            Command::Served { .. } | Command::Notify { .. } => None,
        };
        unit.unwrap_or(self.settings.unit)
    }

    /// Serves one command. `Err`: the line cannot be used as it is; whoever asked has been told.
    pub async fn serve(&self, line: &mut Session, command: Command) -> Result<(), LinkError> {
        // Whoever asked may have gone away meanwhile, so what becomes of the replies does not matter.
        let failed = match command {
            // Taken by the polling itself: it asks no device.
            Command::TakePath { .. } => None,
            fill @ Command::Fill { .. } => {
                fill.refuse(&LinkError::BadRequest("A device over Modbus records nothing.".into()));
                None
            }
            other @ (Command::TryMapping { .. }
            | Command::Publish { .. }
            | Command::Announced { .. }
            | Command::Notify { .. }
            | Command::Served { .. }) => {
                other.refuse(&no_broker());
                None
            }
            Command::Browse { ask, reply } => {
                let page = look::look(line, &self.settings, &ask, &self.looked).await;
                let failed = page.as_ref().err().cloned();
                let _ = reply.send(page);
                failed
            }
            Command::Read { points, reply } => {
                let mut raw = Vec::new();
                let mut failed = None;
                for point in &points {
                    match self.read(line, point).await {
                        Ok(value) => raw.push(value),
                        Err(error) => {
                            failed = Some(error);
                            break;
                        }
                    }
                }
                let _ = reply.send(failed.clone().map_or(Ok(raw), Err));
                failed
            }
            Command::Write { tag, value, reply } => {
                let result = if self.plan.connection.writing {
                    self.write(line, tag, &value).await
                } else {
                    Err(LinkError::BadRequest("Writing is switched off for this connection.".into()))
                };
                let failed = result.as_ref().err().cloned();
                let _ = reply.send(result);
                failed
            }
        };
        failed.filter(|e| !e.spares_connection()).map_or(Ok(()), Err)
    }

    async fn write(&self, line: &mut Session, tag: TagNo, value: &Value) -> Result<Value, LinkError> {
        let missing = || LinkError::BadRequest("The tag has no source it can be written to.".into());
        let item = self.work.item(tag).ok_or_else(missing)?;
        let point = item.point;
        let encoded = item.encode(value).map_err(LinkError::BadRequest)?;
        let answered = line.write(point.unit, point.address, &encoded).await?;
        let held = match answered {
            Some(words) => words,
            None => line.read(point.unit, point.address, point.width()).await?,
        };
        let wrong = |reason: havrel_core::quality::Reason| LinkError::WrongAnswer(reason.words().to_owned());
        let (read_back, _) = item.engineering(point.shape.decode(&held).map_err(wrong)?);
        let mut batch = Batch::default();
        batch.push(tag, now(), Quality::GOOD, 0, &read_back);
        // The page should see at once what the device now holds; if nobody takes samples any more, polling ends next.
        let _ = self.batches.send(batch).await;
        let same = match &encoded {
            Encoded::Words(words) => held == *words,
            Encoded::Masked(parts) => held.iter().zip(parts).all(|(held, (mask, set))| held & mask == *set),
        };
        if same { Ok(read_back) } else { Err(LinkError::ReadBack(read_back.to_json().to_string())) }
    }

    fn point(&self, p: &PointPlan) -> Result<Item, String> {
        let point = Point::parse(&self.settings, &p.point).map_err(|(_, words)| words)?;
        Ok(Item { tag: p.tag, point, scaling: p.scaling })
    }

    /// The registers of one point, and what they make.
    async fn read(&self, line: &mut Session, point: &PointPlan) -> Result<RawValue, LinkError> {
        let item = match self.point(point) {
            Ok(item) => item,
            Err(words) => return Ok(RawValue { words, ..RawValue::default() }),
        };
        let mut raw = RawValue::default();
        match line.read(item.point.unit, item.point.address, item.point.width()).await {
            Ok(words) => {
                raw.bytes = words.iter().flat_map(|w| w.to_be_bytes()).collect();
                match item.point.shape.decode(&words) {
                    Ok(value) => {
                        raw.scaled = Some(item.engineering(value.clone()).0);
                        raw.decoded = Some(value);
                    }
                    Err(reason) => raw.words = reason.words().into(),
                }
                Ok(raw)
            }
            Err(error) if error.spares_connection() => {
                raw.words = error.to_string();
                Ok(raw)
            }
            Err(error) => Err(error),
        }
    }
}
