//! The certificate by which servers know this installation. It belongs to this machine: it lies in the data folder, its key sealed,
//! and goes into no backup of the database.

use crate::{now, secrets::Keeper};
use base64::{Engine as _, engine::general_purpose::STANDARD};
use havrel_link::{Identities, Identity, LinkError};
use serde::{Deserialize, Serialize};
use std::{
    fs::{self, File},
    io::{self, Write as _},
    path::{Path, PathBuf},
    sync::{Arc, Mutex, PoisonError},
};
use uuid::Uuid;

/// Its file, in the data folder.
pub const IDENTITY_FILE: &str = "identity.json";

/// What its key is sealed for.
const OWNER: Uuid = Uuid::nil();

/// The file.
#[derive(Serialize, Deserialize)]
struct Kept {
    /// DER in base 64.
    certificate: String,
    /// PEM, sealed.
    key: String,
}

/// Keeps the certificate of this installation.
pub struct Own {
    file: PathBuf,
    keeper: Arc<Keeper>,
    /// One at a time, so that it is made once.
    turn: Mutex<()>,
}

impl Own {
    /// In a data folder.
    pub fn at(data: &Path, keeper: Arc<Keeper>) -> Own {
        Own { file: data.join(IDENTITY_FILE), keeper, turn: Mutex::default() }
    }

    fn read(&self) -> Result<Option<Identity>, String> {
        let text = match fs::read(&self.file) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(error) => return Err(format!("{} cannot be read: {error}", self.file.display())),
        };
        let broken = || format!("{} cannot be opened with the key of this machine; make a new certificate", self.file.display());
        let kept: Kept = serde_json::from_slice(&text).map_err(|_| broken())?;
        let key = self.keeper.open(OWNER, &kept.key).ok_or_else(broken)?;
        let certificate = STANDARD.decode(kept.certificate).map_err(|_| broken())?;
        Identity::of(certificate, key).ok_or_else(broken).map(Some)
    }

    fn make(&self) -> Result<Identity, String> {
        let host = gethostname::gethostname().to_string_lossy().into_owned();
        let hosts: Vec<String> = [host, "localhost".to_owned()].into_iter().filter(|host| !host.is_empty()).collect();
        let made = Identity::make(&hosts, now())?;
        let key = self.keeper.seal(OWNER, &made.key).map_err(|e| e.to_string())?;
        let kept = Kept { certificate: STANDARD.encode(&made.certificate), key };
        let text = serde_json::to_vec_pretty(&kept).map_err(|e| e.to_string())?;
        // Whole or not at all: a half one would lock out every server that trusts the old one.
        let beside = self.file.with_extension("new");
        let written = File::create(&beside).and_then(|mut file| {
            file.write_all(&text)?;
            file.sync_all()?;
            fs::rename(&beside, &self.file)
        });
        written.map_err(|e| format!("{} cannot be written: {e}", self.file.display()))?;
        Ok(made)
    }

    /// Replaces it; every server has to trust the new one.
    ///
    /// # Errors
    /// In words, when it can be neither made nor kept; the old one then stays.
    pub fn renew(&self) -> Result<Arc<Identity>, LinkError> {
        let _turn = self.turn.lock().unwrap_or_else(PoisonError::into_inner);
        self.make().map(Arc::new).map_err(told)
    }
}

fn told(words: String) -> LinkError {
    LinkError::NotSecured(format!("Havrel’s own certificate: {words}"))
}

impl Identities for Own {
    fn folder(&self) -> &Path {
        self.file.parent().unwrap_or(Path::new("."))
    }

    fn identity(&self) -> Result<Arc<Identity>, LinkError> {
        let _turn = self.turn.lock().unwrap_or_else(PoisonError::into_inner);
        let held = self.read().and_then(|held| held.map_or_else(|| self.make(), Ok));
        held.map(Arc::new).map_err(told)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn own(folder: &Path) -> Own {
        Own::at(folder, Arc::new(Keeper::at(folder)))
    }

    #[test]
    fn it_is_made_once_kept_sealed_and_renewed_by_hand_only() {
        let folder = tempfile::tempdir().unwrap();
        let first = own(folder.path());
        let made = std::thread::scope(|scope| {
            let both = [(), ()].map(|()| scope.spawn(|| first.identity().unwrap()));
            both.map(|one| one.join().unwrap().certificate.clone())
        });
        assert_eq!(made[0], made[1], "two at once make one");
        let text = fs::read_to_string(folder.path().join(IDENTITY_FILE)).unwrap();
        assert!(!text.contains("PRIVATE KEY"));
        let again = own(folder.path());
        assert_eq!(again.identity().unwrap().certificate, made[0], "after a restart");
        let renewed = again.renew().unwrap();
        assert!(renewed.certificate != made[0] && first.identity().unwrap().certificate == renewed.certificate);

        fs::remove_file(folder.path().join(crate::secrets::KEY_FILE)).unwrap();
        let refused = first.identity().err().unwrap().to_string();
        assert!(refused.contains("make a new certificate"), "{refused}");
        assert!(first.renew().is_ok() && first.identity().is_ok());
        fs::write(folder.path().join(IDENTITY_FILE), "{").unwrap();
        assert!(first.identity().is_err(), "a spoilt file is not replaced by itself");
    }
}
