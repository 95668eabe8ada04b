//! What arrived at connections and became tags by itself.

use crate::{Db, DbError, nanos_of};
use havrel_core::time::Nanos;
use sqlx::{Row, types::Json};
use std::collections::{HashMap, HashSet};
use uuid::Uuid;

/// An arrival: its mapping, and by what it is known there.
pub type ArrivalKey = (Uuid, String);

/// What became of an arrival.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Arrived {
    pub mapping: Uuid,
    pub key: String,
    /// When it arrived, or was last added to; given by the database.
    pub at: Nanos,
    /// The revision that made the newest of its tags.
    pub revision: Option<i64>,
    /// Ids of tags by where they are read.
    pub tags: HashMap<String, Uuid>,
    /// Places that were made for them, those above first.
    pub places: Vec<Uuid>,
    /// Why it gives no tags, as a sentence.
    pub refused: String,
}

impl Db {
    /// Where tags were made before for some arrivals, and why others were refused.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn arrived(
        &self,
        connection: Uuid,
        keys: &[ArrivalKey],
    ) -> Result<HashMap<ArrivalKey, (HashSet<String>, String)>, DbError> {
        let (mappings, names): (Vec<Uuid>, Vec<&str>) = keys.iter().map(|(mapping, key)| (*mapping, key.as_str())).unzip();
        let rows = sqlx::query(
            "select a.mapping, a.key, a.tags, a.refused from arrival a
             join unnest($2::uuid[], $3::text[]) wanted (mapping, key) on (a.mapping, a.key) = (wanted.mapping, wanted.key)
             where a.connection = $1",
        )
        .bind(connection)
        .bind(mappings)
        .bind(names)
        .fetch_all(&self.pool)
        .await?;
        let read = |r: sqlx::postgres::PgRow| {
            let tags = r.try_get::<Json<HashMap<String, Uuid>>, _>("tags")?.0;
            Ok(((r.try_get("mapping")?, r.try_get("key")?), (tags.into_keys().collect(), r.try_get("refused")?)))
        };
        rows.into_iter().map(read).collect()
    }

    /// Takes note of arrivals; tags are added to those that are known.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn keep_arrivals(&self, connection: Uuid, all: &[Arrived]) -> Result<(), DbError> {
        let mut tx = self.pool.begin().await?;
        for one in all {
            sqlx::query(
                "insert into arrival (connection, mapping, key, revision, tags, places, refused) values ($1, $2, $3, $4, $5, $6, $7)
                 on conflict (connection, mapping, key) do update set tags = arrival.tags || excluded.tags,
                 places = arrival.places || excluded.places,
                 revision = coalesce(excluded.revision, arrival.revision), refused = excluded.refused, at = clock_timestamp()",
            )
            .bind(connection)
            .bind(one.mapping)
            .bind(&one.key)
            .bind(one.revision)
            .bind(Json(&one.tags))
            .bind(&one.places)
            .bind(&one.refused)
            .execute(&mut *tx)
            .await?;
        }
        Ok(tx.commit().await?)
    }

    /// The newest arrivals at a connection, or those with a key, and how many there are in all.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn arrivals(&self, connection: Uuid, key: Option<&str>, most: i64) -> Result<(i64, Vec<Arrived>), DbError> {
        let total = sqlx::query_scalar("select count(*) from arrival where connection = $1")
            .bind(connection)
            .fetch_one(&self.pool)
            .await?;
        let rows = sqlx::query(concat!(
            "select mapping, key, revision, tags, places, refused, ",
            nanos_of!("at"),
            " as at_ns from arrival where connection = $1 and (key = $3 or $3 is null) order by at desc, key limit $2"
        ))
        .bind(connection)
        .bind(most)
        .bind(key)
        .fetch_all(&self.pool)
        .await?;
        let read = |r: sqlx::postgres::PgRow| {
            Ok(Arrived {
                mapping: r.try_get("mapping")?,
                key: r.try_get("key")?,
                at: r.try_get("at_ns")?,
                revision: r.try_get("revision")?,
                tags: r.try_get::<Json<_>, _>("tags")?.0,
                places: r.try_get("places")?,
                refused: r.try_get("refused")?,
            })
        };
        Ok((total, rows.into_iter().map(read).collect::<Result<_, DbError>>()?))
    }

    /// Forgets an arrival, so that its tags are made again. Whether it was known.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn forget_arrival(&self, connection: Uuid, (mapping, key): &ArrivalKey) -> Result<bool, DbError> {
        let gone = sqlx::query("delete from arrival where connection = $1 and mapping = $2 and key = $3")
            .bind(connection)
            .bind(mapping)
            .bind(key)
            .execute(&self.pool)
            .await?;
        Ok(gone.rows_affected() > 0)
    }
}
