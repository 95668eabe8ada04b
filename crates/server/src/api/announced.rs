//! Edge nodes and devices that announced themselves over a connection.

use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    web::{Data, Path},
};
use havrel_core::{access::Action, text::shown, time::to_text};
use havrel_link::announced::{Announced, State};
use serde::Serialize;
use utoipa::ToSchema;
use uuid::Uuid;

/// An edge node, or a device behind one.
#[derive(Serialize, ToSchema)]
pub struct AnnouncedView {
    /// Its node in the tree of what the connection offers.
    pub id: String,
    pub group: String,
    pub node: String,
    /// Empty for the edge node itself.
    pub device: String,
    pub state: State,
    /// Since when it is in that state; null before anything was heard.
    pub since: Option<String>,
    /// When something of its edge node came last; null if never.
    pub heard: Option<String>,
    /// Births since the program started.
    pub births: u64,
    /// Metrics that it announced, and how many of them tags read.
    pub metrics: u64,
    pub taken: u64,
    /// Values that came later, out of its buffer, since the program started.
    pub history: u64,
    /// Of an edge node: messages that never came, and requests for its birth, since the program started.
    pub missing: u64,
    pub asked: u64,
    /// Of an edge node: how full it says that its buffer is; empty where it does not tell.
    pub buffer: String,
    /// What is odd about it, in sentences.
    pub words: Vec<String>,
}

fn view(one: Announced) -> AnnouncedView {
    let time = |at: i64| (at > 0).then(|| to_text(at));
    let text = |text: &str| shown(text).into_owned();
    AnnouncedView {
        id: one.id,
        group: text(&one.group),
        node: text(&one.node),
        device: text(&one.device),
        state: one.state,
        since: time(one.since),
        heard: time(one.heard),
        births: one.births,
        metrics: one.metrics,
        taken: one.taken,
        history: one.history,
        missing: one.missing,
        asked: one.asked,
        buffer: text(&one.buffer),
        words: one.words.iter().map(|words| text(words)).collect(),
    }
}

/// Lists the edge nodes and devices that announced themselves over a connection, edge nodes before their devices.
#[utoipa::path(responses((status = 200, body = Vec<AnnouncedView>), (status = 502, body = Problem)))]
#[get("/api/connections/{id}/announced")]
pub async fn announced(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<Vec<AnnouncedView>>, Problem> {
    person.may(Action::Configure)?;
    person.plant(&app).connections.get(&id).ok_or_else(|| Problem::missing("connection"))?;
    Ok(Json(app.live.announced(*id).await?.into_iter().map(view).collect()))
}
