//! The lists of points of the two controllers.
//!
//! “Extraction” counts from 0 and keeps the high word first: vessel *n* (from 0) at registers *n* × 40 and bits *n* × 8, the
//! leach vessel at 400 and bit 80. “Wash” counts from 1 and keeps the low word first: hopper at 0, conveyor at 20, wash tanks
//! at 100 and 140, bits at 0, 8, 16 and 24.

use crate::{
    points::{Bound, Form::*, Point, bind},
    process::{Conveyor, Hopper, Leach, Process, Tank, Vessel},
};

/// Registers from one vessel to the next.
pub const STRIDE: u16 = 40;
/// Bits from one vessel to the next.
pub const BITS: u16 = 8;

/// Most extraction vessels: the leach vessel lies behind them.
pub const MOST_VESSELS: u16 = 10;

fn bit(on: bool) -> f64 {
    f64::from(u8::from(on))
}

static VESSEL: [Point<Vessel>; 18] = [
    Point::<Vessel>::number(0, Tenths, "Level", |v| v.level).shown("%", 1, (0.0, 100.0), 0.5).noisy(0.1).toward("Fill setpoint"),
    Point::<Vessel>::number(2, Float(0.05), "Temperature", |v| v.temperature)
        .shown("°C", 1, (0.0, 120.0), 0.3)
        .noisy(0.06)
        .toward("Temperature setpoint"),
    Point::<Vessel>::number(4, Float(0.01), "pH", |v| v.ph + v.ph_error).shown("", 2, (4.0, 12.0), 0.03).noisy(0.01),
    Point::<Vessel>::number(6, Float(0.1), "Agitator speed", |v| v.speed)
        .shown("rpm", 1, (0.0, 90.0), 0.5)
        .toward("Agitator setpoint"),
    Point::<Vessel>::number(8, Float(0.01), "Agitator current", |v| v.current).shown("A", 1, (0.0, 30.0), 0.2),
    Point::<Vessel>::number(10, Tenths, "Heating valve", |v| v.valve).shown("%", 1, (0.0, 100.0), 1.0),
    Point::<Vessel>::number(11, SignedTenths, "Temperature setpoint", |v| v.set.temperature)
        .shown("°C", 1, (20.0, 95.0), 0.0)
        .settable(|v, x| v.set.temperature = x),
    Point::<Vessel>::number(12, Tenths, "Agitator setpoint", |v| v.set.agitator)
        .shown("rpm", 1, (0.0, 90.0), 0.0)
        .settable(|v, x| v.set.agitator = x),
    Point::<Vessel>::number(13, Tenths, "Fill setpoint", |v| v.set.fill)
        .shown("%", 1, (20.0, 95.0), 0.0)
        .settable(|v, x| v.set.fill = x),
    Point::<Vessel>::number(1, Count, "Phase", |v| f64::from(v.phase as u16))
        .noted("1 fill, 2 heat, 3 hold, 4 discharge, 5 rinse"),
    Point::<Vessel>::text(16, 8, "Run", Vessel::run_id),
    Point::<Vessel>::text(24, 2, "Grade", |v| v.grade().to_owned()),
    Point::<Vessel>::switch(0, "Heating allowed", |v| bit(v.set.heating_allowed), |v, x| v.set.heating_allowed = x != 0.0),
    Point::<Vessel>::switch(1, "Agitator on", |v| bit(v.set.agitator_on), |v, x| v.set.agitator_on = x != 0.0),
    Point::<Vessel>::state(0, "Inlet open", |v| bit(v.inlet_open)),
    Point::<Vessel>::state(1, "Outlet open", |v| bit(v.outlet_open)),
    Point::<Vessel>::state(3, "Agitator running", |v| bit(v.speed > 1.0)),
    Point::<Vessel>::number(14, Long, "Steam used", |v| v.steam).counted("kg", 1.0),
];

