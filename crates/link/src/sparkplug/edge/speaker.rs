//! What an edge node says (Eclipse Sparkplug 3.0, 6.4): births with all metrics, data with what changed, a death. Without a socket.

use havrel_core::{
    publish::Message,
    time::{MILLI, Nanos},
};
use havrel_sparkplug::{
    payload::{BOOLEAN, DOUBLE, INT32, INT64, Metric, MetricValue, Payload, PropertyContent, PropertySet, TEXT, UINT64},
    topic::{Name, What},
};
use prost::Message as _;
use serde::Deserialize;
use serde_json::Value as Json;
use std::collections::{BTreeMap, BTreeSet};

/// Metrics in one message of data.
const MOST_TOGETHER: usize = 500;
/// What the property “Quality” says of values that are bad, and of those that are uncertain (6.4.8).
const BAD: u32 = 0;
const STALE: u32 = 500;

/// What a message of the queue tells of a metric, as [`havrel_core::publish::METRIC`] writes it.
#[derive(Debug, Deserialize)]
struct Told {
    v: Json,
    t: Option<i64>,
    q: String,
    u: String,
}

/// A value of a metric.
#[derive(Clone, Debug, PartialEq)]
pub struct Sample {
    /// Empty for the edge node itself.
    pub device: String,
    pub metric: String,
    /// None while there is no good one.
    value: Option<(u32, MetricValue)>,
    at_ms: u64,
    quality: Option<u32>,
    unit: String,
}

impl Sample {
    /// Reads a message of the queue: its topic names device and metric, the first level being the device where there are several.
    pub fn of(message: &Message) -> Option<Sample> {
        let told: Told = serde_json::from_slice(&message.payload).ok()?;
        let (device, metric) = message.topic.split_once('/').unwrap_or(("", &message.topic));
        let value = match told.v {
            Json::Bool(on) => Some((BOOLEAN, MetricValue::Boolean(on))),
            Json::Number(number) => Some(match (number.as_i64(), number.as_u64()) {
                (Some(whole), _) => (INT64, MetricValue::Long(whole as u64)),
                (None, Some(whole)) => (UINT64, MetricValue::Long(whole)),
                _ => (DOUBLE, MetricValue::Double(number.as_f64()?)),
            }),
            Json::String(text) => Some((TEXT, MetricValue::Text(text))),
            _ => None,
        };
        let quality = match told.q.as_str() {
            "good" => None,
            "bad" => Some(BAD),
            _ => Some(STALE),
        };
        let at = told.t.unwrap_or(message.made / MILLI);
        Some(Sample {
            device: device.to_owned(),
            metric: metric.to_owned(),
            value,
            at_ms: u64::try_from(at).unwrap_or_default(),
            quality,
            unit: told.u,
        })
    }
}

/// A metric, with what it told last.
#[derive(Debug)]
struct Known {
    alias: u64,
    /// None until it had a value.
    datatype: Option<u32>,
    last: Sample,
}

/// A message that is to be published: topic and bytes.
pub type Sent = (String, Vec<u8>);

/// What the edge node is, over its sessions.
pub struct Speaker {
    name: Name,
    seq: u8,
    bd: u8,
    metrics: BTreeMap<(String, String), Known>,
    aliases: u64,
    /// Devices whose birth says what they are now; the edge node itself has the empty name.
    born: BTreeSet<String>,
}

impl Speaker {
    /// One whose first session has this number; a number that was not used lately keeps an old will from being taken for its own.
    pub fn new(name: Name, bd: u8) -> Speaker {
        Speaker { name, seq: 0, bd, metrics: BTreeMap::new(), aliases: 0, born: BTreeSet::new() }
    }

    /// A new session begins: nothing is announced in it.
    pub fn begin(&mut self) {
        self.bd = self.bd.wrapping_add(1);
        self.born.clear();
    }

    /// Its last will, and what it says when it leaves.
    pub fn death(&self) -> Sent {
        let payload = Payload { metrics: vec![self.bd_seq()], ..Payload::default() };
        (self.name.tells(What::Death), payload.encode_to_vec())
    }

    fn bd_seq(&self) -> Metric {
        let value = Some(MetricValue::Long(self.bd.into()));
        Metric { name: Some("bdSeq".into()), datatype: Some(INT64), value, ..Metric::default() }
    }

    /// Keeps only the metrics of these topics, sorted.
    pub fn retain(&mut self, topics: &[String]) {
        let born = &mut self.born;
        self.metrics.retain(|(device, metric), _| {
            let topic = if device.is_empty() { metric.clone() } else { format!("{device}/{metric}") };
            let stays = topics.binary_search(&topic).is_ok();
            if !stays {
                // It announces itself anew, without it.
                born.remove(device);
            }
            stays
        });
    }

