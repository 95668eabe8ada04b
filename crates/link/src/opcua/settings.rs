//! A connection's settings and a tag's point, read and checked.

use super::{node::Node, part::Part, taken::Taken, trust::Trust, value};
use crate::{
    LinkError, PointPlan,
    certificate::{check_certificates, check_fingerprint, check_pair, check_revocations},
};
use havrel_core::plant::{Own, Secret, resolve};
use opcua::{
    crypto::SecurityPolicy,
    types::{MessageSecurityMode, NumericRange},
};
use serde::Deserialize;

/// How messages are secured: policy and mode (OPC UA Part 7, 6.6; Part 4, 7.20).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Security {
    #[default]
    None,
    Basic256Sha256Sign,
    Basic256Sha256Encrypt,
    Aes128Sha256RsaOaepSign,
    Aes128Sha256RsaOaepEncrypt,
    Aes256Sha256RsaPssSign,
    Aes256Sha256RsaPssEncrypt,
}

impl Security {
    /// Every one, the best first.
    pub const ALL: [Security; 7] = [
        Security::Aes256Sha256RsaPssEncrypt,
        Security::Aes128Sha256RsaOaepEncrypt,
        Security::Basic256Sha256Encrypt,
        Security::Aes256Sha256RsaPssSign,
        Security::Aes128Sha256RsaOaepSign,
        Security::Basic256Sha256Sign,
        Security::None,
    ];

    /// As settings store it.
    pub const fn name(self) -> &'static str {
        match self {
            Security::None => "none",
            Security::Basic256Sha256Sign => "basic256_sha256_sign",
            Security::Basic256Sha256Encrypt => "basic256_sha256_encrypt",
            Security::Aes128Sha256RsaOaepSign => "aes128_sha256_rsa_oaep_sign",
            Security::Aes128Sha256RsaOaepEncrypt => "aes128_sha256_rsa_oaep_encrypt",
            Security::Aes256Sha256RsaPssSign => "aes256_sha256_rsa_pss_sign",
            Security::Aes256Sha256RsaPssEncrypt => "aes256_sha256_rsa_pss_encrypt",
        }
    }

    /// As people read it, with the standard's name of the policy.
    pub const fn words(self) -> &'static str {
        match self {
            Security::None => "none, in clear",
            Security::Basic256Sha256Sign => "signed, Basic256Sha256",
            Security::Basic256Sha256Encrypt => "signed and encrypted, Basic256Sha256",
            Security::Aes128Sha256RsaOaepSign => "signed, Aes128_Sha256_RsaOaep",
            Security::Aes128Sha256RsaOaepEncrypt => "signed and encrypted, Aes128_Sha256_RsaOaep",
            Security::Aes256Sha256RsaPssSign => "signed, Aes256_Sha256_RsaPss",
            Security::Aes256Sha256RsaPssEncrypt => "signed and encrypted, Aes256_Sha256_RsaPss",
        }
    }

    pub const fn policy(self) -> SecurityPolicy {
        match self {
            Security::None => SecurityPolicy::None,
            Security::Basic256Sha256Sign | Security::Basic256Sha256Encrypt => SecurityPolicy::Basic256Sha256,
            Security::Aes128Sha256RsaOaepSign | Security::Aes128Sha256RsaOaepEncrypt => SecurityPolicy::Aes128Sha256RsaOaep,
            Security::Aes256Sha256RsaPssSign | Security::Aes256Sha256RsaPssEncrypt => SecurityPolicy::Aes256Sha256RsaPss,
        }
    }

    pub const fn mode(self) -> MessageSecurityMode {
        match self {
            Security::None => MessageSecurityMode::None,
            Security::Basic256Sha256Sign | Security::Aes128Sha256RsaOaepSign | Security::Aes256Sha256RsaPssSign => {
                MessageSecurityMode::Sign
            }
            Security::Basic256Sha256Encrypt | Security::Aes128Sha256RsaOaepEncrypt | Security::Aes256Sha256RsaPssEncrypt => {
                MessageSecurityMode::SignAndEncrypt
            }
        }
    }
}

/// As whom Havrel logs in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Login {
    #[default]
    Anonymous,
    /// With a name and a password.
    User,
    /// With a certificate that stands for a person, not for the application.
    Certificate,
}

/// How values come.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Delivery {
    /// The server sends what changes.
    #[default]
    Changes,
    /// Havrel reads them in its own rhythm, as some servers have no subscriptions.
    Reads,
}

