//! Tables and the whole plant as files: out, compared with what is there, and in. Comparing is a job; nothing changes before
//! somebody has seen the difference and says so.

use super::{
    plant::Committed,
    table::{self, kind_of},
};
use crate::{
    app::App,
    auth::Person,
    body::{self, Json},
    compared::{Compared, State},
    problem::Problem,
};
use actix_web::{
    HttpResponse, delete, get,
    http::{StatusCode, header},
    post,
    web::{Data, Path, Payload, Query, block},
};
use havrel_core::{access::Action, plant::Kind};
use havrel_db::config::By;
use havrel_jobs::{
    sheet::{self, MOST_SHOWN, Mark, NoPlan, Outcome, Wrong},
    whole,
};
use havrel_link::Kinds;
use serde::{Deserialize, Serialize};
use std::sync::{Arc, Mutex, PoisonError};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Most bytes of a file.
const MOST_BYTES: usize = 64 << 20;
fn stopping<E>(_: E) -> Problem {
    Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.")
}

/// Which items, and how they are written.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct TableFileQuery {
    /// Only under this place.
    pub under: Option<Uuid>,
    /// What parts the cells: `comma` (the default), `semicolon` or `tab`.
    pub mark: Option<String>,
}

/// The table of places, tags or alarm rules as CSV in UTF-8.
#[utoipa::path(params(TableFileQuery), responses((status = 200, content_type = "text/csv", body = String)))]
#[get("/api/tables/{kind}/file")]
pub async fn table_file(
    app: Data<App>,
    person: Person,
    kind: Path<String>,
    query: Query<TableFileQuery>,
) -> Result<HttpResponse, Problem> {
    person.may_at(Action::See, query.under)?;
    let kind = kind_of(&kind)?;
    let mark = Mark::from_name(query.mark.as_deref().unwrap_or("comma"));
    let mark = mark.ok_or_else(|| Problem::field("mark", "The separator is a comma, a semicolon or a tab."))?;
    let (plant, under) = (person.plant(&app), query.under);
    let written = block(move || sheet::write(&plant, kind, under, mark)).await.map_err(stopping)?;
    let bytes = written.map_err(|e| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, e.to_string()))?;
    Ok(attachment("text/csv; charset=utf-8", &format!("{}s.csv", kind.name()), bytes))
}

/// The whole configuration as JSON.
#[utoipa::path(responses((status = 200, content_type = "application/json", body = String)))]
#[get("/api/plant/file")]
pub async fn plant_file(app: Data<App>, person: Person) -> Result<HttpResponse, Problem> {
    person.may(Action::Configure)?;
    let plant = person.plant(&app);
    let written = block(move || whole::write(&plant)).await.map_err(stopping)?;
    let bytes = written.map_err(|e| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, e.to_string()))?;
    Ok(attachment("application/json", "plant.json", bytes))
}

/// A class as JSON, with the classes and state names that it needs; taken in like the file of a whole plant.
#[utoipa::path(responses((status = 200, content_type = "application/json", body = String)))]
#[get("/api/classes/{id}/file")]
pub async fn class_file(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    person.may(Action::Configure)?;
    let plant = person.plant(&app);
    let class = plant.classes.get(&id).ok_or_else(|| Problem::missing("class"))?;
    let bytes = whole::write_class(&plant, class.id);
    let bytes = bytes.map_err(|e| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, e.to_string()))?;
    Ok(attachment("application/json", "class.json", bytes))
}

pub(super) fn attachment(kind: &str, name: &str, bytes: Vec<u8>) -> HttpResponse {
    let shown = format!("attachment; filename=\"{name}\"");
    HttpResponse::Ok().content_type(kind).insert_header((header::CONTENT_DISPOSITION, shown)).body(bytes)
}

/// What a file holds, and how it is to be taken.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct FileQuery {
    /// `place`, `tag` or `rule` for CSV, `plant` for the whole configuration as JSON.
    pub what: String,
    /// Items that are not in the file go.
    pub remove: Option<bool>,
    /// With `remove`: only those under this place.
    pub under: Option<Uuid>,
}

/// Where the comparison is found.
#[derive(Serialize, ToSchema)]
pub struct Comparing {
    pub id: Uuid,
}

