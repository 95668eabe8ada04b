//! Recorders: figures of spans, rows at events, and what records when values change.

use super::*;
use crate::{history::spans, plant::Track};

const RECORDER: u128 = 50;

/// Tags 7 (a) and 8 (b), which record nothing by themselves, and a recorder of both.
fn works(recorder: Json) -> Plant {
    let mut settings = json!({"name": "Figures", "choices": [{"place": id(1)}]});
    settings.as_object_mut().unwrap().extend(own(recorder));
    let item = |kind, n, no, value| Stored { kind, id: id(n), no, revision: 1, own: own(value) };
    let tag = |name: &str| json!({"place": id(1), "name": name, "range_low": 0.0, "range_high": 50.0});
    let (plant, broken) = Plant::from_stored(
        1,
        vec![
            item(ItemKind::Place, 1, 0, json!({"name": "EX-1"})),
            item(ItemKind::Tag, 10, 7, tag("a")),
            item(ItemKind::Tag, 11, 8, tag("b")),
            item(ItemKind::Recorder, RECORDER, 0, settings),
        ],
    );
    assert_eq!(broken, []);
    plant
}

fn every(ms: u32, keep: &[&str]) -> Json {
    json!({"when": {"on": "interval", "every_ms": ms, "keep": keep}})
}

fn told(tag: u32, at: f64, value: f64) -> Batch {
    let mut batch = Batch::default();
    batch.push(tag, (at * SECOND as f64) as Nanos, Quality::GOOD, 0, &Value::F64(value));
    batch
}

/// Gives samples as they come, with a tick wherever something ends by itself, until `until`.
fn play(engine: &mut Engine, batches: &[Batch], until: f64) -> Effects {
    let mut out = Effects::default();
    for batch in batches {
        tick(engine, batch.samples[0].time, &mut out);
        engine.step(batch.samples[0].time, Input::Samples(batch), &mut out);
    }
    tick(engine, (until * SECOND as f64) as Nanos, &mut out);
    out
}

fn tick(engine: &mut Engine, until: Nanos, out: &mut Effects) {
    while let Some(due) = engine.next_due().filter(|due| *due <= until) {
        engine.step(due, Input::Tick, out);
    }
}

/// What was recorded of a tag: second, value, reason.
fn values(out: &Effects, tag: u32) -> Vec<(f64, Option<f64>, Reason)> {
    let of = out.recorded.samples.iter().filter(|s| s.tag == tag);
    of.map(|&s| (s.time as f64 / SECOND as f64, out.recorded.value_of(s).and_then(|v| v.number()), s.quality.reason())).collect()
}

fn figures(out: &Effects, tag: u32, track: Track) -> Vec<(f64, Option<f64>, Reason)> {
    let of = out.tracked.iter().filter(|t| t.sample.tag == tag && t.track == track);
    of.map(|t| {
        let value = crate::sample::number(t.sample.kind, t.sample.bits);
        (t.sample.time as f64 / SECOND as f64, value, t.sample.quality.reason())
    })
    .collect()
}

#[test]
fn an_interval_takes_what_held_at_each_full_span_however_late_the_next_value_comes() {
    let mut engine = engine(&works(every(1000, &["value"])), vec![]);
    // Between the second full second and its end nothing comes; the value of 2.9 s must not stand at 2 s.
    let out = play(&mut engine, &[told(7, 0.5, 1.0), told(7, 1.0, 2.0), told(7, 1.5, 3.0), told(7, 2.9, 4.0)], 4.5);
    let good = |at, value| (at, Some(value), Reason::Fine);
    assert_eq!(values(&out, 7), [good(1.0, 2.0), good(2.0, 3.0), good(3.0, 4.0)]);
    assert_eq!(values(&out, 8), [], "nothing is known of it");
    assert!(out.rows.is_empty() && out.tracked.is_empty());
}

#[rstest]
#[case(0, &[1.0, 2.0])]
#[case(250, &[1.25, 2.25])]
fn spans_are_aligned_to_the_clock_with_an_offset(#[case] offset: u32, #[case] expected: &[f64]) {
    let when = json!({"when": {"on": "interval", "every_ms": 1000, "offset_ms": offset, "keep": ["value"]}});
    let mut engine = engine(&works(when), vec![]);
    let out = play(&mut engine, &[told(7, 0.3, 1.0)], 3.2 + f64::from(offset) / 1000.0);
    let times: Vec<f64> = values(&out, 7).iter().map(|v| v.0).filter(|at| *at > 0.9).collect();
    assert_eq!(times, expected);
}

