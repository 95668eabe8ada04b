//! The history of the alarms: rows of a list by their index, and the same as a file.

use super::{
    alarms::{EventView, heard_rules},
    files::attachment,
    time,
};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpResponse, get,
    http::StatusCode,
    web::{Data, Query, block},
};
use havrel_core::{access::Action, alarm::EventKind, plant::Plant};
use havrel_db::alarms::{EventFilter, Word};
use havrel_jobs::listing::{Cell, Listing};
use serde::{Deserialize, Serialize, de::value::StrDeserializer};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Most rows one answer gives, and one file holds.
const MOST_ROWS: i64 = 500;
const MOST_IN_FILE: i64 = 100_000;
/// Most words of a filter.
const MOST_WORDS: usize = 12;

/// Which alarm events.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AlarmSheetQuery {
    /// Only on tags under this place.
    pub under: Option<Uuid>,
    /// Only of this rule.
    pub rule: Option<Uuid>,
    /// Only what occurred from here on, and before there.
    pub since: Option<String>,
    pub until: Option<String>,
    /// Words that must all occur in place, text, comment or who, whatever their case.
    pub text: Option<String>,
    /// Digits of the priorities that are wanted, such as `43`; 0 for what is only recorded.
    pub priorities: Option<String>,
    /// Kinds of event that are wanted, separated by commas, such as `raised,returned`.
    pub kinds: Option<String>,
    /// Also what was kept from the operator, and suppression by design itself; usually not.
    pub suppressed: Option<bool>,
    /// Only events up to this number, so that rows keep their index while new ones happen.
    pub upto: Option<i64>,
    /// Index of the first row, from 0; the latest to occur comes first.
    pub from: Option<i64>,
    /// At most 500; usually 100.
    pub count: Option<i64>,
}

/// Rows of the history of alarms.
#[derive(Serialize, ToSchema)]
pub struct AlarmSheet {
    /// Number of the newest event that is counted.
    pub upto: i64,
    pub total: i64,
    pub rows: Vec<EventView>,
}

impl AlarmSheetQuery {
    fn filter(&self, person: &Person, plant: &Plant) -> Result<EventFilter, Problem> {
        person.may_at(Action::See, self.under)?;
        let instant = |field, text: &Option<String>| text.as_deref().map(|text| time(field, text)).transpose();
        let mut from = instant("since", &self.since)?.unwrap_or(EventFilter::ALL.from);
        let mut to = instant("until", &self.until)?.map_or(EventFilter::ALL.to, |until| until.saturating_sub(1));
        if from > to {
            return Err(Problem::field("until", "The period must end after it begins."));
        }
        if let Some(then) = &person.then {
            (from, to) = (from.min(then.at), to.min(then.at));
        }
        let kind = |name: &str| {
            let known = EventKind::deserialize(StrDeserializer::<serde::de::value::Error>::new(name));
            known.map_err(|_| Problem::field("kinds", format!("There is no kind of event “{name}”.")))
        };
        let digit = |digit: char| match digit.to_digit(5) {
            Some(digit) => Ok(digit as u8),
            None => Err(Problem::field("priorities", "Priorities are 4 to 0.")),
        };
        let named = |names: &Option<String>| names.as_deref().unwrap_or_default().to_owned();
        Ok(EventFilter {
            from,
            to,
            rules: match self.rule {
                Some(rule) if person.hears_of(plant, rule) => Some(vec![rule]),
                Some(_) => Some(Vec::new()),
                None => heard_rules(person, plant, self.under),
            },
            told: !self.suppressed.unwrap_or(false),
            priorities: named(&self.priorities).chars().map(digit).collect::<Result<_, _>>()?,
            kinds: named(&self.kinds).split(',').filter(|name| !name.is_empty()).map(kind).collect::<Result<_, _>>()?,
            words: words(plant, &named(&self.text)),
        })
    }
}

/// The words of a filter, each with the rules in whose name or place it occurs.
fn words(plant: &Plant, text: &str) -> Vec<Word> {
    let text = text.to_lowercase();
    let words: Vec<&str> = text.split([' ', '/']).filter(|word| !word.is_empty()).take(MOST_WORDS).collect();
    if words.is_empty() {
        return Vec::new();
    }
    let mut all: Vec<Word> = words.iter().map(|word| Word { text: (*word).to_owned(), rules: Vec::new() }).collect();
    for rule in plant.rules.values() {
        let Some(tag) = plant.tags.get(&rule.set.tag) else { continue };
        let path = format!("{} {}", plant.tag_path(&tag.set), rule.set.known_as()).to_lowercase();
        for word in all.iter_mut().filter(|word| path.contains(&word.text)) {
            word.rules.push(rule.id);
        }
    }
    all
}

