//! Questions to history, answered in columns.

use super::period;
use crate::{app::App, auth::Person, problem::Problem};
use actix_web::{
    post,
    web::{Data, Json},
};
use havrel_core::{
    access::Action,
    history,
    plant::{Item, Tag},
    sample::Value,
    time::to_text,
};
use serde::{Deserialize, Serialize};
use serde_json::Value as Json_;
use std::sync::Arc;
use utoipa::ToSchema;
use uuid::Uuid;

/// Most tags in one question.
const MOST_TAGS: usize = 50;

/// Which tags, and when.
#[derive(Deserialize, ToSchema)]
pub struct Question {
    /// At most 50.
    pub tags: Vec<Uuid>,
    pub from: String,
    pub to: String,
    /// For pictures: width in pixels, 10 to 5,000. For spans: how many, 1 to 5,000. Raw: most samples of each tag, to 100,000.
    pub parts: Option<usize>,
}

impl Question {
    fn ask(&self, app: &App, least: usize, usual: usize, most: usize) -> Result<Asked, Problem> {
        if self.tags.len() > MOST_TAGS {
            return Err(Problem::field("tags", format!("Ask for at most {MOST_TAGS} tags at once.")));
        }
        let (from, to) = period(&self.from, &self.to)?;
        let plant = app.live.plant();
        let tags = self
            .tags
            .iter()
            .map(|id| plant.tags.get(id).cloned().ok_or_else(|| Problem::field("tags", "One of the tags does not exist.")));
        Ok(Asked { tags: tags.collect::<Result<_, _>>()?, from, to, parts: self.parts.unwrap_or(usual).clamp(least, most) })
    }
}

struct Asked {
    tags: Vec<Arc<Item<Tag>>>,
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
    pub tags: Vec<T>,
}

/// A span for which nothing was recorded.
#[derive(Serialize, ToSchema)]
pub struct UnrecordedView {
    pub from: String,
    pub to: String,
    pub reason: String,
}

async fn answer<T: ToSchema>(app: &App, asked: &Asked, tags: Vec<T>) -> Result<Answer<T>, Problem> {
    let gaps = app.live.db.unrecorded(asked.from, asked.to).await?;
    Ok(Answer {
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
    pub tag: Uuid,
    pub offset: Vec<i64>,
    pub minimum: Vec<Option<f64>>,
    pub maximum: Vec<Option<f64>>,
    pub last: Vec<Option<f64>>,
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
    let asked = body.ask(&app, 10, 800, 5000)?;
    let mut columns = Vec::new();
    for tag in &asked.tags {
        let points = app.live.db.points(tag.no, asked.from, asked.to).await?;
        let p = history::pixels(&points, asked.from, asked.to, asked.parts);
        let limits = app.live.limits(tag.id).into_iter().map(|(kind, level, priority)| {
            let kind = serde_json::to_value(kind).ok().and_then(|v| v.as_str().map(str::to_owned)).unwrap_or_default();
            LimitView { kind, level, priority }
        });
        let limits = limits.collect();
        columns.push(PixelColumns {
            tag: tag.id,
            offset: p.offset,
            minimum: p.minimum,
            maximum: p.maximum,
            last: p.last,
            limits,
        });
    }
    Ok(Json(answer(&app, &asked, columns).await?))
}

/// Samples as they are.
#[derive(Serialize, ToSchema)]
pub struct RawColumns {
    pub tag: Uuid,
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
    let asked = body.ask(&app, 1, 1000, 100_000)?;
    let mut columns = Vec::new();
    for tag in &asked.tags {
        let mut kept = app.live.db.raw(tag.no, asked.from, asked.to, false, asked.parts as i64 + 1).await?;
        let more = kept.len() > asked.parts;
        kept.truncate(asked.parts);
        columns.push(RawColumns {
            tag: tag.id,
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
    pub tag: Uuid,
    pub offset: Vec<i64>,
    /// Weighted by time.
    pub average: Vec<Option<f64>>,
    pub minimum: Vec<Option<f64>>,
    pub maximum: Vec<Option<f64>>,
    pub first: Vec<Option<f64>>,
    pub last: Vec<Option<f64>>,
    pub count: Vec<u64>,
    /// Share of the span for which a good value is known, 0 to 1.
    pub good: Vec<f64>,
}

/// Statistics of a period cut into equal spans.
#[utoipa::path(responses((status = 200, body = Answer<SpanColumns>)))]
#[post("/api/history/spans")]
pub async fn spans(app: Data<App>, person: Person, body: Json<Question>) -> Result<Json<Answer<SpanColumns>>, Problem> {
    person.may(Action::See)?;
    let asked = body.ask(&app, 1, 1, 5000)?;
    let known_until = app.live.complete_until();
    let mut columns = Vec::new();
    for tag in &asked.tags {
        let points = app.live.db.points(tag.no, asked.from, asked.to).await?;
        let s = history::spans(&points, asked.from, asked.to, asked.parts, known_until);
        columns.push(SpanColumns {
            tag: tag.id,
            offset: s.iter().map(|s| s.from - asked.from).collect(),
            average: s.iter().map(|s| s.average).collect(),
            minimum: s.iter().map(|s| s.minimum).collect(),
            maximum: s.iter().map(|s| s.maximum).collect(),
            first: s.iter().map(|s| s.first).collect(),
            last: s.iter().map(|s| s.last).collect(),
            count: s.iter().map(|s| s.count).collect(),
            good: s.iter().map(|s| s.good).collect(),
        });
    }
    Ok(Json(answer(&app, &asked, columns).await?))
}
