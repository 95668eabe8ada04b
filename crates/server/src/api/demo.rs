//! The demo's faults: passed on to the simulated plant. A server without demo knows of none.

use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{get, http::StatusCode, post, web::Data};
use havrel_core::access::Action;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json_, json};
use utoipa::ToSchema;

/// Something that is made to go wrong.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct WrongView {
    /// In words.
    pub title: String,
    /// How long it still lasts.
    pub seconds: f64,
}

async fn order(app: &App, order: Json_) -> Result<Json<Vec<WrongView>>, Problem> {
    let standin = app.standin.ok_or_else(|| Problem::missing("simulated plant"))?;
    let away = |e: std::io::Error| Problem::new(StatusCode::BAD_GATEWAY, format!("The simulated plant does not answer: {e}."));
    let mut answer = crate::standin::order(standin, &order).await.map_err(away)?;
    if let Some(words) = answer.get("error").and_then(Json_::as_str) {
        return Err(Problem::field("fault", format!("The simulated plant refused: {words}.")));
    }
    let wrong = serde_json::from_value(answer["wrong"].take());
    wrong.map(Json).map_err(|e| away(e.into()))
}

/// Lists what is wrong in the simulated plant on command.
#[utoipa::path(responses((status = 200, body = Vec<WrongView>), (status = 404, body = Problem)))]
#[get("/api/demo/faults")]
pub async fn faults(app: Data<App>, person: Person) -> Result<Json<Vec<WrongView>>, Problem> {
    person.may(Action::See)?;
    person.of_everything()?;
    order(&app, json!({"order": "list"})).await
}

/// What shall go wrong.
#[derive(Deserialize, ToSchema)]
pub struct FaultBody {
    /// `cut`, `delay`, `exception`, `short`, `freeze` or `process`, with the fields that belong to it.
    #[serde(flatten)]
    #[schema(value_type = Object)]
    pub fault: Map<String, Json_>,
    /// At most 3600.
    pub seconds: f64,
}

/// Makes something go wrong in the simulated plant.
#[utoipa::path(responses((status = 200, body = Vec<WrongView>), (status = 422, body = Problem)))]
#[post("/api/demo/faults")]
pub async fn begin(app: Data<App>, person: Person, body: Json<FaultBody>) -> Result<Json<Vec<WrongView>>, Problem> {
    person.may(Action::Configure)?;
    let FaultBody { mut fault, seconds } = body.into_inner();
    fault.insert("order".into(), json!("begin"));
    fault.insert("seconds".into(), json!(seconds));
    order(&app, Json_::Object(fault)).await
}

/// Ends all that is wrong on command.
#[utoipa::path(responses((status = 200, body = Vec<WrongView>)))]
#[post("/api/demo/faults/clear")]
pub async fn clear(app: Data<App>, person: Person) -> Result<Json<Vec<WrongView>>, Problem> {
    person.may(Action::Configure)?;
    order(&app, json!({"order": "clear"})).await
}