/// Rows of what happened to alarms, the latest to occur first.
#[utoipa::path(params(AlarmSheetQuery), responses((status = 200, body = AlarmSheet), (status = 422, body = Problem)))]
#[get("/api/sheets/alarms")]
pub async fn alarm_sheet(app: Data<App>, person: Person, query: Query<AlarmSheetQuery>) -> Result<Json<AlarmSheet>, Problem> {
    let plant = person.plant(&app);
    let filter = query.filter(&person, &plant)?;
    let count = query.count.unwrap_or(100).clamp(0, MOST_ROWS);
    let _turn = if filter.words.is_empty() { None } else { Some(app.limits.heavy().await?) };
    let (upto, total, rows) = app.live.db.alarm_page(&filter, query.upto, query.from.unwrap_or(0), count).await?;
    Ok(Json(AlarmSheet { upto, total, rows: rows.into_iter().map(|(id, e)| EventView::of(&plant, id, e)).collect() }))
}

/// Which events, and as what.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AlarmFileQuery {
    /// `csv` or `xlsx`.
    pub format: String,
    /// The time zone of a workbook's dates (IANA, such as `Europe/Oslo`); usually UTC.
    pub zone: Option<String>,
}

/// What happened to alarms as a file, by the same filter as the rows, the latest to occur first. It is whole, or refused.
#[utoipa::path(params(AlarmSheetQuery, AlarmFileQuery),
    responses((status = 200, content_type = "application/octet-stream", body = Vec<u8>), (status = 422, body = Problem)))]
#[get("/api/alarms/history/file")]
pub async fn alarm_file(
    app: Data<App>,
    person: Person,
    query: Query<AlarmSheetQuery>,
    file: Query<AlarmFileQuery>,
) -> Result<HttpResponse, Problem> {
    let plant = person.plant(&app);
    let filter = query.filter(&person, &plant)?;
    let file = file.into_inner();
    if !matches!(file.format.as_str(), "csv" | "xlsx") {
        return Err(Problem::field("format", "The format is csv or xlsx."));
    }
    let _turn = app.limits.heavy().await?;
    let events = app.live.db.alarm_events(&filter, None, MOST_IN_FILE + 1).await?;
    if events.len() as i64 > MOST_IN_FILE {
        let words = "There are more than 100,000 events. Choose a shorter period, or a narrower filter.";
        return Err(Problem::field("since", words));
    }
    let made = block(move || {
        let head =
            ["Time", "Place", "Alarm", "Event", "Priority", "Value", "Limit", "Who", "Comment", "Values with it", "Known at"];
        let rows = events.into_iter().map(|(id, event)| {
            let (value, limit) = (Cell::Number(event.value), Cell::Number(event.limit.into()));
            let words = event.words();
            let (occurred, decided, priority) = (event.occurred_at, event.decided_at, f64::from(event.priority));
            let EventView { place_path, text, actor, comment, values, .. } = EventView::of(&plant, id, event);
            let values = values.iter().map(|value| format!("{}: {}", value.name, value.text)).collect::<Vec<_>>().join("; ");
            let texts = [place_path, text, words].map(Cell::from);
            let behind =
                [Cell::Number(priority.into()), value, limit, actor.into(), comment.into(), values.into(), Cell::Time(decided)];
            [Cell::Time(occurred)].into_iter().chain(texts).chain(behind).collect()
        });
        let listing = Listing { head: head.map(str::to_owned).to_vec(), rows: rows.collect() };
        match file.format.as_str() {
            "csv" => listing.csv().map_err(|e| e.to_string()),
            _ => listing.xlsx("Alarm history", file.zone.as_deref().unwrap_or("UTC")).map_err(|e| e.to_string()),
        }
        .map(|bytes| (file.format, bytes))
    });
    let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    let (format, bytes) = made.await.map_err(stopping)?.map_err(|e| Problem::failed(&e))?;
    let kind = match format.as_str() {
        "csv" => "text/csv; charset=utf-8",
        _ => "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
    };
    Ok(attachment(kind, &format!("alarm-history.{format}"), bytes))
}
