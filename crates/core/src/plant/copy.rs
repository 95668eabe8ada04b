//! Copies of branches: references inside a branch follow the copy, references out of it stay.

use super::{Edit, Kind, Op, Own, Plant, Relations, check::NAME_LENGTH, formula_texts};
use crate::formula::Formula;
use serde_json::Value as Json;
use std::collections::{HashMap, HashSet};
use uuid::Uuid;

/// Copies places with all that lies under them to another parent (`None`: to the top), in front of the sibling of that
/// order or behind all. Gives the edits, and the ids of the copies of the places themselves in that order. A place that lies under
/// another of the list comes with it and is not copied twice. A name that is taken there is counted up.
///
/// # Errors
/// A sentence where a place does not exist.
pub fn branches(
    plant: &Plant,
    places: &[Uuid],
    to: Option<Uuid>,
    mut new_id: impl FnMut() -> Uuid,
) -> Result<(Vec<Edit>, Vec<Uuid>), String> {
    if places.iter().any(|id| !plant.places.contains_key(id)) || to.is_some_and(|id| !plant.places.contains_key(&id)) {
        return Err("One of these places does not exist any more.".into());
    }
    let tops = tops(plant, places);
    let mut items: Vec<(Kind, Uuid)> = Vec::new();
    let relations = Relations::of(plant);
    for &top in &tops {
        items.push((Kind::Place, top));
        items.extend(relations.contents(Kind::Place, top));
    }
    let copies: HashMap<Uuid, Uuid> = items.iter().map(|(_, id)| (*id, new_id())).collect();
    let siblings = plant.places.values().filter(|p| p.set.parent == to);
    let mut order = siblings.clone().map(|p| p.set.order).fold(0.0, f64::max);
    let mut taken: HashSet<String> = siblings.map(|p| p.set.name.clone()).collect();
    let mut edits = Vec::with_capacity(items.len());
    for (kind, id) in items {
        let (Some((own, ..)), Some(&copy)) = (plant.own(kind, id), copies.get(&id)) else { continue };
        let mut own: Own = own.iter().map(|(field, value)| (field.clone(), followed(value, &copies))).collect();
        for (_, text) in formula_texts(kind, &mut own) {
            *text = Formula::shown(text, |id| copies.get(&id).map(Uuid::to_string));
        }
        if kind == Kind::Place && tops.contains(&id) {
            let name = free_name(&plant.places[&id].set.name, &taken);
            taken.insert(name.clone());
            order += 1.0;
            own.insert("name".into(), name.into());
            own.insert("order".into(), order.into());
            // A copy of a part is equipment by itself: what the equipment above said of it, it says itself.
            if own.shift_remove("part").is_some() {
                let set = &plant.places[&id].set;
                own.insert("class".into(), serde_json::json!(set.class));
                own.insert("parameters".into(), Json::Object(set.parameters.clone()));
            }
            match to {
                Some(to) => own.insert("parent".into(), to.to_string().into()),
                None => own.shift_remove("parent"),
            };
        }
        edits.push(Edit { kind, id: copy, op: Op::Create(own, None), seen: None });
    }
    Ok((edits, tops.iter().filter_map(|id| copies.get(id).copied()).collect()))
}

/// Those of the places that lie under none of the others.
pub fn tops(plant: &Plant, places: &[Uuid]) -> Vec<Uuid> {
    let mut once = HashSet::new();
    let under_other = |id: Uuid| places.iter().any(|&other| other != id && plant.lies_under(id, other));
    places.iter().copied().filter(|&id| once.insert(id) && !under_other(id)).collect()
}

/// A setting in which every id of something copied is that of its copy. Ids are unique, so a text that is one means it.
fn followed(value: &Json, copies: &HashMap<Uuid, Uuid>) -> Json {
    match value {
        Json::String(text) => match Uuid::parse_str(text).ok().and_then(|id| copies.get(&id)) {
            Some(copy) => Json::String(copy.to_string()),
            None => value.clone(),
        },
        Json::Array(list) => list.iter().map(|v| followed(v, copies)).collect(),
        Json::Object(map) => Json::Object(map.iter().map(|(k, v)| (k.clone(), followed(v, copies))).collect()),
        _ => value.clone(),
    }
}

