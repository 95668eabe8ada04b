//! What the broker’s log tells: who is connected, who subscribes to what, and what was refused and why.
//!
//! Pure: lines and times come in. A client id and a topic may hold anything, so a line is taken apart from its fixed ends; what it
//! makes of one can at worst be shown wrongly.

use super::files::OURSELVES;
use havrel_core::time::Nanos;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap, VecDeque};
use utoipa::ToSchema;

/// Refusals that are remembered; the oldest goes.
pub(super) const MOST_REFUSALS: usize = 500;
/// Subscriptions that are remembered of one client.
const MOST_SUBSCRIPTIONS: usize = 200;
/// Lines that tell of trouble and are remembered.
const MOST_TROUBLES: usize = 8;

/// Why something was refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
#[schema(as = BrokerRefusalKind)]
pub enum Why {
    /// The account or its password is not known.
    Login,
    /// The account may not publish on the topic.
    Publish,
    /// No right of the account covers what it subscribes to.
    Receive,
    TooLarge,
    /// There are as many clients as are allowed.
    Full,
    /// Another client came with the same client id.
    SameClient,
    /// Messages wait for the client, and no more are kept.
    Queue,
    /// What came was no MQTT.
    Protocol,
    /// The secured connection failed.
    Secured,
}

/// Something that was refused, once or often.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Refusal {
    pub why: Why,
    /// Empty where the log does not tell it.
    pub client: String,
    pub account: String,
    /// The address it came from.
    pub from: String,
    /// The topic or filter.
    pub topic: String,
    pub count: u64,
    pub first: Nanos,
    pub last: Nanos,
}

/// A client that is connected.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Client {
    pub account: String,
    /// Address and port.
    pub from: String,
    pub since: Nanos,
    pub version: &'static str,
    pub keep_alive_s: u32,
    /// The broker forgets it when it goes.
    pub clean: bool,
    /// Its filters, each with its quality of service.
    pub subscriptions: Vec<(String, u8)>,
    /// Filters beyond those.
    pub more_subscriptions: u64,
}

/// What is known from the log at a moment.
#[derive(Debug, Default)]
pub struct Seen {
    pub clients: Vec<(String, Client)>,
    /// Clients beyond those.
    pub more: u64,
    /// How many clients are connected with each account that has any.
    pub by_account: BTreeMap<String, u64>,
    /// The latest first.
    pub refusals: Vec<Refusal>,
}

/// What is known from the log.
#[derive(Debug, Default)]
pub struct Book {
    /// By client id.
    clients: HashMap<String, Client>,
    refusals: HashMap<(Why, String, String, String), Refusal>,
    /// The order in which refusals came first.
    order: VecDeque<(Why, String, String, String)>,
    /// Lines that were read, of all kinds.
    pub lines: u64,
    troubles: VecDeque<String>,
    /// The line before told of TLS; what follows is a client that is left because of it.
    unsecured: bool,
}

impl Book {
    /// Takes in a line.
    pub fn line(&mut self, line: &str, at: Nanos) {
        self.lines += 1;
        // The usual ones first: they come with each message.
        if line.starts_with("Received ") || line.starts_with("Sending PUB") || line.starts_with('\t') {
            return;
        }
        if let Some(rest) = line.strip_prefix("Denied PUBLISH from ") {
            return self.denied(rest, at);
        }
        if let Some(rest) = line.strip_prefix("Sending CONNACK to ") {
            return self.answered(rest, at);
        }
        if let Some(rest) = line.strip_prefix("New client connected from ") {
            return self.connected(rest, at);
        }
        if let Some(client) = within(line, "Outgoing messages are being dropped for client ", ".") {
            return self.refuse(Why::Queue, client, "", "", at);
        }
        if let Some(rest) = line.strip_prefix("Client connection from ") {
            let Some((from, words)) = rest.split_once(' ') else { return };
            let why = if words.starts_with("denied") { Why::Full } else { Why::Secured };
            return self.refuse(why, "", from, "", at);
        }
        if let Some(rest) = line.strip_prefix("Client ") {
            self.left(rest, at);
            self.unsecured = false;
            return;
        }
        if let Some(rest) = line.strip_prefix("Bad socket read/write on client ") {
            self.gone(rest.rsplit_once(": ").map_or(rest, |(client, _)| client));
            return;
        }
        if line.starts_with("OpenSSL Error") {
            self.unsecured = true;
            return;
        }
        if line.contains("Error") {
            if self.troubles.len() == MOST_TROUBLES {
                self.troubles.pop_front();
            }
            self.troubles.push_back(line.trim_start_matches("Error: ").trim().to_owned());
            return;
        }
        self.subscribed(line);
    }

