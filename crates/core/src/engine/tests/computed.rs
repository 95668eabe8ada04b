//! Computed tags in the engine.

use super::*;
use crate::{formula::Fault, plant::edit};

/// Tag 1 (a) and 2 (b) come from outside; 3, 4 … are computed by the formulas, in which a, b, c … stand for the tags.
fn works(formulas: &[&str]) -> Plant {
    let item = |kind, n: u128, no, value| Stored { kind, id: id(n), no, revision: 1, own: own(value) };
    let mut stored = vec![item(ItemKind::Place, 100, 0, json!({"name": "EX-1"}))];
    for (n, name) in [(1, "a"), (2, "b")] {
        stored.push(item(ItemKind::Tag, n, n as u32, json!({"place": id(100), "name": name, "record": true})));
    }
    for (i, text) in formulas.iter().enumerate() {
        let text = "abcdef"
            .chars()
            .enumerate()
            .fold((*text).to_owned(), |text, (n, c)| text.replace(&format!("<{c}>"), &format!("at(\"{}\")", id(n as u128 + 1))));
        let name = char::from(b'c' + i as u8).to_string();
        let set = json!({"place": id(100), "name": name, "record": true, "formula": {"text": text}});
        stored.push(item(ItemKind::Tag, i as u128 + 3, i as u32 + 3, set));
    }
    let (plant, broken) = Plant::from_stored(1, stored);
    assert_eq!(broken, []);
    plant
}

/// An engine at work since five seconds after the beginning of time.
fn start(plant: &Plant) -> Engine {
    let mut engine = Engine::new(vec![]);
    engine.step(5 * SECOND, Input::Plan(Arc::new(Plan::of(plant))), &mut Effects::default());
    engine
}

fn samples(told: &[(u32, f64, f64)]) -> Batch {
    let mut batch = Batch::default();
    for &(tag, at, value) in told {
        batch.push(tag, (at * SECOND as f64) as Nanos, Quality::GOOD, 0, &Value::F64(value));
    }
    batch
}

fn give(engine: &mut Engine, now: f64, batch: &Batch) -> Effects {
    let mut out = Effects::default();
    engine.step((now * SECOND as f64) as Nanos, Input::Samples(batch), &mut out);
    out
}

/// What was recorded of a tag, with the second of each.
fn recorded(out: &Effects, tag: u32) -> Vec<(f64, f64)> {
    let of = out.recorded.samples.iter().filter(|s| s.tag == tag && s.kind != crate::sample::Kind::Empty);
    of.map(|&s| (s.time as f64 / SECOND as f64, out.recorded.value_of(s).unwrap().number().unwrap())).collect()
}

fn newest(engine: &Engine, tag: u32) -> (Option<f64>, Reason) {
    let current = engine.current(engine.plan().slots[&tag]);
    (current.value.as_ref().and_then(Value::number), current.quality.reason())
}

#[test]
fn what_is_read_is_computed_before_what_reads_it_and_once_an_instant() {
    // c reads d, which stands behind it.
    let mut engine = start(&works(&["<d> * 10", "<a> + <b>", "<c> + <a>"]));
    let out = give(&mut engine, 10.0, &samples(&[(1, 10.0, 1.0), (2, 10.0, 2.0)]));
    assert_eq!(
        (recorded(&out, 4), recorded(&out, 3), recorded(&out, 5)),
        (vec![(10.0, 3.0)], vec![(10.0, 30.0)], vec![(10.0, 31.0)])
    );
    // Three instants in one batch, told in another order: each counts with what held at it.
    let out = give(&mut engine, 20.0, &samples(&[(1, 11.0, 5.0), (1, 13.0, 6.0), (2, 12.0, 100.0)]));
    assert_eq!(recorded(&out, 4), [(11.0, 7.0), (12.0, 105.0), (13.0, 106.0)]);
    assert_eq!(recorded(&out, 5), [(11.0, 75.0), (12.0, 1055.0), (13.0, 1066.0)]);
}

#[test]
fn a_bad_input_makes_bad_output_and_the_cause_is_known() {
    let mut engine = start(&works(&["<a> + <b>", "or_else(<c>, 7)", "<a> / (<b> - 2)"]));
    assert_eq!((newest(&engine, 3), newest(&engine, 4)), ((None, Reason::BadInput), (Some(7.0), Reason::Fine)));
    give(&mut engine, 10.0, &samples(&[(1, 10.0, 1.0), (2, 10.0, 2.0)]));
    assert_eq!((newest(&engine, 3), newest(&engine, 4)), ((Some(3.0), Reason::Fine), (Some(3.0), Reason::Fine)));
    assert_eq!(newest(&engine, 5), (None, Reason::NoResult));
    let cause = |engine: &Engine, tag| engine.current(engine.plan().slots[&tag]).cause.map(|cause| cause.fault);
    assert_eq!(cause(&engine, 5), Some(Fault::DivisionByZero));
    let mut lost = Batch::default();
    lost.push_quality(2, 11 * SECOND, Quality::of(Reason::NoAnswer));
    give(&mut engine, 11.0, &lost);
    assert_eq!(newest(&engine, 3), (Some(3.0), Reason::BadInput), "the last value stays");
    assert_eq!(cause(&engine, 3), Some(Fault::Input(id(2), Reason::NoAnswer)));
    assert_eq!((cause(&engine, 4), newest(&engine, 4)), (None, (Some(7.0), Reason::Fine)));
}

