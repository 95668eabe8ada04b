//! Devices that speak TLS: who is trusted, who is not, and what each refusal is told as.

use crate::{
    device::*,
    good::{controller, near},
};
use havrel_core::plant::Connection;
use havrel_link::{LinkState, Offer};
use rcgen::{BasicConstraints, CertificateParams, IsCa, Issuer, KeyPair, date_time_ymd};
use rstest::rstest;
use serde_json::{Value as Json, json};
use std::sync::Arc;
use tokio::{
    io::copy_bidirectional,
    net::{TcpListener, TcpStream},
};
use tokio_rustls::{
    TlsAcceptor,
    rustls::{
        RootCertStore, ServerConfig,
        crypto::ring,
        pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject},
        server::WebPkiClientVerifier,
    },
};

/// Issues certificates.
pub struct Authority {
    pub pem: String,
    issuer: Issuer<'static, KeyPair>,
}

impl Authority {
    pub fn new() -> Authority {
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let key = KeyPair::generate().unwrap();
        let pem = params.self_signed(&key).unwrap().pem();
        Authority { pem, issuer: Issuer::new(params, key) }
    }

    /// A certificate for a name, and its key, both PEM.
    pub fn issue(&self, name: &str, change: fn(&mut CertificateParams)) -> (String, String) {
        let mut params = CertificateParams::new([name.to_owned()]).unwrap();
        change(&mut params);
        let key = KeyPair::generate().unwrap();
        (params.signed_by(&key, &self.issuer).unwrap().pem(), key.serialize_pem())
    }
}

/// Answers with a certificate and its key, and asks for one of this authority where there is one.
pub fn acceptor((certificate, key): &(String, String), clients: Option<&Authority>) -> TlsAcceptor {
    let provider = Arc::new(ring::default_provider());
    let verifier = clients.map_or_else(WebPkiClientVerifier::no_client_auth, |clients| {
        let mut roots = RootCertStore::empty();
        roots.add(CertificateDer::from_pem_slice(clients.pem.as_bytes()).unwrap()).unwrap();
        WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider.clone()).build().unwrap()
    });
    let config = ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_client_cert_verifier(verifier)
        .with_single_cert(
            vec![CertificateDer::from_pem_slice(certificate.as_bytes()).unwrap()],
            PrivateKeyDer::from_pem_slice(key.as_bytes()).unwrap(),
        )
        .unwrap();
    TlsAcceptor::from(Arc::new(config))
}

/// A device behind TLS, which asks for a certificate of this authority where there is one; gives its port.
pub async fn secured(device: u16, issued: &(String, String), clients: Option<&Authority>) -> u16 {
    let acceptor = acceptor(issued, clients);
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(async move {
        while let Ok((stream, _)) = listener.accept().await {
            let acceptor = acceptor.clone();
            tokio::spawn(async move {
                // A client that is not wanted gets no further.
                let Ok(mut stream) = acceptor.accept(stream).await else { return };
                let mut inner = TcpStream::connect(("127.0.0.1", device)).await.unwrap();
                let _ = copy_bidirectional(&mut stream, &mut inner).await;
            });
        }
    });
    port
}

/// A secured device, and what a connection needs to be let in.
struct Site {
    port: u16,
    plain: u16,
    tls: Json,
    /// The client's key, which must show nowhere.
    key: String,
    shared: havrel_standin::serve::Shared,
}

async fn site(host: &str, change: fn(&mut CertificateParams)) -> Site {
    let (plain, shared) = controller().await;
    let authority = Authority::new();
    let port = secured(plain, &authority.issue(host, change), Some(&authority)).await;
    let (certificate, key) = authority.issue("havrel", |_| {});
    let tls = json!({"trust": authority.pem, "certificate": certificate, "key": {"secret": key}});
    Site { port, plain, tls, key, shared }
}

fn over_tls(port: u16, tls: Json) -> Connection {
    let mut connection = connection(port, json!({"transport": "tls", "tls": tls}));
    // A handshake computes; on a busy machine it takes longer than an answer.
    connection.timeout_ms = 5000;
    connection
}

