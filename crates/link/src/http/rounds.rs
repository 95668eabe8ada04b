//! Requests in their rhythms: which are due, what each holds for its tags, and what is news. Each request has a conversation of its
//! own, so that a slow one holds up no other.

use super::{
    client::{Answer, Caller, Failed, Version},
    settings::{Path, Point, Request, Settings},
};
use crate::{LinkError, LinkPlan, payload};
use bytes::Bytes;
use havrel_core::{
    TagNo,
    quality::{Quality, Reason},
    sample::{Batch, Value, flag},
    scale::Scaling,
    time::Nanos,
};
use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
    time::Duration,
};
use tokio::{
    task::JoinSet,
    time::{Instant, sleep_until},
};

/// Requests under way at once.
const MOST_AT_ONCE: usize = 16;

/// A path that is asked for, and how often, in milliseconds.
pub(super) type Key = (String, u32);

/// A tag that takes something of an answer.
struct Tag {
    no: TagNo,
    at: Point,
    scaling: Option<Scaling>,
    /// What the last answer held with times of its own.
    told: HashMap<Nanos, Value>,
    /// When it was told that something is wrong; 0 where nothing is.
    marked: Nanos,
}

/// One request in its rhythm.
struct Round {
    tags: Vec<Tag>,
    /// Not there while it is asked.
    caller: Option<Caller>,
    next: Instant,
    /// What came last, and by what the program tells that nothing changed.
    body: Bytes,
    version: Option<Version>,
    /// What it failed with last; nothing where it did not, or was not asked yet.
    error: Option<LinkError>,
    /// When its tags were told so; 0 where it did not fail last.
    marked: Nanos,
    asked: bool,
}

/// How a request ended.
pub(super) struct Ended {
    key: Key,
    caller: Caller,
    pub took: Duration,
    pub result: Result<Answer, Failed>,
}

impl Ended {
    /// What was asked for.
    pub fn asked(&self) -> String {
        if self.key.0.is_empty() { "/".to_owned() } else { self.key.0.clone() }
    }
}

/// All requests of a connection.
pub(super) struct Rounds {
    settings: Arc<Settings>,
    path: Path,
    timeout_ms: u32,
    /// When all tags were told that the program cannot be reached; 0 where that is long past.
    marked: Nanos,
    rounds: BTreeMap<Key, Round>,
    running: JoinSet<Ended>,
}

impl Rounds {
    /// Requests to a program; `marked` is when all tags were told that it cannot be reached, 0 where they were not.
    pub fn new(settings: Arc<Settings>, path: Path, timeout_ms: u32, marked: Nanos) -> Rounds {
        Rounds { settings, path, timeout_ms, marked, rounds: BTreeMap::new(), running: JoinSet::new() }
    }

    /// Follows a plan; tags whose point cannot be read, or whose group is paused, are marked. A request that stays keeps its rhythm.
    pub fn follow(&mut self, plan: &LinkPlan, marks: &mut Batch, at: Nanos) {
        let mut before = std::mem::take(&mut self.rounds);
        for point in &plan.points {
            let Ok(read) = Point::parse(&point.point) else {
                marks.push_quality(point.tag, at, Quality::of(Reason::NoSource));
                continue;
            };
            let interval_ms = plan.connection.interval_of(point.group);
            if interval_ms == 0 {
                marks.push_quality(point.tag, at, Quality::of(Reason::Paused));
                continue;
            }
            let key = (read.path.clone(), interval_ms);
            let round = self.rounds.entry(key.clone()).or_insert_with(|| match before.remove(&key) {
                Some(known) => Round { tags: Vec::new(), ..known },
                None => Round {
                    tags: Vec::new(),
                    caller: Some(Caller::new(self.settings.clone(), self.path.clone(), self.timeout_ms)),
                    next: Instant::now(),
                    body: Bytes::new(),
                    version: None,
                    error: None,
                    marked: 0,
                    asked: false,
                },
            });
            let (told, marked) = (HashMap::new(), self.marked.max(round.marked));
            round.tags.push(Tag { no: point.tag, at: read, scaling: point.scaling, told, marked });
        }
        // What is new is told by the next answer, which must hold it.
        self.rounds.values_mut().for_each(|round| round.version = None);
    }

