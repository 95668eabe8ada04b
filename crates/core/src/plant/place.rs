//! Places: the nodes of the plant tree.

use super::{
    Item, Kind, Own, Plant, Settings, Table,
    check::{self, Wrong},
    kind::{Checking, Reference},
    tag::named_in,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
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
    /// Who watches its alarms, and those of the places below that do not say otherwise: the name of an operator's area. Empty: as the place
    /// above.
    #[serde(default)]
    pub operator_area: String,
    /// The pattern by which shifts work here and below; nothing goes by the place above.
    #[serde(default)]
    pub shift_pattern: Option<Uuid>,
    /// Where it lies on the earth, in degrees (WGS 84): north of the equator, and east of Greenwich. Both or neither.
    #[serde(default)]
    pub latitude: Option<f64>,
    #[serde(default)]
    pub longitude: Option<f64>,
    /// The class of equipment that it is an instance of.
    #[serde(default)]
    pub class: Option<Uuid>,
    /// What the parameters of its class are here, by the id of the parameter.
    #[serde(default)]
    pub parameters: Own,
    /// Properties and parts of its class that it does not have.
    #[serde(default)]
    pub without: BTreeSet<Uuid>,
    /// The part that it is of the place above.
    #[serde(default)]
    pub part: Option<PartOf>,
}

/// Which part of an instance a place is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PartOf {
    /// The part, in the class of the place above.
    pub of: Uuid,
    /// Which of those that are alike, from 1.
    pub number: u32,
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
    const LAYERED: &'static [&'static str] = &["class", "part"];
    const ALONE: &'static [&'static str] = &["name", "parent", "part", "class", "parameters", "without"];

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
        let mut all: Vec<Reference> =
            self.parent.map(|parent| Reference::inside("parent", Kind::Place, parent)).into_iter().collect();
        all.extend(self.class.map(|class| Reference::to("class", Kind::Class, class)));
        all.extend(self.shift_pattern.map(|to| Reference::to("shift_pattern", Kind::ShiftPattern, to)));
        named_in("parameters", &self.parameters, &mut all);
        all
    }

    fn uses(item: &Item<Place>, reference: &Reference, plant: &Plant) -> String {
        let path = plant.path(Some(item.id));
        match reference.field.as_str() {
            "class" => format!("“{path}” is an instance of it"),
            "shift_pattern" => format!("the shifts of “{path}” work by it"),
            _ => format!("a parameter of “{path}” names it"),
        }
    }

    fn check(item: &Item<Place>, checking: &Checking<'_>, wrong: &mut Wrong) {
        let (set, plant) = (&item.set, checking.plant);
        if let Some(part) = set.part {
            let class = set.parent.and_then(|parent| plant.class_of(parent));
            if !class.is_some_and(|class| class.parts.contains_key(&part.of)) {
                wrong.push(("part".into(), "The class of the place above has no such part.".into()));
                return;
            }
        }
        check::name(wrong, &set.name);
        check::text(wrong, "note", &set.note);
        if !set.operator_area.is_empty() {
            check::name_of(wrong, "operator_area", &set.operator_area);
        }
        for (field, degrees, most) in [("latitude", set.latitude, 90.0), ("longitude", set.longitude, 180.0)] {
            degrees.iter().for_each(|degrees| check::between(wrong, field, *degrees, -most, most));
        }
        if set.latitude.is_some() != set.longitude.is_some() {
            let missing = if set.latitude.is_none() { "latitude" } else { "longitude" };
            wrong.push((missing.into(), "Enter both latitude and longitude, or neither.".into()));
        }
        if let Some(class) = set.class.and_then(|id| plant.classes.get(&id)) {
            for (id, value) in &set.parameters {
                let known = id.parse().ok().and_then(|id: Uuid| class.set.parameters.get(&id));
                let told = known.and_then(|known| known.kind.refuses(value));
                wrong.extend(told.map(|words| (format!("parameters.{id}"), words.to_owned())));
            }
        }
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
