//! The whole configuration as one open JSON file: `{"format": "havrel-plant", "version": 1, "items": {"place": [{"id", "set"}], …}}`,
//! where `set` holds an item's own settings.

use crate::sheet::{NoPlan, Plan, Wrong, tried};
use havrel_core::plant::{
    Edit, Kind, Op, Own, Plant, Settings, SourceCheck, edit,
    secret::{self, masked_own},
};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashSet};
use uuid::Uuid;

/// What the file calls itself.
const FORMAT: &str = "havrel-plant";

/// An item with its own settings.
#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Entry {
    id: Uuid,
    set: Own,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    format: String,
    version: u32,
    /// The revision it was written from.
    #[serde(default)]
    revision: i64,
    /// It holds some items only; the others stay as they are.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    partial: bool,
    items: BTreeMap<String, Vec<Entry>>,
}

fn ids(plant: &Plant, kind: Kind) -> Vec<Uuid> {
    let mut ids = plant.ids(kind);
    ids.sort_unstable();
    ids
}

/// Writes a plant. Of secrets it says only that there are some.
///
/// # Errors
/// When it cannot be written, which memory alone decides.
pub fn write(plant: &Plant) -> serde_json::Result<Vec<u8>> {
    let entries = |kind: Kind| {
        let own = |id: Uuid| plant.own(kind, id).map(|(own, ..)| Entry { id, set: masked_own(own) });
        (kind.name().to_owned(), ids(plant, kind).into_iter().filter_map(own).collect())
    };
    let items = Kind::ALL.into_iter().map(entries).collect();
    serde_json::to_vec_pretty(&File { format: FORMAT.into(), version: 1, revision: plant.revision, partial: false, items })
}

/// Writes a class with all that it needs to be understood: the classes that it extends and that its parts are of, and the state
/// names that they use.
///
/// # Errors
/// When it cannot be written, which memory alone decides.
pub fn write_class(plant: &Plant, class: Uuid) -> serde_json::Result<Vec<u8>> {
    let mut classes: Vec<Uuid> = Vec::new();
    let mut open = vec![class];
    while let Some(id) = open.pop() {
        let Some(item) = plant.classes.get(&id).filter(|_| !classes.contains(&id)) else { continue };
        classes.push(id);
        open.extend(item.set.extends);
        open.extend(item.set.parts.values().map(|part| part.class));
    }
    let named = classes.iter().filter_map(|id| plant.classes.get(id)).flat_map(|item| item.set.references());
    let mut states: Vec<Uuid> = named.map(|reference| reference.to).filter(|id| plant.states.contains_key(id)).collect();
    states.sort_unstable();
    states.dedup();
    classes.sort_unstable();
    let entries = |kind: Kind, ids: Vec<Uuid>| {
        let own = |id: Uuid| plant.own(kind, id).map(|(own, ..)| Entry { id, set: own.clone() });
        (kind.name().to_owned(), ids.into_iter().filter_map(own).collect())
    };
    let items = [entries(Kind::Class, classes), entries(Kind::States, states)].into_iter().collect();
    serde_json::to_vec_pretty(&File { format: FORMAT.into(), version: 1, revision: plant.revision, partial: true, items })
}

