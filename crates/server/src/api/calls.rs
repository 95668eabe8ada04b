//! Calls: who was told of which alarms and when, and taking one; test alarms; whom people are told at.

use super::{plant::known_as, time};
use crate::{app::App, auth::Person, body::Json, problem::Problem};
use actix_web::{
    HttpResponse, get,
    http::StatusCode,
    patch, post,
    web::{Data, Path, Query},
};
use havrel_core::{
    access::{Action, Role, may},
    alarm::SystemAlarm,
    call_out::{
        Called, How,
        message::{Message, in_order},
    },
    plant::{Plant, call_plan::is_address, week::Hours},
    time::to_text,
};
use havrel_db::calls::{CallFilter, CallRow, Contact};
use havrel_live::call_out::NotTaken;
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::collections::HashMap;
use utoipa::{IntoParams, ToSchema};
use uuid::Uuid;

/// Most calls of one answer.
const MOST: i64 = 200;

/// A call.
#[derive(Serialize, ToSchema)]
pub struct CallView {
    pub id: Uuid,
    pub plan: Uuid,
    /// What its plan was called.
    pub plan_name: String,
    /// It only shows that people are reached.
    pub test: bool,
    pub began_at: String,
    /// When the next step comes; empty where it is over.
    pub next_at: String,
    /// Which step of the plan was the last, from 1, and how often the steps began before; 0: none yet.
    pub step: usize,
    pub round: u32,
    /// Nobody took it so far, and it waits for the hours of somebody who could not be told.
    pub held: bool,
    /// When it was over; empty while it goes on.
    pub over_at: String,
    /// `taken`, `acknowledged`, `unanswered` or `withdrawn`; empty while it goes on.
    pub how: String,
    /// Who took it.
    pub by: String,
    /// The most urgent first.
    pub alarms: Vec<CalledView>,
    /// What was told, the oldest first.
    pub messages: Vec<MessageView>,
}

/// An alarm of a call.
#[derive(Serialize, ToSchema)]
pub struct CalledView {
    pub rule: Uuid,
    pub place: Option<Uuid>,
    pub place_name: String,
    pub text: String,
    pub priority: u8,
    pub raised_at: String,
    /// It waits no more.
    pub gone: bool,
}

/// Something that somebody was told, or is still to be.
#[derive(Serialize, ToSchema)]
#[schema(as = CallMessageView)]
pub struct MessageView {
    pub id: Uuid,
    pub made_at: String,
    pub whom: String,
    /// Through which connection.
    pub carrier: String,
    pub attempts: u32,
    /// When the server took it; empty where it has not.
    pub sent_at: String,
    /// When it is tried next; empty: never again.
    pub next_at: String,
    /// What the server said last, or why it was not sent.
    pub answer: String,
}

impl MessageView {
    fn of(message: Message, plant: &Plant) -> MessageView {
        let text = |at: Option<i64>| at.map(to_text).unwrap_or_default();
        let carrier = plant.connections.get(&message.carrier);
        MessageView {
            id: message.notice.id,
            made_at: to_text(message.made_at),
            whom: message.whom,
            carrier: carrier.map_or_else(String::new, |connection| connection.set.name.clone()),
            attempts: message.tries.attempts,
            sent_at: text(message.tries.sent_at),
            next_at: text(message.tries.next_at),
            answer: message.tries.answer,
        }
    }
}

/// What became of a call, by name, with who took it.
pub(crate) fn how(how: &How) -> (&'static str, &str) {
    match how {
        How::Taken { by } => ("taken", by),
        How::Acknowledged => ("acknowledged", ""),
        How::Unanswered => ("unanswered", ""),
        How::Withdrawn => ("withdrawn", ""),
    }
}

fn view(row: CallRow, messages: Vec<Message>, plant: &Plant, person: &Person) -> Option<CallView> {
    let CallRow { call, plan_name } = row;
    let place_of = |rule: Uuid| plant.rules.get(&rule).and_then(|rule| plant.tags.get(&rule.set.tag)).map(|tag| tag.set.place);
    let called = |(rule, alarm): (Uuid, &Called)| {
        let place = place_of(rule);
        CalledView {
            rule,
            place,
            place_name: match place {
                Some(place) => known_as(plant, place),
                None => SystemAlarm::of(rule).map_or_else(String::new, |_| super::alarms::HAVREL.into()),
            },
            text: alarm.text.clone(),
            priority: alarm.priority,
            raised_at: to_text(alarm.raised_at),
            gone: alarm.gone,
        }
    };
    let waiting = in_order(&call).into_iter();
    let gone = call.alarms.iter().filter(|(_, alarm)| alarm.gone).map(|(&rule, alarm)| (rule, alarm));
    let heard = |(rule, _): &(Uuid, &Called)| person.hears_of(plant, *rule);
    let alarms: Vec<CalledView> = waiting.chain(gone).filter(heard).map(called).collect();
    let whole = person.scope.is_everything();
    if alarms.is_empty() && !whole {
        return None;
    }
    let over = call.over.as_ref();
    let (how, by) = over.map(|over| how(&over.how)).unwrap_or_default();
    Some(CallView {
        id: call.id,
        plan: call.plan,
        plan_name,
        test: call.test,
        began_at: to_text(call.began_at),
        next_at: if over.is_some() { String::new() } else { to_text(call.next_at) },
        step: call.step,
        round: call.round,
        held: call.is_held(),
        over_at: over.map(|over| to_text(over.at)).unwrap_or_default(),
        how: how.into(),
        by: by.into(),
        alarms,
        // Whom others are told by may say what lies outside.
        messages: if whole { messages.into_iter().map(|message| MessageView::of(message, plant)).collect() } else { Vec::new() },
    })
}

