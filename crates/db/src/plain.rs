//! What sources without a wire keep: values of memory tags over a restart, and the tokens of programs that push.

use crate::{Db, DbError, nanos_of};
use havrel_core::{TagNo, time::Nanos};
use serde_json::Value as Json;
use sqlx::Row;
use uuid::Uuid;

/// What a program shows to push values or to read kept lookups; the token itself is known only to whoever was given it.
#[derive(Clone, Debug, PartialEq)]
pub struct Token {
    pub id: Uuid,
    pub name: String,
    /// It reads kept lookups; otherwise it pushes values.
    pub reads: bool,
    /// Under which place it may push or read; `None`: anywhere.
    pub place: Option<Uuid>,
    pub made_at: Nanos,
    pub made_by: String,
    pub used_at: Option<Nanos>,
    /// When it ends by itself; `None`: never.
    pub expires_at: Option<Nanos>,
    /// Most values it may send each second.
    pub most_values: u32,
}

/// A token to be made.
#[derive(Clone, Copy, Debug)]
pub struct NewToken<'a> {
    pub name: &'a str,
    pub hash: &'a [u8],
    pub reads: bool,
    pub place: Option<Uuid>,
    pub by: &'a str,
    pub expires_at: Option<Nanos>,
    pub most_values: u32,
}

impl Db {
    /// Values of memory tags: number, time, value.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn kept_values(&self) -> Result<Vec<(TagNo, Nanos, Json)>, DbError> {
        let rows = sqlx::query("select tag, at, value from kept_value").fetch_all(&self.pool).await?;
        rows.iter().map(|r| Ok((r.try_get::<i32, _>("tag")?.unsigned_abs(), r.try_get("at")?, r.try_get("value")?))).collect()
    }

    /// Makes a token known by the hash of it. `None`: the name is taken.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn add_token(&self, token: &NewToken<'_>) -> Result<Option<Uuid>, DbError> {
        let id: Option<Uuid> = sqlx::query_scalar(
            "insert into token (id, name, hash, place, made_by, expires_at, most_values, reads)
             values ($1, $2, $3, $4, $5, timestamptz 'epoch' + $6 * interval '1 microsecond', $7, $8)
             on conflict (name) do nothing returning id",
        )
        .bind(Uuid::now_v7())
        .bind(token.name)
        .bind(token.hash)
        .bind(token.place)
        .bind(token.by)
        .bind(token.expires_at.map(|at| at.div_euclid(1000)))
        .bind(token.most_values.cast_signed())
        .bind(token.reads)
        .fetch_optional(&self.pool)
        .await?;
        Ok(id)
    }

    /// The token with this hash, if there is one; notes that it was used, at most once a minute.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn token_of(&self, hash: &[u8]) -> Result<Option<Token>, DbError> {
        let found = self.tokens_where(Some(hash)).await?.pop();
        if let Some(token) = &found {
            sqlx::query(
                "update token set used_at = now() where id = $1 and (used_at is null or used_at < now() - interval '1 minute')",
            )
            .bind(token.id)
            .execute(&self.pool)
            .await?;
        }
        Ok(found)
    }

    /// Every token, by name.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn tokens(&self) -> Result<Vec<Token>, DbError> {
        self.tokens_where(None).await
    }

    async fn tokens_where(&self, hash: Option<&[u8]>) -> Result<Vec<Token>, DbError> {
        let rows = sqlx::query(concat!(
            "select id, name, place, made_by, most_values, reads, ",
            nanos_of!("expires_at"),
            " as expires_at, ",
            nanos_of!("made_at"),
            " as made_at, ",
            nanos_of!("used_at"),
            " as used_at from token where $1::bytea is null or hash = $1 order by name"
        ))
        .bind(hash)
        .fetch_all(&self.pool)
        .await?;
        let read = |r: &sqlx::postgres::PgRow| {
            Ok(Token {
                id: r.try_get("id")?,
                name: r.try_get("name")?,
                reads: r.try_get("reads")?,
                place: r.try_get("place")?,
                made_at: r.try_get("made_at")?,
                made_by: r.try_get("made_by")?,
                used_at: r.try_get("used_at")?,
                expires_at: r.try_get("expires_at")?,
                most_values: r.try_get::<i32, _>("most_values")?.unsigned_abs(),
            })
        };
        rows.iter().map(read).collect()
    }

    /// Takes a token away. Its name, or `None` where there is none.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn remove_token(&self, id: Uuid) -> Result<Option<String>, DbError> {
        Ok(sqlx::query_scalar("delete from token where id = $1 returning name").bind(id).fetch_optional(&self.pool).await?)
    }
}
