//! Lookups: tables asked of history. Their rows page by page, what they come to, and those that are kept under a name.

pub mod files;
pub mod programs;

use super::{
    lines,
    remarks::{self, LONGEST_NAME, Made as MadeId, removable, whose},
};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpResponse, delete, get, post,
    web::{Data, Path},
};
use havrel_core::{
    access::Action,
    formula::Formula,
    lookup::{ColumnSums, Lookup, Sums, Table, What},
    plant::Plant,
    time::{Nanos, to_text},
};
use havrel_db::remarks::{Asks, KeptQuestion};
use havrel_jobs::lookup::{Block, Reader, Row};
use havrel_live::now;
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json_, json};
use std::{
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::sync::mpsc;
use utoipa::ToSchema;
use uuid::Uuid;

/// Most and usual rows of one answer.
const MOST_ROWS: usize = 2000;
const USUAL_ROWS: usize = 200;
/// Rows that are read at once where all are read.
const BLOCK: usize = 5000;
/// How often whoever waits is told how far it is.
const TELLS: Duration = Duration::from_millis(200);

/// A lookup and a place in it.
#[derive(Deserialize, ToSchema)]
pub struct LookupQuestion {
    /// Which tags, which period and what stands in a row; see `docs/lookup.md`. Tags in its condition are named by their paths.
    #[schema(value_type = Object)]
    pub lookup: Json_,
    /// Where to go on, as the answer before said; the first rows where it is left out.
    pub place: Option<String>,
    /// About how many rows, 1 to 2,000; usually 200.
    pub rows: Option<usize>,
}

/// A column.
#[derive(Serialize, ToSchema)]
pub struct LookupColumn {
    pub title: String,
    /// `time`, `text`, `value` (as a tag prints it) or `number`.
    pub holds: &'static str,
    /// The index of its tag; null where each row has its own.
    pub tag: Option<usize>,
    pub unit: String,
    pub decimals: u8,
    /// The names of its states.
    pub states: Option<Uuid>,
}

/// A tag of a lookup.
#[derive(Serialize, ToSchema)]
pub struct LookupTag {
    pub id: Uuid,
    pub title: String,
    pub unit: String,
    pub decimals: u8,
    pub states: Option<Uuid>,
}

/// Some rows.
#[derive(Serialize, ToSchema)]
pub struct LookupRows {
    pub from: String,
    pub to: String,
    /// Until when history is complete.
    pub complete_until: String,
    pub tags: Vec<LookupTag>,
    pub columns: Vec<LookupColumn>,
    /// A cell for each column: numbers, whole ones beyond 2^53 as text, texts, times as RFC 3339, or null.
    #[schema(value_type = Vec<Vec<Object>>)]
    pub rows: Vec<Vec<Json_>>,
    /// In a table with a row for each value: the index of each row's tag.
    pub row_tags: Vec<usize>,
    /// Where the next rows begin; null where these are the last. There may be none in this answer though more follow.
    pub next: Option<String>,
    /// How many rows there are, where that is known.
    pub total: Option<u64>,
}

/// A lookup made ready for whoever asks.
pub(super) struct Asked {
    pub plant: Arc<Plant>,
    pub table: Arc<Table>,
    pub complete_until: Nanos,
}

impl Asked {
    /// Reads a lookup as somebody wrote it, with tags by their paths in its condition.
    fn written(app: &App, person: &Person, mut lookup: Json_) -> Result<Asked, Problem> {
        let plant = person.plant(app);
        by_identity(&plant, &mut lookup)?;
        Asked::stored(app, plant, lookup, person.then.as_ref().map_or_else(now, |then| then.at))
    }

    /// Reads a lookup with tags by their identity.
    fn stored(app: &App, plant: Arc<Plant>, lookup: Json_, at: Nanos) -> Result<Asked, Problem> {
        let table = Arc::new(Table::of(&plant, read(lookup)?, at).map_err(wrong)?);
        let complete_until = app.live.complete_until().min(at);
        Ok(Asked { plant, table, complete_until })
    }

    pub fn reader<'a>(&'a self, app: &'a App) -> Reader<'a> {
        Reader::new(&app.live.db, &self.plant, &self.table, self.complete_until)
    }

    /// Reads everything, and hands on each block with the share that is done. It goes on as long as `take` says so.
    ///
    /// # Errors
    /// When the database does not answer, or `take` fails.
    pub async fn each(
        &self,
        app: &App,
        mut take: impl AsyncFnMut(Vec<Row>, f64) -> Result<bool, Problem>,
    ) -> Result<(), Problem> {
        let reader = self.reader(app);
        let mut place = None;
        loop {
            let Block { rows, next } = {
                // Others come between two blocks.
                let _turn = app.limits.patient().await?;
                reader.read(place, BLOCK).await?
            };
            place = next;
            if !take(rows, reader.share(place)).await? || place.is_none() {
                return Ok(());
            }
        }
    }
}

/// What is wrong with a lookup, each at its field.
fn wrong(found: Vec<(String, String)>) -> Problem {
    let mut all = found.into_iter();
    let Some((field, words)) = all.next() else { return Problem::field("lookup", "This lookup cannot be read.") };
    let mut problem = Problem::field(&field, words);
    problem.problems.extend(all.flat_map(|(field, words)| Problem::field(&field, words).problems));
    problem
}

fn read(lookup: Json_) -> Result<Lookup, Problem> {
    serde_json::from_value(lookup).map_err(|error| Problem::field("lookup", format!("This lookup cannot be read: {error}.")))
}

/// Names the tags of the condition by their identity.
fn by_identity(plant: &Plant, lookup: &mut Json_) -> Result<(), Problem> {
    let condition = lookup.get_mut("condition").and_then(|condition| condition.get_mut("text"));
    let Some(text) = condition else { return Ok(()) };
    let written = text.as_str().unwrap_or_default();
    let named = plant.formula_named(written, None).map_err(|wrong| Problem::field("condition", wrong.to_string()))?;
    *text = named.text.into();
    Ok(())
}

/// Gives some rows of a lookup.
#[utoipa::path(request_body = LookupQuestion, responses((status = 200, body = LookupRows), (status = 422, body = Problem)))]
#[post("/api/lookup/rows")]
pub async fn lookup_rows(app: Data<App>, person: Person, body: Json<LookupQuestion>) -> Result<Json<LookupRows>, Problem> {
    person.may(Action::See)?;
    let question = body.into_inner();
    let place = question.place.map(|place| place.parse().map_err(|_| Problem::field("place", "There is no such place.")));
    let asked = Asked::written(&app, &person, question.lookup)?;
    let most = question.rows.unwrap_or(USUAL_ROWS).clamp(1, MOST_ROWS);
    let _turn = app.limits.heavy().await?;
    let block = asked.reader(&app).read(place.transpose()?, most).await?;
    let (plant, table) = (&asked.plant, &asked.table);
    let tags = table.tags.iter().map(|tag| LookupTag {
        id: tag.id,
        title: plant.tag_path(&tag.set),
        unit: tag.set.unit.clone(),
        decimals: tag.set.decimals,
        states: tag.set.states,
    });
    Ok(Json(LookupRows {
        from: to_text(table.from),
        to: to_text(table.to),
        complete_until: to_text(asked.complete_until),
        tags: tags.collect(),
        columns: columns(table),
        row_tags: block.rows.iter().filter_map(|row| row.tag).collect(),
        rows: block.rows.iter().map(|row| row.entries.iter().map(|entry| entry.to_json()).collect()).collect(),
        next: block.next.map(|place| place.to_string()),
        total: table.rows(),
    }))
}

fn columns(table: &Table) -> Vec<LookupColumn> {
    let column = |column: &havrel_core::lookup::Column| LookupColumn {
        title: column.title.clone(),
        holds: match column.what {
            What::Time | What::To => "time",
            What::Tag | What::Unit | What::Quality | What::Marks => "text",
            What::Value => "value",
            What::Figure(figure) if figure.is_a_value() => "value",
            What::Figure(_) | What::InState(_) => "number",
        },
        tag: column.tag,
        unit: column.unit.clone(),
        decimals: column.decimals,
        states: column.states,
    };
    table.columns.iter().map(column).collect()
}

/// What a column comes to.
#[derive(Serialize, ToSchema)]
pub struct LookupColumnSums {
    /// Cells in which something stands.
    pub filled: u64,
    /// Those of them that are numbers.
    pub numbers: u64,
    pub minimum: Option<f64>,
    pub maximum: Option<f64>,
    /// Of its numbers, each counted once.
    pub average: Option<f64>,
    pub sum: Option<f64>,
}

impl From<&ColumnSums> for LookupColumnSums {
    fn from(sums: &ColumnSums) -> LookupColumnSums {
        LookupColumnSums {
            filled: sums.filled,
            numbers: sums.numbers,
            minimum: sums.minimum,
            maximum: sums.maximum,
            average: sums.average(),
            sum: (sums.numbers > 0).then_some(sums.sum),
        }
    }
}

/// How far a lookup was read, and what it comes to so far.
#[derive(Serialize, ToSchema)]
pub struct LookupSums {
    /// From 0 to 1.
    pub share: f64,
    pub rows: u64,
    /// A line for each column; only in the last line.
    pub columns: Vec<LookupColumnSums>,
    /// What kept it from being read to its end.
    pub failed: Option<String>,
}

/// Reads a whole lookup and says what it comes to. The answer is NDJSON: how far it is, until the last line gives the sums. It ends
/// when the request is ended.
#[utoipa::path(request_body = LookupQuestion,
    responses((status = 200, body = LookupSums, content_type = "application/x-ndjson"), (status = 422, body = Problem)))]
