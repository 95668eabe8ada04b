//! Functions that remember, at rising instants.

use super::*;

/// Runs a formula over instants with values of `x`; gives what came out at each of them, as text.
fn over(text: &str, told: &[(f64, Option<f64>)]) -> Vec<String> {
    let mut running = Running::new(program(text, "").unwrap());
    told.iter().map(|&(seconds, value)| shown(&evaluate(&mut running, seconds, value))).collect()
}

fn evaluate(running: &mut Running, seconds: f64, value: Option<f64>) -> Outcome {
    let quality = if value.is_some() { Quality::GOOD } else { Quality::of(Reason::NoAnswer) };
    let value = value.map(Value::F64);
    running.evaluate(at(seconds), 1, &|_| Reading { value: value.as_ref(), quality })
}

fn shown(outcome: &Outcome) -> String {
    match &outcome.value {
        Ok((val, doubt)) => {
            let text = match val {
                Val::Number(v) => format!("{:.3}", v).trim_end_matches('0').trim_end_matches('.').to_owned(),
                Val::Switch(v) => v.to_string(),
                Val::Text(v) => v.clone(),
            };
            if doubt.is_some() { format!("~{text}") } else { text }
        }
        Err(_) => "bad".into(),
    }
}

#[rstest]
// A value holds until the next one comes.
#[case::average("average(<x>, \"10s\")", &[(0.0, 10.0), (5.0, 20.0), (10.0, 0.0), (15.0, 0.0)], &["~10", "~10", "15", "10"])]
#[case::minimum("minimum(<x>, \"10s\")", &[(0.0, 10.0), (5.0, 20.0), (10.0, 30.0), (20.0, 30.0)], &["~10", "~10", "10", "30"])]
#[case::maximum("maximum(<x>, \"10s\")", &[(0.0, 10.0), (5.0, 20.0), (10.0, 5.0), (25.0, 5.0)], &["~10", "~20", "20", "5"])]
#[case::deviation("deviation(<x>, \"10s\")", &[(0.0, 0.0), (5.0, 10.0), (10.0, 0.0)], &["~0", "~0", "5"])]
#[case::sum("sum(<x>, \"10s\")", &[(0.0, 1.0), (5.0, 2.0), (10.0, 4.0), (15.0, 8.0)], &["~1", "~3", "7", "14"])]
#[case::count("count(<x>, \"10s\")", &[(0.0, 1.0), (5.0, 2.0), (10.0, 4.0)], &["~1", "~2", "3"])]
#[case::before("before(<x>, \"10s\")", &[(0.0, 1.0), (5.0, 2.0), (10.0, 4.0), (16.0, 8.0)], &["bad", "bad", "1", "2"])]
#[case::change("change(<x>, \"10s\")", &[(0.0, 1.0), (10.0, 4.0), (15.0, 8.0)], &["bad", "3", "7"])]
#[case::rate("rate(<x>, \"10s\", \"1min\")", &[(0.0, 1.0), (10.0, 4.0)], &["bad", "18"])]
#[case::total("total(<x>, \"1min\")", &[(0.0, 30.0), (60.0, 60.0), (90.0, 0.0), (300.0, 0.0)], &["0", "30", "60", "60"])]
#[case::total_with_reset("total(<x>, \"1s\", <x> == 5)", &[(0.0, 2.0), (10.0, 5.0), (12.0, 1.0), (14.0, 1.0)], &["0", "0", "10", "12"])]
#[case::hours("hours(<x> > 5)", &[(0.0, 10.0), (3600.0, 0.0), (7200.0, 10.0), (9000.0, 10.0)], &["0", "1", "1", "1.5"])]
#[case::starts("starts(<x> > 5)", &[(0.0, 10.0), (1.0, 0.0), (2.0, 10.0), (3.0, 20.0), (4.0, 0.0), (5.0, 9.0)], &["0", "0", "1", "1", "1", "2"])]
#[case::since("since(<x> > 5)", &[(0.0, 0.0), (1.0, 10.0), (4.0, 10.0), (6.0, 0.0)], &["bad", "0", "3", "5"])]
#[case::lasts("lasts(<x> > 5, \"5s\")", &[(0.0, 9.0), (4.0, 9.0), (5.0, 9.0), (6.0, 0.0), (7.0, 9.0)], &["false", "false", "true", "false", "false"])]
#[case::stays("stays(<x> > 5, \"5s\")", &[(0.0, 9.0), (1.0, 0.0), (5.0, 0.0), (6.0, 0.0)], &["true", "true", "true", "false"])]
#[case::rises("rises(<x> > 5)", &[(0.0, 9.0), (1.0, 0.0), (2.0, 9.0), (3.0, 9.0)], &["false", "false", "true", "false"])]
#[case::falls("falls(<x> > 5)", &[(0.0, 9.0), (1.0, 0.0), (2.0, 0.0)], &["false", "true", "false"])]
#[case::hold("hold(<x>, <x> > 5)", &[(0.0, 9.0), (1.0, 0.0), (2.0, 7.0), (3.0, 8.0)], &["9", "9", "7", "7"])]
#[case::inside_each_other("maximum(average(<x>, \"2s\"), \"10s\")", &[(0.0, 4.0), (2.0, 8.0), (4.0, 0.0), (6.0, 0.0)], &["~4", "~4", "~8", "~8"])]
fn they_give(#[case] text: &str, #[case] told: &[(f64, f64)], #[case] wanted: &[&str]) {
    let told: Vec<_> = told.iter().map(|&(at, value)| (at, Some(value))).collect();
    assert_eq!(over(text, &told), wanted);
}

