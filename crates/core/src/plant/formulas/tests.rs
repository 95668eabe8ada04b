//! Formulas as settings of tags: named, checked, copied, and written in sheets.

use super::*;
use crate::plant::{Edit, Kind, Op, Stored, copy, edit, table};
use rstest::rstest;
use serde_json::{Value as Json, json};

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

fn plant() -> Plant {
    let item =
        |kind, n: u128, own: Json| Stored { kind, id: id(n), no: n as u32, revision: 1, own: own.as_object().unwrap().clone() };
    let (plant, broken) = Plant::from_stored(
        1,
        vec![
            item(Kind::Place, 1, json!({"name": "Extraction"})),
            item(Kind::Place, 2, json!({"name": "EX-1", "parent": id(1)})),
            item(Kind::Tag, 10, json!({"name": "Level", "place": id(2), "unit": "%"})),
            item(Kind::Tag, 11, json!({"name": "Mass", "place": id(2), "unit": "kg"})),
            item(Kind::Tag, 12, json!({"name": "Total", "place": id(1), "unit": "t"})),
            item(
                Kind::Tag,
                13,
                json!({"name": "Twice", "place": id(2), "unit": "kg", "formula": {"text": format!("at(\"{}\") * 2", id(11))}}),
            ),
        ],
    );
    assert_eq!(broken, []);
    plant
}

fn create(n: u128, own: Json) -> Edit {
    Edit { kind: Kind::Tag, id: id(n), op: Op::Create(own.as_object().unwrap().clone(), None), seen: None }
}

fn patch(n: u128, own: Json) -> Edit {
    Edit { kind: Kind::Tag, id: id(n), op: Op::Patch(own.as_object().unwrap().clone()), seen: None }
}

fn computed(text: &str) -> Json {
    json!({"name": "New", "place": id(2), "formula": {"text": text}})
}

#[test]
fn paths_become_identities_and_follow_a_rename() {
    let edits = [
        create(20, computed("at(\"Extraction/EX-1/Mass\") + at(\"Mass\") + at(\"Extraction / Total\")")),
        // Named before it is made.
        create(21, json!({"name": "Over", "place": id(1), "formula": {"text": "at(\"Extraction/EX-1/New\")"}})),
    ];
    let (next, changes) = edit::apply(&plant(), &edits, &(), || 30).unwrap();
    let stored = next.tags[&id(20)].set.formula.clone().unwrap();
    assert_eq!(stored.text(), format!("at(\"{0}\") + at(\"{0}\") + at(\"{1}\")", id(11), id(12)));
    assert!(changes.iter().all(|c| !format!("{c:?}").contains("Extraction/EX-1/Mass")), "changes hold identities");
    let (renamed, _) = edit::apply(&next, &[patch(11, json!({"name": "Weight"}))], &(), || 31).unwrap();
    let shown = renamed.formula_shown(renamed.tags[&id(20)].set.formula.as_ref().unwrap().text());
    assert_eq!(shown, "at(\"Extraction/EX-1/Weight\") + at(\"Extraction/EX-1/Weight\") + at(\"Extraction/Total\")");
    assert_eq!(renamed.formula_shown(next.tags[&id(21)].set.formula.as_ref().unwrap().text()), "at(\"Extraction/EX-1/New\")");
}

#[rstest]
#[case::no_such_tag(
    create(20, computed("1 + at(\"Extraction/EX-9/Mass\")")),
    "formula.text",
    "Character 8: There is no tag “Extraction/EX-9/Mass”."
)]
#[case::not_readable(
    create(20, computed("1 +")),
    "formula",
    "Character 3: The formula ends too early: something is missing behind this."
)]
#[case::no_sense(
    create(20, computed("at(\"Mass\") + at(\"Level\")")),
    "formula.text",
    "Character 28: % and kg do not measure the same."
)]
#[case::itself(create(20, computed("at(\"New\") + 1")), "formula.text", "It would read itself: it reads Extraction/EX-1/New.")]
#[case::a_circle(patch(11, json!({"formula": {"text": "at(\"Twice\")"}})), "formula.text", "It would read itself: it reads Extraction/EX-1/Twice, which reads Extraction/EX-1/Mass.")]
#[case::written(patch(13, json!({"writable": true})), "writable", "A computed value cannot be written.")]
#[case::scaled(patch(13, json!({"scaling": {"raw_low": 0, "raw_high": 1, "low": 0, "high": 10}})), "scaling", "A computed value is not scaled; calculate in the formula.")]
#[case::unit_of_the_result(patch(13, json!({"unit": "bar"})), "formula.text", "Character 1: The result does not fit the tag's unit: kg and bar do not measure the same.")]
#[case::unit_of_an_input(patch(11, json!({"unit": "bar"})), "unit", "The formula of “Extraction/EX-1/Twice” does not go with it: The result does not fit the tag's unit: bar and kg do not measure the same.")]
#[case::gone(Edit { kind: Kind::Tag, id: id(11), op: Op::Delete { contents: false }, seen: None }, "", "“Extraction/EX-1/Mass” cannot be deleted: the formula of “Extraction/EX-1/Twice” reads it.")]
fn what_cannot_be_is_refused_at_its_field(#[case] edit: Edit, #[case] field: &str, #[case] message: &str) {
    let problems = edit::apply(&plant(), &[edit], &(), || 30).unwrap_err();
    assert_eq!((problems[0].field.as_str(), problems[0].message.as_str()), (field, message));
}

