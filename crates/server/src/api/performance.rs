//! How well the alarms serve the people who watch them, for a place or an operator's area.

use super::{
    alarms::{HAVREL, heard_rules},
    period,
    plant::known_as,
};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    http::StatusCode,
    web::{Data, Query, block},
};
use havrel_core::{
    access::Action,
    alarm::{
        SystemAlarm,
        performance::{Grade, Measure, OfRule, Performance, Times},
        span::Turn,
    },
    plant::Plant,
    time::{Nanos, SECOND, to_text},
};
use havrel_jobs::{
    gather::called,
    performance::{Course, course},
};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Most rules and floods that one answer tells of.
const MOST_RULES: usize = 500;
const MOST_FLOODS: usize = 100;

/// Whose alarms, and when.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PerformanceQuery {
    pub from: String,
    pub to: String,
    /// Only on tags under this place.
    pub under: Option<Uuid>,
    /// Only on tags that this operator's area watches; empty for those that none does.
    pub area: Option<String>,
}

/// A figure that the guides have one for.
#[derive(Serialize, ToSchema)]
pub struct FigureOfAlarms {
    /// `average`, `most`, `flooded`, `top_ten`, `chattering`, `fleeting`, `stale` or `urgent`.
    #[schema(value_type = String)]
    pub measure: Measure,
    /// In words, and what the guides have for it.
    pub title: &'static str,
    pub guide: &'static str,
    pub value: f64,
    /// As it is printed: “0.7 %”.
    pub printed: String,
    /// `met`, `near` or `missed`.
    #[schema(value_type = String)]
    pub grade: Grade,
    /// “met”, “close” or “not met”.
    pub outcome: &'static str,
}

/// How long something took, in seconds; nothing where it never happened.
#[derive(Serialize, ToSchema)]
pub struct TimesView {
    pub count: usize,
    pub median_s: f64,
    /// Nine of ten were done by then.
    pub ninth_s: f64,
    pub longest_s: f64,
}

impl TimesView {
    fn of(times: Times) -> TimesView {
        let Times { count, median, ninth, longest } = times;
        TimesView { count, median_s: seconds(median), ninth_s: seconds(ninth), longest_s: seconds(longest) }
    }
}

/// One span of the course.
#[derive(Serialize, ToSchema)]
pub struct SlotView {
    pub count: usize,
    /// The most in ten minutes that began within it.
    pub most: usize,
}

/// A rule's alarm that came at an instant.
#[derive(Serialize, ToSchema)]
pub struct CameView {
    pub rule: Uuid,
    pub title: String,
    pub place: String,
    pub at: String,
}

/// Many alarms at once.
#[derive(Serialize, ToSchema)]
pub struct FloodView {
    pub from: String,
    pub to: String,
    pub count: usize,
    /// The most in ten minutes.
    pub most: usize,
    pub first: Vec<CameView>,
}

/// What came of one rule.
#[derive(Serialize, ToSchema)]
pub struct RuleFigures {
    pub rule: Uuid,
    pub title: String,
    pub place: String,
    /// The rule is there to be opened.
    pub exists: bool,
    pub priority: u8,
    pub count: usize,
    pub chattering: usize,
    pub fleeting: usize,
    /// For how long its alarm stood in the period.
    pub standing_s: f64,
    /// Since when it stands at the end of the period; empty where it does not.
    pub since: String,
}

/// One operator's area.
#[derive(Serialize, ToSchema)]
pub struct AreaFigures {
    /// Empty for what no area watches.
    pub name: String,
    pub count: usize,
    pub figures: Vec<FigureOfAlarms>,
}

/// How well alarms served in a period.
#[derive(Serialize, ToSchema)]
pub struct PerformanceView {
    /// The period that was counted: from the first event that history knows at the earliest, to now at the latest.
    pub from: String,
    pub to: String,
    /// For how long of it nothing was recorded.
    pub unknown_s: f64,
    /// Whether there are more events than are counted.
    pub more: bool,
    pub count: usize,
    pub figures: Vec<FigureOfAlarms>,
    /// When the ten minutes with the most alarms began.
    pub most_at: String,
    /// How many came with priority 1, 2, 3 and 4.
    pub by_priority: [usize; 4],
    /// The course: spans of so many seconds.
    pub slot_s: f64,
    pub slots: Vec<SlotView>,
    /// The newest first.
    pub floods: Vec<FloodView>,
    pub acknowledged: TimesView,
    pub returned: TimesView,
    /// The rules whose alarms came or stood, those that came most often first; at most 500.
    pub rules: Vec<RuleFigures>,
    /// How many rules there are with an alarm that came or stood.
    pub rules_in_all: usize,
    /// Each operator's area, where the whole is asked for and there are any.
    pub areas: Vec<AreaFigures>,
}

fn seconds(nanos: Nanos) -> f64 {
    nanos as f64 / SECOND as f64
}

fn figures(of: &Performance) -> Vec<FigureOfAlarms> {
    let figure = |(measure, value, grade): (Measure, f64, Grade)| FigureOfAlarms {
        measure,
        title: measure.title(),
        guide: measure.guide(),
        value,
        printed: measure.print(value),
        grade,
        outcome: grade.words(),
    };
    of.figures().into_iter().map(figure).collect()
}

