//! A session with a broker, in either version of the protocol: what comes as events, what is asked in their order.

use super::settings::{Path, Settings, Transport, Version};
use crate::{
    LinkError, net,
    tls::{Judge, error_of},
};
use havrel_core::plant::Secret;
use rumqttc::{
    AsyncClient, ConnectReturnCode, ConnectionError, EventLoop, LastWill, MqttOptions, NetworkOptions, Outgoing, Packet, QoS,
    StateError, SubscribeFilter, SubscribeReasonCode, TlsConfiguration, TlsError, Transport as Carrier, mqttbytes, qos, v5,
};
use std::{io, sync::Arc, time::Duration};
use tokio::{sync::mpsc, task::JoinSet};
use v5::mqttbytes::v5 as five;

/// Events that wait to be taken; beyond it the broker waits.
const MOST_WAITING: usize = 1024;
/// Requests that wait to be sent.
const MOST_REQUESTS: usize = 16;
/// What is read of a message of version 3.1.1 at least, in bytes: a broker cannot be told what is too large, and a message that is not
/// read to its end ends the session before its topic is known.
const READ_AT_LEAST: usize = 16 << 20;
/// How long a broker has to end a session that is left.
const LEAVING: Duration = Duration::from_millis(500);
/// Messages sent and not confirmed yet.
const MOST_UNCONFIRMED: u16 = 100;
/// Largest message that is sent, in bytes, with its topic.
const LARGEST_SENT: usize = 2 << 20;

/// A message that came.
#[derive(Clone, Debug)]
pub(crate) struct Heard {
    pub topic: String,
    pub payload: bytes::Bytes,
    /// The broker had kept it.
    pub retained: bool,
    /// It is larger than is taken, and its content is left out.
    pub oversized: bool,
}

/// What a broker answers to a filter or a message.
pub(crate) type Answer<T> = Result<T, LinkError>;

/// Something that came from a broker.
#[derive(Debug)]
pub(crate) enum Event {
    /// The session is open; the broker may have kept an older one.
    Opened {
        kept: bool,
        limits: Limits,
    },
    Message(Heard),
    /// For each filter of a request, with which quality of service its messages come.
    Subscribed(Vec<Answer<u8>>),
    /// A message of ours is on its way, under this number; 0 where no confirmation comes.
    Sent(u16),
    /// It arrived there, or was refused.
    Published(u16, Answer<()>),
    /// The session is over.
    Lost(LinkError),
}

/// What a broker takes (MQTT 5.0, 3.2.2.3); one of version 3.1.1 does not say.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Limits {
    /// Largest message, in bytes.
    largest: usize,
    /// Highest quality of service.
    qos: u8,
    /// It retains messages.
    retains: bool,
}

impl Limits {
    const UNSAID: Limits = Limits { largest: LARGEST_SENT, qos: 2, retains: true };

    fn of(answer: &five::ConnAck) -> Limits {
        let Some(told) = &answer.properties else { return Limits::UNSAID };
        Limits {
            largest: told.max_packet_size.map_or(LARGEST_SENT, |most| most as usize).min(LARGEST_SENT),
            qos: told.max_qos.unwrap_or(2),
            retains: told.retain_available != Some(0),
        }
    }
}

/// What becomes of a message that is handed over.
pub(crate) enum Given {
    Taken,
    /// Too much waits already.
    Full,
    /// The broker would not take it.
    Refused(LinkError),
}

enum Client {
    Three(AsyncClient),
    Five(v5::AsyncClient),
}

/// An open session. It ends when it is dropped.
pub(crate) struct Session {
    client: Client,
    pub events: mpsc::Receiver<Event>,
    /// Polls the connection; ends with the session.
    _task: JoinSet<()>,
    /// What was found out, in words.
    pub words: String,
    /// The broker kept the session of before, so that what comes first may be old.
    pub kept: bool,
    limits: Limits,
}

/// As whom a session is opened.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum As {
    /// As the settings say.
    Ourselves,
    /// With another client id, so that it does not end the session of the first, and without a will.
    Beside,
    /// The same, and as nobody.
    Nobody,
}