#[test]
fn an_alarm_stands_on_a_computed_value() {
    let mut plant = works(&["<a> + <b>"]);
    let rule = edit::Edit {
        kind: ItemKind::Rule,
        id: id(50),
        op: edit::Op::Create(own(json!({"tag": id(3), "kind": "high", "level": 80.0})), None),
        seen: None,
    };
    plant = edit::apply(&plant, &[rule], &(), || 9).unwrap().0;
    let mut engine = start(&plant);
    let out = give(&mut engine, 10.0, &samples(&[(1, 10.0, 50.0), (2, 10.0, 40.0)]));
    assert_eq!(out.events.iter().map(|e| (e.kind, e.occurred_at)).collect::<Vec<_>>(), [(EventKind::Raised, 10 * SECOND)]);
}

#[test]
fn time_alone_goes_on_a_second_behind_the_clock() {
    let mut engine = start(&works(&["lasts(<a> > 5, \"10s\")", "total(<b>, \"1s\")"]));
    give(&mut engine, 100.0, &samples(&[(1, 100.0, 9.0), (2, 100.0, 2.0)]));
    let mut out = Effects::default();
    for tenth in 1000..1200 {
        engine.step(Nanos::from(tenth) * SECOND / 10, Input::Tick, &mut out);
    }
    // On at its instant, though it is found a second later.
    assert_eq!(recorded(&out, 3), [(110.0, 1.0)]);
    let totals = recorded(&out, 4);
    assert_eq!((totals.first(), totals.last()), (Some(&(101.0, 2.0)), Some(&(118.0, 36.0))));
}

#[test]
fn a_change_of_the_plan_keeps_what_was_counted() {
    let mut engine = start(&works(&["total(<a>, \"1s\")"]));
    give(&mut engine, 10.0, &samples(&[(1, 10.0, 2.0)]));
    give(&mut engine, 20.0, &samples(&[(1, 20.0, 2.0)]));
    assert_eq!(newest(&engine, 3), (Some(20.0), Reason::Fine));
    let mut plan = Plan::of(&works(&["total(<a>, \"1s\") + 100", "<a> * 2"]));
    plan.revision = 2;
    engine.step(21 * SECOND, Input::Plan(Arc::new(plan)), &mut Effects::default());
    assert_eq!(newest(&engine, 3), (Some(120.0), Reason::Fine));
    assert_eq!(newest(&engine, 4), (Some(4.0), Reason::Fine), "what is new is computed at once");
    give(&mut engine, 30.0, &samples(&[(1, 30.0, 2.0)]));
    assert_eq!(newest(&engine, 3), (Some(140.0), Reason::Fine));
}

#[test]
fn what_was_counted_outlasts_a_restart() {
    let plant = works(&["total(<a>, \"1s\", <b> > 0)"]);
    let mut first = start(&plant);
    give(&mut first, 10.0, &samples(&[(1, 10.0, 2.0), (2, 10.0, 0.0)]));
    give(&mut first, 20.0, &samples(&[(1, 20.0, 2.0)]));
    let mut out = Effects::default();
    first.step(21 * SECOND, Input::KeepFormulas, &mut out);
    assert_eq!(out.kept.len(), 1);
    let mut second = Engine::new(vec![]);
    second.step(0, Input::Formulas(out.kept.into_iter().collect()), &mut Effects::default());
    second.step(30 * SECOND, Input::Plan(Arc::new(Plan::of(&plant))), &mut Effects::default());
    give(&mut second, 40.0, &samples(&[(1, 40.0, 2.0), (2, 40.0, 0.0)]));
    give(&mut second, 50.0, &samples(&[(1, 50.0, 2.0)]));
    assert_eq!(newest(&second, 3), (Some(40.0), Reason::PartMissing), "what was missed is told until the reset");
    give(&mut second, 60.0, &samples(&[(2, 60.0, 1.0)]));
    assert_eq!(newest(&second, 3), (Some(0.0), Reason::Fine));
}