    /// The lines that told of trouble last, and forgets them.
    pub fn troubles(&mut self) -> Vec<String> {
        self.troubles.drain(..).collect()
    }

    /// What was refused, the latest first.
    pub fn refusals(&self) -> Vec<Refusal> {
        let mut all: Vec<Refusal> = self.refusals.values().cloned().collect();
        all.sort_by(|a, b| (b.last, &b.client, &b.topic).cmp(&(a.last, &a.client, &a.topic)));
        all
    }

    /// What it holds now, with so many clients at most, by account and id.
    pub fn seen(&self, most: usize) -> Seen {
        let mut clients: Vec<(&String, &Client)> =
            self.clients.iter().filter(|(_, client)| client.account != OURSELVES).collect();
        clients.sort_by_key(|(id, client)| (&client.account, *id));
        let mut by_account: BTreeMap<String, u64> = BTreeMap::new();
        clients.iter().for_each(|(_, client)| *by_account.entry(client.account.clone()).or_default() += 1);
        let more = clients.len().saturating_sub(most) as u64;
        let clients = clients.into_iter().take(most).map(|(id, client)| (id.clone(), client.clone())).collect();
        Seen { clients, more, by_account, refusals: self.refusals() }
    }

    /// The broker runs anew: nobody is connected.
    pub fn begin(&mut self) {
        self.clients.clear();
        self.troubles.clear();
    }

    /// `ID (d0, q1, r0, m7, 'topic', ... (5 bytes))`
    fn denied(&mut self, rest: &str, at: Nanos) {
        let Some((client, told)) = rest.split_once(" (d") else { return };
        let topic = told.split_once(", '").and_then(|(_, rest)| rest.rsplit_once("', ... (")).map_or("", |(topic, _)| topic);
        self.refuse(Why::Publish, client, "", topic, at);
    }

    /// `ADDRESS (0, 5)`: what a client is told that wants to connect.
    fn answered(&mut self, rest: &str, at: Nanos) {
        let Some((from, told)) = rest.rsplit_once(" (") else { return };
        // MQTT 3.1.1, 3.2.2.3 and MQTT 5.0, 3.2.2.2: bad user name or password, not authorized.
        if told.ends_with(", 4)") || told.ends_with(", 5)") || told.ends_with(", 134)") || told.ends_with(", 135)") {
            self.refuse(Why::Login, "", from, "", at);
        }
    }

    /// `ADDRESS:PORT as ID (p2, c1, k60, u'ACCOUNT').`
    fn connected(&mut self, rest: &str, at: Nanos) {
        let Some((from, rest)) = rest.split_once(" as ") else { return };
        let Some((id, told)) = rest.rsplit_once(" (p") else { return };
        let mut fields = told.trim_end_matches('.').trim_end_matches(')').split(", ");
        let version = match fields.next() {
            Some("5") => "5",
            Some("1") => "3.1",
            _ => "3.1.1",
        };
        let clean = fields.next() == Some("c1");
        let keep_alive_s = fields.next().and_then(|f| f.strip_prefix('k')).and_then(|k| k.parse().ok()).unwrap_or(0);
        let account = fields.next().and_then(|f| f.strip_prefix("u'")).and_then(|u| u.strip_suffix('\'')).unwrap_or_default();
        let client = Client {
            account: account.to_owned(),
            from: from.to_owned(),
            since: at,
            version,
            keep_alive_s,
            clean,
            ..Client::default()
        };
        let before = self.clients.insert(id.to_owned(), client);
        // The broker keeps the subscriptions of a session that goes on.
        if let (Some(before), false) = (before, clean)
            && let Some(client) = self.clients.get_mut(id)
        {
            (client.subscriptions, client.more_subscriptions) = (before.subscriptions, before.more_subscriptions);
        }
    }

