//! What bad devices do: each has its own words, harms nobody else, and is recovered from.

use crate::device::*;
use havrel_core::{plant::Connection, quality::Reason, sample::Value};
use havrel_link::LinkState;
use proptest::prelude::*;
use rstest::rstest;
use serde_json::json;
use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU32, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpListener,
};

/// The ways to go wrong.
#[derive(Clone, Copy, Debug)]
enum Fault {
    Silent,
    OtherProtocol,
    Closes,
    WrongUnit,
    IllegalAddress,
    TooShort,
    TooLong,
    Truncated,
    OtherTransaction,
    OtherFunction,
    HalfAFrame,
    Busy,
}

/// A device with a fault while `faulty` says so.
async fn device(fault: Fault, faulty: Arc<AtomicBool>) -> u16 {
    listen(move |mut stream| {
        let faulty = faulty.clone();
        async move {
            while let Some(asked) = ask(&mut stream).await {
                if !faulty.load(Ordering::Relaxed) {
                    answer(&mut stream, asked, &registers(asked)).await;
                    continue;
                }
                let exception = |code| [asked.function | 0x80, code];
                let sent = match fault {
                    Fault::Silent => true,
                    Fault::OtherProtocol => stream.write_all(b"HTTP/1.1 400 Bad Request\r\n\r\n").await.is_ok(),
                    Fault::Closes => return,
                    Fault::WrongUnit => answer(&mut stream, asked, &exception(0x0b)).await,
                    Fault::IllegalAddress => answer(&mut stream, asked, &exception(2)).await,
                    Fault::Busy => answer(&mut stream, asked, &exception(6)).await,
                    Fault::TooShort => answer(&mut stream, asked, &registers(Asked { count: asked.count - 1, ..asked })).await,
                    Fault::TooLong => answer(&mut stream, asked, &registers(Asked { count: asked.count + 1, ..asked })).await,
                    Fault::Truncated => answer(&mut stream, asked, &[asked.function, 40, 1, 2]).await,
                    Fault::OtherTransaction => {
                        let late = Asked { transaction: asked.transaction.wrapping_sub(1), ..asked };
                        answer(&mut stream, late, &registers(asked)).await
                    }
                    Fault::OtherFunction => answer(&mut stream, asked, &registers(Asked { function: 4, ..asked })).await,
                    Fault::HalfAFrame => stream.write_all(&asked.transaction.to_be_bytes()).await.is_ok(),
                };
                if !sent {
                    return;
                }
            }
        }
    })
    .await
}

#[rstest]
#[case(Fault::Silent, Reason::NoAnswer, "No answer within 200 ms")]
#[case(Fault::OtherProtocol, Reason::WrongAnswer, "HTTP/1.1")]
#[case(Fault::Closes, Reason::NotConnected, "closed the connection")]
#[case(Fault::WrongUnit, Reason::NoAnswer, "No device with unit id 1")]
#[case(Fault::TooShort, Reason::WrongAnswer, "1 came")]
#[case(Fault::TooLong, Reason::WrongAnswer, "3 came")]
#[case(Fault::Truncated, Reason::WrongAnswer, "lengths are inconsistent")]
#[case(Fault::OtherTransaction, Reason::WrongAnswer, "belongs to another request")]
#[case(Fault::OtherFunction, Reason::WrongAnswer, "answers another function")]
#[case(Fault::HalfAFrame, Reason::NoAnswer, "No answer within 200 ms")]
#[tokio::test]
async fn a_fault_is_named_and_recovered_from(#[case] fault: Fault, #[case] reason: Reason, #[case] words: &str) {
    let faulty = Arc::new(AtomicBool::new(true));
    let port = device(fault, faulty.clone()).await;
    let mut running = run(connection(port, json!({})), vec![point(1, "holding 3", "u32")]);
    let (value, _) = running.until(1, |_, r| r == reason).await;
    assert_eq!(value, None, "the last value stays, so none is sent");
    let health = running.state(LinkState::Trouble).await;
    assert!(health.message.contains(words), "{}", health.message);
    assert!(!health.cure.is_empty());
    let steps = test(&connection(port, json!({}))).await;
    let last = steps.last().unwrap();
    // The test asks for one register, where this device wants to be asked for two.
    if !matches!(fault, Fault::TooShort | Fault::TooLong) {
        assert!(!last.passed && last.answer.contains(words) && !last.cure.is_empty(), "{last:?}");
    }
    faulty.store(false, Ordering::Relaxed);
    assert_eq!(running.value(1).await, Value::U64(3 << 16 | 4));
    let health = running.state(LinkState::Running).await;
    assert!(health.message.is_empty() && health.reconnects > 0);
    running.end().await;
}

