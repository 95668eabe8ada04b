//! What edits come to, before they are made: which effective settings change on how many items, which stay because an item says
//! its own, and what begins and ends by that.

use super::super::{Class, Kind, Own, Place, Plant, Rule, Settings, Table, Tag, layers};
use serde_json::Value as Json;
use std::{
    collections::{BTreeMap, BTreeSet, HashMap, HashSet},
    sync::Arc,
};
use uuid::Uuid;

/// One field of one property, rule or part, on all the items that stand for it.
#[derive(Clone, Debug, PartialEq)]
pub struct Line {
    pub kind: Kind,
    /// What it is called: “Level”, “Level · high”; of an item that belongs to no class its title.
    pub title: String,
    /// The field; empty where the whole item is made or taken away.
    pub field: String,
    /// What it was and will be, where that is the same on all; null: nothing.
    pub before: Option<Json>,
    pub after: Option<Json>,
    /// The items that change.
    pub items: Vec<Uuid>,
    /// Items that keep what they say themselves.
    pub kept: Vec<Uuid>,
}

/// By kind, title and field.
type Lines = BTreeMap<(usize, String, String), Line>;

/// What edits come to.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Difference {
    pub lines: Vec<Line>,
    /// Places at which something changes.
    pub places: HashSet<Uuid>,
    /// Alarm rules that begin to judge, and that end.
    pub alarms_begin: usize,
    pub alarms_end: usize,
    /// Tags that begin to be recorded, and that end.
    pub recordings_begin: usize,
    pub recordings_end: usize,
    /// Tags that are made and taken away.
    pub tags_made: usize,
    pub tags_removed: usize,
}

impl Difference {
    /// Compares two revisions.
    pub fn between(old: &Plant, new: &Plant) -> Difference {
        let mut difference = Difference::default();
        let mut lines = Lines::new();
        difference.add::<Place>(old, new, &mut lines);
        difference.add::<Tag>(old, new, &mut lines);
        difference.add::<Rule>(old, new, &mut lines);
        Difference::kept(old, new, &mut lines);
        difference.lines = lines.into_values().collect();
        difference
    }

    fn add<T: Settings>(&mut self, old: &Plant, new: &Plant, lines: &mut Lines) {
        let (before, after): (&Table<T>, &Table<T>) = (T::table(old), T::table(new));
        let none = Own::new();
        for (id, item) in after.iter() {
            match before.get(id) {
                Some(was) if Arc::ptr_eq(was, item) => {}
                Some(_) => {
                    let (a, b) = (old.effective(T::KIND, *id), new.effective(T::KIND, *id));
                    self.compared(new, (T::KIND, *id), (&a, &b), lines);
                }
                None => self.compared(new, (T::KIND, *id), (&none, &new.effective(T::KIND, *id)), lines),
            }
        }
        for (id, _) in before.iter().filter(|(id, _)| !after.contains_key(*id)) {
            self.compared(old, (T::KIND, *id), (&old.effective(T::KIND, *id), &none), lines);
        }
    }

