//! Secured streams: TLS over whatever carries bytes, with the device known by its authority or by its fingerprint, and our
//! own certificate where the device asks for one.

use crate::{
    LinkError, Offer,
    certificate::{Told, Wrong, certificates, check_certificates, check_fingerprint, check_pair, digits, fingerprint, shown},
    error::Untrusted,
    form::{Control, Field},
};
use havrel_core::{plant::Secret, time::SECOND};
use serde::Deserialize;
use std::{
    fmt::Debug,
    io,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};
use tokio::{
    io::{AsyncRead, AsyncWrite},
    time::timeout,
};
use tokio_rustls::{
    TlsConnector,
    client::TlsStream,
    rustls::{
        self, CertificateError, ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme,
        client::{
            WebPkiServerVerifier,
            danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
        },
        crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature},
        pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime, pem::PemObject},
    },
};

/// How a secured stream is made.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Tls {
    /// PEM: certificates of the authorities that vouch for the device.
    pub trust: String,
    /// SHA-256 of the device's own certificate, 64 hexadecimal digits; it is then trusted whoever vouches for it.
    pub fingerprint: String,
    /// PEM: our own certificate, with what it is issued by.
    pub certificate: String,
    /// PEM: the private key of our certificate.
    pub key: Option<Secret>,
}

/// The fields of a form that ask for these settings, while another field has one of some values.
pub(crate) fn fields(field: &'static str, is: &'static [&'static str]) -> Vec<Field> {
    let pem = |key, label, hint| Field::new(key, label, Control::Pem).usual("").hint(hint).only(field, is).width(3);
    vec![
        pem("settings.tls.trust", "Certificates of trusted authorities", "PEM"),
        Field::new("settings.tls.fingerprint", "Or the fingerprint of the device’s own certificate", Control::Fingerprint)
            .usual("")
            .hint("SHA-256. A test shows it, to be compared and trusted.")
            .only(field, is)
            .width(3),
        pem("settings.tls.certificate", "Our certificate", "PEM; where the device asks for one"),
        Field::new("settings.tls.key", "Private key of our certificate", Control::PemSecret)
            .hint("PEM; encrypted when saved, never shown again")
            .only(field, is)
            .width(3),
    ]
}

/// What came of making a stream secure.
pub struct Secured<S> {
    pub stream: TlsStream<S>,
    /// In words: version of TLS, and the fingerprint of the device's certificate.
    pub words: String,
}

impl Tls {
    /// What is wrong with it: field and sentence.
    pub fn check(&self) -> Vec<Wrong> {
        let mut wrong: Vec<Wrong> = check_certificates("trust", &self.trust).into_iter().collect();
        wrong.extend(check_fingerprint("fingerprint", &self.fingerprint));
        wrong.extend(check_pair(&self.certificate, self.key.as_ref()));
        wrong
    }

    /// Judges certificates of the device after these settings; by the name that is given, where it is not the host's.
    ///
    /// # Errors
    /// When an authority's certificate cannot be used.
    pub(crate) fn judge(&self, name: Option<&str>) -> Result<Arc<Judge>, LinkError> {
        Judge::new(self, name).map(Arc::new)
    }

    /// How the library makes streams secure.
    ///
    /// # Errors
    /// When our own certificate or its key cannot be used.
    pub(crate) fn config(&self, judge: Arc<Judge>) -> Result<ClientConfig, LinkError> {
        let config = ClientConfig::builder_with_provider(provider())
            .with_safe_default_protocol_versions()
            .map_err(refused)?
            .dangerous()
            .with_custom_certificate_verifier(judge);
        if self.certificate.trim().is_empty() {
            return Ok(config.with_no_client_auth());
        }
        let chain = certificates(&self.certificate).unwrap_or_default();
        let Some(Secret::Plain(key)) = &self.key else { return Err(LinkError::NoSecret("private key".into())) };
        let key = PrivateKeyDer::from_pem_slice(key.as_bytes()).map_err(|_| LinkError::NoSecret("private key".into()))?;
        config.with_client_auth_cert(chain, key).map_err(refused)
    }

    /// Makes a stream secure.
    ///
    /// # Errors
    /// When the device is not to be trusted, does not trust us, or does not speak TLS.
    pub async fn secure<S>(&self, stream: S, host: &str, timeout_ms: u32) -> Result<Secured<S>, LinkError>
    where
        S: AsyncRead + AsyncWrite + Unpin,
    {
        let judge = self.judge(None)?;
        let connector = TlsConnector::from(Arc::new(self.config(judge.clone())?));
        let host = host.trim().trim_start_matches('[').trim_end_matches(']').to_owned();
        let name = ServerName::try_from(host.clone()).map_err(|_| LinkError::NameNotFound(host))?;
        let made = timeout(Duration::from_millis(timeout_ms.into()), connector.connect(name, stream)).await;
        let made = made.map_err(|_| LinkError::NotSecured(format!("nothing fit for TLS came within {timeout_ms} ms")))?;
        let stream = made.map_err(|error| judge.failed(&error))?;
        let seen = judge.seen();
        let version = match stream.get_ref().1.protocol_version() {
            Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3",
            _ => "TLS 1.2",
        };
        let words = format!("{version}, certificate {}", seen.map_or_else(String::new, |s| shown(&s)));
        Ok(Secured { stream, words })
    }
}

/// What TLS itself says in an error of a stream.
pub(crate) fn error_of(error: &io::Error) -> Option<&rustls::Error> {
    error.get_ref().and_then(|inner| inner.downcast_ref())
}

/// A failure of TLS, in the words of its library.
pub(crate) fn refused(error: rustls::Error) -> LinkError {
    match error {
        rustls::Error::InvalidMessage(_) => LinkError::NotSecured("what answers there does not speak TLS".into()),
        rustls::Error::AlertReceived(alert) => LinkError::NotSecured(format!("the device refuses, {alert:?}")),
        other => LinkError::NotSecured(other.to_string()),
    }
}

fn why_not(error: &CertificateError) -> String {
    match error {
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => "it has expired".into(),
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => "it is not valid yet".into(),
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
            "it was issued for another name or address".into()
        }
        CertificateError::UnknownIssuer => "no trusted authority has signed it".into(),
        other => other.to_string(),
    }
}