/// Compares a file with the plant: what has a known id becomes what the file says, the rest is made; with `remove`, what is not
/// in the file goes. `watch` hears how far it is, from 0 to 1, and says whether to go on.
///
/// # Errors
/// What is wrong with the file, or every reason why it could not be taken in.
pub fn compare(
    plant: &Plant,
    bytes: &[u8],
    remove: bool,
    check: &dyn SourceCheck,
    watch: &mut dyn FnMut(f64) -> bool,
) -> Result<Plan, NoPlan> {
    let whole = |line: usize, message: String| NoPlan::Wrong(vec![Wrong { line: line as u64, column: String::new(), message }]);
    let file: File = serde_json::from_slice(bytes).map_err(|e| whole(e.line(), format!("This cannot be read: {e}.")))?;
    if file.format != FORMAT || file.version != 1 {
        return Err(whole(
            0,
            format!("This is not a plant file that this version reads; its format must be “{FORMAT}”, version 1."),
        ));
    }
    if file.partial && remove {
        return Err(whole(0, "This file holds some items only, so what is not in it cannot be removed by it.".into()));
    }
    let mut edits = Vec::new();
    let mut named = HashSet::new();
    let mut unchanged = 0;
    for (name, entries) in file.items {
        let Some(kind) = Kind::from_name(&name) else {
            return Err(whole(0, format!("There is no kind of items “{name}”.")));
        };
        for Entry { id, mut set } in entries {
            if let (Some(settings), Some((own, ..))) = (set.get_mut("settings"), plant.own(kind, id)) {
                secret::keep(settings, own.get("settings"));
            }
            if !named.insert(id) {
                return Err(whole(0, format!("The id {id} appears in the file twice.")));
            }
            let op = match plant.own(kind, id) {
                Some((own, ..)) if *own == set => {
                    unchanged += 1;
                    continue;
                }
                Some((own, ..)) => {
                    // Fields that the file does not have go back to their defaults.
                    let mut patch: Own = own.keys().map(|field| (field.clone(), serde_json::Value::Null)).collect();
                    patch.extend(set);
                    Op::Patch(patch)
                }
                None => Op::Create(set, None),
            };
            edits.push(Edit { kind, id, op, seen: Some(plant.revision) });
        }
    }
    // What things refer to must be there before they are, so kinds come in their order.
    edits.sort_by_key(|e| Kind::ALL.iter().position(|k| *k == e.kind));
    if remove {
        for kind in Kind::ALL.into_iter().rev() {
            let gone = ids(plant, kind).into_iter().filter(|id| !named.contains(id));
            edits.extend(gone.map(|id| Edit { kind, id, op: Op::Delete { contents: false }, seen: Some(plant.revision) }));
        }
    }
    if edits.len() > edit::MOST_EDITS {
        let message = format!("{} items would change; at most {} do at once.", edits.len(), edit::MOST_EDITS);
        return Err(whole(0, message));
    }
    let wishes: Vec<(Kind, Uuid)> = edits.iter().map(|e| (e.kind, e.id)).collect();
    let refused = |problems: Vec<edit::Problem>| {
        let wrong = |p: edit::Problem| {
            let (kind, id) = wishes[p.edit];
            let title = plant.title(kind, id);
            let message = format!("{} {}: {}", kind.words(), if title.is_empty() { id.to_string() } else { title }, p.message);
            Wrong { line: 0, column: p.field, message }
        };
        NoPlan::Wrong(problems.into_iter().map(wrong).collect())
    };
    let mut plan = tried(plant, edits, check, &|_, _| None, watch)?.map_err(refused)?;
    plan.unchanged = unchanged;
    Ok(plan)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::Outcome;
    use havrel_core::plant::Stored;
    use rstest::rstest;
    use serde_json::json;

    fn plant() -> Plant {
        let id = Uuid::from_u128;
        let item = |kind, n: u128, own: serde_json::Value| Stored {
            kind,
            id: id(n),
            no: n as u32,
            revision: 3,
            own: own.as_object().unwrap().clone(),
        };
        let stored = vec![
            item(Kind::Place, 9, json!({"name": "Works"})),
            item(Kind::Place, 2, json!({"name": "EX-1", "parent": id(9)})),
            item(Kind::Tag, 3, json!({"name": "Level", "place": id(2), "unit": "%"})),
            item(Kind::Rule, 4, json!({"tag": id(3), "kind": "high", "level": 80.0})),
            item(Kind::Report, 5, json!({"name": "Shift", "sections": [{"kind": "summary", "tags": [id(3)]}]})),
        ];
        Plant::from_stored(5, stored).0
    }

    #[test]
    fn a_plant_goes_out_and_comes_in_the_same() {
        let bytes = write(&plant()).unwrap();
        let same = compare(&plant(), &bytes, true, &(), &mut |_| true).unwrap();
        assert_eq!((same.edits.len(), same.unchanged), (0, 5));
        // Into an empty plant: everything is made, whatever the order of ids.
        let empty = Plant::default();
        let made = compare(&empty, &bytes, true, &(), &mut |_| true).unwrap();
        assert_eq!(made.counts.values().sum::<usize>(), 5);
        let (next, _) = edit::apply(&empty, &made.edits, &(), || 1).unwrap();
        assert_eq!(next.tag_path(&next.tags[&Uuid::from_u128(3)].set), "Works/EX-1/Level");
        // And everything goes where the file holds nothing.
        let none = br#"{"format": "havrel-plant", "version": 1, "items": {}}"#;
        let gone = compare(&plant(), none, true, &(), &mut |_| true).unwrap();
        assert_eq!(gone.counts[&(Outcome::Removed, Kind::Place)], 2);
        assert!(compare(&plant(), none, false, &(), &mut |_| true).unwrap().edits.is_empty());
    }

    #[test]
    fn a_class_goes_out_with_what_it_needs_and_comes_in_the_same() {
        let id = Uuid::from_u128;
        let item = |kind, n: u128, own: serde_json::Value| Stored {
            kind,
            id: id(n),
            no: 0,
            revision: 3,
            own: own.as_object().unwrap().clone(),
        };
        let states = json!({"name": "Motor", "states": [{"value": 0, "name": "Stopped"}]});
        let pump = json!({"name": "Pump", "properties": {(id(10).to_string()): {"tag": {"name": "Runs", "states": id(5)}}}});
        let text = format!("own(\"{}:1/{}\")", id(11), id(10));
        let computed = json!({"kind": "computed", "tag": {"name": "Pumping", "formula": {"text": text}}});
        let part = json!({(id(11).to_string()): {"name": "Pump", "class": id(2)}});
        let stored = vec![
            item(Kind::States, 5, states),
            item(Kind::Class, 1, json!({"name": "Vessel", "parts": part, "properties": {(id(12).to_string()): computed}})),
            item(Kind::Class, 2, pump),
            item(Kind::Class, 3, json!({"name": "Heated vessel", "extends": id(1)})),
            item(Kind::Class, 4, json!({"name": "Mill"})),
        ];
        let plant = Plant::from_stored(5, stored).0;
        let bytes = write_class(&plant, id(3)).unwrap();
        let empty = Plant::default();
        let made = compare(&empty, &bytes, false, &(), &mut |_| true).unwrap();
        let (next, _) = edit::apply(&empty, &made.edits, &(), || 1).unwrap();
        assert_eq!((next.classes.len(), next.states.len()), (3, 1));
        assert_eq!(next.classes[&id(3)].set, plant.classes[&id(3)].set);
        assert!(compare(&plant, &bytes, false, &(), &mut |_| true).unwrap().edits.is_empty());
        assert!(compare(&plant, &bytes, true, &(), &mut |_| true).is_err());
    }

    #[test]
    fn a_comparison_can_be_stopped_in_its_middle() {
        let bytes = write(&plant()).unwrap();
        let mut heard = 0;
        let stopped = compare(&Plant::default(), &bytes, true, &(), &mut |_| {
            heard += 1;
            heard < 2
        });
        assert!(matches!(stopped, Err(NoPlan::Cancelled)));
        assert_eq!(heard, 2);
    }

    #[rstest]
    #[case("{", "This cannot be read")]
    #[case(r#"{"format": "other", "version": 1, "items": {}}"#, "This is not a plant file")]
    #[case(r#"{"format": "havrel-plant", "version": 1, "items": {"valve": []}}"#, "There is no kind")]
    #[case(
        r#"{"format": "havrel-plant", "version": 1, "items": {"tag": [{"id": "00000000-0000-0000-0000-000000000077", "set": {"name": "x", "place": "00000000-0000-0000-0000-000000000066"}}]}}"#,
        "tag 00000000-0000-0000-0000-000000000077: The place it names does not exist."
    )]
    fn what_is_wrong_is_told(#[case] text: &str, #[case] words: &str) {
        let Err(NoPlan::Wrong(wrong)) = compare(&plant(), text.as_bytes(), false, &(), &mut |_| true) else {
            panic!("it was taken")
        };
        assert!(wrong[0].message.starts_with(words), "{wrong:?}");
    }
}
