//! How the controller shows its vessels: equal blocks at a fixed stride.
//!
//! Holding registers, vessel `n` (from 0) at `n × 40`, counted from 0; input registers are the same and only readable:
//!
//! | offset | holds | type |
//! |---|---|---|
//! | 0 | level | u16, 0.1 % |
//! | 1 | phase: 1 fill, 2 heat, 3 hold, 4 discharge, 5 rinse | u16 |
//! | 2 | temperature | f32, °C |
//! | 4 | pH | f32 |
//! | 6 | agitator speed | f32, rpm |
//! | 8 | agitator current | f32, A |
//! | 10 | heating valve | u16, 0.1 % |
//! | 11 | temperature setpoint, writable | i16, 0.1 °C |
//! | 12 | agitator setpoint, writable | u16, 0.1 rpm |
//! | 13 | fill setpoint, writable | u16, 0.1 % |
//! | 14 | steam used | u32, kg |
//! | 16 to 23 | run id | text |
//! | 24 to 25 | grade | text |
//! | 26 | counts every second | u16 |
//!
//! Bits, vessel `n` at `n × 8`: coils 0 heating allowed, 1 agitator on (both writable); discrete inputs 0 inlet open,
//! 1 outlet open, 2 heating, 3 agitator running.

use crate::vessel::{STEP_S, Vessel};

/// Registers from one vessel to the next.
pub const STRIDE: u16 = 40;
/// Registers of a block that hold something.
pub const USED: u16 = 27;
/// Bits from one vessel to the next.
pub const BITS: u16 = 8;

/// The controller with its vessels.
pub struct Controller {
    pub vessels: Vec<Vessel>,
    blocks: Vec<[u16; USED as usize]>,
    steps: u64,
}

/// Why a request is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refusal {
    Address,
    Value,
}

impl Controller {
    /// A controller with some vessels; the same seed gives the same plant.
    pub fn new(vessels: usize, seed: u64) -> Controller {
        let vessels: Vec<_> = (0..vessels).map(|n| Vessel::new(n, seed)).collect();
        let mut controller = Controller { blocks: vec![[0; USED as usize]; vessels.len()], vessels, steps: 0 };
        controller.step();
        controller
    }

    /// Lets one step of model time pass and takes in the sensors.
    pub fn step(&mut self) {
        self.steps += 1;
        let seconds = (self.steps as f64 * STEP_S) as u64;
        for (vessel, block) in self.vessels.iter_mut().zip(&mut self.blocks) {
            vessel.step();
            scan(vessel, seconds, block);
        }
    }

    /// Registers; all must exist.
    pub fn read(&self, start: u16, count: u16) -> Result<Vec<u16>, Refusal> {
        (0..count).map(|i| self.register(start.checked_add(i).ok_or(Refusal::Address)?)).collect()
    }

    fn register(&self, address: u16) -> Result<u16, Refusal> {
        let block = self.blocks.get(usize::from(address / STRIDE));
        block.and_then(|b| b.get(usize::from(address % STRIDE))).copied().ok_or(Refusal::Address)
    }

    /// Writes setpoints; nothing is written where one may not be.
    pub fn write(&mut self, start: u16, words: &[u16]) -> Result<(), Refusal> {
        for (i, &word) in words.iter().enumerate() {
            let address = start.checked_add(i as u16).ok_or(Refusal::Address)?;
            self.register(address)?;
            let highest = match address % STRIDE {
                11 => 1100,
                12 => 900,
                13 => 950,
                _ => return Err(Refusal::Address),
            };
            if word > highest {
                return Err(Refusal::Value);
            }
        }
        for (i, &word) in words.iter().enumerate() {
            let address = start + i as u16;
            let number = usize::from(address / STRIDE);
            let value = f64::from(word) / 10.0;
            let set = &mut self.vessels[number].set;
            match address % STRIDE {
                11 => set.temperature = value,
                12 => set.agitator = value,
                _ => set.fill = value,
            }
            self.blocks[number][usize::from(address % STRIDE)] = word;
        }
        Ok(())
    }

