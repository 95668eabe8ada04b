//! The live WebSocket.

use crate::plant::{Client, Plant};
use futures_util::{SinkExt, StreamExt};
use havrel_core::access::Role;
use havrel_server::sessions::hash;
use serde_json::{Value as Json, json};
use std::time::Duration;
use tokio::{net::TcpStream, time::timeout};
use tokio_tungstenite::{
    MaybeTlsStream, WebSocketStream, connect_async,
    tungstenite::{Message, client::IntoClientRequest},
};

pub struct Feed(WebSocketStream<MaybeTlsStream<TcpStream>>);

impl Feed {
    pub async fn open(client: &Client) -> Feed {
        let mut request = format!("{}/api/live", client.url.replace("http", "ws")).into_client_request().unwrap();
        request.headers_mut().insert("cookie", client.cookie_text().parse().unwrap());
        request.headers_mut().insert("origin", client.url.parse().unwrap());
        Feed(connect_async(request).await.unwrap().0)
    }

    pub async fn say(&mut self, message: Json) {
        self.0.send(Message::text(message.to_string())).await.unwrap();
    }

    async fn hear(&mut self) -> Option<Json> {
        match timeout(Duration::from_secs(10), self.0.next()).await {
            Ok(Some(Ok(Message::Text(text)))) => Some(serde_json::from_str(&text).unwrap()),
            _ => None,
        }
    }

    /// Answers messages until one pleases.
    pub async fn until(&mut self, mut pleases: impl FnMut(&Json) -> bool) -> Json {
        for _ in 0..300 {
            let message = self.hear().await.expect("a message comes");
            self.say(json!({"got": message["n"]})).await;
            if pleases(&message) {
                return message;
            }
        }
        panic!("what was waited for never came");
    }
}

#[actix_web::test]
async fn what_is_watched_comes_and_nothing_else() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let mut feed = Feed::open(&engineer).await;
    feed.say(json!({"watch": [built.setpoint_no, 4_000_000_000_u32]})).await;
    let message = feed.until(|m| m["values"][0]["quality"] == "good").await;
    assert_eq!((&message["values"][0]["no"], &message["values"][0]["value"]), (&json!(built.setpoint_no), &json!(82.0)));
    assert_eq!(message["values"].as_array().unwrap().len(), 1);
    let status = feed.until(|m| m["status"]["connections"][built.connection.to_string()]["state"] == "running").await;
    assert_eq!(status["status"]["database_ok"], true);
    plant.stop().await;
}

#[actix_web::test]
async fn a_browser_that_does_not_answer_gets_one_message_and_then_the_newest() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let mut feed = Feed::open(&engineer).await;
    feed.say(json!({"watch": [built.level_no]})).await;
    let first = feed.hear().await.unwrap();
    plant.set_level(20.0);
    engineer.until(&format!("/api/values?tags={}", built.level_no), |b| b[0]["value"].as_f64().is_some_and(|v| v < 25.0)).await;
    plant.set_level(50.0);
    engineer.until(&format!("/api/values?tags={}", built.level_no), |b| b[0]["value"].as_f64().is_some_and(|v| v > 45.0)).await;
    assert!(timeout(Duration::from_millis(400), feed.0.next()).await.is_err(), "nothing comes unasked");
    feed.say(json!({"got": first["n"]})).await;
    let second = feed.hear().await.unwrap();
    assert_eq!(second["n"], json!(first["n"].as_u64().unwrap() + 1));
    assert!(second["values"][0]["value"].as_f64().unwrap() > 45.0, "the newest, not what was missed: {second}");
    plant.stop().await;
}