/// What keeps the exchange with a broker going.
enum Poller {
    Three(Box<EventLoop>),
    Five(Box<v5::EventLoop>),
}

impl Poller {
    /// What comes next, where it is of interest.
    async fn next(&mut self, failed: &Failed) -> Option<Event> {
        match self {
            Poller::Three(polled) => match polled.poll().await {
                Ok(rumqttc::Event::Incoming(packet)) => event_of_three(packet, failed.largest),
                Ok(rumqttc::Event::Outgoing(Outgoing::Publish(number))) => Some(Event::Sent(number)),
                Ok(rumqttc::Event::Outgoing(_)) => None,
                Err(error) => Some(Event::Lost(failed.three(error))),
            },
            Poller::Five(polled) => match polled.poll().await {
                Ok(v5::Event::Incoming(packet)) => event_of_five(packet),
                Ok(v5::Event::Outgoing(Outgoing::Publish(number))) => Some(Event::Sent(number)),
                Ok(v5::Event::Outgoing(_)) => None,
                Err(error) => Some(Event::Lost(failed.five(error))),
            },
        }
    }
}

fn three(
    settings: &Settings,
    address: String,
    port: u16,
    carrier: Carrier,
    timeout_ms: u32,
    who: As,
) -> Result<(Client, Poller), LinkError> {
    let mut options = MqttOptions::new(id(settings, who), address, port);
    options.set_transport(carrier).set_keep_alive(Duration::from_secs(settings.keep_alive_s.into()));
    options.set_clean_session(settings.clean || who != As::Ourselves);
    let largest = settings.largest as usize;
    options.set_max_packet_size(largest.max(READ_AT_LEAST), LARGEST_SENT).set_inflight(MOST_UNCONFIRMED);
    if let Some((user, password)) = login(settings, who)? {
        options.set_credentials(user, password);
    }
    let will = &settings.will;
    if who == As::Ourselves && !will.topic.is_empty() {
        options.set_last_will(LastWill::new(&will.topic, will.payload(), quality_of_service(will.qos), will.retain));
    }
    let (client, mut polled) = AsyncClient::new(options, MOST_REQUESTS);
    polled.set_network_options(network(timeout_ms));
    Ok((Client::Three(client), Poller::Three(Box::new(polled))))
}

fn five(
    settings: &Settings,
    address: String,
    port: u16,
    carrier: Carrier,
    timeout_ms: u32,
    who: As,
) -> Result<(Client, Poller), LinkError> {
    let mut options = v5::MqttOptions::new(id(settings, who), address, port);
    options.set_transport(carrier).set_keep_alive(Duration::from_secs(settings.keep_alive_s.into()));
    let lasting = !settings.clean && who == As::Ourselves;
    options.set_clean_start(!lasting).set_session_expiry_interval(lasting.then_some(settings.expiry_s));
    // The broker then keeps larger ones to itself.
    options.set_max_packet_size(Some(settings.largest)).set_outgoing_inflight_upper_limit(MOST_UNCONFIRMED);
    options.set_network_options(network(timeout_ms)).set_connection_timeout(seconds(timeout_ms));
    if let Some((user, password)) = login(settings, who)? {
        options.set_credentials(user, password);
    }
    let will = &settings.will;
    if who == As::Ourselves && !will.topic.is_empty() {
        options.set_last_will(five::LastWill::new(&will.topic, will.payload(), v5_qos(will.qos), will.retain, None));
    }
    let (client, polled) = v5::AsyncClient::new(options, MOST_REQUESTS);
    Ok((Client::Five(client), Poller::Five(Box::new(polled))))
}

/// Somewhat longer than a timeout, as our own comes first.
fn seconds(timeout_ms: u32) -> u64 {
    u64::from(timeout_ms.div_ceil(1000)) + 1
}

/// A client id that nobody else has.
fn other_id() -> String {
    format!("havrel-{}", uuid::Uuid::new_v4().simple())
}

fn quality_of_service(level: u8) -> QoS {
    qos(level).unwrap_or(QoS::AtMostOnce)
}

