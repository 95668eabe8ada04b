//! What moved before an alarm: values near it that behaved unlike their usual selves, other alarms, and what people did.

use super::{alarms::EventView, plant::known_as, time};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    http::StatusCode,
    web::{Data, Query, block},
};
use havrel_core::{
    access::Action,
    alarm::{
        EventKind,
        before::{How, Moved, SPAN, USUAL, WINDOW, moved, worth},
    },
    time::{Nanos, to_text},
};
use havrel_db::alarms::EventFilter;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// So many recorded values are looked at, the nearest in the plant first, and so many are told.
const MOST_LOOKED_AT: usize = 200;
const MOST_TOLD: usize = 8;
/// Values that are read at once.
const AT_ONCE: usize = 10;
/// Other alarms, and things that people did, that are told.
const MOST_EVENTS: i64 = 20;
/// Steps in the plant tree within which something is near.
const NEAR: usize = 4;

/// A value that moved.
#[derive(Serialize, ToSchema)]
pub struct MovedView {
    pub tag: Uuid,
    /// Its path.
    pub title: String,
    /// In what it was unlike its usual self: `high`, `low`, `rose`, `fell`, `restless` or `lost`.
    #[schema(value_type = String)]
    pub how: How,
    /// How far beyond what is usual, in widths of that; at most 20.
    pub beyond: f64,
    /// When it first was.
    pub since: String,
}

/// Something that a person did.
#[derive(Serialize, ToSchema)]
pub struct DoneView {
    pub at: String,
    pub actor: String,
    pub title: String,
}

/// What moved in the ten minutes before an alarm.
#[derive(Serialize, ToSchema)]
pub struct BeforeView {
    /// The instant up to which it was looked, and from when.
    pub at: String,
    pub from: String,
    /// What is most worth a look first.
    pub moved: Vec<MovedView>,
    /// Other alarms near it that came, the last first.
    pub alarms: Vec<EventView>,
    /// What people wrote or set by hand near it, the last first.
    pub done: Vec<DoneView>,
    /// How many recorded values were looked at, and how many farther away were not.
    pub looked_at: usize,
    pub left_out: usize,
}

/// Of which alarm.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct BeforeQuery {
    pub rule: Uuid,
    /// When it came.
    pub at: String,
}

/// Tells what moved before an alarm came: computed from history, as a hint and not as a cause.
#[utoipa::path(params(BeforeQuery), responses((status = 200, body = BeforeView), (status = 404, body = Problem)))]
#[get("/api/alarms/before")]
pub async fn moved_before(app: Data<App>, person: Person, query: Query<BeforeQuery>) -> Result<Json<BeforeView>, Problem> {
    let plant = person.plant(&app);
    let missing = || Problem::missing("alarm rule");
    let own = plant.rules.get(&query.rule).and_then(|rule| plant.tags.get(&rule.set.tag)).ok_or_else(missing)?;
    person.may_at(Action::See, Some(own.set.place))?;
    let at = time("at", &query.at)?;
    let parts = USUAL + WINDOW;
    let (from, begins) = (at - parts as Nanos * SPAN, at - WINDOW as Nanos * SPAN);
    // Many tags share a place.
    let mut known = HashMap::new();
    let mut steps = |place: Uuid| *known.entry(place).or_insert_with(|| plant.steps_between(own.set.place, place));
    let recording = app.recording(&plant);
    let mut near: Vec<(usize, u32, Uuid)> = plant
        .tags
        .values()
        .filter(|tag| tag.id != own.id && recording.by_themselves.contains(&tag.id) && !tag.set.holds_text(&plant))
        .map(|tag| (steps(tag.set.place), tag.no, tag.id))
        .collect();
    near.sort_unstable();
    let left_out = near.len().saturating_sub(MOST_LOOKED_AT);
    near.truncate(MOST_LOOKED_AT);
    let _turn = app.limits.heavy().await?;
    let known_until = app.live.complete_until();
    let mut read = Vec::with_capacity(near.len());
    for some in near.chunks(AT_ONCE) {
        let numbers: Vec<u32> = some.iter().map(|(_, no, _)| *no).collect();
        read.extend(app.live.db.spans(&numbers, from, at, parts, known_until).await?);
    }
    let stopping = |_| Problem::new(StatusCode::SERVICE_UNAVAILABLE, "The server is stopping.");
    let (of, looked_at) = (plant.clone(), near.len());
    let ranked = block(move || {
        let mut found: Vec<(f64, Uuid, Moved)> = Vec::new();
        for ((steps, _, id), spans) in near.into_iter().zip(&read) {
            let tag = &of.tags[&id].set;
            let range = tag.range_low.zip(tag.range_high).map(|(low, high)| high - low);
            found.extend(moved(spans, range).map(|moved| (worth(&moved, steps, at), id, moved)));
        }
        found.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
        found.truncate(MOST_TOLD);
        found
    });
    let ranked = ranked.await.map_err(stopping)?;
    let view = |(_, tag, moved): (f64, Uuid, Moved)| MovedView {
        tag,
        title: format!("{}/{}", known_as(&plant, plant.tags[&tag].set.place), plant.tags[&tag].set.name),
        how: moved.how,
        beyond: moved.beyond,
        since: to_text(moved.since.max(begins)),
    };
    let tags: Vec<Uuid> = plant.tags.values().filter(|tag| steps(tag.set.place) <= NEAR).map(|tag| tag.id).collect();
    let beside: HashSet<&Uuid> = tags.iter().collect();
    let others =
        plant.rules.values().filter(|rule| rule.id != query.rule && rule.set.is_told() && beside.contains(&rule.set.tag));
    let rules = Some(others.map(|rule| rule.id).collect());
    let filter = EventFilter { from: begins, to: at, rules, told: true, kinds: vec![EventKind::Raised], ..EventFilter::ALL };
    let events = app.live.db.alarm_events(&filter, None, MOST_EVENTS).await?;
    let done = app.live.db.journal_within(begins, at, &["write", "by_hand"], &tags, MOST_EVENTS).await?;
    Ok(Json(BeforeView {
        at: to_text(at),
        from: to_text(begins),
        moved: ranked.into_iter().map(view).collect(),
        alarms: events.into_iter().map(|(id, event)| EventView::of(&plant, id, event)).collect(),
        done: done.into_iter().map(|e| DoneView { at: to_text(e.at), actor: e.actor, title: e.title }).collect(),
        looked_at,
        left_out,
    }))
}
