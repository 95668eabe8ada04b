//! Which tags hear which topic, what came on it, and how long it has been silent. Without a socket: time comes in.

use super::{
    client::Heard,
    settings::{Point, Settings, fits},
};
use crate::{LinkPlan, payload};
use bytes::Bytes;
use havrel_core::{
    TagNo,
    quality::{Quality, Reason},
    sample::{Batch, flag},
    scale::Scaling,
    time::{Nanos, SECOND},
};
use std::collections::HashMap;

/// How long a broker takes for the messages it kept, after it granted a topic.
const KEPT: Nanos = 2 * SECOND;
/// Most bytes of a message that is kept to be looked at.
const MOST_LAST: usize = 64 << 10;

/// A tag that hears a topic.
struct Ear {
    tag: TagNo,
    at: Point,
    scaling: Option<Scaling>,
    /// Seconds without a message after which it is silent too long; 0 never.
    silent_s: u32,
    /// It was told so.
    silent: bool,
}

/// A topic that some tags hear.
#[derive(Default)]
struct Topic {
    ears: Vec<Ear>,
    /// When a message came last.
    heard: Option<Nanos>,
    /// The broker granted it, and nothing came since.
    waits: Option<Nanos>,
    /// What came last.
    last: Option<Bytes>,
    /// When its tags were last told that something is wrong.
    marked: Nanos,
}

impl Topic {
    fn granted(&mut self, refused: Option<Reason>, marks: &mut Batch, at: Nanos) {
        match refused {
            None => self.waits = Some(at),
            Some(reason) => {
                self.waits = None;
                self.mark(reason, marks, at);
            }
        }
    }

    /// Tells all its tags.
    fn mark(&mut self, reason: Reason, marks: &mut Batch, at: Nanos) {
        self.marked = at;
        self.ears.iter().for_each(|ear| marks.push_quality(ear.tag, at, Quality::of(reason)));
    }
}

/// All topics of a connection. It outlasts sessions.
#[derive(Default)]
pub(super) struct Inbox {
    topics: HashMap<String, Topic>,
    /// Messages that did not fit one of their tags.
    pub unfit: u64,
}

/// What changes in the topics that are wanted.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Difference {
    pub new: Vec<String>,
    pub gone: Vec<String>,
}

impl Inbox {
    /// Follows a plan; tags whose point cannot be read are marked. Gives the topics that are wanted now, or no longer.
    pub fn follow(&mut self, plan: &LinkPlan, settings: &Settings, marks: &mut Batch, at: Nanos) -> Difference {
        let mut before = std::mem::take(&mut self.topics);
        let mut new = Vec::new();
        for point in &plan.points {
            let Ok(read) = Point::parse(&point.point) else {
                marks.push_quality(point.tag, at, Quality::of(Reason::NoSource));
                continue;
            };
            let topic = read.topic.clone();
            if !self.topics.contains_key(&topic) {
                let known = before.remove(&topic).map(|known| Topic { ears: Vec::new(), ..known });
                if known.is_none() {
                    new.push(topic.clone());
                }
                self.topics.insert(topic.clone(), known.unwrap_or_default());
            }
            let silent_s = read.silent_s.unwrap_or(settings.silent_s);
            let ear = Ear { tag: point.tag, at: read, scaling: point.scaling, silent_s, silent: false };
            if let Some(topic) = self.topics.get_mut(&topic) {
                topic.ears.push(ear);
            }
        }
        Difference { new, gone: before.into_keys().collect() }
    }

    /// Every topic, in a steady order.
    pub fn all(&self) -> Vec<String> {
        let mut all: Vec<String> = self.topics.keys().cloned().collect();
        all.sort_unstable();
        all
    }

    /// The broker granted a topic or a filter of topics, or refused it.
    pub fn granted(&mut self, topic: &str, refused: Option<Reason>, marks: &mut Batch, at: Nanos) {
        if let Some(topic) = self.topics.get_mut(topic) {
            topic.granted(refused, marks, at);
            return;
        }
        self.topics.iter_mut().filter(|(name, _)| fits(name, topic)).for_each(|(_, t)| t.granted(refused, marks, at));
    }

    /// Whether a tag hears this topic.
    pub fn hears(&self, topic: &str) -> bool {
        self.topics.contains_key(topic)
    }

    /// The session is over: nothing is granted any more, and all tags are told so.
    pub fn lost(&mut self, at: Nanos) {
        self.topics.values_mut().for_each(|topic| (topic.waits, topic.marked) = (None, at));
    }

