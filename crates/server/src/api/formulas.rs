//! Formulas: try one while it is written, and compute the past of one.

use super::{time, values::ValueView};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get, post,
    web::{Data, Path},
};
use havrel_core::{
    access::Action,
    engine::Current,
    formula::{Formula, Mixed, Outcome, Program, Wrong, functions::FUNCTIONS},
    plant::Plant,
    time::{SECOND, to_text},
};
use havrel_live::Tried;
use serde::{Deserialize, Serialize};
use serde_json::json;
use utoipa::ToSchema;
use uuid::Uuid;

/// A function of formulas.
#[derive(Serialize, ToSchema)]
pub struct FunctionView {
    pub name: &'static str,
    /// What it takes, as one writes it.
    pub takes: &'static str,
    /// What it gives.
    pub words: &'static str,
    pub group: &'static str,
}

/// The functions of formulas.
#[utoipa::path(responses((status = 200, body = Vec<FunctionView>)))]
#[get("/api/formulas/functions")]
pub async fn functions(person: Person) -> Result<Json<Vec<FunctionView>>, Problem> {
    person.may(Action::See)?;
    let view = |f: &havrel_core::formula::functions::Function| FunctionView {
        name: f.name,
        takes: f.takes,
        words: f.words,
        group: f.group,
    };
    Ok(Json(FUNCTIONS.iter().map(view).collect()))
}

/// A formula to try.
#[derive(Deserialize, ToSchema)]
pub struct FormulaBody {
    /// With tags by their paths or identities.
    pub text: String,
    /// `convert` or `refuse`: what happens where values of different units of one quantity meet.
    #[serde(default)]
    #[schema(value_type = String)]
    pub mixed: Mixed,
    /// The unit of the tag that it is for; empty where it has none.
    #[serde(default)]
    pub unit: String,
    /// The tag that it is for; none where that is yet to be made.
    pub tag: Option<Uuid>,
    /// The place of the tag, in which others are named by their name alone.
    pub place: Option<Uuid>,
    /// Whether to run it over the last hour.
    #[serde(default)]
    pub run: bool,
}

/// Something wrong in a formula.
#[derive(Serialize, ToSchema)]
pub struct MistakeView {
    /// The first character, counted from 0, and the one behind the last.
    pub from: usize,
    pub to: usize,
    pub message: String,
}

impl From<Wrong> for MistakeView {
    fn from(wrong: Wrong) -> MistakeView {
        MistakeView { from: wrong.at, to: wrong.to, message: wrong.words }
    }
}

/// A tag that a formula reads.
#[derive(Serialize, ToSchema)]
pub struct InputView {
    pub id: Uuid,
    pub no: u32,
    pub title: String,
    pub unit: String,
    /// History knows its past.
    pub recorded: bool,
}

/// A formula over the last hour, as a picture.
#[derive(Serialize, ToSchema)]
pub struct HourView {
    pub from: String,
    pub to: String,
    /// Nanoseconds from `from`; null opens a gap.
    pub offset: Vec<i64>,
    pub minimum: Vec<Option<f64>>,
    pub maximum: Vec<Option<f64>>,
    pub last: Vec<Option<f64>>,
}

/// What came of trying a formula.
#[derive(Serialize, ToSchema)]
pub struct TriedFormula {
    pub wrong: Vec<MistakeView>,
    pub inputs: Vec<InputView>,
    /// What the result is measured in, where that is known.
    pub unit: String,
    /// Bytes that it remembers at most.
    pub bytes: usize,
    /// How far back it looks, in seconds.
    pub reach_s: f64,
    /// It counts from a beginning on: here from the beginning of the hour, once saved from then.
    pub counts: bool,
    /// What it gives now; none where it was not run.
    pub result: Option<ValueView>,
    pub hour: Option<HourView>,
}

/// Pixels of the picture.
const WIDTH: usize = 300;