    /// Takes note of the newest of a metric; one that is new, or has another type, makes a new birth necessary.
    pub fn learn(&mut self, sample: &Sample) {
        let key = (sample.device.clone(), sample.metric.clone());
        let datatype = sample.value.as_ref().map(|(datatype, _)| *datatype);
        match self.metrics.get_mut(&key) {
            Some(known) => {
                let before = known.datatype;
                // A whole number is a number too, and a name of a state may stand where a number was.
                known.datatype = datatype.or(before);
                if known.datatype != before {
                    self.born.remove(&sample.device);
                }
                known.last = sample.clone();
            }
            None => {
                self.aliases += 1;
                self.born.remove(&sample.device);
                self.metrics.insert(key, Known { alias: self.aliases, datatype, last: sample.clone() });
            }
        }
    }

    fn devices(&self) -> BTreeSet<String> {
        self.metrics.keys().map(|(device, _)| device.clone()).collect()
    }

    /// The births that are due, at a time; `all`: somebody asked for all of them.
    pub fn births(&mut self, all: bool, at: Nanos) -> Vec<Sent> {
        let (at_ms, devices) = (ms(at), self.devices());
        let mut sent = Vec::new();
        let whole = all || !self.born.contains("");
        if whole {
            self.seq = 0;
            let rebirth = Metric {
                name: Some("Node Control/Rebirth".into()),
                datatype: Some(BOOLEAN),
                value: Some(MetricValue::Boolean(false)),
                ..Metric::default()
            };
            let metrics = [self.bd_seq(), rebirth].into_iter().chain(self.announced("")).collect();
            sent.push(self.numbered("", What::Birth, at_ms, metrics));
            self.born.clear();
            self.born.insert(String::new());
        }
        for device in devices.iter().filter(|device| !device.is_empty()) {
            if self.born.insert(device.clone()) {
                let metrics = self.announced(device).collect();
                sent.push(self.numbered(device, What::Birth, at_ms, metrics));
            }
        }
        sent
    }

    /// The metrics of a device with name, alias, type and unit.
    fn announced(&self, device: &str) -> impl Iterator<Item = Metric> + use<> {
        let of = |((_, name), known): (&(String, String), &Known)| {
            let mut properties = known.last.quality.map(quality).into_iter().collect::<Vec<_>>();
            if !known.last.unit.is_empty() {
                properties.push(("unit", TEXT, PropertyContent::Text(known.last.unit.clone())));
            }
            let metric = carried(known, &known.last);
            Metric {
                name: Some(name.clone()),
                datatype: Some(known.datatype.unwrap_or(DOUBLE)),
                properties: set(properties),
                ..metric
            }
        };
        let own = self.metrics.range((device.to_owned(), String::new())..).take_while(|((of, _), _)| of == device);
        own.map(of).collect::<Vec<_>>().into_iter()
    }

    /// Data with these values, those of one device together, in their order; `historical`: they are of the past.
    pub fn data(&mut self, samples: &[Sample], historical: bool, at: Nanos) -> Vec<Sent> {
        let mut by_device: BTreeMap<&str, Vec<Metric>> = BTreeMap::new();
        for sample in samples {
            let Some(known) = self.metrics.get(&(sample.device.clone(), sample.metric.clone())) else { continue };
            let properties = set(sample.quality.map(quality).into_iter().collect());
            let metric = Metric { is_historical: historical.then_some(true), properties, ..carried(known, sample) };
            by_device.entry(&sample.device).or_default().push(metric);
        }
        let mut sent = Vec::new();
        for (device, metrics) in by_device {
            for some in metrics.chunks(MOST_TOGETHER) {
                sent.push(self.numbered(device, What::Data, ms(at), some.to_vec()));
            }
        }
        sent
    }

    /// The newest of every metric as a value of now, after values of the past.
    pub fn newest(&mut self, at: Nanos) -> Vec<Sent> {
        let newest: Vec<Sample> = self.metrics.values().map(|known| known.last.clone()).collect();
        self.data(&newest, false, at)
    }

    fn numbered(&mut self, device: &str, what: What, at_ms: u64, metrics: Vec<Metric>) -> Sent {
        let payload = Payload { timestamp: Some(at_ms), metrics, seq: Some(self.seq.into()), ..Payload::default() };
        self.seq = self.seq.wrapping_add(1);
        let name = Name { device: device.to_owned(), ..self.name.clone() };
        (name.tells(what), payload.encode_to_vec())
    }
}

/// A value as its metric tells it after the birth. One of another type than was announced is told in that type, as far as it goes.
fn carried(known: &Known, sample: &Sample) -> Metric {
    let alias = Some(known.alias);
    let timestamp = Some(sample.at_ms);
    let value = sample.value.as_ref().filter(|(datatype, _)| Some(*datatype) == known.datatype).map(|(_, value)| value.clone());
    let is_null = value.is_none().then_some(true);
    Metric { alias, timestamp, value, is_null, ..Metric::default() }
}

fn quality(code: u32) -> (&'static str, u32, PropertyContent) {
    ("Quality", INT32, PropertyContent::Int(code))
}

