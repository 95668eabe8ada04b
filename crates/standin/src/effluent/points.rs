//! What the station measures, and as which metric of which device.

use super::{GROUP, NODE};
use crate::process::Effluent;
use havrel_core::sample::Value;
use serde_json::{Value as Json, json};

/// One value.
pub struct Point {
    pub device: &'static str,
    pub metric: &'static str,
    /// The member of the structure that the metric carries; empty where it is the value.
    pub member: &'static str,
    pub name: &'static str,
    pub unit: &'static str,
    pub decimals: u8,
    pub range: Option<(f64, f64)>,
    pub note: &'static str,
    pub writable: bool,
    pub read: fn(&Effluent) -> Value,
}

const fn point(device: &'static str, metric: &'static str, name: &'static str, read: fn(&Effluent) -> Value) -> Point {
    Point { device, metric, member: "", name, unit: "", decimals: 0, range: None, note: "", writable: false, read }
}

impl Point {
    const fn measured(mut self, unit: &'static str, decimals: u8, low: f64, high: f64) -> Point {
        (self.unit, self.decimals, self.range) = (unit, decimals, Some((low, high)));
        self
    }

    const fn member(mut self, member: &'static str) -> Point {
        self.member = member;
        self
    }

    const fn note(mut self, note: &'static str) -> Point {
        self.note = note;
        self
    }

    const fn writable(mut self) -> Point {
        self.writable = true;
        self
    }

    /// Where a tag of it is read.
    pub fn source(&self) -> Json {
        let mut source = json!({"group": GROUP, "node": NODE, "device": self.device, "metric": self.metric});
        if !self.member.is_empty() {
            source["member"] = json!(format!("/{}", self.member));
        }
        source
    }

    /// The value with as many digits as it is shown with.
    pub fn rounded(&self, effluent: &Effluent) -> Value {
        match (self.read)(effluent) {
            Value::F64(v) => {
                let factor = 10f64.powi(self.decimals.into());
                Value::F64((v * factor).round() / factor)
            }
            other => other,
        }
    }
}

const OUTLET: &str = "Outlet";
const BASIN: &str = "Basin";
const PUMP: &str = "Pump 1";

/// Every value, in the order of the plant.
pub const POINTS: &[Point] = &[
    point(BASIN, "Level", "Level", |e| Value::F64(e.level)).measured("m", 2, 0.0, 3.5),
    point(BASIN, "Inflow", "Inflow", |e| Value::F64(e.inflow)).measured("m³/h", 1, 0.0, 120.0).note("From the works."),
    point(OUTLET, "pH", "pH", |e| Value::F64(e.ph)).measured("", 2, 0.0, 14.0).note("Permit: 6.5 to 8.5."),
    point(OUTLET, "Flow", "Flow", |e| Value::F64(e.flow)).measured("m³/h", 1, 0.0, 200.0),
    point(OUTLET, "Turbidity", "Turbidity", |e| Value::F64(e.turbidity)).measured("NTU", 1, 0.0, 100.0),
    point(OUTLET, "Temperature", "Temperature", |e| Value::F64(e.temperature)).measured("°C", 1, 0.0, 40.0),
    point(PUMP, "Running", "Running", |e| Value::Bool(e.running)),
    point(PUMP, "Speed setpoint", "Speed setpoint", |e| Value::F64(e.speed_setpoint))
        .measured("1/min", 0, 600.0, 1800.0)
        .writable(),
    point(PUMP, "Drive", "Speed", |e| Value::F64(e.speed)).member("Speed").measured("1/min", 0, 0.0, 1800.0),
    point(PUMP, "Drive", "Current", |e| Value::F64(e.current)).member("Current").measured("A", 1, 0.0, 40.0),
    point(PUMP, "Hours", "Hours", |e| Value::F64(e.hours)).measured("h", 1, 0.0, 100_000.0),
];
