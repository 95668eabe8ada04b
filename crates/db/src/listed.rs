//! What lay below the nodes of devices when somebody marked it as seen.

use crate::{Db, DbError};
use sqlx::{Row, types::Json};
use uuid::Uuid;

/// Longest id of a node below which the list is kept, in bytes.
pub const LONGEST_ABOVE: usize = 2000;

/// A node that was listed: its id and its name.
pub type Listed = (String, String);

impl Db {
    /// What was listed below a node of a connection, and when, in microseconds since 1970; `None` where nothing was.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn listed(&self, connection: Uuid, above: &str) -> Result<Option<(i64, Vec<Listed>)>, DbError> {
        let row = sqlx::query(
            "select (extract(epoch from at) * 1e6)::bigint as at, nodes from listed where connection = $1 and above = $2",
        )
        .bind(connection)
        .bind(above)
        .fetch_optional(&self.pool)
        .await?;
        row.map(|r| Ok((r.try_get("at")?, r.try_get::<Json<Vec<Listed>>, _>("nodes")?.0))).transpose()
    }

    /// Takes note of what is listed now, in place of what was listed before.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn keep_listed(&self, connection: Uuid, above: &str, nodes: &[Listed]) -> Result<(), DbError> {
        sqlx::query(
            "insert into listed (connection, above, nodes) values ($1, $2, $3)
             on conflict (connection, above) do update set nodes = excluded.nodes, at = clock_timestamp()",
        )
        .bind(connection)
        .bind(above)
        .bind(Json(nodes))
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}
