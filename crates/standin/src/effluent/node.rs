//! What the edge node says, and what it keeps while it cannot: without a socket, time comes in.

use super::{
    GROUP, NODE,
    points::{POINTS, Point},
};
use crate::process::Effluent;
use havrel_core::sample::Value;
use havrel_sparkplug::{
    payload::{BOOLEAN, DOUBLE, INT64, Metric, MetricValue, Payload, PropertyContent, PropertySet, TEMPLATE, TEXT, Template},
    topic::{Name, What},
};
use prost::Message as _;
use std::collections::VecDeque;

/// Most messages that are kept; the oldest go first.
const MOST_KEPT: usize = 20_000;
/// Kept messages that are sent with one beat.
const MOST_SENT: usize = 8;
/// How much of its range a value moves before it is told.
const DEADBAND: f64 = 0.0001;
/// The structure of a drive.
const DRIVE: &str = "Drive";

/// A message: its topic and its bytes.
pub type Sent = (String, Vec<u8>);

/// What a device measured at a moment.
#[derive(Clone, Debug)]
struct Told {
    device: &'static str,
    metrics: Vec<Metric>,
}

/// The edge node between two sessions and within one.
pub struct Node {
    name: Name,
    /// The number of the next message, and by which birth and death belong together.
    seq: u8,
    pub bd: u8,
    told: Vec<Option<Value>>,
    kept: VecDeque<Told>,
    /// How many it said last that it keeps.
    level: usize,
}

impl Node {
    /// One that counts its births from here.
    pub fn new(bd: u8) -> Node {
        let told = vec![None; POINTS.len()];
        Node { name: Name::new(GROUP, NODE, ""), seq: 0, bd, told, kept: VecDeque::new(), level: 0 }
    }

    /// How many messages it keeps.
    pub fn kept(&self) -> usize {
        self.kept.len()
    }

    /// The last will of a session: that the node is gone.
    pub fn death(&self) -> Sent {
        let payload = Payload { metrics: vec![self.bd_seq()], ..Payload::default() };
        (self.name.tells(What::Death), payload.encode_to_vec())
    }

    fn bd_seq(&self) -> Metric {
        metric("bdSeq", INT64, MetricValue::Long(self.bd.into()))
    }

    fn numbered(&mut self, name: &Name, what: What, at_ms: u64, metrics: Vec<Metric>) -> Sent {
        let payload = Payload { timestamp: Some(at_ms), metrics, seq: Some(self.seq.into()), ..Payload::default() };
        self.seq = self.seq.wrapping_add(1);
        (name.tells(what), payload.encode_to_vec())
    }

    fn device(&self, device: &str) -> Name {
        Name { device: device.to_owned(), ..self.name.clone() }
    }

    /// Announces the node and, unless they are to be left out, its devices, with what they measure now.
    pub fn births(&mut self, effluent: &Effluent, at_ms: u64, devices: bool) -> Vec<Sent> {
        self.seq = 0;
        self.level = self.kept.len();
        let member = |name: &str| metric(name, DOUBLE, MetricValue::Double(0.0));
        let drive = Template {
            metrics: vec![member("Speed"), member("Current")],
            version: Some("1".into()),
            is_definition: Some(true),
            ..Template::default()
        };
        let own = vec![
            self.bd_seq(),
            metric("Node Control/Rebirth", BOOLEAN, MetricValue::Boolean(false)),
            metric("Properties/Firmware", TEXT, MetricValue::Text("2.4.1".into())),
            Metric { properties: Some(properties("messages", None, "Waits until the host is there", true)), ..self.buffer() },
            metric(DRIVE, TEMPLATE, MetricValue::Template(drive)),
        ];
        let name = self.name.clone();
        let mut sent = vec![self.numbered(&name, What::Birth, at_ms, own)];
        for (index, point) in POINTS.iter().enumerate() {
            self.told[index] = Some(point.rounded(effluent));
        }
        for device in devices.then(names).unwrap_or_default() {
            let metrics = metrics(device, effluent, at_ms, &|_| true, true);
            sent.push(self.numbered(&self.device(device), What::Birth, at_ms, metrics));
        }
        sent
    }

    fn buffer(&self) -> Metric {
        Metric { alias: Some(1), ..metric("Buffer/Level", INT64, MetricValue::Long(self.kept.len() as u64)) }
    }

    /// What changed since it was told last, by device.
    fn changed(&mut self, effluent: &Effluent, at_ms: u64) -> Vec<Told> {
        let mut moved = vec![false; POINTS.len()];
        for (index, point) in POINTS.iter().enumerate() {
            let value = point.rounded(effluent);
            if self.told[index].as_ref().is_none_or(|before| far(point, before, &value)) {
                (self.told[index], moved[index]) = (Some(value), true);
            }
        }
        let told = |device| Told { device, metrics: metrics(device, effluent, at_ms, &|index| moved[index], false) };
        names().into_iter().map(told).filter(|told| !told.metrics.is_empty()).collect()
    }

    /// Keeps what changed, for later.
    pub fn keep(&mut self, effluent: &Effluent, at_ms: u64) {
        for told in self.changed(effluent, at_ms) {
            if self.kept.len() >= MOST_KEPT {
                self.kept.pop_front();
            }
            self.kept.push_back(told);
        }
    }

