//! The process: what happens in the plant, in fixed steps and seeded, so that the same seed gives the same plant.
//!
//! Kelp goes from the [`Hopper`] over the [`Conveyor`] through one of two [`Tank`]s into the [`Leach`] vessel; the
//! extraction [`Vessel`]s run their own repeated runs, the [`Dryline`] dries and packs, and the
//! [`Utilities`] give steam, air and power, the [`Effluent`] leaves at the shore, and there is [`Weather`]. [`Upset`]s come now and then by themselves, and on command.

mod dryline;
mod effluent;
mod landing;
mod leach;
mod utilities;
mod vessel;
mod weather;

pub use dryline::{Bagging, Dryline, GRADES, SILO_T, SILOS, ZONES};
pub use effluent::Effluent;
pub use landing::{Conveyor, Cycle, Hopper, Tank};
pub use leach::Leach;
pub use utilities::{METERS, Utilities};
pub use vessel::{Phase, Setpoints, Vessel};
pub use weather::Weather;

use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;
use serde::{Deserialize, Serialize};

/// Model time of one step, in seconds.
pub const STEP_S: f64 = 0.1;

/// Wash tanks in the plant.
pub const TANKS: usize = 2;

/// Something that goes wrong in the process itself. Numbers count from 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "upset", rename_all = "snake_case")]
pub enum Upset {
    /// The pump of a wash tank trips.
    PumpTrip { tank: usize },
    /// The filter of a wash tank blinds within a minute.
    BlindFilter { tank: usize },
    /// The pH probe of a vessel drifts downwards.
    PhDrift { vessel: usize },
    /// A lump jams the mill: it shakes, takes too much power, and its drive trips.
    MillJam,
    /// The voltage of the mains is low; the mill stops.
    VoltageDip,
    /// The cable of the hopper's level probe is loose: its reading drops out again and again.
    LooseCable,
}

/// Something between -1 and 1, more often near 0.
pub(crate) fn jitter(noise: &mut Pcg64Mcg) -> f64 {
    (0..3).map(|_| noise.random_range(-1.0..1.0)).sum::<f64>() / 3.0
}

/// The whole plant.
#[derive(Clone, Debug)]
pub struct Process {
    pub hopper: Hopper,
    pub conveyor: Conveyor,
    pub tanks: [Tank; TANKS],
    pub leach: Leach,
    pub vessels: Vec<Vessel>,
    pub dryline: Dryline,
    pub utilities: Utilities,
    pub weather: Weather,
    pub effluent: Effluent,
    /// Steps since the start.
    pub steps: u64,
    /// What is wrong, and until which step.
    upsets: Vec<(Upset, u64)>,
    luck: Pcg64Mcg,
}

/// On average so many seconds pass between two upsets that come by themselves, and each lasts so many.
const UPSET_EVERY_S: f64 = 5400.0;
const UPSET_FOR_S: f64 = 300.0;

impl Process {
    /// A plant with some extraction vessels; the same seed gives the same plant.
    pub fn new(vessels: usize, seed: u64) -> Process {
        Process {
            hopper: Hopper::new(seed),
            conveyor: Conveyor::new(seed),
            tanks: [Tank::new(0, seed), Tank::new(1, seed)],
            leach: Leach::new(seed),
            vessels: (0..vessels).map(|n| Vessel::new(n, seed)).collect(),
            dryline: Dryline::new(seed),
            utilities: Utilities::new(seed),
            weather: Weather::new(seed),
            effluent: Effluent::new(seed),
            steps: 0,
            upsets: Vec::new(),
            luck: Pcg64Mcg::seed_from_u64(seed ^ 0x5eed),
        }
    }

    /// Lets [`STEP_S`] seconds pass.
    pub fn step(&mut self) {
        self.steps += 1;
        self.upsets.retain(|(_, until)| *until > self.steps);
        if self.luck.random_range(0.0..1.0) < STEP_S / UPSET_EVERY_S {
            let upset = match self.luck.random_range(0..4u8) {
                0 => Upset::PumpTrip { tank: self.luck.random_range(1..=TANKS) },
                1 | 2 => Upset::BlindFilter { tank: self.luck.random_range(1..=TANKS) },
                _ => Upset::PhDrift { vessel: self.luck.random_range(1..=self.vessels.len().max(1)) },
            };
            self.upset(upset, UPSET_FOR_S);
        }
        let washing = self.tanks.iter().position(|t| t.cycle == Cycle::Wash);
        self.conveyor.step(self.hopper.weight > 0.2);
        self.hopper.loose = self.upsets.iter().any(|(u, _)| *u == Upset::LooseCable);
        self.hopper.step(self.conveyor.flow);
        for (n, tank) in self.tanks.iter_mut().enumerate() {
            let weed = if washing == Some(n) { self.conveyor.flow } else { 0.0 };
            tank.tripped = self.upsets.iter().any(|(u, _)| *u == Upset::PumpTrip { tank: n + 1 });
            tank.blinding = self.upsets.iter().any(|(u, _)| *u == Upset::BlindFilter { tank: n + 1 });
            tank.step(weed);
        }
        self.leach.step(if washing.is_some() { self.conveyor.flow } else { 0.0 });
        for (n, vessel) in self.vessels.iter_mut().enumerate() {
            let drifts = self.upsets.iter().any(|(u, _)| *u == Upset::PhDrift { vessel: n + 1 });
            vessel.ph_error = if drifts { (vessel.ph_error - 0.02 * STEP_S).max(-2.5) } else { 0.0 };
            vessel.step();
        }
        let is_on = |upset: Upset| self.upsets.iter().any(|(u, _)| *u == upset);
        self.dryline.jammed = is_on(Upset::MillJam);
        self.utilities.dips = is_on(Upset::VoltageDip);
        self.dryline.step(!self.utilities.dips);
        self.utilities.step();
        self.weather.step();
        self.effluent.step();
    }

