//! The engine on small plants.

mod by_hand;
mod computed;
mod judged;
mod play;
mod recorders;

use super::*;
use crate::{
    alarm::{EventKind, StandardState, Suppression},
    plant::{Kind as ItemKind, Own, Plant, Stored},
    sample::{Sample, flag},
};
use proptest::prelude::*;
use rstest::rstest;
use serde_json::{Value as Json, json};

fn own(value: Json) -> Own {
    value.as_object().unwrap().clone()
}

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

/// One tag (number 7) with a high limit at 80, recorded as given.
pub(super) fn plant(tag: Json, rule: Json) -> Plant {
    let mut settings = json!({"place": id(1), "name": "Level", "unit": "%"});
    settings.as_object_mut().unwrap().extend(own(tag));
    let mut limit = json!({"tag": id(10), "kind": "high", "level": 80.0});
    limit.as_object_mut().unwrap().extend(own(rule));
    let item = |kind, n, no, value| Stored { kind, id: id(n), no, revision: 1, own: own(value) };
    let (plant, broken) = Plant::from_stored(
        1,
        vec![
            item(ItemKind::Place, 1, 0, json!({"name": "EX-1"})),
            item(ItemKind::Tag, 10, 7, settings),
            item(ItemKind::Rule, 20, 0, limit),
        ],
    );
    assert_eq!(broken, []);
    plant
}

pub(super) fn engine(plant: &Plant, standings: Vec<AlarmStanding>) -> Engine {
    let mut engine = Engine::new(standings);
    engine.step(0, Input::Plan(Arc::new(Plan::of(plant))), &mut Effects::default());
    engine
}

pub(super) fn value(at_s: i64, value: f64) -> Batch {
    let mut batch = Batch::default();
    batch.push(7, at_s * SECOND, Quality::GOOD, 0, &Value::F64(value));
    batch
}

fn bad(at_s: i64) -> Batch {
    let mut batch = Batch::default();
    batch.push_quality(7, at_s * SECOND, Quality::of(Reason::NoAnswer));
    batch
}

pub(super) fn feed(engine: &mut Engine, batches: &[Batch]) -> Effects {
    let mut out = Effects::default();
    for batch in batches {
        engine.step(batch.samples[0].time, Input::Samples(batch), &mut out);
    }
    out
}

#[test]
fn a_lost_device_keeps_last_value_and_time() {
    let mut engine = engine(&plant(json!({}), json!({})), vec![]);
    feed(&mut engine, &[value(1, 42.0), bad(5)]);
    let current = engine.current(0);
    assert_eq!((current.value.clone(), current.time), (Some(Value::F64(42.0)), SECOND));
    assert_eq!((current.quality, current.told), (Quality::of(Reason::NoAnswer), 5 * SECOND));
}

#[test]
fn a_clock_that_was_never_set_is_not_believed() {
    let mut engine = engine(&plant(json!({}), json!({})), vec![]);
    let now = CLOCK_UNSET + 86_400 * SECOND;
    let of_1960 = -315_619_200 * SECOND;
    let mut batch = Batch::default();
    batch.push(7, of_1960, Quality::GOOD, flag::OWN_TIME, &Value::F64(5.0));
    engine.step(now, Input::Samples(&batch), &mut Effects::default());
    let current = engine.current(0);
    assert_eq!((current.time, current.quality), (now, Quality::of(Reason::ClockUnset)));
}

#[test]
fn before_anything_was_told_a_value_of_long_ago_is_news() {
    let mut engine = engine(&plant(json!({}), json!({})), vec![]);
    let mut unset = Batch::default();
    unset.push_quality(7, 100 * SECOND, Quality::of(Reason::NotSet));
    let out = feed(&mut engine, &[unset]);
    assert!(out.recorded.is_empty() && engine.current(0).quality.reason() == Reason::NotSet);
    feed(&mut engine, &[value(3, 42.0)]);
    assert_eq!((engine.current(0).time, engine.current(0).quality), (3 * SECOND, Quality::GOOD));
}

