//! Formulas in the engine, on one core: ten thousand over twenty thousand tags that all come each second.

use crate::{Figures, rate};
use havrel_core::{
    engine::{Effects, Engine, Input, Plan},
    plant::{Kind, Plant, Stored},
    quality::Quality,
    sample::{Batch, Value},
    time::SECOND,
};
use serde_json::json;
use std::sync::Arc;
use uuid::Uuid;

const TAGS: u32 = 20_000;
const FORMULAS: u32 = 10_000;

/// What the formulas are: none, plain ones, or plain ones of which every fourth looks back ten minutes.
#[derive(Clone, Copy, PartialEq)]
enum Which {
    None,
    Plain,
    Windows,
}

fn plan(which: Which) -> Plan {
    let item = |kind, id: u128, no, set: serde_json::Value| {
        let own = set.as_object().cloned().unwrap_or_default();
        Stored { kind, id: Uuid::from_u128(id), no, revision: 1, own }
    };
    let place = Uuid::from_u128(1);
    let id = |no: u32| 1_000_000 + u128::from(no);
    let mut stored = vec![item(Kind::Place, 1, 0, json!({"name": "Bench"}))];
    for no in 1..=TAGS {
        stored.push(item(Kind::Tag, id(no), no, json!({"name": format!("T{no}"), "place": place})));
    }
    for n in 0..if which == Which::None { 0 } else { FORMULAS } {
        let (a, b) = (Uuid::from_u128(id(2 * n + 1)), Uuid::from_u128(id(2 * n + 2)));
        let text = if which == Which::Windows && n % 4 == 0 {
            format!(r#"average(at("{a}"), "10min") - at("{b}")"#)
        } else {
            format!(r#"at("{a}") > 50 ? at("{a}") * 1.8 + 32 : max(at("{a}"), at("{b}"))"#)
        };
        let no = TAGS + n + 1;
        stored.push(item(Kind::Tag, id(no), no, json!({"name": format!("F{n}"), "place": place, "formula": {"text": text}})));
    }
    Plan::of(&Plant::from_stored(1, stored).0)
}

/// How often a second of the whole plant passes each second.
fn seconds(which: Which) -> f64 {
    let mut engine = Engine::new(Vec::new());
    let mut effects = Effects::default();
    engine.step(SECOND, Input::Plan(Arc::new(plan(which))), &mut effects);
    let mut batch = Batch::default();
    for no in 1..=TAGS {
        batch.push(no, 0, Quality::GOOD, 0, &Value::F64(f64::from(no % 100)));
    }
    let mut now = SECOND;
    rate(|| {
        now += SECOND;
        batch.samples.iter_mut().for_each(|s| s.time = now);
        effects = Effects::default();
        engine.step(now, Input::Samples(&batch), &mut effects);
        1
    })
}

/// Prints how many formulas are computed each second, and what share of a core ten thousand take.
pub fn measure(figures: &mut Figures) {
    let none = 1.0 / seconds(Which::None);
    for (name, which, goal) in
        [("formulas: plain", Which::Plain, Some("500,000")), ("formulas: a quarter of them over 10 min", Which::Windows, None)]
    {
        let all = 1.0 / seconds(which);
        let alone = (all - none).max(f64::EPSILON);
        figures.add(name, f64::from(FORMULAS) / alone, "formulas/s on one core", goal);
        figures.add(&format!("{name}, 10,000 over 20,000 tags at 1 s"), all * 100.0, "% of a core", Some("under 20"));
    }
}
