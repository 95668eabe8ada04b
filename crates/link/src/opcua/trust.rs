//! Whether a server's certificate is to be trusted (OPC UA Part 4, 6.1.3): by its fingerprint, which a person compared, or because a
//! trusted authority vouches for it.

use crate::{
    LinkError, Offer,
    certificate::{self, Told, certificates, chain, digits, revocations, shown},
    error::Untrusted,
};
use havrel_core::time::{Nanos, SECOND, to_text};
use std::time::Duration;
use tokio_rustls::rustls::pki_types::{CertificateDer, UnixTime};
use webpki::{
    CertRevocationList, EndEntityCert, KeyUsage, OwnedCertRevocationList, RevocationCheckDepth, RevocationOptionsBuilder,
    UnknownStatusPolicy, anchor_from_trusted_cert,
};

/// Whom a connection trusts at one address.
pub(super) struct Trust<'a> {
    /// SHA-256 of the server's own certificate; only this one is then trusted.
    pub fingerprint: &'a str,
    /// The setting that holds it.
    pub field: String,
    /// PEM: authorities that vouch for servers.
    pub authority: &'a str,
    /// PEM: what those authorities have revoked.
    pub revoked: &'a str,
    /// Whether one that is trusted otherwise is accepted outside its validity period.
    pub expired: bool,
}

/// A certificate that is trusted.
#[derive(Debug)]
pub(super) struct Trusted {
    /// DER.
    pub own: Vec<u8>,
    pub told: Told,
    /// Whose it is and why it is trusted.
    pub words: String,
}

const COMPARE: &str = "Compare the fingerprint with the one the server itself shows; if they agree, trust it.";
const CHANGED: &str = "If the certificate was renewed at the server, compare the fingerprint there and trust it; otherwise another program answers.";
const RENEW: &str = "Have the certificate renewed at the server, and compare the clocks of both machines.";
const ISSUED: &str = "Use a name that stands in the certificate, or trust the certificate by its fingerprint.";

/// A day as people read it.
fn day(at: Nanos) -> String {
    to_text(at).chars().take(10).collect()
}

/// Judges what a server sent as its certificate: its own one, perhaps followed by those of its authorities.
///
/// # Errors
/// Why it is not trusted, with what to compare.
pub(super) fn judge(sent: &[u8], host: &str, uri: &str, trust: &Trust, now: Nanos) -> Result<Trusted, LinkError> {
    let all = chain(sent);
    let (Some(&own), Some(told)) = (all.first(), all.first().and_then(|own| Told::of(own))) else {
        return Err(LinkError::NotSecured("the server shows no certificate that can be read".into()));
    };
    let whose = format!("{}, issued by {}, valid until {}", told.subject, issuer(&told), day(told.until));
    let refuse = |why: String, cure: &'static str, offer: Offer| {
        let fingerprint = shown(&told.fingerprint);
        LinkError::Untrusted(Box::new(Untrusted { why: format!("{why} ({whose})"), fingerprint, cure, offer }))
    };
    let pin = || Offer { field: trust.field.clone(), value: shown(&told.fingerprint), words: "Trust this certificate".into() };
    let by = match (digits(trust.fingerprint), certificates(trust.authority)) {
        (Some(pinned), _) if pinned == told.fingerprint => "by its fingerprint".to_owned(),
        (Some(pinned), _) => {
            let why = format!("it is another one than the trusted one, whose fingerprint is {}", shown(&pinned));
            return Err(refuse(why, CHANGED, pin()));
        }
        (None, None) => return Err(refuse("nobody has trusted it yet".into(), COMPARE, pin())),
        (None, Some(authorities)) => {
            // Its validity period is judged below, apart from whether it is trusted at all.
            let at = now.clamp(told.from, (told.until - SECOND).max(told.from));
            vouched(&all, &authorities, trust.revoked, at).map_err(|why| refuse(why, COMPARE, pin()))?;
            if !told.is_for(host) {
                let named = if told.hosts.is_empty() { "no host".to_owned() } else { told.hosts.join(", ") };
                return Err(refuse(format!("it was issued for {named}, not for {host}"), ISSUED, pin()));
            }
            if !told.uris.iter().any(|named| named == uri) {
                let named = told.uris.first().map_or("no application", String::as_str);
                return Err(refuse(format!("it was issued for {named}, but the server calls itself {uri}"), COMPARE, pin()));
            }
            "by its authority".to_owned()
        }
    };
    if !(told.from..told.until).contains(&now) && !trust.expired {
        let why = if now < told.from { format!("it is valid only from {}", day(told.from)) } else { "it has expired".into() };
        let field = "settings.expired".into();
        let offer = Offer { field, value: "true".into(), words: "Accept it outside its validity period".into() };
        return Err(refuse(why, RENEW, offer));
    }
    let words = format!("{whose}; trusted {by}, {}", shown(&told.fingerprint));
    Ok(Trusted { own: own.to_vec(), told, words })
}