/// Compares a file with the plant, as a job. Nothing is changed.
#[utoipa::path(params(FileQuery), request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = Comparing), (status = 413, body = Problem)))]
#[post("/api/files")]
pub async fn compare_file(
    app: Data<App>,
    person: Person,
    query: Query<FileQuery>,
    body: Payload,
) -> Result<Json<Comparing>, Problem> {
    person.may(Action::Configure)?;
    let kind = match query.what.as_str() {
        "plant" => None,
        name => Some(kind_of(name)?),
    };
    // Its turn comes before its bytes: files that wait for theirs would lie in memory meanwhile.
    let turn = app.limits.heavy().await?;
    let bytes = body::whole(body, MOST_BYTES).await?;
    drop(turn);
    let what = match kind {
        None => "the plant".to_owned(),
        Some(kind) => format!("{}s", if kind == Kind::Rule { "alarm rule" } else { kind.name() }),
    };
    let file = Arc::new(Compared { id: Uuid::now_v7(), job: Mutex::default(), what, state: Mutex::new(State::Working) });
    app.files.keep(file.clone());
    let id = file.id;
    let (remove, under) = (query.remove.unwrap_or(false), query.under);
    let told = file.clone();
    actix_web::rt::spawn(async move {
        // One after the other: large comparisons take memory.
        let Ok(_turn) = app.heavy.acquire().await else { return };
        let live = app.live.clone();
        let found = block(move || {
            let lines = bytes.iter().filter(|b| **b == b'\n').count() as u64;
            let job = live.jobs.begin(&format!("Comparing a file of {}", file.what), lines);
            *file.job.lock().unwrap_or_else(PoisonError::into_inner) = Some(job.id);
            let plant = live.plant();
            let mut watch = |share: f64| job.go_on(share);
            let found = match kind {
                None => whole::compare(&plant, &bytes, remove, &Kinds, &mut watch),
                Some(kind) => sheet::read(&bytes, kind).map_err(NoPlan::Wrong).and_then(|read| {
                    let remove = remove.then_some(under);
                    sheet::compare(&plant, kind, &read, remove, &Kinds, &mut Uuid::now_v7, &mut watch)
                }),
            };
            *file.state.lock().unwrap_or_else(PoisonError::into_inner) = match found {
                Ok(plan) => State::Ready(Arc::new(plan)),
                Err(NoPlan::Wrong(mut wrong)) => {
                    wrong.truncate(MOST_SHOWN);
                    State::Wrong(wrong)
                }
                Err(NoPlan::Cancelled) => State::Stopped,
            };
        })
        .await;
        if let Err(error) = found {
            tracing::warn!(%error, "a file could not be compared");
            // Nobody shall wait for it for ever.
            *told.state.lock().unwrap_or_else(PoisonError::into_inner) = State::Stopped;
        }
    });
    Ok(Json(Comparing { id }))
}

/// Something wrong with a file.
#[derive(Serialize, ToSchema)]
pub struct WrongLine {
    /// The line, counted from 1; 0 where the whole file is meant.
    pub line: u64,
    pub column: String,
    pub message: String,
}

/// One cell that becomes different.
#[derive(Serialize, ToSchema)]
pub struct CellView {
    pub column: String,
    pub before: String,
    pub after: String,
}

/// One item that becomes different.
#[derive(Serialize, ToSchema)]
pub struct DifferenceView {
    /// `added`, `changed` or `removed`.
    pub outcome: &'static str,
    pub kind: &'static str,
    pub title: String,
    pub cells: Vec<CellView>,
}

/// How many items of a kind become so.
#[derive(Serialize, ToSchema)]
pub struct CountView {
    pub outcome: &'static str,
    pub kind: &'static str,
    pub count: usize,
}

/// A file beside the plant.
#[derive(Serialize, ToSchema)]
pub struct FileView {
    /// `working`, `wrong`, `ready` or `stopped`.
    pub state: &'static str,
    /// Lines that are compared, of how many.
    pub done: u64,
    pub total: u64,
    pub wrong: Vec<WrongLine>,
    pub counts: Vec<CountView>,
    pub unchanged: usize,
    /// The revision it was compared with.
    pub revision: i64,
    /// The first two thousand differences.
    pub differences: Vec<DifferenceView>,
}

