//! Messages as they are written, stored and named.

use super::*;
use crate::plant::{
    Edit, Item, Kind, Op, Own, Plant, Rule, Stored, copy,
    edit::{self, Problem},
    table::{self, Written},
};
use proptest::prelude::*;
use rstest::rstest;
use std::sync::Arc;

const TAG: u128 = 1;
const FLOW: u128 = 2;
const OTHER: u128 = 3;
const RULE: u128 = 50;

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

fn own(value: Json) -> Own {
    value.as_object().unwrap().clone()
}

/// EX-1 with level, flow, a tag called like a chip and an alarm rule; DR-1 with a temperature.
fn plant() -> Plant {
    let item = |kind, n: u128, no, value| Stored { kind, id: id(n), no, revision: 1, own: own(value) };
    let tag = |n: u128, place: u128, name: &str| {
        item(Kind::Tag, n, n as u32, json!({"place": id(place), "name": name, "unit": "m", "decimals": 1}))
    };
    let (plant, broken) = Plant::from_stored(
        1,
        vec![
            item(Kind::Place, 100, 0, json!({"name": "EX-1", "level": "equipment"})),
            item(Kind::Place, 101, 0, json!({"name": "DR-1", "level": "equipment"})),
            tag(TAG, 100, "Level"),
            tag(FLOW, 100, "Flow (in)"),
            tag(OTHER, 101, "Temperature"),
            tag(4, 100, "value"),
            item(Kind::Rule, RULE, 0, json!({"tag": id(TAG), "kind": "high", "level": 82})),
        ],
    );
    assert_eq!(broken, []);
    plant
}

fn edited(plant: &Plant, edits: &[Edit]) -> Result<Plant, Vec<Problem>> {
    edit::apply(plant, edits, &(), || 99).map(|(next, _)| next)
}

fn change(change: Json) -> Result<Plant, Vec<Problem>> {
    edited(&plant(), &[Edit { kind: Kind::Rule, id: id(RULE), op: Op::Patch(own(change)), seen: None }])
}

fn rule(plant: &Plant) -> Arc<Item<Rule>> {
    plant.rules[&id(RULE)].clone()
}

#[rstest]
#[case::words("High level", json!(["High level"]))]
#[case::chips("[[value]] over [[ limit ]]", json!([{"chip": "value"}, " over ", {"chip": "limit"}]))]
#[case::name("[[Flow (in)]]", json!([{"formula": at(FLOW)}]))]
#[case::path("[[DR-1/Temperature]] there", json!([{"formula": at(OTHER)}, " there"]))]
#[case::like_a_chip("[[at(\"value\")]]", json!([{"formula": at(4)}]))]
#[case::formula("[[at(\"Level\") - at(\"Flow (in)\")]]",
    json!([{"formula": formula(&format!("at(\"{}\") - at(\"{}\")", id(TAG), id(FLOW)))}]))]
#[case::list("[[at(\"Level\") in [1, 2] ]] and [more]",
    json!([{"formula": formula(&format!("at(\"{}\") in [1, 2]", id(TAG)))}, " and [more]"]))]
fn what_is_written_is_kept_in_parts(#[case] text: &str, #[case] parts: Json) {
    let plant = change(json!({"message": text})).unwrap();
    let rule = rule(&plant);
    assert_eq!(rule.own["message"], parts);
    assert_eq!(rule.set.message.to_json(), parts);
    let shown = plant.message_shown(&rule.set.message, Some(id(100)));
    assert_eq!(shown, text.replace("[[ limit ]]", "[[limit]]"));
    // What is shown can be written again and changes nothing.
    let again = Edit { kind: Kind::Rule, id: id(RULE), op: Op::Patch(own(json!({"message": shown}))), seen: None };
    assert_eq!(edited(&plant, &[again]).unwrap().rules[&id(RULE)].set, rule.set);
}

fn at(tag: u128) -> Json {
    formula(&format!("at(\"{}\")", id(tag)))
}

fn formula(text: &str) -> Json {
    json!({"text": text, "mixed": "convert"})
}

