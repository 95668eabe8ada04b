//! Messages of calls: what they say, and when they are tried again.

use super::{Call, Called};
use crate::{
    notice::{Notice, Tries},
    time::{Nanos, to_local, to_text},
};
use serde::Serialize;
use serde_json::json;
use uuid::Uuid;

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
    pub tries: Tries,
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
    Notice { id, to: to.to_owned(), subject, text: lines.join("\n"), content, files: Vec::new() }
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
    use crate::time::SECOND;

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
}
