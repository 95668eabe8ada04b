//! The review of alarm rules: what speaks against each, by its settings and by what history tells, and who has checked it.

use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    http::StatusCode,
    post,
    web::{Data, Query, block},
};
use havrel_core::{
    access::Action,
    alarm::performance::Performance,
    plant::{
        Checked, Consequences, Edit, Guide, Kind, Op, Plant,
        guide::LEVELS,
        rule::RECORDED_ONLY,
        view::{Finding, RuleQuery},
    },
    time::{Nanos, SECOND, to_text},
};
use havrel_db::config::By;
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::{
    collections::HashSet,
    sync::{Arc, PoisonError},
};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

const DAY: Nanos = 86_400 * SECOND;
/// Most events in which chattering is looked for.
const MOST_EVENTS: i64 = 1_000_000;

/// What history tells against a rule.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum OfHistory {
    /// Its alarm has not come for a year.
    NeverCame,
    /// Its alarm has stood for more than a day.
    AlwaysStands,
    /// Its alarm chattered within the last seven days.
    Chatters,
}

impl OfHistory {
    const ALL: [OfHistory; 3] = [OfHistory::NeverCame, OfHistory::AlwaysStands, OfHistory::Chatters];

    /// The rules of which it is so now.
    pub(super) async fn rules(self, app: &App, plant: &Plant, now: Nanos) -> Result<HashSet<Uuid>, Problem> {
        let judged = |rule: &Uuid| plant.rules.get(rule).is_some_and(|rule| rule.set.enabled && rule.set.is_told());
        Ok(match self {
            OfHistory::NeverCame => {
                let came: HashSet<Uuid> = app.live.db.rules_raised(now - 365 * DAY).await?.into_iter().collect();
                plant.rules.keys().copied().filter(|rule| judged(rule) && !came.contains(rule)).collect()
            }
            OfHistory::AlwaysStands => {
                let board = app.live.alarms.read().unwrap_or_else(PoisonError::into_inner);
                let stands = board.standing().into_iter().filter(|s| s.is_active() && now - s.raised_at > DAY).map(|s| s.rule);
                stands.filter(judged).collect()
            }
            OfHistory::Chatters => {
                let from = now - 7 * DAY;
                let turns = app.live.db.alarm_course(None, &[], (from, now), MOST_EVENTS).await?;
                let counted = block(move || Performance::of(&turns, from, now, 0)).await;
                let counted = counted.map_err(|_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping."))?;
                counted.rules.iter().filter(|of| of.chattering > 0).map(|of| of.rule).filter(judged).collect()
            }
        })
    }
}

/// Which rules.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ReviewQuery {
    /// Only on tags under this place.
    pub under: Option<Uuid>,
}

/// How many rules something was found of.
#[derive(Serialize, ToSchema)]
pub struct FoundView {
    /// `not_argued`, `overruled`, `unchecked`, `unguided`, `duplicate`, `outside_range`, `wrong_order`, `never_came`, `always_stands`
    /// or `chatters`.
    pub finding: String,
    pub count: usize,
}

/// How the alarm rules of a place stand.
#[derive(Serialize, ToSchema)]
pub struct ReviewView {
    /// How many rules are on.
    pub rules: usize,
    /// How many of them have priority 0 (recorded only), 1, 2, 3 and 4.
    pub by_priority: [usize; 5],
    pub found: Vec<FoundView>,
}

fn name(finding: impl Serialize) -> String {
    serde_json::to_value(finding).ok().and_then(|name| name.as_str().map(str::to_owned)).unwrap_or_default()
}

/// Reviews the alarm rules of a place as they are now.
#[utoipa::path(params(ReviewQuery), responses((status = 200, body = ReviewView)))]
#[get("/api/alarms/review")]
pub async fn review(app: Data<App>, person: Person, query: Query<ReviewQuery>) -> Result<Json<ReviewView>, Problem> {
    person.may_at(Action::See, query.under)?;
    person.of_now()?;
    let plant = person.plant(&app);
    let (under, now) = (query.under, havrel_live::now());
    let _turn = app.limits.heavy().await?;
    let mut by_history = Vec::new();
    for finding in OfHistory::ALL {
        by_history.push((finding, finding.rules(&app, &plant, now).await?));
    }
    let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    let live = app.live.clone();
    block(move || {
        let asked = RuleQuery { under, ..RuleQuery::default() };
        let all = live.rule_view(&plant, RuleQuery { enabled: Some(true), ..asked.clone() });
        let mut by_priority = [0; 5];
        for rule in all.rows(0, all.len()).iter().filter_map(|rule| plant.rules.get(rule)) {
            by_priority[usize::from(rule.set.priority.min(4))] += 1;
        }
        let here: HashSet<&Uuid> = all.rows(0, all.len()).iter().collect();
        let settings = Finding::ALL.into_iter().map(|finding| {
            let found = live.rule_view(&plant, RuleQuery { finding: Some(finding), ..asked.clone() });
            FoundView { finding: name(finding), count: found.len() }
        });
        let history = by_history.iter().map(|(finding, rules)| FoundView {
            finding: name(finding),
            count: rules.iter().filter(|r| here.contains(r)).count(),
        });
        Json(ReviewView { rules: all.len(), by_priority, found: settings.chain(history).collect() })
    })
    .await
    .map_err(stopping)
}

