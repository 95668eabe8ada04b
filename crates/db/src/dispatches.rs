//! What dispatches set off: marks of what has been gone through, runs, and their deliveries.

use crate::{Db, DbError, editions::Edition};
use havrel_core::{
    dispatch::{Parcel, Run},
    notice::Tries,
    report::Format,
    time::Nanos,
};
use sqlx::{PgConnection, Row, postgres::PgRow};
use std::collections::HashMap;
use uuid::Uuid;

/// What of a dispatch has been gone through.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Mark {
    /// Since when it makes reports by itself.
    pub since: Nanos,
    /// Until when its times by the clock have been gone through.
    pub until: Nanos,
}

/// Which runs are asked for.
#[derive(Clone, Copy, Debug, Default)]
pub struct RunFilter {
    pub report: Option<Uuid>,
    pub dispatch: Option<Uuid>,
    /// Only those set off before.
    pub before: Option<Nanos>,
    /// Only those of which something failed and is given up.
    pub failed: bool,
}

const RUN: &str = "id, dispatch, name, report, at, by, from_ns, to_ns, attempts, next_at, made_at, answer";
const PARCEL: &str = "id, run, connection, to_whom, file, formats, attempts, next_at, sent_at, answer, bytes, took_ms";

impl Db {
    /// What has been gone through of each dispatch.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn dispatch_marks(&self) -> Result<HashMap<Uuid, Mark>, DbError> {
        let rows = sqlx::query("select dispatch, since, until from dispatch_mark").fetch_all(&self.pool).await?;
        let read =
            |row: &PgRow| Ok((row.try_get("dispatch")?, Mark { since: row.try_get("since")?, until: row.try_get("until")? }));
        rows.iter().map(read).collect()
    }

    /// Keeps what dispatches set off and how far they have been gone through, all or nothing. A run of the same dispatch and instant is
    /// there once. Gives the runs that are new.
    ///
    /// # Errors
    /// When the database does not answer; nothing is kept then.
    pub async fn set_off(&self, runs: &[Run], marks: &[(Uuid, Mark)]) -> Result<Vec<Uuid>, DbError> {
        let mut tx = self.pool.begin().await?;
        let mut new = Vec::new();
        for run in runs {
            if begin(&mut tx, run).await? {
                new.push(run.id);
            }
        }
        for (dispatch, mark) in marks {
            sqlx::query(
                "insert into dispatch_mark (dispatch, since, until) values ($1, $2, $3)
                 on conflict (dispatch) do update set since = $2, until = $3",
            )
            .bind(dispatch)
            .bind(mark.since)
            .bind(mark.until)
            .execute(&mut *tx)
            .await?;
        }
        tx.commit().await?;
        Ok(new)
    }

    /// Forgets how far dispatches have been gone through: they make nothing by themselves.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn forget_marks(&self, dispatches: &[Uuid]) -> Result<(), DbError> {
        sqlx::query("delete from dispatch_mark where dispatch = any($1)").bind(dispatches).execute(&self.pool).await?;
        Ok(())
    }

    /// Runs of a dispatch at instants beyond one were set off by a clock that was wrong: they keep what they made, and give their instants
    /// free, so that something is made when these really come. From now on they count as set off at `now`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn free_instants(&self, dispatch: Uuid, beyond: Nanos, now: Nanos) -> Result<u64, DbError> {
        let moved = sqlx::query(
            "update dispatch_run r set at = $3 - n.i from (
                 select id, row_number() over (order by at desc) as i from dispatch_run where dispatch = $1 and at > $2) n
             where r.id = n.id",
        );
        Ok(moved.bind(dispatch).bind(beyond).bind(now).execute(&self.pool).await?.rows_affected())
    }

    /// Events of dispatches of which nothing was made yet, the oldest first: dispatch and instant. Each dispatch comes with the instant
    /// from which on events count.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn new_events(&self, since: &[(Uuid, Nanos)], most: i64) -> Result<Vec<(Uuid, Nanos)>, DbError> {
        let (ids, times): (Vec<Uuid>, Vec<Nanos>) = since.iter().copied().unzip();
        let found = sqlx::query_as(
            "select r.recorder, r.at from unnest($1::uuid[], $2::bigint[]) as w (id, since)
             join recorder_row r on r.recorder = w.id and r.at >= w.since
             where not exists (select from dispatch_run d where d.dispatch = r.recorder and d.at = r.at)
             order by r.at limit $3",
        );
        Ok(found.bind(ids).bind(times).bind(most).fetch_all(&self.pool).await?)
    }

    /// Runs of which the edition is still to be made, the oldest first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn runs_to_make(&self, now: Nanos, most: i64) -> Result<Vec<Run>, DbError> {
        let asked = format!("select {RUN} from dispatch_run where next_at <= $1 order by at, id limit $2");
        let rows = sqlx::query(sqlx::AssertSqlSafe(asked)).bind(now).bind(most).fetch_all(&self.pool).await?;
        self.with_parcels(&rows).await
    }

    /// The edition of a run is made: it is kept, and its deliveries begin.
    ///
    /// # Errors
    /// When the database does not answer; nothing is kept then.
    pub async fn made(&self, run: &Run, edition: &Edition, printed: &crate::editions::Printed) -> Result<(), DbError> {
        let mut tx = self.pool.begin().await?;
        edition.keep(&mut tx, printed).await?;
        keep_making(&mut tx, run).await?;
        sqlx::query("update dispatch_delivery set next_at = $2 where run = $1 and attempts = 0")
            .bind(run.id)
            .bind(run.making.sent_at)
            .execute(&mut *tx)
            .await?;
        Ok(tx.commit().await?)
    }

    /// Keeps how it goes with making the edition of a run.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn keep_making(&self, run: &Run) -> Result<(), DbError> {
        let mut conn = self.pool.acquire().await?;
        Ok(keep_making(&mut conn, run).await?)
    }

    /// Deliveries that are still to be tried, the oldest first, each with its run.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn parcels_to_send(&self, now: Nanos, but: &[Uuid], most: i64) -> Result<Vec<(Uuid, Parcel)>, DbError> {
        let asked =
            format!("select {PARCEL} from dispatch_delivery where next_at <= $1 and id <> all($2) order by next_at, id limit $3");
        let rows = sqlx::query(sqlx::AssertSqlSafe(asked)).bind(now).bind(but).bind(most).fetch_all(&self.pool).await?;
        rows.iter().map(|row| Ok((row.try_get("run")?, parcel(row)?))).collect()
    }

    /// Keeps how it goes with a delivery.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn keep_parcel(&self, parcel: &Parcel) -> Result<(), DbError> {
        sqlx::query(
            "update dispatch_delivery set attempts = $2, next_at = $3, sent_at = $4, answer = $5, bytes = $6, took_ms = $7 where id = $1",
        )
        .bind(parcel.id)
        .bind(i32::try_from(parcel.tries.attempts).unwrap_or(i32::MAX))
        .bind(parcel.tries.next_at)
        .bind(parcel.tries.sent_at)
        .bind(&parcel.tries.answer)
        .bind(parcel.bytes.cast_signed())
        .bind(parcel.took_ms.cast_signed())
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Whatever was given up of a run, or waits for its next try, is tried again from an instant on. Whether there was anything.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn try_again(&self, run: Uuid, at: Nanos) -> Result<bool, DbError> {
        let mut tx = self.pool.begin().await?;
        let made = sqlx::query("update dispatch_run set next_at = $2, attempts = 0 where id = $1 and made_at is null")
            .bind(run)
            .bind(at)
            .execute(&mut *tx)
            .await?;
        let sent = sqlx::query(
            "update dispatch_delivery d set next_at = $2, attempts = 0 from dispatch_run r
             where d.run = $1 and r.id = $1 and r.made_at is not null and d.sent_at is null",
        )
        .bind(run)
        .bind(at)
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(made.rows_affected() + sent.rows_affected() > 0)
    }

    /// Nothing more of a run is tried. Whether anything would have been.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn give_up(&self, run: Uuid, why: &str) -> Result<bool, DbError> {
        let mut tx = self.pool.begin().await?;
        let mut count = 0;
        for part in [
            "dispatch_run set next_at = null, answer = $2 where id = $1",
            "dispatch_delivery set next_at = null, answer = $2 where run = $1",
        ] {
            let stop = format!("update {part} and next_at is not null");
            count += sqlx::query(sqlx::AssertSqlSafe(stop)).bind(run).bind(why).execute(&mut *tx).await?.rows_affected();
        }
        tx.commit().await?;
        Ok(count > 0)
    }

    /// Runs, the newest first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn runs(&self, filter: &RunFilter, most: i64) -> Result<Vec<Run>, DbError> {
        let asked = format!(
            "select {RUN} from dispatch_run r where ($1::uuid is null or report = $1) and ($2::uuid is null or dispatch = $2)
             and ($3::bigint is null or at < $3)
             and (not $4 or (made_at is null and next_at is null) or exists (
                 select from dispatch_delivery d where d.run = r.id and r.made_at is not null and d.sent_at is null and d.next_at is null))
             order by at desc, id desc limit $5"
        );
        let rows = sqlx::query(sqlx::AssertSqlSafe(asked))
            .bind(filter.report)
            .bind(filter.dispatch)
            .bind(filter.before)
            .bind(filter.failed)
            .bind(most)
            .fetch_all(&self.pool)
            .await?;
        self.with_parcels(&rows).await
    }

    /// A run.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn run(&self, id: Uuid) -> Result<Option<Run>, DbError> {
        let asked = format!("select {RUN} from dispatch_run where id = $1");
        let rows = sqlx::query(sqlx::AssertSqlSafe(asked)).bind(id).fetch_all(&self.pool).await?;
        Ok(self.with_parcels(&rows).await?.pop())
    }

    /// The newest run of each dispatch.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn last_runs(&self, dispatches: &[Uuid]) -> Result<HashMap<Uuid, Run>, DbError> {
        let asked = format!(
            "select r.* from unnest($1::uuid[]) as w (id), lateral (
                 select {RUN} from dispatch_run where dispatch = w.id order by at desc limit 1) r"
        );
        let rows = sqlx::query(sqlx::AssertSqlSafe(asked)).bind(dispatches).fetch_all(&self.pool).await?;
        Ok(self.with_parcels(&rows).await?.into_iter().map(|run| (run.dispatch, run)).collect())
    }

    async fn with_parcels(&self, rows: &[PgRow]) -> Result<Vec<Run>, DbError> {
        let ids: Vec<Uuid> = rows.iter().map(|row| row.try_get("id")).collect::<Result<_, sqlx::Error>>()?;
        let asked = format!("select {PARCEL} from dispatch_delivery where run = any($1) order by run, position");
        let mut parcels: HashMap<Uuid, Vec<Parcel>> = HashMap::new();
        for row in sqlx::query(sqlx::AssertSqlSafe(asked)).bind(&ids).fetch_all(&self.pool).await? {
            parcels.entry(row.try_get("run")?).or_default().push(parcel(&row)?);
        }
        rows.iter().map(|row| run(row, &mut parcels)).collect()
    }
}

