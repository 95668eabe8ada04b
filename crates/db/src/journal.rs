//! The journal: who did what and when.

use crate::{Db, DbError, nanos_of};
use havrel_core::{access::Actor, time::Nanos};
use serde_json::Value as Json;
use sqlx::Row;
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

impl Db {
    /// Adds a line.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn note(
        &self,
        kind: &str,
        actor: Option<&Actor>,
        subject: Option<Uuid>,
        title: &str,
        detail: Json,
    ) -> Result<(), DbError> {
        sqlx::query("insert into journal (kind, account, actor, subject, title, detail) values ($1, $2, $3, $4, $5, $6)")
            .bind(kind)
            .bind(actor.map(|a| a.account))
            .bind(actor.map_or("Havrel", |a| a.name.as_str()))
            .bind(subject)
            .bind(title)
            .bind(detail)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Lines older than `before`, newest first, at most 500; only of one kind if given.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn journal(&self, before: Option<i64>, kind: Option<&str>, limit: i64) -> Result<Vec<Entry>, DbError> {
        let rows = sqlx::query(concat!(
            "select id, ",
            nanos_of!("at"),
            " as at, kind, actor, title, detail from journal
             where ($1::bigint is null or id < $1) and ($2::text is null or kind = $2) order by id desc limit $3"
        ))
        .bind(before)
        .bind(kind)
        .bind(limit.clamp(1, 500))
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                Ok(Entry {
                    id: r.try_get("id")?,
                    at: r.try_get("at")?,
                    kind: r.try_get("kind")?,
                    actor: r.try_get("actor")?,
                    title: r.try_get("title")?,
                    detail: r.try_get("detail")?,
                })
            })
            .collect()
    }
}
