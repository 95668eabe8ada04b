//! What a good device gives.

use crate::device::*;
use havrel_core::{
    quality::Reason,
    sample::Value,
    scale::{Curve, Scaling},
};
use havrel_link::{Ask, Command, LinkError, LinkState};
use havrel_standin::{faults::Which, registers::Works, serve};
use serde_json::json;
use std::sync::Arc;
use tokio::{net::TcpListener, sync::oneshot};

/// The simulated controller, standing still.
pub async fn controller() -> (u16, serve::Shared) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    let shared = serve::Shared::new(Works::new(2, 7), Which::Extraction, 1);
    tokio::spawn(serve::serve(listener, shared.clone()));
    (port, shared)
}

/// Whether a value is what the process holds, as far as registers can tell.
#[track_caller]
pub fn near(value: Value, expected: f64) {
    assert!((value.number().unwrap() - expected).abs() < 0.3, "{value:?} {expected}");
}

#[tokio::test]
async fn every_kind_of_register_is_read() {
    let (port, shared) = controller().await;
    let mut points = vec![
        point(1, "holding 0", "u16"),
        point(2, "40003", "f32"),
        point(3, "30017", "text"),
        point(4, "coil 0", "bool"),
        point(5, "10001", "bool"),
        point(6, "holding 54", "u32"),
        point(7, "400012", "i16"),
    ];
    points[0].scaling =
        Some(Scaling { raw_low: 0.0, raw_high: 1000.0, low: 0.0, high: 100.0, clamp: true, curve: Curve::Linear });
    let mut running = run(connection(port, json!({})), points);
    let (level, temperature, inlet) = {
        let controller = shared.lock();
        let vessel = &controller.process.vessels[0];
        (vessel.level, vessel.temperature, vessel.inlet_open)
    };
    near(running.value(1).await, level);
    near(running.value(2).await, temperature);
    assert_eq!(running.value(3).await, Value::Text("KX-2611-0184".into()));
    assert_eq!(running.value(4).await, Value::Bool(true));
    assert_eq!(running.value(5).await, Value::Bool(inlet));
    assert_eq!(running.value(6).await, Value::U64(0));
    assert_eq!(running.value(7).await, Value::I64(820));
    let health = running.state(LinkState::Running).await;
    assert!(health.requests >= 4 && health.errors == 0 && health.answered > 0);
    running.end().await;
}

#[tokio::test]
async fn a_written_value_is_read_back_and_acts() {
    let (port, shared) = controller().await;
    let mut setpoint = point(1, "holding 11", "i16");
    setpoint.scaling =
        Some(Scaling { raw_low: 0.0, raw_high: 1000.0, low: 0.0, high: 100.0, clamp: false, curve: Curve::Linear });
    let mut running = run(connection(port, json!({})), vec![setpoint, point(2, "coil 1", "bool"), point(3, "holding 0", "u16")]);
    running.value(1).await;
    let mut results = Vec::new();
    for (tag, value) in [
        (1, Value::F64(64.5)),
        (2, Value::Bool(false)),
        (1, Value::F64(5000.0)),
        (3, Value::F64(1.0)),
        (9, Value::F64(1.0)),
        (1, Value::F64(64.55)),
        (2, Value::F64(2.0)),
    ] {
        results.push(running.write(tag, value).await);
    }
    assert_eq!(results[0], Ok(Value::F64(64.5)));
    assert_eq!(results[1], Ok(Value::Bool(false)));
    assert!(matches!(&results[2], Err(LinkError::BadRequest(w)) if w.contains("-32768 to 32767")), "{results:?}");
    assert!(matches!(&results[3], Err(LinkError::NoSuchAddress(_))), "the level cannot be written: {results:?}");
    assert!(matches!(&results[4], Err(LinkError::BadRequest(_))));
    assert!(matches!(&results[5], Err(LinkError::BadRequest(w)) if w.contains("64.5 and 64.6")), "{results:?}");
    assert!(matches!(&results[6], Err(LinkError::BadRequest(w)) if w.contains("on and off")), "{results:?}");
    assert_eq!(shared.lock().process.vessels[0].set.temperature, 64.5);
    assert!(!shared.lock().process.vessels[0].set.agitator_on);
    assert_eq!(running.state(LinkState::Running).await.reconnects, 0, "a refused write harms nothing");
    running.end().await;
}

