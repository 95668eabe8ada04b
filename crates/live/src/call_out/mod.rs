//! Calls at work: looks at the alarms that wait, tells people as `core::call_out` orders, and keeps what was done.
//!
//! The book lives in memory and goes into the database after each change. While that is away, calls go on all the same, and what could
//! not be kept is kept later.

mod people;
mod send;

use crate::{Live, LiveError, now};
use havrel_core::{
    access::Actor,
    alarm::{AlarmStanding, SystemAlarm},
    call_out::{
        AlreadyOver, Book, Call, HOLD, How, Order, Waiting,
        message::{self, About, Message, Told},
    },
    notice::Tries,
    plant::{CallPlan, Item, Plant, call_plan::Concerning},
    time::{Nanos, to_text},
};
use havrel_db::calls::CallRow;
use people::{Reached, Whom};
use serde_json::json;
use std::{
    collections::{BTreeMap, HashSet},
    sync::{Arc, Mutex, PoisonError, RwLock},
    time::Duration,
};
use tokio::{sync::Notify, time::sleep};
use uuid::Uuid;

pub(crate) use send::{lasts, run as send};

/// How often alarms and messages are looked at; only where some changed, or a step is due, there is something to do.
const LOOK: Duration = Duration::from_secs(1);
/// So many steps that reach nobody may follow each other within one look.
const MOST_AT_ONCE: usize = 200;

/// Everything about calls that this program knows.
#[derive(Default)]
pub(crate) struct Calls {
    kept: Mutex<Kept>,
    people: people::People,
    /// Rung when there is something to look at.
    look: Notify,
    /// Rung when there is something to send.
    send: Notify,
    /// Where people reach this server: `http://works.example:8020`.
    address: RwLock<String>,
    /// Held by whoever brings changes into the database, so that none comes after a newer one.
    keeping: tokio::sync::Mutex<()>,
}

#[derive(Default)]
struct Kept {
    book: Book,
    /// Messages of the calls in the book, and those that are still to be sent.
    messages: BTreeMap<Uuid, Message>,
    /// What is to go into the database.
    calls_changed: BTreeMap<Uuid, CallRow>,
    messages_changed: HashSet<Uuid>,
    /// The number of the alarm events, and the revision, at the last look.
    looked_at: Option<(u64, i64)>,
}

/// Why a call cannot be taken.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NotTaken {
    /// Nobody knows it.
    Missing,
    Over(How),
}

/// Looks at the alarms that wait for as long as the plant runs.
pub(crate) async fn run(live: Arc<Live>) {
    while let Err(error) = live.recall_calls().await {
        tracing::warn!(%error, "calls of before cannot be read; they are read later");
        sleep(LOOK * 5).await;
    }
    let mut forgotten_at = 0;
    loop {
        tokio::select! {
            () = sleep(LOOK) => {}
            () = live.calls.look.notified() => {}
        }
        live.look_at_calls().await;
        live.keep_calls().await;
        if now() - forgotten_at > 3_600_000_000_000 {
            forgotten_at = now();
            live.forget_events().await;
        }
    }
}

impl Live {
    fn calls_kept(&self) -> std::sync::MutexGuard<'_, Kept> {
        self.calls.kept.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Sets where people reach this server, for links in messages.
    pub fn set_address(&self, address: &str) {
        *self.calls.address.write().unwrap_or_else(PoisonError::into_inner) = address.trim_end_matches('/').to_owned();
    }

