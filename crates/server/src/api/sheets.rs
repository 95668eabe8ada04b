//! What sheets show: rows of long lists by their index, so that a browser holds only those it draws.

use super::plant::source_of;
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    http::StatusCode,
    post,
    web::{Data, Query, block},
};
use havrel_core::{
    access::Action,
    alarm::RuleKind,
    plant::{
        Item, Kind, RecordMode, Rule, Settings,
        loop_check::{Checks, Proof},
        table::{
            self,
            template::{self, Template},
        },
        view::{RuleQuery, TagQuery, TagSort},
    },
    quality::Class,
};
use havrel_link::Kinds;
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, HashMap, HashSet},
    sync::Arc,
};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Most rows one answer gives.
const MOST_ROWS: usize = 500;

/// Which tags, in which order, and which rows of them.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct TagSheetQuery {
    /// Only under this place, at any depth.
    pub under: Option<Uuid>,
    pub connection: Option<Uuid>,
    /// Only those that have a source, or only those without.
    /// Read from a connection or computed, or neither.
    pub bound: Option<bool>,
    /// Computed by a formula.
    pub computed: Option<bool>,
    pub recorded: Option<bool>,
    /// Has an alarm rule that is on.
    pub alarmed: Option<bool>,
    pub in_service: Option<bool>,
    /// Is read from the same place as another tag.
    pub twice: Option<bool>,
    /// Whose value was `good`, `uncertain` or `bad` at the moment that `moment` stands for.
    pub quality: Option<String>,
    /// Whose value is set by hand at that moment.
    pub by_hand: Option<bool>,
    /// Which has an active or unacknowledged alarm at that moment.
    pub in_alarm: Option<bool>,
    /// How far it is proven: `never`, `failed`, `changed` or `proven`; only tags whose source is a device.
    pub proof: Option<String>,
    /// It is read in service, and a value of it is known, or none is.
    pub answered: Option<bool>,
    /// Any number; the same one means the same moment, so that rows keep their index.
    pub moment: Option<u64>,
    /// Words that must all occur in the path, whatever their case.
    pub text: Option<String>,
    /// `plant` (as the engineer ordered it; the default), `name`, `place`, `unit`, `source`,
    /// `recorded`, or any column of the table of tags.
    pub sort: Option<String>,
    /// The other way round.
    pub down: Option<bool>,
    /// Index of the first row, from 0.
    pub from: Option<usize>,
    /// At most 500; usually 100.
    pub count: Option<usize>,
}

/// A tag as a row.
#[derive(Serialize, ToSchema)]
pub struct TagRow {
    pub id: Uuid,
    /// Its number in the live feed.
    pub no: u32,
    pub name: String,
    pub place: Uuid,
    pub place_path: String,
    pub unit: String,
    pub decimals: u8,
    /// The set that names its states.
    pub states: Option<Uuid>,
    /// Where it is read, in words; empty where it is unbound.
    pub source: String,
    /// How it is recorded: `on_change` or `each_poll`; null where it is not.
    #[schema(value_type = Option<String>)]
    pub recorded: Option<RecordMode>,
    /// Limits in force: “high 80”.
    pub limits: String,
    /// The revision that changed it last.
    pub revision: i64,
    /// Its place, or one above it, is out of service.
    pub idle: bool,
    /// How far it is proven: `never`, `failed`, `changed` or `proven`; null where no device is its source.
    #[schema(value_type = Option<String>)]
    pub proof: Option<Proof>,
    /// What each column of the table of tags says.
    pub cells: Vec<String>,
}

/// Rows of a sheet of tags.
#[derive(Serialize, ToSchema)]
pub struct TagSheet {
    pub revision: i64,
    pub total: usize,
    pub rows: Vec<TagRow>,
}