/// Which calls.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct CallQuery {
    /// Only those that began before.
    pub before: Option<String>,
    /// Only those that go on.
    #[serde(default)]
    pub open: bool,
    /// Only those that told of this rule's alarms.
    pub rule: Option<Uuid>,
    /// At most 200; usually 50.
    pub limit: Option<i64>,
}

/// Lists calls with what was told, the newest first.
#[utoipa::path(params(CallQuery), responses((status = 200, body = Vec<CallView>)))]
#[get("/api/calls")]
pub async fn calls(app: Data<App>, person: Person, query: Query<CallQuery>) -> Result<Json<Vec<CallView>>, Problem> {
    person.may(Action::See)?;
    person.of_now()?;
    let plant = person.plant(&app);
    let before = query.before.as_deref().map(|before| time("before", before)).transpose()?;
    let filter = CallFilter { before, open: query.open, rule: query.rule };
    let rows = app.live.db.calls(&filter, query.limit.unwrap_or(50).clamp(1, MOST)).await?;
    let ids: Vec<Uuid> = rows.iter().map(|row| row.call.id).collect();
    let mut messages: HashMap<Uuid, Vec<Message>> = HashMap::new();
    for message in app.live.db.messages_of(&ids).await? {
        messages.entry(message.call).or_default().push(message);
    }
    let views = rows.into_iter().filter_map(|row| {
        let own = messages.remove(&row.call.id).unwrap_or_default();
        view(row, own, &plant, &person)
    });
    Ok(Json(views.collect()))
}

/// What somebody says who takes a call.
#[derive(Deserialize, ToSchema)]
pub struct TakeBody {
    #[serde(default)]
    pub comment: String,
}

/// A call that cannot be taken.
pub(crate) fn not_taken(why: &NotTaken) -> Problem {
    let words = match why {
        NotTaken::Missing => return Problem::missing("call"),
        NotTaken::Over(How::Taken { by }) => format!("{by} took this call already."),
        NotTaken::Over(How::Acknowledged) => "This call is over: no alarm waits any more.".into(),
        NotTaken::Over(How::Unanswered) => {
            "This call is over: everybody was told as often as the plan says. Acknowledge its alarms instead.".into()
        }
        NotTaken::Over(How::Withdrawn) => "This call is over: its plan was deleted or switched off.".into(),
    };
    Problem::new(StatusCode::CONFLICT, words)
}

/// Takes a call: whoever asks takes care of it, and nobody else is told.
#[utoipa::path(request_body = TakeBody, responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/api/calls/{id}/take")]
pub async fn take_call(app: Data<App>, person: Person, id: Path<Uuid>, body: Json<TakeBody>) -> Result<HttpResponse, Problem> {
    let actor = person.may(Action::Acknowledge)?;
    let plant = person.plant(&app);
    let row = app.live.db.call(*id).await?.filter(|row| row.call.alarms.keys().any(|rule| person.hears_of(&plant, *rule)));
    row.ok_or_else(|| Problem::missing("call"))?;
    if body.comment.len() > 4000 {
        return Err(Problem::field("comment", "A comment has at most 4,000 bytes."));
    }
    app.live.take_call(*id, &actor.name, &body.comment, Some(actor)).await.map_err(|why| not_taken(&why))?;
    Ok(HttpResponse::NoContent().finish())
}

/// What is tested.
#[derive(Deserialize, ToSchema)]
pub struct TestBody {
    /// The plan whose people are told; without one the alarm only stands in the list, and sounds.
    pub plan: Option<Uuid>,
}

/// A test that has begun.
#[derive(Serialize, ToSchema)]
pub struct TestView {
    /// The call that goes out.
    pub call: Option<Uuid>,
}