#[post("/api/lookup/sums")]
pub async fn lookup_sums(app: Data<App>, person: Person, body: Json<LookupQuestion>) -> Result<HttpResponse, Problem> {
    person.may(Action::See)?;
    let asked = Asked::written(&app, &person, body.into_inner().lookup)?;
    let (tell, told) = mpsc::channel(4);
    actix_web::rt::spawn(async move {
        let mut sums = Sums::new(asked.table.columns.len());
        let mut last = Instant::now();
        let line = |sums: &Sums, share, columns, failed| LookupSums { share, rows: sums.rows, columns, failed };
        let read = asked.each(&app, async |rows, share| {
            rows.iter().for_each(|row| sums.see(&row.entries));
            if last.elapsed() >= TELLS {
                last = Instant::now();
                return Ok(tell.send(line(&sums, share, Vec::new(), None)).await.is_ok());
            }
            Ok(!tell.is_closed())
        });
        let read = read.await;
        let columns = sums.columns.iter().map(LookupColumnSums::from).collect();
        let failed = read.err().map(|problem| problem.detail);
        // Whoever has gone away is told nothing.
        let _ = tell.send(line(&sums, 1.0, columns, failed)).await;
    });
    Ok(lines(told))
}

/// A lookup to be kept.
#[derive(Deserialize, ToSchema)]
pub struct NewLookup {
    /// 1 to 80 characters. A kept lookup of the same name is replaced if `replace` says so.
    pub name: String,
    #[schema(value_type = Object)]
    pub lookup: Json_,
    pub replace: Option<bool>,
}

