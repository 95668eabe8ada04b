//! Connections: their kinds, a test before they are saved, and an address read as it is typed.

use super::{lines, period};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpResponse, delete, get, post, put,
    web::{Data, Path, Query},
};
use havrel_core::{
    access::Action,
    plant::{Connection, Item, Own, Plant, SourceCheck, Tag, resolve},
    time::{Nanos, SECOND},
};
use havrel_link::{Kind, Kinds, PointPlan, TestStep, kind, kind::Description};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json_, json};
use tokio::sync::mpsc;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Every kind of connection: what its forms ask for and what it can do.
#[utoipa::path(responses((status = 200, body = Vec<Description>)))]
#[get("/api/kinds")]
pub async fn kinds(person: Person) -> Result<Json<Vec<Description>>, Problem> {
    person.may(Action::See)?;
    Ok(Json(havrel_link::kinds().into_iter().map(Kind::describe).collect()))
}

/// Whose secrets are meant.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct TestQuery {
    /// The saved connection whose secrets count where none were typed anew.
    pub id: Option<Uuid>,
}

fn connection(settings: &Own) -> Result<Connection, Problem> {
    resolve(None, settings).map_err(|(field, message)| Problem::field(&field, message))
}

/// Tries a connection that need not be saved yet. The answer is NDJSON, one step a line as it is climbed; ending the
/// request ends the test.
#[utoipa::path(params(TestQuery), request_body = Object, responses((status = 200, body = TestStep, content_type = "application/x-ndjson"), (status = 422, body = Problem)))]
#[post("/api/connections/test")]
pub async fn test(app: Data<App>, person: Person, query: Query<TestQuery>, body: Json<Own>) -> Result<HttpResponse, Problem> {
    person.may(Action::Configure)?;
    let connection = app.live.ready(query.id, connection(&body)?);
    let wrong = Kinds.connection(&connection);
    if let Some((field, message)) = wrong.first() {
        return Err(Problem::field(field, message.clone()));
    }
    let nothing = || Problem::field("kind", "A connection of this kind has no device to test.");
    let tester = kind(&connection.kind).and_then(Kind::tester).ok_or_else(nothing)?;
    let (sender, receiver) = mpsc::channel(4);
    let identities = app.live.identity.clone();
    tokio::spawn(async move { tester.test(&connection, identities, sender).await });
    Ok(lines(receiver))
}

/// Which address to take into use.
#[derive(Deserialize, ToSchema)]
pub struct PathBody {
    /// 0 is the first, the others are spare.
    pub path: usize,
}

/// Takes another address of a connection into use by hand.
#[utoipa::path(responses((status = 204), (status = 502, body = Problem)))]
#[post("/api/connections/{id}/path")]
pub async fn take_path(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<PathBody>) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Configure)?;
    let plant = app.live.plant();
    let connection = plant.connections.get(&id).ok_or_else(|| Problem::missing("connection"))?;
    app.live.take_path(*id, body.path).await?;
    let title = format!(
        "Ordered {} over to {}",
        connection.set.name,
        if body.path == 0 { "its first address" } else { "a spare address" }
    );
    app.live.note("connection", Some(actor), Some(*id), &title, json!({"path": body.path})).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// From when to when to bring in what a device recorded itself.
#[derive(Deserialize, ToSchema)]
pub struct FillBody {
    /// RFC 3339.
    pub from: String,
    pub to: String,
}

/// The longest time that is brought in at once.
const LONGEST_FILL: Nanos = 366 * 86_400 * SECOND;

/// Has a connection bring in what its device recorded itself. How far it is stands in the status of the connection.
#[utoipa::path(responses((status = 204), (status = 422, body = Problem), (status = 502, body = Problem)))]
#[put("/api/connections/{id}/fill")]
pub async fn fill(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<FillBody>) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Configure)?;
    let plant = app.live.plant();
    let connection = plant.connections.get(&id).ok_or_else(|| Problem::missing("connection"))?;
    let (from, to) = period(&body.from, &body.to)?;
    if to - from > LONGEST_FILL {
        return Err(Problem::field("to", "The period must end within a year after it begins."));
    }
    app.live.fill(*id, Some((from, to))).await?;
    let title = format!("Ordered {} to bring in what its device recorded", connection.set.name);
    app.live.note("connection", Some(actor), Some(*id), &title, json!({"from": body.from, "to": body.to})).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Stops that.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/connections/{id}/fill")]
