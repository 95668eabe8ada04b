//! PostgreSQL for Havrel: configuration, history, alarms, journal and accounts. The only place with SQL.

pub mod alarms;
pub mod answers;
pub mod arrivals;
pub mod backup;
pub mod by_hand;
pub mod calls;
pub mod cluster;
pub mod config;
pub mod dispatches;
pub mod editions;
pub mod history;
pub mod journal;
pub mod listed;
pub mod loop_checks;
pub mod people;
pub mod place;
pub mod plain;
mod pool;
pub mod recorders;
pub mod remarks;
mod term;
pub mod views;

use history::SeriesIds;
use pool::{Pool, Use};
use sqlx::postgres::{PgConnectOptions, PgListener};
use std::{
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, AtomicU32, Ordering},
    },
    time::Duration,
};
use uuid::Uuid;

/// A failure of the database, told to callers without its innards.
#[derive(Debug, thiserror::Error)]
pub enum DbError {
    /// Nobody answers, or not in time.
    #[error("the database does not answer: {0}")]
    Away(String),
    /// It answers, but does nothing for us at present: read-only, no right, no room, a statement ended by somebody.
    #[error("the database refuses: {0}")]
    Refused(String),
    /// It will never take what it was given, because of what that holds.
    #[error("the database refuses this content: {0}")]
    Content(String),
    #[error("there are more than {0} changes between these revisions; choose revisions that are closer together")]
    TooManyChanges(i64),
    /// Another machine has taken over; nothing more is taken from this one.
    #[error("this machine is not on duty any more: it works in term {held}, and the plant is in term {plant}")]
    OldTerm { held: u32, plant: u32 },
    /// A newer version wrote something that this one does not know.
    #[error(transparent)]
    Unknown(#[from] havrel_core::alarm::UnknownCode),
}

impl From<sqlx::Error> for DbError {
    fn from(error: sqlx::Error) -> DbError {
        match &error {
            sqlx::Error::Database(e) => match e.code().as_deref().map_or("", |code| code.get(..2).unwrap_or_default()) {
                // PostgreSQL 15, appendix A: data exception, integrity constraint violation, program limit exceeded.
                "22" | "23" | "54" => DbError::Content(e.to_string()),
                // Insufficient resources, operator intervention, system error; a query that was cancelled is no reason to wait.
                "53" | "57" | "58" if e.code().as_deref() != Some("57014") => DbError::Away(e.to_string()),
                _ => DbError::Refused(e.to_string()),
            },
            sqlx::Error::Encode(_) => DbError::Content(error.to_string()),
            _ => DbError::Away(error.to_string()),
        }
    }
}

/// The database of one plant. Cheap to clone.
#[derive(Clone, Debug)]
pub struct Db {
    /// For what people wait for: short questions.
    pool: Pool,
    /// For questions that read much. They never hold up the others.
    heavy: Pool,
    /// For frames, and for finding out whether the database answers.
    record: Pool,
    away: Arc<AtomicBool>,
    /// Held by the import that is under way.
    importing: Arc<tokio::sync::Mutex<()>>,
    /// Series that are known to be there: they are never deleted.
    series: Arc<Mutex<SeriesIds>>,
    /// The term in which this machine stores and edits.
    term: Arc<AtomicU32>,
}

const ORDINARY: Use = Use { connections: 10, wait: Duration::from_secs(2), exchange: Duration::from_secs(15), probes: false };
const HEAVY: Use = Use { connections: 3, wait: Duration::from_secs(20), exchange: Duration::from_secs(60), probes: false };
const RECORD: Use = Use { connections: 3, wait: Duration::from_secs(2), exchange: Duration::from_secs(120), probes: true };

/// The migrations that make a database of the present form.
pub static MIGRATIONS: sqlx::migrate::Migrator = sqlx::migrate!();

impl Db {
    /// Connects and brings the tables to the present form.
    ///
    /// # Errors
    /// When the server does not answer or a migration fails.
    pub async fn open(options: PgConnectOptions) -> Result<Db, DbError> {
        let away = Arc::default();
        // A migration may take long, on a connection of its own.
        let long = Use { connections: 1, wait: Duration::from_secs(5), exchange: Duration::from_secs(6 * 3600), probes: true };
        let migrating = Pool::of(&options, long, &away);
        MIGRATIONS.run(migrating.plain()).await.map_err(|e| match e {
            sqlx::migrate::MigrateError::Execute(error) => error.into(),
            other => DbError::Refused(other.to_string()),
        })?;
        let term = sqlx::query_scalar::<_, i32>("select term from term").fetch_one(migrating.plain()).await?;
        migrating.plain().close().await;
        let pool = |of| Pool::of(&options, of, &away);
        let (pool, heavy, record) = (pool(ORDINARY), pool(HEAVY), pool(RECORD));
        let term = Arc::new(AtomicU32::new(term.unsigned_abs()));
        Ok(Db { pool, heavy, record, away, importing: Arc::default(), series: Arc::default(), term })
    }

    /// Tells that the database is away, or back: while it is, whoever asks is told so at once.
    pub fn set_away(&self, away: bool) {
        self.away.store(away, Ordering::Relaxed);
    }

    /// The node's identity, made on the first call.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn identity(&self) -> Result<Uuid, DbError> {
        sqlx::query("insert into plant (node) values ($1) on conflict do nothing")
            .bind(Uuid::now_v7())
            .execute(&self.pool)
            .await?;
        Ok(sqlx::query_scalar("select node from plant").fetch_one(&self.pool).await?)
    }

    /// Ends every connection and waits until they are gone.
    pub async fn close(&self) {
        for pool in [&self.pool, &self.heavy, &self.record] {
            pool.plain().close().await;
        }
    }

    /// Whether the server answers, also while it is known to be away.
    ///
    /// # Errors
    /// When it does not.
    pub async fn ping(&self) -> Result<(), DbError> {
        sqlx::query("select 1").execute(&self.record).await?;
        Ok(())
    }

    /// Listens for the bell that rings at each new revision. It may miss rings; look once a second as well.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn bell(&self) -> Result<Bell, DbError> {
        let mut listener = PgListener::connect_with(self.record.plain()).await?;
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
