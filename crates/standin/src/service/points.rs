//! What the service tells, and in which answers.

use crate::process::Weather;
use havrel_core::time::{Nanos, to_text};
use serde_json::{Map, Value as Json, json};

/// One value.
pub struct Point {
    /// Where it belongs in the plant.
    pub place: &'static str,
    pub name: &'static str,
    /// What is asked for.
    pub path: &'static str,
    /// The member of the answer (JSON Pointer).
    pub member: &'static str,
    pub unit: &'static str,
    pub decimals: u8,
    pub range: (f64, f64),
    pub read: fn(&Weather) -> f64,
}

const PLACE: &str = "Utilities/Weather";
const WEATHER: &str = "/weather";
const TARIFF: &str = "/tariff";

/// Every value, in the order of the plant.
pub static POINTS: [Point; 7] = [
    Point {
        place: PLACE,
        name: "Air temperature",
        path: WEATHER,
        member: "/air/temperature",
        unit: "°C",
        decimals: 1,
        range: (-20.0, 40.0),
        read: |w| w.temperature,
    },
    Point {
        place: PLACE,
        name: "Humidity",
        path: WEATHER,
        member: "/air/humidity",
        unit: "%",
        decimals: 0,
        range: (0.0, 100.0),
        read: |w| w.humidity,
    },
    Point {
        place: PLACE,
        name: "Air pressure",
        path: WEATHER,
        member: "/air/pressure",
        unit: "hPa",
        decimals: 1,
        range: (950.0, 1050.0),
        read: |w| w.pressure,
    },
    Point {
        place: PLACE,
        name: "Wind speed",
        path: WEATHER,
        member: "/wind/speed",
        unit: "m/s",
        decimals: 1,
        range: (0.0, 40.0),
        read: |w| w.wind,
    },
    Point {
        place: PLACE,
        name: "Wind direction",
        path: WEATHER,
        member: "/wind/direction",
        unit: "°",
        decimals: 0,
        range: (0.0, 360.0),
        read: |w| w.direction,
    },
    Point {
        place: PLACE,
        name: "Rain",
        path: WEATHER,
        member: "/rain",
        unit: "mm/h",
        decimals: 1,
        range: (0.0, 20.0),
        read: |w| w.rain,
    },
    Point {
        place: "Utilities",
        name: "Price of electricity",
        path: TARIFF,
        member: "/price",
        unit: "EUR/kWh",
        decimals: 3,
        range: (0.0, 0.5),
        read: Weather::price,
    },
];

/// A value with as many digits as its point shows.
pub fn rounded(point: &Point, weather: &Weather) -> f64 {
    let factor = 10f64.powi(point.decimals.into());
    ((point.read)(weather) * factor).round() / factor
}

/// What is answered under a path, with the time of the plant; nothing where there is none.
pub fn answer(path: &str, weather: &Weather, at: Nanos) -> Option<Json> {
    let mut all = match path {
        WEATHER => json!({"station": "Brackmere quay", "at": to_text(at)}),
        TARIFF => json!({"supplier": "Brackmere Light", "at": to_text(at), "currency": "EUR", "per": "kWh"}),
        _ => return None,
    };
    for point in POINTS.iter().filter(|point| point.path == path) {
        let steps: Vec<&str> = point.member.split('/').skip(1).collect();
        let mut inside = &mut all;
        for step in &steps[..steps.len() - 1] {
            inside = inside.as_object_mut()?.entry(*step).or_insert_with(|| Json::Object(Map::new()));
        }
        inside.as_object_mut()?.insert((*steps.last()?).to_owned(), json!(rounded(point, weather)));
    }
    Some(all)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::process::Process;

    #[test]
    fn every_value_stands_at_its_place_in_an_answer() {
        let weather = Process::new(1, 7).weather;
        for point in &POINTS {
            let answer = answer(point.path, &weather, 1_795_924_307_000_000_000).unwrap();
            assert_eq!(answer.pointer(point.member), Some(&json!(rounded(point, &weather))), "{answer}");
            assert_eq!(answer["at"], "2026-11-29T03:51:47Z");
        }
        assert_eq!(answer("/tides", &weather, 0), None);
    }
}
