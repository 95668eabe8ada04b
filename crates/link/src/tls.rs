//! Secured streams: TLS over whatever carries bytes, with the device known by its authority or by its fingerprint, and our
//! own certificate where the device asks for one.

use crate::LinkError;
use havrel_core::plant::Secret;
use serde::Deserialize;
use sha2::{Digest as _, Sha256};
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

/// Most bytes of a certificate or key as text.
const MOST_TEXT: usize = 64 << 10;

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

/// 32 bytes as people compare them: pairs of digits with colons.
pub fn shown(fingerprint: &[u8; 32]) -> String {
    fingerprint.iter().map(|b| format!("{b:02X}")).collect::<Vec<_>>().join(":")
}

fn digits(text: &str) -> Option<[u8; 32]> {
    let digits: Vec<u8> = text
        .chars()
        .filter(|c| !c.is_whitespace() && *c != ':')
        .map(|c| c.to_digit(16).map(|d| d as u8))
        .collect::<Option<_>>()?;
    let bytes: Vec<u8> = digits.chunks_exact(2).map(|pair| pair[0] << 4 | pair[1]).collect();
    (digits.len() == 64).then(|| bytes.try_into().ok()).flatten()
}

fn certificates(text: &str) -> Option<Vec<CertificateDer<'static>>> {
    let found: Vec<_> = CertificateDer::pem_slice_iter(text.as_bytes()).collect::<Result<_, _>>().ok()?;
    (!found.is_empty()).then_some(found)
}

impl Tls {
    /// What is wrong with it: field and sentence.
    pub fn check(&self) -> Vec<(&'static str, &'static str)> {
        const NO_CERTIFICATE: &str = "This contains no certificate; paste it with its lines BEGIN and END.";
        let mut wrong = Vec::new();
        for (field, text) in [("trust", &self.trust), ("certificate", &self.certificate)] {
            if text.len() > MOST_TEXT {
                wrong.push((field, "This is longer than 64 KiB."));
            } else if !text.trim().is_empty() && certificates(text).is_none() {
                wrong.push((field, NO_CERTIFICATE));
            }
        }
        if !self.fingerprint.trim().is_empty() && digits(&self.fingerprint).is_none() {
            wrong.push(("fingerprint", "A fingerprint (SHA-256) has 64 digits from 0 to 9 and A to F."));
        }
        match &self.key {
            Some(Secret::Plain(text)) if text.len() > MOST_TEXT => wrong.push(("key", "This is longer than 64 KiB.")),
            Some(Secret::Plain(text)) if PrivateKeyDer::from_pem_slice(text.as_bytes()).is_err() => {
                wrong.push(("key", "This contains no private key; paste it with its lines BEGIN and END."));
            }
            Some(_) if self.certificate.trim().is_empty() => {
                wrong.push(("certificate", "Enter the certificate of this key too."));
            }
            _ => {}
        }
        wrong
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
            (Some(rustls::Error::InvalidCertificate(why)), Some(seen)) => LinkError::Untrusted(why_not(why), shown(&seen)),
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
        CertificateError::ApplicationVerificationFailure => "it is not the certificate that is trusted".into(),
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
        let fingerprint: [u8; 32] = Sha256::digest(own).into();
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

    #[test]
    fn a_fingerprint_is_read_as_it_is_shown_and_as_tools_print_it() {
        let bytes: [u8; 32] = std::array::from_fn(|i| (i * 7) as u8);
        let text = shown(&bytes);
        assert!(text.starts_with("00:07:0E:15:"));
        assert_eq!(digits(&text), Some(bytes));
        assert_eq!(digits(&format!(" {} ", text.replace(':', "").to_lowercase())), Some(bytes));
        for wrong in ["", "00:07", &text[3..], format!("{text}:00").as_str(), text.replace("07", "0G").as_str()] {
            assert_eq!(digits(wrong), None, "{wrong}");
        }
    }

    #[rstest]
    #[case(|t: &mut Tls| t.trust = "no certificate".into(), &["trust"])]
    #[case(|t: &mut Tls| t.certificate = "-----BEGIN CERTIFICATE-----\n!\n-----END CERTIFICATE-----".into(), &["certificate"])]
    #[case(|t: &mut Tls| t.certificate.clear(), &["certificate"])]
    #[case(|t: &mut Tls| t.fingerprint = "12:34".into(), &["fingerprint"])]
    #[case(|t: &mut Tls| t.key = Some(Secret::Plain("no key".into())), &["key"])]
    #[case(|t: &mut Tls| t.trust = "x".repeat(MOST_TEXT + 1), &["trust"])]
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
