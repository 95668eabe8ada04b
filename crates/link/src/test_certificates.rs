//! Certificates for tests.

use rcgen::{BasicConstraints, CertificateParams, DnType, IsCa, Issuer, KeyPair, KeyUsagePurpose, SanType, date_time_ymd};
use std::time::Duration;

/// The day on which tests take place, in days since 1970.
pub const TODAY: i64 = 20_000;

/// From and until which day a certificate is valid, counted from today.
pub fn days(from: i64, until: i64) -> (i64, i64) {
    (TODAY + from, TODAY + until)
}

/// What is to be issued.
pub struct Issued<'a> {
    pub name: &'a str,
    pub hosts: &'a [&'a str],
    pub uri: &'a str,
    pub days: (i64, i64),
    pub authority: bool,
}

impl Default for Issued<'_> {
    fn default() -> Self {
        Issued { name: "Dryline", hosts: &[], uri: "", days: days(-1, 30), authority: false }
    }
}

/// A certificate that was issued.
pub struct Made {
    pub der: Vec<u8>,
    pub pem: String,
    pub params: CertificateParams,
    pub key: KeyPair,
}

/// Issues a certificate, signed by another one or by itself.
pub fn issue(issued: &Issued, by: Option<&Made>) -> Made {
    let mut params = CertificateParams::new(issued.hosts.iter().map(|h| (*h).to_owned()).collect::<Vec<_>>()).unwrap();
    params.distinguished_name = rcgen::DistinguishedName::new();
    params.distinguished_name.push(DnType::CommonName, issued.name);
    if !issued.uri.is_empty() {
        params.subject_alt_names.push(SanType::URI(issued.uri.try_into().unwrap()));
    }
    let day = |n: i64| date_time_ymd(1970, 1, 1) + Duration::from_secs(n.unsigned_abs() * 86_400);
    (params.not_before, params.not_after) = (day(issued.days.0), day(issued.days.1));
    if issued.authority {
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    }
    let key = KeyPair::generate().unwrap();
    let certificate = match by {
        Some(by) => params.signed_by(&key, &Issuer::from_params(&by.params, &by.key)).unwrap(),
        None => params.self_signed(&key).unwrap(),
    };
    Made { der: certificate.der().to_vec(), pem: certificate.pem(), params, key }
}