#[test]
fn figures_of_a_span_weigh_values_by_their_time() {
    let mut engine = engine(&works(every(2000, &["average", "minimum", "maximum", "sum"])), vec![]);
    let out = play(&mut engine, &[told(7, 0.0, 10.0), told(7, 2.0, 20.0), told(7, 3.5, 40.0), told(7, 5.9, 0.0)], 5.5);
    let good = |value| (2.0, Some(value), Reason::Fine);
    let second = |track| figures(&out, 7, track)[1];
    assert_eq!((second(Track::Average), second(Track::Sum)), (good(25.0), good(60.0)));
    assert_eq!((second(Track::Minimum), second(Track::Maximum)), (good(20.0), good(40.0)));
    // The value that came exactly when the first span ended is not in it.
    assert_eq!(figures(&out, 7, Track::Sum)[0], (0.0, Some(10.0), Reason::Fine));
    assert_eq!(figures(&out, 7, Track::Maximum)[0], (0.0, Some(10.0), Reason::Fine));
    // The third is closed only once it has ended and what belongs to it may have come.
    assert_eq!(figures(&out, 7, Track::Average).len(), 2);
    assert!(out.recorded.is_empty(), "only figures are kept");
}

#[test]
fn a_span_that_was_known_in_part_is_uncertain_and_a_lost_device_is_told_once() {
    let mut engine = engine(&works(every(1000, &["value", "average"])), vec![]);
    let out = play(&mut engine, &[told(7, 0.5, 10.0), bad(2)], 8.0);
    let average = figures(&out, 7, Track::Average);
    assert_eq!(average[..2], [(0.0, Some(10.0), Reason::PartKnown), (1.0, Some(10.0), Reason::Fine)]);
    assert_eq!(average[2..], [(2.0, None, Reason::NoAnswer)]);
    let fine = |at| (at, Some(10.0), Reason::Fine);
    assert_eq!(values(&out, 7), [fine(1.0), (2.0, None, Reason::NoAnswer), (3.0, None, Reason::NoAnswer)]);
}

#[test]
fn three_edges_in_one_batch_give_three_rows_each_as_of_its_instant() {
    let trigger = json!({"when": {"on": "event"}, "trigger": {"text": format!("at(\"{}\") > 50", id(10))}});
    let mut engine = engine(&works(trigger), vec![]);
    let mut batch = Batch::default();
    let told =
        [(8, 1, 1.0), (7, 1, 0.0), (7, 2, 60.0), (8, 3, 2.0), (7, 4, 0.0), (7, 5, 60.0), (8, 5, 3.0), (7, 6, 0.0), (7, 7, 70.0)];
    // In another order than that of their times.
    for &(tag, at, value) in told.iter().rev() {
        batch.push(tag, at * SECOND, Quality::GOOD, flag::OWN_TIME, &Value::F64(value));
    }
    let mut out = Effects::default();
    engine.step(10 * SECOND, Input::Samples(&batch), &mut out);
    assert_eq!(out.rows.iter().map(|r| r.at / SECOND).collect::<Vec<_>>(), [2, 5, 7]);
    let good = |at, value| (at, Some(value), Reason::Fine);
    assert_eq!(values(&out, 7), [good(2.0, 60.0), good(5.0, 60.0), good(7.0, 70.0)]);
    assert_eq!(values(&out, 8), [good(2.0, 1.0), good(5.0, 3.0), good(7.0, 3.0)]);
}

#[rstest]
#[case("rise", &[2, 6])]
#[case("fall", &[4])]
#[case("either", &[2, 4, 6])]
fn an_edge_counts_as_it_is_chosen(#[case] edge: &str, #[case] expected: &[i64]) {
    let trigger = json!({"when": {"on": "event", "edge": edge}, "trigger": {"text": format!("at(\"{}\") > 50", id(10))}});
    let mut engine = engine(&works(trigger), vec![]);
    // What is bad in between is no edge.
    let batches = [told(7, 1.0, 0.0), told(7, 2.0, 60.0), bad(3), told(7, 3.5, 60.0), told(7, 4.0, 0.0), told(7, 6.0, 60.0)];
    let out = play(&mut engine, &batches, 7.0);
    assert_eq!(out.rows.iter().map(|r| r.at / SECOND).collect::<Vec<_>>(), expected);
}

