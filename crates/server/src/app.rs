//! What all handlers of the application share.

use crate::{compared::Files, limits::Limits, push_index::Index, sessions::Sessions, tokens::Tokens};
use havrel_core::time::SECOND;
use havrel_db::people::SessionLimits;
use havrel_live::Live;
use std::{
    collections::HashMap,
    net::{IpAddr, SocketAddr},
    sync::{Arc, Mutex, atomic::AtomicUsize},
};
use tokio::sync::Semaphore;
use uuid::Uuid;

/// What all handlers share.
pub struct App {
    pub live: Arc<Live>,
    pub limits: Limits,
    pub sessions: Sessions,
    /// Tokens of programs, as they were seen lately.
    pub tokens: Tokens,
    /// Names beside the loopback's under which browsers may ask.
    pub hosts: Vec<String>,
    /// Proxies whose forwarded headers count.
    pub proxies: Vec<IpAddr>,
    pub(crate) sockets: AtomicUsize,
    /// The same by account.
    pub(crate) sockets_of: Mutex<HashMap<Uuid, usize>>,
    /// Whose turn it is to print a PDF.
    pub(crate) press: Semaphore,
    /// Whose turn it is to compare a file.
    pub(crate) heavy: Semaphore,
    pub(crate) files: Files,
    /// The tags that programs can push to, for one revision.
    pub(crate) push_index: Mutex<Option<Arc<Index>>>,
    /// Where the demo's simulated plant takes orders.
    pub standin: Option<SocketAddr>,
    /// Tells browsers that the server was started anew.
    pub epoch: Uuid,
}

impl App {
    /// Shares a plant.
    pub fn new(live: Arc<Live>, hosts: Vec<String>) -> App {
        App {
            live,
            limits: Limits::default(),
            sessions: Sessions::new(SESSION_LIMITS),
            tokens: Tokens::default(),
            hosts,
            proxies: Vec::new(),
            sockets: AtomicUsize::new(0),
            sockets_of: Mutex::default(),
            standin: None,
            press: Semaphore::new(1),
            heavy: Semaphore::new(1),
            files: Files::default(),
            push_index: Mutex::default(),
            epoch: Uuid::new_v4(),
        }
    }

    pub(crate) fn answers_to(&self, host: &str) -> bool {
        let name = without_port(host);
        ["localhost", "127.0.0.1", "[::1]"].contains(&name) || self.hosts.iter().any(|h| h.eq_ignore_ascii_case(name))
    }
}

/// When sessions end by themselves, unless told otherwise.
pub const SESSION_LIMITS: SessionLimits = SessionLimits { idle: 12 * 3600 * SECOND, longest: 30 * 86_400 * SECOND };

/// The name in a Host header.
pub fn without_port(host: &str) -> &str {
    match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|b| b.is_ascii_digit()) => name,
        _ => host,
    }
}