/// By how much a number must change before the server sends it (OPC UA Part 4, 7.22.2; percent: Part 8, 6.2).
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub enum Deadband {
    #[default]
    None,
    /// In the unit of the node.
    Absolute(f64),
    /// Of the range of the node, 0 to 100.
    Percent(f64),
}

impl std::str::FromStr for Deadband {
    type Err = &'static str;

    /// Reads `0.5` or `2 %`; nothing is none.
    fn from_str(text: &str) -> Result<Deadband, &'static str> {
        const WORDS: &str = "Enter a number such as 0.5, in the unit of the server, or a share of the range such as 2 %.";
        let text = text.trim();
        let (number, percent) = text.strip_suffix('%').map_or((text, false), |number| (number.trim_end(), true));
        let number: f64 = match number {
            "" if !percent => return Ok(Deadband::None),
            number => number.parse().map_err(|_| WORDS)?,
        };
        match number {
            _ if !number.is_finite() || number < 0.0 => Err(WORDS),
            0.0 => Ok(Deadband::None),
            _ if !percent => Ok(Deadband::Absolute(number)),
            _ if number <= 100.0 => Ok(Deadband::Percent(number)),
            _ => Err("A share of the range is at most 100 %."),
        }
    }
}

/// One address under which the server is reached: `opc.tcp://host:port/path`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Path {
    #[serde(default)]
    pub url: String,
    /// SHA-256 of the certificate of the server there, where it is another one than that of the first address.
    #[serde(default)]
    pub fingerprint: String,
}

/// An address in parts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Target {
    pub url: String,
    pub host: String,
    pub port: u16,
}

/// A connection's settings.
#[derive(Clone, Debug, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Settings {
    #[serde(default)]
    pub url: String,
    #[serde(default)]
    pub security: Security,
    /// SHA-256 of the server's certificate; it is then trusted whoever issued it.
    #[serde(default)]
    pub fingerprint: String,
    /// PEM: certificates of the authorities that vouch for the server.
    #[serde(default)]
    pub authority: String,
    /// PEM: lists of what those authorities have revoked.
    #[serde(default)]
    pub revoked: String,
    /// Whether a trusted certificate is accepted outside its validity period.
    #[serde(default)]
    pub expired: bool,
    #[serde(default)]
    pub login: Login,
    #[serde(default)]
    pub user: String,
    #[serde(default)]
    pub password: Option<Secret>,
    /// PEM: the certificate that is the login.
    #[serde(default)]
    pub certificate: String,
    /// PEM: its private key (RSA).
    #[serde(default)]
    pub key: Option<Secret>,
    /// How many values the server keeps for each tag between two messages, 1 to 1,000.
    #[serde(default = "ten")]
    pub queue: u32,
    #[serde(default)]
    pub delivery: Delivery,
    /// How often the server looks at a value, in ms; 0 is as often as it can, nothing as often as it sends.
    #[serde(default)]
    pub sampling_ms: Option<u32>,
    /// The deadband of tags that have none of their own: `0.5` or `2 %`.
    #[serde(default)]
    pub deadband: String,
    /// Whether a gap is filled after an outage with what the server recorded.
    #[serde(default = "yes")]
    pub fill: bool,
    /// Further addresses of the same server, or of a redundant one with the same nodes.
    #[serde(default)]
    pub spare: Vec<Path>,
    /// Whether a spare address takes over by itself when the one in use fails.
    #[serde(default = "yes")]
    pub takeover: bool,
    /// Whether a session is kept open at the next address, so that it takes over without a gap.
    #[serde(default = "yes")]
    pub warm: bool,
}

fn ten() -> u32 {
    10
}
fn yes() -> bool {
    true
}

/// The standard's port (IANA: opcua-tcp).
const PORT: u16 = 4840;

