//! Drying and packing: the press squeezes the wet fibre, a belt carries it through four zones of warm air, the mill grinds it, and
//! what is ground waits in one of three silos until it is bagged.

use super::{STEP_S, jitter};
use rand::SeedableRng;
use rand_pcg::Pcg64Mcg;

/// Zones of the belt dryer.
pub const ZONES: usize = 4;
/// A mill that takes too much power for so long is switched off by its drive.
const TRIPS_AFTER_S: f64 = 20.0;
/// Powder silos.
pub const SILOS: usize = 3;

/// The grades, one in each silo.
pub const GRADES: [&str; SILOS] = ["LV", "MV", "HV"];

/// One zone of the belt dryer.
#[derive(Clone, Debug)]
pub struct Zone {
    /// °C
    pub setpoint: f64,
    /// °C
    pub temperature: f64,
    /// Relative, in %.
    pub humidity: f64,
    /// Speed of its fan, in %.
    pub fan: f64,
    /// Opening of its steam valve, in %.
    pub valve: f64,
    integral: f64,
}

/// What the bagging machine does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Bagging {
    Stopped,
    Filling,
    Sealing,
    Waiting,
}

impl Bagging {
    /// Its states as they are called, by their number.
    pub const NAMES: [&str; 4] = ["Stopped", "Filling", "Sealing", "Waiting"];
}

/// Drying and packing.
#[derive(Clone, Debug)]
pub struct Dryline {
    /// Speed of the press, in rpm, and what is wanted.
    pub press_speed: f64,
    pub press_setpoint: f64,
    /// % of its nominal torque.
    pub press_torque: f64,
    /// Water left in the cake, in %.
    pub cake: f64,
    pub zones: [Zone; ZONES],
    /// m/min
    pub belt: f64,
    pub belt_setpoint: f64,
    /// Depth of the bed, in mm.
    pub bed: f64,
    /// Water left in the product, in %.
    pub moisture: f64,
    /// kW
    pub mill_power: f64,
    /// mm/s
    pub mill_vibration: f64,
    pub mill_allowed: bool,
    /// A lump is in the mill.
    pub jammed: bool,
    /// For how many seconds.
    jammed_s: f64,
    /// kg/h
    pub product: f64,
    /// Powder in each silo, in t.
    pub silos: [f64; SILOS],
    /// Which silo is filled, from 0.
    pub filling: usize,
    pub bagging: Bagging,
    /// kg in the bag on the scale.
    pub bag: f64,
    /// What a bag should hold, in kg.
    pub bag_setpoint: f64,
    /// Bags since somebody reset the counter.
    pub bags: u32,
    /// Bags ever.
    pub bags_ever: u64,
    /// Bags whose weight was out of tolerance.
    pub rejected: u32,
    /// Weight of the last bags, in kg.
    pub last_bags: [f64; 8],
    in_state: f64,
    noise: Pcg64Mcg,
}

/// What a silo holds at most, in t.
pub const SILO_T: f64 = 12.0;

impl Dryline {
    pub(super) fn new(seed: u64) -> Dryline {
        let zone = |n: usize| {
            let setpoint = [92.0, 86.0, 78.0, 64.0][n];
            Zone { setpoint, temperature: setpoint - 4.0, humidity: 40.0, fan: 70.0, valve: 40.0, integral: 40.0 }
        };
        Dryline {
            press_speed: 4.2,
            press_setpoint: 4.2,
            press_torque: 55.0,
            cake: 68.0,
            zones: std::array::from_fn(zone),
            belt: 1.1,
            belt_setpoint: 1.1,
            bed: 62.0,
            moisture: 11.5,
            mill_power: 24.0,
            mill_vibration: 2.1,
            mill_allowed: true,
            jammed: false,
            jammed_s: 0.0,
            product: 410.0,
            silos: [3.1, 6.4, 2.2],
            filling: 1,
            bagging: Bagging::Waiting,
            bag: 0.0,
            bag_setpoint: 25.0,
            bags: 118,
            bags_ever: 48_211,
            rejected: 2,
            last_bags: [25.0; 8],
            in_state: 0.0,
            noise: Pcg64Mcg::seed_from_u64(seed ^ 0xd217),
        }
    }

