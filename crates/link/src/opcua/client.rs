//! One session with a server over one address: the socket, its endpoints, the secure channel, the login.

use super::{
    settings::{Login, Path, Security, Settings, Target},
    status,
};
use crate::{LinkError, net};
use havrel_core::plant::Secret;
use opcua::{
    client::{
        Client, ClientBuilder, ConnectionSource, IdentityToken, Session, SessionConnectMode, SessionPollResult,
        SubscriptionActivity,
        transport::{Connector, SecureChannelState, StreamConnection, StreamConnector, TcpTransport, TransportConfiguration},
    },
    core::comms::tcp_codec::TcpCodec,
    types::{DecodingOptions, EndpointDescription, Error, MessageSecurityMode, NamespaceMap, StatusCode, UserTokenType},
};
use std::{
    future::Future,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};
use tempfile::TempDir;
use tokio::{sync::mpsc, task::JoinHandle, time::Instant};
use tokio_util::codec::FramedRead;

/// How Havrel calls itself towards servers.
const URI: &str = "urn:havrel:client";
/// Bounds of what a server may send: bytes of a message, elements of an array, bytes of a text.
const MOST_MESSAGE: usize = 32 << 20;
const MOST_ELEMENTS: usize = 1_000_000;
const MOST_TEXT: usize = 4 << 20;
/// How long a server keeps a session that is silent, in milliseconds.
const SESSION_MS: u32 = 60_000;
/// How often a session without other requests asks whether the server is there.
const KEEP_ALIVE: Duration = Duration::from_secs(5);
/// Endpoints that are looked at.
const MOST_ENDPOINTS: usize = 200;

/// Opens the socket, and remembers in our words why it could not.
#[derive(Clone)]
pub(super) struct Dial {
    pub target: Target,
    timeout_ms: u32,
    why: Arc<Mutex<Option<LinkError>>>,
}

impl Dial {
    pub fn new(target: Target, timeout_ms: u32) -> Dial {
        Dial { target, timeout_ms, why: Arc::default() }
    }

