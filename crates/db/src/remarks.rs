//! What people leave on trends for others: notes at an instant of a tag, and trends kept under a name.

use crate::{Db, DbError, nanos_of};
use havrel_core::{access::Actor, time::Nanos};
use serde_json::Value as Json;
use sqlx::Row;
use uuid::Uuid;

/// Most notes one question answers.
pub const MOST_NOTES: i64 = 500;
/// Most trends that can be kept.
pub const MOST_TRENDS: i64 = 1000;

/// A note on a tag.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Note {
    pub id: Uuid,
    pub tag: Uuid,
    pub at: Nanos,
    pub text: String,
    pub account: Uuid,
    pub actor: String,
    pub made_at: Nanos,
}

/// A trend under a name.
#[derive(Clone, Debug, PartialEq)]
pub struct KeptTrend {
    pub id: Uuid,
    pub name: String,
    /// What the trend shows, as the interface wrote it.
    pub trend: Json,
    pub account: Uuid,
    pub actor: String,
    pub made_at: Nanos,
}

impl Db {
    /// Writes a note.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn add_note(&self, id: Uuid, tag: Uuid, at: Nanos, text: &str, by: &Actor) -> Result<(), DbError> {
        sqlx::query("insert into tag_note (id, tag, at, text, account, actor) values ($1, $2, $3, $4, $5, $6)")
            .bind(id)
            .bind(tag)
            .bind(at)
            .bind(text)
            .bind(by.account)
            .bind(&by.name)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Notes on tags within `from..=to`, oldest first; the newest [`MOST_NOTES`] where there are more.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn notes(&self, tags: &[Uuid], from: Nanos, to: Nanos) -> Result<Vec<Note>, DbError> {
        let rows = sqlx::query(concat!(
            "select * from (select id, tag, at, text, account, actor, ",
            nanos_of!("made_at"),
            " as made from tag_note where tag = any($1) and at between $2 and $3 order by at desc, id desc limit $4) n order by at, id"
        ))
        .bind(tags)
        .bind(from)
        .bind(to)
        .bind(MOST_NOTES)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                Ok(Note {
                    id: r.try_get("id")?,
                    tag: r.try_get("tag")?,
                    at: r.try_get("at")?,
                    text: r.try_get("text")?,
                    account: r.try_get("account")?,
                    actor: r.try_get("actor")?,
                    made_at: r.try_get("made")?,
                })
            })
            .collect()
    }

    /// Takes a note away, of one account only if given; whether there was one, and what it said.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn remove_note(&self, id: Uuid, account: Option<Uuid>) -> Result<Option<(Uuid, String)>, DbError> {
        Ok(sqlx::query_as("delete from tag_note where id = $1 and ($2 is null or account = $2) returning tag, text")
            .bind(id)
            .bind(account)
            .fetch_optional(&self.pool)
            .await?)
    }

    /// Keeps a trend. One of the same name, in whatever case, is replaced only if `over` says whose may be: anybody's, or those
    /// of one account. `None` when that name is taken or there is no room.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn keep_trend(
        &self,
        name: &str,
        trend: &Json,
        by: &Actor,
        over: Option<Option<Uuid>>,
    ) -> Result<Option<Uuid>, DbError> {
        let id = sqlx::query_scalar(
            "insert into kept_trend (id, name, trend, account, actor) select $1, $2, $3, $4, $5
             where (select count(*) from kept_trend) < $6 or exists (select from kept_trend where lower(name) = lower($2))
             on conflict (lower(name)) do update set name = excluded.name, trend = excluded.trend, account = excluded.account,
                 actor = excluded.actor, made_at = clock_timestamp()
             where $7 and ($8::uuid is null or kept_trend.account = $8)
             returning id",
        )
        .bind(Uuid::now_v7())
        .bind(name)
        .bind(trend)
        .bind(by.account)
        .bind(&by.name)
        .bind(MOST_TRENDS)
        .bind(over.is_some())
        .bind(over.flatten())
        .fetch_optional(&self.pool)
        .await?;
        Ok(id)
    }

    /// All kept trends by name.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn kept_trends(&self) -> Result<Vec<KeptTrend>, DbError> {
        let rows = sqlx::query(concat!(
            "select id, name, trend, account, actor, ",
            nanos_of!("made_at"),
            " as made from kept_trend order by lower(name)"
        ))
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                Ok(KeptTrend {
                    id: r.try_get("id")?,
                    name: r.try_get("name")?,
                    trend: r.try_get("trend")?,
                    account: r.try_get("account")?,
                    actor: r.try_get("actor")?,
                    made_at: r.try_get("made")?,
                })
            })
            .collect()
    }

    /// Forgets a kept trend, of one account only if given; its name if there was one.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn forget_trend(&self, id: Uuid, account: Option<Uuid>) -> Result<Option<String>, DbError> {
        Ok(sqlx::query_scalar("delete from kept_trend where id = $1 and ($2 is null or account = $2) returning name")
            .bind(id)
            .bind(account)
            .fetch_optional(&self.pool)
            .await?)
    }
}