/// Rows of the tags that a query finds.
#[utoipa::path(params(TagSheetQuery), responses((status = 200, body = TagSheet)))]
#[get("/api/sheets/tags")]
pub async fn tag_sheet(app: Data<App>, person: Person, query: Query<TagSheetQuery>) -> Result<Json<TagSheet>, Problem> {
    person.may_at(Action::See, query.under)?;
    let q = query.into_inner();
    let sort = q.sort.as_deref().unwrap_or("plant");
    let sort = TagSort::from_name(sort).ok_or_else(|| Problem::field("sort", "There is no such order."))?;
    let words = q.text.unwrap_or_default().chars().take(200).collect();
    let quality = match q.quality.as_deref() {
        None => None,
        Some("good") => Some(Class::Good),
        Some("uncertain") => Some(Class::Uncertain),
        Some("bad") => Some(Class::Bad),
        Some(_) => return Err(Problem::field("quality", "A quality is good, uncertain or bad.")),
    };
    let proof = match q.proof.as_deref() {
        None => None,
        Some(name) => {
            let proof = Proof::from_name(name);
            Some(proof.ok_or_else(|| Problem::field("proof", "A proof is never, failed, changed or proven."))?)
        }
    };
    let mut asked = TagQuery {
        under: q.under,
        connection: q.connection,
        bound: q.bound,
        computed: q.computed,
        recorded: q.recorded,
        alarmed: q.alarmed,
        in_service: q.in_service,
        twice: q.twice,
        quality,
        by_hand: q.by_hand,
        in_alarm: q.in_alarm,
        proof,
        answered: q.answered,
        moment: 0,
        words,
        sort,
        down: q.down.unwrap_or(false),
    };
    if asked.passing() {
        person.of_now()?;
        asked.moment = q.moment.unwrap_or(0);
    }
    let (from, count) = (q.from.unwrap_or(0), q.count.unwrap_or(100).min(MOST_ROWS));
    let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    let (plant, of_now) = (person.plant(&app), person.then.is_none());
    // Sorting a large plant takes too long for a worker that others wait for.
    block(move || {
        let view = app.live.tag_view(&plant, asked);
        let shown = view.rows(from, count);
        let wanted: HashSet<Uuid> = shown.iter().copied().collect();
        let reader = table::Reader::of(&plant, |tag| wanted.contains(&tag));
        let mut limits: HashMap<Uuid, Vec<(f64, String)>> = shown.iter().map(|&id| (id, Vec::new())).collect();
        for rule in plant.rules.values().filter(|r| r.set.enabled) {
            if let Some(list) = limits.get_mut(&rule.set.tag) {
                list.push((rule.set.order(), rule.set.in_short()));
            }
        }
        // Settings of connections are hidden from who sees a part of the plant; the proof rests on them.
        let (whole, last) = (app.live.plant(), app.live.last_checks());
        let checks = Checks { plant: &whole, last: &last, wire: &Kinds };
        let row = |id: &Uuid| {
            let tag = plant.tags.get(id)?;
            let mut limits = limits.remove(id).unwrap_or_default();
            limits.sort_by(|a, b| a.0.total_cmp(&b.0));
            Some(TagRow {
                id: *id,
                no: tag.no,
                name: tag.set.name.clone(),
                place: tag.set.place,
                place_path: plant.path(Some(tag.set.place)),
                unit: tag.set.unit.clone(),
                decimals: tag.set.decimals,
                states: tag.set.states,
                source: source_of(&plant, *id),
                recorded: tag.set.record.then_some(tag.set.record_mode),
                limits: limits.into_iter().map(|l| l.1).collect::<Vec<_>>().join(", "),
                revision: tag.revision,
                idle: plant.out_of_service(tag.set.place).is_some(),
                proof: if of_now { checks.proof(*id) } else { None },
                cells: reader.cells(Kind::Tag, *id),
            })
        };
        Json(TagSheet { revision: view.revision, total: view.len(), rows: shown.iter().filter_map(row).collect() })
    })
    .await
    .map_err(stopping)
}

/// Which alarm rules, in which order, and which rows of them.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct RuleSheetQuery {
    /// Only on tags under this place, at any depth.
    pub under: Option<Uuid>,
    /// Only this rule.
    pub only: Option<Uuid>,
    /// `high`, `deviation`, `rate`, `state` and so on.
    pub kind: Option<String>,
    pub priority: Option<u8>,
    pub enabled: Option<bool>,
    /// An equipment class says it.
    pub of_class: Option<bool>,
    /// A review finds this: `not_argued`, `overruled`, `unchecked`, `unguided`, `duplicate`, `outside_range`, `wrong_order`; or by history
    /// `never_came`, `always_stands` or `chatters`.
    pub finding: Option<String>,
    /// It cannot work at the moment that `moment` stands for.
    pub faulty: Option<bool>,
    /// Any number; the same one means the same moment, so that rows keep their index.
    pub moment: Option<u64>,
    /// Words that must all occur in the path of its tag or in what it is known by, whatever their case.
    pub text: Option<String>,
    /// `plant` (as places and tags stand there; the default), or a column of the table of rules.
    pub sort: Option<String>,
    /// The other way round.
    pub down: Option<bool>,
    /// Index of the first row, from 0.
    pub from: Option<usize>,
    /// At most 500; usually 100.
    pub count: Option<usize>,
}

