//! The plant tree in short: every place, or those that changed since a revision.

use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    web::{Data, Query},
};
use havrel_core::{
    access::Action,
    plant::{
        Item, Kind, Place,
        place::{Counting, Level},
    },
};
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// A place in short.
#[derive(Serialize, ToSchema)]
pub struct PlaceRow {
    pub id: Uuid,
    pub parent: Option<Uuid>,
    pub name: String,
    /// `site`, `area`, `line`, `unit`, `equipment` or `device`.
    #[schema(value_type = String)]
    pub level: Level,
    pub order: f64,
    pub in_service: bool,
    /// Counts as one above, however much is wrong under it.
    pub one: bool,
    /// It is a part of the equipment above.
    pub part: bool,
}

impl PlaceRow {
    fn of(place: &Item<Place>) -> PlaceRow {
        PlaceRow {
            id: place.id,
            parent: place.set.parent,
            name: place.set.name.clone(),
            level: place.set.level,
            order: place.set.order,
            in_service: place.set.in_service,
            one: place.set.counting() == Counting::One,
            part: place.set.part.is_some(),
        }
    }
}

/// Places of the plant.
#[derive(Serialize, ToSchema)]
pub struct TreeView {
    pub revision: i64,
    /// These are all; otherwise only those that changed since.
    pub whole: bool,
    pub places: Vec<PlaceRow>,
    /// Those that are gone since.
    pub gone: Vec<Uuid>,
}

/// Since when.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct TreeQuery {
    /// The revision that is known already.
    pub since: Option<i64>,
}

/// Further behind than this, all places are given.
const MOST_BEHIND: i64 = 100;

/// Every place of the plant in short, or what changed since a revision.
#[utoipa::path(params(TreeQuery), responses((status = 200, body = TreeView)))]
#[get("/api/tree")]
pub async fn tree(app: Data<App>, person: Person, query: Query<TreeQuery>) -> Result<Json<TreeView>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let mut view = TreeView { revision: plant.revision, whole: true, places: Vec::new(), gone: Vec::new() };
    // What came into a part of the plant or left it is no change of a place; who sees a part reads it anew.
    let since = query.since.filter(|_| person.scope.is_everything());
    match since.filter(|&since| (0..=plant.revision).contains(&since) && plant.revision - since <= MOST_BEHIND) {
        Some(since) => {
            view.whole = false;
            let changes = app.live.db.changes_between(since, plant.revision).await?;
            let mut touched: HashSet<Uuid> = changes.into_iter().filter(|c| c.kind == Kind::Place).map(|c| c.id).collect();
            // Parts of equipment follow their class without being changed themselves.
            touched.extend(plant.places.values().filter(|p| p.revision > since).map(|p| p.id));
            for id in touched {
                match plant.places.get(&id) {
                    Some(place) => view.places.push(PlaceRow::of(place)),
                    None => view.gone.push(id),
                }
            }
        }
        None => view.places.extend(plant.places.values().map(|p| PlaceRow::of(p))),
    }
    Ok(Json(view))
}
