//! The leach vessel: washed kelp in soda solution, kept warm, stirred and at its pH.

use super::{STEP_S, jitter};
use rand::SeedableRng;
use rand_pcg::Pcg64Mcg;

/// The leach vessel, which runs without end.
#[derive(Clone, Debug)]
pub struct Leach {
    /// °C
    pub temperature_setpoint: f64,
    pub ph_setpoint: f64,
    /// rpm
    pub agitator_setpoint: f64,
    pub agitator_on: bool,
    /// %
    pub level: f64,
    /// °C
    pub temperature: f64,
    pub ph: f64,
    /// L/min
    pub soda_flow: f64,
    /// Since the start, in kg.
    pub soda: f64,
    /// Opening of the heating valve, in %.
    pub valve: f64,
    /// rpm
    pub speed: f64,
    /// A
    pub current: f64,
    pub discharging: bool,
    /// m³/h
    pub discharge: f64,
    heat_integral: f64,
    soda_integral: f64,
    noise: Pcg64Mcg,
}

impl Leach {
    pub(super) fn new(seed: u64) -> Leach {
        Leach {
            temperature_setpoint: 62.0,
            ph_setpoint: 9.2,
            agitator_setpoint: 32.0,
            agitator_on: true,
            level: 58.0,
            temperature: 60.0,
            ph: 9.1,
            soda_flow: 15.0,
            soda: 0.0,
            valve: 30.0,
            speed: 32.0,
            current: 6.0,
            discharging: false,
            discharge: 0.0,
            heat_integral: 30.0,
            soda_integral: 15.0,
            noise: Pcg64Mcg::seed_from_u64(seed ^ 0x1e),
        }
    }

    /// `feed` comes in, in t/h.
    pub(super) fn step(&mut self, feed: f64) {
        let gust = jitter(&mut self.noise);
        if self.level > 74.0 {
            self.discharging = true;
        } else if self.level < 52.0 {
            self.discharging = false;
        }
        let wanted = if self.discharging { 86.0 + 2.0 * gust } else { 0.0 };
        self.discharge = (self.discharge + (wanted - self.discharge) * STEP_S / 4.0).max(0.0);
        let comes = feed * 0.0016 * STEP_S;
        self.level = (self.level + comes - self.discharge * 0.0021 * STEP_S).clamp(0.0, 100.0);

        self.temperature += (10.0 - self.temperature) * comes / 70.0;
        let error = self.temperature_setpoint - self.temperature;
        self.heat_integral = (self.heat_integral + error * STEP_S * 0.04).clamp(0.0, 90.0);
        let wanted = (error * 14.0 + self.heat_integral).clamp(0.0, 100.0);
        self.valve += (wanted - self.valve) * STEP_S / 3.0;
        self.temperature += (self.valve * 0.0035 - (self.temperature - 15.0) * 0.0016) * STEP_S;

        let error = self.ph_setpoint - self.ph;
        self.soda_integral = (self.soda_integral + error * STEP_S * 0.15).clamp(0.0, 45.0);
        let wanted = (error * 22.0 + self.soda_integral).clamp(0.0, 50.0);
        self.soda_flow += (wanted - self.soda_flow) * STEP_S / 5.0;
        self.soda += self.soda_flow / 60.0 * STEP_S * 0.12;
        let rest = 7.6 - feed * 0.006 + self.soda_flow * 0.12;
        self.ph = (self.ph + (rest - self.ph) * STEP_S / 90.0 + 0.0015 * gust).clamp(6.0, 11.0);

        let speed = if self.agitator_on { self.agitator_setpoint } else { 0.0 };
        self.speed += (speed - self.speed) * STEP_S / 2.5;
        let load = self.speed / 32.0 * (3.0 + self.level * 0.055) + 0.12 * gust;
        self.current = (self.current + (load - self.current) * STEP_S).max(0.0);
    }
}
