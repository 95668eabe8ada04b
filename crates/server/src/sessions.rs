//! Who is signed in. A session is a row in the database that can be ended; the browser shows a random text of which only the hash
//! is kept. What was looked up is remembered for a short while, so that a database that is away signs nobody out.

use crate::problem::Problem;
use actix_web::{
    HttpRequest,
    cookie::{Cookie, SameSite, time::Duration as CookieSpan},
};
use havrel_core::{access::Actor, time::SECOND};
use havrel_db::people::SessionLimits;
use havrel_live::Live;
use sha2::{Digest as _, Sha256};
use std::{
    collections::HashMap,
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};
use uuid::Uuid;

/// The cookie.
pub const COOKIE: &str = "havrel";
/// How long a session seen is believed without asking the database again.
const FRESH: Duration = Duration::from_secs(10);
/// How many sessions are remembered.
const REMEMBERED: usize = 10_000;

/// The hash of what a browser shows.
pub type Hash = [u8; 32];

/// A random text of 256 bits, for cookies and one-time codes.
pub fn secret() -> String {
    // Two random identifiers carry 244 random bits.
    format!("{}{}", Uuid::new_v4().simple(), Uuid::new_v4().simple())
}

/// A one-time code that can be typed: twelve letters and digits in fours, without those that look like others.
pub fn code() -> String {
    const LETTERS: &[u8; 32] = b"ABCDEFGHJKLMNPQRSTUVWXYZ23456789";
    let bytes = Uuid::new_v4().into_bytes();
    // The first six bytes of a random identifier and the last eight are random throughout.
    let letter = |b: &u8| char::from(LETTERS[usize::from(b % 32)]);
    let letters: Vec<char> = bytes[..6].iter().chain(&bytes[9..15]).map(letter).collect();
    letters.chunks(4).map(|part| part.iter().collect::<String>()).collect::<Vec<_>>().join("-")
}

/// Hashes what somebody shows. The texts are long and random, so no salt and no slowness is needed.
pub fn hash(text: &str) -> Hash {
    Sha256::digest(text.as_bytes()).into()
}

/// A session.
#[derive(Clone, Debug)]
pub struct Session {
    pub id: Uuid,
    pub actor: Actor,
}

/// The sessions seen lately.
pub struct Sessions {
    pub limits: SessionLimits,
    known: Mutex<HashMap<Hash, (Session, Instant)>>,
}

impl Sessions {
    /// With the spans after which sessions end by themselves.
    pub fn new(limits: SessionLimits) -> Sessions {
        Sessions { limits, known: Mutex::default() }
    }

    fn known(&self) -> std::sync::MutexGuard<'_, HashMap<Hash, (Session, Instant)>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Whose session it is, if it was seen lately.
    pub fn seen(&self, hash: &Hash) -> Option<Session> {
        self.known().get(hash).map(|(session, _)| session.clone())
    }

    /// Whose session it is.
    ///
    /// # Errors
    /// When the database does not answer and the session was not seen before.
    pub async fn find(&self, live: &Live, hash: &Hash) -> Result<Option<Session>, Problem> {
        let known = self.known().get(hash).cloned();
        if let Some((session, at)) = &known
            && at.elapsed() < FRESH
        {
            return Ok(Some(session.clone()));
        }
        match live.db.session(hash, self.limits).await {
            Ok(found) => {
                let session = found.map(|(id, actor)| Session { id, actor });
                match &session {
                    Some(session) => self.remember(*hash, session.clone()),
                    None => drop(self.known().remove(hash)),
                }
                Ok(session)
            }
            // While the database is away whoever was signed in stays so.
            Err(error) => known.map(|(session, _)| Some(session)).ok_or_else(|| error.into()),
        }
    }

    fn remember(&self, hash: Hash, session: Session) {
        let mut known = self.known();
        if known.len() >= REMEMBERED {
            known.retain(|_, (_, at)| at.elapsed() < FRESH);
        }
        if known.len() < REMEMBERED {
            known.insert(hash, (session, Instant::now()));
        }
    }

    /// Begins a session and gives what the browser must show.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn begin(&self, live: &Live, actor: &Actor, address: &str, browser: &str) -> Result<String, Problem> {
        let secret = secret();
        let hash = hash(&secret);
        let id = live.db.begin_session(actor.account, &hash, address, browser).await?;
        self.remember(hash, Session { id, actor: actor.clone() });
        Ok(secret)
    }

    /// Forgets sessions that have ended: one, or all of an account but for one. They count no more from now on.
    pub fn forget(&self, account: Uuid, only: Option<Uuid>, stays: Option<Uuid>) {
        let ended = |s: &Session| s.actor.account == account && only.is_none_or(|id| id == s.id) && stays != Some(s.id);
        self.known().retain(|_, (session, _)| !ended(session));
    }
}

/// The hash of what a request shows.
pub fn shown(request: &HttpRequest) -> Option<Hash> {
    request.cookie(COOKIE).map(|cookie| hash(cookie.value()))
}

/// The cookie that carries a session; `secure`: the browser came over TLS.
pub fn cookie(secret: String, limits: SessionLimits, secure: bool) -> Cookie<'static> {
    Cookie::build(COOKIE, secret)
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .secure(secure)
        .max_age(CookieSpan::seconds(limits.longest / SECOND))
        .finish()
}

/// The cookie that takes it away.
pub fn no_cookie() -> Cookie<'static> {
    let mut cookie = Cookie::build(COOKIE, "").path("/").http_only(true).same_site(SameSite::Strict).finish();
    cookie.make_removal();
    cookie
}