#[test]
fn a_new_trigger_or_a_restart_is_no_edge() {
    let above =
        |level: f64| works(json!({"when": {"on": "event"}, "trigger": {"text": format!("at(\"{}\") > {level}", id(10))}}));
    let mut engine = engine(&above(50.0), vec![]);
    play(&mut engine, &[told(7, 1.0, 40.0)], 2.0);
    let mut lower = above(30.0);
    lower.revision = 2;
    let mut out = Effects::default();
    engine.step(3 * SECOND, Input::Plan(Arc::new(Plan::of(&lower))), &mut out);
    assert!(out.rows.is_empty(), "the value did not change, the trigger did");
    let out = play(&mut engine, &[told(7, 4.0, 20.0), told(7, 5.0, 40.0)], 6.0);
    assert_eq!(out.rows.len(), 1);
}

#[test]
fn a_row_is_taken_by_hand_of_everything_that_is_known() {
    let mut engine = engine(&works(json!({"when": {"on": "hand"}})), vec![]);
    play(&mut engine, &[told(7, 1.0, 5.0)], 2.0);
    let mut out = Effects::default();
    engine.step(3 * SECOND, Input::TakeRow { recorder: id(RECORDER), actor: "Laboratory" }, &mut out);
    assert_eq!(values(&out, 7), [(3.0, Some(5.0), Reason::Fine)]);
    assert!(values(&out, 8).is_empty());
    assert_eq!(out.rows, [Row { recorder: id(RECORDER), at: 3 * SECOND, actor: "Laboratory".into() }]);
    // One that does not run takes none.
    let mut paused = works(json!({"when": {"on": "hand"}, "running": false}));
    paused.revision = 2;
    engine.step(4 * SECOND, Input::Plan(Arc::new(Plan::of(&paused))), &mut out);
    let mut out = Effects::default();
    engine.step(5 * SECOND, Input::TakeRow { recorder: id(RECORDER), actor: "Laboratory" }, &mut out);
    assert_eq!(out, Effects::default());
}

#[rstest]
#[case(json!({"on": "change", "deadband": 5.0}), &[10.0, 16.0])]
// Ten percent of a range of 50.
#[case(json!({"on": "change", "deadband": 10.0, "percent": true}), &[10.0, 16.0])]
#[case(json!({"on": "change"}), &[10.0, 14.0, 16.0])]
fn a_recorder_records_changes_beyond_its_deadband(#[case] when: Json, #[case] expected: &[f64]) {
    let mut engine = engine(&works(json!({"when": when})), vec![]);
    let out = play(&mut engine, &[told(7, 1.0, 10.0), told(7, 2.0, 14.0), told(7, 3.0, 16.0), told(7, 4.0, 16.0)], 5.0);
    assert_eq!(values(&out, 7).iter().filter_map(|v| v.1).collect::<Vec<_>>(), expected);
}

#[test]
fn spans_go_on_over_a_new_plan_and_begin_anew_when_the_clock_is_set() {
    let plant = works(every(10_000, &["sum"]));
    let mut engine = engine(&plant, vec![]);
    play(&mut engine, &[told(7, 0.0, 1.0), told(7, 2.0, 1.0)], 3.0);
    let mut renamed = works(every(10_000, &["sum"]));
    renamed.revision = 2;
    engine.step(4 * SECOND, Input::Plan(Arc::new(Plan::of(&renamed))), &mut Effects::default());
    let out = play(&mut engine, &[told(7, 5.0, 1.0)], 12.0);
    assert_eq!(figures(&out, 7, Track::Sum), [(0.0, Some(3.0), Reason::Fine)]);
    let mut out = Effects::default();
    engine.step(103 * SECOND, Input::ClockStep { epoch: 1, by: 90 * SECOND }, &mut out);
    let out = play(&mut engine, &[told(7, 104.0, 1.0)], 112.0);
    assert_eq!(figures(&out, 7, Track::Sum), [(100.0, Some(1.0), Reason::PartKnown)]);
}