#[rstest]
#[case("high", true, "Pump tripped is on")]
#[case("low", false, "Pump tripped is off")]
fn an_alarm_on_a_switch_says_how_it_stands(#[case] kind: &str, #[case] on: bool, #[case] text: &str) {
    let mut engine = engine(&plant(json!({"name": "Pump tripped", "unit": ""}), json!({"kind": kind, "level": 0.5})), vec![]);
    let switch = |at, on| {
        let mut batch = Batch::default();
        batch.push(7, at * SECOND, Quality::GOOD, 0, &Value::Bool(on));
        batch
    };
    let out = feed(&mut engine, &[switch(1, !on), switch(2, on)]);
    assert_eq!(out.events.iter().map(|e| e.text.as_str()).collect::<Vec<_>>(), [text]);
}

#[test]
fn an_alarm_comes_is_acknowledged_and_returns() {
    let mut engine = engine(&plant(json!({}), json!({"priority": 3})), vec![]);
    let out = feed(&mut engine, &[value(1, 79.0), value(2, 84.64)]);
    assert_eq!(out.events.len(), 1);
    assert_eq!(out.events[0].text, "Level high, 84.6 % over 80.0");
    assert_eq!((out.events[0].occurred_at, out.events[0].priority), (2 * SECOND, 3));
    let mut out = Effects::default();
    engine.step(
        3 * SECOND,
        Input::Alarms { action: AlarmAction::Acknowledge, rules: &[id(20)], actor: "Shift lead", comment: "seen" },
        &mut out,
    );
    assert_eq!((out.events[0].kind, out.events[0].sequence), (EventKind::Acknowledged, 2));
    assert_eq!(out.states[0].state.standard(), StandardState::Acknowledged);
    let out = feed(&mut engine, &[value(4, 60.0)]);
    assert_eq!((out.events[0].kind, out.states[0].state.standard()), (EventKind::Returned, StandardState::Normal));
}

#[test]
fn a_delay_also_ends_when_only_time_passes() {
    let mut engine = engine(&plant(json!({}), json!({"on_delay_s": 5.0})), vec![]);
    feed(&mut engine, &[value(1, 90.0)]);
    let mut out = Effects::default();
    engine.step(5 * SECOND, Input::Tick, &mut out);
    assert!(out.events.is_empty());
    engine.step(7 * SECOND, Input::Tick, &mut out);
    assert_eq!((out.events[0].occurred_at, out.events[0].decided_at), (6 * SECOND, 7 * SECOND));
}

#[test]
fn a_delayed_alarm_tells_the_value_that_held_when_its_delay_ended() {
    let mut engine = engine(&plant(json!({}), json!({"on_delay_s": 2.0})), vec![]);
    let out = feed(&mut engine, &[value(1, 91.0), value(4, 50.0)]);
    assert_eq!(out.events[0].text, "Level high, 91.0 % over 80.0");
    assert_eq!((out.events[1].kind, out.events[1].value), (EventKind::Returned, 50.0.into()));
}

#[test]
fn a_bad_value_neither_raises_nor_returns() {
    let mut engine = engine(&plant(json!({}), json!({})), vec![]);
    assert_eq!(feed(&mut engine, &[value(1, 90.0)]).events.len(), 1);
    assert!(feed(&mut engine, &[bad(2), bad(3)]).events.is_empty());
    assert_eq!(feed(&mut engine, &[value(4, 70.0)]).events[0].kind, EventKind::Returned);
}

#[rstest]
#[case::each_poll(json!({"record": true, "record_mode": "each_poll"}), vec![1, 2, 3, 4, 5])]
#[case::on_change(json!({"record": true}), vec![1, 3, 4, 5])]
#[case::deadband(json!({"record": true, "record_deadband": 1.0}), vec![1, 4, 5])]
#[case::off(json!({}), vec![])]
fn recording(#[case] tag: Json, #[case] times: Vec<i64>) {
    let mut engine = engine(&plant(tag, json!({})), vec![]);
    let out = feed(&mut engine, &[value(1, 10.0), value(2, 10.0), value(3, 10.5), value(4, 12.0), bad(5), bad(6)]);
    assert_eq!(out.recorded.samples.iter().map(|s| s.time / SECOND).collect::<Vec<_>>(), times);
}

