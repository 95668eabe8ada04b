//! Dispatches: how they stand, what a draft would do, and what came of what they sent.

use super::{recorders::WrongField, reports::PeriodQuery};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    http::StatusCode,
    post,
    web::{Data, Path, Query},
};
use havrel_core::{
    access::Action,
    dispatch::{Parcel, Run},
    notice::Tries,
    plant::{Dispatch, DispatchWhen, Edit, Kind, Op, Own, Plant, dispatch::Words, edit, resolve, schedule::Schedule},
    time::{Nanos, from_text, to_text},
};
use havrel_db::dispatches::RunFilter;
use havrel_link::Kinds;
use havrel_live::now;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Runs that one answer holds.
const MOST_RUNS: i64 = 100;
/// How many times a draft shows.
const SHOWN_TIMES: usize = 5;

/// How far something is: `waiting`, `again` (it failed and is tried again), `done`, or `failed` (it is not tried again).
fn state_of(tries: &Tries) -> &'static str {
    match (tries.sent_at, tries.next_at, tries.attempts) {
        (Some(_), ..) => "done",
        (None, Some(_), 0) => "waiting",
        (None, Some(_), _) => "again",
        (None, None, _) => "failed",
    }
}

/// A report on its way to one folder, person or program.
#[derive(Serialize, ToSchema)]
pub struct ParcelView {
    pub id: Uuid,
    pub connection: Uuid,
    /// Who or what gets it, in words.
    pub to: String,
    pub formats: Vec<String>,
    /// `waiting`, `again`, `done` or `failed`.
    pub state: &'static str,
    pub attempts: u32,
    /// Empty where it is not tried again.
    pub next_at: String,
    /// Empty until the other side has it.
    pub sent_at: String,
    /// What the other side said last, or why it is not sent; the names of files in a folder.
    pub answer: String,
    pub bytes: u64,
    pub took_ms: u64,
}

/// One report that a dispatch has made, with its deliveries.
#[derive(Serialize, ToSchema)]
pub struct RunView {
    /// Also that of its edition.
    pub id: Uuid,
    pub dispatch: Uuid,
    pub name: String,
    pub report: Uuid,
    /// What the report is called; empty where it is gone.
    pub report_name: String,
    /// The instant that set it off.
    pub at: String,
    /// Who asked for it; empty where nobody did.
    pub by: String,
    pub from: String,
    pub to: String,
    /// How far its edition is: `waiting`, `again`, `done` or `failed`.
    pub made: &'static str,
    /// Why the edition could not be made.
    pub answer: String,
    /// Empty where it is not tried again.
    pub next_at: String,
    pub deliveries: Vec<ParcelView>,
}

fn text_of(at: Option<Nanos>) -> String {
    at.map(to_text).unwrap_or_default()
}

fn parcel_view(plant: &Plant, run: &Run, parcel: &Parcel) -> ParcelView {
    let connection = plant.connections.get(&parcel.connection).map_or("a connection that is gone", |c| c.set.name.as_str());
    let to = if parcel.to.is_empty() { connection.to_owned() } else { format!("{} by {connection}", parcel.to) };
    // Until there is an edition nothing can be sent.
    let state = match (run.making.sent_at, state_of(&parcel.tries)) {
        (None, "failed") if run.making.next_at.is_some() => "waiting",
        (_, state) => state,
    };
    ParcelView {
        id: parcel.id,
        connection: parcel.connection,
        to,
        formats: parcel.formats.iter().map(|format| format.name().to_owned()).collect(),
        state,
        attempts: parcel.tries.attempts,
        next_at: text_of(parcel.tries.next_at),
        sent_at: text_of(parcel.tries.sent_at),
        answer: parcel.tries.answer.clone(),
        bytes: parcel.bytes,
        took_ms: parcel.took_ms,
    }
}

fn run_view(plant: &Plant, run: &Run) -> RunView {
    RunView {
        id: run.id,
        dispatch: run.dispatch,
        name: run.name.clone(),
        report: run.report,
        report_name: plant.reports.get(&run.report).map(|report| report.set.name.clone()).unwrap_or_default(),
        at: to_text(run.at),
        by: run.by.clone(),
        from: to_text(run.from),
        to: to_text(run.to),
        made: state_of(&run.making),
        answer: run.making.answer.clone(),
        next_at: text_of(run.making.next_at),
        deliveries: run.deliveries.iter().map(|parcel| parcel_view(plant, run, parcel)).collect(),
    }
}

