//! Call-out: people and programs are told of alarms that nobody acknowledges, one after the other, until somebody takes the call.

use crate::plant::{Built, Client, Plant};
use actix_web::http::Method;
use havrel_standin::post::{
    Post, page,
    smtp::{self, Mood},
};
use serde_json::{Value as Json, json};
use std::sync::{
    Arc,
    atomic::{AtomicBool, Ordering},
};
use tokio::net::TcpListener;
use uuid::Uuid;

/// A mail server and a program that is told of things, both with a memory.
pub struct Outside {
    pub post: Post,
    pub mail: u16,
    pub hook: u16,
    pub refuses: Arc<AtomicBool>,
}

impl Outside {
    pub async fn start() -> Outside {
        let (mail, hook) = (TcpListener::bind("127.0.0.1:0").await.unwrap(), TcpListener::bind("127.0.0.1:0").await.unwrap());
        let (post, refuses) = (Post::default(), Arc::new(AtomicBool::new(false)));
        let ports = (mail.local_addr().unwrap().port(), hook.local_addr().unwrap().port());
        let on = refuses.clone();
        let mood = move || Mood { refuses: on.load(Ordering::Relaxed), ..Mood::default() };
        tokio::spawn(smtp::serve(mail, post.clone(), None, mood));
        tokio::spawn(page::serve(hook, post.clone(), || false));
        Outside { post, mail: ports.0, hook: ports.1, refuses }
    }

    fn subjects(&self) -> Vec<String> {
        self.post.all().into_iter().rev().map(|one| format!("{} {}", one.to, one.subject)).collect()
    }

    /// The link in the newest mail.
    fn link(&self) -> String {
        let text = self.post.all().into_iter().find(|one| one.by == "mail").map(|one| one.text).unwrap();
        text.lines().find(|line| line.contains("/call/")).unwrap().to_owned()
    }
}

struct Called {
    built: Built,
    mail: Uuid,
    hook: Uuid,
    plan: Uuid,
    outside: Outside,
}

/// EX-1, a mail server, a hook, and a plan with these steps; the first account has an address.
async fn build(plant: &Plant, engineer: &Client, steps: impl Fn(Uuid, Uuid) -> Json) -> Called {
    plant.live.set_address(&plant.url);
    let built = plant.build(engineer).await;
    let outside = Outside::start().await;
    let [mail, hook, plan] = [(); 3].map(|()| Uuid::now_v7());
    let own = engineer.get("/api/contacts").await.1[0]["account"].as_str().unwrap().parse().unwrap();
    let server = json!({"host": "127.0.0.1", "port": outside.mail, "security": "none", "from": "havrel@works.example"});
    let edits = json!([
        {"op": "create", "kind": "connection", "id": mail, "set": {"name": "Works mail", "kind": "mail", "timeout_ms": 2000, "settings": server}},
        {"op": "create", "kind": "connection", "id": hook, "set": {"name": "Gatehouse", "kind": "hook", "timeout_ms": 2000,
            "settings": {"host": "127.0.0.1", "port": outside.hook, "path": "/calls"}}},
        {"op": "create", "kind": "call_plan", "id": plan, "set": {"name": "Night", "lowest": 3, "mail": mail, "rounds": 1,
            "steps": steps(own, hook)}},
    ]);
    let (status, told) = engineer.edit(1, "Call-out", edits).await;
    assert_eq!(status, 200, "{told}");
    assert_eq!(set_contact(engineer, own, json!({"mail": "engineer@works.example", "hours": {}})).await, 204);
    Called { built, mail, hook, plan, outside }
}

async fn set_contact(client: &Client, account: Uuid, body: Json) -> u16 {
    client.send(Method::PATCH, &format!("/api/contacts/{account}"), &[], Some(body)).await.0
}

fn person_then_hook(own: Uuid, hook: Uuid) -> Json {
    json!([{"to": {"kind": "person", "account": own}, "wait_min": 60}, {"to": {"kind": "hook", "connection": hook}, "wait_min": 60}])
}

