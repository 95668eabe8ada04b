//! Reports: preview, making, and the editions kept.

use super::period;
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpResponse, get,
    http::{StatusCode, header},
    post,
    web::{Data, Path, Query},
};
use havrel_core::{
    access::Action,
    plant::{Own, Report, resolve},
    report::{Document, Format},
    time::{Nanos, SECOND, to_text},
};
use havrel_db::editions::Edition;
use havrel_jobs::{html, press::PressError};
use havrel_live::editions::NoEdition;
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// A period that somebody chose; without it a report is about its own period, which ends now.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PeriodQuery {
    /// RFC 3339; both or neither.
    pub from: Option<String>,
    pub to: Option<String>,
}

impl PeriodQuery {
    pub(super) fn parse(&self) -> Result<Option<(Nanos, Nanos)>, Problem> {
        let (Some(from), Some(to)) = (&self.from, &self.to) else {
            let lone = self.from.is_some() || self.to.is_some();
            return if lone { Err(Problem::field("to", "A period needs a start and an end.")) } else { Ok(None) };
        };
        let (from, to) = period(from, to)?;
        if to - from > LONGEST {
            return Err(Problem::field("to", "A report covers at most 31 days."));
        }
        Ok(Some((from, to)))
    }
}

/// The longest period of a report: 31 days, of which one may have 25 hours.
const LONGEST: Nanos = (31 * 86_400 + 3600) * SECOND;

async fn fill(app: &App, person: &Person, report: &Report, period: &PeriodQuery) -> Result<Document, Problem> {
    let plant = person.plant(app);
    Ok(app.live.filled(&plant, report, period.parse()?, &person.actor.name).await?)
}

/// Shows a report that need not be saved yet, on real data, as HTML.
#[utoipa::path(params(PeriodQuery), request_body = Object, responses((status = 200, body = String, content_type = "text/html"), (status = 422, body = Problem)))]
#[post("/api/reports/preview")]
pub async fn preview(
    app: Data<App>,
    person: Person,
    period: Query<PeriodQuery>,
    body: Json<Own>,
) -> Result<HttpResponse, Problem> {
    person.may(Action::MakeReport)?;
    let report: Report = resolve(None, &body).map_err(|(field, message)| Problem::field(&field, message))?;
    if report.minutes > 44_640 || report.sections.len() > 50 {
        return Err(Problem::field("minutes", "A report covers at most 31 days in at most 50 sections."));
    }
    let _turn = app.limits.heavy().await?;
    let document = fill(&app, &person, &report, &period).await?;
    Ok(HttpResponse::Ok().content_type("text/html; charset=utf-8").body(html::with_fonts(&html::print(&document))))
}

/// A report as it was made.
#[derive(Serialize, ToSchema)]
pub struct EditionView {
    pub id: Uuid,
    pub report: Uuid,
    pub title: String,
    pub made_at: String,
    pub made_by: String,
    pub from: String,
    pub to: String,
}

impl From<Edition> for EditionView {
    fn from(e: Edition) -> EditionView {
        let (made_at, from, to) = (to_text(e.made_at), to_text(e.from), to_text(e.to));
        EditionView { id: e.id, report: e.report, title: e.title, made_at, made_by: e.made_by, from, to }
    }
}

/// Makes an edition of a report and keeps it.
#[utoipa::path(params(PeriodQuery), responses((status = 200, body = EditionView)))]
#[post("/api/reports/{id}/editions")]
pub async fn make(
    app: Data<App>,
    person: Person,
    period: Query<PeriodQuery>,
    id: Path<Uuid>,
) -> Result<Json<EditionView>, Problem> {
    let plant = person.plant(&app);
    let report = plant.reports.get(&id).ok_or_else(|| Problem::missing("report"))?;
    let actor = person.may_at(Action::MakeReport, report.set.place)?;
    let turn = app.limits.heavy().await?;
    let ids = (Uuid::now_v7(), *id);
    let (edition, printed) = app.live.make_edition(ids, &plant, &report.set, period.parse()?, &person.actor.name).await?;
    drop(turn);
    app.live.db.keep_edition(&edition, &printed).await?;
    app.live
        .note("report", Some(actor), Some(*id), &format!("Made report “{}”", edition.title), json!({"edition": edition.id}))
        .await?;
    Ok(Json(edition.into()))
}

/// Lets through who sees a report with all that it shows; one that is gone is seen by who sees everything.
fn seen(person: &Person, app: &App, report: Uuid) -> Result<(), Problem> {
    let there = person.scope.is_everything() || person.plant(app).reports.contains_key(&report);
    if there { Ok(()) } else { Err(Problem::missing("report")) }
}

/// Lists the editions of a report, newest first.
#[utoipa::path(responses((status = 200, body = Vec<EditionView>)))]
#[get("/api/reports/{id}/editions")]
pub async fn editions(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<Vec<EditionView>>, Problem> {
    person.may(Action::See)?;
    seen(&person, &app, *id)?;
    Ok(Json(app.live.db.editions(*id).await?.into_iter().map(Into::into).collect()))
}

impl From<NoEdition> for Problem {
    fn from(error: NoEdition) -> Problem {
        let status = match error {
            NoEdition::Db(error) => return error.into(),
            NoEdition::Missing | NoEdition::Before(_) => StatusCode::NOT_FOUND,
            NoEdition::Press(PressError::NotThere) => StatusCode::SERVICE_UNAVAILABLE,
            NoEdition::TooLarge(_) | NoEdition::Press(PressError::TooLong(_) | PressError::Failed(_)) => {
                StatusCode::INTERNAL_SERVER_ERROR
            }
        };
        Problem::new(status, error.to_string())
    }
}

/// Fetches an edition as it was made; the format is `pdf`, `html`, `xlsx`, `csv` or `json`. A PDF is printed when it is first asked for and
/// kept from then on.
#[utoipa::path(responses((status = 200, body = String), (status = 404, body = Problem), (status = 503, body = Problem)))]
#[get("/api/editions/{id}/{format}")]
pub async fn fetch(app: Data<App>, person: Person, path: Path<(Uuid, String)>) -> Result<HttpResponse, Problem> {
    person.may(Action::See)?;
    let (id, format) = path.into_inner();
    let named = Format::from_name(&format);
    let format = named.ok_or_else(|| Problem::missing("format; there are pdf, html, xlsx, csv and json"))?;
    let edition = app.live.db.edition(id).await?.ok_or_else(|| Problem::missing("edition"))?;
    if !person.scope.is_everything() {
        seen(&person, &app, edition.report)?;
    }
    let content = app.live.edition_in(id, format).await?;
    let plain = |c: char| if c.is_ascii_alphanumeric() || c == '-' { c } else { '_' };
    let name: String = edition.title.chars().map(plain).take(60).collect();
    let short: String = id.simple().to_string().chars().skip(24).collect();
    let download = format!("attachment; filename=\"{name}-{short}.{}\"", format.name());
    Ok(HttpResponse::Ok()
        .content_type(format.media())
        .insert_header((header::CONTENT_DISPOSITION, download))
        // An edition may hold what people typed; opened by itself it must not run anything.
        .insert_header((
            header::CONTENT_SECURITY_POLICY,
            "sandbox; default-src 'none'; style-src 'unsafe-inline'; font-src data:",
        ))
        .body(content))
}
