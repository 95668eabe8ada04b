//! Mail servers and web hooks: who is told, what each refusal is told as, and what a test finds.

use crate::{
    device::*,
    secured::{Authority, acceptor},
};
use havrel_core::{
    notice::{Enclosed, Notice},
    plant::Connection,
};
use havrel_link::{Command, LinkError, LinkState};
use havrel_standin::post::{
    PASSWORD, Post, USER, page,
    smtp::{self, Mood},
};
use rstest::rstest;
use serde_json::{Value as Json, json};
use std::sync::{
    Arc,
    atomic::{AtomicBool, Ordering},
};
use tokio::{net::TcpListener, sync::oneshot, time::timeout};
use uuid::Uuid;

/// A mail server, secured by a certificate of an authority where one is given.
async fn mail_server(authority: Option<&Authority>, mood: impl Fn() -> Mood + Clone + Send + Sync + 'static) -> (u16, Post) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let (port, post) = (listener.local_addr().unwrap().port(), Post::default());
    let tls = authority.map(|authority| acceptor(&authority.issue("localhost", |_| {}), None));
    tokio::spawn(smtp::serve(listener, post.clone(), tls, mood));
    (port, post)
}

fn mail(port: u16, more: Json) -> Connection {
    let mut settings = json!({"host": "localhost", "port": port, "security": "none", "from": "havrel@works.example"});
    settings.as_object_mut().unwrap().extend(own(more));
    let set = json!({"name": "c", "kind": "mail", "timeout_ms": 600, "settings": settings});
    serde_json::from_value(set).unwrap()
}

fn notice(to: &str) -> Notice {
    let id = Uuid::from_u128(7);
    let content = json!({"call": "a call"});
    Notice {
        id,
        to: to.into(),
        subject: "Vibration high, 7.4 mm/s – Mühle".into(),
        text: "Stop the feed.\n.\nBye".into(),
        content,
        files: Vec::new(),
    }
}

async fn told(running: &Running, notice: Notice) -> Result<String, LinkError> {
    let (reply, answer) = oneshot::channel();
    running.commands.send(Command::Notify { notice: Box::new(notice), reply }).await.unwrap();
    timeout(LONG, answer).await.unwrap().unwrap()
}

#[tokio::test]
async fn a_message_arrives_as_it_was_written() {
    let authority = Authority::new();
    let (port, post) = mail_server(Some(&authority), Mood::default).await;
    let login = json!({"security": "start_tls", "trust": authority.pem, "user": USER, "secret": {"secret": PASSWORD}});
    let mut running = run(mail(port, login), Vec::new());
    running.state(LinkState::Running).await;
    assert!(told(&running, notice("shift@works.example")).await.unwrap().starts_with("250 "));
    let got = post.all().remove(0);
    assert_eq!((got.from.as_str(), got.to.as_str()), ("havrel@works.example", "shift@works.example"));
    assert_eq!((got.subject.as_str(), got.text.as_str()), ("Vibration high, 7.4 mm/s – Mühle", "Stop the feed.\n.\nBye"));
}

#[tokio::test]
async fn a_refusal_ends_no_connection_and_a_server_that_is_gone_is_told() {
    let (refuses, gone) = (Arc::new(AtomicBool::new(true)), Arc::new(AtomicBool::new(false)));
    let (on, off) = (refuses.clone(), gone.clone());
    let mood = move || Mood { refuses: on.load(Ordering::Relaxed), gone: off.load(Ordering::Relaxed), silent: false };
    let (port, post) = mail_server(None, mood).await;
    let mut running = run(mail(port, json!({})), Vec::new());
    running.state(LinkState::Running).await;
    let error = told(&running, notice("nobody@works.example")).await.unwrap_err();
    assert!(matches!(&error, LinkError::MailAnswered(550, words) if words.contains("no such mailbox")), "{error:?}");
    assert_eq!(running.health.borrow().state, LinkState::Running);
    let error = told(&running, notice("no address")).await.unwrap_err();
    assert!(matches!(&error, LinkError::BadRequest(_)), "{error:?}");
    refuses.store(false, Ordering::Relaxed);
    told(&running, notice("shift@works.example")).await.unwrap();
    gone.store(true, Ordering::Relaxed);
    told(&running, notice("shift@works.example")).await.unwrap_err();
    running.state(LinkState::Trouble).await;
    assert_eq!(post.all().len(), 1);
    gone.store(false, Ordering::Relaxed);
    running.state(LinkState::Running).await;
}

#[rstest]
#[case::in_clear(json!({}), &["Name", "Port", "Hello", "Sender"], true)]
#[case::with_a_login(json!({"user": USER, "secret": {"secret": PASSWORD}}), &["Name", "Port", "Hello", "Login", "Sender"], true)]
#[case::wrong_password(json!({"user": USER, "secret": {"secret": "guessed"}}), &["Name", "Port", "Hello", "Login"], false)]
#[case::nobody_vouches_for_it(json!({"security": "start_tls"}), &["Name", "Port", "Hello", "Security"], false)]
#[case::no_tls_from_the_start(json!({"security": "tls"}), &["Name", "Port", "Hello"], false)]
#[tokio::test]
async fn a_test_finds_the_rung_that_breaks(#[case] more: Json, #[case] names: &[&str], #[case] passes: bool) {
    let authority = Authority::new();
    let (port, post) = mail_server(Some(&authority), Mood::default).await;
    let steps = test(&mail(port, more)).await;
    assert_eq!(steps.iter().map(|step| step.name.as_str()).collect::<Vec<_>>(), names, "{steps:?}");
    let last = steps.last().unwrap();
    assert_eq!((last.passed, last.cure.is_empty()), (passes, passes), "{last:?}");
    assert!(post.all().is_empty(), "a test sends nothing");
}

