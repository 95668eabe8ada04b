//! The demo plant's configuration: a file as Havrel exports it, built of equipment classes the way an engineer would. Packing and
//! Filtration are left for whoever tries the demo.

use crate::{effluent, service, utilities};
use serde_json::{Value as Json, json};

/// Brackmere Kelp Works, exported.
const FILE: &str = include_str!("../brackmere.json");

/// The exported file with the passwords of the simulated devices, which an export never holds.
///
/// # Errors
/// When the file is damaged.
pub fn configuration() -> serde_json::Result<Json> {
    let mut file: Json = serde_json::from_str(FILE)?;
    let secrets = [
        (utilities::NAME, "password", utilities::serve::PASSWORD),
        (effluent::NAME, "password", utilities::serve::PASSWORD),
        (service::NAME, "secret", service::serve::TOKEN),
    ];
    for connection in file["items"]["connection"].as_array_mut().into_iter().flatten() {
        let set = &mut connection["set"];
        if let Some((_, field, secret)) = secrets.iter().find(|(name, ..)| set["name"] == *name) {
            set["settings"][field] = json!({"secret": secret});
        }
    }
    Ok(file)
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use crate::{history::Feeds, registers::Works};
    use havrel_core::{
        TagNo,
        plant::{Kind, Plant, Stored, Tag},
    };
    use std::collections::{HashMap, HashSet};

    pub(crate) fn plant() -> Plant {
        let file = configuration().unwrap();
        let mut stored = Vec::new();
        for kind in Kind::ALL {
            for entry in file["items"][kind.name()].as_array().unwrap() {
                let own = entry["set"].as_object().unwrap().clone();
                let id = entry["id"].as_str().unwrap().parse().unwrap();
                stored.push(Stored { kind, id, no: stored.len() as u32 + 1, revision: 1, own });
            }
        }
        let count = stored.len();
        let (plant, broken) = Plant::from_stored(1, stored);
        assert!(broken.is_empty(), "{broken:?}");
        assert_eq!(Kind::ALL.iter().map(|&kind| plant.ids(kind).len()).sum::<usize>(), count);
        plant
    }

    #[test]
    fn the_configuration_is_whole_and_names_nothing_that_is_not_there() {
        let plant = plant();
        for tag in plant.tags.values() {
            let path = plant.tag_path(&tag.set);
            match &tag.set.formula {
                Some(formula) => assert!(plant.program(formula, &tag.set.unit).is_ok(), "{path}"),
                None => {
                    let connection = &plant.connections[&tag.set.connection.unwrap()];
                    assert!(plant.source(&connection.set, &tag.set).is_ok(), "{path}");
                }
            }
            assert!(tag.set.setpoint.is_none_or(|of| plant.tags.contains_key(&of)), "{path}");
        }
        let shown = plant.reports.values().flat_map(|report| &report.set.sections).flat_map(|section| section.tags());
        assert!(shown.into_iter().all(|tag| plant.tags.contains_key(tag)));
        let of_class = plant.tags.values().filter(|tag| tag.set.property.is_some()).count();
        assert!(of_class * 4 > plant.tags.len() * 3, "{of_class} of {}", plant.tags.len());
    }

    #[test]
    fn every_tag_of_a_device_is_one_that_the_simulated_device_has() {
        let plant = plant();
        let works = Works::new(4, 2611);
        let feeds = Feeds::of(&plant, &works);
        let fed: HashSet<_> = feeds.tags().collect();
        for tag in plant.tags.values() {
            let Some(connection) = tag.set.connection.map(|id| &plant.connections[&id].set) else { continue };
            // Those of a block are found by the layout of the block.
            if connection.kind == "figures" || tag.set.point.contains_key("block") {
                continue;
            }
            assert!(fed.contains(&tag.no), "{} of {}", plant.tag_path(&tag.set), connection.name);
        }
        let tags: HashMap<TagNo, &Tag> = plant.tags.values().map(|tag| (tag.no, &tag.set)).collect();
        let alike = |no: TagNo, unit: &str, decimals: u8, range: Option<(f64, f64)>| {
            let tag = tags[&no];
            let told = (tag.unit.as_str(), tag.decimals, tag.range_low.zip(tag.range_high));
            assert_eq!(told, (unit, decimals, range), "{}", plant.tag_path(tag));
        };
        for (no, point, _) in &feeds.read {
            alike(*no, point.unit, point.decimals, point.range);
            let tag = tags[no];
            let setpoint = tag.setpoint.map_or("", |id| plant.tags[&id].set.name.as_str()).to_lowercase();
            assert!(point.setpoint.to_lowercase().ends_with(&setpoint), "{}", plant.tag_path(tag));
            assert_eq!(tag.record_deadband, point.deadband, "{}", plant.tag_path(tag));
            assert_eq!(tag.note, point.note);
            assert_eq!(tag.writable, point.set.is_some());
        }
        feeds.shown.iter().for_each(|(no, node)| alike(*no, node.unit, node.decimals, node.range));
        feeds.told.iter().for_each(|(no, point)| alike(*no, point.unit, point.decimals, point.range));
        feeds.measured.iter().for_each(|(no, point)| alike(*no, point.unit, point.decimals, point.range));
    }
}
