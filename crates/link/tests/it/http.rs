//! HTTP against a program of the test that answers as it is told, byte by byte.

use crate::{
    device::*,
    secured::{Authority, secured},
};
use havrel_core::{plant::Connection, quality::Reason, sample::Value};
use havrel_link::{Ask, Children, Command, LinkError, LinkPlan, LinkState};
use rstest::rstest;
use serde_json::{Value as Json, json};
use std::sync::{Arc, Mutex};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpListener,
    sync::oneshot,
    task::JoinSet,
    time::timeout,
};

/// What a request is answered with; nothing lets it wait for ever, and an empty answer closes the connection.
type Answer = Option<Vec<u8>>;

/// A program that answers requests, given as their text.
struct Program {
    port: u16,
    asked: Arc<Mutex<Vec<String>>>,
    _task: JoinSet<()>,
}

impl Program {
    async fn start(answer: impl Fn(&str) -> Answer + Send + Sync + 'static) -> Program {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let port = listener.local_addr().unwrap().port();
        let (asked, answer) = (Arc::new(Mutex::new(Vec::new())), Arc::new(answer));
        let mut task = JoinSet::new();
        let told = asked.clone();
        task.spawn(async move {
            let mut all = JoinSet::new();
            while let Ok((mut stream, _)) = listener.accept().await {
                let (answer, told) = (answer.clone(), told.clone());
                all.spawn(async move {
                    let mut text = Vec::new();
                    loop {
                        let mut some = [0; 4096];
                        match stream.read(&mut some).await {
                            Ok(count) if count > 0 => text.extend_from_slice(&some[..count]),
                            _ => return,
                        }
                        let Some(end) = text.windows(4).position(|four| four == b"\r\n\r\n") else { continue };
                        let head = String::from_utf8_lossy(&text[..end]).to_lowercase();
                        let body = head.lines().find_map(|line| line.strip_prefix("content-length: ")?.parse().ok()).unwrap_or(0);
                        if text.len() < end + 4 + body {
                            continue;
                        }
                        let request = String::from_utf8_lossy(&text).into_owned();
                        text.clear();
                        told.lock().unwrap().push(request.clone());
                        match answer(&request) {
                            Some(bytes) if bytes.is_empty() => return,
                            Some(bytes) => stream.write_all(&bytes).await.unwrap_or_default(),
                            None => std::future::pending().await,
                        }
                    }
                });
            }
        });
        Program { port, asked, _task: task }
    }

    /// The first lines of what was asked.
    fn lines(&self) -> Vec<String> {
        self.asked.lock().unwrap().iter().map(|text| text.lines().next().unwrap_or_default().to_owned()).collect()
    }
}

fn with(status: &str, headers: &str, body: &str) -> Answer {
    Some(format!("HTTP/1.1 {status}\r\n{headers}Content-Length: {}\r\n\r\n{body}", body.len()).into_bytes())
}

fn json(body: &str) -> Answer {
    with("200 OK", "Content-Type: application/json\r\n", body)
}

fn to(port: u16, more: Json) -> Connection {
    let mut settings = json!({"host": "127.0.0.1", "port": port});
    settings.as_object_mut().unwrap().extend(own(more));
    let set = json!({"name": "c", "kind": "http", "interval_ms": 100, "timeout_ms": 400, "settings": settings});
    serde_json::from_value(set).unwrap()
}

fn path(request: &str) -> &str {
    request.split(' ').nth(1).unwrap_or_default()
}