/// The name itself where it is free; otherwise counted up from its number, or from 2: “EX-1” becomes “EX-2”, “Yard” “Yard 2”.
pub fn free_name(name: &str, taken: &HashSet<String>) -> String {
    if !taken.contains(name) {
        return name.to_owned();
    }
    let stem = name.trim_end_matches(|c: char| c.is_ascii_digit());
    let digits = &name[stem.len()..];
    let (stem, from, width) = match digits.parse::<u64>() {
        Ok(number) if number < u64::MAX / 2 => {
            (stem.to_owned(), number + 1, if digits.starts_with('0') { digits.len() } else { 0 })
        }
        _ => (format!("{name} "), 2, 0),
    };
    let most = NAME_LENGTH - 21;
    let stem: String = stem.chars().take(most).collect();
    // As many candidates as there are taken names, and one more: one of them is free.
    (from..).map(|n| format!("{stem}{n:0width$}")).find(|candidate| !taken.contains(candidate)).unwrap_or(stem)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plant::{Stored, edit};
    use proptest::prelude::*;
    use rstest::rstest;
    use serde_json::json;

    #[rstest]
    #[case("EX-1", &["EX-1"], "EX-2")]
    #[case("EX-1", &["EX-1", "EX-2", "EX-3"], "EX-4")]
    #[case("EX-1", &[], "EX-1")]
    #[case("Zone 09", &["Zone 09"], "Zone 10")]
    #[case("Zone 007", &["Zone 007"], "Zone 008")]
    #[case("Yard", &["Yard", "Yard 2"], "Yard 3")]
    #[case("99999999999999999999999", &["99999999999999999999999"], "99999999999999999999999 2")]
    fn a_taken_name_is_counted_up(#[case] name: &str, #[case] taken: &[&str], #[case] wanted: &str) {
        assert_eq!(free_name(name, &taken.iter().map(|s| (*s).to_owned()).collect()), wanted);
    }

    fn id(n: u128) -> Uuid {
        Uuid::from_u128(n)
    }

    /// Place n (from 1) lies under the given other, each has two tags: 100+2n with setpoint 101+2n, or that of place 1.
    fn plant(parents: &[u128], inside: &[bool]) -> Plant {
        let mut stored = Vec::new();
        let mut add = |kind, n: u128, value: Json| {
            let own = value.as_object().unwrap().clone();
            stored.push(Stored { kind, id: id(n), no: n as u32, revision: 1, own });
        };
        for (i, parent) in parents.iter().enumerate() {
            let n = i as u128 + 1;
            // Only earlier places are parents, so that there is no ring.
            let parent = parent % n;
            let set = if parent == 0 {
                json!({"name": format!("P{n}")})
            } else {
                json!({"name": format!("P{n}"), "parent": id(parent)})
            };
            add(Kind::Place, n, set);
            let setpoint = if inside.get(i) == Some(&true) { id(101 + 2 * n) } else { id(103) };
            add(Kind::Tag, 100 + 2 * n, json!({"name": "Level", "place": id(n), "setpoint": setpoint}));
            add(Kind::Tag, 101 + 2 * n, json!({"name": "Setpoint", "place": id(n), "note": "as it is"}));
            add(Kind::Rule, 500 + n, json!({"tag": id(100 + 2 * n), "kind": "high", "level": 5.0}));
        }
        let (plant, broken) = Plant::from_stored(1, stored);
        assert!(broken.is_empty(), "{broken:?}");
        plant
    }

    proptest! {
        /// The copy has as much under it as the original; what pointed inside points inside the copy, what pointed out points
        /// to the same as before; and the original is untouched.
        #[test]
        fn references_inside_follow_and_those_out_stay(
            parents in prop::collection::vec(0u128..12, 1..12), inside in prop::collection::vec(any::<bool>(), 12),
            chosen in prop::collection::vec(0usize..12, 1..4), to in 0usize..13,
        ) {
            let plant = plant(&parents, &inside);
            let chosen: Vec<Uuid> = chosen.iter().map(|c| id((c % parents.len()) as u128 + 1)).collect();
            let to = (to < parents.len()).then(|| id(to as u128 + 1));
            let mut next = 10_000u128;
            let (edits, made) = branches(&plant, &chosen, to, || { next += 1; id(next) }).unwrap();
            let (after, _) = edit::apply(&plant, &edits, &(), || 7).map_err(|p| TestCaseError::fail(format!("{p:?}")))?;
            let tops = tops(&plant, &chosen);
            prop_assert_eq!(tops.len(), made.len());
            for (top, copy) in tops.iter().zip(&made) {
                prop_assert_eq!(after.places[copy].set.parent, to);
                prop_assert_eq!(after.contents(Kind::Place, *copy).len(), plant.contents(Kind::Place, *top).len());
                for (kind, tag) in after.contents(Kind::Place, *copy).into_iter().filter(|(k, _)| *k == Kind::Tag) {
                    prop_assert_eq!(kind, Kind::Tag);
                    let Some(setpoint) = after.tags[&tag].set.setpoint else { continue };
                    let holder = after.tags[&setpoint].set.place;
                    let copied = made.iter().any(|c| after.lies_under(holder, *c));
                    // The tag of place 1 is in the copy just when place 1 is; what is not copied keeps its own id.
                    prop_assert!(copied || plant.tags.contains_key(&setpoint));
                    prop_assert!(copied || !tops.iter().any(|t| plant.lies_under(plant.tags[&setpoint].set.place, *t)));
                }
            }
            for (place, item) in plant.places.iter() {
                prop_assert_eq!(&after.places[place].own, &item.own);
            }
        }
    }
}
