//! Which tags a recorder records, and what makes its settings wrong.

use super::*;
use crate::plant::{Edit, Op, Own, Stored, edit};
use rstest::rstest;
use serde_json::{Value as Json, json};

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

fn own(value: Json) -> Own {
    value.as_object().unwrap().clone()
}

/// Two vessels of a class, one of them of a class that extends it, and a meter.
fn plant() -> Plant {
    let item = |kind, n: u128, own_: Json| Stored { kind, id: id(n), no: n as u32, revision: 1, own: own(own_) };
    let (plant, broken) = Plant::from_stored(
        1,
        vec![
            item(Kind::Class, 1, json!({"name": "Vessel"})),
            item(Kind::Class, 2, json!({"name": "Heated vessel", "extends": id(1)})),
            item(Kind::Place, 3, json!({"name": "Extraction"})),
            item(Kind::Place, 4, json!({"name": "EX-1", "parent": id(3), "class": id(1)})),
            item(Kind::Place, 5, json!({"name": "EX-2", "parent": id(3), "class": id(2)})),
            item(Kind::Place, 6, json!({"name": "Utilities"})),
            item(Kind::Connection, 7, json!({"name": "Wash", "kind": "modbus"})),
            item(
                Kind::Tag,
                10,
                json!({"name": "Temperature", "place": id(4), "unit": "°C", "record": true, "record_deadband": 0.5}),
            ),
            item(Kind::Tag, 11, json!({"name": "Temperature", "place": id(5), "unit": "°C", "connection": id(7)})),
            item(Kind::Tag, 12, json!({"name": "pH", "place": id(5), "range_low": 0.0, "range_high": 14.0})),
            item(Kind::Tag, 13, json!({"name": "Power", "place": id(6), "unit": "kW"})),
        ],
    );
    assert_eq!(broken, []);
    plant
}

fn recorder(set: Json) -> Recorder {
    let mut whole = own(json!({"name": "Figures"}));
    whole.extend(own(set));
    crate::plant::resolve(None, &whole).unwrap()
}

fn with(plant: &Plant, set: Json) -> Plant {
    let mut next = plant.clone();
    let mut whole = own(json!({"name": "Figures"}));
    whole.extend(own(set));
    next.put(Kind::Recorder, id(50), 0, 2, whole).unwrap();
    next
}

#[rstest]
#[case::a_branch(json!({"choices": [{"place": id(3)}]}), &[10, 11, 12])]
#[case::a_unit_of_a_branch(json!({"choices": [{"place": id(3), "unit": "°C"}]}), &[10, 11])]
#[case::a_class_and_what_extends_it(json!({"choices": [{"class": id(1)}]}), &[10, 11, 12])]
#[case::the_class_that_extends(json!({"choices": [{"class": id(2)}]}), &[11, 12])]
#[case::a_name_in_any_case(json!({"choices": [{"name": "ph"}]}), &[12])]
#[case::words(json!({"choices": [{"words": "ex-1 temp"}]}), &[10])]
#[case::a_connection(json!({"choices": [{"connection": id(7)}]}), &[11])]
#[case::all_must_hold(json!({"choices": [{"connection": id(7), "name": "pH"}]}), &[])]
#[case::any_of_several(json!({"choices": [{"name": "pH"}, {"unit": "kW"}]}), &[12, 13])]
#[case::singly_beside(json!({"choices": [{"name": "pH"}], "tags": [id(13)]}), &[12, 13])]
fn which_tags(#[case] set: Json, #[case] expected: &[u32]) {
    let plant = plant();
    let set = recorder(set);
    assert_eq!(plant.recorded_by(&set).iter().map(|tag| tag.no).collect::<Vec<_>>(), expected);
    // Asked the other way round, the answer is the same.
    let plant = with(&plant, serde_json::to_value(&set).unwrap());
    let of_tags: Vec<u32> = {
        let mut all: Vec<_> = plant.tags.values().filter(|tag| !plant.recorders_of(tag).is_empty()).map(|tag| tag.no).collect();
        all.sort_unstable();
        all
    };
    assert_eq!(of_tags, expected);
}

