//! The tokens of programs that push values or read kept lookups. Those seen lately are remembered, so that values go to disk while the database is
//! away; one that was revoked counts no more from that moment on.

use crate::{
    problem::Problem,
    sessions::{Hash, hash},
};
use actix_web::{HttpRequest, http::StatusCode, http::header};
use havrel_db::{DbError, plain::Token};
use havrel_live::{Live, now};
use std::{
    collections::{HashMap, HashSet},
    sync::{Mutex, MutexGuard, PoisonError},
};
use uuid::Uuid;

/// How many are remembered.
const REMEMBERED: usize = 1000;

/// Tokens seen lately, and those that were revoked since the program started.
#[derive(Default)]
pub struct Tokens {
    known: Mutex<HashMap<Hash, Token>>,
    revoked: Mutex<HashSet<Uuid>>,
    /// What those that were revoked show, where it was seen before.
    dead: Mutex<HashSet<Hash>>,
}

impl Tokens {
    fn known(&self) -> MutexGuard<'_, HashMap<Hash, Token>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Which token it is, if it was seen lately.
    pub fn seen(&self, hash: &Hash) -> Option<Uuid> {
        self.known().get(hash).map(|token| token.id)
    }

    /// Whether a token still counts.
    pub fn counts(&self, token: &Token) -> bool {
        let revoked = self.revoked.lock().unwrap_or_else(PoisonError::into_inner).contains(&token.id);
        !revoked && token.expires_at.is_none_or(|at| at > now())
    }

    /// Refuses a token from now on.
    pub fn revoke(&self, id: Uuid) {
        let mut dead = self.dead.lock().unwrap_or_else(PoisonError::into_inner);
        self.known().retain(|hash, token| {
            if token.id == id {
                dead.insert(*hash);
            }
            token.id != id
        });
        self.revoked.lock().unwrap_or_else(PoisonError::into_inner).insert(id);
    }

    /// The token that a request shows.
    ///
    /// # Errors
    /// When it shows none that counts, or the database does not answer and the token was not seen before.
    pub async fn of(&self, live: &Live, request: &HttpRequest) -> Result<Token, Problem> {
        let header = request.headers().get(header::AUTHORIZATION).and_then(|h| h.to_str().ok()).ok_or_else(refused)?;
        let shown = header.strip_prefix("Bearer ").map(str::trim).filter(|t| t.len() <= 200).ok_or_else(refused)?;
        let hash = hash(shown);
        if self.dead.lock().unwrap_or_else(PoisonError::into_inner).contains(&hash) {
            return Err(refused());
        }
        let known = self.known().get(&hash).cloned();
        // While the database is away, whoever was let in before is let in: values go to disk all the same.
        if let (false, Some(token)) = (live.database().ok, &known) {
            return Some(token.clone()).filter(|token| self.counts(token)).ok_or_else(refused);
        }
        let found = match (live.db.token_of(&hash).await, known) {
            (Err(DbError::Away(_) | DbError::Refused(_)), Some(token)) => Some(token),
            (found, _) => found?,
        };
        let found = found.filter(|token| self.counts(token));
        let mut all = self.known();
        match &found {
            Some(token) => {
                if all.len() >= REMEMBERED {
                    all.clear();
                }
                all.insert(hash, token.clone());
            }
            None => drop(all.remove(&hash)),
        }
        drop(all);
        found.ok_or_else(refused)
    }
}

/// What whoever shows no token that counts is told.
pub fn refused() -> Problem {
    let words = "Send a valid token: Authorization: Bearer … An engineer creates one on the desk Connect.";
    Problem::new(StatusCode::UNAUTHORIZED, words)
}
