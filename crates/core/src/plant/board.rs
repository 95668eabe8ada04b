//! What the operator's board shows of a large place: its areas, each with its equipment in the engineer's order, and figures that
//! the classes of the equipment ask for (“3 of 5 agitators run”).

use super::{Level, Plant, Property, RollUp, Tag, view::natural};
use crate::unit;
use std::collections::HashMap;
use uuid::Uuid;

/// Equipment is shown in short by at most so many values.
const MOST_MAIN: usize = 6;

/// An area of the place that is looked at, or the place itself with what belongs to no area.
#[derive(Debug, PartialEq)]
pub struct Area {
    pub place: Uuid,
    /// Places that have values of their own and are not parts of others, from top to bottom.
    pub equipment: Vec<Uuid>,
    pub figures: Vec<Figure>,
}

/// A property that all equipment of an area comes to one figure in.
#[derive(Debug, PartialEq)]
pub struct Figure {
    pub property: Uuid,
    /// The class that brings the property; classes that extend it share it.
    pub class: Uuid,
    pub how: RollUp,
    /// The tags that come together.
    pub tags: Vec<Uuid>,
}

/// What values came to.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Rolled {
    /// None where no value counts.
    pub value: Option<f64>,
    /// How many values it is made of.
    pub counted: usize,
}

/// A place with all places below it, from top to bottom.
struct Walk<'a> {
    plant: &'a Plant,
    children: HashMap<Option<Uuid>, Vec<Uuid>>,
}

impl<'a> Walk<'a> {
    fn new(plant: &'a Plant) -> Walk<'a> {
        let mut children: HashMap<Option<Uuid>, Vec<Uuid>> = HashMap::new();
        for place in plant.places.values() {
            children.entry(place.set.parent).or_default().push(place.id);
        }
        for list in children.values_mut() {
            list.sort_by(|a, b| {
                let (a, b) = (&plant.places[a].set, &plant.places[b].set);
                a.order.total_cmp(&b.order).then_with(|| natural(&a.name, &b.name))
            });
        }
        Walk { plant, children }
    }

    fn below(&self, place: Option<Uuid>) -> &[Uuid] {
        self.children.get(&place).map_or(&[], Vec::as_slice)
    }

    fn level(&self, place: Uuid) -> Level {
        self.plant.places[&place].set.level
    }

    /// Places below this one that are looked at by themselves: areas, lines, sites.
    fn areas(&self, place: Option<Uuid>) -> Vec<Uuid> {
        self.below(place).iter().copied().filter(|&id| self.level(id) <= Level::Line).collect()
    }

    /// The place and all below it but for these, from top to bottom.
    fn all(&self, top: Uuid, but: &[Uuid]) -> Vec<Uuid> {
        let (mut found, mut open) = (Vec::new(), vec![top]);
        while let Some(id) = open.pop() {
            found.push(id);
            open.extend(self.below(Some(id)).iter().rev().filter(|id| !but.contains(id)));
        }
        found
    }
}

impl Plant {
    /// The areas of a place, or of the whole plant, with their equipment and figures. A plant of one site is that site. Areas
    /// without equipment are left out.
    pub fn areas(&self, at: Option<Uuid>) -> Vec<Area> {
        let walk = Walk::new(self);
        let at = at.or_else(|| match walk.below(None) {
            [site] => Some(*site),
            _ => None,
        });
        let parts = walk.areas(at);
        let mut groups: Vec<(Uuid, Vec<Uuid>)> = Vec::new();
        match at {
            Some(place) => groups.push((place, walk.all(place, &parts))),
            None => groups.extend(walk.below(None).iter().filter(|id| !parts.contains(id)).map(|&id| (id, walk.all(id, &[])))),
        }
        groups.extend(parts.iter().map(|&id| (id, walk.all(id, &[]))));
        let mut tags: HashMap<Uuid, Vec<&Tag>> = HashMap::new();
        let mut ids: HashMap<Uuid, Vec<(Uuid, Uuid)>> = HashMap::new();
        for tag in self.tags.values() {
            tags.entry(tag.set.place).or_default().push(&tag.set);
            if let Some(property) = tag.set.property {
                ids.entry(tag.set.place).or_default().push((property, tag.id));
            }
        }
        let of_group = |(place, places): (Uuid, Vec<Uuid>)| {
            let own = |id: &Uuid| tags.contains_key(id) && self.places[id].set.part.is_none();
            let equipment: Vec<Uuid> = places.iter().copied().filter(own).collect();
            let figures = self.figures(&places, &ids);
            (!equipment.is_empty() || !figures.is_empty()).then_some(Area { place, equipment, figures })
        };
        groups.into_iter().filter_map(of_group).collect()
    }

