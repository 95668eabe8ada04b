//! The socket to a server, and the library's client behind it.

use super::{settings::Target, status};
use crate::{LinkError, net};
use opcua::{
    client::{
        Client, ClientBuilder, ConnectionSource,
        transport::{Connector, SecureChannelState, StreamConnection, StreamConnector, TcpTransport, TransportConfiguration},
    },
    core::comms::tcp_codec::TcpCodec,
    types::{DecodingOptions, EndpointDescription, Error, StatusCode},
};
use std::{
    future::Future,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use tempfile::TempDir;
use tokio::sync::mpsc;
use tokio_util::codec::FramedRead;

/// How Havrel calls itself towards servers where it shows no certificate, which holds its name otherwise.
pub(super) const URI: &str = "urn:havrel:client";
/// Where certificate and key lie in the private folder of a session.
pub(super) const CERTIFICATE: &str = "own/cert.der";
pub(super) const KEY: &str = "private/private.pem";
/// Bounds of what a server may send: bytes of a message, elements of an array, bytes of a text.
const MOST_MESSAGE: usize = 32 << 20;
const MOST_ELEMENTS: usize = 1_000_000;
const MOST_TEXT: usize = 4 << 20;
/// How long a server keeps a session that is silent, in milliseconds.
const SESSION_MS: u32 = 60_000;
/// How often a session without other requests asks whether the server is there.
const KEEP_ALIVE: Duration = Duration::from_secs(5);
/// Opens the socket, and remembers in our words why it could not.
#[derive(Clone)]
pub(super) struct Dial {
    pub target: Target,
    pub timeout_ms: u32,
    why: Arc<Mutex<Option<LinkError>>>,
}

impl Dial {
    pub fn new(target: Target, timeout_ms: u32) -> Dial {
        Dial { target, timeout_ms, why: Arc::default() }
    }

    /// What a failed service means, with what the socket knows of it.
    pub fn error(&self, code: StatusCode) -> LinkError {
        let known = self.why.lock().unwrap_or_else(PoisonError::into_inner).take();
        known.unwrap_or_else(|| status::error(code, self.timeout_ms))
    }

    async fn stream(
        self,
        url: String,
        options: DecodingOptions,
    ) -> Result<StreamConnection<tokio::io::ReadHalf<tokio::net::TcpStream>, tokio::io::WriteHalf<tokio::net::TcpStream>>, Error>
    {
        match net::open(&self.target.host, self.target.port, self.timeout_ms).await {
            Ok(stream) => {
                let (reader, writer) = tokio::io::split(stream);
                Ok(StreamConnection::new(FramedRead::new(reader, TcpCodec::new(options)), writer, url))
            }
            Err(error) => {
                let words = error.to_string();
                *self.why.lock().unwrap_or_else(PoisonError::into_inner) = Some(error);
                Err(Error::new(StatusCode::BadCommunicationError, words))
            }
        }
    }
}

impl Connector for Dial {
    type Transport = TcpTransport;

    async fn connect(
        &self,
        channel: Arc<SecureChannelState>,
        outgoing: mpsc::Receiver<opcua::client::transport::OutgoingMessage>,
        config: TransportConfiguration,
    ) -> Result<TcpTransport, Error> {
        let dial = self.clone();
        let inner = StreamConnector::new(move |url, options| dial.clone().stream(url, options), self.target.url.clone());
        let limit = Duration::from_millis(u64::from(self.timeout_ms) * 2);
        let silent = |_| Err(Error::new(StatusCode::BadTimeout, "the server did not answer the hello"));
        tokio::time::timeout(limit, inner.connect(channel, outgoing, config)).await.unwrap_or_else(silent)
    }

    fn default_endpoint(&self) -> EndpointDescription {
        EndpointDescription::from(self.target.url.as_str())
    }
}

impl ConnectionSource for Dial {
    type Builder = Dial;

    fn get_connector(&self, _: &EndpointDescription) -> Result<Dial, Error> {
        Ok(self.clone())
    }
}

/// Waits for an answer of the library that knows no end of its own.
pub(super) async fn within<T>(limit_ms: u32, work: impl Future<Output = T>) -> Result<T, LinkError> {
    let limit = Duration::from_millis(u64::from(limit_ms) * 4 + 1000);
    tokio::time::timeout(limit, work).await.map_err(|_| LinkError::Silent(limit_ms))
}

/// A folder in memory for what the library wants to read from files.
pub(super) fn folder() -> Result<TempDir, LinkError> {
    let shm = std::path::Path::new("/dev/shm");
    let made = if shm.is_dir() { tempfile::tempdir_in(shm) } else { tempfile::tempdir() };
    made.map_err(|e| LinkError::NotSecured(format!("no private folder can be made: {}", e.kind())))
}

pub(super) fn client(folder: &TempDir, uri: &str, timeout_ms: u32, retries: i32) -> Result<Client, LinkError> {
    let request = Duration::from_millis(u64::from(timeout_ms.max(1000)));
    let builder = ClientBuilder::new()
        .application_name("Havrel")
        .application_uri(uri)
        .product_uri(URI)
        .pki_dir(folder.path())
        .certificate_path(CERTIFICATE)
        .private_key_path(KEY)
        .create_sample_keypair(false)
        .trust_server_certs(false)
        // Validity, names and authorities are checked before the certificate is put among the trusted ones.
        .verify_server_certs(false)
        .ignore_clock_skew(true)
        .session_name("Havrel")
        .session_timeout(SESSION_MS)
        .session_retry_limit(retries)
        .session_retry_initial(Duration::from_millis(500))
        .session_retry_max(Duration::from_secs(2))
        .keep_alive_interval(KEEP_ALIVE)
        .max_failed_keep_alive_count(2)
        .request_timeout(request)
        .publish_timeout(Duration::from_millis(SESSION_MS.into()))
        .max_message_size(MOST_MESSAGE)
        .max_chunk_count(0)
        .max_array_length(MOST_ELEMENTS)
        .max_string_length(MOST_TEXT)
        .max_byte_string_length(MOST_TEXT);
    builder.client().map_err(|wrong| LinkError::BadRequest(wrong.join("; ")))
}
