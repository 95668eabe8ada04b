//! Places: the nodes of the plant tree.

use super::{
    Item, Kind, Plant, Settings, Table,
    check::{self, Wrong},
    kind::{Checking, Reference},
};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// How deep the plant tree may be.
const DEEPEST: usize = 30;

/// Levels of the plant tree, after the open enterprise and batch standards (IEC 62264-1, IEC 61512-1).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Level {
    Site,
    Area,
    Line,
    #[default]
    Unit,
    Equipment,
    Device,
}

/// A node of the plant tree.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Place {
    #[serde(default)]
    pub parent: Option<Uuid>,
    pub name: String,
    #[serde(default)]
    pub level: Level,
    /// Sorts siblings; the engineer's order, not the alphabet's.
    #[serde(default)]
    pub order: f64,
    #[serde(default)]
    pub note: String,
    /// Off: nothing under it is polled and nothing alarms.
    #[serde(default = "yes")]
    pub in_service: bool,
    /// How what is wrong under it counts above; by its level where not set.
    #[serde(default)]
    pub counts: Option<Counting>,
}

/// How what is wrong at a place counts at the places above it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Counting {
    /// Each alarm and each bad tag by itself.
    Each,
    /// As one, however many they are.
    One,
}

impl Place {
    /// How it counts above: equipment and devices as one, so that units and what lies above them count things and not tags.
    pub fn counting(&self) -> Counting {
        self.counts.unwrap_or(match self.level {
            Level::Equipment | Level::Device => Counting::One,
            Level::Site | Level::Area | Level::Line | Level::Unit => Counting::Each,
        })
    }
}

impl Settings for Place {
    const KIND: Kind = Kind::Place;

    fn table(plant: &Plant) -> &Table<Place> {
        &plant.places
    }

    fn table_mut(plant: &mut Plant) -> &mut Table<Place> {
        &mut plant.places
    }

    fn known(&self) -> (Option<Uuid>, &str) {
        (self.parent, &self.name)
    }

    fn clash(name: &str) -> (&'static str, String) {
        ("name", format!("There is already a place “{name}” here."))
    }

    fn title(item: &Item<Place>, plant: &Plant) -> String {
        plant.path(Some(item.id))
    }

    fn order(&self) -> f64 {
        self.order
    }

    fn references(&self) -> Vec<Reference> {
        self.parent.map(|parent| Reference::inside("parent", Kind::Place, parent)).into_iter().collect()
    }

    fn check(item: &Item<Place>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let (set, plant) = (&item.set, checking.plant);
        check::name(wrong, &set.name);
        check::text(wrong, "note", &set.note);
        let Some(parent) = set.parent.filter(|parent| plant.places.contains_key(parent)) else { return };
        if plant.lies_under(parent, item.id) {
            wrong.push(("parent".into(), "A place cannot lie under itself.".into()));
        } else if plant.path(Some(item.id)).matches('/').count() > DEEPEST {
            wrong.push(("parent".into(), format!("The plant tree may be at most {DEEPEST} places deep.")));
        }
    }
}

fn yes() -> bool {
    true
}