/// Sends a form as the page does; its answer's status and text.
async fn press(link: &str, act: &str, comment: &str) -> (u16, String) {
    let client = awc::Client::new();
    let mut answer = client.post(format!("{link}/{act}")).send_form(&[("comment", comment)]).await.unwrap();
    let body = answer.body().await.unwrap();
    (answer.status().as_u16(), String::from_utf8_lossy(&body).into_owned())
}

async fn page_of(link: &str) -> (u16, String) {
    let mut answer = awc::Client::new().get(link).send().await.unwrap();
    let body = answer.body().await.unwrap();
    (answer.status().as_u16(), String::from_utf8_lossy(&body).into_owned())
}

#[actix_web::test]
async fn somebody_is_told_by_mail_and_takes_the_call_by_its_link() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let called = build(&plant, &engineer, person_then_hook).await;
    plant.set_level(70.0);
    let calls =
        engineer.until("/api/calls", |all| all[0]["messages"][0]["sent_at"].as_str().is_some_and(|at| !at.is_empty())).await;
    let call = &calls[0];
    assert_eq!((&call["plan_name"], &call["how"], &call["step"]), (&json!("Night"), &json!(""), &json!(1)));
    assert_eq!((&call["messages"][0]["whom"], &call["messages"][0]["carrier"]), (&json!("Plant engineer"), &json!("Works mail")));
    assert!(call["messages"][0]["answer"].as_str().unwrap().starts_with("250"), "{call}");
    assert_eq!(called.outside.post.all().len(), 1);
    let mail = &called.outside.post.all()[0];
    assert_eq!((mail.from.as_str(), mail.to.as_str()), ("havrel@works.example", "engineer@works.example"));
    assert!(mail.subject.starts_with("EX-1 Level high, ") && mail.text.contains("What to do: Look"), "{mail:?}");

    // Whoever opens the link sees what is wrong, and nothing happens by that: mail servers follow links, too.
    let link = called.outside.link();
    let (status, shown) = page_of(&link).await;
    assert_eq!(status, 200, "{shown}");
    assert!(shown.contains("Level high") && shown.contains("I take care of it") && shown.contains("Acknowledge the alarm"));
    assert!(shown.contains("Level now: <b>7"), "{shown}");
    assert_eq!(engineer.get("/api/calls").await.1[0]["how"], "");

    let (status, shown) = press(&link, "take", "on my way").await;
    assert_eq!(status, 200, "{shown}");
    assert!(shown.contains("Nobody else is told") && shown.contains("Plant engineer takes care of it"));
    let call = engineer.until("/api/calls", |all| all[0]["how"] == "taken").await[0].clone();
    assert_eq!((&call["by"], call["alarms"][0]["gone"].as_bool()), (&json!("Plant engineer"), Some(false)));
    let (_, again) = press(&link, "take", "").await;
    assert!(again.contains("Plant engineer took this call already"), "{again}");
    // The alarm still waits, and is acknowledged from the same page.
    let (status, shown) = press(&link, "acknowledge", "drain opened").await;
    assert_eq!(status, 200, "{shown}");
    assert!(shown.contains("Acknowledged."));
    let list = engineer.until("/api/alarms", |list| list["alarms"][0]["state"] == "acknowledged").await;
    assert_eq!(list["alarms"][0]["acknowledged_by"], "Plant engineer");
    assert_eq!(called.outside.subjects().len(), 1, "the hook was not told");
    let journal =
        engineer.until("/api/journal?kind=call_out", |all| all.to_string().contains("takes the call-out")).await.to_string();
    assert!(journal.contains("on my way") && journal.contains("Told Plant engineer"), "{journal}");
    plant.stop().await;
}