impl Session {
    /// Opens a session.
    ///
    /// # Errors
    /// Why there is none.
    pub async fn open(settings: &Settings, path: &Path, timeout_ms: u32, who: As) -> Result<Session, LinkError> {
        let host = path.host.trim().trim_start_matches('[').trim_end_matches(']').to_owned();
        let port = settings.port_of(path);
        // The library tells a name that is not known like a port that is closed.
        net::resolve(&host, port).await?;
        let name = Some(settings.server_name.trim()).filter(|name| !name.is_empty());
        let judge = match settings.transport.secured() {
            true => Some(settings.tls.judge(name)?),
            false => None,
        };
        let mut failed =
            Failed { host: host.clone(), port, judge: judge.clone(), timeout_ms, largest: settings.largest, opened: false };
        let (address, carrier) = carried(settings, &host, port, judge.as_ref())?;
        let (client, mut poller) = match settings.version {
            Version::Three => three(settings, address, port, carrier, timeout_ms, who)?,
            Version::Five => five(settings, address, port, carrier, timeout_ms, who)?,
        };
        // The library counts in seconds.
        let opening = tokio::time::timeout(Duration::from_millis(timeout_ms.into()), poller.next(&failed)).await;
        let (kept, limits) = match opening.map_err(|_| LinkError::Silent(timeout_ms))? {
            Some(Event::Opened { kept, limits }) => (kept, limits),
            Some(Event::Lost(error)) => return Err(error),
            _ => return Err(LinkError::OtherProtocol(String::new())),
        };
        let words = if kept { "the broker kept the session of before" } else { "a new session" }.to_owned();
        failed.opened = true;
        let (events, taken) = mpsc::channel(MOST_WAITING);
        let mut task = JoinSet::new();
        task.spawn(async move {
            loop {
                let Some(event) = poller.next(&failed).await else { continue };
                let lost = matches!(event, Event::Lost(_));
                if events.send(event).await.is_err() || lost {
                    return;
                }
            }
        });
        Ok(Session { client, events: taken, _task: task, words, kept, limits })
    }

    /// Takes leave of the broker, so that it does not publish the last will.
    pub async fn close(&mut self) {
        let leaving = match &self.client {
            Client::Three(client) => client.try_disconnect().is_ok(),
            Client::Five(client) => client.try_disconnect().is_ok(),
        };
        let over = async { while self.events.recv().await.is_some() {} };
        if leaving {
            // One that does not answer is left all the same.
            let _ = tokio::time::timeout(LEAVING, over).await;
        }
    }

    /// Asks for the messages of some filters; the answer is one event. `false`: too much waits already.
    pub fn subscribe(&self, filters: &[String], level: u8) -> bool {
        match &self.client {
            Client::Three(client) => {
                let all = filters.iter().map(|filter| SubscribeFilter::new(filter.clone(), quality_of_service(level)));
                client.try_subscribe_many(all).is_ok()
            }
            Client::Five(client) => {
                let all = filters.iter().map(|filter| five::Filter::new(filter.clone(), v5_qos(level)));
                client.try_subscribe_many(all).is_ok()
            }
        }
    }

    /// No longer asks for them. `false`: too much waits already.
    pub fn unsubscribe(&self, filter: &str) -> bool {
        match &self.client {
            Client::Three(client) => client.try_unsubscribe(filter).is_ok(),
            Client::Five(client) => client.try_unsubscribe(filter).is_ok(),
        }
    }

    /// Publishes a message, with no higher quality of service than the broker knows: first comes an event that it is sent, then one
    /// that it is confirmed.
    pub fn publish(&self, topic: &str, message: Vec<u8>, qos: u8, retain: bool) -> Given {
        // Lengths, number and properties take a few bytes more.
        if topic.len() + message.len() + 20 > self.limits.largest {
            return Given::Refused(LinkError::Refused(format!("it takes messages of at most {} bytes", self.limits.largest)));
        }
        if retain && !self.limits.retains {
            return Given::Refused(LinkError::Refused("it retains no messages".into()));
        }
        let qos = qos.min(self.limits.qos);
        let taken = match &self.client {
            Client::Three(client) => client.try_publish(topic, quality_of_service(qos), retain, message).is_ok(),
            Client::Five(client) => client.try_publish(topic, v5_qos(qos), retain, message).is_ok(),
        };
        if taken { Given::Taken } else { Given::Full }
    }
}