    /// Begins what is due, and waits until a request has ended.
    pub async fn next(&mut self) -> Ended {
        loop {
            self.begin();
            let room = self.running.len() < MOST_AT_ONCE;
            let due = self.rounds.values().filter(|round| round.caller.is_some()).map(|round| round.next).min();
            let due = due.filter(|_| room);
            tokio::select! {
                Some(ended) = self.running.join_next(), if !self.running.is_empty() => {
                    // What was aborted or failed is told by whoever ended it.
                    if let Ok(ended) = ended {
                        return ended;
                    }
                }
                () = sleep_until(due.unwrap_or_else(Instant::now)), if due.is_some() => {}
                () = std::future::pending(), if due.is_none() && self.running.is_empty() => {}
            }
        }
    }

    fn begin(&mut self) {
        let now = Instant::now();
        for (key, round) in &mut self.rounds {
            if self.running.len() >= MOST_AT_ONCE || round.next > now {
                continue;
            }
            let Some(mut caller) = round.caller.take() else { continue };
            let interval = Duration::from_millis(key.1.into());
            // In step with its rhythm, whatever was missed.
            let missed = (now - round.next).as_nanos() / interval.as_nanos().max(1);
            round.next += interval * (u32::try_from(missed).unwrap_or(u32::MAX - 1) + 1);
            let (request, version, key): (Request, _, _) = (self.settings.request(&key.0), round.version.clone(), key.clone());
            self.running.spawn(async move {
                let began = Instant::now();
                let result = caller.ask(&request, version.as_ref()).await;
                Ended { key, caller, took: began.elapsed(), result }
            });
        }
    }

    /// Takes in how a request ended. The values of its tags, and what it failed with.
    ///
    /// # Errors
    /// When the program cannot be reached at all.
    pub fn take(&mut self, ended: Ended, at: Nanos) -> Result<(Batch, Option<LinkError>), LinkError> {
        let mut batch = Batch::default();
        let Some(round) = self.rounds.get_mut(&ended.key) else { return Ok((batch, None)) };
        (round.caller, round.asked) = (Some(ended.caller), true);
        let error = match ended.result {
            Err(Failed::Dial(error)) => return Err(error),
            Err(Failed::Asked(error, pause)) => {
                round.next = round.next.max(Instant::now() + pause.unwrap_or_default());
                round.version = None;
                let quality = Quality::of(error.reason());
                round.marked = at;
                for tag in &mut round.tags {
                    tag.marked = at;
                    batch.push_quality(tag.no, at, quality);
                }
                Some(error)
            }
            Ok(answer) => {
                if !answer.unchanged {
                    (round.body, round.version) = (answer.body, Some(answer.version));
                }
                round.marked = 0;
                let fits = round.tell(&mut batch, at);
                let page = answer.media.starts_with("text/html");
                (!fits && page).then(|| LinkError::WrongAnswer("it is a page for people (text/html)".into()))
            }
        };
        round.error = error.clone();
        Ok((batch, error))
    }

    /// What came last under a path.
    pub fn body(&self, path: &str) -> Option<&Bytes> {
        self.rounds.iter().find(|((known, _), round)| known == path && !round.body.is_empty()).map(|(_, round)| &round.body)
    }

    /// What fails at present, by path; and whether nothing else is there.
    pub fn failing(&self) -> (Vec<(&str, &LinkError)>, bool) {
        let all = self.rounds.iter().filter_map(|((path, _), round)| Some((path.as_str(), round.error.as_ref()?)));
        let all: Vec<_> = all.collect();
        let whole = !all.is_empty() && self.rounds.values().all(|round| round.error.is_some() || !round.asked);
        (all, whole)
    }
}

impl Round {
    /// Gives its tags what the answer holds. Whether all of them can read it.
    fn tell(&mut self, batch: &mut Batch, at: Nanos) -> bool {
        let mut read: Vec<(payload::Format, payload::Message)> = Vec::new();
        let mut fits = true;
        for tag in &mut self.tags {
            let format = tag.at.taken.format;
            let known = read.iter().position(|(one, _)| *one == format).unwrap_or_else(|| {
                read.push((format, payload::read(&self.body, format)));
                read.len() - 1
            });
            fits &= tag.take(tag.at.taken.of(&read[known].1), batch, at);
        }
        fits
    }
}