#[actix_web::test]
async fn a_link_that_nobody_here_made_leads_nowhere() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let called = build(&plant, &engineer, person_then_hook).await;
    plant.set_level(70.0);
    engineer.until("/api/calls", |all| all[0]["messages"][0]["sent_at"] != "" && !all[0].is_null()).await;
    let link = called.outside.link();
    let (start, token) = link.rsplit_once('/').unwrap();
    let other = format!("{start}/{}{}", &token[..token.len() - 2], if token.ends_with("AA") { "BB" } else { "AA" });
    for wrong in [other, format!("{start}/nonsense"), format!("{start}/{}", Uuid::now_v7())] {
        assert_eq!(page_of(&wrong).await.0, 404, "{wrong}");
        assert_eq!(press(&wrong, "take", "").await.0, 404, "{wrong}");
    }
    assert_eq!(press(&link, "delete", "").await.0, 404);
    // Who cannot sign in any more cannot take anything either; the second engineer is left.
    let second = plant.person(&engineer, "engineer").await;
    let accounts = second.get("/api/accounts").await.1;
    let own = accounts.as_array().unwrap().iter().find(|one| one["name"] == "Plant engineer").unwrap()["id"].clone();
    let path = format!("/api/accounts/{}", own.as_str().unwrap());
    assert_eq!(second.send(Method::PATCH, &path, &[], Some(json!({"disabled": true}))).await.0, 204);
    assert_eq!(page_of(&link).await.0, 403);
    plant.stop().await;
}

#[actix_web::test]
async fn who_cannot_be_told_is_passed_over_at_once() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let nobody = Uuid::now_v7();
    let called = build(&plant, &engineer, |own, hook| {
        json!([
            {"to": {"kind": "person", "account": nobody}, "wait_min": 60},
            {"to": {"kind": "crew"}, "wait_min": 60},
            {"to": {"kind": "person", "account": own}, "wait_min": 60},
            {"to": {"kind": "hook", "connection": hook}, "wait_min": 60},
        ])
    })
    .await;
    let own = engineer.get("/api/contacts").await.1[0]["account"].as_str().unwrap().parse().unwrap();
    assert_eq!(set_contact(&engineer, own, json!({"mail": "engineer@works.example", "hours": another_day()})).await, 204);
    plant.set_level(70.0);
    let call = engineer.until("/api/calls", |all| all[0]["messages"][0]["sent_at"] != "" && all[0]["step"] == 4).await[0].clone();
    assert_eq!(call["messages"].as_array().map(Vec::len), Some(1), "{call}");
    assert_eq!(call["messages"][0]["answer"], "204");
    let told: Json = serde_json::from_str(&called.outside.post.all()[0].text).unwrap();
    assert_eq!((&told["plan"], &told["test"], &told["alarms"][0]["priority"]), (&json!("Night"), &json!(false), &json!(3)));
    let journal = engineer.until("/api/journal?kind=call_out", |all| all.to_string().contains("quiet hours")).await.to_string();
    assert!(journal.contains("no shift pattern at the place") && journal.contains("an account that is gone"), "{journal}");
    plant.stop().await;
}

/// An hour of a day that is neither today nor tomorrow.
fn another_day() -> Json {
    let days = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];
    let today = (havrel_live::now() / 86_400_000_000_000 + 3) % 7;
    let other = days[usize::try_from((today + 3) % 7).unwrap()];
    json!({"zone": "UTC", "windows": [{"days": [other], "from": "10:00", "to": "11:00"}]})
}

#[actix_web::test]
async fn a_call_waits_for_the_end_of_quiet_hours_and_says_so_at_once() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    build(&plant, &engineer, |own, _| json!([{"to": {"kind": "person", "account": own}, "wait_min": 60}])).await;
    let own = engineer.get("/api/contacts").await.1[0]["account"].as_str().unwrap().parse().unwrap();
    assert_eq!(set_contact(&engineer, own, json!({"mail": "engineer@works.example", "hours": another_day()})).await, 204);
    plant.set_level(70.0);
    let call = engineer.until("/api/calls", |all| all[0]["held"] == true).await[0].clone();
    assert!(call["how"] == "" && call["next_at"].as_str().unwrap().ends_with("T10:00:00Z"), "{call}");
    let next = havrel_core::time::from_text(call["next_at"].as_str().unwrap()).unwrap();
    let day = 86_400_000_000_000;
    assert!((2 * day..4 * day).contains(&(next - havrel_live::now())), "{call}");
    engineer.until("/api/alarms", |all| all.to_string().contains("Nobody took the call-out “Night” so far")).await;
    engineer.until("/api/journal?kind=call_out", |all| all.to_string().contains("goes on when somebody may be told")).await;
    let (status, told) =
        engineer.post(&format!("/api/calls/{}/take", call["id"].as_str().unwrap()), json!({"comment": ""})).await;
    assert!(status < 300, "{told}");
    engineer.until("/api/calls", |all| all[0]["how"] == "taken" && all[0]["held"] == false).await;
    plant.stop().await;
}