    /// Goes on with the calls of an earlier program.
    async fn recall_calls(&self) -> Result<(), LiveError> {
        let calls = self.db.recent_calls(now() - HOLD).await?;
        let ids: Vec<Uuid> = calls.iter().map(|call| call.id).collect();
        let mut messages = self.db.messages_of(&ids).await?;
        messages.extend(self.db.open_messages().await?);
        // Whatever kept them back, the restart may have mended it.
        messages.iter_mut().for_each(|message| message.tries.next_at = message.tries.next_at.map(|at| at.min(now())));
        // Whom to tell is known from here on, also while the database is away.
        self.contacts().await;
        let plant = self.plant();
        let rules: Vec<Uuid> = self.alarms_waiting(&plant).into_iter().map(|alarm| alarm.rule).collect();
        let answered = self.db.answered_alarms(&rules).await?;
        let mut kept = self.calls_kept();
        // A part that failed and began anew knows more than the database.
        if kept.looked_at.is_none() {
            kept.book = Book::of(calls, answered);
            kept.messages = messages.into_iter().map(|message| (message.notice.id, message)).collect();
        }
        Ok(())
    }

    /// The alarms that somebody has to acknowledge.
    fn alarms_waiting(&self, plant: &Plant) -> Vec<Waiting> {
        let idle = plant.idle_places();
        let alarms = self.alarms.read().unwrap_or_else(PoisonError::into_inner);
        let waiting = alarms.standing().into_iter().filter(|standing| standing.state.waits());
        waiting.filter_map(|standing| Some(waiting_of(standing, concerning(plant, &idle, standing.rule)?))).collect()
    }

    /// Looks at the alarms once, if any changed or something is due, and does what the book orders.
    async fn look_at_calls(&self) {
        let plant = self.plant();
        let last = self.alarms.read().unwrap_or_else(PoisonError::into_inner).last();
        let seen = Some((last, plant.revision));
        {
            let kept = self.calls_kept();
            if kept.looked_at == seen && now() < kept.book.wake() {
                return;
            }
        }
        let waiting = self.alarms_waiting(&plant);
        for _ in 0..MOST_AT_ONCE {
            let orders = {
                let mut kept = self.calls_kept();
                kept.looked_at = seen;
                let orders = kept.book.look(now(), &plant, &waiting, &mut Uuid::now_v7);
                orders.iter().for_each(|order| kept.note(order_of(order), &plant));
                orders
            };
            let mut nobody = false;
            for order in orders {
                nobody |= self.carry_out(&plant, order).await;
            }
            if !nobody {
                break;
            }
        }
        let mut kept = self.calls_kept();
        let Kept { book, messages, messages_changed, .. } = &mut *kept;
        messages.retain(|id, message| {
            message.tries.next_at.is_some() || messages_changed.contains(id) || book.call(message.call).is_some()
        });
    }

    /// Does what is ordered about a call. `true`: its step reached nobody.
    async fn carry_out(&self, plant: &Plant, order: Order) -> bool {
        let Some(call) = self.calls_kept().book.call(order_of(&order)).cloned() else { return false };
        let Some(plan) = plant.call_plans.get(&call.plan).cloned() else {
            self.say_over(&call, "a plan that is gone").await;
            return false;
        };
        match order {
            Order::Begin(_) | Order::Change(_) => false,
            Order::Hold(_) => {
                self.say_held(&call, &plan.set.name).await;
                false
            }
            Order::End(_) => {
                self.say_over(&call, &format!("“{}”", plan.set.name)).await;
                false
            }
            Order::Tell { step, round, .. } => {
                let Some(of) = plan.set.steps.get(step) else { return false };
                let reached = self.people_of(plant, &plan.set, &call, of).await;
                let title = format!("Call-out “{}”, step {}, time {}", plan.set.name, step + 1, round + 1);
                self.tell(plant, &plan, &call, reached, false, &title).await
            }
            Order::TellMore(_) => {
                let reached = self.told_before(plant, &plan.set, &call).await;
                self.tell(plant, &plan, &call, reached, true, &format!("Call-out “{}”, further alarms", plan.set.name)).await;
                false
            }
        }
    }

