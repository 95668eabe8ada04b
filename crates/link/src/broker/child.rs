//! Debian’s broker as a child of this program, in a folder of its own.

use super::{
    book::Book,
    files::{self, CONFIGURATION, PASSWORDS, PROCESS, RIGHTS},
    settings::{Account, Settings, Shown},
};
use crate::{Identity, LinkError, certificate::Told, now};
use havrel_child::{Owner, free_port, is_guard, process_in};
use havrel_core::{
    plant::Secret,
    time::{Nanos, SECOND},
};
use rustix::process::{Pid, Signal, kill_process};
use std::{
    collections::HashSet,
    fs::{self, DirBuilder, OpenOptions},
    io::{self, BufRead as _, BufReader, PipeReader, Read as _, Write as _},
    net::{IpAddr, TcpListener},
    os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _},
    path::{Path, PathBuf},
    process::Command,
    sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};
use tokio::{sync::oneshot, time::timeout};
use tokio_rustls::rustls::pki_types::{CertificateDer, pem::PemObject as _};

/// Its program, which stands in this folder, and the user that its package makes.
const PROGRAM: &str = "mosquitto";
const FOLDER: &str = "/usr/sbin";
const USER: &str = "mosquitto";
/// Longest line of its log that is read.
const LONGEST_LINE: u64 = 4096;
/// How long a broker that ran before has to end.
const ENDING: Duration = Duration::from_secs(10);
/// How long the end of this program waits for brokers that are stopping.
const SETTLING: Duration = Duration::from_secs(2);
/// A certificate that Havrel makes is renewed so long before it ends.
const RENEWED: Nanos = 30 * 86_400 * SECOND;

/// The folder of every broker, in the data folder.
const BROKERS: &str = "brokers";

/// Where a broker lives, and as whom it runs.
#[derive(Clone, Debug)]
pub struct Home {
    pub folder: PathBuf,
    owner: Owner,
    program: PathBuf,
}

fn broken(what: &Path) -> impl FnOnce(io::Error) -> LinkError + use<> {
    let what = what.display().to_string();
    move |error| LinkError::NotStarted(format!("{what} cannot be used: {error}"))
}

impl Home {
    /// The home of a broker in a data folder; nothing is written.
    ///
    /// # Errors
    /// When the program is missing, or its user cannot get at the folder.
    pub fn of(data: &Path, name: &str) -> Result<Home, LinkError> {
        let program = Path::new(FOLDER).join(PROGRAM);
        let owner = Owner::of(USER).filter(|_| program.exists()).ok_or(LinkError::NoBroker)?;
        let folder = data.join(BROKERS).join(name);
        let folder = std::path::absolute(&folder).map_err(broken(&folder))?;
        if !owner.reaches(&folder) {
            let words = format!("the user “{USER}” cannot get at {}", folder.display());
            return Err(LinkError::NotStarted(words));
        }
        Ok(Home { folder, owner, program })
    }

    /// Which version it is.
    pub fn version(&self) -> Result<String, LinkError> {
        let said = Command::new(&self.program).arg("-h").output().map_err(broken(&self.program))?;
        let text = String::from_utf8_lossy(&said.stdout).into_owned();
        Ok(text.lines().next().unwrap_or_default().to_owned())
    }

    fn put(&self, name: &str, text: &str) -> Result<(), LinkError> {
        let (path, beside) = (self.folder.join(name), self.folder.join(format!("{name}.new")));
        // Whole or not at all, and for nobody else.
        let write = || {
            match fs::remove_file(&beside) {
                Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
                _ => {}
            }
            // The folder is the broker's own, and nothing that it might lay there is followed.
            let mut file = OpenOptions::new().create_new(true).write(true).mode(0o600).open(&beside)?;
            file.write_all(text.as_bytes())?;
            self.owner.give_open(&file)?;
            fs::rename(&beside, &path)
        };
        write().map_err(broken(&path))
    }

    fn put_accounts(&self, accounts: &[Account], ours: &str) -> Result<(), LinkError> {
        self.put(PASSWORDS, &files::passwords(accounts, ours))?;
        self.put(RIGHTS, &files::rights(accounts))
    }

    /// The certificate that it shows; one of our own is made where there is none, where a name is missing in it, and before it ends.
    fn put_certificate(&self, settings: &Settings) -> Result<(), LinkError> {
        let (certificate, private) = files::certificate(settings);
        if settings.identity == Shown::Given {
            let Some(Secret::Plain(key)) = &settings.key else { return Err(LinkError::NoSecret("private key".into())) };
            self.put(certificate, &settings.certificate)?;
            return self.put(private, key);
        }
        let told = self.certificate(settings).and_then(|pem| told(&pem));
        let fits = told.is_some_and(|told| {
            told.until - now() > RENEWED && settings.names().all(|name| told.hosts.iter().any(|host| host == name))
        });
        if fits && self.folder.join(private).exists() {
            return Ok(());
        }
        let mut hosts: Vec<String> = settings.names().map(str::to_owned).collect();
        hosts.extend([host_name(), "localhost".into(), "127.0.0.1".into()]);
        hosts.extend(addresses().iter().map(ToString::to_string));
        let mut known = HashSet::new();
        hosts.retain(|host| !host.is_empty() && known.insert(host.clone()));
        let made = Identity::make(&hosts, now()).map_err(LinkError::NotStarted)?;
        self.put(private, &made.key)?;
        self.put(certificate, &made.pem())
    }