fn v5_qos(level: u8) -> v5::mqttbytes::QoS {
    v5::mqttbytes::qos(level).unwrap_or(v5::mqttbytes::QoS::AtMostOnce)
}

fn id(settings: &Settings, who: As) -> String {
    let own = settings.client_id.trim();
    if who == As::Ourselves && !own.is_empty() { own.to_owned() } else { other_id() }
}

fn login(settings: &Settings, who: As) -> Result<Option<(String, String)>, LinkError> {
    if who == As::Nobody || settings.user.trim().is_empty() {
        return Ok(None);
    }
    match &settings.password {
        None => Ok(Some((settings.user.clone(), String::new()))),
        Some(Secret::Plain(password)) => Ok(Some((settings.user.clone(), password.clone()))),
        Some(_) => Err(LinkError::NoSecret("password".into())),
    }
}

fn network(timeout_ms: u32) -> NetworkOptions {
    let mut network = NetworkOptions::new();
    network.set_tcp_nodelay(true);
    network.set_connection_timeout(seconds(timeout_ms));
    network
}

/// The address as the library wants it, and what carries the messages.
fn carried(settings: &Settings, host: &str, port: u16, judge: Option<&Arc<Judge>>) -> Result<(String, Carrier), LinkError> {
    let secured = || -> Result<TlsConfiguration, LinkError> {
        let judge = judge.ok_or_else(|| LinkError::NotSecured("nothing says what to trust".into()))?;
        Ok(TlsConfiguration::Rustls(Arc::new(settings.tls.config(judge.clone())?)))
    };
    let bracketed = if host.contains(':') { format!("[{host}]") } else { host.to_owned() };
    let url = |scheme: &str| format!("{scheme}://{bracketed}:{port}{}", settings.path);
    Ok(match settings.transport {
        Transport::Tcp => (bracketed, Carrier::Tcp),
        Transport::Tls => (host.to_owned(), Carrier::Tls(secured()?)),
        Transport::Websocket => (url("ws"), Carrier::Ws),
        Transport::WebsocketTls => (url("wss"), Carrier::Wss(secured()?)),
    })
}

fn event_of_three(packet: Packet, largest: u32) -> Option<Event> {
    Some(match packet {
        Packet::ConnAck(answer) => Event::Opened { kept: answer.session_present, limits: Limits::UNSAID },
        Packet::Publish(came) => {
            let oversized = came.payload.len() > largest as usize;
            let payload = if oversized { bytes::Bytes::new() } else { came.payload };
            Event::Message(Heard { topic: came.topic, payload, retained: came.retain, oversized })
        }
        Packet::SubAck(answer) => {
            let code = |code: SubscribeReasonCode| match code {
                SubscribeReasonCode::Success(qos) => Ok(qos as u8),
                SubscribeReasonCode::Failure => Err(LinkError::Refused("it does not give these topics".into())),
            };
            Event::Subscribed(answer.return_codes.into_iter().map(code).collect())
        }
        Packet::PubAck(answer) => Event::Published(answer.pkid, Ok(())),
        Packet::PubComp(answer) => Event::Published(answer.pkid, Ok(())),
        _ => return None,
    })
}

