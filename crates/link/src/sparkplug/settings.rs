//! A connection's settings and a tag's point, read and checked.

use crate::{
    LinkError,
    mqtt::settings::{Settings as Broker, Will},
    pointer::Pointer,
};
use havrel_core::{
    plant::{Own, resolve},
    time::{MILLI, Nanos},
};
use havrel_sparkplug::topic::{self, Name};
use serde::{Deserialize, de::DeserializeOwned};
use serde_json::json;

/// Settings of a broker that Sparkplug decides.
const DECIDED: &[&str] = &["will", "test_topic", "qos", "silent_s", "clean", "expiry_s"];
/// Largest message that is taken where nothing else is said, in bytes: one birth tells all metrics of a device, and a broker of
/// version 5 silently keeps to itself what is larger.
pub(super) const LARGEST: u32 = 16 << 20;
/// Longest that a message waits for those before it, in ms.
const MOST_REORDER_MS: u32 = 60_000;
const MOST_GROUPS: usize = 20;

/// What a connection says of itself as a host application.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct HostSettings {
    /// By what edge nodes know this host.
    pub host_id: String,
    /// Whether it tells them that it is there.
    pub state: bool,
    /// The groups that are heard, divided by commas; empty: all.
    pub groups: String,
    /// How long a message waits for those before it, in ms.
    pub reorder_ms: u32,
    /// The metric by which an edge node tells how full its buffer is; empty: none.
    pub buffer: String,
}

impl Default for HostSettings {
    fn default() -> HostSettings {
        HostSettings {
            host_id: "havrel".into(),
            state: true,
            groups: String::new(),
            reorder_ms: 1000,
            buffer: "Buffer/Level".into(),
        }
    }
}

/// What a connection says of itself as an edge node.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct NodeSettings {
    pub group: String,
    pub node: String,
    /// The host application without which everything waits; empty: none is waited for.
    pub primary_host: String,
}

/// What a connection says of itself, beside its broker.
pub trait OfKind: DeserializeOwned + Default {
    /// Its settings by their names.
    const KEYS: &'static [&'static str];

    /// What is wrong with it: field and sentence.
    fn check(&self) -> Vec<(String, String)>;
}

impl OfKind for HostSettings {
    const KEYS: &'static [&'static str] = &["host_id", "state", "groups", "reorder_ms", "buffer"];

    fn check(&self) -> Vec<(String, String)> {
        let mut wrong = Vec::new();
        if let Err(words) = Name::check(self.host_id.trim()) {
            wrong.push(("host_id".into(), words.into()));
        }
        if self.group_names().len() > MOST_GROUPS || self.group_names().iter().any(|group| Name::check(group).is_err()) {
            wrong.push(("groups".into(), "Enter names of groups, divided by commas, without /, + and #; at most 20.".into()));
        }
        if self.reorder_ms > MOST_REORDER_MS {
            wrong.push(("reorder_ms".into(), "Enter 0 to 60,000 ms.".into()));
        }
        wrong
    }
}

impl OfKind for NodeSettings {
    const KEYS: &'static [&'static str] = &["group", "node", "primary_host"];

    fn check(&self) -> Vec<(String, String)> {
        let host = self.primary_host.trim();
        let names = [("group", self.group.trim()), ("node", self.node.trim()), ("primary_host", host)];
        let asked = names.into_iter().filter(|(field, name)| *field != "primary_host" || !name.is_empty());
        asked.filter_map(|(field, name)| Some((field.to_owned(), Name::check(name).err()?.to_owned()))).collect()
    }
}

/// A connection's settings.
#[derive(Clone, Debug, PartialEq)]
pub struct Settings<T = HostSettings> {
    pub broker: Broker,
    pub own: T,
}

impl<T: OfKind> Settings<T> {
    /// Reads a connection's settings.
    ///
    /// # Errors
    /// Every field that is wrong, with a sentence.
    pub fn parse(own: &Own) -> Result<Settings<T>, Vec<(String, String)>> {
        let (of_kind, broker): (Vec<_>, Vec<_>) = own.clone().into_iter().partition(|(key, _)| T::KEYS.contains(&key.as_str()));
        let mut broker: Own = broker.into_iter().collect();
        broker.entry("largest").or_insert(LARGEST.into());
        let mut wrong: Vec<(String, String)> = Vec::new();
        for key in DECIDED.iter().filter(|key| broker.contains_key(**key)) {
            wrong.push(((*key).to_owned(), "Sparkplug B decides this itself; leave it out.".to_owned()));
        }
        let parsed = Broker::parse(&broker);
        wrong.extend(parsed.as_ref().err().cloned().unwrap_or_default());
        let of_kind: Result<T, _> = resolve(None, &of_kind.into_iter().collect());
        match (parsed, of_kind) {
            (_, Err(one)) => {
                wrong.push(one);
                Err(wrong)
            }
            (parsed, Ok(own)) => {
                wrong.extend(own.check());
                match parsed {
                    Ok(broker) if wrong.is_empty() => Ok(Settings { broker, own }),
                    _ => Err(wrong),
                }
            }
        }
    }

