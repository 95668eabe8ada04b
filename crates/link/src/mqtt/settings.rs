//! A connection's settings and a tag's point, read and checked.

pub use crate::net::Path;
use crate::{
    LinkError,
    net::check_paths,
    payload::{FIELDS, Taken},
    tls::Tls,
};
use havrel_core::plant::{Own, Secret, resolve};
use rumqttc::{valid_filter, valid_topic};
use serde::Deserialize;

/// Longest topic or filter, in bytes (MQTT 5.0, 1.5.4).
const MOST_TOPIC: usize = 65_535;
/// Largest message that may be allowed.
const MOST_MESSAGE: u32 = 256 << 20;

/// The version of the protocol.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
pub enum Version {
    #[default]
    #[serde(rename = "5")]
    Five,
    #[serde(rename = "3.1.1")]
    Three,
}

impl Version {
    pub const fn words(self) -> &'static str {
        match self {
            Version::Five => "MQTT 5",
            Version::Three => "MQTT 3.1.1",
        }
    }

    /// The other one, as settings store it.
    pub const fn other(self) -> (Version, &'static str) {
        match self {
            Version::Five => (Version::Three, "3.1.1"),
            Version::Three => (Version::Five, "5"),
        }
    }
}

/// What carries the messages.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Transport {
    #[default]
    Tcp,
    Tls,
    Websocket,
    WebsocketTls,
}

impl Transport {
    pub const fn secured(self) -> bool {
        matches!(self, Transport::Tls | Transport::WebsocketTls)
    }

    /// The usual port (IANA: mqtt, secure-mqtt; the ports of the web).
    pub const fn port(self) -> u16 {
        match self {
            Transport::Tcp => 1883,
            Transport::Tls => 8883,
            Transport::Websocket => 80,
            Transport::WebsocketTls => 443,
        }
    }
}

/// What the broker publishes for us when the connection breaks (MQTT 5.0, 3.1.2.5).
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Will {
    /// Empty: no will.
    pub topic: String,
    pub message: String,
    pub qos: u8,
    pub retain: bool,
    /// A payload that is no text and takes the place of the message; no setting.
    #[serde(skip)]
    pub bytes: Option<Vec<u8>>,
}

impl Will {
    pub fn payload(&self) -> &[u8] {
        self.bytes.as_deref().unwrap_or(self.message.as_bytes())
    }
}

/// A connection's settings.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Settings {
    pub host: String,
    pub port: Option<u16>,
    pub transport: Transport,
    /// Of a WebSocket: what stands behind the port.
    pub path: String,
    pub tls: Tls,
    /// The name for which the broker’s certificate was issued, where it is another one than the host.
    pub server_name: String,
    pub version: Version,
    pub user: String,
    pub password: Option<Secret>,
    /// Empty: another one each time, which a broker forgets at once.
    pub client_id: String,
    /// Whether the broker keeps nothing for us while the connection is lost.
    pub clean: bool,
    /// How long it does otherwise, in seconds; 3.1.1 has no limit.
    pub expiry_s: u32,
    pub keep_alive_s: u16,
    /// With which quality of service messages are subscribed, 0 to 2.
    pub qos: u8,
    /// Largest message that is taken, in bytes.
    pub largest: u32,
    /// After how many seconds without a message a tag is silent too long; 0 never. A tag may say otherwise.
    pub silent_s: u32,
    pub will: Will,
    /// A topic on which the test may publish; empty: none.
    pub test_topic: String,
    pub spare: Vec<Path>,
    /// Whether a spare address takes over by itself when the one in use fails.
    pub takeover: bool,
}

impl Default for Settings {
    fn default() -> Settings {
        Settings {
            host: String::new(),
            port: None,
            transport: Transport::Tcp,
            path: "/mqtt".into(),
            tls: Tls::default(),
            server_name: String::new(),
            version: Version::Five,
            user: String::new(),
            password: None,
            client_id: String::new(),
            clean: true,
            expiry_s: 3600,
            keep_alive_s: 30,
            qos: 1,
            largest: 1 << 20,
            silent_s: 0,
            will: Will::default(),
            test_topic: String::new(),
            spare: Vec::new(),
            takeover: true,
        }
    }
}

impl Settings {
    /// Reads a connection's settings.
    ///
    /// # Errors
    /// Every field that is wrong, with a sentence.
    pub fn parse(own: &Own) -> Result<Settings, Vec<(String, String)>> {
        let settings: Settings = resolve(None, own).map_err(|wrong| vec![wrong])?;
        let mut wrong = check_paths(&settings.paths(), "broker");
        let mut say = |bad: bool, field: &str, words: &str| {
            if bad {
                wrong.push((field.into(), words.into()));
            }
        };
        let websocket = matches!(settings.transport, Transport::Websocket | Transport::WebsocketTls);
        let path = settings.path.as_str();
        let clean = path.starts_with('/') && path.len() <= 500 && path.chars().all(|c| c.is_ascii_graphic());
        say(websocket && !clean, "path", "Enter the path of the WebSocket, such as /mqtt.");
        say(settings.user.len() > 1000, "user", "A name has at most 1,000 bytes.");
        say(settings.user.trim().is_empty() && settings.password.is_some(), "user", "A password needs a user name.");
        say(settings.client_id.len() > 256, "client_id", "A client id has at most 256 bytes.");
        let nameless = settings.client_id.trim().is_empty() && !settings.clean;
        say(nameless, "client_id", "The broker keeps messages for a client id; enter one that nobody else uses.");
        say(!(5..=3600).contains(&settings.keep_alive_s), "keep_alive_s", "Enter 5 to 3,600 seconds.");
        say(settings.qos > 2, "qos", "The quality of service is 0, 1 or 2.");
        let sized = (1024..=MOST_MESSAGE).contains(&settings.largest);
        say(!sized, "largest", "Enter between 1,024 bytes and 256 MiB (268435456).");
        let will = &settings.will;
        let no_topic = |topic: &str| topic.len() > MOST_TOPIC || !valid_topic(topic) || topic.contains('\0');
        say(!will.topic.is_empty() && no_topic(&will.topic), "will.topic", TOPIC);
        say(will.qos > 2, "will.qos", "The quality of service is 0, 1 or 2.");
        say(!settings.test_topic.is_empty() && no_topic(&settings.test_topic), "test_topic", TOPIC);
        say(settings.spare.len() > 3, "spare", "There are at most three spare addresses.");
        if settings.transport.secured() {
            wrong.extend(settings.tls.check().into_iter().map(|(field, words)| (format!("tls.{field}"), words.to_owned())));
        }
        if wrong.is_empty() { Ok(settings) } else { Err(wrong) }
    }