#[actix_web::test]
async fn quiet_hours_never_hold_back_the_highest_priority_and_the_crew_on_shift_is_called() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let called = build(&plant, &engineer, |_, _| json!([{"to": {"kind": "crew"}, "wait_min": 60}])).await;
    let own: Uuid = engineer.get("/api/contacts").await.1[0]["account"].as_str().unwrap().parse().unwrap();
    let crew = Uuid::now_v7();
    let pattern = Uuid::now_v7();
    let edits = json!([
        {"op": "create", "kind": "shift_pattern", "id": pattern, "set": {"name": "Always", "zone": "UTC", "begins": "2026-01-01",
            "shifts": [{"name": "All day", "from": "00:00", "to": "00:00"}], "crews": [{"id": crew, "name": "A", "people": [own]}],
            "rotation": [[crew]]}},
        {"op": "patch", "kind": "place", "id": called.built.place, "set": {"shift_pattern": pattern}},
        {"op": "patch", "kind": "rule", "id": called.built.rule, "set": {"priority": 4}},
    ]);
    let (status, told) = engineer.edit(2, "Shifts", edits).await;
    assert_eq!(status, 200, "{told}");
    let on = engineer.get("/api/shifts/now").await.1;
    assert_eq!((&on[0]["crew"], &on[0]["shift"]), (&json!("A"), &json!("All day")));
    let never = json!({"zone": "UTC", "windows": [{"days": ["monday"], "from": "03:00", "to": "03:01"}]});
    assert_eq!(set_contact(&engineer, own, json!({"mail": "engineer@works.example", "hours": never})).await, 204);
    plant.set_level(70.0);
    engineer.until("/api/calls", |all| all[0]["messages"][0]["sent_at"].as_str().is_some_and(|at| !at.is_empty())).await;
    assert_eq!(called.outside.subjects().len(), 1);
    // A pattern that a place works by cannot just go.
    let gone = json!([{"op": "delete", "kind": "shift_pattern", "id": pattern}]);
    let (status, told) = engineer.edit(3, "Gone", gone).await;
    assert!(status == 409 && told.to_string().contains("EX-1"), "{told}");
    plant.stop().await;
}

#[actix_web::test]
async fn a_mail_server_that_knows_nobody_holds_up_no_one() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let called = build(&plant, &engineer, person_then_hook).await;
    called.outside.refuses.store(true, Ordering::Relaxed);
    plant.set_level(70.0);
    // Refused for good: whoever comes next is told at once, not in an hour.
    let all =
        engineer.until("/api/calls", |all| all[0]["messages"][1]["sent_at"].as_str().is_some_and(|at| !at.is_empty())).await;
    let (first, second) = (&all[0]["messages"][0], &all[0]["messages"][1]);
    assert!(first["answer"].as_str().unwrap().contains("550") && first["next_at"] == "" && first["sent_at"] == "", "{first}");
    assert_eq!(second["whom"], "Gatehouse");
    plant.stop().await;
}

