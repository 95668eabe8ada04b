//! Sources without a wire, as drivers.

use crate::device::*;
use havrel_core::{plant::Connection, sample::Value};
use havrel_link::{LinkError, LinkState};
use serde_json::json;
use std::sync::Arc;

fn source(kind: &str) -> Connection {
    serde_json::from_value(json!({"name": "s", "kind": kind, "interval_ms": 100})).unwrap()
}

#[tokio::test]
async fn signals_make_values_in_their_rhythm() {
    let points = vec![
        at(1, json!({"signal": "steps", "values": [4.0], "each_s": 1.0})),
        at(2, json!({"signal": "walk", "low": 0.0, "high": 10.0, "step": 1.0})),
    ];
    let mut running = run(source("signals"), points);
    assert_eq!(running.value(1).await, Value::F64(4.0));
    let walked = running.value(2).await.number().unwrap();
    assert!((0.0..=10.0).contains(&walked));
    assert!(matches!(running.write(1, Value::F64(1.0)).await, Err(LinkError::BadRequest(_))));
    let mut off = (**running.plan.borrow()).clone();
    off.connection.enabled = false;
    running.plan.send_replace(Arc::new(off));
    running.state(LinkState::Off).await;
    running.end().await;
}

#[tokio::test]
async fn memory_holds_what_it_is_told() {
    let points = vec![at(1, json!({"type": "number"})), at(2, json!({"type": "text"})), at(3, json!({"type": "switch"}))];
    let mut running = run(source("memory"), points);
    running.state(LinkState::Running).await;
    assert_eq!(running.write(1, Value::F64(4.5)).await, Ok(Value::F64(4.5)));
    assert_eq!(running.value(1).await, Value::F64(4.5));
    assert_eq!(running.write(2, Value::Text("MV".into())).await, Ok(Value::Text("MV".into())));
    assert_eq!(running.write(3, Value::F64(1.0)).await, Ok(Value::Bool(true)));
    assert!(matches!(running.write(2, Value::F64(1.0)).await, Err(LinkError::BadRequest(_))));
    assert!(matches!(running.write(9, Value::F64(1.0)).await, Err(LinkError::BadRequest(_))));
    running.end().await;
}
