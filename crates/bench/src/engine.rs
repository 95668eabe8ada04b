//! The engine alone, on one core: limit rules judged each second.

use crate::{Figures, rate};
use havrel_core::{
    engine::{Effects, Engine, Input, Plan},
    plant::{Kind, Plant, Stored},
    quality::Quality,
    sample::{Batch, Value},
    time::{MILLI, SECOND},
    trial::{Told, Trial, judged::Judged},
};
use serde_json::json;
use std::{sync::Arc, time::Instant};
use uuid::Uuid;

const TAGS: u32 = 10_000;

fn plan(mixed: bool) -> Plan {
    let item = |kind, id: u128, no, set: serde_json::Value| {
        let own = set.as_object().cloned().unwrap_or_default();
        Stored { kind, id: Uuid::from_u128(id), no, revision: 1, own }
    };
    let place = Uuid::from_u128(1);
    let mut stored = vec![item(Kind::Place, 1, 0, json!({"name": "Bench"}))];
    for no in 1..=TAGS {
        let id = 1_000_000 + u128::from(no);
        stored.push(item(Kind::Tag, id, no, json!({"name": format!("T{no}"), "place": place})));
        let (deadband, delay) = if mixed { (2.0, f64::from(no % 3) * 5.0) } else { (0.0, 0.0) };
        // Values run from 0 to 100; one rule in a hundred is crossed.
        let level = if no % 100 == 0 { 60.0 } else { 200.0 };
        let set = json!({"tag": Uuid::from_u128(id), "kind": "high", "level": level, "deadband": deadband, "on_delay_s": delay});
        stored.push(item(Kind::Rule, 2_000_000 + u128::from(no), 0, set));
    }
    Plan::of(&Plant::from_stored(1, stored).0)
}

/// Prints how many rules are judged each second.
pub fn measure(figures: &mut Figures) {
    for (name, mixed, goal) in
        [("engine: plain limits", false, "10,000,000"), ("engine: limits with delays and deadbands", true, "2,000,000")]
    {
        let mut engine = Engine::new(Vec::new());
        let mut effects = Effects::default();
        engine.step(0, Input::Plan(Arc::new(plan(mixed))), &mut effects);
        let batches: Vec<Batch> = (0..20u32)
            .map(|turn| {
                let mut batch = Batch::default();
                for no in 1..=TAGS {
                    batch.push(no, 0, Quality::GOOD, 0, &Value::F64(f64::from((turn * 5 + no) % 100)));
                }
                batch
            })
            .collect();
        let mut batches: Vec<Batch> = batches;
        let mut now = 0;
        let mut turn = 0;
        let judged = rate(|| {
            now += 100 * MILLI;
            let which = turn % batches.len();
            let batch = &mut batches[which];
            batch.samples.iter_mut().for_each(|s| s.time = now);
            turn += 1;
            effects = Effects::default();
            engine.step(now, Input::Samples(batch), &mut effects);
            batch.samples.len()
        });
        figures.add(name, judged, "rules/s on one core", Some(goal));
    }
    backtest(figures);
    recorders(figures);
}

/// Tags of a recorder that keeps figures.
const RECORDED: u32 = 100_000;

/// Prints how fast values count in spans, against values that nothing is done with, and how long the end of a span takes.
fn recorders(figures: &mut Figures) {
    let item = |kind, id: u128, no, set: serde_json::Value| {
        let own = set.as_object().cloned().unwrap_or_default();
        Stored { kind, id: Uuid::from_u128(id), no, revision: 1, own }
    };
    let place = Uuid::from_u128(1);
    let mut items = vec![item(Kind::Place, 1, 0, json!({"name": "Bench"}))];
    items.extend(
        (1..=RECORDED)
            .map(|no| item(Kind::Tag, 1_000_000 + u128::from(no), no, json!({"name": format!("T{no}"), "place": place}))),
    );
    let mut rates = Vec::new();
    let mut batch = Batch::default();
    (1..=RECORDED).for_each(|no| batch.push(no, 0, Quality::GOOD, 0, &Value::F64(f64::from(no % 100))));
    let mut longest = 0.0;
    for keeps in [true, false] {
        let mut stored = items.clone();
        if keeps {
            let when = json!({"on": "interval", "every_ms": 60_000, "keep": ["average", "minimum", "maximum"]});
            stored.push(item(Kind::Recorder, 2, 0, json!({"name": "Figures", "choices": [{"place": place}], "when": when})));
        }
        let began = Instant::now();
        let plan = Plan::of(&Plant::from_stored(1, stored).0);
        if keeps {
            figures.add("plan of 100,000 tags with a recorder of all", began.elapsed().as_secs_f64() * 1e3, "ms", None);
        }
        let mut engine = Engine::new(Vec::new());
        engine.step(0, Input::Plan(Arc::new(plan)), &mut Effects::default());
        let mut now = 0;
        rates.push(rate(|| {
            now += SECOND;
            batch.samples.iter_mut().for_each(|s| s.time = now);
            engine.step(now, Input::Samples(&batch), &mut Effects::default());
            batch.samples.len()
        }));
        if keeps {
            let due = engine.next_due().unwrap_or(now);
            let began = Instant::now();
            let mut effects = Effects::default();
            engine.step(due, Input::Tick, &mut effects);
            assert_eq!(effects.tracked.len(), 3 * RECORDED as usize);
            longest = began.elapsed().as_secs_f64() * 1e3;
        }
    }
    figures.ratio("recorder: values of 100,000 tags into three figures", rates[0], rates[1], "values/s on one core", None);
    figures.add("  the end of a span of 100,000 tags", longest, "ms", Some("300"));
}

/// A week of one tag at a value a second.
const WEEK: i64 = 7 * 86_400;

/// Prints how many recorded values a backtest goes through each second, without reading them.
fn backtest(figures: &mut Figures) {
    let place = Uuid::from_u128(1);
    let tag = Uuid::from_u128(2);
    let item = |kind, id: Uuid, no, set: serde_json::Value| {
        let own = set.as_object().cloned().unwrap_or_default();
        Stored { kind, id, no, revision: 1, own }
    };
    let rule = Uuid::from_u128(3);
    let stored = vec![
        item(Kind::Place, place, 0, json!({"name": "Bench"})),
        item(Kind::Tag, tag, 1, json!({"name": "T", "place": place})),
        item(Kind::Rule, rule, 0, json!({"tag": tag, "kind": "high", "level": 60.0, "deadband": 2.0, "on_delay_s": 5.0})),
    ];
    let plant = Plant::from_stored(1, stored).0;
    let value = |second: i64| Some(Value::F64((second % 600) as f64 / 6.0));
    let told: Vec<Told> =
        (0..WEEK).map(|second| Told { at: second * SECOND, tag: 1, value: value(second), quality: Quality::GOOD }).collect();
    let Some(rule) = plant.rules.get(&rule) else { return };
    let gone = rate(|| {
        let events = Trial::run(&plant, &rule.set, &told, (0, WEEK * SECOND));
        assert_eq!(Judged::of(&events, WEEK * SECOND).alarms.len() as i64, WEEK / 600);
        told.len()
    });
    figures.add("backtest of a week at 1 s, without reading", gone, "values/s", Some("2,000,000"));
}
