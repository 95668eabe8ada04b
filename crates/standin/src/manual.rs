//! The controllers' manuals as JSON: from them the demo configures its connections and tags.

use crate::{
    points::{Bound, Form, Table},
    registers::{Controller, Works},
};
use serde::Serialize;

/// The manual of one controller.
#[derive(Serialize)]
pub struct Manual {
    pub controller: &'static str,
    /// The number with which addresses count.
    pub base: u16,
    /// How 32-bit values stand in two registers.
    pub order: &'static str,
    pub points: Vec<Entry>,
}

/// One line of a manual.
#[derive(Serialize)]
pub struct Entry {
    pub place: String,
    pub name: &'static str,
    pub address: String,
    #[serde(rename = "type")]
    pub kind: &'static str,
    /// Registers of a text.
    pub length: u16,
    /// The register holds tenths.
    pub tenths: bool,
    pub unit: &'static str,
    pub decimals: u8,
    pub range: Option<(f64, f64)>,
    pub deadband: f64,
    pub writable: bool,
    pub setpoint: &'static str,
    pub note: &'static str,
}

/// The manuals of both controllers.
pub fn manuals(works: &Works) -> Vec<Manual> {
    let of = |c: &Controller| {
        let points = c.points.iter().map(|p| Entry {
            place: p.place.clone(),
            name: p.name,
            address: address(p, c.base()),
            kind: p.form.kind(),
            length: p.form.width(),
            tenths: matches!(p.form, Form::Tenths | Form::SignedTenths),
            unit: p.unit,
            decimals: p.decimals,
            range: p.range,
            deadband: p.deadband,
            writable: p.set.is_some(),
            setpoint: p.setpoint,
            note: p.note,
        });
        Manual { controller: c.which.name(), base: c.base(), order: c.order(), points: points.collect() }
    };
    works.controllers.iter().map(of).collect()
}

/// A point's address in the notation of its manual: `holding 12` where it counts from 0, `40013` where it counts from 1.
pub fn address(point: &Bound, base: u16) -> String {
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
