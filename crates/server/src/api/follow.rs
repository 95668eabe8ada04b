//! Following a value: where it comes from, joint by joint, and where it goes.

use super::values::ValueView;
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get,
    web::{Data, Path},
};
use havrel_core::{
    access::Action,
    engine::Current,
    formula::Formula,
    plant::{
        Item, Kind, Plant, RecordMode, Recorder, Settings, Tag,
        follow::{Facts, Followed, JointKind, JointState, LinkFact, follow},
        loop_check::Wire,
    },
    quality::Class,
    sample::Value,
    time::to_text,
};
use havrel_link::{Health, Kinds, LinkState};
use havrel_live::Live;
use serde::Serialize;
use std::{
    collections::HashMap,
    sync::{Arc, PoisonError},
};
use utoipa::ToSchema;
use uuid::Uuid;

/// Most users of a value that are listed.
const MOST_USERS: usize = 200;

/// A joint on the way of a value.
#[derive(Serialize, ToSchema)]
pub struct JointView {
    /// `connection`, `group`, `place`, `point`, `scaling`, `formula`, `by_hand` or `value`.
    #[schema(value_type = String)]
    pub kind: JointKind,
    pub words: String,
    /// `good`, `uncertain`, `bad`, or `unreached` where one before it is broken.
    #[schema(value_type = String)]
    pub state: JointState,
    /// Why it is not good, and what usually mends it.
    pub reason: String,
    pub cure: String,
    /// The item that it belongs to.
    pub item_kind: Option<&'static str>,
    pub item: Option<Uuid>,
}

/// A value with its way.
#[derive(Serialize, ToSchema)]
pub struct FollowedView {
    pub tag: Uuid,
    pub title: String,
    pub value: Option<ValueView>,
    pub joints: Vec<JointView>,
    /// The values that its formula reads.
    #[schema(no_recursion)]
    pub inputs: Vec<FollowedView>,
}

/// Something that a value goes to.
#[derive(Serialize, ToSchema)]
pub struct UserView {
    pub kind: String,
    pub id: Option<Uuid>,
    pub words: String,
    /// `good`, `uncertain`, `bad`, or `off` where it is switched off.
    pub state: &'static str,
    pub reason: String,
}

/// Where a value comes from, and where it goes.
#[derive(Serialize, ToSchema)]
pub struct FollowView {
    pub from: FollowedView,
    /// The tag of the first broken joint, and its place among the joints there.
    pub broken_tag: Option<Uuid>,
    pub broken_joint: Option<usize>,
    pub to: Vec<UserView>,
}

/// The running plant as following asks about it.
struct Running<'a> {
    live: &'a Live,
    health: HashMap<Uuid, Health>,
    hands: HashMap<Uuid, String>,
}

impl Running<'_> {
    fn of(live: &Live) -> Running<'_> {
        let words = |hand: havrel_db::by_hand::ByHand| {
            let until = hand.until.map(|at| format!(", until {}", to_text(at))).unwrap_or_default();
            (hand.tag, format!("Set by hand by {}: {}{until}", hand.actor, hand.reason))
        };
        Running { live, health: live.health(), hands: live.hands().into_iter().map(words).collect() }
    }
}

impl Facts for Running<'_> {
    fn current(&self, tag: &Item<Tag>) -> Current {
        let values = self.live.values.read().unwrap_or_else(PoisonError::into_inner);
        values.of(tag.no).map_or(Current::UNREAD, |shown| shown.current.clone())
    }

    fn link(&self, connection: Uuid) -> LinkFact {
        let Some(health) = self.health.get(&connection) else { return LinkFact::default() };
        let (broken, words) = match health.state {
            LinkState::Running => (false, String::new()),
            LinkState::Off => (true, "the connection is switched off".into()),
            LinkState::Connecting | LinkState::Trouble => (true, health.message.clone()),
        };
        LinkFact { broken, words, cure: health.cure.clone() }
    }

    fn by_hand(&self, tag: Uuid) -> Option<String> {
        self.hands.get(&tag).cloned()
    }

    fn wire(&self) -> &dyn Wire {
        &Kinds
    }
}

