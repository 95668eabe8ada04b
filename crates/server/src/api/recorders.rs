//! Recorders: what they record, how much that is, and the rows that arrived.

use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    http::StatusCode,
    post,
    web::{Data, Path, Query, block},
};
use havrel_core::{
    access::Action,
    engine::CLOCK_TOLERANCE,
    plant::{Edit, Item, Kind, Op, Own, Plant, RecordMode, RecordWhen, Recorder, Tag, Track, edit, recorder::Rhythm, resolve},
    sample::Value,
    time::{MILLI, Nanos, SECOND, to_text},
};
use havrel_db::{answers::TrackOf, recorders::Taken};
use havrel_link::{Kinds, now};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json_, json};
use std::sync::Arc;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

const DAY: Nanos = 86_400 * SECOND;
/// Tags that are shown of a recorder that is being set, and whose past is looked at for it.
const MOST_SHOWN: usize = 200;
const MOST_COUNTED: usize = 200;
/// A value ten times a second; and how many that are too old are counted of each tag.
const MOST_A_DAY: i64 = 864_000;
const MOST_OLD: i64 = 10_000;
/// Rows and columns that are shown of what was recorded.
const MOST_ROWS: usize = 200;
const MOST_COLUMNS: usize = 40;
/// What a sample takes on disk where history holds too little to tell: a row of the table with its part of the index.
const USUAL_BYTES: f64 = 102.0;
/// With fewer samples than these a table's bytes say nothing of one.
const TELLING: f64 = 50_000.0;

/// How a recorder stands.
#[derive(Serialize, ToSchema)]
pub struct RecorderView {
    pub id: Uuid,
    /// How many tags it records now.
    pub tags: usize,
    /// Rows that it took at events or when it was told to, counted up to 100,000.
    pub rows: i64,
    /// When it took the last row, or the end of the last span of which it keeps a figure.
    pub last: Option<String>,
    pub estimate: EstimateView,
}

/// How much a recorder stores.
#[derive(Serialize, ToSchema)]
pub struct EstimateView {
    pub samples_a_day: f64,
    /// On disk.
    pub bytes_a_day: f64,
    /// Tags that are counted by what was stored of them.
    pub by_history: usize,
    /// Tags that count as if every value that is asked for were stored.
    pub at_most: usize,
    /// Tags, or rows of them, of which nothing is known beforehand.
    pub unknown: usize,
}

/// All recorders, and how much history takes.
#[derive(Serialize, ToSchema)]
pub struct RecordingView {
    pub recorders: Vec<RecorderView>,
    /// Tags whose value goes into history by itself, and all tags.
    pub recorded: usize,
    pub tags: usize,
    pub disk: HistoryOnDisk,
}

/// How much history takes on disk, and how long the disk lasts.
#[derive(Serialize, ToSchema)]
pub struct HistoryOnDisk {
    /// Bytes of the samples, and of the whole database.
    pub bytes: i64,
    pub database: i64,
    /// Samples in all, about; null where the database has not counted them yet.
    pub samples: Option<f64>,
    /// Bytes that a sample takes, and whether that was measured here.
    pub bytes_a_sample: f64,
    pub measured: bool,
    /// Samples that were recorded since the program started, over how many seconds, and how many that makes in a day.
    pub counted: u64,
    pub counted_s: f64,
    pub samples_a_day: f64,
    /// Bytes free on the disk where the data of a database of our own lies; null for a database elsewhere.
    pub free: Option<u64>,
    /// After how many days that is full at this pace; null where it cannot be told.
    pub full_in_days: Option<f64>,
}

fn rhythm(plant: &Plant, tag: &Tag, recorder: &Recorder, stored: Option<i64>) -> Rhythm {
    // What was stored with a wider deadband says too little.
    let wanted = recorder.deadband_on(tag).unwrap_or(0.0);
    let close = tag.record && (tag.record_mode == RecordMode::EachPoll || tag.record_deadband <= wanted);
    let connection = tag.connection.and_then(|id| plant.connections.get(&id));
    let interval = connection.map_or(0, |c| c.set.interval_of(tag.group));
    Rhythm {
        stored_a_day: stored.filter(|n| close && *n > 0).map(|n| n as f64),
        asked_a_day: (interval > 0).then(|| DAY as f64 / (f64::from(interval) * MILLI as f64)),
    }
}

