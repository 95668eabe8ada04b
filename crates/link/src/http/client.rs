//! One conversation with a program: requests one after the other over a connection that is kept, bounded in time and size.

use super::settings::{Login, Method, Path, Request, Scheme, Settings};
use crate::{LinkError, net};
use base64::{Engine as _, prelude::BASE64_STANDARD};
use bytes::Bytes;
use havrel_core::plant::Secret;
use http_body_util::{BodyExt as _, Full, LengthLimitError, Limited};
use hyper::{
    Response, StatusCode, Uri,
    body::Incoming,
    client::conn::http1::{SendRequest, handshake},
    header::{self, HeaderMap, HeaderName, HeaderValue},
};
use hyper_util::rt::TokioIo;
use std::{sync::Arc, time::Duration};
use tokio::{
    io::{AsyncRead, AsyncWrite},
    task::JoinSet,
    time::timeout,
};
use url::Url;

/// Times that an answer may send on.
const MOST_HOPS: usize = 5;
/// The longest pause that a program may ask for.
const LONGEST_PAUSE: Duration = Duration::from_secs(3600);

/// What it failed at.
#[derive(Debug)]
pub(crate) enum Failed {
    /// The program cannot be reached at all.
    Dial(LinkError),
    /// It can, and this request failed; how long it asks to be left alone.
    Asked(LinkError, Option<Duration>),
}

impl Failed {
    pub fn error(self) -> LinkError {
        match self {
            Failed::Dial(error) | Failed::Asked(error, _) => error,
        }
    }
}

/// An answer.
#[derive(Clone, Debug, Default)]
pub(crate) struct Answer {
    pub status: u16,
    /// Its media type; empty where it tells none.
    pub media: String,
    pub body: Bytes,
    /// By what the program can say that nothing changed.
    pub version: Version,
    /// Nothing changed since the version that was asked for.
    pub unchanged: bool,
}

/// By what a program tells whether an answer changed (RFC 9110, 8.8).
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Version {
    tag: Option<HeaderValue>,
    modified: Option<HeaderValue>,
}

trait Stream: AsyncRead + AsyncWrite + Unpin + Send {}
impl<S: AsyncRead + AsyncWrite + Unpin + Send> Stream for S {}

/// Asks a program at one of its addresses.
pub(crate) struct Caller {
    settings: Arc<Settings>,
    path: Path,
    timeout_ms: u32,
    open: Option<SendRequest<Full<Bytes>>>,
    /// Drives the open connection.
    task: JoinSet<()>,
}

impl Caller {
    pub fn new(settings: Arc<Settings>, path: Path, timeout_ms: u32) -> Caller {
        Caller { settings, path, timeout_ms, open: None, task: JoinSet::new() }
    }

    /// Opens the connection. Gives in words how it is secured; empty where it is not.
    ///
    /// # Errors
    /// When the program cannot be reached, or is not to be trusted.
    pub async fn dial(&mut self) -> Result<String, LinkError> {
        let (host, port) = (self.path.host.trim(), self.settings.port_of(&self.path));
        let plain = net::open(host, port, self.timeout_ms).await?;
        let (stream, words): (Box<dyn Stream>, String) = if self.settings.scheme == Scheme::Https {
            let name = Some(self.settings.server_name.trim()).filter(|name| !name.is_empty()).unwrap_or(host);
            let secured = self.settings.tls.secure(plain, name, self.timeout_ms).await?;
            (Box::new(secured.stream), secured.words)
        } else {
            (Box::new(plain), String::new())
        };
        let (sender, driver) = handshake(TokioIo::new(stream)).await.map_err(|e| words_of(&e))?;
        self.task.abort_all();
        self.task = JoinSet::new();
        self.task.spawn(async move {
            // How it ends is told by the request that goes on then.
            let _ = driver.await;
        });
        self.open = Some(sender);
        Ok(words)
    }

