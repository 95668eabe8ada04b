//! OPC UA with secured messages: whom Havrel trusts, who trusts Havrel, and how each refusal is told.

use crate::{device::*, opcua::*};
use havrel_core::{quality::Reason, sample::Value};
use havrel_link::{LinkState, TestStep};
use havrel_standin::{
    dryline::server::{PASSWORD, USER},
    faults::Fault,
};
use rstest::rstest;
use serde_json::json;
use std::time::{Duration, Instant};

const BEST: &str = "aes256_sha256_rsa_pss_encrypt";
/// The steps of a test that ends well.
const ALL: [&str; 8] = ["Name", "Port", "Endpoints", "Endpoint", "Certificate", "Secure channel", "Login", "Value"];

fn last(steps: &[TestStep]) -> &TestStep {
    steps.last().unwrap()
}

/// What the test offers to trust.
async fn fingerprint(port: u16) -> String {
    let steps = test(&to(port, json!({"security": BEST}))).await;
    let told = last(&steps);
    assert_eq!((told.name.as_str(), told.passed), ("Certificate", false), "{steps:?}");
    assert!(told.answer.contains("nobody has trusted it yet (CN=Dryline, issued by itself, valid until 2050-03-01)"), "{told:?}");
    assert_eq!(told.offers[0].field, "settings.fingerprint");
    assert!(told.answer.contains(&told.offers[0].value));
    told.offers[0].value.clone()
}

#[rstest]
#[case(BEST)]
#[case("aes128_sha256_rsa_oaep_encrypt")]
#[case("basic256_sha256_encrypt")]
#[case("basic256_sha256_sign")]
#[tokio::test]
async fn values_come_over_every_security(#[case] security: &str) {
    let (port, shared) = dryline().await;
    let speed = shared.lock().process.dryline.press_speed;
    let fingerprint = fingerprint(port).await;
    let login = json!({"login": "user", "user": USER, "password": {"secret": PASSWORD}});
    let mut settings = json!({"security": security, "fingerprint": fingerprint});
    settings.as_object_mut().unwrap().extend(own(login));
    let mut running = run(to(port, settings), vec![of(1, "Drying.Screwpress.Speed")]);
    assert_eq!(running.value(1).await, Value::F64(speed));
    assert!(running.write(1, Value::F64(1.0)).await.is_err(), "the login changes nothing about what can be written");
    running.end().await;
}

#[tokio::test]
async fn a_test_leads_from_clear_messages_to_the_best_secured_ones() {
    let (port, _) = dryline().await;
    let steps = test(&to(port, json!({}))).await;
    let offer = &steps[2].offers[0];
    assert_eq!((offer.field.as_str(), offer.value.as_str()), ("settings.security", BEST));
    let settings = json!({"security": BEST, "fingerprint": fingerprint(port).await});
    let steps = test(&to(port, settings)).await;
    assert_eq!(names(&steps), ALL.map(|name| (name, true)), "{steps:?}");
    assert!(steps.iter().all(|s| s.offers.is_empty()), "nothing is better: {steps:?}");
    assert!(steps[4].answer.contains("trusted by its fingerprint"));
    assert_eq!(steps[5].answer, "messages are signed and encrypted, Aes256_Sha256_RsaPss");
}

#[tokio::test]
async fn a_server_that_does_not_trust_us_is_told_with_what_to_do_there() {
    let (port, _) = dryline_with(Some(Fault::ServerDistrusts)).await;
    let settings = json!({"security": BEST, "fingerprint": fingerprint(port).await});
    let steps = test(&to(port, settings)).await;
    // This server looks at it when the session opens; others do so with the channel.
    assert!(last(&steps).name == "Login" && !last(&steps).passed, "{steps:?}");
    assert!(last(&steps).cure.contains("Trust Havrel’s certificate at the server"), "{steps:?}");
    assert!(steps[5].tried.len() > 95, "with the fingerprint of ours: {}", steps[5].tried);
}

