//! After a turn that failed: a new engine from what is durable.

use super::{ENGINE, Thread, engine};
use crate::{
    now,
    supervision::{BackOff, words_of},
};
use havrel_core::{
    alarm::SystemAlarm,
    engine::{Effects, Input, Plan},
    frame::Gap,
};
use std::{
    panic::{AssertUnwindSafe, catch_unwind},
    sync::{Arc, PoisonError},
};

impl Thread {
    /// After a turn that failed: an engine from what is durable, tried again and again with growing pauses.
    pub(super) fn begin_anew(&mut self, words: &str, back_off: &mut BackOff) {
        let mut words = words.to_owned();
        loop {
            tracing::error!(words, "the engine failed; it is started again");
            self.live.faults.failed(ENGINE, now(), &words);
            std::thread::sleep(back_off.failed());
            back_off.begins();
            match catch_unwind(AssertUnwindSafe(|| self.recover(&words))) {
                Ok(()) => break,
                Err(panic) => words = words_of(&*panic),
            }
        }
        self.live.faults.mended(ENGINE);
    }

    fn recover(&mut self, words: &str) {
        let live = self.live.clone();
        let mut effects = Effects::default();
        self.engine = engine(self.durable.values().cloned().collect(), self.formulas.clone(), &live.hands.numbered());
        self.engine.step(now(), Input::ClockStep { epoch: self.epoch, by: 0 }, &mut effects);
        let plan = Arc::new(Plan::of(&live.plant()));
        self.engine.step(now(), Input::Plan(plan.clone()), &mut effects);
        let shown: Vec<_> = {
            let values = live.values.read().unwrap_or_else(PoisonError::into_inner);
            plan.tags.iter().filter_map(|t| Some((t.no, values.of(t.no)?.current.clone()))).collect()
        };
        for (tag, current) in &shown {
            self.engine.step(now(), Input::Restore { tag: *tag, current }, &mut effects);
        }
        let title = format!("Restarted after a fault: {ENGINE}");
        for active in [true, false] {
            self.engine.step(now(), Input::System { alarm: SystemAlarm::Restarted, active, text: &title }, &mut effects);
        }
        self.notes.push(crate::lines::by_itself("system", title, &serde_json::json!({"cause": words}), now()));
        self.gaps.push(Gap { from: self.reached, to: now(), reason: "the engine failed and was started again".into() });
        self.show(&effects, true);
        self.keep(effects);
    }
}
