//! What people leave on trends for others: notes, and trends kept under a name.

use super::{history::read_name, period, time};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpResponse, delete, get, post,
    web::{Data, Path},
};
use havrel_core::{
    access::{Action, Role, may},
    plant::Plant,
    time::to_text,
};
use havrel_db::remarks::{Asks, KeptQuestion, MOST_KEPT};
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;
use uuid::Uuid;

/// Longest note, in characters.
const LONGEST_NOTE: usize = 2000;
/// Longest name of a kept trend, in characters.
pub(super) const LONGEST_NAME: usize = 80;
/// Most tags in one trend.
const MOST_TAGS: usize = 50;
/// Longest trend, in seconds: fifty years.
const LONGEST_SPAN: f64 = 50.0 * 366.0 * 86_400.0;
/// The last instant that a browser knows, in milliseconds (ECMA-262, time values).
const LAST_INSTANT: f64 = 8.64e15;

/// Notes on which tags, and when.
#[derive(Deserialize, ToSchema)]
pub struct NoteQuestion {
    /// At most 50.
    pub tags: Vec<Uuid>,
    pub from: String,
    pub to: String,
}

/// A note at an instant of a tag.
#[derive(Serialize, ToSchema)]
pub struct NoteView {
    pub id: Uuid,
    pub tag: Uuid,
    pub at: String,
    pub text: String,
    pub actor: String,
    pub made_at: String,
    /// Whether whoever asks may take it away.
    pub removable: bool,
}

/// A note to be written.
#[derive(Deserialize, ToSchema)]
pub struct NewNote {
    pub tag: Uuid,
    pub at: String,
    /// 1 to 2,000 characters.
    pub text: String,
}

/// What was made.
#[derive(Serialize, ToSchema)]
pub struct Made {
    pub id: Uuid,
}

/// Whose marks somebody may take away: engineers of the whole plant anybody's, the others their own.
pub(super) fn whose(person: &Person) -> Option<Uuid> {
    let anybodys = person.actor.role == Role::Engineer && person.scope.is_everything();
    (!anybodys).then_some(person.actor.account)
}

/// Whether somebody may take a mark of an account away.
pub(super) fn removable(person: &Person, account: Uuid) -> bool {
    may(&person.actor, Action::Remark, None) && whose(person).is_none_or(|own| own == account)
}

pub(super) fn text<'a>(field: &str, given: &'a str, longest: usize) -> Result<&'a str, Problem> {
    let given = given.trim();
    if given.is_empty() {
        return Err(Problem::field(field, "Write something."));
    }
    if given.chars().count() > longest {
        return Err(Problem::field(field, format!("At most {longest} characters.")));
    }
    if given.contains('\0') {
        return Err(Problem::field(field, "A character in it cannot be stored."));
    }
    Ok(given)
}

/// Notes on tags in a period, oldest first, the newest 500 at most.
#[utoipa::path(responses((status = 200, body = Vec<NoteView>)))]
#[post("/api/notes/find")]
pub async fn find_notes(app: Data<App>, person: Person, body: Json<NoteQuestion>) -> Result<Json<Vec<NoteView>>, Problem> {
    person.may(Action::See)?;
    if body.tags.len() > MOST_TAGS {
        return Err(Problem::field("tags", format!("Ask for at most {MOST_TAGS} tags at once.")));
    }
    let (from, to) = period(&body.from, &body.to)?;
    let plant = person.plant(&app);
    let tags: Vec<Uuid> = match person.scope.is_everything() {
        true => body.tags.clone(),
        false => body.tags.iter().copied().filter(|tag| plant.tags.contains_key(tag)).collect(),
    };
    let found = app.live.db.notes(&tags, from, to).await?;
    let view = |n: havrel_db::remarks::Note| NoteView {
        id: n.id,
        tag: n.tag,
        at: to_text(n.at),
        text: n.text,
        removable: removable(&person, n.account),
        actor: n.actor,
        made_at: to_text(n.made_at),
    };
    Ok(Json(found.into_iter().map(view).collect()))
}

/// Writes a note.
#[utoipa::path(responses((status = 200, body = Made), (status = 422, body = Problem)))]
#[post("/api/notes")]
pub async fn add_note(app: Data<App>, person: Person, body: Json<NewNote>) -> Result<Json<Made>, Problem> {
    let plant = person.plant(&app);
    let tag = plant.tags.get(&body.tag).ok_or_else(|| Problem::field("tag", "This tag does not exist."))?;
    let actor = person.may_at(Action::Remark, Some(tag.set.place))?;
    let (at, text) = (time("at", &body.at)?, text("text", &body.text, LONGEST_NOTE)?);
    let id = Uuid::now_v7();
    app.live.db.add_note(id, tag.id, at, text, actor).await?;
    let title = format!("Noted on {}: {text}", tag.set.name);
    app.live.note("note", Some(actor), Some(tag.id), &title, json!({"at": to_text(at)})).await?;
    Ok(Json(Made { id }))
}

/// Takes a note away: its writer, or an engineer.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/notes/{id}")]
pub async fn remove_note(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Remark)?;
    let removed = app.live.db.remove_note(*id, whose(&person)).await?;
    let (tag, text) = removed.ok_or_else(|| Problem::missing("note of yours"))?;
    app.live.note("note", Some(actor), Some(tag), &format!("Removed a note: {text}"), json!({})).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// What a trend shows.