    /// The settings with which a connection can be made at all.
    pub(super) fn usable(own: &Own) -> Result<Settings<T>, LinkError> {
        Settings::parse(own).map_err(|wrong| LinkError::BadRequest(wrong[0].1.clone()))
    }

    /// The broker's settings for a session that begins now, with a last will: each is a new one.
    pub(super) fn broker_of(&self, will: Option<Will>) -> Broker {
        Broker { clean: true, qos: 1, will: will.unwrap_or_default(), ..self.broker.clone() }
    }

    /// Every address of the broker, as people write it.
    pub(super) fn addresses(&self) -> Vec<String> {
        self.broker.paths().iter().map(|path| self.broker.show(path)).collect()
    }
}

impl Settings {
    /// The broker's settings for a session as a host: the word that this host is gone is its last will.
    pub(super) fn session(&self, at: Nanos) -> Broker {
        let topic = self.own.state_topic();
        self.broker_of(self.own.state.then(|| Will { topic, message: state(false, at), qos: 1, retain: true, bytes: None }))
    }
}

impl NodeSettings {
    /// The edge node.
    pub(super) fn name(&self) -> Name {
        Name::new(self.group.trim(), self.node.trim(), "")
    }
}

impl HostSettings {
    fn group_names(&self) -> Vec<&str> {
        self.groups.split(',').map(str::trim).filter(|group| !group.is_empty()).collect()
    }

    /// The topics that are heard.
    pub(super) fn filters(&self) -> Vec<String> {
        let groups = self.group_names();
        let mut all: Vec<String> = match groups.is_empty() {
            true => vec![topic::all_of("")],
            false => std::iter::once(self.state_topic()).chain(groups.into_iter().map(topic::all_of)).collect(),
        };
        all.dedup();
        all
    }

    pub(super) fn state_topic(&self) -> String {
        topic::state(self.host_id.trim())
    }
}

/// What a host application tells of itself (Eclipse Sparkplug 3.0, 6.4.25), as of a time.
pub(super) fn state(online: bool, at: Nanos) -> String {
    json!({"online": online, "timestamp": at / MILLI}).to_string()
}

/// Where a tag is read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Point {
    pub name: Name,
    pub metric: String,
    /// Which part of its value.
    pub part: Pointer,
}

#[derive(Clone, Debug, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Text {
    group: String,
    node: String,
    device: String,
    metric: String,
    member: String,
}

impl Point {
    /// Reads a point's fields.
    ///
    /// # Errors
    /// The field and a sentence.
    pub fn parse(own: &Own) -> Result<Point, (String, String)> {
        let text: Text = resolve(None, own)?;
        let wrong = |field: &str, words: &str| (field.to_owned(), words.to_owned());
        let parts = [("group", &text.group), ("node", &text.node), ("device", &text.device)];
        for (field, part) in parts.into_iter().filter(|(field, part)| *field != "device" || !part.is_empty()) {
            Name::check(part).map_err(|words| wrong(field, words))?;
        }
        if text.metric.is_empty() || text.metric.len() > super::entity::LONGEST_NAME || text.metric.chars().any(char::is_control)
        {
            return Err(wrong("metric", "Enter the name of a metric, such as Inlet/pH, of at most 1,000 bytes."));
        }
        let part = Pointer::parse(&text.member).map_err(|words| wrong("member", words))?;
        Ok(Point { name: Name::new(&text.group, &text.node, &text.device), metric: text.metric, part })
    }

    /// In words.
    pub fn show(&self) -> String {
        let part = if self.part.is_whole() { String::new() } else { format!(", {}", self.part.show()) };
        format!("{}: {}{part}", self.name.show(), self.metric)
    }
}

/// The fields of a point that reads a part of a metric.
pub(super) fn point(name: &Name, metric: &str, part: &Pointer) -> Own {
    let mut own = Own::new();
    let mut put = |key: &str, text: &str| {
        if !text.is_empty() {
            own.insert(key.to_owned(), text.into());
        }
    };
    put("group", &name.group);
    put("node", &name.node);
    put("device", &name.device);
    put("metric", metric);
    put("member", &part.show());
    own
}
