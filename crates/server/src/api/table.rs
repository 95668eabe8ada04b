//! Places, tags and alarm rules as tables: their columns, and cells that were written.

use crate::{
    app::App,
    auth::Person,
    body::{Json, large},
    problem::{Problem, Wrong},
};
use actix_web::{
    get,
    http::StatusCode,
    post,
    web::{Data, Path, Payload, block},
};
use havrel_core::{
    access::Action,
    plant::{
        Edit, Kind, Plant, edit,
        table::{self, Cell, LimitPart, Planned, Row, Trouble, Written},
    },
};
use havrel_db::config::{By, CommitError};
use havrel_link::Kinds;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;
use utoipa::ToSchema;
use uuid::Uuid;

/// A column of a table.
#[derive(Serialize, ToSchema)]
pub struct ColumnView {
    /// Its name in files and requests.
    pub key: &'static str,
    /// What stands at its head.
    pub title: &'static str,
    /// `text`, `number`, `whole`, `yes_no`, `choice`, `unit`, `states`, `place`, `connection`, `group`, `tag` or `rest`.
    pub cell: &'static str,
    /// The words of a choice.
    pub choices: Vec<&'static str>,
}

/// The kind whose table a path names.
pub(super) fn kind_of(name: &str) -> Result<Kind, Problem> {
    let kind = Kind::from_name(name).filter(|&k| !table::columns(k).is_empty());
    kind.ok_or_else(|| Problem::missing("table; there are place, tag and rule"))
}

/// The columns of the table of places, tags or alarm rules.
#[utoipa::path(responses((status = 200, body = Vec<ColumnView>)))]
#[get("/api/tables/{kind}/columns")]
pub async fn columns(person: Person, kind: Path<String>) -> Result<Json<Vec<ColumnView>>, Problem> {
    person.may(Action::See)?;
    let view = |c: &table::Column| {
        let (cell, choices) = match c.cell {
            Cell::Text | Cell::StateList => ("text", &[][..]),
            Cell::Unit => ("unit", &[][..]),
            Cell::Named(kind) => (kind.name(), &[][..]),
            Cell::Limit(_, LimitPart::Priority) => ("whole", &[][..]),
            Cell::Number | Cell::Level | Cell::Limit(..) => ("number", &[][..]),
            Cell::Whole => ("whole", &[][..]),
            Cell::YesNo => ("yes_no", &[][..]),
            Cell::Choice(words) => ("choice", words),
            Cell::Place => ("place", &[][..]),
            Cell::Group => ("group", &[][..]),
            Cell::Formula => ("formula", &[][..]),
            Cell::Message => ("text", &[][..]),
            Cell::Tag => ("tag", &[][..]),
            Cell::Rest(_) => ("rest", &[][..]),
        };
        ColumnView { key: c.key, title: c.title, cell, choices: choices.to_vec() }
    };
    Ok(Json(table::columns(kind_of(&kind)?).iter().map(view).collect()))
}

/// What was written into one cell.
#[derive(Deserialize, ToSchema)]
pub struct CellBody {
    pub column: String,
    pub text: String,
    /// What the cell showed; where it shows something else by now, nothing is changed and both are told.
    pub was: Option<String>,
}

/// A row that was written.
#[derive(Deserialize, ToSchema)]
pub struct RowBody {
    pub id: Uuid,
    /// It is to be made.
    #[serde(default)]
    pub fresh: bool,
    pub cells: Vec<CellBody>,
}

/// Rows that become one revision, all or none.
#[derive(Deserialize, ToSchema)]
pub struct WriteRows {
    /// Stands in the journal.
    pub why: String,
    pub rows: Vec<RowBody>,
    /// Only says whether it could be done.
    #[serde(default, rename = "try")]
    pub only_try: bool,
}

/// What became of them.
#[derive(Serialize, ToSchema)]
pub struct RowsWritten {
    /// The revision that now holds it; where it was only tried, the one it was tried on.
    pub revision: i64,
    /// How many rows change.
    pub changed: usize,
}

