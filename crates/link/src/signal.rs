//! Simulated signals: tags that follow a curve, a walk or a table, in the rhythm of their connection.

use crate::{
    Kind, LinkError, LinkPlan, LinkState, Ports, Runner, Wrong,
    form::{Choice, Control, Field, Section},
    kind::{Capabilities, Description, Start},
    now,
};
use async_trait::async_trait;
use havrel_core::{
    TagNo,
    plant::{Connection, Own, Tag, resolve},
    poll::Rhythm,
    quality::{Quality, Reason},
    sample::{Batch, Value},
    signal::{Running, Signal},
    time::MILLI,
};
use serde_json::json;
use std::{
    collections::{HashMap, hash_map::Entry},
    sync::Arc,
    time::Duration,
};
use tokio::time::{Instant, sleep_until};

/// The connection kind.
pub const KIND: &str = "signals";

/// The driver.
pub struct Signals;

fn read(point: &Own) -> Result<Signal, (String, String)> {
    if !point.contains_key("signal") {
        return Err(("signal".into(), "Choose what the signal does.".into()));
    }
    resolve(None, point)
}

impl Kind for Signals {
    fn name(&self) -> &'static str {
        KIND
    }

    fn describe(&self) -> Description {
        let fields =
            vec![Field::number("interval_ms", "Interval, ms").usual(1000), Field::tick("enabled", "In use", true).width(6)];
        Description {
            kind: KIND,
            title: "Signals",
            about: "Made-up values, such as a sine or a played table, to try things out without a device.",
            first: "Signals",
            sections: vec![Section { title: "", folded: false, fields }],
            point: point(),
            starts: starts(),
            can: Capabilities { health: true, ..Capabilities::default() },
        }
    }

    fn check(&self, _connection: &Connection) -> Vec<Wrong> {
        Vec::new()
    }

    fn check_point(&self, _connection: &Connection, tag: &Tag) -> Vec<Wrong> {
        if tag.writable {
            return vec![("writable".into(), "A signal cannot be written.".into())];
        }
        let wrong = read(&tag.point).and_then(|s| s.start(1).map(drop).map_err(|(field, words)| (field.to_owned(), words)));
        wrong.err().map(|(field, words)| (format!("point.{field}"), words)).into_iter().collect()
    }

    fn show_point(&self, _connection: &Connection, point: &Own) -> Option<String> {
        Some(match read(point).ok()? {
            Signal::Sine { low, high, period_s } => format!("sine {low} to {high} in {period_s} s"),
            Signal::Ramp { low, high, period_s } => format!("ramp {low} to {high} in {period_s} s"),
            Signal::Steps { values, each_s } => format!("{} steps of {each_s} s", values.len()),
            Signal::Walk { low, high, step } => format!("walk {low} to {high}, {step} a second"),
            Signal::Replay { csv } => format!("replay of {} rows", csv.lines().count()),
        })
    }

    fn runner(&self) -> Arc<dyn Runner> {
        Arc::new(Signals)
    }
}

#[async_trait]
impl Runner for Signals {
    async fn run(&self, ports: Ports) {
        run(ports).await;
    }
}

fn point() -> Vec<Field> {
    const CURVE: &[&str] = &["sine", "ramp"];
    const RANGED: &[&str] = &["sine", "ramp", "walk"];
    let signals = vec![
        Choice::new("", "choose…"),
        Choice::new("sine", "a sine"),
        Choice::new("ramp", "a ramp"),
        Choice::new("steps", "steps"),
        Choice::new("walk", "a random walk"),
        Choice::new("replay", "a played table"),
    ];
    vec![
        Field::choice("signal", "Signal", signals).width(6),
        Field::number("low", "From").usual(0).only("signal", RANGED).width(2),
        Field::number("high", "to").usual(100).only("signal", RANGED).width(2),
        Field::number("period_s", "in seconds").usual(60).only("signal", CURVE).width(2),
        Field::number("step", "Most a second").usual(1).only("signal", &["walk"]).width(2),
        Field::number("each_s", "Seconds each").usual(15).only("signal", &["steps"]).width(2),
        Field::new("values", "Values", Control::Numbers).usual(json!([0, 50, 100])).only("signal", &["steps"]).width(6),
        Field::new("csv", "Table: time in seconds, value", Control::Rows)
            .usual("0;20\n10;35\n20;20")
            .only("signal", &["replay"])
            .width(6),
    ]
}

