//! What leaves through a connection: how it stands, what a publication would send, and messages sent by hand.

use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpResponse, get,
    http::StatusCode,
    post,
    web::{Data, Path, block},
};
use havrel_core::{
    access::Action,
    plant::{Item, Own, Plant, Publication, Settings as _, kind::Checking, resolve},
    publish::{Message, Order, Outline, Publisher, Summary, orders, template::check_topic},
    time::to_text,
};
use havrel_link::{Kinds, kind, now};
use havrel_live::{Live, Ordered, Told};
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::sync::{Arc, PoisonError};
use utoipa::ToSchema;
use uuid::Uuid;

/// Messages of a publication that are shown before it is saved.
const MOST_SHOWN: usize = 50;
/// Of each message at most so many bytes are shown.
const SHOWN: usize = 2000;
/// Largest message that is sent by hand, in bytes.
const LARGEST: usize = 256 << 10;

/// How a publication stands.
#[derive(Serialize, ToSchema)]
pub struct PublicationView {
    pub id: Uuid,
    /// Tags and topics that it comes to; null while it is switched off.
    pub tags: Option<usize>,
    pub topics: Option<usize>,
    /// What of it cannot be sent, as sentences.
    pub problems: Vec<String>,
    /// Messages that left since the program started, and when the last one did.
    pub sent: u64,
    pub last: Option<String>,
    /// Messages that the broker refused, and what it said to the last one.
    pub refused: u64,
    pub words: String,
    /// Messages by which others wrote to tags, those that were refused, when the last one came, and why the last one was refused.
    pub written: u64,
    pub write_refused: u64,
    pub write_last: Option<String>,
    pub write_words: String,
}

/// What waits to leave through a connection.
#[derive(Serialize, ToSchema)]
pub struct PublishingView {
    /// Messages that wait, and since when the oldest does.
    pub waiting: u64,
    pub oldest: Option<String>,
    /// Bytes of the queue on disk, and how many there may be.
    pub bytes: u64,
    pub room: u64,
    /// Messages that were lost because the queue was full, since the program started.
    pub lost: u64,
    /// What the disk says when it refuses; empty while all is well.
    pub trouble: String,
    pub publications: Vec<PublicationView>,
}

fn seen(plant: &Plant, id: Uuid) -> Result<(), Problem> {
    let connection = plant.connections.get(&id).ok_or_else(|| Problem::missing("connection"))?;
    if kind(&connection.set.kind).is_some_and(|kind| kind.describe().can.publishes) {
        Ok(())
    } else {
        Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "Only a connection to a broker publishes."))
    }
}

fn time(at: i64) -> Option<String> {
    (at > 0).then(|| to_text(at))
}