fn issuer(told: &Told) -> &str {
    if told.issuer == told.subject { "itself" } else { &told.issuer }
}

/// Whether one of the authorities vouches for the first of these certificates, at a time.
fn vouched(all: &[&[u8]], authorities: &[CertificateDer<'_>], revoked: &str, at: Nanos) -> Result<(), String> {
    let own = CertificateDer::from(all[0]);
    let own = EndEntityCert::try_from(&own).map_err(|e| format!("it cannot be read, {e:?}"))?;
    let between: Vec<CertificateDer<'_>> = all[1..].iter().map(|der| CertificateDer::from(*der)).collect();
    let anchors: Vec<_> = authorities.iter().filter_map(|der| anchor_from_trusted_cert(der).ok()).collect();
    let lists: Vec<CertRevocationList<'_>> = revocations(revoked)
        .unwrap_or_default()
        .iter()
        .map(|der| OwnedCertRevocationList::from_der(der).map(CertRevocationList::from))
        .collect::<Result<_, _>>()
        .map_err(|e| format!("the list of revoked certificates cannot be read, {e:?}"))?;
    let lists: Vec<&CertRevocationList<'_>> = lists.iter().collect();
    let revocation = RevocationOptionsBuilder::new(&lists).ok().map(|options| {
        // A list is valid until a newer one is pasted: a plant without a way to its authority must not stop by itself.
        options.with_depth(RevocationCheckDepth::EndEntity).with_status_policy(UnknownStatusPolicy::Deny).build()
    });
    let time = UnixTime::since_unix_epoch(Duration::from_nanos(at.unsigned_abs()));
    let usage = KeyUsage::server_auth();
    let judged = own.verify_for_usage(webpki::ALL_VERIFICATION_ALGS, &anchors, &between, time, usage, revocation, None);
    judged.map(drop).map_err(|error| match error {
        webpki::Error::UnknownIssuer => "no trusted authority has signed it".into(),
        webpki::Error::CertRevoked => "its authority has revoked it".into(),
        webpki::Error::UnknownRevocationStatus => "the list of revoked certificates is from another authority".into(),
        webpki::Error::CertExpired { .. } | webpki::Error::CertNotValidYet { .. } => "one of its authorities has expired".into(),
        other => format!("it is not fit for a server, {other:?}"),
    })
}

/// What to know of a certificate whose time is nearly over.
pub(super) fn ends_soon(whose: &str, until: Nanos, now: Nanos) -> Option<String> {
    const SOON: i64 = 30;
    let days = (until - now).div_euclid(86_400 * SECOND);
    match days {
        ..0 => Some(format!("The certificate of {whose} has expired on {}.", day(until))),
        0..=SOON => Some(format!("The certificate of {whose} expires on {}, in {days} days.", day(until))),
        _ => None,
    }
}

/// Whether the key of a certificate is long enough for a policy, and of its kind.
///
/// # Errors
/// What is wrong with it.
pub(super) fn fits(own: &[u8], policy: opcua::crypto::SecurityPolicy) -> Result<(), LinkError> {
    let bits = opcua::crypto::X509::from_der(own).ok().and_then(|own| own.key_length().ok());
    match bits {
        None => Err(LinkError::NotSecured("the key of the server’s certificate is not of the kind RSA".into())),
        Some(bits) if policy.is_valid_keylength(bits) => Ok(()),
        Some(bits) => {
            let words = format!("the key of the server’s certificate has {bits} bits, which this security does not take");
            Err(LinkError::NotSecured(words))
        }
    }
}

/// The fingerprint of a certificate in DER, as people compare it.
pub(super) fn compared(der: &[u8]) -> String {
    shown(&certificate::fingerprint(der))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::test_certificates::{Issued, Made, TODAY, days, issue};
    use rcgen::{CertificateRevocationListParams, Issuer, KeyIdMethod, RevokedCertParams, SerialNumber};
    use rstest::rstest;

    const NOW: Nanos = TODAY * 86_400 * SECOND;
    const URI: &str = "urn:dryer";

    fn trust() -> Trust<'static> {
        Trust { fingerprint: "", field: "settings.fingerprint".into(), authority: "", revoked: "", expired: false }
    }

    fn authority(name: &str) -> Made {
        issue(&Issued { name, authority: true, days: days(-100, 100), ..Issued::default() }, None)
    }

    fn own<'a>() -> Issued<'a> {
        Issued { hosts: &["10.0.4.31"], uri: URI, ..Issued::default() }
    }

    fn why(result: Result<Trusted, LinkError>) -> (String, Offer) {
        match result.unwrap_err() {
            LinkError::Untrusted(untrusted) => (untrusted.why, untrusted.offer),
            other => panic!("{other}"),
        }
    }

    #[test]
    fn one_is_trusted_by_its_fingerprint_and_a_changed_one_is_told_with_both() {
        let (first, second) = (issue(&own(), None), issue(&own(), None));
        let (words, offer) = why(judge(&first.der, "10.0.4.31", URI, &trust(), NOW));
        assert_eq!(words, "nobody has trusted it yet (CN=Dryline, issued by itself, valid until 2024-11-03)");
        assert_eq!((offer.field.as_str(), offer.value.as_str()), ("settings.fingerprint", compared(&first.der).as_str()));
        let trust = Trust { fingerprint: &offer.value, ..trust() };
        let trusted = judge(&first.der, "another-name", "urn:another", &trust, NOW).unwrap();
        assert!(trusted.words.contains("trusted by its fingerprint") && trusted.own == first.der, "{}", trusted.words);
        let (words, changed) = why(judge(&second.der, "10.0.4.31", URI, &trust, NOW));
        assert!(words.contains(&offer.value) && changed.value == compared(&second.der), "{words}");
    }

    #[rstest]
    #[case(31, false, Some("it has expired"))]
    #[case(-2, false, Some("it is valid only from 2024-10-03"))]
    #[case(29, false, None)]
    #[case(31, true, None)]
    #[case(-2, true, None)]
    fn its_time_is_kept_unless_somebody_says_otherwise(
        #[case] day: i64,
        #[case] expired: bool,
        #[case] told: Option<&str>,
        #[values(false, true)] vouched: bool,
    ) {
        let above = authority("Plant");
        let made = issue(&own(), vouched.then_some(&above));
        let fingerprint = if vouched { String::new() } else { compared(&made.der) };
        let trust = Trust { fingerprint: &fingerprint, authority: &above.pem, expired, ..trust() };
        let judged = judge(&made.der, "10.0.4.31", URI, &trust, NOW + day * 86_400 * SECOND);
        match told {
            None => drop(judged.unwrap()),
            Some(told) => {
                let (words, offer) = why(judged);
                assert!(words.starts_with(told), "{words}");
                assert_eq!((offer.field.as_str(), offer.value.as_str()), ("settings.expired", "true"));
            }
        }
    }

    #[test]
    fn an_authority_vouches_over_those_between_for_the_right_host_and_application_only() {
        let (top, other) = (authority("Plant"), authority("Other"));
        let between = issue(&Issued { name: "Line", authority: true, days: days(-50, 50), ..Issued::default() }, Some(&top));
        let made = issue(&own(), Some(&between));
        let sent = [made.der.clone(), between.der.clone()].concat();
        let trust = |authority| Trust { authority, ..trust() };
        let trusted = judge(&sent, "10.0.4.31", URI, &trust(&top.pem), NOW).unwrap();
        assert!(trusted.own == made.der && trusted.words.contains("trusted by its authority"));
        assert!(why(judge(&sent, "10.0.4.31", URI, &trust(&other.pem), NOW)).0.starts_with("no trusted authority has signed it"));
        assert!(why(judge(&made.der, "10.0.4.31", URI, &trust(&top.pem), NOW)).0.starts_with("no trusted authority"));
        assert!(judge(&made.der, "10.0.4.31", URI, &trust(&between.pem), NOW).is_ok(), "that one may be the trusted one");
        assert!(why(judge(&sent, "10.0.4.32", URI, &trust(&top.pem), NOW)).0.contains("issued for 10.0.4.31, not for 10.0.4.32"));
        assert!(
            why(judge(&sent, "10.0.4.31", "urn:x", &trust(&top.pem), NOW))
                .0
                .contains("urn:dryer, but the server calls itself urn:x")
        );
        let late = judge(&sent, "10.0.4.31", URI, &Trust { expired: true, ..trust(&top.pem) }, NOW + 200 * 86_400 * SECOND);
        assert!(late.is_ok(), "the time that counts is one at which it was valid");
    }

    #[test]
    fn what_its_authority_revoked_is_not_trusted() {
        let (top, other) = (authority("Plant"), authority("Other"));
        let mut made = own();
        made.name = "Revoked";
        let made = issue(&made, Some(&top));
        let serial = x509_cert::Certificate::from_der(&made.der).unwrap().tbs_certificate.serial_number;
        let list = |by: &Made, serials: &[&[u8]]| {
            let revoked = |serial: &&[u8]| RevokedCertParams {
                serial_number: SerialNumber::from_slice(serial),
                revocation_time: by.params.not_before,
                reason_code: None,
                invalidity_date: None,
            };
            let params = CertificateRevocationListParams {
                this_update: by.params.not_before,
                next_update: by.params.not_after,
                crl_number: SerialNumber::from(1u64),
                issuing_distribution_point: None,
                revoked_certs: serials.iter().map(revoked).collect(),
                key_identifier_method: KeyIdMethod::Sha256,
            };
            params.signed_by(&Issuer::from_params(&by.params, &by.key)).unwrap().pem().unwrap()
        };
        let judged = |revoked: &str| {
            judge(&made.der, "10.0.4.31", URI, &Trust { authority: &top.pem, revoked, ..trust() }, NOW).map_err(|e| e.to_string())
        };
        assert!(judged(&list(&top, &[])).is_ok());
        assert!(judged(&list(&top, &[serial.as_bytes()])).unwrap_err().contains("its authority has revoked it"));
        assert!(judged(&list(&other, &[])).unwrap_err().contains("from another authority"));
    }

    #[rstest]
    #[case(&[])]
    #[case(b"no certificate")]
    #[case(&[0x30, 0x84, 0xff, 0xff, 0xff, 0xff])]
    fn nonsense_is_no_certificate(#[case] sent: &[u8]) {
        assert!(matches!(judge(sent, "h", URI, &trust(), NOW), Err(LinkError::NotSecured(_))));
    }

    #[test]
    fn an_end_that_is_near_is_told() {
        let day = 86_400 * SECOND;
        assert_eq!(ends_soon("the server", NOW + 31 * day, NOW), None);
        assert!(ends_soon("the server", NOW + 3 * day + 1, NOW).unwrap().ends_with("in 3 days."));
        assert!(ends_soon("the server", NOW - 1, NOW).unwrap().contains("has expired on 2024-10-03"));
    }

    use x509_cert::der::Decode as _;
}
