//! Trials against the running engine, and what is counted of them.

use super::{
    calmer::calmer,
    judged::{Came, Judged},
    shape::{MadeUp, Shape, told},
    *,
};
use crate::{
    alarm::EventKind,
    engine::Plan,
    plant::{Kind, Own, Stored},
    time::SECOND,
};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Value as Json, json};

const fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

/// Tags 1 (a, 0 to 100) and 2 (b), both read from somewhere, of which the first has this rule, switched off.
fn plant(rule: Json) -> Plant {
    let own = |set: Json| -> Own { set.as_object().cloned().unwrap_or_default() };
    let item = |kind, n: u128, set: Json| Stored { kind, id: id(n), no: n as u32, revision: 1, own: own(set) };
    let mut rule = own(rule);
    rule.insert("tag".into(), json!(id(1)));
    rule.insert("enabled".into(), json!(false));
    let (plant, broken) = Plant::from_stored(
        7,
        vec![
            item(Kind::Place, 100, json!({"name": "DR-1", "in_service": false})),
            item(Kind::Connection, 9, json!({"name": "Plain", "kind": "memory"})),
            item(Kind::Tag, 1, json!({"place": id(100), "name": "a", "connection": id(9), "range_low": 0, "range_high": 100})),
            item(Kind::Tag, 2, json!({"place": id(100), "name": "b", "connection": id(9)})),
            item(Kind::Rule, 50, Json::Object(rule)),
        ],
    );
    assert_eq!(broken, []);
    plant
}

fn rule(plant: &Plant) -> &Rule {
    &plant.rules[&id(50)].set
}

fn values(of: &[(i64, f64)]) -> Vec<Told> {
    of.iter()
        .map(|&(at, value)| Told { at: at * SECOND, tag: 1, value: Some(Value::F64(value)), quality: Quality::GOOD })
        .collect()
}

#[rstest]
#[case::ramp(Shape::Ramp { from: 0.0, to: 100.0 }, &[(41, EventKind::Raised)])]
#[case::step(Shape::Step { from: 0.0, to: 90.0, at_s: 10.0, back_s: Some(30.0) }, &[(10, EventKind::Raised), (30, EventKind::Returned)])]
#[case::by_hand(Shape::Points { points: vec![(0.0, 1.0), (5.0, 85.0), (9.0, 3.0)] }, &[(5, EventKind::Raised), (9, EventKind::Returned)])]
#[case::held(Shape::Hold { value: 80.0 }, &[])]
fn a_rule_that_is_off_and_out_of_service_is_tried_on_made_up_values(#[case] shape: Shape, #[case] expected: &[(i64, EventKind)]) {
    let plant = plant(json!({"kind": "high", "level": 80}));
    let made = told(&[(1, MadeUp { shape, bad: None }, false)], 0, 50.0, 1.0);
    let events = Trial::run(&plant, rule(&plant), &made, (0, 50 * SECOND));
    let turns: Vec<(i64, EventKind)> = events.iter().map(|e| (e.occurred_at / SECOND, e.kind)).collect();
    assert_eq!(turns, expected);
}

#[test]
fn bad_quality_and_other_inputs_are_made_up_too() {
    let plant =
        plant(json!({"kind": "deviation", "level": 5, "setpoint": {"text": format!("at(\"{}\")", id(2))}, "on_delay_s": 3}));
    let bad = MadeUp { shape: Shape::Hold { value: 70.0 }, bad: Some((4.0, 8.0)) };
    let made = told(&[(1, bad, false), (2, MadeUp { shape: Shape::Hold { value: 60.0 }, bad: None }, false)], 0, 20.0, 2.0);
    let events = Trial::run(&plant, rule(&plant), &made, (0, 20 * SECOND));
    assert_eq!(events.iter().map(|e| e.occurred_at / SECOND).collect::<Vec<_>>(), [3]);
    assert_eq!(plant.trial_tags(rule(&plant)).iter().map(|tag| tag.no).collect::<Vec<_>>(), [1, 2]);
    // The delay ended at 3, before the value turned bad.
    assert_eq!(events[0].decided_at, events[0].occurred_at);
}

#[test]
fn noise_is_the_same_each_time_and_stays_within_its_width() {
    let made =
        |seed: f64| told(&[(1, MadeUp { shape: Shape::Noise { around: seed, width: 4.0 }, bad: None }, false)], 0, 600.0, 1.0);
    assert_eq!(made(50.0), made(50.0));
    let numbers: Vec<f64> = made(50.0).iter().filter_map(|one| one.value.as_ref()?.number()).collect();
    assert!(numbers.iter().all(|n| (48.0..=52.0).contains(n)));
    let mean = numbers.iter().sum::<f64>() / numbers.len() as f64;
    assert!((mean - 50.0).abs() < 0.3, "{mean}");
}

