//! Which items stand for which properties, parts and rules of classes.

use crate::plant::{Kind, Plant, place::PartOf};
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use uuid::Uuid;

/// What the instances of a plant have, by what it stands for.
#[derive(Debug, Default)]
pub struct Members {
    /// By place and property.
    tags: HashMap<Uuid, HashMap<Uuid, Uuid>>,
    /// By the place above.
    parts: HashMap<Uuid, HashMap<PartOf, Uuid>>,
    /// By tag and rule of its property.
    rules: HashMap<Uuid, HashMap<Uuid, Uuid>>,
    /// Items that stand for the same.
    double: Vec<(Kind, [Uuid; 2])>,
}

impl Members {
    /// Works them out.
    pub fn of(plant: &Plant) -> Members {
        let mut members = Members::default();
        for item in plant.places.values() {
            if let (Some(part), Some(parent)) = (item.set.part, item.set.parent) {
                let other = members.parts.entry(parent).or_default().insert(part, item.id);
                members.double.extend(other.map(|other| (Kind::Place, [item.id, other])));
            }
        }
        for item in plant.tags.values() {
            if let Some(property) = item.set.property {
                let other = members.tags.entry(item.set.place).or_default().insert(property, item.id);
                members.double.extend(other.map(|other| (Kind::Tag, [item.id, other])));
            }
        }
        for item in plant.rules.values() {
            if let Some(rule) = item.set.class_rule {
                let other = members.rules.entry(item.set.tag).or_default().insert(rule, item.id);
                members.double.extend(other.map(|other| (Kind::Rule, [item.id, other])));
            }
        }
        members
    }

    /// The tag of a place for a property.
    pub fn tag(&self, place: Uuid, property: Uuid) -> Option<Uuid> {
        self.tags.get(&place)?.get(&property).copied()
    }

    /// The place for a part.
    pub fn part(&self, parent: Uuid, part: PartOf) -> Option<Uuid> {
        self.parts.get(&parent)?.get(&part).copied()
    }

    /// The tags of a place, each with its property.
    pub fn tags_of(&self, place: Uuid) -> Vec<(Uuid, Uuid)> {
        self.tags.get(&place).into_iter().flatten().map(|(&property, &tag)| (property, tag)).collect()
    }

    /// The parts of a place.
    pub fn parts_of(&self, place: Uuid) -> Vec<(PartOf, Uuid)> {
        self.parts.get(&place).into_iter().flatten().map(|(&part, &place)| (part, place)).collect()
    }

    /// The rules of a tag that stand for those of its property.
    pub fn rules_of(&self, tag: Uuid) -> Vec<(Uuid, Uuid)> {
        self.rules.get(&tag).into_iter().flatten().map(|(&rule, &item)| (rule, item)).collect()
    }

    /// Items that stand for the same.
    pub(super) fn double(&self) -> &[(Kind, [Uuid; 2])] {
        &self.double
    }

    pub(super) fn add_tag(&mut self, place: Uuid, property: Uuid, tag: Uuid) {
        self.tags.entry(place).or_default().insert(property, tag);
    }

    pub(super) fn add_part(&mut self, parent: Uuid, part: PartOf, place: Uuid) {
        self.parts.entry(parent).or_default().insert(part, place);
    }

    pub(super) fn remove_tag(&mut self, place: Uuid, property: Uuid) {
        self.tags.get_mut(&place).map(|tags| tags.remove(&property));
    }

    pub(super) fn remove_part(&mut self, parent: Uuid, part: PartOf) {
        self.parts.get_mut(&parent).map(|parts| parts.remove(&part));
    }

    pub(super) fn add_rule(&mut self, tag: Uuid, rule: Uuid, item: Uuid) {
        self.rules.entry(tag).or_default().insert(rule, item);
    }

    pub(super) fn remove_rule(&mut self, tag: Uuid, rule: Uuid) {
        self.rules.get_mut(&tag).map(|rules| rules.remove(&rule));
    }

    /// The tag that `own("…")` of a place means: a property, or that of a part behind “part:number/”.
    pub fn owned(&self, place: Uuid, path: &str) -> Option<Uuid> {
        let (parts, property) = path.rsplit_once('/').map_or((None, path), |(parts, property)| (Some(parts), property));
        let mut at = place;
        for part in parts.into_iter().flat_map(|parts| parts.split('/')) {
            let (of, number) = part.split_once(':')?;
            at = self.part(at, PartOf { of: of.parse().ok()?, number: number.parse().ok()? })?;
        }
        self.tag(at, property.parse().ok()?)
    }
}

/// The identity of what stands for something of a class: always the same one, so that a trial of an edit and the edit itself agree
/// (RFC 9562, section 5.8: a hash of names). `turn` counts those that are taken.
pub(super) fn identity((parent, of, number): (Uuid, Uuid, u32), turn: u32) -> Uuid {
    let mut hash = Sha256::new();
    for bytes in [parent.as_bytes().as_slice(), of.as_bytes(), &number.to_be_bytes(), &turn.to_be_bytes()] {
        hash.update(bytes);
    }
    let mut bytes = [0; 16];
    bytes.copy_from_slice(&hash.finalize()[..16]);
    uuid::Builder::from_custom_bytes(bytes).into_uuid()
}
