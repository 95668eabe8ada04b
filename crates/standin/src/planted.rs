//! Faults that are planted: what moved before the plant shows them is found among the first that are named.

use crate::{
    history::Feeds,
    plant::tests::plant,
    process::{Process, STEP_S, Upset},
    registers::Works,
};
use havrel_core::{
    TagNo,
    alarm::before::{Moved, SPAN, USUAL, WINDOW, moved, worth},
    history::{Fold, Point, SpanFold},
    plant::Plant,
    sample::Value,
    time::{Nanos, SECOND},
};
use rand::SeedableRng;
use rand_pcg::Pcg64Mcg;
use std::collections::HashMap;
use uuid::Uuid;

/// Seconds of a past that says what is usual.
const PAST_S: i64 = (USUAL as i64 + 3 * WINDOW as i64) * SPAN / SECOND;
/// The longest a fault may take until it shows.
const SHOWS_S: i64 = 900;

/// A fault: what is done, where it shows and from which value on, and what may be named for it.
struct Planted {
    name: &'static str,
    plant: fn(&mut Process),
    /// It waits for the plant to be ready for it.
    ready: fn(&Process) -> bool,
    /// Of the value, and of what it was before.
    shows: (&'static str, fn(f64, f64) -> bool),
    causes: &'static [&'static str],
}

fn always(_: &Process) -> bool {
    true
}

fn washes(process: &Process, tank: usize) -> bool {
    process.tanks[tank].pump_runs() && process.tanks[tank].flow > 25.0
}

const PLANTED: [Planted; 10] = [
    Planted {
        name: "the press is set faster",
        plant: |p| p.dryline.press_setpoint = 6.2,
        ready: always,
        shows: ("Drying/Belt dryer/Product moisture", |v, was| v > was + 1.0),
        causes: &["Drying/Screw press/Speed", "Drying/Screw press/Speed setpoint", "Drying/Screw press/Torque"],
    },
    Planted {
        name: "the belt is set faster",
        plant: |p| p.dryline.belt_setpoint = 1.8,
        ready: always,
        shows: ("Drying/Belt dryer/Bed depth", |v, was| v < was * 0.8),
        causes: &["Drying/Belt dryer/Speed", "Drying/Belt dryer/Speed setpoint"],
    },
    Planted {
        name: "a zone is set colder",
        plant: |p| p.dryline.zones[1].setpoint = 50.0,
        ready: always,
        shows: ("Drying/Belt dryer/Product moisture", |v, was| v > was + 0.5),
        causes: &[
            "Drying/Belt dryer/Zone 2/Temperature",
            "Drying/Belt dryer/Zone 2/Temperature setpoint",
            "Drying/Belt dryer/Zone 2/Steam valve",
        ],
    },
    Planted {
        name: "the mill jams",
        plant: |p| assert!(p.upset(Upset::MillJam, 600.0)),
        ready: always,
        shows: ("Drying/Mill/Product flow", |v, _| v < 200.0),
        causes: &["Drying/Mill/Vibration", "Drying/Mill/Power"],
    },
    Planted {
        name: "the voltage is low",
        plant: |p| assert!(p.upset(Upset::VoltageDip, 600.0)),
        ready: always,
        shows: ("Utilities/Meter M1/Voltage L1", |v, _| v < 210.0),
        causes: &["Utilities/Meter M1/Voltage L2", "Utilities/Meter M1/Voltage L3", "Utilities/Meter M2/Voltage L1"],
    },
    Planted {
        name: "the first wash pump trips",
        plant: |p| assert!(p.upset(Upset::PumpTrip { tank: 1 }, 600.0)),
        ready: |p| washes(p, 0),
        shows: ("Landing/Wash tank 1/Water flow", |v, _| v < 5.0),
        causes: &["Landing/Wash tank 1/Pump/Tripped"],
    },
    Planted {
        name: "the second wash pump trips",
        plant: |p| assert!(p.upset(Upset::PumpTrip { tank: 2 }, 600.0)),
        ready: |p| washes(p, 1),
        shows: ("Landing/Wash tank 2/Water flow", |v, _| v < 5.0),
        causes: &["Landing/Wash tank 2/Pump/Tripped"],
    },
    Planted {
        name: "the filter of the first wash tank blinds",
        plant: |p| assert!(p.upset(Upset::BlindFilter { tank: 1 }, 600.0)),
        ready: |p| washes(p, 0),
        shows: ("Landing/Wash tank 1/Water flow", |v, _| v < 20.0),
        causes: &["Landing/Wash tank 1/Filter pressure drop"],
    },
    Planted {
        name: "the boiler is set higher",
        plant: |p| p.utilities.pressure_setpoint = 9.0,
        ready: always,
        shows: ("Utilities/Boiler/Steam pressure", |v, _| v > 8.8),
        causes: &["Utilities/Boiler/Pressure setpoint", "Utilities/Boiler/Gas flow"],
    },
    Planted {
        name: "the leach vessel gets less soda",
        plant: |p| p.leach.ph_setpoint = 8.2,
        ready: always,
        shows: ("Extraction/Leach vessel/pH", |v, _| v < 8.7),
        causes: &["Extraction/Leach vessel/pH setpoint", "Extraction/Leach vessel/Soda flow"],
    },
];

