//! Values that other programs push, and the tokens with which they may.

use crate::{app::App, auth::Person, body::Json, problem::Problem, push_index::Index, sessions, tokens::refused};
use actix_web::{
    HttpRequest, HttpResponse, delete, get,
    http::{StatusCode, header},
    post,
    web::{Data, Path, Payload},
};
use futures_util::StreamExt as _;
use havrel_core::{
    TagNo,
    access::Action,
    plant::Plant,
    quality::{Quality, Reason},
    sample::{Batch, flag},
    text,
    time::{from_text, to_text},
};
use havrel_db::plain::{NewToken as NewTokenRow, Token};
use havrel_live::now;
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json_, json};
use std::{
    borrow::Cow,
    collections::HashMap,
    sync::{Arc, PoisonError},
};
use utoipa::ToSchema;
use uuid::Uuid;

/// Most bytes of one item.
const LINE: usize = 64 << 10;
/// Values handed to the engine at once.
const CHUNK: usize = 10_000;
/// Most refused items that are named in an answer.
const NAMED: usize = 1000;

/// One pushed value.
#[derive(Deserialize, ToSchema)]
pub struct PushItem<'a> {
    /// Path (“Brackmere/Utilities/Boiler/Steam flow”), id or number of a tag of a push connection.
    #[serde(borrow)]
    #[schema(value_type = Object)]
    tag: Name<'a>,
    /// As the tag holds it: number, true or false, or text. May be left out where the quality is bad.
    #[serde(default)]
    #[schema(value_type = Object, nullable)]
    value: Json_,
    /// When it was, with up to nine fraction digits; the time of arrival where it is left out.
    #[serde(default, borrow)]
    time: Option<Cow<'a, str>>,
    /// `good`, `uncertain` or `bad`; good where it is left out.
    #[serde(default, borrow)]
    quality: Option<Cow<'a, str>>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Name<'a> {
    No(TagNo),
    #[serde(borrow)]
    Text(Cow<'a, str>),
}

/// An item that was not taken.
#[derive(Serialize, ToSchema)]
pub struct RefusedItem {
    /// Which, counted from 0.
    pub item: u64,
    pub field: String,
    pub message: String,
}

/// What was taken of a push.
#[derive(Serialize, ToSchema)]
pub struct PushView {
    pub taken: u64,
    pub refused: u64,
    /// The first thousand of those refused.
    pub items: Vec<RefusedItem>,
}

/// Gathers items into batches and hands them on.
struct Pushing<'a> {
    app: &'a App,
    index: Arc<Index>,
    plant: Arc<Plant>,
    token: Token,
    /// Whether the token reaches a place; asked once for each.
    reach: HashMap<Uuid, bool>,
    batch: Batch,
    counts: HashMap<Uuid, u64>,
    item: u64,
    /// The last frame that holds something of it.
    frame: u64,
    view: PushView,
}

