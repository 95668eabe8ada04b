//! Effluent: the basin at the shore, the pump that empties it, and what is measured at the outlet.

use super::{STEP_S, jitter};
use rand::SeedableRng;
use rand_pcg::Pcg64Mcg;

/// The basin is emptied from above this level, and down to the lower one, in m.
const FULL: f64 = 2.4;
const EMPTY: f64 = 0.8;
/// Its area, in m².
const AREA: f64 = 60.0;

/// The remote station.
#[derive(Clone, Debug)]
pub struct Effluent {
    /// Water in the basin, in m.
    pub level: f64,
    /// What comes from the works, in m³/h.
    pub inflow: f64,
    /// What leaves, in m³/h.
    pub flow: f64,
    pub ph: f64,
    /// NTU
    pub turbidity: f64,
    /// °C
    pub temperature: f64,
    pub running: bool,
    /// Of the pump, in 1/min, and what is wanted.
    pub speed: f64,
    pub speed_setpoint: f64,
    /// Of its motor, in A.
    pub current: f64,
    /// Hours that it ran.
    pub hours: f64,
    seconds: f64,
    noise: Pcg64Mcg,
}

impl Effluent {
    pub(super) fn new(seed: u64) -> Effluent {
        Effluent {
            level: 1.6,
            inflow: 38.0,
            flow: 0.0,
            ph: 7.4,
            turbidity: 18.0,
            temperature: 14.0,
            running: false,
            speed: 0.0,
            speed_setpoint: 1450.0,
            current: 0.0,
            hours: 6_112.0,
            seconds: 0.0,
            noise: Pcg64Mcg::seed_from_u64(seed ^ 0x0eff),
        }
    }

    /// Lets one step pass.
    pub(super) fn step(&mut self) {
        self.seconds += STEP_S;
        let gust = jitter(&mut self.noise);
        let towards = |now: &mut f64, wanted: f64, seconds: f64| *now += (wanted - *now) * STEP_S / seconds;
        let wave = (self.seconds / 830.0).sin();
        towards(&mut self.inflow, 38.0 + 14.0 * wave + 3.0 * gust, 30.0);
        self.running = if self.running { self.level > EMPTY } else { self.level > FULL };
        towards(&mut self.speed, if self.running { self.speed_setpoint } else { 0.0 }, 4.0);
        let drawn = self.speed / 1450.0;
        towards(&mut self.flow, 160.0 * drawn, 2.0);
        self.level = (self.level + (self.inflow - self.flow) / 3600.0 / AREA * STEP_S).clamp(0.0, 3.5);
        towards(&mut self.current, if self.running { 6.0 + 16.0 * drawn.powi(3) + 0.4 * gust } else { 0.0 }, 1.0);
        self.hours += if self.running { STEP_S / 3600.0 } else { 0.0 };
        // What the vessels discharge is alkaline.
        towards(&mut self.ph, 7.4 + 0.5 * (self.seconds / 1_900.0).sin() + 0.05 * gust, 60.0);
        towards(&mut self.turbidity, 18.0 + 9.0 * wave + 2.0 * gust, 45.0);
        towards(&mut self.temperature, 14.0 + 2.0 * (self.seconds / 9_000.0).sin() + 0.1 * gust, 200.0);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_basin_fills_and_is_emptied_again_and_again() {
        let mut effluent = Effluent::new(5);
        let mut starts = 0;
        for _ in 0..432_000 {
            let before = effluent.running;
            effluent.step();
            starts += u32::from(effluent.running && !before);
            assert!((0.5..2.7).contains(&effluent.level) && (6.0..9.0).contains(&effluent.ph), "{effluent:?}");
            assert!((0.0..40.0).contains(&effluent.turbidity) && effluent.flow >= 0.0);
        }
        assert!((3..40).contains(&starts) && effluent.hours > 6_112.5, "{starts}");
    }
}
