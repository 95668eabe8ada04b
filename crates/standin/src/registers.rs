//! How the controllers show the plant: registers and bits, taken in from the sensors at every step.

use crate::{
    faults::{Fault, Faults, LONGEST, Which},
    maps,
    points::{Bound, Form, Reading, Table},
    process::{Process, jitter},
};
use rand::SeedableRng;
use rand_pcg::Pcg64Mcg;
use std::time::{Duration, Instant};

/// Why a request is refused.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refusal {
    Address,
    Value,
}

/// One controller's points and what its registers hold. What no point uses does not exist.
pub struct Controller {
    pub which: Which,
    pub points: Vec<Bound>,
    words: Vec<Option<u16>>,
    coils: Vec<Option<bool>>,
    inputs: Vec<Option<bool>>,
}

impl Controller {
    fn new(which: Which, points: Vec<Bound>) -> Controller {
        let end = |table: Table| {
            let ends = points.iter().filter(|p| p.table == table).map(|p| usize::from(p.address + p.form.width()));
            ends.max().unwrap_or(0)
        };
        let words = vec![None; end(Table::Holding)];
        let (coils, inputs) = (vec![None; end(Table::Coil)], vec![None; end(Table::Discrete)]);
        Controller { which, points, words, coils, inputs }
    }

    /// The number with which its manual begins to count.
    pub fn base(&self) -> u16 {
        match self.which {
            Which::Extraction => 0,
            Which::Wash => 1,
        }
    }

    /// How 32-bit values stand in two registers.
    pub fn order(&self) -> &'static str {
        if self.low_first() { "CDAB" } else { "ABCD" }
    }

    fn low_first(&self) -> bool {
        self.which == Which::Wash
    }

    fn show(&mut self, index: usize, reading: &Reading) {
        let point = &self.points[index];
        let at = usize::from(point.address);
        let low_first = self.low_first();
        let double = |bits: u32| {
            let (high, low) = ((bits >> 16) as u16, bits as u16);
            if low_first { [low, high] } else { [high, low] }
        };
        let mut put = |words: &[u16]| {
            for (slot, &word) in self.words[at..].iter_mut().zip(words) {
                *slot = Some(word);
            }
        };
        match (reading, point.form) {
            (Reading::Number(v), Form::Tenths) => put(&[(v * 10.0).round().clamp(0.0, 65_535.0) as u16]),
            (Reading::Number(v), Form::SignedTenths) => put(&[(v * 10.0).round().clamp(-32_768.0, 32_767.0) as i16 as u16]),
            (Reading::Number(v), Form::Count) => put(&[*v as u16]),
            (Reading::Number(v), Form::Long) => put(&double(*v as u32)),
            (Reading::Number(v), Form::Float(_)) => put(&double((*v as f32).to_bits())),
            (Reading::Number(v), Form::Bit) => {
                let bits = if point.table == Table::Coil { &mut self.coils } else { &mut self.inputs };
                bits[at] = Some(*v != 0.0);
            }
            (Reading::Text(text), form) => {
                let mut bytes = text.bytes();
                let next = |bytes: &mut std::str::Bytes| bytes.next().unwrap_or(0);
                let words: Vec<u16> =
                    (0..form.width()).map(|_| u16::from_be_bytes([next(&mut bytes), next(&mut bytes)])).collect();
                put(&words);
            }
            (Reading::Number(_), Form::Text(_)) => {}
        }
    }

    /// Registers; all must exist.
    pub fn read(&self, start: u16, count: u16) -> Result<Vec<u16>, Refusal> {
        held(&self.words, start, count)
    }

    /// Coils or discrete inputs; all must exist.
    pub fn read_bits(&self, start: u16, count: u16, table: Table) -> Result<Vec<bool>, Refusal> {
        held(if table == Table::Coil { &self.coils } else { &self.inputs }, start, count)
    }

    fn settable(&self, table: Table, address: u16) -> Result<usize, Refusal> {
        let found = self.points.iter().position(|p| p.table == table && p.address == address && p.set.is_some());
        found.ok_or(Refusal::Address)
    }
}

fn held<T: Copy>(all: &[Option<T>], start: u16, count: u16) -> Result<Vec<T>, Refusal> {
    let start = usize::from(start);
    let span = all.get(start..start + usize::from(count)).ok_or(Refusal::Address)?;
    span.iter().copied().collect::<Option<Vec<T>>>().ok_or(Refusal::Address)
}