impl Pushing<'_> {
    fn take(&mut self, item: PushItem<'_>) {
        let number = self.item;
        self.item += 1;
        if let Err((field, message)) = self.add(item) {
            self.refuse(number, field, message);
        }
    }

    /// Passes over an item that cannot be read.
    fn skip(&mut self, words: &str) {
        let number = self.item;
        self.item += 1;
        self.refuse(number, "", words.to_owned());
    }

    fn refuse(&mut self, item: u64, field: &str, message: String) {
        self.view.refused += 1;
        if self.view.items.len() < NAMED {
            self.view.items.push(RefusedItem { item, field: field.into(), message });
        }
    }

    fn add(&mut self, item: PushItem<'_>) -> Result<(), (&'static str, String)> {
        let at = match &item.tag {
            Name::No(no) => self.index.by_no.get(no),
            Name::Text(text) => match self.index.by_path.get(text.as_ref()) {
                Some(at) => Some(at),
                None => Uuid::parse_str(text).ok().and_then(|id| self.index.by_id.get(&id)),
            },
        };
        let target = at.map(|&at| &self.index.targets[at]);
        let target = target.ok_or(("tag", "There is no tag of that name that values can be pushed to.".to_owned()))?;
        let reaches = *self.reach.entry(target.place).or_insert_with(|| match self.token.place {
            None => true,
            Some(top) => self.plant.lies_under(target.place, top),
        });
        if !reaches {
            return Err(("tag", "The token does not reach this tag's place.".into()));
        }
        if !target.in_service {
            return Err(("tag", "The tag's place is out of service.".into()));
        }
        if !target.enabled {
            return Err(("tag", "The tag's connection is switched off.".into()));
        }
        let (time, flags) = match &item.time {
            Some(text) => (from_text(text).map_err(|words| ("time", words))?, flag::OWN_TIME),
            None => (now(), 0),
        };
        let quality = match item.quality.as_deref() {
            None | Some("good") => Quality::GOOD,
            Some("uncertain") => Quality::of(Reason::SaidUncertain),
            Some("bad") => Quality::of(Reason::SaidBad),
            Some(_) => return Err(("quality", "A quality is good, uncertain or bad.".into())),
        };
        if item.value.is_null() && quality.is_bad() {
            self.batch.push_quality(target.no, time, quality);
        } else {
            let value = target.holds.take(&item.value).map_err(|words| ("value", words.to_owned()))?;
            self.batch.push(target.no, time, quality, flags, &value);
        }
        *self.counts.entry(target.connection).or_default() += 1;
        Ok(())
    }

    /// Hands on what was gathered.
    async fn flush(&mut self) -> Result<(), Problem> {
        if self.batch.is_empty() {
            return Ok(());
        }
        let (batch, counts) = (std::mem::take(&mut self.batch), std::mem::take(&mut self.counts));
        let count = batch.samples.len() as u32;
        // A token may be revoked, or end, while a stream goes on.
        if !self.app.tokens.counts(&self.token) {
            return Err(self.ended(refused()));
        }
        self.app.limits.values(self.token.id, self.token.most_values, count).map_err(|problem| self.ended(problem))?;
        self.frame = self.app.live.push(batch, &counts).await.map_err(|e| self.ended(e.into()))?;
        self.view.taken += u64::from(count);
        Ok(())
    }

    /// Hands on the rest, and waits until all of it is on disk.
    async fn end(mut self) -> Result<PushView, Problem> {
        self.flush().await?;
        self.app.live.on_disk(self.frame).await.map_err(|e| self.ended(e.into()))?;
        Ok(self.view)
    }

    /// Why a request ends early; what was taken before may be sent again without harm.
    fn ended(&self, mut problem: Problem) -> Problem {
        problem.detail = format!("{} Of this request {} values were taken.", problem.detail, self.view.taken);
        problem
    }

    async fn one(&mut self, item: &[u8]) -> Result<(), Problem> {
        match serde_json::from_slice(item) {
            Ok(item) => self.take(item),
            Err(error) => {
                self.skip(&format!("This item cannot be read ({error}). Give a tag, a value, and optionally time and quality."))
            }
        }
        // No more at once than the token may send in a second.
        let most = CHUNK.min(self.token.most_values as usize);
        if self.batch.samples.len() >= most { self.flush().await } else { Ok(()) }
    }
}