#[test]
fn an_engine_that_was_held_up_for_long_goes_on_from_now() {
    let mut engine = engine(&works(every(100, &["value"])), vec![]);
    play(&mut engine, &[told(7, 0.05, 1.0)], 0.1);
    let mut out = Effects::default();
    engine.step(10_000 * SECOND, Input::Tick, &mut out);
    assert!(out.recorded.samples.len() < 20, "{}", out.recorded.samples.len());
    assert!(engine.next_due().is_some_and(|due| due > 10_000 * SECOND));
}

proptest! {
    /// The figures of a recorder are those that history's statistics give for the same spans.
    #[test]
    fn figures_are_those_of_history(
        told in prop::collection::vec((1i64..4_000, prop::option::weighted(0.9, -100.0..100.0f64)), 1..60),
        every in prop::sample::select(vec![100u32, 500, 1000, 2500]),
    ) {
        let mut engine = engine(&works(every_of(every)), vec![]);
        let mut at = 0;
        let mut points = Vec::new();
        let batches: Vec<Batch> = told
            .iter()
            .map(|(after_ms, value)| {
                at += after_ms * crate::time::MILLI;
                let mut batch = Batch::default();
                match value {
                    Some(v) => batch.push(7, at, Quality::GOOD, 0, &Value::F64(*v)),
                    None => batch.push_quality(7, at, Quality::of(Reason::NoAnswer)),
                }
                points.push(crate::history::Point::told(at, value.map(Value::F64).as_ref(), batch.samples[0].quality));
                batch
            })
            .collect();
        let end = at as f64 / SECOND as f64 + 5.0;
        let out = play(&mut engine, &batches, end);
        let span = i64::from(every) * crate::time::MILLI;
        for track in [Track::Average, Track::Minimum, Track::Maximum] {
            for (from, value, reason) in figures(&out, 7, track) {
                let from = (from * SECOND as f64).round() as Nanos;
                let expected = &spans(&points, from, from + span, 1, Nanos::MAX)[0];
                let of_history = match track {
                    Track::Average => expected.average,
                    Track::Minimum => expected.minimum.map(Number::float),
                    _ => expected.maximum.map(Number::float),
                };
                match (value, of_history) {
                    (Some(a), Some(b)) => prop_assert!((a - b).abs() <= 1e-9 * (1.0 + a.abs()), "{from}: {a} {b}"),
                    (a, b) => prop_assert!(a.is_none() && (b.is_none() || expected.good <= 0.0), "{from}: {a:?} {b:?}"),
                }
                prop_assert_eq!(reason == Reason::Fine, expected.good > 1.0 - 1e-9, "{}", from);
            }
        }
    }

    /// An engine that is given the same again does the same again, in however many batches.
    #[test]
    fn the_same_comes_of_the_same(told in prop::collection::vec((7u32..9, 0i64..3_000, -50.0..50.0f64), 1..40), cut in 0usize..40) {
        let mut at = 0;
        let samples: Vec<(u32, Nanos, f64)> = told.into_iter().map(|(tag, after, v)| { at += after * crate::time::MILLI; (tag, at, v) }).collect();
        let run = |cut: usize| {
            let mut engine = engine(&works(every_of(1000)), vec![]);
            let mut out = Effects::default();
            for (n, &(tag, time, v)) in samples.iter().enumerate() {
                if n == cut {
                    let mut again = works(every_of(1000));
                    again.revision = 2;
                    tick(&mut engine, time, &mut out);
                    engine.step(time, Input::Plan(Arc::new(Plan::of(&again))), &mut out);
                }
                tick(&mut engine, time, &mut out);
                let mut batch = Batch::default();
                batch.push(tag, time, Quality::GOOD, 0, &Value::F64(v));
                engine.step(time, Input::Samples(&batch), &mut out);
            }
            tick(&mut engine, at + 5 * SECOND, &mut out);
            (out.recorded, out.tracked)
        };
        prop_assert_eq!(run(cut), run(usize::MAX));
    }
}

fn every_of(ms: u32) -> Json {
    every(ms, &["value", "average", "minimum", "maximum"])
}
