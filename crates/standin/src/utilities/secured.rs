//! The secured way to the broker: on the same port, whoever begins with TLS is answered so, with a certificate that can expire.

use rcgen::{CertificateParams, Error, KeyPair, date_time_ymd};
use std::{io, sync::Arc};
use tokio::net::TcpStream;
use tokio_rustls::{
    TlsAcceptor,
    rustls::{
        ServerConfig,
        crypto::ring,
        pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer},
    },
    server::TlsStream,
};

/// The first byte of a message of TLS that begins one (RFC 8446, 5.1: handshake).
const HANDSHAKE: u8 = 22;

/// Answers with one of two certificates of the same key.
pub struct Secured {
    valid: TlsAcceptor,
    expired: TlsAcceptor,
}

fn acceptor(key: &KeyPair, until: i32) -> Result<TlsAcceptor, Error> {
    let mut params = CertificateParams::new(vec!["localhost".into(), "127.0.0.1".into()])?;
    params.not_before = date_time_ymd(2020, 1, 1);
    params.not_after = date_time_ymd(until, 1, 1);
    let certificate = params.self_signed(key)?.der().clone();
    let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(key.serialize_der()));
    let config = ServerConfig::builder_with_provider(Arc::new(ring::default_provider()))
        .with_safe_default_protocol_versions()
        .and_then(|config| config.with_no_client_auth().with_single_cert(vec![certificate], key));
    config.map(|config| TlsAcceptor::from(Arc::new(config))).map_err(|_| Error::CouldNotParseKeyPair)
}

impl Secured {
    /// With new certificates.
    ///
    /// # Errors
    /// When there are no random numbers.
    pub fn new() -> io::Result<Secured> {
        let make = || {
            let key = KeyPair::generate()?;
            Ok(Secured { valid: acceptor(&key, 2100)?, expired: acceptor(&key, 2025)? })
        };
        make().map_err(|error: Error| io::Error::other(error.to_string()))
    }

    /// How a client is answered; one that has begun with TLS gets a certificate.
    pub fn of(&self, expired: bool) -> TlsAcceptor {
        if expired { self.expired.clone() } else { self.valid.clone() }
    }
}

/// A client that has begun.
pub enum Client {
    Plain(TcpStream),
    Secured(Box<TlsStream<TcpStream>>),
}

/// Waits until a client begins, and answers it as it begins.
///
/// # Errors
/// When it goes away, or the two do not agree.
pub async fn begun(stream: TcpStream, acceptor: TlsAcceptor) -> io::Result<Client> {
    // Small answers must not wait to be sent together.
    let _ = stream.set_nodelay(true);
    let mut first = [0];
    stream.peek(&mut first).await?;
    if first[0] != HANDSHAKE {
        return Ok(Client::Plain(stream));
    }
    Ok(Client::Secured(Box::new(acceptor.accept(stream).await?)))
}
