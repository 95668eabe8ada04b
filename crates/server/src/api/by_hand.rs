//! Values set by hand: set one, see all that are on, release one.

use super::{remarks::text, time};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpResponse, delete, get, put,
    web::{Data, Path},
};
use havrel_core::{access::Action, time::to_text};
use havrel_live::ByHandWish;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json_;
use utoipa::ToSchema;
use uuid::Uuid;

/// Longest reason, in characters.
const LONGEST_REASON: usize = 400;

/// A value to set by hand.
#[derive(Deserialize, ToSchema)]
pub struct HandBody {
    /// In engineering units: boolean, number or text; for a tag with state names also the name of one.
    #[schema(value_type = Object)]
    pub value: Json_,
    /// Why, in 1 to 400 characters.
    pub reason: String,
    /// When it ends by itself; left out: when somebody releases it.
    pub until: Option<String>,
    /// Whether it outlasts a restart of Havrel.
    #[serde(default)]
    pub keeps: bool,
}

/// A value that is set by hand.
#[derive(Serialize, ToSchema)]
pub struct HandView {
    pub tag: Uuid,
    /// The tag's number in the live feed.
    pub no: u32,
    /// The tag's path.
    pub title: String,
    pub place: Uuid,
    #[schema(value_type = Object)]
    pub value: Json_,
    /// The value as the tag prints it, with its unit.
    pub shown: String,
    pub reason: String,
    pub owner: String,
    pub since: String,
    pub until: Option<String>,
    pub keeps: bool,
}

/// Sets a tag's value by hand: it counts, whatever the source says, and is marked everywhere.
#[utoipa::path(responses((status = 204), (status = 422, body = Problem)))]
#[put("/api/tags/{id}/by-hand")]
pub async fn set_by_hand(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<HandBody>) -> Result<HttpResponse, Problem> {
    let plant = person.plant(&app);
    let tag = plant.tags.get(&id).ok_or_else(|| Problem::missing("tag"))?;
    let actor = person.may_at(Action::SetByHand, Some(tag.set.place))?;
    let until = body.until.as_deref().map(|until| time("until", until)).transpose()?;
    let reason = text("reason", &body.reason, LONGEST_REASON)?.to_owned();
    let wish = ByHandWish {
        value: plant.said(&tag.set, &body.value).map_err(|words| Problem::field("value", words))?,
        reason,
        until,
        keeps: body.keeps,
    };
    app.live.set_by_hand(*id, wish, actor).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Lets the source speak for a tag again.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/tags/{id}/by-hand")]
pub async fn release(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    let place = person.plant(&app).tags.get(&id).map(|t| t.set.place);
    let actor = person.may_at(Action::SetByHand, place)?;
    if place.is_none() {
        // What is set by hand on a tag that is gone concerns everybody.
        person.of_everything()?;
    }
    if !app.live.release(*id, actor).await? {
        return Err(Problem::missing("value set by hand for this tag"));
    }
    Ok(HttpResponse::NoContent().finish())
}

/// Every value that is set by hand now, the oldest first.
#[utoipa::path(responses((status = 200, body = Vec<HandView>)))]
#[get("/api/by-hand")]
pub async fn by_hand(app: Data<App>, person: Person) -> Result<Json<Vec<HandView>>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let view = |hand: havrel_db::by_hand::ByHand| {
        let tag = plant.tags.get(&hand.tag)?;
        Some(HandView {
            tag: hand.tag,
            no: tag.no,
            title: plant.tag_path(&tag.set),
            place: tag.set.place,
            value: hand.value.to_json(),
            shown: format!("{} {}", plant.print(&tag.set, &hand.value), tag.set.unit).trim().to_owned(),
            reason: hand.reason,
            owner: hand.actor,
            since: to_text(hand.since),
            until: hand.until.map(to_text),
            keeps: hand.keeps,
        })
    };
    Ok(Json(app.live.hands().into_iter().filter_map(view).collect()))
}
