//! How urgent alarms are at this site: the priority that follows from what happens where nobody acts, and from how soon somebody must
//! (ISA-18.2-2016, clause 9.2; IEC 62682:2014, clause 9; EEMUA 191 ed. 3, appendix 5).

use super::{
    Item, Kind, Plant, Settings, Table,
    check::{Wrong, between, text},
    kind::{Checking, Reference},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use uuid::Uuid;

/// What the consequence of an alarm that nobody acts on can be about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Concern {
    Safety,
    Environment,
    Production,
    Quality,
    Equipment,
}

impl Concern {
    pub const ALL: [Concern; 5] =
        [Concern::Safety, Concern::Environment, Concern::Production, Concern::Quality, Concern::Equipment];
}

/// How grave a consequence can be: minor, major, severe. 0 stands for none.
pub const LEVELS: u8 = 3;
/// How soon somebody must act: soon, later, or later still.
pub const TIMES: usize = 3;

/// How grave the consequences of one alarm are, each 0 (none) to 3 (severe).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Consequences {
    pub safety: u8,
    pub environment: u8,
    pub production: u8,
    pub quality: u8,
    pub equipment: u8,
}

impl Consequences {
    /// Each with what it is about.
    pub fn each(&self) -> [(Concern, u8); 5] {
        let Consequences { safety, environment, production, quality, equipment } = *self;
        let levels = [safety, environment, production, quality, equipment];
        std::array::from_fn(|n| (Concern::ALL[n], levels[n]))
    }

    /// The gravest; 0 where there are none.
    pub fn gravest(&self) -> u8 {
        self.each().into_iter().map(|(_, level)| level).max().unwrap_or(0)
    }
}

/// The site's guide to priorities. There is one; without it [`Guide::default`] holds.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Guide {
    /// What minor, major and severe mean here.
    pub meanings: BTreeMap<Concern, [String; LEVELS as usize]>,
    /// Minutes up to which somebody must act soon, and later.
    pub soon_min: f64,
    pub later_min: f64,
    /// The priority by how grave it is (minor, major, severe), and within that by how soon somebody must act.
    pub priorities: [[u8; TIMES]; LEVELS as usize],
}

impl Default for Guide {
    fn default() -> Guide {
        let meaning = |concern, said: [&str; 3]| (concern, said.map(str::to_owned));
        Guide {
            meanings: [
                meaning(Concern::Safety, ["first aid", "injury with lost time", "permanent injury or worse"]),
                meaning(Concern::Environment, ["stays on the site", "is to be reported", "harm outside the site"]),
                meaning(Concern::Production, ["up to an hour lost", "up to a shift lost", "more than a shift lost"]),
                meaning(Concern::Quality, ["a batch is worked again", "a batch is lost", "product at the customer is affected"]),
                meaning(Concern::Equipment, ["repaired by the shift", "spare part needed", "machine lost"]),
            ]
            .into(),
            soon_min: 5.0,
            later_min: 30.0,
            priorities: [[2, 1, 1], [3, 2, 2], [4, 3, 3]],
        }
    }
}

impl Guide {
    /// The priority of an alarm with these consequences on which somebody must act within so many minutes; none where nothing would
    /// happen, as no alarm is due then.
    pub fn priority(&self, consequences: &Consequences, respond_min: f64) -> Option<u8> {
        let row = self.priorities.get(usize::from(consequences.gravest().checked_sub(1)?))?;
        let time = [self.soon_min, self.later_min].iter().filter(|least| respond_min > **least).count();
        row.get(time).copied()
    }
}

impl Plant {
    /// The site's guide to priorities.
    pub fn guide(&self) -> Guide {
        self.guides.values().next().map_or_else(Guide::default, |item| item.set.clone())
    }
}

impl Settings for Guide {
    const KIND: Kind = Kind::Guide;

    fn table(plant: &Plant) -> &Table<Guide> {
        &plant.guides
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Guide> {
        &mut plant.guides
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (None, "priorities")
    }

    fn clash(_: &str) -> (&'static str, String) {
        ("priorities", "The site has a guide to priorities already; change that one.".into())
    }

    fn order(&self) -> f64 {
        0.0
    }

    fn references(&self) -> Vec<Reference> {
        Vec::new()
    }

    fn check(item: &Item<Guide>, _: &Checking<'_>, wrong: &mut Wrong) {
        let set = &item.set;
        between(wrong, "soon_min", set.soon_min, 0.1, 1440.0);
        between(wrong, "later_min", set.later_min, 0.1, 10_080.0);
        if set.soon_min >= set.later_min {
            wrong.push(("later_min".into(), "Enter more minutes than for acting soon.".into()));
        }
        set.meanings.values().flatten().for_each(|meaning| text(wrong, "meanings", meaning));
        for (level, row) in set.priorities.iter().enumerate() {
            row.iter().for_each(|priority| between(wrong, "priorities", *priority, 1, 4));
            if row.windows(2).any(|pair| pair[0] < pair[1]) {
                wrong.push(("priorities".into(), "The less time there is, the higher the priority must be.".into()));
            }
            if level > 0 && row.iter().zip(&set.priorities[level - 1]).any(|(graver, milder)| graver < milder) {
                wrong.push(("priorities".into(), "The graver the consequence, the higher the priority must be.".into()));
            }
        }
        wrong.dedup();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::nothing_happens(Consequences::default(), 1.0, None)]
    #[case::at_once(Consequences { safety: 3, ..Consequences::default() }, 5.0, Some(4))]
    #[case::the_gravest_counts(Consequences { quality: 1, equipment: 2, ..Consequences::default() }, 2.0, Some(3))]
    #[case::later(Consequences { equipment: 2, ..Consequences::default() }, 5.1, Some(2))]
    #[case::next_shift(Consequences { production: 1, ..Consequences::default() }, 480.0, Some(1))]
    fn the_matrix_gives_a_priority(#[case] consequences: Consequences, #[case] within: f64, #[case] expected: Option<u8>) {
        assert_eq!(Guide::default().priority(&consequences, within), expected);
    }
}