/// The process with its controllers and all that is made to go wrong.
pub struct Works {
    pub process: Process,
    pub controllers: [Controller; 2],
    pub(crate) faults: Faults,
    noise: Pcg64Mcg,
}

impl Works {
    /// A plant with some vessels; the same seed gives the same plant.
    pub fn new(vessels: usize, seed: u64) -> Works {
        Works::of(Process::new(vessels, seed), seed)
    }

    /// Puts controllers around a process that already ran.
    pub fn of(process: Process, seed: u64) -> Works {
        let extraction = Controller::new(Which::Extraction, maps::extraction(process.vessels.len()));
        let controllers = [extraction, Controller::new(Which::Wash, maps::wash())];
        let mut works = Works { process, controllers, faults: Faults::default(), noise: Pcg64Mcg::seed_from_u64(seed ^ 0x5e) };
        works.scan(&[]);
        works
    }

    /// One of its controllers.
    pub fn controller(&self, which: Which) -> &Controller {
        &self.controllers[which as usize]
    }

    /// Lets one step of model time pass and takes in the sensors.
    pub fn step(&mut self, now: Instant) {
        self.process.step();
        let frozen: Vec<(String, String)> = self.faults.on(now).filter_map(|(f, _)| frozen(f)).collect();
        self.scan(&frozen);
    }

    fn scan(&mut self, frozen: &[(String, String)]) {
        for controller in &mut self.controllers {
            for index in 0..controller.points.len() {
                let point = &controller.points[index];
                if frozen.iter().any(|(place, name)| *place == point.place && *name == point.name) {
                    continue;
                }
                let reading = sense(point, &self.process, &mut self.noise);
                controller.show(index, &reading);
            }
        }
    }

    /// Writes setpoints; nothing is written where one may not be.
    ///
    /// # Errors
    /// A register that cannot be written, or a value outside the point's range.
    pub fn write(&mut self, which: Which, start: u16, words: &[u16]) -> Result<(), Refusal> {
        let controller = &mut self.controllers[which as usize];
        let mut wanted = Vec::with_capacity(words.len());
        for (i, &word) in words.iter().enumerate() {
            let index = controller.settable(Table::Holding, start.checked_add(i as u16).ok_or(Refusal::Address)?)?;
            let point = &controller.points[index];
            let raw = if point.form == Form::SignedTenths { f64::from(word as i16) } else { f64::from(word) };
            let value = raw / 10.0;
            if point.range.is_some_and(|(low, high)| !(low..=high).contains(&value)) {
                return Err(Refusal::Value);
            }
            wanted.push((index, value));
        }
        self.put(which, &wanted);
        Ok(())
    }

    /// Writes one coil.
    ///
    /// # Errors
    /// A coil that does not exist.
    pub fn write_bit(&mut self, which: Which, address: u16, on: bool) -> Result<(), Refusal> {
        let index = self.controllers[which as usize].settable(Table::Coil, address)?;
        self.put(which, &[(index, f64::from(u8::from(on)))]);
        Ok(())
    }

    fn put(&mut self, which: Which, values: &[(usize, f64)]) {
        let controller = &mut self.controllers[which as usize];
        for &(index, value) in values {
            if let Some(set) = &controller.points[index].set {
                set(&mut self.process, value);
            }
            controller.show(index, &Reading::Number(value));
        }
    }

    /// Makes something go wrong for a while.
    ///
    /// # Errors
    /// What the plant does not have, in words.
    pub fn begin(&mut self, fault: Fault, now: Instant, lasts: Duration) -> Result<(), String> {
        let there = match &fault {
            Fault::Process { upset } => self.process.upset(*upset, lasts.min(LONGEST).as_secs_f64()),
            Fault::Freeze { place, point } => {
                let mut points = self.controllers.iter().flat_map(|c| &c.points);
                points.any(|p| p.place == *place && p.name == *point) && self.faults.begin(fault.clone(), now, lasts)
            }
            _ => self.faults.begin(fault.clone(), now, lasts),
        };
        if there { Ok(()) } else { Err(format!("not possible here: {fault}")) }
    }

    /// All that is wrong, with the seconds it still lasts.
    pub fn wrong(&self, now: Instant) -> Vec<(Fault, f64)> {
        let wires = self.faults.on(now).map(|(f, left)| (f.clone(), left.as_secs_f64()));
        wires.chain(self.process.upsets().map(|(upset, left)| (Fault::Process { upset }, left))).collect()
    }

