//! A broker of our own: Debian's broker as a child, with independent clients.

use crate::device::*;
use havrel_core::plant::Connection;
use havrel_link::{
    Command, LinkPlan, LinkState, kind,
    served::{Received, Refusal, Served, Why},
};
use rumqttc::{AsyncClient, Event, MqttOptions, Packet, QoS};
use rustix::process::{Pid, Signal, kill_process};
use serde_json::{Value as Json, json};
use std::{
    net::TcpListener,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    sync::{mpsc, oneshot},
    task::JoinSet,
    time::timeout,
};
use uuid::Uuid;

fn free() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// Accounts as a page gives them: a meter that publishes below its own name, and a host that hears the site.
fn accounts() -> Json {
    json!([
        {"id": Uuid::from_u128(1), "name": "meter-1", "password": {"secret": "kelp and salt"},
            "rights": [{"topics": "site/{account}/#", "may": "publish"}]},
        {"id": Uuid::from_u128(2), "name": "host", "password": {"secret": "salt and kelp"},
            "rights": [{"topics": "site/#", "may": "receive"}, {"topics": "set/host", "may": "both"}]},
    ])
}

fn broker(port: u16, more: Json) -> Connection {
    let mut settings = own(json!({"port": port, "accounts": accounts()}));
    settings.extend(own(more));
    kind("broker").unwrap().hash(&mut settings);
    serde_json::from_value(json!({"name": "c", "kind": "broker", "settings": settings})).unwrap()
}

/// Somebody who is connected, or why not.
struct Guest {
    client: AsyncClient,
    heard: mpsc::Receiver<(String, String)>,
    gone: oneshot::Receiver<()>,
    _task: JoinSet<()>,
}

impl Guest {
    async fn new(port: u16, id: &str, account: &str, password: &str) -> Result<Guest, String> {
        let mut options = MqttOptions::new(id, "127.0.0.1", port);
        options.set_credentials(account, password).set_max_packet_size(1 << 24, 1 << 24).set_clean_session(true);
        let (client, mut polled) = AsyncClient::new(options, 100);
        match timeout(LONG, polled.poll()).await.unwrap() {
            Ok(Event::Incoming(Packet::ConnAck(_))) => {}
            other => return Err(format!("{other:?}")),
        }
        let (tell, heard) = mpsc::channel(1000);
        let (leave, gone) = oneshot::channel();
        let mut task = JoinSet::new();
        task.spawn(async move {
            while let Ok(event) = polled.poll().await {
                if let Event::Incoming(Packet::Publish(came)) = event {
                    tell.send((came.topic, String::from_utf8_lossy(&came.payload).into_owned())).await.unwrap();
                }
            }
            // Whoever waits for it may have gone.
            let _ = leave.send(());
        });
        Ok(Guest { client, heard, gone, _task: task })
    }

    async fn meter(port: u16) -> Guest {
        Guest::new(port, "the meter", "meter-1", "kelp and salt").await.unwrap()
    }

    async fn host(port: u16) -> Guest {
        Guest::new(port, "host 1", "host", "salt and kelp").await.unwrap()
    }

    async fn publish(&self, topic: &str, payload: &str) {
        self.client.publish(topic, QoS::AtLeastOnce, false, payload.as_bytes()).await.unwrap();
    }

    async fn hear(&mut self) -> (String, String) {
        timeout(LONG, self.heard.recv()).await.expect("a message comes").unwrap()
    }
}

impl Running {
    async fn served(&self) -> Served {
        let (reply, answer) = oneshot::channel();
        self.commands.send(Command::Served { reply }).await.unwrap();
        *timeout(LONG, answer).await.expect("an answer comes").unwrap().unwrap()
    }

