//! Values set by hand: who set them, why, until when, and how they end.
//!
//! What then counts for a tag the engine decides; here is the list of all that are on. It is kept in the database before
//! the engine hears of it, so that no restart can lose one.

use crate::{Live, LiveError, engine::Message, now};
use havrel_core::{TagNo, access::Actor, plant::Plant, sample::Value, time::Nanos};
use havrel_db::{Db, DbError, by_hand::ByHand};
use serde_json::json;
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use tokio::sync::{mpsc, oneshot};
use uuid::Uuid;

/// How long to wait before the database is tried again.
const RETRY: Duration = Duration::from_secs(1);

/// What is on.
#[derive(Default)]
pub(crate) struct Hands {
    on: Mutex<Inside>,
    /// One is set or released at a time, so that the database and the engine hear of it in the same order.
    turn: tokio::sync::Mutex<()>,
}

#[derive(Default)]
struct Inside {
    by_tag: HashMap<Uuid, (TagNo, ByHand)>,
    /// Rises with each change.
    version: u64,
}

impl Hands {
    fn change<T>(&self, change: impl FnOnce(&mut HashMap<Uuid, (TagNo, ByHand)>) -> T) -> T {
        let mut inside = self.on.lock().unwrap_or_else(PoisonError::into_inner);
        inside.version += 1;
        change(&mut inside.by_tag)
    }