impl Path {
    /// The address in parts.
    ///
    /// # Errors
    /// What is wrong, as a sentence.
    pub fn target(&self) -> Result<Target, &'static str> {
        const FORM: &str = "Enter an address like opc.tcp://10.0.4.31:4840.";
        let url = self.url.trim();
        if url.is_empty() {
            return Err("Enter the address of the server, like opc.tcp://10.0.4.31:4840.");
        }
        let scheme = url.get(..10).filter(|s| s.eq_ignore_ascii_case("opc.tcp://"));
        let Some(rest) = scheme.and_then(|s| url.get(s.len()..)) else {
            let older = url.get(..7).is_some_and(|s| s.eq_ignore_ascii_case("opcda:/"));
            return Err(match url.contains("://") || older {
                true => {
                    "Havrel speaks opc.tcp; other transports need a gateway. An older server without it needs a bridge to OPC UA."
                }
                false => FORM,
            });
        };
        let authority = rest.split(['/', '?', '#']).next().unwrap_or_default();
        let (host, port) = match (authority.strip_prefix('['), authority.rsplit_once(':')) {
            (Some(rest), _) => {
                let (host, after) = rest.split_once(']').ok_or(FORM)?;
                (host, after.strip_prefix(':'))
            }
            (None, Some((host, port))) => (host, Some(port)),
            (None, None) => (authority, None),
        };
        let port = port.map_or(Ok(PORT), |p| p.parse().ok().filter(|p| *p > 0).ok_or("A port lies between 1 and 65535."))?;
        let known =
            !host.is_empty() && host.len() <= 253 && host.chars().all(|c| c.is_ascii_alphanumeric() || ".-_:".contains(c));
        if !known || url.len() > 500 || url.chars().any(|c| c.is_control() || c.is_whitespace()) {
            return Err(FORM);
        }
        Ok(Target { url: url.to_owned(), host: host.to_owned(), port })
    }

    /// As people write it.
    pub fn show(&self) -> String {
        self.url.trim().to_owned()
    }
}

impl Settings {
    /// Reads a connection's settings.
    ///
    /// # Errors
    /// Every field that is wrong, with a sentence.
    pub fn parse(own: &Own) -> Result<Settings, Vec<(String, String)>> {
        let settings: Settings = resolve(None, own).map_err(|wrong| vec![wrong])?;
        let mut wrong: Vec<(String, String)> = Vec::new();
        for (i, path) in settings.paths().into_iter().enumerate() {
            let at = |field| if i == 0 { String::from(field) } else { format!("spare[{}].{field}", i - 1) };
            wrong.extend(path.target().err().map(|words| (at("url"), words.to_owned())));
            let fingerprint = check_fingerprint("fingerprint", &path.fingerprint);
            wrong.extend(fingerprint.map(|(field, words)| (at(field), words.to_owned())));
        }
        let texts = [check_certificates("authority", &settings.authority), check_revocations("revoked", &settings.revoked)];
        let pair = check_pair(&settings.certificate, settings.key.as_ref());
        wrong.extend(texts.into_iter().flatten().chain(pair).map(|(field, words)| (field.to_owned(), words.to_owned())));
        let mut say = |bad: bool, field: &str, words: &str| {
            if bad {
                wrong.push((field.into(), words.into()));
            }
        };
        say(settings.spare.len() > 3, "spare", "There are at most three spare addresses.");
        say(!(1..=1000).contains(&settings.queue), "queue", "The server keeps 1 to 1,000 values of a tag.");
        let sampling = settings.sampling_ms.is_some_and(|ms| ms > 3_600_000);
        say(sampling, "sampling_ms", "A server looks at a value every 0 to 3,600,000 ms.");
        let deadband = settings.deadband.parse::<Deadband>().err();
        say(deadband.is_some(), "deadband", deadband.unwrap_or_default());
        let user = settings.login == Login::User;
        say(user && settings.user.trim().is_empty(), "user", "Enter the name of the user.");
        say(settings.user.len() > 200, "user", "A user name has at most 200 bytes.");
        let certificate = settings.login == Login::Certificate && settings.certificate.trim().is_empty();
        say(certificate, "certificate", "Enter the certificate of the login.");
        if wrong.is_empty() { Ok(settings) } else { Err(wrong) }
    }

    /// The same for a driver: what is wrong as one failure, secrets readable.
    pub fn usable(own: &Own) -> Result<Settings, LinkError> {
        let settings = Settings::parse(own).map_err(|wrong| LinkError::BadRequest(wrong[0].1.clone()))?;
        let held = |secret: &Option<Secret>| matches!(secret, Some(Secret::Plain(_)));
        match settings.login {
            Login::User if !held(&settings.password) => Err(LinkError::NoSecret("password".into())),
            Login::Certificate if !held(&settings.key) => Err(LinkError::NoSecret("private key".into())),
            _ => Ok(settings),
        }
    }

