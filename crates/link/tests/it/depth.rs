//! The driver at depth: lines, devices behind a gateway, groups, refusals that are remembered, spare addresses, writes by
//! the functions a device allows, and what can be watched.

use crate::device::*;
use havrel_core::{quality::Reason, sample::Value};
use havrel_link::{Command, LinkError, LinkState, kind};
use rstest::rstest;
use serde_json::json;
use std::{
    collections::HashMap,
    sync::{
        Arc, Mutex,
        atomic::{AtomicUsize, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt},
    sync::oneshot,
};

/// Holding registers that can be read and written, with a note of every request.
#[derive(Clone, Default)]
struct Bench {
    words: Arc<Mutex<HashMap<u16, u16>>>,
    asked: Arc<Mutex<Vec<(u8, u16, u16)>>>,
}

impl Bench {
    fn word(&self, at: u16) -> u16 {
        self.words.lock().unwrap().get(&at).copied().unwrap_or(at)
    }

    /// What a device answers to a request of a function code and what follows it (Modbus application protocol, §6).
    fn answer(&self, pdu: &[u8]) -> Vec<u8> {
        let word = |i: usize| u16::from_be_bytes([pdu[i], pdu[i + 1]]);
        let (function, at) = (pdu[0], word(1));
        self.asked.lock().unwrap().push((function, at, word(3)));
        let read = |at: u16, count: u16| {
            let words = (at..at + count).flat_map(|a| self.word(a).to_be_bytes());
            [function, (count * 2) as u8].into_iter().chain(words).collect::<Vec<u8>>()
        };
        let write = |at: u16, bytes: &[u8]| {
            let mut words = self.words.lock().unwrap();
            for (i, w) in bytes.chunks(2).enumerate() {
                words.insert(at + i as u16, u16::from_be_bytes([w[0], w[1]]));
            }
        };
        match function {
            3 => read(at, word(3)),
            6 => {
                write(at, &pdu[3..5]);
                pdu[..5].to_vec()
            }
            16 => {
                write(at, &pdu[6..]);
                pdu[..5].to_vec()
            }
            22 => {
                let (keep, set) = (word(3), word(5));
                let after = self.word(at) & keep | set & !keep;
                self.words.lock().unwrap().insert(at, after);
                pdu.to_vec()
            }
            23 => {
                write(word(5), &pdu[10..]);
                read(at, word(3))
            }
            _ => vec![function | 0x80, 1],
        }
    }

    async fn tcp(&self) -> u16 {
        let bench = self.clone();
        listen(move |mut stream| {
            let bench = bench.clone();
            async move {
                let mut head = [0; 7];
                while stream.read_exact(&mut head).await.is_ok() {
                    let mut pdu = vec![0; usize::from(u16::from_be_bytes([head[4], head[5]])) - 1];
                    if stream.read_exact(&mut pdu).await.is_err() {
                        return;
                    }
                    let body = bench.answer(&pdu);
                    let mut frame = head[..4].to_vec();
                    frame.extend((body.len() as u16 + 1).to_be_bytes());
                    frame.push(head[6]);
                    frame.extend(body);
                    if stream.write_all(&frame).await.is_err() {
                        return;
                    }
                }
            }
        })
        .await
    }

    /// Serves frames of the serial line: unit, function and what follows, checksum.
    async fn rtu(self, mut line: impl AsyncRead + AsyncWrite + Unpin) {
        let mut heard = Vec::new();
        let mut part = [0; 256];
        loop {
            // A pseudo-terminal whose other end is not open yet gives an error, and is asked again.
            let Ok(count) = line.read(&mut part).await else {
                tokio::time::sleep(Duration::from_millis(5)).await;
                continue;
            };
            if count == 0 {
                return;
            }
            heard.extend_from_slice(&part[..count]);
            let Some(length) = (4..=heard.len()).find(|&n| crc(&heard[..n - 2]) == [heard[n - 2], heard[n - 1]]) else {
                continue;
            };
            let mut frame = vec![heard[0]];
            frame.extend(self.answer(&heard[1..length - 2]));
            frame.extend(crc(&frame));
            heard.clear();
            if line.write_all(&frame).await.is_err() {
                return;
            }
        }
    }
}

/// The checksum of serial frames (Modbus over serial line V1.02, §6.2.2), written here apart from the library's.
fn crc(bytes: &[u8]) -> [u8; 2] {
    let sum = bytes.iter().fold(0xffffu16, |sum, byte| {
        (0..8).fold(sum ^ u16::from(*byte), |sum, _| if sum & 1 == 1 { sum >> 1 ^ 0xa001 } else { sum >> 1 })
    });
    sum.to_le_bytes()
}

#[tokio::test]
async fn serial_frames_travel_through_a_tcp_connection() {
    let bench = Bench::default();
    let served = bench.clone();
    let port = listen(move |stream| served.clone().rtu(stream)).await;
    let settings = json!({"transport": "rtu_over_tcp"});
    let mut running = run(connection(port, settings.clone()), vec![point(1, "holding 7", "u16"), point(2, "holding 9", "u16")]);
    assert_eq!(running.value(1).await, Value::U64(7));
    assert_eq!(running.write(2, Value::F64(321.0)).await, Ok(Value::U64(321)));
    running.end().await;
    let steps = test(&connection(port, settings)).await;
    assert!(steps.iter().all(|s| s.passed), "{steps:?}");
}

#[tokio::test]
async fn a_serial_line_is_read_written_and_found_again() {
    // Both ends of a pseudo-terminal: one is the device's, the other is known by its name.
    let (device, ours) = tokio_serial::SerialStream::pair().expect("a pseudo-terminal");
    let name = tokio_serial::SerialPort::name(&ours).expect("the line has a name");
    drop(ours);
    let bench = Bench::default();
    tokio::spawn(bench.clone().rtu(device));
    let settings = json!({"transport": "serial", "device": name, "parity": "none"});
    let mut line = connection(1, settings);
    line.timeout_ms = 500;
    let mut running = run(line, vec![point(1, "holding 7", "u16"), at(2, json!({"address": "holding 300", "type": "f32"}))]);
    let state = running.health.wait_for(|h| h.state != LinkState::Connecting).await.unwrap().clone();
    assert_eq!(state.message, "");
    assert_eq!(running.value(1).await, Value::U64(7));
    assert_eq!(running.write(2, Value::F64(-2.5)).await, Ok(Value::F32(-2.5)));
    assert_eq!(running.state(LinkState::Running).await.errors, 0);
    running.end().await;
    let gone = test(&connection(1, json!({"transport": "serial", "device": "/dev/no-such-line"}))).await;
    assert_eq!((gone.len(), gone[0].name.as_str(), gone[0].passed), (1, "Line", false));
    assert!(gone[0].cure.contains("adapter"), "{gone:?}");
}

#[tokio::test]
async fn a_dead_device_behind_a_gateway_does_not_hold_up_the_others() {
    let port = listen(|mut stream| async move {
        while let Some(asked) = ask(&mut stream).await {
            match asked.unit {
                9 => {} // Says nothing, ever.
                8 => drop(answer(&mut stream, asked, &[asked.function | 0x80, 0x0b]).await),
                _ => drop(answer(&mut stream, asked, &registers(asked)).await),
            }
        }
    })
    .await;
    let of = |tag, unit: u8| at(tag, json!({"address": "holding 5", "type": "u16", "unit": unit}));
    let mut running = run(connection(port, json!({})), vec![of(1, 1), of(2, 9), of(3, 8), of(4, 2)]);
    running.until(2, |_, reason| reason == Reason::NoAnswer).await;
    running.until(3, |_, reason| reason == Reason::NoAnswer).await;
    assert_eq!(running.value(4).await, Value::U64(5));
    // From now on the living are read in their rhythm; the dead cost one wait now and then.
    let (began, mut good) = (Instant::now(), 0);
    while began.elapsed() < Duration::from_secs(3) {
        running.value(1).await;
        good += 1;
    }
    // If each turn waited for the silent one, there would be at most ten.
    assert!(good >= 15, "{good} of 30 readings came");
    let health = running.state(LinkState::Running).await;
    assert!(health.message.contains("does not answer; the others go on"), "the page says that one is missing: {health:?}");
    assert_eq!(health.reconnects, 0);
    running.end().await;
}

#[tokio::test]
async fn looking_at_a_device_that_is_not_there_leaves_the_others_alone() {
    let port = listen(|mut stream| async move {
        while let Some(asked) = ask(&mut stream).await {
            match asked.unit {
                1 => drop(answer(&mut stream, asked, &registers(asked)).await),
                8 => drop(answer(&mut stream, asked, &[asked.function | 0x80, 0x0b]).await),
                _ => {}
            }
        }
    })
    .await;
    let mut running = run(connection(port, json!({})), vec![point(1, "holding 5", "u16")]);
    running.value(1).await;
    for unit in [8, 9] {
        assert!(running.browse(&format!("{unit}/holding"), 0, 32).await.is_err());
        running.value(1).await;
    }
    let health = running.state(LinkState::Running).await;
    assert_eq!((health.reconnects, health.errors), (0, 0));
    running.end().await;
}

#[tokio::test]
async fn when_none_behind_the_gateway_answers_the_connection_is_in_trouble() {
    let port = listen(|mut stream| async move { while ask(&mut stream).await.is_some() {} }).await;
    let of = |tag, unit: u8| at(tag, json!({"address": "holding 5", "type": "u16", "unit": unit}));
    let mut running = run(connection(port, json!({})), vec![of(1, 1), of(2, 2)]);
    assert!(running.state(LinkState::Trouble).await.message.contains("No answer"));
    running.end().await;
}

#[tokio::test]
async fn a_gap_is_bridged_until_the_device_refuses_it() {
    // Register 12 does not exist; 10 and 14 are wanted, and so is 30.
    let asked: Arc<Mutex<Vec<(u16, u16)>>> = Arc::default();
    let seen = asked.clone();
    let port = listen(move |mut stream| {
        let seen = seen.clone();
        async move {
            while let Some(a) = ask(&mut stream).await {
                seen.lock().unwrap().push((a.start, a.count));
                let lacks = (a.start..a.start + a.count).contains(&12);
                let body = if lacks { vec![a.function | 0x80, 2] } else { registers(a) };
                answer(&mut stream, a, &body).await;
            }
        }
    })
    .await;
    let points = vec![point(1, "holding 10", "u16"), point(2, "holding 14", "u16"), point(3, "holding 30", "u16")];
    let mut running = run(connection(port, json!({})), points.clone());
    for (tag, value) in [(1, 10), (2, 14), (3, 30)] {
        assert_eq!(running.value(tag).await, Value::U64(value));
    }
    for _ in 0..3 {
        running.value(1).await;
    }
    let turns = asked.lock().unwrap().clone();
    assert_eq!(turns[0], (10, 21), "one request for all at first: {turns:?}");
    let refused = turns.iter().filter(|(start, count)| (*start..start + count).contains(&12)).count();
    assert_eq!(refused, 1, "what was refused is remembered: {turns:?}");
    // Also over a change of the plan.
    let mut next = (**running.plan.borrow()).clone();
    next.points.push(point(4, "holding 31", "u16"));
    running.plan.send_replace(Arc::new(next));
    assert_eq!(running.value(4).await, Value::U64(31));
    let again = asked.lock().unwrap().iter().filter(|(start, count)| (*start..start + count).contains(&12)).count();
    assert_eq!(again, 1);
    running.end().await;
}

#[tokio::test]
async fn only_the_tag_at_a_missing_address_goes_bad() {
    let port = listen(|mut stream| async move {
        while let Some(a) = ask(&mut stream).await {
            let lacks = (a.start..a.start + a.count).contains(&13);
            let body = if lacks { vec![a.function | 0x80, 2] } else { registers(a) };
            answer(&mut stream, a, &body).await;
        }
    })
    .await;
    let points = (1..=20).map(|n| point(n, &format!("holding {n}"), "u16")).collect();
    let mut running = run(connection(port, json!({})), points);
    running.until(13, |_, reason| reason == Reason::NoSuchAddress).await;
    for tag in [1, 12, 14, 20] {
        assert_eq!(running.value(tag).await, Value::U64(tag.into()));
    }
    let health = running.state(LinkState::Running).await;
    assert!(health.errors_by_kind["no such address"] >= 1, "{health:?}");
    running.end().await;
}

#[tokio::test]
async fn groups_have_their_own_rhythm_and_can_be_paused() {
    let bench = Bench::default();
    let port = bench.tcp().await;
    let (slow, paused) = (uuid::Uuid::from_u128(1), uuid::Uuid::from_u128(2));
    let mut set = connection(port, json!({}));
    set.groups = serde_json::from_value(json!([
        {"id": slow, "name": "Slow", "interval_ms": 3_600_000},
        {"id": paused, "name": "Paused", "interval_ms": 100, "enabled": false}]))
    .unwrap();
    let mut points = vec![point(1, "holding 1", "u16"), point(2, "holding 200", "u16"), point(3, "holding 400", "u16")];
    points[1].group = Some(slow);
    points[2].group = Some(paused);
    let mut running = run(set, points);
    running.until(3, |_, reason| reason == Reason::Paused).await;
    assert_eq!(running.value(2).await, Value::U64(200), "every group is read once at the start");
    for _ in 0..5 {
        running.value(1).await;
    }
    let count = |at: u16| bench.asked.lock().unwrap().iter().filter(|a| a.1 == at).count();
    assert_eq!((count(200), count(400)), (1, 0));
    let mut next = (**running.plan.borrow()).clone();
    next.connection.groups[1].enabled = true;
    running.plan.send_replace(Arc::new(next));
    assert_eq!(running.value(3).await, Value::U64(400));
    assert_eq!(count(200), 1, "the others keep their rhythm");
    assert_eq!(running.health.borrow().reconnects, 0);
    running.end().await;
}

#[tokio::test]
async fn a_spare_address_takes_over_and_can_be_taken_by_hand() {
    let bench = Bench::default();
    let (first, second) = (bench.tcp().await, bench.tcp().await);
    let closed = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap().port();
    let spare = json!([{"host": "127.0.0.1", "port": second}, {"host": "127.0.0.1", "port": first}]);
    let mut running = run(connection(closed, json!({"spare": spare})), vec![point(1, "holding 3", "u16")]);
    assert_eq!(running.value(1).await, Value::U64(3), "a spare address took over by itself");
    assert_eq!(running.state(LinkState::Running).await.path, 1);
    let (reply, answer) = oneshot::channel();
    running.commands.send(Command::TakePath { path: 2, reply }).await.unwrap();
    assert_eq!(answer.await.unwrap(), Ok(()));
    running.health.wait_for(|h| h.path == 2 && h.state == LinkState::Running).await.unwrap();
    let (reply, answer) = oneshot::channel();
    running.commands.send(Command::TakePath { path: 3, reply }).await.unwrap();
    assert!(matches!(answer.await.unwrap(), Err(LinkError::BadRequest(_))));
    running.end().await;
    let steps = test(&connection(closed, json!({"spare": [{"host": "127.0.0.1", "port": second}]}))).await;
    let told: Vec<_> = steps.iter().map(|s| (s.name.as_str(), s.passed)).collect();
    assert_eq!(told[1], ("Port", false));
    assert_eq!(
        told[2..],
        [("Spare 1: Name", true), ("Spare 1: Port", true), ("Spare 1: Protocol", true), ("Spare 1: Value", true)]
    );
}

#[tokio::test]
async fn without_takeover_it_stays_with_its_address() {
    let bench = Bench::default();
    let (port, closed) =
        (bench.tcp().await, tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap().port());
    let settings = json!({"takeover": false, "spare": [{"host": "127.0.0.1", "port": port}]});
    let mut running = run(connection(closed, settings), vec![point(1, "holding 3", "u16")]);
    running.health.wait_for(|h| h.reconnects >= 3).await.unwrap();
    assert_eq!(running.health.borrow().state, LinkState::Trouble);
    let (reply, answer) = oneshot::channel();
    running.commands.send(Command::TakePath { path: 1, reply }).await.unwrap();
    assert_eq!(answer.await.unwrap(), Ok(()));
    assert_eq!(running.value(1).await, Value::U64(3));
    running.end().await;
}

#[rstest]
#[case::usual(json!([5, 6, 15, 16, 22]), &[6, 3, 16, 3, 22, 3])]
#[case::only_many(json!([16]), &[16, 3, 16, 3, 3, 16, 3])]
#[case::write_and_read(json!([22, 23]), &[23, 23, 22, 3])]
#[tokio::test]
async fn writes_go_by_the_functions_the_device_allows(#[case] writes: serde_json::Value, #[case] expected: &[u8]) {
    let bench = Bench::default();
    bench.words.lock().unwrap().insert(50, 0b1010_0000);
    let port = bench.tcp().await;
    let mut set = connection(port, json!({"writes": writes}));
    set.interval_ms = 3_600_000;
    let points = vec![
        point(1, "holding 40", "u16"),
        at(2, json!({"address": "holding 42", "type": "f64", "order": "CDAB"})),
        at(3, json!({"address": "holding 50", "type": "u16", "bit": 4, "bits": 3})),
    ];
    let mut running = run(set, points);
    assert_eq!(running.value(3).await, Value::U64(2));
    bench.asked.lock().unwrap().clear();
    assert_eq!(running.write(1, Value::F64(7.0)).await, Ok(Value::U64(7)));
    assert_eq!(running.write(2, Value::F64(12.1)).await, Ok(Value::F64(12.1)));
    assert_eq!(running.write(3, Value::F64(5.0)).await, Ok(Value::U64(5)));
    assert_eq!(bench.word(50), 0b1101_0000, "the bits beside it are untouched");
    assert_eq!((bench.word(42), bench.word(45)), (0x3333, 0x4028));
    let functions: Vec<u8> = bench.asked.lock().unwrap().iter().map(|a| a.0).collect();
    assert_eq!(functions, expected);
    running.end().await;
}

#[tokio::test]
async fn what_no_allowed_function_writes_is_refused_before_it_is_sent() {
    let bench = Bench::default();
    let port = bench.tcp().await;
    let points = vec![point(1, "holding 40", "f32"), point(2, "coil 1", "bool")];
    let running = run(connection(port, json!({"writes": [6]})), points);
    assert!(matches!(running.write(1, Value::F64(7.0)).await, Err(LinkError::BadRequest(w)) if w.contains("several")));
    assert!(matches!(running.write(2, Value::Bool(true)).await, Err(LinkError::BadRequest(w)) if w.contains("a coil")));
    assert!(bench.asked.lock().unwrap().iter().all(|a| a.0 < 5));
    running.end().await;
}

#[tokio::test]
async fn exchanges_can_be_watched_and_tags_seen_from_their_bytes_up() {
    let bench = Bench::default();
    bench.words.lock().unwrap().extend([(10, 0x4141), (11, 0x999a)]);
    let port = bench.tcp().await;
    let running = run(connection(port, json!({})), vec![point(1, "holding 10", "f32")]);
    assert!(!running.tap.open());
    let mut watched = running.tap.watch();
    let exchange = watched.recv().await.unwrap();
    assert_eq!((exchange.asked.as_str(), exchange.answered.as_str()), ("read holding 10–11", "16705 39322"));
    assert_eq!(exchange.sent[2..], [0, 0, 0, 6, 1, 3, 0, 10, 0, 2]);
    assert_eq!(exchange.received[6..], [1, 3, 4, 0x41, 0x41, 0x99, 0x9a]);
    assert!(exchange.passed && exchange.unit == 1);
    let (reply, answer) = oneshot::channel();
    let points = vec![point(1, "holding 10", "f32"), point(0, "shelf 10", "f32")];
    running.commands.send(Command::Read { points, reply }).await.unwrap();
    let raw = answer.await.unwrap().unwrap();
    assert_eq!((raw[0].bytes.as_slice(), raw[0].decoded.clone()), (&[0x41, 0x41, 0x99, 0x9a][..], Some(Value::F32(12.1))));
    assert!(!raw[1].words.is_empty());
    running.end().await;
}

/// A device that takes a while for each answer, and the most requests that it had at once.
async fn busy() -> (u16, Arc<AtomicUsize>) {
    let (under_way, most) = (Arc::new(AtomicUsize::new(0)), Arc::new(AtomicUsize::new(0)));
    let seen = most.clone();
    let port = listen(move |mut stream| {
        let (under_way, seen) = (under_way.clone(), seen.clone());
        async move {
            while let Some(asked) = ask(&mut stream).await {
                seen.fetch_max(under_way.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
                tokio::time::sleep(Duration::from_millis(60)).await;
                under_way.fetch_sub(1, Ordering::SeqCst);
                answer(&mut stream, asked, &registers(asked)).await;
            }
        }
    })
    .await;
    (port, most)
}

#[tokio::test]
async fn several_requests_go_at_once_over_connections_of_their_own() {
    let points: Vec<_> = (0..4).map(|n| point(n + 1, &format!("holding {}", n * 500), "u16")).collect();
    for parallel in [1, 4] {
        let (port, most) = busy().await;
        let mut running = run(connection(port, json!({"parallel": parallel})), points.clone());
        for tag in [1, 2, 3, 4, 1] {
            running.value(tag).await;
        }
        running.end().await;
        let most = most.load(Ordering::SeqCst);
        assert!(if parallel == 1 { most == 1 } else { (2..=4).contains(&most) }, "{most} at once where {parallel} may");
    }
    assert!(kind("modbus").unwrap().check(&connection(502, json!({"parallel": 4}))).is_empty());
}

#[tokio::test]
async fn a_device_that_is_slow_byte_by_byte_is_waited_for_no_longer_than_said() {
    let port = listen(|mut stream| async move {
        while let Some(asked) = ask(&mut stream).await {
            let body = registers(asked);
            let mut bytes = Vec::from(asked.transaction.to_be_bytes());
            bytes.extend([0, 0, 0, body.len() as u8 + 1, asked.unit]);
            bytes.extend(body);
            for byte in bytes {
                if stream.write_all(&[byte]).await.is_err() {
                    return;
                }
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
        }
    })
    .await;
    let mut running = run(connection(port, json!({})), vec![point(1, "holding 3", "u16")]);
    running.until(1, |_, reason| reason == Reason::NoAnswer).await;
    running.end().await;
}