/// Takes values that another program sends: one object or an array as `application/json`, or one object a line as
/// `application/x-ndjson`, as long a stream as it likes. Items that are wrong are named and the others taken. The answer
/// comes when what is recorded is on disk.
#[utoipa::path(
    request_body = PushItem,
    params(("Authorization" = String, Header, description = "Bearer and the token")),
    responses((status = 200, body = PushView), (status = 401, body = Problem), (status = 503, body = Problem))
)]
#[post("/api/push")]
pub async fn push(app: Data<App>, request: HttpRequest, mut body: Payload) -> Result<Json<PushView>, Problem> {
    let token = app.tokens.of(&app.live, &request).await?;
    if token.reads {
        return Err(Problem::new(StatusCode::FORBIDDEN, "This token reads lookups. Make one that pushes values."));
    }
    let plant = app.live.plant();
    let index = {
        let mut kept = app.push_index.lock().unwrap_or_else(PoisonError::into_inner);
        match &*kept {
            Some(index) if index.revision == plant.revision => index.clone(),
            _ => kept.insert(Arc::new(Index::of(&plant))).clone(),
        }
    };
    let view = PushView { taken: 0, refused: 0, items: Vec::new() };
    let (batch, reach, counts) = (Batch::default(), HashMap::new(), HashMap::new());
    let mut pushing = Pushing { app: &app, index, plant, token, reach, batch, counts, item: 0, frame: 0, view };
    let kind = request.headers().get(header::CONTENT_TYPE).and_then(|h| h.to_str().ok()).unwrap_or_default();
    let mut cut = Items::new(kind.starts_with("application/x-ndjson"));
    // Item by item as they come: neither a long stream nor a large array is ever held whole.
    while let Some(part) = body.next().await {
        let part = part.map_err(|e| pushing.ended(crate::body::broken(&e)))?;
        let mut rest = &part[..];
        while let Some(item) = cut.next(&mut rest).map_err(|words| pushing.ended(unreadable(words)))? {
            pushing.one(&item).await?;
        }
        // A body that is there already must not keep this thread from others until its end.
        tokio::task::yield_now().await;
    }
    if let Some(item) = cut.end().map_err(|words| pushing.ended(unreadable(words)))? {
        pushing.one(&item).await?;
    }
    Ok(Json(pushing.end().await?))
}

fn unreadable(words: &str) -> Problem {
    let status = if words == TOO_LONG { StatusCode::PAYLOAD_TOO_LARGE } else { StatusCode::BAD_REQUEST };
    Problem::new(status, format!("The values cannot be read: {words}"))
}

const TOO_LONG: &str = "one item has at most 64 KiB.";

/// Cuts a body into the bytes of its items: lines, the elements of one array, or one value alone.
struct Items {
    lines: bool,
    /// Inside the array, once its bracket has come; `None` before the first byte that is no space.
    array: Option<bool>,
    depth: u32,
    quoted: bool,
    escaped: bool,
    /// The array is closed, or the one value has ended.
    closed: bool,
    /// An element must follow, or may.
    gathered: Vec<u8>,
}

impl Items {
    fn new(lines: bool) -> Items {
        Items { lines, array: None, depth: 0, quoted: false, escaped: false, closed: false, gathered: Vec::new() }
    }

    /// The next whole item, taken off the front of `bytes`; `None` when more bytes are needed.
    fn next(&mut self, bytes: &mut &[u8]) -> Result<Option<Vec<u8>>, &'static str> {
        while let Some((&byte, rest)) = bytes.split_first() {
            *bytes = rest;
            if let Some(item) = self.take(byte)? {
                return Ok(Some(item));
            }
            if self.gathered.len() > LINE {
                return Err(TOO_LONG);
            }
        }
        Ok(None)
    }

    fn take(&mut self, byte: u8) -> Result<Option<Vec<u8>>, &'static str> {
        let whole = |gathered: &mut Vec<u8>| {
            let item = std::mem::take(gathered);
            (!item.iter().all(u8::is_ascii_whitespace)).then_some(item)
        };
        if self.lines {
            if byte == b'\n' {
                return Ok(whole(&mut self.gathered));
            }
            self.gathered.push(byte);
            return Ok(None);
        }
        if byte.is_ascii_whitespace() && (self.array.is_none() || self.closed) {
            return Ok(None);
        }
        if self.closed {
            return Err("there is text after the end.");
        }
        if self.array.is_none() {
            self.array = Some(byte == b'[');
            if byte == b'[' {
                return Ok(None);
            }
        }
        if self.quoted {
            self.gathered.push(byte);
            (self.quoted, self.escaped) = (self.escaped || byte != b'"', !self.escaped && byte == b'\\');
            return Ok(None);
        }
        match byte {
            b'"' => self.quoted = true,
            b'[' | b'{' => self.depth += 1,
            b']' if self.depth == 0 && self.array == Some(true) => {
                self.closed = true;
                return Ok(whole(&mut self.gathered));
            }
            b']' | b'}' => self.depth = self.depth.checked_sub(1).ok_or("a bracket is closed that was not opened.")?,
            b',' if self.depth == 0 && self.array == Some(true) => {
                return whole(&mut self.gathered).map(Some).ok_or("an item is missing before a comma.");
            }
            _ => {}
        }
        self.gathered.push(byte);
        Ok(None)
    }

    /// What is left at the end of the body.
    fn end(self) -> Result<Option<Vec<u8>>, &'static str> {
        match (self.lines, self.array, self.closed) {
            (false, Some(true), false) => Err("the array is not closed."),
            (false, None, _) => Err("the body is empty."),
            _ => Ok(Some(self.gathered).filter(|item| !item.iter().all(u8::is_ascii_whitespace))),
        }
    }
}

