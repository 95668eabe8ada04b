//! Landing: kelp comes by lorry into the hopper, over the conveyor into one of two wash tanks.

use super::{STEP_S, jitter};
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// What the hopper holds, in t.
const HOPPER_T: f64 = 40.0;

/// The reception hopper.
#[derive(Clone, Debug)]
pub struct Hopper {
    /// t
    pub weight: f64,
    /// Delivered since the start, in t.
    pub delivered: f64,
    pub delivering: bool,
    /// Opening of the gate, in %.
    pub gate: f64,
    /// The cable of its level probe is loose.
    pub loose: bool,
    /// For how long it has been, in s.
    loose_for: f64,
    /// Seconds until the lorry comes, or goes.
    wait: f64,
    noise: Pcg64Mcg,
}

impl Hopper {
    pub(super) fn new(seed: u64) -> Hopper {
        let noise = Pcg64Mcg::seed_from_u64(seed ^ 0x40);
        Hopper { weight: 17.0, delivered: 0.0, delivering: false, gate: 40.0, loose: false, loose_for: 0.0, wait: 240.0, noise }
    }

    /// `flow` leaves it, in t/h.
    pub(super) fn step(&mut self, flow: f64) {
        self.loose_for = if self.loose { self.loose_for + STEP_S } else { 0.0 };
        self.wait -= STEP_S;
        if self.wait <= 0.0 {
            self.delivering = !self.delivering && self.weight < 24.0;
            self.wait = if self.delivering { 90.0 } else { self.noise.random_range(700.0..1100.0) };
        }
        let comes = if self.delivering { 0.2 * STEP_S } else { 0.0 };
        self.delivered += comes;
        self.weight = (self.weight + comes - flow / 3600.0 * STEP_S).clamp(0.0, HOPPER_T);
        // The gate opens wider as the heap gets lower.
        let wanted = 65.0 - self.weight * 1.2;
        self.gate += (wanted - self.gate) * STEP_S / 20.0;
    }

    /// In % of what it holds; with a loose cable nothing for three of every nine seconds.
    pub fn level(&self) -> f64 {
        if self.loose && self.loose_for % 9.0 < 3.0 { 0.0 } else { self.weight / HOPPER_T * 100.0 }
    }
}

/// The conveyor.
#[derive(Clone, Debug)]
pub struct Conveyor {
    /// m/min
    pub setpoint: f64,
    pub allowed: bool,
    /// m/min
    pub speed: f64,
    /// A
    pub current: f64,
    /// Kelp on it, in t/h.
    pub flow: f64,
    noise: Pcg64Mcg,
}

impl Conveyor {
    pub(super) fn new(seed: u64) -> Conveyor {
        let noise = Pcg64Mcg::seed_from_u64(seed ^ 0xc0);
        Conveyor { setpoint: 18.0, allowed: true, speed: 0.0, current: 0.0, flow: 0.0, noise }
    }

    /// Whether it moves.
    pub fn runs(&self) -> bool {
        self.speed > 0.5
    }

    pub(super) fn step(&mut self, fed: bool) {
        let wanted = if self.allowed { self.setpoint } else { 0.0 };
        self.speed += (wanted - self.speed) * STEP_S / 3.0;
        let gust = jitter(&mut self.noise);
        let flow = if fed { self.speed * (3.3 + 0.5 * gust) } else { 0.0 };
        self.flow += (flow - self.flow) * STEP_S / 8.0;
        let load = if self.runs() { 3.4 + self.flow * 0.075 + 0.2 * gust } else { 0.0 };
        self.current += (load - self.current) * STEP_S / 1.5;
    }
}

/// What a wash tank does; the number stands in the controller's cycle register.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u16)]
pub enum Cycle {
    Fill = 1,
    Wash = 2,
    Drain = 3,
}

