//! How a broker of our own fares, for whoever looks: where devices reach it, who is connected, what was refused.

use super::{
    book::{Client, MOST_REFUSALS, Refusal, Seen, Why},
    child::{Home, addresses, host_name, told},
    settings::{Reach, Received, Settings},
};
use crate::certificate::shown;
use havrel_core::time::{Nanos, SECOND};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Topics on which the broker may tell of itself.
const MOST_TOPICS: usize = 1000;
/// Clients that are told in full.
pub(super) const MOST_CLIENTS: usize = 1000;
/// What the broker tells of itself.
pub(super) const OF_ITSELF: &str = "$SYS/#";
/// Figures of it that are followed.
const FIGURES: [&str; 6] = [
    "$SYS/broker/publish/messages/received",
    "$SYS/broker/publish/messages/sent",
    "$SYS/broker/publish/bytes/received",
    "$SYS/broker/publish/bytes/sent",
    "$SYS/broker/publish/messages/dropped",
    "$SYS/broker/retained messages/count",
];

/// How a broker of our own fares.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Served {
    pub addresses: Vec<Address>,
    /// PEM; empty where no port is secured.
    pub certificate: String,
    /// SHA-256 of it, and when it ends.
    pub fingerprint: String,
    pub certificate_until: Nanos,
    pub clients: Vec<ServedClient>,
    /// Clients beyond those.
    pub more_clients: u64,
    /// How many clients are connected with each account.
    pub by_account: BTreeMap<String, u64>,
    pub refusals: Vec<Refusal>,
    pub figures: Figures,
    /// Whether messages that are refused are told at present.
    pub watched: bool,
}

/// Where a device reaches it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Address {
    pub host: String,
    pub port: u16,
    pub secured: bool,
    pub websocket: bool,
}

/// A client that is connected.
#[derive(Clone, Debug, PartialEq)]
pub struct ServedClient {
    pub id: String,
    pub client: Client,
    /// What it receives of each of its subscriptions.
    pub receives: Vec<Received>,
}

/// Rates and counts of the whole broker.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Figures {
    /// Messages and bytes a second, in and out.
    pub messages_in: f64,
    pub messages_out: f64,
    pub bytes_in: f64,
    pub bytes_out: f64,
    /// Messages that waited for a client and were dropped, since the broker started.
    pub dropped: u64,
    /// Topics with a retained message.
    pub retained: u64,
}

/// What the broker tells of itself, in its own rhythm.
#[derive(Debug, Default)]
pub(super) struct Counts {
    /// By topic: when it told the last two values.
    told: HashMap<String, [Option<(Nanos, u64)>; 2]>,
    /// Topics on which it tells of itself, which it counts among the retained ones.
    topics: HashSet<String>,
    /// Messages and bytes that it sent to us, which it counts as well.
    ours: (u64, u64),
}

impl Counts {
    /// Takes in a figure.
    pub fn hear(&mut self, topic: &str, payload: &[u8], at: Nanos) {
        self.ours.0 += 1;
        self.ours.1 += payload.len() as u64;
        if !self.topics.contains(topic) && self.topics.len() < MOST_TOPICS {
            self.topics.insert(topic.to_owned());
        }
        let Some(which) = FIGURES.iter().position(|figure| *figure == topic) else { return };
        let Some(count) = std::str::from_utf8(payload).ok().and_then(|text| text.trim().parse::<u64>().ok()) else { return };
        let count = match which {
            1 => count.saturating_sub(self.ours.0),
            3 => count.saturating_sub(self.ours.1),
            _ => count,
        };
        let told = self.told.entry(topic.to_owned()).or_default();
        *told = [told[1], Some((at, count))];
    }

    fn last(&self, topic: &str) -> u64 {
        self.told.get(topic).and_then(|told| told[1]).map_or(0, |(_, count)| count)
    }

    /// What counts up, a second; 0 once it has not changed for some seconds.
    fn rate(&self, topic: &str, at: Nanos) -> f64 {
        match self.told.get(topic) {
            Some([Some((from, before)), Some((to, after))]) if to > from && at - to < 5 * SECOND => {
                after.saturating_sub(*before) as f64 * SECOND as f64 / (to - from) as f64
            }
            _ => 0.0,
        }
    }

    pub fn figures(&self, at: Nanos) -> Figures {
        let [messages_in, messages_out, bytes_in, bytes_out, dropped, retained] = FIGURES;
        Figures {
            messages_in: self.rate(messages_in, at),
            messages_out: self.rate(messages_out, at),
            bytes_in: self.rate(bytes_in, at),
            bytes_out: self.rate(bytes_out, at),
            dropped: self.last(dropped),
            retained: self.last(retained).saturating_sub(self.topics.len() as u64),
        }
    }
}