#[rstest]
// What was missing is told: of a window while it is too much of it, of a counter until it is reset.
#[case::window("average(<x>, \"100s\")", &[(0.0, Some(10.0)), (100.0, Some(10.0)), (105.0, None), (118.0, Some(30.0)), (120.0, Some(30.0))],
    &["~10", "10", "10", "~10", "~10.46"])]
#[case::nothing_good("average(<x>, \"10s\")", &[(0.0, None), (5.0, None), (6.0, Some(3.0))], &["bad", "bad", "~3"])]
#[case::counter("total(<x>, \"1s\", <x> == 5)", &[(0.0, Some(1.0)), (10.0, None), (12.0, Some(1.0)), (20.0, Some(5.0)), (21.0, Some(1.0))],
    &["0", "10", "~10", "0", "5"])]
#[case::change("change(<x>, \"10s\")", &[(0.0, Some(1.0)), (10.0, None), (20.0, Some(5.0))], &["bad", "bad", "bad"])]
#[case::condition("lasts(<x> > 5, \"5s\")", &[(0.0, Some(9.0)), (5.0, None), (6.0, Some(9.0))], &["false", "bad", "true"])]
fn gaps_are_told(#[case] text: &str, #[case] told: &[(f64, Option<f64>)], #[case] wanted: &[&str]) {
    assert_eq!(over(text, told), wanted);
}

#[test]
fn a_filter_follows_with_its_time_constant() {
    let mut running = Running::new(program("smooth(<x>, \"10s\")", "").unwrap());
    evaluate(&mut running, 0.0, Some(0.0));
    evaluate(&mut running, 10.0, Some(100.0));
    let Ok((Val::Number(after), _)) = evaluate(&mut running, 20.0, Some(100.0)).value else { panic!() };
    assert!((after - 100.0 * (1.0 - (-1.0f64).exp())).abs() < 1e-9, "{after}");
}

#[rstest]
#[case("total(<f>)", "m³")]
#[case("total(<f>, \"1h\")", "m³")]
#[case("rate(<k>, \"10min\", \"1h\")", "kg/h")]
#[case("average(<a>, \"1h\")", "bar")]
#[case("hours(<b>)", "h")]
#[case("since(<b>)", "s")]
fn they_have_units(#[case] text: &str, #[case] unit: &str) {
    assert_eq!(program(text, "").unwrap().unit, unit);
}

#[rstest]
#[case("average(<x>, \"10min\")", Some(1.5))]
#[case("average(<x>, \"1h\")", Some(9.0))]
#[case("total(<x>, \"1h\")", Some(1.0))]
#[case("lasts(<x> > 5, \"7s\")", Some(7.0))]
#[case("hour() + <x>", Some(20.0))]
#[case("<x> + 1", None)]
#[case("starts(<x> > 5)", None)]
fn time_alone_changes_a_result(#[case] text: &str, #[case] after: Option<f64>) {
    let mut running = Running::new(program(text, "").unwrap());
    evaluate(&mut running, 100.0, Some(9.0));
    let next = running.next().map(|next| ((next - at(100.0)) as f64 / SECOND as f64 * 1000.0).round() / 1000.0);
    assert_eq!(next, after);
}

#[test]
fn two_calls_of_the_same_share_their_memory() {
    let program = program("average(<x>, \"1h\") - average( <x>,\"1h\" ) + average(<x>, \"2h\")", "").unwrap();
    assert_eq!(program.most_bytes(), 2 * super::super::window::Window::most_bytes());
    assert_eq!(program.reach(), at(10_800.0));
}

