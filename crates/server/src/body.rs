//! Bodies of requests: read within bounds of size and pace, and refused where they hold text that nobody can read.

use crate::problem::Problem;
use actix_web::{
    FromRequest, HttpMessage, HttpRequest, HttpResponse, Responder,
    dev::{self, ServiceRequest},
    error::PayloadError,
    http::StatusCode,
    web::{Bytes, Payload},
};
use futures_util::{Stream, StreamExt as _, stream};
use havrel_core::text;
use serde::{
    Serialize,
    de::{DeserializeOwned, DeserializeSeed, Deserializer, Error as _, MapAccess, SeqAccess, Visitor},
};
use std::{
    fmt, io,
    ops::Deref,
    pin::Pin,
    time::{Duration, Instant},
};

/// Bodies of ordinary requests.
pub const ORDINARY: usize = 1 << 20;
/// Most bytes of a body that carries many items.
const LARGE: usize = 32 << 20;
/// How deep JSON may nest.
const DEEPEST: usize = 32;

/// A body and an answer as JSON. Text in a body is checked ([`havrel_core::text`]), and the field is named that holds what it
/// may not.
#[derive(Debug)]
pub struct Json<T>(pub T);

impl<T> Json<T> {
    /// What it holds.
    pub fn into_inner(self) -> T {
        self.0
    }
}

impl<T> Deref for Json<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.0
    }
}

impl<T: Serialize> Responder for Json<T> {
    type Body = actix_web::body::BoxBody;

    fn respond_to(self, request: &HttpRequest) -> HttpResponse {
        actix_web::web::Json(self.0).respond_to(request).map_into_boxed_body()
    }
}

impl<T: DeserializeOwned> FromRequest for Json<T> {
    type Error = Problem;
    type Future = Pin<Box<dyn Future<Output = Result<Json<T>, Problem>>>>;

    fn from_request(request: &HttpRequest, payload: &mut dev::Payload) -> Self::Future {
        let kind = request.mime_type().ok().flatten();
        let is_json = kind.is_some_and(|kind| kind.subtype() == "json" || kind.suffix().is_some_and(|s| s == "json"));
        let body = Payload::from_request(request, payload);
        Box::pin(async move {
            if !is_json {
                let words = "Send this as JSON, with the header Content-Type: application/json.";
                return Err(Problem::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, words));
            }
            let body =
                body.await.map_err(|e| Problem::new(StatusCode::BAD_REQUEST, format!("The request did not arrive: {e}.")))?;
            Ok(Json(decode(&whole(body, ORDINARY).await?)?))
        })
    }
}

/// Reads a JSON body that may be larger than ordinary ones; to be asked for only once it is known who sends it.
///
/// # Errors
/// When it does not arrive, is too large, or cannot be read.
pub async fn large<T: DeserializeOwned>(body: Payload) -> Result<T, Problem> {
    decode(&whole(body, LARGE).await?)
}

/// Reads a whole body of at most `most` bytes.
///
/// # Errors
/// When it is larger, or does not arrive in time.
pub async fn whole(mut body: Payload, most: usize) -> Result<Bytes, Problem> {
    let mut bytes = Vec::new();
    while let Some(part) = body.next().await {
        let part = part.map_err(|error| broken(&error))?;
        if bytes.len() + part.len() > most {
            let words = format!("Send at most {} at once.", size(most));
            return Err(Problem::new(StatusCode::PAYLOAD_TOO_LARGE, words));
        }
        bytes.extend_from_slice(&part);
    }
    Ok(bytes.into())
}

fn size(bytes: usize) -> String {
    if bytes >= 1 << 20 { format!("{} MiB", bytes >> 20) } else { format!("{} KiB", bytes >> 10) }
}

