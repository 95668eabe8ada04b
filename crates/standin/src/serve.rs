//! The controllers on sockets.

use crate::{
    faults::{Fault, Which},
    points::Table,
    registers::{Refusal, Works},
};
use std::{
    future::Future,
    io,
    net::SocketAddr,
    pin::Pin,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    task::{Context, Poll},
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncRead, AsyncWrite, ReadBuf},
    net::{TcpListener, TcpStream},
};
use tokio_modbus::{
    ExceptionCode, Request, Response, SlaveRequest,
    server::{Service, tcp::Server},
};

/// One controller of a plant, shared by its connections and the process that moves it.
#[derive(Clone)]
pub struct Shared {
    works: Arc<Mutex<Works>>,
    which: Which,
    unit: u8,
}

impl Shared {
    /// Puts one controller of a plant behind a unit id.
    pub fn new(works: Works, which: Which, unit: u8) -> Shared {
        Shared { works: Arc::new(Mutex::new(works)), which, unit }
    }

    /// Another controller of the same plant.
    pub fn beside(&self, which: Which) -> Shared {
        Shared { which, ..self.clone() }
    }

    /// The plant itself.
    pub fn lock(&self) -> MutexGuard<'_, Works> {
        self.works.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whether something is wrong now.
    pub fn has_fault(&self, fault: &Fault) -> bool {
        self.lock().faults.is_on(fault, Instant::now())
    }

    fn cut(&self) -> bool {
        self.lock().faults.cut(self.which, Instant::now())
    }

    /// What the faults of the moment make of an answer: how late it is, and whether it is refused or cut short.
    fn spoilt(&self) -> (Duration, bool, bool) {
        let mut spoilt = (Duration::ZERO, false, false);
        for (fault, _) in self.lock().faults.on(Instant::now()) {
            match fault {
                Fault::Delay { controller, ms } if *controller == self.which => spoilt.0 = Duration::from_millis(*ms),
                Fault::Exception { controller } if *controller == self.which => spoilt.1 = true,
                Fault::Short { controller } if *controller == self.which => spoilt.2 = true,
                _ => {}
            }
        }
        spoilt
    }

    fn answer(&self, request: SlaveRequest<'static>) -> Result<Response, ExceptionCode> {
        if request.slave != self.unit {
            return Err(ExceptionCode::GatewayTargetDevice);
        }
        let mut works = self.lock();
        let which = self.which;
        let controller = works.controller(which);
        match request.request {
            Request::ReadCoils(at, n) => controller.read_bits(at, n, Table::Coil).map(Response::ReadCoils),
            Request::ReadDiscreteInputs(at, n) => controller.read_bits(at, n, Table::Discrete).map(Response::ReadDiscreteInputs),
            Request::ReadHoldingRegisters(at, n) => controller.read(at, n).map(Response::ReadHoldingRegisters),
            Request::ReadInputRegisters(at, n) => controller.read(at, n).map(Response::ReadInputRegisters),
            Request::WriteSingleCoil(at, on) => works.write_bit(which, at, on).map(|()| Response::WriteSingleCoil(at, on)),
            Request::WriteSingleRegister(at, word) => {
                works.write(which, at, &[word]).map(|()| Response::WriteSingleRegister(at, word))
            }
            Request::WriteMultipleRegisters(at, words) => {
                works.write(which, at, &words).map(|()| Response::WriteMultipleRegisters(at, words.len() as u16))
            }
            _ => return Err(ExceptionCode::IllegalFunction),
        }
        .map_err(|refusal| match refusal {
            Refusal::Address => ExceptionCode::IllegalDataAddress,
            Refusal::Value => ExceptionCode::IllegalDataValue,
        })
    }
}

impl Service for Shared {
    type Request = SlaveRequest<'static>;
    type Response = Response;
    type Exception = ExceptionCode;
    type Future = Pin<Box<dyn Future<Output = Result<Response, ExceptionCode>> + Send>>;

    fn call(&self, request: Self::Request) -> Self::Future {
        let (late, refused, short) = self.spoilt();
        let answer = if refused { Err(ExceptionCode::ServerDeviceFailure) } else { self.answer(request) };
        Box::pin(async move {
            if !late.is_zero() {
                tokio::time::sleep(late).await;
            }
            let mut answer = answer?;
            if let (true, Response::ReadHoldingRegisters(words) | Response::ReadInputRegisters(words)) = (short, &mut answer) {
                words.pop();
            }
            Ok(answer)
        })
    }
}

/// A connection whose cable can be cut.
struct Cable {
    stream: TcpStream,
    controller: Shared,
}

impl Cable {
    fn whole(&self) -> io::Result<()> {
        if self.controller.cut() { Err(io::ErrorKind::ConnectionReset.into()) } else { Ok(()) }
    }
}