/// What a recorder stores in a day.
async fn estimate(
    app: &App,
    plant: &Plant,
    recorder: &Recorder,
    tags: &[&Arc<Item<Tag>>],
    rows_a_week: Option<i64>,
    bytes_a_sample: f64,
) -> Result<EstimateView, Problem> {
    let mut rhythms = Vec::with_capacity(tags.len());
    let mut scale = 1.0;
    if matches!(recorder.when, RecordWhen::Change { .. }) && !tags.is_empty() {
        // Of many tags some are looked at, evenly, and stand for all.
        let step = tags.len().div_ceil(MOST_COUNTED);
        let some: Vec<_> = tags.iter().step_by(step).collect();
        let numbers: Vec<u32> = some.iter().map(|tag| tag.no).collect();
        let to = app.live.complete_until();
        let stored = app.live.db.counted(&numbers, to - DAY, to, MOST_A_DAY).await?;
        scale = tags.len() as f64 / some.len() as f64;
        rhythms.extend(some.iter().zip(stored).map(|(tag, stored)| rhythm(plant, &tag.set, recorder, Some(stored))));
    } else {
        rhythms.resize(tags.len(), Rhythm::default());
    }
    let found = recorder.estimate(&rhythms, rows_a_week.map(|rows| rows as f64 / 7.0));
    let of_all = |n: usize| (n as f64 * scale).round() as usize;
    let samples = found.samples * scale;
    Ok(EstimateView {
        samples_a_day: samples,
        bytes_a_day: samples * bytes_a_sample,
        by_history: of_all(found.by_history),
        at_most: of_all(found.at_most),
        unknown: of_all(found.unknown),
    })
}

/// How many rows a recorder took in the last week; none where it never took any.
async fn of_week(app: &App, recorder: Uuid, taken: Taken) -> Result<Option<i64>, Problem> {
    if taken.rows == 0 {
        return Ok(None);
    }
    Ok(Some(app.live.db.rows_since(recorder, now() - 7 * DAY).await?))
}