#[tokio::test]
async fn an_expired_certificate_is_told_and_taken_only_when_somebody_says_so() {
    let (port, _) = dryline_with(Some(Fault::ServerExpired)).await;
    let steps = test(&to(port, json!({"security": BEST}))).await;
    assert!(last(&steps).answer.contains("valid until 2025-03-01"), "{steps:?}");
    let fingerprint = &last(&steps).offers[0].value;
    let steps = test(&to(port, json!({"security": BEST, "fingerprint": fingerprint}))).await;
    let told = last(&steps);
    assert!(told.name == "Certificate" && told.answer.contains("it has expired") && told.cure.contains("renewed"), "{steps:?}");
    assert_eq!((told.offers[0].field.as_str(), told.offers[0].value.as_str()), ("settings.expired", "true"));
    let settings = json!({"security": BEST, "fingerprint": fingerprint, "expired": true});
    let mut running = run(to(port, settings), vec![of(1, "Drying.Screwpress.Speed")]);
    running.value(1).await;
    let health = running.state(LinkState::Running).await;
    assert!(health.learnt.iter().any(|l| l == "The certificate of the server has expired on 2025-03-01."), "{:?}", health.learnt);
    running.end().await;
}

#[tokio::test]
async fn a_changed_certificate_stops_the_connection_until_somebody_trusts_it() {
    let (port, shared) = dryline().await;
    let before = fingerprint(port).await;
    let settings = json!({"security": BEST, "fingerprint": before});
    let mut running = run(to(port, settings), vec![of(1, "Drying.Screwpress.Speed")]);
    running.value(1).await;
    shared.lock().begin(Fault::ServerRenewed, Instant::now(), Duration::from_secs(60)).unwrap();
    assert_eq!(running.until(1, |v, _| v.is_none()).await.1, Reason::NotConnected);
    let told = |h: &havrel_link::Health| h.message.contains("another one than the trusted one");
    let health = tokio::time::timeout(LONG, running.health.wait_for(told)).await.expect("it is told").unwrap().clone();
    let after = health.message.rsplit_once("Its fingerprint is ").map(|(_, rest)| rest.trim_end_matches('.').to_owned()).unwrap();
    assert!(health.message.contains(&before) && after.len() == before.len() && after != before, "{}", health.message);
    // Once it is the old one again, or the new one is trusted, values come again.
    let plan = running.plan.borrow().clone();
    let connection = to(port, json!({"security": BEST, "fingerprint": after}));
    running.plan.send_replace(std::sync::Arc::new(havrel_link::LinkPlan {
        connection,
        points: plan.points.clone(),
        orders: Vec::new(),
        topics: Vec::new(),
    }));
    running.value(1).await;
    running.end().await;
}

#[tokio::test]
async fn a_server_that_lets_nobody_log_in_is_told() {
    let (port, _) = dryline_with(Some(Fault::ServerLocked)).await;
    let steps = test(&to(port, json!({}))).await;
    assert!(last(&steps).name == "Login" && !last(&steps).passed, "{steps:?}");
    let settings = json!({"login": "user", "user": USER, "password": {"secret": PASSWORD}});
    let steps = test(&to(port, settings)).await;
    assert!(last(&steps).name == "Login" && last(&steps).cure.contains("password"), "{steps:?}");
}

#[tokio::test]
async fn a_redundant_server_has_a_fingerprint_of_its_own() {
    let (first, _) = dryline().await;
    let (second, _) = dryline_with(Some(Fault::ServerRenewed)).await;
    let known = fingerprint(first).await;
    let spare = |fingerprint: &str| {
        let url = format!("opc.tcp://127.0.0.1:{second}");
        json!({"security": BEST, "fingerprint": known, "spare": [{"url": url, "fingerprint": fingerprint}]})
    };
    let steps = test(&to(first, spare(""))).await;
    let told = last(&steps);
    assert!(told.name == "Spare 1: Certificate" && !told.passed, "{steps:?}");
    assert_eq!(told.offers[0].field, "settings.spare[0].fingerprint");
    let steps = test(&to(first, spare(&told.offers[0].value))).await;
    assert!(steps.len() == 2 * ALL.len() && steps.iter().all(|s| s.passed), "{steps:?}");
}
