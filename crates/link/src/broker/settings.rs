//! What a broker of our own is told: who reaches it, how, and what its accounts may do.

use crate::{
    LinkError,
    certificate::check_pair,
    mqtt::{mapping::overlap, settings::check_filter},
};
use havrel_core::plant::{Own, Secret, resolve};
use serde::Deserialize;
use std::{collections::HashSet, net::IpAddr};
use uuid::Uuid;

/// Accounts of one broker, and topic rights of one account.
const MOST_ACCOUNTS: usize = 2_000;
const MOST_RIGHTS: usize = 100;
/// Longest name of an account, and longest topics of a right, in bytes.
const LONGEST_NAME: usize = 64;
const LONGEST_TOPICS: usize = 500;
/// A password that is typed has so many bytes.
const PASSWORD: std::ops::RangeInclusive<usize> = 8..=200;
/// What stands in the topics of a right for the name of its account.
const ACCOUNT: &str = "{account}";

/// From where the broker is reached.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Reach {
    /// Programs of this machine only.
    #[default]
    Machine,
    /// Every network of this machine.
    Networks,
    /// One address of this machine.
    Address,
}

/// Whether what travels is secured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Transport {
    #[default]
    Clear,
    Both,
    Tls,
}

/// The same for WebSockets.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Websocket {
    #[default]
    None,
    Clear,
    Tls,
}

/// Whose certificate the broker shows.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Shown {
    /// One that Havrel makes.
    #[default]
    Made,
    /// One that is given.
    Given,
}

/// What an account may do on topics.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum May {
    Publish,
    Receive,
    Both,
}

/// A right of an account.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Right {
    /// A filter of topics; `{account}` stands for the name of the account.
    pub topics: String,
    pub may: May,
}

/// Somebody who may connect.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Account {
    pub id: Uuid,
    pub name: String,
    /// Hashed before it is stored. Without one, as after an import, nobody can log in.
    #[serde(default)]
    pub password: Option<Secret>,
    #[serde(default = "yes")]
    pub enabled: bool,
    #[serde(default)]
    pub note: String,
    #[serde(default)]
    pub rights: Vec<Right>,
}

fn yes() -> bool {
    true
}

/// The settings of a broker.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Settings {
    pub reach: Reach,
    /// Where only one address of this machine is listened on.
    pub address: String,
    pub transport: Transport,
    pub port: u16,
    pub tls_port: u16,
    pub websocket: Websocket,
    pub websocket_port: u16,
    pub identity: Shown,
    /// Names and addresses by which devices know this machine, divided by commas, for the certificate that Havrel makes.
    pub names: String,
    /// PEM: the certificate that is given, and its private key.
    pub certificate: String,
    pub key: Option<Secret>,
    /// Whether retained messages, and what waits for clients, outlive a restart.
    pub keep: bool,
    /// Most clients at once.
    pub clients: u32,
    /// Largest message, in bytes, with its topic.
    pub largest: u32,
    /// Most messages that wait for one client.
    pub queued: u32,
    /// After how many days without it a client is forgotten, with what waits for it.
    pub forget_days: u32,
    pub accounts: Vec<Account>,
}

impl Default for Settings {
    fn default() -> Settings {
        Settings {
            reach: Reach::Machine,
            address: String::new(),
            transport: Transport::Clear,
            port: 1883,
            tls_port: 8883,
            websocket: Websocket::None,
            websocket_port: 9001,
            identity: Shown::Made,
            names: String::new(),
            certificate: String::new(),
            key: None,
            keep: true,
            clients: 200,
            largest: 1 << 20,
            queued: 1000,
            forget_days: 14,
            accounts: Vec::new(),
        }
    }
}

/// A port that the broker listens on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Listener {
    pub port: u16,
    pub secured: bool,
    pub websocket: bool,
}

