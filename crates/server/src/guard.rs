//! What every request must pass: a Host this server answers to, an Origin that is ours, a bounded rate, an address without
//! characters that nobody can read, and a body that is neither packed nor dribbles in. What changes something runs to its end,
//! also when the asker goes away; a handler that fails answers all the same.

use crate::{
    app::{App, without_port},
    body,
    limits::Asker,
    problem::Problem,
    sessions::{self, hash},
};
use actix_web::{
    Error, ResponseError,
    body::{EitherBody, MessageBody},
    cookie::Cookie,
    dev::{ServiceRequest, ServiceResponse},
    http::{
        Method, StatusCode,
        header::{self, HeaderMap},
    },
    middleware::Next,
    web::Data,
};
use futures_util::FutureExt as _;
use havrel_core::text;
use percent_encoding::percent_decode_str;
use std::{
    net::{IpAddr, Ipv4Addr, SocketAddr},
    panic::AssertUnwindSafe,
    time::{Duration, Instant},
};

/// An answer that takes longer is logged.
const SLOW: Duration = Duration::from_secs(2);

/// The middleware.
pub async fn guard<B: MessageBody + 'static>(
    mut request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, Error> {
    if let Err(problem) = check(&request) {
        let response = problem.error_response().map_into_right_body();
        return Ok(request.into_response(response));
    }
    let (began, method, path) = (Instant::now(), request.method().clone(), request.path().to_owned());
    let upgrade = request.headers().contains_key(header::UPGRADE);
    if !upgrade && !matches!(method, Method::GET | Method::HEAD) {
        body::paced(&mut request);
    }
    let handled = AssertUnwindSafe(async move { next.call(request).await }).catch_unwind();
    let handled = if changes(&method, &path) {
        // A task of its own: dropped half-way it would leave something done and not written down.
        actix_web::rt::spawn(handled).await.unwrap_or_else(|error| Ok(Err(Problem::failed(&error.to_string()).into())))
    } else {
        handled.await
    };
    let mut response = handled.unwrap_or_else(|_| Err(Problem::failed("a handler failed").into()))?;
    log(&method, &path, response.status(), began.elapsed());
    let headers = response.headers_mut();
    for (name, value) in [
        (header::X_CONTENT_TYPE_OPTIONS, "nosniff"),
        (header::REFERRER_POLICY, "same-origin"),
        (header::X_FRAME_OPTIONS, "SAMEORIGIN"),
    ] {
        headers.insert(name, header::HeaderValue::from_static(value));
    }
    Ok(response.map_into_left_body())
}

/// Questions that are asked by POST because they are long; they end when the asker goes away.
const QUESTIONS: [&str; 9] = [
    "/api/history/pixels",
    "/api/history/raw",
    "/api/history/spans",
    "/api/alarms/spans",
    "/api/reports/preview",
    "/api/connections/test",
    "/api/connections/scan",
    "/api/points/check",
    "/api/intake/",
];

/// Whether a request may change something.
fn changes(method: &Method, path: &str) -> bool {
    !matches!(*method, Method::GET | Method::HEAD) && !QUESTIONS.iter().any(|question| path.starts_with(question))
}

/// A request that failed or kept somebody waiting is told; the others only to those who ask for them. The query stays
/// out: it may carry what is nobody's business.
fn log(method: &Method, path: &str, status: StatusCode, took: Duration) {
    let (status, took_ms) = (status.as_u16(), took.as_millis() as u64);
    if status >= 500 || took > SLOW {
        tracing::warn!(%method, path, status, took_ms, "request failed or slow");
    } else {
        tracing::debug!(%method, path, status, took_ms, "request");
    }
}

fn check(request: &ServiceRequest) -> Result<(), Problem> {
    let Some(app) = request.app_data::<Data<App>>() else { return Ok(()) };
    let host = request.headers().get(header::HOST).and_then(|h| h.to_str().ok()).unwrap_or_default();
    if !app.answers_to(host) {
        let detail = format!(
            "This server does not answer to the name “{}”. Start it with --allow-host to add a name.",
            without_port(host)
        );
        return Err(Problem::new(StatusCode::MISDIRECTED_REQUEST, detail));
    }
    // A page of another site may make a browser send requests with our cookie; its Origin gives it away.
    let upgrade = request.headers().contains_key(header::UPGRADE);
    if upgrade || !matches!(*request.method(), Method::GET | Method::HEAD) {
        let origin = request.headers().get(header::ORIGIN).map(|o| o.to_str().unwrap_or_default());
        if origin.is_some_and(|origin| !same_site(origin, host)) {
            return Err(Problem::new(StatusCode::FORBIDDEN, "This request comes from a page of another site."));
        }
    }
    readable(request)?;
    let encoding = request.headers().get(header::CONTENT_ENCODING).map(|e| e.to_str().unwrap_or_default());
    if encoding.is_some_and(|e| !e.eq_ignore_ascii_case("identity")) {
        return Err(Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "Send the body as it is, not compressed."));
    }
    app.limits.request(asker(app, request))
}