#[test]
fn the_first_sample_after_a_gap_is_marked() {
    let mut engine = engine(&plant(json!({"record": true}), json!({})), vec![]);
    let out = feed(&mut engine, &[value(1, 1.0), value(2, 2.0), bad(3), value(4, 2.0)]);
    let marks: Vec<bool> = out.recorded.samples.iter().map(|s| s.flags & flag::AFTER_GAP != 0).collect();
    assert_eq!(marks, [true, false, false, true]);
}

#[test]
fn after_a_loss_an_unchanged_value_is_stored_anew() {
    let mut engine = engine(&plant(json!({"record": true}), json!({})), vec![]);
    feed(&mut engine, &[value(1, 1.0)]);
    engine.step(2 * SECOND, Input::RecordAnew, &mut Effects::default());
    let out = feed(&mut engine, &[value(3, 1.0)]);
    assert_eq!(out.recorded.samples[0].flags, flag::AFTER_GAP);
}

#[test]
fn an_older_sample_goes_to_history_only() {
    let mut engine = engine(&plant(json!({"record": true}), json!({})), vec![]);
    feed(&mut engine, &[value(5, 50.0)]);
    let mut out = Effects::default();
    engine.step(6 * SECOND, Input::Samples(&value(2, 99.0)), &mut out);
    assert!(out.events.is_empty() && out.changed.is_empty());
    assert_eq!(out.recorded.samples[0].flags, flag::LATE);
    assert_eq!(engine.current(0).value, Some(Value::F64(50.0)));
}

#[test]
fn a_clock_too_far_ahead_is_not_believed() {
    let mut engine = engine(&plant(json!({}), json!({})), vec![]);
    engine.step(SECOND, Input::Samples(&value(3600, 50.0)), &mut Effects::default());
    assert_eq!((engine.current(0).time, engine.current(0).quality), (SECOND, Quality::of(Reason::ClockAhead)));
}

#[test]
fn a_new_limit_counts_at_once_and_a_deleted_rule_withdraws_its_alarm() {
    let mut plant = plant(json!({}), json!({"level": 95.0}));
    let mut engine = engine(&plant, vec![]);
    feed(&mut engine, &[value(1, 90.0)]);
    plant = self::plant(json!({}), json!({"level": 85.0}));
    let mut out = Effects::default();
    engine.step(2 * SECOND, Input::Plan(Arc::new(Plan::of(&plant))), &mut out);
    assert_eq!(out.events[0].kind, EventKind::Raised);
    plant.rules = Default::default();
    let mut out = Effects::default();
    engine.step(3 * SECOND, Input::Plan(Arc::new(Plan::of(&plant))), &mut out);
    assert_eq!((out.events[0].kind, out.events[0].sequence), (EventKind::Withdrawn, 2));
    assert_eq!(engine.standings().count(), 0);
}

fn stream() -> impl Strategy<Value = Vec<Option<f64>>> {
    prop::collection::vec(prop::option::weighted(0.9, 60.0..100.0f64), 1..80)
}

fn batches(values: &[Option<f64>]) -> Vec<Batch> {
    values.iter().enumerate().map(|(i, v)| v.map_or_else(|| bad(i as i64), |v| value(i as i64, v))).collect()
}

proptest! {
    /// The same inputs give the same effects.
    #[test]
    fn steps_are_repeatable(values in stream()) {
        let plant = plant(json!({"record": true, "record_deadband": 0.5}), json!({"on_delay_s": 2.0, "off_delay_s": 1.0}));
        let run = || feed(&mut engine(&plant, vec![]), &batches(&values));
        prop_assert_eq!(run(), run());
    }

    /// A restart between any two samples neither loses nor doubles an event.
    #[test]
    fn a_restart_changes_no_event(values in stream(), cut in 0usize..80) {
        let plant = plant(json!({}), json!({"deadband": 2.0}));
        let all = batches(&values);
        let whole = feed(&mut engine(&plant, vec![]), &all).events;
        let cut = cut.min(all.len());
        let mut first = engine(&plant, vec![]);
        let mut events = feed(&mut first, &all[..cut]).events;
        let standings = first.standings().cloned().collect();
        events.extend(feed(&mut engine(&plant, standings), &all[cut..]).events);
        prop_assert_eq!(events, whole);
    }
}

