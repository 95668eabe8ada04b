//! The HTTP API: one file per desk's needs. Described in OpenAPI, which is kept in `docs/openapi.json`.

pub mod accounts;
pub mod alarm_history;
pub mod alarms;
pub mod announced;
pub mod arrivals;
pub mod before;
pub mod board;
pub mod broker;
pub mod browse;
pub mod by_hand;
pub mod calls;
pub mod classes;
pub mod connect;
pub mod demo;
pub mod dispatches;
pub mod equipment;
pub mod exchange;
pub mod files;
pub mod follow;
pub mod formulas;
pub mod history;
pub mod identity;
pub mod intake;
pub mod jobs;
pub mod journal;
pub mod lookups;
pub mod loop_checks;
pub mod matching;
pub mod performance;
pub mod plant;
pub mod publishing;
pub mod push;
pub mod recorders;
pub mod remarks;
pub mod reports;
pub mod review;
pub mod revisions;
pub mod sheets;
pub mod table;
pub mod then;
pub mod traffic;
pub mod tree;
pub mod trials;
pub mod units;
pub mod values;
pub mod views;

use crate::{app::App, problem::Problem};
use actix_web::{
    HttpResponse, get,
    http::header,
    web::{Bytes, Data},
};
use futures_util::stream;
use havrel_core::time::{Nanos, SECOND, from_text, to_text};
use serde::Serialize;
use std::convert::Infallible;
use tokio::sync::mpsc;
use utoipa::ToSchema;

/// The description of the API.
pub struct Document(pub utoipa::openapi::OpenApi);

/// Whether the server is well.
#[derive(Serialize, ToSchema)]
pub struct Health {
    /// Every part runs.
    pub ok: bool,
    /// Parts that do not run at present, in words.
    pub faults: Vec<String>,
    /// The database takes frames.
    pub database: bool,
    pub revision: i64,
    pub started_at: String,
}

/// Tells whether the server is well; open to everybody. A part that does not run makes it 503, the database does not: values
/// and alarms go on without it.
#[utoipa::path(responses((status = 200, body = Health), (status = 503, body = Health)))]
#[get("/api/health")]
pub async fn health(app: Data<App>) -> HttpResponse {
    let live = &app.live;
    let faults: Vec<String> = live.faults().into_iter().map(|fault| fault.part).collect();
    let (database, started_at) = (live.database().ok, to_text(live.started));
    let health = Health { ok: faults.is_empty(), faults, database, revision: live.plant().revision, started_at };
    if health.ok { HttpResponse::Ok().json(health) } else { HttpResponse::ServiceUnavailable().json(health) }
}

/// The description itself.
#[get("/api/openapi.json")]
pub async fn openapi(document: Data<Document>) -> HttpResponse {
    match document.0.to_pretty_json() {
        Ok(text) => HttpResponse::Ok().content_type("application/json").body(text + "\n"),
        Err(error) => HttpResponse::InternalServerError().body(error.to_string()),
    }
}

/// The longest period one question may cover.
const LONGEST: Nanos = 50 * 366 * 86_400 * SECOND;

/// A time in a request.
fn time(field: &str, text: &str) -> Result<Nanos, Problem> {
    from_text(text).map_err(|message| Problem::field(field, message))
}

/// A period in a request; `to` lies after `from`.
fn period(from: &str, to: &str) -> Result<(Nanos, Nanos), Problem> {
    let (from, to) = (time("from", from)?, time("to", to)?);
    if from >= to {
        return Err(Problem::field("to", "The period must end after it begins."));
    }
    match to.checked_sub(from) {
        Some(length) if length <= LONGEST => Ok((from, to)),
        _ => Err(Problem::field("to", "Ask for at most fifty years at once.")),
    }
}

/// Answers with one JSON object a line as they come, until the sender goes away.
fn lines<T: Serialize + 'static>(receiver: mpsc::Receiver<T>) -> HttpResponse {
    let lines = stream::unfold(receiver, |mut receiver| async move {
        let item = receiver.recv().await?;
        let line = serde_json::to_string(&item).unwrap_or_default() + "\n";
        Some((Ok::<Bytes, Infallible>(Bytes::from(line)), receiver))
    });
    // Compressed, the lines would be held back until the last.
    let plain = (header::CONTENT_ENCODING, "identity");
    HttpResponse::Ok().content_type("application/x-ndjson").insert_header(plain).streaming(lines)
}
