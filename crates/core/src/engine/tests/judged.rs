//! Alarm rules of every kind in the engine.

use super::*;
use crate::plant::edit;

/// Tags 1 (a, °C, 0 to 200), 2 (b, °C) and 3 (on), of which the first has this rule. `<a>` in a formula stands for the tag.
fn works(rule: Json) -> Plant {
    let item = |kind, n: u128, no, value| Stored { kind, id: id(n), no, revision: 1, own: own(value) };
    let text = ["a", "b", "on"].iter().enumerate().fold(rule.to_string(), |text, (n, name)| {
        text.replace(&format!("<{name}>"), &format!("at(\\\"{}\\\")", id(n as u128 + 1)))
    });
    let mut rule: Json = serde_json::from_str(&text).unwrap();
    rule["tag"] = json!(id(1));
    let (plant, broken) = Plant::from_stored(
        1,
        vec![
            item(ItemKind::Place, 100, 0, json!({"name": "DR-1"})),
            item(ItemKind::Tag, 1, 1, json!({"place": id(100), "name": "a", "unit": "°C", "range_low": 0, "range_high": 200})),
            item(ItemKind::Tag, 2, 2, json!({"place": id(100), "name": "b", "unit": "°C"})),
            item(ItemKind::Tag, 3, 3, json!({"place": id(100), "name": "on"})),
            item(ItemKind::Rule, 50, 0, rule),
        ],
    );
    assert_eq!(broken, []);
    plant
}

/// What is told of a tag at a second.
type Told = (i64, u32, Value);

const fn a(at: i64, value: f64) -> Told {
    (at, 1, Value::F64(value))
}
const fn b(at: i64, value: f64) -> Told {
    (at, 2, Value::F64(value))
}
const fn on(at: i64, value: bool) -> Told {
    (at, 3, Value::Bool(value))
}
/// The tag has no good value.
const fn a_bad(at: i64) -> Told {
    (at, 1, Value::Text(String::new()))
}

/// The engine with what was told, a tick each second until `end`.
fn told(plant: &Plant, all: &[Told], end: i64) -> (Engine, Effects) {
    let mut engine = Engine::new(vec![]);
    let mut out = Effects::default();
    engine.step(0, Input::Plan(Arc::new(Plan::of(plant))), &mut out);
    for second in 1..=end {
        let mut batch = Batch::default();
        for (_, tag, value) in all.iter().filter(|(at, ..)| *at == second) {
            match value {
                Value::Text(_) => batch.push_quality(*tag, second * SECOND, Quality::of(Reason::NoAnswer)),
                value => batch.push(*tag, second * SECOND, Quality::GOOD, 0, value),
            }
        }
        engine.step(second * SECOND, Input::Samples(&batch), &mut out);
        engine.step(second * SECOND, Input::Tick, &mut out);
    }
    (engine, out)
}

/// When the alarm came and went, in seconds.
fn turns(out: &Effects) -> Vec<(i64, EventKind)> {
    out.events.iter().map(|e| (e.occurred_at / SECOND, e.kind)).collect()
}

use EventKind::{Raised, Returned, Suppressed, Unsuppressed};

/// Three limits of 10 in the group “trip”: of tags 1 and 2 on the machine M-1 and its part, of tag 4 on M-2.
fn tripping(change: impl Fn(usize, &mut Json)) -> Plant {
    let item = |kind, n: u128, no, value| Stored { kind, id: id(n), no, revision: 1, own: own(value) };
    let places = [(100, "M-1", None), (101, "Motor", Some(id(100))), (102, "M-2", None)];
    let place = |(n, name, parent)| item(ItemKind::Place, n, 0, json!({"name": name, "parent": parent, "level": "equipment"}));
    let mut all: Vec<Stored> = places.into_iter().map(place).collect();
    for (n, (tag, place)) in [(1u32, 100), (2, 101), (4, 102)].into_iter().enumerate() {
        all.push(item(ItemKind::Tag, tag.into(), tag, json!({"place": id(place), "name": "a"})));
        let mut rule = json!({"tag": id(tag.into()), "kind": "high", "level": 10, "first_out": "Trip"});
        change(n, &mut rule);
        all.push(item(ItemKind::Rule, 50 + n as u128, 0, rule));
    }
    let (plant, broken) = Plant::from_stored(1, all);
    assert_eq!(broken, []);
    plant
}

