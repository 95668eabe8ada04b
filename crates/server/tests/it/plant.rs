//! A plant for each test: a database of its own, a controller of its own, and a client that is signed in.

use actix_web::{cookie::Cookie, dev::ServerHandle, http::Method};
use havrel_core::access::Scope;
use havrel_db::{
    Db,
    cluster::{Care, Cluster},
};
use havrel_live::Live;
use havrel_server::{app::App, routes::serve as serve_http, sessions::hash};
use havrel_standin::{faults::Which, registers::Works, serve};
use serde_json::{Value as Json, json};
use std::{
    collections::HashMap,
    net::TcpListener,
    sync::{
        Arc, LazyLock, Mutex,
        atomic::{AtomicU32, Ordering},
    },
    time::Duration,
};
use uuid::Uuid;

/// The one-time code for the first account.
pub const CODE: &str = "ABCD-EFGH-JKLM";

pub struct Shared {
    pub cluster: Cluster,
    _folder: tempfile::TempDir,
}

pub static SHARED: LazyLock<Shared> = LazyLock::new(|| {
    let folder = tempfile::Builder::new().prefix("havrel-web-").tempdir().unwrap();
    make_reachable(folder.path());
    let cluster = Cluster::start(&folder.path().join("cluster"), Care { careless: true, port: None }).unwrap();
    Shared { cluster, _folder: folder }
});

/// Temporary folders are closed to others, but the database's user must pass.
pub fn make_reachable(folder: &std::path::Path) {
    use std::os::unix::fs::PermissionsExt;
    std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o755)).unwrap();
}

/// A name for a database nobody else uses.
pub fn fresh_name() -> String {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    format!("plant_{}", NEXT.fetch_add(1, Ordering::Relaxed))
}

pub struct Plant {
    pub live: Arc<Live>,
    pub url: String,
    pub controller: serve::Shared,
    pub controller_port: u16,
    pub spool: tempfile::TempDir,
    /// What accounts see that do not see everything.
    pub scopes: Arc<Mutex<HashMap<Uuid, Scope>>>,
    handle: ServerHandle,
}

impl Plant {
    pub async fn start() -> Plant {
        Plant::start_on(&fresh_name()).await
    }

    /// A plant on the database of this name, which is made if it is missing. A plant that starts again opens it anew, as a new
    /// process does: a connection that a stopped server's thread opened ends with that thread.
    pub async fn start_on(name: &str) -> Plant {
        SHARED.cluster.ensure(name, None).await.unwrap();
        Plant::on(Db::open(SHARED.cluster.options(name)).await.unwrap()).await
    }

    pub async fn on(db: Db) -> Plant {
        Plant::behind(db, Vec::new()).await
    }

    /// A plant that believes the forwarded headers of these proxies.
    pub async fn behind(db: Db, proxies: Vec<std::net::IpAddr>) -> Plant {
        db.set_setup_code(&hash(CODE)).await.unwrap();
        let spool = tempfile::tempdir().unwrap();
        let live = Live::start(db, spool.path()).await.unwrap();
        let controller = serve::Shared::new(Works::new(2, 7), Which::Extraction, 1);
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let controller_port = listener.local_addr().unwrap().port();
        tokio::spawn(serve::serve(listener, controller.clone()));
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let url = format!("http://127.0.0.1:{}", listener.local_addr().unwrap().port());
        let mut app = App::new(live.clone(), Vec::new());
        app.proxies = proxies;
        let scopes = app.scopes.clone();
        let server = serve_http(app, listener).unwrap();
        let handle = server.handle();
        tokio::spawn(server);
        Plant { live, url, controller, controller_port, spool, scopes, handle }
    }

    pub async fn stop(self) {
        self.handle.stop(false).await;
        self.live.stop().await;
    }

    /// The first account, an engineer.
    pub async fn engineer(&self) -> Client {
        let client = Client::new(&self.url);
        let (status, body) =
            client.post("/api/session/first", json!({"name": "Plant engineer", "password": "kelp-and-salt", "code": CODE})).await;
        assert_eq!(status, 200, "{body}");
        client
    }

    /// Another account of a role, signed in.
    pub async fn person(&self, engineer: &Client, role: &str) -> Client {
        let account = json!({"name": role, "password": "kelp-and-salt", "role": role});
        assert_eq!(engineer.post("/api/accounts", account).await.0, 204);
        let client = Client::new(&self.url);
        assert_eq!(client.post("/api/session", json!({"name": role, "password": "kelp-and-salt"})).await.0, 200);
        client
    }

