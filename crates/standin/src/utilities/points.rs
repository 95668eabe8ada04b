//! What the utilities tell, and in which messages.

use crate::process::{METERS, Utilities};
use havrel_core::sample::Value;
use serde_json::{Value as Json, json};

/// Before every topic.
pub const ROOT: &str = "brackmere/utilities";
/// What is drawn behind each meter.
pub const LOADS: [&str; METERS] =
    ["Landing", "Extraction 1", "Extraction 2", "Filtration", "Drying", "Packing", "Air compressor", "Offices"];

/// What a member holds now.
type Read = Box<dyn Fn(&Utilities) -> Value + Send + Sync>;

/// One value.
pub struct Point {
    /// Where it belongs in the plant.
    pub place: String,
    pub name: &'static str,
    /// Its topic, below [`ROOT`].
    pub topic: String,
    /// The member of the message; empty where the message is the value.
    pub member: &'static str,
    pub unit: &'static str,
    pub decimals: u8,
    pub range: Option<(f64, f64)>,
    pub note: &'static str,
    /// The topic on which it is set, below [`ROOT`].
    pub set: &'static str,
    pub read: Read,
}

impl Point {
    fn new(place: &str, name: &'static str, topic: &str, member: &'static str, read: Read) -> Point {
        let (place, topic) = (place.to_owned(), topic.to_owned());
        Point { place, name, topic, member, unit: "", decimals: 0, range: None, note: "", set: "", read }
    }

    fn measured(mut self, unit: &'static str, decimals: u8, low: f64, high: f64) -> Point {
        (self.unit, self.decimals, self.range) = (unit, decimals, Some((low, high)));
        self
    }

    fn note(mut self, note: &'static str) -> Point {
        self.note = note;
        self
    }
}

fn number(read: impl Fn(&Utilities) -> f64 + Send + Sync + 'static) -> Read {
    Box::new(move |utilities| Value::F64(read(utilities)))
}

fn switch(read: impl Fn(&Utilities) -> bool + Send + Sync + 'static) -> Read {
    Box::new(move |utilities| Value::Bool(read(utilities)))
}

/// Every value, in the order of the plant.
pub fn points() -> Vec<Point> {
    const BOILER: &str = "Utilities/Boiler";
    const COMPRESSOR: &str = "Utilities/Air compressor";
    let boiler = |name, member, read| Point::new(BOILER, name, "boiler", member, read);
    let compressor = |name, member, read| Point::new(COMPRESSOR, name, "compressor", member, read);
    let mut setpoint = Point::new(BOILER, "Pressure setpoint", "boiler/setpoint", "pressure", number(|u| u.pressure_setpoint))
        .measured("bar", 1, 0.0, 12.0);
    setpoint.set = "boiler/set";
    let mut all = vec![
        boiler("Steam pressure", "pressure", number(|u| u.pressure)).measured("bar", 2, 0.0, 12.0),
        setpoint,
        boiler("Water level", "level", number(|u| u.level)).measured("%", 1, 0.0, 100.0),
        boiler("Gas flow", "gas", number(|u| u.gas)).measured("m³/h", 1, 0.0, 200.0),
        boiler("Feed water temperature", "feed_water", number(|u| u.feed_water)).measured("°C", 1, 0.0, 120.0),
        boiler("Burner running", "burner", switch(|u| u.burner)),
        compressor("Air pressure", "pressure", number(|u| u.air)).measured("bar", 2, 0.0, 10.0),
        compressor("Motor current", "current", number(|u| u.current)).measured("A", 1, 0.0, 100.0),
        compressor("Loaded", "loaded", switch(|u| u.loaded)),
        compressor("Hours under load", "hours", number(|u| u.hours)).measured("h", 1, 0.0, 100_000.0),
        Point::new("Utilities", "Outside temperature", "outside", "", number(|u| u.outside))
            .measured("°C", 1, -20.0, 40.0)
            .note("Sent as a plain number."),
    ];
    for (n, load) in LOADS.into_iter().enumerate() {
        let (place, topic) = (format!("Utilities/Meter M{}", n + 1), format!("meter/M{}/json", n + 1));
        let meter = |name, member, read| Point::new(&place, name, &topic, member, read);
        all.extend([
            meter("Power", "power", number(move |u| u.meters[n].power)).measured("kW", 1, 0.0, 200.0).note(load),
            meter("Energy", "energy", number(move |u| u.meters[n].energy)).measured("kWh", 0, 0.0, 10_000_000.0).note(load),
            meter("Voltage L1", "voltage/0", number(move |u| u.meters[n].voltage[0])).measured("V", 1, 200.0, 260.0),
            meter("Voltage L2", "voltage/1", number(move |u| u.meters[n].voltage[1])).measured("V", 1, 200.0, 260.0),
            meter("Voltage L3", "voltage/2", number(move |u| u.meters[n].voltage[2])).measured("V", 1, 200.0, 260.0),
        ]);
    }
    all
}

/// A value with as many digits as its point shows.
pub fn rounded(point: &Point, value: Value) -> Value {
    match value {
        Value::F64(v) => {
            let factor = 10f64.powi(point.decimals.into());
            Value::F64((v * factor).round() / factor)
        }
        other => other,
    }
}

/// One message for each topic, with the time of the plant in milliseconds.
pub fn messages(points: &[Point], utilities: &Utilities, at_ms: i64) -> Vec<(String, String)> {
    let mut all: Vec<(String, Json)> = Vec::new();
    for point in points {
        let topic = format!("{ROOT}/{}", point.topic);
        let value = rounded(point, (point.read)(utilities)).to_json();
        if point.member.is_empty() {
            all.push((topic, value));
            continue;
        }
        let found = all.iter().position(|(known, _)| *known == topic).unwrap_or_else(|| {
            all.push((topic, json!({"ts": at_ms})));
            all.len() - 1
        });
        let Json::Object(members) = &mut all[found].1 else { continue };
        match point.member.split_once('/') {
            None => drop(members.insert(point.member.into(), value)),
            Some((list, _)) => {
                if let Json::Array(list) = members.entry(list).or_insert_with(|| json!([])) {
                    list.push(value);
                }
            }
        }
    }
    all.into_iter().map(|(topic, message)| (topic, message.to_string())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::process::Process;

    #[test]
    fn each_topic_has_one_message_that_holds_all_its_members() {
        let process = Process::new(1, 7);
        let all = messages(&points(), &process.utilities, 1_795_924_307_250);
        assert_eq!(all.len(), 4 + METERS);
        let meter = all.iter().find(|(topic, _)| topic == "brackmere/utilities/meter/M3/json").unwrap();
        let read: Json = serde_json::from_str(&meter.1).unwrap();
        assert_eq!((&read["ts"], read["voltage"].as_array().map(Vec::len)), (&json!(1_795_924_307_250i64), Some(3)));
        for point in points().iter().filter(|p| p.topic == "meter/M3/json") {
            assert!(read.pointer(&format!("/{}", point.member)).is_some_and(Json::is_number), "{}", point.name);
        }
        assert!(all.iter().any(|(topic, message)| topic.ends_with("/outside") && message.parse::<f64>().is_ok()));
    }
}