    /// The certificate that it shows, as PEM.
    pub fn certificate(&self, settings: &Settings) -> Option<String> {
        fs::read_to_string(self.folder.join(files::certificate(settings).0)).ok()
    }

    fn running(&self) -> Option<(u32, u32)> {
        process_in(&self.folder.join(PROCESS), PROGRAM)
    }

    /// Sees to it that no broker runs in the folder any more: one that is still stopping is given time, one that lost its guard is
    /// ended, and one that stands still is killed.
    fn end_former(&self) -> Result<(), LinkError> {
        let began = Instant::now();
        while let Some((process, parent)) = self.running() {
            if began.elapsed() > ENDING / 2 {
                signal(process, Signal::KILL);
            } else if !is_guard(parent) {
                signal(process, Signal::TERM);
            }
            if began.elapsed() > ENDING {
                return Err(LinkError::NotStarted(format!("another one runs in {} as process {process}", self.folder.display())));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        Ok(())
    }
}

/// What a certificate in PEM says, of its first part.
pub fn told(pem: &str) -> Option<Told> {
    Told::of(&CertificateDer::from_pem_slice(pem.as_bytes()).ok()?)
}

/// Whether a broker that runs in this data folder listens on a port.
pub fn listens(data: &Path, port: u16) -> bool {
    let homes = fs::read_dir(data.join(BROKERS)).into_iter().flatten().flatten();
    homes.map(|home| home.path()).any(|home| {
        let told = fs::read_to_string(home.join(CONFIGURATION)).unwrap_or_default();
        let named =
            told.lines().any(|line| line.strip_prefix("listener ").and_then(|l| l.split(' ').next()) == Some(&port.to_string()));
        named && process_in(&home.join(PROCESS), PROGRAM).is_some()
    })
}

/// Tries whether a port can be listened on.
pub fn try_port(address: Option<IpAddr>, port: u16) -> Result<(), LinkError> {
    let at = address.unwrap_or(IpAddr::from([0, 0, 0, 0]));
    TcpListener::bind((at, port)).map(drop).map_err(|error| match error.kind() {
        io::ErrorKind::AddrInUse => LinkError::PortTaken(port),
        io::ErrorKind::AddrNotAvailable => LinkError::NoSuchNetwork(at.to_string()),
        _ => LinkError::NotStarted(format!("port {port}: {error}")),
    })
}

/// The name of this machine.
pub fn host_name() -> String {
    gethostname::gethostname().to_string_lossy().into_owned()
}

/// The addresses of this machine in its networks.
pub fn addresses() -> Vec<IpAddr> {
    let all = if_addrs::get_if_addrs().unwrap_or_default();
    let mut all: Vec<IpAddr> = all.iter().filter(|one| !one.is_loopback() && !one.is_link_local()).map(|one| one.ip()).collect();
    all.sort_unstable();
    all.dedup();
    all
}

fn signal(process: u32, signal: Signal) {
    // One that has ended meanwhile needs none.
    if let Some(process) = i32::try_from(process).ok().and_then(Pid::from_raw) {
        let _ = kill_process(process, signal);
    }
}

/// A book that is shared with whoever looks.
pub fn open(book: &Mutex<Book>) -> MutexGuard<'_, Book> {
    book.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A broker that runs. It stops in good order when this is dropped, and may take a moment for that.
pub struct Child {
    home: Home,
    /// Until it is dropped.
    guard: Option<std::process::Child>,
    /// Comes when all of its log is read.
    log: Option<oneshot::Receiver<()>>,
    /// Its port of the loopback that is ours, and our password.
    pub port: u16,
    pub password: String,
}

impl Child {
    /// Starts it. It takes a while until it listens.
    ///
    /// # Errors
    /// In words, when it cannot be.
    pub fn start(home: &Home, settings: &Settings, watched: bool, book: Arc<Mutex<Book>>) -> Result<Child, LinkError> {
        // The folder above must let the broker's user pass.
        home.folder.parent().map_or(Ok(()), fs::create_dir_all).map_err(broken(&home.folder))?;
        if !home.folder.exists() {
            DirBuilder::new().mode(0o700).create(&home.folder).map_err(broken(&home.folder))?;
        }
        home.owner.give(&home.folder).map_err(broken(&home.folder))?;
        home.end_former()?;
        for listener in settings.listeners() {
            try_port(settings.bound(), listener.port)?;
        }
        if settings.secured() {
            home.put_certificate(settings)?;
        }
        let port = free_port().map_err(broken(&home.folder))?;
        let password = uuid::Uuid::new_v4().simple().to_string();
        home.put_accounts(&settings.accounts, &password)?;
        home.put(CONFIGURATION, &files::configuration(settings, &home.folder, port, watched))?;
        open(&book).begin();
        let (reader, writer) = io::pipe().map_err(broken(&home.folder))?;
        let mut command = home.owner.guarded(&home.program, None);
        command.arg("-c").arg(home.folder.join(CONFIGURATION));
        command.stdout(writer.try_clone().map_err(broken(&home.folder))?).stderr(writer);
        let guard = command.spawn().map_err(broken(&home.program))?;
        let (done, log) = oneshot::channel();
        let child = Child { home: home.clone(), guard: Some(guard), log: Some(log), port, password };
        std::thread::Builder::new()
            .name("broker log".into())
            .spawn(move || {
                read(reader, &book);
                // Whoever started it may have gone.
                let _ = done.send(());
            })
            .map_err(broken(&home.folder))?;
        Ok(child)
    }

    /// Its status, once it has ended by itself.
    pub fn ended(&mut self) -> Option<String> {
        self.guard.as_mut()?.try_wait().ok().flatten().map(|status| status.to_string())
    }

    /// Waits until what it said before it ended is in the book.
    pub async fn said_all(&mut self) {
        if let Some(log) = self.log.take() {
            // Something else may still hold its way out.
            let _ = timeout(SETTLING, log).await;
        }
    }

    /// Lets no more clients in than so many beside those that are there. Its own limit grows with each client that leaves, in
    /// version 2.0.11, so that the system bounds its open sockets; it then turns away those beyond at once.
    ///
    /// # Errors
    /// When the system does not allow it.
    pub fn limit(&self, clients: u32) -> io::Result<()> {
        let (process, _) = self.home.running().ok_or(io::ErrorKind::NotFound)?;
        let open = fs::read_dir(format!("/proc/{process}/fd"))?;
        let used: HashSet<u64> = open.flatten().filter_map(|one| one.file_name().to_str()?.parse().ok()).collect();
        // One more than there are clients: whoever comes is looked up in a file of the system.
        let most = (0..).filter(|number| !used.contains(number)).nth(clients as usize + 1).unwrap_or(u64::MAX);
        // As its own user, who may do so without further rights.
        let mut command = self.home.owner.command("/usr/bin/prlimit");
        command.arg("--pid").arg(process.to_string()).arg(format!("--nofile={most}:{most}"));
        let done = command.output()?;
        if done.status.success() {
            Ok(())
        } else {
            Err(io::Error::other(String::from_utf8_lossy(&done.stderr).trim().to_owned()))
        }
    }

    /// Tells it of other accounts, or whether to tell each message; clients stay connected.
    ///
    /// # Errors
    /// When a file cannot be written.
    pub fn tell(&self, settings: &Settings, watched: bool) -> Result<(), LinkError> {
        self.home.put_accounts(&settings.accounts, &self.password)?;
        self.home.put(CONFIGURATION, &files::configuration(settings, &self.home.folder, self.port, watched))?;
        if let Some((process, _)) = self.home.running() {
            signal(process, Signal::HUP);
        }
        Ok(())
    }
}

impl Drop for Child {
    fn drop(&mut self) {
        let Some(mut guard) = self.guard.take() else { return };
        // The guard's sign to stop it.
        drop(guard.stdin.take());
        // It writes down what it keeps, and is waited for apart, so that nobody is held up and no dead process stays.
        *ending() += 1;
        let waiting = move || {
            // However it ended: it runs no more.
            let _ = guard.wait();
            *ending() -= 1;
            ENDED.notify_all();
        };
        if std::thread::Builder::new().name("broker end".into()).spawn(waiting).is_err() {
            // Without a thread it ends all the same.
            *ending() -= 1;
        }
    }
}

/// How many brokers are stopping, and who waits for them.
static ENDING_NOW: Mutex<usize> = Mutex::new(0);
static ENDED: Condvar = Condvar::new();

fn ending() -> MutexGuard<'static, usize> {
    ENDING_NOW.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Waits until every broker that is stopping has written down what it keeps, for two seconds at most.
pub fn settle() {
    let _ = ENDED.wait_timeout_while(ending(), SETTLING, |count| *count > 0);
}

/// Takes in the log until the broker has ended.
fn read(reader: PipeReader, book: &Mutex<Book>) {
    let mut reader = BufReader::with_capacity(1 << 16, reader);
    let mut line = Vec::new();
    loop {
        line.clear();
        match reader.by_ref().take(LONGEST_LINE).read_until(b'\n', &mut line) {
            Ok(0) | Err(_) => return,
            Ok(_) => open(book).line(String::from_utf8_lossy(&line).trim_end_matches(['\n', '\r']), now()),
        }
    }
}
