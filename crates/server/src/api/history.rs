//! Questions to history, answered in columns.

use super::period;
use crate::{
    app::App,
    auth::Person,
    body::{Json, whole},
    problem::Problem,
};
use actix_web::{
    get,
    http::StatusCode,
    post,
    web::{Data, Payload, Query, block},
};
use havrel_core::{
    access::Action,
    frame::{Frame, FrameError},
    history::Span,
    number::Number,
    plant::{Item, Plant, Tag, Track},
    sample::Value,
    time::{SECOND, to_text},
};
use havrel_db::{
    answers::{ClockEpoch, TrackOf},
    recorders::KeptTrack,
};
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json_, json};
use std::sync::Arc;
use tokio::sync::SemaphorePermit;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Most tags in one question.
const MOST_TAGS: usize = 50;

/// Which tags, and when.
#[derive(Deserialize, ToSchema)]
pub struct Question {
    /// At most 50: the id of a tag for its value, or `ID.TRACK.RECORDER` for a figure that a recorder keeps of it, where the track
    /// is `average`, `minimum`, `maximum` or `sum`.
    pub tags: Vec<String>,
    pub from: String,
    pub to: String,
    /// For pictures: width in pixels, 10 to 5,000. For spans: how many, 1 to 5,000. Raw: most samples of each tag, to 100,000.
    pub parts: Option<usize>,
    /// Raw: also the sample before `from`, whose value held then.
    #[serde(default)]
    pub held: bool,
}

impl Question {
    fn ask(&self, app: &App, person: &Person, least: usize, usual: usize, most: usize) -> Result<Asked, Problem> {
        if self.tags.len() > MOST_TAGS {
            return Err(Problem::field("tags", format!("Ask for at most {MOST_TAGS} tags at once.")));
        }
        let (from, to) = period(&self.from, &self.to)?;
        let plant = person.plant(app);
        let tags = self.tags.iter().map(|name| {
            wanted(&plant, name).ok_or_else(|| Problem::field("tags", "One of the tags does not exist, or is not named rightly."))
        });
        Ok(Asked { tags: tags.collect::<Result<_, _>>()?, from, to, parts: self.parts.unwrap_or(usual).clamp(least, most) })
    }
}

/// What a name in a question means: a tag, and for a figure of it the track and the recorder.
pub(super) fn read_name(name: &str) -> Option<(Uuid, Option<(Track, Uuid)>)> {
    let mut parts = name.split('.');
    let tag = parts.next()?.parse().ok()?;
    match (parts.next(), parts.next(), parts.next()) {
        (None, ..) => Some((tag, None)),
        (Some(track), Some(recorder), None) => {
            let track = Track::from_name(track).filter(|track| *track != Track::Value)?;
            Some((tag, Some((track, recorder.parse().ok()?))))
        }
        _ => None,
    }
}

/// What a name in a question stands for.
fn wanted(plant: &Plant, name: &str) -> Option<Wanted> {
    let (tag, figure) = read_name(name)?;
    let tag = plant.tags.get(&tag)?.clone();
    let of = figure.map_or(tag.no.into(), |(track, recorder)| TrackOf { tag: tag.no, track, recorder });
    Some(Wanted { name: name.to_owned(), tag, of })
}

/// What is asked of a tag.
struct Wanted {
    name: String,
    tag: Arc<Item<Tag>>,
    of: TrackOf,
}

impl Wanted {
    /// Whether it is the tag's own value, to which its limits belong.
    fn is_value(&self) -> bool {
        self.of.track == Track::Value
    }
}

struct Asked {
    tags: Vec<Wanted>,
    from: i64,
    to: i64,
    parts: usize,
}

/// An answer: what it covers, and the columns of each tag.
#[derive(Serialize, ToSchema)]
pub struct Answer<T: ToSchema> {
    /// Offsets count nanoseconds from here.
    pub start: String,
    pub end: String,
    /// Until when history is complete.
    pub complete_until: String,
    /// Spans for which nothing was recorded.
    pub unrecorded: Vec<UnrecordedView>,
    /// Instants at which the clock of the machine that recorded was set.
    pub clock_steps: Vec<ClockStepView>,
    pub tags: Vec<T>,
}

