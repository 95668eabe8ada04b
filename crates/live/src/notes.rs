//! Lines of the journal: they travel through the spool like values, so that none is lost while the database is away.

use crate::{Live, LiveError, engine::Message, lines::line, now};
use havrel_core::{access::Actor, alarm::SystemAlarm};
use serde_json::Value as Json;
use tokio::sync::oneshot;
use uuid::Uuid;

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
