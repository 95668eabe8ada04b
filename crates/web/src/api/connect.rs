//! Connections: test before save, look at registers, read an address as it is typed.

use crate::{app::App, auth::Person, problem::Problem};
use actix_web::{
    HttpResponse,
    http::header,
    post,
    web::{Bytes, Data, Json, Path},
};
use futures_util::stream;
use havrel_core::{
    access::Action,
    plant::{Connection, Own, SourceCheck, Tag, resolve},
    time::to_text,
};
use havrel_link::{Drivers, driver};
use serde::{Deserialize, Serialize};
use std::convert::Infallible;
use tokio::sync::mpsc;
use utoipa::ToSchema;
use uuid::Uuid;

/// One rung of a test.
#[derive(Serialize, ToSchema)]
pub struct StepView {
    pub name: String,
    pub tried: String,
    pub passed: bool,
    pub answer: String,
    /// What usually mends it; empty where it passed.
    pub cure: String,
    pub took_us: u64,
}

fn connection(settings: &Own) -> Result<Connection, Problem> {
    resolve(None, settings).map_err(|(field, message)| Problem::field(&field, message))
}

/// Tries a connection that need not be saved yet. The answer is NDJSON, one step a line as it is climbed; ending the
/// request ends the test.
#[utoipa::path(request_body = Object, responses((status = 200, body = StepView, content_type = "application/x-ndjson"), (status = 422, body = Problem)))]
#[post("/api/connections/test")]
pub async fn test(person: Person, body: Json<Own>) -> Result<HttpResponse, Problem> {
    person.may(Action::Configure)?;
    let connection = connection(&body)?;
    let wrong = Drivers.connection(&connection);
    if let Some((field, message)) = wrong.first() {
        return Err(Problem::field(field, message.clone()));
    }
    let Some(driver) = driver(&connection.kind) else { return Err(Problem::field("kind", "There is no such connection kind.")) };
    let (sender, receiver) = mpsc::channel(4);
    tokio::spawn(async move { driver.test(&connection, sender).await });
    let lines = stream::unfold(receiver, |mut receiver| async move {
        let s = receiver.recv().await?;
        let view =
            StepView { name: s.name, tried: s.tried, passed: s.passed, answer: s.answer, cure: s.cure, took_us: s.took_us };
        let line = serde_json::to_string(&view).unwrap_or_default() + "\n";
        Some((Ok::<Bytes, Infallible>(Bytes::from(line)), receiver))
    });
    // Compressed, the steps would be held back until the last.
    let plain = (header::CONTENT_ENCODING, "identity");
    Ok(HttpResponse::Ok().content_type("application/x-ndjson").insert_header(plain).streaming(lines))
}

/// Registers as they stand now.
#[derive(Serialize, ToSchema)]
pub struct PageView {
    pub read_at: String,
    pub items: Vec<FoundView>,
}

/// One register or bit.
#[derive(Serialize, ToSchema)]
pub struct FoundView {
    /// As it goes on the wire.
    pub label: String,
    /// As manuals write it.
    pub manual: String,
    /// Why the device did not give it.
    pub refused: String,
    pub readings: Vec<ReadingView>,
}

/// One interpretation.
#[derive(Serialize, ToSchema)]
pub struct ReadingView {
    /// The type a point would have.
    pub kind: String,
    pub text: String,
}

/// Reads a page of registers over the running connection.
#[utoipa::path(request_body = Object, responses((status = 200, body = PageView), (status = 502, body = Problem)))]
#[post("/api/connections/{id}/look")]
pub async fn look(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<Own>) -> Result<Json<PageView>, Problem> {
    person.may(Action::Configure)?;
    let page = app.live.browse(*id, body.into_inner()).await?;
    let items = page.items.into_iter().map(|f| FoundView {
        label: f.label,
        manual: f.manual,
        refused: f.refused,
        readings: f.readings.into_iter().map(|r| ReadingView { kind: r.kind, text: r.text }).collect(),
    });
    Ok(Json(PageView { read_at: to_text(page.read_at), items: items.collect() }))
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
}

/// Reads an address while it is typed.
#[utoipa::path(responses((status = 200, body = PointView)))]
#[post("/api/points/check")]
pub async fn check_point(app: Data<App>, person: Person, body: Json<PointBody>) -> Result<Json<PointView>, Problem> {
    person.may(Action::See)?;
    let plant = app.live.plant();
    let connection = plant.connections.get(&body.connection).ok_or_else(|| Problem::missing("connection"))?;
    let tag = serde_json::json!({"place": Uuid::nil(), "name": "x", "point": body.point});
    let tag: Tag = serde_json::from_value(tag).map_err(|e| Problem::field("point", e.to_string()))?;
    let wrong = Drivers.point(&connection.set, &tag);
    let shown = driver(&connection.set.kind).and_then(|d| d.show_point(&connection.set, &body.point)).unwrap_or_default();
    Ok(Json(PointView { shown, wrong }))
}