/// The clock was set.
#[derive(Serialize, ToSchema)]
pub struct ClockStepView {
    /// The first instant by the clock as it read afterwards.
    pub at: String,
    /// By how many seconds; negative: back, so that as much after `at` was lived twice.
    pub seconds: f64,
}

/// A span for which nothing was recorded.
#[derive(Serialize, ToSchema)]
pub struct UnrecordedView {
    pub from: String,
    pub to: String,
    pub reason: String,
}

/// Most samples in one raw answer.
const MOST_RAW: usize = 500_000;
/// A question about few tags and a short period is no work worth waiting for a turn.
const LIGHT_TAGS: usize = 8;
const LIGHT: i64 = 12 * 3600 * SECOND;

/// Waits for a turn where a question may read much.
async fn turn<'a>(app: &'a App, asked: &Asked) -> Result<Option<SemaphorePermit<'a>>, Problem> {
    if asked.tags.len() <= LIGHT_TAGS && asked.to - asked.from <= LIGHT {
        return Ok(None);
    }
    app.limits.heavy().await.map(Some)
}

async fn answer<T: ToSchema>(app: &App, asked: &Asked, tags: Vec<T>) -> Result<Answer<T>, Problem> {
    let gaps = app.live.db.unrecorded(asked.from, asked.to).await?;
    let steps = app.live.db.clock_steps(asked.from, asked.to).await?;
    let step = |s: ClockEpoch| ClockStepView { at: to_text(s.at), seconds: s.by as f64 / SECOND as f64 };
    Ok(Answer {
        clock_steps: steps.into_iter().map(step).collect(),
        start: to_text(asked.from),
        end: to_text(asked.to),
        complete_until: to_text(app.live.complete_until()),
        unrecorded: gaps
            .into_iter()
            .map(|g| UnrecordedView { from: to_text(g.from), to: to_text(g.to), reason: g.reason })
            .collect(),
        tags,
    })
}

/// The extremes of each pixel; null opens a gap, and pixels left out hold the value before them.
#[derive(Serialize, ToSchema)]
pub struct PixelColumns {
    /// As it was named in the question.
    pub tag: String,
    pub offset: Vec<i64>,
    pub minimum: Vec<Option<f64>>,
    pub maximum: Vec<Option<f64>>,
    pub last: Vec<Option<f64>>,
    /// Spans for which values were set by hand: offsets of beginning and end.
    pub by_hand: Vec<[i64; 2]>,
    /// Limits in force now: `low_low`, `low`, `high`, `high_high`; level; priority.
    pub limits: Vec<LimitView>,
}

/// A limit drawn into a trend.
#[derive(Serialize, ToSchema)]
pub struct LimitView {
    pub kind: String,
    pub level: f64,
    pub priority: u8,
}

/// A period as a picture of given width.
#[utoipa::path(responses((status = 200, body = Answer<PixelColumns>)))]
#[post("/api/history/pixels")]
pub async fn pixels(app: Data<App>, person: Person, body: Json<Question>) -> Result<Json<Answer<PixelColumns>>, Problem> {
    person.may(Action::See)?;
    let asked = body.ask(&app, &person, 10, 800, 5000)?;
    let _turn = turn(&app, &asked).await?;
    let mut columns = Vec::new();
    for tag in &asked.tags {
        let found = app.live.db.pixels(&[tag.of], asked.from, asked.to, asked.parts).await?;
        let p = found.into_iter().next().unwrap_or_default();
        let limits = if tag.is_value() { app.live.limits(tag.tag.id) } else { Vec::new() };
        let limits = limits.into_iter().map(|(kind, level, priority)| {
            let kind = serde_json::to_value(kind.rule()).ok().and_then(|v| v.as_str().map(str::to_owned)).unwrap_or_default();
            LimitView { kind, level, priority }
        });
        let limits = limits.collect();
        columns.push(PixelColumns {
            tag: tag.name.clone(),
            offset: p.offset,
            minimum: p.minimum,
            maximum: p.maximum,
            last: p.last,
            by_hand: p.by_hand.into_iter().map(|(from, to)| [from, to]).collect(),
            limits,
        });
    }
    Ok(Json(answer(&app, &asked, columns).await?))
}

