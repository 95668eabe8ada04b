//! What all handlers of the application share.

use crate::{
    compared::Files, earlier::Earlier, limits::Limits, push_index::Index, sessions::Sessions, tokens::Tokens,
    written::LookupFiles,
};
use havrel_core::{
    access::{Actor, Scope},
    plant::{Plant, Relations, board::Area, recorder::Recording},
    time::SECOND,
};
use havrel_db::people::SessionLimits;
use havrel_live::Live;
use std::{
    collections::HashMap,
    net::{IpAddr, SocketAddr},
    path::PathBuf,
    sync::{Arc, Mutex, PoisonError, atomic::AtomicUsize},
};
use tokio::sync::Semaphore;
use uuid::Uuid;

/// Where the tags of one connection are read, in words of its kind, with their paths; for one revision.
pub(crate) struct ReadAt {
    pub connection: Uuid,
    pub revision: i64,
    pub tags: Arc<HashMap<String, String>>,
}

/// The areas of a place in a plant as somebody sees it.
pub(crate) type KnownAreas = (Arc<Plant>, Option<Uuid>, Arc<Vec<Area>>);

/// What is recorded of a plant.
type Recorded = (Arc<Plant>, Arc<Recording>);

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
    /// Whose turn it is to compare a file.
    pub(crate) heavy: Semaphore,
    pub(crate) files: Files,
    pub(crate) lookup_files: LookupFiles,
    /// The tags that programs can push to, for one revision.
    pub(crate) push_index: Mutex<Option<Arc<Index>>>,
    /// Whoever walks through a server asks for it page by page.
    pub(crate) read_at: Mutex<Option<ReadAt>>,
    /// What accounts see that do not see everything.
    pub scopes: Arc<Mutex<HashMap<Uuid, Scope>>>,
    /// The plant as some of them see it, for its newest revision.
    seen: Mutex<Vec<(Scope, Arc<Plant>)>>,
    /// The areas of places that somebody looks at, for the newest revision.
    pub(crate) areas: Mutex<Vec<KnownAreas>>,
    /// What hangs together in the plants that somebody asked about last.
    relations: Mutex<Vec<(Arc<Plant>, Arc<Relations>)>>,
    /// What is recorded of the plant that somebody asked about last.
    recorded: Mutex<Option<Recorded>>,
    pub(crate) earlier: Earlier,
    /// Where the demo's simulated plant takes orders.
    pub standin: Option<SocketAddr>,
    /// Where the data of a database of our own lies.
    pub data: Option<PathBuf>,
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
            scopes: Arc::default(),
            seen: Mutex::default(),
            areas: Mutex::default(),
            relations: Mutex::default(),
            recorded: Mutex::default(),
            earlier: Earlier::default(),
            standin: None,
            data: None,
            heavy: Semaphore::new(1),
            files: Files::default(),
            lookup_files: LookupFiles::default(),
            push_index: Mutex::default(),
            read_at: Mutex::default(),
            epoch: Uuid::new_v4(),
        }
    }

    /// What somebody sees: with the roles there are, everything, unless it was narrowed.
    pub fn scope_of(&self, actor: &Actor) -> Scope {
        self.scopes.lock().unwrap_or_else(PoisonError::into_inner).get(&actor.account).cloned().unwrap_or_default()
    }

    /// The plant as who has this scope sees it; made anew by whoever asks first after a revision.
    pub fn seen(&self, scope: &Scope) -> Arc<Plant> {
        let plant = self.live.plant();
        if scope.is_everything() {
            return plant;
        }
        let mut seen = self.seen.lock().unwrap_or_else(PoisonError::into_inner);
        seen.retain(|(_, of)| of.revision == plant.revision);
        if let Some((_, plant)) = seen.iter().find(|(of, _)| of == scope) {
            return plant.clone();
        }
        if seen.len() >= MOST_SEEN {
            seen.remove(0);
        }
        let shown = Arc::new(plant.seen(scope));
        seen.push((scope.clone(), shown.clone()));
        shown
    }

    /// What is recorded of a plant; worked out once for a revision.
    pub(crate) fn recording(&self, plant: &Arc<Plant>) -> Arc<Recording> {
        let mut known = self.recorded.lock().unwrap_or_else(PoisonError::into_inner);
        match &*known {
            Some((of, recording)) if Arc::ptr_eq(of, plant) => recording.clone(),
            _ => known.insert((plant.clone(), Arc::new(plant.recording()))).1.clone(),
        }
    }

    /// How the items of a plant hang together; worked out once for a revision, which takes a while for a large one.
    pub(crate) fn relations(&self, plant: &Arc<Plant>) -> Arc<Relations> {
        let mut known = self.relations.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, relations)) = known.iter().find(|(of, _)| Arc::ptr_eq(of, plant)) {
            return relations.clone();
        }
        known.retain(|(of, _)| of.revision == plant.revision);
        if known.len() >= MOST_RELATIONS {
            known.remove(0);
        }
        let relations = Arc::new(Relations::of(plant));
        known.push((plant.clone(), relations.clone()));
        relations
    }

    pub(crate) fn answers_to(&self, host: &str) -> bool {
        let name = without_port(host);
        ["localhost", "127.0.0.1", "[::1]"].contains(&name) || self.hosts.iter().any(|h| h.eq_ignore_ascii_case(name))
    }
}

/// Plants whose relations are kept: the whole, and parts that people see.
const MOST_RELATIONS: usize = 3;
/// Scopes whose plant is kept.
const MOST_SEEN: usize = 20;

/// When sessions end by themselves, unless told otherwise.
pub const SESSION_LIMITS: SessionLimits = SessionLimits { idle: 12 * 3600 * SECOND, longest: 30 * 86_400 * SECOND };

/// The name in a Host header.
pub fn without_port(host: &str) -> &str {
    match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|b| b.is_ascii_digit()) => name,
        _ => host,
    }
}
