//! The settings of a mail server, read and checked.

use crate::{
    Wrong,
    certificate::check_certificates,
    net::{Path, check_paths},
};
use havrel_core::plant::{Own, Secret, call_plan::is_address, resolve};
use serde::Deserialize;

/// How the session is secured.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Security {
    /// TLS once the server has said hello (RFC 3207); a server without it gets nothing.
    #[default]
    StartTls,
    /// TLS from the first byte (RFC 8314).
    Tls,
    None,
}

impl Security {
    /// The usual port (IANA).
    pub const fn port(self) -> u16 {
        match self {
            Security::StartTls => 587,
            Security::Tls => 465,
            Security::None => 25,
        }
    }
}

/// The settings of a mail server.
#[derive(Clone, Debug, Default, PartialEq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Settings {
    pub host: String,
    pub port: Option<u16>,
    pub security: Security,
    /// PEM: certificates of the authorities that vouch for the server, beside those that this machine trusts.
    pub trust: String,
    /// Empty: nobody logs in.
    pub user: String,
    pub secret: Option<Secret>,
    /// The address from which messages come.
    pub from: String,
}

impl Settings {
    /// Reads a connection's settings.
    ///
    /// # Errors
    /// Every field that is wrong, with a sentence.
    pub fn parse(own: &Own) -> Result<Settings, Vec<Wrong>> {
        let settings: Settings = resolve(None, own).map_err(|wrong| vec![wrong])?;
        let mut wrong = check_paths(&[Path { host: settings.host.clone(), port: settings.port }], "mail server");
        let mut say = |bad: bool, field: &str, words: &str| {
            if bad {
                wrong.push((field.into(), words.into()));
            }
        };
        say(!is_address(&settings.from), "from", "Enter the address from which messages come, like havrel@works.example.");
        say(settings.user.len() > 255, "user", "This is too long.");
        say(!settings.user.trim().is_empty() && settings.secret.is_none(), "secret", "Enter the password.");
        if settings.security != Security::None {
            wrong.extend(check_certificates("trust", &settings.trust).map(|(field, words)| (field.to_owned(), words.to_owned())));
        }
        if wrong.is_empty() { Ok(settings) } else { Err(wrong) }
    }

    /// The port in use.
    pub fn port(&self) -> u16 {
        self.port.unwrap_or(self.security.port())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    #[rstest]
    #[case(json!({}), &[])]
    #[case(json!({"host": ""}), &["host"])]
    #[case(json!({"from": "Havrel"}), &["from"])]
    #[case(json!({"user": "havrel"}), &["secret"])]
    #[case(json!({"trust": "nothing"}), &["trust"])]
    #[case(json!({"trust": "nothing", "security": "none"}), &[])]
    fn what_is_wrong_is_told_at_its_field(#[case] more: Json, #[case] fields: &[&str]) {
        let mut own = json!({"host": "mail.works.example", "from": "havrel@works.example"});
        own.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        let wrong = Settings::parse(own.as_object().unwrap()).err().unwrap_or_default();
        assert_eq!(wrong.iter().map(|w| w.0.as_str()).collect::<Vec<_>>(), fields);
    }
}