/// Keeps a new run with its deliveries, which wait for the edition; `false`: there is one of this instant.
async fn begin(conn: &mut PgConnection, run: &Run) -> Result<bool, sqlx::Error> {
    let made = sqlx::query(
        "insert into dispatch_run (id, dispatch, name, report, at, by, from_ns, to_ns, attempts, next_at, made_at, answer)
         values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) on conflict do nothing",
    )
    .bind(run.id)
    .bind(run.dispatch)
    .bind(&run.name)
    .bind(run.report)
    .bind(run.at)
    .bind(&run.by)
    .bind(run.from)
    .bind(run.to)
    .bind(i32::try_from(run.making.attempts).unwrap_or(i32::MAX))
    .bind(run.making.next_at)
    .bind(run.making.sent_at)
    .bind(&run.making.answer)
    .execute(&mut *conn)
    .await?;
    if made.rows_affected() == 0 {
        return Ok(false);
    }
    for (position, parcel) in run.deliveries.iter().enumerate() {
        sqlx::query(
            "insert into dispatch_delivery (id, run, position, connection, to_whom, file, formats) values ($1, $2, $3, $4, $5, $6, $7)",
        )
        .bind(parcel.id)
        .bind(run.id)
        .bind(i32::try_from(position).unwrap_or(i32::MAX))
        .bind(parcel.connection)
        .bind(&parcel.to)
        .bind(&parcel.file)
        .bind(parcel.formats.iter().map(|format| format.name()).collect::<Vec<_>>())
        .execute(&mut *conn)
        .await?;
    }
    Ok(true)
}

