//! The service on the wire: HTTP/1.1 with a token, a new answer every ten seconds, and the old one not sent twice.

use super::points;
use crate::{faults::Fault, serve::Shared};
use havrel_core::time::{Nanos, SECOND};
use http_body_util::Full;
use hyper::{
    Method, Request, Response, StatusCode,
    body::{Bytes, Incoming},
    header,
    server::conn::http1,
    service::service_fn,
};
use hyper_util::rt::{TokioIo, TokioTimer};
use std::{
    collections::HashMap,
    convert::Infallible,
    io,
    sync::{Arc, Mutex, PoisonError},
    time::{Instant, SystemTime, UNIX_EPOCH},
};
use tokio::net::TcpListener;

/// The token with which Havrel asks.
pub const TOKEN: &str = "kelp-forecast";
/// How long an answer stays the same.
const SLOT: Nanos = 10 * SECOND;

/// The answer of a slot of time, by path.
type Told = Arc<Mutex<HashMap<String, (Nanos, String)>>>;

/// Answers until the listener fails.
///
/// # Errors
/// The listener's own failure.
pub async fn serve(listener: TcpListener, shared: Shared) -> io::Result<()> {
    let told = Told::default();
    loop {
        let (stream, _) = listener.accept().await?;
        let (shared, told) = (shared.clone(), told.clone());
        tokio::spawn(async move {
            let service = service_fn(move |request| {
                let answer = answer(&request, &shared, &told, now());
                async move { Ok::<_, Infallible>(answer) }
            });
            // A client that goes away is no failure of ours.
            let _ = http1::Builder::new().timer(TokioTimer::new()).serve_connection(TokioIo::new(stream), service).await;
        });
    }
}

fn now() -> Nanos {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_nanos() as Nanos)
}

fn with(status: StatusCode, media: &str, body: String) -> Response<Full<Bytes>> {
    let mut response = Response::new(Full::new(Bytes::from(body)));
    *response.status_mut() = status;
    if let Ok(media) = media.parse() {
        response.headers_mut().insert(header::CONTENT_TYPE, media);
    }
    response
}

fn answer(request: &Request<Incoming>, shared: &Shared, told: &Told, at: Nanos) -> Response<Full<Bytes>> {
    const JSON: &str = "application/json";
    let works = shared.lock();
    let on = |fault: Fault| works.faults.is_on(&fault, Instant::now());
    let words = |text: &str| format!("{{\"error\": \"{text}\"}}");
    if on(Fault::ServiceGone) {
        return with(StatusCode::SERVICE_UNAVAILABLE, JSON, words("maintenance"));
    }
    let shown = request.headers().get(header::AUTHORIZATION).and_then(|shown| shown.to_str().ok());
    if shown != Some(&format!("Bearer {TOKEN}")) || on(Fault::ServiceLocked) {
        return with(StatusCode::UNAUTHORIZED, JSON, words("show a token"));
    }
    if request.method() != Method::GET {
        return with(StatusCode::METHOD_NOT_ALLOWED, JSON, words("only GET"));
    }
    let slot = at / SLOT * SLOT;
    let path = request.uri().path();
    let mut told = told.lock().unwrap_or_else(PoisonError::into_inner);
    let body = match told.get(path) {
        Some((known, body)) if *known == slot => body.clone(),
        _ => match points::answer(path, &works.process.weather, slot) {
            Some(body) => {
                let body = body.to_string();
                told.insert(path.to_owned(), (slot, body.clone()));
                body
            }
            None => return with(StatusCode::NOT_FOUND, JSON, words("there is /weather and /tariff")),
        },
    };
    let version = format!("\"{}\"", slot / SLOT);
    if on(Fault::ServiceBroken) {
        return with(StatusCode::OK, JSON, body[..body.len() / 2].to_owned());
    }
    let same = request.headers().get(header::IF_NONE_MATCH).is_some_and(|known| *known == version);
    let mut response = if same { with(StatusCode::NOT_MODIFIED, JSON, String::new()) } else { with(StatusCode::OK, JSON, body) };
    if let Ok(version) = version.parse() {
        response.headers_mut().insert(header::ETAG, version);
    }
    response
}