    /// Lets one step pass. `powered`: the mains can feed the mill.
    pub(super) fn step(&mut self, powered: bool) {
        let gust = jitter(&mut self.noise);
        self.press_speed += (self.press_setpoint - self.press_speed) * STEP_S / 4.0;
        let torque = if self.press_speed > 0.1 { 34.0 + 5.0 * self.press_speed + 2.5 * gust } else { 0.0 };
        self.press_torque += (torque - self.press_torque) * STEP_S / 3.0;
        // A press that turns faster squeezes less.
        let cake = 60.0 + 1.9 * self.press_speed + 0.4 * gust;
        self.cake += (cake - self.cake) * STEP_S / 60.0;
        self.belt += (self.belt_setpoint - self.belt) * STEP_S / 5.0;
        let bed = (14.8 * self.press_speed / self.belt.max(0.1)).clamp(0.0, 140.0);
        self.bed += (bed + gust - self.bed) * STEP_S / 30.0;
        let wet = self.press_speed * self.cake / 100.0;
        for zone in &mut self.zones {
            let off = zone.setpoint - zone.temperature;
            zone.integral = (zone.integral + off * STEP_S * 0.012).clamp(0.0, 100.0);
            zone.valve = (zone.integral + 1.6 * off).clamp(0.0, 100.0);
            let loss = 0.006 * (zone.temperature - 22.0) + 0.035 * wet;
            zone.temperature += (0.0125 * zone.valve - loss + 0.05 * gust) * STEP_S;
            let humidity = 12.0 + 9.5 * wet + 0.25 * (95.0 - zone.temperature) + gust;
            zone.humidity += (humidity.clamp(3.0, 98.0) - zone.humidity) * STEP_S / 45.0;
            zone.fan += (70.0 + 4.0 * gust - zone.fan) * STEP_S / 8.0;
        }
        let heat: f64 = self.zones.iter().map(|z| z.temperature).sum::<f64>() / ZONES as f64;
        let dried = 11.0 + 0.11 * (self.bed - 60.0) + 0.24 * (self.cake - 68.0) - 0.16 * (heat - 79.0) + 3.0 * (self.belt - 1.1);
        self.moisture = (self.moisture + (dried - self.moisture) * STEP_S / 180.0).clamp(2.0, 60.0);
        self.jammed_s = if self.jammed { self.jammed_s + STEP_S } else { 0.0 };
        let runs = self.mill_allowed && powered && self.bed > 5.0 && self.jammed_s < TRIPS_AFTER_S;
        let product = if runs { 6.1 * self.bed * self.belt } else { 0.0 };
        self.product += (product - self.product) * STEP_S / 20.0;
        let power = if runs { 9.0 + 0.036 * self.product + 0.5 * gust } else { 0.0 };
        let power = if runs && self.jammed { 58.0 + gust } else { power };
        self.mill_power += (power - self.mill_power) * STEP_S / 2.0;
        let vibration = if runs { 1.4 + 0.03 * (self.moisture - 8.0).max(0.0) * 8.0 + 0.2 * gust } else { 0.1 };
        let vibration = if runs && self.jammed { 9.0 + gust } else { vibration };
        self.mill_vibration += (vibration - self.mill_vibration) * STEP_S / 4.0;
        self.silos[self.filling] += self.product / 1000.0 / 3600.0 * STEP_S;
        if self.silos[self.filling] > SILO_T * 0.94 {
            self.filling = (self.filling + 1) % SILOS;
        }
        self.pack(gust);
    }

    /// The silo that holds most, but is not being filled, is bagged.
    fn source(&self) -> usize {
        let others = (0..SILOS).filter(|n| *n != self.filling);
        others.max_by(|a, b| self.silos[*a].total_cmp(&self.silos[*b])).unwrap_or(0)
    }

    fn pack(&mut self, gust: f64) {
        self.in_state += STEP_S;
        let source = self.source();
        let enough = self.silos[source] > 0.2;
        let next = match self.bagging {
            Bagging::Stopped => None,
            Bagging::Waiting if enough && self.in_state > 40.0 => Some(Bagging::Filling),
            Bagging::Filling if self.bag >= self.bag_setpoint => Some(Bagging::Sealing),
            Bagging::Sealing if self.in_state > 6.0 => Some(Bagging::Waiting),
            _ => None,
        };
        if self.bagging == Bagging::Filling && next.is_none() {
            // The last kilograms trickle.
            let rate = if self.bag_setpoint - self.bag > 2.0 { 1.9 } else { 0.4 };
            let poured = (rate + 0.08 * gust).max(0.0) * STEP_S;
            self.bag += poured;
            self.silos[source] = (self.silos[source] - poured / 1000.0).max(0.0);
        }
        let Some(next) = next else { return };
        if next == Bagging::Sealing {
            self.bags = self.bags.wrapping_add(1);
            self.bags_ever += 1;
            self.rejected += u32::from((self.bag - self.bag_setpoint).abs() > 0.06);
            self.last_bags.rotate_right(1);
            self.last_bags[0] = self.bag;
        } else if next == Bagging::Waiting {
            self.bag = 0.0;
        }
        (self.bagging, self.in_state) = (next, 0.0);
    }
}
