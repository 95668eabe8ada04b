//! Messages of calls: what they say, and when they are tried again.

use super::{Call, Called, Notice};
use crate::time::{Nanos, SECOND, to_local, to_text};
use serde::Serialize;
use serde_json::json;
use uuid::Uuid;

/// The pause after a first failure; doubled with each further one, up to the longest.
const PAUSE: Nanos = 15 * SECOND;
const LONGEST_PAUSE: Nanos = 600 * SECOND;
/// So often a message is tried.
pub const MOST_ATTEMPTS: u32 = 20;
/// So many alarms a message names; the others it counts.
const MOST_NAMED: usize = 20;

/// A message to one person or program.
#[derive(Clone, Debug, PartialEq)]
pub struct Message {
    pub call: Uuid,
    pub made_at: Nanos,
    /// Who is told, in words.
    pub whom: String,
    /// Their account, where they have one.
    pub account: Option<Uuid>,
    /// The connection that carries it.
    pub carrier: Uuid,
    pub notice: Notice,
    pub attempts: u32,
    /// When it is tried next; `None`: never again.
    pub next_at: Option<Nanos>,
    pub sent_at: Option<Nanos>,
    /// What the server said last, or why it is not sent.
    pub answer: String,
}

impl Message {
    /// Whether it is to be sent now. One that would wait for longer than any pause waits for a clock that was set back.
    pub fn is_due(&self, now: Nanos) -> bool {
        self.next_at.is_some_and(|at| at <= now || at.saturating_sub(now) > LONGEST_PAUSE)
    }

    /// The server has it.
    pub fn sent(&mut self, now: Nanos, answer: &str) {
        self.attempts += 1;
        (self.next_at, self.sent_at) = (None, Some(now));
        answer.clone_into(&mut self.answer);
    }

    /// It could not be sent; `lasting`: it would be refused again. Whether it is given up.
    pub fn failed(&mut self, now: Nanos, answer: &str, lasting: bool) -> bool {
        self.attempts += 1;
        answer.clone_into(&mut self.answer);
        let pause = (PAUSE << (self.attempts - 1).min(10)).min(LONGEST_PAUSE);
        self.next_at = (!lasting && self.attempts < MOST_ATTEMPTS).then(|| now.saturating_add(pause));
        self.next_at.is_none()
    }

    /// Nobody needs it any more.
    pub fn drop_it(&mut self, why: &str) {
        self.next_at = None;
        self.answer = if self.answer.is_empty() { why.to_owned() } else { format!("{why} Before that: {}", self.answer) };
    }
}

/// An alarm as a message tells of it.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Told {
    pub rule: Uuid,
    /// Where it is: “Brackmere Works/Drying/Mill”.
    pub place: String,
    /// What the list says: “Vibration high, 7.4 mm/s over 7.1”.
    pub text: String,
    pub priority: u8,
    #[serde(serialize_with = "as_text")]
    pub raised_at: Nanos,
    pub cause: String,
    /// What to do.
    pub action: String,
}

fn as_text<S: serde::Serializer>(at: &Nanos, to: S) -> Result<S::Ok, S::Error> {
    to.serialize_str(&to_text(*at))
}

/// What a message is about.
#[derive(Clone, Copy, Debug)]
pub struct About<'a> {
    pub call: &'a Call,
    pub plan: &'a str,
    /// It tells of alarms that came since an earlier message.
    pub more: bool,
    /// Where the reader can take the call; empty where nobody can be reached that way.
    pub link: &'a str,
    /// By whose clocks, by the names of IANA.
    pub zone: &'a str,
}

/// The alarms of a call that wait, the most urgent and then the oldest first.
pub fn in_order(call: &Call) -> Vec<(Uuid, &Called)> {
    let mut all: Vec<_> = call.waiting().collect();
    all.sort_by_key(|(rule, alarm)| (std::cmp::Reverse(alarm.priority), alarm.raised_at, *rule));
    all
}

/// Writes a message. `told` are its alarms in order, as many of them as are named.
pub fn write(id: Uuid, to: &str, about: &About<'_>, told: &[Told]) -> Notice {
    let About { call, plan, more, link, zone } = *about;
    let count = call.waiting().count();
    let named = &told[..told.len().min(MOST_NAMED)];
    let first = named.first().map_or_else(String::new, |alarm| format!("{} {}", last_of(&alarm.place), alarm.text));
    let test = if call.test { "TEST: " } else { "" };
    let others = if count > 1 { format!(" and {} more", count - 1) } else { String::new() };
    let begins = if more { "Further alarms: " } else { "" };
    let subject: String =
        format!("{test}{begins}{}{others}", first.trim()).chars().filter(|c| !c.is_control()).take(200).collect();
    let mut lines = Vec::new();
    if call.test {
        lines.push("This is a test of the call-out. Nothing is wrong at the plant.\n".to_owned());
    }
    for alarm in named {
        lines.push(format!("Priority {}: {}", alarm.priority, alarm.text));
        lines.push(format!("  at {}, since {}", alarm.place, to_local(alarm.raised_at, zone)));
        let more = [("Cause", &alarm.cause), ("What to do", &alarm.action)];
        lines.extend(more.iter().filter(|(_, text)| !text.is_empty()).map(|(name, text)| format!("  {name}: {text}")));
        lines.push(String::new());
    }
    if count > named.len() {
        lines.push(format!("… and {} more.\n", count - named.len()));
    }
    if !link.is_empty() {
        lines.push(format!("Look at it and take it:\n{link}\n"));
    }
    lines.push(format!("Call-out plan “{plan}” of Havrel."));
    let content = json!({
        "id": id, "call": call.id, "plan": plan, "test": call.test, "further": more,
        "priority": call.highest(), "count": count, "alarms": named, "link": link,
    });
    Notice { id, to: to.to_owned(), subject, text: lines.join("\n"), content }
}