/// Samples as they are.
#[derive(Serialize, ToSchema)]
pub struct RawColumns {
    /// As it was named in the question.
    pub tag: String,
    pub offset: Vec<i64>,
    /// Boolean, number, text, or null where only the quality changed.
    #[schema(value_type = Vec<Object>)]
    pub value: Vec<Json_>,
    pub reason: Vec<&'static str>,
    /// Whether there are more than were asked for.
    pub more: bool,
}

/// Samples as they were stored.
#[utoipa::path(responses((status = 200, body = Answer<RawColumns>)))]
#[post("/api/history/raw")]
pub async fn raw(app: Data<App>, person: Person, body: Json<Question>) -> Result<Json<Answer<RawColumns>>, Problem> {
    person.may(Action::See)?;
    let asked = body.ask(&app, &person, 1, 1000, 100_000)?;
    if asked.tags.len() * asked.parts > MOST_RAW {
        let words = format!("Ask for at most {MOST_RAW} samples of all tags together.");
        return Err(Problem::field("parts", words));
    }
    let _turn = turn(&app, &asked).await?;
    let mut columns = Vec::new();
    for tag in &asked.tags {
        let mut kept = app.live.db.raw(tag.of, asked.from, asked.to, body.held, asked.parts as i64 + 1).await?;
        let more = kept.len() > asked.parts;
        kept.truncate(asked.parts);
        columns.push(RawColumns {
            tag: tag.name.clone(),
            offset: kept.iter().map(|k| k.time - asked.from).collect(),
            value: kept.iter().map(|k| k.value.as_ref().map_or(Json_::Null, Value::to_json)).collect(),
            reason: kept.iter().map(|k| k.quality.reason().words()).collect(),
            more,
        });
    }
    Ok(Json(answer(&app, &asked, columns).await?))
}

/// Statistics of equal spans, one entry each.
#[derive(Serialize, ToSchema)]
pub struct SpanColumns {
    /// As it was named in the question.
    pub tag: String,
    pub offset: Vec<i64>,
    /// Weighted by time.
    pub average: Vec<Option<f64>>,
    /// Whether the values are too large for their average to be exact.
    pub average_rounded: Vec<bool>,
    /// Numbers, whole ones beyond 2^53 as text; null where none is known.
    #[schema(value_type = Vec<Object>)]
    pub minimum: Vec<Json_>,
    #[schema(value_type = Vec<Object>)]
    pub maximum: Vec<Json_>,
    #[schema(value_type = Vec<Object>)]
    pub first: Vec<Json_>,
    #[schema(value_type = Vec<Object>)]
    pub last: Vec<Json_>,
    /// Good samples stored in the span.
    pub count: Vec<u64>,
    /// Share of the span for which a good value is known, 0 to 1.
    pub good: Vec<f64>,
    /// Share of the span for which the value was one set by hand, 0 to 1.
    pub by_hand: Vec<f64>,
}

/// Statistics of a period cut into equal spans.
#[utoipa::path(responses((status = 200, body = Answer<SpanColumns>)))]
#[post("/api/history/spans")]
pub async fn spans(app: Data<App>, person: Person, body: Json<Question>) -> Result<Json<Answer<SpanColumns>>, Problem> {
    person.may(Action::See)?;
    let asked = body.ask(&app, &person, 1, 1, 5000)?;
    let known_until = app.live.complete_until();
    let _turn = turn(&app, &asked).await?;
    let mut columns = Vec::new();
    for tag in &asked.tags {
        let found = app.live.db.spans(&[tag.of], asked.from, asked.to, asked.parts, known_until).await?;
        let s = found.into_iter().next().unwrap_or_default();
        columns.push(SpanColumns {
            tag: tag.name.clone(),
            offset: s.iter().map(|s| s.from - asked.from).collect(),
            average: s.iter().map(|s| s.average).collect(),
            average_rounded: s.iter().map(Span::is_average_rounded).collect(),
            minimum: column(&s, |s| s.minimum),
            maximum: column(&s, |s| s.maximum),
            first: column(&s, |s| s.first),
            last: column(&s, |s| s.last),
            count: s.iter().map(|s| s.count).collect(),
            good: s.iter().map(|s| s.good).collect(),
            by_hand: s.iter().map(|s| s.by_hand).collect(),
        });
    }
    Ok(Json(answer(&app, &asked, columns).await?))
}

