//! Names, addresses and ports of devices, each failure with its own words.

use crate::LinkError;
use std::{io, net::SocketAddr, time::Duration};
use tokio::{
    net::{TcpStream, lookup_host},
    time::timeout,
};

/// Finds the addresses of a host, preferring the first family the system names.
pub(crate) async fn resolve(host: &str, port: u16) -> Result<Vec<SocketAddr>, LinkError> {
    let unknown = || LinkError::NameNotFound(host.to_owned());
    let bare = host.trim().trim_start_matches('[').trim_end_matches(']');
    let found: Vec<_> = lookup_host((bare, port)).await.map_err(|_| unknown())?.take(4).collect();
    if found.is_empty() { Err(unknown()) } else { Ok(found) }
}

/// Opens the port at the first address that answers.
pub(crate) async fn connect(host: &str, found: &[SocketAddr], timeout_ms: u32) -> Result<TcpStream, LinkError> {
    let mut last = LinkError::NameNotFound(host.to_owned());
    for &address in found {
        last = match timeout(Duration::from_millis(timeout_ms.into()), TcpStream::connect(address)).await {
            Ok(Ok(stream)) => {
                // Requests are small; waiting to fill a packet would only delay them.
                let _ = stream.set_nodelay(true);
                return Ok(stream);
            }
            Ok(Err(e)) if e.kind() == io::ErrorKind::ConnectionRefused => {
                LinkError::PortClosed(address.ip().to_string(), address.port())
            }
            Ok(Err(e)) => LinkError::Unreachable(address.ip().to_string(), e.kind().to_string()),
            Err(_) => LinkError::NoConnection(address.ip().to_string(), timeout_ms),
        };
    }
    Err(last)
}

/// Finds a host and opens its port.
pub(crate) async fn open(host: &str, port: u16, timeout_ms: u32) -> Result<TcpStream, LinkError> {
    connect(host, &resolve(host, port).await?, timeout_ms).await
}
