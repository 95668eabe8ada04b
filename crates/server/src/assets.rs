//! The files of the front end, packed as small as they get when it is built. Any other path shows the page itself, which finds
//! its desk by the address.

use actix_web::{HttpRequest, HttpResponse, http::header};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "$CARGO_MANIFEST_DIR/../../web/dist"]
struct Files;

/// How files may be packed, the smallest first: the name of the coding, and how the file beside it ends.
const PACKED: [(&str, &str); 2] = [("br", ".br"), ("gzip", ".gz")];

/// Nothing is loaded from anywhere else; report pages in their frame bring their own style.
const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; font-src 'self' data:; connect-src 'self' ws: wss:; \
                      frame-src 'self' blob:; object-src 'none'; base-uri 'self'; form-action 'self'";

pub(crate) async fn file(request: HttpRequest) -> HttpResponse {
    let path = request.path().trim_start_matches('/');
    let named = if path.is_empty() { "index.html" } else { path };
    let (name, found) = match Files::get(named) {
        Some(file) => (named, Some(file)),
        None if path.starts_with("assets/") => (named, None),
        None => ("index.html", Files::get("index.html")),
    };
    let Some(file) = found else {
        return HttpResponse::NotFound().body("This part of the page is not there. Build the front end: ./havrel build");
    };
    let accepted = request.headers().get(header::ACCEPT_ENCODING).and_then(|h| h.to_str().ok()).unwrap_or_default();
    let packed = PACKED.iter().find_map(|(coding, ending)| {
        let file = takes(accepted, coding).then(|| Files::get(&format!("{name}{ending}")))?;
        file.map(|file| (*coding, file))
    });
    // Names under assets/ carry a hash of their content and never change.
    let keep = if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    let mut answer = HttpResponse::Ok();
    answer
        .content_type(mime_guess::from_path(name).first_or_octet_stream().as_ref())
        .insert_header((header::CACHE_CONTROL, keep))
        .insert_header((header::VARY, "accept-encoding"))
        .insert_header((header::CONTENT_SECURITY_POLICY, POLICY));
    match packed {
        Some((coding, packed)) => answer.insert_header((header::CONTENT_ENCODING, coding)).body(packed.data.into_owned()),
        None => answer.body(file.data.into_owned()),
    }
}

/// Whether a browser that accepts these codings takes this one; a weight of 0 means that it does not (RFC 9110, 12.5.3).
fn takes(accepted: &str, coding: &str) -> bool {
    accepted.split(',').any(|one| {
        let (name, weight) = one.split_once(';').unwrap_or((one, ""));
        let weight = weight.trim().strip_prefix("q=").map_or(Ok(1.0), str::parse::<f32>);
        name.trim() == coding && weight.is_ok_and(|weight| weight > 0.0)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("gzip, deflate, br", true)]
    #[case("gzip;q=0.5, br;q=1.0", true)]
    #[case("br;q=0, gzip", false)]
    #[case("br;q=much", false)]
    #[case("brotli", false)]
    #[case("", false)]
    fn only_what_the_browser_takes_is_sent_packed(#[case] accepted: &str, #[case] takes_it: bool) {
        assert_eq!(takes(accepted, "br"), takes_it);
    }
}
