//! Sending of messages: each as soon as it is due, several at once, again after a pause where it failed.

use super::LOOK;
use crate::{Live, LiveError, now, under_way::several_at_once};
use havrel_core::{notice::Notice, time::span_words};
use havrel_link::{Command, LinkError};
use serde_json::json;
use std::{sync::Arc, time::Duration};
use tokio::{sync::oneshot, time::timeout};
use uuid::Uuid;

/// Messages under way at once.
const MOST_AT_ONCE: usize = 16;
/// Longer than any connection may take, so that one which hangs holds up no others.
const LONGEST: Duration = Duration::from_secs(120);

/// Sends what is due for as long as the plant runs.
pub(crate) async fn run(live: Arc<Live>) {
    let due = |but: Vec<Uuid>, room| std::future::ready(live.due(&but, room));
    let work = |(id, carrier, notice)| {
        let live = live.clone();
        async move {
            let answer = live.notify(carrier, notice).await;
            if answer.is_ok() || !live.is_stopping() {
                live.answered(id, answer).await;
            }
        }
    };
    several_at_once((LOOK, &live.calls.send, MOST_AT_ONCE), due, work).await;
}

/// A message with its identity and the connection that carries it.
type Sent = (Uuid, Uuid, Notice);

impl Live {
    /// Messages that are due, but for those under way.
    fn due(&self, under_way: &[Uuid], room: usize) -> Vec<(Uuid, Sent)> {
        if self.is_stopping() {
            return Vec::new();
        }
        let now = now();
        let kept = self.calls_kept();
        let due = kept.messages.values().filter(|m| m.tries.is_due(now) && !under_way.contains(&m.notice.id));
        due.take(room).map(|m| (m.notice.id, (m.notice.id, m.carrier, m.notice.clone()))).collect()
    }

    /// Gives a message to a connection; what the server said.
    pub(crate) async fn notify(&self, carrier: Uuid, notice: Notice) -> Result<String, LiveError> {
        let (reply, answer) = oneshot::channel();
        let sent = async {
            self.command(carrier, Command::Notify { notice: Box::new(notice), reply }).await?;
            Ok(answer.await.map_err(|_| LinkError::SwitchedOff)??)
        };
        timeout(LONGEST, sent).await.unwrap_or(Err(LiveError::Interrupted))
    }

    /// Notes what came of a message, for everybody to read.
    async fn answered(&self, id: Uuid, answer: Result<String, LiveError>) {
        let Some((title, detail, call)) = self.noted(id, answer) else { return };
        self.remark("call_out", None, Some(call), &title, detail).await;
        self.keep_calls().await;
        self.calls.look.notify_one();
    }

    fn noted(&self, id: Uuid, answer: Result<String, LiveError>) -> Option<(String, serde_json::Value, Uuid)> {
        let now = now();
        let mut kept = self.calls_kept();
        kept.messages_changed.insert(id);
        let message = kept.messages.get_mut(&id)?;
        let (whom, call, made_at) = (message.whom.clone(), message.call, message.made_at);
        let title = match &answer {
            Ok(answer) => {
                message.tries.sent(now, answer);
                format!("Told {whom}: the server has the message")
            }
            Err(error) => {
                // Somebody ended it meanwhile.
                let next = message.tries.next_at?;
                let given_up = message.tries.failed(now, &error.to_string(), lasts(error));
                let again = message.tries.next_at.unwrap_or(next) - now;
                let then =
                    if given_up { "it is not tried again".into() } else { format!("tried again in {}", span_words(again)) };
                format!("Could not tell {whom}: {error} {then}")
            }
        };
        let detail = json!({"message": id, "attempts": message.tries.attempts});
        // Nobody of the step can be told: whoever comes next is told at once.
        let lost = answer.is_err()
            && kept
                .messages
                .values()
                .filter(|m| m.call == call && m.made_at == made_at)
                .all(|m| m.tries.next_at.is_none() && m.tries.sent_at.is_none());
        if lost && kept.book.call(call).is_some_and(|call| call.told_at == Some(made_at)) {
            kept.book.reached_nobody(call, now);
        }
        Some((title, detail, call))
    }
}

/// Whether a message would be refused again.
pub(crate) fn lasts(error: &LiveError) -> bool {
    match error {
        LiveError::Link(LinkError::MailAnswered(code, _)) => *code >= 500 && ![530, 534, 535, 554].contains(code),
        LiveError::Link(LinkError::Answered(status)) => {
            (400..500).contains(status) && ![401, 403, 408, 425, 429].contains(status)
        }
        LiveError::Link(LinkError::BadRequest(_)) | LiveError::Refused(_) => true,
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::nobody_of_this_name(LinkError::MailAnswered(550, "no such mailbox".into()), true)]
    #[case::full_for_now(LinkError::MailAnswered(452, "mailbox full".into()), false)]
    #[case::a_login_can_be_mended(LinkError::MailAnswered(535, "wrong password".into()), false)]
    #[case::gone(LinkError::Closed, false)]
    #[case::off(LinkError::SwitchedOff, false)]
    #[case::no_such_path(LinkError::Answered(404), true)]
    #[case::too_many(LinkError::Answered(429), false)]
    #[case::no_address(LinkError::BadRequest("“x” is no address of an e-mail.".into()), true)]
    fn what_would_be_refused_again_is_given_up(#[case] error: LinkError, #[case] expected: bool) {
        assert_eq!(lasts(&error.into()), expected);
    }
}