    /// Takes in a message. Whether tags hear it, and all of them can read it.
    pub fn hear(&mut self, came: &Heard, batch: &mut Batch, at: Nanos) -> bool {
        let Some(topic) = self.topics.get_mut(&came.topic) else { return false };
        (topic.heard, topic.waits) = (Some(at), None);
        if came.oversized {
            topic.mark(Reason::DoesNotFit, batch, at);
            self.unfit += 1;
            return false;
        }
        topic.last = (came.payload.len() <= MOST_LAST).then(|| Bytes::copy_from_slice(&came.payload));
        let mut read: Vec<(payload::Format, payload::Message)> = Vec::new();
        let (mut unfit, marked) = (false, topic.marked);
        for ear in &mut topic.ears {
            ear.silent = false;
            let format = ear.at.taken.format;
            let known = read.iter().position(|(one, _)| *one == format).unwrap_or_else(|| {
                read.push((format, payload::read(&came.payload, format)));
                read.len() - 1
            });
            for sample in ear.at.taken.of(&read[known].1) {
                unfit |= matches!(sample.quality.reason(), Reason::DoesNotFit | Reason::NotANumber);
                ear.take(sample, came.retained, marked, batch, at);
            }
        }
        self.unfit += u64::from(unfit);
        !unfit
    }

    /// What the passing of time tells: granted topics on which nothing was kept, and tags that are silent too long.
    pub fn tick(&mut self, marks: &mut Batch, at: Nanos) {
        for topic in self.topics.values_mut() {
            if topic.waits.is_some_and(|granted| at - granted >= KEPT) {
                topic.waits = None;
                let reason = if topic.heard.is_some() { Reason::NotRetained } else { Reason::NeverHeard };
                topic.mark(reason, marks, at);
            }
            let Some(heard) = topic.heard else { continue };
            for ear in topic.ears.iter_mut().filter(|ear| ear.silent_s > 0 && !ear.silent) {
                if at - heard >= Nanos::from(ear.silent_s) * SECOND {
                    ear.silent = true;
                    topic.marked = at;
                    marks.push_quality(ear.tag, at, Quality::of(Reason::SilentTooLong));
                }
            }
        }
    }

    /// What came last on a topic.
    pub fn last(&self, topic: &str) -> Option<&Bytes> {
        self.topics.get(topic)?.last.as_ref()
    }
}