/// Why a body did not arrive.
pub fn broken(error: &PayloadError) -> Problem {
    match error {
        PayloadError::Io(inner) if inner.kind() == io::ErrorKind::TimedOut => {
            Problem::new(StatusCode::REQUEST_TIMEOUT, "The body came too slowly and was cancelled. Send it again.")
        }
        error => Problem::new(StatusCode::BAD_REQUEST, format!("The body did not arrive: {error}.")),
    }
}

fn decode<T: DeserializeOwned>(bytes: &[u8]) -> Result<T, Problem> {
    check(bytes)?;
    let unreadable = |e: String| Problem::new(StatusCode::BAD_REQUEST, format!("The request could not be read: {e}."));
    serde_json::from_slice(bytes).map_err(|e: serde_json::Error| unreadable(e.to_string()))
}

/// Whether all text in a JSON document can be read, and it nests no deeper than it may. Needs no memory for what it holds.
///
/// # Errors
/// The field and what is wrong with it.
pub fn check(bytes: &[u8]) -> Result<(), Problem> {
    let mut wrong = None;
    let mut reader = serde_json::Deserializer::from_slice(bytes);
    let look = Look { field: "", depth: 0, wrong: &mut wrong };
    let read = look.deserialize(&mut reader).and_then(|()| reader.end());
    match (wrong, read) {
        (Some((field, words)), _) => Err(Problem::field(&field, words)),
        (None, Ok(())) => Ok(()),
        (None, Err(e)) => Err(Problem::new(StatusCode::BAD_REQUEST, format!("The request could not be read: {e}."))),
    }
}

/// Goes through a document, keeping nothing but the name of the field it is at.
struct Look<'a> {
    field: &'a str,
    depth: usize,
    wrong: &'a mut Option<(String, String)>,
}

impl Look<'_> {
    fn text<E: serde::de::Error>(&mut self, text: &str) -> Result<(), E> {
        let name = self.field.split('.').find(|part| text::LINES.contains(part));
        match text::wrong(text, name.is_some()) {
            Some(words) => self.refuse(&words),
            None => Ok(()),
        }
    }

    fn refuse<E: serde::de::Error>(&mut self, words: &str) -> Result<(), E> {
        *self.wrong = Some((self.field.to_owned(), words.to_owned()));
        Err(E::custom(words))
    }

    fn at(&self, name: &str) -> String {
        if self.field.is_empty() { name.to_owned() } else { format!("{}.{name}", self.field) }
    }
}

impl<'de> DeserializeSeed<'de> for Look<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Look<'_> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("JSON")
    }

    fn visit_bool<E>(self, _: bool) -> Result<(), E> {
        Ok(())
    }

    fn visit_i64<E>(self, _: i64) -> Result<(), E> {
        Ok(())
    }

    fn visit_u64<E>(self, _: u64) -> Result<(), E> {
        Ok(())
    }

    fn visit_f64<E>(self, _: f64) -> Result<(), E> {
        Ok(())
    }

    fn visit_unit<E>(self) -> Result<(), E> {
        Ok(())
    }

    fn visit_str<E: serde::de::Error>(mut self, text: &str) -> Result<(), E> {
        self.text(text)
    }

    fn visit_seq<A: SeqAccess<'de>>(mut self, mut all: A) -> Result<(), A::Error> {
        if self.depth >= DEEPEST {
            return self.refuse("This is nested too deep.");
        }
        while all.next_element_seed(Look { field: self.field, depth: self.depth + 1, wrong: &mut *self.wrong })?.is_some() {}
        Ok(())
    }

    fn visit_map<A: MapAccess<'de>>(mut self, mut all: A) -> Result<(), A::Error> {
        if self.depth >= DEEPEST {
            return self.refuse("This is nested too deep.");
        }
        while let Some(name) = all.next_key::<String>()? {
            if let Some(words) = text::wrong(&name, false) {
                return self.refuse(&words).map_err(|e: A::Error| A::Error::custom(e));
            }
            let field = self.at(&name);
            all.next_value_seed(Look { field: &field, depth: self.depth + 1, wrong: &mut *self.wrong })?;
        }
        Ok(())
    }
}