#[actix_web::test]
async fn a_dead_mail_server_is_tried_again_also_after_a_restart_and_a_call_goes_on() {
    let name = crate::plant::fresh_name();
    let plant = Plant::start_on(&name).await;
    let engineer = plant.engineer().await;
    let called = build(&plant, &engineer, |own, hook| {
        json!([{"to": {"kind": "hook", "connection": hook}, "wait_min": 60}, {"to": {"kind": "person", "account": own}, "wait_min": 60}])
    })
    .await;
    let dead = json!([{"op": "patch", "kind": "connection", "id": called.hook, "set": {"settings": {"host": "127.0.0.1", "port": 9, "path": "/calls"}}}]);
    assert_eq!(engineer.edit(2, "Dead", dead).await.0, 200);
    plant.set_level(70.0);
    let before = engineer.until("/api/calls", |all| all[0]["messages"][0]["attempts"].as_u64() >= Some(1)).await[0].clone();
    assert!(before["messages"][0]["answer"].as_str().unwrap().contains("refuses connections"), "{before}");
    assert_ne!(before["messages"][0]["next_at"], "", "it is tried again");
    let back = json!([{"op": "patch", "kind": "connection", "id": called.hook, "set": {"settings": {"host": "127.0.0.1", "port": called.outside.hook, "path": "/calls"}}}]);
    assert_eq!(engineer.edit(3, "Back", back).await.0, 200);
    let cookie = engineer;
    plant.stop().await;

    // What waits is tried at once by a program that begins.
    let plant = Plant::start_on(&name).await;
    let engineer = Client::with_cookie_of(&cookie, &plant.url);
    let all =
        engineer.until("/api/calls", |all| all[0]["messages"][0]["sent_at"].as_str().is_some_and(|at| !at.is_empty())).await;
    assert_eq!(all.as_array().map(Vec::len), Some(1), "the alarm that stands on is called for once");
    assert_eq!((&all[0]["id"], &all[0]["began_at"]), (&before["id"], &before["began_at"]));
    assert_eq!(all[0]["messages"].as_array().map(Vec::len), Some(1), "no step was done twice");
    let call = all[0]["id"].as_str().unwrap();
    assert_eq!(engineer.post(&format!("/api/calls/{call}/take"), json!({})).await.0, 204);
    let (status, told) = engineer.post(&format!("/api/calls/{call}/take"), json!({})).await;
    assert!(status == 409 && told["detail"].as_str().unwrap().contains("took this call already"), "{told}");
    plant.stop().await;
}

#[actix_web::test]
async fn a_test_alarm_says_so_everywhere_and_ends_when_it_is_acknowledged() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let called = build(&plant, &engineer, person_then_hook).await;
    let (status, begun) = engineer.post("/api/calls/test", json!({"plan": called.plan})).await;
    assert!(status == 200 && begun["call"].is_string(), "{begun}");
    let (status, told) = engineer.post("/api/calls/test", json!({"plan": called.plan})).await;
    assert!(status == 422 && told["detail"].as_str().unwrap().contains("goes on already"), "{status} {told}");
    engineer.until("/api/calls", |all| all[0]["messages"][0]["sent_at"].as_str().is_some_and(|at| !at.is_empty())).await;
    let mail = called.outside.post.all()[0].clone();
    assert!(mail.subject.starts_with("TEST: ") && mail.text.starts_with("This is a test"), "{mail:?}");
    assert!(page_of(&called.outside.link()).await.1.contains("This is a test."));
    let list = engineer.get("/api/alarms").await.1;
    let alarm = &list["alarms"][0];
    assert_eq!((&alarm["test"], &alarm["priority"]), (&json!(true), &json!(4)));
    assert!(alarm["text"].as_str().unwrap().starts_with("Test alarm by Plant engineer"), "{alarm}");
    let act = json!({"action": "acknowledge", "rules": [alarm["rule"]]});
    assert_eq!(engineer.post("/api/alarms/act", act).await.1["count"], 1);
    let call = engineer.until("/api/calls", |all| all[0]["how"] == "acknowledged").await[0].clone();
    assert_eq!((&call["test"], called.outside.subjects().len()), (&json!(true), 1));
    // Without a plan it only stands in the list.
    let (status, begun) = engineer.post("/api/calls/test", json!({})).await;
    assert!(status == 200 && begun["call"].is_null(), "{begun}");
    engineer.until("/api/alarms", |list| list["alarms"][0]["test"] == true).await;
    assert_eq!(engineer.get("/api/calls").await.1.as_array().map(Vec::len), Some(1));
    plant.stop().await;
}

