//! Alarms: what stands, what happened, and what a person does about them.

use super::{period, plant::known_as, time};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get, post,
    web::{Data, Query},
};
use havrel_core::{
    access::Action,
    alarm::{
        AlarmAction, AlarmEvent, AlarmStanding, Condition, EventKind, Handling, KeptValue, StandardState, Suppressed,
        Suppression, SystemAlarm, span,
    },
    plant::{Item, Plant, Rule, Tag},
    time::to_text,
};
use havrel_db::alarms::EventFilter;
use havrel_jobs::gather::rules_under;
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::{collections::HashMap, sync::PoisonError};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// An alarm that is not normal.
#[derive(Serialize, ToSchema)]
pub struct AlarmView {
    pub rule: Uuid,
    /// None for an alarm about Havrel itself.
    pub tag: Option<Uuid>,
    /// The tag's number in the live feed.
    pub no: Option<u32>,
    pub place: Option<Uuid>,
    /// Its name, behind the equipment that it stands in.
    pub place_name: String,
    pub place_path: String,
    /// What the rule watches: “Temperature high”.
    pub title: String,
    /// The standard's name: `unacknowledged`, `acknowledged`, `returned_unacknowledged`, `latched_unacknowledged`,
    /// `latched_acknowledged`, `shelved`, `suppressed_by_design` or `out_of_service`.
    #[schema(value_type = String)]
    pub state: StandardState,
    /// Whether the condition holds now: `normal`, `active`, or `latched` where it is gone and waits to be reset.
    #[schema(value_type = String)]
    pub condition: Condition,
    /// What keeps it from the operator, the strongest last.
    pub suppressions: Vec<SuppressionView>,
    pub priority: u8,
    /// The class of its alarms; empty where it is of none.
    pub class_name: String,
    /// It sounds where the sound is on.
    pub sound: bool,
    /// Somebody tries whether people are reached: nothing is wrong at the plant.
    pub test: bool,
    /// It came as the first of its first-out group.
    pub first_out: bool,
    /// What came as the first of that group, if it was another alarm that still stands; otherwise empty.
    pub came_after: String,
    /// As it came last, empty where it never did: “Temperature high, 84.6 °C over 82.0”.
    pub text: String,
    pub cause: String,
    /// What to do.
    pub action: String,
    pub raised_at: String,
    /// Empty while the condition holds.
    pub returned_at: String,
    pub acknowledged_by: String,
    pub unit: String,
    pub decimals: u8,
    /// The set that names the tag's states.
    pub states: Option<Uuid>,
}

/// A reason for which an alarm is kept from the operator.
#[derive(Serialize, ToSchema)]
pub struct SuppressionView {
    /// `shelved`, `by_design` or `out_of_service`.
    #[schema(value_type = String)]
    pub kind: Suppression,
    /// Who; empty for logic.
    pub by: String,
    pub since: String,
    /// Empty: until somebody ends it.
    pub until: String,
    pub reason: String,
}

fn suppressions(s: &AlarmStanding) -> Vec<SuppressionView> {
    let view = |(&kind, s): (&Suppression, &Suppressed)| SuppressionView {
        kind,
        by: s.by.clone(),
        since: to_text(s.since),
        until: s.until.map(to_text).unwrap_or_default(),
        reason: s.reason.clone(),
    };
    s.state.suppressions.iter().map(view).collect()
}

/// Where alarms about Havrel itself stand.
pub(super) const HAVREL: &str = "Havrel";

