//! What arrived at a connection and became tags after its mappings.

use super::plant::Committed;
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    http::StatusCode,
    post,
    web::{Data, Path, block},
};
use havrel_core::{
    access::Action,
    arrival::{Arrival, Mapping, NewTag},
    plant::{Connection, Item, Own, Plant, resolve},
    text::shown,
    time::to_text,
};
use havrel_link::{Kind, kind};
use serde::{Deserialize, Serialize};
use std::{collections::HashMap, sync::Arc};
use utoipa::ToSchema;
use uuid::Uuid;

/// Most arrivals that are listed, the newest.
const MOST: i64 = 500;
/// Most tags of an arrival that are named.
const MOST_NAMED: usize = 20;

/// A tag of an arrival that exists.
#[derive(Serialize, ToSchema)]
pub struct ArrivedTagView {
    pub id: Uuid,
    /// Its path.
    pub title: String,
}

/// Something that arrived.
#[derive(Serialize, ToSchema)]
pub struct ArrivalView {
    pub mapping: Uuid,
    /// By what it is known at its connection, such as its topic.
    pub key: String,
    pub at: String,
    /// The revision that made the newest of its tags; null where they were there before, or are refused.
    pub revision: Option<i64>,
    /// How many tags it has or had.
    pub tags: usize,
    /// How many of them exist.
    pub left: usize,
    /// Those that exist, the first twenty by path.
    pub named: Vec<ArrivedTagView>,
    /// Why it gives no tags; empty where it does.
    pub refused: String,
}

/// What arrived, the newest first.
#[derive(Serialize, ToSchema)]
pub struct ArrivalsView {
    pub total: i64,
    pub arrivals: Vec<ArrivalView>,
}

fn seen(plant: &Plant, id: Uuid) -> Result<&Arc<Item<Connection>>, Problem> {
    plant.connections.get(&id).ok_or_else(|| Problem::missing("connection"))
}