fn column(parts: &[Span], of: impl Fn(&Span) -> Option<Number>) -> Vec<Json_> {
    parts.iter().map(|span| of(span).map_or(Json_::Null, Number::to_json)).collect()
}

/// Of which tag.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct TracksQuery {
    pub tag: Uuid,
}

/// A figure that is kept of a tag.
#[derive(Serialize, ToSchema)]
pub struct TrackView {
    /// As a question names it.
    pub name: String,
    /// `average`, `minimum`, `maximum` or `sum`.
    pub track: &'static str,
    pub recorder: Uuid,
    /// What the recorder is called; empty where it is gone.
    pub recorder_name: String,
    /// The length of its spans; null where the recorder is gone.
    pub every_s: Option<f64>,
}

/// Lists the figures that are kept of a tag.
#[utoipa::path(params(TracksQuery), responses((status = 200, body = Vec<TrackView>), (status = 404, body = Problem)))]
#[get("/api/history/tracks")]
pub async fn tracks(app: Data<App>, person: Person, query: Query<TracksQuery>) -> Result<Json<Vec<TrackView>>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let tag = plant.tags.get(&query.tag).ok_or_else(|| Problem::missing("tag"))?;
    let kept = app.live.db.kept_tracks(&[tag.no]).await?;
    let view = |kept: &KeptTrack| {
        let recorder = plant.recorders.get(&kept.recorder);
        TrackView {
            name: format!("{}.{}.{}", tag.id, kept.track.name(), kept.recorder),
            track: kept.track.name(),
            recorder: kept.recorder,
            recorder_name: recorder.map_or_else(String::new, |r| r.set.name.clone()),
            every_s: recorder.and_then(|r| r.set.every()).map(|every| every as f64 / SECOND as f64),
        }
    };
    Ok(Json(kept.iter().map(view).collect()))
}

/// Most bytes one import may have.
const IMPORT: usize = 64 << 20;

/// What an import took in; what was there before counts too.
#[derive(Serialize, ToSchema)]
pub struct ImportView {
    pub frames: usize,
    pub samples: usize,
    pub events: usize,
}

/// Takes frames (as `docs/architecture.md` describes them, one after the other) into history. All must come from one
/// node that is not this one, and each is taken once. Either all of them are taken or none.
#[utoipa::path(
    request_body(content_type = "application/octet-stream", content = Vec<u8>),
    responses((status = 200, body = ImportView), (status = 413, body = Problem), (status = 422, body = Problem))
)]
#[post("/api/history/import")]
pub async fn import(app: Data<App>, person: Person, body: Payload) -> Result<Json<ImportView>, Problem> {
    let actor = person.may(Action::Configure)?;
    let bytes = whole(body, IMPORT).await?;
    let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    let frames = block(move || decode(&bytes)).await.map_err(stopping)??;
    let taken = app.live.import(&frames).await?;
    let title = format!("Imported {} samples and {} alarm events", taken.samples, taken.events);
    app.live.note("system", Some(actor), None, &title, json!({"frames": taken.frames})).await?;
    Ok(Json(ImportView { frames: taken.frames, samples: taken.samples, events: taken.events }))
}

fn decode(mut bytes: &[u8]) -> Result<Vec<Frame>, Problem> {
    let mut frames = Vec::new();
    while !bytes.is_empty() {
        let wrong = |e: FrameError| Problem::field("body", format!("Frame {} cannot be read: {e}.", frames.len() + 1));
        let (frame, taken) = Frame::decode(bytes).map_err(wrong)?;
        frames.push(frame);
        bytes = &bytes[taken..];
    }
    Ok(frames)
}