impl AlarmView {
    fn of_system(alarm: SystemAlarm, s: &AlarmStanding) -> AlarmView {
        AlarmView {
            rule: s.rule,
            tag: None,
            no: None,
            place: None,
            place_name: HAVREL.into(),
            place_path: HAVREL.into(),
            title: s.text.clone(),
            state: s.state.standard(),
            condition: s.state.condition,
            suppressions: suppressions(s),
            priority: alarm.priority(),
            class_name: String::new(),
            sound: true,
            test: alarm == SystemAlarm::Test,
            first_out: false,
            came_after: String::new(),
            text: s.text.clone(),
            cause: alarm.cause().into(),
            action: alarm.action().into(),
            raised_at: to_text(s.raised_at),
            returned_at: if s.is_active() { String::new() } else { to_text(s.returned_at) },
            acknowledged_by: s.acknowledged_by.clone(),
            unit: String::new(),
            decimals: 0,
            states: None,
        }
    }
}

/// The alarms that stand, with the number to follow events from.
#[derive(Serialize, ToSchema)]
pub struct AlarmList {
    /// Number of the last event that is in it.
    pub last: u64,
    /// Newest first.
    pub alarms: Vec<AlarmView>,
}

/// Lists the alarms that stand.
#[utoipa::path(responses((status = 200, body = AlarmList)))]
#[get("/api/alarms")]
pub async fn standing(app: Data<App>, person: Person) -> Result<Json<AlarmList>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let (last, standing) = match &person.then {
        None => {
            let board = app.live.alarms.read().unwrap_or_else(PoisonError::into_inner);
            (board.last(), board.standing().into_iter().cloned().collect())
        }
        Some(then) => {
            let system = SystemAlarm::ALL.map(|alarm| (alarm.id(), Handling::default()));
            let rules = plant.rules.values().map(|r| (r.id, plant.handling(&r.set))).chain(system).collect();
            let mut standing: Vec<AlarmStanding> = app.live.db.standings_at(&rules, then.at).await?;
            standing.sort_by_key(|s| (std::cmp::Reverse(s.raised_at), s.rule));
            (0, standing)
        }
    };
    let idle = plant.idle_places();
    let told_first = standing.iter().filter(|s| s.first_out && s.state.suppressions.is_empty());
    let firsts: HashMap<_, &AlarmStanding> =
        told_first.filter_map(|s| Some((plant.first_out_group(&plant.rules.get(&s.rule)?.set)?, s))).collect();
    let first_of = |rule: &Rule| firsts.get(&plant.first_out_group(rule)?).copied();
    let alarms = standing.iter().filter_map(|s| {
        if let Some(alarm) = SystemAlarm::of(s.rule).filter(|_| person.scope.is_everything()) {
            return Some(AlarmView::of_system(alarm, s));
        }
        let rule = &plant.rules.get(&s.rule)?.set;
        let tag = plant.tags.get(&rule.tag)?;
        // Operators are not told of it; or nobody judges it, and what keeps it back waits for when somebody does again.
        if !rule.is_told() || !rule.enabled || idle.contains(&tag.set.place) {
            return None;
        }
        let time = |at: i64| to_text(at);
        Some(AlarmView {
            rule: s.rule,
            tag: Some(tag.id),
            no: Some(tag.no),
            place: Some(tag.set.place),
            place_name: known_as(&plant, tag.set.place),
            place_path: plant.path(Some(tag.set.place)),
            title: title(tag, &plant, s.rule),
            state: s.state.standard(),
            condition: s.state.condition,
            suppressions: suppressions(s),
            priority: rule.priority,
            class_name: plant.alarm_class(rule).map_or_else(String::new, |class| class.name.clone()),
            sound: plant.alarm_class(rule).is_none_or(|class| class.sound),
            test: false,
            first_out: s.first_out,
            came_after: first_of(rule).filter(|_| !s.first_out).map(|first| first.text.clone()).unwrap_or_default(),
            text: s.text.clone(),
            cause: rule.cause.clone(),
            action: rule.action.clone(),
            raised_at: time(s.raised_at),
            returned_at: if s.is_active() { String::new() } else { time(s.returned_at) },
            acknowledged_by: s.acknowledged_by.clone(),
            unit: rule.unit_on(&tag.set.unit),
            decimals: tag.set.decimals,
            states: tag.set.states,
        })
    });
    Ok(Json(AlarmList { last, alarms: alarms.collect() }))
}

