//! What every request must pass: a Host this server answers to, an Origin that is ours, and a bounded rate.

use crate::{app::App, problem::Problem};
use actix_web::{
    Error, ResponseError,
    body::{EitherBody, MessageBody},
    dev::{ServiceRequest, ServiceResponse},
    http::{Method, StatusCode, header},
    middleware::Next,
    web::Data,
};
use governor::{DefaultKeyedRateLimiter, Quota, RateLimiter, clock::Clock, clock::DefaultClock};
use std::{
    net::IpAddr,
    num::NonZeroU32,
    time::{Duration, Instant},
};

/// An answer that takes longer is logged.
const SLOW: Duration = Duration::from_secs(2);

/// Requests by address.
pub struct Rates {
    all: DefaultKeyedRateLimiter<IpAddr>,
    sign_in: DefaultKeyedRateLimiter<IpAddr>,
}

impl Default for Rates {
    fn default() -> Rates {
        let of = |n: u32| NonZeroU32::new(n).unwrap_or(NonZeroU32::MIN);
        Rates {
            all: RateLimiter::keyed(Quota::per_second(of(200)).allow_burst(of(1000))),
            sign_in: RateLimiter::keyed(Quota::per_minute(of(12)).allow_burst(of(10))),
        }
    }
}

impl Rates {
    fn check(limiter: &DefaultKeyedRateLimiter<IpAddr>, address: IpAddr) -> Result<(), Problem> {
        // Addresses that have been quiet are forgotten, so that the table stays small.
        if limiter.len() > 10_000 {
            limiter.retain_recent();
        }
        limiter.check_key(&address).map_err(|until| {
            let wait = until.wait_time_from(DefaultClock::default().now());
            Problem::too_many(wait.as_secs() + 1)
        })
    }

    /// Counts an attempt to sign in.
    ///
    /// # Errors
    /// When there were too many from this address.
    pub fn sign_in(&self, address: IpAddr) -> Result<(), Problem> {
        Rates::check(&self.sign_in, address)
    }
}

/// The middleware.
pub async fn guard<B: MessageBody>(request: ServiceRequest, next: Next<B>) -> Result<ServiceResponse<EitherBody<B>>, Error> {
    if let Err(problem) = check(&request) {
        let response = problem.error_response().map_into_right_body();
        return Ok(request.into_response(response));
    }
    let (began, method, path) = (Instant::now(), request.method().clone(), request.path().to_owned());
    let mut response = next.call(request).await?;
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
    match request.peer_addr() {
        Some(peer) => Rates::check(&app.rates.all, peer.ip()),
        None => Ok(()),
    }
}

fn same_site(origin: &str, host: &str) -> bool {
    origin.split_once("://").is_some_and(|(scheme, rest)| matches!(scheme, "http" | "https") && rest.eq_ignore_ascii_case(host))
}

/// The name in a Host header.
pub fn without_port(host: &str) -> &str {
    match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|b| b.is_ascii_digit()) => name,
        _ => host,
    }
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
