//! The journal: who did what and when. Its lines come with the frames, so that none is lost while the database is away; those of
//! the configuration are written with their revision.

use crate::{Db, DbError, nanos_of};
use havrel_core::{frame::Note, time::Nanos};
use serde_json::Value as Json;
use sqlx::{PgConnection, Row, postgres::PgRow};
use uuid::Uuid;

/// One line of the journal.
#[derive(Clone, Debug, PartialEq)]
pub struct Entry {
    pub id: i64,
    pub at: Nanos,
    /// `sign_in`, `configuration`, `write`, `by_hand`, `acknowledge`, `report`, `system`.
    pub kind: String,
    pub actor: String,
    pub title: String,
    pub detail: Json,
}

/// Adds a line that came with a frame.
pub(crate) async fn put(conn: &mut PgConnection, note: &Note) -> Result<(), sqlx::Error> {
    sqlx::query(
        "insert into journal (at, kind, account, actor, subject, title, detail)
         values (timestamptz 'epoch' + $1 * interval '1 microsecond', $2, $3, $4, $5, $6, $7::text::jsonb)",
    )
    .bind(note.at.div_euclid(1000))
    .bind(&note.kind)
    .bind(note.account)
    .bind(&note.actor)
    .bind(note.subject)
    .bind(&note.title)
    .bind(&note.detail)
    .execute(conn)
    .await?;
    Ok(())
}

impl Db {
    /// Lines older than `before`, newest first, at most 500; only of one kind, and only about these subjects, if given.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn journal(
        &self,
        before: Option<i64>,
        kind: Option<&str>,
        subjects: Option<&[Uuid]>,
        limit: i64,
    ) -> Result<Vec<Entry>, DbError> {
        let rows = sqlx::query(concat!(
            "select id, ",
            nanos_of!("at"),
            " as at, kind, actor, title, detail from journal
             where ($1::bigint is null or id < $1) and ($2::text is null or kind = $2)
                 and ($4::uuid[] is null or subject = any($4)) order by id desc limit $3"
        ))
        .bind(before)
        .bind(kind)
        .bind(limit.clamp(1, 500))
        .bind(subjects)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(entry).collect()
    }

    /// Lines of some kinds about some subjects within `from..=to`, newest first, at most `limit`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn journal_within(
        &self,
        from: Nanos,
        to: Nanos,
        kinds: &[&str],
        subjects: &[Uuid],
        limit: i64,
    ) -> Result<Vec<Entry>, DbError> {
        let rows = sqlx::query(concat!(
            "select id, ",
            nanos_of!("at"),
            " as at, kind, actor, title, detail from journal
             where at between timestamptz 'epoch' + $1 * interval '1 microsecond' and timestamptz 'epoch' + $2 * interval '1 microsecond'
                 and kind = any($3) and subject = any($4) order by id desc limit $5"
        ))
        .bind(from.div_euclid(1000))
        .bind(to.div_euclid(1000))
        .bind(kinds)
        .bind(subjects)
        .bind(limit)
        .fetch_all(&self.heavy)
        .await?;
        rows.iter().map(entry).collect()
    }
}

fn entry(row: &PgRow) -> Result<Entry, DbError> {
    Ok(Entry {
        id: row.try_get("id")?,
        at: row.try_get("at")?,
        kind: row.try_get("kind")?,
        actor: row.try_get("actor")?,
        title: row.try_get("title")?,
        detail: row.try_get("detail")?,
    })
}