/// What a person does about alarms.
#[derive(Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum AlarmAct {
    Acknowledge,
    /// Lets go of latched alarms.
    Reset,
    Shelve,
    /// Ends shelving early.
    Unshelve,
    TakeOutOfService,
    PutInService,
}

impl AlarmAct {
    fn action(self, until: Option<i64>) -> AlarmAction {
        match self {
            AlarmAct::Acknowledge => AlarmAction::Acknowledge,
            AlarmAct::Reset => AlarmAction::Reset,
            AlarmAct::Shelve => AlarmAction::Suppress(Suppression::Shelved, until),
            AlarmAct::Unshelve => AlarmAction::Lift(Suppression::Shelved),
            AlarmAct::TakeOutOfService => AlarmAction::Suppress(Suppression::OutOfService, until),
            AlarmAct::PutInService => AlarmAction::Lift(Suppression::OutOfService),
        }
    }

    /// What somebody must be allowed to.
    const fn needs(self) -> Action {
        match self {
            AlarmAct::TakeOutOfService | AlarmAct::PutInService => Action::Configure,
            _ => Action::Acknowledge,
        }
    }

    /// The kind of its entry in the journal, and how that begins.
    const fn journaled(self) -> (&'static str, &'static str) {
        match self {
            AlarmAct::Acknowledge => ("acknowledge", "Acknowledged"),
            AlarmAct::Reset => ("reset", "Reset"),
            AlarmAct::Shelve => ("shelve", "Shelved"),
            AlarmAct::Unshelve => ("unshelve", "Unshelved"),
            AlarmAct::TakeOutOfService => ("take_out_of_service", "Took out of service"),
            AlarmAct::PutInService => ("put_in_service", "Put back in service"),
        }
    }
}

/// What is done, and about which alarms.
#[derive(Deserialize, ToSchema)]
pub struct AlarmActBody {
    pub action: AlarmAct,
    /// Rules, at most 10,000.
    #[serde(default)]
    pub rules: Vec<Uuid>,
    /// In place of them: every rule on a tag of this place and of what lies under it.
    pub under: Option<Uuid>,
    /// When shelving ends, at most 7 days from now; out of service may end by itself, too.
    pub until: Option<String>,
    /// Why; needed for shelving and for taking out of service.
    #[serde(default)]
    pub comment: String,
}

/// For how many alarms it changed something.
#[derive(Serialize, ToSchema)]
pub struct AlarmsActed {
    pub count: usize,
}

/// Does something about alarms: acknowledges, resets, shelves them or takes them out of service.
#[utoipa::path(responses((status = 200, body = AlarmsActed), (status = 422, body = Problem)))]
#[post("/api/alarms/act")]
pub async fn act(app: Data<App>, person: Person, body: Json<AlarmActBody>) -> Result<Json<AlarmsActed>, Problem> {
    let plant = person.plant(&app);
    let body = body.into_inner();
    let actor = person.may(body.action.needs())?;
    let rules = match body.under {
        Some(_) if !body.rules.is_empty() => return Err(Problem::field("under", "Name rules or a place, not both.")),
        Some(place) => {
            person.may_at(body.action.needs(), Some(place))?;
            rules_under(&plant, place)
        }
        None => body.rules,
    };
    let place = |rule: &Uuid| plant.rules.get(rule).and_then(|r| plant.tags.get(&r.set.tag)).map(|t| t.set.place);
    if rules.len() > 10_000 {
        return Err(Problem::field("rules", "Choose at most 10,000 alarms at once."));
    }
    for rule in &rules {
        person.may_at(body.action.needs(), place(rule))?;
        if !person.hears_of(&plant, *rule) {
            return Err(Problem::field("rules", "One of the alarms does not exist."));
        }
    }
    let until = body.until.as_deref().map(|until| time("until", until)).transpose()?;
    let action = body.action.action(until);
    action.check(havrel_live::now(), &body.comment).map_err(|(field, message)| Problem::field(field, message))?;
    let title_of = |rule: Uuid| match app.live.alarm_text(rule) {
        Some(text) if SystemAlarm::of(rule).is_some() => text,
        _ => plant.title(havrel_core::plant::Kind::Rule, rule),
    };
    let titles: Vec<String> = rules.iter().take(20).map(|&rule| title_of(rule)).collect();
    let count = app.live.act_on_alarms(rules, action, actor, body.comment.clone()).await?;
    if count > 0 {
        let (kind, begins) = body.action.journaled();
        let alarms = if count == 1 { "1 alarm".to_owned() } else { format!("{count} alarms") };
        let title = match (body.under, titles.as_slice()) {
            (Some(place), _) => format!("{begins} {alarms} of {}", plant.path(Some(place))),
            (None, [title]) => format!("{begins} {title}"),
            _ => format!("{begins} {alarms}"),
        };
        let detail = json!({"rules": titles, "comment": body.comment, "until": until.map(to_text)});
        app.live.remark(kind, Some(actor), None, &title, detail).await;
    }
    Ok(Json(AlarmsActed { count }))
}

