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
        let takes = accepted.split(',').any(|one| one.split(';').next().is_some_and(|name| name.trim() == *coding));
        Files::get(&format!("{name}{ending}")).filter(|_| takes).map(|file| (*coding, file))
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
