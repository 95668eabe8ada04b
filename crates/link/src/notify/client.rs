//! One session with a mail server.

use super::settings::{Security, Settings};
use crate::{LinkError, net};
use havrel_core::{notice::Notice, plant::Secret};
use lettre::{
    Address, Message,
    message::{Attachment, Mailbox, MultiPart, SinglePart, header, header::HeaderName},
    transport::smtp::{
        Error,
        authentication::{Credentials, Mechanism},
        client::{AsyncSmtpConnection, Certificate, TlsParameters},
        commands::{Mail, Rset},
        extension::ClientId,
        response::Response,
    },
};
use std::time::Duration;
use tokio::time::timeout;

/// A session that is open.
pub(super) struct Session {
    connection: AsyncSmtpConnection,
    timeout_ms: u32,
}

impl Session {
    /// Opens a session, as far as it takes to send messages.
    ///
    /// # Errors
    /// What the server cannot be reached by, or refuses.
    pub async fn open(settings: &Settings, timeout_ms: u32) -> Result<Session, LinkError> {
        let mut session = Session::hello(settings, timeout_ms).await?;
        if settings.security == Security::StartTls {
            session.start_tls(settings).await?;
        }
        if !settings.user.trim().is_empty() {
            session.log_in(settings).await?;
        }
        Ok(session)
    }

    /// Connects and says hello.
    ///
    /// # Errors
    /// What the server cannot be reached by.
    pub async fn hello(settings: &Settings, timeout_ms: u32) -> Result<Session, LinkError> {
        let (host, port, name) = (settings.host.trim(), settings.port(), name());
        // Tried first by our own means, which say better why nothing answers.
        let stream = net::open(host, port, timeout_ms).await?;
        let connection = match settings.security {
            Security::Tls => {
                drop(stream);
                let wait = Some(Duration::from_millis(timeout_ms.into()));
                let made = AsyncSmtpConnection::connect_tokio1((host, port), wait, &name, Some(tls(settings)?), None);
                in_time(timeout_ms, made).await?
            }
            Security::StartTls | Security::None => {
                in_time(timeout_ms, AsyncSmtpConnection::connect_with_transport(Box::new(stream), &name)).await?
            }
        };
        Ok(Session { connection, timeout_ms })
    }

    /// What the server says of itself.
    pub fn words(&self) -> String {
        self.connection.server_info().name().chars().take(200).collect()
    }

    /// Secures the session.
    ///
    /// # Errors
    /// A server that cannot, or is not to be trusted.
    pub async fn start_tls(&mut self, settings: &Settings) -> Result<(), LinkError> {
        if !self.connection.can_starttls() {
            return Err(LinkError::NotSecured("the mail server offers no TLS after its hello (STARTTLS)".into()));
        }
        in_time(self.timeout_ms, self.connection.starttls(tls(settings)?, &name())).await
    }

    /// Says who we are.
    ///
    /// # Errors
    /// A login that the server does not know, or none that it offers.
    pub async fn log_in(&mut self, settings: &Settings) -> Result<String, LinkError> {
        let Some(Secret::Plain(password)) = &settings.secret else { return Err(LinkError::NoSecret("password".into())) };
        let credentials = Credentials::new(settings.user.trim().to_owned(), password.clone());
        let answer = in_time(self.timeout_ms, self.connection.auth(&[Mechanism::Plain, Mechanism::Login], &credentials)).await?;
        Ok(words_of(&answer))
    }

    /// Offers a message from an address and takes it back.
    ///
    /// # Errors
    /// A server that takes none from it.
    pub async fn try_from(&mut self, from: &str) -> Result<String, LinkError> {
        let answer = in_time(self.timeout_ms, self.connection.command(Mail::new(Some(address(from)?), Vec::new()))).await?;
        in_time(self.timeout_ms, self.connection.command(Rset)).await?;
        Ok(words_of(&answer))
    }

    /// Gives the server a message; what it says.
    ///
    /// # Errors
    /// A server that does not take it.
    pub async fn send(&mut self, from: &str, notice: &Notice) -> Result<String, LinkError> {
        let message = message(from, notice)?;
        let answer = in_time(self.timeout_ms, self.connection.send(message.envelope(), &message.formatted())).await?;
        Ok(words_of(&answer))
    }