/// Shows what leaves through a connection.
#[utoipa::path(responses((status = 200, body = PublishingView)))]
#[get("/api/connections/{id}/publishing")]
pub async fn publishing(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<PublishingView>, Problem> {
    person.may(Action::Configure)?;
    let plant = person.plant(&app);
    seen(&plant, *id)?;
    let mut own: Vec<_> = plant.publications.values().filter(|one| one.set.connection == *id).collect();
    own.sort_by(|a, b| a.set.order.total_cmp(&b.set.order).then(a.id.cmp(&b.id)));
    let view = |one: &Arc<Item<Publication>>| {
        let (summary, Told { sent, last, refused, words }) = app.live.published(*id, one.id);
        let (tags, topics) = (summary.as_ref().map(|s| s.tags), summary.as_ref().map(|s| s.topics));
        let problems = summary.map(|s| s.problems).unwrap_or_default();
        let Ordered { done: written, refused: write_refused, last: write_last, words: write_words } = app.live.ordered(one.id);
        PublicationView {
            id: one.id,
            tags,
            topics,
            problems,
            sent,
            last: time(last),
            refused,
            words,
            written,
            write_refused,
            write_last: time(write_last),
            write_words,
        }
    };
    let publications = own.into_iter().map(view).collect();
    let queue = app.live.outbox(*id);
    Ok(Json(PublishingView {
        waiting: queue.waiting,
        oldest: time(queue.oldest),
        bytes: queue.bytes,
        room: queue.room,
        lost: queue.lost,
        trouble: queue.trouble,
        publications,
    }))
}

/// A publication to try, as its settings are stored.
#[derive(Deserialize, ToSchema)]
pub struct TryPublicationBody {
    #[schema(value_type = Object)]
    pub publication: Own,
}

/// A message as it would leave.
#[derive(Serialize, ToSchema)]
pub struct MessageView {
    pub topic: String,
    /// Its first 2,000 bytes.
    pub payload: String,
    pub bytes: usize,
    /// How many tags it holds.
    pub tags: usize,
}

/// A topic on which others would write.
#[derive(Serialize, ToSchema)]
pub struct OrderView {
    pub topic: String,
    /// The path of the tag.
    pub title: String,
}

/// What a publication would send.
#[derive(Serialize, ToSchema)]
pub struct OutlineView {
    pub tags: usize,
    pub topics: usize,
    /// What of it cannot be sent, as sentences.
    pub problems: Vec<String>,
    /// The next messages by their topics, the first fifty.
    pub next: Vec<MessageView>,
    /// Where others would write, by their topics, the first fifty.
    pub writes: Vec<OrderView>,
}

/// Shows what a publication would send with the values of now.
#[utoipa::path(responses((status = 200, body = OutlineView), (status = 422, body = Problem)))]
#[post("/api/connections/{id}/publishing/try")]
pub async fn try_publication(
    app: Data<App>,
    person: Person,
    id: Path<Uuid>,
    body: Json<TryPublicationBody>,
) -> Result<Json<OutlineView>, Problem> {
    person.may(Action::Configure)?;
    let set: Publication =
        resolve(None, &body.into_inner().publication).map_err(|(field, message)| Problem::field(&field, message))?;
    let _turn = app.limits.heavy().await?;
    let plant = person.plant(&app);
    seen(&plant, *id)?;
    let draft =
        Item { id: Uuid::nil(), no: 0, revision: 0, own: Own::new(), set: Publication { connection: *id, enabled: true, ..set } };
    let mut wrong = Vec::new();
    Publication::check(&draft, &Checking::new(&plant, &Kinds), &mut wrong);
    if let Some((field, words)) = wrong.into_iter().find(|(field, _)| field != "name") {
        return Err(Problem::field(&field, words));
    }
    let live = app.live.clone();
    let tried = block(move || outline(&live, &plant, *id, draft)).await;
    let (outline, writes) = tried.map_err(|_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping."))?;
    let Outline { summary: Summary { tags, topics, problems }, next } = outline;
    let view = |(message, tags): (Message, usize)| {
        let bytes = message.payload.len();
        let payload = String::from_utf8_lossy(&message.payload[..bytes.min(SHOWN)]).into_owned();
        MessageView { topic: message.topic, payload, bytes, tags }
    };
    Ok(Json(OutlineView { tags, topics, problems, next: next.into_iter().map(view).collect(), writes }))
}

fn outline(live: &Live, plant: &Plant, connection: Uuid, draft: Item<Publication>) -> (Outline, Vec<OrderView>) {
    let only = Plant { publications: Arc::new([(draft.id, Arc::new(draft))].into()), ..plant.clone() };
    let title = |order: &Order| plant.tags.get(&order.tag).map(|tag| plant.tag_path(&tag.set)).unwrap_or_default();
    let view = |(topic, order): (String, Order)| OrderView { title: title(&order), topic };
    let mut writes: Vec<OrderView> = orders(&only, connection).into_iter().map(view).collect();
    writes.sort_by(|a, b| a.topic.cmp(&b.topic));
    writes.truncate(MOST_SHOWN);
    let mut publisher = Publisher::of(&Arc::new(only), connection, now());
    let tags: Vec<_> = publisher.tags().collect();
    for some in tags.chunks(1000) {
        // Not held for long, as the engine waits for it.
        let values = live.values.read().unwrap_or_else(PoisonError::into_inner);
        for &tag in some {
            if let Some(shown) = values.of(tag) {
                publisher.show(tag, &shown.current);
            }
        }
    }
    let nothing = || Outline { summary: Summary::default(), next: Vec::new() };
    (publisher.outline(MOST_SHOWN).unwrap_or_else(nothing), writes)
}

/// A message to send by hand.
#[derive(Deserialize, ToSchema)]
pub struct MessageBody {
    pub topic: String,
    pub payload: String,
    /// Quality of service, 0 to 2.
    #[serde(default)]
    pub qos: u8,
    #[serde(default)]
    pub retain: bool,
}

/// Sends a message by hand and answers once the broker has it.
#[utoipa::path(responses((status = 204), (status = 422, body = Problem), (status = 502, body = Problem)))]
#[post("/api/connections/{id}/publishing/message")]
pub async fn send_message(
    app: Data<App>,
    person: Person,
    id: Path<Uuid>,
    body: Json<MessageBody>,
) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Configure)?;
    let plant = person.plant(&app);
    seen(&plant, *id)?;
    let MessageBody { topic, payload, qos, retain } = body.into_inner();
    check_topic(&topic).map_err(|words| Problem::field("topic", words))?;
    if qos > 2 {
        return Err(Problem::field("qos", "A quality of service is 0, 1 or 2."));
    }
    if payload.len() > LARGEST {
        return Err(Problem::field("payload", "A message sent by hand has at most 256 KiB."));
    }
    let name = &plant.connections[&*id].set.name;
    let first: String = payload.chars().take(SHOWN).collect();
    let detail = json!({"topic": topic, "payload": first, "bytes": payload.len(), "retain": retain});
    // What cannot be written down is not done.
    let title = format!("Asked to publish on {topic} through {name}");
    app.live.note("write", Some(actor), Some(*id), &title, detail).await?;
    let message =
        Message { publication: Uuid::nil(), made: now(), topic: topic.clone(), payload: payload.into_bytes(), qos, retain };
    let result = app.live.publish(*id, message).await;
    let title = match &result {
        Ok(()) => format!("Published on {topic} through {name}"),
        Err(error) => format!("Could not publish on {topic} through {name}: {error}"),
    };
    if let Err(error) = app.live.note("write", Some(actor), Some(*id), &title, json!({})).await {
        // It is sent all the same; what was asked for stands in the journal already.
        tracing::error!(%error, title, "what came of a message is not on disk yet");
    }
    result?;
    Ok(HttpResponse::NoContent().finish())
}