/// Something that happened to an alarm.
#[derive(Serialize, ToSchema)]
pub struct EventView {
    /// Newer ones have greater numbers.
    pub id: i64,
    pub rule: Uuid,
    pub tag: Option<Uuid>,
    pub place_path: String,
    /// `raised`, `returned`, `acknowledged`, `withdrawn`, `reset`, `shelved`, `unshelved`, `suppressed`, `unsuppressed`,
    /// `taken_out_of_service` or `put_in_service`.
    #[schema(value_type = String)]
    pub kind: EventKind,
    /// 4 to 1; 0 for what operators are not told.
    pub priority: u8,
    /// It came as the first of its first-out group.
    pub first_out: bool,
    pub occurred_at: String,
    pub decided_at: String,
    pub text: String,
    pub actor: String,
    pub comment: String,
    /// What the rule keeps with its events, as it was at that instant.
    pub values: Vec<KeptValueView>,
}

/// A value that goes with an event.
#[derive(Serialize, ToSchema)]
pub struct KeptValueView {
    pub name: String,
    /// With its unit, or the name of its state.
    pub text: String,
}

impl KeptValueView {
    pub(super) fn of(KeptValue { name, text }: KeptValue) -> KeptValueView {
        KeptValueView { name, text }
    }
}

impl EventView {
    pub(crate) fn of(plant: &Plant, id: i64, e: AlarmEvent) -> EventView {
        let tag = plant.rules.get(&e.rule).and_then(|r| plant.tags.get(&r.set.tag));
        EventView {
            id,
            rule: e.rule,
            tag: tag.map(|t| t.id),
            place_path: match SystemAlarm::of(e.rule) {
                Some(_) => HAVREL.into(),
                None => tag.map_or_else(String::new, |t| plant.path(Some(t.set.place))),
            },
            kind: e.kind,
            priority: e.priority,
            first_out: e.first_out,
            occurred_at: to_text(e.occurred_at),
            decided_at: to_text(e.decided_at),
            // What has never come yet has said nothing.
            text: if e.text.is_empty() { tag.map_or_else(String::new, |t| title(t, plant, e.rule)) } else { e.text },
            actor: e.actor,
            comment: e.comment,
            values: e.values.into_iter().map(KeptValueView::of).collect(),
        }
    }
}

/// What an alarm is called: “Level high”.
fn title(tag: &Item<Tag>, plant: &Plant, rule: Uuid) -> String {
    let known = plant.rules.get(&rule).map_or("", |rule| rule.set.known_as());
    format!("{} {known}", tag.set.name)
}