fn last_of(path: &str) -> &str {
    path.rsplit('/').next().unwrap_or_default()
}

/// The alarms that a message of a call names.
pub fn named<'a>(call: &'a Call, of: impl Fn(Uuid, &'a Called) -> Told) -> Vec<Told> {
    in_order(call).into_iter().take(MOST_NAMED).map(|(rule, alarm)| of(rule, alarm)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn call(count: u128) -> Call {
        let called = |n: u128| Called {
            raised_at: 1_770_000_000 * SECOND,
            text: format!("Vibration {n} high, 7.4 mm/s over 7.1"),
            priority: if n == 1 { 4 } else { 3 },
            gone: false,
            told: false,
        };
        Call {
            alarms: (0..count).map(|n| (Uuid::from_u128(n), called(n))).collect(),
            ..Call::new(Uuid::from_u128(77), Uuid::from_u128(78), 0)
        }
    }

    fn written(call: &Call, more: bool) -> Notice {
        let told = named(call, |rule, alarm| Told {
            rule,
            place: "Works/Drying/Mill".into(),
            text: alarm.text.clone(),
            priority: alarm.priority,
            raised_at: alarm.raised_at,
            cause: String::new(),
            action: "Stop the feed.".into(),
        });
        let about = About { call, plan: "Night", more, link: "http://works.example/call/x", zone: "Europe/Oslo" };
        write(Uuid::from_u128(5), "shift@works.example", &about, &told)
    }

    #[test]
    fn a_message_names_what_is_wrong_where_since_when_and_what_to_do() {
        let notice = written(&call(1), false);
        assert_eq!(notice.subject, "Mill Vibration 0 high, 7.4 mm/s over 7.1");
        assert!(notice.text.contains("at Works/Drying/Mill, since 2026-02-02 03:40:00 CET"), "{}", notice.text);
        assert!(notice.text.contains("What to do: Stop the feed.") && !notice.text.contains("Cause"));
        assert!(notice.text.contains("http://works.example/call/x"));
        assert_eq!(notice.content["alarms"][0]["raised_at"], "2026-02-02T02:40:00Z");
    }

    #[test]
    fn many_are_counted_and_the_most_urgent_comes_first() {
        let notice = written(&call(45), true);
        assert_eq!(notice.subject, "Further alarms: Mill Vibration 1 high, 7.4 mm/s over 7.1 and 44 more");
        assert!(notice.text.contains("… and 25 more."));
        assert_eq!(notice.content["alarms"].as_array().map(Vec::len), Some(MOST_NAMED));
        assert_eq!((&notice.content["count"], &notice.content["priority"]), (&json!(45), &json!(4)));
    }

    #[test]
    fn a_test_says_so_first() {
        let notice = written(&Call { test: true, ..call(1) }, false);
        assert!(notice.subject.starts_with("TEST: ") && notice.text.starts_with("This is a test"));
    }

    #[test]
    fn a_text_cannot_end_the_subject() {
        let mut odd = call(1);
        odd.alarms.values_mut().for_each(|alarm| alarm.text = "High\r\nBcc: all@works.example".into());
        assert!(!written(&odd, false).subject.contains(['\r', '\n']));
    }

    #[test]
    fn a_message_is_tried_again_with_growing_pauses_and_not_for_ever() {
        let mut message = Message {
            call: Uuid::nil(),
            made_at: 0,
            whom: String::new(),
            account: None,
            carrier: Uuid::nil(),
            notice: written(&call(1), false),
            attempts: 0,
            next_at: Some(0),
            sent_at: None,
            answer: String::new(),
        };
        let mut pauses = Vec::new();
        let mut now = 0;
        while !message.failed(now, "No answer.", false) {
            pauses.push((message.next_at.unwrap() - now) / SECOND);
            now = message.next_at.unwrap();
        }
        assert_eq!((pauses.len(), &pauses[..7]), (MOST_ATTEMPTS as usize - 1, &[15, 30, 60, 120, 240, 480, 600][..]));
        let waits = Message { next_at: Some(LONGEST_PAUSE), ..message.clone() };
        assert!(!waits.is_due(0) && waits.is_due(LONGEST_PAUSE) && waits.is_due(-60 * SECOND), "the clock was set back");
        let mut refused = Message { attempts: 0, next_at: Some(0), ..message.clone() };
        assert!(refused.failed(0, "550 nobody of this name", true) && refused.next_at.is_none());
        let mut late = Message { attempts: 2, next_at: Some(9), ..message };
        late.sent(9, "250 taken");
        assert_eq!((late.attempts, late.next_at, late.sent_at), (3, None, Some(9)));
    }
}
