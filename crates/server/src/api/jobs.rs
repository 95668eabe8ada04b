//! Work that goes on by itself. How far it is travels with the live feed.

use crate::{app::App, auth::Person, problem::Problem};
use actix_web::{
    HttpResponse, post,
    web::{Data, Path},
};
use havrel_core::access::Action;
use uuid::Uuid;

/// Asks a job to stop; it does so after the step it is at.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem)))]
#[post("/api/jobs/{id}/cancel")]
pub async fn cancel(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    person.may(Action::Configure)?;
    if app.live.jobs.cancel(*id) { Ok(HttpResponse::NoContent().finish()) } else { Err(Problem::missing("job")) }
}
