//! Lines of the journal: they travel through the spool like values, so that none is lost while the database is away.

use crate::{Live, LiveError, engine::Message, now};
use havrel_core::{access::Actor, alarm::SystemAlarm, frame::Note, time::Nanos};
use serde_json::Value as Json;
use tokio::sync::oneshot;
use uuid::Uuid;

/// Most bytes of a line's detail; a longer one is left out and said so.
const DETAIL: usize = 256 << 10;

/// A line about what Havrel did by itself.
pub(crate) fn by_itself(kind: &str, title: String, detail: &Json, at: Nanos) -> Note {
    line(kind, None, None, &title, detail, at)
}

fn line(kind: &str, actor: Option<&Actor>, subject: Option<Uuid>, title: &str, detail: &Json, at: Nanos) -> Note {
    let mut detail = detail.to_string();
    if detail.len() > DETAIL {
        detail = serde_json::json!({"left_out": format!("{} bytes", detail.len())}).to_string();
    }
    Note {
        at,
        kind: kind.to_owned(),
        account: actor.map(|a| a.account),
        actor: actor.map_or("Havrel", |a| a.name.as_str()).to_owned(),
        subject,
        title: title.to_owned(),
        detail,
    }
}

impl Live {
    /// Writes a line of the journal and waits until it is on disk: what must be journalled is done only after this.
    ///
    /// # Errors
    /// When the disk does not take it, or the program is stopping.
    pub async fn note(
        &self,
        kind: &str,
        actor: Option<&Actor>,
        subject: Option<Uuid>,
        title: &str,
        detail: Json,
    ) -> Result<(), LiveError> {
        if !self.spool_state().trouble.is_empty() {
            return Err(LiveError::Full);
        }
        let (reply, kept) = oneshot::channel();
        let note = line(kind, actor, subject, title, &detail, now());
        self.send(Message::Note(note, Some(reply))).await?;
        let kept = kept.await.map_err(|_| LiveError::Interrupted)?;
        self.on_disk(kept.seq).await?;
        self.in_database(kept.seq).await;
        Ok(())
    }

    /// Writes a line about what has happened already, and does not wait.
    pub async fn remark(&self, kind: &str, actor: Option<&Actor>, subject: Option<Uuid>, title: &str, detail: Json) {
        let note = line(kind, actor, subject, title, &detail, now());
        if self.send(Message::Note(note, None)).await.is_err() {
            tracing::error!(title, "could not be journalled: the program is stopping");
        }
    }

    /// Raises an alarm about Havrel itself, or lets it return.
    pub async fn system_alarm(&self, alarm: SystemAlarm, active: bool, text: &str) {
        if self.send(Message::System { alarm, active, text: text.to_owned() }).await.is_err() {
            tracing::debug!(text, "the program is stopping");
        }
    }

    /// Raises an alarm about something that is over already: it stands until somebody has seen it.
    pub(crate) async fn happened(&self, alarm: SystemAlarm, text: &str) {
        self.system_alarm(alarm, true, text).await;
        self.system_alarm(alarm, false, "").await;
    }
}