#[rstest]
#[case::the_first_is_marked(&[a(1, 11.0), b(2, 11.0)], &[(1, true), (2, false)])]
#[case::of_one_instant_both_are(&[a(1, 11.0), b(1, 11.0)], &[(1, true), (1, true)])]
#[case::none_while_one_stands(&[a(1, 11.0), b(2, 11.0), a(3, 9.0), a(4, 11.0)], &[(1, true), (2, false), (4, false)])]
#[case::once_all_are_gone_it_begins_anew(&[a(1, 11.0), b(2, 11.0), a(3, 9.0), b(4, 9.0), b(5, 11.0), a(6, 11.0)],
    &[(1, true), (2, false), (5, true), (6, false)])]
#[case::other_equipment_has_its_own(&[a(1, 11.0), (2, 4, Value::F64(11.0))], &[(1, true), (2, true)])]
fn the_first_of_a_group_is_marked(#[case] all: &[Told], #[case] firsts: &[(i64, bool)]) {
    let plant = tripping(|_, rule| rule["acknowledge"] = false.into());
    let (engine, out) = told(&plant, all, 8);
    let raised = out.events.iter().filter(|e| e.kind == Raised);
    assert_eq!(raised.map(|e| (e.occurred_at / SECOND, e.first_out)).collect::<Vec<_>>(), firsts);
    // It is known after a restart.
    let mut again = Engine::new(engine.standings().cloned().collect());
    again.step(9 * SECOND, Input::Plan(Arc::new(Plan::of(&plant))), &mut Effects::default());
    assert!(again.standings().zip(engine.standings()).all(|(a, b)| a.first_out == b.first_out));
}

#[test]
fn a_group_waits_for_what_is_not_acknowledged_and_leaves_out_what_is_suppressed() {
    let plant = tripping(|_, _| ());
    let (_, out) = told(&plant, &[a(1, 11.0), a(2, 9.0), b(3, 11.0)], 4);
    let firsts = |out: &Effects| out.events.iter().filter(|e| e.kind == Raised).map(|e| e.first_out).collect::<Vec<_>>();
    assert_eq!(firsts(&out), [true, false], "the first one returned, and nobody has acknowledged it");
    let plant = tripping(|n, rule| {
        if n == 0 {
            rule["only_while"] = json!({"text": "false"});
        }
    });
    let (_, out) = told(&plant, &[a(1, 11.0), b(3, 11.0)], 4);
    assert_eq!(firsts(&out), [false, true]);
    let plant = tripping(|n, rule| {
        if n == 0 {
            rule["priority"] = 0.into();
        }
    });
    let (engine, out) = told(&plant, &[a(1, 11.0), b(3, 11.0)], 4);
    assert_eq!(firsts(&out), [false, true]);
    let waits: Vec<bool> = engine.standings().map(|s| s.state.waits()).collect();
    assert_eq!(waits, [false, true, false], "what is only recorded waits for nobody");
}

#[rstest]
#[case::deviation(json!({"kind": "deviation", "level": 5, "setpoint": {"text": "<b>"}}),
    &[b(1, 60.0), a(2, 64.0), a(3, 66.0), b(5, 62.0)], &[(3, Raised), (5, Returned)], "a 6.0 °C above its setpoint, limit 5.0")]
#[case::deviation_below(json!({"kind": "deviation", "level": 5, "side": "below", "setpoint": {"text": "<b> + 1"}}),
    &[b(1, 60.0), a(2, 70.0), a(3, 55.5)], &[(3, Raised)], "a 5.5 °C below its setpoint, limit 5.0")]
#[case::rate(json!({"kind": "rate", "level": 60, "window_s": 2, "per": "minute", "side": "above"}),
    &[a(1, 10.0), a(2, 10.5), a(3, 11.0), a(4, 15.0), a(5, 15.0), a(6, 15.0), a(7, 15.0)], &[(4, Raised), (6, Returned)],
    "a rises by 135.0 °C/min, limit 60.0")]
