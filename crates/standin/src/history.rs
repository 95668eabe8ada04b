//! A made-up past: the same process, read once a second and put through the engine with the plant's own recording and
//! alarm rules, as frames.

use crate::{
    dryline::{
        self,
        nodes::{NAMESPACE, Node, nodes},
    },
    effluent,
    faults::Which,
    points::{Bound, Form, Reading, Table},
    process::{Process, STEP_S, Upset},
    registers::{Works, sense},
    service,
    utilities::{
        self,
        points::{Point, ROOT, points, rounded},
    },
};
use havrel_core::{
    TagNo,
    alarm::AlarmAction,
    engine::{Effects, Engine, Input, Plan},
    frame::Frame,
    plant::{Kind, Own, Plant, Stored, Tag},
    quality::Quality,
    sample::{Batch, Value},
    scale::Scaling,
    time::{Nanos, SECOND},
};
use rand::SeedableRng;
use rand_pcg::Pcg64Mcg;
use serde::{Deserialize, Serialize};
use std::{collections::HashMap, sync::Arc};
use uuid::Uuid;

/// An item of the plant's configuration.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct ItemLine {
    pub kind: Kind,
    pub id: Uuid,
    #[serde(default)]
    pub no: TagNo,
    pub set: Own,
}

/// What past is wanted.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Wanted {
    /// Under which node's name the frames go.
    pub node: Uuid,
    /// Where the past ends, in ns.
    pub until: Nanos,
    pub items: Vec<ItemLine>,
}

/// One frame covers so much of the past.
const FRAME_S: u64 = 600;
/// How often somebody acknowledges what is standing, in seconds.
const ROUND_S: u64 = 420;
/// Most samples in a past.
pub const MOST_SAMPLES: usize = 5_000_000;

/// Lets a process run for so many hours; the same from the same seed.
pub fn aged(vessels: usize, seed: u64, hours: f64) -> Process {
    let mut process = Process::new(vessels, seed);
    let steps = steps(hours);
    (0..steps).for_each(|done| go_on(&mut process, done, steps));
    process
}

/// Lets one step pass, where `done` of `steps` are done. Every past has a dip of the voltage, with which many alarms come at once, a
/// jam of the mill, and a loose cable, with which an alarm chatters.
fn go_on(process: &mut Process, done: u64, steps: u64) {
    match done {
        _ if done == steps * 2 / 5 => drop(process.upset(Upset::VoltageDip, 90.0)),
        _ if done == steps * 3 / 4 => drop(process.upset(Upset::MillJam, 240.0)),
        _ if done == steps * 3 / 5 => drop(process.upset(Upset::LooseCable, 60.0)),
        _ => {}
    }
    process.step();
}

fn steps(hours: f64) -> u64 {
    (hours.clamp(0.0, 24.0 * 14.0) * 3600.0 / STEP_S) as u64
}

/// The past of so many hours as frames, the newest first.
///
/// # Errors
/// Items that make no plant, or more samples than [`MOST_SAMPLES`], in words.
pub fn past(vessels: usize, seed: u64, hours: f64, wanted: Wanted) -> Result<Vec<Frame>, String> {
    let stored = |i: ItemLine| Stored { kind: i.kind, id: i.id, no: i.no, revision: 1, own: i.set };
    let (plant, broken) = Plant::from_stored(1, wanted.items.into_iter().map(stored).collect());
    if let Some((id, words)) = broken.first() {
        return Err(format!("item {id}: {words}"));
    }
    let works = Works::new(vessels, seed);
    let feeds = Feeds::of(&plant, &works);
    let mut process = Process::new(vessels, seed);
    let mut noise = Pcg64Mcg::seed_from_u64(seed ^ 0x9a57);
    let mut engine = Engine::new(Vec::new());
    let mut effects = Effects::default();
    let per_second = (1.0 / STEP_S) as u64;
    let all = steps(hours);
    let seconds = all / per_second;
    let began = wanted.until - seconds as Nanos * SECOND;
    engine.step(began, Input::Plan(Arc::new(Plan::of(&plant))), &mut effects);
    let (mut frames, mut samples) = (Vec::new(), 0);
    for second in 1..=seconds {
        (0..per_second).for_each(|step| go_on(&mut process, (second - 1) * per_second + step, all));
        let now = began + second as Nanos * SECOND;
        let mut batch = Batch::default();
        feeds.read_all(&process, &mut noise, |tag, value| batch.push(tag, now, Quality::GOOD, 0, value));
        engine.step(now, Input::Samples(&batch), &mut effects);
        engine.step(now, Input::Tick, &mut effects);
        if second % ROUND_S == 0 {
            let rules: Vec<Uuid> = engine.standings().filter(|s| !s.state.is_normal()).map(|s| s.rule).collect();
            for action in [AlarmAction::Acknowledge, AlarmAction::Reset] {
                engine.step(now, Input::Alarms { rules: &rules, action, actor: "Operator", comment: "" }, &mut effects);
            }
        }
        effects.changed.clear();
        if second % FRAME_S == 0 || second == seconds {
            let Effects { recorded, events, tracked, rows, .. } = std::mem::take(&mut effects);
            samples += recorded.samples.len() + tracked.len();
            if samples > MOST_SAMPLES {
                return Err(format!("this would be more than {MOST_SAMPLES} samples"));
            }
            // Where alarms stand is the present's business, and the present does not lie in here.
            frames.push(Frame { batch: recorded, events, tracked, rows, ..Frame::empty(wanted.node, 1, 0, 0, now) });
        }
    }
    frames.reverse();
    for (frame, seq) in frames.iter_mut().zip(1..) {
        frame.seq = seq;
    }
    Ok(frames)
}