#[rstest]
#[case(Fault::IllegalAddress, Reason::NoSuchAddress)]
#[case(Fault::Busy, Reason::Refused)]
#[tokio::test]
async fn a_refusal_spares_the_connection(#[case] fault: Fault, #[case] reason: Reason) {
    let port = device(fault, Arc::new(AtomicBool::new(true))).await;
    let mut running = run(connection(port, json!({})), vec![point(1, "holding 3", "u16")]);
    running.until(1, |_, r| r == reason).await;
    let health = running.state(LinkState::Running).await;
    assert_eq!(health.reconnects, 0);
    running.end().await;
}

#[tokio::test]
async fn one_missing_address_spoils_only_its_own_tag() {
    let port = listen(|mut stream| async move {
        while let Some(asked) = ask(&mut stream).await {
            let missing = (asked.start..asked.start + asked.count).contains(&5);
            let body = if missing { vec![asked.function | 0x80, 2] } else { registers(asked) };
            answer(&mut stream, asked, &body).await;
        }
    })
    .await;
    let mut running = run(connection(port, json!({})), (3..8).map(|n| point(n, &format!("holding {n}"), "u16")).collect());
    for tag in [3, 4, 6, 7] {
        assert_eq!(running.value(tag).await, Value::U64(tag.into()));
    }
    running.until(5, |_, r| r == Reason::NoSuchAddress).await;
    running.end().await;
}

#[tokio::test]
async fn a_name_nobody_knows_and_a_closed_port() {
    let closed = TcpListener::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap().port();
    let steps = test(&connection(closed, json!({}))).await;
    assert_eq!(steps.len(), 2);
    assert!(steps[1].answer.contains("refuses connections"), "{steps:?}");
    let steps = test(&connection(502, json!({"host": "no-such-host.invalid"}))).await;
    assert_eq!((steps.len(), steps[0].passed), (1, false));
    assert!(steps[0].answer.contains("is not known"), "{steps:?}");
    let mut running = run(connection(closed, json!({})), vec![point(1, "holding 0", "u16")]);
    running.until(1, |_, r| r == Reason::NotConnected).await;
    running.end().await;
}

#[tokio::test]
async fn a_lost_device_is_bad_within_interval_and_timeout() {
    let faulty = Arc::new(AtomicBool::new(false));
    let port = device(Fault::Silent, faulty.clone()).await;
    let mut running = run(connection(port, json!({})), vec![point(1, "holding 3", "u16")]);
    running.value(1).await;
    faulty.store(true, Ordering::Relaxed);
    let lost = Instant::now();
    running.until(1, |_, r| r == Reason::NoAnswer).await;
    // 100 ms interval and 200 ms timeout; the rest is room for a busy machine, and still far from the pauses of reconnecting.
    assert!(lost.elapsed() < Duration::from_secs(3), "{:?}", lost.elapsed());
    running.end().await;
}

#[tokio::test]
async fn two_hundred_dead_devices_do_not_slow_twenty_live_ones() {
    let silent = device(Fault::Silent, Arc::new(AtomicBool::new(true))).await;
    let good = device(Fault::Silent, Arc::new(AtomicBool::new(false))).await;
    let slow: Vec<_> = (0..200).map(|_| run(connection(silent, json!({})), vec![point(1, "holding 3", "u16")])).collect();
    // Their timeout leaves room for a busy machine; a connection that waited for a dead one would still run into it.
    let patient = || Connection { timeout_ms: 5000, ..connection(good, json!({})) };
    let mut live: Vec<_> = (0..20).map(|_| run(patient(), vec![point(2, "holding 3", "u16")])).collect();
    for running in &mut live {
        for _ in 0..10 {
            running.value(2).await;
        }
    }
    for running in live {
        assert_eq!(running.health.borrow().reconnects, 0);
        running.end().await;
    }
    for mut lost in slow {
        lost.until(1, |_, r| r == Reason::NoAnswer).await;
        lost.end().await;
    }
}