    /// `ID closed its connection.`, `ID disconnected due to oversize packet.` and the like.
    fn left(&mut self, rest: &str, at: Nanos) {
        const ENDS: [&str; 5] = [
            " closed its connection.",
            " has exceeded timeout, disconnecting.",
            " already connected, closing old connection.",
            " been disconnected by administrative action.",
            " connected with too large Will payload",
        ];
        let ended = ENDS.iter().find_map(|end| Some((rest.strip_suffix(end)?, *end)));
        let Some((client, words)) = ended.or_else(|| rest.rfind(" disconnected").map(|at| rest.split_at(at))) else { return };
        let from = self.clients.get(client).map(|c| c.from.clone()).unwrap_or_default();
        let id = if client == "<unknown>" { "" } else { client };
        if words.contains("already connected") {
            self.refuse(Why::SameClient, id, &from, "", at);
        } else if words.contains("oversize") || words.contains("too large") {
            self.refuse(Why::TooLarge, id, &from, "", at);
        } else if client == "<unknown>" && self.unsecured {
            self.refuse(Why::Secured, id, &from, "", at);
        } else if words.contains("malformed") || words.contains("protocol error") || words.contains("Protocol error") {
            self.refuse(Why::Protocol, id, &from, "", at);
        }
        self.gone(client);
    }

    fn gone(&mut self, client: &str) {
        self.clients.remove(client);
    }

    /// `ID 1 filter`, and `ID filter` of one who no longer subscribes.
    fn subscribed(&mut self, line: &str) {
        // The longest id that fits: an id may hold spaces.
        let ends: Vec<usize> = line.match_indices(' ').map(|(at, _)| at).collect();
        let Some((client, rest)) = ends.into_iter().rev().find_map(|at| {
            let (id, rest) = line.split_at(at);
            self.clients.contains_key(id).then(|| (id, &rest[1..]))
        }) else {
            return;
        };
        let (client, rest) = (client.to_owned(), rest.to_owned());
        let Some(known) = self.clients.get_mut(&client) else { return };
        let level = rest.split_once(' ').and_then(|(level, filter)| Some((level.parse::<u8>().ok()?, filter)));
        match level {
            Some((level, filter)) if level <= 2 && !filter.is_empty() => {
                known.subscriptions.retain(|(one, _)| one != filter);
                if known.subscriptions.len() < MOST_SUBSCRIPTIONS {
                    known.subscriptions.push((filter.to_owned(), level));
                } else {
                    known.more_subscriptions += 1;
                }
            }
            _ => known.subscriptions.retain(|(one, _)| *one != rest),
        }
    }

    fn refuse(&mut self, why: Why, client: &str, from: &str, topic: &str, at: Nanos) {
        let known = self.clients.get(client);
        let account = known.map(|c| c.account.clone()).unwrap_or_default();
        if account == OURSELVES {
            return;
        }
        let from = if from.is_empty() { known.map_or("", |c| c.from.as_str()) } else { from };
        // The port of the other side is another one each time.
        let host = if matches!(why, Why::Login | Why::Full | Why::Secured) { bare(from) } else { from }.to_owned();
        let key = (why, if client.is_empty() { host.clone() } else { client.to_owned() }, account.clone(), topic.to_owned());
        if let Some(refusal) = self.refusals.get_mut(&key) {
            refusal.count += 1;
            (refusal.last, refusal.from) = (at, host);
            return;
        }
        if self.order.len() == MOST_REFUSALS
            && let Some(oldest) = self.order.pop_front()
        {
            self.refusals.remove(&oldest);
        }
        self.order.push_back(key.clone());
        let (client, topic) = (client.to_owned(), topic.to_owned());
        self.refusals.insert(key, Refusal { why, client, account, from: host, topic, count: 1, first: at, last: at });
    }
}

/// What stands between two fixed ends of a line.
fn within<'a>(line: &'a str, before: &str, after: &str) -> Option<&'a str> {
    line.strip_prefix(before)?.strip_suffix(after)
}

/// An address without the port behind it.
fn bare(from: &str) -> &str {
    match from.rsplit_once(':') {
        Some((host, port)) if !host.contains(':') && port.bytes().all(|b| b.is_ascii_digit()) => host,
        _ => from,
    }
}

/// Whether each message is told in the log: not while there are so many that this would cost much.
#[derive(Debug)]
pub struct Watch {
    pub on: bool,
    /// Seconds in a row that say otherwise.
    otherwise: u8,
}