impl Settings {
    /// Reads a connection's settings.
    ///
    /// # Errors
    /// Every field that is wrong, with a sentence.
    pub fn parse(own: &Own) -> Result<Settings, Vec<(String, String)>> {
        let settings: Settings = resolve(None, own).map_err(|wrong| vec![wrong])?;
        let mut wrong: Vec<(String, String)> = Vec::new();
        let mut say = |bad: bool, field: &str, words: &str| {
            if bad {
                wrong.push((field.into(), words.into()));
            }
        };
        let one = settings.reach == Reach::Address;
        say(one && settings.bound().is_none(), "address", "Enter an address of this machine as numbers, such as 10.0.4.9.");
        let mut ports = HashSet::new();
        let used = [
            ("port", settings.port, settings.transport != Transport::Tls),
            ("tls_port", settings.tls_port, settings.transport != Transport::Clear),
            ("websocket_port", settings.websocket_port, settings.websocket != Websocket::None),
        ];
        for (field, port, _) in used.into_iter().filter(|(.., used)| *used) {
            say(port < 1024, field, "Enter a port from 1,024 to 65,535; smaller ones are for the system.");
            say(!ports.insert(port), field, "Enter a port that the others do not use.");
        }
        let names_odd = settings.names().any(|name| name.len() > 253 || !name.chars().all(|c| c.is_ascii_graphic() && c != '"'));
        say(names_odd || settings.names().count() > 20, "names", "Enter up to 20 names or addresses, divided by commas.");
        say(!(1..=10_000).contains(&settings.clients), "clients", "Enter 1 to 10,000 clients.");
        let sized = (1024..=256 << 20).contains(&settings.largest);
        say(!sized, "largest", "Enter between 1,024 bytes and 256 MiB (268435456).");
        say(!(1..=1_000_000).contains(&settings.queued), "queued", "Enter 1 to 1,000,000 messages.");
        say(!(1..=3650).contains(&settings.forget_days), "forget_days", "Enter 1 to 3,650 days.");
        say(settings.accounts.len() > MOST_ACCOUNTS, "accounts", "A broker has at most 2,000 accounts.");
        let given = settings.secured() && settings.identity == Shown::Given;
        say(
            given && settings.certificate.trim().is_empty(),
            "certificate",
            "Paste the certificate with its lines BEGIN and END.",
        );
        if given {
            let odd = check_pair(&settings.certificate, settings.key.as_ref());
            wrong.extend(odd.into_iter().map(|(field, words)| (field.to_owned(), words.to_owned())));
        }
        let mut known = HashSet::new();
        for (i, account) in settings.accounts.iter().take(MOST_ACCOUNTS).enumerate() {
            if !known.insert(account.name.as_str()) {
                wrong.push((format!("accounts[{i}].name"), format!("There is already an account “{}”.", account.name)));
            }
            if settings.accounts[..i].iter().any(|other| other.id == account.id) {
                wrong.push((format!("accounts[{i}].id"), "Another account has this id.".into()));
            }
            wrong.extend(account.check().into_iter().map(|(field, words)| (format!("accounts[{i}].{field}"), words.into())));
        }
        if wrong.is_empty() { Ok(settings) } else { Err(wrong) }
    }

    /// The settings with which a broker can be run at all.
    pub(super) fn usable(own: &Own) -> Result<Settings, LinkError> {
        Settings::parse(own).map_err(|wrong| LinkError::BadRequest(wrong[0].1.clone()))
    }

    /// The address that is listened on; `None` for all of them.
    pub fn bound(&self) -> Option<IpAddr> {
        match self.reach {
            Reach::Machine => Some(IpAddr::from([127, 0, 0, 1])),
            Reach::Networks => None,
            Reach::Address => self.address.trim().parse().ok(),
        }
    }

    /// Whether only programs of this machine reach it.
    pub fn is_local(&self) -> bool {
        self.bound().is_some_and(|address| address.is_loopback())
    }

    /// Every port that it listens on for clients.
    pub fn listeners(&self) -> Vec<Listener> {
        let mut all = Vec::new();
        if self.transport != Transport::Tls {
            all.push(Listener { port: self.port, secured: false, websocket: false });
        }
        if self.transport != Transport::Clear {
            all.push(Listener { port: self.tls_port, secured: true, websocket: false });
        }
        if self.websocket != Websocket::None {
            all.push(Listener { port: self.websocket_port, secured: self.websocket == Websocket::Tls, websocket: true });
        }
        all
    }

    /// Whether any port needs a certificate.
    pub fn secured(&self) -> bool {
        self.listeners().iter().any(|listener| listener.secured)
    }

    /// Names and addresses for its certificate.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.names.split(',').map(str::trim).filter(|name| !name.is_empty())
    }

    /// All but what can change while it runs.
    pub(super) fn standing(&self) -> Settings {
        Settings { accounts: Vec::new(), ..self.clone() }
    }
}

impl Account {
    fn check(&self) -> Vec<(String, &'static str)> {
        let mut wrong = Vec::new();
        let named = |c: char| c.is_ascii_alphanumeric() || "._-@".contains(c);
        if self.name.is_empty() || self.name.len() > LONGEST_NAME || !self.name.chars().all(named) {
            wrong.push(("name".to_owned(), "Enter letters, digits and . _ - @, at most 64."));
        }
        match &self.password {
            Some(Secret::Plain(text)) if !PASSWORD.contains(&text.len()) || text.chars().any(char::is_control) => {
                wrong.push(("password".to_owned(), "A password has 8 to 200 bytes."));
            }
            _ => {}
        }
        if self.note.len() > 1000 {
            wrong.push(("note".to_owned(), "A note has at most 1,000 bytes."));
        }
        if self.rights.len() > MOST_RIGHTS {
            wrong.push(("rights".to_owned(), "An account has at most 100 rights."));
        }
        for (i, right) in self.rights.iter().enumerate() {
            let topics = right.of(&self.name);
            let odd = topics.trim() != topics || topics.chars().any(char::is_control) || topics.len() > LONGEST_TOPICS;
            let words = if odd { Some("Enter topics of at most 500 bytes, without spaces around.") } else { None };
            if let Some(words) = words.or(check_filter(&topics).err()) {
                wrong.push((format!("rights[{i}].topics"), words));
            }
        }
        wrong
    }