#[tokio::test]
async fn tags_of_several_paths_get_what_their_answers_hold() {
    let program = Program::start(|request| match path(request) {
        "/api/weather" => json(r#"{"air": {"temperature": 6.5}, "wind": [3, 4]}"#),
        "/api/count" => with("200 OK", "Content-Type: text/plain\r\n", "0042"),
        _ => with("404 Not Found", "", "nothing"),
    })
    .await;
    let points = vec![
        at(1, json!({"path": "/weather", "member": "/air/temperature"})),
        at(2, json!({"path": "/weather", "member": "/wind/1"})),
        at(3, json!({"path": "/count", "format": "number"})),
        at(4, json!({"path": "/none"})),
    ];
    let mut running = run(to(program.port, json!({"path": "/api"})), points);
    assert_eq!(running.until(4, |_, _| true).await, (None, Reason::NoSuchAddress));
    assert_eq!(running.value(1).await, Value::F64(6.5));
    assert_eq!(running.value(2).await, Value::F64(4.0));
    assert_eq!(running.value(3).await, Value::F64(42.0));
    running.state(LinkState::Running).await;
    let learnt = running.health.borrow().learnt.clone();
    assert!(learnt[0].starts_with("/none: The program answered 404: there is nothing under this path."), "{learnt:?}");
    let lines = program.lines();
    assert!(lines.iter().filter(|line| *line == "GET /api/weather HTTP/1.1").count() >= 1, "{lines:?}");
    running.end().await;
}

#[rstest]
#[case(json!({"login": "basic", "user": "havrel"}), "authorization: Basic aGF2cmVsOmtlbHA=")]
#[case(json!({"login": "bearer"}), "authorization: Bearer kelp")]
#[case(json!({"login": "header", "header": "X-Api-Key"}), "x-api-key: kelp")]
#[tokio::test]
async fn the_login_body_and_headers_are_sent(#[case] login: Json, #[case] header: &'static str) {
    let program = Program::start(move |request| match request.contains(header) && request.ends_with("{\"of\": 3}") {
        true => json("7"),
        false => with("401 Unauthorized", "", ""),
    })
    .await;
    let mut settings = json!({"secret": {"secret": "kelp"}, "headers": [{"name": "X-Site", "value": "north"}],
        "requests": [{"path": "/state", "method": "POST", "body": "{\"of\": 3}"}]});
    settings.as_object_mut().unwrap().extend(own(login));
    let mut running = run(to(program.port, settings), vec![at(1, json!({"path": "/state"}))]);
    assert_eq!(running.value(1).await, Value::F64(7.0));
    let first = program.asked.lock().unwrap()[0].clone();
    assert!(first.starts_with("POST /state HTTP/1.1") && first.contains("x-site: north"), "{first}");
    running.end().await;
}

#[tokio::test]
async fn what_did_not_change_is_not_sent_again_and_holds_on() {
    let program = Program::start(|request| match request.contains("if-none-match: \"v1\"") {
        true => Some(b"HTTP/1.1 304 Not Modified\r\n\r\n".to_vec()),
        false => with("200 OK", "ETag: \"v1\"\r\n", "21"),
    })
    .await;
    let mut running = run(to(program.port, json!({})), vec![at(1, json!({"path": "/t"}))]);
    let first = running.value(1).await;
    let again = running.value(1).await;
    assert_eq!((first, again), (Value::F64(21.0), Value::F64(21.0)));
    assert!(program.asked.lock().unwrap()[1..].iter().all(|asked| asked.contains("if-none-match")));
    running.end().await;
}

#[tokio::test]
async fn an_answer_sends_on_within_its_host_and_elsewhere_only_where_that_is_allowed() {
    let other = Program::start(|request| match request.contains("authorization") {
        true => with("400 Bad Request", "", ""),
        false => json("9"),
    })
    .await;
    let there = other.port;
    let program = Program::start(move |request| match path(request) {
        "/old" => with("301 Moved Permanently", "Location: /new?x=1\r\n", "moved"),
        "/new?x=1" => json("8"),
        "/round" => with("302 Found", "Location: /round\r\n", ""),
        _ => with("307 Temporary Redirect", &format!("Location: http://127.0.0.1:{there}/x\r\n"), ""),
    })
    .await;
    let login = |elsewhere: bool| json!({"login": "bearer", "secret": {"secret": "kelp"}, "elsewhere": elsewhere});
    let points = || ["/old", "/round", "/else"].iter().zip(1..).map(|(path, no)| at(no, json!({"path": path}))).collect();
    let mut running = run(to(program.port, login(false)), points());
    assert_eq!(running.value(1).await, Value::F64(8.0));
    assert_eq!(running.until(2, |_, _| true).await, (None, Reason::WrongAnswer));
    assert_eq!(running.until(3, |_, _| true).await, (None, Reason::Refused));
    assert!(other.lines().is_empty());
    running.end().await;
    let mut running = run(to(program.port, login(true)), points());
    assert_eq!(running.value(3).await, Value::F64(9.0), "it hears nothing of the login");
    running.end().await;
}

#[rstest]
#[case::silent(|_: &str| None, Reason::NoAnswer)]
#[case::closed(|_: &str| Some(Vec::new()), Reason::NotConnected)]
#[case::nonsense(|_: &str| Some(b"\x00\xffSSH-2.0\r\n\r\n".to_vec()), Reason::WrongAnswer)]
#[case::half(|_: &str| Some(b"HTTP/1.1 200 OK\r\nContent-Length: 90\r\n\r\n{\"a\"".to_vec()), Reason::NoAnswer)]
#[case::broken(|_: &str| json("{\"a\": 1"), Reason::DoesNotFit)]
#[case::page(|_: &str| with("200 OK", "Content-Type: text/html\r\n", "<html>"), Reason::DoesNotFit)]
#[case::large(|_: &str| json(&"[".repeat(3000)), Reason::NotConnected)]
#[case::deep(|_: &str| json(&"[".repeat(900)), Reason::DoesNotFit)]
#[case::wrong_login(|_: &str| with("401 Unauthorized", "", ""), Reason::NotReadable)]
#[case::failed(|_: &str| with("500 Internal Server Error", "", ""), Reason::DeviceFailure)]
#[case::nothing(|_: &str| with("204 No Content", "", ""), Reason::NoValue)]
#[case::twice(|_: &str| Some(b"HTTP/1.1 200 OK\r\nContent-Length: 1\r\nContent-Length: 2\r\n\r\n7".to_vec()), Reason::WrongAnswer)]
#[tokio::test]
async fn a_request_that_goes_wrong_is_told_and_harms_no_other(#[case] wrong: fn(&str) -> Answer, #[case] reason: Reason) {
    let program = Program::start(move |request| if path(request) == "/good" { json("5") } else { wrong(request) }).await;
    let points = vec![at(1, json!({"path": "/wrong", "member": "/a"})), at(2, json!({"path": "/good"}))];
    let mut running = run(to(program.port, json!({"largest": 1024})), points);
    assert_eq!(running.until(1, |_, _| true).await, (None, reason), "{:?}", running.health.borrow().learnt);
    for _ in 0..3 {
        assert_eq!(running.value(2).await, Value::F64(5.0));
    }
    running.state(LinkState::Running).await;
    running.end().await;
}

#[tokio::test]
async fn a_program_that_is_gone_is_told_and_a_spare_one_takes_over() {
    let spare = Program::start(|_| json("6")).await;
    let gone = Program::start(|_| json("5")).await.port;
    let settings = json!({"spare": [{"host": "127.0.0.1", "port": spare.port}]});
    let mut running = run(to(gone, settings), vec![at(1, json!({"path": "/t"}))]);
    assert_eq!(running.value(1).await, Value::F64(6.0));
    assert_eq!(running.health.borrow().path, 1);
    running.end().await;
}

#[tokio::test]
async fn a_connection_that_was_closed_between_two_requests_is_opened_anew() {
    let program = Program::start(|_| with("200 OK", "Connection: close\r\n", "5")).await;
    let mut running = run(to(program.port, json!({})), vec![at(1, json!({"path": "/t"}))]);
    for _ in 0..4 {
        assert_eq!(running.until(1, |_, _| true).await, (Some(Value::F64(5.0)), Reason::Fine));
    }
    running.end().await;
}

#[tokio::test]
async fn answers_open_as_a_tree_and_one_answer_serves_several_looks() {
    let program = Program::start(|_| json(r#"{"air": {"temperature": 6.5}, "wind": [3, 4]}"#)).await;
    let running = run(to(program.port, json!({"requests": [{"path": "/weather"}]})), Vec::new());
    let below = async |node: &str| -> Result<Children, LinkError> {
        let (reply, answer) = oneshot::channel();
        let ask = Ask { node: node.into(), cursor: String::new(), most: 100 };
        running.commands.send(Command::Browse { ask, reply }).await.unwrap();
        timeout(LONG, answer).await.unwrap().unwrap()
    };
    let top = below("").await.unwrap().nodes;
    assert_eq!((top[0].name.as_str(), top[0].about.as_str()), ("/weather", "GET"));
    let inside = below(&top[0].id).await.unwrap().nodes;
    let air = below(&inside[0].id).await.unwrap().nodes;
    assert_eq!(air[0].point.as_ref().unwrap()["member"], "/air/temperature");
    assert_eq!(program.lines().len(), 1);
    assert!(below("elsewhere").await.is_err());
    running.end().await;
}

#[rstest]
#[case(json!({"requests": [{"path": "/weather"}, {"path": "/none"}, {"path": "/page"}, {"path": "/count"}]}), &[
    ("Name", true), ("Port", true), ("Request", true), ("Request", false), ("Request", false), ("Request", true)])]