#[tokio::test]
async fn a_secured_device_is_read_and_written_and_its_traffic_shows_no_key() {
    let site = site("127.0.0.1", |_| {}).await;
    let connection = over_tls(site.port, site.tls);
    let steps = test(&connection).await;
    assert_eq!(steps.iter().map(|s| s.name.as_str()).collect::<Vec<_>>(), ["Name", "Port", "Security", "Protocol", "Value"]);
    assert!(steps.iter().all(|s| s.passed && s.offers.is_empty()), "{steps:?}");
    assert!(steps[2].answer.starts_with("TLS 1.3, certificate "), "{}", steps[2].answer);

    let mut running = run(connection, vec![point(1, "40003", "f32"), point(2, "coil 1", "bool")]);
    let mut traffic = running.tap.watch();
    near(running.value(1).await, site.shared.lock().process.vessels[0].temperature);
    assert_eq!(running.write(2, havrel_core::sample::Value::Bool(false)).await, Ok(havrel_core::sample::Value::Bool(false)));
    let exchange = traffic.recv().await.unwrap();
    assert!(exchange.asked.starts_with("read "), "decoded, not as it is encrypted: {}", exchange.asked);
    let secret = site.key.lines().nth(1).unwrap();
    assert!(!format!("{exchange:?} {:?} {steps:?}", running.state(LinkState::Running).await).contains(secret));
    running.end().await;
}

/// What breaks the handshake, and what the ladder and the connection say of it.
#[rstest]
#[case::unknown(|tls: &mut Json| { tls["trust"] = json!(""); }, "no trusted authority has signed it")]
#[case::another(|tls: &mut Json| { tls["fingerprint"] = json!("00".repeat(32)); }, "it is another one than the trusted one, whose fingerprint is 00:00")]
#[tokio::test]
async fn an_untrusted_certificate_is_shown_and_can_be_trusted(#[case] change: fn(&mut Json), #[case] why: &str) {
    let mut site = site("127.0.0.1", |_| {}).await;
    change(&mut site.tls);
    let steps = test(&over_tls(site.port, site.tls.clone())).await;
    let last = steps.last().unwrap();
    assert!(last.name == "Security" && !last.passed && last.answer.contains(why) && !last.cure.is_empty(), "{last:?}");
    let [Offer { field, value, .. }] = last.offers.as_slice() else { panic!("a fingerprint: {last:?}") };
    assert_eq!(field, "settings.tls.fingerprint");
    assert!(last.answer.contains(value));
    // Whoever compared it takes it over.
    site.tls["fingerprint"] = json!(value);
    let steps = test(&over_tls(site.port, site.tls)).await;
    assert!(steps.iter().all(|s| s.passed), "{steps:?}");
}

#[rstest]
#[case::other_name("wash-plc", |_: &mut CertificateParams| {}, "another name")]
#[case::expired("127.0.0.1", |p: &mut CertificateParams| p.not_after = date_time_ymd(2020, 1, 1), "expired")]
#[case::early("127.0.0.1", |p: &mut CertificateParams| p.not_before = date_time_ymd(4000, 1, 1), "not valid yet")]
#[tokio::test]
async fn a_certificate_that_does_not_hold_is_told(
    #[case] host: &str,
    #[case] change: fn(&mut CertificateParams),
    #[case] why: &str,
) {
    let site = site(host, change).await;
    let steps = test(&over_tls(site.port, site.tls)).await;
    let last = steps.last().unwrap();
    assert!(last.name == "Security" && last.answer.contains(why) && !last.offers.is_empty(), "{last:?}");
}

#[rstest]
#[case::without_certificate(|tls: &mut Json| { tls["certificate"] = json!(""); tls["key"] = json!(null); }, "refuses")]
#[case::sealed_elsewhere(|tls: &mut Json| { tls["key"] = json!({"sealed": "AAAA"}); }, "private key is missing")]
#[case::not_given(|tls: &mut Json| { tls["key"] = json!(null); }, "private key is missing")]
#[tokio::test]
async fn what_we_lack_is_told_and_the_connection_goes_on_trying(#[case] change: fn(&mut Json), #[case] why: &str) {
    let mut site = site("127.0.0.1", |_| {}).await;
    change(&mut site.tls);
    let connection = over_tls(site.port, site.tls);
    let last = test(&connection).await.pop().unwrap();
    assert!(!last.passed && last.answer.contains(why), "{last:?}");
    let mut running = run(connection, vec![point(1, "40003", "f32")]);
    let health = running.state(LinkState::Trouble).await;
    assert!(health.message.contains(why), "{health:?}");
    running.end().await;
}

#[tokio::test]
async fn plain_and_secured_ports_are_told_apart() {
    let site = site("127.0.0.1", |_| {}).await;
    let last = test(&over_tls(site.plain, site.tls)).await.pop().unwrap();
    assert!(last.name == "Security" && last.answer.starts_with("The secured connection failed"), "{last:?}");
    let plain = test(&connection(site.port, json!({}))).await.pop().unwrap();
    assert!(plain.name == "Protocol" && !plain.passed, "{plain:?}");
}
