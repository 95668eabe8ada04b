//! Secrets at rest: sealed with AES-256-GCM (NIST SP 800-38D) under a key that lies beside the data and never in the
//! database, so that neither the database nor a backup of it gives them away.

use aes_gcm::{
    Aes256Gcm, Key, Nonce,
    aead::{Aead, KeyInit, Payload},
};
use base64::{
    Engine as _,
    engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD},
};
use havrel_core::plant::{
    Connection, Edit, Kind, Op, Own, Plant, Problem, ProblemKind, Secret, SourceCheck as _, resolve, secret,
};
use havrel_link::{Kinds, kind};
use serde_json::Value as Json;
use std::{
    borrow::Cow,
    fs::{self, OpenOptions},
    io::{self, Write as _},
    os::unix::fs::OpenOptionsExt as _,
    path::{Path, PathBuf},
};
use uuid::Uuid;

/// The file of the key, in the data folder.
pub const KEY_FILE: &str = "secret.key";

/// Bytes of a nonce, which stand before what is sealed.
const NONCE: usize = 12;

/// What links are sealed for, so that no secret of a connection passes for one.
const LINK: &[u8] = b"link of a message";

/// Seals and opens secrets with the key of this machine.
pub struct Keeper {
    file: PathBuf,
}

impl Keeper {
    /// With the key in a data folder; it is made when the first secret is sealed.
    pub fn at(data: &Path) -> Keeper {
        Keeper { file: data.join(KEY_FILE) }
    }

    fn cipher(&self) -> io::Result<Aes256Gcm> {
        let broken = || io::Error::new(io::ErrorKind::InvalidData, format!("{} holds no key", self.file.display()));
        let bytes = STANDARD.decode(fs::read_to_string(&self.file)?.trim()).map_err(|_| broken())?;
        let bytes: [u8; 32] = bytes.try_into().map_err(|_| broken())?;
        Ok(Aes256Gcm::new(Key::<Aes256Gcm>::from_slice(&bytes)))
    }

