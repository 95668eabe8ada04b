//! Names, addresses and ports of devices, each failure with its own words.

use crate::LinkError;
use serde::Deserialize;
use std::{io, net::SocketAddr, time::Duration};
use tokio::{
    net::{TcpStream, lookup_host},
    time::timeout,
};

/// One address of a peer: a host, and its port where that is not the usual one.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Path {
    pub host: String,
    /// Nothing: the usual port.
    pub port: Option<u16>,
}

impl Path {
    /// What is wrong with it, by field; `peer` is what it is an address of.
    pub(crate) fn check(&self, peer: &str) -> Vec<(&'static str, String)> {
        let host = self.host.trim();
        let odd = !host.chars().all(|c| c.is_ascii_alphanumeric() || ".-_:[]".contains(c)) || host.len() > 253;
        let words = match host {
            "" => format!("Enter the name or address of the {peer}."),
            _ if host.contains("://") => "Enter only the name or address here; the rest has fields of its own.".into(),
            _ => "This is neither a name nor an address.".into(),
        };
        let mut wrong = Vec::new();
        if host.is_empty() || odd {
            wrong.push(("host", words));
        }
        if self.port == Some(0) {
            wrong.push(("port", "A port lies between 1 and 65535.".into()));
        }
        wrong
    }
}

/// Checks all addresses of a peer, the first before the spare ones.
pub(crate) fn check_paths(paths: &[Path], peer: &str) -> Vec<(String, String)> {
    let at = |i: usize, field: &str| if i == 0 { field.to_owned() } else { format!("spare[{}].{field}", i - 1) };
    let of = |(i, path): (usize, &Path)| path.check(peer).into_iter().map(move |(field, words)| (at(i, field), words));
    paths.iter().enumerate().flat_map(of).collect()
}

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
