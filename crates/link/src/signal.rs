//! Simulated signals: tags that follow a curve, a walk or a table, in the rhythm of their connection.

use crate::{Command, Driver, LinkError, LinkPlan, LinkState, Page, Ports, RawValue, TestStep, now};
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
use std::{
    collections::{HashMap, hash_map::Entry},
    time::Duration,
};
use tokio::{
    sync::mpsc,
    time::{Instant, sleep_until},
};

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

#[async_trait]
impl Driver for Signals {
    fn kind(&self) -> &'static str {
        KIND
    }

    fn check(&self, _connection: &Connection) -> Vec<(String, String)> {
        Vec::new()
    }

    fn check_point(&self, _connection: &Connection, tag: &Tag) -> Vec<(String, String)> {
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

    async fn test(&self, _connection: &Connection, steps: mpsc::Sender<TestStep>) {
        crate::plain::pass(steps, "make a value", "signals need no device").await;
    }

    async fn browse(&self, _connection: &Connection, _request: &Own) -> Result<Page, LinkError> {
        Err(LinkError::BadRequest("Signals are made, not found.".into()))
    }

    async fn run(&self, ports: Ports) {
        run(ports).await;
    }
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
            command = ports.commands.recv() => refuse(command.ok_or(())?),
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

fn refuse(command: Command) {
    let words = || LinkError::BadRequest("A signal cannot be written.".into());
    // Whoever asked may have gone away meanwhile.
    match command {
        Command::Write { reply, .. } => drop(reply.send(Err(words()))),
        Command::Browse { reply, .. } => drop(reply.send(Err(words()))),
        Command::Raw { tags, reply } => drop(reply.send(Ok(tags.into_iter().map(RawValue::none).collect()))),
        Command::TakePath { reply, .. } => drop(reply.send(Err(words()))),
    }
}
