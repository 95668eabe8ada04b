//! Who may come in, for how long, with what, and how much.

use crate::{
    keep::{push, pushable},
    plant::{CODE, Client, Plant, SHARED, fresh_name},
};
use actix_web::http::Method;
use futures_util::StreamExt;
use havrel_db::Db;
use rstest::rstest;
use serde_json::{Value as Json, json};
use std::time::{Duration, Instant};
use tokio_tungstenite::{
    connect_async,
    tungstenite::{Message, client::IntoClientRequest},
};
use uuid::Uuid;

async fn send(client: &Client, method: Method, path: &str, body: Json) -> (u16, Json) {
    let body = (!body.is_null()).then_some(body);
    let (status, text, _) = client.send(method, path, &[], body).await;
    (status, serde_json::from_str(&text).unwrap_or(Json::Null))
}

async fn signed_in(client: &Client) -> bool {
    client.get("/api/tree").await.0 == 200
}

/// Reads the live socket until it says that the session ended, or closes.
async fn ends(client: &Client) -> bool {
    let mut request = format!("{}/api/live", client.url.replace("http", "ws")).into_client_request().unwrap();
    request.headers_mut().insert("cookie", client.cookie_text().parse().unwrap());
    request.headers_mut().insert("origin", client.url.parse().unwrap());
    let Ok((mut socket, _)) = connect_async(request).await else { return true };
    let told = async {
        while let Some(Ok(message)) = socket.next().await {
            if matches!(&message, Message::Text(text) if text.contains("\"ended\":true")) {
                return true;
            }
        }
        true
    };
    tokio::time::timeout(Duration::from_secs(4), told).await.unwrap_or(false)
}

#[actix_web::test]
async fn sessions_end_at_once_wherever_they_are_used() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let lead = plant.person(&engineer, "operator").await;
    let again = || async {
        let client = Client::new(&plant.url);
        let body = json!({"name": "operator", "password": "kelp-and-salt"});
        assert_eq!(client.post("/api/session", body).await.0, 200);
        client
    };
    // Signing out ends it: whoever kept the cookie has nothing.
    let (one, two) = (again().await, again().await);
    let kept = Client::with_cookie_of(&one, &plant.url);
    assert_eq!(send(&one, Method::DELETE, "/api/session", Json::Null).await.0, 204);
    assert!(!signed_in(&kept).await && signed_in(&two).await);
    // One's own password ends all but this one.
    let wrong = json!({"current": "something", "password": "another-word"});
    let (status, told) = two.post("/api/session/password", wrong).await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("current")));
    let right = json!({"current": "kelp-and-salt", "password": "another-word"});
    assert_eq!(two.post("/api/session/password", right).await.0, 204);
    assert!(signed_in(&two).await && !signed_in(&lead).await);
    // An engineer sees and ends them, one or all; an open page hears of it.
    let account = engineer.get("/api/accounts").await.1;
    let account = account.as_array().unwrap().iter().find(|a| a["name"] == "operator").unwrap().clone();
    assert_eq!((&account["sessions"], &account["role"], &account["disabled"]), (&json!(1), &json!("operator"), &json!(false)));
    let sessions = format!("/api/accounts/{}/sessions", account["id"].as_str().unwrap());
    let listed = engineer.get(&sessions).await.1;
    assert_eq!(listed.as_array().unwrap().len(), 1);
    let (ended, heard) = tokio::join!(
        async {
            tokio::time::sleep(Duration::from_millis(300)).await;
            let one = format!("{sessions}/{}", listed[0]["id"].as_str().unwrap());
            send(&engineer, Method::DELETE, &one, Json::Null).await
        },
        ends(&two)
    );
    assert!(ended.1["count"] == 1 && heard && !signed_in(&two).await);
    // Disabled, nobody comes in; enabled with a new password, only with that.
    let path = format!("/api/accounts/{}", account["id"].as_str().unwrap());
    assert_eq!(send(&engineer, Method::PATCH, &path, json!({"disabled": true})).await.0, 204);
    let enter = |password: &str| {
        let body = json!({"name": "operator", "password": password});
        let client = Client::new(&plant.url);
        async move { client.post("/api/session", body).await.0 }
    };
    assert_eq!(enter("another-word").await, 401);
    assert_eq!(send(&engineer, Method::PATCH, &path, json!({"disabled": false, "password": "third-word"})).await.0, 204);
    assert_eq!((enter("another-word").await, enter("third-word").await), (401, 200));
    // The last engineer stays one.
    let own = engineer.get("/api/accounts").await.1;
    let own = own.as_array().unwrap().iter().find(|a| a["own"] == true).unwrap()["id"].as_str().unwrap().to_owned();
    let (status, told) = send(&engineer, Method::PATCH, &format!("/api/accounts/{own}"), json!({"role": "viewer"})).await;
    assert_eq!(status, 409, "{told}");
    let journal = engineer.get("/api/journal?kind=sign_in").await.1.to_string();
    assert!(journal.contains("Sign-in as “operator” failed"), "{journal}");
    plant.stop().await;
}