/// A token; what it reads is shown once, when it is made.
#[derive(Serialize, ToSchema)]
pub struct TokenView {
    pub id: Uuid,
    pub name: String,
    /// It reads kept lookups; otherwise it pushes values.
    pub reads: bool,
    /// The place it reaches, with all below; null is the whole plant.
    pub place: Option<Uuid>,
    pub place_path: String,
    pub made_at: String,
    pub made_by: String,
    /// When it was used last, to the minute; empty if never.
    pub used_at: String,
    /// When it ends by itself; empty: never.
    pub expires_at: String,
    /// Most values it may send each second.
    pub most_values: u32,
}

/// Lists the tokens.
#[utoipa::path(responses((status = 200, body = Vec<TokenView>)))]
#[get("/api/tokens")]
pub async fn tokens(app: Data<App>, person: Person) -> Result<Json<Vec<TokenView>>, Problem> {
    person.may(Action::Configure)?;
    let plant = app.live.plant();
    let views = app.live.db.tokens().await?.into_iter().map(|t| TokenView {
        id: t.id,
        name: t.name,
        reads: t.reads,
        place: t.place,
        place_path: plant.path(t.place),
        made_at: to_text(t.made_at),
        made_by: t.made_by,
        used_at: t.used_at.map(to_text).unwrap_or_default(),
        expires_at: t.expires_at.map(to_text).unwrap_or_default(),
        most_values: t.most_values,
    });
    Ok(Json(views.collect()))
}

/// A token to be made.
#[derive(Deserialize, ToSchema)]
pub struct NewToken {
    /// For whom it is: “Boiler house gateway”.
    pub name: String,
    /// It reads kept lookups; otherwise it pushes values.
    #[serde(default)]
    pub reads: bool,
    /// The place it shall reach; null is the whole plant.
    pub place: Option<Uuid>,
    /// When it ends by itself; left out or empty: never.
    #[serde(default)]
    pub expires_at: String,
    /// Most values it may send each second, 1 to 1,000,000; usually 20,000.
    #[serde(default)]
    pub most_values: Option<u32>,
}

/// A token just made.
#[derive(Serialize, ToSchema)]
pub struct MadeToken {
    pub id: Uuid,
    /// Shown this once; only a hash of it is kept.
    pub token: String,
}

/// Makes a token for a program that pushes values or reads kept lookups.
#[utoipa::path(responses((status = 200, body = MadeToken), (status = 422, body = Problem)))]
#[post("/api/tokens")]
pub async fn make_token(app: Data<App>, person: Person, body: Json<NewToken>) -> Result<Json<MadeToken>, Problem> {
    let actor = person.may(Action::Configure)?;
    let name = body.name.trim();
    if !text::is_visible(name) || name.chars().count() > 120 {
        return Err(Problem::field("name", "Enter a name of 1 to 120 characters."));
    }
    if body.place.is_some_and(|p| !app.live.plant().places.contains_key(&p)) {
        return Err(Problem::field("place", "There is no such place."));
    }
    let expires_at = match body.expires_at.as_str() {
        "" => None,
        text => Some(from_text(text).map_err(|words| Problem::field("expires_at", words))?),
    };
    if expires_at.is_some_and(|at| at <= now()) {
        return Err(Problem::field("expires_at", "It must end in the future."));
    }
    let most_values = body.most_values.unwrap_or(20_000);
    if !(1..=1_000_000).contains(&most_values) {
        return Err(Problem::field("most_values", "Enter 1 to 1,000,000 values a second."));
    }
    let token = format!("hv_{}", sessions::secret());
    let hash = sessions::hash(&token);
    let new = NewTokenRow { name, hash: &hash, reads: body.reads, place: body.place, by: &actor.name, expires_at, most_values };
    let made = app.live.db.add_token(&new).await?;
    let id = made.ok_or_else(|| Problem::field("name", "There is already a token of that name."))?;
    app.live.note("account", Some(actor), Some(id), &format!("Made the token “{name}”"), json!({"place": body.place})).await?;
    Ok(Json(MadeToken { id, token }))
}