impl Watch {
    /// Lines a second beyond which messages are no longer told, and messages a second below which they are told again.
    const TOO_MANY: u64 = 10_000;
    const FEW: f64 = 3_000.0;
    const SECONDS: u8 = 5;

    pub fn new() -> Watch {
        Watch { on: true, otherwise: 0 }
    }

    /// After each second, with the lines that came in it and the messages a second. Whether it changed.
    pub fn second(&mut self, lines: u64, messages: f64) -> bool {
        let wanted = if self.on { lines <= Self::TOO_MANY } else { messages < Self::FEW };
        self.otherwise = if wanted == self.on { 0 } else { self.otherwise + 1 };
        let change = self.otherwise >= Self::SECONDS;
        if change {
            (self.on, self.otherwise) = (wanted, 0);
        }
        change
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn book(lines: &[&str]) -> Book {
        let mut book = Book::default();
        lines.iter().enumerate().for_each(|(i, line)| book.line(line, i as Nanos));
        book
    }

    const METER: &str = "New client connected from 10.0.4.7:59768 as the meter (p5, c1, k60, u'meter-1').";

    #[test]
    fn clients_come_subscribe_and_go() {
        let mut book = book(&[
            "New connection from 10.0.4.7:59768 on port 1883.",
            METER,
            "No will message specified.",
            "the meter 1 site/set/#",
            "the meter 0 site/other",
            "the meter site/other",
            "New client connected from ::1:5 as a (p2, c1, k60) as x (p2, c0, k5, u'host').",
        ]);
        let meter = &book.clients["the meter"];
        assert_eq!((meter.account.as_str(), meter.from.as_str(), meter.since), ("meter-1", "10.0.4.7:59768", 1));
        assert_eq!((meter.version, meter.keep_alive_s, meter.clean), ("5", 60, true));
        assert_eq!(meter.subscriptions, [("site/set/#".to_owned(), 1)]);
        let odd = &book.clients["a (p2, c1, k60) as x"];
        assert_eq!((odd.account.as_str(), odd.version, odd.clean, odd.keep_alive_s), ("host", "3.1.1", false, 5));
        book.line("Client the meter closed its connection.", 9);
        assert_eq!(book.clients.len(), 1);
        book.line("Client a (p2, c1, k60) as x disconnected.", 9);
        assert!(book.clients.is_empty() && book.refusals().is_empty());
    }

    #[rstest]
    #[case(
        "Denied PUBLISH from the meter (d0, q1, r0, m7, 'pl'an)t, (d x', ... (2 bytes))",
        Why::Publish,
        "the meter",
        "pl'an)t, (d x"
    )]
    #[case("Client the meter already connected, closing old connection.", Why::SameClient, "the meter", "")]
    #[case("Client the meter disconnected due to oversize packet.", Why::TooLarge, "the meter", "")]
    #[case("Client the meter disconnected due to malformed packet.", Why::Protocol, "the meter", "")]
    #[case("Outgoing messages are being dropped for client the meter.", Why::Queue, "the meter", "")]
    fn what_is_refused_is_told_with_its_client(#[case] line: &str, #[case] why: Why, #[case] client: &str, #[case] topic: &str) {
        let book = book(&[METER, line]);
        let [one] = &book.refusals()[..] else { panic!("{:?}", book.refusals()) };
        assert_eq!((one.why, one.client.as_str(), one.topic.as_str()), (why, client, topic));
        assert_eq!((one.account.as_str(), one.from.as_str(), one.count), ("meter-1", "10.0.4.7:59768", 1));
    }

    #[rstest]
    #[case("Sending CONNACK to 10.0.4.7 (0, 5)", Some(Why::Login))]
    #[case("Sending CONNACK to 10.0.4.7 (0, 135)", Some(Why::Login))]
    #[case("Sending CONNACK to the meter (0, 0)", None)]
    #[case("Client connection from 10.0.4.7 denied access by tcpd.", Some(Why::Full))]
    #[case(
        "Client connection from 10.0.4.7 failed: error:0A000416:SSL routines::sslv3 alert certificate unknown.",
        Some(Why::Secured)
    )]
    #[case("Client <unknown> disconnected due to protocol error.", Some(Why::Protocol))]
    #[case("Client <unknown> disconnected, not authorised.", None)]
    #[case("Received PUBLISH from the meter (d0, q0, r0, m0, 'site/a', ... (1 bytes))", None)]
    #[case("Client <unknown> closed its connection.", None)]
    fn what_is_refused_to_somebody_unknown(#[case] line: &str, #[case] why: Option<Why>) {
        let book = book(&[METER, line, line]);
        let all = book.refusals();
        assert_eq!(all.first().map(|one| one.why), why);
        if let Some(one) = all.first() {
            assert_eq!((one.client.as_str(), one.count, one.first, one.last), ("", 2, 1, 2));
            assert_eq!(one.from, if one.why == Why::Protocol { "" } else { "10.0.4.7" });
        }
    }

    #[test]
    fn refusals_are_counted_by_topic_and_the_oldest_go() {
        let mut book = book(&[METER]);
        for at in 0..2 * MOST_REFUSALS {
            book.line(&format!("Denied PUBLISH from the meter (d0, q0, r0, m0, 'a/{}', ... (2 bytes))", at / 2), at as Nanos);
        }
        assert!(book.refusals().iter().all(|one| one.count == 2));
        book.line("Denied PUBLISH from the meter (d0, q0, r0, m0, 'b', ... (2 bytes))", 5000);
        let all = book.refusals();
        assert_eq!((all.len(), all[0].topic.as_str(), all[all.len() - 1].topic.as_str()), (MOST_REFUSALS, "b", "a/1"));
    }

    #[test]
    fn a_session_that_goes_on_keeps_its_subscriptions() {
        let on = METER.replace("c1", "c0");
        let book = book(&[METER, "the meter 2 a/#", &on]);
        assert_eq!(book.clients["the meter"].subscriptions, [("a/#".to_owned(), 2)]);
    }

    #[test]
    fn trouble_is_told_once_and_what_we_do_ourselves_is_no_refusal() {
        let mut book = book(&["Error: Address already in use", "OpenSSL Error[0]: x", "warning"]);
        assert_eq!(book.troubles(), ["Address already in use"]);
        assert!(book.troubles().is_empty());
        // What failed on the way to TLS is no other program.
        book.line("Client <unknown> disconnected: Protocol error.", 1);
        book.line("Client <unknown> disconnected due to protocol error.", 2);
        let told: Vec<Why> = book.refusals().iter().map(|one| one.why).collect();
        assert_eq!(told, [Why::Protocol, Why::Secured]);
        book.line("New client connected from 127.0.0.1:1 as havrel-1 (p5, c1, k30, u'$havrel').", 1);
        book.line("Client havrel-1 disconnected due to oversize packet.", 2);
        assert!(book.refusals().len() == 2 && book.clients.is_empty());
    }

    #[test]
    fn many_messages_are_no_longer_told_and_few_are_told_again() {
        let mut watch = Watch::new();
        let mut changed = |lines, messages| (0..6).map(|_| watch.second(lines, messages)).collect::<Vec<_>>();
        assert_eq!(changed(200, 100.0), [false; 6]);
        assert_eq!(changed(20_000, 9_000.0), [false, false, false, false, true, false]);
        assert_eq!(changed(0, 3_500.0), [false; 6]);
        assert_eq!(changed(0, 10.0), [false, false, false, false, true, false]);
    }

    proptest! {
        /// Whatever a client calls itself and its topics, nothing panics, and memory stays bounded.
        #[test]
        fn lines_of_any_kind_are_taken(id in "[ a-z'(),.]{0,20}", topic in "[ a-z'(),.]{0,20}", cut in 0usize..80) {
            let all = [
                format!("New client connected from 1.2.3.4:5 as {id} (p2, c1, k60, u'{topic}')."),
                format!("{id} 1 {topic}"),
                format!("Denied PUBLISH from {id} (d0, q0, r0, m0, '{topic}', ... (2 bytes))"),
                format!("Client {id} disconnected due to oversize packet."),
                format!("Sending CONNACK to {id} (0, 5)"),
                format!("{id} {topic}"),
            ];
            let mut book = Book::default();
            for line in &all {
                book.line(line, 1);
                book.line(&line.chars().take(cut).collect::<String>(), 2);
            }
            prop_assert!(book.refusals().len() <= 2 * all.len());
        }
    }
}