/// How slowly a body may come.
#[derive(Clone, Copy, Debug)]
struct Pace {
    /// The longest pause between two parts.
    pause: Duration,
    /// Bytes a second on the average, once it has taken longer than one pause; 0: as slowly as it likes.
    rate: u64,
}

const USUAL: Pace = Pace { pause: Duration::from_secs(10), rate: 4096 };
/// A program may leave a stream of values open and send now and then.
const STREAM: Pace = Pace { pause: Duration::from_secs(60), rate: 0 };

/// Ends a body that dribbles in: whoever sends a byte now and then must not hold a place for ever.
pub fn paced(request: &mut ServiceRequest) {
    let pace = if request.path() == "/api/push" { STREAM } else { USUAL };
    let body = request.take_payload();
    request.set_payload(dev::Payload::Stream { payload: Box::pin(watched(body, pace)) });
}

fn watched(
    body: impl Stream<Item = Result<Bytes, PayloadError>> + Unpin,
    pace: Pace,
) -> impl Stream<Item = Result<Bytes, PayloadError>> {
    let began = Instant::now();
    stream::unfold((body, 0u64, false), move |(mut body, got, ended)| async move {
        if ended {
            return None;
        }
        let slow = || PayloadError::Io(io::Error::new(io::ErrorKind::TimedOut, "it came too slowly"));
        let part = match tokio::time::timeout(pace.pause, body.next()).await {
            Ok(part) => part?,
            Err(_) => Err(slow()),
        };
        let got = got + part.as_ref().map_or(0, |bytes| bytes.len() as u64);
        let took = began.elapsed();
        let part = if part.is_ok() && pace.rate > 0 && took > pace.pause && got < pace.rate * took.as_secs() {
            Err(slow())
        } else {
            part
        };
        let ended = part.is_err();
        Some((part, (body, got, ended)))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(r#"{"name": "Level", "note": "two\nlines", "n": [1, 2.5, null, true]}"#, None)]
    #[case(r#"{"name": "a\u0000"}"#, Some(("name", "U+0000")))]
    #[case(r#"{"edits": [{"set": {"name": "x\u001b[2J"}}]}"#, Some(("edits.set.name", "U+001B")))]
    #[case(r#"{"name": "two\nlines"}"#, Some(("name", "one line")))]
    #[case(r#"{"na\u0007me": 1}"#, Some(("", "U+0007")))]
    fn text_is_refused_at_its_field(#[case] body: &str, #[case] wrong: Option<(&str, &str)>) {
        let found = check(body.as_bytes()).err().map(|p| (p.problems[0].field.clone(), p.detail));
        match (found, wrong) {
            (None, None) => {}
            (Some((field, words)), Some((at, part))) => assert!(field == at && words.contains(part), "{field}: {words}"),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn depth_is_bounded() {
        let deep = "[".repeat(5000) + &"]".repeat(5000);
        assert!(check(deep.as_bytes()).is_err());
        assert!(check((r#"{"a":"#.repeat(20) + "1" + &"}".repeat(20)).as_bytes()).is_ok());
    }

    #[tokio::test(start_paused = true)]
    async fn a_body_that_dribbles_in_is_given_up() {
        let part = || Ok(Bytes::from_static(b"x"));
        let drip = Box::pin(stream::unfold(0, move |n| async move {
            tokio::time::sleep(Duration::from_secs(11)).await;
            Some((part(), n + 1))
        }));
        let all: Vec<_> = watched(drip, USUAL).collect().await;
        assert!(matches!(all.as_slice(), [Err(PayloadError::Io(_))]));
        let drip = Box::pin(stream::iter([part(), part()]));
        assert_eq!(watched(drip, USUAL).filter_map(|p| async { p.ok() }).count().await, 2);
    }
}
