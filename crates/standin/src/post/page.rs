//! The page of what was received, and the door for web hooks, over HTTP/1.1.

use super::{File, LARGEST, Post, Received};
use base64::prelude::{BASE64_STANDARD, Engine};
use http_body_util::{BodyExt as _, Full, Limited};
use hyper::{
    Method, Request, Response, StatusCode,
    body::{Bytes, Incoming},
    header,
    server::conn::http1,
    service::service_fn,
};
use hyper_util::rt::{TokioIo, TokioTimer};
use maud::{DOCTYPE, html};
use percent_encoding::{NON_ALPHANUMERIC, percent_encode};
use std::{convert::Infallible, io};
use tokio::net::TcpListener;

/// Answers until the listener fails; hooks are refused while `refuses` says so.
///
/// # Errors
/// The listener's own failure.
pub async fn serve(
    listener: TcpListener,
    post: Post,
    refuses: impl Fn() -> bool + Clone + Send + Sync + 'static,
) -> io::Result<()> {
    loop {
        let (stream, _) = listener.accept().await?;
        let (post, refuses) = (post.clone(), refuses.clone());
        tokio::spawn(async move {
            let service = service_fn(move |request| {
                let (post, refuses) = (post.clone(), refuses());
                async move { Ok::<_, Infallible>(answer(request, &post, refuses).await) }
            });
            // A client that goes away is no failure of ours.
            let _ = http1::Builder::new().timer(TokioTimer::new()).serve_connection(TokioIo::new(stream), service).await;
        });
    }
}

async fn answer(request: Request<Incoming>, post: &Post, refuses: bool) -> Response<Full<Bytes>> {
    match (request.method().clone(), request.uri().path()) {
        (Method::GET, "/") => with(StatusCode::OK, "text/html; charset=utf-8", page(&post.all())),
        (Method::GET, "/received") => {
            let all = serde_json::to_string(&post.all()).unwrap_or_default();
            with(StatusCode::OK, "application/json", all)
        }
        (Method::GET, path) if path.starts_with("/files/") => match file_of(post, path) {
            Some(file) => {
                let mut response = Response::new(Full::new(Bytes::from_owner(file.bytes)));
                let download = format!("attachment; filename*=UTF-8''{}", percent_encode(file.name.as_bytes(), NON_ALPHANUMERIC));
                response.headers_mut().extend(download.parse().ok().map(|value| (header::CONTENT_DISPOSITION, value)));
                response
            }
            None => with(StatusCode::NOT_FOUND, "text/plain", "there is no such file any more".into()),
        },
        (Method::POST, _) if refuses => with(StatusCode::SERVICE_UNAVAILABLE, "text/plain", "closed".into()),
        (Method::POST, path) => {
            let to = path.to_owned();
            match Limited::new(request.into_body(), LARGEST).collect().await {
                Ok(body) => {
                    let (text, files) = opened(String::from_utf8_lossy(&body.to_bytes()).into_owned());
                    post.keep(Received {
                        number: 0,
                        by: "hook",
                        at: 0,
                        from: String::new(),
                        to,
                        subject: String::new(),
                        text,
                        files,
                    });
                    with(StatusCode::NO_CONTENT, "text/plain", String::new())
                }
                Err(_) => with(StatusCode::PAYLOAD_TOO_LARGE, "text/plain", "too large".into()),
            }
        }
        _ => with(StatusCode::NOT_FOUND, "text/plain", "there is only the page of what was received".into()),
    }
}

/// The files of a hook apart from what it says, where it brings any.
fn opened(text: String) -> (String, Vec<File>) {
    let Ok(mut content) = serde_json::from_str::<serde_json::Value>(&text) else { return (text, Vec::new()) };
    let Some(sent) = content.get_mut("files").and_then(|files| files.as_array_mut()) else { return (text, Vec::new()) };
    let mut files = Vec::new();
    for file in sent {
        let bytes = file["content"].as_str().and_then(|sent| BASE64_STANDARD.decode(sent).ok()).unwrap_or_default();
        file["content"] = format!("{} bytes", bytes.len()).into();
        files.push(File::new(file["name"].as_str().unwrap_or_default(), bytes));
    }
    (content.to_string(), files)
}

/// The file at a path: the number of what was received, and the place of the file in it.
fn file_of(post: &Post, path: &str) -> Option<File> {
    let (number, place) = path.strip_prefix("/files/")?.split_once('/')?;
    let (number, place): (u64, usize) = (number.parse().ok()?, place.parse().ok()?);
    post.all().into_iter().find(|one| one.number == number)?.files.into_iter().nth(place)
}

fn with(status: StatusCode, media: &str, body: String) -> Response<Full<Bytes>> {
    let mut response = Response::new(Full::new(Bytes::from(body)));
    *response.status_mut() = status;
    if let Ok(media) = media.parse() {
        response.headers_mut().insert(header::CONTENT_TYPE, media);
    }
    response
}

const STYLE: &str = "body{font:16px/1.4 system-ui,sans-serif;max-width:48rem;margin:1rem auto;padding:0 1rem}\
article{border:1px solid #999;border-radius:4px;padding:.75rem;margin:.75rem 0}pre{white-space:pre-wrap;overflow-wrap:anywhere;margin:.5rem 0 0}h2{font-size:1rem;margin:0}";

fn page(all: &[Received]) -> String {
    html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta http-equiv="refresh" content="5";
                title { "Received" }
                style { (STYLE) }
            }
            body {
                h1 { "What the mail server and the hook received" }
                @if all.is_empty() { p { "Nothing yet." } }
                @for one in all {
                    article {
                        h2 { (one.number) ". " @if one.by == "mail" { "Mail to " (one.to) ": " (one.subject) } @else { "POST " (one.to) } }
                        @for (place, file) in one.files.iter().enumerate() {
                            p { a href={ "/files/" (one.number) "/" (place) } { (file.name) } " · " (file.size) " bytes" }
                        }
                        pre {
                            @for line in one.text.lines() {
                                @if line.starts_with("http://") || line.starts_with("https://") { a href=(line) { (line) } } @else { (line) }
                                "\n"
                            }
                        }
                    }
                }
            }
        }
    }
    .into_string()
}