#[test]
fn what_comes_later_joins_by_itself() {
    let mut plant = plant();
    let set = recorder(json!({"choices": [{"class": id(1), "unit": "°C"}]}));
    plant.put(Kind::Tag, id(20), 20, 2, own(json!({"name": "Jacket", "place": id(4), "unit": "°C"}))).unwrap();
    assert_eq!(plant.recorded_by(&set).iter().map(|tag| tag.no).collect::<Vec<_>>(), [10, 11, 20]);
}

#[test]
fn of_several_ways_to_record_a_change_the_closest_counts() {
    let plant = plant();
    let on_change = |more: Json| {
        let mut when = own(json!({"on": "change"}));
        when.extend(own(more));
        with(&plant, json!({"choices": [{"place": id(3)}], "when": when})).record_rules()
    };
    let rules = on_change(json!({"deadband": 2.0}));
    // The tag's own deadband is narrower; the others have none of their own.
    assert_eq!((rules[&id(10)].deadband, rules[&id(11)].deadband), (0.5, 2.0));
    assert_eq!(on_change(json!({"deadband": 0.1}))[&id(10)].deadband, 0.1);
    // Ten percent of 0 to 14; a tag without a range has no deadband.
    let percent = on_change(json!({"deadband": 10.0, "percent": true}));
    assert!((percent[&id(12)].deadband - 1.4).abs() < 1e-9 && percent[&id(11)].deadband == 0.0);
    assert!(!rules.contains_key(&id(13)));
}

#[rstest]
#[case::runs(json!({}), true)]
#[case::paused(json!({"running": false}), false)]
#[case::only_figures(json!({"when": {"on": "interval", "every_ms": 1000, "keep": ["average"]}}), false)]
#[case::rows(json!({"when": {"on": "hand"}}), true)]
fn whether_values_go_into_history_by_themselves(#[case] more: Json, #[case] expected: bool) {
    let mut set = own(json!({"choices": [{"name": "pH"}]}));
    set.extend(own(more));
    let plant = with(&plant(), Json::Object(set));
    assert_eq!(plant.recording().by_themselves.contains(&id(12)), expected);
    assert_eq!(plant.is_recorded(&plant.tags[&id(12)]), expected);
    assert!(plant.recording().by_themselves.contains(&id(10)), "the tag says so itself");
}