fn provider() -> Arc<CryptoProvider> {
    Arc::new(ring::default_provider())
}

/// Judges the device's certificate, and remembers it so that a person can judge it too.
#[derive(Debug)]
pub(crate) struct Judge {
    authorities: Option<Arc<WebPkiServerVerifier>>,
    pinned: Option<[u8; 32]>,
    name: Option<ServerName<'static>>,
    seen: Mutex<Seen>,
    provider: Arc<CryptoProvider>,
}

/// A certificate that was shown, and why it is not trusted.
#[derive(Clone, Debug, Default)]
struct Seen {
    fingerprint: Option<[u8; 32]>,
    wrong: Option<CertificateError>,
    /// It has expired, whatever else is wrong with it.
    expired: bool,
}

impl Judge {
    fn new(tls: &Tls, name: Option<&str>) -> Result<Judge, LinkError> {
        let mut roots = RootCertStore::empty();
        for certificate in certificates(&tls.trust).unwrap_or_default() {
            roots.add(certificate).map_err(refused)?;
        }
        let authorities = if roots.is_empty() {
            None
        } else {
            let built = WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider()).build();
            Some(built.map_err(|e| LinkError::NotSecured(e.to_string()))?)
        };
        let unknown = |name: &str| LinkError::NameNotFound(name.to_owned());
        let name = name.map(|name| ServerName::try_from(name.to_owned()).map_err(|_| unknown(name))).transpose()?;
        let pinned = digits(&tls.fingerprint);
        Ok(Judge { authorities, pinned, name, seen: Mutex::default(), provider: provider() })
    }

    fn memory(&self) -> MutexGuard<'_, Seen> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The fingerprint of the certificate that was shown.
    fn seen(&self) -> Option<[u8; 32]> {
        self.memory().fingerprint
    }

    /// That the certificate is not trusted, where it was shown and is not.
    pub fn untrusted(&self) -> Option<LinkError> {
        let Seen { fingerprint: Some(seen), wrong: Some(why), expired } = self.memory().clone() else { return None };
        let told = why_not(&why);
        let expired = if expired && told != why_not(&CertificateError::Expired) { ", and it has expired" } else { "" };
        let why = match (why, self.pinned) {
            (CertificateError::ApplicationVerificationFailure, Some(pinned)) => {
                format!("it is another one than the trusted one, whose fingerprint is {}", shown(&pinned))
            }
            _ => told,
        };
        let why = format!("{why}{expired}");
        let (fingerprint, field) = (shown(&seen), "settings.tls.fingerprint".into());
        let offer = Offer { field, value: fingerprint.clone(), words: "Trust this certificate".into() };
        let cure = "Compare the fingerprint with the one the device itself shows; if they agree, trust it.";
        Some(LinkError::Untrusted(Box::new(Untrusted { why, fingerprint, cure, offer })))
    }

    /// A failure of a stream that it judged for.
    pub fn failed(&self, error: &io::Error) -> LinkError {
        match error_of(error) {
            Some(rustls::Error::InvalidCertificate(_)) => {
                self.untrusted().unwrap_or_else(|| LinkError::NotSecured("the certificate cannot be read".into()))
            }
            Some(other) => refused(other.clone()),
            None if error.kind() == io::ErrorKind::UnexpectedEof => LinkError::Closed,
            None => LinkError::NotSecured(error.kind().to_string()),
        }
    }

    fn verdict(
        &self,
        fingerprint: [u8; 32],
        by_authority: impl FnOnce(&WebPkiServerVerifier) -> Result<ServerCertVerified, rustls::Error>,
    ) -> Result<ServerCertVerified, rustls::Error> {
        match (&self.pinned, &self.authorities) {
            (Some(pinned), _) if *pinned == fingerprint => Ok(ServerCertVerified::assertion()),
            (Some(_), _) => Err(CertificateError::ApplicationVerificationFailure.into()),
            (None, Some(authorities)) => by_authority(authorities),
            (None, None) => Err(CertificateError::UnknownIssuer.into()),
        }
    }
}