#[derive(Deserialize, Serialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TrendSet {
    /// 1 to 50, each named as questions to history name it.
    pub tags: Vec<String>,
    /// Its length, in seconds.
    pub span: f64,
    /// Its end where it stands still, and its cursors, in milliseconds since the epoch.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub end: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub a: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub b: Option<f64>,
    /// Seconds by which what is compared lies earlier.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub earlier: Option<f64>,
}

/// A trend to be kept.
#[derive(Deserialize, ToSchema)]
pub struct NewTrend {
    /// 1 to 80 characters. A kept trend of the same name is replaced if `replace` says so.
    pub name: String,
    pub trend: TrendSet,
    pub replace: Option<bool>,
}

/// A kept trend.
#[derive(Serialize, ToSchema)]
pub struct TrendView {
    pub id: Uuid,
    pub name: String,
    #[schema(value_type = TrendSet)]
    pub trend: serde_json::Value,
    pub actor: String,
    pub made_at: String,
    /// Whether whoever asks may forget it.
    pub removable: bool,
}

/// Whether all that a kept trend shows is seen.
pub(super) fn shows_only_seen(person: &Person, plant: &Plant, trend: &serde_json::Value) -> bool {
    let seen = |tag: &serde_json::Value| tag.as_str().and_then(read_name).is_some_and(|(id, _)| plant.tags.contains_key(&id));
    person.scope.is_everything() || trend["tags"].as_array().is_some_and(|tags| tags.iter().all(seen))
}

/// All kept trends by name.
#[utoipa::path(responses((status = 200, body = Vec<TrendView>)))]
#[get("/api/trends")]
pub async fn kept_trends(app: Data<App>, person: Person) -> Result<Json<Vec<TrendView>>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let view = |k: KeptQuestion| TrendView {
        id: k.id,
        name: k.name,
        trend: k.question,
        removable: removable(&person, k.account),
        actor: k.actor,
        made_at: to_text(k.made_at),
    };
    let kept = app.live.db.kept_questions(Asks::Trend).await?.into_iter();
    Ok(Json(kept.filter(|k| shows_only_seen(&person, &plant, &k.question)).map(view).collect()))
}

/// Keeps a question under a name.
pub(super) async fn keep(
    app: &App,
    person: &Person,
    asks: Asks,
    name: &str,
    question: &serde_json::Value,
    replace: bool,
) -> Result<Uuid, Problem> {
    let over = replace.then(|| whose(person));
    if let Some(id) = app.live.db.keep_question(asks, name, question, &person.actor, over).await? {
        return Ok(id);
    }
    let all = app.live.db.kept_questions(asks).await?;
    let words = match all.into_iter().find(|k| k.name.to_lowercase() == name.to_lowercase()) {
        Some(_) if !person.scope.is_everything() => "This name is taken. Choose another name.".to_owned(),
        Some(taken) if removable(person, taken.account) => {
            format!("“{}” was already saved by {}. Choose another name, or replace it.", taken.name, taken.actor)
        }
        Some(taken) => format!("“{}” belongs to {}. Choose another name.", taken.name, taken.actor),
        None => format!("{MOST_KEPT} of these are saved already; delete one first."),
    };
    Err(Problem::field("name", words))
}

/// Keeps a trend under a name.
#[utoipa::path(responses((status = 200, body = Made), (status = 422, body = Problem)))]
#[post("/api/trends")]
pub async fn keep_trend(app: Data<App>, person: Person, body: Json<NewTrend>) -> Result<Json<Made>, Problem> {
    let actor = person.may(Action::Remark)?;
    let name = text("name", &body.name, LONGEST_NAME)?;
    let set = &body.trend;
    if set.tags.is_empty() || set.tags.len() > MOST_TAGS {
        return Err(Problem::field("trend.tags", format!("A trend shows 1 to {MOST_TAGS} tags.")));
    }
    if !(0.1..=LONGEST_SPAN).contains(&set.span) || set.earlier.is_some_and(|by| !(0.0..=LONGEST_SPAN).contains(&by)) {
        return Err(Problem::field("trend.span", "A trend covers a tenth of a second to fifty years."));
    }
    if [set.end, set.a, set.b].into_iter().flatten().any(|at| at.abs() > LAST_INSTANT) {
        return Err(Problem::field("trend.end", "There is no such time."));
    }
    if set.tags.iter().any(|name| read_name(name).is_none()) || !shows_only_seen(&person, &person.plant(&app), &json!(set)) {
        return Err(Problem::field("trend.tags", "One of the tags does not exist."));
    }
    let id = keep(&app, &person, Asks::Trend, name, &json!(set), body.replace.unwrap_or(false)).await?;
    app.live.note("trend", Some(actor), Some(id), &format!("Saved the trend “{name}”"), json!({})).await?;
    Ok(Json(Made { id }))
}

/// Forgets a kept trend: whoever kept it, or an engineer.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/trends/{id}")]
pub async fn forget_trend(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Remark)?;
    let forgotten = app.live.db.forget_question(Asks::Trend, *id, whose(&person)).await?;
    let name = forgotten.ok_or_else(|| Problem::missing("saved trend of yours"))?;
    app.live.note("trend", Some(actor), Some(*id), &format!("Deleted the trend “{name}”"), json!({})).await?;
    Ok(HttpResponse::NoContent().finish())
}
