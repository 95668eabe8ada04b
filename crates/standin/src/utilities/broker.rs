//! The broker of the site: Debian's `mosquitto` as a process of its own, with accounts and topic rights, in a folder that goes
//! with it.

use std::{
    fs, io,
    net::{Ipv4Addr, SocketAddr, TcpListener, TcpStream},
    path::Path,
    process::{Child, Command, Stdio},
    thread::sleep,
    time::{Duration, Instant},
};
use tempfile::TempDir;

/// An account, and what it may do, as lines such as `readwrite site/#` or `read site/+/json`.
#[derive(Clone, Debug)]
pub struct Account {
    pub user: &'static str,
    pub password: &'static str,
    pub rights: &'static [&'static str],
}

/// What one listens on beside plain TCP.
#[derive(Clone, Debug, Default)]
pub struct Setup {
    /// Nobody needs an account.
    pub open: bool,
    pub accounts: Vec<Account>,
    /// PEM: certificate and key; a second port is then secured.
    pub tls: Option<(String, String)>,
    /// A third port takes MQTT over WebSocket.
    pub websocket: bool,
    /// More lines for its file.
    pub more: &'static str,
}

/// A broker that runs; it ends when this is dropped.
pub struct Broker {
    child: Child,
    _folder: TempDir,
    pub address: SocketAddr,
    pub secured: Option<SocketAddr>,
    pub websocket: Option<SocketAddr>,
}

/// How long it may take to begin.
const PATIENCE: Duration = Duration::from_secs(10);

fn free() -> io::Result<SocketAddr> {
    TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?.local_addr()
}

impl Broker {
    /// Starts one on free ports of the loopback.
    ///
    /// # Errors
    /// When the program is missing, or does not begin to listen.
    pub fn start(setup: &Setup) -> io::Result<Broker> {
        Broker::start_at(setup, free()?)
    }

    /// Its process, to be stopped and gone on with.
    pub fn process(&self) -> u32 {
        self.child.id()
    }

    /// The same on a port that was in use before.
    ///
    /// # Errors
    /// The same.
    pub fn start_at(setup: &Setup, address: SocketAddr) -> io::Result<Broker> {
        let folder = tempfile::Builder::new().prefix("havrel-broker-").tempdir()?;
        let secured = setup.tls.is_some().then(free).transpose()?;
        let websocket = setup.websocket.then(free).transpose()?;
        let file = folder.path().join("mosquitto.conf");
        fs::write(&file, configuration(setup, folder.path(), address, secured, websocket)?)?;
        let mut command = Command::new(program("mosquitto"));
        command.arg("-c").arg(&file).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let child = command.spawn().map_err(|e| io::Error::new(e.kind(), format!("mosquitto, of Debian's package: {e}")))?;
        let mut broker = Broker { child, _folder: folder, address, secured, websocket };
        let until = Instant::now() + PATIENCE;
        while TcpStream::connect(address).is_err() {
            if let Some(status) = broker.child.try_wait()? {
                return Err(io::Error::other(format!("mosquitto ended with {status}")));
            }
            if Instant::now() > until {
                return Err(io::Error::other("mosquitto does not listen"));
            }
            sleep(Duration::from_millis(20));
        }
        Ok(broker)
    }
}

impl Drop for Broker {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A program of Debian's package; those for administrators are not in everybody's path.
fn program(name: &str) -> String {
    let admin = format!("/usr/sbin/{name}");
    if Path::new(&admin).exists() { admin } else { name.to_owned() }
}

fn configuration(
    setup: &Setup,
    folder: &Path,
    address: SocketAddr,
    secured: Option<SocketAddr>,
    websocket: Option<SocketAddr>,
) -> io::Result<String> {
    let listener = |at: SocketAddr| format!("listener {} {}\n", at.port(), at.ip());
    // It would give up the rights of an administrator, and with them this folder.
    let mut lines = format!("user root\npersistence false\nlog_dest none\n{}\n", setup.more);
    lines += &listener(address);
    if let (Some(at), Some((certificate, key))) = (secured, &setup.tls) {
        let (one, other) = (folder.join("certificate.pem"), folder.join("key.pem"));
        fs::write(&one, certificate)?;
        fs::write(&other, key)?;
        lines += &format!("{}certfile {}\nkeyfile {}\n", listener(at), one.display(), other.display());
    }
    if let Some(at) = websocket {
        lines += &format!("{}protocol websockets\n", listener(at));
    }
    if setup.open {
        return Ok(lines + "allow_anonymous true\n");
    }
    let (passwords, rights) = (folder.join("passwords"), folder.join("rights"));
    let mut told = String::new();
    for Account { user, password, rights } in &setup.accounts {
        let mut command = Command::new(program("mosquitto_passwd"));
        if !passwords.exists() {
            command.arg("-c");
        }
        let status = command.arg("-b").arg(&passwords).args([user, password]).stderr(Stdio::null()).status()?;
        if !status.success() {
            return Err(io::Error::other(format!("mosquitto_passwd ended with {status}")));
        }
        told += &format!("user {user}\n");
        rights.iter().for_each(|right| told += &format!("topic {right}\n"));
    }
    fs::write(&rights, told)?;
    Ok(format!("{lines}allow_anonymous false\npassword_file {}\nacl_file {}\n", passwords.display(), rights.display()))
}
