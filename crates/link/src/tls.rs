//! Secured streams: TLS over whatever carries bytes, with the device known by its authority or by its fingerprint, and our
//! own certificate where the device asks for one.

use crate::{
    LinkError, Offer,
    certificate::{Wrong, certificates, check_certificates, check_fingerprint, check_pair, digits, fingerprint, shown},
    error::Untrusted,
};
use havrel_core::plant::Secret;
use serde::Deserialize;
use std::{
    fmt::Debug,
    io,
    sync::{Arc, Mutex, PoisonError},
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

    fn untrusted(&self, why: &CertificateError, seen: &[u8; 32]) -> LinkError {
        let why = match (why, digits(&self.fingerprint)) {
            (CertificateError::ApplicationVerificationFailure, Some(pinned)) => {
                format!("it is another one than the trusted one, whose fingerprint is {}", shown(&pinned))
            }
            _ => why_not(why),
        };
        let (fingerprint, field) = (shown(seen), "settings.tls.fingerprint".into());
        let offer = Offer { field, value: fingerprint.clone(), words: "Trust this certificate".into() };
        let cure = "Compare the fingerprint with the one the device itself shows; if they agree, trust it.";
        LinkError::Untrusted(Box::new(Untrusted { why, fingerprint, cure, offer }))
    }

    fn config(&self, verifier: Arc<Verifier>) -> Result<ClientConfig, LinkError> {
        let config = ClientConfig::builder_with_provider(provider())
            .with_safe_default_protocol_versions()
            .map_err(refused)?
            .dangerous()
            .with_custom_certificate_verifier(verifier);
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
        let verifier = Arc::new(Verifier::new(self)?);
        let connector = TlsConnector::from(Arc::new(self.config(verifier.clone())?));
        let host = host.trim().trim_start_matches('[').trim_end_matches(']').to_owned();
        let name = ServerName::try_from(host.clone()).map_err(|_| LinkError::NameNotFound(host))?;
        let made = timeout(Duration::from_millis(timeout_ms.into()), connector.connect(name, stream)).await;
        let made = made.map_err(|_| LinkError::NotSecured(format!("nothing fit for TLS came within {timeout_ms} ms")))?;
        let seen = *verifier.seen.lock().unwrap_or_else(PoisonError::into_inner);
        let stream = made.map_err(|error| match (error_of(&error), seen) {
            (Some(rustls::Error::InvalidCertificate(why)), Some(seen)) => self.untrusted(why, &seen),
            (Some(other), _) => refused(other.clone()),
            (None, _) if error.kind() == io::ErrorKind::UnexpectedEof => LinkError::Closed,
            (None, _) => LinkError::NotSecured(error.kind().to_string()),
        })?;
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

/// Judges the device's certificate, and remembers its fingerprint so that a person can judge it too.
#[derive(Debug)]
struct Verifier {
    authorities: Option<Arc<WebPkiServerVerifier>>,
    pinned: Option<[u8; 32]>,
    seen: Mutex<Option<[u8; 32]>>,
    provider: Arc<CryptoProvider>,
}

impl Verifier {
    fn new(tls: &Tls) -> Result<Verifier, LinkError> {
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
        Ok(Verifier { authorities, pinned: digits(&tls.fingerprint), seen: Mutex::default(), provider: provider() })
    }
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        own: &CertificateDer<'_>,
        between: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let fingerprint = fingerprint(own);
        *self.seen.lock().unwrap_or_else(PoisonError::into_inner) = Some(fingerprint);
        match (&self.pinned, &self.authorities) {
            (Some(pinned), _) if *pinned == fingerprint => Ok(ServerCertVerified::assertion()),
            (Some(_), _) => Err(CertificateError::ApplicationVerificationFailure.into()),
            (None, Some(authorities)) => authorities.verify_server_cert(own, between, name, ocsp, now),
            (None, None) => Err(CertificateError::UnknownIssuer.into()),
        }
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