    /// Makes the messages that go out. `true`: there is nobody whom they could go to.
    async fn tell(&self, plant: &Plant, plan: &Item<CallPlan>, call: &Call, reached: Reached, more: bool, title: &str) -> bool {
        let told = message::named(call, |rule, alarm| told_of(plant, rule, &alarm.text, alarm.priority, alarm.raised_at));
        let made_at = call.told_at.unwrap_or_else(now);
        let names: Vec<String> = reached.people.iter().map(|whom| whom.words.clone()).collect();
        for whom in reached.people {
            let id = Uuid::now_v7();
            let link = if whom.to.is_empty() { String::new() } else { self.link_of(id) };
            let about = About { call, plan: &plan.set.name, more, link: &link, zone: &plan.set.hours.zone };
            let notice = message::write(id, &whom.to, &about, &told);
            let Whom { words, account, carrier, .. } = whom;
            let message = Message { call: call.id, made_at, whom: words, account, carrier, notice, tries: Tries::from(made_at) };
            let mut kept = self.calls_kept();
            kept.messages.insert(id, message);
            kept.messages_changed.insert(id);
        }
        let who = if names.is_empty() { "reached nobody".to_owned() } else { format!("tells {}", names.join(", ")) };
        let subject = told.first().map(|alarm| alarm.text.clone()).unwrap_or_default();
        let left_out: Vec<&str> = reached.left_out.iter().map(|left_out| left_out.why.as_str()).collect();
        let detail = json!({"alarms": call.waiting().count(), "first": subject, "left_out": left_out, "test": call.test});
        self.remark("call_out", None, Some(call.id), &format!("{title}: {who}"), detail).await;
        if let Some(until) = reached.left_out.iter().filter_map(|left_out| left_out.until).min().filter(|_| !more) {
            let mut kept = self.calls_kept();
            kept.book.left_out(call.id, until);
            kept.note_by(call.id, &plan.set.name);
        }
        if names.is_empty() && !more {
            self.calls_kept().book.reached_nobody(call.id, now());
            return true;
        }
        self.calls.send.notify_one();
        false
    }

    /// Where whoever has a message can take its call.
    fn link_of(&self, message: Uuid) -> String {
        let address = self.calls.address.read().unwrap_or_else(PoisonError::into_inner).clone();
        match self.secrets.token(message) {
            Ok(token) if !address.is_empty() => format!("{address}/call/{token}"),
            Ok(_) => String::new(),
            Err(error) => {
                tracing::error!(%error, "a link could not be signed; the message goes without one");
                String::new()
            }
        }
    }

    /// The message for which a link was made; `None` where nobody here made it.
    pub fn message_of_link(&self, token: &str) -> Option<Uuid> {
        self.secrets.id_of_token(token)
    }

    /// Nobody took a call so far, and somebody can be told only later.
    async fn say_held(&self, call: &Call, plan: &str) {
        let until = to_text(call.next_at);
        let title = format!("Call-out “{plan}”: nobody took it so far; it goes on when somebody may be told again");
        self.remark("call_out", None, Some(call.id), &title, json!({"until": until, "test": call.test})).await;
        let first = message::in_order(call).first().map(|(_, alarm)| alarm.text.clone()).unwrap_or_default();
        self.happened(SystemAlarm::Unanswered, &format!("Nobody took the call-out “{plan}” so far: {first}")).await;
    }

    async fn say_over(&self, call: &Call, plan: &str) {
        let Some(over) = &call.over else { return };
        let how = match &over.how {
            How::Taken { by } => format!("{by} took it"),
            How::Acknowledged => "no alarm waits any more".into(),
            How::Unanswered => "everybody was told, and nobody took it".into(),
            How::Withdrawn => "its plan was deleted or switched off".into(),
        };
        let detail = json!({"how": over.how, "test": call.test});
        self.remark("call_out", None, Some(call.id), &format!("Call-out {plan} is over: {how}"), detail).await;
        if over.how == How::Unanswered && !call.test {
            let first = message::in_order(call).first().map(|(_, alarm)| alarm.text.clone()).unwrap_or_default();
            self.happened(SystemAlarm::Unanswered, &format!("Nobody took the call-out {plan}: {first}")).await;
        }
        if !matches!(over.how, How::Unanswered) {
            let mut kept = self.calls_kept();
            let Kept { messages, messages_changed, .. } = &mut *kept;
            let unsent = messages.values_mut().filter(|m| m.call == call.id && m.tries.next_at.is_some() && m.made_at <= over.at);
            for message in unsent {
                message.tries.drop_it("The call was over before it could be sent.");
                messages_changed.insert(message.notice.id);
            }
        }
    }