fn starts() -> Vec<Start> {
    Start::several(&[
        ("a sine", json!({"signal": "sine", "low": 0, "high": 100, "period_s": 60})),
        ("a ramp", json!({"signal": "ramp", "low": 0, "high": 100, "period_s": 60})),
        ("steps", json!({"signal": "steps", "values": [0, 25, 50, 100], "each_s": 15})),
        ("a random walk", json!({"signal": "walk", "low": 0, "high": 100, "step": 1})),
        ("a played table", json!({"signal": "replay", "csv": "0;20\n10;35\n20;30\n30;20"})),
    ])
}

async fn run(mut ports: Ports) {
    let mut signals: HashMap<TagNo, (Own, Running)> = HashMap::new();
    loop {
        let plan = ports.plan.borrow_and_update().clone();
        let mut marks = Batch::default();
        let enabled = plan.connection.enabled;
        signals.retain(|tag, (point, _)| plan.points.iter().any(|p| p.tag == *tag && p.point == *point));
        for p in &plan.points {
            if !enabled {
                marks.push_quality(p.tag, now(), Quality::of(Reason::SwitchedOff));
            } else if let Entry::Vacant(free) = signals.entry(p.tag) {
                match read(&p.point).ok().and_then(|s| s.start(u64::from(p.tag) * 0x9e37_79b9).ok()) {
                    Some(running) => drop(free.insert((p.point.clone(), running))),
                    None => marks.push_quality(p.tag, now(), Quality::of(Reason::NoSource)),
                }
            }
        }
        ports.health.send_modify(|h| match enabled {
            true => h.enter(LinkState::Running, None),
            false => h.enter(LinkState::Off, Some(&LinkError::SwitchedOff)),
        });
        if !marks.is_empty() && ports.batches.send(marks).await.is_err() {
            return;
        }
        if beat(&mut ports, &plan, &mut signals).await.is_err() {
            return;
        }
    }
}

/// Makes values until the plan changes. `Err`: the connection ends.
async fn beat(ports: &mut Ports, plan: &LinkPlan, signals: &mut HashMap<TagNo, (Own, Running)>) -> Result<(), ()> {
    let began = Instant::now();
    let interval = i64::from(plan.connection.interval_of(None).max(100)) * MILLI;
    let mut rhythm = Rhythm::new(0, interval);
    let far = Duration::from_secs(86_400 * 365);
    loop {
        let due = if plan.connection.enabled { Duration::from_nanos(rhythm.due().unsigned_abs()) } else { far };
        tokio::select! {
            biased;
            changed = ports.plan.changed() => return changed.map_err(drop),
            command = ports.commands.recv() => command.ok_or(())?.refuse_without_device("A signal has no device."),
            () = sleep_until(began + due) => {
                let mut batch = Batch::default();
                let at = now();
                for p in &plan.points {
                    if let Some((_, running)) = signals.get_mut(&p.tag) {
                        let raw = running.value(at);
                        let (value, clamped) = p.scaling.map_or((raw, false), |s| s.apply(raw));
                        let quality = if clamped { Quality::of(Reason::Clamped) } else { Quality::GOOD };
                        batch.push(p.tag, at, quality, 0, &Value::F64(value));
                    }
                }
                rhythm.done(i64::try_from(began.elapsed().as_nanos()).unwrap_or(i64::MAX));
                let count = batch.samples.len() as u64;
                ports.health.send_modify(|h| {
                    h.values += count;
                    h.rate = count as f64 * 1e9 / interval as f64;
                    h.answered = at;
                });
                if !batch.is_empty() {
                    ports.batches.send(batch).await.map_err(drop)?;
                }
            }
        }
    }
}
