//! Current values, and writing them.

use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get, post,
    web::{Data, Path, Query},
};
use havrel_core::{access::Action, engine::Current, quality::Reason, sample::Value, time::to_text};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json_;
use std::sync::PoisonError;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// The newest that is known of a tag.
#[derive(Clone, Serialize, ToSchema)]
pub struct ValueView {
    /// The tag's number.
    pub no: u32,
    /// Boolean, number or text; integers beyond 2^53 as text; null before the first.
    #[schema(value_type = Object, nullable)]
    pub value: Json_,
    /// When the value was; empty before the first.
    pub time: String,
    /// `good`, `uncertain` or `bad`.
    pub quality: String,
    /// Why.
    pub reason: String,
    /// When the quality was told last.
    pub told: String,
    /// Somebody set it by hand.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub by_hand: bool,
}

impl ValueView {
    /// Shows a tag's newest; `title` gives the path of a tag that whoever sees it may see.
    pub fn of(no: u32, current: &Current, title: &dyn Fn(Uuid) -> Option<String>) -> ValueView {
        let text = |at: i64| if at == 0 { String::new() } else { to_text(at) };
        let quality = match current.quality.class() {
            havrel_core::quality::Class::Good => "good",
            havrel_core::quality::Class::Uncertain => "uncertain",
            havrel_core::quality::Class::Bad => "bad",
        };
        ValueView {
            no,
            value: current.value.as_ref().map_or(Json_::Null, Value::to_json),
            time: text(current.time),
            quality: quality.into(),
            reason: match current.cause {
                Some(cause) => cause.words(title),
                None => current.quality.reason().words().into(),
            },
            told: text(current.told),
            by_hand: current.quality.reason() == Reason::ByHand,
        }
    }
}

/// Which tags.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ValueQuery {
    /// Numbers of tags, joined by commas, at most 1,000.
    pub tags: String,
}

/// Reads current values.
#[utoipa::path(params(ValueQuery), responses((status = 200, body = Vec<ValueView>)))]
#[get("/api/values")]
pub async fn newest(app: Data<App>, person: Person, query: Query<ValueQuery>) -> Result<Json<Vec<ValueView>>, Problem> {
    person.may(Action::See)?;
    let numbers = query.tags.split(',').take(1000).map(|n| n.trim().parse::<u32>());
    let numbers: Vec<u32> =
        numbers.collect::<Result<_, _>>().map_err(|_| Problem::field("tags", "Give numbers of tags, joined by commas."))?;
    let numbers = person.heard(&app, numbers);
    let plant = person.plant(&app);
    let title = |id: Uuid| plant.tags.get(&id).map(|tag| plant.tag_path(&tag.set));
    if let Some(then) = &person.then {
        let held = then.values(&app, &numbers).await?;
        return Ok(Json(numbers.iter().zip(&held).map(|(&no, current)| ValueView::of(no, current, &title)).collect()));
    }
    let values = app.live.values.read().unwrap_or_else(PoisonError::into_inner);
    Ok(Json(numbers.iter().filter_map(|&no| Some(ValueView::of(no, &values.of(no)?.current, &title))).collect()))
}

/// A value to write.
#[derive(Deserialize, ToSchema)]
pub struct WriteBody {
    /// In engineering units: boolean, number or text; for a tag with state names also the name of one.
    #[schema(value_type = Object)]
    pub value: Json_,
}

/// What was written.
#[derive(Serialize, ToSchema)]
pub struct Written {
    #[schema(value_type = Object, nullable)]
    pub before: Json_,
    /// What the device held when read back.
    #[schema(value_type = Object)]
    pub value: Json_,
}

/// Writes a value to the device and reads it back. The journal says what is asked for before it is done, and what came of it.
#[utoipa::path(responses((status = 200, body = Written), (status = 422, body = Problem), (status = 502, body = Problem)))]
#[post("/api/tags/{id}/write")]
pub async fn write(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<WriteBody>) -> Result<Json<Written>, Problem> {
    let plant = person.plant(&app);
    let tag = plant.tags.get(&id).ok_or_else(|| Problem::missing("tag"))?;
    let actor = person.may_at(Action::Write, Some(tag.set.place))?;
    let value = plant.said(&tag.set, &body.value).map_err(|words| Problem::field("value", words))?;
    let (before, result) = app.live.write_down(Some(actor), *id, value, &body.value).await?;
    Ok(Json(Written { before, value: result?.to_json() }))
}