fn set(properties: Vec<(&'static str, u32, PropertyContent)>) -> Option<PropertySet> {
    (!properties.is_empty()).then(|| PropertySet::of(&properties))
}

fn ms(at: Nanos) -> u64 {
    u64::try_from(at / MILLI).unwrap_or_default()
}

/// Whether a command asks for a birth.
pub fn asks_for_birth(payload: &Payload) -> bool {
    payload.metrics.iter().any(|metric| {
        metric.name.as_deref() == Some("Node Control/Rebirth") && matches!(metric.value, Some(MetricValue::Boolean(true)))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use havrel_core::time::SECOND;
    use rstest::rstest;
    use serde_json::json;

    const AT: Nanos = 1_795_924_307 * SECOND;

    fn sample(topic: &str, value: Json, quality: &str) -> Sample {
        let payload = json!({"v": value, "t": AT / MILLI, "q": quality, "u": "m"}).to_string().into_bytes();
        let message = Message { publication: Default::default(), made: AT, topic: topic.into(), payload, qos: 0, retain: false };
        Sample::of(&message).unwrap()
    }

    /// Topic, number, and what the metrics tell, of what is sent.
    fn read(sent: &[Sent]) -> Vec<(String, u64, Vec<String>)> {
        let metric = |metric: &Metric| {
            let past = if metric.is_historical == Some(true) { " then" } else { "" };
            let value = metric.read(None).map_or_else(|_| "null".to_owned(), |value| value.text());
            format!("{}={value}{past}", metric.label())
        };
        let one = |(topic, bytes): &Sent| {
            let payload = Payload::read(bytes).unwrap();
            (topic.replace("spBv1.0/Works/", ""), payload.seq.unwrap(), payload.metrics.iter().map(metric).collect())
        };
        sent.iter().map(one).collect()
    }

    fn told(topic: &str, seq: u64, metrics: &[&str]) -> (String, u64, Vec<String>) {
        (topic.to_owned(), seq, metrics.iter().map(|&metric| metric.to_owned()).collect())
    }

    fn speaker() -> Speaker {
        let mut speaker = Speaker::new(Name::new("Works", "H", ""), 4);
        speaker.begin();
        speaker
    }

    #[test]
    fn births_announce_what_is_known_and_data_follows_by_alias() {
        let mut speaker = speaker();
        let level = sample("Tank/Level", json!(1.5), "good");
        [level.clone(), sample("Tank/Count", json!(7), "bad"), sample("Load", json!(null), "uncertain")]
            .iter()
            .for_each(|s| speaker.learn(s));
        let births = speaker.births(true, AT);
        let node = told("NBIRTH/H", 0, &["bdSeq=5", "Node Control/Rebirth=false", "Load=null"]);
        assert_eq!(read(&births), [node, told("DBIRTH/H/Tank", 1, &["Count=7", "Level=1.5"])]);
        let tank = Payload::read(&births[1].1).unwrap();
        assert_eq!((tank.metrics[0].datatype, tank.metrics[1].datatype), (Some(INT64), Some(DOUBLE)));
        let keys = |at: usize| tank.metrics[at].properties.clone().unwrap().keys;
        assert_eq!((keys(0), keys(1)), (vec!["Quality".to_owned(), "unit".to_owned()], vec!["unit".to_owned()]));
        assert_eq!(speaker.births(false, AT), []);
        let past = speaker.data(&[level.clone(), level], true, AT);
        assert_eq!(read(&past), [told("DDATA/H/Tank", 2, &["alias 1=1.5 then", "alias 1=1.5 then"])]);
        assert_eq!(read(&speaker.newest(AT)).len(), 2);
        assert_eq!(speaker.death().0, "spBv1.0/Works/NDEATH/H");
    }

    #[rstest]
    #[case(sample("Tank/Fill", json!(true), "good"), &["DBIRTH/H/Tank"])]
    #[case(sample("Tank/Level", json!("LV"), "good"), &["DBIRTH/H/Tank"])]
    #[case(sample("Tank/Level", json!(null), "bad"), &[])]
    #[case(sample("Fan/Speed", json!(1), "good"), &["DBIRTH/H/Fan"])]
    #[case(sample("Load", json!(1), "good"), &["NBIRTH/H", "DBIRTH/H/Tank"])]
    fn what_is_new_or_of_another_type_is_announced(#[case] sample: Sample, #[case] expected: &[&str]) {
        let mut speaker = speaker();
        speaker.learn(&self::sample("Tank/Level", json!(1.5), "good"));
        speaker.births(true, AT);
        speaker.learn(&sample);
        let births: Vec<String> = read(&speaker.births(false, AT)).into_iter().map(|(topic, ..)| topic).collect();
        assert_eq!(births, expected);
    }

    #[test]
    fn what_is_sent_no_more_is_announced_no_more() {
        let mut speaker = speaker();
        ["Tank/Level", "Tank/Fill", "Fan/Speed"].iter().for_each(|topic| speaker.learn(&sample(topic, json!(1), "good")));
        speaker.births(true, AT);
        speaker.retain(&["Fan/Speed".to_owned(), "Tank/Fill".to_owned()]);
        assert_eq!(read(&speaker.births(false, AT)), [told("DBIRTH/H/Tank", 3, &["Fill=1"])]);
    }
}