impl Ear {
    fn take(&self, sample: payload::Sample, retained: bool, marked: Nanos, batch: &mut Batch, at: Nanos) {
        let time = sample.time.unwrap_or(at);
        let flags = if sample.time.is_some() { flag::OWN_TIME } else { 0 };
        let Some(raw) = sample.value else {
            batch.push_quality(self.tag, time, sample.quality);
            if let Some(last) = batch.samples.last_mut() {
                last.flags = flags;
            }
            return;
        };
        let (value, clamped) = Scaling::of(self.scaling, raw);
        let quality = match sample.quality {
            // Without a time of its own, what the broker kept may be of any age.
            Quality::GOOD if retained && sample.time.is_none() => Quality::of(Reason::Retained),
            Quality::GOOD if clamped => Quality::of(Reason::Clamped),
            told => told,
        };
        batch.push(self.tag, time, quality, flags, &value);
        // It is older than the moment at which the tag was told that something is wrong: it holds from now on.
        if time <= marked {
            batch.push(self.tag, at, quality, 0, &value);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::PointPlan;
    use serde_json::{Value as Json, json};

    const AT: Nanos = 1_795_924_307 * SECOND;

    fn plan(points: &[Json]) -> LinkPlan {
        let point = |(tag, point): (TagNo, &Json)| PointPlan {
            tag,
            point: point.as_object().unwrap().clone(),
            scaling: None,
            group: None,
        };
        let connection = serde_json::from_value(json!({"name": "c", "kind": "mqtt"})).unwrap();
        LinkPlan { connection, points: (1..).zip(points).map(point).collect(), orders: Vec::new(), topics: Vec::new() }
    }

    fn inbox(points: &[Json]) -> Inbox {
        let mut inbox = Inbox::default();
        inbox.follow(&plan(points), &Settings::default(), &mut Batch::default(), AT);
        inbox
    }

    fn message(topic: &str, payload: &str, retained: bool) -> Heard {
        Heard { topic: topic.into(), payload: Bytes::copy_from_slice(payload.as_bytes()), retained, oversized: false }
    }

    /// Tag, reason and seconds after the beginning of each sample.
    fn told(batch: &Batch) -> Vec<(TagNo, Reason, i64)> {
        batch.samples.iter().map(|s| (s.tag, s.quality.reason(), (s.time - AT) / SECOND)).collect()
    }

    #[test]
    fn one_message_gives_several_tags_their_values_and_times() {
        let at = |member: &str| json!({"topic": "m", "member": member, "time": "/ts", "clock": "seconds"});
        let mut inbox = inbox(&[at("/a"), at("/b"), json!({"topic": "m", "format": "number"}), json!({"topic": "n"})]);
        let mut batch = Batch::default();
        let came = message("m", &json!({"ts": AT / SECOND - 5, "a": 1, "b": "x"}).to_string(), true);
        assert!(!inbox.hear(&came, &mut batch, AT) && inbox.unfit == 1, "one of them cannot read it");
        let expected = [(1, Reason::Fine, -5), (2, Reason::Fine, -5), (3, Reason::NotANumber, 0)];
        assert_eq!(told(&batch), expected);
        assert!(!inbox.hear(&message("other", "1", false), &mut batch, AT));
        assert_eq!(inbox.last("m"), Some(&came.payload));
    }

    #[test]
    fn what_was_retained_without_a_time_is_uncertain() {
        let mut inbox = inbox(&[json!({"topic": "m"})]);
        let mut batch = Batch::default();
        inbox.hear(&message("m", "7", true), &mut batch, AT);
        inbox.hear(&message("m", "7", false), &mut batch, AT);
        assert_eq!(told(&batch), [(1, Reason::Retained, 0), (1, Reason::Fine, 0)]);
    }

    #[test]
    fn silence_is_told_once_with_what_it_means() {
        let mut inbox = inbox(&[json!({"topic": "m", "silent_s": 10}), json!({"topic": "n"}), json!({"topic": "o"})]);
        let (mut marks, mut values) = (Batch::default(), Batch::default());
        inbox.granted("m", None, &mut marks, AT);
        inbox.granted("n", None, &mut marks, AT);
        inbox.granted("o", Some(Reason::NotReadable), &mut marks, AT);
        assert_eq!(told(&std::mem::take(&mut marks)), [(3, Reason::NotReadable, 0)]);
        inbox.hear(&message("m", "1", false), &mut values, AT + SECOND);
        inbox.tick(&mut marks, AT + SECOND);
        assert_eq!(told(&marks), [], "what is kept takes a moment");
        for seconds in [2, 3, 10, 11, 12] {
            inbox.tick(&mut marks, AT + seconds * SECOND);
        }
        assert_eq!(told(&std::mem::take(&mut marks)), [(2, Reason::NeverHeard, 2), (1, Reason::SilentTooLong, 11)]);
        inbox.hear(&message("m", "1", false), &mut values, AT + 12 * SECOND);
        inbox.lost(AT + 15 * SECOND);
        inbox.granted("m", None, &mut marks, AT + 20 * SECOND);
        inbox.tick(&mut marks, AT + 22 * SECOND);
        let expected = [(1, Reason::NotRetained, 22), (1, Reason::SilentTooLong, 22)];
        assert_eq!(told(&marks), expected);
    }

    #[test]
    fn what_is_older_than_an_outage_holds_again_from_now_on() {
        let mut inbox = inbox(&[json!({"topic": "m", "member": "/v", "time": "/ts", "clock": "seconds"})]);
        let mut batch = Batch::default();
        inbox.lost(AT + 10 * SECOND);
        let came = |seconds: i64| message("m", &json!({"ts": AT / SECOND + seconds, "v": 1}).to_string(), true);
        inbox.hear(&came(5), &mut batch, AT + 12 * SECOND);
        inbox.hear(&came(11), &mut batch, AT + 13 * SECOND);
        assert_eq!(told(&batch), [(1, Reason::Fine, 5), (1, Reason::Fine, 12), (1, Reason::Fine, 11)]);
        let own: Vec<bool> = batch.samples.iter().map(|s| s.flags & flag::OWN_TIME != 0).collect();
        assert_eq!(own, [true, false, true]);
    }

    #[test]
    fn a_message_that_is_too_large_is_told_at_its_tags() {
        let mut inbox = inbox(&[json!({"topic": "m"}), json!({"topic": "n"})]);
        let mut batch = Batch::default();
        let came = Heard { oversized: true, ..message("m", "", false) };
        assert!(!inbox.hear(&came, &mut batch, AT) && inbox.unfit == 1);
        assert_eq!(told(&batch), [(1, Reason::DoesNotFit, 0)]);
    }

    #[test]
    fn a_plan_that_changes_asks_only_for_what_is_new() {
        let mut inbox = inbox(&[json!({"topic": "m"}), json!({"topic": "n"})]);
        let mut marks = Batch::default();
        inbox.hear(&message("n", "1", false), &mut Batch::default(), AT);
        let next = plan(&[json!({"topic": "n"}), json!({"topic": "o", "member": "/a"}), json!({"topic": "o/#"})]);
        let difference = inbox.follow(&next, &Settings::default(), &mut marks, AT);
        assert_eq!(difference, Difference { new: vec!["o".into()], gone: vec!["m".into()] });
        assert_eq!(told(&marks), [(3, Reason::NoSource, 0)], "a tag hears one topic");
        assert!(inbox.last("n").is_some() && inbox.all() == ["n", "o"]);
    }

    #[test]
    fn an_answer_to_a_filter_holds_for_every_topic_that_it_covers() {
        let mut inbox = inbox(&[json!({"topic": "site/a/x"}), json!({"topic": "site/b/x"}), json!({"topic": "site/b"})]);
        let mut batch = Batch::default();
        inbox.granted("site/+/x", Some(Reason::NotReadable), &mut batch, AT);
        let mut told_now = told(&batch);
        told_now.sort_by_key(|(tag, ..)| *tag);
        assert_eq!(told_now, [(1, Reason::NotReadable, 0), (2, Reason::NotReadable, 0)]);
        inbox.granted("site/#", None, &mut batch, AT);
        let mut batch = Batch::default();
        inbox.tick(&mut batch, AT + KEPT);
        assert_eq!(batch.samples.len(), 3, "nothing was kept on any of them");
    }
}
