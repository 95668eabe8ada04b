//! Several devices behind one connection: each keeps its rhythm, whatever the others do.

use super::device::{Asked, answer, ask, at, connection, listen, registers, run};
use havrel_core::{quality::Reason, sample::Value};
use havrel_link::LinkState;
use rstest::rstest;
use serde_json::{Value as Json, json};
use std::{
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
    time::Duration,
};

/// How many connections a device allows at once, and what it does with one more.
#[derive(Clone, Copy)]
enum Allows {
    Many,
    /// Closes the new one.
    One,
}

/// A gateway: unit 7 answers late, unit 9 never, the others at once. Counts what was asked of each unit, and
/// the most connections that were open at once.
async fn gateway(allows: Allows, slow: Duration) -> (u16, Arc<[AtomicUsize; 10]>, Arc<AtomicUsize>) {
    let asked: Arc<[AtomicUsize; 10]> = Arc::default();
    let most = Arc::new(AtomicUsize::new(0));
    let open = Arc::new(AtomicUsize::new(0));
    let (counts, highest) = (asked.clone(), most.clone());
    let serve_one = move |a: Asked| {
        let counts = counts.clone();
        async move {
            counts[usize::from(a.unit)].fetch_add(1, Ordering::Relaxed);
            match a.unit {
                7 => tokio::time::sleep(slow).await,
                9 => return None,
                _ => {}
            }
            Some(registers(a))
        }
    };
    let port = listen(move |mut stream| {
        let (serve_one, open, highest) = (serve_one.clone(), open.clone(), highest.clone());
        async move {
            let now = open.fetch_add(1, Ordering::SeqCst) + 1;
            highest.fetch_max(now, Ordering::SeqCst);
            if now == 1 || matches!(allows, Allows::Many) {
                while let Some(a) = ask(&mut stream).await {
                    if let Some(body) = serve_one(a).await {
                        answer(&mut stream, a, &body).await;
                    }
                }
            }
            open.fetch_sub(1, Ordering::SeqCst);
        }
    })
    .await;
    (port, asked, most)
}

fn tag(no: u32, unit: u8) -> havrel_link::PointPlan {
    at(no, json!({"address": "holding 5", "type": "u16", "unit": unit}))
}

fn gateway_connection(port: u16, settings: Json) -> havrel_core::plant::Connection {
    let mut set = connection(port, settings);
    (set.interval_ms, set.timeout_ms) = (50, 1000);
    set
}

#[rstest]
#[case::a_line_of_its_own(Allows::Many, 4)]
// Nine quick readings fit beside each slow one of 200 ms and its rest; a quarter of the line is the slow one's at most.
#[case::one_line_for_all(Allows::One, 4)]
#[tokio::test]
async fn a_slow_unit_does_not_hold_up_the_others(#[case] allows: Allows, #[case] times: usize) {
    let (port, asked, most) = gateway(allows, Duration::from_millis(200)).await;
    let mut running = run(gateway_connection(port, json!({})), vec![tag(1, 1), tag(2, 2), tag(7, 7)]);
    for _ in 0..3 {
        running.value(7).await;
    }
    let before: Vec<usize> = asked.iter().map(|n| n.load(Ordering::Relaxed)).collect();
    for _ in 0..6 {
        assert_eq!(running.value(7).await, Value::U64(5));
    }
    let since = |unit: usize| asked[unit].load(Ordering::Relaxed) - before[unit];
    for unit in [1, 2] {
        // If each round waited for the slow unit, they would be read as often as it.
        assert!(since(unit) >= since(7) * times / 2, "unit {unit}: {} readings, the slow one {}", since(unit), since(7));
    }
    let health = running.state(LinkState::Running).await;
    assert!(health.learnt.iter().any(|words| words.contains("Unit 7 is slow")), "{health:?}");
    assert_eq!(health.reconnects, 0);
    assert!(most.load(Ordering::SeqCst) >= 2, "a line of its own was tried");
    running.end().await;
}

#[tokio::test]
async fn a_silent_unit_costs_the_others_nothing_once_it_is_known() {
    let (port, asked, _) = gateway(Allows::Many, Duration::ZERO).await;
    let mut running = run(gateway_connection(port, json!({})), vec![tag(1, 1), tag(9, 9)]);
    running.until(9, |_, reason| reason == Reason::NoAnswer).await;
    // While the silent unit is asked once more, which takes a second, the other goes on in its rhythm.
    let before = asked[9].load(Ordering::Relaxed);
    while asked[9].load(Ordering::Relaxed) == before {
        running.value(1).await;
    }
    let quick = asked[1].load(Ordering::Relaxed);
    while running.until(9, |_, _| true).await.1 != Reason::NoAnswer {}
    let errors = running.health.borrow().errors;
    running.health.wait_for(|health| health.errors > errors).await.unwrap();
    assert!(asked[1].load(Ordering::Relaxed) >= quick + 8, "{} readings in a second", asked[1].load(Ordering::Relaxed) - quick);
    running.end().await;
}

#[tokio::test]
async fn whoever_looks_at_a_silent_unit_holds_up_nobody() {
    let (port, asked, _) = gateway(Allows::Many, Duration::ZERO).await;
    let mut running = run(gateway_connection(port, json!({})), vec![tag(1, 1), tag(9, 9)]);
    running.until(9, |_, reason| reason == Reason::NoAnswer).await;
    let quick = asked[1].load(Ordering::Relaxed);
    assert!(running.browse("9/holding", 0, 32).await.is_err());
    assert!(asked[1].load(Ordering::Relaxed) >= quick + 8, "the look took a second");
    running.end().await;
}

#[tokio::test]
async fn all_units_slow_is_nobodys_fault() {
    let (port, asked, most) = gateway(Allows::Many, Duration::from_millis(150)).await;
    let mut running = run(gateway_connection(port, json!({})), vec![tag(1, 7), tag(2, 7)]);
    for _ in 0..4 {
        running.value(1).await;
    }
    assert_eq!(most.load(Ordering::SeqCst), 1, "a single unit needs one line");
    assert!(asked[7].load(Ordering::Relaxed) >= 4);
    running.end().await;
}

#[tokio::test]
async fn whoever_waits_for_a_line_is_served_over_the_next_connection() {
    let (port, ..) = gateway(Allows::Many, Duration::from_millis(200)).await;
    let mut running = run(gateway_connection(port, json!({"unit": 7})), vec![tag(1, 7)]);
    running.value(1).await;
    let mut answers = Vec::new();
    for _ in 0..3 {
        answers.push(running.ask("holding", 0, 32).await);
    }
    // With another timeout the connection is made anew, while one is served and the others wait.
    let mut next = (**running.plan.borrow()).clone();
    next.connection.timeout_ms = 2000;
    running.plan.send_replace(Arc::new(next));
    for answer in answers {
        assert!(answer.await.expect("an answer comes").is_ok());
    }
    running.end().await;
}
