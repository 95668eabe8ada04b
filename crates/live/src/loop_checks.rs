//! Loop checks: what somebody sees at a point while its source is moved, and what is kept of it.

use crate::{Live, LiveError, now};
use arc_swap::ArcSwap;
use havrel_core::{
    access::Actor,
    engine::Current,
    plant::{
        Item, Tag,
        loop_check::{LoopCheck, Seen, Way},
    },
    quality::{Class, Reason},
    sample::Value,
    time::{Nanos, SECOND},
};
use havrel_db::{Db, DbError};
use havrel_link::{Kinds, RawValue};
use serde_json::{Value as Json, json};
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
};
use uuid::Uuid;

/// Looks that are kept at once.
const MOST_LOOKS: usize = 200;
/// A look that nobody went on with for so long is forgotten.
const FORGOTTEN: Nanos = 30 * 60 * SECOND;

/// The last check of each tag.
pub type LastChecks = HashMap<Uuid, Arc<LoopCheck>>;

/// A look at a point that goes on.
struct Look {
    seen: Seen,
    way: Way,
}

#[derive(Default)]
pub(crate) struct LoopChecks {
    last: ArcSwap<LastChecks>,
    /// By tag and by the account of who looks.
    looks: Mutex<HashMap<(Uuid, Uuid), Look>>,
}

impl LoopChecks {
    /// What the database knows.
    ///
    /// # Errors
    /// When it does not answer.
    pub async fn load(db: &Db) -> Result<LoopChecks, DbError> {
        let last = db.last_loop_checks().await?.into_iter().map(|check| (check.tag, Arc::new(check)));
        Ok(LoopChecks { last: ArcSwap::from_pointee(last.collect()), looks: Mutex::default() })
    }

    fn looks<T>(&self, at: Nanos, look: impl FnOnce(&mut HashMap<(Uuid, Uuid), Look>) -> T) -> T {
        let mut looks = self.looks.lock().unwrap_or_else(PoisonError::into_inner);
        looks.retain(|_, look| at - look.seen.to < FORGOTTEN);
        look(&mut looks)
    }
}

/// What is seen of a point now.
#[derive(Clone, Debug)]
pub struct Watched {
    pub seen: Seen,
    /// As the device sends it now.
    pub raw: RawValue,
    /// Why the value of the tag does not count now; empty where it does.
    pub trouble: String,
    /// Over how much of its range the value moved, in per cent.
    pub covered: Option<f64>,
}

impl Live {
    /// The last loop check of each tag that has one.
    pub fn last_checks(&self) -> Arc<LastChecks> {
        self.loop_checks.last.load_full()
    }

    fn point(&self, tag: Uuid) -> Result<(Arc<Item<Tag>>, Way), LiveError> {
        let plant = self.plant();
        let item = plant.tags.get(&tag).cloned().ok_or_else(|| LiveError::Refused("There is no such tag.".into()))?;
        let way = Way::of(&plant, &item.set, &Kinds);
        let way =
            way.ok_or_else(|| LiveError::Refused("No device is the source of this tag, so there is no loop to check.".into()))?;
        Ok((item, way))
    }

    fn current(&self, tag: &Item<Tag>) -> Current {
        let values = self.values.read().unwrap_or_else(PoisonError::into_inner);
        values.of(tag.no).map_or(Current::UNREAD, |shown| shown.current.clone())
    }

    /// Looks at a point once more for somebody: reads what its device sends, and takes in what the tag says. `again` begins anew;
    /// `applied` notes what is applied at the source now, in the engineering unit of the tag.
    ///
    /// # Errors
    /// When there is no such point, or what is applied cannot be noted.
    pub async fn watch_point(&self, tag: Uuid, actor: &Actor, again: bool, applied: Option<f64>) -> Result<Watched, LiveError> {
        let (item, way) = self.point(tag)?;
        let raw = match self.raw(way.connection, &[item.no]).await {
            Ok(mut found) => found.pop().unwrap_or_default(),
            Err(error) => RawValue { words: error.to_string(), ..RawValue::default() },
        };
        let (current, at) = (self.current(&item), now());
        let (class, reason) = (current.quality.class(), current.quality.reason());
        // What somebody set by hand does not come from the source.
        let good: Option<&Value> = current.value.as_ref().filter(|_| class == Class::Good && reason != Reason::ByHand);
        let trouble = match good {
            Some(_) => String::new(),
            None if current.value.is_none() => "No value has come yet.".into(),
            None => format!("This value does not count: {}.", reason.words()),
        };
        self.loop_checks.looks(at, |looks| {
            let key = (tag, actor.account);
            if looks.len() >= MOST_LOOKS
                && !looks.contains_key(&key)
                && let Some(oldest) = looks.iter().min_by_key(|(_, look)| look.seen.to).map(|(key, _)| *key)
            {
                looks.remove(&oldest);
            }
            let look = looks.entry(key).or_insert_with(|| Look { seen: Seen::since(at), way: way.clone() });
            if again || look.way != way {
                *look = Look { seen: Seen::since(at), way };
            }
            look.seen.see(at, raw.decoded.as_ref(), good);
            if let Some(applied) = applied {
                look.seen.note(at, applied, &item.set).map_err(LiveError::Refused)?;
            }
            Ok(Watched { seen: look.seen.clone(), raw, trouble, covered: look.seen.covered(&item.set) })
        })
    }

    /// Keeps what somebody saw of a point, and whether it follows its source.
    ///
    /// # Errors
    /// When nobody looked, when the point is to be proven but did not move, or when the database does not answer; then the look goes
    /// on.
    pub async fn keep_check(&self, tag: Uuid, actor: &Actor, passed: bool, remark: &str) -> Result<LoopCheck, LiveError> {
        let (item, way) = self.point(tag)?;
        let (at, key) = (now(), (tag, actor.account));
        let seen = self.loop_checks.looks(at, |looks| looks.get(&key).filter(|look| look.way == way).map(|l| l.seen.clone()));
        let refused = |words: &str| LiveError::Refused(words.into());
        let seen = seen.ok_or_else(|| refused("Watch the point first, and move its source."))?;
        if passed && !seen.moved() {
            return Err(refused("The value has not changed since you began. Move the source until it does."));
        }
        let check = LoopCheck {
            id: Uuid::now_v7(),
            tag,
            at,
            account: actor.account,
            actor: actor.name.clone(),
            passed,
            remark: remark.into(),
            seen,
            way,
        };
        self.db.add_loop_check(&check).await?;
        self.loop_checks.looks(at, |looks| looks.remove(&key));
        self.loop_checks.last.rcu(|last| {
            let mut last = LastChecks::clone(last);
            last.insert(tag, Arc::new(check.clone()));
            last
        });
        let path = self.plant().tag_path(&item.set);
        let title = match passed {
            true => format!("Proved {path} by a loop check"),
            false => format!("The loop check of {path} failed"),
        };
        self.remark("loop_check", Some(actor), Some(tag), &title, detail(&check)).await;
        Ok(check)
    }
}

/// What the journal keeps of a check.
fn detail(check: &LoopCheck) -> Json {
    json!({"remark": check.remark, "seen": check.seen.value, "sent": check.seen.sent, "steps": check.seen.steps.len()})
}