    fn cipher_or_new(&self) -> io::Result<Aes256Gcm> {
        match self.cipher() {
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            found => return found,
        }
        if let Some(folder) = self.file.parent() {
            fs::create_dir_all(folder)?;
        }
        // For its owner only, and never over another's.
        let made = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&self.file);
        match made {
            Ok(mut file) => {
                writeln!(file, "{}", STANDARD.encode(rand::random::<[u8; 32]>()))?;
                file.sync_all()?;
            }
            // Somebody else made it at the same moment.
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
            Err(error) => return Err(error),
        }
        self.cipher()
    }

    /// Seals a text for one connection; sealed for another it cannot be opened.
    pub(crate) fn seal(&self, connection: Uuid, text: &str) -> io::Result<String> {
        let nonce: [u8; NONCE] = rand::random();
        let payload = Payload { msg: text.as_bytes(), aad: connection.as_bytes() };
        let sealed = self.cipher_or_new()?.encrypt(Nonce::from_slice(&nonce), payload);
        let sealed = sealed.map_err(|_| io::Error::other("it could not be sealed"))?;
        Ok(STANDARD.encode([&nonce[..], &sealed].concat()))
    }

    pub(crate) fn open(&self, connection: Uuid, sealed: &str) -> Option<String> {
        let bytes = STANDARD.decode(sealed).ok()?;
        let (nonce, sealed) = bytes.split_at_checked(NONCE)?;
        let payload = Payload { msg: sealed, aad: connection.as_bytes() };
        String::from_utf8(self.cipher().ok()?.decrypt(Nonce::from_slice(nonce), payload).ok()?).ok()
    }

    /// What stands for an item in a link that only this installation can have made.
    pub(crate) fn token(&self, id: Uuid) -> io::Result<String> {
        let nonce: [u8; NONCE] = rand::random();
        let payload = Payload { msg: id.as_bytes(), aad: LINK };
        let sealed = self.cipher_or_new()?.encrypt(Nonce::from_slice(&nonce), payload);
        let sealed = sealed.map_err(|_| io::Error::other("it could not be signed"))?;
        Ok(URL_SAFE_NO_PAD.encode([&nonce[..], &sealed].concat()))
    }

    /// The item for which a link was made here.
    pub(crate) fn id_of_token(&self, token: &str) -> Option<Uuid> {
        let bytes = URL_SAFE_NO_PAD.decode(token).ok()?;
        let (nonce, sealed) = bytes.split_at_checked(NONCE)?;
        let opened = self.cipher().ok()?.decrypt(Nonce::from_slice(nonce), Payload { msg: sealed, aad: LINK }).ok()?;
        Uuid::from_slice(&opened).ok()
    }

    /// Settings with their secrets opened. One that cannot be opened here stays sealed, and its driver says so.
    pub fn opened(&self, connection: Uuid, settings: Own) -> Own {
        let mut settings = Json::Object(settings);
        let open = |secret| {
            Ok::<_, std::convert::Infallible>(Some(match &secret {
                Secret::Sealed(sealed) => self.open(connection, sealed).map_or(secret, Secret::Plain),
                _ => secret,
            }))
        };
        let Ok(()) = secret::each(&mut settings, &mut { open });
        match settings {
            Json::Object(settings) => settings,
            _ => Own::new(),
        }
    }

    /// Edits as they may be stored: what was not typed anew is kept, and what was is sealed.
    ///
    /// # Errors
    /// What drivers find wrong with secrets, which nobody can look at afterwards; or that they cannot be sealed.
    pub fn take_in<'a>(&self, plant: &Plant, edits: &'a [Edit]) -> Result<Cow<'a, [Edit]>, Vec<Problem>> {
        if !edits.iter().any(|e| settings_of(e).is_some_and(|s| secret::holds(s, |_| true))) {
            return Ok(Cow::Borrowed(edits));
        }
        let mut edits = edits.to_vec();
        secret::keep_in(plant, &mut edits);
        let mut problems = Vec::new();
        for (index, edit) in edits.iter_mut().enumerate() {
            let typed = |secret: &Secret| matches!(secret, Secret::Plain(_));
            if !settings_of(edit).is_some_and(|s| secret::holds(s, typed)) {
                continue;
            }
            let mut refuse = |field: String, message: String| {
                problems.push(Problem { kind: ProblemKind::Invalid, edit: index, field, message });
            };
            for (field, message) in wrong_with(plant, edit) {
                refuse(field, message);
            }
            let kind = kind_of(plant, edit);
            let (Op::Create(own, _) | Op::Patch(own)) = &mut edit.op else { continue };
            let Some(settings) = own.get_mut("settings") else { continue };
            if let (Some(kind), Json::Object(settings)) = (&kind, &mut *settings) {
                kind.hash(settings);
            }
            let id = edit.id;
            let seal = |secret| match &secret {
                Secret::Plain(text) => self.seal(id, text).map(|sealed| Some(Secret::Sealed(sealed))),
                _ => Ok(Some(secret)),
            };
            if let Err(error) = secret::each(settings, &mut { seal }) {
                refuse("settings".into(), format!("What is secret in it could not be sealed: {error}."));
            }
        }
        if problems.is_empty() { Ok(Cow::Owned(edits)) } else { Err(problems) }
    }
}

fn settings_of(edit: &Edit) -> Option<&Json> {
    match &edit.op {
        Op::Create(own, _) | Op::Patch(own) if edit.kind == Kind::Connection => own.get("settings"),
        _ => None,
    }
}

/// The kind of the connection that an edit makes or changes.
fn kind_of(plant: &Plant, edit: &Edit) -> Option<&'static dyn havrel_link::Kind> {
    match (&edit.op, plant.connections.get(&edit.id)) {
        (_, Some(connection)) => kind(&connection.set.kind),
        (Op::Create(own, _), None) => own.get("kind").and_then(Json::as_str).and_then(kind),
        _ => None,
    }
}