    /// Says what changed, and of what it kept the next part.
    pub fn data(&mut self, effluent: &Effluent, at_ms: u64) -> Vec<Sent> {
        let mut sent = Vec::new();
        for _ in 0..MOST_SENT.min(self.kept.len()) {
            let Some(told) = self.kept.pop_front() else { break };
            let historical = |metric: Metric| Metric { is_historical: Some(true), ..metric };
            let metrics = told.metrics.into_iter().map(historical).collect();
            sent.push(self.numbered(&self.device(told.device), What::Data, at_ms, metrics));
        }
        for told in self.changed(effluent, at_ms) {
            sent.push(self.numbered(&self.device(told.device), What::Data, at_ms, told.metrics));
        }
        if self.level != self.kept.len() {
            self.level = self.kept.len();
            let level = Metric { name: None, timestamp: Some(at_ms), ..self.buffer() };
            let name = self.name.clone();
            sent.push(self.numbered(&name, What::Data, at_ms, vec![level]));
        }
        sent
    }
}

/// The devices behind the node.
fn names() -> Vec<&'static str> {
    let mut names: Vec<&str> = Vec::new();
    for point in POINTS.iter().filter(|point| !point.device.is_empty()) {
        if !names.contains(&point.device) {
            names.push(point.device);
        }
    }
    names
}

/// The metrics of a device of which some value is wanted; `whole`: with name, alias and properties, as a birth tells them.
fn metrics(device: &str, effluent: &Effluent, at_ms: u64, wanted: &dyn Fn(usize) -> bool, whole: bool) -> Vec<Metric> {
    let mut all: Vec<Metric> = Vec::new();
    for (index, point) in POINTS.iter().enumerate().filter(|(index, point)| point.device == device && wanted(*index)) {
        let (datatype, value) = carried(point.rounded(effluent));
        let alias =
            Some(10 + POINTS.iter().position(|one| one.device == device && one.metric == point.metric).unwrap_or(index) as u64);
        let told = |datatype, value| Metric {
            name: whole.then(|| point.metric.to_owned()),
            alias,
            timestamp: Some(at_ms),
            datatype: whole.then_some(datatype),
            value: Some(value),
            ..Metric::default()
        };
        if point.member.is_empty() {
            let properties = whole.then(|| properties(point.unit, point.range, point.note, !point.writable));
            all.push(Metric { properties, ..told(datatype, value) });
            continue;
        }
        let properties = whole.then(|| properties(point.unit, point.range, point.note, !point.writable));
        let member = Metric { properties, ..metric(point.member, datatype, value) };
        match all.iter_mut().find(|metric| metric.alias == alias).and_then(|metric| metric.value.as_mut()) {
            Some(MetricValue::Template(template)) => template.metrics.push(member),
            _ => {
                let template = Template {
                    metrics: vec![member],
                    version: Some("1".into()),
                    reference: Some(DRIVE.into()),
                    is_definition: Some(false),
                };
                all.push(told(TEMPLATE, MetricValue::Template(template)));
            }
        }
    }
    all
}

fn carried(value: Value) -> (u32, MetricValue) {
    match value {
        Value::Bool(on) => (BOOLEAN, MetricValue::Boolean(on)),
        other => (DOUBLE, MetricValue::Double(other.number().unwrap_or_default())),
    }
}

fn metric(name: &str, datatype: u32, value: MetricValue) -> Metric {
    Metric { name: Some(name.to_owned()), datatype: Some(datatype), value: Some(value), ..Metric::default() }
}

fn properties(unit: &str, range: Option<(f64, f64)>, note: &str, read_only: bool) -> PropertySet {
    let mut all = vec![("readOnly", BOOLEAN, PropertyContent::Boolean(read_only))];
    let mut text = |key, text: &str| {
        if !text.is_empty() {
            all.push((key, TEXT, PropertyContent::Text(text.to_owned())));
        }
    };
    text("unit", unit);
    text("description", note);
    if let Some((low, high)) = range {
        all.extend([("low", DOUBLE, PropertyContent::Double(low)), ("high", DOUBLE, PropertyContent::Double(high))]);
    }
    PropertySet::of(&all)
}

fn far(point: &Point, before: &Value, now: &Value) -> bool {
    match (before.number(), now.number(), point.range) {
        (Some(before), Some(now), Some((low, high))) => (before - now).abs() > DEADBAND * (high - low),
        _ => before != now,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::process::Process;

    fn read(sent: &[Sent]) -> Vec<(String, u64, usize)> {
        let one = |(topic, bytes): &Sent| {
            let payload = Payload::read(bytes).unwrap();
            (topic.rsplit_once("spBv1.0/Brackmere/").unwrap().1.to_owned(), payload.seq.unwrap(), payload.metrics.len())
        };
        sent.iter().map(one).collect()
    }

    #[test]
    fn it_announces_itself_and_says_later_what_it_kept() {
        let mut process = Process::new(1, 7);
        let mut node = Node::new(3);
        let step = |process: &mut Process| (0..600).for_each(|_| process.step());
        step(&mut process);
        node.keep(&process.effluent, 1000);
        step(&mut process);
        node.keep(&process.effluent, 2000);
        assert_eq!(
            node.kept(),
            5,
            "three devices, and after a minute the two that measured something else; the pump stands still"
        );
        let births = read(&node.births(&process.effluent, 3000, true));
        let expected = [
            ("NBIRTH/Effluent station", 0, 5),
            ("DBIRTH/Effluent station/Basin", 1, 2),
            ("DBIRTH/Effluent station/Outlet", 2, 4),
        ];
        assert_eq!(births[..3], expected.map(|(topic, seq, count)| (topic.to_owned(), seq, count)));
        step(&mut process);
        let sent = node.data(&process.effluent, 4000);
        let first = Payload::read(&sent[0].1).unwrap();
        let kept = &first.metrics[0];
        assert_eq!((kept.is_historical, kept.timestamp, kept.name.as_ref(), first.seq), (Some(true), Some(1000), None, Some(4)));
        let level = Payload::read(&sent.last().unwrap().1).unwrap();
        assert_eq!((level.metrics[0].alias, node.kept()), (Some(1), 0));
        assert_eq!(node.births(&process.effluent, 5000, false).len(), 1);
    }
}
