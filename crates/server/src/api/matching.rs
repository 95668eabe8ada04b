//! Binding from the source: what was found at a device, matched onto tags without a source.

use crate::{
    app::App,
    auth::Person,
    body::{Json, large},
    problem::Problem,
};
use actix_web::{
    http::StatusCode,
    post,
    web::{Data, Payload, block},
};
use havrel_core::{
    access::Action,
    plant::matching::{Found, Holds, Match, Matched, matched},
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use uuid::Uuid;

/// Most found items that are matched at once.
const MOST_FOUND: usize = 20_000;
/// Most names above an item.
const MOST_ABOVE: usize = 40;

/// Something found at a device.
#[derive(Deserialize, ToSchema)]
pub struct FoundBody {
    /// The names of what stands above it, from the top.
    pub path: Vec<String>,
    pub name: String,
    /// As the device says it; empty where it does not.
    #[serde(default)]
    pub unit: String,
    /// `number`, `switch`, `text`, or `unknown`.
    #[serde(default)]
    #[schema(value_type = String)]
    pub holds: Holds,
    #[serde(default)]
    pub writable: bool,
}

/// What to match, and onto which tags.
#[derive(Deserialize, ToSchema)]
pub struct MatchBody {
    /// Only tags under this place.
    pub under: Option<Uuid>,
    /// At most 20,000.
    pub found: Vec<FoundBody>,
}

/// A tag that a found item fits.
#[derive(Serialize, ToSchema)]
pub struct MatchView {
    pub tag: Uuid,
    pub title: String,
    /// Out of 100.
    pub score: i32,
    /// Why it fits, and what to look at before it is bound.
    pub reasons: Vec<String>,
    pub doubts: Vec<String>,
}

/// What fits a found item.
#[derive(Serialize, ToSchema)]
pub struct MatchedView {
    /// The tag to bind; null where none fits well enough, or several fit equally well.
    pub best: Option<MatchView>,
    /// Other tags that fit, the best first.
    pub rivals: Vec<MatchView>,
}

/// What was matched.
#[derive(Serialize, ToSchema)]
pub struct MatchesView {
    pub revision: i64,
    /// How many tags have neither a source nor a formula.
    pub open: usize,
    /// For each found item, in their order.
    pub matched: Vec<MatchedView>,
}

/// Matches what was found at a device onto the tags without a source, by name, type and engineering unit. Changes nothing.
#[utoipa::path(request_body = MatchBody, responses((status = 200, body = MatchesView), (status = 422, body = Problem)))]
#[post("/api/sources/match")]
pub async fn match_found(app: Data<App>, person: Person, body: Payload) -> Result<Json<MatchesView>, Problem> {
    person.may(Action::Configure)?;
    let MatchBody { under, found } = large(body).await?;
    if found.len() > MOST_FOUND {
        return Err(Problem::field("found", "At most 20,000 items are matched at once."));
    }
    if let Some(deep) = found.iter().position(|item| item.path.len() > MOST_ABOVE) {
        return Err(Problem::field(&format!("found[{deep}].path"), "At most 40 names stand above an item."));
    }
    let _turn = app.limits.heavy().await?;
    let plant = person.plant(&app);
    let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    block(move || {
        let found: Vec<Found> = found
            .into_iter()
            .map(|f| Found { path: f.path, name: f.name, unit: f.unit, holds: f.holds, writable: f.writable })
            .collect();
        let view = |m: Match| MatchView {
            title: plant.tags.get(&m.tag).map(|tag| plant.tag_path(&tag.set)).unwrap_or_default(),
            tag: m.tag,
            score: m.score,
            reasons: m.reasons,
            doubts: m.doubts,
        };
        let shown = |m: Matched| MatchedView { best: m.best.map(view), rivals: m.rivals.into_iter().map(view).collect() };
        let open = plant.tags.values().filter(|t| t.set.connection.is_none() && t.set.formula.is_none()).count();
        let matched = matched(&plant, under, &found).into_iter().map(shown).collect();
        Json(MatchesView { revision: plant.revision, open, matched })
    })
    .await
    .map_err(stopping)
}