/// Whether what is to stand in the journal will do.
pub(super) fn check_why(why: &str) -> Result<(), Problem> {
    if why.trim().is_empty() || why.chars().count() > 400 {
        return Err(Problem::field("why", "Say in 1 to 400 characters what changes."));
    }
    Ok(())
}

/// Most rows of one request.
const MOST_ROWS: usize = 20_000;

/// Writes cells of a table. What is wrong is told by row (`edit`) and column (`field`).
#[utoipa::path(request_body = WriteRows,
    responses((status = 200, body = RowsWritten), (status = 412, body = Problem), (status = 422, body = Problem)))]
#[post("/api/tables/{kind}/rows")]
pub async fn write_rows(app: Data<App>, person: Person, kind: Path<String>, body: Payload) -> Result<Json<RowsWritten>, Problem> {
    let actor = person.may(Action::Configure)?;
    let kind = kind_of(&kind)?;
    let body: WriteRows = large(body).await?;
    if body.rows.is_empty() || body.rows.len() > MOST_ROWS {
        return Err(Problem::field("rows", "Write 1 to 20,000 rows at once."));
    }
    check_why(&body.why)?;
    let written = |c: CellBody| Written { column: c.column, text: c.text, was: c.was };
    let row = |r: RowBody| Row { id: r.id, fresh: r.fresh, cells: r.cells.into_iter().map(written).collect() };
    let rows: Vec<Row> = body.rows.into_iter().map(row).collect();
    let plant = app.live.plant();
    let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    let base = plant.clone();
    let only_try = body.only_try;
    let (rows, planned) = block(move || {
        let planned = planned(&base, kind, &rows, only_try);
        (rows, planned)
    })
    .await
    .map_err(stopping)?;
    let edits = planned.map_err(refused)?;
    let changed = edits.iter().map(|e| e.row).collect::<HashSet<_>>().len();
    if only_try || edits.is_empty() {
        return Ok(Json(RowsWritten { revision: plant.revision, changed }));
    }
    let by = By { account: Some(actor.account), actor: actor.name.clone(), why: body.why, undoes: None };
    let plain: Vec<Edit> = edits.iter().map(|e| e.edit.clone()).collect();
    match app.live.commit(&plain, &by).await {
        Ok(plant) => Ok(Json(RowsWritten { revision: plant.revision, changed })),
        Err(CommitError::Refused(problems)) => {
            let stale = problems.iter().any(|p| p.kind == edit::ProblemKind::Stale);
            let mut problem = refused(table::troubles(kind, &rows, &edits, problems));
            if stale {
                problem.status = StatusCode::PRECONDITION_FAILED.as_u16();
            }
            Err(problem)
        }
        Err(error) => Err(error.into()),
    }
}

/// The edits that written rows come to; with `whole`, tried as a whole.
fn planned(plant: &Plant, kind: Kind, rows: &[Row], whole: bool) -> Result<Vec<Planned>, Vec<Trouble>> {
    let edits = table::plan(plant, kind, rows, &mut Uuid::now_v7)?;
    if whole {
        let plain: Vec<Edit> = edits.iter().map(|e| e.edit.clone()).collect();
        edit::apply(plant, &plain, &Kinds, || 0).map_err(|problems| table::troubles(kind, rows, &edits, problems))?;
    }
    Ok(edits)
}

/// What is wrong with cells, as a problem document.
fn refused(troubles: Vec<Trouble>) -> Problem {
    let stale = troubles.iter().all(|t| t.now.is_some());
    let status = if stale { StatusCode::PRECONDITION_FAILED } else { StatusCode::UNPROCESSABLE_ENTITY };
    let mut problem = Problem::new(status, troubles.first().map_or_else(String::new, |t| t.message.clone()));
    let wrong = |t: Trouble| Wrong { edit: t.row, field: t.column, message: t.message, now: t.now };
    problem.problems = troubles.into_iter().take(1000).map(wrong).collect();
    problem
}