    /// The figures that equipment of these places comes to, in the order of the classes and their properties.
    fn figures(&self, places: &[Uuid], tags: &HashMap<Uuid, Vec<(Uuid, Uuid)>>) -> Vec<Figure> {
        let mut found: HashMap<Uuid, Figure> = HashMap::new();
        for place in places {
            let Some(class) = self.places.get(place).and_then(|p| p.set.class) else { continue };
            for &(property, tag) in tags.get(place).into_iter().flatten() {
                if let Some(figure) = found.get_mut(&property) {
                    figure.tags.push(tag);
                    continue;
                }
                let Some(how) = self.property(class, property).map(|p| p.roll_up).filter(|how| *how != RollUp::None) else {
                    continue;
                };
                let lineage = self.lineage(class).unwrap_or_default();
                let brings = |id: &&Uuid| self.property(**id, property).is_some();
                // The outermost base stands first.
                let class = lineage.iter().find(brings).copied().unwrap_or(class);
                found.insert(property, Figure { property, class, how, tags: vec![tag] });
            }
        }
        let mut figures: Vec<Figure> = found.into_values().collect();
        let rank = |figure: &Figure| {
            let class = &self.classes[&figure.class].set;
            let at = class.in_order().iter().position(|(id, _)| *id == figure.property);
            (class.order, class.name.clone(), at)
        };
        figures.sort_by(|a, b| {
            let (a, b) = (rank(a), rank(b));
            a.0.total_cmp(&b.0).then_with(|| a.1.cmp(&b.1)).then_with(|| a.2.cmp(&b.2))
        });
        figures
    }

    fn property(&self, class: Uuid, property: Uuid) -> Option<&Property> {
        self.classes.get(&class)?.set.properties.get(&property)
    }