#[actix_web::test]
async fn the_first_account_needs_the_code() {
    let plant = Plant::start().await;
    let stranger = Client::new(&plant.url);
    let body = |code: &str| json!({"name": "Plant engineer", "password": "kelp-and-salt", "code": code});
    let (status, told) = stranger.post("/api/session/first", body("GUES-SGUE-SSGU")).await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("code")));
    let mut statuses = Vec::new();
    for n in 0..12 {
        statuses.push(stranger.post("/api/session/first", body(&format!("{n}"))).await.0);
    }
    assert!(statuses.contains(&429), "guessing is slowed down: {statuses:?}");
    plant.stop().await;
}

#[rstest]
#[case::no_nul_at_sign_in(Method::POST, "/api/session", json!({"name": "a\u{0}", "password": "x"}), "name")]
#[case::no_nul_in_a_token(Method::POST, "/api/tokens", json!({"name": "a\u{0}"}), "name")]
#[case::nothing_that_is_not_seen(Method::POST, "/api/tokens", json!({"name": "\u{200B}\u{200D}"}), "name")]
#[case::no_escape_in_a_comment(Method::POST, "/api/alarms/act", json!({"action": "acknowledge", "rules": [], "comment": "\u{1b}[2J"}), "comment")]
#[case::one_line(Method::POST, "/api/accounts", json!({"name": "a\nb", "password": "kelp-and-salt", "role": "viewer"}), "name")]
#[case::no_name_of_blanks(Method::POST, "/api/accounts", json!({"name": "\u{3164}", "password": "kelp-and-salt", "role": "viewer"}), "name")]
#[case::in_edits(Method::POST, "/api/edits", json!({"why": "x\u{7}", "edits": []}), "why")]
#[actix_web::test]
async fn text_that_nobody_can_read_is_refused_at_its_field(
    #[case] method: Method,
    #[case] path: &str,
    #[case] body: Json,
    #[case] field: &str,
) {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let (status, text, _) = engineer.send(method, path, &[("if-match", "0")], Some(body)).await;
    let told: Json = serde_json::from_str(&text).unwrap();
    assert_eq!((status, told["problems"][0]["field"].as_str()), (422, Some(field)), "{text}");
    plant.stop().await;
}

#[rstest]
#[case("/api/journal?kind=a%00b", 400)]
#[case("/api/journal?kind=a%0Ab", 400)]
#[case("/api/find?text=%FF", 400)]
#[case("/api/tree?since=-9223372036854775808", 200)]
#[case("/api/tree?since=9223372036854775807", 200)]
#[case("/api/revisions?before=-9223372036854775808&limit=-9223372036854775808", 200)]
#[case("/api/revisions/compare?from=-9223372036854775808&to=9223372036854775807", 422)]
#[case("/api/journal?before=-9223372036854775808&limit=9223372036854775807", 200)]
#[case("/api/sheets/tags?from=18446744073709551615&count=18446744073709551615", 200)]
#[case("/api/sheets/alarms?from=9223372036854775807&count=9223372036854775807", 200)]
#[case("/api/alarms/events?before=-9223372036854775808&limit=-9223372036854775808", 200)]
#[actix_web::test]
async fn extreme_questions_are_answered_or_refused(#[case] path: &str, #[case] wanted: u16) {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let (status, told) = engineer.get(path).await;
    assert_eq!(status, wanted, "{told}");
    plant.stop().await;
}

#[actix_web::test]
async fn extreme_revisions_are_refused() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    plant.build(&engineer).await;
    for revision in [i64::MIN, -1, i64::MAX] {
        for path in ["/api/undo", "/api/undo/plan"] {
            let (status, told) = engineer.post(path, json!({"revision": revision, "put_back": []})).await;
            assert!([404, 422].contains(&status), "{path} {revision}: {status} {told}");
        }
    }
    // A revision that does not exist yet overrules nothing that comes until then.
    let edit = json!([{"op": "create", "kind": "place", "id": Uuid::now_v7(), "set": {"name": "EX-2"}}]);
    for seen in [2, i64::MAX, -1] {
        assert_eq!(engineer.edit(seen, "Added", edit.clone()).await.0, 412, "{seen}");
    }
    assert_eq!(engineer.edit(1, "Added", edit).await.0, 200);
    plant.stop().await;
}

