//! Certificates (X.509, RFC 5280): read from text, told to people, compared by fingerprint.

use havrel_core::{
    plant::Secret,
    time::{Nanos, SECOND},
};
use sha2::{Digest as _, Sha256};
use std::net::IpAddr;
use tokio_rustls::rustls::pki_types::{
    CertificateDer, CertificateRevocationListDer, PrivateKeyDer,
    pem::{self, PemObject},
};
use x509_cert::{
    Certificate,
    der::{Decode as _, Reader as _, SliceReader},
    ext::pkix::{SubjectAltName, name::GeneralName},
};

/// Most bytes of a certificate or key as text.
const MOST_TEXT: usize = 64 << 10;
/// Most certificates of a chain that are looked at.
const MOST_CHAIN: usize = 10;

/// Field and sentence.
pub(crate) type Wrong = (&'static str, &'static str);

/// 32 bytes as people compare them: pairs of digits with colons.
pub fn shown(fingerprint: &[u8; 32]) -> String {
    fingerprint.iter().map(|b| format!("{b:02X}")).collect::<Vec<_>>().join(":")
}

/// The fingerprint (SHA-256) of a certificate in DER.
pub fn fingerprint(certificate: &[u8]) -> [u8; 32] {
    Sha256::digest(certificate).into()
}

/// A fingerprint as somebody typed it.
pub(crate) fn digits(text: &str) -> Option<[u8; 32]> {
    let digits: Vec<u8> = text
        .chars()
        .filter(|c| !c.is_whitespace() && *c != ':')
        .map(|c| c.to_digit(16).map(|d| d as u8))
        .collect::<Option<_>>()?;
    let bytes: Vec<u8> = digits.chunks_exact(2).map(|pair| pair[0] << 4 | pair[1]).collect();
    (digits.len() == 64).then(|| bytes.try_into().ok()).flatten()
}

/// What stands in a text between lines BEGIN and END; `None` where nothing does, or something that cannot be read.
fn all<T: PemObject>(text: &str) -> Option<Vec<T>> {
    let found: Vec<_> = T::pem_slice_iter(text.as_bytes()).collect::<Result<_, pem::Error>>().ok()?;
    (!found.is_empty()).then_some(found)
}

/// The certificates in a text.
pub(crate) fn certificates(text: &str) -> Option<Vec<CertificateDer<'static>>> {
    all(text)
}

/// The lists of revoked certificates in a text.
pub(crate) fn revocations(text: &str) -> Option<Vec<CertificateRevocationListDer<'static>>> {
    all(text)
}

/// What is wrong with certificates as text; nothing typed is nothing wrong.
pub(crate) fn check_certificates(field: &'static str, text: &str) -> Option<Wrong> {
    const NONE: &str = "This contains no certificate; paste it with its lines BEGIN and END.";
    check_text(field, text, NONE, |text| certificates(text).is_some())
}

/// The same of lists of revoked certificates.
pub(crate) fn check_revocations(field: &'static str, text: &str) -> Option<Wrong> {
    const NONE: &str = "This contains no list of revoked certificates; paste it with its lines BEGIN and END.";
    check_text(field, text, NONE, |text| revocations(text).is_some())
}

fn check_text(field: &'static str, text: &str, none: &'static str, holds: impl Fn(&str) -> bool) -> Option<Wrong> {
    match text.len() > MOST_TEXT {
        true => Some((field, "This is longer than 64 KiB.")),
        false => (!text.trim().is_empty() && !holds(text)).then_some((field, none)),
    }
}

/// What is wrong with a fingerprint.
pub(crate) fn check_fingerprint(field: &'static str, text: &str) -> Option<Wrong> {
    let wrong = !text.trim().is_empty() && digits(text).is_none();
    wrong.then_some((field, "A fingerprint (SHA-256) has 64 digits from 0 to 9 and A to F."))
}

/// What is wrong with a certificate of our own and its private key.
pub(crate) fn check_pair(certificate: &str, key: Option<&Secret>) -> Vec<Wrong> {
    let mut wrong: Vec<Wrong> = check_certificates("certificate", certificate).into_iter().collect();
    match key {
        Some(Secret::Plain(text)) if text.len() > MOST_TEXT => wrong.push(("key", "This is longer than 64 KiB.")),
        Some(Secret::Plain(text)) if PrivateKeyDer::from_pem_slice(text.as_bytes()).is_err() => {
            wrong.push(("key", "This contains no private key; paste it with its lines BEGIN and END."));
        }
        Some(_) if certificate.trim().is_empty() => wrong.push(("certificate", "Enter the certificate of this key too.")),
        _ => {}
    }
    wrong
}