    /// Coils (`writable`) or discrete inputs; all must exist.
    pub fn read_bits(&self, start: u16, count: u16, writable: bool) -> Result<Vec<bool>, Refusal> {
        let bit = |address: u16| {
            let vessel = self.vessels.get(usize::from(address / BITS)).ok_or(Refusal::Address)?;
            match (writable, address % BITS) {
                (true, 0) => Ok(vessel.set.heating_allowed),
                (true, 1) => Ok(vessel.set.agitator_on),
                (false, 0) => Ok(vessel.inlet_open),
                (false, 1) => Ok(vessel.outlet_open),
                (false, 2) => Ok(vessel.valve > 1.0),
                (false, 3) => Ok(vessel.speed > 1.0),
                _ => Err(Refusal::Address),
            }
        };
        (0..count).map(|i| bit(start.checked_add(i).ok_or(Refusal::Address)?)).collect()
    }

    /// Writes one coil.
    pub fn write_bit(&mut self, address: u16, on: bool) -> Result<(), Refusal> {
        let vessel = self.vessels.get_mut(usize::from(address / BITS)).ok_or(Refusal::Address)?;
        match address % BITS {
            0 => vessel.set.heating_allowed = on,
            1 => vessel.set.agitator_on = on,
            _ => return Err(Refusal::Address),
        }
        Ok(())
    }
}

/// The sensors of one vessel: noise first, then the grain of the converter.
fn scan(vessel: &mut Vessel, seconds: u64, block: &mut [u16; USED as usize]) {
    let tenths = |value: f64| (value * 10.0).round().clamp(0.0, 65_535.0) as u16;
    let mut float = |at: usize, value: f64, grain: f64| {
        let bits = (((value / grain).round() * grain) as f32).to_bits();
        block[at] = (bits >> 16) as u16;
        block[at + 1] = bits as u16;
    };
    let (a, b, c) = (vessel.jitter(), vessel.jitter(), vessel.jitter());
    float(2, vessel.temperature + 0.06 * a, 0.05);
    float(4, vessel.ph + 0.01 * b, 0.01);
    float(6, vessel.speed + if vessel.speed > 0.5 { 0.2 * c } else { 0.0 }, 0.1);
    float(8, vessel.current, 0.01);
    block[0] = tenths((vessel.level + 0.1 * a).clamp(0.0, 100.0));
    block[1] = vessel.phase as u16;
    block[10] = tenths(vessel.valve);
    block[11] = tenths(vessel.set.temperature);
    block[12] = tenths(vessel.set.agitator);
    block[13] = tenths(vessel.set.fill);
    let steam = vessel.steam as u32;
    block[14] = (steam >> 16) as u16;
    block[15] = steam as u16;
    text(&mut block[16..24], &vessel.run_id());
    text(&mut block[24..26], vessel.grade());
    block[26] = seconds as u16;
}

fn text(words: &mut [u16], text: &str) {
    let mut bytes = text.bytes();
    for word in words {
        *word = u16::from_be_bytes([bytes.next().unwrap_or(0), bytes.next().unwrap_or(0)]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn blocks_are_equal_and_gaps_are_refused() {
        let controller = Controller::new(2, 7);
        for start in [0, STRIDE] {
            let words = controller.read(start, USED).unwrap();
            assert!((1..=5).contains(&words[1]));
            assert_eq!(words[16], u16::from_be_bytes(*b"KX"));
        }
        assert_eq!(controller.read(USED, 1), Err(Refusal::Address));
        assert_eq!(controller.read(2 * STRIDE, 1), Err(Refusal::Address));
        assert_eq!(controller.read(65_535, 2), Err(Refusal::Address));
    }

    #[rstest]
    #[case(11, 600, Ok(()))]
    #[case(11, 1200, Err(Refusal::Value))]
    #[case(0, 5, Err(Refusal::Address))]
    #[case(500, 5, Err(Refusal::Address))]
    fn only_setpoints_can_be_written(#[case] at: u16, #[case] word: u16, #[case] expected: Result<(), Refusal>) {
        let mut controller = Controller::new(1, 7);
        assert_eq!(controller.write(at, &[word]), expected);
    }

    #[test]
    fn a_written_setpoint_reads_back_and_half_a_write_does_nothing() {
        let mut controller = Controller::new(1, 7);
        controller.write(11, &[600, 300]).unwrap();
        assert_eq!(controller.read(11, 2), Ok(vec![600, 300]));
        assert_eq!(controller.write(12, &[100, 2000]), Err(Refusal::Value));
        assert_eq!(controller.read(12, 1), Ok(vec![300]));
        controller.write_bit(1, false).unwrap();
        assert_eq!(controller.read_bits(0, 2, true), Ok(vec![true, false]));
    }
}
