//! The journal, newest first.

use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    web::{Data, Query},
};
use havrel_core::{access::Action, plant::Kind, time::to_text};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// One line.
#[derive(Serialize, ToSchema)]
pub struct EntryView {
    pub id: i64,
    pub at: String,
    /// `sign_in`, `configuration`, `write`, `acknowledge`, `report`, `note`, `trend` or `system`.
    pub kind: String,
    pub actor: String,
    pub title: String,
    #[schema(value_type = Object)]
    pub detail: serde_json::Value,
}

/// Which lines.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct JournalQuery {
    /// Only older than this line.
    pub before: Option<i64>,
    pub kind: Option<String>,
    /// At most 500; usually 100.
    pub limit: Option<i64>,
}

/// Reads the journal. Who sees a part of the plant reads what concerns something of it.
#[utoipa::path(params(JournalQuery), responses((status = 200, body = Vec<EntryView>)))]
#[get("/api/journal")]
pub async fn read(app: Data<App>, person: Person, query: Query<JournalQuery>) -> Result<Json<Vec<EntryView>>, Problem> {
    person.may(Action::See)?;
    let subjects = (!person.scope.is_everything()).then(|| {
        let plant = person.plant(&app);
        Kind::ALL.into_iter().flat_map(|kind| plant.ids(kind)).collect::<Vec<_>>()
    });
    let limit = query.limit.unwrap_or(100);
    let found = app.live.db.journal(query.before, query.kind.as_deref(), subjects.as_deref(), limit).await?;
    let view = |e: havrel_db::journal::Entry| EntryView {
        id: e.id,
        at: to_text(e.at),
        kind: e.kind,
        actor: e.actor,
        title: e.title,
        detail: e.detail,
    };
    Ok(Json(found.into_iter().map(view).collect()))
}
