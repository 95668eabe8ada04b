//! What an instant is, before somebody looks back to it.

use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{get, web::Data};
use havrel_core::{access::Action, time::to_text};
use serde::Serialize;
use utoipa::ToSchema;

/// The instant that a request names.
#[derive(Serialize, ToSchema)]
pub struct InstantView {
    /// The instant; now where the request names none.
    pub at: String,
    /// The revision whose configuration is shown.
    pub revision: i64,
    /// Whether it was in force then; without one the present configuration is shown.
    pub configured: bool,
    /// Until when history is complete.
    pub complete_until: String,
}

/// Tells which configuration was in force at the instant that the header `Havrel-Instant` names.
#[utoipa::path(params(("Havrel-Instant" = Option<String>, Header, description = "RFC 3339; with it every question about the plant is answered as things stood then, and nothing can be changed")),
    responses((status = 200, body = InstantView)))]
#[get("/api/instant")]
pub async fn instant(app: Data<App>, person: Person) -> Result<Json<InstantView>, Problem> {
    person.may(Action::See)?;
    let at = person.then.as_ref().map_or_else(havrel_live::now, |then| then.at);
    Ok(Json(InstantView {
        at: to_text(at),
        revision: person.plant(&app).revision,
        configured: person.then.as_ref().is_none_or(|then| then.configured),
        complete_until: to_text(app.live.complete_until()),
    }))
}