fn event_of_five(packet: five::Packet) -> Option<Event> {
    Some(match packet {
        five::Packet::ConnAck(answer) => Event::Opened { kept: answer.session_present, limits: Limits::of(&answer) },
        five::Packet::Publish(came) => Event::Message(Heard {
            // A topic is UTF-8 by the standard.
            topic: String::from_utf8_lossy(&came.topic).into_owned(),
            payload: came.payload,
            retained: came.retain,
            oversized: false,
        }),
        five::Packet::SubAck(answer) => {
            use five::SubscribeReasonCode as Code;
            let code = |code: Code| match code {
                Code::Success(qos) => Ok(qos as u8),
                Code::NotAuthorized => Err(LinkError::NotAllowed("read these topics")),
                Code::QuotaExceeded => Err(LinkError::Refused("it gives this login no further topics".into())),
                Code::WildcardSubscriptionsNotSupported => Err(LinkError::Refused("it takes no + and #".into())),
                _ => Err(LinkError::Refused("it does not give these topics".into())),
            };
            Event::Subscribed(answer.return_codes.into_iter().map(code).collect())
        }
        five::Packet::PubAck(answer) => {
            use five::PubAckReason as Reason;
            let told = match answer.reason {
                Reason::Success | Reason::NoMatchingSubscribers => Ok(()),
                Reason::NotAuthorized => Err(Unpublished::NotAllowed),
                Reason::QuotaExceeded => Err(Unpublished::Limit),
                _ => Err(Unpublished::Otherwise),
            };
            Event::Published(answer.pkid, told.map_err(Unpublished::error))
        }
        five::Packet::PubRec(answer) => {
            use five::PubRecReason as Reason;
            let refusal = match answer.reason {
                // Its confirmation follows.
                Reason::Success | Reason::NoMatchingSubscribers => return None,
                Reason::NotAuthorized => Unpublished::NotAllowed,
                Reason::QuotaExceeded => Unpublished::Limit,
                _ => Unpublished::Otherwise,
            };
            Event::Published(answer.pkid, Err(refusal.error()))
        }
        five::Packet::PubComp(answer) => Event::Published(answer.pkid, Ok(())),
        five::Packet::Disconnect(told) => Event::Lost(told_why(told.reason_code)),
        _ => return None,
    })
}

/// Why a broker does not take a message (MQTT 5.0, 3.4.2.1 and 3.5.2.1).
enum Unpublished {
    NotAllowed,
    Limit,
    Otherwise,
}

impl Unpublished {
    fn error(self) -> LinkError {
        match self {
            Unpublished::NotAllowed => LinkError::NotAllowed("publish on this topic"),
            Unpublished::Limit => LinkError::Refused("a limit of the login is reached".into()),
            Unpublished::Otherwise => LinkError::Refused("it does not take the message".into()),
        }
    }
}

/// Why a broker ends a session (MQTT 5.0, 3.14.2.1).
fn told_why(code: five::DisconnectReasonCode) -> LinkError {
    use five::DisconnectReasonCode as Code;
    match code {
        Code::SessionTakenOver => LinkError::SameClient,
        Code::NotAuthorized => LinkError::NotAllowed("stay connected"),
        Code::ServerShuttingDown => LinkError::Refused("it shuts down".into()),
        Code::KeepAliveTimeout => LinkError::Refused("it heard nothing from Havrel for too long".into()),
        Code::QuotaExceeded | Code::ConnectionRateExceeded | Code::MessageRateTooHigh => {
            LinkError::Refused("a limit of the login is reached".into())
        }
        _ => LinkError::Ended,
    }
}

/// Puts failures of the library into words.
struct Failed {
    host: String,
    port: u16,
    judge: Option<Arc<Judge>>,
    timeout_ms: u32,
    largest: u32,
    /// The session was open.
    opened: bool,
}

impl Failed {
    fn closed(&self) -> LinkError {
        if self.opened { LinkError::Ended } else { LinkError::Closed }
    }

    fn io(&self, error: io::Error) -> LinkError {
        match (&self.judge, error_of(&error), error.kind()) {
            (Some(judge), Some(_), _) => judge.failed(&error),
            (_, _, io::ErrorKind::ConnectionRefused) => LinkError::PortClosed(self.host.clone(), self.port),
            (_, _, io::ErrorKind::UnexpectedEof | io::ErrorKind::ConnectionReset | io::ErrorKind::BrokenPipe) => {
                LinkError::Closed
            }
            (_, _, kind) => LinkError::Unreachable(self.host.clone(), kind.to_string()),
        }
    }

    fn tls(&self, error: TlsError) -> LinkError {
        match error {
            TlsError::Io(error) => self.io(error),
            other => LinkError::NotSecured(other.to_string()),
        }
    }