    /// Ends the session.
    pub async fn quit(mut self) {
        // A server that does not answer to this has everything all the same.
        let _ = timeout(Duration::from_millis(self.timeout_ms.into()), self.connection.quit()).await;
    }
}

/// How we call ourselves.
fn name() -> ClientId {
    let name = gethostname::gethostname().to_string_lossy().into_owned();
    let plain = !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || ".-".contains(c));
    if plain { ClientId::Domain(name) } else { ClientId::Domain("localhost".into()) }
}

fn tls(settings: &Settings) -> Result<TlsParameters, LinkError> {
    let mut builder = TlsParameters::builder(settings.host.trim().to_owned());
    for part in pem::parse_many(&settings.trust).unwrap_or_default() {
        let authority = Certificate::from_der(part.into_contents()).map_err(|e| LinkError::NotSecured(e.to_string()))?;
        builder = builder.add_root_certificate(authority);
    }
    builder.build().map_err(|e| LinkError::NotSecured(e.to_string()))
}

fn address(text: &str) -> Result<Address, LinkError> {
    text.trim().parse().map_err(|_| LinkError::BadRequest(format!("“{text}” is no address of an e-mail.")))
}

/// The message as it leaves (RFC 5322). It is marked as made by a program, so that no answering machine answers (RFC 3834).
fn message(from: &str, notice: &Notice) -> Result<Message, LinkError> {
    let unwritten = |_| LinkError::BadRequest("The message cannot be written.".into());
    let from = address(from)?;
    let id = format!("<{}@{}>", notice.id, from.domain());
    let automatic = header::HeaderValue::new(HeaderName::new_from_ascii_str("Auto-Submitted"), "auto-generated".into());
    let message = Message::builder()
        .from(Mailbox::new(Some("Havrel".into()), from))
        .to(Mailbox::new(None, address(&notice.to)?))
        .subject(notice.subject.clone())
        .message_id(Some(id))
        .date_now()
        .raw_header(automatic);
    if notice.files.is_empty() {
        return message.header(header::ContentType::TEXT_PLAIN).body(notice.text.clone()).map_err(unwritten);
    }
    let mut parts = MultiPart::mixed().singlepart(SinglePart::plain(notice.text.clone()));
    for file in &notice.files {
        let media = header::ContentType::parse(file.media)
            .map_err(|_| LinkError::BadRequest(format!("“{}” is no media type.", file.media)))?;
        // A person who gets a file has no use for our folders.
        let name = file.name.rsplit('/').next().unwrap_or_default();
        parts = parts.singlepart(Attachment::new(name.to_owned()).body(file.bytes.to_vec(), media));
    }
    message.multipart(parts).map_err(unwritten)
}

async fn in_time<T>(timeout_ms: u32, asked: impl Future<Output = Result<T, Error>>) -> Result<T, LinkError> {
    let answered = timeout(Duration::from_millis(timeout_ms.into()), asked).await;
    answered.map_err(|_| LinkError::Silent(timeout_ms))?.map_err(|error| of(&error, timeout_ms))
}

fn of(error: &Error, timeout_ms: u32) -> LinkError {
    let words = || std::error::Error::source(error).map_or_else(|| error.to_string(), ToString::to_string);
    if let Some(code) = error.status() {
        return LinkError::MailAnswered(u16::from(code), words());
    }
    if error.is_timeout() {
        LinkError::Silent(timeout_ms)
    } else if error.is_tls() || words().contains("certificate") {
        LinkError::NotSecured(words())
    } else if error.is_response() {
        LinkError::OtherProtocol(": no hello of a mail server came".into())
    } else if error.is_client() {
        LinkError::BadRequest(format!("The mail server offers nothing that fits: {}.", words()))
    } else {
        LinkError::Closed
    }
}

fn words_of(answer: &Response) -> String {
    let text = answer.message().collect::<Vec<_>>().join(" ");
    format!("{} {text}", u16::from(answer.code())).trim().chars().take(200).collect()
}
