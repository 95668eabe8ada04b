//! One open connection: one request at a time, each with a time limit, each failure with its own name.

use super::{Address, Settings, Table};
use crate::LinkError;
use std::{
    io,
    net::SocketAddr,
    pin::Pin,
    sync::{Arc, Mutex},
    task::{Context, Poll},
    time::Duration,
};
use tokio::{
    io::{AsyncRead, AsyncWrite, ReadBuf},
    net::{TcpStream, lookup_host},
    time::timeout,
};
use tokio_modbus::{
    Error, ExceptionCode, ProtocolError, Request, Response,
    client::{Client, Context as Modbus, tcp},
    slave::Slave,
};

/// How many of the first bytes of an answer are kept to tell who speaks there.
const HEARD: usize = 16;

/// A stream that remembers how the last answer began.
#[derive(Debug)]
struct Listening {
    stream: TcpStream,
    heard: Arc<Mutex<Vec<u8>>>,
}

impl AsyncRead for Listening {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let before = buf.filled().len();
        let result = Pin::new(&mut self.stream).poll_read(cx, buf);
        let mut heard = self.heard.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let room = HEARD - heard.len();
        heard.extend(buf.filled()[before..].iter().take(room));
        result
    }
}

impl AsyncWrite for Listening {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write(cx, buf)
    }
    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(cx)
    }
    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(cx)
    }
}

/// Finds the addresses of a host, preferring the first family the system names.
pub(super) async fn resolve(settings: &Settings) -> Result<Vec<SocketAddr>, LinkError> {
    let unknown = || LinkError::NameNotFound(settings.host.clone());
    let host = settings.host.trim().trim_start_matches('[').trim_end_matches(']');
    let found: Vec<_> = lookup_host((host, settings.port)).await.map_err(|_| unknown())?.take(4).collect();
    if found.is_empty() { Err(unknown()) } else { Ok(found) }
}

/// Opens the port at the first address that answers.
pub(super) async fn connect(settings: &Settings, found: &[SocketAddr], timeout_ms: u32) -> Result<TcpStream, LinkError> {
    let mut last = LinkError::NameNotFound(settings.host.clone());
    for &address in found {
        last = match timeout(Duration::from_millis(timeout_ms.into()), TcpStream::connect(address)).await {
            Ok(Ok(stream)) => {
                // Requests are small; waiting to fill a packet would only delay them.
                let _ = stream.set_nodelay(true);
                return Ok(stream);
            }
            Ok(Err(e)) if e.kind() == io::ErrorKind::ConnectionRefused => {
                LinkError::PortClosed(address.ip().to_string(), settings.port)
            }
            Ok(Err(e)) => LinkError::Unreachable(address.ip().to_string(), e.kind().to_string()),
            Err(_) => LinkError::NoConnection(address.ip().to_string(), timeout_ms),
        };
    }
    Err(last)
}

/// An open connection to one unit.
pub struct Session {
    context: Modbus,
    heard: Arc<Mutex<Vec<u8>>>,
    unit: u8,
    timeout_ms: u32,
}

impl Session {
    /// Opens the connection that settings describe.
    ///
    /// # Errors
    /// In words that say what to do.
    pub async fn open(settings: &Settings, timeout_ms: u32) -> Result<Session, LinkError> {
        let found = resolve(settings).await?;
        Ok(Session::over(connect(settings, &found, timeout_ms).await?, settings.unit, timeout_ms))
    }

    /// Speaks over a stream that is open already.
    pub fn over(stream: TcpStream, unit: u8, timeout_ms: u32) -> Session {
        let heard = Arc::<Mutex<Vec<u8>>>::default();
        let context = tcp::attach_slave(Listening { stream, heard: heard.clone() }, Slave(unit));
        Session { context, heard, unit, timeout_ms }
    }

    /// Ends it in good order.
    pub async fn close(mut self) {
        // The other side may be gone already; there is nothing to mend.
        let _ = self.context.disconnect().await;
    }