    /// What a failed service means, with what the socket knows of it.
    fn error(&self, code: StatusCode) -> LinkError {
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
async fn within<T>(limit_ms: u32, work: impl Future<Output = T>) -> Result<T, LinkError> {
    let limit = Duration::from_millis(u64::from(limit_ms) * 4 + 1000);
    tokio::time::timeout(limit, work).await.map_err(|_| LinkError::Silent(limit_ms))
}

/// A folder in memory for what the library wants to read from files.
fn folder() -> Result<TempDir, LinkError> {
    let shm = std::path::Path::new("/dev/shm");
    let made = if shm.is_dir() { tempfile::tempdir_in(shm) } else { tempfile::tempdir() };
    made.map_err(|e| LinkError::NotSecured(format!("no private folder can be made: {}", e.kind())))
}

fn client(folder: &TempDir, timeout_ms: u32, retries: i32) -> Result<Client, LinkError> {
    let request = Duration::from_millis(u64::from(timeout_ms.max(1000)));
    let builder = ClientBuilder::new()
        .application_name("Havrel")
        .application_uri(URI)
        .product_uri(URI)
        .pki_dir(folder.path())
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

/// Asks a server for its endpoints, the best first.
pub(super) async fn endpoints(dial: &Dial) -> Result<Vec<EndpointDescription>, LinkError> {
    let folder = folder()?;
    let client = client(&folder, dial.timeout_ms, 0)?;
    let found = within(dial.timeout_ms, client.get_endpoints(dial.clone(), &[], &[])).await?;
    let mut found = found.map_err(|e| dial.error(e.status()))?;
    found.truncate(MOST_ENDPOINTS);
    found.retain(|e| e.transport_profile_uri.is_empty() || e.transport_profile_uri.as_ref().ends_with("uatcp-uasc-uabinary"));
    found.sort_by_key(|e| std::cmp::Reverse((e.security_mode as i32, e.security_level)));
    Ok(found)
}

/// How an endpoint secures messages; `None` where Havrel cannot.
pub(super) fn security_of(endpoint: &EndpointDescription) -> Option<Security> {
    let uri = endpoint.security_policy_uri.as_ref();
    Security::ALL.into_iter().find(|s| s.policy().to_uri() == uri && s.mode() == endpoint.security_mode)
}

/// The last part of the name of an endpoint's policy, with its mode.
pub(super) fn words_of(endpoint: &EndpointDescription) -> String {
    if let Some(security) = security_of(endpoint) {
        return security.words().to_owned();
    }
    let policy = endpoint.security_policy_uri.as_ref().rsplit('#').next().unwrap_or_default().to_owned();
    let mode = match endpoint.security_mode {
        MessageSecurityMode::Sign => "signed",
        MessageSecurityMode::SignAndEncrypt => "signed and encrypted",
        _ => "in clear",
    };
    format!("{mode}, {policy}")
}

/// What an endpoint asks of a login.
fn token_type(login: Login) -> UserTokenType {
    match login {
        Login::Anonymous => UserTokenType::Anonymous,
        Login::User => UserTokenType::UserName,
    }
}

/// Whether an endpoint takes a login.
pub(super) fn takes(endpoint: &EndpointDescription, login: Login) -> bool {
    // Without any policy of users only anonymous ones come in.
    match &endpoint.user_identity_tokens {
        None => login == Login::Anonymous,
        Some(tokens) => tokens.iter().any(|t| t.token_type == token_type(login)),
    }
}

/// The endpoint that the settings ask for.
///
/// # Errors
/// When the server has none such.
pub(super) fn choose(found: &[EndpointDescription], settings: &Settings) -> Result<EndpointDescription, LinkError> {
    let fit: Vec<_> = found.iter().filter(|e| security_of(e) == Some(settings.security)).collect();
    let best = fit.iter().find(|e| takes(e, settings.login)).or(fit.first());
    best.map(|e| (**e).clone()).ok_or_else(|| {
        let mut offered: Vec<String> = found.iter().map(words_of).collect();
        offered.dedup();
        LinkError::NoEndpoint(settings.security.words().to_owned(), offered.join("; "))
    })
}

fn identity(settings: &Settings) -> Result<IdentityToken, LinkError> {
    match (settings.login, &settings.password) {
        (Login::Anonymous, _) => Ok(IdentityToken::Anonymous),
        (Login::User, Some(Secret::Plain(password))) => Ok(IdentityToken::new_user_name(settings.user.trim(), password.as_str())),
        (Login::User, _) => Err(LinkError::NoSecret("password".into())),
    }
}

/// What happened to a session.
#[derive(Debug)]
pub(super) enum Event {
    /// The connection broke; the session tries to go on.
    Lost(LinkError),
    /// It goes on: with the session that was there, or with a new one.
    Again { fresh: bool },
    /// It does not go on.
    Over(LinkError),
}

/// A session that is open.
pub(super) struct Speaking {
    pub session: Arc<Session>,
    pub namespaces: NamespaceMap,
    pub events: mpsc::UnboundedReceiver<Event>,
    /// Answers to the requests that carry values.
    pub published: Arc<AtomicU64>,
    task: JoinHandle<()>,
    /// Holds files that the library reads.
    _folder: TempDir,
}

impl Drop for Speaking {
    fn drop(&mut self) {
        self.task.abort();
    }
}

impl Speaking {
    /// Opens a session at an endpoint.
    ///
    /// # Errors
    /// In words that say what to do.
    pub async fn open(dial: &Dial, settings: &Settings, endpoint: EndpointDescription) -> Result<Speaking, LinkError> {
        let folder = folder()?;
        let client = client(&folder, dial.timeout_ms, 3)?;
        // The name under which the server knows itself may lead nowhere from here; what works is the address that was typed.
        let endpoint = EndpointDescription { endpoint_url: dial.target.url.as_str().into(), ..endpoint };
        let failed = |e: Error| dial.error(e.status());
        let builder = client.session_builder().user_identity_token(identity(settings)?).with_connector(dial.clone());
        let builder = builder.connect_to_endpoint_directly(endpoint).map_err(failed)?;
        let (session, lived) = builder.build(client.certificate_store().clone()).map_err(failed)?;
        let (tell, mut events) = mpsc::unbounded_channel();
        let published = Arc::new(AtomicU64::new(0));
        let task = tokio::spawn(follow(lived.enter(), dial.clone(), tell, published.clone()));
        let mut speaking = Speaking {
            session,
            namespaces: NamespaceMap::new(),
            events: mpsc::unbounded_channel().1,
            published,
            task,
            _folder: folder,
        };
        match within(dial.timeout_ms, events.recv()).await? {
            Some(Event::Again { .. }) => {}
            Some(Event::Lost(error) | Event::Over(error)) => return Err(error),
            None => return Err(LinkError::Closed),
        }
        speaking.events = events;
        let names = within(dial.timeout_ms, speaking.session.read_namespace_array()).await?;
        speaking.namespaces = names.map_err(failed)?;
        Ok(speaking)
    }

    /// Ends it in good order, as far as the server answers.
    pub async fn close(self) {
        let limit = Duration::from_secs(2);
        // A server that does not answer ends the session by itself later.
        let _ = tokio::time::timeout(limit, self.session.disconnect()).await;
    }
}

/// Turns the library's stream of events into ours.
async fn follow(
    lived: impl futures_util::Stream<Item = Result<SessionPollResult, StatusCode>>,
    dial: Dial,
    tell: mpsc::UnboundedSender<Event>,
    published: Arc<AtomicU64>,
) {
    use futures_util::StreamExt as _;
    let mut lived = std::pin::pin!(lived);
    while let Some(event) = lived.next().await {
        let told = match event {
            Ok(SessionPollResult::ConnectionLost(code) | SessionPollResult::ReconnectFailed(code)) => {
                Event::Lost(dial.error(code))
            }
            Ok(SessionPollResult::Reconnected(mode)) => Event::Again { fresh: matches!(mode, SessionConnectMode::NewSession(_)) },
            Ok(SessionPollResult::Subscription(SubscriptionActivity::Publish)) => {
                published.fetch_add(1, Ordering::Relaxed);
                continue;
            }
            Ok(_) => continue,
            Err(code) => {
                // Nobody listening means that the session is being dropped.
                let _ = tell.send(Event::Over(dial.error(code)));
                return;
            }
        };
        if tell.send(told).is_err() {
            return;
        }
    }
    let _ = tell.send(Event::Over(LinkError::Closed));
}

/// Opens a session over one address: finds the endpoint that the settings ask for and logs in.
///
/// # Errors
/// In words that say what to do.
pub(super) async fn open(path: &Path, settings: &Settings, timeout_ms: u32) -> Result<Speaking, LinkError> {
    let target = path.target().map_err(|words| LinkError::BadRequest(words.to_owned()))?;
    let dial = Dial::new(target, timeout_ms);
    let endpoint = choose(&endpoints(&dial).await?, settings)?;
    Speaking::open(&dial, settings, endpoint).await
}

/// How long a service took.
pub(super) fn micros(began: Instant) -> u64 {
    u64::try_from(began.elapsed().as_micros()).unwrap_or(u64::MAX)
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::plant::Own;
    use opcua::types::UserTokenPolicy;
    use serde_json::json;

    fn endpoint(security: Security, tokens: Option<Vec<UserTokenType>>) -> EndpointDescription {
        let policy = |token_type| UserTokenPolicy { token_type, ..UserTokenPolicy::default() };
        EndpointDescription {
            security_policy_uri: security.policy().to_uri().into(),
            security_mode: security.mode(),
            user_identity_tokens: tokens.map(|all| all.into_iter().map(policy).collect()),
            ..EndpointDescription::default()
        }
    }

    fn settings() -> Settings {
        let own: Own = json!({"url": "opc.tcp://10.0.4.31"}).as_object().unwrap().clone();
        Settings::parse(&own).unwrap()
    }

    #[test]
    fn the_endpoint_that_takes_the_login_is_chosen() {
        let clear = |tokens| endpoint(Security::None, Some(tokens));
        let found = [clear(vec![UserTokenType::UserName]), clear(vec![UserTokenType::UserName, UserTokenType::Anonymous])];
        assert_eq!(choose(&found, &settings()).unwrap(), found[1]);
        assert!(takes(&endpoint(Security::None, None), Login::Anonymous) && !takes(&endpoint(Security::None, None), Login::User));
    }

    #[test]
    fn a_server_without_such_an_endpoint_is_told_with_what_it_offers() {
        let found = [endpoint(Security::Aes256Sha256RsaPssEncrypt, None), endpoint(Security::Basic256Sha256Sign, None)];
        let told = choose(&found, &settings()).unwrap_err().to_string();
        let offers = "signed and encrypted, Aes256_Sha256_RsaPss; signed, Basic256Sha256";
        assert_eq!(told, format!("The server has no endpoint for none, in clear. It offers: {offers}."));
    }

    #[test]
    fn a_policy_that_is_out_of_date_is_named_as_it_is() {
        let mut old = endpoint(Security::Basic256Sha256Sign, None);
        old.security_policy_uri = "http://opcfoundation.org/UA/SecurityPolicy#Basic128Rsa15".into();
        assert_eq!((security_of(&old), words_of(&old).as_str()), (None, "signed, Basic128Rsa15"));
    }
}