#[tokio::test]
async fn a_server_that_says_nothing_more_is_given_up_in_time() {
    let (port, _) = mail_server(None, || Mood { silent: true, ..Mood::default() }).await;
    let steps = test(&mail(port, json!({}))).await;
    assert!(steps.last().is_some_and(|step| !step.passed && step.answer.contains("No answer within 600 ms")), "{steps:?}");
}

#[tokio::test]
async fn a_hook_is_posted_to_and_its_refusal_told() {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let (port, post, closed) = (listener.local_addr().unwrap().port(), Post::default(), Arc::new(AtomicBool::new(false)));
    let refuses = closed.clone();
    tokio::spawn(page::serve(listener, post.clone(), move || refuses.load(Ordering::Relaxed)));
    let settings = json!({"host": "127.0.0.1", "port": port, "path": "/calls"});
    let set = json!({"name": "c", "kind": "hook", "timeout_ms": 600, "settings": settings});
    let connection: Connection = serde_json::from_value(set).unwrap();
    let steps = test(&connection).await;
    assert!(steps.len() == 2 && steps.iter().all(|step| step.passed), "{steps:?}");
    let mut running = run(connection, Vec::new());
    running.state(LinkState::Running).await;
    assert_eq!(told(&running, notice("")).await, Ok("204".into()));
    assert_eq!((post.all()[0].to.as_str(), post.all()[0].text.as_str()), ("/calls", r#"{"call":"a call"}"#));
    closed.store(true, Ordering::Relaxed);
    assert_eq!(told(&running, notice("")).await, Err(LinkError::Answered(503)));
    assert_eq!(post.all().len(), 1);
}

/// A notice with two files, of which one would lie in a folder.
fn parcel(to: &str) -> Notice {
    let file = |name: &str, media, bytes: &[u8]| Enclosed { name: name.into(), media, bytes: bytes.into() };
    let pdf: Vec<u8> = (0..=255).collect();
    let files = vec![
        file("EX-1/Shift – früh.pdf", "application/pdf", &pdf),
        file("Shift.csv", "text/csv; charset=utf-8", b"a,b\r\n\xc3\xa9,2\r\n"),
    ];
    Notice { files, ..notice(to) }
}

#[tokio::test]
async fn a_report_arrives_by_mail_bit_for_bit() {
    let (port, post) = mail_server(None, Mood::default).await;
    let mut running = run(mail(port, json!({})), Vec::new());
    running.state(LinkState::Running).await;
    told(&running, parcel("shift@works.example")).await.unwrap();
    let got = post.all().remove(0);
    assert_eq!(got.text, "Stop the feed.\n.\nBye");
    let names: Vec<&str> = got.files.iter().map(|file| file.name.as_str()).collect();
    assert_eq!(names, ["Shift – früh.pdf", "Shift.csv"]);
    for (sent, kept) in parcel("").files.iter().zip(&got.files) {
        assert_eq!(sent.bytes, kept.bytes);
    }
}

#[tokio::test]
async fn a_report_arrives_by_hook_and_in_a_folder() {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let (port, post) = (listener.local_addr().unwrap().port(), Post::default());
    tokio::spawn(page::serve(listener, post.clone(), || false));
    let settings = json!({"host": "localhost", "port": port, "path": "/hooks/havrel", "scheme": "http"});
    let hook = serde_json::from_value(json!({"name": "c", "kind": "hook", "timeout_ms": 600, "settings": settings})).unwrap();
    let mut running = run(hook, Vec::new());
    running.state(LinkState::Running).await;
    told(&running, parcel("")).await.unwrap();
    let got = post.all().remove(0);
    assert!(got.text.contains("a call") && got.text.contains("256 bytes"), "{}", got.text);
    assert_eq!(got.files[0].bytes, parcel("").files[0].bytes);

    let dir = tempfile::tempdir().unwrap();
    let folder = |path: &std::path::Path| {
        serde_json::from_value(json!({"name": "c", "kind": "folder", "timeout_ms": 600, "settings": {"path": path}})).unwrap()
    };
    let mut running = run(folder(dir.path()), Vec::new());
    running.state(LinkState::Running).await;
    assert_eq!(told(&running, parcel("")).await.unwrap(), "EX-1/Shift – früh.pdf, Shift.csv");
    assert_eq!(std::fs::read(dir.path().join("EX-1/Shift – früh.pdf")).unwrap()[..], parcel("").files[0].bytes[..]);
    let steps = test(&folder(dir.path())).await;
    assert!(steps.iter().all(|step| step.passed) && steps.len() == 2, "{steps:?}");
    let gone = dir.path().join("gone");
    let steps = test(&folder(&gone)).await;
    assert!(!steps[0].passed && steps[0].answer.contains("there is no such folder") && !steps[0].cure.is_empty(), "{steps:?}");
    assert!(!gone.exists(), "a share that is not mounted is not written beneath");
    std::fs::remove_dir_all(dir.path()).unwrap();
    let error = told(&running, parcel("")).await.unwrap_err();
    assert!(matches!(&error, LinkError::Folder(..)), "{error:?}");
    running.state(LinkState::Trouble).await;
}