#[actix_web::test]
async fn everybody_was_told_and_nobody_came_is_an_alarm_that_calls_nobody() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let called = build(&plant, &engineer, |_, hook| json!([{"to": {"kind": "hook", "connection": hook}, "wait_min": 0}])).await;
    plant.set_level(70.0);
    engineer.until("/api/calls", |all| all[0]["how"] == "unanswered").await;
    let nobody = |list: &Json| {
        let texts =
            list["alarms"].as_array().into_iter().flatten().map(|alarm| alarm["text"].as_str().unwrap_or_default().to_owned());
        texts.filter(|text| text.starts_with("Nobody took the call-out “Night”: Level high")).count()
    };
    let list = engineer.until("/api/alarms", |list| nobody(list) == 1).await;
    assert_eq!(list["alarms"].as_array().map(Vec::len), Some(2));
    assert_eq!(engineer.get("/api/calls").await.1.as_array().map(Vec::len), Some(1), "{:?}", called.outside.subjects());
    plant.stop().await;
}

#[actix_web::test]
async fn plans_name_what_can_tell_somebody_and_keep_it() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let called = build(&plant, &engineer, person_then_hook).await;
    let patch = |set: Json| json!([{"op": "patch", "kind": "call_plan", "id": called.plan, "set": set}]);
    let (status, told) = engineer.edit(2, "Wrong", patch(json!({"mail": called.built.connection}))).await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("mail")), "{told}");
    let steps = json!([{"to": {"kind": "hook", "connection": called.mail}}]);
    let (status, told) = engineer.edit(2, "Wrong", patch(json!({"steps": steps}))).await;
    assert_eq!((status, &told["problems"][0]["field"]), (422, &json!("steps[0].to.connection")), "{told}");
    let gone = json!([{"op": "delete", "kind": "connection", "id": called.hook}]);
    let (status, told) = engineer.edit(2, "Gone", gone).await;
    assert!(status == 409 && told.to_string().contains("call-out plan “Night”"), "{told}");
    plant.stop().await;
}

#[actix_web::test]
async fn a_class_says_who_acknowledges_what_sounds_and_how_long_events_are_kept() {
    let plant = Plant::start().await;
    let engineer = plant.engineer().await;
    let built = plant.build(&engineer).await;
    let class = Uuid::now_v7();
    let notices = json!({"name": "Notices", "acknowledge": false, "sound": false, "keep_days": 30});
    let edits = json!([
        {"op": "create", "kind": "alarm_class", "id": class, "set": notices},
        {"op": "patch", "kind": "rule", "id": built.rule, "set": {"class": class}},
    ]);
    assert_eq!(engineer.edit(1, "Notices", edits).await.0, 200);
    plant.set_level(70.0);
    let list = engineer.until("/api/alarms", |list| list["alarms"][0]["state"] == "acknowledged").await;
    let alarm = &list["alarms"][0];
    assert_eq!(
        (&alarm["class_name"], &alarm["sound"], &alarm["acknowledged_by"]),
        (&json!("Notices"), &json!(false), &json!(""))
    );
    let gone = json!([{"op": "delete", "kind": "alarm_class", "id": class}]);
    let (status, told) = engineer.edit(2, "Gone", gone).await;
    assert!(status == 409 && told.to_string().contains("Level high"), "{told}");
    plant.set_level(20.0);
    engineer.until("/api/alarms", |list| list["alarms"].as_array().is_some_and(Vec::is_empty)).await;
    let events = async || engineer.get(&format!("/api/alarms/events?rule={}", built.rule)).await.1.as_array().map(Vec::len);
    engineer.until(&format!("/api/alarms/events?rule={}", built.rule), |all| all.as_array().map(Vec::len) == Some(2)).await;
    let now = havrel_live::now();
    assert_eq!(plant.live.db.forget_events(&[Uuid::nil()], now, 100).await.unwrap(), 0, "another rule");
    assert_eq!(plant.live.db.forget_events(&[built.rule], now - 3_600_000_000_000, 100).await.unwrap(), 0, "not old enough");
    assert_eq!(plant.live.db.forget_events(&[built.rule], now, 100).await.unwrap(), 2);
    assert_eq!(events().await, Some(0));
    plant.set_level(70.0);
    engineer.until(&format!("/api/alarms/events?rule={}", built.rule), |all| all.as_array().map(Vec::len) == Some(1)).await;
    assert_eq!(plant.live.db.forget_events(&[built.rule], havrel_live::now(), 100).await.unwrap(), 0, "it stands");
    plant.stop().await;
}
