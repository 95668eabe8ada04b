//! Loop checks of points.

use super::remarks::text;
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    get, post,
    web::{Data, Path},
};
use havrel_core::{
    access::Action,
    plant::loop_check::{LoopCheck, Movement, Proof, Seen, Way},
    time::to_text,
};
use havrel_link::Kinds;
use serde::{Deserialize, Serialize};
use serde_json::Value as Json_;
use utoipa::ToSchema;
use uuid::Uuid;

/// Longest remark, in characters.
const LONGEST_REMARK: usize = 500;

/// How somebody goes on looking at a point.
#[derive(Deserialize, ToSchema)]
pub struct LookBody {
    /// Begin anew.
    #[serde(default)]
    pub again: bool,
    /// What is applied at the source now, in the engineering unit of the tag; noted as a step.
    pub applied: Option<f64>,
}

/// How a value went.
#[derive(Serialize, ToSchema)]
pub struct MovementView {
    #[schema(value_type = Object)]
    pub first: Json_,
    #[schema(value_type = Object)]
    pub last: Json_,
    /// Null where it was no number.
    #[schema(value_type = Object, nullable)]
    pub lowest: Json_,
    #[schema(value_type = Object, nullable)]
    pub highest: Json_,
    /// How often it became another one.
    pub changes: u32,
}

impl From<Movement> for MovementView {
    fn from(m: Movement) -> MovementView {
        MovementView { first: m.first, last: m.last, lowest: m.lowest, highest: m.highest, changes: m.changes }
    }
}

/// What was applied at the source, and what was seen then.
#[derive(Serialize, ToSchema)]
pub struct StepView {
    pub at: String,
    pub applied: f64,
    /// As the device sent it; null where it could not be asked.
    #[schema(value_type = Object, nullable)]
    pub sent: Json_,
    #[schema(value_type = Object)]
    pub value: Json_,
    /// The value less what was applied.
    pub deviation: Option<f64>,
    /// The same in per cent of the tag's range.
    pub share: Option<f64>,
}

/// What was seen of a point while its source was moved.
#[derive(Serialize, ToSchema)]
pub struct SeenView {
    pub from: String,
    pub to: String,
    /// As the device sent it.
    pub sent: Option<MovementView>,
    /// The good values of the tag.
    pub value: Option<MovementView>,
    pub steps: Vec<StepView>,
    /// Whether the value changed, without which nothing is proven.
    pub moved: bool,
}

impl From<Seen> for SeenView {
    fn from(seen: Seen) -> SeenView {
        SeenView {
            from: to_text(seen.from),
            to: to_text(seen.to),
            moved: seen.moved(),
            sent: seen.sent.map(MovementView::from),
            value: seen.value.map(MovementView::from),
            steps: seen
                .steps
                .into_iter()
                .map(|s| StepView {
                    at: to_text(s.at),
                    applied: s.applied,
                    sent: s.sent,
                    value: s.value,
                    deviation: s.deviation,
                    share: s.share,
                })
                .collect(),
        }
    }
}

/// A point as somebody looks at it.
#[derive(Serialize, ToSchema)]
pub struct LookView {
    pub seen: SeenView,
    /// The bytes that the device sends now, two hexadecimal digits each.
    pub bytes: String,
    /// Why the device could not be asked; empty where it could.
    pub words: String,
    /// Why the value of the tag does not count now; empty where it does.
    pub trouble: String,
    /// Over how much of the tag's range the value moved, in per cent; null where it has none.
    pub covered: Option<f64>,
}

/// A loop check that was made.
#[derive(Serialize, ToSchema)]
pub struct LoopCheckView {
    pub id: Uuid,
    pub at: String,
    pub actor: String,
    pub passed: bool,
    pub remark: String,
    pub seen: SeenView,
    /// What of the way of the value is another one since, in words.
    pub changed: Vec<&'static str>,
    /// Where it was read then, in words.
    pub point: String,
}