#[rstest]
#[case::open("Level [[value", "The double brackets before “value” are not closed.")]
#[case::nothing("Level [[ ]]", "There is nothing between the double brackets.")]
#[case::unknown("[[Levl]]", "There is no tag “Levl”.")]
#[case::elsewhere("[[Temperature]]", "There is no tag “Temperature”.")]
#[case::bad_formula("[[at(\"Level\") +]]", "“[[at(\"Level\") +]]”, Character")]
#[case::looks_back("[[average(at(\"Level\"), \"10min\")]]", "A message cannot look back over time.")]
#[case::long(&"x".repeat(501), "The words of a message have at most 500 characters.")]
#[case::many(&"[[value]]".repeat(41), "A message has at most 40 parts.")]
#[case::lines("a\nb", "This must be one line.")]
fn what_cannot_be_said_is_refused(#[case] text: &str, #[case] words: &str) {
    let problems = change(json!({"message": text})).unwrap_err();
    assert_eq!((problems.len(), problems[0].field.as_str()), (1, "message"), "{problems:?}");
    assert!(problems[0].message.contains(words), "{problems:?}");
}

#[test]
fn values_that_go_with_events_are_chips_alone() {
    let plant = change(json!({"values_with": "[[Flow (in)]], [[DR-1/Temperature]]"})).unwrap();
    assert_eq!(rule(&plant).own["values_with"], json!([{"formula": at(FLOW)}, {"formula": at(OTHER)}]));
    assert_eq!(plant.values_shown(&rule(&plant).set.values_with, Some(id(100))), "[[Flow (in)]], [[DR-1/Temperature]]");
    for (text, words) in [("[[value]]".to_owned(), "Only tags and formulas"), ("[[Level]]".repeat(9), "At most 8 values")] {
        let problems = change(json!({"values_with": text})).unwrap_err();
        assert!(problems[0].field == "values_with" && problems[0].message.contains(words), "{problems:?}");
    }
}

#[test]
fn an_empty_message_is_none_and_leaves_the_mark_of_a_rule() {
    let mark = rule(&plant()).set.mark();
    let said = change(json!({"message": "Level [[value]]"})).unwrap();
    assert_ne!(rule(&said).set.mark(), mark);
    for nothing in [json!(""), Json::Null, json!([])] {
        let edit = Edit { kind: Kind::Rule, id: id(RULE), op: Op::Patch(own(json!({"message": nothing}))), seen: None };
        assert_eq!(rule(&edited(&said, &[edit]).unwrap()).set.mark(), mark);
    }
}

#[test]
fn what_a_message_names_stays_and_follows_a_copy() {
    let plant = change(json!({"message": "[[Flow (in)]], [[DR-1/Temperature]]"})).unwrap();
    let delete = |tag| Edit { kind: Kind::Tag, id: id(tag), op: Op::Delete { contents: false }, seen: None };
    let problems = edited(&plant, &[delete(FLOW)]).unwrap_err();
    assert!(problems[0].message.contains("the message of the alarm rule “EX-1/Level high” names it"), "{problems:?}");
    let mut next = 1000;
    let (edits, _) = copy::branches(&plant, &[id(100)], None, || {
        next += 1;
        id(next)
    })
    .unwrap();
    let copied = edited(&plant, &edits).unwrap();
    let rule = copied.rules.values().find(|rule| rule.id != id(RULE)).unwrap();
    let place = copied.tags[&rule.set.tag].set.place;
    assert_eq!(copied.message_shown(&rule.set.message, Some(place)), "[[Flow (in)]], [[DR-1/Temperature]]");
    assert!(!copied.message_shown(&rule.set.message, None).contains("[[EX-1/"));
}