#[test]
fn out_of_service_nothing_counts_and_history_says_so() {
    let running = plant(json!({"record": true}), json!({}));
    let mut stopped = running.clone();
    let mut place = own(json!({"name": "EX-1"}));
    place.insert("in_service".into(), false.into());
    stopped.put(ItemKind::Place, id(1), 0, 2, place).unwrap();
    let mut engine = engine(&running, Vec::new());
    let raised = feed(&mut engine, &[value(1, 90.0)]);
    assert_eq!(raised.events.len(), 1);
    let mut out = Effects::default();
    engine.step(5 * SECOND, Input::Plan(Arc::new(Plan::of(&stopped))), &mut out);
    assert_eq!(out.events.iter().map(|e| e.kind).collect::<Vec<_>>(), [EventKind::Withdrawn]);
    let told: Vec<_> = out.recorded.samples.iter().map(|s| (s.time, s.quality.reason())).collect();
    assert_eq!(told, [(5 * SECOND, Reason::OutOfService)]);
    // What still comes is passed over, and the last value stays to be seen.
    let late = feed(&mut engine, &[value(6, 95.0)]);
    assert_eq!(late, Effects::default());
    assert_eq!(
        (engine.current(0).value.clone(), engine.current(0).quality.reason()),
        (Some(Value::F64(90.0)), Reason::OutOfService)
    );
    // Told once, however often the plan changes meanwhile.
    let mut again = Effects::default();
    engine.step(7 * SECOND, Input::Plan(Arc::new(Plan::of(&stopped))), &mut again);
    assert!(again.recorded.is_empty() && again.events.is_empty());
    engine.step(8 * SECOND, Input::Plan(Arc::new(Plan::of(&running))), &mut again);
    assert_eq!(engine.current(0).quality.reason(), Reason::NotRead);
    assert!(again.events.is_empty(), "an old value raises nothing");
    let back = feed(&mut engine, &[value(9, 90.0)]);
    assert_eq!((back.events.len(), back.recorded.samples.len()), (1, 1));
}

fn act(engine: &mut Engine, at_s: i64, action: AlarmAction) -> Effects {
    let mut out = Effects::default();
    let input = Input::Alarms { rules: &[id(20), id(20), id(99)], action, actor: "Shift lead", comment: "pump is cleaned" };
    engine.step(at_s * SECOND, input, &mut out);
    out
}

fn tick(engine: &mut Engine, at_s: i64) -> Effects {
    let mut out = Effects::default();
    engine.step(at_s * SECOND, Input::Tick, &mut out);
    out
}

fn kinds(out: &Effects) -> Vec<(EventKind, Nanos, bool)> {
    out.events.iter().map(|e| (e.kind, e.occurred_at / SECOND, e.suppressed)).collect()
}

#[test]
fn a_shelved_alarm_is_followed_and_comes_back_by_itself() {
    let plant = plant(json!({}), json!({}));
    let mut first = engine(&plant, vec![]);
    feed(&mut first, &[value(1, 90.0)]);
    let shelve = AlarmAction::Suppress(Suppression::Shelved, Some(10 * SECOND));
    let out = act(&mut first, 2, shelve);
    assert_eq!(kinds(&out), [(EventKind::Shelved, 2, true)]);
    let event = &out.events[0];
    assert_eq!((event.until, event.actor.as_str(), event.comment.as_str()), (Some(10 * SECOND), "Shift lead", "pump is cleaned"));
    // It goes and comes meanwhile; nobody is asked to acknowledge it.
    let out = feed(&mut first, &[value(3, 70.0), value(4, 91.0)]);
    assert_eq!(kinds(&out), [(EventKind::Returned, 3, true), (EventKind::Raised, 4, true)]);
    assert!(kinds(&act(&mut first, 5, AlarmAction::Acknowledge)).is_empty());
    assert!(kinds(&tick(&mut first, 9)).is_empty());
    // Its time ends over a restart too, and it is an alarm again.
    let standings: Vec<_> = first.standings().cloned().collect();
    let mut again = engine(&plant, standings);
    let out = tick(&mut again, 12);
    assert_eq!(kinds(&out), [(EventKind::Unshelved, 10, false)]);
    assert_eq!(out.states[0].state.standard(), StandardState::Unacknowledged);
    assert_eq!(kinds(&tick(&mut again, 13)), []);
}