    /// Until what is served is as wanted.
    async fn serves(&self, wanted: impl Fn(&Served) -> bool) -> Served {
        let until = Instant::now() + LONG;
        loop {
            let served = self.served().await;
            if wanted(&served) {
                return served;
            }
            assert!(Instant::now() < until, "{served:?}");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    }

    async fn refuses(&self, why: Why) -> Refusal {
        let served = self.serves(|served| served.refusals.iter().any(|one| one.why == why)).await;
        served.refusals.into_iter().find(|one| one.why == why).unwrap()
    }

    fn change(&self, connection: Connection) {
        let plan = LinkPlan { connection, ..LinkPlan::clone(&self.plan.borrow()) };
        self.plan.send_replace(Arc::new(plan));
    }
}

#[tokio::test]
async fn devices_connect_with_their_accounts_and_what_is_refused_is_told() {
    let port = free();
    let mut running = run(broker(port, json!({})), Vec::new());
    let health = running.state(LinkState::Running).await;
    assert_eq!(health.learnt, ["Only programs of this machine reach it; its settings open it to a network."]);
    let (meter, mut host) = (Guest::meter(port).await, Guest::host(port).await);
    host.client.subscribe("site/#", QoS::AtMostOnce).await.unwrap();
    host.client.subscribe("plant/#", QoS::AtMostOnce).await.unwrap();
    host.client.subscribe("#", QoS::AtLeastOnce).await.unwrap();
    let served = running.serves(|served| served.clients.iter().any(|one| one.receives.len() == 3)).await;
    let told: Vec<_> =
        served.clients.iter().map(|one| (one.id.as_str(), one.client.account.as_str(), one.client.version)).collect();
    assert_eq!(told, [("host 1", "host", "3.1.1"), ("the meter", "meter-1", "3.1.1")]);
    assert_eq!(served.clients[0].receives, [Received::All, Received::Nothing, Received::Part]);
    assert_eq!((served.by_account["host"], served.addresses[0].port, served.watched), (1, port, true));
    let refused = running.refuses(Why::Receive).await;
    assert_eq!((refused.account.as_str(), refused.client.as_str(), refused.topic.as_str()), ("host", "host 1", "plant/#"));

    meter.publish("site/meter-1/power", "7").await;
    assert_eq!(host.hear().await, ("site/meter-1/power".to_owned(), "7".to_owned()));
    meter.publish("site/meter-2/power", "8").await;
    meter.publish("site/meter-2/power", "8").await;
    let refused = running.serves(|s| s.refusals.iter().any(|one| one.why == Why::Publish && one.count == 2)).await;
    let refused = refused.refusals.iter().find(|one| one.why == Why::Publish).unwrap();
    assert_eq!(
        (refused.account.as_str(), refused.client.as_str(), refused.topic.as_str()),
        ("meter-1", "the meter", "site/meter-2/power")
    );

    for (account, password) in [("meter-1", "salt and kelp"), ("nobody", "kelp and salt"), ("$havrel", "")] {
        assert!(Guest::new(port, "x", account, password).await.is_err(), "{account}");
    }
    let refused = running.refuses(Why::Login).await;
    assert_eq!((refused.from.as_str(), refused.client.as_str()), ("127.0.0.1", ""));
    running.end().await;
}

#[tokio::test]
async fn accounts_change_while_clients_stay_connected() {
    let port = free();
    let mut running = run(broker(port, json!({})), Vec::new());
    running.state(LinkState::Running).await;
    let (meter, mut host) = (Guest::meter(port).await, Guest::host(port).await);
    host.client.subscribe("#", QoS::AtMostOnce).await.unwrap();
    let mut all = accounts();
    all[0]["rights"] = json!([{"topics": "other/#", "may": "publish"}]);
    all[1]["rights"] = json!([{"topics": "other/#", "may": "receive"}]);
    all.as_array_mut().unwrap().push(json!({"id": Uuid::from_u128(3), "name": "late", "password": {"secret": "a new meter"}}));
    running.change(broker(port, json!({"accounts": all})));
    // Whoever comes with the new account shows that the change has arrived.
    let until = Instant::now() + LONG;
    while Guest::new(port, "late", "late", "a new meter").await.is_err() {
        assert!(Instant::now() < until);
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    meter.publish("site/meter-1/power", "7").await;
    meter.publish("other/a", "8").await;
    assert_eq!(host.hear().await.0, "other/a");
    let mut off = all.clone();
    off[0]["enabled"] = json!(false);
    running.change(broker(port, json!({"accounts": off})));
    timeout(LONG, meter.gone).await.expect("an account that is switched off goes").unwrap();
    running.serves(|served| !served.by_account.contains_key("meter-1")).await;
    assert!(host.gone.try_recv().is_err(), "the others stay");
    running.end().await;
}

#[tokio::test]
async fn what_is_retained_outlives_a_broker_that_is_killed_and_one_that_ends() {
    let port = free();
    let mut running = run(broker(port, json!({})), Vec::new());
    running.state(LinkState::Running).await;
    let meter = Guest::meter(port).await;
    meter.client.publish("site/meter-1/name", QoS::AtLeastOnce, true, "boiler").await.unwrap();
    running.serves(|served| served.figures.retained == 1).await;
    // Another port for WebSockets: the broker begins anew, in good order.
    running.change(broker(port, json!({"websocket": "clear", "websocket_port": free()})));
    timeout(LONG, meter.gone).await.expect("it begins anew").unwrap();
    running.serves(|served| served.addresses.len() == 2).await;
    let hears = async || {
        let mut host = Guest::host(port).await;
        host.client.subscribe("site/#", QoS::AtMostOnce).await.unwrap();
        host.hear().await
    };
    assert_eq!(hears().await, ("site/meter-1/name".to_owned(), "boiler".to_owned()));
    let listening = std::fs::read_dir("/proc").unwrap().flatten().find_map(|entry| {
        let process: i32 = entry.file_name().to_str()?.parse().ok()?;
        let line = std::fs::read(entry.path().join("cmdline")).ok()?;
        let told = std::fs::read_to_string(String::from_utf8_lossy(line.split(|b| *b == 0).nth(2)?).into_owned()).ok()?;
        (line.starts_with(b"/usr/sbin/mosquitto") && told.contains(&format!("listener {port} "))).then_some(process)
    });
    kill_process(Pid::from_raw(listening.unwrap()).unwrap(), Signal::KILL).unwrap();
    let health = running.state(LinkState::Trouble).await;
    assert!(health.message.contains("The broker does not run"), "{}", health.message);
    running.state(LinkState::Running).await;
    assert_eq!(hears().await.1, "boiler");
    running.end().await;
    let until = Instant::now() + LONG;
    while TcpListener::bind(("127.0.0.1", port)).is_err() {
        assert!(Instant::now() < until, "the port is given back");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}

#[tokio::test]
async fn an_account_without_a_password_that_opens_keeps_its_clients_out_and_says_so() {
    let port = free();
    let mut all = accounts();
    all[0]["password"] = json!({"sealed": "elsewhere"});
    all[1].as_object_mut().unwrap().remove("password");
    let mut running = run(broker(port, json!({"accounts": all})), Vec::new());
    let health = running.state(LinkState::Running).await;
    assert!(health.learnt.iter().any(|words| words.starts_with("Accounts whose password cannot be opened")));
    for (account, password) in [("meter-1", "elsewhere"), ("meter-1", ""), ("host", "")] {
        assert!(Guest::new(port, "x", account, password).await.is_err());
    }
    running.end().await;
}

#[tokio::test]
async fn a_port_that_is_taken_is_told_and_the_broker_runs_once_it_is_free() {
    let taken = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = taken.local_addr().unwrap().port();
    let wanted = broker(port, json!({}));
    let steps = test(&wanted).await;
    assert_eq!(names(&steps), [("Program", true), ("Address", true), ("Port", false)]);
    assert!(steps[0].answer.starts_with("mosquitto version "), "{}", steps[0].answer);
    assert_eq!(steps[2].answer, format!("Another program uses port {port} of this machine."));
    let mut running = run(wanted.clone(), Vec::new());
    let health = running.state(LinkState::Trouble).await;
    assert_eq!(health.message, steps[2].answer);
    drop(taken);
    running.state(LinkState::Running).await;
    let steps = test(&wanted).await;
    assert_eq!(steps[2].answer, "a broker that Havrel runs has it already");
    let steps = test(&broker(free(), json!({"reach": "address", "address": "192.0.2.7"}))).await;
    assert_eq!(names(&steps), [("Program", true), ("Address", false)]);
    let mut off = wanted.clone();
    off.enabled = false;
    running.change(off);
    running.state(LinkState::Off).await;
    running.end().await;
}

#[tokio::test]
async fn limits_hold_and_are_told() {
    let port = free();
    let mut running = run(broker(port, json!({"clients": 2, "largest": 2000})), Vec::new());
    running.state(LinkState::Running).await;
    let meter = Guest::meter(port).await;
    meter.publish("site/meter-1/big", &"x".repeat(3000)).await;
    timeout(LONG, meter.gone).await.expect("it is left").unwrap();
    let refused = running.refuses(Why::TooLarge).await;
    assert_eq!((refused.client.as_str(), refused.account.as_str()), ("the meter", "meter-1"));
    let two = (Guest::meter(port).await, Guest::host(port).await);
    assert!(Guest::new(port, "third", "host", "salt and kelp").await.is_err());
    running.refuses(Why::Full).await;
    drop(two);
    running.serves(|served| served.by_account.is_empty()).await;
    Guest::host(port).await;
    running.end().await;
}

#[tokio::test]
async fn a_secured_port_shows_a_certificate_for_its_names() {
    let secured = free();
    let more = json!({"transport": "tls", "tls_port": secured, "names": "broker.plant"});
    let mut running = run(broker(free(), more), Vec::new());
    running.state(LinkState::Running).await;
    let served = running.served().await;
    assert!(served.certificate.starts_with("-----BEGIN CERTIFICATE") && served.certificate_until > havrel_link::now());
    let reached = json!({"host": "127.0.0.1", "port": secured, "transport": "tls", "tls": {"trust": served.certificate},
        "user": "host", "password": {"secret": "salt and kelp"}, "test_topic": "set/host"});
    let set = |settings: Json| {
        serde_json::from_value(json!({"name": "c", "kind": "mqtt", "timeout_ms": 2000, "settings": settings})).unwrap()
    };
    let steps = test(&set(reached.clone())).await;
    assert!(steps.iter().all(|step| step.passed), "{steps:?}");
    let mut named = reached.clone();
    named["server_name"] = json!("broker.plant");
    assert!(test(&set(named.clone())).await.iter().all(|step| step.passed));
    named["server_name"] = json!("another.plant");
    assert!(test(&set(named)).await.iter().any(|step| !step.passed && step.answer.contains("another name")));
    let mut pinned = reached;
    pinned["tls"] = json!({"fingerprint": served.fingerprint});
    assert!(test(&set(pinned)).await.iter().all(|step| step.passed));
    running.end().await;
}