async fn keep_making(conn: &mut PgConnection, run: &Run) -> Result<(), sqlx::Error> {
    sqlx::query("update dispatch_run set attempts = $2, next_at = $3, made_at = $4, answer = $5 where id = $1")
        .bind(run.id)
        .bind(i32::try_from(run.making.attempts).unwrap_or(i32::MAX))
        .bind(run.making.next_at)
        .bind(run.making.sent_at)
        .bind(&run.making.answer)
        .execute(conn)
        .await?;
    Ok(())
}

fn run(row: &PgRow, parcels: &mut HashMap<Uuid, Vec<Parcel>>) -> Result<Run, DbError> {
    let id = row.try_get("id")?;
    Ok(Run {
        id,
        dispatch: row.try_get("dispatch")?,
        name: row.try_get("name")?,
        report: row.try_get("report")?,
        at: row.try_get("at")?,
        by: row.try_get("by")?,
        from: row.try_get("from_ns")?,
        to: row.try_get("to_ns")?,
        making: tries(row, "made_at")?,
        deliveries: parcels.remove(&id).unwrap_or_default(),
    })
}

fn parcel(row: &PgRow) -> Result<Parcel, DbError> {
    let formats: Vec<String> = row.try_get("formats")?;
    let (bytes, took): (i64, i64) = (row.try_get("bytes")?, row.try_get("took_ms")?);
    Ok(Parcel {
        id: row.try_get("id")?,
        connection: row.try_get("connection")?,
        to: row.try_get("to_whom")?,
        file: row.try_get("file")?,
        formats: formats.iter().filter_map(|name| Format::from_name(name)).collect(),
        tries: tries(row, "sent_at")?,
        bytes: bytes.unsigned_abs(),
        took_ms: took.unsigned_abs(),
    })
}

fn tries(row: &PgRow, done: &str) -> Result<Tries, DbError> {
    let attempts: i32 = row.try_get("attempts")?;
    Ok(Tries {
        attempts: u32::try_from(attempts).unwrap_or_default(),
        next_at: row.try_get("next_at")?,
        sent_at: row.try_get(done)?,
        answer: row.try_get("answer")?,
    })
}