/// A wash tank with its circulation pump, filter and drain valve.
#[derive(Clone, Debug)]
pub struct Tank {
    /// Level at which filling ends, in %.
    pub setpoint: f64,
    pub pump_allowed: bool,
    pub cycle: Cycle,
    /// %
    pub level: f64,
    /// °C
    pub temperature: f64,
    /// NTU
    pub turbidity: f64,
    /// Water through the pump, in m³/h.
    pub flow: f64,
    /// A
    pub current: f64,
    /// How far the filter is blinded, 0 to 1.
    pub blinded: f64,
    /// Opening of the drain valve, in %.
    pub drain: f64,
    /// Fresh water since the start, in m³.
    pub water: f64,
    /// Seconds the pump has run.
    pub ran: f64,
    pub(super) tripped: bool,
    pub(super) blinding: bool,
    in_cycle: f64,
    noise: Pcg64Mcg,
}

impl Tank {
    pub(super) fn new(number: usize, seed: u64) -> Tank {
        Tank {
            setpoint: 72.0,
            pump_allowed: true,
            // One washes while the other drains and fills.
            cycle: if number == 0 { Cycle::Wash } else { Cycle::Drain },
            level: 70.0,
            temperature: 11.0,
            turbidity: 20.0,
            flow: 0.0,
            current: 0.0,
            blinded: 0.1,
            drain: 0.0,
            water: 0.0,
            ran: 0.0,
            tripped: false,
            blinding: false,
            in_cycle: 0.0,
            noise: Pcg64Mcg::seed_from_u64(seed ^ (0x7a + number as u64)),
        }
    }

    /// Whether the pump runs.
    pub fn pump_runs(&self) -> bool {
        self.current > 1.0
    }

    /// Whether the pump's protection has tripped.
    pub fn tripped(&self) -> bool {
        self.tripped
    }

    /// Pressure lost in the filter, in kPa.
    pub fn pressure_difference(&self) -> f64 {
        self.flow * self.flow * 0.009 + self.blinded * 46.0 * (self.flow / 30.0).min(1.0)
    }

    pub(super) fn step(&mut self, weed: f64) {
        self.in_cycle += STEP_S;
        let next = match self.cycle {
            Cycle::Fill if self.level >= self.setpoint => Some(Cycle::Wash),
            Cycle::Wash if self.in_cycle > 240.0 => Some(Cycle::Drain),
            Cycle::Drain if self.level <= 6.0 => Some(Cycle::Fill),
            _ => None,
        };
        if let Some(next) = next {
            self.cycle = next;
            self.in_cycle = 0.0;
        }
        let gust = jitter(&mut self.noise);
        let inflow = if self.cycle == Cycle::Fill { 0.62 + 0.04 * gust } else { 0.0 };
        let wanted = if self.cycle == Cycle::Drain { 100.0 } else { 0.0 };
        self.drain += (wanted - self.drain) * STEP_S / 2.5;
        let outflow = self.drain / 100.0 * (0.3 + 1.1 * (self.level / 100.0).max(0.0).sqrt());
        // Fresh water at 9 °C mixes at once, and takes the dirt along as it goes.
        let share = inflow * STEP_S / (self.level + 5.0);
        self.temperature += (9.0 - self.temperature) * share + (12.0 - self.temperature) * STEP_S / 900.0;
        self.turbidity += (4.0 - self.turbidity) * share + weed * 0.011 * STEP_S + 0.15 * gust;
        self.turbidity = (self.turbidity - self.turbidity * STEP_S / 1800.0).clamp(0.0, 400.0);
        self.level = (self.level + (inflow - outflow) * STEP_S).clamp(0.0, 100.0);
        self.water += inflow * STEP_S * 0.16;

        let runs = self.pump_allowed && !self.tripped && self.cycle == Cycle::Wash && self.level > 20.0;
        let flow = if runs { 36.0 * (1.0 - 0.55 * self.blinded * self.blinded) + 0.4 * gust } else { 0.0 };
        self.flow = (self.flow + (flow - self.flow) * STEP_S / 2.0).max(0.0);
        let load = if runs { 2.1 + self.flow * 0.2 + self.blinded * 1.4 } else { 0.0 };
        self.current += (load - self.current) * STEP_S;
        self.ran += if runs { STEP_S } else { 0.0 };
        self.blinded += match () {
            () if self.blinding => STEP_S / 60.0,
            // Draining washes the filter backwards.
            () if self.cycle == Cycle::Drain => -self.blinded * STEP_S / 40.0,
            () => self.turbidity * self.flow * STEP_S * 3e-7,
        };
        self.blinded = self.blinded.clamp(0.0, 0.97);
    }
}
