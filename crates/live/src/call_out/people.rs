//! Whom a step of a plan tells: their addresses, and why somebody is left out.

use crate::{Live, now};
use havrel_core::{
    call_out::{
        Call, How, Over,
        whom::{self, LeftOut},
    },
    plant::{CallPlan, CallTo, Plant, call_plan::CallStep},
    time::Nanos,
};
use havrel_db::calls::Contact;
use std::{
    collections::BTreeMap,
    sync::{Mutex, PoisonError},
};
use uuid::Uuid;

/// Somebody who is told.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Whom {
    pub words: String,
    pub account: Option<Uuid>,
    pub carrier: Uuid,
    /// Their address; empty for a program.
    pub to: String,
}

/// Who is told, and why others are not.
#[derive(Debug, Default)]
pub(super) struct Reached {
    pub people: Vec<Whom>,
    pub left_out: Vec<LeftOut>,
}

/// Everybody who was known when the database answered last.
#[derive(Default)]
pub(super) struct People(Mutex<BTreeMap<Uuid, Contact>>);

impl Live {
    /// Everybody with an account; as they were known last, while the database is away.
    pub(super) async fn contacts(&self) -> BTreeMap<Uuid, Contact> {
        let found = self.db.contacts().await;
        let mut known = self.calls.people.0.lock().unwrap_or_else(PoisonError::into_inner);
        match found {
            Ok(found) => *known = found.into_iter().map(|contact| (contact.account, contact)).collect(),
            Err(error) => tracing::warn!(%error, "people are called at the addresses that were known last"),
        }
        known.clone()
    }

    /// Whom a step tells now.
    pub(super) async fn people_of(&self, plant: &Plant, plan: &CallPlan, call: &Call, step: &CallStep) -> Reached {
        let contacts = self.contacts().await;
        let mut reached = Reached::default();
        match &step.to {
            CallTo::Hook { connection } => reached.people.extend(hook(plant, *connection)),
            CallTo::Address { mail } => reached.people.extend(plan.mail.map(|carrier| Whom {
                words: mail.clone(),
                account: None,
                carrier,
                to: mail.clone(),
            })),
            CallTo::Person { account } => reached.add(&contacts, *account, plan, call.highest(), now()),
            CallTo::Crew => match whom::crew_on_shift(plant, plan, call, now()) {
                Ok(on) => on.crew.people.iter().for_each(|person| reached.add(&contacts, *person, plan, call.highest(), now())),
                Err(left_out) => reached.left_out.push(left_out),
            },
        }
        reached
    }

    /// Whoever was told of a call before; of one that somebody took, only that one.
    pub(super) async fn told_before(&self, plant: &Plant, plan: &CallPlan, call: &Call) -> Reached {
        let taker = match &call.over {
            Some(Over { how: How::Taken { by }, .. }) => Some(by),
            _ => None,
        };
        let mut people: Vec<Whom> = Vec::new();
        for message in self.calls_kept().messages.values().filter(|message| message.call == call.id) {
            let known = plant.connections.contains_key(&message.carrier);
            let whom = Whom {
                words: message.whom.clone(),
                account: message.account,
                carrier: message.carrier,
                to: message.notice.to.clone(),
            };
            if known && taker.is_none_or(|by| *by == whom.words) && !people.contains(&whom) {
                people.push(whom);
            }
        }
        let mut reached = Reached { people, left_out: Vec::new() };
        if let (Some(by), true) = (taker, reached.people.is_empty()) {
            let contacts = self.contacts().await;
            let account = contacts.values().find(|contact| contact.name == *by).map(|contact| contact.account);
            account.into_iter().for_each(|account| reached.add(&contacts, account, plan, whom::URGENT, now()));
        }
        reached
    }
}

impl Reached {
    fn add(&mut self, contacts: &BTreeMap<Uuid, Contact>, account: Uuid, plan: &CallPlan, priority: u8, now: Nanos) {
        let mut leave_out = |why: String, until| self.left_out.push(LeftOut { why, until });
        let Some(contact) = contacts.get(&account) else { return leave_out("an account that is gone".into(), None) };
        let name = &contact.name;
        let Some(carrier) = plan.mail else { return leave_out(format!("{name}: the plan has no mail server"), None) };
        if contact.disabled {
            leave_out(format!("{name}: the account is disabled"), None);
        } else if contact.mail.is_empty() {
            leave_out(format!("{name}: no address"), None);
        } else if let Err(until) = whom::may_be_told(priority, &contact.hours, now) {
            leave_out(format!("{name}: quiet hours"), until);
        } else {
            let whom = Whom { words: name.clone(), account: Some(account), carrier, to: contact.mail.clone() };
            if !self.people.contains(&whom) {
                self.people.push(whom);
            }
        }
    }
}

fn hook(plant: &Plant, connection: Uuid) -> Option<Whom> {
    let item = plant.connections.get(&connection)?;
    Some(Whom { words: item.set.name.clone(), account: None, carrier: connection, to: String::new() })
}
