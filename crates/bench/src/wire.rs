//! The wire: our Modbus session against a bare loop on the same library, and a device whose registers tell the time.

use crate::{Figures, Result, rate};
use havrel_link::{
    modbus::{
        Address, Settings, Table,
        session::{Route, Session},
    },
    traffic::Tap,
};
use serde_json::json;
use std::{
    future::{Ready, ready},
    time::{Duration, Instant, SystemTime, UNIX_EPOCH},
};
use tokio::net::{TcpListener, TcpStream};
use tokio_modbus::{
    client::{Reader, tcp},
    prelude::{ExceptionCode, Request, Response, Slave},
    server::tcp::{Server, accept_tcp_connection},
};

/// Milliseconds since 1970, as far as 32 bits go.
pub fn stamp() -> u32 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_millis() as u32)
}

/// A device whose every pair of registers holds the moment in which it answers, high word first.
#[derive(Clone)]
struct Clock;

impl tokio_modbus::server::Service for Clock {
    type Request = Request<'static>;
    type Response = Response;
    type Exception = ExceptionCode;
    type Future = Ready<std::result::Result<Response, ExceptionCode>>;

    fn call(&self, request: Self::Request) -> Self::Future {
        ready(match request {
            Request::ReadHoldingRegisters(start, count) => {
                let now = stamp();
                let word = |at: u16| if at.is_multiple_of(2) { (now >> 16) as u16 } else { now as u16 };
                Ok(Response::ReadHoldingRegisters((0..count).map(|i| word(start.wrapping_add(i))).collect()))
            }
            _ => Err(ExceptionCode::IllegalFunction),
        })
    }
}

/// Starts the device on a free port of the loopback.
pub async fn device() -> Result<u16> {
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    let port = listener.local_addr()?.port();
    tokio::spawn(async move {
        let server = Server::new(listener);
        let connected = |stream, address| async move { accept_tcp_connection(stream, address, |_| Ok(Some(Clock))) };
        // It ends with this program.
        let _ = server.serve(&connected, |_| ()).await;
    });
    Ok(port)
}

/// Prints reads each second, ours and bare.
pub async fn measure(figures: &mut Figures) -> Result<()> {
    let port = device().await?;
    let stream = || async {
        let stream = TcpStream::connect(("127.0.0.1", port)).await?;
        stream.set_nodelay(true)?;
        Ok::<_, std::io::Error>(stream)
    };
    let settings = json!({"host": "127.0.0.1", "port": port});
    let settings = Settings::parse(settings.as_object().ok_or("no settings")?).map_err(|w| w[0].1.clone())?;
    let path = settings.paths()[0].clone();
    let route = Route { settings, path, timeout_ms: 1000, tap: Tap::default(), learnt: std::sync::Arc::default() };
    let mut ours = Session::open(route.clone()).await?;
    let mut bare = tcp::attach_slave(stream().await?, Slave(1));
    // The traffic view of another session, in which somebody looks.
    let watched = Tap::default();
    let mut looked = Session::open(Route { tap: watched.clone(), ..route }).await?;
    let mut watching = watched.watch();
    let watcher = tokio::spawn(async move { while watching.recv().await.is_ok() {} });
    let mut rates = [Vec::new(), Vec::new(), Vec::new()];
    // In turn and often, so that whatever else the machine does meets all.
    for _ in 0..40 {
        for (which, rates) in rates.iter_mut().enumerate() {
            let (began, mut done) = (Instant::now(), 0u32);
            while began.elapsed() < Duration::from_millis(50) {
                match which {
                    0 => drop(ours.read(1, Address { table: Table::Holding, offset: 0 }, 100).await?),
                    1 => drop(looked.read(1, Address { table: Table::Holding, offset: 0 }, 100).await?),
                    _ => drop(bare.read_holding_registers(0, 100).await??),
                }
                done += 1;
            }
            rates.push(f64::from(done) / began.elapsed().as_secs_f64());
        }
    }
    watcher.abort();
    let [ours, looked, bare] = rates.map(|mut r| {
        r.sort_by(f64::total_cmp);
        r[r.len() / 2]
    });
    figures.ratio("Modbus: reads of 100 registers, against a bare loop", ours, bare, "reads/s", Some("0.9"));
    figures.add("  ratio while somebody looks at the traffic", looked / bare, "", None);
    // Closed, a look whether somebody looks is all that is left of it: once for each request, once for each write.
    let tap = Tap::default();
    let asked = rate(|| (0..1000).filter(|_| !std::hint::black_box(&tap).open()).count());
    figures.add("  share of a request that the closed traffic view costs", 2.0 * ours / asked, "", Some("< 0.02"));
    Ok(())
}
