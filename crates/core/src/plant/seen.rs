//! The plant as somebody sees it: what lies outside their scope is not there.

use super::{Connection, Item, Own, Place, Plant, Table};
use crate::{access::Scope, formula::Formula};
use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
};
use uuid::Uuid;

impl Plant {
    /// What of the plant lies in a scope: the places of its branches with their tags, and what belongs to those. The places above
    /// are there by their names, so that paths read as they are. Connections tell how they are called, not how devices are
    /// reached.
    pub fn seen(&self, scope: &Scope) -> Plant {
        let Scope::Branches(branches) = scope else { return self.clone() };
        let inside: HashSet<Uuid> =
            self.places.keys().filter(|&&place| branches.iter().any(|&top| self.lies_under(place, top))).copied().collect();
        let mut above: HashSet<Uuid> = HashSet::new();
        for top in branches {
            let mut at = self.places.get(top).and_then(|p| p.set.parent);
            // Bounded, so that not even a damaged tree can hold it up.
            while let Some(place) = at.and_then(|id| self.places.get(&id)).filter(|_| above.len() < self.places.len()) {
                above.insert(place.id);
                at = place.set.parent;
            }
        }
        let mut places = only(&self.places, |p| inside.contains(&p.id));
        for id in above.difference(&inside) {
            if let Some(item) = self.places.get(id) {
                let set = Place { note: String::new(), shift_pattern: None, ..item.set.clone() };
                places.insert(*id, Arc::new(replaced(item, set)));
            }
        }
        let tags = only(&self.tags, |t| inside.contains(&t.set.place));
        let used: HashSet<Uuid> = tags.values().filter_map(|t| t.set.connection).collect();
        let named: HashSet<Uuid> = tags.values().filter_map(|t| t.set.states).collect();
        let mut connections = only(&self.connections, |c| used.contains(&c.id));
        for item in connections.values_mut() {
            let set = Connection { settings: Own::new(), blocks: Vec::new(), ..item.set.clone() };
            *item = Arc::new(replaced(item, set));
        }
        let shown = |report: &Item<super::Report>| {
            report.set.place.is_some_and(|place| inside.contains(&place))
                && report.set.sections.iter().flat_map(super::Section::tags).all(|tag| tags.contains_key(tag))
        };
        let sent = |one: &Item<super::Publication>| {
            one.set.places.iter().all(|place| inside.contains(place)) && one.set.tags.iter().all(|tag| tags.contains_key(tag))
        };
        // What chooses by a class or a connection reaches beyond what is seen.
        let chosen = |one: &super::Recorder| {
            one.tags.iter().all(|tag| tags.contains_key(tag))
                && one.trigger.iter().flat_map(Formula::references).all(|tag| tags.contains_key(&tag))
                && one.choices.iter().all(|choice| choice.place.is_some_and(|place| inside.contains(&place)))
        };
        let reports = only(&self.reports, shown);
        Plant {
            revision: self.revision,
            rules: Arc::new(only(&self.rules, |r| tags.contains_key(&r.set.tag))),
            // What sends elsewhere reaches beyond what is seen.
            dispatches: Table::default(),
            reports: Arc::new(reports),
            publications: Arc::new(only(&self.publications, |one| connections.contains_key(&one.set.connection) && sent(one))),
            recorders: Arc::new(only(&self.recorders, |one| chosen(&one.set))),
            states: Arc::new(only(&self.states, |s| named.contains(&s.id))),
            classes: Table::default(),
            layouts: Table::default(),
            guides: self.guides.clone(),
            alarm_classes: self.alarm_classes.clone(),
            // Who works when, and who is called, is told to those who see everything.
            shift_patterns: Table::default(),
            call_plans: Table::default(),
            places: Arc::new(places),
            connections: Arc::new(connections),
            tags: Arc::new(tags),
        }
    }
}

fn only<T>(table: &Table<T>, wanted: impl Fn(&Item<T>) -> bool) -> HashMap<Uuid, Arc<Item<T>>> {
    table.iter().filter(|(_, item)| wanted(item)).map(|(&id, item)| (id, item.clone())).collect()
}

