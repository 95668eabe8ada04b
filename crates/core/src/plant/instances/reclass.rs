//! Equipment that is to be of another class, or of none: its tags stay the tags that they are, with their history.

use super::Members;
use crate::plant::{Class, Edit, Kind, Op, Own, Plant, layers};
use serde_json::{Value as Json, json};
use std::collections::{HashMap, HashSet};
use uuid::Uuid;

/// Which property of another class a property is taken for.
#[derive(Clone, Debug, PartialEq)]
pub struct Taken {
    pub property: Uuid,
    pub name: String,
    pub to: Option<Uuid>,
}

impl Plant {
    /// Which properties of another class those of an instance are taken for: one of the same identity, of the same name, or the only
    /// one left with the same engineering unit.
    pub fn taken_for(&self, place: Uuid, class: Uuid) -> Vec<Taken> {
        let (Some(from), Some(to)) = (self.class_of(place), self.classes.get(&class)) else { return Vec::new() };
        let mut free: HashSet<Uuid> = to.set.properties.keys().copied().collect();
        let mut taken: Vec<Taken> = Vec::new();
        for (property, said) in from.in_order() {
            let named = || to.set.properties.iter().find(|(_, p)| p.name().eq_ignore_ascii_case(said.name())).map(|(id, _)| *id);
            let same = Some(property).filter(|id| to.set.properties.contains_key(id)).or_else(named);
            let same = same.filter(|id| free.remove(id));
            taken.push(Taken { property, name: said.name().to_owned(), to: same });
        }
        let unit = |class: &Class, property: Uuid| class.properties.get(&property)?.tag.get("unit").cloned();
        for one in &mut taken {
            let of_unit = unit(from, one.property).filter(|_| one.to.is_none());
            let Some(of_unit) = of_unit else { continue };
            let mut left = free.iter().copied().filter(|id| unit(&to.set, *id).as_ref() == Some(&of_unit));
            if let (Some(only), None) = (left.next(), left.next()) {
                free.remove(&only);
                one.to = Some(only);
            }
        }
        taken
    }

    /// Makes a place an instance of another class: tags whose property stands in `taken` go on as that one, the others go.
    /// Parameters of the same name keep what they are.
    ///
    /// # Errors
    /// A sentence where there is no such place or class.
    pub fn with_class(&self, place: Uuid, class: Uuid, taken: &HashMap<Uuid, Uuid>) -> Result<Vec<Edit>, String> {
        let item = self.places.get(&place).ok_or("This place does not exist any more.")?;
        let to = self.classes.get(&class).ok_or("This class does not exist any more.")?;
        let edit = |kind, id, set: Own| Edit { kind, id, op: Op::Patch(set), seen: Some(self.revision) };
        let mut parameters = Own::new();
        for (id, parameter) in self.class_of(place).into_iter().flat_map(|from| &from.parameters) {
            let same =
                to.set.parameters.iter().find(|(_, p)| p.name.eq_ignore_ascii_case(&parameter.name) && p.kind == parameter.kind);
            if let (Some((to, _)), Some(value)) = (same, item.set.parameters.get(&id.to_string())) {
                parameters.insert(to.to_string(), value.clone());
            }
        }
        let without: Vec<Uuid> = item.set.without.iter().filter_map(|id| taken.get(id)).copied().collect();
        let mut set = Own::new();
        set.insert("class".into(), json!(class));
        set.insert("parameters".into(), if parameters.is_empty() { Json::Null } else { parameters.into() });
        set.insert("without".into(), if without.is_empty() { Json::Null } else { json!(without) });
        let mut edits = vec![edit(Kind::Place, place, set)];
        for (property, tag) in Members::of(self).tags_of(place) {
            if let Some(to) = taken.get(&property).filter(|to| **to != property) {
                edits.push(edit(Kind::Tag, tag, Own::from_iter([("property".to_owned(), json!(to))])));
            }
        }
        Ok(edits)
    }

    /// Takes a place out of its class: what the class said becomes its own, and nothing that it does changes.
    ///
    /// # Errors
    /// A sentence where the place is of no class, or is a part of other equipment.
    pub fn without_class(&self, place: Uuid) -> Result<Vec<Edit>, String> {
        let item = self.places.get(&place).filter(|item| item.set.class.is_some()).ok_or("This place is of no class.")?;
        if item.set.part.is_some() {
            return Err("This place is a part of other equipment. Take that out of its class.".into());
        }
        let members = Members::of(self);
        let own = |kind, id, drop: &[&str]| {
            let (own, ..) = self.own(kind, id)?;
            let below = self.inherited(kind, id, &members)?;
            let mut set = layers::merged(&[&below, own]);
            set.retain(|field, value| own.get(field) != Some(value));
            // What was said to be empty has nothing to be empty over.
            set.extend(own.iter().filter(|(_, value)| layers::is_empty(value)).map(|(field, _)| (field.clone(), Json::Null)));
            set.extend(drop.iter().map(|field| ((*field).to_owned(), Json::Null)));
            Some(Edit { kind, id, op: Op::Patch(set), seen: Some(self.revision) })
        };
        let mut edits: Vec<Edit> = own(Kind::Place, place, &["class", "parameters", "without"]).into_iter().collect();
        for (_, tag) in members.tags_of(place) {
            edits.extend(own(Kind::Tag, tag, &["property"]));
            edits.extend(members.rules_of(tag).into_iter().filter_map(|(_, rule)| own(Kind::Rule, rule, &["class_rule"])));
        }
        // Parts go on as instances of their own classes.
        edits.extend(members.parts_of(place).into_iter().filter_map(|(_, part)| own(Kind::Place, part, &["part"])));
        Ok(edits)
    }
}