    /// The values by which equipment is shown in short: what its class calls main, else its first ones; the setpoints of others are
    /// not among those. In the engineer's order.
    pub fn main_tags(&self, tags: &[Uuid]) -> Vec<Uuid> {
        let mut tags: Vec<_> = tags.iter().filter_map(|id| self.tags.get(id)).collect();
        tags.sort_by(|a, b| a.set.order.total_cmp(&b.set.order).then_with(|| natural(&a.set.name, &b.set.name)));
        let is_main = |tag: &Tag| {
            let class = self.places.get(&tag.place).and_then(|p| p.set.class);
            class.zip(tag.property).and_then(|(class, property)| self.property(class, property)).is_some_and(|p| p.main)
        };
        let main: Vec<Uuid> = tags.iter().filter(|tag| is_main(&tag.set)).map(|tag| tag.id).take(MOST_MAIN).collect();
        if !main.is_empty() {
            return main;
        }
        let setpoints: Vec<Uuid> = tags.iter().filter_map(|tag| tag.set.setpoint).collect();
        tags.iter().map(|tag| tag.id).filter(|id| !setpoints.contains(id)).take(MOST_MAIN).collect()
    }
}

/// Brings values together, each with its engineering unit, in one unit. Values that are not numbers or cannot be converted do not
/// count. Sums are in the order given.
pub fn rolled<'a>(how: RollUp, to: &str, values: impl IntoIterator<Item = (f64, &'a str)>) -> Rolled {
    let target = unit::find(to);
    let in_unit = |(value, from): (f64, &str)| match how {
        RollUp::Count => Some(value),
        _ if from == to => Some(value),
        _ => unit::find(from)?.convert(value, target?),
    };
    let values: Vec<f64> = values.into_iter().filter_map(in_unit).filter(|value| value.is_finite()).collect();
    let sum = || values.iter().sum::<f64>();
    let value = match how {
        _ if values.is_empty() => None,
        RollUp::None => None,
        RollUp::Sum => Some(sum()),
        RollUp::Average => Some(sum() / values.len() as f64),
        RollUp::Lowest => values.iter().copied().reduce(f64::min),
        RollUp::Highest => values.iter().copied().reduce(f64::max),
        RollUp::Count => Some(values.iter().filter(|value| **value != 0.0).count() as f64),
    };
    Rolled { value, counted: values.len() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plant::{Kind, Stored};
    use rstest::rstest;
    use serde_json::{Value as Json, json};

    const fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    /// A site with two areas: a vessel with an agitator as its part and a second agitator alone; and a hopper of no class.
    fn plant() -> Plant {
        let item = |kind, n: u128, own: Json| Stored {
            kind,
            id: id(n),
            no: n as u32,
            revision: 1,
            own: own.as_object().unwrap().clone(),
        };
        let runs = json!({"tag": {"name": "Running"}, "roll_up": "count", "main": true});
        let agitator = json!({"name": "Agitator", "properties": {(id(101).to_string()): runs}});
        let level = json!({"tag": {"name": "Level", "unit": "%", "order": 2}, "roll_up": "average", "main": true});
        let note = json!({"tag": {"name": "Note", "order": 1}});
        let vessel = json!({"name": "Vessel", "order": 1,
            "properties": {(id(102).to_string()): level, (id(103).to_string()): note},
            "parts": {(id(104).to_string()): {"name": "Agitator", "class": id(92)}}});
        let of = |parent: u128, name: &str, level: &str| json!({"name": name, "parent": id(parent), "level": level});
        let part = json!({"parent": id(20), "part": {"of": id(104), "number": 1}});
        let of_class = |parent: u128, name: &str, class: u128| json!({"name": name, "parent": id(parent), "class": id(class)});
        let stands = |place: u128, property: u128| json!({"place": id(place), "property": id(property)});
        let stored = vec![
            item(Kind::Class, 91, agitator),
            item(Kind::Class, 92, json!({"name": "Vessel agitator", "extends": id(91)})),
            item(Kind::Class, 93, vessel),
            item(Kind::Place, 1, json!({"name": "Works", "level": "site"})),
            item(Kind::Place, 2, of(1, "Extraction", "area")),
            item(Kind::Place, 3, of(1, "Landing", "area")),
            item(Kind::Place, 4, of(1, "Yard", "area")),
            item(Kind::Place, 20, of_class(2, "EX-10", 93)),
            item(Kind::Place, 21, part),
            item(Kind::Place, 22, of_class(2, "EX-9 agitator", 92)),
            item(Kind::Place, 30, of(3, "Hopper", "equipment")),
            item(Kind::Tag, 40, stands(20, 102)),
            item(Kind::Tag, 41, stands(20, 103)),
            item(Kind::Tag, 42, stands(21, 101)),
            item(Kind::Tag, 43, stands(22, 101)),
            item(Kind::Tag, 44, json!({"name": "Weight", "place": id(30), "setpoint": id(45), "order": 2})),
            item(Kind::Tag, 45, json!({"name": "Wanted", "place": id(30), "order": 1})),
        ];
        let (plant, broken) = Plant::from_stored(1, stored);
        assert!(broken.is_empty(), "{broken:?}");
        plant
    }

    #[test]
    fn a_site_comes_to_its_areas_with_equipment_and_figures_over_base_classes() {
        let plant = plant();
        let areas = plant.areas(None);
        assert_eq!(areas, plant.areas(Some(id(1))), "the only site is the plant");
        let told: Vec<_> = areas.iter().map(|area| (area.place, area.equipment.clone())).collect();
        // By number, not by letter; a part is no equipment of its own; an empty area is none.
        assert_eq!(told, [(id(2), vec![id(22), id(20)]), (id(3), vec![id(30)])]);
        let mut figures: Vec<_> = areas[0].figures.iter().map(|f| (f.class, f.how, f.tags.clone())).collect();
        figures[0].2.sort();
        assert_eq!(figures, [(id(91), RollUp::Count, vec![id(42), id(43)]), (id(93), RollUp::Average, vec![id(40)])]);
        assert_eq!(areas[1].figures, []);
    }

    #[test]
    fn a_place_below_is_one_area_by_itself() {
        let plant = plant();
        let areas = plant.areas(Some(id(2)));
        assert_eq!((areas.len(), areas[0].place, areas[0].equipment.len()), (1, id(2), 2));
        assert_eq!(plant.areas(Some(id(4))), []);
        assert_eq!(plant.areas(Some(id(999))), []);
    }

    #[test]
    fn equipment_is_shown_by_what_its_class_calls_main_or_by_what_comes_first() {
        let plant = plant();
        assert_eq!(plant.main_tags(&[id(41), id(40)]), [id(40)]);
        assert_eq!(plant.main_tags(&[id(44), id(45)]), [id(44)]);
    }

    #[rstest]
    #[case(RollUp::Sum, "kg", &[(1.0, "kg"), (2.0, "t")], Some(2001.0), 2)]
    #[case(RollUp::Sum, "kg", &[(1.0, "kg"), (2.0, "°C"), (f64::NAN, "kg")], Some(1.0), 1)]
    #[case(RollUp::Average, "°C", &[(10.0, "°C"), (30.0, "°C")], Some(20.0), 2)]
    #[case(RollUp::Lowest, "", &[(4.0, ""), (-1.0, "")], Some(-1.0), 2)]
    #[case(RollUp::Highest, "", &[(4.0, ""), (-1.0, "")], Some(4.0), 2)]
    #[case(RollUp::Count, "", &[(1.0, ""), (0.0, ""), (3.0, "")], Some(2.0), 3)]
    #[case(RollUp::Count, "", &[], None, 0)]
    #[case(RollUp::None, "", &[(1.0, "")], None, 1)]
    fn values_come_together(
        #[case] how: RollUp,
        #[case] unit: &str,
        #[case] values: &[(f64, &str)],
        #[case] value: Option<f64>,
        #[case] counted: usize,
    ) {
        assert_eq!(rolled(how, unit, values.iter().copied()), Rolled { value, counted });
    }
}