/// Reads what a sheet of rules asks for: something in their settings, or the rules of which history tells it.
pub(super) async fn asked(
    app: &App,
    plant: &Plant,
    finding: &str,
) -> Result<(Option<Finding>, Option<Arc<HashSet<Uuid>>>), Problem> {
    if let Ok(finding) = serde_json::from_value::<Finding>(finding.into()) {
        return Ok((Some(finding), None));
    }
    let history = serde_json::from_value::<OfHistory>(finding.into());
    let history = history.map_err(|_| Problem::field("finding", "A review finds nothing of this name."))?;
    Ok((None, Some(Arc::new(history.rules(app, plant, havrel_live::now()).await?))))
}

/// Rules that somebody has checked.
#[derive(Deserialize, ToSchema)]
pub struct CheckedBody {
    pub rules: Vec<Uuid>,
    /// The revision in which they were looked at; a rule that has changed since is refused.
    pub revision: i64,
}

/// What came of it.
#[derive(Serialize, ToSchema)]
pub struct CheckedView {
    pub revision: i64,
}

/// Marks rules as checked by whoever asks, as they are now.
#[utoipa::path(request_body = CheckedBody, responses((status = 200, body = CheckedView), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/api/rules/checked")]
pub async fn checked_rules(app: Data<App>, person: Person, body: Json<CheckedBody>) -> Result<Json<CheckedView>, Problem> {
    let actor = person.may(Action::Configure)?;
    let plant = person.plant(&app);
    if body.rules.is_empty() || body.rules.len() > 1000 {
        return Err(Problem::field("rules", "Check 1 to 1,000 rules at once."));
    }
    let at = to_text(havrel_live::now());
    let mut edits = Vec::new();
    for id in &body.rules {
        let rule = plant.rules.get(id).ok_or_else(|| Problem::missing("alarm rule"))?;
        person.may_at(Action::Configure, plant.tags.get(&rule.set.tag).map(|tag| tag.set.place))?;
        let checked = Checked { by: actor.name.clone(), at: at.clone(), mark: rule.set.mark() };
        let set = json!({ "checked": checked }).as_object().cloned().unwrap_or_default();
        edits.push(Edit { kind: Kind::Rule, id: *id, op: Op::Patch(set), seen: Some(body.revision) });
    }
    let why = match body.rules.as_slice() {
        [one] => format!("Checked the alarm rule {}", plant.title(Kind::Rule, *one)),
        several => format!("Checked {} alarm rules", several.len()),
    };
    let by = By { account: Some(actor.account), actor: actor.name.clone(), why: why.chars().take(400).collect(), undoes: None };
    let next = app.live.commit(&edits, &by).await?;
    Ok(Json(CheckedView { revision: next.revision }))
}

/// What an alarm is argued with.
#[derive(Deserialize, ToSchema)]
pub struct ArgumentBody {
    /// How grave it is where nobody acts, by `safety`, `environment`, `production`, `quality` and `equipment`: 0 to 3.
    #[schema(value_type = Object)]
    pub consequences: Consequences,
    /// Minutes within which somebody must act.
    pub respond_min: f64,
}

/// What the guide gives.
#[derive(Serialize, ToSchema)]
pub struct ArguedView {
    /// 4 to 1; 0 where no alarm is due.
    pub priority: u8,
}

/// Tells which priority the site's guide gives.
#[utoipa::path(request_body = ArgumentBody, responses((status = 200, body = ArguedView), (status = 422, body = Problem)))]
#[post("/api/rules/argued")]
pub async fn argued(app: Data<App>, person: Person, body: Json<ArgumentBody>) -> Result<Json<ArguedView>, Problem> {
    person.may(Action::See)?;
    if body.consequences.gravest() > LEVELS {
        return Err(Problem::field("consequences", "A consequence is 0 to 3."));
    }
    let priority = person.plant(&app).guide().priority(&body.consequences, body.respond_min);
    Ok(Json(ArguedView { priority: priority.unwrap_or(RECORDED_ONLY) }))
}

/// The site's guide to priorities.
#[derive(Serialize, ToSchema)]
pub struct GuideView {
    /// The item that holds it; none where the site has none of its own, and the usual one holds.
    pub id: Option<Uuid>,
    pub revision: i64,
    #[schema(value_type = Object)]
    pub guide: Guide,
}

/// Gives the guide by which priorities are argued for.
#[utoipa::path(responses((status = 200, body = GuideView)))]
#[get("/api/alarms/guide")]
pub async fn guide(app: Data<App>, person: Person) -> Result<Json<GuideView>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    Ok(Json(GuideView { id: plant.guides.keys().next().copied(), revision: plant.revision, guide: plant.guide() }))
}
