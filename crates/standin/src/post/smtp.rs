//! The mail server on the wire (RFC 5321): as much of it as it takes to hand in a message, with a login (RFC 4954) and, where it has a
//! certificate, TLS (RFC 3207).

use super::{File, LARGEST, PASSWORD, Post, Received, USER};
use mailparse::MailHeaderMap;
use std::io;
use tokio::{
    io::{AsyncBufReadExt, AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt, BufReader},
    net::{TcpListener, TcpStream},
};
use tokio_rustls::TlsAcceptor;

/// The longest line, and the largest message, in bytes.
const LINE: u64 = 2000;

/// How the server behaves.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Mood {
    /// It closes every connection.
    pub gone: bool,
    /// It knows nobody.
    pub refuses: bool,
    /// It says hello and nothing more.
    pub silent: bool,
}

/// Answers until the listener fails; `mood` says how it behaves at the moment.
///
/// # Errors
/// The listener's own failure.
pub async fn serve(
    listener: TcpListener,
    post: Post,
    tls: Option<TlsAcceptor>,
    mood: impl Fn() -> Mood + Clone + Send + Sync + 'static,
) -> io::Result<()> {
    loop {
        let (stream, _) = listener.accept().await?;
        let (post, tls, mood) = (post.clone(), tls.clone(), mood.clone());
        if mood().gone {
            continue;
        }
        // A client that goes away is no failure of ours.
        tokio::spawn(async move { talk(stream, &post, tls, &mood).await });
    }
}

/// How a conversation ended.
enum End {
    Over,
    /// The client wants TLS from here on.
    Secure,
}

async fn talk(mut stream: TcpStream, post: &Post, tls: Option<TlsAcceptor>, mood: &(impl Fn() -> Mood + Sync)) -> io::Result<()> {
    stream.write_all(b"220 mail.works.example ready\r\n").await?;
    let ended = converse(&mut BufReader::new(&mut stream), post, tls.is_some(), mood).await?;
    if let (End::Secure, Some(tls)) = (ended, tls) {
        let mut secured = tls.accept(stream).await?;
        converse(&mut BufReader::new(&mut secured), post, false, mood).await?;
    }
    Ok(())
}

async fn converse<S>(stream: &mut BufReader<S>, post: &Post, tls: bool, mood: &(impl Fn() -> Mood + Sync)) -> io::Result<End>
where
    S: AsyncRead + AsyncWrite + Unpin,
{
    let (mut from, mut to) = (None::<String>, Vec::new());
    loop {
        let Some(line) = line(stream).await? else { return Ok(End::Over) };
        let mood = mood();
        if mood.silent {
            std::future::pending::<()>().await;
        }
        let (verb, rest) = line.split_once(' ').unwrap_or((&line, ""));
        let answer = match verb.to_ascii_uppercase().as_str() {
            "EHLO" => {
                let offered = if tls { "250-STARTTLS\r\n" } else { "" };
                format!("250-mail.works.example\r\n250-8BITMIME\r\n{offered}250 AUTH PLAIN LOGIN")
            }
            "HELO" => "250 mail.works.example".into(),
            "STARTTLS" if tls => {
                say(stream, "220 go ahead").await?;
                return Ok(End::Secure);
            }
            "AUTH" => if knows(rest) { "235 2.7.0 welcome" } else { "535 5.7.8 user or password is wrong" }.into(),
            "MAIL" => {
                from = address(rest);
                "250 2.1.0 go on".into()
            }
            "RCPT" if mood.refuses => "550 5.1.1 no such mailbox".into(),
            "RCPT" if from.is_none() => "503 5.5.1 say who it comes from first".into(),
            "RCPT" => {
                to.extend(address(rest));
                "250 2.1.5 go on".into()
            }
            "DATA" if to.is_empty() => "503 5.5.1 say whom it is for first".into(),
            "DATA" => {
                say(stream, "354 end with a point on a line of its own").await?;
                match message(stream).await? {
                    None => "552 5.3.4 too large".into(),
                    Some(raw) => {
                        post.keep(read(&raw, from.take().unwrap_or_default(), &to.join(", ")));
                        to.clear();
                        "250 2.0.0 taken".into()
                    }
                }
            }
            "RSET" => {
                (from, to) = (None, Vec::new());
                "250 2.0.0 forgotten".into()
            }
            "NOOP" => "250 2.0.0 here".into(),
            "QUIT" => {
                say(stream, "221 2.0.0 goodbye").await?;
                return Ok(End::Over);
            }
            _ => "502 5.5.1 not known here".into(),
        };
        say(stream, &answer).await?;
    }
}

async fn say<S: AsyncRead + AsyncWrite + Unpin>(stream: &mut BufReader<S>, words: &str) -> io::Result<()> {
    stream.get_mut().write_all(format!("{words}\r\n").as_bytes()).await?;
    stream.get_mut().flush().await
}

async fn line<S: AsyncRead + Unpin>(stream: &mut BufReader<S>) -> io::Result<Option<String>> {
    let mut bytes = Vec::new();
    (&mut *stream).take(LINE).read_until(b'\n', &mut bytes).await?;
    if !bytes.ends_with(b"\n") {
        return Ok(None);
    }
    Ok(Some(String::from_utf8_lossy(&bytes).trim_end().to_owned()))
}

/// The lines of a message up to the point; `None` where it is too large.
async fn message<S: AsyncRead + Unpin>(stream: &mut BufReader<S>) -> io::Result<Option<Vec<u8>>> {
    let mut all = Vec::new();
    loop {
        let mut bytes = Vec::new();
        (&mut *stream).take(LINE).read_until(b'\n', &mut bytes).await?;
        if bytes.is_empty() {
            return Err(io::ErrorKind::UnexpectedEof.into());
        }
        if bytes == b".\r\n" || bytes == b".\n" {
            return Ok((all.len() <= LARGEST).then_some(all));
        }
        let own = if bytes.starts_with(b".") { &bytes[1..] } else { &bytes };
        if all.len() <= LARGEST {
            all.extend_from_slice(own);
        }
    }
}

/// Whether a login is the one that is known (RFC 4616, all at once).
fn knows(rest: &str) -> bool {
    use base64::{Engine as _, prelude::BASE64_STANDARD};
    let said = rest.strip_prefix("PLAIN ").and_then(|sent| BASE64_STANDARD.decode(sent.trim()).ok());
    said.is_some_and(|said| said == format!("\0{USER}\0{PASSWORD}").as_bytes())
}

/// What stands between the angle brackets.
fn address(rest: &str) -> Option<String> {
    let inner = rest.split_once('<')?.1;
    Some(inner.split_once('>')?.0.to_owned())
}

fn read(raw: &[u8], from: String, to: &str) -> Received {
    let parsed = mailparse::parse_mail(raw).ok();
    let subject = parsed.as_ref().and_then(|mail| mail.headers.get_first_value("Subject")).unwrap_or_default();
    let part = parsed.as_ref().map(|mail| mail.subparts.first().unwrap_or(mail));
    let text = part.and_then(|part| part.get_body().ok()).unwrap_or_else(|| String::from_utf8_lossy(raw).into_owned());
    let parts = parsed.iter().flat_map(|mail| &mail.subparts).skip(1);
    let file = |part: &mailparse::ParsedMail<'_>| {
        let name = part.get_content_disposition().params.get("filename").cloned().unwrap_or_default();
        Some(File::new(&name, part.get_body_raw().ok()?))
    };
    let text = text.trim_end().replace("\r\n", "\n");
    Received { number: 0, by: "mail", at: 0, from, to: to.to_owned(), subject, text, files: parts.filter_map(file).collect() }
}