/// The plant's tags, each with what it is fed from.
pub struct Feeds<'a> {
    /// From registers; and whether a value is scaled.
    pub read: Vec<(TagNo, &'a Bound, Option<Scaling>)>,
    /// From nodes of the server.
    pub shown: Vec<(TagNo, Node)>,
    /// From what the utilities tell.
    pub told: Vec<(TagNo, Point)>,
    /// From what the service answers.
    pub answered: Vec<(TagNo, &'static service::points::Point)>,
    /// From the station at the outlet.
    pub measured: Vec<(TagNo, &'static effluent::points::Point)>,
}

impl<'a> Feeds<'a> {
    /// Finds them. What the simulated devices do not have is left out.
    pub fn of(plant: &Plant, works: &'a Works) -> Feeds<'a> {
        Feeds {
            read: readers(plant, works),
            shown: shown(plant),
            told: told(plant),
            answered: answered(plant),
            measured: measured(plant),
        }
    }

    /// Reads every tag as it is now.
    pub(crate) fn read_all(&self, process: &Process, noise: &mut Pcg64Mcg, mut take: impl FnMut(TagNo, &Value)) {
        for (tag, point, scaled) in &self.read {
            take(*tag, &value(point, &sense(point, process, noise), *scaled));
        }
        for (tag, node) in &self.shown {
            if let Some(value) = (node.read)(&process.dryline).value() {
                take(*tag, &value);
            }
        }
        for (tag, point) in &self.told {
            take(*tag, &rounded(point, (point.read)(&process.utilities)));
        }
        for (tag, point) in &self.answered {
            take(*tag, &Value::F64(service::points::rounded(point, &process.weather)));
        }
        for (tag, point) in &self.measured {
            take(*tag, &point.rounded(&process.effluent));
        }
    }

    /// Every tag that is fed.
    pub fn tags(&self) -> impl Iterator<Item = TagNo> {
        let read = self.read.iter().map(|feed| feed.0).chain(self.shown.iter().map(|feed| feed.0));
        let told = self.told.iter().map(|feed| feed.0).chain(self.answered.iter().map(|feed| feed.0));
        read.chain(told).chain(self.measured.iter().map(|feed| feed.0))
    }
}

/// The plant's tags with the points they are read from, and whether a value is scaled.
fn readers<'a>(plant: &Plant, works: &'a Works) -> Vec<(TagNo, &'a Bound, Option<Scaling>)> {
    let mut points: HashMap<(Which, String), &Bound> = HashMap::new();
    for controller in &works.controllers {
        points.extend(controller.points.iter().map(|p| ((controller.which, address(p, controller.base())), p)));
    }
    let mut read: Vec<_> = plant
        .tags
        .values()
        .filter_map(|tag| {
            let connection = plant.connections.get(&tag.set.connection?)?;
            let which = Which::ALL.into_iter().find(|w| w.name() == connection.set.name)?;
            let address = tag.set.point.get("address")?.as_str()?.to_owned();
            Some((tag.no, *points.get(&(which, address))?, tag.set.scaling))
        })
        .collect();
    read.sort_unstable_by_key(|(no, ..)| *no);
    read
}

/// The plant's tags with the nodes of the server that they are read from.
fn shown(plant: &Plant) -> Vec<(TagNo, Node)> {
    let mut nodes: HashMap<String, Node> =
        nodes().into_iter().map(|node| (format!("nsu={NAMESPACE};s={}", node.id()), node)).collect();
    let mut shown: Vec<_> = plant
        .tags
        .values()
        .filter_map(|tag| {
            plant.connections.get(&tag.set.connection?).filter(|c| c.set.name == dryline::NAME)?;
            Some((tag.no, nodes.remove(tag.set.point.get("address")?.as_str()?)?))
        })
        .collect();
    shown.sort_unstable_by_key(|(no, _)| *no);
    shown
}

/// The plant's tags with what the utilities tell them.
fn told(plant: &Plant) -> Vec<(TagNo, Point)> {
    let name = |point: &Point| (format!("{ROOT}/{}", point.topic), point.member.to_owned());
    let mut points: HashMap<(String, String), Point> = points().into_iter().map(|point| (name(&point), point)).collect();
    let mut told: Vec<_> = plant
        .tags
        .values()
        .filter_map(|tag| {
            plant.connections.get(&tag.set.connection?).filter(|c| c.set.name == utilities::NAME)?;
            let text = |field: &str| tag.set.point.get(field).and_then(|v| v.as_str()).unwrap_or_default();
            Some((tag.no, points.remove(&(text("topic").to_owned(), text("member").trim_start_matches('/').to_owned()))?))
        })
        .collect();
    told.sort_unstable_by_key(|(no, _)| *no);
    told
}

/// The plant's tags with what the service answers for them.
fn answered(plant: &Plant) -> Vec<(TagNo, &'static service::points::Point)> {
    let of = |tag: &Tag| {
        plant.connections.get(&tag.connection?).filter(|c| c.set.name == service::NAME)?;
        let text = |field: &str| tag.point.get(field).and_then(|v| v.as_str()).unwrap_or_default();
        service::points::POINTS.iter().find(|point| point.path == text("path") && point.member == text("member"))
    };
    let mut answered: Vec<_> = plant.tags.values().filter_map(|tag| Some((tag.no, of(&tag.set)?))).collect();
    answered.sort_unstable_by_key(|(no, _)| *no);
    answered
}

/// The plant's tags with what the station at the outlet measures.
fn measured(plant: &Plant) -> Vec<(TagNo, &'static effluent::points::Point)> {
    let of = |tag: &Tag| {
        plant.connections.get(&tag.connection?).filter(|c| c.set.name == effluent::NAME)?;
        effluent::points::POINTS.iter().find(|point| point.source().as_object() == Some(&tag.point))
    };
    let mut measured: Vec<_> = plant.tags.values().filter_map(|tag| Some((tag.no, of(&tag.set)?))).collect();
    measured.sort_unstable_by_key(|(no, _)| *no);
    measured
}

/// A point's address in the notation of its manual: `holding 12` where it counts from 0, `40013` where it counts from 1.
fn address(point: &Bound, base: u16) -> String {
    if base == 0 {
        return format!("{} {}", point.table.word(), point.address);
    }
    let digit = match point.table {
        Table::Holding => 4,
        Table::Coil => 0,
        Table::Discrete => 1,
    };
    format!("{digit}{:04}", point.address + base)
}

/// A reading as the driver would give it.
fn value(point: &Bound, reading: &Reading, scaling: Option<Scaling>) -> Value {
    match (reading, point.form) {
        (Reading::Text(text), _) => Value::Text(text.clone()),
        (Reading::Number(v), Form::Bit) => Value::Bool(*v != 0.0),
        (Reading::Number(v), Form::Float(_)) => Value::F32(*v as f32),
        (Reading::Number(v), form) => {
            let raw = if matches!(form, Form::Tenths | Form::SignedTenths) { (v * 10.0).round() } else { *v };
            scaling.map_or(Value::U64(raw as u64), |s| Value::F64(s.apply(raw).0))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn items() -> Vec<ItemLine> {
        let [place, connection, tag, rule] = [1u128, 2, 3, 4].map(Uuid::from_u128);
        let tenths = json!({"raw_low": 0.0, "raw_high": 1000.0, "low": 0.0, "high": 100.0});
        let lines = json!([
            {"kind": "place", "id": place, "set": {"name": "EX-1"}},
            {"kind": "connection", "id": connection, "set": {"name": "Extraction", "kind": "modbus"}},
            {"kind": "tag", "id": tag, "no": 7, "set": {"name": "Level", "place": place, "connection": connection, "scaling": tenths,
                "point": {"address": "holding 0", "type": "u16"}, "record": true, "record_deadband": 0.5}},
            {"kind": "rule", "id": rule, "set": {"tag": tag, "kind": "high", "level": 72.0, "deadband": 2.0}},
        ]);
        serde_json::from_value(lines).unwrap()
    }

    #[test]
    fn a_past_is_the_plants_own_record_newest_first_and_ends_where_the_process_stands() {
        let until = 1_800_000_000 * SECOND;
        let wanted = Wanted { node: Uuid::from_u128(9), until, items: items() };
        let frames = past(1, 7, 1.0, wanted).unwrap();
        assert_eq!(frames.iter().map(|f| f.seq).collect::<Vec<_>>(), [1, 2, 3, 4, 5, 6]);
        assert!(frames.windows(2).all(|w| w[0].arrived > w[1].arrived) && frames[0].arrived == until);
        let samples = frames.iter().flat_map(|f| &f.batch.samples);
        assert!(samples.clone().all(|s| s.tag == 7 && s.time <= until && s.time > until - 3600 * SECOND));
        // Recorded on change: fewer than one each second, but the level never stands still for long.
        let count = samples.count();
        assert!((600..2600).contains(&count), "{count}");
        let raised = frames.iter().flat_map(|f| &f.events).filter(|e| e.value.float() > 72.0).count();
        assert!(raised >= 5, "{raised}");
        let last = frames[0].batch.samples.last().unwrap();
        assert!((f64::from_bits(last.bits) - aged(1, 7, 1.0).vessels[0].level).abs() < 1.0);
    }

    #[test]
    fn items_that_make_no_plant_are_told() {
        let mut items = items();
        items[1].set.remove("kind");
        let told = past(1, 7, 0.1, Wanted { node: Uuid::nil(), until: SECOND, items }).unwrap_err();
        assert!(told.contains("“kind” is missing"), "{told}");
    }
}