#[rstest]
#[case(json!({}), "tags", "Choose at least one tag")]
#[case(json!({"choices": [{}]}), "choices.0.place", "Say which tags these are")]
#[case(json!({"choices": [{"place": id(99)}]}), "choices.0.place", "does not exist")]
#[case(json!({"tags": [id(10)], "when": {"on": "interval", "every_ms": 50, "keep": ["value"]}}), "when.every_ms", "between 100")]
#[case(json!({"tags": [id(10)], "when": {"on": "interval", "every_ms": 7000, "keep": ["value"]}}), "when.every_ms", "make an hour")]
#[case(json!({"tags": [id(10)], "when": {"on": "interval", "every_ms": 1000, "offset_ms": 1000, "keep": ["value"]}}), "when.offset_ms", "shorter")]
#[case(json!({"tags": [id(10)], "when": {"on": "interval", "every_ms": 1000, "keep": []}}), "when.keep", "at least one")]
#[case(json!({"tags": [id(10)], "when": {"on": "interval", "every_ms": 1000, "keep": ["sum", "sum"]}}), "when.keep", "once")]
#[case(json!({"tags": [id(10)], "when": {"on": "change", "deadband": -1.0}}), "when.deadband", "between 0")]
#[case(json!({"tags": [id(10)], "when": {"on": "change", "deadband": 101.0, "percent": true}}), "when.deadband", "between 0 and 100")]
#[case(json!({"tags": [id(10)], "when": {"on": "event"}}), "trigger", "Say at what")]
#[case(json!({"tags": [id(10)], "when": {"on": "event"}, "trigger": {"text": "1 + 2"}}), "trigger.text", "A condition is true or false")]
#[case(json!({"tags": [id(10)], "when": {"on": "event"}, "trigger": {"text": "hours(at(\"Extraction/EX-1/Temperature\") > 3) > 2"}}), "trigger.text", "A trigger cannot count")]
#[case(json!({"tags": [id(10)], "when": {"on": "hand"}, "trigger": {"text": "1 < 2"}}), "trigger", "Only a recorder")]
#[case(json!({"tags": [id(10)], "keep_days": 0}), "keep_days", "between 1")]
fn settings_that_make_no_sense_are_told_at_their_place(#[case] set: Json, #[case] field: &str, #[case] words: &str) {
    let mut whole = own(json!({"name": "Figures"}));
    whole.extend(own(set));
    let create = Edit { kind: Kind::Recorder, id: id(50), op: Op::Create(whole, None), seen: None };
    let problems = edit::apply(&plant(), &[create], &(), || 0).unwrap_err();
    assert!(problems.iter().any(|p| p.field == field && p.message.contains(words)), "{problems:?}");
}

#[test]
fn a_trigger_names_tags_by_identity_and_keeps_them() {
    let set = own(json!({"name": "At heat", "tags": [id(12)], "when": {"on": "event"},
        "trigger": {"text": "at(\"Extraction/EX-1/Temperature\") > 60"}}));
    let create = Edit { kind: Kind::Recorder, id: id(50), op: Op::Create(set, None), seen: None };
    let (plant, _) = edit::apply(&plant(), &[create], &(), || 0).unwrap();
    let trigger = plant.recorders[&id(50)].set.trigger.clone().unwrap();
    assert_eq!(trigger.text(), format!("at(\"{}\") > 60", id(10)));
    let delete = |n| Edit { kind: Kind::Tag, id: id(n), op: Op::Delete { contents: false }, seen: None };
    for (tag, words) in [(10, "the trigger of recorder “At heat” reads it"), (12, "recorder “At heat” records it")] {
        let problems = edit::apply(&plant, &[delete(tag)], &(), || 0).unwrap_err();
        assert!(problems[0].message.contains(words), "{problems:?}");
    }
    // A tag that is only chosen by what it is goes as it likes.
    let by_rule = with(&plant, json!({"choices": [{"unit": "kW"}]}));
    assert!(edit::apply(&by_rule, &[delete(13)], &(), || 0).is_ok());
}

#[test]
fn how_much_it_stores() {
    let spans =
        recorder(json!({"tags": [id(10)], "when": {"on": "interval", "every_ms": 60_000, "keep": ["average", "maximum"]}}));
    let tags = [Rhythm::default(); 3];
    assert_eq!(spans.estimate(&tags, None), Estimate { samples: 1440.0 * 2.0 * 3.0, ..Estimate::default() });
    let changes = recorder(json!({"tags": [id(10)], "when": {"on": "change"}}));
    let known = [
        Rhythm { stored_a_day: Some(500.0), asked_a_day: Some(86_400.0) },
        Rhythm { stored_a_day: None, asked_a_day: Some(86_400.0) },
        Rhythm::default(),
    ];
    assert_eq!(changes.estimate(&known, None), Estimate { samples: 86_900.0, by_history: 1, at_most: 1, unknown: 1 });
    let rows = recorder(json!({"tags": [id(10)], "when": {"on": "hand"}}));
    assert_eq!(rows.estimate(&tags, Some(4.0)).samples, 12.0);
    assert_eq!(rows.estimate(&tags, None), Estimate { unknown: 3, ..Estimate::default() });
}