#[actix_web::test]
async fn alarm_events_are_numbered_and_resumed() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    plant.set_level(40.0);
    engineer.until(&format!("/api/values?tags={}", built.level_no), |b| b[0]["value"].as_f64().is_some_and(|v| v < 45.0)).await;
    let mut feed = Feed::open(&engineer).await;
    feed.say(json!({"follow": 0})).await;
    let start = feed.until(|m| m["alarms"].is_object()).await;
    let (epoch, last) = (start["alarms"]["epoch"].clone(), start["alarms"]["last"].as_u64().unwrap());
    assert_eq!(start["alarms"]["anew"], true, "a stranger reads the list first");
    drop(feed);
    plant.set_level(75.0);
    engineer.until("/api/alarms", |b| b["alarms"].as_array().is_some_and(|a| a.len() == 1)).await;
    plant.set_level(30.0);
    engineer.until("/api/alarms", |b| b["alarms"][0]["state"] == "returned_unacknowledged").await;
    let mut feed = Feed::open(&engineer).await;
    feed.say(json!({"follow": last, "epoch": epoch})).await;
    let message = feed.until(|m| m["alarms"].is_object()).await;
    let events = message["alarms"]["events"].as_array().unwrap();
    assert_eq!(message["alarms"]["anew"], false);
    assert_eq!(events.iter().map(|e| e["id"].as_u64().unwrap()).collect::<Vec<_>>(), [last + 1, last + 2]);
    assert_eq!((&events[0]["kind"], &events[1]["kind"]), (&json!("raised"), &json!("returned")));
    // Numbers of another start of the server mean nothing here.
    feed.say(json!({"follow": last, "epoch": uuid::Uuid::new_v4()})).await;
    let message = feed.until(|m| m["alarms"].is_object()).await;
    assert_eq!(message["alarms"]["anew"], true);
    plant.stop().await;
}

#[actix_web::test]
async fn nonsense_ends_only_its_own_socket() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let mut bad = Feed::open(&engineer).await;
    let mut good = Feed::open(&engineer).await;
    bad.0.send(Message::text("{\"watch\": \"everything\"}")).await.unwrap();
    let mut ended = false;
    for _ in 0..50 {
        match timeout(Duration::from_secs(10), bad.0.next()).await {
            Ok(Some(Ok(Message::Close(_))) | None | Some(Err(_))) => {
                ended = true;
                break;
            }
            Ok(_) => {}
            Err(_) => break,
        }
    }
    assert!(ended);
    good.until(|m| m["status"].is_object()).await;
    plant.stop().await;
}

#[actix_web::test]
async fn a_thousand_browsers_that_never_read_harm_nobody() {
    // Both ends of every socket are in this process.
    rlimit::increase_nofile_limit(8192).unwrap();
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let mut good = Feed::open(&engineer).await;
    good.say(json!({"watch": [built.level_no]})).await;
    // One account may have so many open at a time; the rest takes others.
    let mut cookies = vec![engineer.cookie_text()];
    for n in 0..11 {
        let viewer = plant.live.db.add_account(&format!("Viewer {n}"), Role::Viewer, "x").await.unwrap().unwrap();
        plant.live.db.begin_session(viewer.account, &hash(&format!("cookie-{n}")), "", "").await.unwrap();
        cookies.push(format!("havrel=cookie-{n}"));
    }
    let open = |cookie: String| {
        let url = engineer.url.clone();
        async move {
            let mut request = format!("{}/api/live", url.replace("http", "ws")).into_client_request().unwrap();
            request.headers_mut().insert("cookie", cookie.parse().unwrap());
            request.headers_mut().insert("origin", url.parse().unwrap());
            connect_async(request).await
        }
    };
    let mut deaf = Vec::new();
    let mut refused = String::new();
    while refused.is_empty() {
        match open(cookies[deaf.len() / 99].clone()).await {
            Ok((mut socket, _)) => {
                let watch = json!({"watch": (1..=5000).collect::<Vec<u32>>(), "follow": 0}).to_string();
                socket.send(Message::text(watch)).await.unwrap();
                deaf.push(socket);
            }
            Err(tokio_tungstenite::tungstenite::Error::Http(answer)) => {
                let words = String::from_utf8_lossy(answer.body().as_deref().unwrap_or_default()).into_owned();
                // So many at once from one address are slowed down first; the next try comes a little later.
                if deaf.len() < 999 {
                    tokio::time::sleep(Duration::from_millis(50)).await;
                } else {
                    refused = format!("{} {words}", answer.status());
                }
            }
            Err(other) => panic!("after {}: {other}", deaf.len()),
        }
        assert!(deaf.len() < 1000, "the good one counts too");
    }
    assert!(refused.starts_with("429"), "{refused}");
    let at = std::time::Instant::now();
    plant.set_level(33.0);
    good.until(|m| m["values"][0]["value"].as_f64().is_some_and(|v| (32.0..34.5).contains(&v))).await;
    // Without them it takes two polls at most; ten times as long is no harm yet.
    assert!(at.elapsed() < Duration::from_secs(3), "{:?}", at.elapsed());
    drop(deaf);
    plant.stop().await;
}