/// Instants with values that are missing now and then.
fn told() -> impl Strategy<Value = Vec<(u32, Option<i32>)>> {
    prop::collection::vec((1u32..30, prop::option::weighted(0.9, 0i32..10)), 1..60)
}

const COUNTERS: &str = "total(<x>, \"1s\", <x> == 7)";

proptest! {
    /// A total equals the calculation over everything since the last reset.
    #[test]
    fn a_total_equals_the_calculation_over_everything(told in told()) {
        let mut running = Running::new(program(COUNTERS, "").unwrap());
        let (mut seconds, mut sum, mut missing, mut before, mut reset) = (0u32, 0.0, false, None::<Option<i32>>, None);
        let mut begun = false;
        for (step, value) in told {
            seconds += step;
            match before {
                Some(Some(held)) => sum += f64::from(held) * f64::from(step),
                // It begins with the first value that is known.
                Some(None) => missing = begun,
                None => {}
            }
            if let Some(value) = value {
                if value == 7 && reset == Some(false) {
                    (sum, missing) = (0.0, false);
                }
                reset = Some(value == 7);
            }
            before = Some(value);
            begun |= value.is_some();
            let outcome = evaluate(&mut running, f64::from(seconds), value.map(f64::from));
            let wanted = Ok((Val::Number(sum), missing.then_some(Doubt::Part)));
            prop_assert_eq!(outcome.value, wanted);
        }
    }

    /// What was kept goes on after a restart; of what was missed meanwhile the result says so.
    #[test]
    fn a_restart_keeps_what_was_counted(told in told(), cut in 0usize..60) {
        let texts = [COUNTERS, "starts(<x> > 5)", "hold(<x>, <x> > 5)", "since(<x> > 5)", "lasts(<x> > 2, \"10s\")"];
        for text in texts {
            let mut whole = Running::new(program(text, "").unwrap());
            let mut parts = Running::new(program(text, "").unwrap());
            let mut seconds = 0;
            for (i, &(step, value)) in told.iter().enumerate() {
                seconds += step;
                if i == cut {
                    let kept = parts.kept();
                    parts = Running::new(program(text, "").unwrap());
                    kept.iter().for_each(|kept| parts.restore(&serde_json::from_str(&kept.to_string()).unwrap()));
                }
                let (a, b) = (evaluate(&mut whole, f64::from(seconds), value.map(f64::from)), evaluate(&mut parts, f64::from(seconds), value.map(f64::from)));
                let counts = text == COUNTERS || text.starts_with("starts");
                match (&a.value, &b.value) {
                    (Ok((a, _)), Ok((b, doubt))) if counts && i >= cut => {
                        prop_assert!(a == b || doubt == &Some(Doubt::Part), "{text}: {a:?} {b:?} {doubt:?}");
                    }
                    (a, b) => prop_assert_eq!(a, b, "{}", text),
                }
            }
        }
    }

    /// Over what was recorded a formula gives what it gave when the values came.
    #[test]
    fn a_replay_gives_the_same(told in told()) {
        let text = "average(<x>, \"20s\") + (lasts(<x> > 3, \"4s\") ? 100 : 0)";
        let mut replay = Replay::new(program(text, "").unwrap());
        let mut running = Running::new(program(text, "").unwrap());
        let (mut seconds, mut live, mut again) = (0u32, Vec::new(), Vec::new());
        for &(step, value) in &told {
            let until = seconds + step;
            // Time alone goes on between two values.
            while let Some(next) = running.next().filter(|&next| seconds > 0 && next < at(f64::from(until))) {
                let held = told_at(&told, seconds);
                let value = held.map(|v| Value::F64(f64::from(v)));
                let quality = if held.is_some() { Quality::GOOD } else { Quality::of(Reason::NoAnswer) };
                live.push(running.evaluate(next, 0, &|_| Reading { value: value.as_ref(), quality }));
            }
            seconds = until;
            live.push(evaluate(&mut running, f64::from(seconds), value.map(f64::from)));
            let quality = if value.is_some() { Quality::GOOD } else { Quality::of(Reason::NoAnswer) };
            let value = value.map(|v| Value::F64(f64::from(v)));
            replay.tell(at(f64::from(seconds)), 0, value, quality, &mut |outcome| again.push(outcome));
        }
        replay.finish(at(f64::from(seconds)), &mut |outcome| again.push(outcome));
        prop_assert_eq!(live, again);
    }
}

/// What held at a second.
fn told_at(told: &[(u32, Option<i32>)], seconds: u32) -> Option<i32> {
    let mut at = 0;
    told.iter()
        .take_while(|(step, _)| {
            at += step;
            at <= seconds
        })
        .last()
        .and_then(|(_, value)| *value)
}