impl AsyncRead for Cable {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        self.whole()?;
        Pin::new(&mut self.stream).poll_read(cx, buf)
    }
}

impl AsyncWrite for Cable {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        self.whole()?;
        Pin::new(&mut self.stream).poll_write(cx, buf)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(cx)
    }
}

/// Answers requests until the listener fails.
///
/// # Errors
/// The listener's own failure; a failed connection ends alone.
pub async fn serve(listener: TcpListener, shared: Shared) -> io::Result<()> {
    let server = Server::new(listener);
    let connected = |stream: TcpStream, _: SocketAddr| {
        let controller = shared.clone();
        async move {
            if controller.cut() {
                return Ok(None);
            }
            // Small answers must not wait to be sent together.
            stream.set_nodelay(true)?;
            Ok(Some((controller.clone(), Cable { stream, controller })))
        }
    };
    server.serve(&connected, |_| {}).await
}

/// Moves the process: `speed` seconds of model time each second, for ever.
pub async fn run(shared: Shared, speed: f64) {
    let mut beat = tokio::time::interval(Duration::from_millis(100));
    let mut owed = 0.0;
    loop {
        beat.tick().await;
        // A hundred milliseconds are one step at speed 1; a slower or faster plant carries its fraction along.
        owed += speed;
        let mut works = shared.lock();
        while owed >= 1.0 {
            works.step(Instant::now());
            owed -= 1.0;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio_modbus::client::{Reader, Writer, tcp};

    async fn started(unit: u8) -> (SocketAddr, Shared) {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let shared = Shared::new(Works::new(1, 7), Which::Extraction, unit);
        tokio::spawn(serve(listener, shared.clone()));
        (address, shared)
    }

    #[tokio::test]
    async fn it_answers_its_own_unit_and_refuses_by_the_book() {
        let (address, shared) = started(3).await;
        let mut client = tcp::connect_slave(address, tokio_modbus::Slave(3)).await.unwrap();
        assert_eq!(client.read_holding_registers(11, 2).await.unwrap().unwrap(), [820, 460]);
        assert_eq!(client.read_input_registers(11, 1).await.unwrap().unwrap(), [820]);
        client.write_multiple_registers(11, &[700, 300]).await.unwrap().unwrap();
        client.write_single_coil(0, false).await.unwrap().unwrap();
        assert_eq!(shared.lock().process.vessels[0].set.agitator, 30.0);
        assert!(!shared.lock().process.vessels[0].set.heating_allowed);
        assert_eq!(client.read_holding_registers(30, 1).await.unwrap(), Err(ExceptionCode::IllegalDataAddress));
        assert_eq!(client.write_single_register(11, 9999).await.unwrap(), Err(ExceptionCode::IllegalDataValue));
        assert_eq!(client.masked_write_register(11, 0, 0).await.unwrap(), Err(ExceptionCode::IllegalFunction));
        let mut stranger = tcp::connect_slave(address, tokio_modbus::Slave(4)).await.unwrap();
        assert_eq!(stranger.read_coils(0, 1).await.unwrap(), Err(ExceptionCode::GatewayTargetDevice));
    }

    #[tokio::test]
    async fn faults_spoil_answers_until_they_end() {
        let (address, shared) = started(1).await;
        let mut client = tcp::connect_slave(address, tokio_modbus::Slave(1)).await.unwrap();
        let begin = |fault| shared.lock().begin(fault, Instant::now(), Duration::from_secs(60)).unwrap();
        let controller = Which::Extraction;
        begin(Fault::Exception { controller });
        assert_eq!(client.read_holding_registers(0, 1).await.unwrap(), Err(ExceptionCode::ServerDeviceFailure));
        shared.lock().calm();
        begin(Fault::Delay { controller, ms: 60 });
        let asked = Instant::now();
        client.read_holding_registers(0, 1).await.unwrap().unwrap();
        assert!(asked.elapsed() >= Duration::from_millis(60));
        shared.lock().calm();
        // The other controller's cable is not ours.
        begin(Fault::Cut { controller: Which::Wash });
        client.read_holding_registers(0, 1).await.unwrap().unwrap();
        begin(Fault::Cut { controller });
        assert!(client.read_holding_registers(0, 1).await.is_err());
        let mut again = tcp::connect_slave(address, tokio_modbus::Slave(1)).await.unwrap();
        assert!(again.read_holding_registers(0, 1).await.is_err());
        shared.lock().calm();
        let mut again = tcp::connect_slave(address, tokio_modbus::Slave(1)).await.unwrap();
        again.read_holding_registers(0, 1).await.unwrap().unwrap();
    }
}