    /// Begins an upset, or prolongs it. Gives whether the plant has what it concerns.
    pub fn upset(&mut self, upset: Upset, seconds: f64) -> bool {
        let there = match upset {
            Upset::PumpTrip { tank } | Upset::BlindFilter { tank } => (1..=TANKS).contains(&tank),
            Upset::PhDrift { vessel } => (1..=self.vessels.len()).contains(&vessel),
            Upset::MillJam | Upset::VoltageDip | Upset::LooseCable => true,
        };
        if there {
            let until = self.steps + (seconds.max(0.0) / STEP_S) as u64;
            self.upsets.retain(|(u, _)| *u != upset);
            self.upsets.push((upset, until));
        }
        there
    }

    /// What is wrong now, with the seconds of model time it still lasts.
    pub fn upsets(&self) -> impl Iterator<Item = (Upset, f64)> {
        self.upsets.iter().map(|(upset, until)| (*upset, until.saturating_sub(self.steps) as f64 * STEP_S))
    }

    /// Ends every upset.
    pub fn calm(&mut self) {
        self.upsets.clear();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(process: &mut Process, seconds: f64) {
        for _ in 0..(seconds / STEP_S) as u64 {
            process.step();
        }
    }

    #[test]
    fn a_day_stays_physical_and_repeats_itself() {
        let (mut a, mut b) = (Process::new(1, 5), Process::new(1, 5));
        let mut cycles = std::collections::HashSet::new();
        for _ in 0..864_000 {
            a.step();
            cycles.insert(a.tanks[0].cycle as u16);
            assert!((0.0..=40.0).contains(&a.hopper.weight) && (0.0..=100.0).contains(&a.leach.level));
            assert!((8.0..=95.0).contains(&a.leach.temperature) && (6.0..=11.0).contains(&a.leach.ph), "{:?}", a.leach);
            for tank in &a.tanks {
                assert!((0.0..=100.0).contains(&tank.level) && (0.0..=1.0).contains(&tank.blinded));
                assert!((0.0..=400.0).contains(&tank.turbidity) && tank.flow >= 0.0);
            }
        }
        assert_eq!(cycles.len(), 3);
        assert!(a.hopper.delivered > 500.0 && a.leach.soda > 10.0);
        run(&mut b, 86_400.0);
        assert_eq!((a.hopper.weight, a.tanks[1].level, a.leach.ph), (b.hopper.weight, b.tanks[1].level, b.leach.ph));
    }

    #[test]
    fn upsets_act_and_end() {
        let mut process = Process::new(1, 5);
        run(&mut process, 200.0);
        process.calm();
        assert!(!process.upset(Upset::PumpTrip { tank: 3 }, 60.0) && !process.upset(Upset::PhDrift { vessel: 0 }, 60.0));
        assert!(process.upset(Upset::PumpTrip { tank: 1 }, 60.0) && process.upset(Upset::PumpTrip { tank: 2 }, 60.0));
        assert!(process.upset(Upset::PhDrift { vessel: 1 }, 60.0) && process.upset(Upset::BlindFilter { tank: 1 }, 60.0));
        run(&mut process, 30.0);
        assert!(process.tanks.iter().all(|t| t.tripped && t.flow < 0.5));
        assert!(process.vessels[0].ph_error < -0.4 && process.tanks[0].blinded > 0.4);
        assert!(process.upset(Upset::MillJam, 30.0) && process.upset(Upset::VoltageDip, 30.0));
        run(&mut process, 15.0);
        let voltages = |process: &Process| process.utilities.meters.iter().flat_map(|m| m.voltage).collect::<Vec<_>>();
        assert!(process.dryline.mill_power < 1.0 && voltages(&process).iter().all(|v| *v < 207.0), "without voltage it stands");
        run(&mut process, 16.0);
        assert!(process.upsets().count() == 0 && !process.tanks[0].tripped && process.vessels[0].ph_error == 0.0);
        run(&mut process, 60.0);
        assert!(process.dryline.mill_power > 10.0 && voltages(&process).iter().all(|v| *v > 220.0));
        process.upset(Upset::MillJam, 60.0);
        run(&mut process, 17.0);
        assert!(process.dryline.mill_power > 52.0 && process.dryline.mill_vibration > 4.5);
        run(&mut process, 20.0);
        assert!(process.dryline.mill_power < 1.0, "its drive has tripped");
        process.upset(Upset::LooseCable, 20.0);
        let mut levels = (0..20).map(|_| {
            run(&mut process, 1.0);
            process.hopper.level()
        });
        let dropouts = levels.by_ref().filter(|level| *level == 0.0).count();
        assert!((5..=9).contains(&dropouts), "{dropouts} of 20 seconds");
        run(&mut process, 1.0);
        assert!(process.hopper.level() > 0.0);
    }
}