/// Takes a token away; whoever shows it is refused from now on.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/tokens/{id}")]
pub async fn revoke_token(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Configure)?;
    // At once, also while the database is away and the row cannot be taken away.
    app.tokens.revoke(*id);
    let removed = app.live.db.remove_token(*id).await.map_err(|error| {
        let problem = Problem::from(error);
        let more =
            "The token is revoked until the next restart; send this again once the database is back, so that it stays revoked.";
        Problem { detail: format!("{} {more}", problem.detail), ..problem }
    })?;
    let name = removed.ok_or_else(|| Problem::missing("token"))?;
    app.live.note("account", Some(actor), Some(*id), &format!("Revoked the token “{name}”"), json!({})).await?;
    Ok(HttpResponse::NoContent().finish())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    /// Cuts a body that comes in parts of so many bytes.
    fn cut(body: &str, lines: bool, size: usize) -> Result<Vec<String>, &'static str> {
        let mut items = Items::new(lines);
        let mut found = Vec::new();
        for part in body.as_bytes().chunks(size) {
            let mut rest = part;
            while let Some(item) = items.next(&mut rest)? {
                found.push(item);
            }
        }
        found.extend(items.end()?);
        Ok(found.into_iter().map(|item| String::from_utf8(item).unwrap().trim().to_owned()).collect())
    }

    #[rstest]
    #[case(r#"{"tag": "a, b]", "value": [1, {"x": 2}]}"#, Ok(vec![r#"{"tag": "a, b]", "value": [1, {"x": 2}]}"#]))]
    #[case(r#" [ {"a": "\"]"} , 5 ] "#, Ok(vec![r#"{"a": "\"]"}"#, "5"]))]
    #[case("[]", Ok(vec![]))]
    #[case("[1,,2]", Err("an item is missing before a comma."))]
    #[case("[1", Err("the array is not closed."))]
    #[case("[1] 2", Err("there is text after the end."))]
    #[case("[1]]", Err("there is text after the end."))]
    #[case("}", Err("a bracket is closed that was not opened."))]
    #[case("", Err("the body is empty."))]
    fn a_body_is_cut_into_its_items(#[case] body: &str, #[case] wanted: Result<Vec<&str>, &str>) {
        for size in [1, 3, 1000] {
            let found = cut(body, false, size);
            assert_eq!(found.as_ref().map(|f| f.iter().map(String::as_str).collect()).map_err(|e| *e), wanted.clone());
        }
    }

    #[test]
    fn one_item_is_bounded() {
        assert_eq!(cut(&format!("[\"{}\"]", "x".repeat(LINE + 1)), false, 4096), Err(TOO_LONG));
        assert_eq!(cut(&"x".repeat(LINE + 2), true, 4096), Err(TOO_LONG));
    }

    proptest! {
        /// However an array is written and however it comes in, its elements are what a reader of the whole finds.
        #[test]
        fn elements_are_those_of_the_array(all in prop::collection::vec(".{0,12}", 0..20), size in 1usize..50) {
            let values: Vec<Json_> = all.iter().map(|t| json!({"tag": t, "value": [t, {"n": 1}]})).collect();
            let body = serde_json::to_string_pretty(&values).unwrap();
            let found: Vec<Json_> = cut(&body, false, size).unwrap().iter().map(|i| serde_json::from_str(i).unwrap()).collect();
            prop_assert_eq!(found, values);
        }
    }
}
