//! A PostgreSQL server of our own: made on first use in a folder, on loopback with a password, as an unprivileged user, under a
//! guard that stops it when this program ends. When the server ends by itself, [`Cluster::watch`] starts it again.

use crate::{DbError, place::Place};
use havrel_child::{Owner, free_port, is_guard, process_in, tail};
use sqlx::postgres::PgConnectOptions;
use std::{
    fs, io,
    os::unix::fs::{DirBuilderExt, OpenOptionsExt},
    path::{Path, PathBuf},
    process::{Child, Stdio},
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    thread::JoinHandle,
    time::{Duration, Instant},
};
use uuid::Uuid;

const USER: &str = "havrel";

/// What went wrong while starting, in words that say what to do.
#[derive(Debug, thiserror::Error)]
pub enum ClusterError {
    #[error("No PostgreSQL server was found. Install it: apt-get install postgresql")]
    NotInstalled,
    #[error("As root, PostgreSQL runs as the user “postgres”, but there is none. Install it: apt-get install postgresql")]
    NoUser,
    #[error("{0}: {1}")]
    File(String, io::Error),
    #[error("PostgreSQL did not start; its log {0} ends with:\n{1}")]
    Failed(String, String),
    #[error("a PostgreSQL server runs on {0} already, as process {1}; end the program that uses it")]
    InUse(String, u32),
    #[error(transparent)]
    Db(#[from] DbError),
}

/// A running server.
#[derive(Debug)]
pub struct Cluster {
    server: Arc<Server>,
    watcher: Option<JoinHandle<()>>,
}

/// How to run it.
#[derive(Clone, Copy, Debug, Default)]
pub struct Care {
    /// For throw-away clusters: faster, lost when the machine stops, and removed at the end unless the port was given.
    pub careless: bool,
    /// The port to listen on; a free one if not given.
    pub port: Option<u16>,
}

/// What happened to a server that is watched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ServerEvent {
    /// It ended by itself, with this status.
    Ended(String),
    /// It could not be started again; it is tried anew after so long.
    Failed(String, Duration),
    /// It runs again.
    Running,
}

/// All it takes to start it, again and again.
#[derive(Debug)]
struct Server {
    bin: PathBuf,
    owner: Owner,
    data: PathBuf,
    log: PathBuf,
    port: u16,
    password: String,
    care: Care,
    guard: Mutex<Child>,
    stopping: AtomicBool,
}

/// How often a watched server is looked at.
const LOOK: Duration = Duration::from_millis(200);
/// The pause before it is started again; doubled with each failure up to the longest.
const PAUSE: Duration = Duration::from_millis(500);
const LONGEST_PAUSE: Duration = Duration::from_secs(30);

impl Cluster {
    /// Starts the server whose data lies in `folder`, making it first if need be.
    ///
    /// # Errors
    /// With words that say what to do.
    pub fn start(folder: &Path, care: Care) -> Result<Cluster, ClusterError> {
        let bin = binaries().ok_or(ClusterError::NotInstalled)?;
        let owner = server_user()?;
        // Folders above keep their usual rights: the server's user must be able to pass.
        folder.parent().map_or(Ok(()), fs::create_dir_all).map_err(file(folder))?;
        if !folder.exists() {
            fs::DirBuilder::new().mode(0o700).create(folder).map_err(file(folder))?;
        }
        owner.give(folder).map_err(file(folder))?;
        let (data, log, secret) = (folder.join("data"), folder.join("server.log"), folder.join("password"));
        if !data.join("PG_VERSION").exists() {
            make(&bin, owner, &data, &secret, care)?;
        }
        end_former(&bin, owner, &data)?;
        let password = fs::read_to_string(&secret).map_err(file(&secret))?;
        let port = care.port.map_or_else(free_port, Ok).map_err(file(folder))?;
        let guard = spawn(&bin, owner, &data, &log, port, care)?;
        let stopping = AtomicBool::new(false);
        let server = Server { bin, owner, data, log, port, password, care, guard: Mutex::new(guard), stopping };
        let cluster = Cluster { server: Arc::new(server), watcher: None };
        cluster.server.wait_until_ready()?;
        Ok(cluster)
    }

    /// Starts the server again whenever it ends by itself, and tells so.
    pub fn watch(&mut self, told: impl Fn(ServerEvent) + Send + 'static) {
        let server = self.server.clone();
        self.watcher = Some(std::thread::spawn(move || server.watch(told)));
    }

    /// The port it listens on.
    pub fn port(&self) -> u16 {
        self.server.port
    }

    /// How to reach a database of it.
    pub fn options(&self, database: &str) -> PgConnectOptions {
        PgConnectOptions::new_without_pgpass()
            .host("127.0.0.1")
            .port(self.server.port)
            .username(USER)
            .password(&self.server.password)
            .database(database)
    }

    /// The same for a backup.
    pub fn place(&self, database: &str) -> Place {
        place(self.server.port, self.server.password.clone(), database)
    }