impl Tag {
    /// Takes in what an answer holds for it. Whether it can read all of it.
    fn take(&mut self, samples: Vec<payload::Sample>, batch: &mut Batch, at: Nanos) -> bool {
        let before = std::mem::take(&mut self.told);
        let (mut fits, mut newest): (bool, Option<(Nanos, Quality, Value)>) = (true, None);
        for sample in samples {
            fits &= !matches!(sample.quality.reason(), Reason::DoesNotFit | Reason::NotANumber);
            let flags = if sample.time.is_some() { flag::OWN_TIME } else { 0 };
            let time = sample.time.unwrap_or(at);
            let Some(raw) = sample.value else {
                // What comes after it must say that it holds from then on.
                self.marked = self.marked.max(time);
                batch.push_quality(self.no, time, sample.quality);
                if let Some(last) = batch.samples.last_mut() {
                    last.flags = flags;
                }
                continue;
            };
            // The same value with the same time of its own is no new one.
            let old = flags != 0 && before.get(&time) == Some(&raw);
            if flags != 0 {
                self.told.insert(time, raw.clone());
            }
            let (value, clamped) = Scaling::of(self.scaling, raw);
            let quality = match sample.quality {
                Quality::GOOD if clamped => Quality::of(Reason::Clamped),
                told => told,
            };
            if newest.as_ref().is_none_or(|(known, ..)| time >= *known) {
                newest = Some((time, quality, value.clone()));
            }
            if !old {
                batch.push(self.no, time, quality, flags, &value);
            }
        }
        if let Some((time, quality, value)) = newest.filter(|_| self.marked > 0) {
            // It is older than the moment at which the tag was told that something is wrong: it holds from now on.
            if time <= self.marked {
                batch.push(self.no, at, quality, 0, &value);
            }
            self.marked = 0;
        }
        fits
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::PointPlan;
    use havrel_core::time::SECOND;
    use serde_json::{Value as Json, json};

    const AT: Nanos = 1_795_924_307 * SECOND;

    fn rounds(points: &[Json]) -> Rounds {
        let point = |(tag, point): (TagNo, &Json)| PointPlan {
            tag,
            point: point.as_object().unwrap().clone(),
            scaling: None,
            group: None,
        };
        let connection = serde_json::from_value(json!({"name": "c", "kind": "http"})).unwrap();
        let plan =
            LinkPlan { connection, points: (1..).zip(points).map(point).collect(), orders: Vec::new(), topics: Vec::new() };
        let mut rounds = Rounds::new(Arc::default(), Path::default(), 100, 0);
        rounds.follow(&plan, &mut Batch::default(), AT);
        rounds
    }

    /// Tag, reason, and seconds after the beginning of what an answer gives.
    fn told(rounds: &mut Rounds, path: &str, result: Result<Answer, Failed>, at: Nanos) -> Vec<(TagNo, Reason, i64)> {
        let key = (path.to_owned(), 1000);
        let caller = rounds.rounds.get_mut(&key).unwrap().caller.take().unwrap();
        let ended = Ended { key, caller, took: Duration::ZERO, result };
        let (batch, _) = rounds.take(ended, at).unwrap();
        batch.samples.iter().map(|s| (s.tag, s.quality.reason(), (s.time - AT) / SECOND)).collect()
    }

    fn answer(body: Json) -> Result<Answer, Failed> {
        Ok(Answer { status: 200, body: Bytes::from(body.to_string()), ..Answer::default() })
    }

    #[tokio::test]
    async fn tags_of_one_path_share_its_answer_and_old_samples_are_no_news() {
        let own = json!({"path": "/a", "samples": "/log", "member": "/v", "time": "/t", "clock": "seconds"});
        let mut rounds = rounds(&[json!({"path": "/a", "member": "/x"}), own, json!({"path": "/b"}), json!({"path": "bad"})]);
        assert_eq!(rounds.rounds.len(), 2, "a path that is none is not asked for");
        let log = |last: i64| json!([{"t": AT / SECOND - 9, "v": 1}, {"t": AT / SECOND + last, "v": 2}]);
        let first = told(&mut rounds, "/a", answer(json!({"x": 5, "log": log(-4)})), AT);
        assert_eq!(first, [(1, Reason::Fine, 0), (2, Reason::Fine, -9), (2, Reason::Fine, -4)]);
        let same = told(&mut rounds, "/a", Ok(Answer { unchanged: true, ..Answer::default() }), AT + SECOND);
        assert_eq!(same, [(1, Reason::Fine, 1)], "nothing changed, and so it holds on");
        let more = told(&mut rounds, "/a", answer(json!({"x": "y", "log": log(2)})), AT + 2 * SECOND);
        assert_eq!(more, [(1, Reason::Fine, 2), (2, Reason::Fine, 2)]);
        assert_eq!(rounds.body("/a").map(|b| b.is_empty()), Some(false));
    }

    #[tokio::test]
    async fn a_request_that_fails_marks_its_own_tags_alone() {
        let mut rounds = rounds(&[json!({"path": "/a"}), json!({"path": "/b"})]);
        let failed = Err(Failed::Asked(LinkError::Answered(404), None));
        assert_eq!(told(&mut rounds, "/a", failed, AT), [(1, Reason::NoSuchAddress, 0)]);
        assert_eq!(rounds.failing(), (vec![("/a", &LinkError::Answered(404))], true), "nothing else answered yet");
        assert_eq!(told(&mut rounds, "/b", answer(json!(7)), AT), [(2, Reason::Fine, 0)]);
        assert!(!rounds.failing().1);
        let later = Err(Failed::Asked(LinkError::Answered(429), Some(Duration::from_secs(40))));
        told(&mut rounds, "/a", later, AT);
        let next = rounds.rounds[&("/a".to_owned(), 1000)].next;
        assert!(next > Instant::now() + Duration::from_secs(30), "it asked to be left alone");
        assert_eq!(told(&mut rounds, "/a", answer(json!(null)), AT), [(1, Reason::NoValue, 0)]);
        assert!(rounds.failing().0.is_empty());
    }

    #[tokio::test]
    async fn a_value_that_did_not_change_during_a_failure_holds_again() {
        let mut rounds = rounds(&[json!({"path": "/a", "member": "/v", "time": "/t", "clock": "seconds"})]);
        let body = json!({"v": 1, "t": AT / SECOND - 60});
        assert_eq!(told(&mut rounds, "/a", answer(body.clone()), AT), [(1, Reason::Fine, -60)]);
        let failed = Err(Failed::Asked(LinkError::Answered(503), None));
        assert_eq!(told(&mut rounds, "/a", failed, AT + SECOND), [(1, Reason::Refused, 1)]);
        assert_eq!(told(&mut rounds, "/a", answer(body.clone()), AT + 2 * SECOND), [(1, Reason::Fine, 2)]);
        assert_eq!(told(&mut rounds, "/a", answer(body), AT + 3 * SECOND), []);
    }

    #[tokio::test]
    async fn samples_may_come_in_any_order_and_each_is_told_once() {
        let log = |seconds: &[i64]| {
            let all: Vec<Json> = seconds.iter().map(|s| json!({"t": AT / SECOND + s, "v": s})).collect();
            json!({"log": all})
        };
        let point = json!({"path": "/b", "samples": "/log", "member": "/v", "time": "/t", "clock": "seconds"});
        let mut rounds = rounds(&[point]);
        let first = told(&mut rounds, "/b", answer(log(&[-1, -3, -2])), AT);
        assert_eq!(first.iter().map(|s| s.2).collect::<Vec<_>>(), [-1, -3, -2]);
        // One comes late, between two that are known.
        let more = told(&mut rounds, "/b", answer(log(&[0, -1, -4, -2])), AT);
        assert_eq!(more.iter().map(|s| s.2).collect::<Vec<_>>(), [0, -4]);
    }
}