    fn line<'l>(
        lines: &'l mut Lines,
        (kind, title, field): (Kind, String, String),
        values: Option<(&Json, &Json)>,
    ) -> &'l mut Line {
        let rank = Kind::ALL.iter().position(|k| *k == kind).unwrap_or(0);
        let line = lines.entry((rank, title.clone(), field.clone())).or_insert_with(|| Line {
            kind,
            title,
            field,
            before: values.map(|(a, _)| a.clone()),
            after: values.map(|(_, b)| b.clone()),
            items: Vec::new(),
            kept: Vec::new(),
        });
        if let Some((before, after)) = values {
            if line.items.is_empty() {
                (line.before, line.after) = (Some(before.clone()), Some(after.clone()));
            } else {
                line.before = line.before.take().filter(|known| known == before);
                line.after = line.after.take().filter(|known| known == after);
            }
        }
        line
    }

    fn compared(&mut self, plant: &Plant, (kind, id): (Kind, Uuid), (a, b): (&Own, &Own), lines: &mut Lines) {
        let place = match kind {
            Kind::Place => Some(id),
            Kind::Tag => plant.tags.get(&id).map(|tag| tag.set.place),
            _ => plant.rules.get(&id).and_then(|rule| plant.tags.get(&rule.set.tag)).map(|tag| tag.set.place),
        };
        let on = |own: &Own, field: &str| own.get(field).and_then(Json::as_bool).unwrap_or(false);
        let (switch, counts) = match kind {
            Kind::Tag => ("record", Some((&mut self.recordings_begin, &mut self.recordings_end))),
            Kind::Rule => ("enabled", Some((&mut self.alarms_begin, &mut self.alarms_end))),
            _ => ("", None),
        };
        if let Some((begin, end)) = counts {
            *begin += usize::from(!on(a, switch) && on(b, switch));
            *end += usize::from(on(a, switch) && !on(b, switch));
        }
        let title = stands_for(plant, kind, id);
        if a.is_empty() || b.is_empty() {
            self.places.extend(place);
            if kind == Kind::Tag {
                *(if a.is_empty() { &mut self.tags_made } else { &mut self.tags_removed }) += 1;
            }
            let (before, after) = (Json::from(!a.is_empty()), Json::from(!b.is_empty()));
            let field = if a.is_empty() { "+" } else { "-" };
            let line = Difference::line(lines, (kind, title, field.into()), Some((&before, &after)));
            line.field = String::new();
            line.items.push(id);
            return;
        }
        for field in others(a, b) {
            let (was, is) = (a.get(&field).unwrap_or(&Json::Null), b.get(&field).unwrap_or(&Json::Null));
            self.places.extend(place);
            Difference::line(lines, (kind, title.clone(), field), Some((was, is))).items.push(id);
        }
    }

    /// Fields that a class changes and an item keeps because it says its own.
    fn kept(old: &Plant, new: &Plant, lines: &mut Lines) {
        // By property, or by rule of a property.
        let mut changed: HashMap<Uuid, Vec<String>> = HashMap::new();
        for (id, class) in new.classes.iter() {
            let Some(was) = old.classes.get(id).filter(|was| !Arc::ptr_eq(was, class)) else { continue };
            for (property, said) in &class.set.properties {
                let Some(before) = was.set.properties.get(property) else { continue };
                changed.insert(*property, others(&before.tag, &said.tag));
                for (rule, own) in &said.rules {
                    let others = before.rules.get(rule).map(|before| others(before, own));
                    changed.insert(*rule, others.unwrap_or_default());
                }
            }
        }
        changed.retain(|_, fields| !fields.is_empty());
        if changed.is_empty() {
            return;
        }
        let mut keep = |kind: Kind, id: Uuid, of: Option<Uuid>, own: &Own| {
            for field in of.and_then(|of| changed.get(&of)).into_iter().flatten().filter(|field| own.contains_key(*field)) {
                let line = Difference::line(lines, (kind, stands_for(new, kind, id), field.clone()), None);
                if !line.items.contains(&id) {
                    line.kept.push(id);
                }
            }
        };
        new.tags.values().for_each(|tag| keep(Kind::Tag, tag.id, tag.set.property, &tag.own));
        new.rules.values().for_each(|rule| keep(Kind::Rule, rule.id, rule.set.class_rule, &rule.own));
    }
}

/// The fields in which two settings differ.
fn others(a: &Own, b: &Own) -> Vec<String> {
    let differs = |field: &&String| !layers::same(a.get(*field), b.get(*field));
    let fields: BTreeSet<&String> = a.keys().chain(b.keys()).filter(differs).collect();
    fields.into_iter().cloned().collect()
}

/// What an item is called among those that stand for the same.
fn stands_for(plant: &Plant, kind: Kind, id: Uuid) -> String {
    let of_class = match kind {
        Kind::Tag => plant.tags.get(&id).and_then(|tag| {
            let class: &Class = plant.class_of(tag.set.place)?;
            Some(format!("{} · {}", class.name, class.properties.get(&tag.set.property?)?.name()))
        }),
        Kind::Rule => plant.rules.get(&id).and_then(|rule| {
            rule.set.class_rule?;
            Some(format!("{} · {}", stands_for(plant, Kind::Tag, rule.set.tag), rule.set.known_as()))
        }),
        Kind::Place => plant.places.get(&id).and_then(|place| {
            let part = place.set.part?;
            let class = plant.class_of(place.set.parent?)?;
            Some(format!("{} · {}", class.name, class.parts.get(&part.of)?.name))
        }),
        _ => None,
    };
    of_class.unwrap_or_else(|| plant.title(kind, id))
}
