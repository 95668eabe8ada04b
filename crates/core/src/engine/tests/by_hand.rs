//! Values that people set by hand.

use super::*;

fn set(engine: &mut Engine, at_s: i64, value: f64, until_s: Option<i64>) -> Effects {
    let mut out = Effects::default();
    let until = until_s.map(|s| s * SECOND);
    engine.step(at_s * SECOND, Input::SetByHand { tag: 7, value: &Value::F64(value), until }, &mut out);
    out
}

fn release(engine: &mut Engine, at_s: i64) -> Effects {
    let mut out = Effects::default();
    engine.step(at_s * SECOND, Input::Release(7), &mut out);
    out
}

fn recorded(out: &Effects) -> Vec<(Nanos, Option<f64>, Reason)> {
    let told = |s: &Sample| (s.time / SECOND, out.recorded.value_of(*s).and_then(|v| v.number()), s.quality.reason());
    out.recorded.samples.iter().map(told).collect()
}

#[test]
fn a_value_set_by_hand_stands_in_is_judged_recorded_and_let_go() {
    let mut engine = engine(&plant(json!({"record": true}), json!({})), vec![]);
    feed(&mut engine, &[value(1, 50.0)]);
    let out = set(&mut engine, 2, 90.0, None);
    assert_eq!(recorded(&out), [(2, Some(90.0), Reason::ByHand)]);
    assert_eq!(out.recorded.samples[0].flags, flag::BY_HAND);
    assert_eq!(out.events[0].text, "Level high, 90.0 % over 80.0");
    // The source goes on, but counts for nothing.
    assert_eq!(feed(&mut engine, &[value(3, 99.0), bad(4), value(5, 51.0)]), Effects::default());
    assert_eq!(engine.current(0).value, Some(Value::F64(90.0)));
    let out = release(&mut engine, 6);
    assert_eq!(recorded(&out), [(6, Some(51.0), Reason::Fine)]);
    assert_eq!(out.events[0].kind, EventKind::Returned);
    assert_eq!((engine.current(0).value.clone(), engine.current(0).time), (Some(Value::F64(51.0)), 5 * SECOND));
    assert_eq!(release(&mut engine, 7), Effects::default());
}

#[test]
fn its_end_releases_it_and_says_so() {
    let mut engine = engine(&plant(json!({"record": true}), json!({})), vec![]);
    set(&mut engine, 2, 60.0, Some(5));
    let mut out = Effects::default();
    engine.step(4 * SECOND, Input::Tick, &mut out);
    assert_eq!(out, Effects::default());
    engine.step(5 * SECOND, Input::Tick, &mut out);
    assert_eq!((out.released.clone(), recorded(&out)), (vec![7], vec![(5, None, Reason::NotRead)]));
    // Whatever the source then says is news.
    assert_eq!(recorded(&feed(&mut engine, &[value(4, 61.0)])), [(4, Some(61.0), Reason::Fine)]);
}

#[test]
fn set_before_the_plan_it_shows_with_it_and_goes_with_its_tag() {
    let plant = plant(json!({}), json!({}));
    let mut early = Engine::new(vec![]);
    set(&mut early, 0, 60.0, None);
    let mut out = Effects::default();
    early.step(SECOND, Input::Plan(Arc::new(Plan::of(&plant))), &mut out);
    assert_eq!((early.current(0).quality.reason(), early.current(0).time), (Reason::ByHand, SECOND));
    let mut without = plant.clone();
    (without.tags, without.rules) = Default::default();
    let mut out = Effects::default();
    early.step(2 * SECOND, Input::Plan(Arc::new(Plan::of(&without))), &mut out);
    assert_eq!(out.released, [7]);
}

#[test]
fn out_of_service_hides_it_and_back_in_service_it_shows_again() {
    let running = plant(json!({}), json!({}));
    let mut stopped = running.clone();
    stopped.put(ItemKind::Place, id(1), 0, 2, own(json!({"name": "EX-1", "in_service": false}))).unwrap();
    let change = |engine: &mut Engine, at: i64, plant: &Plant| {
        engine.step(at * SECOND, Input::Plan(Arc::new(Plan::of(plant))), &mut Effects::default());
    };
    let mut engine = engine(&running, vec![]);
    feed(&mut engine, &[value(1, 50.0)]);
    set(&mut engine, 2, 60.0, None);
    change(&mut engine, 3, &stopped);
    assert_eq!(engine.current(0).quality.reason(), Reason::OutOfService);
    change(&mut engine, 4, &running);
    assert_eq!((engine.current(0).value.clone(), engine.current(0).quality.reason()), (Some(Value::F64(60.0)), Reason::ByHand));
    change(&mut engine, 5, &stopped);
    release(&mut engine, 6);
    assert_eq!(engine.current(0).value, Some(Value::F64(50.0)), "what was set does not stay behind");
    assert_eq!(engine.current(0).quality.reason(), Reason::OutOfService);
}

proptest! {
    /// However long a value was set by hand: once it is released and the source has spoken again, all is as if it never was.
    #[test]
    fn nothing_stays_behind(values in stream(), from in 0usize..80, long in 0usize..40, by_hand in 60.0..100.0f64) {
        let plant = plant(json!({"record": true}), json!({}));
        let all = batches(&values);
        let (from, to) = (from.min(all.len()), (from + long).min(all.len()));
        let mut plain = engine(&plant, vec![]);
        feed(&mut plain, &all);
        let mut other = engine(&plant, vec![]);
        feed(&mut other, &all[..from]);
        set(&mut other, from as i64 - 1, by_hand, None);
        let meanwhile = feed(&mut other, &all[from..to]);
        prop_assert_eq!(meanwhile, Effects::default());
        release(&mut other, to as i64 - 1);
        feed(&mut other, &all[to..]);
        prop_assert_eq!(&other.current(0).value, &plain.current(0).value);
        prop_assert_eq!(other.current(0).quality, plain.current(0).quality);
        // While nothing good is known an alarm stays as it was.
        if all.last().is_some_and(|b| !b.samples[0].quality.is_bad()) {
            prop_assert_eq!(other.rules[0].standing.state.condition, plain.rules[0].standing.state.condition);
        }
    }
}
