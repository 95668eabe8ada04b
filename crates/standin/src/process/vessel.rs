//! One extraction vessel: mass and heat balance, lags, noise, and the repeated run that drives them.

use super::{STEP_S, jitter};
use rand::SeedableRng;
use rand_pcg::Pcg64Mcg;

/// What a run goes through, in order. The number stands in the controller's phase register.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u16)]
pub enum Phase {
    Fill = 1,
    Heat = 2,
    Hold = 3,
    Discharge = 4,
    Rinse = 5,
}

const GRADES: [&str; 3] = ["LV", "MV", "HV"];

/// What the operator may set.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Setpoints {
    /// °C
    pub temperature: f64,
    /// rpm
    pub agitator: f64,
    /// Level at which filling ends, in %.
    pub fill: f64,
    pub heating_allowed: bool,
    pub agitator_on: bool,
}

/// A vessel. Levels in % of the vessel, temperatures in °C, speeds in rpm, currents in A, times in s.
#[derive(Clone, Debug)]
pub struct Vessel {
    pub set: Setpoints,
    pub phase: Phase,
    pub level: f64,
    pub temperature: f64,
    pub ph: f64,
    /// What the pH probe shows too much.
    pub ph_error: f64,
    pub speed: f64,
    pub current: f64,
    /// Opening of the heating valve, 0 to 100 %.
    pub valve: f64,
    pub inlet_open: bool,
    pub outlet_open: bool,
    /// Steam used since the start, in kg.
    pub steam: f64,
    pub run_number: u32,
    in_phase: f64,
    integral: f64,
    /// How far beyond its setpoint this run is filled, in %: no two runs are alike.
    excess: f64,
    number: usize,
    noise: Pcg64Mcg,
}

impl Vessel {
    /// The vessel with this number (from 0); vessels start at different points of their run.
    pub fn new(number: usize, seed: u64) -> Vessel {
        Vessel {
            set: Setpoints { temperature: 82.0, agitator: 46.0, fill: 74.0, heating_allowed: true, agitator_on: true },
            phase: Phase::Fill,
            level: 6.0 + 22.0 * number as f64 % 60.0,
            temperature: 22.0,
            ph: 7.1,
            ph_error: 0.0,
            speed: 0.0,
            current: 0.0,
            valve: 0.0,
            inlet_open: false,
            outlet_open: false,
            steam: 0.0,
            run_number: 184 + number as u32,
            in_phase: 0.0,
            integral: 0.0,
            excess: 0.0,
            number,
            noise: Pcg64Mcg::seed_from_u64(seed.wrapping_add(number as u64)),
        }
    }

    /// The id of the present run, such as `KX-2611-0184`.
    pub fn run_id(&self) -> String {
        format!("KX-2611-{:04}", self.run_number % 10_000)
    }

