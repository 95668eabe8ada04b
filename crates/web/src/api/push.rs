//! Values that other programs push, and the tokens with which they may.

use crate::{app::App, auth::Person, problem::Problem};
use actix_web::{
    HttpRequest, HttpResponse, delete, get,
    http::{StatusCode, header},
    post,
    web::{Data, Json, Path, Payload},
};
use futures_util::StreamExt as _;
use havrel_core::{
    TagNo,
    access::Action,
    plant::{Plant, resolve},
    quality::{Quality, Reason},
    sample::{Batch, flag},
    time::{from_text, to_text},
};
use havrel_db::{DbError, own::Token};
use havrel_link::plain::{Holds, PUSH, PushPoint};
use havrel_live::{LiveError, now};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json_, json};
use sha2::{Digest as _, Sha256};
use std::{
    borrow::Cow,
    collections::HashMap,
    sync::{Arc, PoisonError},
};
use utoipa::ToSchema;
use uuid::Uuid;

/// Most bytes of one JSON body; streams of lines may be longer.
const MOST_BYTES: usize = 16 << 20;
/// Most bytes of one line.
const LINE: usize = 64 << 10;
/// Values handed to the engine at once.
const CHUNK: usize = 10_000;
/// Tokens that are remembered for when the database is away.
const REMEMBERED: usize = 1000;
/// Most refused items that are named in an answer.
const NAMED: usize = 1000;

/// Where pushed values go.
struct Target {
    no: TagNo,
    connection: Uuid,
    place: Uuid,
    holds: Holds,
    enabled: bool,
    in_service: bool,
}

/// The tags that can be pushed to, for one revision.
pub struct Index {
    revision: i64,
    targets: Vec<Target>,
    by_path: HashMap<String, usize>,
    by_id: HashMap<Uuid, usize>,
    by_no: HashMap<TagNo, usize>,
}

impl Index {
    fn of(plant: &Plant) -> Index {
        let mut index = Index {
            revision: plant.revision,
            targets: Vec::new(),
            by_path: HashMap::new(),
            by_id: HashMap::new(),
            by_no: HashMap::new(),
        };
        let idle = plant.idle_places();
        for tag in plant.tags.values() {
            let Some(connection) = tag.set.connection.and_then(|id| plant.connections.get(&id)) else { continue };
            if connection.set.kind != PUSH {
                continue;
            }
            let at = index.targets.len();
            let holds = resolve::<PushPoint>(None, &tag.set.point).unwrap_or_default().holds;
            let (no, place, enabled) = (tag.no, tag.set.place, connection.set.enabled);
            let in_service = !idle.contains(&place);
            index.targets.push(Target { no, connection: connection.id, place, holds, enabled, in_service });
            index.by_path.insert(plant.tag_path(&tag.set), at);
            index.by_id.insert(tag.id, at);
            index.by_no.insert(tag.no, at);
        }
        index
    }
}

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

/// An item of an array, which may be anything.
#[derive(Deserialize)]
#[serde(untagged)]
enum Maybe<'a> {
    #[serde(borrow)]
    Item(PushItem<'a>),
    Wrong(serde::de::IgnoredAny),
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
        let count = batch.samples.len() as u64;
        self.frame = self.app.live.push(batch, &counts).await.map_err(|e| self.broken(e))?;
        self.view.taken += count;
        Ok(())
    }

    /// Why a push ended early; what was taken before may be sent again without harm.
    fn broken(&self, error: LiveError) -> Problem {
        let mut problem = Problem::from(error);
        problem.detail = format!("{} Of this request {} values were taken.", problem.detail, self.view.taken);
        problem
    }

    /// Hands on the rest, and waits until all of it is on disk.
    async fn end(mut self) -> Result<PushView, Problem> {
        self.flush().await?;
        self.app.live.on_disk(self.frame).await.map_err(|e| self.broken(e))?;
        Ok(self.view)
    }

    async fn line(&mut self, line: &[u8]) -> Result<(), Problem> {
        if line.iter().all(u8::is_ascii_whitespace) {
            return Ok(());
        }
        match serde_json::from_slice(line) {
            Ok(item) => self.take(item),
            Err(error) => self.skip(&format!("This line cannot be read: {error}.")),
        }
        if self.batch.samples.len() >= CHUNK { self.flush().await } else { Ok(()) }
    }
}

fn hash(token: &str) -> Vec<u8> {
    Sha256::digest(token.as_bytes()).to_vec()
}