/// A kept lookup.
#[derive(Serialize, ToSchema)]
pub struct LookupView {
    pub id: Uuid,
    pub name: String,
    #[schema(value_type = Object)]
    pub lookup: Json_,
    pub actor: String,
    pub made_at: String,
    /// Whether whoever asks may delete it.
    pub removable: bool,
}

/// Whether everything that a kept lookup names is seen.
fn names_only_seen(person: &Person, plant: &Plant, lookup: &Json_) -> bool {
    if person.scope.is_everything() {
        return true;
    }
    let Ok(lookup) = read(lookup.clone()) else { return false };
    let tags = lookup.tags.iter().copied().chain(lookup.condition.iter().flat_map(Formula::references));
    let mut places = lookup.choices.iter().filter_map(|choice| choice.place);
    tags.into_iter().all(|tag| plant.tags.contains_key(&tag)) && places.all(|place| plant.places.contains_key(&place))
}

/// All kept lookups by name.
#[utoipa::path(responses((status = 200, body = Vec<LookupView>)))]
#[get("/api/lookups")]
pub async fn kept_lookups(app: Data<App>, person: Person) -> Result<Json<Vec<LookupView>>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let kept = app.live.db.kept_questions(Asks::Lookup).await?.into_iter();
    let view = |k: KeptQuestion| {
        let mut lookup = k.question;
        if let Some(text) = lookup.get_mut("condition").and_then(|condition| condition.get_mut("text")) {
            *text = plant.formula_shown(text.as_str().unwrap_or_default()).into();
        }
        let removable = removable(&person, k.account);
        LookupView { id: k.id, name: k.name, lookup, actor: k.actor, made_at: to_text(k.made_at), removable }
    };
    Ok(Json(kept.filter(|k| names_only_seen(&person, &plant, &k.question)).map(view).collect()))
}

/// Keeps a lookup under a name.
#[utoipa::path(responses((status = 200, body = MadeId), (status = 422, body = Problem)))]
#[post("/api/lookups")]
pub async fn keep_lookup(app: Data<App>, person: Person, body: Json<NewLookup>) -> Result<Json<MadeId>, Problem> {
    let actor = person.may(Action::Remark)?;
    let NewLookup { name, mut lookup, replace } = body.into_inner();
    let name = remarks::text("name", &name, LONGEST_NAME)?.to_owned();
    let plant = person.plant(&app);
    by_identity(&plant, &mut lookup)?;
    let asked = Asked::stored(&app, plant, lookup, now())?;
    let id = remarks::keep(&app, &person, Asks::Lookup, &name, &json!(asked.table.lookup), replace.unwrap_or(false)).await?;
    app.live.note("lookup", Some(actor), Some(id), &format!("Saved the lookup “{name}”"), json!({})).await?;
    Ok(Json(MadeId { id }))
}

/// Deletes a kept lookup: whoever kept it, or an engineer.
#[utoipa::path(responses((status = 204), (status = 404, body = Problem)))]
#[delete("/api/lookups/{id}")]
pub async fn forget_lookup(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Remark)?;
    let forgotten = app.live.db.forget_question(Asks::Lookup, *id, whose(&person)).await?;
    let name = forgotten.ok_or_else(|| Problem::missing("saved lookup of yours"))?;
    app.live.note("lookup", Some(actor), Some(*id), &format!("Deleted the lookup “{name}”"), json!({})).await?;
    Ok(HttpResponse::NoContent().finish())
}