#[case::state(json!({"kind": "state", "states": [2, 3]}), &[a(1, 1.0), a(2, 3.0), a(3, 2.0), a(4, 0.0)],
    &[(2, Raised), (4, Returned)], "a is 3.0")]
#[case::expression(json!({"kind": "expression", "name": "runs dry", "when": {"text": "<on> && <a> < 5"}}),
    &[a(1, 4.0), on(2, true), a(4, 6.0)], &[(2, Raised), (4, Returned)], "a: runs dry")]
#[case::bad_quality(json!({"kind": "bad_quality", "on_delay_s": 3}), &[a(1, 4.0), a_bad(2), a(4, 4.0), a_bad(6), a(12, 4.0)],
    &[(9, Raised), (12, Returned)], "a has no good value: no answer from the device")]
#[case::no_change(json!({"kind": "no_change", "on_delay_s": 5, "deadband": 0.5}),
    &[a(1, 4.0), a(4, 4.4), a(8, 4.6), a(14, 4.6), a(15, 6.0), a(19, 7.0)], &[(6, Raised), (8, Returned), (13, Raised), (15, Returned)],
    "a has not changed for 5 s, stays at 4.0 °C")]
#[case::level_of_a_tag(json!({"kind": "high", "level_formula": {"text": "<b> + 10"}}),
    &[b(1, 60.0), a(2, 69.0), a(3, 71.0), b(4, 62.0)], &[(3, Raised), (4, Returned)], "a high, 71.0 °C over 70.0")]
#[case::level_and_value_together(json!({"kind": "high", "level_formula": {"text": "<b> + 10"}}),
    &[b(1, 60.0), a(1, 65.0), a(2, 95.0), b(2, 90.0), b(3, 80.0), a(3, 85.0)], &[], "")]
#[case::level_unknown(json!({"kind": "high", "level_formula": {"text": "<b> + 10"}}), &[a(1, 95.0), b(3, 60.0)], &[(3, Raised)],
    "a high, 95.0 °C over 70.0")]
#[case::part_of_the_range(json!({"kind": "high", "level": 100, "deadband": 10, "deadband_in": "range"}),
    &[a(1, 101.0), a(2, 81.0), a(3, 80.0)], &[(1, Raised), (3, Returned)], "a high, 101.0 °C over 100.0")]
fn rules_of_every_kind(#[case] rule: Json, #[case] all: &[Told], #[case] expected: &[(i64, EventKind)], #[case] text: &str) {
    let (_, out) = told(&works(rule), all, 20);
    assert_eq!(turns(&out), expected);
    assert_eq!(out.events.first().map_or("", |e| e.text.as_str()), text);
}

#[test]
fn an_alarm_is_suppressed_by_design_while_its_condition_is_false() {
    let rule = json!({"kind": "high", "level": 80, "only_while": {"text": "<on>"}});
    let plant = works(rule);
    let (engine, out) = told(&plant, &[on(1, false), a(2, 90.0), on(5, true), on(7, false), on(9, true), a(10, 70.0)], 12);
    let expected = [(1, Suppressed), (2, Raised), (5, Unsuppressed), (7, Suppressed), (9, Unsuppressed), (10, Returned)];
    assert_eq!(turns(&out), expected);
    let first = &out.events[0];
    assert!(first.comment.starts_with("only while at(\"DR-1/on\")") && out.events[1].suppressed, "{first:?}");
    // An alarm that stands when suppression ends asks to be acknowledged.
    assert!(!out.events[2].suppressed);
    assert_eq!(engine.standings().next().unwrap().state.standard(), StandardState::ReturnedUnacknowledged);
}