#[test]
fn a_class_names_its_properties_and_its_parameters() {
    let (level, flow, high) = (id(11), id(12), id(21));
    let class = |flow_name: &str, message: &str| {
        json!({"name": "Vessel", "level": "equipment", "properties": {
            (level.to_string()): {"tag": {"name": "Level"}, "rules": {(high.to_string()): {"kind": "high", "level": 82,
                "message": message, "values_with": "[[Flow]]"}}},
            (flow.to_string()): {"tag": {"name": flow_name}},
        }})
    };
    let message = "Vessel [[Name]]: [[value]], flow [[Flow]], outside [[DR-1/Temperature]]";
    let create = |kind, n: u128, value| Edit { kind, id: id(n), op: Op::Create(own(value), None), seen: None };
    let edits =
        [create(Kind::Class, 10, class("Flow", message)), create(Kind::Place, 200, json!({"name": "VE-1", "class": id(10)}))];
    let mut no = 100;
    let (plant, _) = edit::apply(&plant(), &edits, &(), || {
        no += 1;
        no
    })
    .unwrap();
    let said = &plant.classes[&id(10)].own["properties"][level.to_string()]["rules"][high.to_string()];
    assert_eq!(plant.class_message_shown(id(10), "message", &said["message"]), message);
    assert_eq!(said["values_with"], json!([{"formula": formula(&format!("own(\"{flow}\")"))}]));
    let rule = plant.rules.values().find(|rule| rule.set.class_rule == Some(high)).unwrap();
    assert_eq!(
        plant.message_shown(&rule.set.message, Some(id(200))),
        "Vessel VE-1: [[value]], flow [[Flow]], outside [[DR-1/Temperature]]"
    );
    assert_eq!(plant.values_shown(&rule.set.values_with, Some(id(200))), "[[Flow]]");
    // Another name of a property leaves the message as it is.
    let stored = |name: &str| {
        let mut own = plant.classes[&id(10)].own.clone();
        own["properties"][flow.to_string()]["tag"]["name"] = name.into();
        Edit { kind: Kind::Class, id: id(10), op: Op::Patch(own), seen: None }
    };
    let plant = edited(&plant, &[stored("Inflow")]).unwrap();
    let rule = plant.rules.values().find(|rule| rule.set.class_rule == Some(high)).unwrap();
    assert!(plant.message_shown(&rule.set.message, Some(id(200))).contains("flow [[Inflow]],"));
    let wrong = Edit { kind: Kind::Class, id: id(10), op: Op::Patch(own(class("Flow", "[[Flw]]"))), seen: None };
    let problems = edited(&plant, &[wrong]).unwrap_err();
    assert!(problems[0].message.contains("There is no parameter “Flw”"), "{problems:?}");
    assert!(problems[0].field.contains("message"), "{problems:?}");
}

#[test]
fn a_message_is_a_cell_of_the_sheet() {
    let plant = change(json!({"message": "[[value]] at [[Flow (in)]]"})).unwrap();
    let column = table::column_of(Kind::Rule, "message").unwrap();
    let text = |plant: &Plant| table::Reader::of(plant, |_| true).cell(column, Kind::Rule, id(RULE));
    assert_eq!(text(&plant), "[[value]] at [[Flow (in)]]");
    let write = |text: &str| {
        let cells = vec![Written { column: "message".into(), text: text.into(), was: None }];
        table::plan(&plant, Kind::Rule, &[table::Row { id: id(RULE), fresh: false, cells }], &mut || id(77))
    };
    assert_eq!(write("[[value]] at [[Flow (in)]]").unwrap(), []);
    let planned = write("now [[DR-1/Temperature]]").unwrap();
    let next = edited(&plant, &planned.into_iter().map(|one| one.edit).collect::<Vec<_>>()).unwrap();
    assert_eq!(text(&next), "now [[DR-1/Temperature]]");
    assert_eq!(write("now [[Nothing]]").unwrap_err()[0].message, "There is no tag “Nothing”.");
    let emptied = edited(&plant, &write("").unwrap().into_iter().map(|one| one.edit).collect::<Vec<_>>()).unwrap();
    assert!(rule(&emptied).set.message.is_empty());
}

proptest! {
    /// Whatever is written is refused, or comes back as it can be written again.
    #[test]
    fn what_is_read_reads_the_same_when_written(text in "(\\[\\[|\\]\\]|value|limit|Level|at\\(\"x\"\\)|\"|[ a-z().,]){0,20}") {
        if let Ok(message) = Message::read(&text) {
            let again = message.written(|formula| formula.text().to_owned());
            prop_assert_eq!(Message::read(&again), Ok(message));
        }
    }
}