static LEACH: [Point<Leach>; 15] = [
    Point::<Leach>::number(0, Tenths, "Level", |l| l.level).shown("%", 1, (0.0, 100.0), 0.5).noisy(0.1),
    Point::<Leach>::number(2, Float(0.05), "Temperature", |l| l.temperature)
        .shown("°C", 1, (0.0, 100.0), 0.2)
        .noisy(0.05)
        .toward("Temperature setpoint"),
    Point::<Leach>::number(4, Float(0.01), "pH", |l| l.ph).shown("", 2, (6.0, 12.0), 0.03).noisy(0.01).toward("pH setpoint"),
    Point::<Leach>::number(6, Float(0.1), "Soda flow", |l| l.soda_flow).shown("L/min", 1, (0.0, 50.0), 0.3).noisy(0.1),
    Point::<Leach>::number(8, Float(0.1), "Agitator speed", |l| l.speed)
        .shown("rpm", 1, (0.0, 60.0), 0.5)
        .toward("Agitator setpoint"),
    Point::<Leach>::number(10, Float(0.01), "Agitator current", |l| l.current).shown("A", 1, (0.0, 20.0), 0.2),
    Point::<Leach>::number(12, Tenths, "Heating valve", |l| l.valve).shown("%", 1, (0.0, 100.0), 1.0),
    Point::<Leach>::number(14, Float(0.1), "Discharge flow", |l| l.discharge).shown("m³/h", 1, (0.0, 120.0), 1.0).noisy(0.3),
    Point::<Leach>::number(16, SignedTenths, "Temperature setpoint", |l| l.temperature_setpoint)
        .shown("°C", 1, (30.0, 85.0), 0.0)
        .settable(|l, x| l.temperature_setpoint = x),
    Point::<Leach>::number(17, Tenths, "pH setpoint", |l| l.ph_setpoint)
        .shown("", 1, (7.0, 10.5), 0.0)
        .settable(|l, x| l.ph_setpoint = x),
    Point::<Leach>::number(18, Tenths, "Agitator setpoint", |l| l.agitator_setpoint)
        .shown("rpm", 1, (0.0, 60.0), 0.0)
        .settable(|l, x| l.agitator_setpoint = x),
    Point::<Leach>::number(20, Long, "Soda used", |l| l.soda).counted("kg", 1.0),
    Point::<Leach>::switch(0, "Agitator on", |l| bit(l.agitator_on), |l, x| l.agitator_on = x != 0.0),
    Point::<Leach>::state(0, "Discharge pump running", |l| bit(l.discharging)),
    Point::<Leach>::state(1, "Agitator running", |l| bit(l.speed > 1.0)),
];

static HOPPER: [Point<Hopper>; 5] = [
    Point::<Hopper>::number(0, Float(0.01), "Weight", |h| h.weight).shown("t", 2, (0.0, 40.0), 0.05).noisy(0.01),
    Point::<Hopper>::number(2, Tenths, "Level", Hopper::level).shown("%", 1, (0.0, 100.0), 0.5).noisy(0.1),
    Point::<Hopper>::number(3, Tenths, "Gate", |h| h.gate).shown("%", 1, (0.0, 100.0), 1.0),
    Point::<Hopper>::number(4, Long, "Delivered", |h| h.delivered).counted("t", 0.0),
    Point::<Hopper>::state(0, "Lorry unloading", |h| bit(h.delivering)),
];

static CONVEYOR: [Point<Conveyor>; 6] = [
    Point::<Conveyor>::number(0, Float(0.1), "Belt speed", |c| c.speed)
        .shown("m/min", 1, (0.0, 40.0), 0.2)
        .toward("Belt speed setpoint"),
    Point::<Conveyor>::number(2, Float(0.01), "Motor current", |c| c.current).shown("A", 1, (0.0, 20.0), 0.2),
    Point::<Conveyor>::number(4, Float(0.1), "Kelp flow", |c| c.flow).shown("t/h", 1, (0.0, 120.0), 1.0).noisy(0.3),
    Point::<Conveyor>::number(6, Tenths, "Belt speed setpoint", |c| c.setpoint)
        .shown("m/min", 1, (0.0, 35.0), 0.0)
        .settable(|c, x| c.setpoint = x),
    Point::<Conveyor>::switch(0, "Conveyor allowed", |c| bit(c.allowed), |c, x| c.allowed = x != 0.0),
    Point::<Conveyor>::state(0, "Conveyor running", |c| bit(c.runs())),
];