    /// The same as a URL, for another process.
    pub fn url(&self, database: &str) -> String {
        format!("postgres://{USER}:{}@127.0.0.1:{}/{database}", self.server.password, self.server.port)
    }

    /// Makes a database unless it is there, optionally as a copy of another.
    ///
    /// # Errors
    /// When the server does not answer or refuses.
    pub async fn ensure(&self, database: &str, template: Option<&str>) -> Result<(), DbError> {
        use sqlx::{AssertSqlSafe, Connection};
        let mut admin = sqlx::PgConnection::connect_with(&self.options("postgres")).await?;
        let there: Option<i32> =
            sqlx::query_scalar("select 1 from pg_database where datname = $1").bind(database).fetch_optional(&mut admin).await?;
        if there.is_none() {
            let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
            let from = template.map(|t| format!(" template {}", quoted(t))).unwrap_or_default();
            sqlx::query(AssertSqlSafe(format!("create database {}{from}", quoted(database)))).execute(&mut admin).await?;
        }
        Ok(())
    }
}

impl Server {
    fn guard(&self) -> MutexGuard<'_, Child> {
        self.guard.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn wait_until_ready(&self) -> Result<(), ClusterError> {
        let began = Instant::now();
        let pid_file = self.data.join("postmaster.pid");
        loop {
            // The eighth line of the server's pid file tells its state.
            let state = fs::read_to_string(&pid_file).unwrap_or_default();
            let ready = state.lines().nth(7).is_some_and(|l| l.trim() == "ready");
            // What a server that was killed left in the file tells nothing of this one.
            let ours = running_process(&self.data).is_some_and(|(_, parent)| parent == self.guard().id());
            if ready && ours && state.lines().nth(3) == Some(&self.port.to_string()) {
                return Ok(());
            }
            let died = !matches!(self.guard().try_wait(), Ok(None)) || (state.is_empty() && began.elapsed() > NO_FILE);
            if died || began.elapsed() > READY || self.stopping.load(Ordering::Relaxed) {
                return Err(ClusterError::Failed(self.log.display().to_string(), tail(&self.log)));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    fn watch(&self, told: impl Fn(ServerEvent)) {
        let stopping = || self.stopping.load(Ordering::Relaxed);
        let mut pause = PAUSE;
        while !stopping() {
            std::thread::sleep(LOOK);
            let ended = self.guard().try_wait().ok().flatten();
            let Some(status) = ended.filter(|_| !stopping()) else { continue };
            told(ServerEvent::Ended(status.to_string()));
            loop {
                let until = Instant::now() + pause;
                while Instant::now() < until && !stopping() {
                    std::thread::sleep(LOOK.min(pause));
                }
                if stopping() {
                    return;
                }
                match self.start_again() {
                    Ok(()) => {
                        told(ServerEvent::Running);
                        pause = PAUSE;
                        break;
                    }
                    Err(error) => {
                        pause = (pause * 2).min(LONGEST_PAUSE);
                        told(ServerEvent::Failed(error.to_string(), pause));
                    }
                }
            }
        }
    }

    fn start_again(&self) -> Result<(), ClusterError> {
        end_former(&self.bin, self.owner, &self.data)?;
        let guard = spawn(&self.bin, self.owner, &self.data, &self.log, self.port, self.care)?;
        let mut before = std::mem::replace(&mut *self.guard(), guard);
        drop(before.stdin.take());
        let _ = before.wait();
        let ready = self.wait_until_ready();
        if ready.is_err() {
            // It must not come up while nobody looks.
            let mut guard = self.guard();
            drop(guard.stdin.take());
            let _ = guard.wait();
        }
        ready
    }
}

/// How long a server may take until it answers, recovery after a crash included.
const READY: Duration = Duration::from_secs(120);
/// How long it may take until it says anything at all.
const NO_FILE: Duration = Duration::from_secs(10);

fn file(what: &Path) -> impl FnOnce(io::Error) -> ClusterError + use<> {
    let what = what.display().to_string();
    move |e| ClusterError::File(what, e)
}

/// Makes the server's data.
fn make(bin: &Path, owner: Owner, data: &Path, secret: &Path, care: Care) -> Result<(), ClusterError> {
    let mut options = fs::OpenOptions::new();
    let password = Uuid::new_v4().simple().to_string();
    let mut sink = options.write(true).create(true).truncate(true).mode(0o600).open(secret).map_err(file(secret))?;
    io::Write::write_all(&mut sink, password.as_bytes()).map_err(file(secret))?;
    owner.give(secret).map_err(file(secret))?;
    let mut make = owner.command(bin.join("initdb"));
    make.args(["--username", USER, "--auth", "scram-sha-256", "--encoding", "UTF8", "--no-locale", "--pwfile"]);
    make.arg(secret).arg("--pgdata").arg(data).stdin(Stdio::null());
    if care.careless {
        make.arg("--no-sync");
    }
    let made = make.output().map_err(file(bin))?;
    if !made.status.success() {
        let words = String::from_utf8_lossy(&made.stderr).into_owned();
        return Err(ClusterError::Failed("initdb".into(), words));
    }
    Ok(())
}

/// Starts the server under its guard.
fn spawn(bin: &Path, owner: Owner, data: &Path, log: &Path, port: u16, care: Care) -> Result<Child, ClusterError> {
    let log_file = fs::OpenOptions::new().create(true).append(true).mode(0o600).open(log).map_err(file(log))?;
    owner.give(log).map_err(file(log))?;
    let remove = (care.careless && care.port.is_none()).then_some(data);
    let mut server = owner.guarded(&bin.join("postgres"), remove);
    server.env_remove("PGDATA").arg("-D").arg(data);
    let mut set = |setting: String| {
        server.arg("-c").arg(setting);
    };
    set(format!("port={port}"));
    set("listen_addresses=127.0.0.1".into());
    set("unix_socket_directories=".into());
    set("max_connections=60".into());
    if care.careless {
        set("fsync=off".into());
        set("full_page_writes=off".into());
    }
    let errors = log_file.try_clone().map_err(file(log))?;
    server.stdout(log_file).stderr(errors);
    server.spawn().map_err(file(Path::new("/bin/sh")))
}

impl Drop for Cluster {
    fn drop(&mut self) {
        self.server.stopping.store(true, Ordering::Relaxed);
        if let Some(watcher) = self.watcher.take() {
            let _ = watcher.join();
        }
        // Closing the pipe is the guard's sign to stop the server; then wait, so that the folder is free afterwards.
        let mut guard = self.server.guard();
        drop(guard.stdin.take());
        let _ = guard.wait();
    }
}

/// A database of the server that another program runs on the data in `folder`, if one does.
pub fn running(folder: &Path, database: &str) -> Option<Place> {
    let state = fs::read_to_string(folder.join("data/postmaster.pid")).ok()?;
    let lines: Vec<&str> = state.lines().collect();
    let (process, port) = (lines.first()?.trim().parse::<u32>().ok()?, lines.get(3)?.trim().parse().ok()?);
    if !Path::new(&format!("/proc/{process}")).exists() {
        return None;
    }
    Some(place(port, fs::read_to_string(folder.join("password")).ok()?, database))
}

fn place(port: u16, password: String, database: &str) -> Place {
    Place { host: "127.0.0.1".into(), port, user: USER.into(), password, database: database.into(), settings: Vec::new() }
}

/// Whether the server's user can get at a folder.
pub fn reachable(folder: &Path) -> bool {
    server_user().map_or(true, |owner| owner.reaches(folder))
}

/// The folder of the newest installed server.
pub(crate) fn binaries() -> Option<PathBuf> {
    if let Some(set) = std::env::var_os("HAVREL_PG_BIN") {
        return Some(PathBuf::from(set)).filter(|p| p.join("postgres").exists());
    }
    let mut found: Vec<(u32, PathBuf)> = fs::read_dir("/usr/lib/postgresql")
        .ok()?
        .flatten()
        .filter_map(|e| Some((e.file_name().to_str()?.parse().ok()?, e.path().join("bin"))))
        .filter(|(_, bin)| bin.join("postgres").exists() && bin.join("initdb").exists())
        .collect();
    found.sort();
    found.pop().map(|(_, bin)| bin)
}

/// As whom the server runs.
fn server_user() -> Result<Owner, ClusterError> {
    Owner::of("postgres").ok_or(ClusterError::NoUser)
}

/// The process that runs on some data, and its parent.
fn running_process(data: &Path) -> Option<(u32, u32)> {
    process_in(&data.join("postmaster.pid"), "postgres")
}

/// Sees to it that no server runs on the data any more: one that is still stopping after its program ended is given time, and
/// one that lost its guard, because somebody killed that too, is ended.
fn end_former(bin: &Path, owner: Owner, data: &Path) -> Result<(), ClusterError> {
    let until = Instant::now() + Duration::from_secs(20);
    while let Some((process, parent)) = running_process(data) {
        let guarded = is_guard(parent);
        if !guarded || Instant::now() > until {
            if guarded {
                return Err(ClusterError::InUse(data.display().to_string(), process));
            }
            for (mode, seconds) in [("fast", "30"), ("immediate", "30")] {
                let mut stop = owner.command(bin.join("pg_ctl"));
                stop.arg("stop").arg("-D").arg(data).args(["-m", mode, "-t", seconds, "-s"]).stdin(Stdio::null());
                if stop.output().map_err(file(bin))?.status.success() {
                    break;
                }
            }
            if running_process(data).is_some_and(|(still, _)| still == process) {
                return Err(ClusterError::InUse(data.display().to_string(), process));
            }
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    Ok(())
}