#[case(json!({"scheme": "https"}), &[("Name", true), ("Port", true), ("Security", false)])]
#[tokio::test]
async fn a_test_climbs_to_every_request(#[case] more: Json, #[case] expected: &[(&str, bool)]) {
    let program = Program::start(|request| match path(request) {
        "/weather" => json(r#"{"a": 1, "b": 2}"#),
        "/page" => with("200 OK", "Content-Type: text/html; charset=utf-8\r\n", "<html>"),
        "/count" => with("200 OK", "", "42"),
        _ => with("404 Not Found", "", ""),
    })
    .await;
    let steps = test(&to(program.port, more)).await;
    assert_eq!(names(&steps), expected, "{steps:?}");
    if expected.len() > 3 {
        let told: Vec<_> = steps[2..].iter().map(|step| (step.tried.as_str(), step.answer.as_str())).collect();
        let words = [
            ("GET /weather", "200, application/json, 16 bytes, JSON with 2 members"),
            ("GET /none", "The program answered 404: there is nothing under this path."),
            ("GET /page", "The answer does not fit the request: it is a page for people (text/html)."),
            ("GET /count", "200, of no told type, 2 bytes, one value"),
        ];
        assert_eq!(told, words);
    }
}

#[tokio::test]
async fn a_secured_program_is_trusted_by_its_fingerprint_or_by_its_authority_and_never_left_for_one_in_clear() {
    let clear = Program::start(|_| json("9")).await.port;
    let program = Program::start(move |request| match path(request) {
        "/t" => json("7"),
        _ => with("302 Found", &format!("Location: http://127.0.0.1:{clear}/t\r\n"), ""),
    })
    .await;
    let authority = Authority::new();
    let port = secured(program.port, &authority.issue("localhost", |_| {}), None).await;
    let over = |more: Json| {
        let mut settings = json!({"scheme": "https", "elsewhere": true, "requests": [{"path": "/t"}]});
        settings.as_object_mut().unwrap().extend(own(more));
        let mut connection = to(port, settings);
        connection.timeout_ms = 5000;
        connection
    };
    let steps = test(&over(json!({}))).await;
    assert_eq!(names(&steps), [("Name", true), ("Port", true), ("Security", false)], "{steps:?}");
    let offer = steps[2].offers[0].clone();
    assert_eq!(offer.field, "settings.tls.fingerprint");
    let other_name = test(&over(json!({"tls": {"trust": authority.pem}}))).await;
    assert!(other_name[2].answer.contains("it was issued for another name"), "{other_name:?}");
    for settings in
        [json!({"tls": {"fingerprint": offer.value}}), json!({"tls": {"trust": authority.pem}, "server_name": "localhost"})]
    {
        assert_eq!(names(&test(&over(settings.clone())).await).last(), Some(&("Request", true)));
        let points = vec![at(1, json!({"path": "/t"})), at(2, json!({"path": "/away"}))];
        let mut running = run(over(settings), points);
        assert_eq!(running.value(1).await, Value::F64(7.0));
        assert_eq!(running.until(2, |_, _| true).await, (None, Reason::Refused));
        running.end().await;
    }
}

#[tokio::test]
async fn a_new_tag_is_read_with_the_next_answer_and_a_group_has_its_own_interval() {
    let program = Program::start(|request| match request.contains("if-none-match") {
        true => Some(b"HTTP/1.1 304 Not Modified\r\n\r\n".to_vec()),
        false => with("200 OK", "ETag: \"v1\"\r\n", r#"{"a": 1, "b": 2}"#),
    })
    .await;
    let mut connection = to(program.port, json!({}));
    let group = uuid::Uuid::from_u128(3);
    connection.groups =
        vec![serde_json::from_value(json!({"id": group, "name": "slow", "interval_ms": 60_000, "enabled": true})).unwrap()];
    let first = at(1, json!({"path": "/t", "member": "/a"}));
    let mut running = run(connection.clone(), vec![first.clone()]);
    assert_eq!(running.value(1).await, Value::F64(1.0));
    let mut second = at(2, json!({"path": "/t", "member": "/b"}));
    running.plan.send_replace(Arc::new(LinkPlan {
        connection: connection.clone(),
        points: vec![first.clone(), second.clone()],
        orders: Vec::new(),
        topics: Vec::new(),
    }));
    assert_eq!(running.value(2).await, Value::F64(2.0));
    second.group = Some(group);
    let third = at(3, json!({"path": "/t", "member": "/a"}));
    running.plan.send_replace(Arc::new(LinkPlan {
        connection,
        points: vec![second, third],
        orders: Vec::new(),
        topics: Vec::new(),
    }));
    assert_eq!(running.value(2).await, Value::F64(2.0), "a group begins at once");
    assert_eq!(running.value(3).await, Value::F64(1.0));
    running.end().await;
}
