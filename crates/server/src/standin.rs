//! The simulated plant as a program beside ours: starting it, giving it orders, asking it for its configuration and a past.

use havrel_core::frame::{Frame, MAX_BYTES};
use serde_json::Value as Json;
use std::{
    error::Error,
    io::{self, BufRead, BufReader},
    net::{Ipv4Addr, SocketAddr},
    path::PathBuf,
    process::{Child, Command, Stdio},
    time::Duration,
};
use tokio::{
    io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt},
    net::TcpStream,
};

/// What went wrong, in words.
pub type Failure = Box<dyn Error + Send + Sync>;

fn program() -> io::Result<PathBuf> {
    Ok(std::env::current_exe()?.with_file_name("havrel-standin"))
}

/// The running simulation, a process of its own that ends with us.
pub struct Standin {
    child: Child,
    /// Hours for which its process had been running when it started.
    pub past: f64,
    /// Name and port of each controller and server.
    pub controllers: Vec<(String, u16)>,
    pub control: SocketAddr,
}

/// The first of the ports that are tried, and how many there are.
const PORT: u16 = 5020;
const PORTS: u16 = 8;

/// The connection to the service of weather and tariff.
pub const WEATHER: &str = "Weather and tariff";
/// The connection to the broker of the utilities.
pub const UTILITIES: &str = "Utilities";
/// The connection to the mail server.
pub const MAIL: &str = "Works mail";
/// The connection to the program that is told of alarms; it shows what it and the mail server received.
pub const HOOK: &str = "Gatehouse screen";
/// The connection to the folder in which reports are put.
pub const SHARE: &str = "Reports share";
/// The connection to the remote station, which speaks through the same broker.
pub const EFFLUENT: &str = "Effluent";

impl Standin {
    /// Starts it on the first free ports.
    ///
    /// # Errors
    /// When the program is missing or does not start.
    pub fn start(speed: f64, past: f64) -> Result<Standin, Failure> {
        let program = program()?;
        let mut last = String::new();
        for first in (0..20).map(|n| PORT + n * PORTS) {
            let mut command = Command::new(&program);
            command.args(["serve", "--until-input-ends", "--speed", &speed.to_string(), "--past", &past.to_string()]);
            let flags = ["--extraction", "--wash", "--control", "--dryline", "--utilities", "--weather", "--mail", "--hook"];
            for (flag, port) in flags.into_iter().zip(first..) {
                command.args([flag, &format!("127.0.0.1:{port}")]);
            }
            command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
            let mut child = command.spawn().map_err(|e| format!("{}: {e}", program.display()))?;
            let mut line = String::new();
            if let Some(out) = child.stdout.take() {
                BufReader::new(out).read_line(&mut line)?;
            }
            if line.starts_with("listening") {
                let names = [("Extraction", 0), ("Wash", 1), ("Dryline", 3), (UTILITIES, 4), (WEATHER, 5), (MAIL, 6), (HOOK, 7)];
                let controllers = names.map(|(name, n)| (name.to_owned(), first + n)).into();
                let control = SocketAddr::from((Ipv4Addr::LOCALHOST, first + 2));
                return Ok(Standin { child, past, controllers, control });
            }
            last = child.wait_with_output().map(|o| String::from_utf8_lossy(&o.stderr).into_owned())?;
        }
        Err(format!("the simulated plant did not start: {last}").into())
    }
}

impl Drop for Standin {
    fn drop(&mut self) {
        // The end of its input is its sign to end.
        drop(self.child.stdin.take());
        let _ = self.child.wait();
    }
}

/// The configuration of the demo, as a file that Havrel imports.
///
/// # Errors
/// When the program is missing.
pub async fn configuration() -> Result<Vec<u8>, Failure> {
    Ok(tokio::process::Command::new(program()?).arg("plant").output().await?.stdout)
}

/// Gives an order to the simulated plant; its answer as JSON.
///
/// # Errors
/// When it does not answer within two seconds.
pub async fn order(at: SocketAddr, order: &Json) -> io::Result<Json> {
    let talk = async {
        let mut stream = TcpStream::connect(at).await?;
        stream.write_all(format!("{order}\n").as_bytes()).await?;
        let mut answer = String::new();
        tokio::io::BufReader::new(stream).take(1 << 20).read_line(&mut answer).await?;
        Ok(serde_json::from_str(&answer)?)
    };
    tokio::time::timeout(Duration::from_secs(2), talk).await.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into()))
}

/// A made-up past, frame by frame, as the program prints it.
pub struct Past {
    child: tokio::process::Child,
    out: tokio::process::ChildStdout,
}

impl Past {
    /// Asks for the past described by `wanted`, of so many hours.
    ///
    /// # Errors
    /// When the program is missing.
    pub async fn ask(hours: f64, wanted: &Json) -> Result<Past, Failure> {
        let mut command = tokio::process::Command::new(program()?);
        command.args(["history", "--past", &hours.to_string()]);
        command.stdin(Stdio::piped()).stdout(Stdio::piped()).kill_on_drop(true);
        let mut child = command.spawn()?;
        let (Some(mut input), Some(out)) = (child.stdin.take(), child.stdout.take()) else { return Err("no pipes".into()) };
        input.write_all(wanted.to_string().as_bytes()).await?;
        drop(input);
        Ok(Past { child, out })
    }

    /// The next frame; none at the end.
    ///
    /// # Errors
    /// When the program failed, or printed something that is no frame.
    pub async fn next(&mut self) -> Result<Option<Frame>, Failure> {
        let mut bytes = vec![0; 12];
        match self.out.read_exact(&mut bytes).await {
            Err(e) if e.kind() == io::ErrorKind::UnexpectedEof => {
                let status = self.child.wait().await?;
                return if status.success() { Ok(None) } else { Err(format!("it ended with {status}").into()) };
            }
            other => other?,
        };
        let length = u32::from_le_bytes([bytes[4], bytes[5], bytes[6], bytes[7]]) as usize;
        if length > MAX_BYTES {
            return Err("a frame is too large".into());
        }
        bytes.resize(12 + length, 0);
        self.out.read_exact(&mut bytes[12..]).await?;
        Ok(Some(Frame::decode(&bytes)?.0))
    }
}
