//! Accounts. Passwords arrive here already hashed.

use crate::{Db, DbError};
use havrel_core::access::{Actor, Role};
use sqlx::{Row, postgres::PgRow};
use uuid::Uuid;

impl Db {
    /// Makes the first account, an engineer. `None`: there is one already.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn first_account(&self, name: &str, password: &str) -> Result<Option<Actor>, DbError> {
        // The lock makes two first visitors queue; the second finds the account of the first.
        let mut tx = self.pool.begin().await?;
        sqlx::query("lock table account in exclusive mode").execute(&mut *tx).await?;
        let account: Option<Uuid> = sqlx::query_scalar(
            "insert into account (id, name, role, password) select $1, $2, 'engineer', $3
             where not exists (select from account) returning id",
        )
        .bind(Uuid::now_v7())
        .bind(name)
        .bind(password)
        .fetch_optional(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(account.map(|account| Actor { account, name: name.to_owned(), role: Role::Engineer }))
    }

    /// Adds an account. `None`: the name is taken.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn add_account(&self, name: &str, role: Role, password: &str) -> Result<Option<Actor>, DbError> {
        let account: Option<Uuid> = sqlx::query_scalar(
            "insert into account (id, name, role, password) values ($1, $2, $3, $4) on conflict do nothing returning id",
        )
        .bind(Uuid::now_v7())
        .bind(name)
        .bind(role.name())
        .bind(password)
        .fetch_optional(&self.pool)
        .await?;
        Ok(account.map(|account| Actor { account, name: name.to_owned(), role }))
    }

    /// Whether anybody has an account yet.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn has_accounts(&self) -> Result<bool, DbError> {
        Ok(sqlx::query_scalar("select exists (select from account)").fetch_one(&self.pool).await?)
    }

    /// The account of that name, whatever its case, with its password's hash.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn account_named(&self, name: &str) -> Result<Option<(Actor, String)>, DbError> {
        let row = sqlx::query("select id, name, role, password from account where lower(name) = lower($1)")
            .bind(name)
            .fetch_optional(&self.pool)
            .await?;
        row.map(|r| Ok((actor(&r)?, r.try_get("password")?))).transpose()
    }

    /// The account with that id, if it still exists.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn account(&self, id: Uuid) -> Result<Option<Actor>, DbError> {
        let row = sqlx::query("select id, name, role from account where id = $1").bind(id).fetch_optional(&self.pool).await?;
        row.map(|r| actor(&r)).transpose()
    }
}

fn actor(row: &PgRow) -> Result<Actor, DbError> {
    let role: String = row.try_get("role")?;
    Ok(Actor { account: row.try_get("id")?, name: row.try_get("name")?, role: Role::from_name(&role).unwrap_or(Role::Viewer) })
}