#[tokio::test]
async fn a_device_that_changes_the_length_of_its_answers_is_read_when_they_are_right() {
    let port = listen(|mut stream| async move {
        let mut asked_for = 0u16;
        while let Some(asked) = ask(&mut stream).await {
            asked_for += 1;
            let count = match asked_for % 3 {
                0 => asked.count + 1,
                1 => asked.count,
                _ => 0,
            };
            if !answer(&mut stream, asked, &registers(Asked { count, ..asked })).await {
                return;
            }
        }
    })
    .await;
    let mut running = run(connection(port, json!({})), vec![point(1, "holding 3", "u16")]);
    for _ in 0..2 {
        running.value(1).await;
        running.until(1, |_, r| r == Reason::WrongAnswer).await;
    }
    running.value(1).await;
    running.end().await;
}

/// What a device may send instead of an answer.
#[derive(Clone, Debug)]
enum Noise {
    /// Anything.
    Bytes(Vec<u8>),
    /// Anything in the envelope of the right answer.
    Answer(Vec<u8>),
    /// The right transaction, but a length that is not true.
    Length(u16, Vec<u8>),
}

fn noise() -> impl Strategy<Value = Noise> {
    let bytes = |most| prop::collection::vec(any::<u8>(), 0..most);
    prop_oneof![
        bytes(300).prop_map(Noise::Bytes),
        bytes(250).prop_map(Noise::Answer),
        (any::<u16>(), bytes(40)).prop_map(|(length, bytes)| Noise::Length(length, bytes)),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 12, max_shrink_iters: 20, ..ProptestConfig::default() })]

    /// Whatever a device sends: no panic, and once it answers right it is read.
    #[test]
    fn any_noise_is_survived(sent in prop::collection::vec(noise(), 1..4)) {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async {
            let left = Arc::new(std::sync::Mutex::new(sent));
            let port = listen(move |mut stream| {
                let left = left.clone();
                async move {
                    while let Some(asked) = ask(&mut stream).await {
                        let next = left.lock().unwrap().pop();
                        let gone = match next {
                            None => !answer(&mut stream, asked, &registers(asked)).await,
                            Some(Noise::Answer(pdu)) => !answer(&mut stream, asked, &pdu).await,
                            Some(Noise::Bytes(bytes)) => stream.write_all(&bytes).await.is_err(),
                            Some(Noise::Length(length, bytes)) => {
                                let mut frame = asked.transaction.to_be_bytes().to_vec();
                                frame.extend([0, 0]);
                                frame.extend(length.to_be_bytes());
                                frame.extend(bytes);
                                stream.write_all(&frame).await.is_err()
                            }
                        };
                        if gone {
                            return;
                        }
                    }
                }
            })
            .await;
            let mut running = run(connection(port, json!({})), vec![point(1, "holding 3", "u16")]);
            // Noise may look like a value; the right one, which is the register's address, comes all the same.
            running.until(1, |value, _| value.as_ref().and_then(Value::number) == Some(3.0)).await;
            running.end().await;
        });
    }
}

#[tokio::test]
async fn a_refusing_device_is_not_hammered() {
    let tries = Arc::new(AtomicU32::new(0));
    let counted = tries.clone();
    let port = listen(move |mut stream| {
        counted.fetch_add(1, Ordering::Relaxed);
        async move {
            // Takes the request and hangs up.
            let _ = stream.read(&mut [0; 64]).await;
        }
    })
    .await;
    let mut running = run(connection(port, json!({})), vec![point(1, "holding 3", "u16")]);
    running.until(1, |_, r| r == Reason::NotConnected).await;
    tokio::time::sleep(Duration::from_millis(1500)).await;
    // Pauses of at least 250 and 500 ms: without them it would be hundreds of tries.
    assert!(tries.load(Ordering::Relaxed) <= 5, "{tries:?}");
    running.end().await;
}

#[tokio::test]
async fn random_bytes_neither_end_nor_hang_the_connection() {
    let port = listen(|mut stream| async move {
        let mut seed = 0x2611_u32;
        while let Some(asked) = ask(&mut stream).await {
            let mut noise = Vec::new();
            for _ in 0..(seed % 64) {
                seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                noise.push((seed >> 24) as u8);
            }
            seed = seed.wrapping_add(1);
            answer(&mut stream, asked, &noise).await;
        }
    })
    .await;
    let mut running = run(connection(port, json!({})), vec![point(1, "holding 3", "u16")]);
    for _ in 0..3 {
        running.until(1, |value, r| value.is_none() && r != Reason::Fine).await;
    }
    running.end().await;
}