    /// The product grade of the present run.
    pub fn grade(&self) -> &'static str {
        GRADES[(self.run_number as usize + self.number) % GRADES.len()]
    }

    /// Lets [`STEP_S`] seconds pass.
    pub fn step(&mut self) {
        self.in_phase += STEP_S;
        self.follow_run();
        self.balance();
    }

    fn enter(&mut self, phase: Phase) {
        self.phase = phase;
        self.in_phase = 0.0;
        self.integral = 0.0;
        if phase == Phase::Fill {
            self.run_number += 1;
            self.excess = 2.2 * jitter(&mut self.noise);
        }
    }

    fn follow_run(&mut self) {
        match self.phase {
            Phase::Fill if self.level >= self.set.fill + self.excess => self.enter(Phase::Heat),
            // With heating locked the run goes on after a while, colder than it should.
            Phase::Heat if self.temperature >= self.set.temperature - 0.5 || self.in_phase > 240.0 => self.enter(Phase::Hold),
            Phase::Hold if self.in_phase > 45.0 => self.enter(Phase::Discharge),
            Phase::Discharge if self.level <= 4.0 => self.enter(Phase::Rinse),
            Phase::Rinse if self.in_phase > 12.0 => self.enter(Phase::Fill),
            _ => {}
        }
        self.inlet_open = matches!(self.phase, Phase::Fill) || (self.phase == Phase::Rinse && self.in_phase < 4.0);
        self.outlet_open = self.phase == Phase::Discharge || (self.phase == Phase::Rinse && self.in_phase >= 6.0);
    }

    fn balance(&mut self) {
        let gust = jitter(&mut self.noise);
        let inflow = if self.inlet_open { 1.15 + 0.08 * gust } else { 0.0 };
        // Outflow falls with the head of liquid.
        let outflow = if self.outlet_open { 0.7 + 1.8 * (self.level.max(0.0) / 100.0).sqrt() } else { 0.0 };
        let added = inflow * STEP_S;
        let mass = (self.level + 3.0).max(3.0);
        // What flows in is at 14 °C and mixes at once.
        self.temperature += (14.0 - self.temperature) * added / (mass + added);
        self.level = (self.level + added - outflow * STEP_S).clamp(0.0, 100.0);

        let heating = self.set.heating_allowed && matches!(self.phase, Phase::Heat | Phase::Hold);
        let error = self.set.temperature - self.temperature;
        if heating {
            self.integral = (self.integral + error * STEP_S * 0.25).clamp(0.0, 40.0);
        }
        let wanted = if heating { (error * 9.0 + self.integral).clamp(0.0, 100.0) } else { 0.0 };
        self.valve += (wanted - self.valve) * STEP_S / 1.5;
        let power = self.valve / 100.0 * 72.0;
        let loss = (self.temperature - 20.0) * 0.012 * 4.0;
        self.temperature += (power - loss) * STEP_S / mass;
        self.steam += power * STEP_S * 0.012;

        let stirred = self.set.agitator_on && self.level > 10.0;
        let speed = if stirred { self.set.agitator } else { 0.0 };
        self.speed += (speed - self.speed) * STEP_S / 2.0;
        // Load rises with the level and falls as heat thins the liquor.
        let load = self.speed / 60.0 * (6.0 + self.level * 0.16 - (self.temperature - 20.0) * 0.05);
        self.current += (load.max(0.0) + 0.15 * gust - self.current) * STEP_S / 0.8;
        self.current = self.current.max(0.0);

        let ph = match self.phase {
            Phase::Heat | Phase::Hold => 9.6,
            Phase::Rinse => 7.0,
            Phase::Fill | Phase::Discharge => 8.4,
        };
        self.ph += (ph - self.ph) * STEP_S / 25.0 + 0.002 * gust;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(vessel: &mut Vessel, seconds: f64) -> Vec<Phase> {
        let mut phases = vec![vessel.phase];
        for _ in 0..(seconds / STEP_S) as usize {
            vessel.step();
            if phases.last() != Some(&vessel.phase) {
                phases.push(vessel.phase);
            }
        }
        phases
    }

    #[test]
    fn a_run_goes_through_its_phases_and_begins_anew_with_a_new_id() {
        let mut vessel = Vessel::new(0, 7);
        let before = vessel.run_id();
        let phases = run(&mut vessel, 600.0);
        use Phase::*;
        assert!(phases.starts_with(&[Fill, Heat, Hold, Discharge, Rinse, Fill]), "{phases:?}");
        assert_ne!(vessel.run_id(), before);
    }

    #[test]
    fn the_same_seed_gives_the_same_plant() {
        let (mut a, mut b) = (Vessel::new(1, 7), Vessel::new(1, 7));
        run(&mut a, 100.0);
        run(&mut b, 100.0);
        assert_eq!((a.level, a.temperature, a.ph), (b.level, b.temperature, b.ph));
    }

    #[test]
    fn everything_stays_physical() {
        let mut vessel = Vessel::new(2, 3);
        for _ in 0..36_000 {
            vessel.step();
            assert!((0.0..=100.0).contains(&vessel.level) && (0.0..=100.0).contains(&vessel.valve));
            assert!((5.0..=110.0).contains(&vessel.temperature), "{}", vessel.temperature);
            assert!((6.0..=11.0).contains(&vessel.ph) && vessel.current >= 0.0);
        }
    }

    #[test]
    fn setpoints_act_on_the_process() {
        let mut vessel = Vessel::new(0, 7);
        vessel.set.fill = 40.0;
        vessel.set.temperature = 60.0;
        let (mut level, mut temperature) = (0.0f64, 0.0f64);
        for _ in 0..3_000 {
            vessel.step();
            level = level.max(vessel.level);
            temperature = temperature.max(vessel.temperature);
        }
        assert!((37.5..43.0).contains(&level) && (59.0..64.0).contains(&temperature), "{level} {temperature}");
    }
}