#[test]
fn what_suppresses_an_alarm_outlasts_its_rule_and_ends_while_that_is_away() {
    let running = plant(json!({}), json!({}));
    let mut without = running.clone();
    without.rules = Default::default();
    let mut engine = engine(&running, vec![]);
    act(&mut engine, 2, AlarmAction::Suppress(Suppression::OutOfService, None));
    act(&mut engine, 2, AlarmAction::Suppress(Suppression::Shelved, Some(5 * SECOND)));
    for (at, plant) in [(3, &without), (8, &running)] {
        engine.step(at * SECOND, Input::Plan(Arc::new(Plan::of(plant))), &mut Effects::default());
    }
    assert_eq!(kinds(&tick(&mut engine, 9)), [(EventKind::Unshelved, 5, true)]);
    assert_eq!(engine.standings().next().unwrap().state.standard(), StandardState::OutOfService);
    assert_eq!(
        kinds(&act(&mut engine, 10, AlarmAction::Lift(Suppression::OutOfService))),
        [(EventKind::PutInService, 10, false)]
    );
}

#[test]
fn a_latched_alarm_holds_until_it_is_reset() {
    let mut plan = Plan::of(&plant(json!({}), json!({})));
    plan.rules[0].handling.latch = true;
    let mut engine = Engine::new(vec![]);
    engine.step(0, Input::Plan(Arc::new(plan)), &mut Effects::default());
    let out = feed(&mut engine, &[value(1, 90.0), value(2, 70.0)]);
    assert_eq!(out.states.last().unwrap().state.standard(), StandardState::LatchedUnacknowledged);
    act(&mut engine, 3, AlarmAction::Acknowledge);
    let out = act(&mut engine, 4, AlarmAction::Reset);
    assert_eq!((kinds(&out), out.states[0].state.standard()), (vec![(EventKind::Reset, 4, false)], StandardState::Normal));
    // The rule goes on to judge: latched or not, a value beyond the limit is a new alarm.
    assert_eq!(kinds(&feed(&mut engine, &[value(5, 95.0)])), [(EventKind::Raised, 5, false)]);
}

#[test]
fn a_large_counter_keeps_its_digits_in_event_and_text() {
    let mut engine = engine(&plant(json!({"unit": ""}), json!({"level": 9e18})), vec![]);
    let mut batch = Batch::default();
    batch.push(7, SECOND, Quality::GOOD, 0, &Value::U64(9_223_372_036_854_775_809));
    let out = feed(&mut engine, &[batch]);
    assert_eq!(out.events[0].value, 9_223_372_036_854_775_809_u64.into());
    assert!(out.events[0].text.starts_with("Level high, 9223372036854775809 over"), "{}", out.events[0].text);
}

#[test]
fn a_plan_that_comes_late_is_passed_over() {
    let mut newer = plant(json!({}), json!({}));
    newer.revision = 5;
    let mut engine = engine(&newer, vec![]);
    let mut older = newer.clone();
    (older.revision, older.rules) = (4, Default::default());
    engine.step(SECOND, Input::Plan(Arc::new(Plan::of(&older))), &mut Effects::default());
    assert_eq!((engine.plan().revision, engine.standings().count()), (5, 1));
}

