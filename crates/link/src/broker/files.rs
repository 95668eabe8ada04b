//! The files by which Debian’s broker is told what to do: its configuration, passwords, and topic rights.

use super::settings::{Account, May, Settings, Shown};
use base64::{Engine as _, engine::general_purpose::STANDARD};
use havrel_core::plant::{Own, Secret};
use ring::pbkdf2;
use std::{fmt::Write as _, num::NonZeroU32, path::Path};

/// Repetitions of the hash of a password. The broker checks passwords in its only thread, so that more would hold up all clients
/// when many come back at once.
const ROUNDS: NonZeroU32 = NonZeroU32::new(1_000).unwrap();
/// By what Havrel itself logs in, which is no name that an account can have.
pub(super) const OURSELVES: &str = "$havrel";
/// Files in the broker’s folder.
pub(super) const CONFIGURATION: &str = "broker.conf";
pub(super) const PROCESS: &str = "broker.pid";
pub(super) const PASSWORDS: &str = "passwords";
pub(super) const RIGHTS: &str = "rights";

/// The files of the certificate that is shown, and of its key: one that is given never takes the place of the one that Havrel made.
pub(super) fn certificate(settings: &Settings) -> (&'static str, &'static str) {
    match settings.identity {
        Shown::Made => ("certificate.pem", "key.pem"),
        Shown::Given => ("given.pem", "given-key.pem"),
    }
}

/// A password as the broker stores it: PBKDF2 (RFC 8018, 5.2) with HMAC-SHA-512.
fn hash(password: &str) -> String {
    let salt: [u8; 12] = rand::random();
    let mut hash = [0; 64];
    pbkdf2::derive(pbkdf2::PBKDF2_HMAC_SHA512, ROUNDS, &salt, password.as_bytes(), &mut hash);
    format!("$7${ROUNDS}${}${}", STANDARD.encode(salt), STANDARD.encode(hash))
}

/// Makes typed passwords of accounts into what is stored: a hash of each.
pub(super) fn hash_all(settings: &mut Own) {
    let accounts = settings.get_mut("accounts").and_then(|accounts| accounts.as_array_mut());
    for account in accounts.into_iter().flatten() {
        let Some(password) = account.get_mut("password") else { continue };
        if let Some(Secret::Plain(text)) = Secret::of(password) {
            *password = serde_json::json!({ "secret": hash(&text) });
        }
    }
}

/// The file of passwords: those of accounts that are switched on, and our own.
pub(super) fn passwords(accounts: &[Account], ours: &str) -> String {
    let mut text = format!("{OURSELVES}:{}\n", hash(ours));
    for account in on(accounts) {
        if let Some(Secret::Plain(hash)) = &account.password {
            let _ = writeln!(text, "{}:{hash}", account.name);
        }
    }
    text
}

/// The file of topic rights. An account without any may nothing.
pub(super) fn rights(accounts: &[Account]) -> String {
    let mut text = format!("user {OURSELVES}\ntopic read $SYS/#\n");
    for account in on(accounts) {
        let _ = writeln!(text, "user {}", account.name);
        for right in &account.rights {
            let may = match right.may {
                May::Publish => "write",
                May::Receive => "read",
                May::Both => "readwrite",
            };
            let _ = writeln!(text, "topic {may} {}", right.of(&account.name));
        }
    }
    text
}

fn on(accounts: &[Account]) -> impl Iterator<Item = &Account> {
    accounts.iter().filter(|account| account.enabled)
}