#[test]
fn a_condition_that_cannot_be_worked_out_keeps_nothing_back() {
    let plant = works(json!({"kind": "high", "level": 80, "only_while": {"text": "<on>"}}));
    let (mut engine, _) = told(&plant, &[on(1, false), a(2, 90.0)], 3);
    let mut out = Effects::default();
    let mut batch = Batch::default();
    batch.push_quality(3, 4 * SECOND, Quality::of(Reason::NoAnswer));
    engine.step(4 * SECOND, Input::Samples(&batch), &mut out);
    assert_eq!(turns(&out), [(4, Unsuppressed)]);
    assert_eq!(engine.standings().next().unwrap().state.standard(), StandardState::Unacknowledged);
}

#[test]
fn suppression_goes_with_its_setting() {
    let plant = works(json!({"kind": "high", "level": 80, "only_while": {"text": "<on>"}}));
    let (mut engine, _) = told(&plant, &[on(1, false), a(2, 90.0)], 3);
    let patch = own(json!({"only_while": null}));
    let edit = edit::Edit { kind: ItemKind::Rule, id: id(50), op: edit::Op::Patch(patch), seen: None };
    let (next, _) = edit::apply(&plant, &[edit], &(), || 9).unwrap();
    let mut out = Effects::default();
    engine.step(4 * SECOND, Input::Plan(Arc::new(Plan::of(&next))), &mut out);
    assert_eq!(turns(&out), [(4, Unsuppressed)]);
}

#[rstest]
#[case::counts("good", &[(2, Raised)])]
#[case::holds("bad", &[])]
fn uncertain_values_count_as_the_rule_says(#[case] uncertain: &str, #[case] expected: &[(i64, EventKind)]) {
    for rule in [
        json!({"kind": "high", "level": 80, "uncertain": uncertain}),
        json!({"kind": "high", "level_formula": {"text": "80.0"}, "uncertain": uncertain}),
        json!({"kind": "expression", "when": {"text": "<a> > 80"}, "uncertain": uncertain}),
    ] {
        let plant = works(rule);
        let (mut engine, mut out) = told(&plant, &[a(1, 70.0)], 1);
        let mut batch = Batch::default();
        batch.push(1, 2 * SECOND, Quality::of(Reason::SensorInaccurate), 0, &Value::F64(90.0));
        engine.step(2 * SECOND, Input::Samples(&batch), &mut out);
        assert_eq!(turns(&out), expected);
    }
}

#[test]
fn delays_of_computed_rules_go_on_over_another_revision() {
    let plant = works(json!({"kind": "high", "on_delay_s": 10, "level_formula": {"text": "<b>"}}));
    let (mut engine, _) = told(&plant, &[b(1, 60.0), a(2, 90.0)], 5);
    let mut other = plant.clone();
    other.revision += 1;
    let mut out = Effects::default();
    engine.step(6 * SECOND, Input::Plan(Arc::new(Plan::of(&other))), &mut out);
    engine.step(12 * SECOND, Input::Tick, &mut out);
    assert_eq!(turns(&out), [(12, Raised)]);
}

#[rstest]
#[case::setpoint_of_another_quantity(json!({"kind": "deviation", "level": 5, "setpoint": {"text": "to(1, \"kg\")"}}), "setpoint.text")]
#[case::no_condition(json!({"kind": "expression", "when": {"text": "<a> + 1"}}), "when.text")]
#[case::counts(json!({"kind": "expression", "when": {"text": "starts(<on>) > 3"}}), "when.text")]
#[case::no_number(json!({"kind": "high", "level_formula": {"text": "\"x\""}}), "level_formula.text")]
#[case::nothing_said(json!({"kind": "expression"}), "when")]
#[case::no_level(json!({"kind": "high"}), "level")]
#[case::no_setpoint(json!({"kind": "deviation", "level": 5}), "setpoint")]
#[case::negative(json!({"kind": "rate", "level": -5}), "level")]
#[case::no_states(json!({"kind": "state"}), "states")]
#[case::no_time(json!({"kind": "no_change"}), "on_delay_s")]
#[case::more_than_the_range(json!({"kind": "high", "level": 5, "deadband": 120, "deadband_in": "range"}), "deadband")]
#[case::tag_that_is_not_there(json!({"kind": "expression", "when": {"text": "at(\"X/Y\") > 1"}}), "when.text")]
fn what_cannot_be_judged_is_refused_at_its_field(#[case] rule: Json, #[case] field: &str) {
    let plant = works(json!({"kind": "high", "level": 80}));
    let text = rule.to_string().replace("<a>", "at(\\\"DR-1/a\\\")").replace("<on>", "at(\\\"DR-1/on\\\")");
    let mut set = own(serde_json::from_str(&text).unwrap());
    set.insert("tag".into(), json!(id(1)));
    set.insert("name".into(), json!("another"));
    let edit = edit::Edit { kind: ItemKind::Rule, id: id(51), op: edit::Op::Create(set, None), seen: None };
    let problems = edit::apply(&plant, &[edit], &(), || 9).unwrap_err();
    assert!(problems.iter().any(|p| p.field == field), "{problems:?}");
}

