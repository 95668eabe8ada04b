//! A PostgreSQL server of our own: made on first use in a folder, on loopback with a password, as an unprivileged user.
//!
//! The server runs under a small guard process that holds our end of a pipe: when this program ends, however it ends, the
//! pipe closes and the guard stops the server in good order.

use crate::{DbError, backup::Place};
use sqlx::postgres::PgConnectOptions;
use std::{
    fs, io,
    net::TcpListener,
    os::unix::{
        fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt, chown},
        process::CommandExt,
    },
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};
use uuid::Uuid;

/// Stops the server when its standard input closes, and then removes what should not stay.
const GUARD: &str =
    r#""$@" & server=$!; cat >/dev/null; kill -INT $server 2>/dev/null; wait $server; ${HAVREL_REMOVE:+rm -rf "$HAVREL_REMOVE"}"#;
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
    #[error(transparent)]
    Db(#[from] DbError),
}

/// A running server.
#[derive(Debug)]
pub struct Cluster {
    guard: Child,
    port: u16,
    password: String,
}

/// How to run it.
#[derive(Clone, Copy, Debug, Default)]
pub struct Care {
    /// For throw-away clusters: faster, lost when the machine stops, and removed at the end unless the port was given.
    pub careless: bool,
    /// The port to listen on; a free one if not given.
    pub port: Option<u16>,
}

impl Cluster {
    /// Starts the server whose data lies in `folder`, making it first if need be.
    ///
    /// # Errors
    /// With words that say what to do.
    pub fn start(folder: &Path, care: Care) -> Result<Cluster, ClusterError> {
        let bin = binaries().ok_or(ClusterError::NotInstalled)?;
        let owner = server_user()?;
        let file = |what: &Path| {
            let what = what.display().to_string();
            move |e| ClusterError::File(what, e)
        };
        // Folders above keep their usual rights: the server's user must be able to pass.
        folder.parent().map_or(Ok(()), fs::create_dir_all).map_err(file(folder))?;
        if !folder.exists() {
            fs::DirBuilder::new().mode(0o700).create(folder).map_err(file(folder))?;
        }
        give(folder, owner).map_err(file(folder))?;
        let (data, log, secret) = (folder.join("data"), folder.join("server.log"), folder.join("password"));
        if !data.join("PG_VERSION").exists() {
            let mut options = fs::OpenOptions::new();
            let password = Uuid::new_v4().simple().to_string();
            let mut sink = options.write(true).create(true).truncate(true).mode(0o600).open(&secret).map_err(file(&secret))?;
            io::Write::write_all(&mut sink, password.as_bytes()).map_err(file(&secret))?;
            give(&secret, owner).map_err(file(&secret))?;
            let mut make = as_user(bin.join("initdb"), owner);
            make.args(["--username", USER, "--auth", "scram-sha-256", "--encoding", "UTF8", "--no-locale", "--pwfile"]);
            make.arg(&secret).arg("--pgdata").arg(&data).stdin(Stdio::null());
            if care.careless {
                make.arg("--no-sync");
            }
            let made = make.output().map_err(file(&bin))?;
            if !made.status.success() {
                let words = String::from_utf8_lossy(&made.stderr).into_owned();
                return Err(ClusterError::Failed("initdb".into(), words));
            }
        }
        wait_for_former(&data);
        let password = fs::read_to_string(&secret).map_err(file(&secret))?;
        let port = care.port.map_or_else(free_port, Ok).map_err(file(folder))?;
        let log_file = fs::OpenOptions::new().create(true).append(true).open(&log).map_err(file(&log))?;
        give(&log, owner).map_err(file(&log))?;
        let mut server = as_user(PathBuf::from("/bin/sh"), owner);
        server.args(["-c", GUARD, "guard"]).arg(bin.join("postgres")).arg("-D").arg(&data);
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
        if care.careless && care.port.is_none() {
            server.env("HAVREL_REMOVE", &data);
        }
        let errors = log_file.try_clone().map_err(file(&log))?;
        server.stdin(Stdio::piped()).stdout(log_file).stderr(errors).process_group(0);
        let guard = server.spawn().map_err(file(Path::new("/bin/sh")))?;
        let mut cluster = Cluster { guard, port, password };
        cluster.wait_until_ready(&data, &log)?;
        Ok(cluster)
    }

