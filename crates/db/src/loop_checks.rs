//! Loop checks that were made.

use crate::{Db, DbError};
use havrel_core::plant::loop_check::LoopCheck;
use sqlx::{Row, postgres::PgRow, types::Json};
use uuid::Uuid;

/// Most checks of one tag that are given.
pub const MOST_CHECKS: i64 = 100;

fn check(row: &PgRow) -> Result<LoopCheck, DbError> {
    Ok(LoopCheck {
        id: row.try_get("id")?,
        tag: row.try_get("tag")?,
        at: row.try_get("at")?,
        account: row.try_get("account")?,
        actor: row.try_get("actor")?,
        passed: row.try_get("passed")?,
        remark: row.try_get("remark")?,
        seen: row.try_get::<Json<_>, _>("seen")?.0,
        way: row.try_get::<Json<_>, _>("way")?.0,
    })
}

impl Db {
    /// Keeps a check.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn add_loop_check(&self, check: &LoopCheck) -> Result<(), DbError> {
        sqlx::query(
            "insert into loop_check (id, tag, at, account, actor, passed, remark, seen, way)
             values ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
        )
        .bind(check.id)
        .bind(check.tag)
        .bind(check.at)
        .bind(check.account)
        .bind(&check.actor)
        .bind(check.passed)
        .bind(&check.remark)
        .bind(Json(&check.seen))
        .bind(Json(&check.way))
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The last check of each tag that has one.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn last_loop_checks(&self) -> Result<Vec<LoopCheck>, DbError> {
        let rows = sqlx::query("select distinct on (tag) * from loop_check order by tag, at desc, id desc").fetch_all(&self.pool);
        rows.await?.iter().map(check).collect()
    }

    /// The checks of a tag, the newest first, at most [`MOST_CHECKS`].
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn loop_checks(&self, tag: Uuid) -> Result<Vec<LoopCheck>, DbError> {
        let rows = sqlx::query("select * from loop_check where tag = $1 order by at desc, id desc limit $2")
            .bind(tag)
            .bind(MOST_CHECKS)
            .fetch_all(&self.pool);
        rows.await?.iter().map(check).collect()
    }
}
