//! The controllers' manuals: from them the demo's connections and tags are configured.

use crate::{
    points::{Bound, Form, Table},
    registers::{Controller, Works},
};

/// The manual of one controller.
pub struct Manual {
    pub controller: &'static str,
    /// The number with which addresses count.
    pub base: u16,
    /// How 32-bit values stand in two registers.
    pub order: &'static str,
    pub points: Vec<Entry>,
}

/// One line of a manual.
pub struct Entry {
    pub place: String,
    pub name: &'static str,
    pub address: String,
    /// The number of a holding register on the wire; of nothing else.
    pub holding: Option<u16>,
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
            holding: (p.table == Table::Holding).then_some(p.address),
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