async fn token_of(app: &App, request: &HttpRequest) -> Result<Token, Problem> {
    let refused = || {
        Problem::new(StatusCode::UNAUTHORIZED, "Show a token: Authorization: Bearer … An engineer makes one on the desk Connect.")
    };
    let header = request.headers().get(header::AUTHORIZATION).and_then(|h| h.to_str().ok()).ok_or_else(refused)?;
    let shown = header.strip_prefix("Bearer ").map(str::trim).filter(|t| t.len() <= 200).ok_or_else(refused)?;
    let hash = hash(shown);
    let remembered = || app.tokens.lock().unwrap_or_else(PoisonError::into_inner);
    // While the database is away, whoever was let in before is let in: values go to disk all the same.
    let known = remembered().get(&hash).cloned();
    if let (false, Some(token)) = (app.live.database().ok, &known) {
        return Ok(token.clone());
    }
    let found = match (app.live.db.token_of(&hash).await, known) {
        (Err(DbError::Away(_)), Some(token)) => return Ok(token),
        (found, _) => found?,
    };
    let mut all = remembered();
    match &found {
        Some(token) => {
            if all.len() >= REMEMBERED {
                all.clear();
            }
            all.insert(hash, token.clone());
        }
        None => drop(all.remove(&hash)),
    }
    drop(all);
    found.ok_or_else(refused)
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
    let token = token_of(&app, &request).await?;
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
    if kind.starts_with("application/x-ndjson") {
        let broken = |e| Problem::new(StatusCode::BAD_REQUEST, format!("The stream broke off: {e}."));
        let mut rest: Vec<u8> = Vec::new();
        while let Some(part) = body.next().await {
            let part = part.map_err(broken)?;
            rest.extend_from_slice(&part);
            let Some(end) = rest.iter().rposition(|b| *b == b'\n') else {
                if rest.len() > LINE {
                    return Err(Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "A line has at most 64 KiB."));
                }
                continue;
            };
            let after = rest.split_off(end + 1);
            for line in rest.split(|b| *b == b'\n') {
                pushing.line(line).await?;
            }
            rest = after;
        }
        pushing.line(&rest).await?;
    } else {
        let too_large = |_| Problem::new(StatusCode::PAYLOAD_TOO_LARGE, "Send at most 16 MiB at once, or lines as a stream.");
        let bytes = body.to_bytes_limited(MOST_BYTES).await.map_err(too_large)?;
        let bytes = bytes.map_err(|e| Problem::new(StatusCode::BAD_REQUEST, format!("The values did not arrive: {e}.")))?;
        let wrong = |e: serde_json::Error| Problem::new(StatusCode::BAD_REQUEST, format!("The values cannot be read: {e}."));
        if bytes.iter().find(|b| !b.is_ascii_whitespace()) == Some(&b'[') {
            // Item by item, so that one that cannot be read does not spoil the others.
            for item in serde_json::from_slice::<Vec<Maybe<'_>>>(&bytes).map_err(wrong)? {
                match item {
                    Maybe::Item(item) => pushing.take(item),
                    Maybe::Wrong(_) => pushing.skip("This is no value: it has a tag, a value, and perhaps time and quality."),
                }
                if pushing.batch.samples.len() >= CHUNK {
                    pushing.flush().await?;
                }
            }
        } else {
            pushing.take(serde_json::from_slice(&bytes).map_err(wrong)?);
        }
    }
    Ok(Json(pushing.end().await?))
}

/// A token; what it reads is shown once, when it is made.
#[derive(Serialize, ToSchema)]
pub struct TokenView {
    pub id: Uuid,
    pub name: String,
    /// The place it reaches, with all below; null is the whole plant.
    pub place: Option<Uuid>,
    pub place_path: String,
    pub made_at: String,
    pub made_by: String,
    /// When it was used last, to the minute; empty if never.
    pub used_at: String,
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
        place: t.place,
        place_path: plant.path(t.place),
        made_at: to_text(t.made_at),
        made_by: t.made_by,
        used_at: t.used_at.map(to_text).unwrap_or_default(),
    });
    Ok(Json(views.collect()))
}

/// A token to be made.
#[derive(Deserialize, ToSchema)]
pub struct NewToken {
    /// For whom it is: “Boiler house gateway”.
    pub name: String,
    /// The place it shall reach; null is the whole plant.
    pub place: Option<Uuid>,
}

/// A token just made.
#[derive(Serialize, ToSchema)]
pub struct MadeToken {
    pub id: Uuid,
    /// Shown this once; only a hash of it is kept.
    pub token: String,
}

/// Makes a token for a program that pushes values.
#[utoipa::path(responses((status = 200, body = MadeToken), (status = 422, body = Problem)))]
#[post("/api/tokens")]
pub async fn make_token(app: Data<App>, person: Person, body: Json<NewToken>) -> Result<Json<MadeToken>, Problem> {
    let actor = person.may(Action::Configure)?;
    let name = body.name.trim();
    if name.is_empty() || name.chars().count() > 120 {
        return Err(Problem::field("name", "Give it a name of 1 to 120 characters."));
    }
    if body.place.is_some_and(|p| !app.live.plant().places.contains_key(&p)) {
        return Err(Problem::field("place", "There is no such place."));
    }
    let token = format!("hv_{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple());
    let made = app.live.db.add_token(name, &hash(&token), body.place, &actor.name).await?;
    let id = made.ok_or_else(|| Problem::field("name", "There is already a token of that name."))?;
    app.live.db.note("account", Some(actor), Some(id), &format!("Made the token “{name}”"), json!({"place": body.place})).await?;
    Ok(Json(MadeToken { id, token }))
}

/// Takes a token away; whoever shows it is refused from now on.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/tokens/{id}")]
pub async fn revoke_token(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Configure)?;
    let name = app.live.db.remove_token(*id).await?.ok_or_else(|| Problem::missing("token"))?;
    app.live.db.note("account", Some(actor), Some(*id), &format!("Took back the token “{name}”"), json!({})).await?;
    Ok(HttpResponse::NoContent().finish())
}