/// Follows a value from the wire to whoever uses it.
#[utoipa::path(responses((status = 200, body = FollowView), (status = 404, body = Problem)))]
#[get("/api/tags/{id}/follow")]
pub async fn follow_value(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<FollowView>, Problem> {
    let plant = person.plant(&app);
    let tag = plant.tags.get(&id).ok_or_else(|| Problem::missing("tag"))?;
    person.may_at(Action::See, Some(tag.set.place))?;
    person.of_now()?;
    let running = Running::of(&app.live);
    let followed = follow(&plant, *id, &running).ok_or_else(|| Problem::missing("tag"))?;
    let (broken_tag, broken_joint) = followed.broken.unzip();
    let to = users(&app, &plant, tag, &running);
    Ok(Json(FollowView { from: view(&plant, followed, &running), broken_tag, broken_joint, to }))
}

fn view(plant: &Plant, followed: Followed, running: &Running<'_>) -> FollowedView {
    let tag = plant.tags.get(&followed.tag);
    let title = |id: Uuid| plant.tags.get(&id).map(|tag| plant.tag_path(&tag.set));
    let joints = followed.joints.into_iter().map(|joint| JointView {
        kind: joint.kind,
        words: joint.words,
        state: joint.state,
        reason: joint.reason,
        cure: joint.cure,
        item_kind: joint.item.map(|(kind, _)| kind.name()),
        item: joint.item.map(|(_, id)| id),
    });
    FollowedView {
        tag: followed.tag,
        title: title(followed.tag).unwrap_or_default(),
        value: tag.map(|tag| ValueView::of(tag.no, &running.current(tag), &title)),
        joints: joints.collect(),
        inputs: followed.inputs.into_iter().map(|input| view(plant, input, running)).collect(),
    }
}

/// Where the value of a tag goes, and how that fares.
fn users(app: &App, plant: &Arc<Plant>, tag: &Item<Tag>, running: &Running<'_>) -> Vec<UserView> {
    let current = running.current(tag);
    let is_bad = current.quality.is_bad();
    let mut all = vec![history(&app.live, &tag.set)];
    let mut rules: Vec<_> = plant.rules.values().filter(|rule| rule.set.tag == tag.id).collect();
    rules.sort_by(|a, b| a.set.order().total_cmp(&b.set.order()));
    for rule in rules {
        let level = rule
            .set
            .fixed_limit()
            .map_or_else(String::new, |(_, level)| format!(": {} {}", plant.print(&tag.set, &Value::F64(level)), tag.set.unit));
        let words = format!("Alarm rule “{}”{level}", rule.set.known_as());
        let (state, reason) = match (rule.set.enabled, is_bad) {
            (false, _) => ("off", "it is switched off"),
            (true, true) => ("uncertain", "it is not judged while the value is bad"),
            (true, false) => ("good", ""),
        };
        all.push(user("rule", Some(rule.id), words.trim_end().into(), state, reason.into()));
    }
    for publication in plant.publications.values().filter(|p| p.set.chooses(plant, tag)) {
        let connection = plant.title(Kind::Connection, publication.set.connection);
        let words = format!("Publication “{}” through “{connection}”", publication.set.name);
        let link = running.link(publication.set.connection);
        let outbox = app.live.outbox(publication.set.connection);
        let (state, reason) = match () {
            () if !publication.set.enabled => ("off", "it is switched off".into()),
            () if link.broken => ("bad", link.words),
            () if !outbox.trouble.is_empty() => ("bad", outbox.trouble),
            () => ("good", String::new()),
        };
        all.push(user("publication", Some(publication.id), words, state, reason));
    }
    for recorder in plant.recorders_of(tag) {
        let kept: Vec<&str> = recorder.set.tracks().iter().map(|track| track.name()).collect();
        let words = format!("Recorder “{}” keeps its {}", recorder.set.name, kept.join(", "));
        let (state, reason) = if recorder.set.running { ("good", "") } else { ("off", "It is paused.") };
        all.push(user("recorder", Some(recorder.id), words, state, reason.into()));
    }
    for referrer in app.relations(plant).referrers(tag.id) {
        // What records it is told already; a trigger that reads it is not.
        let triggers = |r: &Arc<Item<Recorder>>| r.set.trigger.iter().flat_map(Formula::references).any(|read| read == tag.id);
        let told = plant.recorders.get(&referrer.id).is_some_and(|recorder| !triggers(recorder));
        if referrer.kind == Kind::Publication || told {
            continue;
        }
        let reader = plant.tags.get(&referrer.id).filter(|_| referrer.kind == Kind::Tag).map(|tag| running.current(tag));
        let (state, reason) = match &reader {
            Some(current) if current.quality.class() == Class::Bad => ("bad", current.quality.reason().words()),
            Some(current) if current.quality.class() == Class::Uncertain => ("uncertain", current.quality.reason().words()),
            _ => ("good", ""),
        };
        let mut words = referrer.words.clone();
        if let Some(first) = words.get(..1).map(str::to_uppercase) {
            words.replace_range(..1, &first);
        }
        all.push(user(referrer.kind.name(), Some(referrer.id), words, state, reason.into()));
    }
    all.truncate(MOST_USERS);
    all
}

fn user(kind: &str, id: Option<Uuid>, words: String, state: &'static str, reason: String) -> UserView {
    UserView { kind: kind.into(), id, words, state, reason }
}

/// How the value of a tag is recorded.
fn history(live: &Live, tag: &Tag) -> UserView {
    let words = match (tag.record, tag.record_mode) {
        (false, _) => "Not recorded by itself".to_owned(),
        (true, RecordMode::EachPoll) => "Recorded: each value".into(),
        (true, RecordMode::OnChange) => "Recorded: on change".into(),
    };
    let (database, spool) = (live.database(), live.spool_state());
    let (state, reason) = match () {
        () if !tag.record => ("off", String::new()),
        () if !spool.trouble.is_empty() => ("bad", spool.trouble),
        () if !database.ok => {
            ("uncertain", format!("{}. Values wait on disk until it answers again.", database.message.trim_end_matches('.')))
        }
        () => ("good", String::new()),
    };
    user("history", None, words, state, reason)
}