    /// Reads `count` registers, or bits as 0 and 1 (function codes 1 to 4).
    ///
    /// # Errors
    /// When the device refuses, answers wrongly or not at all.
    pub async fn read(&mut self, at: Address, count: u16) -> Result<Vec<u16>, LinkError> {
        let request = match at.table {
            Table::Coil => Request::ReadCoils(at.offset, count),
            Table::Discrete => Request::ReadDiscreteInputs(at.offset, count),
            Table::Input => Request::ReadInputRegisters(at.offset, count),
            Table::Holding => Request::ReadHoldingRegisters(at.offset, count),
        };
        let wanted = usize::from(count);
        let words: Vec<u16> = match self.call(request, at).await? {
            // Bits travel in whole bytes, so more than asked may come.
            Response::ReadCoils(bits) | Response::ReadDiscreteInputs(bits) if bits.len() >= wanted => {
                bits.into_iter().take(wanted).map(u16::from).collect()
            }
            Response::ReadInputRegisters(words) | Response::ReadHoldingRegisters(words) if words.len() == wanted => words,
            Response::ReadInputRegisters(words) | Response::ReadHoldingRegisters(words) => {
                return Err(LinkError::WrongAnswer(format!("{count} registers were asked for, {} came", words.len())));
            }
            Response::ReadCoils(bits) | Response::ReadDiscreteInputs(bits) => {
                return Err(LinkError::WrongAnswer(format!("{count} bits were asked for, {} came", bits.len())));
            }
            _ => return Err(LinkError::WrongAnswer("it is of another kind".into())),
        };
        Ok(words)
    }

    /// Writes registers or one coil (function codes 5, 6 and 16).
    pub async fn write(&mut self, at: Address, words: &[u16]) -> Result<(), LinkError> {
        let request = match (at.table, words) {
            (Table::Coil, [bit]) => Request::WriteSingleCoil(at.offset, *bit != 0),
            (Table::Holding, [word]) => Request::WriteSingleRegister(at.offset, *word),
            (Table::Holding, words) => Request::WriteMultipleRegisters(at.offset, words.into()),
            _ => return Err(LinkError::BadRequest("Input registers and discrete inputs can only be read.".into())),
        };
        self.call(request, at).await.map(drop)
    }

    async fn call(&mut self, request: Request<'_>, at: Address) -> Result<Response, LinkError> {
        self.heard.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clear();
        let limit = Duration::from_millis(self.timeout_ms.into());
        match timeout(limit, self.context.call(request)).await {
            Ok(Ok(Ok(response))) => Ok(response),
            Ok(Ok(Err(exception))) => Err(self.exception(exception, at)),
            Ok(Err(error)) => Err(self.other_protocol().unwrap_or_else(|| failure(error))),
            Err(_) => Err(self.other_protocol().unwrap_or(LinkError::Silent(self.timeout_ms))),
        }
    }

    /// Modbus answers carry 0 as third and fourth byte; whoever sends something else there speaks another protocol.
    fn other_protocol(&self) -> Option<LinkError> {
        let heard = self.heard.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let foreign = heard.len() >= 4 && heard[2..4] != [0, 0];
        foreign.then(|| {
            let printable: String =
                heard.iter().take_while(|b| b.is_ascii_graphic() || **b == b' ').map(|&b| char::from(b)).collect();
            LinkError::OtherProtocol(if printable.len() >= 3 {
                format!("; it began with “{printable}”")
            } else {
                String::new()
            })
        })
    }

    /// §7 of the application protocol.
    fn exception(&self, code: ExceptionCode, at: Address) -> LinkError {
        let refused = |words: &str| LinkError::Refused(words.into());
        match code {
            ExceptionCode::IllegalDataAddress => LinkError::NoSuchAddress(at.to_string()),
            ExceptionCode::IllegalFunction => refused("it does not know this request (exception 1)"),
            ExceptionCode::IllegalDataValue => refused("it does not take this value (exception 3)"),
            ExceptionCode::ServerDeviceFailure => refused("it failed while serving the request (exception 4)"),
            ExceptionCode::ServerDeviceBusy => refused("it is busy (exception 6)"),
            ExceptionCode::GatewayPathUnavailable | ExceptionCode::GatewayTargetDevice => LinkError::WrongUnit(self.unit),
            other => LinkError::Refused(format!("exception {}", u8::from(other))),
        }
    }
}

fn failure(error: Error) -> LinkError {
    match error {
        Error::Protocol(ProtocolError::HeaderMismatch { .. }) => LinkError::OtherRequest,
        Error::Protocol(ProtocolError::FunctionCodeMismatch { .. }) => {
            LinkError::WrongAnswer("it answers another function".into())
        }
        Error::Transport(e)
            if matches!(e.kind(), io::ErrorKind::InvalidData | io::ErrorKind::InvalidInput | io::ErrorKind::UnexpectedEof) =>
        {
            LinkError::WrongAnswer(format!("its parts do not add up ({e})"))
        }
        Error::Transport(_) => LinkError::Closed,
    }
}