    /// The port it listens on.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// How to reach a database of it.
    pub fn options(&self, database: &str) -> PgConnectOptions {
        PgConnectOptions::new_without_pgpass()
            .host("127.0.0.1")
            .port(self.port)
            .username(USER)
            .password(&self.password)
            .database(database)
    }

    /// The same for a backup.
    pub fn place(&self, database: &str) -> Place {
        place(self.port, self.password.clone(), database)
    }

    /// The same as a URL, for another process.
    pub fn url(&self, database: &str) -> String {
        format!("postgres://{USER}:{}@127.0.0.1:{}/{database}", self.password, self.port)
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

    fn wait_until_ready(&mut self, data: &Path, log: &Path) -> Result<(), ClusterError> {
        let until = Instant::now() + Duration::from_secs(60);
        let pid_file = data.join("postmaster.pid");
        loop {
            // The eighth line of the server's pid file tells its state.
            let state = fs::read_to_string(&pid_file).unwrap_or_default();
            if state.lines().nth(7).is_some_and(|l| l.trim() == "ready") && state.lines().nth(3) == Some(&self.port.to_string()) {
                return Ok(());
            }
            let died = !matches!(self.guard.try_wait(), Ok(None))
                || (state.is_empty() && until < Instant::now() + Duration::from_secs(50));
            if died || Instant::now() > until {
                let text = fs::read_to_string(log).unwrap_or_default();
                let tail: Vec<&str> = text.lines().rev().take(8).collect();
                let tail = tail.into_iter().rev().collect::<Vec<_>>().join("\n");
                return Err(ClusterError::Failed(log.display().to_string(), tail));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        // Closing the pipe is the guard's sign to stop the server; then wait, so that the folder is free afterwards.
        drop(self.guard.stdin.take());
        let _ = self.guard.wait();
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
    Place { host: "127.0.0.1".into(), port, user: USER.into(), password, database: database.into() }
}

/// Whether the server's user can get at a folder: every folder above it must let others pass when we are root.
pub fn reachable(folder: &Path) -> bool {
    let Ok(Some(_)) = server_user() else { return true };
    let Ok(full) = std::path::absolute(folder) else { return false };
    full.ancestors().skip(1).all(|up| fs::metadata(up).map_or(true, |m| m.permissions().mode() & 0o001 != 0))
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

/// Root must not run the server: then it runs as Debian's user for it. Anybody else runs it as themselves.
fn server_user() -> Result<Option<(u32, u32)>, ClusterError> {
    let root = fs::metadata("/proc/self").is_ok_and(|m| m.uid() == 0);
    if !root {
        return Ok(None);
    }
    let users = fs::read_to_string("/etc/passwd").unwrap_or_default();
    let line = users.lines().find(|l| l.starts_with("postgres:")).ok_or(ClusterError::NoUser)?;
    let mut ids = line.split(':').skip(2).map(str::parse);
    match (ids.next(), ids.next()) {
        (Some(Ok(user)), Some(Ok(group))) => Ok(Some((user, group))),
        _ => Err(ClusterError::NoUser),
    }
}

fn as_user(program: PathBuf, owner: Option<(u32, u32)>) -> Command {
    let mut command = Command::new(program);
    command.current_dir("/").env_remove("PGDATA").env("LC_ALL", "C");
    if let Some((user, group)) = owner {
        command.uid(user).gid(group);
    }
    command
}

fn give(path: &Path, owner: Option<(u32, u32)>) -> io::Result<()> {
    owner.map_or(Ok(()), |(user, group)| chown(path, Some(user), Some(group)))
}

fn free_port() -> io::Result<u16> {
    Ok(TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}

/// A server that is still stopping after its program ended is given time to finish.
fn wait_for_former(data: &Path) {
    let until = Instant::now() + Duration::from_secs(20);
    while Instant::now() < until {
        let text = fs::read_to_string(data.join("postmaster.pid")).unwrap_or_default();
        let alive = text
            .lines()
            .next()
            .and_then(|l| l.trim().parse::<u32>().ok())
            .is_some_and(|pid| Path::new(&format!("/proc/{pid}")).exists());
        if !alive {
            return;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
}
