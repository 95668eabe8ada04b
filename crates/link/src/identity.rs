//! The certificate and private key by which servers know this installation, beside any login.

use crate::{LinkError, certificate::Told};
use havrel_core::time::{Nanos, SECOND};
use opcua::crypto::PrivateKey;
use rcgen::{
    CertificateParams, DistinguishedName, DnType, ExtendedKeyUsagePurpose, IsCa, KeyPair, KeyUsagePurpose, SanType, date_time_ymd,
};
use std::{path::Path, sync::Arc, time::Duration};
use tokio_rustls::rustls::pki_types::{PrivatePkcs8KeyDer, pem::PemObject};

/// Bits of the key; every policy of OPC UA takes it (Part 7, 6.6.161 ff: 2,048 to 4,096).
const BITS: u32 = 2048;
/// Days for which it is valid; servers must be told of a new one by hand, so this is long.
const DAYS: u64 = 3650;
/// Days before the moment of making, so that a server whose clock is behind takes it too.
const BEFORE: u64 = 1;

/// A certificate and its private key.
#[derive(Clone, PartialEq, Eq)]
pub struct Identity {
    /// DER.
    pub certificate: Vec<u8>,
    /// PEM (PKCS #8).
    pub key: String,
}

/// What belongs to this installation: its own identity, made when it is first asked for, and its folder.
pub trait Identities: Send + Sync {
    /// The folder of what belongs to this machine and goes into no backup of the database.
    fn folder(&self) -> &Path;

    /// The identity. It may take a second, so it is not asked for on a thread that serves others.
    ///
    /// # Errors
    /// When it can neither be read nor made.
    fn identity(&self) -> Result<Arc<Identity>, LinkError>;
}

impl Identity {
    /// Makes a new one for a machine with these names and addresses, signed by itself, as the standard asks of the
    /// certificate of an application (OPC UA Part 6, 6.2.2).
    ///
    /// # Errors
    /// In words, when the random numbers or a name do not serve.
    pub fn make(hosts: &[String], now: Nanos) -> Result<Identity, String> {
        let host = hosts.first().map_or("localhost", String::as_str);
        let text = |text: String| text.as_str().try_into().map_err(|_| format!("“{text}” cannot stand in a certificate"));
        let mut params = CertificateParams::new(hosts.to_vec()).map_err(|e| e.to_string())?;
        // Some servers take the first of these names for the application's.
        params.subject_alt_names.insert(0, SanType::URI(text(format!("urn:{host}:havrel"))?));
        params.distinguished_name = DistinguishedName::new();
        params.distinguished_name.push(DnType::CommonName, format!("Havrel on {host}"));
        params.is_ca = IsCa::ExplicitNoCa;
        params.use_authority_key_identifier_extension = true;
        params.key_usages = vec![
            KeyUsagePurpose::DigitalSignature,
            KeyUsagePurpose::ContentCommitment,
            KeyUsagePurpose::KeyEncipherment,
            KeyUsagePurpose::DataEncipherment,
            KeyUsagePurpose::KeyCertSign,
        ];
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth, ExtendedKeyUsagePurpose::ServerAuth];
        let seconds = (now / SECOND).unsigned_abs();
        let at = |seconds: u64| date_time_ymd(1970, 1, 1) + Duration::from_secs(seconds);
        params.not_before = at(seconds.saturating_sub(BEFORE * 86_400));
        params.not_after = at(seconds + DAYS * 86_400);
        let key = PrivateKey::new(BITS).ok().and_then(|key| key.to_der().ok()).ok_or("no key could be made")?;
        let key = KeyPair::try_from(key.as_bytes()).map_err(|e| e.to_string())?;
        let certificate = params.self_signed(&key).map_err(|e| e.to_string())?;
        Ok(Identity { certificate: certificate.der().to_vec(), key: key.serialize_pem() })
    }

    /// Of a certificate and a key as they were kept; `None` where either is not what it should be.
    pub fn of(certificate: Vec<u8>, key: String) -> Option<Identity> {
        Told::of(&certificate)?;
        PrivatePkcs8KeyDer::from_pem_slice(key.as_bytes()).ok()?;
        Some(Identity { certificate, key })
    }

    /// Its certificate as PEM (RFC 7468).
    pub fn pem(&self) -> String {
        pem::encode(&pem::Pem::new("CERTIFICATE", self.certificate.clone()))
    }

    /// What its certificate says.
    pub fn told(&self) -> Option<Told> {
        Told::of(&self.certificate)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_names_the_application_and_the_machine_and_lasts_ten_years() {
        let hosts = ["plant-pc", "10.0.4.9"].map(String::from);
        let now = 20_000 * 86_400 * SECOND + 7;
        let made = Identity::make(&hosts, now).unwrap();
        let told = made.told().unwrap();
        assert_eq!(told.subject, "CN=Havrel on plant-pc");
        assert_eq!((told.uris, told.hosts), (vec!["urn:plant-pc:havrel".to_owned()], hosts.to_vec()));
        let day = 86_400 * SECOND;
        assert_eq!((told.from, told.until), (19_999 * day, 23_650 * day));
        let library = opcua::crypto::X509::from_der(&made.certificate).unwrap();
        assert!(library.is_application_uri_valid("urn:plant-pc:havrel").is_ok() && library.is_hostname_valid("10.0.4.9").is_ok());
        assert_eq!(library.key_length().unwrap(), 2048);
        assert!(PrivateKey::from_pem(made.key.as_bytes()).is_ok());
        assert!(Identity::of(made.certificate.clone(), made.key.clone()).is_some_and(|again| again == made));
        assert!(Identity::of(made.certificate[1..].to_vec(), made.key.clone()).is_none());
        assert!(Identity::of(made.certificate.clone(), "no key".into()).is_none());
        assert!(Identity::make(&["bad\u{e9}".to_owned()], now).is_err());
    }
}