    /// Asks, and follows where the answer sends on within the same host.
    ///
    /// # Errors
    /// What failed; a status other than success is a failure too.
    pub async fn ask(&mut self, request: &Request, known: Option<&Version>) -> Result<Answer, Failed> {
        let own = format!("{}{}", self.settings.path, request.path);
        // A path that is empty but for a question.
        let own = if own.starts_with('/') { own } else { format!("/{own}") };
        let here = format!("{}://{}", self.settings.scheme.name(), self.settings.authority(&self.path));
        let asked = |error| Failed::Asked(error, None);
        let mut at = Url::parse(&format!("{here}{own}"))
            .map_err(|_| asked(LinkError::BadRequest("The path cannot be written as a URL.".into())))?;
        let origin = at.origin();
        let mut request = Request { path: own, ..request.clone() };
        for _ in 0..=MOST_HOPS {
            let answer =
                if at.origin() == origin { self.exchange(&request, known).await? } else { self.elsewhere(&at, &request).await? };
            let Some(to) = sent_on(&answer) else { return self.taken(answer).await };
            let next = at.join(&to).map_err(|_| asked(LinkError::SentOn(to.clone())))?;
            let weaker = at.scheme() == "https" && next.scheme() != "https";
            let foreign = next.origin() != origin && !self.settings.elsewhere;
            if weaker || foreign || !["http", "https"].contains(&next.scheme()) {
                return Err(asked(LinkError::SentOn(next.origin().ascii_serialization())));
            }
            // After 303 the answer lies under GET (RFC 9110, 15.4.4).
            if answer.status() == StatusCode::SEE_OTHER {
                (request.method, request.body) = (Method::Get, String::new());
            }
            // What the answer holds beside is of no use, and the connection is used again only without it.
            self.drop_body(answer).await;
            request.path = next[url::Position::BeforePath..url::Position::AfterQuery].to_owned();
            at = next;
        }
        Err(asked(LinkError::WrongAnswer(format!("it sends on more than {MOST_HOPS} times"))))
    }

    /// Posts JSON; the status of the answer, whatever that holds.
    ///
    /// # Errors
    /// What failed; a status other than success is a failure too.
    pub async fn tell(&mut self, body: String) -> Result<u16, LinkError> {
        let own = &self.settings.path;
        let path = if own.starts_with('/') { own.clone() } else { format!("/{own}") };
        let answer = self.exchange(&Request { path, method: Method::Post, body }, None).await.map_err(Failed::error)?;
        let status = answer.status();
        let elsewhere = sent_on(&answer);
        self.drop_body(answer).await;
        match elsewhere {
            Some(to) => Err(LinkError::SentOn(to)),
            None if status.is_success() => Ok(status.as_u16()),
            None => Err(LinkError::Answered(status.as_u16())),
        }
    }

    /// Asks another host, which hears nothing of the login.
    async fn elsewhere(&self, at: &Url, request: &Request) -> Result<Response<Incoming>, Failed> {
        let host = at.host_str().unwrap_or_default().to_owned();
        let scheme = if at.scheme() == "https" { Scheme::Https } else { Scheme::Http };
        let settings = Settings {
            scheme,
            login: Login::None,
            secret: None,
            headers: Vec::new(),
            server_name: String::new(),
            ..(*self.settings).clone()
        };
        let mut other = Caller::new(Arc::new(settings), Path { host, port: at.port_or_known_default() }, self.timeout_ms);
        let answer = other.exchange(request, None).await?;
        // The answer is still read from it.
        other.task.detach_all();
        Ok(answer)
    }

    /// One request and the head of its answer. A connection that was kept and is closed meanwhile is opened anew.
    async fn exchange(&mut self, request: &Request, known: Option<&Version>) -> Result<Response<Incoming>, Failed> {
        let asked = |error| Failed::Asked(error, None);
        loop {
            let kept = self.open.is_some();
            if !kept {
                self.dial().await.map_err(Failed::Dial)?;
            }
            let Some(mut sender) = self.open.take() else { return Err(Failed::Dial(LinkError::Closed)) };
            let message = self.message(request, known).map_err(asked)?;
            let sent = async {
                sender.ready().await?;
                sender.send_request(message).await
            };
            match timeout(Duration::from_millis(self.timeout_ms.into()), sent).await {
                Err(_) => return Err(asked(LinkError::Silent(self.timeout_ms))),
                Ok(Ok(answer)) => {
                    self.open = Some(sender);
                    return Ok(answer);
                }
                // It was closed between two requests. What was not sent is sent now; what only asks may be asked again.
                Ok(Err(e)) if kept && e.is_canceled() => {}
                Ok(Err(e)) if kept && request.method == Method::Get && (e.is_closed() || e.is_incomplete_message()) => {}
                Ok(Err(e)) => return Err(asked(words_of(&e))),
            }
        }
    }

