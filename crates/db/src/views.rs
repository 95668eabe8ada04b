//! Views of sheets that people keep under a name.

use crate::{Db, DbError};
use havrel_core::access::Actor;
use serde_json::Value as Json;
use sqlx::Row;
use uuid::Uuid;

/// Most views that are kept of one sheet.
pub const MOST_VIEWS: i64 = 200;

/// A kept view.
#[derive(Clone, Debug)]
pub struct KeptView {
    pub id: Uuid,
    pub name: String,
    pub view: Json,
    pub actor: String,
}

impl Db {
    /// All kept views of a sheet by name.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn kept_views(&self, sheet: &str) -> Result<Vec<KeptView>, DbError> {
        let rows = sqlx::query("select id, name, view, actor from kept_view where sheet = $1 order by lower(name)")
            .bind(sheet)
            .fetch_all(&self.pool)
            .await?;
        let view = |r: sqlx::postgres::PgRow| {
            Ok(KeptView { id: r.try_get("id")?, name: r.try_get("name")?, view: r.try_get("view")?, actor: r.try_get("actor")? })
        };
        rows.into_iter().map(view).collect()
    }

    /// Keeps a view; one of the same name, in whatever case, is replaced. `None` where there is no room for one more.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn keep_view(&self, sheet: &str, name: &str, view: &Json, by: &Actor) -> Result<Option<Uuid>, DbError> {
        Ok(sqlx::query_scalar(
            "insert into kept_view (id, sheet, name, view, account, actor) select $1, $2, $3, $4, $5, $6
             where (select count(*) from kept_view where sheet = $2) < $7
                or exists (select from kept_view where sheet = $2 and lower(name) = lower($3))
             on conflict (sheet, lower(name)) do update set name = excluded.name, view = excluded.view,
                 account = excluded.account, actor = excluded.actor, made_at = clock_timestamp()
             returning id",
        )
        .bind(Uuid::now_v7())
        .bind(sheet)
        .bind(name)
        .bind(view)
        .bind(by.account)
        .bind(&by.name)
        .bind(MOST_VIEWS)
        .fetch_optional(&self.pool)
        .await?)
    }

    /// Forgets a view; its name if there was one.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn forget_view(&self, id: Uuid) -> Result<Option<String>, DbError> {
        Ok(sqlx::query_scalar("delete from kept_view where id = $1 returning name").bind(id).fetch_optional(&self.pool).await?)
    }
}