/// An alarm rule as a row.
#[derive(Serialize, ToSchema)]
pub struct RuleRow {
    pub id: Uuid,
    pub tag: Uuid,
    /// The number of its tag in the live feed.
    pub no: u32,
    /// The path of its tag, and what it is known by.
    pub title: String,
    /// How its tag shows a value.
    pub unit: String,
    pub decimals: u8,
    pub states: Option<Uuid>,
    pub priority: u8,
    pub enabled: bool,
    /// The priority that the site's guide gives, 0 where no alarm is due; none where it is not argued for.
    pub argued: Option<u8>,
    /// Who checked it last and when, empty where nobody has; and whether it is still as it was then.
    pub checked_by: String,
    pub checked_at: String,
    pub checked: bool,
    /// Why it cannot work at present.
    pub fault: Option<String>,
    /// What each column of the table of rules says.
    pub cells: Vec<String>,
}

/// Rows of a sheet of alarm rules.
#[derive(Serialize, ToSchema)]
pub struct RuleSheet {
    pub revision: i64,
    pub total: usize,
    pub rows: Vec<RuleRow>,
}

/// Rows of the alarm rules that a query finds.
#[utoipa::path(params(RuleSheetQuery), responses((status = 200, body = RuleSheet)))]
#[get("/api/sheets/rules")]
pub async fn rule_sheet(app: Data<App>, person: Person, query: Query<RuleSheetQuery>) -> Result<Json<RuleSheet>, Problem> {
    person.may_at(Action::See, query.under)?;
    let q = query.into_inner();
    let kind = match q.kind.as_deref() {
        None => None,
        Some(name) => {
            let kind = serde_json::from_value::<RuleKind>(name.into());
            Some(kind.map_err(|_| Problem::field("kind", "There is no such kind of alarm rule."))?)
        }
    };
    let (finding, only) = match q.finding.as_deref() {
        None => (None, None),
        Some(name) => super::review::asked(&app, &person.plant(&app), name).await?,
    };
    let only = q.only.map(|rule| Arc::new(HashSet::from([rule]))).or(only);
    let sort = match q.sort.as_deref().unwrap_or("plant") {
        "plant" => None,
        name => {
            let column = table::column_of(Kind::Rule, name);
            Some(column.ok_or_else(|| Problem::field("sort", "There is no such order."))?.key)
        }
    };
    let mut asked = RuleQuery {
        under: q.under,
        kind,
        priority: q.priority,
        enabled: q.enabled,
        of_class: q.of_class,
        finding,
        only,
        faulty: q.faulty,
        moment: 0,
        words: q.text.unwrap_or_default().chars().take(200).collect(),
        sort,
        down: q.down.unwrap_or(false),
    };
    if asked.faulty.is_some() {
        person.of_now()?;
        asked.moment = q.moment.unwrap_or(0);
    }
    let (from, count) = (q.from.unwrap_or(0), q.count.unwrap_or(100).min(MOST_ROWS));
    let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    let (plant, of_now) = (person.plant(&app), person.then.is_none());
    // Sorting a large plant takes too long for a worker that others wait for.
    block(move || {
        let view = app.live.rule_view(&plant, asked);
        let shown: Vec<_> = view.rows(from, count).iter().filter_map(|id| plant.rules.get(id).map(AsRef::as_ref)).collect();
        let faults = if of_now { app.live.rule_faults(&plant, &shown) } else { vec![None; shown.len()] };
        let reader = table::Reader::of(&plant, |_| false);
        let guide = plant.guide();
        let row = |(rule, fault): (&&Item<Rule>, Option<String>)| {
            let tag = plant.tags.get(&rule.set.tag)?;
            Some(RuleRow {
                id: rule.id,
                tag: tag.id,
                no: tag.no,
                title: plant.title(Kind::Rule, rule.id),
                unit: tag.set.unit.clone(),
                decimals: tag.set.decimals,
                states: tag.set.states,
                priority: rule.set.priority,
                enabled: rule.set.enabled,
                argued: rule.set.argued(&guide),
                checked_by: rule.set.checked.as_ref().map(|checked| checked.by.clone()).unwrap_or_default(),
                checked_at: rule.set.checked.as_ref().map(|checked| checked.at.clone()).unwrap_or_default(),
                checked: rule.set.is_checked(),
                fault,
                cells: reader.cells(Kind::Rule, rule.id),
            })
        };
        Json(RuleSheet { revision: view.revision, total: view.len(), rows: shown.iter().zip(faults).filter_map(row).collect() })
    })
    .await
    .map_err(stopping)
}