    fn topics(&self, wanted: May) -> impl Iterator<Item = String> {
        let with = self.rights.iter().filter(move |right| right.may == May::Both || right.may == wanted);
        with.map(|right| right.of(&self.name))
    }

    /// What it receives of the topics of filters that it subscribes to.
    pub fn receives<'a>(&self, filters: impl IntoIterator<Item = &'a str>) -> Vec<Received> {
        let rights: Vec<String> = self.topics(May::Receive).collect();
        filters.into_iter().map(|filter| received(&rights, shared(filter))).collect()
    }
}

/// What rights give of a filter.
fn received(rights: &[String], wanted: &str) -> Received {
    if rights.iter().any(|right| covers(right, wanted)) {
        return Received::All;
    }
    let part = |right: &String| overlap(right, wanted) && right.starts_with('$') == wanted.starts_with('$');
    if rights.iter().any(part) { Received::Part } else { Received::Nothing }
}

impl Right {
    /// Its topics for an account.
    pub fn of(&self, account: &str) -> String {
        self.topics.replace(ACCOUNT, account)
    }
}

/// What a client receives of the topics that it subscribes to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Received {
    All,
    Part,
    Nothing,
}

/// The filter of a subscription without the group that shares it (MQTT 5.0, 4.8.2).
fn shared(filter: &str) -> &str {
    match filter.strip_prefix("$share/") {
        Some(rest) => rest.split_once('/').map_or(rest, |(_, filter)| filter),
        None => filter,
    }
}

/// Whether every topic that fits one filter fits the other, too.
fn covers(outer: &str, inner: &str) -> bool {
    if inner.starts_with('$') && outer.starts_with(['+', '#']) {
        return false;
    }
    let (mut outer, mut inner) = (outer.split('/'), inner.split('/'));
    loop {
        match (outer.next(), inner.next()) {
            (Some("#"), _) | (None, None) => return true,
            (Some("+"), Some(one)) if one != "#" => {}
            (Some(a), Some(b)) if a == b && a != "#" => {}
            _ => return false,
        }
    }
}

/// What one account may do on a topic.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Allowed {
    pub account: String,
    pub publishes: bool,
    pub receives: bool,
}