const fn outcome_name(outcome: Outcome) -> &'static str {
    match outcome {
        Outcome::Added => "added",
        Outcome::Changed => "changed",
        Outcome::Removed => "removed",
    }
}

/// What taking a file in would do, or how far the comparison is.
#[utoipa::path(responses((status = 200, body = FileView), (status = 404, body = Problem)))]
#[get("/api/files/{id}")]
pub async fn compared_file(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<FileView>, Problem> {
    person.may(Action::Configure)?;
    let file = app.files.find(*id)?;
    let job = *file.job.lock().unwrap_or_else(PoisonError::into_inner);
    let running = app.live.jobs.running().into_iter().find(|j| Some(j.id) == job);
    let (done, total) = running.map_or((0, 0), |j| j.progress());
    let mut view = FileView {
        state: "working",
        done,
        total,
        wrong: Vec::new(),
        counts: Vec::new(),
        unchanged: 0,
        revision: 0,
        differences: Vec::new(),
    };
    match &*file.state.lock().unwrap_or_else(PoisonError::into_inner) {
        State::Working => {}
        State::Stopped => view.state = "stopped",
        State::Wrong(wrong) => {
            view.state = "wrong";
            let one = |w: &Wrong| WrongLine { line: w.line, column: w.column.clone(), message: w.message.clone() };
            view.wrong = wrong.iter().map(one).collect();
        }
        State::Ready(plan) => {
            view.state = "ready";
            (view.unchanged, view.revision) = (plan.unchanged, plan.revision);
            let mut counts: Vec<_> = plan.counts.iter().collect();
            counts.sort_by_key(|((outcome, kind), _)| (*outcome, Kind::ALL.iter().position(|k| k == kind)));
            let count = |(&(outcome, kind), &count): (&(Outcome, Kind), &usize)| CountView {
                outcome: outcome_name(outcome),
                kind: kind.name(),
                count,
            };
            view.counts = counts.into_iter().map(count).collect();
            let cell = |(column, before, after): &(String, String, String)| CellView {
                column: column.clone(),
                before: before.clone(),
                after: after.clone(),
            };
            let difference = |d: &sheet::Difference| DifferenceView {
                outcome: outcome_name(d.outcome),
                kind: d.kind.name(),
                title: d.title.clone(),
                cells: d.cells.iter().map(cell).collect(),
            };
            view.differences = plan.differences.iter().map(difference).collect();
        }
    }
    Ok(Json(view))
}

/// Why a file is taken in.
#[derive(Deserialize, ToSchema)]
pub struct TakeFile {
    /// Stands in the journal.
    pub why: String,
}

/// Takes a file in as it was compared, as one revision. What was changed meanwhile by somebody else is not overwritten.
#[utoipa::path(request_body = TakeFile, responses((status = 200, body = Committed), (status = 412, body = Problem)))]
#[post("/api/files/{id}/take")]
pub async fn take_file(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<TakeFile>) -> Result<Json<Committed>, Problem> {
    let actor = person.may(Action::Configure)?;
    let file = app.files.find(*id)?;
    table::check_why(&body.why)?;
    let plan = match &*file.state.lock().unwrap_or_else(PoisonError::into_inner) {
        State::Ready(plan) => plan.clone(),
        _ => return Err(Problem::new(StatusCode::CONFLICT, "The file is not compared yet, or something is wrong with it.")),
    };
    let by = By { account: Some(actor.account), actor: actor.name.clone(), why: body.why.clone(), undoes: None };
    let plant = app.live.commit(&plan.edits, &by).await?;
    app.files.forget(file.id);
    Ok(Json(Committed { revision: plant.revision }))
}

/// Stops comparing a file, and forgets it.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/files/{id}")]
pub async fn forget_file(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    person.may(Action::Configure)?;
    let file = app.files.find(*id)?;
    if let Some(job) = *file.job.lock().unwrap_or_else(PoisonError::into_inner) {
        app.live.jobs.cancel(job);
    }
    app.files.forget(file.id);
    Ok(HttpResponse::NoContent().finish())
}
