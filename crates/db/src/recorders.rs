//! What recorders stored: their rows, how much it is, and what is older than it is kept for.

use crate::{Db, DbError};
use havrel_core::{TagNo, plant::Track, time::Nanos};
use sqlx::Row as _;
use uuid::Uuid;

/// Rows are counted up to this many.
pub const MOST_ROWS: i64 = 100_000;
/// Series of a recorder that tell when its last span was.
const LOOKED_AT: i64 = 200;

/// What a recorder has stored.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Taken {
    /// Rows that it took at events or when it was told to, counted up to [`MOST_ROWS`], and when the last one was.
    pub rows: i64,
    pub last_row: Option<Nanos>,
    /// The beginning of the last span of which it keeps a figure. Its tags end their spans together, so some of them tell.
    pub last_span: Option<Nanos>,
}

/// Tracks of a tag that hold anything.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KeptTrack {
    pub tag: TagNo,
    pub track: Track,
    pub recorder: Uuid,
}

/// How much history takes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct HistorySize {
    /// Bytes of the samples with their index, and of the whole database.
    pub bytes: i64,
    pub database: i64,
    /// How many samples there are, about; none where the database has not counted them yet.
    pub samples: Option<f64>,
}

/// A series of which old samples are removed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Aged {
    /// The value of a tag.
    Value(TagNo),
    /// Every figure that a recorder keeps.
    Figures(Uuid),
}

impl Db {
    /// What recorders have stored, in the order in which they are asked for.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn taken(&self, recorders: &[Uuid]) -> Result<Vec<Taken>, DbError> {
        let rows = sqlx::query(
            "select (select count(*) from (select from recorder_row r where r.recorder = w.id limit $2) r) as rows,
                    (select max(at) from recorder_row r where r.recorder = w.id) as last_row,
                    (select max(p.at) from (select id from series s where s.recorder = w.id and s.aspect > 0 limit $3) s, lateral (
                         select at from sample p where p.series = s.id order by p.at desc, p.epoch desc limit 1) p) as last_span
             from unnest($1::uuid[]) with ordinality as w (id, i) order by w.i",
        )
        .bind(recorders)
        .bind(MOST_ROWS)
        .bind(LOOKED_AT)
        .fetch_all(&self.heavy)
        .await?;
        let taken = |r: sqlx::postgres::PgRow| {
            Ok(Taken { rows: r.try_get("rows")?, last_row: r.try_get("last_row")?, last_span: r.try_get("last_span")? })
        };
        rows.into_iter().map(taken).collect()
    }

    /// The instants of the newest rows of a recorder up to `until`, the newest first, each with who had it taken.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn rows_of(&self, recorder: Uuid, until: Nanos, limit: i64) -> Result<Vec<(Nanos, String)>, DbError> {
        let find = "select at, actor from recorder_row where recorder = $1 and at <= $2 order by at desc limit $3";
        let rows = sqlx::query_as(find).bind(recorder).bind(until).bind(limit).fetch_all(&self.heavy).await?;
        Ok(rows)
    }

    /// How many rows a recorder took since an instant, up to [`MOST_ROWS`].
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn rows_since(&self, recorder: Uuid, since: Nanos) -> Result<i64, DbError> {
        let count = "select count(*) from (select from recorder_row where recorder = $1 and at >= $2 limit $3) r";
        Ok(sqlx::query_scalar(count).bind(recorder).bind(since).bind(MOST_ROWS).fetch_one(&self.pool).await?)
    }

    /// The figures that are kept of tags.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn kept_tracks(&self, tags: &[TagNo]) -> Result<Vec<KeptTrack>, DbError> {
        let numbers: Vec<i32> = tags.iter().map(|tag| tag.cast_signed()).collect();
        let find = "select distinct tag_no, aspect, recorder from series where tag_no = any($1) and aspect > 0 and kind > 0
                    order by tag_no, recorder, aspect";
        let rows = sqlx::query(find).bind(numbers).fetch_all(&self.pool).await?;
        let track = |r: &sqlx::postgres::PgRow| -> Result<Option<KeptTrack>, DbError> {
            let track = Track::from_code(r.try_get::<i16, _>("aspect")? as u8);
            let tag = r.try_get::<i32, _>("tag_no")?.unsigned_abs();
            Ok(track.map(|track| r.try_get("recorder").map(|recorder| KeptTrack { tag, track, recorder })).transpose()?)
        };
        rows.iter().filter_map(|row| track(row).transpose()).collect()
    }

    /// How many samples of the values of tags lie in `from..to`, in the order of the tags, each counted up to `most`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn counted(&self, tags: &[TagNo], from: Nanos, to: Nanos, most: i64) -> Result<Vec<i64>, DbError> {
        let numbers: Vec<i32> = tags.iter().map(|tag| tag.cast_signed()).collect();
        Ok(sqlx::query_scalar(
            "select (select count(*) from (
                         select from series s join sample p on p.series = s.id
                         where s.tag_no = w.tag and s.aspect = 0 and p.at >= $2 and p.at < $3 limit $4) found)
             from unnest($1::int[]) with ordinality as w (tag, i) order by w.i",
        )
        .bind(numbers)
        .bind(from)
        .bind(to)
        .bind(most)
        .fetch_all(&self.heavy)
        .await?)
    }

    /// How much history takes on disk.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn history_size(&self) -> Result<HistorySize, DbError> {
        let row = sqlx::query(
            "select pg_total_relation_size('sample') as bytes, pg_database_size(current_database()) as database,
                    (select reltuples::float8 from pg_class where oid = 'sample'::regclass) as samples",
        )
        .fetch_one(&self.pool)
        .await?;
        let samples: f64 = row.try_get("samples")?;
        Ok(HistorySize {
            bytes: row.try_get("bytes")?,
            database: row.try_get("database")?,
            samples: Some(samples).filter(|n| *n > 0.0),
        })
    }

    /// Removes at most `most` samples that are older than `before`, and says how many it was.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn remove_aged(&self, of: Aged, before: Nanos, most: i64) -> Result<u64, DbError> {
        let (tag, recorder) = match of {
            Aged::Value(tag) => (Some(tag.cast_signed()), None),
            Aged::Figures(recorder) => (None, Some(recorder)),
        };
        // The rows are found by the index first: the table itself has no order.
        let removed = sqlx::query(
            "delete from sample p using (
                 select old.series, old.at, old.epoch from series s, lateral (
                     select series, at, epoch from sample where series = s.id and at < $3 order by at limit $4) old
                 where (s.tag_no = $1 and s.aspect = 0) or (s.recorder = $2 and s.aspect > 0) limit $4) old
             where p.series = old.series and p.at = old.at and p.epoch = old.epoch",
        )
        .bind(tag)
        .bind(recorder)
        .bind(before)
        .bind(most)
        .execute(&self.heavy)
        .await?;
        Ok(removed.rows_affected())
    }

    /// Forgets the instants of rows that are older than `before`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn remove_rows(&self, recorder: Uuid, before: Nanos) -> Result<u64, DbError> {
        let remove = "delete from recorder_row where recorder = $1 and at < $2";
        Ok(sqlx::query(remove).bind(recorder).bind(before).execute(&self.heavy).await?.rows_affected())
    }
}