#[test]
fn a_copy_reads_what_was_copied_with_it() {
    let mut next = 500;
    let (edits, _) = copy::branches(&plant(), &[id(2)], Some(id(1)), || {
        next += 1;
        id(next)
    })
    .unwrap();
    let (after, _) = edit::apply(&plant(), &edits, &(), || 40).unwrap();
    let copy = after.tags.values().find(|t| after.tag_path(&t.set) == "Extraction/EX-2/Twice").unwrap();
    assert_eq!(after.formula_shown(copy.set.formula.as_ref().unwrap().text()), "at(\"Extraction/EX-2/Mass\") * 2");
}

#[test]
fn a_sheet_shows_and_takes_formulas_by_path() {
    let plant = plant();
    let column = table::column_of(Kind::Tag, "formula").unwrap();
    let cell = |plant: &Plant, n| table::Reader::of(plant, |_| false).cell(column, Kind::Tag, id(n));
    assert_eq!((cell(&plant, 13).as_str(), cell(&plant, 10).as_str()), ("at(\"Extraction/EX-1/Mass\") * 2", ""));
    let row = |text: &str| {
        let written = table::Written { column: "formula".into(), text: text.into(), was: None };
        table::plan(&plant, Kind::Tag, &[table::Row { id: id(13), fresh: false, cells: vec![written] }], &mut || id(900))
    };
    assert_eq!(row("at(\"Extraction/EX-1/Mass\") * 2").unwrap(), [], "the same is no change");
    let changed = row("at(\"Mass\") * 3").unwrap();
    let (after, _) = edit::apply(&plant, &[changed[0].edit.clone()], &(), || 40).unwrap();
    assert_eq!(cell(&after, 13), "at(\"Extraction/EX-1/Mass\") * 3");
    let cleared = row("").unwrap();
    let (after, _) = edit::apply(&plant, &[cleared[0].edit.clone()], &(), || 40).unwrap();
    assert_eq!(after.tags[&id(13)].set.formula, None);
    assert_eq!(row("at(\"Mas\")").unwrap_err()[0].message, "Character 4: There is no tag “Mas”.");
}

#[test]
fn a_mistake_is_shown_where_it_was_typed() {
    let plant = plant();
    let text = "at(\"Mass\") + at(\"Level\")";
    let named = plant.formula_named(text, Some(id(2))).unwrap();
    assert_eq!(named.named, [id(11), id(10)]);
    let formula = serde_json::from_value(json!({"text": named.text})).unwrap();
    let wrong = plant.program_at(&formula, "", &named.places).unwrap_err().remove(0);
    assert_eq!((wrong.at, wrong.to), (11, 12), "at the sign between them");
    assert_eq!(named.places.name(1), Some((16, 23)));
}

#[test]
fn the_order_is_that_of_dependence_whatever_the_numbers() {
    // Each reads the next one; the last reads nothing computed.
    let edits: Vec<Edit> = (0..50u128)
        .map(|n| {
            let text = if n == 49 { "1".to_owned() } else { format!("at(\"{}\") + 1", id(101 + n)) };
            create(100 + n, json!({"name": format!("T{n}"), "place": id(1), "formula": {"text": text}}))
        })
        .collect();
    let mut no = 100;
    let (next, _) = edit::apply(&plant(), &edits, &(), || {
        no += 1;
        no
    })
    .unwrap();
    let order: Vec<Uuid> = next.in_order().ready.iter().map(|t| t.id).collect();
    let at = |n: u128| order.iter().position(|found| *found == id(100 + n)).unwrap();
    assert!((0..49).all(|n| at(n) > at(n + 1)));
    assert!(next.in_order().circular.is_empty());
}
