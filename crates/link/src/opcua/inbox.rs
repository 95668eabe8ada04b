//! Where the values of a session arrive and wait to be handed on.

use super::{
    settings::Point,
    shapes::{Shapes, encodings},
    taken::{Taken, push},
};
use crate::{LinkPlan, now};
use havrel_core::{
    TagNo,
    sample::{Batch, flag},
    time::Nanos,
};
use opcua::{
    client::{MonitoredItem, OnSubscriptionNotification},
    types::{DataValue, NodeId, StatusChangeNotification, StatusCode},
};
use std::{
    collections::{HashMap, HashSet},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};
use tokio::sync::Notify;

/// Most values that wait to be handed on; beyond it they are dropped, and the next ones say that something is missing.
const MOST_WAITING: usize = 200_000;
/// Most values that wait until the types of their structures are known.
const MOST_STRANGE: usize = 10_000;
/// Most bytes of their texts.
const MOST_TEXT: usize = 32 << 20;

/// A number of things, in words.
pub(super) fn counted(count: usize, what: &str) -> String {
    if count == 1 { format!("1 {what}") } else { format!("{count} {what}s") }
}

/// A time for each of some tags.
#[derive(Clone, Debug, Default)]
pub(super) struct Times(HashMap<TagNo, Nanos>);

impl Times {
    pub fn of(&self, tag: TagNo) -> Option<Nanos> {
        self.0.get(&tag).copied()
    }
}

/// Values that came and wait to be handed on.
#[derive(Default)]
struct Waiting {
    batch: Batch,
    /// Tags of which values were dropped.
    missing: HashSet<TagNo>,
    /// A subscription ended, and why.
    ended: Option<StatusCode>,
    /// Values that wait until the types of their structures are known, with all that came after them of the same tags, and whether
    /// they were read.
    strange: Vec<(TagNo, DataValue, bool)>,
    /// The tags of those.
    held_up: HashSet<TagNo>,
    /// Of each tag, the times of the first and of the last value that came.
    first: Times,
    last: Times,
    /// What a session that goes on in another one has delivered.
    skip: Times,
    /// What was delivered before an outage.
    known: Times,
    /// When all tags were last told bad because of the connection, and some for a reason of theirs.
    marked: Nanos,
    refused: Times,
}

/// Where values arrive.
#[derive(Default)]
pub(super) struct Inbox {
    waiting: Mutex<Waiting>,
    /// What tags take of their values, where that is not all of it as it is.
    taken: Mutex<HashMap<TagNo, Arc<Taken>>>,
    shapes: Arc<Shapes>,
    pub came: Notify,
}

impl Inbox {
    fn lock(&self) -> MutexGuard<'_, Waiting> {
        self.waiting.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Where the structures of a server are known.
    pub fn of(shapes: Arc<Shapes>) -> Inbox {
        Inbox { shapes, ..Inbox::default() }
    }

    /// Takes over what the tags of a plan take of their values.
    pub fn follow(&self, plan: &LinkPlan) {
        let all = plan.points.iter().filter_map(|p| Some((p.tag, Point::parse(&p.point).ok()?.taken(p))));
        let taken = all.filter(|(_, taken)| *taken != Taken::default()).map(|(tag, taken)| (tag, Arc::new(taken)));
        *self.taken.lock().unwrap_or_else(PoisonError::into_inner) = taken.collect();
    }

    /// Takes in a value that the server sent.
    pub fn add(&self, tag: TagNo, data: &DataValue) {
        self.put(tag, data, false);
    }

    /// Takes in what holds now, as it was read at this moment.
    pub fn read(&self, tag: TagNo, data: &DataValue) {
        self.put(tag, data, true);
    }

    fn put(&self, tag: TagNo, data: &DataValue, read: bool) {
        let mut waiting = self.lock();
        // What came first is handed on first.
        if waiting.held_up.contains(&tag) || self.shapes.lacks_any(data) {
            if waiting.strange.len() >= MOST_STRANGE {
                waiting.missing.insert(tag);
                return;
            }
            waiting.held_up.insert(tag);
            waiting.strange.push((tag, data.clone(), read));
            self.came.notify_one();
            return;
        }
        self.admit(&mut waiting, tag, data, read);
    }