/// Layouts that hold layouts that hold nothing, and many spans at one address: worked out in bounded time.
#[actix_web::test]
async fn a_tried_block_holds_up_nobody() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let ids: Vec<Uuid> = (0..7).map(|_| Uuid::now_v7()).collect();
    let member = |layout: Option<Uuid>, stride: u32| match layout {
        Some(layout) => json!([{"id": Uuid::now_v7(), "name": "m", "offset": 0, "count": 1000, "stride": 0, "layout": layout}]),
        None => {
            json!([{"id": Uuid::now_v7(), "name": "v", "offset": 0, "count": 5000, "stride": stride, "point": {"type": "u16"}}])
        }
    };
    let mut edits = vec![json!({"op": "create", "kind": "layout", "id": ids[0], "set": {"name": "L0", "members": []}})];
    for n in 1..6 {
        let members = member(Some(ids[n - 1]), 0);
        edits.push(json!({"op": "create", "kind": "layout", "id": ids[n], "set": {"name": format!("L{n}"), "members": members}}));
    }
    edits.push(json!({"op": "create", "kind": "layout", "id": ids[6], "set": {"name": "flat", "members": member(None, 0)}}));
    let (status, told) = engineer.edit(1, "Layouts", json!(edits)).await;
    let map = format!("/api/connections/{}/map", built.connection);
    let tried = if status == 200 { vec![ids[5], ids[6]] } else { Vec::new() };
    assert!([200, 422].contains(&status), "{told}");
    for layout in tried {
        let began = Instant::now();
        let block = json!({"block": {"layout": layout, "point": {"address": "0"}, "count": 10_000, "stride": 0}});
        let (status, _) = engineer.post(&map, block).await;
        assert!([200, 422].contains(&status));
        assert!(began.elapsed() < Duration::from_secs(8), "{:?}", began.elapsed());
    }
    let long = json!({"connection": built.connection, "point": {"address": "x".repeat(500_000)}});
    assert_eq!(engineer.post("/api/points/check", long).await.0, 422);
    plant.stop().await;
}

#[actix_web::test]
async fn a_token_ends_at_once_by_its_time_and_sends_no_more_than_it_may() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let pushed = pushable(&engineer, built.place, 1).await;
    assert_eq!(push(&plant.url, &pushed.token, 1.0).await, 200);
    let tokens = engineer.get("/api/tokens").await.1;
    assert_eq!((&tokens[0]["expires_at"], &tokens[0]["most_values"]), (&json!(""), &json!(20_000)));
    let id = tokens[0]["id"].as_str().unwrap().to_owned();
    // The database is away when it is revoked: it counts no more all the same.
    plant.live.db.set_away(true);
    let (status, told) = send(&engineer, Method::DELETE, &format!("/api/tokens/{id}"), Json::Null).await;
    assert_eq!(status, 503, "{told}");
    assert!(told["detail"].as_str().unwrap().contains("is revoked until the next restart"));
    assert_eq!(push(&plant.url, &pushed.token, 2.0).await, 401);
    plant.live.db.set_away(false);
    assert_eq!(push(&plant.url, &pushed.token, 2.0).await, 401);
    assert_eq!(send(&engineer, Method::DELETE, &format!("/api/tokens/{id}"), Json::Null).await.0, 204);
    let make = |body: Json| engineer.post("/api/tokens", body);
    let past = json!({"name": "A", "expires_at": "2020-01-01T00:00:00Z"});
    assert_eq!(make(past).await.1["problems"][0]["field"], "expires_at");
    let soon = havrel_core::time::to_text(havrel_live::now() + 1_200_000_000);
    let short = make(json!({"name": "B", "expires_at": soon})).await.1["token"].as_str().unwrap().to_owned();
    assert_eq!(push(&plant.url, &short, 3.0).await, 200);
    tokio::time::sleep(Duration::from_millis(1300)).await;
    assert_eq!(push(&plant.url, &short, 4.0).await, 401);
    let slow = make(json!({"name": "C", "most_values": 1})).await.1["token"].as_str().unwrap().to_owned();
    let mut statuses = Vec::new();
    while statuses.len() < 60 && !statuses.contains(&429) {
        statuses.push(push(&plant.url, &slow, 1.0).await);
    }
    assert!(statuses[0] == 200 && statuses.contains(&429), "{statuses:?}");
    plant.stop().await;
}