static TANK: [Point<Tank>; 15] = [
    Point::<Tank>::number(0, Tenths, "Level", |t| t.level).shown("%", 1, (0.0, 100.0), 0.5).noisy(0.1).toward("Level setpoint"),
    Point::<Tank>::number(1, Count, "Cycle", |t| f64::from(t.cycle as u16)).noted("1 fill, 2 wash, 3 drain"),
    Point::<Tank>::number(2, Float(0.05), "Temperature", |t| t.temperature).shown("°C", 1, (0.0, 40.0), 0.1).noisy(0.04),
    Point::<Tank>::number(4, Float(0.1), "Turbidity", |t| t.turbidity).shown("NTU", 0, (0.0, 400.0), 2.0).noisy(0.6),
    Point::<Tank>::number(6, Float(0.1), "Water flow", |t| t.flow).shown("m³/h", 1, (0.0, 50.0), 0.5).noisy(0.2),
    Point::<Tank>::number(8, Float(0.01), "Pump current", |t| t.current).shown("A", 1, (0.0, 16.0), 0.2),
    Point::<Tank>::number(10, Float(0.1), "Filter pressure drop", |t| t.pressure_difference())
        .shown("kPa", 1, (0.0, 80.0), 0.5)
        .noisy(0.2),
    Point::<Tank>::number(12, Tenths, "Drain valve", |t| t.drain).shown("%", 1, (0.0, 100.0), 1.0),
    Point::<Tank>::number(13, Tenths, "Level setpoint", |t| t.setpoint)
        .shown("%", 1, (30.0, 90.0), 0.0)
        .settable(|t, x| t.setpoint = x),
    Point::<Tank>::number(14, Long, "Water used", |t| t.water).counted("m³", 0.0),
    Point::<Tank>::number(16, Long, "Pump hours", |t| t.ran / 3600.0).counted("h", 0.0),
    Point::<Tank>::switch(0, "Pump allowed", |t| bit(t.pump_allowed), |t, x| t.pump_allowed = x != 0.0),
    Point::<Tank>::state(0, "Pump running", |t| bit(t.pump_runs())),
    Point::<Tank>::state(1, "Pump tripped", |t| bit(t.tripped())),
    Point::<Tank>::state(2, "Drain open", |t| bit(t.drain > 50.0)),
];

/// The points of controller “Extraction”.
pub fn extraction(vessels: usize) -> Vec<Bound> {
    let mut points: Vec<Bound> =
        bind("Extraction/Leach vessel", &LEACH, (400, 80), |p: &Process| &p.leach, |p| &mut p.leach).collect();
    for n in 0..vessels.min(MOST_VESSELS.into()) {
        let (register, bit) = (n as u16 * STRIDE, n as u16 * BITS);
        let place = format!("Extraction/EX-{}", n + 1);
        points.extend(bind(&place, &VESSEL, (register, bit), move |p: &Process| &p.vessels[n], move |p| &mut p.vessels[n]));
    }
    points
}

/// The points of controller “Wash”.
pub fn wash() -> Vec<Bound> {
    let mut points: Vec<Bound> =
        bind("Landing/Reception hopper", &HOPPER, (0, 0), |p: &Process| &p.hopper, |p| &mut p.hopper).collect();
    points.extend(bind("Landing/Conveyor", &CONVEYOR, (20, 8), |p: &Process| &p.conveyor, |p| &mut p.conveyor));
    points.extend(bind("Landing/Wash tank 1", &TANK, (100, 16), |p: &Process| &p.tanks[0], |p| &mut p.tanks[0]));
    points.extend(bind("Landing/Wash tank 2", &TANK, (140, 24), |p: &Process| &p.tanks[1], |p| &mut p.tanks[1]));
    points
}