/// How far a point is proven, and its checks.
#[derive(Serialize, ToSchema)]
pub struct LoopChecksView {
    /// `never`, `failed`, `changed` or `proven`; null where no device is the source of the tag.
    #[schema(value_type = Option<String>)]
    pub proof: Option<Proof>,
    /// The newest first.
    pub checks: Vec<LoopCheckView>,
}

fn view(check: LoopCheck, now: Option<&Way>) -> LoopCheckView {
    LoopCheckView {
        id: check.id,
        at: to_text(check.at),
        actor: check.actor,
        passed: check.passed,
        remark: check.remark,
        changed: now.map(|way| check.way.differs(way)).unwrap_or_default(),
        point: check.way.point,
        seen: check.seen.into(),
    }
}

/// How far a point is proven, and its last checks.
#[utoipa::path(responses((status = 200, body = LoopChecksView), (status = 404, body = Problem)))]
#[get("/api/tags/{id}/loop-checks")]
pub async fn loop_checks(app: Data<App>, person: Person, id: Path<Uuid>) -> Result<Json<LoopChecksView>, Problem> {
    let plant = person.plant(&app);
    let tag = plant.tags.get(&id).ok_or_else(|| Problem::missing("tag"))?;
    person.may_at(Action::See, Some(tag.set.place))?;
    // Of a connection that a person sees only in part the settings are hidden, so the whole plant is asked.
    let whole = app.live.plant();
    let way = whole.tags.get(&id).and_then(|tag| Way::of(&whole, &tag.set, &Kinds));
    let checks = app.live.db.loop_checks(*id).await?;
    let proof = way.as_ref().map(|way| Proof::of(checks.first(), way));
    Ok(Json(LoopChecksView { proof, checks: checks.into_iter().map(|check| view(check, way.as_ref())).collect() }))
}

/// Looks at a point once more: what its device sends and what the tag says are taken in, and perhaps what is applied at the source.
#[utoipa::path(responses((status = 200, body = LookView), (status = 422, body = Problem)))]
#[post("/api/tags/{id}/loop-checks/look")]
pub async fn look(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<LookBody>) -> Result<Json<LookView>, Problem> {
    let plant = person.plant(&app);
    let tag = plant.tags.get(&id).ok_or_else(|| Problem::missing("tag"))?;
    let actor = person.may_at(Action::Configure, Some(tag.set.place))?;
    let watched = app.live.watch_point(*id, actor, body.again, body.applied).await?;
    let bytes = watched.raw.bytes.iter().map(|b| format!("{b:02x}")).collect::<Vec<_>>().join(" ");
    let (words, trouble, covered) = (watched.raw.words, watched.trouble, watched.covered);
    Ok(Json(LookView { seen: watched.seen.into(), bytes, words, trouble, covered }))
}

/// What came of a check.
#[derive(Deserialize, ToSchema)]
pub struct LoopCheckBody {
    /// Whether the point follows its source.
    pub passed: bool,
    /// At most 500 characters; needed where it does not.
    #[serde(default)]
    pub remark: String,
}

/// Keeps what somebody saw of a point since they began to look, as a loop check.
#[utoipa::path(responses((status = 200, body = LoopCheckView), (status = 422, body = Problem)))]
#[post("/api/tags/{id}/loop-checks")]
pub async fn keep_loop_check(
    app: Data<App>,
    person: Person,
    id: Path<Uuid>,
    body: Json<LoopCheckBody>,
) -> Result<Json<LoopCheckView>, Problem> {
    let plant = person.plant(&app);
    let tag = plant.tags.get(&id).ok_or_else(|| Problem::missing("tag"))?;
    let actor = person.may_at(Action::Configure, Some(tag.set.place))?;
    let remark = match body.remark.trim() {
        "" if body.passed => "",
        "" => return Err(Problem::field("remark", "Say what was wrong.")),
        remark => text("remark", remark, LONGEST_REMARK)?,
    };
    let check = app.live.keep_check(*id, actor, body.passed, remark).await?;
    Ok(Json(view(check, None)))
}