fn replaced<T>(item: &Item<T>, set: T) -> Item<T> {
    Item { id: item.id, no: item.no, revision: item.revision, own: Own::new(), set }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plant::{Kind, Stored};
    use rstest::rstest;
    use serde_json::{Value as Json, json};
    use std::collections::BTreeSet;

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    fn plant() -> Plant {
        let item = |kind, n: u128, own: Json| Stored {
            kind,
            id: id(n),
            no: n as u32,
            revision: 3,
            own: own.as_object().unwrap().clone(),
        };
        let (plant, broken) = Plant::from_stored(
            5,
            vec![
                item(Kind::Place, 1, json!({"name": "Works", "note": "secret recipe"})),
                item(Kind::Place, 2, json!({"name": "EX-1", "parent": id(1)})),
                item(Kind::Place, 3, json!({"name": "EX-2", "parent": id(1)})),
                item(Kind::Place, 4, json!({"name": "Jacket", "parent": id(2)})),
                item(Kind::States, 5, json!({"name": "Motor", "states": []})),
                item(Kind::Connection, 6, json!({"name": "Extraction", "kind": "modbus", "settings": {"host": "10.0.4.21"}})),
                item(Kind::Connection, 7, json!({"name": "Wash", "kind": "modbus"})),
                item(Kind::Tag, 10, json!({"name": "Level", "place": id(2), "connection": id(6)})),
                item(Kind::Tag, 11, json!({"name": "Flow", "place": id(4)})),
                item(Kind::Tag, 12, json!({"name": "Level", "place": id(3), "connection": id(7), "states": id(5)})),
                item(Kind::Rule, 20, json!({"tag": id(10), "kind": "high", "level": 80.0})),
                item(Kind::Rule, 21, json!({"tag": id(12), "kind": "high", "level": 80.0})),
                item(
                    Kind::Report,
                    30,
                    json!({"name": "Own", "place": id(2), "sections": [{"kind": "values", "tags": [id(10)]}]}),
                ),
                item(
                    Kind::Report,
                    31,
                    json!({"name": "Mixed", "place": id(2), "sections": [{"kind": "values", "tags": [id(12)]}]}),
                ),
                item(Kind::Report, 32, json!({"name": "All", "sections": [{"kind": "alarms"}]})),
            ],
        );
        assert!(broken.is_empty(), "{broken:?}");
        plant
    }

    #[rstest]
    #[case::a_branch(&[2], &[1, 2, 4, 6, 10, 11, 20, 30])]
    #[case::its_end(&[4], &[1, 2, 4, 11])]
    #[case::two(&[3, 4], &[1, 2, 3, 4, 5, 7, 11, 12, 21])]
    #[case::within_each_other(&[1, 2], &[1, 2, 3, 4, 5, 6, 7, 10, 11, 12, 20, 21, 30, 31])]
    #[case::none(&[], &[])]
    #[case::one_that_is_gone(&[77], &[])]
    fn what_lies_in_a_scope(#[case] branches: &[u128], #[case] expected: &[u128]) {
        let scope = Scope::Branches(branches.iter().map(|&n| id(n)).collect());
        let seen = plant().seen(&scope);
        let all: BTreeSet<u128> = Kind::ALL.iter().flat_map(|&kind| seen.ids(kind)).map(|id| id.as_u128()).collect();
        assert_eq!(all, expected.iter().copied().collect());
        assert_eq!(seen.revision, 5);
    }

    #[test]
    fn everything_is_the_plant_itself_and_of_what_is_above_only_the_name_is_told() {
        let plant = plant();
        assert_eq!(plant.seen(&Scope::Everything).places.len(), plant.places.len());
        let seen = plant.seen(&Scope::Branches([id(4)].into()));
        assert_eq!(seen.path(Some(id(4))), "Works/EX-1/Jacket");
        assert_eq!((seen.places[&id(1)].set.note.as_str(), seen.own(Kind::Place, id(1)).map(|o| o.0.len())), ("", Some(0)));
        let seen = plant.seen(&Scope::Branches([id(2)].into()));
        assert!(seen.connections[&id(6)].set.settings.is_empty(), "how a device is reached is not shown");
    }
}
