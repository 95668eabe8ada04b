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

#[cfg(test)]
mod tests {
    use super::*;
    use tokio_modbus::client::{Reader, Writer, tcp};

    #[tokio::test]
    async fn it_answers_its_own_unit_and_refuses_by_the_book() {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let shared = Shared::new(Controller::new(1, 7), 3);
        tokio::spawn(serve(listener, shared.clone()));
        let mut client = tcp::connect_slave(address, tokio_modbus::Slave(3)).await.unwrap();
        assert_eq!(client.read_holding_registers(11, 2).await.unwrap().unwrap(), [820, 460]);
        assert_eq!(client.read_input_registers(11, 1).await.unwrap().unwrap(), [820]);
        client.write_multiple_registers(11, &[700, 300]).await.unwrap().unwrap();
        client.write_single_coil(0, false).await.unwrap().unwrap();
        assert_eq!(shared.lock().vessels[0].set.agitator, 30.0);
        assert!(!shared.lock().vessels[0].set.heating_allowed);
        assert_eq!(client.read_holding_registers(30, 1).await.unwrap(), Err(ExceptionCode::IllegalDataAddress));
        assert_eq!(client.write_single_register(11, 9999).await.unwrap(), Err(ExceptionCode::IllegalDataValue));
        assert_eq!(client.masked_write_register(11, 0, 0).await.unwrap(), Err(ExceptionCode::IllegalFunction));
        let mut stranger = tcp::connect_slave(address, tokio_modbus::Slave(4)).await.unwrap();
        assert_eq!(stranger.read_coils(0, 1).await.unwrap(), Err(ExceptionCode::GatewayTargetDevice));
    }
}