/// Most rows that are made at once: so many can be written at once.
const MOST_MADE: usize = 20_000;

/// Rules that are to be made for many tags.
#[derive(Deserialize, ToSchema)]
pub struct TemplateBody {
    /// The tags under this place, at any depth; null: of the whole plant.
    pub under: Option<Uuid>,
    /// Words that must all occur in the path.
    #[serde(default)]
    pub text: String,
    /// Only tags with a range.
    #[serde(default)]
    pub with_range: bool,
    /// Only tags measured in this unit.
    pub unit: Option<String>,
    /// What is written of each rule, by column of the table of rules; a level may be a part of the range, as “90 %”.
    pub rules: Vec<Template>,
}

/// Rules that were passed over.
#[derive(Serialize, ToSchema)]
pub struct PassedOver {
    /// Why, as the rest of a sentence about their tags: “have no range of which 90 % could be taken”.
    pub why: String,
    pub count: usize,
    /// The paths of the first of them.
    pub tags: Vec<String>,
}

/// A row that is to be made, by column.
#[derive(Serialize, ToSchema)]
pub struct MadeRow {
    pub id: Uuid,
    pub cells: BTreeMap<String, String>,
}

/// Rows for the sheet of rules, to be looked at before they are saved.
#[derive(Serialize, ToSchema)]
pub struct MadeRules {
    /// How many tags were found.
    pub tags: usize,
    pub rows: Vec<MadeRow>,
    pub passed: Vec<PassedOver>,
}

/// Writes a row for each tag that is found and each rule; nothing is saved.
#[utoipa::path(request_body = TemplateBody, responses((status = 200, body = MadeRules), (status = 422, body = Problem)))]
#[post("/api/rules/made")]
pub async fn made_rules(app: Data<App>, person: Person, body: Json<TemplateBody>) -> Result<Json<MadeRules>, Problem> {
    person.may_at(Action::Configure, body.under)?;
    let body = body.into_inner();
    if body.rules.is_empty() || body.rules.len() > 20 {
        return Err(Problem::field("rules", "Make 1 to 20 rules for each tag."));
    }
    let unknown = body.rules.iter().flat_map(|rule| rule.keys()).find(|key| table::column_of(Kind::Rule, key).is_none());
    if let Some(key) = unknown {
        return Err(Problem::field("rules", format!("There is no column “{key}”.")));
    }
    let plant = person.plant(&app);
    let words = body.text.chars().take(200).collect();
    let query = TagQuery { under: body.under, words, ..TagQuery::default() };
    let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    block(move || {
        let view = app.live.tag_view(&plant, query);
        let fits = |id: &&Uuid| {
            plant.tags.get(*id).is_some_and(|tag| {
                (!body.with_range || (tag.set.range_low.is_some() && tag.set.range_high.is_some()))
                    && body.unit.as_ref().is_none_or(|unit| *unit == tag.set.unit)
            })
        };
        let tags: Vec<Uuid> = view.rows(0, view.len()).iter().filter(fits).copied().collect();
        if tags.len() * body.rules.len() > MOST_MADE {
            return Err(Problem::field(
                "text",
                "This makes more than 20,000 rows, which cannot be saved at once; narrow the tags down.",
            ));
        }
        let (rows, passed) = template::rows(&plant, &tags, &body.rules, &mut Uuid::now_v7);
        let made =
            |row: table::Row| MadeRow { id: row.id, cells: row.cells.into_iter().map(|cell| (cell.column, cell.text)).collect() };
        let over =
            |p: template::Passed| PassedOver { why: p.why, count: p.tags.len(), tags: p.tags.into_iter().take(5).collect() };
        Ok(Json(MadeRules {
            tags: tags.len(),
            rows: rows.into_iter().map(made).collect(),
            passed: passed.into_iter().map(over).collect(),
        }))
    })
    .await
    .map_err(stopping)?
}