/// Raises a test alarm, which runs through list, sound and the call-out of a plan until somebody acknowledges or takes it.
#[utoipa::path(request_body = TestBody, responses((status = 200, body = TestView), (status = 422, body = Problem)))]
#[post("/api/calls/test")]
pub async fn test_alarm(app: Data<App>, person: Person, body: Json<TestBody>) -> Result<Json<TestView>, Problem> {
    let actor = person.may(Action::Acknowledge)?;
    person.of_everything()?;
    Ok(Json(TestView { call: app.live.test_alarm(body.plan, actor).await? }))
}

/// Somebody who can be called.
#[derive(Serialize, ToSchema)]
pub struct ContactView {
    pub account: Uuid,
    pub name: String,
    /// They have an address, and may take what they are told of.
    pub reachable: bool,
    /// Their address; only told to engineers, and to themselves.
    pub mail: String,
    /// The times of the week in which they may be told; only with the address.
    #[schema(value_type = Object)]
    pub hours: Hours,
    /// Whoever asks.
    pub own: bool,
}

/// Lists everybody who can be called.
#[utoipa::path(responses((status = 200, body = Vec<ContactView>)))]
#[get("/api/contacts")]
pub async fn contacts(app: Data<App>, person: Person) -> Result<Json<Vec<ContactView>>, Problem> {
    let actor = person.may(Action::See)?;
    let told = may(actor, Action::Configure, None);
    let view = |contact: Contact| {
        let own = contact.account == actor.account;
        let shown = told || own;
        ContactView {
            account: contact.account,
            name: contact.name,
            reachable: !contact.mail.is_empty() && contact.role >= Role::Operator,
            mail: if shown { contact.mail } else { String::new() },
            hours: if shown { contact.hours } else { Hours::default() },
            own,
        }
    };
    let all = app.live.db.contacts().await?;
    Ok(Json(all.into_iter().filter(|contact| !contact.disabled).map(view).collect()))
}

/// Where somebody is told, and when.
#[derive(Deserialize, ToSchema)]
pub struct ContactBody {
    /// The address of an e-mail; empty: none.
    pub mail: String,
    /// Times of the week, with the zone by whose clocks they are meant; no windows: always.
    #[schema(value_type = Object)]
    pub hours: Hours,
}

/// Sets where somebody is told, and when: one's own, or as an engineer those of others.
#[utoipa::path(request_body = ContactBody, responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[patch("/api/contacts/{account}")]
pub async fn set_contact(
    app: Data<App>,
    person: Person,
    account: Path<Uuid>,
    body: Json<ContactBody>,
) -> Result<HttpResponse, Problem> {
    let own = *account == person.actor.account;
    let actor = person.may(if own { Action::See } else { Action::Configure })?;
    person.of_now()?;
    let mail = body.mail.trim();
    if !mail.is_empty() && !is_address(mail) {
        return Err(Problem::field("mail", "Write an address like control@works.example, or nothing."));
    }
    if let Some((field, words)) = body.hours.check("hours").into_iter().next() {
        return Err(Problem::field(&field, words));
    }
    if !app.live.db.set_contact(*account, mail, &body.hours).await? {
        return Err(Problem::missing("account"));
    }
    let name = app.live.db.contacts().await?.into_iter().find(|c| c.account == *account).map(|c| c.name).unwrap_or_default();
    let title = format!("Changed where {name} is told of alarms");
    app.live.note("account", Some(actor), Some(*account), &title, json!({"mail": mail, "hours": body.hours})).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// A crew at work.
#[derive(Serialize, ToSchema)]
pub struct OnShiftView {
    pub pattern: Uuid,
    /// Empty where no crew is on shift.
    pub shift: String,
    pub crew: String,
    pub people: Vec<Uuid>,
}

/// Tells which crews are on shift now, by pattern.
#[utoipa::path(responses((status = 200, body = Vec<OnShiftView>)))]
#[get("/api/shifts/now")]
pub async fn on_shift(app: Data<App>, person: Person) -> Result<Json<Vec<OnShiftView>>, Problem> {
    person.may(Action::See)?;
    let plant = person.plant(&app);
    let mut patterns: Vec<_> = plant.shift_patterns.values().collect();
    patterns.sort_by(|a, b| a.set.order.total_cmp(&b.set.order).then_with(|| a.set.name.cmp(&b.set.name)));
    let now = havrel_live::now();
    let view = patterns.into_iter().map(|item| {
        let on = item.set.on_shift(now);
        OnShiftView {
            pattern: item.id,
            shift: on.map(|on| on.shift.name.clone()).unwrap_or_default(),
            crew: on.map(|on| on.crew.name.clone()).unwrap_or_default(),
            people: on.map(|on| on.crew.people.clone()).unwrap_or_default(),
        }
    });
    Ok(Json(view.collect()))
}