    /// Every address of the broker, the first before the spare ones.
    pub fn paths(&self) -> Vec<Path> {
        let first = Path { host: self.host.clone(), port: self.port };
        [first].into_iter().chain(self.spare.iter().cloned()).collect()
    }

    /// The port at an address.
    pub fn port_of(&self, path: &Path) -> u16 {
        path.port.unwrap_or(self.transport.port())
    }

    /// An address as people write it.
    pub fn show(&self, path: &Path) -> String {
        format!("{}:{}", path.host.trim(), self.port_of(path))
    }

    /// The settings with which a connection can be made at all.
    pub(crate) fn usable(own: &Own) -> Result<Settings, LinkError> {
        Settings::parse(own).map_err(|wrong| LinkError::BadRequest(wrong[0].1.clone()))
    }
}

const TOPIC: &str = "Enter a topic such as site/boiler/pressure, without + and #.";

/// What is wrong with a filter of topics, if anything.
///
/// # Errors
/// A sentence.
pub fn check_filter(filter: &str) -> Result<(), &'static str> {
    match filter.len() <= MOST_TOPIC && valid_filter(filter) && !filter.contains('\0') {
        true => Ok(()),
        false => Err("Enter topics such as site/#; + stands for one level, # at the end for all that follow."),
    }
}

/// Whether a topic fits a filter (MQTT 5.0, 4.7). The client library has the same, which fails on a first letter of several bytes.
pub(crate) fn fits(topic: &str, filter: &str) -> bool {
    // What a broker tells of itself begins with $ and fits no wildcard at the first level.
    if topic.starts_with('$') && filter.starts_with(['+', '#']) {
        return false;
    }
    let (mut levels, mut wanted) = (topic.split('/'), filter.split('/'));
    loop {
        match (levels.next(), wanted.next()) {
            (_, Some("#")) | (None, None) => return true,
            (Some(level), Some(one)) if one == "+" || one == level => {}
            _ => return false,
        }
    }
}

#[derive(Clone, Debug, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct Text {
    topic: String,
    silent_s: Option<u32>,
    write_topic: String,
    write_message: String,
    write_retain: bool,
}

/// What stands for the value in a message that is written.
const VALUE: &str = "{value}";

/// Where a tag is heard and how it is read.
#[derive(Clone, Debug, PartialEq)]
pub struct Point {
    pub topic: String,
    pub taken: Taken,
    /// Seconds without a message after which it is silent too long; 0 never.
    pub silent_s: Option<u32>,
    /// Where a value is published that is written; empty: nowhere.
    pub write_topic: String,
    write_message: String,
    pub write_retain: bool,
}

impl Point {
    /// Reads a point's fields.
    ///
    /// # Errors
    /// The field and a sentence.
    pub fn parse(own: &Own) -> Result<Point, (String, String)> {
        let taken = Taken::parse(own)?;
        let others = own.iter().filter(|(key, _)| *key == "silent_s" || !FIELDS.contains(&key.as_str()));
        let text: Text = resolve(None, &others.map(|(key, value)| (key.clone(), value.clone())).collect())?;
        let wrong = |field: &str, words: &str| Err((field.to_owned(), words.to_owned()));
        let topic = |text: &str| text.len() <= MOST_TOPIC && valid_topic(text) && !text.is_empty() && !text.contains('\0');
        if !topic(&text.topic) {
            return wrong("topic", TOPIC);
        }
        if !text.write_topic.is_empty() && !topic(&text.write_topic) {
            return wrong("write_topic", TOPIC);
        }
        if !text.write_message.trim().is_empty() && !text.write_message.contains(VALUE) {
            return wrong("write_message", "Put {value} where the value belongs, such as {\"setpoint\": {value}}.");
        }
        Ok(Point {
            topic: text.topic,
            taken,
            silent_s: text.silent_s,
            write_topic: text.write_topic,
            write_message: text.write_message,
            write_retain: text.write_retain,
        })
    }

    /// In words.
    pub fn show(&self) -> String {
        match self.taken.words() {
            words if words.is_empty() => self.topic.clone(),
            words => format!("{}, {words}", self.topic),
        }
    }

    /// The message that writes a value: as JSON where it stands in a document, else as it is.
    pub fn message(&self, value: &havrel_core::sample::Value) -> String {
        match self.write_message.trim() {
            "" => value.text(),
            document => document.replace(VALUE, &value.to_json().to_string()),
        }
    }
}