/// Tries a formula: what is wrong with it, what it reads, what it gives now, and how it went over the last hour.
#[utoipa::path(responses((status = 200, body = TriedFormula)))]
#[post("/api/formulas/try")]
pub async fn try_formula(app: Data<App>, person: Person, body: Json<FormulaBody>) -> Result<Json<TriedFormula>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let (program, inputs) = match ready(&plant, &body) {
        Ok(ready) => ready,
        Err(Unready { wrong, inputs }) => {
            return Ok(Json(TriedFormula {
                wrong: wrong.into_iter().map(MistakeView::from).collect(),
                inputs,
                unit: String::new(),
                bytes: 0,
                reach_s: 0.0,
                counts: false,
                result: None,
                hour: None,
            }));
        }
    };
    let mut tried = TriedFormula {
        wrong: Vec::new(),
        inputs,
        unit: program.unit.clone(),
        bytes: program.most_bytes(),
        reach_s: program.reach() as f64 / SECOND as f64,
        counts: program.counts(),
        result: None,
        hour: None,
    };
    if body.run {
        let _turn = app.limits.heavy().await?;
        let Tried { now, from, to, hour } = app.live.try_formula(&plant, program.into(), WIDTH).await?;
        let title = |id: Uuid| plant.tags.get(&id).map(|tag| plant.tag_path(&tag.set));
        tried.result = now.map(|outcome: Outcome| ValueView::of(0, &Current::computed(outcome), &title));
        tried.hour = Some(HourView {
            from: to_text(from),
            to: to_text(to),
            offset: hour.offset,
            minimum: hour.minimum,
            maximum: hour.maximum,
            last: hour.last,
        });
    }
    Ok(Json(tried))
}

/// What is wrong with a formula, and what it reads as far as that could be found.
struct Unready {
    wrong: Vec<Wrong>,
    inputs: Vec<InputView>,
}

/// A formula made ready, with what it reads; otherwise what is wrong, with what could be found.
fn ready(plant: &Plant, body: &FormulaBody) -> Result<(Program, Vec<InputView>), Unready> {
    let unready = |wrong, inputs| Unready { wrong, inputs };
    let named = plant.formula_named(&body.text, body.place).map_err(|wrong| unready(vec![wrong], Vec::new()))?;
    let formula = serde_json::from_value::<Formula>(json!({"text": named.text, "mixed": body.mixed}));
    let formula = formula
        .map_err(|error| unready(vec![Wrong { at: 0, to: body.text.chars().count(), words: error.to_string() }], Vec::new()))?;
    let inputs: Vec<InputView> = formula.references().filter_map(|id| input(plant, id)).collect();
    if let Some(circle) = body.tag.and_then(|tag| plant.circle(tag, &formula)) {
        // The tag by which it comes back to itself is the one to point at.
        let reads = circle.get(1).copied().unwrap_or_default();
        let at = named.named.iter().position(|id| *id == reads).unwrap_or(0);
        let (at, to) = named.places.name(at).unwrap_or_default();
        return Err(unready(vec![Wrong { at, to, words: plant.circle_words(&circle) }], inputs));
    }
    match plant.program_at(&formula, &body.unit, &named.places) {
        Ok(program) => Ok((program, inputs)),
        Err(wrong) => Err(unready(wrong, inputs)),
    }
}

fn input(plant: &Plant, id: Uuid) -> Option<InputView> {
    let tag = plant.tags.get(&id)?;
    let title = plant.tag_path(&tag.set);
    Some(InputView { id, no: tag.no, title, unit: tag.set.unit.clone(), recorded: plant.is_recorded(tag) })
}

/// From when on the past is computed.
#[derive(Deserialize, ToSchema)]
pub struct PastBody {
    pub from: String,
}

/// The past that is being computed.
#[derive(Serialize, ToSchema)]
pub struct PastView {
    /// The job that computes it.
    pub job: Uuid,
    pub from: String,
    /// Until history holds values of the tag.
    pub to: String,
}

/// Computes the past of a tag's formula from recorded values, as a job.
#[utoipa::path(responses((status = 200, body = PastView), (status = 422, body = Problem)))]
#[post("/api/tags/{id}/past")]
pub async fn compute_past(
    app: Data<App>,
    person: Person,
    id: Path<Uuid>,
    body: Json<PastBody>,
) -> Result<Json<PastView>, Problem> {
    let plant = person.plant(&app);
    let tag = plant.tags.get(&id).ok_or_else(|| Problem::missing("tag"))?;
    let actor = person.may_at(Action::Configure, Some(tag.set.place))?;
    let past = app.live.compute_past(*id, time("from", &body.from)?, actor).await?;
    Ok(Json(PastView { job: past.job, from: to_text(past.from), to: to_text(past.to) }))
}