#[actix_web::test]
async fn packed_and_foreign_bodies_are_refused() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let (status, text, _) = engineer
        .send(Method::POST, "/api/session", &[("content-encoding", "gzip")], Some(json!({"name": "a", "password": "b"})))
        .await;
    assert_eq!(status, 415, "{text}");
    let request = awc::Client::default().post(format!("{}/api/session", plant.url)).insert_header(("content-type", "text/plain"));
    assert_eq!(request.send_body("{}").await.unwrap().status().as_u16(), 415);
    plant.stop().await;
}

#[actix_web::test]
async fn crowds_at_the_door_are_turned_away_early() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let began = Instant::now();
    let tries = (0..60).map(|n| {
        let client = Client::new(&plant.url);
        async move { client.post("/api/session", json!({"name": format!("n{n}"), "password": "wrong"})).await.0 }
    });
    let statuses = futures_util::future::join_all(tries).await;
    assert!(statuses.iter().all(|s| [401, 429, 503].contains(s)), "{statuses:?}");
    assert!(statuses.iter().filter(|s| **s == 401).count() <= 12, "{statuses:?}");
    assert!(began.elapsed() < Duration::from_secs(10));
    // Whoever is known is not held up by them.
    assert!(signed_in(&engineer).await);
    plant.stop().await;
}

/// Behind a proxy people count by their own address, and what a stranger writes into the header counts for nothing.
#[actix_web::test]
async fn behind_a_proxy_each_counts_alone() {
    let name = fresh_name();
    SHARED.cluster.ensure(&name, None).await.unwrap();
    let db = Db::open(SHARED.cluster.options(&name)).await.unwrap();
    let plant = Plant::behind(db, vec!["127.0.0.1".parse().unwrap()]).await;
    let engineer = plant.engineer().await;
    let attempt = async |from: &str| {
        let client = Client::new(&plant.url);
        let body = json!({"name": Uuid::new_v4().to_string(), "password": "wrong"});
        client.send(Method::POST, "/api/session", &[("x-forwarded-for", from)], Some(body)).await.0
    };
    let mut crowd = Vec::new();
    for n in 0..14 {
        // Another forged address each time in front of the one that the proxy saw.
        crowd.push(attempt(&format!("10.0.0.{n}, 192.0.2.7")).await);
    }
    assert_eq!(crowd.last(), Some(&429), "{crowd:?}");
    assert_eq!(attempt("192.0.2.8").await, 401);
    // Figures are for this machine, and for whoever shows a token or is signed in.
    let metrics = async |client: &Client, headers: &[(&str, &str)]| client.send(Method::GET, "/metrics", headers, None).await.0;
    let away = ("x-forwarded-for", "192.0.2.9");
    assert_eq!(metrics(&Client::new(&plant.url), &[away]).await, 401);
    assert_eq!(metrics(&engineer, &[away]).await, 200);
    let token = engineer.post("/api/tokens", json!({"name": "Watcher"})).await.1["token"].as_str().unwrap().to_owned();
    let bearer = format!("Bearer {token}");
    assert_eq!(metrics(&Client::new(&plant.url), &[away, ("authorization", &bearer)]).await, 200);
    // The cookie is for TLS alone where the browser speaks TLS with the proxy.
    let lead = Client::new(&plant.url);
    let body = json!({"name": "Plant engineer", "password": "kelp-and-salt"});
    let headers = [("x-forwarded-for", "192.0.2.10"), ("x-forwarded-proto", "https")];
    let (_, _, head) = lead.send(Method::POST, "/api/session", &headers, Some(body)).await;
    let cookie = head.iter().find(|(name, _)| name == "set-cookie").unwrap();
    assert!(cookie.1.contains("Secure") && cookie.1.contains("HttpOnly") && cookie.1.contains("SameSite=Strict"), "{cookie:?}");
    assert_eq!(CODE.len(), 14);
    plant.stop().await;
}

/// Anonymous requests from one address neither starve programs nor people who are known.
#[actix_web::test]
async fn a_flood_of_strangers_starves_nobody() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let pushed = pushable(&engineer, built.place, 1).await;
    assert_eq!(push(&plant.url, &pushed.token, 0.0).await, 200);
    let flood = (0..700).map(|_| {
        let client = Client::new(&plant.url);
        async move { client.get("/api/health").await.0 }
    });
    let statuses = futures_util::future::join_all(flood).await;
    assert!(statuses.contains(&429), "strangers are slowed down");
    for n in 0..20 {
        assert_eq!(push(&plant.url, &pushed.token, f64::from(n)).await, 200);
        assert!(signed_in(&engineer).await);
    }
    plant.stop().await;
}