    /// Has a value wait to be handed on.
    fn admit(&self, waiting: &mut Waiting, tag: TagNo, data: &DataValue, read: bool) {
        if waiting.batch.samples.len() >= MOST_WAITING || waiting.batch.text.len() >= MOST_TEXT {
            waiting.missing.insert(tag);
            return;
        }
        let taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner).get(&tag).cloned().unwrap_or_default();
        if waiting.batch.samples.is_empty() {
            self.came.notify_one();
        }
        let Waiting { batch, missing, first: earliest, last: latest, skip, known, marked, refused, .. } = waiting;
        let (before, arrived) = (batch.samples.len(), now());
        push(batch, tag, data, &taken, &self.shapes, arrived);
        let Some(time) = batch.samples.get(before).map(|sample| sample.time) else { return };
        if !read && skip.of(tag).is_some_and(|skip| time <= skip) {
            batch.samples.truncate(before);
            return;
        }
        let newest = |times: [&Times; 3]| times.into_iter().filter_map(|times| times.of(tag)).max();
        let delivered = if read { newest([latest, skip, known]) } else { known.of(tag) };
        let delivered = delivered.is_some_and(|delivered| time <= delivered);
        let is_first = earliest.of(tag).is_none();
        earliest.0.entry(tag).or_insert(time);
        let told_bad = time <= refused.of(tag).unwrap_or(Nanos::MIN).max(*marked);
        if (read && delivered) || ((read || is_first) && told_bad) {
            // It is older than the moment at which the tag was told bad, or came over another session: it holds from now on.
            if delivered {
                batch.samples.truncate(before);
            }
            push(batch, tag, data, &taken, &self.shapes, arrived);
            if let Some(sample) = batch.samples.last_mut() {
                (sample.time, sample.flags) = (arrived, sample.flags & !flag::OWN_TIME);
            }
        }
        let last = latest.0.entry(tag).or_insert(time);
        *last = (*last).max(time);
        if !missing.is_empty()
            && missing.remove(&tag)
            && let Some(sample) = batch.samples.last_mut()
        {
            sample.flags |= flag::AFTER_GAP;
        }
    }

    /// What came since it was asked last.
    pub fn take(&self) -> Batch {
        std::mem::take(&mut self.lock().batch)
    }

    /// Goes on where another session ended: what that one has delivered is not delivered again.
    pub fn go_on(&self, before: &Inbox) {
        let skip = before.last();
        self.lock().skip = skip;
    }

    /// When the last value of each tag came, by its own time.
    pub fn last(&self) -> Times {
        self.lock().last.clone()
    }

    /// The same of the first one since the session began, or since it came back.
    pub fn first(&self) -> Times {
        self.lock().first.clone()
    }

    /// Begins, or begins anew after an outage: when tags were told bad, and what was delivered before that.
    pub fn begin(&self, marked: Nanos, known: Times) {
        let mut waiting = self.lock();
        (waiting.first, waiting.known) = (Times::default(), known);
        waiting.marked = waiting.marked.max(marked);
    }

    /// Tags were told bad for a reason of theirs.
    pub fn mark(&self, marks: &Batch) {
        let refused = marks.samples.iter().map(|sample| (sample.tag, sample.time));
        self.lock().refused.0.extend(refused);
    }

    /// The next value of a tag is its first.
    pub fn anew(&self, tag: TagNo) {
        self.lock().first.0.remove(&tag);
    }

    /// The types of structures that values wait for.
    pub fn unknown(&self) -> HashSet<NodeId> {
        let waiting = self.lock();
        let types = waiting.strange.iter().flat_map(|(_, data, _)| encodings(data));
        types.filter(|encoding| self.shapes.lacks(encoding)).collect()
    }

    /// Lets go on what waited for types that are known by now, each tag in the order in which its values came.
    pub fn release(&self) {
        let mut waiting = self.lock();
        waiting.held_up.clear();
        // What was dropped came after all that waits.
        let missing = std::mem::take(&mut waiting.missing);
        for (tag, data, read) in std::mem::take(&mut waiting.strange) {
            if waiting.held_up.contains(&tag) || self.shapes.lacks_any(&data) {
                waiting.held_up.insert(tag);
                waiting.strange.push((tag, data, read));
            } else {
                self.admit(&mut waiting, tag, &data, read);
            }
        }
        waiting.missing.extend(missing);
    }

    /// Why a subscription ended, if one did.
    pub fn ended(&self) -> Option<StatusCode> {
        self.lock().ended.take()
    }
}

/// Hears one subscription.
pub(super) struct Listener(pub Arc<Inbox>);

impl OnSubscriptionNotification for Listener {
    fn on_data_value(&mut self, data: DataValue, item: &MonitoredItem) {
        self.0.add(item.client_handle(), &data);
    }

    fn on_subscription_status_change(&mut self, told: StatusChangeNotification) {
        self.0.lock().ended = Some(told.status);
        self.0.came.notify_one();
    }
}

