//! Connections to the database that are given back only when nothing is left half said on them.
//!
//! A future that is dropped in the middle of an exchange (the asker went away, the patience ended) leaves its connection in the
//! middle of it too: the next one to use it would read answers meant for somebody else. So a connection goes back to its pool
//! only from the end of an exchange; otherwise it is closed.

use futures_util::{StreamExt, TryStreamExt, future::BoxFuture, stream, stream::BoxStream};
use sqlx::{
    Describe, Either, Error, Execute, Executor, PgConnection, PgPool, Postgres, SqlStr,
    pool::PoolConnection,
    postgres::{PgConnectOptions, PgPoolOptions, PgQueryResult, PgRow, PgStatement, PgTypeInfo},
};
use std::{
    io,
    ops::{Deref, DerefMut},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
    time::Duration,
};

/// What one pool is for.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Use {
    /// Most connections at a time.
    pub connections: u32,
    /// How long to wait for one of them.
    pub wait: Duration,
    /// How long one exchange may take; the server ends it then, and if it does not, its connection is closed.
    pub exchange: Duration,
    /// Tries also while the database is known to be away: for whoever finds out that it is back.
    pub probes: bool,
}

/// A pool of guarded connections. Cheap to clone.
#[derive(Clone, Debug)]
pub struct Pool {
    pool: PgPool,
    exchange: Duration,
    probes: bool,
    /// The database is known to be away: whoever asks is told at once.
    away: Arc<AtomicBool>,
}

fn away(words: &str) -> Error {
    Error::Io(io::Error::new(io::ErrorKind::NotConnected, words.to_owned()))
}

/// How much later than the server the client gives up.
const GRACE: Duration = Duration::from_secs(2);

impl Pool {
    pub(crate) fn of(options: &PgConnectOptions, of: Use, away: &Arc<AtomicBool>) -> Pool {
        let limit = format!("{}ms", of.exchange.as_millis());
        // The server looks now and then whether the asker is still there: nobody reads the answer of one that went away.
        let options =
            options.clone().options([("statement_timeout", limit.as_str()), ("client_connection_check_interval", "2s")]);
        let pool = PgPoolOptions::new().max_connections(of.connections).acquire_timeout(of.wait).connect_lazy_with(options);
        Pool { pool, exchange: of.exchange + GRACE, probes: of.probes, away: away.clone() }
    }

    /// The plain pool, for what keeps its connection for itself.
    pub(crate) fn plain(&self) -> &PgPool {
        &self.pool
    }

    /// Takes a connection.
    ///
    /// # Errors
    /// When the database is known to be away, or gives none in time.
    pub(crate) async fn acquire(&self) -> Result<Lease, Error> {
        if !self.probes && self.away.load(Ordering::Relaxed) {
            return Err(away("it is known to be away"));
        }
        Ok(Lease(Some(self.pool.acquire().await?)))
    }

    /// Takes a connection and begins a transaction on it. Dropped without a commit the connection is closed, which takes back
    /// what was done.
    ///
    /// # Errors
    /// As [`Pool::acquire`].
    pub(crate) async fn begin(&self) -> Result<Transaction, Error> {
        let mut lease = self.acquire().await?;
        sqlx::query("begin").execute(&mut *lease).await?;
        Ok(Transaction(lease))
    }
}

/// A connection. Closed when dropped, unless it was given back.
#[derive(Debug)]
pub(crate) struct Lease(Option<PoolConnection<Postgres>>);

impl Lease {
    /// Gives it back: nothing is left half said on it.
    pub fn give_back(mut self) {
        drop(self.0.take());
    }
}

impl Deref for Lease {
    type Target = PgConnection;

    fn deref(&self) -> &PgConnection {
        self.0.as_ref().expect("a lease holds its connection until it is given back")
    }
}

impl DerefMut for Lease {
    fn deref_mut(&mut self) -> &mut PgConnection {
        self.0.as_mut().expect("a lease holds its connection until it is given back")
    }
}

impl Drop for Lease {
    fn drop(&mut self) {
        if let Some(connection) = self.0.take() {
            // Out of the pool, and closed with its socket.
            drop(connection.detach());
        }
    }
}

/// A transaction.
#[derive(Debug)]
pub(crate) struct Transaction(Lease);

impl Transaction {
    /// Makes it last.
    ///
    /// # Errors
    /// When the server refuses, or its answer is lost: then nobody knows whether it lasts.
    pub async fn commit(mut self) -> Result<(), Error> {
        sqlx::query("commit").execute(&mut *self.0).await?;
        self.0.give_back();
        Ok(())
    }

    /// Takes back what was done and gives the connection back.
    ///
    /// # Errors
    /// When the server does not answer; the connection is closed then, which does the same.
    pub async fn roll_back(mut self) -> Result<(), Error> {
        sqlx::query("rollback").execute(&mut *self.0).await?;
        self.0.give_back();
        Ok(())
    }
}

impl Deref for Transaction {
    type Target = PgConnection;

    fn deref(&self) -> &PgConnection {
        &self.0
    }
}

impl DerefMut for Transaction {
    fn deref_mut(&mut self) -> &mut PgConnection {
        &mut self.0
    }
}

/// Runs one exchange on a connection of a pool. A macro, because the queries borrow for as long as they like.
macro_rules! exchange {
    ($pool:expr, $connection:ident => $work:expr) => {{
        let pool = $pool.clone();
        async move {
            let mut lease = pool.acquire().await?;
            let work = async {
                let $connection = &mut *lease;
                $work.await
            };
            let result = tokio::time::timeout(pool.exchange, work).await;
            let result = result.unwrap_or_else(|_| Err(away("no answer in time")));
            // An error that the server told is the end of an exchange like any other.
            if matches!(result, Ok(_) | Err(Error::Database(_) | Error::RowNotFound)) {
                lease.give_back();
            }
            result
        }
    }};
}

impl<'p> Executor<'p> for &'_ Pool {
    type Database = Postgres;

    fn fetch_many<'e, 'q: 'e, E>(self, query: E) -> BoxStream<'e, Result<Either<PgQueryResult, PgRow>, Error>>
    where
        'p: 'e,
        E: 'q + Execute<'q, Postgres>,
    {
        // Read to its end before the first row is given on: a reader that stops half-way stops nothing.
        let all = exchange!(self, connection => connection.fetch_many(query).try_collect::<Vec<_>>());
        stream::once(all).map_ok(|rows| stream::iter(rows.into_iter().map(Ok))).try_flatten().boxed()
    }

    fn fetch_optional<'e, 'q: 'e, E>(self, query: E) -> BoxFuture<'e, Result<Option<PgRow>, Error>>
    where
        'p: 'e,
        E: 'q + Execute<'q, Postgres>,
    {
        Box::pin(exchange!(self, connection => connection.fetch_optional(query)))
    }

    fn prepare_with<'e>(self, sql: SqlStr, parameters: &'e [PgTypeInfo]) -> BoxFuture<'e, Result<PgStatement, Error>>
    where
        'p: 'e,
    {
        Box::pin(exchange!(self, connection => connection.prepare_with(sql, parameters)))
    }

    fn describe<'e>(self, sql: SqlStr) -> BoxFuture<'e, Result<Describe<Postgres>, Error>>
    where
        'p: 'e,
    {
        Box::pin(exchange!(self, connection => connection.describe(sql)))
    }
}