    fn three(&self, error: ConnectionError) -> LinkError {
        match error {
            ConnectionError::Io(error) | ConnectionError::MqttState(StateError::Io(error)) => self.io(error),
            ConnectionError::Tls(error) => self.tls(error),
            ConnectionError::NetworkTimeout | ConnectionError::FlushTimeout => LinkError::Silent(self.timeout_ms),
            ConnectionError::ConnectionRefused(code) => refused_by(match code {
                ConnectReturnCode::RefusedProtocolVersion => Refusal::Version,
                ConnectReturnCode::BadClientId => Refusal::ClientId,
                ConnectReturnCode::BadUserNamePassword => Refusal::Login,
                ConnectReturnCode::NotAuthorized => Refusal::NotAllowed,
                _ => Refusal::Unavailable,
            }),
            ConnectionError::MqttState(StateError::ConnectionAborted) => self.closed(),
            ConnectionError::MqttState(StateError::AwaitPingResp) => LinkError::Silent(self.timeout_ms),
            ConnectionError::MqttState(StateError::Deserialization(mqttbytes::Error::PayloadSizeLimitExceeded(_))) => {
                LinkError::TooLarge(self.largest)
            }
            ConnectionError::MqttState(StateError::Deserialization(mqttbytes::Error::Io(error))) => self.io(error),
            ConnectionError::Websocket(error) => self.websocket(error.to_string()),
            ConnectionError::ResponseValidation(_) => LinkError::OtherProtocol(": it takes no MQTT on this path".into()),
            _ => LinkError::OtherProtocol(String::new()),
        }
    }

    fn five(&self, error: v5::ConnectionError) -> LinkError {
        use five::ConnectReturnCode as Code;
        use v5::{ConnectionError as Error, StateError as State};
        match error {
            Error::Io(error) | Error::MqttState(State::Io(error)) => self.io(error),
            Error::Tls(error) => self.tls(error),
            Error::Timeout(_) => LinkError::Silent(self.timeout_ms),
            Error::ConnectionRefused(code) | Error::MqttState(State::ConnFail { reason: code }) => refused_by(match code {
                Code::RefusedProtocolVersion | Code::UnsupportedProtocolVersion => Refusal::Version,
                Code::BadClientId | Code::ClientIdentifierNotValid => Refusal::ClientId,
                Code::BadUserNamePassword | Code::BadAuthenticationMethod => Refusal::Login,
                Code::NotAuthorized | Code::Banned => Refusal::NotAllowed,
                _ => Refusal::Unavailable,
            }),
            Error::MqttState(State::ConnectionAborted) => self.closed(),
            Error::MqttState(State::AwaitPingResp) => LinkError::Silent(self.timeout_ms),
            Error::MqttState(State::IncomingPacketTooLarge { .. }) => LinkError::TooLarge(self.largest),
            Error::MqttState(State::ServerDisconnect { reason_code, .. }) => told_why(reason_code),
            Error::MqttState(State::Deserialization(v5::mqttbytes::Error::PayloadSizeLimitExceeded { .. })) => {
                LinkError::TooLarge(self.largest)
            }
            Error::MqttState(State::Deserialization(v5::mqttbytes::Error::Io(error))) => self.io(error),
            Error::Websocket(error) => self.websocket(error.to_string()),
            Error::ResponseValidation(_) => LinkError::OtherProtocol(": it takes no MQTT on this path".into()),
            _ => LinkError::OtherProtocol(String::new()),
        }
    }

    fn websocket(&self, words: String) -> LinkError {
        match self.judge.as_deref().map(Judge::untrusted) {
            Some(Some(error)) => error,
            _ => LinkError::OtherProtocol(format!(": {words}")),
        }
    }
}

/// Why a broker lets nobody in (MQTT 3.1.1, 3.2.2.3; MQTT 5.0, 3.2.2.2).
enum Refusal {
    Version,
    ClientId,
    Login,
    NotAllowed,
    Unavailable,
}

fn refused_by(refusal: Refusal) -> LinkError {
    match refusal {
        Refusal::Version => LinkError::OtherVersion,
        Refusal::ClientId => LinkError::Refused("it does not take this client id".into()),
        Refusal::Login => LinkError::WrongLogin,
        Refusal::NotAllowed => LinkError::NotAllowed("connect"),
        Refusal::Unavailable => LinkError::Refused("it is not available at present".into()),
    }
}