#[test]
fn chatter_and_standing_are_counted() {
    let events = |of: &[(i64, EventKind)]| {
        let plant = plant(json!({"kind": "high", "level": 80}));
        let mut event = Trial::run(&plant, rule(&plant), &values(&[(1, 90.0)]), (0, SECOND)).remove(0);
        of.iter()
            .map(|&(at, kind)| {
                (event.occurred_at, event.kind) = (at * SECOND, kind);
                event.clone()
            })
            .collect::<Vec<_>>()
    };
    use EventKind::{Raised, Returned, Suppressed, Unsuppressed};
    let judged = Judged::of(
        &events(&[(0, Raised), (10, Returned), (30, Raised), (40, Returned), (60, Raised), (200, Returned), (300, Raised)]),
        310 * SECOND,
    );
    assert_eq!((judged.alarms.len(), judged.chattering), (4, 3));
    assert_eq!((judged.standing, judged.longest), (170 * SECOND, 140 * SECOND));
    assert_eq!(judged.alarms[3], Came { at: 300 * SECOND, went: None });
    let hidden = Judged::of(&events(&[(0, Suppressed), (5, Raised), (20, Unsuppressed), (30, Suppressed)]), 40 * SECOND);
    assert_eq!(hidden.alarms, [Came { at: 20 * SECOND, went: Some(30 * SECOND) }]);
}

#[test]
fn what_would_be_seen_later_or_missed_is_told() {
    let judged = |of: &[(i64, i64)]| Judged {
        alarms: of.iter().map(|&(at, went)| Came { at: at * SECOND, went: Some(went * SECOND) }).collect(),
        ..Judged::default()
    };
    let as_it_is = judged(&[(10, 100), (200, 300), (400, 410)]);
    assert_eq!(as_it_is.lost_in(&judged(&[(15, 120), (230, 500)]), 600 * SECOND), (0, 30 * SECOND));
    assert_eq!(as_it_is.lost_in(&judged(&[(15, 120)]), 600 * SECOND), (2, 5 * SECOND));
    assert_eq!(as_it_is.lost_in(&as_it_is, 600 * SECOND), (0, 0));
}

#[test]
fn settings_that_calm_a_rule_are_found_and_lose_nothing_that_mattered() {
    let plant = plant(json!({"kind": "high", "level": 80}));
    // It swings by 1 around the limit, and once stands well above it.
    let noisy: Vec<(i64, f64)> =
        (0..600).map(|s| (s, if (300..400).contains(&s) { 90.0 } else { 80.0 + (s % 10) as f64 / 9.0 - 0.5 })).collect();
    let (told, span) = (values(&noisy), (0, 600 * SECOND));
    let as_it_is = Judged::of(&Trial::run(&plant, rule(&plant), &told, span), span.1);
    assert!(as_it_is.chattering > 40, "{}", as_it_is.chattering);
    let found = calmer(&plant, rule(&plant), &told, span, &as_it_is, &mut || true).unwrap();
    assert_eq!((found.rule.deadband, found.rule.on_delay_s, found.missed), (1.0, 0.0, 0));
    assert!(found.judged.chattering == 0 && found.judged.alarms.len() <= 2);
    assert_eq!(calmer(&plant, rule(&plant), &told, span, &Judged::default(), &mut || true), None);
    assert_eq!(calmer(&plant, rule(&plant), &told, span, &as_it_is, &mut || false), None);
}

proptest! {
    /// A trial tells the same as the running engine, which is ticked ten times a second and judges beside other things.
    #[test]
    fn a_trial_tells_the_same_as_the_running_engine(
        told in prop::collection::vec((0i64..6, 1u32..3, prop::option::weighted(0.9, 60.0..100.0f64)), 1..60),
        kind in 0usize..6,
        on in 0i64..4,
        off in 0i64..4,
    ) {
        let b = format!("at(\"{}\")", id(2));
        let mut rule = [
            json!({"kind": "high", "level": 80, "deadband": 2}),
            json!({"kind": "deviation", "level": 5, "setpoint": {"text": b}}),
            json!({"kind": "rate", "level": 120, "window_s": 3}),
            json!({"kind": "expression", "when": {"text": format!("at(\"{}\") > {b}", id(1))}}),
            json!({"kind": "high", "level_formula": {"text": b}, "only_while": {"text": format!("{b} > 70")}}),
            json!({"kind": "bad_quality"}),
        ][kind].clone();
        rule["on_delay_s"] = on.into();
        rule["off_delay_s"] = off.into();
        let plant = plant(rule);
        let mut at = 10 * SECOND;
        let told: Vec<Told> = told.into_iter().map(|(after, tag, value)| {
            at += after * SECOND;
            let quality = if value.is_some() { Quality::GOOD } else { Quality::of(crate::quality::Reason::NoAnswer) };
            Told { at, tag, value: value.map(Value::F64), quality }
        }).collect();
        let end = at + 30 * SECOND;
        let tried = Trial::run(&plant, super::tests::rule(&plant), &told, (10 * SECOND, end));
        let mut running = Engine::new(vec![]);
        let mut out = Effects::default();
        running.step(10 * SECOND, Input::Plan(Arc::new(Plan::of(&plant.alone(super::tests::rule(&plant))))), &mut out);
        let mut now = 10 * SECOND;
        while now <= end {
            let mut batch = Batch::default();
            for one in told.iter().filter(|one| one.at == now) {
                match &one.value {
                    Some(value) => batch.push(one.tag, one.at, one.quality, 0, value),
                    None => batch.push_quality(one.tag, one.at, one.quality),
                }
            }
            running.step(now, Input::Tick, &mut out);
            if !batch.is_empty() {
                running.step(now, Input::Samples(&batch), &mut out);
            }
            running.step(now, Input::Tick, &mut out);
            now += SECOND / 10;
        }
        let plain = |events: &[AlarmEvent]| -> Vec<(Nanos, EventKind, String)> {
            events.iter().map(|e| (e.occurred_at, e.kind, e.text.clone())).collect()
        };
        prop_assert_eq!(plain(&tried), plain(&out.events));
    }
}