/// Where devices reach a broker: by which names and ports.
pub(super) fn reached(settings: &Settings) -> Vec<Address> {
    let hosts: Vec<String> = match settings.reach {
        Reach::Machine => vec!["127.0.0.1".into()],
        Reach::Address => vec![settings.address.trim().to_owned()],
        Reach::Networks => {
            let found = addresses().iter().map(ToString::to_string).collect::<Vec<_>>();
            settings.names().map(str::to_owned).chain([host_name()]).chain(found).collect()
        }
    };
    let mut all = Vec::new();
    for host in hosts.iter().filter(|host| !host.is_empty()) {
        all.extend(settings.listeners().iter().map(|listener| Address {
            host: host.clone(),
            port: listener.port,
            secured: listener.secured,
            websocket: listener.websocket,
        }));
    }
    let mut known = HashSet::new();
    all.retain(|one| known.insert((one.host.clone(), one.port)));
    all
}

/// What was seen, with the rights that its clients have now.
pub(super) fn served(settings: &Settings, home: &Home, seen: Seen, figures: Figures, watched: bool) -> Served {
    // What lies there may be something else: the folder is the broker's own.
    let shown_now = home.certificate(settings).filter(|_| settings.secured());
    let (certificate, about) = shown_now.and_then(|pem| told(&pem).map(|told| (pem, told))).unzip();
    let mut served = Served {
        addresses: reached(settings),
        fingerprint: about.as_ref().map(|told| shown(&told.fingerprint)).unwrap_or_default(),
        certificate_until: about.map_or(0, |told| told.until),
        certificate: certificate.unwrap_or_default(),
        more_clients: seen.more,
        by_account: seen.by_account,
        refusals: seen.refusals,
        figures,
        watched,
        ..Served::default()
    };
    let accounts: HashMap<&str, _> = settings.accounts.iter().map(|account| (account.name.as_str(), account)).collect();
    for (id, client) in seen.clients {
        // One whose account was removed a moment ago is being disconnected.
        let Some(account) = accounts.get(client.account.as_str()) else { continue };
        let receives = account.receives(client.subscriptions.iter().map(|(filter, _)| filter.as_str()));
        for ((filter, _), _) in client.subscriptions.iter().zip(&receives).filter(|(_, received)| **received == Received::Nothing)
        {
            served.refusals.push(Refusal {
                why: Why::Receive,
                client: id.clone(),
                account: client.account.clone(),
                from: client.from.clone(),
                topic: filter.clone(),
                count: 1,
                first: client.since,
                last: client.since,
            });
        }
        served.clients.push(ServedClient { id, client, receives });
    }
    served.refusals.sort_by_key(|refusal| std::cmp::Reverse(refusal.last));
    served.refusals.truncate(MOST_REFUSALS);
    served
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rates_are_between_what_is_told_and_end_when_nothing_more_comes() {
        let mut counts = Counts::default();
        let [came, sent, ..] = FIGURES;
        counts.hear(came, b"100", 0);
        counts.hear(sent, b"7", 0);
        assert_eq!(counts.figures(SECOND).messages_in, 0.0);
        counts.hear(came, b"300", 2 * SECOND);
        // Two of these told figures to us.
        counts.hear(sent, b"29", 2 * SECOND);
        counts.hear(FIGURES[5], b"12", 2 * SECOND);
        counts.hear(FIGURES[4], b"not a number", 2 * SECOND);
        let figures = counts.figures(2 * SECOND);
        assert_eq!((figures.messages_in, figures.messages_out), (100.0, 10.0));
        assert_eq!((figures.retained, figures.dropped), (8, 0), "four topics are its own");
        assert_eq!(counts.figures(8 * SECOND).messages_in, 0.0, "nothing more came");
    }

    #[test]
    fn devices_reach_it_by_names_and_addresses_only_where_it_is_opened() {
        let settings = |own: serde_json::Value| Settings::parse(own.as_object().unwrap()).unwrap();
        let local = reached(&settings(serde_json::json!({"names": "broker.plant"})));
        assert_eq!(local, [Address { host: "127.0.0.1".into(), port: 1883, secured: false, websocket: false }]);
        let open = reached(&settings(serde_json::json!({"reach": "networks", "transport": "both", "names": "broker.plant"})));
        assert_eq!((open[0].host.as_str(), open[0].port, open[1].port, open[1].secured), ("broker.plant", 1883, 8883, true));
        assert!(open.iter().any(|one| one.host == host_name()) && open.iter().all(|one| one.host != "127.0.0.1"));
    }
}