    /// A unit EX-1 with Level (raw tenths, recorded, high limit 60) and a writable temperature setpoint. Their ids and numbers.
    pub async fn build(&self, client: &Client) -> Built {
        let [place, connection, level, setpoint, rule] = [(); 5].map(|()| Uuid::now_v7());
        let tenths = json!({"raw_low": 0.0, "raw_high": 1000.0, "low": 0.0, "high": 100.0});
        let settings = json!({"host": "127.0.0.1", "port": self.controller_port, "base": 0});
        let edits = json!([
            {"op": "create", "kind": "place", "id": place, "set": {"name": "EX-1"}},
            {"op": "create", "kind": "connection", "id": connection,
             "set": {"name": "Extraction", "kind": "modbus", "interval_ms": 100, "timeout_ms": 300, "writing": true, "settings": settings}},
            {"op": "create", "kind": "tag", "id": level,
             "set": {"name": "Level", "place": place, "connection": connection, "point": {"address": "40001", "type": "u16"},
                     "scaling": tenths, "unit": "%", "range_low": 0.0, "range_high": 100.0, "record": true, "record_mode": "each_poll"}},
            {"op": "create", "kind": "tag", "id": setpoint,
             "set": {"name": "Temperature setpoint", "place": place, "connection": connection, "point": {"address": "holding 11", "type": "i16"},
                     "scaling": tenths, "unit": "°C", "writable": true, "range_low": 20.0, "range_high": 95.0}},
            {"op": "create", "kind": "rule", "id": rule, "set": {"tag": level, "kind": "high", "level": 60.0, "priority": 3, "action": "Look"}},
        ]);
        let (status, body) = client.edit(0, "Built EX-1", edits).await;
        assert_eq!(status, 200, "{body}");
        let plant = self.live.plant();
        let no = |id: Uuid| plant.tags[&id].no;
        Built { place, connection, level, level_no: no(level), setpoint, setpoint_no: no(setpoint), rule }
    }

    /// Sets the level in the vessel and what the controller shows of it.
    pub fn set_level(&self, percent: f64) {
        let mut controller = self.controller.lock();
        controller.process.vessels[0].level = percent;
        controller.step(std::time::Instant::now());
    }
}

#[derive(Clone, Copy)]
pub struct Built {
    pub place: Uuid,
    pub connection: Uuid,
    pub level: Uuid,
    pub level_no: u32,
    pub setpoint: Uuid,
    pub setpoint_no: u32,
    pub rule: Uuid,
}

/// A browser, as far as these tests need one.
pub struct Client {
    pub url: String,
    cookie: Mutex<Option<Cookie<'static>>>,
}

impl Client {
    pub fn new(url: &str) -> Client {
        Client { url: url.to_owned(), cookie: Mutex::default() }
    }

    /// Somebody with the cookie of another, at another server.
    pub fn with_cookie_of(other: &Client, url: &str) -> Client {
        Client { url: url.to_owned(), cookie: Mutex::new(other.cookie.lock().unwrap().clone()) }
    }

    pub fn cookie_text(&self) -> String {
        self.cookie.lock().unwrap().as_ref().map(|c| format!("{}={}", c.name(), c.value())).unwrap_or_default()
    }

    pub async fn send(
        &self,
        method: Method,
        path: &str,
        headers: &[(&str, &str)],
        body: Option<Json>,
    ) -> (u16, String, Vec<(String, String)>) {
        let mut request =
            awc::Client::builder().timeout(Duration::from_secs(20)).finish().request(method, format!("{}{path}", self.url));
        for header in headers {
            request = request.insert_header(*header);
        }
        if let Some(cookie) = self.cookie.lock().unwrap().clone() {
            request = request.cookie(cookie);
        }
        let sent = match body {
            Some(body) => request.send_json(&body).await,
            None => request.send().await,
        };
        let mut response = sent.unwrap();
        if let Ok(cookies) = response.cookies()
            && let Some(cookie) = cookies.iter().find(|c| c.name() == "havrel")
        {
            *self.cookie.lock().unwrap() = Some(cookie.clone());
        }
        let head = response.headers().iter().map(|(k, v)| (k.to_string(), v.to_str().unwrap_or_default().to_owned())).collect();
        let body = response.body().limit(32 << 20).await.unwrap();
        (response.status().as_u16(), String::from_utf8_lossy(&body).into_owned(), head)
    }

    pub async fn get(&self, path: &str) -> (u16, Json) {
        let (status, text, _) = self.send(Method::GET, path, &[], None).await;
        (status, serde_json::from_str(&text).unwrap_or(Json::String(text)))
    }

    pub async fn post(&self, path: &str, body: Json) -> (u16, Json) {
        let (status, text, _) = self.send(Method::POST, path, &[], Some(body)).await;
        (status, serde_json::from_str(&text).unwrap_or(Json::String(text)))
    }

    pub async fn edit(&self, seen: i64, why: &str, edits: Json) -> (u16, Json) {
        let body = json!({"why": why, "edits": edits});
        let (status, text, _) = self.send(Method::POST, "/api/edits", &[("if-match", &seen.to_string())], Some(body)).await;
        (status, serde_json::from_str(&text).unwrap_or(Json::String(text)))
    }

    /// Asks again until the answer pleases.
    pub async fn until(&self, path: &str, mut pleases: impl FnMut(&Json) -> bool) -> Json {
        asked_until(async || self.get(path).await.1, &mut pleases).await
    }

    /// Asks the same question again until the answer pleases.
    pub async fn until_told(&self, path: &str, question: &Json, mut pleases: impl FnMut(&Json) -> bool) -> Json {
        asked_until(async || self.post(path, question.clone()).await.1, &mut pleases).await
    }
}

/// Waits ten seconds at most for an answer that pleases.
async fn asked_until(ask: impl AsyncFn() -> Json, pleases: &mut dyn FnMut(&Json) -> bool) -> Json {
    let mut last = Json::Null;
    for _ in 0..400 {
        last = ask().await;
        if pleases(&last) {
            return last;
        }
        tokio::time::sleep(Duration::from_millis(25)).await;
    }
    panic!("what was waited for never came; last {last}");
}