/// The configuration, for a folder and the port of the loopback that is ours. `watched`: each message is told in the log, by which
/// those that are refused are known.
pub(super) fn configuration(settings: &Settings, folder: &Path, ours: u16, watched: bool) -> String {
    let at = |file: &str| folder.join(file).display().to_string();
    let mut lines = vec![
        "per_listener_settings false".to_owned(),
        "allow_anonymous false".into(),
        format!("password_file {}", at(PASSWORDS)),
        format!("acl_file {}", at(RIGHTS)),
        format!("pid_file {}", at(PROCESS)),
        format!("persistence {}", settings.keep),
        format!("persistence_location {}/", folder.display()),
        "persistence_file kept.db".into(),
        "autosave_interval 60".into(),
        format!("persistent_client_expiration {}d", settings.forget_days),
        format!("max_packet_size {}", settings.largest),
        format!("max_queued_messages {}", settings.queued),
        "sys_interval 2".into(),
        // The other way out is buffered, and lines would come late.
        "log_dest stderr".into(),
        "log_timestamp false".into(),
    ];
    let told = ["error", "warning", "notice", "subscribe", "unsubscribe"].into_iter().chain(watched.then_some("debug"));
    lines.extend(told.map(|kind| format!("log_type {kind}")));
    lines.push(format!("listener {ours} 127.0.0.1"));
    let bound = settings.bound().map(|address| format!(" {address}")).unwrap_or_default();
    for listener in settings.listeners() {
        lines.push(format!("listener {}{bound}", listener.port));
        if listener.websocket {
            lines.push("protocol websockets".into());
        }
        if listener.secured {
            let (certificate, key) = certificate(settings);
            lines.push(format!("certfile {}", at(certificate)));
            lines.push(format!("keyfile {}", at(key)));
        }
    }
    lines.join("\n") + "\n"
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn settings(own: serde_json::Value) -> Settings {
        Settings::parse(own.as_object().unwrap()).unwrap()
    }

    #[test]
    fn accounts_that_are_switched_off_stand_nowhere_and_rights_take_the_name_of_their_account() {
        let account = |n: u128, name: &str, enabled: bool| {
            json!({"id": uuid::Uuid::from_u128(n), "name": name, "enabled": enabled, "password": {"secret": "hash of it"},
                "rights": [{"topics": "site/{account}/#", "may": "publish"}, {"topics": "site/set", "may": "receive"},
                    {"topics": "chat", "may": "both"}]})
        };
        let set = settings(json!({"accounts": [account(1, "meter-1", true), account(2, "meter-2", false)]}));
        let told = rights(&set.accounts);
        let own = "user $havrel\ntopic read $SYS/#\n";
        let one = "user meter-1\ntopic write site/meter-1/#\ntopic read site/set\ntopic readwrite chat\n";
        assert_eq!(told, format!("{own}{one}"));
        let told = passwords(&set.accounts, "ours");
        let lines: Vec<&str> = told.lines().collect();
        assert!(lines.len() == 2 && lines[0].starts_with("$havrel:$7$1000$") && lines[1] == "meter-1:hash of it");
    }

    #[test]
    fn typed_passwords_are_hashed_and_what_is_kept_stays() {
        let mut own = json!({"accounts": [{"name": "a", "password": {"secret": "kelp and salt"}}, {"name": "b", "password": {"kept": true}}]})
            .as_object()
            .unwrap()
            .clone();
        hash_all(&mut own);
        let text = serde_json::Value::Object(own.clone()).to_string();
        assert!(!text.contains("kelp") && text.contains("$7$"));
        assert_eq!(own["accounts"][1]["password"], json!({"kept": true}));
        hash_all(&mut json!({"accounts": 7}).as_object_mut().unwrap().clone());
    }

    #[test]
    fn a_hash_is_never_the_same_twice() {
        let hashes = [hash("kelp and salt"), hash("kelp and salt")];
        assert!(hashes[0] != hashes[1] && hashes.iter().all(|hash| hash.split('$').count() == 5 && !hash.contains("kelp")));
    }

    #[test]
    fn each_port_says_what_it_is_and_the_loopback_stays_where_nothing_is_opened() {
        let told = |own, watched| configuration(&settings(own), Path::new("/data/b"), 4000, watched);
        let local = told(json!({}), false);
        assert!(local.contains("listener 4000 127.0.0.1\nlistener 1883 127.0.0.1\n"));
        assert!(!local.contains("debug") && !local.contains("certfile") && local.contains("allow_anonymous false\n"));
        let open = told(json!({"reach": "networks", "transport": "both", "websocket": "tls"}), true);
        assert!(open.contains("log_type debug\nlistener 4000 127.0.0.1\nlistener 1883\nlistener 8883\n"));
        let secured = "certfile /data/b/certificate.pem\nkeyfile /data/b/key.pem\n";
        assert!(open.ends_with(&format!("listener 9001\nprotocol websockets\n{secured}")), "{open}");
        assert_eq!(open.matches(secured).count(), 2);
        assert!(told(json!({"reach": "address", "address": "10.0.4.9"}), false).contains("listener 1883 10.0.4.9\n"));
    }
}
