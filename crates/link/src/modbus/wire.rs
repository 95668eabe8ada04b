//! Streams to a device: a socket or a serial line, with an ear that remembers what passed.

use super::settings::{Parity, Path, Settings, Transport};
use crate::{LinkError, net, traffic::MOST_BYTES};
use std::{
    fmt::Debug,
    io,
    pin::Pin,
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    task::{Context, Poll},
};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// How many of the first bytes of an answer tell who speaks there.
const HEARD: usize = 16;

/// Anything that carries bytes both ways.
pub(super) trait Wire: AsyncRead + AsyncWrite + Unpin + Send + Debug {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send + Debug> Wire for T {}

/// What passed since the last request began.
#[derive(Debug, Default)]
struct Passed {
    sent: Vec<u8>,
    received: Vec<u8>,
    /// Most bytes of each that are kept.
    room: usize,
}

/// Remembers what passed.
#[derive(Clone, Debug, Default)]
pub(super) struct Ear {
    passed: Arc<Mutex<Passed>>,
    /// Whether both messages are kept; asked with every byte that passes, so it costs no lock.
    all: Arc<AtomicBool>,
}

impl Ear {
    fn lock(&self) -> MutexGuard<'_, Passed> {
        self.passed.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn all(&self) -> bool {
        self.all.load(Ordering::Relaxed)
    }

    /// Forgets what passed; keeps the beginning of the answer, or with `all` both messages.
    pub fn begin(&self, all: bool) {
        self.all.store(all, Ordering::Relaxed);
        let mut passed = self.lock();
        passed.sent.clear();
        passed.received.clear();
        passed.room = if all { MOST_BYTES } else { HEARD };
    }

    /// What was sent and received.
    pub fn take(&self) -> (Vec<u8>, Vec<u8>) {
        let passed = self.lock();
        (passed.sent.clone(), passed.received.clone())
    }

    /// Modbus answers over TCP carry 0 as third and fourth byte; whoever sends something else there speaks another
    /// protocol.
    pub fn other_protocol(&self) -> Option<LinkError> {
        let heard = &self.lock().received;
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

    /// Whether anything was heard at all.
    pub fn heard(&self) -> bool {
        !self.lock().received.is_empty()
    }
}

/// A stream with an ear.
#[derive(Debug)]
pub(super) struct Listening {
    pub stream: Box<dyn Wire>,
    pub ear: Ear,
}

impl AsyncRead for Listening {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let before = buf.filled().len();
        let result = Pin::new(&mut *self.stream).poll_read(cx, buf);
        let mut passed = self.ear.lock();
        let room = passed.room.saturating_sub(passed.received.len());
        let new = &buf.filled()[before..];
        passed.received.extend_from_slice(&new[..room.min(new.len())]);
        result
    }
}

impl AsyncWrite for Listening {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buf: &[u8]) -> Poll<io::Result<usize>> {
        let result = Pin::new(&mut *self.stream).poll_write(cx, buf);
        if let Poll::Ready(Ok(count)) = &result
            && self.ear.all()
        {
            let mut passed = self.ear.lock();
            let room = passed.room.saturating_sub(passed.sent.len());
            passed.sent.extend(buf[..*count].iter().take(room));
        }
        result
    }
    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut *self.stream).poll_flush(cx)
    }
    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut *self.stream).poll_shutdown(cx)
    }
}

/// Opens a serial line.
pub(super) fn open_line(settings: &Settings, path: &Path) -> Result<Box<dyn Wire>, LinkError> {
    use tokio_serial::{DataBits, SerialPortBuilderExt as _, StopBits};
    let parity = match settings.parity {
        Parity::None => tokio_serial::Parity::None,
        Parity::Odd => tokio_serial::Parity::Odd,
        Parity::Even => tokio_serial::Parity::Even,
    };
    let stop_bits = if settings.stop_bits == 2 { StopBits::Two } else { StopBits::One };
    let device = path.device.trim();
    let builder = tokio_serial::new(device, settings.baud).data_bits(DataBits::Eight).parity(parity).stop_bits(stop_bits);
    let line = builder.open_native_async().map_err(|e| LinkError::Line(device.to_owned(), e.to_string()))?;
    Ok(Box::new(line))
}

/// Makes a stream secure; gives how, in words.
pub(super) async fn secure(
    stream: Box<dyn Wire>,
    settings: &Settings,
    path: &Path,
    timeout_ms: u32,
) -> Result<(Box<dyn Wire>, String), LinkError> {
    let secured = settings.tls.secure(stream, &path.host, timeout_ms).await?;
    Ok((Box::new(secured.stream), secured.words))
}

/// Opens whatever leads to the device.
pub(super) async fn open(settings: &Settings, path: &Path, timeout_ms: u32) -> Result<Box<dyn Wire>, LinkError> {
    match settings.transport {
        Transport::Serial => open_line(settings, path),
        Transport::Tcp | Transport::RtuOverTcp => Ok(Box::new(net::open(&path.host, path.port, timeout_ms).await?)),
        Transport::Tls => {
            let stream = Box::new(net::open(&path.host, path.port, timeout_ms).await?);
            Ok(secure(stream, settings, path, timeout_ms).await?.0)
        }
    }
}
