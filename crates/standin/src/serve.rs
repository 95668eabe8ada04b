//! The controller on a socket.

use crate::registers::{Controller, Refusal};
use std::{
    future::{Ready, ready},
    io,
    net::SocketAddr,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};
use tokio::net::TcpListener;
use tokio_modbus::{
    ExceptionCode, Request, Response, SlaveRequest,
    server::{Service, tcp::Server, tcp::accept_tcp_connection},
};

/// A controller shared by its connections and the process that moves it.
#[derive(Clone)]
pub struct Shared {
    controller: Arc<Mutex<Controller>>,
    unit: u8,
}

impl Shared {
    /// Puts a controller behind a unit id.
    pub fn new(controller: Controller, unit: u8) -> Shared {
        Shared { controller: Arc::new(Mutex::new(controller)), unit }
    }

    /// The controller itself.
    pub fn lock(&self) -> MutexGuard<'_, Controller> {
        self.controller.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn answer(&self, request: SlaveRequest<'static>) -> Result<Response, ExceptionCode> {
        if request.slave != self.unit {
            return Err(ExceptionCode::GatewayTargetDevice);
        }
        let mut controller = self.lock();
        let refused = |refusal| match refusal {
            Refusal::Address => ExceptionCode::IllegalDataAddress,
            Refusal::Value => ExceptionCode::IllegalDataValue,
        };
        match request.request {
            Request::ReadCoils(at, n) => controller.read_bits(at, n, true).map(Response::ReadCoils),
            Request::ReadDiscreteInputs(at, n) => controller.read_bits(at, n, false).map(Response::ReadDiscreteInputs),
            Request::ReadHoldingRegisters(at, n) => controller.read(at, n).map(Response::ReadHoldingRegisters),
            Request::ReadInputRegisters(at, n) => controller.read(at, n).map(Response::ReadInputRegisters),
            Request::WriteSingleCoil(at, on) => controller.write_bit(at, on).map(|()| Response::WriteSingleCoil(at, on)),
            Request::WriteSingleRegister(at, word) => {
                controller.write(at, &[word]).map(|()| Response::WriteSingleRegister(at, word))
            }
            Request::WriteMultipleRegisters(at, words) => {
                controller.write(at, &words).map(|()| Response::WriteMultipleRegisters(at, words.len() as u16))
            }
            _ => return Err(ExceptionCode::IllegalFunction),
        }
        .map_err(refused)
    }
}

impl Service for Shared {
    type Request = SlaveRequest<'static>;
    type Response = Response;
    type Exception = ExceptionCode;
    type Future = Ready<Result<Response, ExceptionCode>>;

    fn call(&self, request: Self::Request) -> Self::Future {
        ready(self.answer(request))
    }
}

/// Answers requests until the listener fails.
///
/// # Errors
/// The listener's own failure; a failed connection ends alone.
pub async fn serve(listener: TcpListener, shared: Shared) -> io::Result<()> {
    let server = Server::new(listener);
    let connected = |stream, address: SocketAddr| {
        let service = shared.clone();
        async move { accept_tcp_connection(stream, address, move |_| Ok(Some(service.clone()))) }
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
        let mut controller = shared.lock();
        while owed >= 1.0 {
            controller.step();
            owed -= 1.0;
        }
    }
}