/// What a certificate says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Told {
    /// Whose it is (RFC 4514), such as `CN=Dryline`.
    pub subject: String,
    pub issuer: String,
    /// From and until when it is valid.
    pub from: Nanos,
    pub until: Nanos,
    /// Names and addresses of hosts.
    pub hosts: Vec<String>,
    /// URIs of applications.
    pub uris: Vec<String>,
    pub fingerprint: [u8; 32],
}

/// Longest name that is told.
const MOST_NAME: usize = 200;

fn named(text: impl ToString) -> String {
    text.to_string().chars().filter(|c| !c.is_control()).take(MOST_NAME).collect()
}

impl Told {
    /// Of a certificate in DER; `None` where it is none.
    pub fn of(der: &[u8]) -> Option<Told> {
        let read = Certificate::from_der(der).ok()?;
        let body = &read.tbs_certificate;
        let at = |time: x509_cert::time::Time| {
            i64::try_from(time.to_unix_duration().as_secs()).unwrap_or(i64::MAX).saturating_mul(SECOND)
        };
        let (mut hosts, mut uris) = (Vec::new(), Vec::new());
        let names = body.get::<SubjectAltName>().ok().flatten().map(|(_, names)| names.0).unwrap_or_default();
        for name in names.into_iter().take(100) {
            match name {
                GeneralName::DnsName(host) => hosts.push(named(host)),
                GeneralName::UniformResourceIdentifier(uri) => uris.push(named(uri)),
                GeneralName::IpAddress(bytes) => {
                    let four = <[u8; 4]>::try_from(bytes.as_bytes()).map(IpAddr::from);
                    let address = four.or_else(|_| <[u8; 16]>::try_from(bytes.as_bytes()).map(IpAddr::from));
                    hosts.extend(address.ok().map(|a| a.to_string()));
                }
                _ => {}
            }
        }
        Some(Told {
            subject: named(&body.subject),
            issuer: named(&body.issuer),
            from: at(body.validity.not_before),
            until: at(body.validity.not_after),
            hosts,
            uris,
            fingerprint: fingerprint(der),
        })
    }

    /// Whether it is for a host; capitals do not matter.
    pub(crate) fn is_for(&self, host: &str) -> bool {
        let host = host.trim_start_matches('[').trim_end_matches(']');
        self.hosts.iter().any(|named| named.eq_ignore_ascii_case(host))
    }
}

/// The certificates of a chain, one after the other in DER; what cannot be read ends it.
pub(crate) fn chain(bytes: &[u8]) -> Vec<&[u8]> {
    let Ok(mut reader) = SliceReader::new(bytes) else { return Vec::new() };
    std::iter::from_fn(|| reader.tlv_bytes().ok()).take(MOST_CHAIN).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test_certificates::{Issued, days, issue};

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

    #[test]
    fn a_certificate_is_told_and_a_chain_is_taken_apart() {
        let authority = issue(&Issued { name: "Plant authority", authority: true, ..Issued::default() }, None);
        let names = &["dryer.local", "10.0.4.31", "fe80::1"];
        let own = Issued { name: "Dryline", hosts: names, uri: "urn:dryer", days: days(-1, 30), ..Issued::default() };
        let own = issue(&own, Some(&authority));
        let told = Told::of(&own.der).unwrap();
        assert_eq!((told.subject.as_str(), told.issuer.as_str()), ("CN=Dryline", "CN=Plant authority"));
        assert_eq!(
            (told.hosts.as_slice(), told.uris.as_slice()),
            (names.map(String::from).as_slice(), &["urn:dryer".into()][..])
        );
        assert!(told.is_for("DRYER.local") && told.is_for("[fe80::1]") && !told.is_for("10.0.4.3"));
        let day = 86_400 * SECOND;
        assert_eq!((told.from, told.until), (days(-1, 30).0 * day, days(-1, 30).1 * day));

        let both = [own.der.clone(), authority.der.clone()].concat();
        assert_eq!(chain(&both), [own.der.as_slice(), &authority.der]);
        assert_eq!(chain(&both[..both.len() - 1]), [own.der.as_slice()], "a half one is left out");
        for cut in 0..own.der.len() {
            assert_eq!(Told::of(&own.der[..cut]), None);
        }
    }
}