/// Measures the alarms of a period against the figures of ISA-18.2, IEC 62682 and EEMUA 191.
#[utoipa::path(params(PerformanceQuery), responses((status = 200, body = PerformanceView), (status = 422, body = Problem)))]
#[get("/api/alarms/performance")]
pub async fn performance(
    app: Data<App>,
    person: Person,
    query: Query<PerformanceQuery>,
) -> Result<Json<PerformanceView>, Problem> {
    person.may_at(Action::See, query.under)?;
    let (asked_from, asked_to) = period(&query.from, &query.to)?;
    let plant = person.plant(&app);
    let areas = areas(&plant);
    let area_of = |rule: Uuid| areas.get(&rule).copied().unwrap_or_default();
    let mut rules = heard_rules(&person, &plant, query.under);
    if let Some(area) = &query.area {
        let heard = rules.unwrap_or_else(|| plant.rules.keys().copied().collect());
        rules = Some(heard.into_iter().filter(|rule| area_of(*rule) == area).collect());
    }
    let known: Vec<Uuid> = rules.clone().unwrap_or_else(|| plant.rules.keys().copied().collect());
    let _turn = app.limits.heavy().await?;
    let to = asked_to.min(havrel_live::now());
    let found = course(&app.live.db, rules.as_deref(), &known, (asked_from.min(to), to)).await?;
    let Course { from, to, unknown, turns, more } = found;
    // Each operator's area by itself: what is too much for one is not too much for three.
    let apart = query.area.is_none() && areas.values().any(|area| !area.is_empty());
    let mut by_area: BTreeMap<String, Vec<Turn>> = BTreeMap::new();
    if apart {
        for turn in turns.iter().filter(|turn| plant.rules.contains_key(&turn.rule)) {
            by_area.entry(area_of(turn.rule).to_owned()).or_default().push(*turn);
        }
    }
    let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    let count = move || {
        let of = |turns: &[Turn]| Performance::of(turns, from, to, unknown);
        let areas: Vec<(String, Performance)> = by_area.into_iter().map(|(name, turns)| (name, of(&turns))).collect();
        (of(&turns), areas)
    };
    let (whole, areas) = block(count).await.map_err(stopping)?;
    let named = |rule: Uuid| named(&plant, rule);
    let rule = |of: &OfRule| {
        let (title, place, exists) = named(of.rule);
        RuleFigures {
            rule: of.rule,
            title,
            place,
            exists,
            priority: of.priority,
            count: of.count,
            chattering: of.chattering,
            fleeting: of.fleeting,
            standing_s: seconds(of.standing),
            since: of.since.map(to_text).unwrap_or_default(),
        }
    };
    let came = |&(rule, at): &(Uuid, Nanos)| {
        let (title, place, _) = named(rule);
        CameView { rule, title, place, at: to_text(at) }
    };
    let floods = whole.floods.iter().rev().take(MOST_FLOODS).map(|flood| FloodView {
        from: to_text(flood.from),
        to: to_text(flood.to),
        count: flood.count,
        most: flood.most,
        first: flood.first.iter().map(came).collect(),
    });
    Ok(Json(PerformanceView {
        from: to_text(from),
        to: to_text(to),
        unknown_s: seconds(unknown),
        more,
        count: whole.count,
        figures: figures(&whole),
        most_at: to_text(whole.most.1),
        by_priority: whole.by_priority,
        slot_s: seconds(whole.slot),
        slots: whole.slots.iter().map(|slot| SlotView { count: slot.count, most: slot.most }).collect(),
        floods: floods.collect(),
        acknowledged: TimesView::of(whole.acknowledged),
        returned: TimesView::of(whole.returned),
        rules_in_all: whole.rules.len(),
        rules: whole.rules.iter().take(MOST_RULES).map(rule).collect(),
        areas: areas.iter().map(|(name, of)| AreaFigures { name: name.clone(), count: of.count, figures: figures(of) }).collect(),
    }))
}

/// The names of the operators' areas, in their order.
#[utoipa::path(responses((status = 200, body = Vec<String>)))]
#[get("/api/alarms/areas")]
pub async fn operator_areas(app: Data<App>, person: Person) -> Result<Json<Vec<String>>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let names: BTreeSet<&str> = plant.places.values().map(|place| place.set.operator_area.as_str()).collect();
    Ok(Json(names.into_iter().filter(|name| !name.is_empty()).map(str::to_owned).collect()))
}

/// Which operator's area watches each rule; empty for none.
fn areas(plant: &Plant) -> HashMap<Uuid, &str> {
    let mut of_place: HashMap<Uuid, &str> = HashMap::new();
    let rules = plant.rules.values().filter_map(|rule| {
        let place = plant.tags.get(&rule.set.tag)?.set.place;
        let area = *of_place.entry(place).or_insert_with(|| plant.operator_area(place).unwrap_or_default());
        Some((rule.id, area))
    });
    rules.collect()
}

/// What a rule is called, where it is, and whether it is there.
fn named(plant: &Plant, rule: Uuid) -> (String, String, bool) {
    let tag = plant.rules.get(&rule).and_then(|rule| plant.tags.get(&rule.set.tag));
    let place = match (tag, SystemAlarm::of(rule)) {
        (Some(tag), _) => known_as(plant, tag.set.place),
        (None, Some(_)) => HAVREL.to_owned(),
        (None, None) => String::new(),
    };
    (called(plant, rule), place, tag.is_some())
}
