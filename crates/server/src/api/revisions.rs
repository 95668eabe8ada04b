//! Revisions: what they changed, how two differ, taking one back, going back to one.

use super::{
    classes::shown_class,
    plant::{Committed, seen},
};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpRequest, get,
    http::StatusCode,
    post,
    web::{Data, Query},
};
use havrel_core::{
    access::Action,
    plant::{
        Change, Edit, Message, Own, Plant, formula_texts,
        secret::{masked, masked_own},
        undo::{self, Conflict, Undo},
    },
    time::to_text,
};
use havrel_db::config::By;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json_;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Which revision to take back.
#[derive(Deserialize, ToSchema)]
pub struct UndoBody {
    pub revision: i64,
    /// Conflicts that are put back all the same; the others stay as they are now.
    #[serde(default)]
    pub put_back: Vec<FieldName>,
}

/// A field of an item; without a field name the whole item.
#[derive(Deserialize, ToSchema)]
pub struct FieldName {
    pub id: Uuid,
    #[serde(default)]
    pub field: String,
}

/// What an undo would do.
#[derive(Serialize, ToSchema)]
pub struct UndoView {
    /// How many items go back.
    pub items: usize,
    /// What later revisions have touched.
    pub conflicts: Vec<ConflictView>,
}

/// Something an undo would overwrite that a later revision has written.
#[derive(Serialize, ToSchema)]
pub struct ConflictView {
    pub kind: String,
    pub id: Uuid,
    pub title: String,
    /// Empty where the whole item is meant.
    pub field: String,
    #[schema(value_type = Object, nullable)]
    pub now: Json_,
    #[schema(value_type = Object, nullable)]
    pub back: Json_,
    /// Whether it can be put back all the same.
    pub can: bool,
}

async fn undo_plan(app: &App, body: &UndoBody) -> Result<Undo, Problem> {
    let changes = app.live.db.changes_of(body.revision).await?;
    if changes.is_empty() {
        return Err(Problem::missing("revision"));
    }
    let overrule = body.put_back.iter().map(|f| (f.id, f.field.clone())).collect();
    Ok(undo::undo(&app.live.plant(), &changes, &overrule))
}

/// Tells what taking back a revision would do, and what later revisions have touched.
#[utoipa::path(responses((status = 200, body = UndoView), (status = 404, body = Problem)))]
#[post("/api/undo/plan")]
pub async fn plan_undo(app: Data<App>, person: Person, body: Json<UndoBody>) -> Result<Json<UndoView>, Problem> {
    person.may(Action::Configure)?;
    let plan = undo_plan(&app, &body).await?;
    let view = |c: Conflict| ConflictView {
        kind: c.kind.name().into(),
        id: c.id,
        title: c.title,
        field: c.field,
        now: masked(c.now),
        back: masked(c.back),
        can: c.can,
    };
    Ok(Json(UndoView { items: plan.edits.len(), conflicts: plan.conflicts.into_iter().take(1000).map(view).collect() }))
}

/// Takes back any revision, as a new revision. What later revisions have touched stays as it is, unless it is named.
#[utoipa::path(responses((status = 200, body = Committed), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/api/undo")]
pub async fn take_back(app: Data<App>, person: Person, body: Json<UndoBody>) -> Result<Json<Committed>, Problem> {
    let actor = person.may(Action::Configure)?;
    let plan = undo_plan(&app, &body).await?;
    let why = format!("Undid revision {}", body.revision);
    let by = By { account: Some(actor.account), actor: actor.name.clone(), why, undoes: Some(body.revision) };
    let plant = app.live.commit(&plan.edits, &by).await?;
    Ok(Json(Committed { revision: plant.revision }))
}

/// Which revision to go back to.
#[derive(Deserialize, ToSchema)]
pub struct GoBackBody {
    pub revision: i64,
}

/// Makes everything as it was at an earlier revision, as a new revision. `If-Match` carries the newest revision that the
/// person saw.
#[utoipa::path(params(("If-Match" = String, Header, description = "The newest revision that was seen")),
    responses((status = 200, body = Committed), (status = 412, body = Problem), (status = 422, body = Problem)))]
#[post("/api/revisions/return")]
pub async fn go_back(
    app: Data<App>,
    person: Person,
    request: HttpRequest,
    body: Json<GoBackBody>,
) -> Result<Json<Committed>, Problem> {
    let actor = person.may(Action::Configure)?;
    let newest = app.live.plant().revision;
    if seen(&app, &request)? != newest {
        let words = format!("Revision {newest} was made meanwhile; look at it before you go back.");
        return Err(Problem::new(StatusCode::PRECONDITION_FAILED, words));
    }
    if !(0..newest).contains(&body.revision) {
        return Err(Problem::field("revision", format!("Give an earlier revision than {newest}.")));
    }
    let changes = app.live.db.changes_between(body.revision, newest).await?;
    let edits: Vec<Edit> = undo::go_back(&changes).into_iter().map(|e| Edit { seen: Some(newest), ..e }).collect();
    let why = format!("Went back to revision {}", body.revision);
    let by = By { account: Some(actor.account), actor: actor.name.clone(), why, undoes: None };
    let plant = app.live.commit(&edits, &by).await?;
    Ok(Json(Committed { revision: plant.revision }))
}