/// Refuses an address that holds what cannot be read, and names the part.
fn readable(request: &ServiceRequest) -> Result<(), Problem> {
    let wrong = |part: &str| {
        let decoded = percent_decode_str(part).decode_utf8();
        decoded.map_or_else(|_| Some("This is not UTF-8.".to_owned()), |t| text::wrong(&t.replace('+', " "), false))
    };
    if let Some(words) = wrong(request.path()) {
        return Err(Problem::new(StatusCode::BAD_REQUEST, format!("The address cannot be read. {words}")));
    }
    for pair in request.query_string().split('&') {
        if let Some(words) = wrong(pair) {
            let name = pair.split_once('=').map_or("", |(name, _)| name);
            return Err(Problem { status: 400, ..Problem::field(name, words) });
        }
    }
    Ok(())
}

/// Whom a request counts for: the account or the token where one is known, otherwise the address.
fn asker(app: &App, request: &ServiceRequest) -> Asker {
    let cookies = request.headers().get_all(header::COOKIE).filter_map(|c| c.to_str().ok());
    let mut cookies = cookies.flat_map(|c| c.split(';')).filter_map(|c| Cookie::parse(c.trim()).ok());
    let session = cookies.find(|c| c.name() == sessions::COOKIE).and_then(|c| app.sessions.seen(&hash(c.value())));
    if let Some(session) = session {
        return Asker::Account(session.actor.account);
    }
    let shown = request.headers().get(header::AUTHORIZATION).and_then(|h| h.to_str().ok());
    let token = shown.and_then(|h| h.strip_prefix("Bearer ")).and_then(|t| app.tokens.seen(&hash(t.trim())));
    match token {
        Some(token) => Asker::Token(token),
        None => Asker::Address(address_of(app, request.peer_addr(), request.headers())),
    }
}

/// Whether the peer is a proxy whose forwarded headers count.
fn by_proxy(app: &App, peer: Option<SocketAddr>) -> bool {
    peer.is_some_and(|peer| app.proxies.contains(&peer.ip()))
}

/// The address that a request comes from: the last one before the proxies that were named.
pub fn address_of(app: &App, peer: Option<SocketAddr>, headers: &HeaderMap) -> IpAddr {
    let direct = peer.map_or(Ipv4Addr::UNSPECIFIED.into(), |peer| peer.ip());
    if !by_proxy(app, peer) {
        return direct;
    }
    let named = headers.get_all("x-forwarded-for").filter_map(|h| h.to_str().ok()).flat_map(|h| h.split(','));
    let named: Vec<IpAddr> = named.map_while(|part| part.trim().parse().ok()).collect();
    // Whatever stands before the last address that is no proxy was written by whoever sent the request.
    named.into_iter().rev().find(|address| !app.proxies.contains(address)).unwrap_or(direct)
}

/// Whether the browser speaks TLS with the proxy.
pub fn over_tls(app: &App, peer: Option<SocketAddr>, headers: &HeaderMap) -> bool {
    by_proxy(app, peer) && headers.get("x-forwarded-proto").is_some_and(|h| h.as_bytes().eq_ignore_ascii_case(b"https"))
}

fn same_site(origin: &str, host: &str) -> bool {
    origin.split_once("://").is_some_and(|(scheme, rest)| matches!(scheme, "http" | "https") && rest.eq_ignore_ascii_case(host))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("http://localhost:8080", "localhost:8080", true)]
    #[case("http://localhost:9999", "localhost:8080", false)]
    #[case("https://evil.example", "localhost:8080", false)]
    #[case("null", "localhost:8080", false)]
    fn origins(#[case] origin: &str, #[case] host: &str, #[case] same: bool) {
        assert_eq!(same_site(origin, host), same);
    }

    #[rstest]
    #[case("localhost:8080", "localhost")]
    #[case("[::1]:8080", "[::1]")]
    #[case("plant", "plant")]
    fn names(#[case] host: &str, #[case] name: &str) {
        assert_eq!(without_port(host), name);
    }
}