/// The rules whose events somebody may hear of, under a place if one is given; `None`: every rule there is or was.
pub(super) fn heard_rules(person: &Person, plant: &Plant, under: Option<Uuid>) -> Option<Vec<Uuid>> {
    match under {
        Some(place) => Some(rules_under(plant, place)),
        None if person.scope.is_everything() => None,
        None => Some(plant.rules.keys().copied().collect()),
    }
}

/// Which events.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct EventQuery {
    pub from: Option<String>,
    pub to: Option<String>,
    /// Only on tags under this place.
    pub under: Option<Uuid>,
    /// Only of this rule.
    pub rule: Option<Uuid>,
    /// Only older than this event.
    pub before: Option<i64>,
    /// At most 1,000; usually 200.
    pub limit: Option<i64>,
}

/// Lists what happened, newest first.
#[utoipa::path(params(EventQuery), responses((status = 200, body = Vec<EventView>)))]
#[get("/api/alarms/events")]
pub async fn events(app: Data<App>, person: Person, query: Query<EventQuery>) -> Result<Json<Vec<EventView>>, Problem> {
    person.may_at(Action::See, query.under)?;
    let plant = person.plant(&app);
    let at = |field, text: &Option<String>, or| text.as_deref().map_or(Ok(or), |t| time(field, t));
    let filter = EventFilter {
        from: at("from", &query.from, i64::MIN)?,
        to: at("to", &query.to, i64::MAX)?,
        rules: match query.rule {
            Some(rule) if person.hears_of(&plant, rule) => Some(vec![rule]),
            Some(_) => Some(Vec::new()),
            None => heard_rules(&person, &plant, query.under),
        },
        ..EventFilter::ALL
    };
    let most = query.limit.unwrap_or(200).clamp(1, 1000);
    let found = app.live.db.alarm_events(&filter, query.before, most).await?;
    Ok(Json(found.into_iter().map(|(id, e)| EventView::of(&plant, id, e)).collect()))
}

/// Whose alarms, and when.
#[derive(Deserialize, ToSchema)]
pub struct SpanBody {
    /// At most 50 tags.
    pub tags: Vec<Uuid>,
    pub from: String,
    pub to: String,
}

/// A span for which an alarm's condition held.
#[derive(Serialize, ToSchema)]
pub struct AlarmSpanView {
    pub tag: Uuid,
    pub rule: Uuid,
    pub priority: u8,
    /// “Temperature high”.
    pub title: String,
    pub from: String,
    /// Empty while it holds.
    pub to: String,
}

/// Most turns that one answer is made of.
const MOST_TURNS: i64 = 2000;

/// Tells when alarms of some tags held in a period. A rule that is gone tells nothing.
#[utoipa::path(responses((status = 200, body = Vec<AlarmSpanView>), (status = 422, body = Problem)))]
#[post("/api/alarms/spans")]
pub async fn alarm_spans(app: Data<App>, person: Person, body: Json<SpanBody>) -> Result<Json<Vec<AlarmSpanView>>, Problem> {
    person.may(Action::See)?;
    if body.tags.len() > 50 {
        return Err(Problem::field("tags", "Ask for at most 50 tags at once."));
    }
    let (from, to) = period(&body.from, &body.to)?;
    let plant = person.plant(&app);
    let rules: Vec<Uuid> = plant.rules.values().filter(|r| body.tags.contains(&r.set.tag)).map(|r| r.id).collect();
    let turns = app.live.db.alarm_turns(&rules, from, to, MOST_TURNS).await?;
    let view = |s: span::AlarmSpan| {
        let rule = plant.rules.get(&s.rule)?;
        let tag = plant.tags.get(&rule.set.tag)?;
        Some(AlarmSpanView {
            tag: tag.id,
            rule: s.rule,
            priority: s.priority,
            title: format!("{} {}", tag.set.name, rule.set.known_as()),
            from: to_text(s.from),
            to: s.to.map(to_text).unwrap_or_default(),
        })
    };
    Ok(Json(span::spans(turns, from, to).into_iter().filter_map(view).collect()))
}