#[test]
fn formulas_of_rules_name_tags_by_identity_and_keep_them_from_being_deleted() {
    let plant = works(json!({"kind": "high", "level": 80}));
    let set = own(json!({"tag": id(1), "kind": "deviation", "level": 5, "setpoint": {"text": "at(\"b\") + 1"}}));
    let create = edit::Edit { kind: ItemKind::Rule, id: id(51), op: edit::Op::Create(set, None), seen: None };
    let (next, changes) = edit::apply(&plant, &[create], &(), || 9).unwrap();
    let stored = format!("at(\"{}\") + 1", id(2));
    assert_eq!(next.rules[&id(51)].set.setpoint.as_ref().unwrap().text(), stored);
    assert_eq!(changes[0].after.as_ref().unwrap()["setpoint"]["text"], json!(stored));
    let delete = edit::Edit { kind: ItemKind::Tag, id: id(2), op: edit::Op::Delete { contents: true }, seen: None };
    let problems = edit::apply(&next, &[delete], &(), || 9).unwrap_err();
    assert!(problems[0].message.contains("the alarm rule “DR-1/a deviation” reads it"), "{problems:?}");
    let unit = edit::Edit { kind: ItemKind::Tag, id: id(2), op: edit::Op::Patch(own(json!({"unit": "kg"}))), seen: None };
    let problems = edit::apply(&next, &[unit], &(), || 9).unwrap_err();
    assert!(problems[0].message.contains("The alarm rule “DR-1/a deviation” does not go with it"), "{problems:?}");
}

#[test]
fn a_delay_of_another_kind_counts_for_nothing() {
    let plant = works(json!({"kind": "no_change", "on_delay_s": 600}));
    let (mut engine, _) = told(&plant, &[a(1, 50.0)], 30);
    let patch = own(json!({"kind": "high", "level": 80, "on_delay_s": 5}));
    let edit = edit::Edit { kind: ItemKind::Rule, id: id(50), op: edit::Op::Patch(patch), seen: None };
    let (next, _) = edit::apply(&plant, &[edit], &(), || 9).unwrap();
    let mut out = Effects::default();
    engine.step(31 * SECOND, Input::Plan(Arc::new(Plan::of(&next))), &mut out);
    engine.step(60 * SECOND, Input::Tick, &mut out);
    assert_eq!(turns(&out), []);
}

/// What the alarm says when tag 1 goes from 70 to 90 at second 3, with the limit at 80.
fn said(change: Json, all: &[Told]) -> Effects {
    let mut rule = json!({"kind": "high", "level": 80});
    rule.as_object_mut().unwrap().extend(own(change));
    told(&works(rule), &[&[a(1, 70.0)], all, &[a(3, 90.0), a(5, 60.0)]].concat(), 6).1
}

#[rstest]
#[case::chips(json!(["[[ ", {"chip": "tag"}, " of ", {"chip": "equipment"}, " ", {"chip": "rule"}, ": ", {"chip": "value"}, " over ",
    {"chip": "limit"}]), "[[ a of DR-1 high: 90.0 °C over 80.0 °C")]
