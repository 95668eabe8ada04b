//! Views of sheets kept under a name: columns, filter and order.

use super::remarks::{LONGEST_NAME, Made, text};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpResponse, delete, get, post,
    web::{Data, Path},
};
use havrel_core::access::Action;
use havrel_db::views::MOST_VIEWS;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// A kept view of a sheet.
#[derive(Serialize, ToSchema)]
pub struct KeptViewRow {
    pub id: Uuid,
    pub name: String,
    /// What the sheet's page put into it.
    #[schema(value_type = Object)]
    pub view: serde_json::Value,
    pub actor: String,
}

/// A view to be kept.
#[derive(Deserialize, ToSchema)]
pub struct NewView {
    /// 1 to 80 characters; a view of the same name is replaced.
    pub name: String,
    /// At most 8 KiB.
    #[schema(value_type = Object)]
    pub view: serde_json::Map<String, serde_json::Value>,
}

/// Most bytes of a view.
const MOST_BYTES: usize = 8 << 10;

fn sheet(name: &str) -> Result<&str, Problem> {
    if ["tags", "alarms", "rules", "rule_templates"].contains(&name) { Ok(name) } else { Err(Problem::missing("sheet")) }
}

/// The kept views of a sheet by name.
#[utoipa::path(responses((status = 200, body = Vec<KeptViewRow>)))]
#[get("/api/views/{sheet}")]
pub async fn kept_views(app: Data<App>, person: Person, name: Path<String>) -> Result<Json<Vec<KeptViewRow>>, Problem> {
    person.may(Action::See)?;
    // Their filters name places and tags.
    person.of_everything()?;
    let kept = app.live.db.kept_views(sheet(&name)?).await?;
    let row = |k: havrel_db::views::KeptView| KeptViewRow { id: k.id, name: k.name, view: k.view, actor: k.actor };
    Ok(Json(kept.into_iter().map(row).collect()))
}

/// Keeps a view of a sheet under a name.
#[utoipa::path(request_body = NewView, responses((status = 200, body = Made), (status = 422, body = Problem)))]
#[post("/api/views/{sheet}")]
pub async fn keep_view(app: Data<App>, person: Person, path: Path<String>, body: Json<NewView>) -> Result<Json<Made>, Problem> {
    let actor = person.may(Action::Remark)?;
    person.of_everything()?;
    let sheet = sheet(&path)?;
    let name = text("name", &body.name, LONGEST_NAME)?;
    let view = serde_json::Value::Object(body.view.clone());
    if view.to_string().len() > MOST_BYTES {
        return Err(Problem::field("view", "A view has at most 8 KiB."));
    }
    let full = || Problem::field("name", format!("{MOST_VIEWS} views are saved already; delete one first."));
    let id = app.live.db.keep_view(sheet, name, &view, actor).await?.ok_or_else(full)?;
    Ok(Json(Made { id }))
}

/// Forgets a kept view.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/views/{id}")]
pub async fn forget_view(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    person.may(Action::Remark)?;
    person.of_everything()?;
    app.live.db.forget_view(*id).await?.ok_or_else(|| Problem::missing("kept view"))?;
    Ok(HttpResponse::NoContent().finish())
}