#[cfg(test)]
mod tests {
    use super::{super::value, *};
    use havrel_core::time::SECOND;
    use opcua::types::{ByteString, ByteStringBody, DateTime, ExtensionObject, Variant};

    fn at(seconds: i64, value: f64) -> DataValue {
        DataValue {
            value: Some(Variant::Double(value)),
            source_timestamp: Some(DateTime::from(value::ticks(seconds * SECOND))),
            ..DataValue::default()
        }
    }

    /// Seconds of their own time, or none where it is ours.
    fn came(inbox: &Inbox) -> Vec<Option<i64>> {
        let own = |s: &havrel_core::sample::Sample| (s.flags & flag::OWN_TIME != 0).then_some(s.time / SECOND);
        inbox.take().samples.iter().map(own).collect()
    }

    #[test]
    fn a_value_that_did_not_change_during_an_outage_holds_again_from_now_on() {
        let inbox = Inbox::default();
        inbox.add(1, &at(100, 1.0));
        assert_eq!(came(&inbox), [Some(100)]);
        inbox.begin(200 * SECOND, inbox.last());
        inbox.add(1, &at(100, 1.0));
        assert_eq!(came(&inbox), [None], "it was delivered already, so only that it holds is news");
        inbox.add(1, &at(150, 2.0));
        assert_eq!(came(&inbox), [Some(150)], "only the first one");
        inbox.begin(300 * SECOND, inbox.last());
        inbox.add(1, &at(250, 3.0));
        assert_eq!(came(&inbox), [Some(250), None], "what changed meanwhile has its own time too");
        inbox.begin(400 * SECOND, inbox.last());
        inbox.add(1, &at(450, 4.0));
        assert_eq!(came(&inbox), [Some(450)]);
        let mut refused = Batch::default();
        refused.push_quality(1, 500 * SECOND, havrel_core::quality::Quality::GOOD);
        inbox.mark(&refused);
        inbox.add(1, &at(460, 5.0));
        inbox.anew(1);
        inbox.add(1, &at(470, 6.0));
        assert_eq!(came(&inbox), [Some(460), Some(470), None], "one that is delivered anew");
    }

    #[test]
    fn a_session_that_takes_over_goes_on_from_what_was_delivered() {
        let (old, new) = (Inbox::default(), Inbox::default());
        old.add(1, &at(100, 1.0));
        old.add(1, &at(101, 1.0));
        new.go_on(&old);
        for (tag, seconds) in [(1, 99), (1, 101), (1, 102), (2, 50)] {
            new.add(tag, &at(seconds, 1.0));
        }
        assert_eq!(came(&new), [Some(102), Some(50)]);
        // What the other server holds counts from now on, also where it is older.
        for (tag, seconds) in [(1, 90), (2, 51)] {
            new.read(tag, &at(seconds, 7.0));
        }
        assert_eq!(came(&new), [None, Some(51)]);
    }

    #[test]
    fn values_of_an_unknown_structure_wait_with_all_that_follows_them() {
        let shapes = Arc::new(Shapes::default());
        let inbox = Inbox::of(shapes.clone());
        let encoding = NodeId::new(1, 7u32);
        let structure = |seconds: i64| DataValue {
            value: Some(Variant::from(ExtensionObject::new(ByteStringBody::new(ByteString::from(vec![1]), encoding.clone())))),
            ..at(seconds, 0.0)
        };
        inbox.add(1, &structure(100));
        inbox.add(1, &at(101, 1.0));
        inbox.read(1, &at(102, 2.0));
        inbox.add(2, &at(50, 1.0));
        assert_eq!(inbox.unknown(), HashSet::from([encoding.clone()]));
        assert_eq!(came(&inbox), [Some(50)], "another tag goes on");
        inbox.release();
        assert_eq!(came(&inbox), [], "it is not known yet");
        shapes.put(encoding.clone(), None);
        inbox.release();
        assert_eq!(came(&inbox), [Some(100), Some(101), Some(102)]);
        inbox.add(1, &structure(103));
        assert_eq!(came(&inbox), [Some(103)]);
    }

    #[test]
    fn beyond_what_may_wait_values_are_missing_and_the_next_one_says_so() {
        let inbox = Inbox::default();
        (0..MOST_WAITING as i64 + 5).for_each(|n| inbox.add(1, &at(n + 1, 1.0)));
        assert_eq!(inbox.take().samples.len(), MOST_WAITING);
        inbox.add(1, &at(1_000_000, 1.0));
        inbox.add(1, &at(1_000_001, 1.0));
        let flags: Vec<_> = inbox.take().samples.iter().map(|s| s.flags & flag::AFTER_GAP != 0).collect();
        assert_eq!(flags, [true, false]);
    }
}