    /// Somebody takes care of a call: nobody else is told.
    ///
    /// # Errors
    /// Where it is over.
    pub async fn take_call(&self, id: Uuid, by: &str, comment: &str, actor: Option<&Actor>) -> Result<(), NotTaken> {
        let plant = self.plant();
        let taken = {
            let mut kept = self.calls_kept();
            let taken = kept.book.take(id, by, now());
            if taken.is_ok() {
                kept.note(id, &plant);
            }
            taken
        };
        match taken {
            Ok(order) => {
                let detail = json!({"by": by, "comment": comment});
                self.remark("call_out", actor, Some(id), &format!("{by} takes the call-out"), detail).await;
                self.carry_out(&plant, order).await;
                self.keep_calls().await;
                self.calls.look.notify_one();
                Ok(())
            }
            Err(Some(AlreadyOver(over))) => Err(NotTaken::Over(over.how)),
            // It left the book: the database knows why.
            Err(None) => Err(match self.db.call(id).await {
                Ok(Some(CallRow { call: Call { over: Some(over), .. }, .. })) => NotTaken::Over(over.how),
                _ => NotTaken::Missing,
            }),
        }
    }

    /// Raises a test alarm, which runs through list and sound, and through a call-out plan where one is named.
    ///
    /// # Errors
    /// Where a test goes on already, or there is no such plan.
    pub async fn test_alarm(&self, plan: Option<Uuid>, actor: &Actor) -> Result<Option<Uuid>, LiveError> {
        let plant = self.plant();
        let named =
            plan.map(|id| plant.call_plans.get(&id).ok_or_else(|| LiveError::Refused("There is no such call-out plan.".into())));
        let named = named.transpose()?;
        if self.calls_kept().book.calls().any(|call| call.test && call.over.is_none()) {
            return Err(LiveError::Refused("A test goes on already. Acknowledge its alarm to end it.".into()));
        }
        let of = named.map_or_else(String::new, |plan| format!(", call-out “{}”", plan.set.name));
        self.happened(SystemAlarm::Test, &format!("Test alarm by {}{of}", actor.name)).await;
        // What stands in the queue behind it is answered once it stands.
        self.note("call_out", Some(actor), plan, &format!("Test alarm{of}"), json!({"test": true})).await?;
        let standing = {
            let alarms = self.alarms.read().unwrap_or_else(PoisonError::into_inner);
            alarms.standing().into_iter().find(|s| s.rule == SystemAlarm::Test.id()).cloned()
        };
        let (Some(plan), Some(standing)) = (plan, standing) else { return Ok(None) };
        let id = Uuid::now_v7();
        let priority = SystemAlarm::Test.priority();
        let alarm = waiting_of(&standing, Concerning { priority, place: None, class: None });
        let mut kept = self.calls_kept();
        kept.book.test(id, plan, &alarm, now());
        kept.note(id, &plant);
        drop(kept);
        self.calls.look.notify_one();
        Ok(Some(id))
    }

    /// Brings what changed into the database; what it does not take is tried again at the next look.
    async fn keep_calls(&self) {
        let _one = self.calls.keeping.lock().await;
        let (calls, messages) = {
            let mut kept = self.calls_kept();
            let messages: Vec<Message> =
                std::mem::take(&mut kept.messages_changed).iter().filter_map(|id| kept.messages.get(id).cloned()).collect();
            (std::mem::take(&mut kept.calls_changed), messages)
        };
        if calls.is_empty() && messages.is_empty() {
            return;
        }
        let rows: Vec<CallRow> = calls.values().cloned().collect();
        if let Err(error) = self.db.keep_calls(&rows, &messages).await {
            tracing::warn!(%error, "calls could not be kept; they are kept later");
            let mut kept = self.calls_kept();
            for (id, row) in calls {
                // What changed meanwhile is newer.
                kept.calls_changed.entry(id).or_insert(row);
            }
            for message in messages {
                kept.messages_changed.insert(message.notice.id);
                kept.messages.entry(message.notice.id).or_insert(message);
            }
        }
    }