    /// Whom to trust at one of the addresses, by its number.
    pub(super) fn trust(&self, path: usize) -> Trust<'_> {
        let spare = path.checked_sub(1).and_then(|n| Some((n, self.spare.get(n)?)));
        let (fingerprint, field) = match spare {
            Some((n, spare)) if !spare.fingerprint.trim().is_empty() => {
                (spare.fingerprint.as_str(), format!("settings.spare[{n}].fingerprint"))
            }
            // A redundant server has a certificate of its own, which must not replace that of the first.
            Some((n, _)) => (self.fingerprint.as_str(), format!("settings.spare[{n}].fingerprint")),
            None => (self.fingerprint.as_str(), "settings.fingerprint".to_owned()),
        };
        Trust { fingerprint, field, authority: &self.authority, revoked: &self.revoked, expired: self.expired }
    }

    /// Whether a session is kept ready at another address.
    pub fn keeps_spare(&self) -> bool {
        self.warm && !self.spare.is_empty()
    }

    /// Every address, the first before the spare ones.
    pub fn paths(&self) -> Vec<Path> {
        let first = Path { url: self.url.clone(), fingerprint: self.fingerprint.clone() };
        [first].into_iter().chain(self.spare.iter().cloned()).collect()
    }
}

/// Where a tag is read.
#[derive(Clone, Debug, PartialEq)]
pub struct Point {
    pub node: Node,
    /// Which elements of an array; the server picks them.
    pub range: NumericRange,
    /// Which member of a structure; Havrel picks it.
    pub part: Part,
    /// That of the connection where it is nothing.
    pub deadband: Option<Deadband>,
    /// The method of the node that is called when the tag is written.
    pub method: Option<Node>,
}

/// The fields of a point.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Fields {
    address: String,
    #[serde(default)]
    element: String,
    #[serde(default)]
    part: String,
    #[serde(default)]
    deadband: String,
    #[serde(default)]
    method: String,
    /// What the method takes, in words; only people read it.
    #[serde(default)]
    arguments: String,
    /// What the node holds, which only forms ask for: `bool`, `text`, `i64` or `f64`.
    #[serde(default, rename = "type")]
    kind: String,
}

/// What a node may be said to hold.
const KINDS: [&str; 5] = ["", "bool", "i64", "f64", "text"];

impl Point {
    /// Reads a tag's point.
    ///
    /// # Errors
    /// The wrong field, with a sentence.
    pub fn parse(own: &Own) -> Result<Point, (String, String)> {
        let fields: Fields = resolve(None, own)?;
        let node = fields.address.parse().map_err(|words: &str| ("address".to_owned(), words.to_owned()))?;
        let range = value::range(&fields.element).map_err(|words| ("element".to_owned(), words.to_owned()))?;
        let part = Part::parse(&fields.part).map_err(|words| ("part".to_owned(), words.to_owned()))?;
        if range != NumericRange::None && !part.is_whole() {
            let words = "Enter the element or the member; a member names elements too, like /2/temperature.";
            return Err(("part".to_owned(), words.to_owned()));
        }
        if !KINDS.contains(&fields.kind.as_str()) {
            return Err(("type".to_owned(), "The type is bool, i64, f64 or text.".to_owned()));
        }
        let method = Some(fields.method.trim()).filter(|method| !method.is_empty()).map(str::parse::<Node>).transpose();
        let method = method.map_err(|words| ("method".to_owned(), words.to_owned()))?;
        let reads = range != NumericRange::None || !part.is_whole() || !fields.deadband.trim().is_empty();
        if method.is_some() && reads {
            return Err(("method".to_owned(), "A method is called; it has no element, member or deadband.".to_owned()));
        }
        if method.is_none() && !fields.arguments.trim().is_empty() {
            return Err(("arguments".to_owned(), "Only a method has arguments.".to_owned()));
        }
        let own = fields.deadband.trim();
        let deadband = own.parse().map_err(|words: &str| ("deadband".to_owned(), words.to_owned()))?;
        Ok(Point { node, range, part, deadband: (!own.is_empty()).then_some(deadband), method })
    }

    /// What a tag there takes of a value.
    pub(super) fn taken(self, plan: &PointPlan) -> Taken {
        Taken { part: self.part, scaling: plan.scaling }
    }

    /// In words.
    pub fn show(&self) -> String {
        if let Some(method) = &self.method {
            return format!("{}, method {method}", self.node);
        }
        match &self.range {
            NumericRange::None if self.part.is_whole() => self.node.to_string(),
            NumericRange::None => format!("{}, member {}", self.node, self.part.show()),
            range => format!("{}, element {range}", self.node),
        }
    }
}