#[test]
fn a_delay_that_ends_before_the_source_speaks_again_tells_what_history_knows() {
    let plant = plant(json!({}), json!({"on_delay_s": 5.0}));
    let mut first = engine(&plant, vec![]);
    feed(&mut first, &[value(1, 90.0), value(3, 95.0)]);
    let mut again = engine(&plant, first.standings().cloned().collect());
    let recall = Input::Recall { tag: 7, value: Value::F64(95.0), time: 3 * SECOND, told: None };
    again.step(4 * SECOND, recall, &mut Effects::default());
    assert_eq!(tick(&mut again, 7).events[0].value, 95.0.into());
}

#[test]
fn a_source_with_a_clock_of_its_own_tells_its_order_across_a_step_of_ours() {
    let mut engine = engine(&plant(json!({"record": true}), json!({})), vec![]);
    let sent = |at: i64, v: f64| {
        let mut batch = Batch::default();
        batch.push(7, at * SECOND, Quality::GOOD, flag::OWN_TIME, &Value::F64(v));
        batch
    };
    // Our clock ran ahead by an hour and is corrected; the source's never was wrong.
    engine.step(7600 * SECOND, Input::Samples(&sent(4000, 1.0)), &mut Effects::default());
    engine.step(4001 * SECOND, Input::ClockStep { epoch: 1, by: -3600 * SECOND }, &mut Effects::default());
    let mut out = Effects::default();
    engine.step(4002 * SECOND, Input::Samples(&sent(3990, 9.0)), &mut out);
    assert_eq!(engine.current(0).value, Some(Value::F64(1.0)), "it is older by the source's own order");
    engine.step(4002 * SECOND, Input::Samples(&sent(4002, 2.0)), &mut out);
    assert_eq!((engine.current(0).value.clone(), engine.current(0).quality), (Some(Value::F64(2.0)), Quality::GOOD));
}

#[test]
fn alarms_about_havrel_itself_come_are_acknowledged_and_outlast_a_restart() {
    let plant = plant(json!({}), json!({}));
    let mut first = engine(&plant, vec![]);
    let mut out = Effects::default();
    let alarm = SystemAlarm::Quarantine;
    first.step(SECOND, Input::System { alarm, active: true, text: "one entry" }, &mut out);
    first.step(SECOND, Input::System { alarm, active: true, text: "one entry" }, &mut out);
    first.step(SECOND, Input::System { alarm, active: false, text: "" }, &mut out);
    let kinds: Vec<_> = out.events.iter().map(|e| (e.rule, e.kind, e.priority)).collect();
    assert_eq!(kinds, [(alarm.id(), EventKind::Raised, 3), (alarm.id(), EventKind::Returned, 3)]);
    let standing = out.states.last().unwrap().clone();
    assert_eq!(standing.state.standard(), StandardState::ReturnedUnacknowledged);
    // Neither a plan nor a restart withdraws it: nobody configured it.
    let mut again = Engine::new(vec![standing]);
    let mut out = Effects::default();
    again.step(2 * SECOND, Input::Plan(Arc::new(Plan::of(&plant))), &mut out);
    assert!(out.events.is_empty());
    again.step(
        3 * SECOND,
        Input::Alarms { action: AlarmAction::Acknowledge, rules: &[alarm.id()], actor: "Shift lead", comment: "" },
        &mut out,
    );
    assert_eq!((out.events[0].sequence, out.states[0].state.standard()), (3, StandardState::Normal));
}

#[test]
fn a_delay_that_runs_goes_on_after_a_restart() {
    let plant = plant(json!({}), json!({"on_delay_s": 5.0}));
    let mut first = engine(&plant, vec![]);
    feed(&mut first, &[value(1, 90.0)]);
    let standings = first.standings().cloned().collect();
    let mut again = engine(&plant, standings);
    let mut out = Effects::default();
    again.step(6 * SECOND, Input::Tick, &mut out);
    assert_eq!(
        (out.events[0].kind, out.events[0].occurred_at, out.events[0].value),
        (EventKind::Raised, 6 * SECOND, 90.0.into())
    );
}
