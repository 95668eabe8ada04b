//! What a connection finds out about a device while it talks to it: functions it lacks, addresses it does not have, that it closes
//! after each answer; and what a test says of a device that does not answer.

use super::device::{Asked, answer, ask, at, connection, listen, point, registers, run, test};
use havrel_core::{quality::Reason, sample::Value};
use havrel_link::{LinkError, LinkState};
use rstest::rstest;
use serde_json::json;
use std::{
    sync::{
        Arc, Mutex,
        atomic::{AtomicU32, Ordering},
    },
    time::{Duration, Instant},
};

/// Answers reads with registers that hold their address, except those it lacks; takes function 6 and no other write.
async fn plain_device(lacks: &'static [u16], asked: Arc<Mutex<Vec<Asked>>>) -> u16 {
    listen(move |mut stream| {
        let asked = asked.clone();
        async move {
            while let Some(a) = ask(&mut stream).await {
                asked.lock().unwrap().push(a);
                let body = match a.function {
                    3 if lacks.iter().any(|at| (a.start..a.start + a.count).contains(at)) => vec![0x83, 2],
                    3 => registers(a),
                    6 => [vec![6], a.start.to_be_bytes().to_vec(), a.count.to_be_bytes().to_vec()].concat(),
                    other => vec![other | 0x80, 1],
                };
                answer(&mut stream, a, &body).await;
            }
        }
    })
    .await
}

#[tokio::test]
async fn a_bit_is_written_by_reading_and_writing_back_where_function_22_is_not_known() {
    let asked: Arc<Mutex<Vec<Asked>>> = Arc::default();
    let port = plain_device(&[], asked.clone()).await;
    let mut set = connection(port, json!({}));
    set.interval_ms = 3_600_000;
    let mut running = run(set, vec![at(1, json!({"address": "holding 3", "type": "bool", "bit": 2}))]);
    running.value(1).await;
    asked.lock().unwrap().clear();
    for _ in 0..2 {
        // The register holds 3 and goes on doing so, whatever is written.
        let told = running.write(1, Value::Bool(true)).await;
        assert_eq!(told, Err(LinkError::ReadBack("false".into())));
    }
    let functions: Vec<(u8, u16)> = asked.lock().unwrap().iter().map(|a| (a.function, a.count)).collect();
    assert_eq!(functions.iter().map(|f| f.0).collect::<Vec<_>>(), [22, 3, 6, 3, 3, 6, 3], "22 is tried once: {functions:?}");
    assert_eq!(functions[2].1, 0b111, "the bits beside it are kept");
    let mut set = (**running.plan.borrow()).clone();
    set.connection.interval_ms = 50;
    running.plan.send_replace(Arc::new(set));
    let learnt = running.health.wait_for(|h| !h.learnt.is_empty()).await.unwrap().learnt.clone();
    assert!(learnt[0].contains("Unit 1 does not know function 22"), "{learnt:?}");
    running.end().await;
}

#[tokio::test]
async fn a_function_that_the_device_lacks_is_named_with_its_setting() {
    let port = plain_device(&[], Arc::default()).await;
    let mut running = run(connection(port, json!({})), vec![point(1, "holding 3", "u32")]);
    running.value(1).await;
    let told = running.write(1, Value::F64(1.0)).await.unwrap_err();
    assert_eq!(told, LinkError::NoFunction(16));
    assert!(told.cure().contains("settings of the connection"));
    running.end().await;
}

#[tokio::test]
async fn refused_addresses_are_asked_for_ever_more_seldom_and_the_rest_in_few_requests() {
    let asked: Arc<Mutex<Vec<Asked>>> = Arc::default();
    let port = plain_device(&[13, 17], asked.clone()).await;
    let mut points: Vec<_> = (1..=20).map(|n| point(n, &format!("holding {n}"), "u16")).collect();
    // Ten tags at the same missing address are one question.
    points.extend((30..40).map(|n| point(n, "holding 13", "u16")));
    let mut set = connection(port, json!({}));
    set.interval_ms = 50;
    let mut running = run(set, points);
    running.until(39, |_, reason| reason == Reason::NoSuchAddress).await;
    running.until(17, |_, reason| reason == Reason::NoSuchAddress).await;
    asked.lock().unwrap().clear();
    for _ in 0..20 {
        running.value(1).await;
    }
    let seen = asked.lock().unwrap().clone();
    let refused = seen.iter().filter(|a| (a.start..a.start + a.count).any(|at| at == 13 || at == 17)).count();
    assert!(refused <= 4, "at 50 ms these were 40 questions without pauses: {refused}");
    let turn: Vec<(u16, u16)> = seen.iter().filter(|a| a.count > 1).map(|a| (a.start, a.count)).take(3).collect();
    assert_eq!(turn, [(1, 12), (14, 3), (18, 3)], "{seen:?}");
    let words = running.health.wait_for(|h| !h.learnt.is_empty()).await.unwrap().learnt.clone();
    assert!(words[0].contains("refuses 2 addresses"), "{words:?}");
    running.end().await;
}

#[tokio::test]
async fn a_device_that_closes_after_each_answer_is_good_all_the_time() {
    let opened = Arc::new(AtomicU32::new(0));
    let counted = opened.clone();
    let port = listen(move |mut stream| {
        counted.fetch_add(1, Ordering::Relaxed);
        async move {
            if let Some(a) = ask(&mut stream).await {
                answer(&mut stream, a, &registers(a)).await;
            }
        }
    })
    .await;
    let mut set = connection(port, json!({}));
    set.interval_ms = 50;
    let mut running = run(set, vec![point(1, "holding 3", "u16"), point(2, "holding 300", "u16")]);
    running.value(1).await;
    let begun = Instant::now();
    while begun.elapsed() < Duration::from_secs(1) {
        let (_, reason) = running.until(2, |_, _| true).await;
        assert_eq!(reason, Reason::Fine);
    }
    let health = running.state(LinkState::Running).await;
    assert_eq!(health.reconnects, 0, "{health:?}");
    assert!(health.learnt[0].contains("closes the connection after each answer"), "{health:?}");
    assert!(opened.load(Ordering::Relaxed) > 10);
    running.end().await;
}

/// A device that answers one unit after a while, and never another.
async fn only(unit: u8, after: Duration) -> u16 {
    listen(move |mut stream| async move {
        while let Some(a) = ask(&mut stream).await {
            if a.unit == unit {
                tokio::time::sleep(after).await;
                answer(&mut stream, a, &registers(a)).await;
            }
        }
    })
    .await
}

#[rstest]
#[case::slow(1, 500, "The answer came after 5", "timeout_ms")]
#[case::another_unit(2, 0, "Unit 1 does not answer, but unit 2 does", "settings.unit")]
#[case::nobody(9, 0, "No answer within 200 ms, whatever the unit id", "")]
#[tokio::test]
async fn a_test_tells_why_nothing_answers(#[case] unit: u8, #[case] after_ms: u64, #[case] words: &str, #[case] offer: &str) {
    let port = only(unit, Duration::from_millis(after_ms)).await;
    let steps = test(&connection(port, json!({}))).await;
    let last = steps.last().unwrap();
    assert!(!last.passed && last.answer.contains(words) && !last.cure.is_empty(), "{last:?}");
    assert_eq!(last.offers.first().map_or("", |o| o.field.as_str()), offer);
}

#[tokio::test]
async fn a_port_in_the_host_is_sent_to_its_field() {
    let mut set = connection(502, json!({"host": "127.0.0.1:15020"}));
    set.enabled = true;
    let steps = test(&set).await;
    assert!(steps[0].answer.contains("Put the port into the field Port"), "{steps:?}");
}