async fn on_disk(app: &App) -> Result<HistoryOnDisk, Problem> {
    let size = app.live.db.history_size().await?;
    let measured = size.samples.filter(|n| *n >= TELLING).map(|n| size.bytes as f64 / n);
    let bytes_a_sample = measured.unwrap_or(USUAL_BYTES);
    let counted_s = (now() - app.live.started).max(SECOND) as f64 / SECOND as f64;
    let counted = app.live.samples_recorded();
    let samples_a_day = counted as f64 / counted_s * 86_400.0;
    let folder = app.data.clone();
    let free =
        block(move || folder.and_then(|folder| rustix::fs::statvfs(&folder).ok()).map(|disk| disk.f_bavail * disk.f_frsize));
    let free = free.await.map_err(|_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping."))?;
    let grows = samples_a_day * bytes_a_sample;
    Ok(HistoryOnDisk {
        bytes: size.bytes,
        database: size.database,
        samples: size.samples,
        bytes_a_sample,
        measured: measured.is_some(),
        counted,
        counted_s,
        samples_a_day,
        free,
        full_in_days: free.filter(|_| grows > 0.0).map(|free| free as f64 / grows),
    })
}

/// Tells how all recorders stand, and how much history takes.
#[utoipa::path(responses((status = 200, body = RecordingView)))]
#[get("/api/recorders")]
pub async fn recorders(app: Data<App>, person: Person) -> Result<Json<RecordingView>, Problem> {
    person.may(Action::See)?;
    person.of_now()?;
    let plant = person.plant(&app);
    let _turn = app.limits.heavy().await?;
    let disk = on_disk(&app).await?;
    let mut all: Vec<_> = plant.recorders.values().collect();
    all.sort_by(|a, b| a.set.order.total_cmp(&b.set.order).then_with(|| a.set.name.cmp(&b.set.name)));
    let ids: Vec<Uuid> = all.iter().map(|item| item.id).collect();
    let taken = app.live.db.taken(&ids).await?;
    let mut views = Vec::with_capacity(all.len());
    let recording = app.recording(&plant);
    for (item, taken) in all.into_iter().zip(taken) {
        let tags: Vec<_> = recording.of.get(&item.id).into_iter().flatten().collect();
        let in_week = of_week(&app, item.id, taken).await?;
        let last_span = taken.last_span.map(|begins| begins + item.set.every().unwrap_or(0));
        views.push(RecorderView {
            id: item.id,
            tags: tags.len(),
            rows: taken.rows,
            last: taken.last_row.max(last_span).map(to_text),
            estimate: estimate(&app, &plant, &item.set, &tags, in_week, disk.bytes_a_sample).await?,
        });
    }
    Ok(Json(RecordingView { recorders: views, recorded: recording.by_themselves.len(), tags: plant.tags.len(), disk }))
}

/// A recorder to try, as its settings are stored; its id where it is there already.
#[derive(Deserialize, ToSchema)]
pub struct TryRecorderBody {
    #[schema(value_type = Object)]
    pub recorder: Own,
    pub id: Option<Uuid>,
}

/// A tag that a recorder records.
#[derive(Serialize, ToSchema)]
pub struct RecordedTagView {
    pub id: Uuid,
    /// Its path.
    pub title: String,
    pub unit: String,
    /// It is chosen singly.
    pub singly: bool,
    /// The tag itself says that its value is recorded.
    pub by_itself: bool,
}

/// What a recorder would do.
#[derive(Serialize, ToSchema)]
pub struct TriedRecorderView {
    pub tags: usize,
    /// The first 200 of them, in the order of their paths.
    pub shown: Vec<RecordedTagView>,
    /// How many tags each of its choices finds.
    pub found: Vec<usize>,
    pub estimate: EstimateView,
    /// Tags among them that hold texts, of which only the value can be kept.
    pub texts: usize,
    /// Samples that are older than it keeps them, and would be removed within the hour; of the tags that are shown, and of each up
    /// to 10,000.
    pub too_old: i64,
    /// What is wrong with it: fields and sentences.
    pub problems: Vec<WrongField>,
}

/// Something that is wrong with a setting.
#[derive(Serialize, ToSchema)]
pub struct WrongField {
    pub field: String,
    pub message: String,
}

/// The settings as they would hold, and what is wrong with them.
fn tried(plant: &Plant, body: TryRecorderBody) -> Result<(Recorder, Vec<WrongField>), Problem> {
    let mut own = body.recorder;
    let (id, op) = match body.id.filter(|id| plant.recorders.contains_key(id)) {
        Some(id) => (id, Op::Patch(own.clone())),
        None => (Uuid::now_v7(), Op::Create(own.clone(), None)),
    };
    let edit = Edit { kind: Kind::Recorder, id, op, seen: None };
    match edit::apply(plant, &[edit], &Kinds, || 0) {
        Ok((next, _)) if next.recorders.contains_key(&id) => Ok((next.recorders[&id].set.clone(), Vec::new())),
        Ok(_) => Err(Problem::missing("recorder")),
        Err(problems) => {
            // Which tags these are shows all the same; for that nobody needs to know when.
            own.shift_remove("trigger");
            let set = resolve(None, &own).or_else(|_| {
                ["when", "keep_days"].into_iter().for_each(|field| drop(own.shift_remove(field)));
                resolve(None, &own).map_err(|(field, message)| Problem::field(&field, message))
            })?;
            Ok((set, problems.into_iter().map(|p| WrongField { field: p.field, message: p.message }).collect()))
        }
    }
}

/// Shows what a recorder would record, and how much that is, without saving it.
#[utoipa::path(request_body = TryRecorderBody, responses((status = 200, body = TriedRecorderView), (status = 422, body = Problem)))]
#[post("/api/recorders/try")]
pub async fn try_recorder(
    app: Data<App>,
    person: Person,
    body: Json<TryRecorderBody>,
) -> Result<Json<TriedRecorderView>, Problem> {
    person.may(Action::Configure)?;
    let plant = person.plant(&app);
    let body = body.into_inner();
    let known = body.id.filter(|id| plant.recorders.contains_key(id));
    let (set, problems) = tried(&plant, body)?;
    let set = &set;
    let mut tags = plant.recorded_by(set);
    let found = set.choices.iter().map(|choice| plant.chosen(&[], std::slice::from_ref(choice)).len());
    let found = found.collect();
    let _turn = app.limits.heavy().await?;
    let disk = on_disk(&app).await?;
    let in_week = match known {
        Some(id) => of_week(&app, id, app.live.db.taken(&[id]).await?.first().copied().unwrap_or_default()).await?,
        None => None,
    };
    let estimate = estimate(&app, &plant, set, &tags, in_week, disk.bytes_a_sample).await?;
    let texts = tags.iter().filter(|tag| tag.set.holds_text(&plant)).count();
    let total = tags.len();
    tags.sort_by_cached_key(|tag| plant.tag_path(&tag.set));
    tags.truncate(MOST_SHOWN);
    let too_old = match set.keep_days {
        Some(days) => {
            let numbers: Vec<u32> = tags.iter().filter(|tag| !tag.set.record).map(|tag| tag.no).collect();
            app.live.db.counted(&numbers, Nanos::MIN, now() - Nanos::from(days) * DAY, MOST_OLD).await?.into_iter().sum()
        }
        None => 0,
    };
    let shown = tags.iter().map(|tag| RecordedTagView {
        id: tag.id,
        title: plant.tag_path(&tag.set),
        unit: tag.set.unit.clone(),
        singly: set.tags.contains(&tag.id),
        by_itself: tag.set.record,
    });
    Ok(Json(TriedRecorderView { tags: total, shown: shown.collect(), found, estimate, texts, too_old, problems }))
}

/// Has a recorder take a row of all its values now.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/api/recorders/{id}/take")]
pub async fn take(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<actix_web::HttpResponse, Problem> {
    let actor = person.may(Action::SetByHand)?;
    let plant = person.plant(&app);
    let recorder = plant.recorders.get(&id).ok_or_else(|| Problem::missing("recorder"))?;
    let paused = || Problem::new(StatusCode::CONFLICT, "The recorder is paused. Let it run first.");
    if !recorder.set.running || !app.live.take_row(*id, actor).await? {
        return Err(paused());
    }
    let title = format!("Recorded {} values by “{}”", plant.recorded_by(&recorder.set).len(), recorder.set.name);
    app.live.note("record", Some(actor), Some(*id), &title, json!({})).await?;
    Ok(actix_web::HttpResponse::NoContent().finish())
}

/// Which rows.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RowsQuery {
    /// The newest of them is not later than this; now where nothing is said.
    pub until: Option<String>,
    /// At most 200; usually 20.
    pub limit: Option<usize>,
}

/// A column of recorded rows.
#[derive(Serialize, ToSchema)]
pub struct RowColumn {
    pub tag: Uuid,
    /// The tag's path.
    pub title: String,
    /// `value`, `average`, `minimum`, `maximum` or `sum`.
    pub track: &'static str,
    pub unit: String,
    pub decimals: u8,
    /// The names of its states.
    pub states: Option<Uuid>,
}

/// A cell of a recorded row.
#[derive(Serialize, ToSchema)]
pub struct RowCell {
    /// Boolean, number or text; null where none is known.
    #[schema(value_type = Object)]
    pub value: Json_,
    /// `good`, or why not.
    pub reason: &'static str,
    /// `good`, `uncertain` or `bad`.
    pub class: &'static str,
}

/// A recorded row.
#[derive(Serialize, ToSchema)]
pub struct RowView {
    /// The instant; of figures the end of their span.
    pub at: String,
    /// Who had it taken; empty where nobody did.
    pub actor: String,
    /// One for each column; null where nothing was stored.
    pub cells: Vec<Option<RowCell>>,
}

/// What a recorder has stored, newest first.
#[derive(Serialize, ToSchema)]
pub struct RowsView {
    pub columns: Vec<RowColumn>,
    /// Columns that are left out.
    pub left_out: usize,
    pub rows: Vec<RowView>,
}

/// The instants of which rows are shown, newest first, each with who had it taken.
async fn instants(app: &App, item: &Item<Recorder>, until: Nanos, limit: usize) -> Result<Vec<(Nanos, String)>, Problem> {
    let mut all = app.live.db.rows_of(item.id, until, limit as i64).await?;
    if let RecordWhen::Interval { every_ms, offset_ms, .. } = item.set.when {
        let (every, offset) = (Nanos::from(every_ms) * MILLI, Nanos::from(offset_ms) * MILLI);
        let until = until.min(app.live.complete_until());
        let last = until - (until - offset).rem_euclid(every);
        all.extend((0..limit as Nanos).map(|n| (last - n * every, String::new())));
        all.sort_by_key(|row| std::cmp::Reverse(row.0));
        all.truncate(limit);
    }
    Ok(all)
}

/// Shows what a recorder has stored: the values of its tags, row by row.
#[utoipa::path(params(RowsQuery), responses((status = 200, body = RowsView), (status = 404, body = Problem)))]
#[get("/api/recorders/{id}/rows")]
pub async fn recorded_rows(
    app: Data<App>,
    person: Person,
    id: Path<Uuid>,
    query: Query<RowsQuery>,
) -> Result<Json<RowsView>, Problem> {
    person.may(Action::See)?;
    person.of_now()?;
    let plant = person.plant(&app);
    let item = plant.recorders.get(&id).ok_or_else(|| Problem::missing("recorder"))?;
    let until = query.until.as_deref().map(|text| super::time("until", text)).transpose()?;
    let limit = query.limit.unwrap_or(20).clamp(1, MOST_ROWS);
    let mut tags = plant.recorded_by(&item.set);
    tags.sort_by_cached_key(|tag| plant.tag_path(&tag.set));
    let columns: Vec<(&Arc<Item<Tag>>, Track)> =
        tags.iter().flat_map(|tag| item.set.tracks().iter().map(move |&track| (*tag, track))).collect();
    let left_out = columns.len().saturating_sub(MOST_COLUMNS);
    let columns = &columns[..columns.len() - left_out];
    let asked: Vec<TrackOf> = columns
        .iter()
        .map(|(tag, track)| match track {
            Track::Value => tag.no.into(),
            _ => TrackOf { tag: tag.no, track: *track, recorder: item.id },
        })
        .collect();
    let _turn = app.limits.heavy().await?;
    let every = item.set.every().unwrap_or(0);
    let mut rows = Vec::new();
    for (at, actor) in instants(&app, item, until.unwrap_or_else(|| now() + CLOCK_TOLERANCE), limit).await? {
        let values = app.live.db.at(&asked, at).await?;
        // A figure is stored at the beginning of its span.
        let figures = match columns.iter().any(|(_, track)| *track != Track::Value) {
            true => app.live.db.at(&asked, at - every).await?,
            false => vec![None; asked.len()],
        };
        let cells = columns.iter().zip(values.into_iter().zip(figures)).map(|((_, track), (value, figure))| {
            let kept = if *track == Track::Value { value? } else { figure.filter(|kept| kept.time == at - every)? };
            let class = match kept.quality {
                q if q.is_bad() => "bad",
                q if q.is_uncertain() => "uncertain",
                _ => "good",
            };
            let value = kept.value.as_ref().map_or(Json_::Null, Value::to_json);
            Some(RowCell { value, reason: kept.quality.reason().words(), class })
        });
        let cells: Vec<_> = cells.collect();
        // Before it was there, nothing was stored.
        if every == 0 || cells.iter().any(Option::is_some) {
            rows.push(RowView { at: to_text(at), actor, cells });
        }
    }
    let columns = columns.iter().map(|(tag, track)| RowColumn {
        tag: tag.id,
        title: plant.tag_path(&tag.set),
        track: track.name(),
        unit: tag.set.unit.clone(),
        decimals: tag.set.decimals,
        states: tag.set.states,
    });
    Ok(Json(RowsView { columns: columns.collect(), left_out, rows }))
}