#[tokio::test]
async fn writing_must_be_switched_on() {
    let (port, shared) = controller().await;
    let mut quiet = connection(port, json!({}));
    quiet.writing = false;
    let mut running = run(quiet, vec![point(1, "coil 1", "bool")]);
    running.value(1).await;
    assert!(matches!(running.write(1, Value::Bool(false)).await, Err(LinkError::BadRequest(_))));
    assert!(shared.lock().process.vessels[0].set.agitator_on);
    running.end().await;
}

#[tokio::test]
async fn a_new_plan_takes_effect_without_a_new_connection() {
    let (port, _shared) = controller().await;
    let mut running = run(connection(port, json!({})), vec![point(1, "holding 1", "u16")]);
    running.value(1).await;
    let mut next = (**running.plan.borrow()).clone();
    next.points.push(point(2, "holding 41", "u16"));
    running.plan.send_replace(Arc::new(next));
    running.value(2).await;
    assert_eq!(running.health.borrow().reconnects, 0);
    let mut off = (**running.plan.borrow()).clone();
    off.connection.enabled = false;
    running.plan.send_replace(Arc::new(off));
    running.until(1, |_, reason| reason == Reason::SwitchedOff).await;
    assert_eq!(running.state(LinkState::Off).await.reconnects, 0);
    running.end().await;
}

#[tokio::test]
async fn a_page_shows_every_reading_and_what_is_refused() {
    let (port, shared) = controller().await;
    let running = run(connection(port, json!({})), Vec::new());
    let page = running.browse("holding", 16, 16).await.unwrap();
    let first = &page.nodes[0];
    assert_eq!((first.name.as_str(), first.parts[2].as_str()), ("holding 16", "400017"));
    assert_eq!((page.next.as_deref(), first.point.clone()), (Some("32"), Some(own(json!({"address": "holding 16"})))));
    let text = |kind: &str| first.readings.iter().find(|r| r.point["type"] == kind).map(|r| r.text.clone());
    assert_eq!((text("text"), text("u16")), (Some("KX".into()), Some("19288".into())));
    assert!(page.nodes[11].refused.contains("no holding 27"), "{:?}", page.nodes[11]);
    shared.lock().step(std::time::Instant::now());
    let bits = running.browse("coil", 0, 2).await.unwrap();
    assert_eq!(bits.nodes[0].readings[0].text, "true");
    for (node, cursor) in [("shelf", "0"), ("256/holding", "0"), ("holding", "70000"), ("holding", "x")] {
        let (reply, answer) = oneshot::channel();
        let ask = Ask { node: node.into(), cursor: cursor.into(), most: 10 };
        running.commands.send(Command::Browse { ask, reply }).await.unwrap();
        assert!(matches!(answer.await.unwrap(), Err(LinkError::BadRequest(_))), "{node} {cursor}");
    }
    running.end().await;
}

#[tokio::test]
async fn the_top_of_a_device_is_its_tables_and_each_is_browsed_to_its_end() {
    let (port, _shared) = controller().await;
    let running = run(connection(port, json!({"unit": 1, "base": 1})), Vec::new());
    let top = running.browse("", 0, 10).await.unwrap();
    assert_eq!(top.nodes.iter().map(|n| n.id.as_str()).collect::<Vec<_>>(), ["holding", "input", "coil", "discrete"]);
    assert!(top.nodes.iter().all(|n| n.branch && n.point.is_none()) && top.next.is_none());
    let end = running.browse("holding", 65_530, 100).await.unwrap();
    assert_eq!((end.nodes.len(), end.next), (6, None));
    assert_eq!(end.nodes[0].point.as_ref().unwrap()["address"], "holding 65531", "counted from 1 as the manual does");
    running.end().await;
}

#[tokio::test]
async fn the_ladder_reaches_the_top() {
    let (port, _shared) = controller().await;
    let steps = test(&connection(port, json!({}))).await;
    assert_eq!(steps.iter().map(|s| s.name.as_str()).collect::<Vec<_>>(), ["Name", "Port", "Protocol", "Value"]);
    assert!(steps.iter().all(|s| s.passed && s.cure.is_empty()), "{steps:?}");
}
