//! Utilities: the steam boiler, the air compressor, and the meters of electricity.

use super::{STEP_S, jitter};
use rand::SeedableRng;
use rand_pcg::Pcg64Mcg;

/// Electricity meters.
pub const METERS: usize = 8;

/// Power that is drawn behind each meter, in kW, about.
const LOADS: [f64; METERS] = [42.0, 86.0, 86.0, 31.0, 128.0, 24.0, 55.0, 18.0];

/// A meter.
#[derive(Clone, Debug)]
pub struct Meter {
    /// kW
    pub power: f64,
    /// kWh since it was installed.
    pub energy: f64,
    /// V between each phase and neutral.
    pub voltage: [f64; 3],
}

/// All of the utilities.
#[derive(Clone, Debug)]
pub struct Utilities {
    /// Steam pressure, in bar, and what is wanted.
    pub pressure: f64,
    pub pressure_setpoint: f64,
    /// Water in the boiler, in %.
    pub level: f64,
    /// Gas, in m³/h.
    pub gas: f64,
    /// Feed water, in °C.
    pub feed_water: f64,
    pub burner: bool,
    /// Compressed air, in bar.
    pub air: f64,
    /// Motor of the compressor, in A.
    pub current: f64,
    pub loaded: bool,
    /// Hours of the compressor under load.
    pub hours: f64,
    /// Outside, in °C.
    pub outside: f64,
    pub meters: [Meter; METERS],
    /// The voltage of the mains is low.
    pub dips: bool,
    demand: f64,
    seconds: f64,
    noise: Pcg64Mcg,
}

impl Utilities {
    pub(super) fn new(seed: u64) -> Utilities {
        let meter = |n: usize| Meter { power: LOADS[n], energy: 184_000.0 * LOADS[n] / 40.0, voltage: [231.0, 230.4, 229.8] };
        Utilities {
            pressure: 8.0,
            pressure_setpoint: 8.0,
            level: 55.0,
            gas: 96.0,
            feed_water: 82.0,
            burner: true,
            air: 7.1,
            current: 48.0,
            loaded: true,
            hours: 18_204.0,
            outside: 6.5,
            meters: std::array::from_fn(meter),
            dips: false,
            demand: 0.5,
            seconds: 0.0,
            noise: Pcg64Mcg::seed_from_u64(seed ^ 0x0711),
        }
    }

    /// Lets one step pass.
    pub(super) fn step(&mut self) {
        self.seconds += STEP_S;
        let gust = jitter(&mut self.noise);
        // Steam is drawn in waves, as the vessels heat one after the other.
        let wave = (self.seconds / 540.0).sin() * 0.25 + (self.seconds / 97.0).sin() * 0.08;
        self.demand += (0.5 + wave + 0.1 * gust - self.demand) * STEP_S / 20.0;
        let off = self.pressure_setpoint - self.pressure;
        // The burner goes out above its band and comes back below it.
        self.burner = if self.burner { off > -0.35 } else { off > 0.15 };
        let gas = if self.burner { (90.0 + 160.0 * off).clamp(30.0, 190.0) } else { 0.0 };
        self.gas += (gas - self.gas) * STEP_S / 6.0;
        self.pressure = (self.pressure + (self.gas / 190.0 - 0.95 * self.demand) * 0.02 * STEP_S).clamp(0.0, 11.0);
        self.level += (55.0 + 6.0 * (0.5 - self.demand) + gust - self.level) * STEP_S / 40.0;
        self.feed_water += (82.0 + gust - self.feed_water) * STEP_S / 60.0;
        self.loaded = if self.loaded { self.air < 7.5 } else { self.air < 6.8 };
        let filled = if self.loaded { 0.024 } else { 0.0 };
        self.air += (filled - 0.011 - 0.003 * gust) * STEP_S;
        let current = if self.loaded { 62.0 + 1.5 * self.air } else { 21.0 };
        self.current += (current + gust - self.current) * STEP_S / 1.5;
        self.hours += if self.loaded { STEP_S / 3600.0 } else { 0.0 };
        self.outside += (6.5 + 5.0 * (self.seconds / 13_750.0).sin() + 0.4 * gust - self.outside) * STEP_S / 300.0;
        let mains = if self.dips { 196.0 } else { 231.0 };
        for (n, meter) in self.meters.iter_mut().enumerate() {
            let swing = (self.seconds / (260.0 + 70.0 * n as f64)).sin();
            let power = LOADS[n] * (1.0 + 0.18 * swing + 0.04 * gust);
            meter.power += (power - meter.power) * STEP_S / 8.0;
            meter.energy += meter.power * STEP_S / 3600.0;
            for (phase, volts) in meter.voltage.iter_mut().enumerate() {
                *volts += (mains - 0.6 * phase as f64 - 0.01 * meter.power + 0.5 * gust - *volts) * STEP_S / 10.0;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn half_a_day_stays_physical_and_nothing_stands_still() {
        let mut utilities = Utilities::new(5);
        let began = utilities.clone();
        let (mut burner, mut loaded) = (0, 0);
        for _ in 0..432_000 {
            let before = (utilities.burner, utilities.loaded);
            utilities.step();
            burner += u32::from(before.0 != utilities.burner);
            loaded += u32::from(before.1 != utilities.loaded);
            assert!((6.5..9.5).contains(&utilities.pressure) && (40.0..70.0).contains(&utilities.level), "{utilities:?}");
            assert!((6.5..7.8).contains(&utilities.air) && (0.0..200.0).contains(&utilities.gas));
            assert!(utilities.meters.iter().all(|m| m.voltage.iter().all(|v| (220.0..240.0).contains(v))));
        }
        assert!(loaded > 100, "{burner} {loaded}");
        assert!(utilities.hours > began.hours + 1.0);
        for (meter, before) in utilities.meters.iter().zip(&began.meters) {
            let hours = (meter.energy - before.energy) / before.power;
            assert!((10.0..14.0).contains(&hours), "{hours}");
        }
    }
}