    /// Events of alarms go after the time for which their class keeps them.
    async fn forget_events(&self) {
        let plant = self.plant();
        for class in plant.alarm_classes.values() {
            let Some(days) = class.set.keep_days else { continue };
            let rules: Vec<Uuid> = plant.rules.values().filter(|r| r.set.class == Some(class.id)).map(|r| r.id).collect();
            let before = now() - Nanos::from(days) * 86_400_000_000_000;
            match self.db.forget_events(&rules, before, 100_000).await {
                Ok(0) => {}
                Ok(count) => {
                    let title =
                        format!("{count} events of alarms of class “{}” are older than {days} days and went", class.set.name);
                    self.remark("system", None, Some(class.id), &title, json!({})).await;
                }
                Err(error) => tracing::warn!(%error, "old events of alarms could not be removed; they are removed later"),
            }
        }
    }
}

impl Kept {
    /// A call changed.
    fn note(&mut self, id: Uuid, plant: &Plant) {
        let plan = self.book.call(id).and_then(|call| plant.call_plans.get(&call.plan));
        self.note_by(id, plan.map_or("", |plan| &plan.set.name));
    }

    /// The same, where the name of its plan is known.
    fn note_by(&mut self, id: Uuid, plan_name: &str) {
        let Some(call) = self.book.call(id).cloned() else { return };
        self.calls_changed.insert(id, CallRow { call, plan_name: plan_name.to_owned() });
    }
}

fn order_of(order: &Order) -> Uuid {
    match order {
        Order::Begin(id)
        | Order::Change(id)
        | Order::Hold(id)
        | Order::End(id)
        | Order::TellMore(id)
        | Order::Tell { call: id, .. } => *id,
    }
}

fn waiting_of(standing: &AlarmStanding, concerning: Concerning) -> Waiting {
    Waiting { rule: standing.rule, raised_at: standing.raised_at, text: standing.text.clone(), concerning }
}

/// What an alarm is about; `None` where nobody is called for it.
fn concerning(plant: &Plant, idle: &HashSet<Uuid>, rule: Uuid) -> Option<Concerning> {
    match SystemAlarm::of(rule) {
        // That nobody answers would call for itself without end.
        Some(SystemAlarm::Unanswered) => None,
        // It concerns no plan by itself: the one that is tested has a call for it.
        Some(SystemAlarm::Test) => Some(Concerning { priority: 0, place: None, class: None }),
        Some(alarm) => Some(Concerning { priority: alarm.priority(), place: None, class: None }),
        None => {
            let rule = &plant.rules.get(&rule)?.set;
            let place = plant.tags.get(&rule.tag)?.set.place;
            let called = rule.is_told() && rule.enabled && !idle.contains(&place);
            called.then_some(Concerning { priority: rule.priority, place: Some(place), class: rule.class })
        }
    }
}

/// An alarm as a message tells of it.
fn told_of(plant: &Plant, rule: Uuid, text: &str, priority: u8, raised_at: Nanos) -> Told {
    let (place, cause, action) = match (SystemAlarm::of(rule), plant.rules.get(&rule)) {
        (Some(alarm), _) => ("Havrel".to_owned(), alarm.cause().to_owned(), alarm.action().to_owned()),
        (None, Some(item)) => {
            let place = plant.tags.get(&item.set.tag).map(|tag| plant.path(Some(tag.set.place)));
            (place.unwrap_or_default(), item.set.cause.clone(), item.set.action.clone())
        }
        (None, None) => Default::default(),
    };
    Told { rule, place, text: text.to_owned(), priority, raised_at, cause, action }
}