/// Lists what arrived at a connection.
#[utoipa::path(responses((status = 200, body = ArrivalsView)))]
#[get("/api/connections/{id}/arrivals")]
pub async fn arrivals(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<ArrivalsView>, Problem> {
    person.may(Action::Configure)?;
    let plant = person.plant(&app);
    seen(&plant, *id)?;
    let (total, all) = app.live.db.arrivals(*id, None, MOST).await?;
    let view = |one: havrel_db::arrivals::Arrived| {
        let tag = |tag: &Uuid| Some(ArrivedTagView { id: *tag, title: plant.tag_path(&plant.tags.get(tag)?.set) });
        let mut named: Vec<_> = one.tags.values().filter_map(tag).collect();
        named.sort_by(|a, b| a.title.cmp(&b.title));
        let left = named.len();
        named.truncate(MOST_NAMED);
        let (tags, key) = (one.tags.len(), one.key);
        ArrivalView {
            mapping: one.mapping,
            key,
            at: to_text(one.at),
            revision: one.revision,
            tags,
            left,
            named,
            refused: one.refused,
        }
    };
    Ok(Json(ArrivalsView { total, arrivals: all.into_iter().map(view).collect() }))
}

/// A mapping to try, as the settings of a connection store it.
#[derive(Deserialize, ToSchema)]
pub struct TryMappingBody {
    #[schema(value_type = Object)]
    pub mapping: Own,
}

/// A tag that a mapping would make.
#[derive(Serialize, ToSchema)]
pub struct TriedTagView {
    pub place: String,
    pub name: String,
    /// The tag that is read there already; empty where it would be new.
    pub taken: String,
    /// Another tag has this name.
    pub clash: bool,
}

/// What a mapping would make of something that is heard.
#[derive(Serialize, ToSchema)]
pub struct TriedView {
    pub key: String,
    pub tags: Vec<TriedTagView>,
    /// Why it would give no tags; empty where it would.
    pub refused: String,
}

/// Shows what a mapping would make of all that is heard now.
#[utoipa::path(responses((status = 200, body = Vec<TriedView>), (status = 502, body = Problem)))]
#[post("/api/connections/{id}/arrivals/try")]
pub async fn try_mapping(
    app: Data<App>,
    person: Person,
    id: Path<Uuid>,
    body: Json<TryMappingBody>,
) -> Result<Json<Vec<TriedView>>, Problem> {
    person.may(Action::Configure)?;
    let mapping: Mapping =
        resolve(None, &body.into_inner().mapping).map_err(|(field, message)| Problem::field(&field, message))?;
    let _turn = app.limits.heavy().await?;
    let plant = person.plant(&app);
    seen(&plant, *id)?;
    let tried = app.live.try_mapping(*id, mapping).await?;
    let shown = block(move || shown_trial(&plant, *id, tried)).await;
    Ok(Json(shown.map_err(|_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping."))?))
}

/// What a trial would make, beside what the plant holds already.
fn shown_trial(plant: &Plant, id: Uuid, tried: Vec<Arrival>) -> Vec<TriedView> {
    let Some(connection) = plant.connections.get(&id) else { return Vec::new() };
    let kind = kind(&connection.set.kind);
    let read_at = |point: &Own| kind.and_then(|kind: &dyn Kind| kind.show_point(&connection.set, point));
    let own = plant.tags.values().filter(|tag| tag.set.connection == Some(id));
    let taken: HashMap<String, String> =
        own.filter_map(|tag| Some((read_at(&tag.set.point)?, plant.tag_path(&tag.set)))).collect();
    let places: HashMap<String, Uuid> = plant.places.keys().map(|&id| (plant.path(Some(id)), id)).collect();
    let names: HashMap<(Uuid, &str), Uuid> =
        plant.tags.values().map(|tag| ((tag.set.place, tag.set.name.as_str()), tag.id)).collect();
    let tag = |tag: NewTag| {
        let taken = read_at(&tag.point).and_then(|at| taken.get(&at)).cloned().unwrap_or_default();
        let place = places.get(&tag.place);
        let clash = taken.is_empty() && place.is_some_and(|place| names.contains_key(&(*place, tag.name.as_str())));
        TriedTagView { place: shown(&tag.place).into_owned(), name: shown(&tag.name).into_owned(), taken, clash }
    };
    let view = |one: Arrival| TriedView {
        key: shown(&one.key).into_owned(),
        tags: one.tags.into_iter().map(tag).collect(),
        refused: one.refused,
    };
    tried.into_iter().map(view).collect()
}

/// Which arrival.
#[derive(Deserialize, ToSchema)]
pub struct ArrivalBody {
    pub mapping: Uuid,
    pub key: String,
}

/// Takes away the tags of an arrival, and the places that were made for them and hold nothing else. They do not come again by
/// themselves.
#[utoipa::path(responses((status = 200, body = Committed), (status = 409, body = Problem)))]
#[post("/api/connections/{id}/arrivals/undo")]
pub async fn undo_arrival(
    app: Data<App>,
    person: Person,
    id: Path<Uuid>,
    body: Json<ArrivalBody>,
) -> Result<Json<Committed>, Problem> {
    let actor = person.may(Action::Configure)?;
    seen(&person.plant(&app), *id)?;
    let ArrivalBody { mapping, key } = body.into_inner();
    let done = app.live.take_back(*id, &(mapping, key), actor).await?;
    let nothing = || Problem::new(StatusCode::CONFLICT, "Of what this arrival made nothing is there any more.");
    done.map(|plant| Json(Committed { revision: plant.revision })).ok_or_else(nothing)
}

/// When its tags are made.
#[derive(Serialize, ToSchema)]
pub struct AgainView {
    /// At once; otherwise with its next message.
    pub now: bool,
}

/// Makes the tags of an arrival again, after somebody took them away or it was refused.
#[utoipa::path(responses((status = 200, body = AgainView), (status = 422, body = Problem)))]
#[post("/api/connections/{id}/arrivals/again")]
pub async fn arrive_again(
    app: Data<App>,
    person: Person,
    id: Path<Uuid>,
    body: Json<ArrivalBody>,
) -> Result<Json<AgainView>, Problem> {
    person.may(Action::Configure)?;
    seen(&person.plant(&app), *id)?;
    let ArrivalBody { mapping, key } = body.into_inner();
    Ok(Json(AgainView { now: app.live.arrive_again(*id, (mapping, key)).await? }))
}
