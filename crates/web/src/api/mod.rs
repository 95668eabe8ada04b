//! The HTTP API: one file per desk's needs. Described in OpenAPI, which is kept in `docs/openapi.json`.

pub mod alarms;
pub mod connect;
pub mod demo;
pub mod history;
pub mod jobs;
pub mod journal;
pub mod marks;
pub mod plant;
pub mod reports;
pub mod revisions;
pub mod sheets;
pub mod values;

use crate::{app::App, problem::Problem};
use actix_web::{
    HttpResponse, get,
    web::{Data, Json},
};
use havrel_core::time::{Nanos, SECOND, from_text, to_text};
use serde::Serialize;
use utoipa::ToSchema;

/// The description of the API.
pub struct Document(pub utoipa::openapi::OpenApi);

/// Whether the server is well.
#[derive(Serialize, ToSchema)]
pub struct Health {
    /// The server answers.
    pub ok: bool,
    pub database: bool,
    pub revision: i64,
    pub started_at: String,
}

/// Tells whether the server is well; open to everybody.
#[utoipa::path(responses((status = 200, body = Health)))]
#[get("/api/health")]
pub async fn health(app: Data<App>) -> Json<Health> {
    let live = &app.live;
    Json(Health { ok: true, database: live.database().ok, revision: live.plant().revision, started_at: to_text(live.started) })
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