pub async fn stop_filling(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Configure)?;
    let plant = app.live.plant();
    let connection = plant.connections.get(&id).ok_or_else(|| Problem::missing("connection"))?;
    app.live.fill(*id, None).await?;
    let title = format!("Stopped {} bringing in what its device recorded", connection.set.name);
    app.live.note("connection", Some(actor), Some(*id), &title, json!({})).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// A point to be read.
#[derive(Deserialize, ToSchema)]
pub struct PointBody {
    pub connection: Uuid,
    #[schema(value_type = Object)]
    pub point: Own,
}

/// How a point reads.
#[derive(Serialize, ToSchema)]
pub struct PointView {
    /// With the address as it goes on the wire; empty where something is wrong.
    pub shown: String,
    /// What is wrong: field and sentence.
    pub wrong: Vec<(String, String)>,
    /// What the device holds there now, as this point reads it; empty where it could not be asked.
    pub now: String,
    /// Other ways to read the address as it is written.
    pub others: Vec<OtherView>,
}

/// Another way to read an address.
#[derive(Serialize, ToSchema)]
pub struct OtherView {
    /// As it would go on the wire.
    pub shown: String,
    /// How to write it so that only this is meant.
    pub write: String,
    pub why: String,
    /// What the device holds there now.
    pub now: String,
}

/// Most characters of a point that is read while it is typed.
const MOST_POINT: usize = 4096;

/// Reads an address while it is typed.
#[utoipa::path(responses((status = 200, body = PointView)))]
#[post("/api/points/check")]
pub async fn check_point(app: Data<App>, person: Person, body: Json<PointBody>) -> Result<Json<PointView>, Problem> {
    person.may(Action::Configure)?;
    if body.point.iter().map(|(k, v)| k.len() + v.to_string().len()).sum::<usize>() > MOST_POINT {
        return Err(Problem::field("point", "An address has at most 4,096 characters."));
    }
    let plant = app.live.plant();
    let connection = plant.connections.get(&body.connection).ok_or_else(|| Problem::missing("connection"))?;
    let (tag, shown, wrong) = read_point(&plant, connection, &body.point);
    let others = match kind(&connection.set.kind).and_then(Kind::spaces) {
        Some(spaces) if plant.source(&connection.set, &tag).is_ok() => spaces.other_readings(&connection.set, &tag.point),
        _ => Vec::new(),
    };
    let mut view = PointView { shown, wrong, now: String::new(), others: Vec::new() };
    if others.is_empty() {
        return Ok(Json(view));
    }
    view.now = held(&app, body.connection, &tag.point).await;
    for other in others {
        let mut point = tag.point.clone();
        point.insert("address".into(), other.write.clone().into());
        let now = held(&app, body.connection, &point).await;
        view.others.push(OtherView { shown: other.shown, write: other.write, why: other.why, now });
    }
    Ok(Json(view))
}

/// A tag at a point, where it would be read, in words, and what is wrong with it by field.
pub(super) fn read_point(plant: &Plant, connection: &Item<Connection>, point: &Own) -> (Tag, String, Vec<(String, String)>) {
    let mut tag = Tag::at(point.clone());
    let resolved = plant.source(&connection.set, &tag).map(|s| s.point.into_owned());
    let (shown, wrong) = match (resolved, kind(&connection.set.kind)) {
        (Err((field, message)), _) => (String::new(), vec![(format!("point.{field}"), message)]),
        (Ok(_), None) => (String::new(), Vec::new()),
        (Ok(point), Some(kind)) => {
            tag.point = point;
            let shown = kind.show_point(&connection.set, &tag.point).unwrap_or_default();
            (shown, Kinds.point(&connection.set, &tag))
        }
    };
    (tag, shown, wrong)
}

/// What a device holds at a point now, in words; empty where it cannot be asked.
async fn held(app: &App, connection: Uuid, point: &Own) -> String {
    let point = PointPlan { tag: 0, point: point.clone(), scaling: None, group: None };
    let read = app.live.read(connection, vec![point]).await.ok().and_then(|mut read| read.pop());
    read.map_or_else(String::new, |raw| match raw.decoded.map(|value| value.to_json()) {
        Some(Json_::String(text)) => text,
        Some(other) => other.to_string(),
        None => raw.words,
    })
}