#[test]
fn windows_are_filled_with_what_was_before() {
    let plant = works(&["average(<a>, \"100s\")"]);
    let mut engine = start(&plant);
    give(&mut engine, 1000.0, &samples(&[(1, 1000.0, 10.0)]));
    give(&mut engine, 1010.0, &samples(&[(1, 1010.0, 10.0)]));
    assert_eq!(newest(&engine, 3), (Some(10.0), Reason::PartMissing));
    let mut replay = crate::formula::Replay::new(engine.plan().formulas[0].program.clone());
    for at in [900, 1000] {
        replay.tell(at * SECOND, 0, Some(Value::F64(20.0)), Quality::GOOD, &mut |_| {});
    }
    let earlier = replay.finish(1000 * SECOND, &mut |_| {});
    engine.step(1011 * SECOND, Input::Earlier { tag: 3, earlier: &earlier }, &mut Effects::default());
    assert_eq!(newest(&engine, 3), (Some(19.0), Reason::Fine));
}

#[test]
fn by_hand_and_out_of_service_count_for_computed_tags_too() {
    let plant = works(&["<a> * 2", "<c> + 1"]);
    let mut engine = start(&plant);
    give(&mut engine, 10.0, &samples(&[(1, 10.0, 5.0)]));
    let mut out = Effects::default();
    engine.step(11 * SECOND, Input::SetByHand { tag: 3, value: &Value::F64(50.0), until: None }, &mut out);
    assert_eq!((newest(&engine, 3), newest(&engine, 4)), ((Some(50.0), Reason::ByHand), (Some(51.0), Reason::Fine)));
    give(&mut engine, 12.0, &samples(&[(1, 12.0, 6.0)]));
    assert_eq!((newest(&engine, 3).0, newest(&engine, 4).0), (Some(50.0), Some(51.0)));
    engine.step(13 * SECOND, Input::Release(3), &mut out);
    assert_eq!((newest(&engine, 3), newest(&engine, 4)), ((Some(12.0), Reason::Fine), (Some(13.0), Reason::Fine)));
    let service = |on: bool, revision| {
        let patch =
            edit::Edit { kind: ItemKind::Place, id: id(100), op: edit::Op::Patch(own(json!({"in_service": on}))), seen: None };
        let mut plan = Plan::of(&edit::apply(&plant, &[patch], &(), || 9).unwrap().0);
        plan.revision = revision;
        Input::Plan(Arc::new(plan))
    };
    engine.step(14 * SECOND, service(false, 2), &mut out);
    assert_eq!(newest(&engine, 4).1, Reason::OutOfService);
    engine.step(20 * SECOND, service(true, 3), &mut out);
    give(&mut engine, 21.0, &samples(&[(1, 21.0, 7.0)]));
    assert_eq!((newest(&engine, 3), newest(&engine, 4)), ((Some(14.0), Reason::Fine), (Some(15.0), Reason::Fine)));
}

#[test]
fn a_step_of_the_clock_does_not_stop_what_counts() {
    let mut engine = start(&works(&["total(<a>, \"1s\")", "lasts(<a> > 1, \"10s\")"]));
    give(&mut engine, 1000.0, &samples(&[(1, 1000.0, 2.0)]));
    give(&mut engine, 1010.0, &samples(&[(1, 1010.0, 2.0)]));
    let mut out = Effects::default();
    // An hour back.
    engine.step(-2589 * SECOND, Input::ClockStep { epoch: 1, by: -3600 * SECOND }, &mut out);
    give(&mut engine, -2580.0, &samples(&[(1, -2580.0, 2.0)]));
    assert_eq!(newest(&engine, 3), (Some(40.0), Reason::Fine));
    assert_eq!(newest(&engine, 4), (Some(1.0), Reason::Fine));
}

proptest! {
    /// However values come, a chain of formulas stands as a calculation over what is known says.
    #[test]
    fn a_chain_stands_as_it_would_be_calculated(told in prop::collection::vec((1u32..3, 0i64..4, 0i32..50), 1..60)) {
        let mut engine = start(&works(&["<e> + <a>", "<a> * <b>", "<d> - <b>"]));
        let (mut at, mut a, mut b) = (100, None, None);
        for (tag, step, value) in told {
            at += step;
            let value = f64::from(value);
            give(&mut engine, at as f64, &samples(&[(tag, at as f64, value)]));
            if tag == 1 { a = Some(value) } else { b = Some(value) }
            if let (Some(a), Some(b)) = (a, b) {
                prop_assert_eq!(newest(&engine, 4), (Some(a * b), Reason::Fine));
                prop_assert_eq!(newest(&engine, 5), (Some(a * b - b), Reason::Fine));
                prop_assert_eq!(newest(&engine, 3), (Some(a * b - b + a), Reason::Fine));
            } else {
                prop_assert_eq!(newest(&engine, 3).1, Reason::BadInput);
            }
        }
    }
}