/// How a dispatch stands.
#[derive(Serialize, ToSchema)]
pub struct DispatchView {
    pub id: Uuid,
    /// When it is, in words; empty where it does not go by a schedule.
    pub words: String,
    /// When it makes a report next; empty where it does not go by the clock or is paused.
    pub next: String,
    /// Its newest run.
    pub last: Option<RunView>,
}

fn words_of(dispatch: &Dispatch) -> String {
    match &dispatch.when {
        DispatchWhen::Schedule { cron, .. } => Schedule::parse(cron).map(|schedule| schedule.words()).unwrap_or_default(),
        _ => String::new(),
    }
}

/// Tells how all dispatches stand.
#[utoipa::path(responses((status = 200, body = Vec<DispatchView>)))]
#[get("/api/dispatches")]
pub async fn dispatches(app: Data<App>, person: Person) -> Result<Json<Vec<DispatchView>>, Problem> {
    person.may(Action::See)?;
    person.of_now()?;
    let plant = person.plant(&app);
    let ids: Vec<Uuid> = plant.dispatches.keys().copied().collect();
    let last = app.live.db.last_runs(&ids).await?;
    let at = now();
    let view = |item: &std::sync::Arc<havrel_core::plant::Item<Dispatch>>| DispatchView {
        id: item.id,
        words: words_of(&item.set),
        next: text_of(
            item.set
                .next(at, plant.zone_of_dispatch(&item.set), plant.shifts_of_dispatch(&item.set))
                .filter(|_| item.set.running),
        ),
        last: last.get(&item.id).map(|run| run_view(&plant, run)),
    };
    Ok(Json(plant.dispatches.values().map(view).collect()))
}

/// A dispatch to try, as its settings are stored; its id where it is there already.
#[derive(Deserialize, ToSchema)]
pub struct TryDispatchBody {
    #[schema(value_type = Object)]
    pub dispatch: Own,
    pub id: Option<Uuid>,
}

/// A time at which a dispatch would make a report, and what that would cover.
#[derive(Serialize, ToSchema)]
pub struct DispatchTime {
    pub at: String,
    /// Empty where no shift ended in the month before.
    pub from: String,
    pub to: String,
}

/// What a dispatch would do.
#[derive(Serialize, ToSchema)]
pub struct TriedDispatchView {
    /// When it is, in words; empty where it does not go by a schedule.
    pub words: String,
    /// The next times by the clock; of one that does not go by it, now.
    pub times: Vec<DispatchTime>,
    /// What the files of each delivery would be called, in the order of the deliveries and their formats.
    pub files: Vec<Vec<String>>,
    pub problems: Vec<WrongField>,
}

/// Shows what a dispatch would do, without saving it.
#[utoipa::path(request_body = TryDispatchBody, responses((status = 200, body = TriedDispatchView), (status = 422, body = Problem)))]
#[post("/api/dispatches/try")]
pub async fn try_dispatch(
    app: Data<App>,
    person: Person,
    body: Json<TryDispatchBody>,
) -> Result<Json<TriedDispatchView>, Problem> {
    person.may(Action::Configure)?;
    let plant = person.plant(&app);
    let mut own = body.dispatch.clone();
    let (id, op) = match body.id.filter(|id| plant.dispatches.contains_key(id)) {
        Some(id) => (id, Op::Patch(own.clone())),
        None => (Uuid::now_v7(), Op::Create(own.clone(), None)),
    };
    let tried = edit::apply(&plant, &[Edit { kind: Kind::Dispatch, id, op, seen: None }], &Kinds, || 0);
    let problems = tried.err().unwrap_or_default();
    let problems = problems.into_iter().map(|p| WrongField { field: p.field, message: p.message }).collect();
    // What it would do shows all the same, as far as it can be read; the trigger is not needed for that.
    own.shift_remove("trigger");
    let set: Dispatch = resolve(None, &own).map_err(|(field, message)| Problem::field(&field, message))?;
    let report = plant.reports.get(&set.report).ok_or_else(|| Problem::field("report", "Choose the report."))?;
    let shifts = plant.shifts_of_dispatch(&set);
    let zone = plant.zone_of_dispatch(&set);
    let first = set.next(now(), zone, shifts);
    let by_clock = std::iter::successors(first, |at| set.next(*at, zone, shifts)).take(SHOWN_TIMES);
    let mut times: Vec<Nanos> = by_clock.collect();
    if times.is_empty() && matches!(set.when, DispatchWhen::Hand | DispatchWhen::Event { .. }) {
        times.push(now());
    }
    let periods: Vec<_> = times.iter().map(|at| set.period(*at, &report.set, shifts)).collect();
    let place = report.set.place.and_then(|place| plant.places.get(&place)).map_or("", |place| place.set.name.as_str());
    let (from, to) = periods.first().copied().flatten().unwrap_or((now(), now()));
    let words = Words { report: &report.set.name, place, dispatch: &set.name, from, to, zone };
    let files = set.deliveries.iter().map(|one| one.formats.iter().map(|format| one.file_name(&words, *format)).collect());
    let time = |(at, period): (&Nanos, &Option<(Nanos, Nanos)>)| DispatchTime {
        at: to_text(*at),
        from: text_of(period.map(|(from, _)| from)),
        to: text_of(period.map(|(_, to)| to)),
    };
    Ok(Json(TriedDispatchView {
        words: words_of(&set),
        times: times.iter().zip(&periods).map(time).collect(),
        files: files.collect(),
        problems,
    }))
}