/// What the driver finds wrong with a connection as an edit would make it. What is wrong with the item itself is found
/// when the edit is applied.
fn wrong_with(plant: &Plant, edit: &Edit) -> Vec<(String, String)> {
    let mut own = plant.own(edit.kind, edit.id).map(|(own, ..)| own.clone()).unwrap_or_default();
    if let Op::Create(set, _) | Op::Patch(set) = &edit.op {
        own.extend(set.clone());
    }
    resolve::<Connection>(None, &own).map(|connection| Kinds.connection(&connection)).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;
    use std::os::unix::fs::PermissionsExt as _;

    const ID: Uuid = Uuid::from_u128(7);

    #[test]
    fn what_is_sealed_opens_here_for_the_same_connection_and_nowhere_else() {
        let folder = tempfile::tempdir().unwrap();
        let keeper = Keeper::at(folder.path());
        assert_eq!(keeper.open(ID, "nothing was sealed yet"), None);
        let sealed = keeper.seal(ID, "kelp and salt").unwrap();
        assert!(!sealed.contains("kelp") && sealed != keeper.seal(ID, "kelp and salt").unwrap(), "never the same twice");
        assert_eq!(keeper.open(ID, &sealed).as_deref(), Some("kelp and salt"));
        assert_eq!(Keeper::at(folder.path()).open(ID, &sealed).as_deref(), Some("kelp and salt"), "after a restart");
        assert_eq!(keeper.open(Uuid::from_u128(8), &sealed), None);
        assert_eq!(Keeper::at(tempfile::tempdir().unwrap().path()).open(ID, &sealed), None, "on another machine");
        for at in 0..sealed.len() {
            let mut spoilt = sealed.clone().into_bytes();
            spoilt[at] = if spoilt[at] == b'A' { b'B' } else { b'A' };
            let opened = keeper.open(ID, &String::from_utf8(spoilt).unwrap());
            assert!(opened.is_none_or(|text| text == "kelp and salt"), "a spoilt letter never gives another text");
        }
        let mode = fs::metadata(folder.path().join(KEY_FILE)).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
    }

    #[test]
    fn a_link_is_known_here_and_cannot_be_made_up() {
        let folder = tempfile::tempdir().unwrap();
        let keeper = Keeper::at(folder.path());
        assert_eq!(keeper.id_of_token("AAAA"), None);
        let token = keeper.token(ID).unwrap();
        assert!(token.chars().all(|c| c.is_ascii_alphanumeric() || "-_".contains(c)), "{token}");
        assert_eq!(Keeper::at(folder.path()).id_of_token(&token), Some(ID));
        for at in 0..token.len() {
            let mut spoilt = token.clone().into_bytes();
            spoilt[at] = if spoilt[at] == b'A' { b'B' } else { b'A' };
            let read = keeper.id_of_token(&String::from_utf8(spoilt).unwrap());
            assert!(read.is_none_or(|id| id == ID), "a spoilt letter never gives another item");
        }
        let sealed = keeper.seal(ID, "kelp").unwrap().replace('+', "-").replace('/', "_");
        assert_eq!(keeper.id_of_token(sealed.trim_end_matches('=')), None);
    }

    #[test]
    fn a_spoilt_key_is_told_and_never_overwritten() {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join(KEY_FILE), "not a key").unwrap();
        let error = Keeper::at(folder.path()).seal(ID, "s").unwrap_err();
        assert!(error.to_string().contains("holds no key"), "{error}");
        assert_eq!(fs::read_to_string(folder.path().join(KEY_FILE)).unwrap(), "not a key");
    }

    fn create(settings: Json) -> Edit {
        let own = json!({"name": "Dosing", "kind": "modbus", "settings": settings});
        Edit { kind: Kind::Connection, id: ID, op: Op::Create(own.as_object().unwrap().clone(), None), seen: None }
    }

    #[test]
    fn edits_are_sealed_kept_and_opened_for_the_driver() {
        let folder = tempfile::tempdir().unwrap();
        let keeper = Keeper::at(folder.path());
        let plain = [create(json!({"host": "a"}))];
        assert!(matches!(keeper.take_in(&Plant::default(), &plain), Ok(Cow::Borrowed(_))), "nothing secret, nothing copied");
        assert!(!folder.path().join(KEY_FILE).exists());

        let wrong = create(json!({"host": "a", "transport": "tls", "tls": {"key": {"secret": "no key at all"}}}));
        let problems = keeper.take_in(&Plant::default(), &[wrong]).unwrap_err();
        assert!(problems.iter().any(|p| p.field == "settings.tls.key"), "{problems:?}");
        assert!(!format!("{problems:?}").contains("no key at all"));

        // Whatever the kind does with it: here none looks at it.
        let typed = create(json!({"host": "a", "tls": {"key": {"secret": "kelp and salt"}}}));
        let sealed = keeper.take_in(&Plant::default(), &[typed]).unwrap().into_owned();
        let Op::Create(own, _) = &sealed[0].op else { panic!("it was made") };
        assert!(!Json::Object(own.clone()).to_string().contains("kelp"));
        let Some(Json::Object(settings)) = own.get("settings") else { panic!("with settings") };
        let opened = keeper.opened(ID, settings.clone());
        assert_eq!(opened["tls"]["key"], json!({"secret": "kelp and salt"}));
        let elsewhere = Keeper::at(tempfile::tempdir().unwrap().path()).opened(ID, settings.clone());
        assert_eq!(elsewhere["tls"]["key"], settings["tls"]["key"], "it stays sealed");
    }
}