    fn message(&self, request: &Request, known: Option<&Version>) -> Result<hyper::Request<Full<Bytes>>, LinkError> {
        let wrong = |_| LinkError::BadRequest("The request cannot be written.".into());
        let uri: Uri = request.path.parse().map_err(|_| LinkError::BadRequest("The path cannot be written.".into()))?;
        let mut message = hyper::Request::builder()
            .method(request.method.name())
            .uri(uri)
            .body(Full::new(Bytes::from(request.body.clone())))
            .map_err(wrong)?;
        let headers = message.headers_mut();
        let text =
            |text: &str| HeaderValue::try_from(text).map_err(|_| LinkError::BadRequest("A header cannot be written.".into()));
        headers.insert(header::HOST, text(&self.settings.authority(&self.path))?);
        headers.insert(header::USER_AGENT, HeaderValue::from_static("Havrel"));
        headers.insert(header::ACCEPT, HeaderValue::from_static("application/json, text/*;q=0.5, */*;q=0.1"));
        if request.method == Method::Post {
            headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/json"));
        }
        for own in &self.settings.headers {
            let name =
                HeaderName::try_from(own.name.trim()).map_err(|_| LinkError::BadRequest("A header has no name.".into()))?;
            headers.insert(name, text(&own.value)?);
        }
        self.login(headers)?;
        if let Some(known) = known {
            headers.extend(known.tag.clone().map(|tag| (header::IF_NONE_MATCH, tag)));
            headers.extend(known.modified.clone().map(|at| (header::IF_MODIFIED_SINCE, at)));
        }
        Ok(message)
    }

    fn login(&self, headers: &mut HeaderMap) -> Result<(), LinkError> {
        if self.settings.login == Login::None {
            return Ok(());
        }
        let what = match self.settings.login {
            Login::Basic => "password",
            Login::Bearer => "token",
            Login::None | Login::Header => "text of the header",
        };
        let missing = || LinkError::NoSecret(what.into());
        let Some(Secret::Plain(secret)) = &self.settings.secret else { return Err(missing()) };
        let (name, value) = match self.settings.login {
            Login::Basic => {
                let pair = BASE64_STANDARD.encode(format!("{}:{secret}", self.settings.user.trim()));
                (header::AUTHORIZATION, format!("Basic {pair}"))
            }
            Login::Bearer => (header::AUTHORIZATION, format!("Bearer {}", secret.trim())),
            Login::None | Login::Header => {
                (HeaderName::try_from(self.settings.header.trim()).map_err(|_| missing())?, secret.trim().to_owned())
            }
        };
        let mut value = HeaderValue::try_from(value).map_err(|_| missing())?;
        value.set_sensitive(true);
        headers.insert(name, value);
        Ok(())
    }

    /// Reads an answer to its end, within the time and the size that are allowed.
    async fn taken(&mut self, answer: Response<Incoming>) -> Result<Answer, Failed> {
        let (head, body) = answer.into_parts();
        let (status, headers) = (head.status.as_u16(), head.headers);
        let pause = headers.get(header::RETRY_AFTER).and_then(|at| at.to_str().ok()?.trim().parse().ok());
        let pause = pause.map(|seconds| Duration::from_secs(seconds).min(LONGEST_PAUSE));
        let asked = |error| Failed::Asked(error, pause);
        let limit = self.settings.largest;
        let read = timeout(Duration::from_millis(self.timeout_ms.into()), Limited::new(body, limit as usize).collect()).await;
        let body = match read {
            Ok(Ok(all)) => all.to_bytes(),
            other => {
                // The rest would be taken for the next answer.
                self.open = None;
                return Err(asked(match other {
                    Err(_) => LinkError::Silent(self.timeout_ms),
                    Ok(Err(e)) if e.is::<LengthLimitError>() => LinkError::TooLarge(limit),
                    Ok(_) => LinkError::Closed,
                }));
            }
        };
        let media = headers.get(header::CONTENT_TYPE).and_then(|media| media.to_str().ok()).unwrap_or_default();
        let version = Version { tag: headers.get(header::ETAG).cloned(), modified: headers.get(header::LAST_MODIFIED).cloned() };
        let unchanged = head.status == StatusCode::NOT_MODIFIED;
        if !unchanged && (!head.status.is_success() || [204, 205].contains(&status)) {
            return Err(asked(LinkError::Answered(status)));
        }
        Ok(Answer { status, media: media.to_owned(), body, version, unchanged })
    }

    /// Reads what an answer that sends on holds, so that its connection can be used again.
    async fn drop_body(&mut self, answer: Response<Incoming>) {
        let all = Limited::new(answer.into_body(), 64 << 10).collect();
        if !matches!(timeout(Duration::from_millis(self.timeout_ms.into()), all).await, Ok(Ok(_))) {
            self.open = None;
        }
    }
}

/// Where an answer sends on to.
fn sent_on(answer: &Response<Incoming>) -> Option<String> {
    let on = matches!(answer.status().as_u16(), 301 | 302 | 303 | 307 | 308);
    on.then(|| answer.headers().get(header::LOCATION)?.to_str().ok().map(str::to_owned)).flatten()
}

/// What went wrong on the wire.
fn words_of(error: &hyper::Error) -> LinkError {
    if error.is_parse() || error.is_parse_status() {
        LinkError::OtherProtocol(": no answer of HTTP came".into())
    } else if error.is_user() {
        LinkError::BadRequest("The request cannot be written.".into())
    } else {
        LinkError::Closed
    }
}