/// The plant at work, with what its tags held each second.
#[derive(Clone)]
struct Run {
    process: Process,
    noise: Pcg64Mcg,
    second: i64,
    held: HashMap<TagNo, Vec<Point>>,
}

impl Run {
    fn second(&mut self, feeds: &Feeds<'_>) {
        (0..(1.0 / STEP_S) as u32).for_each(|_| self.process.step());
        self.second += 1;
        let (at, held) = (self.second * SECOND, &mut self.held);
        feeds.read_all(&self.process, &mut self.noise, |tag, value| {
            let number = match value {
                Value::Text(_) => None,
                value => value.number(),
            };
            if let Some(number) = number {
                held.entry(tag).or_default().push(Point::of(at, number));
            }
        });
    }

    /// What moved before now, the most worth a look first.
    fn named(&self, plant: &Plant, shown: TagNo) -> Vec<(String, Moved)> {
        let now = self.second * SECOND;
        let parts = USUAL + WINDOW;
        let from = now - parts as Nanos * SPAN;
        let place = place_of(plant, shown);
        let mut all: Vec<(f64, String, Moved)> = Vec::new();
        for tag in plant.tags.values().filter(|tag| tag.no != shown && tag.set.record) {
            let Some(points) = self.held.get(&tag.no) else { continue };
            let mut fold = SpanFold::new(from, now, parts, now);
            points.iter().filter(|point| point.time >= from - SECOND).for_each(|point| fold.push(*point));
            let range = tag.set.range_low.zip(tag.set.range_high).map(|(low, high)| high - low);
            if let Some(found) = moved(&fold.finish(), range) {
                let steps = plant.steps_between(place, tag.set.place);
                all.push((worth(&found, steps, now), plant.tag_path(&tag.set), found));
            }
        }
        all.sort_by(|a, b| b.0.total_cmp(&a.0).then_with(|| a.1.cmp(&b.1)));
        all.into_iter().map(|(_, path, moved)| (path, moved)).collect()
    }
}

fn place_of(plant: &Plant, no: TagNo) -> Uuid {
    plant.tags.values().find(|tag| tag.no == no).unwrap().set.place
}

#[test]
fn the_cause_of_a_planted_fault_is_among_the_first_that_are_named() {
    let (plant, works) = (plant(), Works::new(4, 2611));
    let feeds = Feeds::of(&plant, &works);
    let tag = |path: &str| {
        let found = plant.tags.values().find(|tag| plant.tag_path(&tag.set).ends_with(path));
        found.unwrap_or_else(|| panic!("the demo has no tag {path}")).no
    };
    let mut usual = Run { process: Process::new(4, 2611), noise: Pcg64Mcg::seed_from_u64(9), second: 0, held: HashMap::new() };
    (0..PAST_S).for_each(|_| usual.second(&feeds));
    let mut found = 0;
    let mut told = Vec::new();
    for Planted { name, plant: plants, ready, shows: (shows, bad), causes } in PLANTED {
        let shown = tag(shows);
        let mut run = usual.clone();
        run.process.calm();
        for _ in 0..SHOWS_S {
            if ready(&run.process) {
                break;
            }
            run.second(&feeds);
        }
        let last = |run: &Run| run.held[&shown].last().and_then(|point| point.value).map_or(f64::NAN, |value| value.float());
        let was = last(&run);
        plants(&mut run.process);
        let shown_at = (0..SHOWS_S).find(|_| {
            run.second(&feeds);
            bad(last(&run), was)
        });
        assert!(shown_at.is_some(), "{name} never shows at {shows}");
        let named = run.named(&plant, shown);
        causes.iter().for_each(|cause| assert!(tag(cause) > 0));
        let first = named.iter().take(3).any(|(path, _)| causes.iter().any(|cause| path.ends_with(cause)));
        found += u32::from(first);
        told.push(format!("{name}: {first}, {:?}", named.iter().take(4).collect::<Vec<_>>()));
    }
    assert!(found >= 8, "only {found} of 10\n{}", told.join("\n"));
}