/// Makes the report of a dispatch now and sends it, over the dispatch's own period or another one.
#[utoipa::path(params(PeriodQuery), responses((status = 200, body = RunView), (status = 404, body = Problem)))]
#[post("/api/dispatches/{id}/send")]
pub async fn send(app: Data<App>, person: Person, period: Query<PeriodQuery>, id: Path<Uuid>) -> Result<Json<RunView>, Problem> {
    let plant = person.plant(&app);
    let item = plant.dispatches.get(&id).ok_or_else(|| Problem::missing("dispatch"))?;
    let place = plant.reports.get(&item.set.report).and_then(|report| report.set.place);
    let actor = person.may_at(Action::SendReport, place)?;
    let run = app.live.send_now(*id, period.parse()?, actor).await?;
    Ok(Json(run_view(&plant, &found(&app, run).await?)))
}

async fn found(app: &App, run: Uuid) -> Result<Run, Problem> {
    app.live.db.run(run).await?.ok_or_else(|| Problem::missing("run of a dispatch"))
}

/// Which runs are asked for.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RunsQuery {
    pub report: Option<Uuid>,
    pub dispatch: Option<Uuid>,
    /// Only those set off before, RFC 3339.
    pub before: Option<String>,
    /// Only those of which something failed and is not tried again.
    #[serde(default)]
    pub failed: bool,
}

/// Lists what dispatches made and sent, the newest first, at most 100.
#[utoipa::path(params(RunsQuery), responses((status = 200, body = Vec<RunView>)))]
#[get("/api/dispatches/runs")]
pub async fn runs(app: Data<App>, person: Person, query: Query<RunsQuery>) -> Result<Json<Vec<RunView>>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let before = query.before.as_deref().map(from_text).transpose().map_err(|words| Problem::field("before", words))?;
    let filter = RunFilter { report: query.report, dispatch: query.dispatch, before, failed: query.failed };
    let runs = app.live.db.runs(&filter, MOST_RUNS).await?;
    let seen = |run: &&Run| person.scope.is_everything() || plant.reports.contains_key(&run.report);
    Ok(Json(runs.iter().filter(seen).map(|run| run_view(&plant, run)).collect()))
}

/// Tries again at once what failed of a run, or waits for its next try.
#[utoipa::path(responses((status = 200, body = RunView), (status = 409, body = Problem)))]
#[post("/api/dispatches/runs/{id}/again")]
pub async fn again(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<RunView>, Problem> {
    let (plant, run) = sent(&app, &person, *id).await?;
    let actor = person.may(Action::SendReport)?;
    if !app.live.try_run_again(&run, actor).await? {
        return Err(Problem::new(StatusCode::CONFLICT, "Everything of it was sent already."));
    }
    Ok(Json(run_view(&plant, &found(&app, *id).await?)))
}

/// Stops trying to make or send a run.
#[utoipa::path(responses((status = 200, body = RunView), (status = 409, body = Problem)))]
#[post("/api/dispatches/runs/{id}/stop")]
pub async fn stop(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<RunView>, Problem> {
    let (plant, run) = sent(&app, &person, *id).await?;
    let actor = person.may(Action::SendReport)?;
    if !app.live.give_up_run(&run, actor).await? {
        return Err(Problem::new(StatusCode::CONFLICT, "Nothing of it is tried any more."));
    }
    Ok(Json(run_view(&plant, &found(&app, *id).await?)))
}

/// A run, and the plant as whoever asks sees it.
async fn sent(app: &App, person: &Person, id: Uuid) -> Result<(std::sync::Arc<Plant>, Run), Problem> {
    let (plant, run) = (person.plant(app), found(app, id).await?);
    let seen = person.scope.is_everything() || plant.reports.contains_key(&run.report);
    if seen { Ok((plant, run)) } else { Err(Problem::missing("run of a dispatch")) }
}