/// Which revisions to compare.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct CompareQuery {
    /// The earlier one; 0 is the empty plant.
    pub from: i64,
    /// The later one.
    pub to: i64,
}

/// How two revisions differ.
#[derive(Serialize, ToSchema)]
pub struct CompareView {
    /// Up to 1,000 items.
    pub changes: Vec<ChangeView>,
    pub total: usize,
}

/// Tells what differs between two revisions, whatever lies between them.
#[utoipa::path(params(CompareQuery), responses((status = 200, body = CompareView), (status = 422, body = Problem)))]
#[get("/api/revisions/compare")]
pub async fn compare(app: Data<App>, person: Person, query: Query<CompareQuery>) -> Result<Json<CompareView>, Problem> {
    person.may(Action::See)?;
    person.of_everything()?;
    let _turn = app.limits.heavy().await?;
    let plant = app.live.plant();
    if query.from < 0 || query.from >= query.to || query.to > plant.revision {
        return Err(Problem::field("to", format!("Compare an earlier revision with a later one, up to {}.", plant.revision)));
    }
    let net = undo::net(&app.live.db.changes_between(query.from, query.to).await?);
    let total = net.len();
    Ok(Json(CompareView { changes: net.into_iter().take(1000).map(|c| change_view(&plant, c)).collect(), total }))
}

/// One revision.
#[derive(Serialize, ToSchema)]
pub struct RevisionView {
    pub number: i64,
    pub at: String,
    pub actor: String,
    pub why: String,
    pub undoes: Option<i64>,
    /// What it did to each item: up to 200 of them.
    pub changes: Vec<ChangeView>,
    pub total: i64,
}

/// What a revision did to one item; only fields that changed.
#[derive(Serialize, ToSchema)]
pub struct ChangeView {
    pub kind: String,
    pub id: Uuid,
    /// Its name, then or now.
    pub title: String,
    #[schema(value_type = Option<Object>)]
    pub before: Option<Own>,
    #[schema(value_type = Option<Object>)]
    pub after: Option<Own>,
}

/// Which revisions.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RevisionQuery {
    /// Only older than this one.
    pub before: Option<i64>,
    /// At most 50.
    pub limit: Option<i64>,
}

/// Lists revisions, newest first, with what they changed.
#[utoipa::path(params(RevisionQuery), responses((status = 200, body = Vec<RevisionView>)))]
#[get("/api/revisions")]
pub async fn revisions(app: Data<App>, person: Person, query: Query<RevisionQuery>) -> Result<Json<Vec<RevisionView>>, Problem> {
    person.may(Action::See)?;
    person.of_everything()?;
    let plant = app.live.plant();
    let mut views = Vec::new();
    let found = app.live.db.revisions(query.before.unwrap_or(i64::MAX), query.limit.unwrap_or(20).min(50)).await?;
    for revision in found {
        let changes = app.live.db.changes_of(revision.number).await?;
        views.push(RevisionView {
            number: revision.number,
            at: to_text(revision.at),
            actor: revision.actor,
            why: revision.why,
            undoes: revision.undoes,
            total: revision.changes,
            changes: changes.into_iter().take(200).map(|c| change_view(&plant, c)).collect(),
        });
    }
    Ok(Json(views))
}

fn change_view(plant: &Plant, c: Change) -> ChangeView {
    let field = |own: &Option<Own>| own.as_ref().and_then(|o| o.get("name")).and_then(Json_::as_str).map(str::to_owned);
    let now = plant.title(c.kind, c.id);
    let title = if now.is_empty() { field(&c.after).or_else(|| field(&c.before)).unwrap_or_default() } else { now };
    let out = |own: Option<Own>| {
        let mut own = masked_own(own.as_ref()?);
        for field in c.kind.messages() {
            if let Some(said) = own.get_mut(*field) {
                let message = serde_json::from_value::<Message>(said.clone()).unwrap_or_default();
                *said = plant.message_shown(&message, None).into();
            }
        }
        for (_, text) in formula_texts(c.kind, &mut own) {
            *text = plant.formula_shown(text);
        }
        match shown_class(plant, c.id, Json_::Object(own)) {
            Json_::Object(own) => Some(own),
            _ => None,
        }
    };
    ChangeView { kind: c.kind.name().into(), id: c.id, title, before: out(c.before), after: out(c.after) }
}