/// What each account that is switched on may do on a topic, or on all topics of a filter; empty where the settings are wrong.
pub fn allowed(own: &Own, topics: &str) -> Vec<Allowed> {
    let accounts = Settings::parse(own).map(|settings| settings.accounts).unwrap_or_default();
    let enabled = accounts.into_iter().filter(|account| account.enabled);
    let told = enabled.map(|account| Allowed {
        publishes: account.topics(May::Publish).any(|right| covers(&right, topics)),
        receives: account.receives([topics]) == [Received::All],
        account: account.name.clone(),
    });
    told.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::mqtt::settings::fits;
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    fn account(more: Json) -> Json {
        let mut own = json!({"id": Uuid::from_u128(1), "name": "meter-1", "password": {"secret": "kelp and salt"},
            "rights": [{"topics": "site/meter/{account}/#", "may": "publish"}]});
        own.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        own
    }

    fn parse(own: Json) -> Result<Settings, Vec<(String, String)>> {
        Settings::parse(own.as_object().unwrap())
    }

    #[rstest]
    #[case(json!({"reach": "address", "address": "boiler"}), "address")]
    #[case(json!({"port": 80}), "port")]
    #[case(json!({"transport": "both", "tls_port": 1883}), "tls_port")]
    #[case(json!({"transport": "tls", "port": 80, "websocket": "clear", "websocket_port": 8883}), "websocket_port")]
    #[case(json!({"names": "a b\u{7}"}), "names")]
    #[case(json!({"clients": 0}), "clients")]
    #[case(json!({"largest": 10}), "largest")]
    #[case(json!({"queued": 0}), "queued")]
    #[case(json!({"forget_days": 0}), "forget_days")]
    #[case(json!({"transport": "tls", "identity": "given"}), "certificate")]
    #[case(json!({"transport": "tls", "identity": "given", "certificate": "no certificate"}), "certificate")]
    #[case(json!({"accounts": [account(json!({"name": "a b"}))]}), "accounts[0].name")]
    #[case(json!({"accounts": [account(json!({})), account(json!({"id": Uuid::from_u128(2)}))]}), "accounts[1].name")]
    #[case(json!({"accounts": [account(json!({})), account(json!({"name": "b"}))]}), "accounts[1].id")]
    #[case(json!({"accounts": [account(json!({"password": {"secret": "short"}}))]}), "accounts[0].password")]
    #[case(json!({"accounts": [account(json!({"rights": [{"topics": "a/#/b", "may": "both"}]}))]}), "accounts[0].rights[0].topics")]
    #[case(json!({"accounts": [account(json!({"rights": [{"topics": " a", "may": "both"}]}))]}), "accounts[0].rights[0].topics")]
    #[case(json!({"accounts": [account(json!({"rights": [{"topics": "a\nuser b", "may": "both"}]}))]}), "accounts[0].rights[0].topics")]
    fn what_is_wrong_is_told_at_its_field(#[case] own: Json, #[case] field: &str) {
        let wrong = parse(own).unwrap_err();
        assert!(wrong.iter().any(|w| w.0 == field), "{wrong:?}");
    }

    #[test]
    fn an_account_may_lack_its_password_and_a_port_that_is_not_used_is_not_checked() {
        assert!(parse(json!({"accounts": [account(json!({"password": null}))]})).is_ok());
        let settings = parse(json!({"transport": "tls", "port": 8883})).unwrap();
        assert_eq!(settings.listeners(), [Listener { port: 8883, secured: true, websocket: false }]);
        assert!(settings.is_local() && settings.secured());
        assert!(!parse(json!({"reach": "networks"})).unwrap().is_local());
    }

    fn with(rights: Json) -> Account {
        serde_json::from_value(account(json!({ "rights": rights }))).unwrap()
    }

    #[rstest]
    #[case("site/a", "site/a", Received::All)]
    #[case("site/#", "site/a/+", Received::All)]
    #[case("site/#", "site/#", Received::All)]
    #[case("site/+", "site/#", Received::Part)]
    #[case("site/a", "#", Received::Part)]
    #[case("site/+/power", "site/a/#", Received::Part)]
    #[case("site/a", "site/b", Received::Nothing)]
    #[case("site/{account}", "site/meter-1", Received::All)]
    #[case("site/{account}", "site/meter-2", Received::Nothing)]
    #[case("site/#", "$share/group/site/a", Received::All)]
    #[case("#", "$SYS/broker/uptime", Received::Nothing)]
    #[case("$SYS/#", "$SYS/broker/uptime", Received::All)]
    #[case("$SYS/#", "#", Received::Nothing)]
    fn what_a_subscription_gives(#[case] right: &str, #[case] filter: &str, #[case] expected: Received) {
        assert_eq!(with(json!([{"topics": right, "may": "receive"}])).receives([filter]), [expected]);
        assert_eq!(with(json!([{"topics": right, "may": "publish"}])).receives([filter]), [Received::Nothing]);
    }

    #[test]
    fn who_may_publish() {
        let one = account(
            json!({"rights": [{"topics": "site/meter/{account}/#", "may": "publish"}, {"topics": "plant/+", "may": "both"}]}),
        );
        let off = account(json!({"id": Uuid::from_u128(2), "name": "off", "enabled": false}));
        let own = json!({"accounts": [one, off]}).as_object().unwrap().clone();
        let may = |topic: &str| {
            let [one] = &allowed(&own, topic)[..] else { panic!("one account is switched on") };
            (one.publishes, one.receives)
        };
        assert_eq!(may("site/meter/meter-1/json"), (true, false));
        assert_eq!(may("plant/a"), (true, true));
        assert_eq!(may("plant/+"), (true, true));
        assert_eq!(may("plant/a/b"), (false, false));
        assert_eq!(may("site/meter/#"), (false, false));
    }

    fn filter() -> impl Strategy<Value = String> {
        let level = prop_oneof![Just("a"), Just("b"), Just("+"), Just("")];
        (prop::collection::vec(level, 1..4), any::<bool>()).prop_map(|(mut levels, all)| {
            if all {
                levels.push("#");
            }
            levels.join("/")
        })
    }

    proptest! {
        /// A filter covers another exactly when no topic tells them apart, and overlaps where a topic fits both.
        #[test]
        fn coverage_agrees_with_topics(outer in filter(), inner in filter(), topics in prop::collection::vec("[ab]?(/[ab]?){0,4}", 1..40)) {
            let told: Vec<bool> = topics.iter().filter(|t| fits(t, &inner)).map(|t| fits(t, &outer)).collect();
            if covers(&outer, &inner) {
                prop_assert!(told.iter().all(|fits| *fits));
            }
            if told.iter().any(|fits| *fits) {
                prop_assert!(overlap(&outer, &inner));
            }
        }
    }
}
