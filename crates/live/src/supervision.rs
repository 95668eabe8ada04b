//! Every long task is watched: one that fails is started again after a pause, and said.

use crate::Live;
use futures_util::{FutureExt as _, future::BoxFuture};
use havrel_core::{alarm::SystemAlarm, time::Nanos};
use std::{
    any::Any,
    collections::BTreeMap,
    panic::AssertUnwindSafe,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

/// The pause before something is started again; doubled with each failure that follows soon, up to the longest.
const PAUSE: Duration = Duration::from_millis(500);
const LONGEST_PAUSE: Duration = Duration::from_secs(30);
/// What ran for so long had not failed at its start.
const SETTLED: Duration = Duration::from_secs(60);

/// A pause that grows with failures.
#[derive(Debug)]
pub(crate) struct BackOff {
    next: Duration,
    began: Instant,
}

impl BackOff {
    /// Begins with the shortest.
    pub fn new() -> BackOff {
        BackOff { next: PAUSE, began: Instant::now() }
    }

    /// What was started runs from now on.
    pub fn begins(&mut self) {
        self.began = Instant::now();
    }

    /// It failed: how long to wait.
    pub fn failed(&mut self) -> Duration {
        if self.began.elapsed() > SETTLED {
            self.next = PAUSE;
        }
        let pause = self.next;
        self.next = (pause * 2).min(LONGEST_PAUSE);
        pause
    }
}

/// A part that failed and does not run at present.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// Which part, in words: “the engine”.
    pub part: String,
    pub since: Nanos,
    /// What it said.
    pub message: String,
}

/// The parts that do not run at present.
#[derive(Debug, Default)]
pub(crate) struct Faults(Mutex<BTreeMap<String, Fault>>);

impl Faults {
    pub fn failed(&self, part: &str, since: Nanos, message: &str) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let fault = Fault { part: part.to_owned(), since, message: message.to_owned() };
        all.entry(part.to_owned()).and_modify(|f| message.clone_into(&mut f.message)).or_insert(fault);
    }

    pub fn mended(&self, part: &str) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).remove(part);
    }

    pub fn all(&self) -> Vec<Fault> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).values().cloned().collect()
    }
}

/// What a panic said.
pub(crate) fn words_of(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<&str>().map(|s| (*s).to_owned()).or_else(|| panic.downcast_ref::<String>().cloned());
    text.unwrap_or_else(|| "it failed without words".to_owned())
}

/// Runs a task, and runs it anew whenever it fails.
pub(crate) async fn supervise<F: Future<Output = ()>>(live: Arc<Live>, part: &'static str, mut make: impl FnMut() -> F) {
    let report = |failure: Option<String>| {
        let live = live.clone();
        async move { live.report(part, failure).await }.boxed()
    };
    run_anew(&mut make, report).await;
}

/// The same without the plant: `report` hears what a failure said, and `None` once the task runs again.
async fn run_anew<F: Future<Output = ()>>(
    make: &mut impl FnMut() -> F,
    report: impl Fn(Option<String>) -> BoxFuture<'static, ()>,
) {
    let mut back_off = BackOff::new();
    loop {
        back_off.begins();
        // What the task shared with others is behind locks that outlive it, or is read anew when it begins.
        let Err(panic) = AssertUnwindSafe(make()).catch_unwind().await else { return };
        report(Some(words_of(&*panic))).await;
        tokio::time::sleep(back_off.failed()).await;
        report(None).await;
    }
}

impl Live {
    /// Notes that a part failed (with what it said), or that it runs again: for health, log, journal and alarms.
    pub(crate) async fn report(&self, part: &str, failure: Option<String>) {
        let Some(words) = failure else {
            self.faults.mended(part);
            self.system_alarm(SystemAlarm::Restarted, false, "").await;
            return;
        };
        tracing::error!(part, words, "a part of Havrel failed; it is started again");
        self.faults.failed(part, crate::now(), &words);
        let title = format!("Restarted after a fault: {part}");
        self.system_alarm(SystemAlarm::Restarted, true, &title).await;
        self.remark("system", None, None, &title, serde_json::json!({"cause": words})).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::atomic::{AtomicUsize, Ordering};

    #[tokio::test(start_paused = true)]
    async fn what_fails_is_said_and_started_again() {
        let runs = AtomicUsize::new(0);
        let said = Arc::new(Mutex::new(Vec::new()));
        let mut make = || async {
            let run = runs.fetch_add(1, Ordering::Relaxed);
            assert!(run >= 2, "broken by fault {run}");
        };
        let hears = said.clone();
        let report = move |words| {
            hears.lock().unwrap().push(words);
            async {}.boxed()
        };
        run_anew(&mut make, report).await;
        let said = said.lock().unwrap();
        assert_eq!(runs.load(Ordering::Relaxed), 3);
        assert_eq!(said.len(), 4);
        assert!(said[0].as_ref().is_some_and(|words| words.contains("broken by fault 0")) && said[1].is_none(), "{said:?}");
    }

    #[test]
    fn pauses_grow() {
        let mut back_off = BackOff::new();
        let pauses: Vec<u128> = (0..8).map(|_| back_off.failed().as_millis()).collect();
        assert_eq!(pauses, [500, 1000, 2000, 4000, 8000, 16000, 30000, 30000]);
    }
}
