//! The term of the plant: one durable number that rises when another machine takes over. Whoever stores frames or commits edits
//! proves in the same transaction that the term it works in is still the plant's, so that a machine which was frozen or cut off
//! and comes back can do no harm.

use crate::{Db, DbError};
use sqlx::PgConnection;
use std::sync::atomic::Ordering;

impl Db {
    /// The term in which this machine works.
    pub fn term(&self) -> u32 {
        self.term.load(Ordering::Relaxed)
    }

    /// Begins a new term, in which this machine works from now on. What others still store or edit in the old one is refused.
    ///
    /// # Errors
    /// When the database does not answer; then nothing has changed.
    pub async fn begin_term(&self) -> Result<u32, DbError> {
        let term: i32 = sqlx::query_scalar("update term set term = term + 1 returning term").fetch_one(&self.record).await?;
        self.term.store(term.unsigned_abs(), Ordering::Relaxed);
        Ok(term.unsigned_abs())
    }

    /// Makes sure that the plant is still in this machine's term, until the transaction ends.
    pub(crate) async fn in_term(&self, conn: &mut PgConnection) -> Result<(), DbError> {
        let plant: i32 = sqlx::query_scalar("select term from term for share").fetch_one(conn).await?;
        let (held, plant) = (self.term(), plant.unsigned_abs());
        if held == plant { Ok(()) } else { Err(DbError::OldTerm { held, plant }) }
    }
}
