//! Anything done to classes and instances, one step after the other.

use super::*;
use crate::plant::undo::{go_back, net};
use proptest::prelude::*;

#[derive(Clone, Debug)]
enum Step {
    Range(usize, Option<f64>),
    ClassRange(f64),
    Without(u128, bool),
    Count(u32),
    Share(bool),
    Base(u128, Option<i64>),
    /// A tag of a pump, and the class of its vessel in one go.
    Both(usize, Option<i64>, f64),
    Place(u128, bool),
    Class(u128, u8),
    Name(u128, u8),
    Undo(usize),
}

fn any_step() -> impl Strategy<Value = Step> {
    let place = 11u128..14;
    prop_oneof![
        (0usize..4, prop::option::of(1.0..9.0f64)).prop_map(|(n, v)| Step::Range(n, v)),
        (1.0..9.0f64).prop_map(Step::ClassRange),
        (place.clone(), any::<bool>()).prop_map(|(p, on)| Step::Without(p, on)),
        (1u32..4).prop_map(Step::Count),
        any::<bool>().prop_map(Step::Share),
        (place.clone(), prop::option::of(0i64..500)).prop_map(|(p, v)| Step::Base(p, v)),
        (0usize..4, prop::option::of(0i64..500), 1.0..9.0f64).prop_map(|(n, v, range)| Step::Both(n, v, range)),
        (place.clone(), any::<bool>()).prop_map(|(p, on)| Step::Place(p, on)),
        (place.clone(), 0u8..3).prop_map(|(p, c)| Step::Class(p, c)),
        (place, 0u8..3).prop_map(|(p, n)| Step::Name(p, n)),
        (0usize..6).prop_map(Step::Undo),
    ]
}

/// The edit of a step, where there is something to edit.
fn edit_of(step: &Step, plant: &Plant) -> Option<Edit> {
    let class = |change: &dyn Fn(&mut Json)| {
        let mut class = json!(plant.classes[&id(1)].own);
        change(&mut class);
        patch(Kind::Class, id(1), json!({"properties": class["properties"], "parts": class["parts"]}))
    };
    let place = |p: u128, change: Json| plant.places.contains_key(&id(p)).then(|| patch(Kind::Place, id(p), change));
    match step {
        Step::Range(n, value) => {
            let mut tags: Vec<Uuid> = plant.tags.values().filter(|t| t.set.property == Some(id(LEVEL))).map(|t| t.id).collect();
            tags.sort_unstable();
            Some(patch(Kind::Tag, *tags.get(*n)?, json!({"range_high": value})))
        }
        Step::ClassRange(value) => {
            Some(class(&|class| class["properties"][id(LEVEL).to_string()]["tag"]["range_high"] = json!(value)))
        }
        Step::Without(p, on) => place(*p, json!({"without": if *on { vec![id(SETPOINT)] } else { vec![] }})),
        Step::Count(count) => Some(class(&|class| class["parts"][id(PUMP).to_string()]["count"] = json!(count))),
        Step::Share(on) => Some(class(&|class| {
            let properties = class["properties"].as_object_mut().unwrap();
            let share = id(SHARE).to_string();
            if *on {
                drop(properties.insert(share.clone(), vessel()["properties"][&share].clone()))
            } else {
                drop(properties.shift_remove(&share))
            }
        })),
        Step::Base(p, value) => place(*p, json!({"parameters": {(id(BASE).to_string()): value}})),
        Step::Place(p, true) if plant.places.contains_key(&id(*p)) => None,
        Step::Place(p, true) => {
            Some(create(Kind::Place, *p, json!({"name": format!("EX-{p}"), "parent": id(10), "class": id(1)})))
        }
        Step::Place(p, false) => plant.places.contains_key(&id(*p)).then(|| delete(Kind::Place, id(*p))),
        Step::Class(p, class) => {
            let class = [Some(id(1)), Some(id(2)), None][usize::from(*class)];
            place(*p, json!({"class": class}))
        }
        Step::Name(p, n) => place(*p, json!({"name": format!("N{n}")})),
        Step::Both(..) | Step::Undo(_) => None,
    }
}

proptest! {
    /// Whatever is done to classes and instances: each instance has just what its class says, following the changes elsewhere or
    /// reading all from the store gives the same plant, and every way back leads back.
    #[test]
    fn instances_stay_in_line(steps in prop::collection::vec(any_step(), 1..14)) {
        let mut plant = plant();
        let mut past: Vec<(Plant, Vec<Change>)> = Vec::new();
        for step in steps {
            let edits = match &step {
                Step::Undo(n) => match past.iter().rev().nth(*n) {
                    Some((_, since)) => go_back(since),
                    None => continue,
                },
                Step::Both(n, offset, range) => {
                    let mut pumps: Vec<Uuid> = plant.tags.values().filter(|t| t.set.property == Some(id(RUNS))).map(|t| t.id).collect();
                    pumps.sort_unstable();
                    let Some(pump) = pumps.get(*n) else { continue };
                    let point = offset.map(|offset| json!({"offset": offset}));
                    let class = edit_of(&Step::ClassRange(*range), &plant);
                    [patch(Kind::Tag, *pump, json!({"point": point}))].into_iter().chain(class).collect()
                }
                other => edit_of(other, &plant).into_iter().collect(),
            };
            if edits.is_empty() { continue }
            let before = plant.clone();
            match try_on(&plant, &edits) {
                Ok((next, changes)) => {
                    prop_assert_eq!(differences(&plant.absorb(next.revision, &changes).unwrap(), &next, true), "", "followed {:?}", step);
                    prop_assert_eq!(differences(&reread(&next), &next, true), "", "read anew after {:?}", step);
                    if let Step::Undo(n) = step {
                        let (earlier, since) = &past[past.len() - 1 - n];
                        // A tag that came anew in between has another number; the database knows the one it had.
                        prop_assert!(net(since).is_empty() || differences(&next, earlier, false).is_empty(), "back over {n}");
                    }
                    past.push((before, Vec::new()));
                    past.iter_mut().for_each(|(_, since)| since.extend(changes.iter().cloned()));
                    plant = next;
                }
                // Two of one name, and nothing else, is refused.
                Err(problems) => prop_assert!(problems.iter().all(|p| p.field == "name"), "{step:?}: {problems:?}"),
            }
            in_line(&plant)?;
        }
    }
}

/// Each instance has a tag for each property and a place for each part of its class, and nothing else that stands for any.
fn in_line(plant: &Plant) -> Result<(), TestCaseError> {
    for item in plant.places.values() {
        let class = plant.class_of(item.id);
        let mut wanted: Vec<Uuid> = class.into_iter().flat_map(|c| c.properties.keys().copied()).collect();
        wanted.retain(|id| !item.set.without.contains(id));
        let mut tags: Vec<Uuid> = plant.tags.values().filter(|t| t.set.place == item.id).filter_map(|t| t.set.property).collect();
        tags.sort_unstable();
        prop_assert_eq!(tags, wanted);
        let parts = plant.places.values().filter(|p| p.set.parent == Some(item.id) && p.set.part.is_some()).count();
        let count: u32 = class.into_iter().flat_map(|c| c.parts.values()).map(|part| part.count).sum();
        prop_assert_eq!(parts, count as usize);
    }
    Ok(())
}