    fn look<T>(&self, look: impl FnOnce(&Inside) -> T) -> T {
        look(&self.on.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// All that are on, with the numbers of their tags.
    pub fn numbered(&self) -> Vec<(TagNo, ByHand)> {
        self.look(|inside| inside.by_tag.values().cloned().collect())
    }
}

/// How somebody sets a value by hand.
#[derive(Clone, Debug)]
pub struct ByHandWish {
    pub value: Value,
    pub reason: String,
    /// When it ends by itself.
    pub until: Option<Nanos>,
    /// Whether it outlasts a restart.
    pub keeps: bool,
}

/// A value set by hand that did not outlast a start, for the journal.
pub(crate) struct Ended {
    pub tag: Uuid,
    pub title: String,
    pub detail: serde_json::Value,
}

/// What outlasts this start, for the engine, and what does not: that is forgotten.
///
/// # Errors
/// When the database does not answer.
pub(crate) async fn kept(db: &Db, plant: &Plant, at: Nanos) -> Result<(Hands, Vec<(TagNo, ByHand)>, Vec<Ended>), DbError> {
    let (mut stays, mut over) = (Vec::new(), Vec::new());
    for hand in db.hands().await? {
        let tag = plant.tags.get(&hand.tag);
        let why = match tag {
            Some(_) if hand.until.is_some_and(|until| until <= at) => "its time ended while Havrel was not running",
            Some(_) if !hand.keeps => "Havrel was started anew",
            None => "the tag is gone",
            Some(tag) => {
                stays.push((tag.no, hand));
                continue;
            }
        };
        db.forget_hand(hand.tag, hand.since).await?;
        let title = format!("{} is no longer set by hand: {why}", name(plant, hand.tag));
        let detail = json!({"was": hand.value.to_json(), "owner": hand.actor});
        over.push(Ended { tag: hand.tag, title, detail });
    }
    let hands = Hands::default();
    hands.change(|on| on.extend(stays.iter().map(|(no, hand)| (hand.tag, (*no, hand.clone())))));
    Ok((hands, stays, over))
}

fn name(plant: &Plant, tag: Uuid) -> String {
    plant.tags.get(&tag).map_or_else(|| "A tag".to_owned(), |t| plant.tag_path(&t.set))
}

impl Live {
    /// All values that are set by hand, the oldest first.
    pub fn hands(&self) -> Vec<ByHand> {
        let mut all: Vec<ByHand> = self.hands.look(|inside| inside.by_tag.values().map(|(_, hand)| hand.clone()).collect());
        all.sort_by_key(|hand| (hand.since, hand.tag));
        all
    }

    /// How many are set by hand, and a number that rises with each change of the list.
    pub fn hand_count(&self) -> (usize, u64) {
        self.hands.look(|inside| (inside.by_tag.len(), inside.version))
    }

    /// Lets a value count for a tag, whatever its source says, until it is released or its time ends.
    ///
    /// # Errors
    /// When it may not be set, or the database does not answer; then nothing is set.
    pub async fn set_by_hand(&self, tag: Uuid, wish: ByHandWish, actor: &Actor) -> Result<(), LiveError> {
        let plant = self.plant();
        let refused = |words: String| Err(LiveError::Refused(words));
        let Some(item) = plant.tags.get(&tag) else { return refused("There is no such tag.".into()) };
        if let Some(place) = plant.out_of_service(item.set.place) {
            return refused(format!("“{}” is out of service.", plant.path(Some(place))));
        }
        let current = {
            let values = self.values.read().unwrap_or_else(PoisonError::into_inner);
            values.of(item.no).and_then(|shown| shown.current.value.clone())
        };
        let value = plant.meant(&item.set, wish.value).fitting(current.as_ref()).map_err(LiveError::Refused)?;
        item.set.check_range(&value).map_err(LiveError::Refused)?;
        let (no, since) = (item.no, now());
        if wish.until.is_some_and(|until| until <= since) {
            return refused("It must end in the future.".into());
        }
        let ByHandWish { reason, until, keeps, .. } = wish;
        let _turn = self.hands.turn.lock().await;
        let hand = ByHand { tag, value, reason, account: Some(actor.account), actor: actor.name.clone(), since, until, keeps };
        self.db.keep_hand(&hand).await?;
        self.hands.change(|on| on.insert(tag, (no, hand.clone())));
        self.tell_engine(|reply| Message::SetByHand { tag: no, value: hand.value.clone(), until, reply }).await?;
        let shown = format!("{} {}", plant.print(&item.set, &hand.value), item.set.unit);
        let title = format!("Set {} by hand to {}: {}", plant.tag_path(&item.set), shown.trim(), hand.reason);
        let detail = json!({"value": hand.value.to_json(), "before": current.map(|v| v.to_json()), "keeps": keeps,
            "until": until.map(havrel_core::time::to_text)});
        self.remark("by_hand", Some(actor), Some(tag), &title, detail).await;
        Ok(())
    }

    /// Lets the source speak for a tag again. Gives whether there was anything to release.
    ///
    /// # Errors
    /// When the database does not answer; then it stays set.
    pub async fn release(&self, tag: Uuid, actor: &Actor) -> Result<bool, LiveError> {
        let _turn = self.hands.turn.lock().await;
        let Some((no, hand)) = self.hands.look(|inside| inside.by_tag.get(&tag).cloned()) else { return Ok(false) };
        self.db.forget_hand(tag, hand.since).await?;
        self.hands.change(|on| on.remove(&tag));
        self.tell_engine(|reply| Message::Release { tag: no, reply }).await?;
        let title = format!("Released {}, which {} had set by hand", name(&self.plant(), tag), hand.actor);
        let detail = json!({"was": hand.value.to_json(), "reason": hand.reason});
        self.remark("by_hand", Some(actor), Some(tag), &title, detail).await;
        Ok(true)
    }

    /// Gives the engine something to do and waits until it shows.
    async fn tell_engine(&self, message: impl FnOnce(oneshot::Sender<()>) -> Message) -> Result<(), LiveError> {
        let (reply, done) = oneshot::channel();
        self.send(message(reply)).await?;
        done.await.map_err(|_| LiveError::Interrupted)
    }
}

/// Brings the list up to date with what the engine released by itself.
pub(crate) async fn follow(live: Arc<Live>, released: Arc<tokio::sync::Mutex<mpsc::UnboundedReceiver<Vec<TagNo>>>>) {
    let mut released = released.lock().await;
    while let Some(tags) = released.recv().await {
        let (plant, at) = (live.plant(), now());
        let there = |hand: &ByHand| plant.tags.contains_key(&hand.tag);
        // All at once leave the list, however long the database then takes. Somebody may have set one anew meanwhile.
        let ended: Vec<ByHand> = live.hands.change(|on| {
            let over = |no: &TagNo, hand: &ByHand| tags.contains(no) && (!there(hand) || hand.until.is_some_and(|u| u <= at));
            on.extract_if(|_, (no, hand)| over(no, hand)).map(|(_, (_, hand))| hand).collect()
        });
        for hand in ended {
            while let Err(error) = live.db.forget_hand(hand.tag, hand.since).await {
                tracing::debug!(%error, "what was set by hand has ended, but stands in the database still");
                tokio::time::sleep(RETRY).await;
            }
            let why = if there(&hand) { "its time ended" } else { "the tag is gone" };
            let title = format!("{} is no longer set by hand: {why}", name(&plant, hand.tag));
            let detail = json!({"was": hand.value.to_json(), "owner": hand.actor});
            live.remark("by_hand", None, Some(hand.tag), &title, detail).await;
        }
    }
}