    /// Ends all that is wrong.
    pub fn calm(&mut self) {
        self.faults.clear();
        self.process.calm();
    }
}

fn frozen(fault: &Fault) -> Option<(String, String)> {
    match fault {
        Fault::Freeze { place, point } => Some((place.clone(), point.clone())),
        _ => None,
    }
}

/// What the sensor of a point shows: noise first, then the grain of the converter.
pub fn sense(point: &Bound, process: &Process, noise: &mut Pcg64Mcg) -> Reading {
    let reading = (point.get)(process);
    let Reading::Number(mut value) = reading else { return reading };
    if point.noise > 0.0 {
        value += point.noise * jitter(noise);
        if let Some((low, high)) = point.range {
            value = value.clamp(low, high);
        }
    }
    Reading::Number(match point.form {
        Form::Float(grain) => (value / grain).round() * grain,
        Form::Tenths | Form::SignedTenths => (value * 10.0).round() / 10.0,
        _ => value.floor(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::maps::STRIDE;
    use rstest::rstest;

    fn works(vessels: usize) -> Works {
        Works::new(vessels, 7)
    }

    #[test]
    fn blocks_are_equal_and_gaps_are_refused() {
        let works = works(2);
        let extraction = works.controller(Which::Extraction);
        for start in [0, STRIDE] {
            let words = extraction.read(start, 26).unwrap();
            assert!((1..=5).contains(&words[1]));
            assert_eq!(words[16], u16::from_be_bytes(*b"KX"));
        }
        assert_eq!(extraction.read(26, 1), Err(Refusal::Address));
        assert_eq!(extraction.read(2 * STRIDE, 1), Err(Refusal::Address));
        assert_eq!(extraction.read(65_535, 2), Err(Refusal::Address));
    }

    #[test]
    fn no_two_points_share_a_register() {
        for controller in &works(4).controllers {
            let mut taken = std::collections::HashSet::new();
            for point in &controller.points {
                for at in point.address..point.address + point.form.width() {
                    assert!(taken.insert((point.table, at)), "{} {at} of {}", point.table.word(), point.place);
                }
                let setpoint = |p: &Bound| p.place == point.place && p.name == point.setpoint;
                assert!(point.setpoint.is_empty() || controller.points.iter().any(setpoint), "{}", point.name);
            }
        }
    }

    #[rstest]
    #[case(11, 600, Ok(()))]
    #[case(11, 1200, Err(Refusal::Value))]
    #[case(0, 5, Err(Refusal::Address))]
    #[case(500, 5, Err(Refusal::Address))]
    fn only_setpoints_can_be_written(#[case] at: u16, #[case] word: u16, #[case] expected: Result<(), Refusal>) {
        assert_eq!(works(1).write(Which::Extraction, at, &[word]), expected);
    }

    #[test]
    fn a_written_setpoint_reads_back_and_half_a_write_does_nothing() {
        let mut works = works(1);
        works.write(Which::Extraction, 11, &[600, 300]).unwrap();
        assert_eq!(works.controller(Which::Extraction).read(11, 2), Ok(vec![600, 300]));
        assert_eq!(works.write(Which::Extraction, 12, &[100, 2000]), Err(Refusal::Value));
        assert_eq!(works.controller(Which::Extraction).read(12, 1), Ok(vec![300]));
        works.write_bit(Which::Extraction, 1, false).unwrap();
        assert_eq!(works.controller(Which::Extraction).read_bits(0, 2, Table::Coil), Ok(vec![true, false]));
    }

    #[test]
    fn a_frozen_sensor_stands_still_and_goes_on_afterwards() {
        let mut works = works(1);
        let now = Instant::now();
        let fault = Fault::Freeze { place: "Extraction/EX-1".into(), point: "Temperature".into() };
        works.begin(fault.clone(), now, Duration::from_secs(5)).unwrap();
        let unknown = Fault::Freeze { place: "Extraction/EX-9".into(), point: "Temperature".into() };
        assert!(works.begin(unknown, now, Duration::from_secs(5)).is_err());
        let shown = |w: &Works| w.controller(Which::Extraction).read(2, 2).unwrap();
        let before = shown(&works);
        (0..3000).for_each(|_| works.step(now));
        assert_eq!(shown(&works), before);
        assert_eq!(works.wrong(now)[0].0, fault);
        works.step(now + Duration::from_secs(6));
        assert_ne!(shown(&works), before);
    }
}