#[case::place_and_unit(json!([{"chip": "place"}, " in ", {"chip": "unit"}, ", ", {"chip": "reason"}]), "DR-1 in °C, good")]
#[case::tags(json!([{"formula": {"text": "<b>"}}, ", ", {"formula": {"text": "<on>"}}]), "40.0 °C, on")]
#[case::formula(json!([{"formula": {"text": "<a> - <b>"}}]), "50.0 °C")]
#[case::no_value(json!(["then ", {"formula": {"text": "<b> / 0"}}]), "then no value")]
fn a_message_says_what_holds_when_the_alarm_comes(#[case] message: Json, #[case] text: &str) {
    let out = said(json!({"message": message}), &[b(2, 40.0), on(2, true), b(4, 99.0)]);
    // Words hold double brackets only in a damaged plant; they are said as they are.
    assert_eq!((turns(&out), out.events[0].text.as_str()), (vec![(3, Raised), (5, Returned)], text));
    // What was said then stays, whatever holds when it returns.
    assert_eq!(out.events[1].text, text);
}

#[test]
fn values_go_with_an_event_as_they_are_at_its_instant() {
    let values = json!([{"formula": {"text": "<b>"}}, {"formula": {"text": "<a> - <b>"}}, {"formula": {"text": "<on>"}}]);
    let out = said(json!({"values_with": values}), &[b(2, 40.0), b(4, 30.0), b(6, 20.0)]);
    let shown = |event: &AlarmEvent| event.values.iter().map(|v| format!("{}: {}", v.name, v.text)).collect::<Vec<_>>();
    let difference = "at(\"DR-1/a\") - at(\"DR-1/b\")";
    assert_eq!(
        shown(&out.events[0]),
        ["b: 40.0 °C".into(), format!("{difference}: 50.0 °C"), "on: no value (not read yet)".into()]
    );
    assert_eq!(
        shown(&out.events[1]),
        ["b: 30.0 °C".into(), format!("{difference}: 30.0 °C"), "on: no value (not read yet)".into()]
    );
    // What a person does has no values of its own.
    assert!(out.events[2..].iter().all(|event| event.values.is_empty()));
}

#[test]
fn long_texts_are_cut() {
    let message = json!([{"formula": {"text": "<b>"}}, "x".repeat(450)]);
    let plant = works(json!({"kind": "high", "level": 80, "message": message, "values_with": [{"formula": {"text": "<b>"}}]}));
    let mut engine = Engine::new(vec![]);
    let mut out = Effects::default();
    engine.step(0, Input::Plan(Arc::new(Plan::of(&plant))), &mut out);
    let mut batch = Batch::default();
    batch.push(2, SECOND, Quality::GOOD, 0, &Value::Text("ü".repeat(3000)));
    batch.push(1, SECOND, Quality::GOOD, 0, &Value::F64(90.0));
    engine.step(SECOND, Input::Samples(&batch), &mut out);
    let event = &out.events[0];
    assert_eq!((event.text.chars().count(), event.values[0].text.chars().count()), (500, 200));
    assert!(event.text.ends_with('…') && event.values[0].text.ends_with("ü…"));
}

#[test]
fn a_value_that_cannot_be_trusted_says_so_in_a_message() {
    let message = json!([{"formula": {"text": "<b>"}}, " / ", {"formula": {"text": "<a> + <b>"}}]);
    let plant = works(json!({"kind": "high", "level": 80, "message": message}));
    for (quality, text) in [
        (Quality::of(Reason::NoAnswer), "no value (no answer from the device) / no value (no answer from the device)"),
        (Quality::of(Reason::Clamped), "40.0 °C (uncertain) / 130.0 °C (uncertain)"),
    ] {
        let mut engine = Engine::new(vec![]);
        let mut out = Effects::default();
        engine.step(0, Input::Plan(Arc::new(Plan::of(&plant))), &mut out);
        let mut batch = Batch::default();
        batch.push(2, SECOND, quality, 0, &Value::F64(40.0));
        batch.push(1, SECOND, Quality::GOOD, 0, &Value::F64(90.0));
        engine.step(SECOND, Input::Samples(&batch), &mut out);
        assert_eq!(out.events[0].text, text);
    }
}
