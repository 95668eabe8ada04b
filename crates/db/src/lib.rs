//! PostgreSQL for Havrel: configuration, history, alarms, journal and accounts. The only place with SQL.

pub mod alarms;
pub mod backup;
pub mod cluster;
pub mod config;
pub mod editions;
pub mod hands;
pub mod history;
pub mod journal;
pub mod marks;
pub mod own;
pub mod people;
pub mod views;

use history::SeriesIds;
use sqlx::{
    PgPool,
    postgres::{PgConnectOptions, PgListener, PgPoolOptions},
};
use std::{
    sync::{Arc, Mutex},
    time::Duration,
};
use uuid::Uuid;

/// A failure of the database, told to callers without its innards.
#[derive(Debug, thiserror::Error)]
pub enum DbError {
    #[error("the database does not answer: {0}")]
    Away(String),
    #[error("the database refused: {0}")]
    Refused(String),
    #[error("one tag has more than {0} samples in this period; choose a shorter one")]
    TooMuch(i64),
}

impl From<sqlx::Error> for DbError {
    fn from(error: sqlx::Error) -> DbError {
        match &error {
            sqlx::Error::Database(e) if !e.code().is_some_and(|c| c.starts_with("57P") || c.starts_with("53")) => {
                DbError::Refused(e.to_string())
            }
            _ => DbError::Away(error.to_string()),
        }
    }
}

/// The database of one plant. Cheap to clone.
#[derive(Clone, Debug)]
pub struct Db {
    pool: PgPool,
    /// Series that are known to be there: they are never deleted.
    series: Arc<Mutex<SeriesIds>>,
}

/// The migrations that make a database of the present form.
pub static MIGRATIONS: sqlx::migrate::Migrator = sqlx::migrate!();

impl Db {
    /// Connects and brings the tables to the present form.
    ///
    /// # Errors
    /// When the server does not answer or a migration fails.
    pub async fn open(options: PgConnectOptions) -> Result<Db, DbError> {
        let pool = PgPoolOptions::new().max_connections(12).acquire_timeout(Duration::from_secs(4)).connect_with(options).await?;
        let db = Db { pool, series: Arc::default() };
        MIGRATIONS.run(&db.pool).await.map_err(|e| DbError::Refused(e.to_string()))?;
        Ok(db)
    }

    /// The plant's identity, made on the first call: the node's id and the key that seals session cookies (64 bytes).
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn identity(&self) -> Result<(Uuid, Vec<u8>), DbError> {
        // Four random identifiers carry 488 random bits; the six fixed ones in each do no harm to a key of 64 bytes.
        let key: Vec<u8> = (0..4).flat_map(|_| Uuid::new_v4().into_bytes()).collect();
        sqlx::query("insert into plant (node, cookie_key) values ($1, $2) on conflict do nothing")
            .bind(Uuid::now_v7())
            .bind(key)
            .execute(&self.pool)
            .await?;
        Ok(sqlx::query_as("select node, cookie_key from plant").fetch_one(&self.pool).await?)
    }

    /// Ends every connection and waits until they are gone.
    pub async fn close(&self) {
        self.pool.close().await;
    }

    /// Whether the server answers.
    ///
    /// # Errors
    /// When it does not.
    pub async fn ping(&self) -> Result<(), DbError> {
        sqlx::query("select 1").execute(&self.pool).await?;
        Ok(())
    }

    /// Listens for the bell that rings at each new revision. It may miss rings; look once a second as well.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn bell(&self) -> Result<Bell, DbError> {
        let mut listener = PgListener::connect_with(&self.pool).await?;
        listener.listen(config::BELL).await?;
        Ok(Bell(listener))
    }
}

/// Rings when there is a new revision.
pub struct Bell(PgListener);

impl Bell {
    /// Waits for a ring.
    ///
    /// # Errors
    /// When the connection is lost; make a new bell then.
    pub async fn ring(&mut self) -> Result<(), DbError> {
        // `try_recv` tells a lost connection, where `recv` would mend it unseen.
        match self.0.try_recv().await? {
            Some(_) => Ok(()),
            None => Err(DbError::Away("the bell's connection was lost".into())),
        }
    }
}

/// Microseconds since the epoch of a `timestamptz` column, as nanoseconds.
macro_rules! nanos_of {
    ($column:literal) => {
        concat!("(extract(epoch from ", $column, ") * 1000000)::bigint * 1000")
    };
}
pub(crate) use nanos_of;

pub use sqlx::postgres::PgConnectOptions as ConnectOptions;