impl ServerCertVerifier for Judge {
    fn verify_server_cert(
        &self,
        own: &CertificateDer<'_>,
        between: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let fingerprint = fingerprint(own);
        let name = self.name.as_ref().unwrap_or(name);
        let verdict = self.verdict(fingerprint, |known| known.verify_server_cert(own, between, name, ocsp, now));
        let wrong = match &verdict {
            Err(rustls::Error::InvalidCertificate(why)) => Some(why.clone()),
            _ => None,
        };
        let until = Told::of(own).map_or(i64::MAX, |told| told.until / SECOND);
        let expired = until < i64::try_from(now.as_secs()).unwrap_or(i64::MAX);
        *self.memory() = Seen { fingerprint: Some(fingerprint), wrong, expired };
        verdict
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn pair() -> (String, String) {
        let made = rcgen::generate_simple_self_signed(["localhost".to_owned()]).unwrap();
        (made.cert.pem(), made.signing_key.serialize_pem())
    }

    #[rstest]
    #[case(|t: &mut Tls| t.trust = "no certificate".into(), &["trust"])]
    #[case(|t: &mut Tls| t.certificate = "-----BEGIN CERTIFICATE-----\n!\n-----END CERTIFICATE-----".into(), &["certificate"])]
    #[case(|t: &mut Tls| t.certificate.clear(), &["certificate"])]
    #[case(|t: &mut Tls| t.fingerprint = "12:34".into(), &["fingerprint"])]
    #[case(|t: &mut Tls| t.key = Some(Secret::Plain("no key".into())), &["key"])]
    #[case(|t: &mut Tls| t.trust = "x".repeat((64 << 10) + 1), &["trust"])]
    #[case(|t: &mut Tls| t.key = Some(Secret::Sealed("anything".into())), &[])]
    #[case(|t: &mut Tls| *t = Tls::default(), &[])]
    #[case(|_: &mut Tls| {}, &[])]
    fn what_is_wrong_is_told_at_its_field(#[case] change: fn(&mut Tls), #[case] fields: &[&str]) {
        let (certificate, key) = pair();
        let fingerprint = shown(&[7; 32]);
        let mut tls = Tls { trust: certificate.clone(), fingerprint, certificate, key: Some(Secret::Plain(key)) };
        change(&mut tls);
        assert_eq!(tls.check().iter().map(|w| w.0).collect::<Vec<_>>(), fields);
    }
}
