//! Accounts and their sessions. Passwords, codes and what cookies carry arrive here already hashed.

use crate::{Db, DbError, nanos_of};
use havrel_core::{
    access::{Actor, Role},
    time::{Nanos, SECOND},
};
use sqlx::{PgConnection, Row, postgres::PgRow};
use uuid::Uuid;

/// An account as the list shows it.
#[derive(Clone, Debug, PartialEq)]
pub struct Account {
    pub id: Uuid,
    pub name: String,
    pub role: Role,
    /// Nobody can sign in with it.
    pub disabled: bool,
    pub made_at: Nanos,
    /// When one of its sessions was used last, to the minute.
    pub seen_at: Option<Nanos>,
    /// Its sessions that have not ended.
    pub sessions: i64,
}

/// Somebody who is signed in on one browser.
#[derive(Clone, Debug, PartialEq)]
pub struct SessionRow {
    pub id: Uuid,
    pub made_at: Nanos,
    pub seen_at: Nanos,
    /// Where it was begun from.
    pub address: String,
    /// What the browser calls itself.
    pub browser: String,
}

/// When sessions end by themselves.
#[derive(Clone, Copy, Debug)]
pub struct SessionLimits {
    /// Unused for so long.
    pub idle: Nanos,
    /// So long after it began.
    pub longest: Nanos,
}

/// Why an account was not made or changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unchanged {
    Missing,
    /// Somebody has the name, or has made the first account already.
    Taken,
    /// Nobody would be left who may configure and manage accounts.
    LastEngineer,
    /// The one-time code is not the one that was given out.
    WrongCode,
}

/// What is changed of an account; what is `None` stays.
#[derive(Clone, Debug, Default)]
pub struct AccountChange {
    pub role: Option<Role>,
    pub disabled: Option<bool>,
    /// The new password's hash.
    pub password: Option<String>,
    /// The session that goes on although the password changed: that of whoever changes their own.
    pub stays: Option<Uuid>,
}

fn seconds(span: Nanos) -> f64 {
    span as f64 / SECOND as f64
}

impl Db {
    /// Makes the first account, an engineer, for whoever has the one-time code; the code is used up.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn first_account(&self, name: &str, password: &str, code: &[u8]) -> Result<Result<Actor, Unchanged>, DbError> {
        // The lock makes two first visitors queue; the second finds the account of the first.
        let mut tx = self.pool.begin().await?;
        sqlx::query("lock table account in exclusive mode").execute(&mut *tx).await?;
        let row = sqlx::query("select exists (select from account), exists (select from setup_code where hash = $1)")
            .bind(code)
            .fetch_one(&mut *tx)
            .await?;
        let refusal = match (row.try_get(0)?, row.try_get(1)?) {
            (true, _) => Some(Unchanged::Taken),
            (false, false) => Some(Unchanged::WrongCode),
            (false, true) => None,
        };
        if let Some(refusal) = refusal {
            tx.roll_back().await?;
            return Ok(Err(refusal));
        }
        let account = Uuid::now_v7();
        sqlx::query("insert into account (id, name, role, password) values ($1, $2, 'engineer', $3)")
            .bind(account)
            .bind(name)
            .bind(password)
            .execute(&mut *tx)
            .await?;
        sqlx::query("delete from setup_code").execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(Ok(Actor { account, name: name.to_owned(), role: Role::Engineer }))
    }

    /// Sets the one-time code for the first account, in the place of an earlier one. Gives `false`, and sets none, where there
    /// is an account already.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn set_setup_code(&self, code: &[u8]) -> Result<bool, DbError> {
        let set = sqlx::query(
            "insert into setup_code (hash) select $1 where not exists (select from account)
             on conflict (only_one) do update set hash = excluded.hash, made_at = clock_timestamp()",
        )
        .bind(code)
        .execute(&self.pool)
        .await?;
        Ok(set.rows_affected() > 0)
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

    /// Changes an account, and ends its sessions where a password changed or it was disabled. Gives its name, or why nothing
    /// changed.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn change_account(&self, id: Uuid, change: &AccountChange) -> Result<Result<String, Unchanged>, DbError> {
        let mut tx = self.pool.begin().await?;
        // Two who take each other's role away at once queue here; the second finds itself the last.
        sqlx::query("lock table account in exclusive mode").execute(&mut *tx).await?;
        let name: Option<String> = sqlx::query_scalar(
            "update account set role = coalesce($2, role), disabled = coalesce($3, disabled), password = coalesce($4, password)
             where id = $1 returning name",
        )
        .bind(id)
        .bind(change.role.map(Role::name))
        .bind(change.disabled)
        .bind(&change.password)
        .fetch_optional(&mut *tx)
        .await?;
        let Some(name) = name else {
            tx.roll_back().await?;
            return Ok(Err(Unchanged::Missing));
        };
        let engineers: bool = sqlx::query_scalar("select exists (select from account where role = 'engineer' and not disabled)")
            .fetch_one(&mut *tx)
            .await?;
        if !engineers {
            tx.roll_back().await?;
            return Ok(Err(Unchanged::LastEngineer));
        }
        if change.disabled == Some(true) || change.password.is_some() {
            sqlx::query("delete from session where account = $1 and ($2::uuid is null or id <> $2)")
                .bind(id)
                .bind(change.stays)
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(Ok(name))
    }

    /// Whether anybody has an account yet.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn has_accounts(&self) -> Result<bool, DbError> {
        Ok(sqlx::query_scalar("select exists (select from account)").fetch_one(&self.pool).await?)
    }

    /// Every account, by name.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn accounts(&self) -> Result<Vec<Account>, DbError> {
        let rows = sqlx::query(concat!(
            "select a.id, a.name, a.role, a.disabled, ",
            nanos_of!("a.made_at"),
            " as made_at, ",
            nanos_of!("max(s.seen_at)"),
            " as seen_at, count(s.id) as sessions from account a left join session s on s.account = a.id
             group by a.id order by lower(a.name)"
        ))
        .fetch_all(&self.pool)
        .await?;
        let read = |r: &PgRow| {
            Ok(Account {
                id: r.try_get("id")?,
                name: r.try_get("name")?,
                role: role(r)?,
                disabled: r.try_get("disabled")?,
                made_at: r.try_get("made_at")?,
                seen_at: r.try_get("seen_at")?,
                sessions: r.try_get("sessions")?,
            })
        };
        rows.iter().map(read).collect()
    }

    /// The account of that name, whatever its case, with its password's hash; none that is disabled.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn account_named(&self, name: &str) -> Result<Option<(Actor, String)>, DbError> {
        let row = sqlx::query("select id, name, role, password from account where lower(name) = lower($1) and not disabled")
            .bind(name)
            .fetch_optional(&self.pool)
            .await?;
        row.map(|r| Ok((actor(&r)?, r.try_get("password")?))).transpose()
    }

    /// Begins a session.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn begin_session(&self, account: Uuid, hash: &[u8], address: &str, browser: &str) -> Result<Uuid, DbError> {
        let id = Uuid::now_v7();
        sqlx::query("insert into session (id, hash, account, address, browser) values ($1, $2, $3, $4, $5)")
            .bind(id)
            .bind(hash)
            .bind(account)
            .bind(address)
            .bind(browser)
            .execute(&self.pool)
            .await?;
        Ok(id)
    }

    /// Whose session it is, with its id, unless it has ended; notes that it was used, at most once a minute. One that has
    /// ended by itself is taken away.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn session(&self, hash: &[u8], limits: SessionLimits) -> Result<Option<(Uuid, Actor)>, DbError> {
        let row = sqlx::query(
            "select s.id as session, a.id, a.name, a.role,
                 s.seen_at < clock_timestamp() - make_interval(secs => $2)
                     or s.made_at < clock_timestamp() - make_interval(secs => $3) as over,
                 s.seen_at < clock_timestamp() - interval '1 minute' as stale
             from session s join account a on a.id = s.account where s.hash = $1 and not a.disabled",
        )
        .bind(hash)
        .bind(seconds(limits.idle))
        .bind(seconds(limits.longest))
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(None) };
        let id: Uuid = row.try_get("session")?;
        if row.try_get("over")? {
            sqlx::query("delete from session where id = $1").bind(id).execute(&self.pool).await?;
            return Ok(None);
        }
        if row.try_get("stale")? {
            sqlx::query("update session set seen_at = clock_timestamp() where id = $1").bind(id).execute(&self.pool).await?;
        }
        Ok(Some((id, actor(&row)?)))
    }

    /// The sessions of an account, the one used last first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn sessions(&self, account: Uuid) -> Result<Vec<SessionRow>, DbError> {
        let rows = sqlx::query(concat!(
            "select id, address, browser, ",
            nanos_of!("made_at"),
            " as made_at, ",
            nanos_of!("seen_at"),
            " as seen_at from session where account = $1 order by seen_at desc limit 200"
        ))
        .bind(account)
        .fetch_all(&self.pool)
        .await?;
        let read = |r: &PgRow| {
            Ok(SessionRow {
                id: r.try_get("id")?,
                made_at: r.try_get("made_at")?,
                seen_at: r.try_get("seen_at")?,
                address: r.try_get("address")?,
                browser: r.try_get("browser")?,
            })
        };
        rows.iter().map(read).collect()
    }

    /// Ends sessions of an account: one, or all. Gives how many it was.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn end_sessions(&self, account: Uuid, only: Option<Uuid>) -> Result<u64, DbError> {
        let ended = sqlx::query("delete from session where account = $1 and ($2::uuid is null or id = $2)")
            .bind(account)
            .bind(only)
            .execute(&self.pool)
            .await?;
        Ok(ended.rows_affected())
    }

    /// Takes away sessions that have ended by themselves.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn sweep_sessions(&self, limits: SessionLimits) -> Result<(), DbError> {
        sqlx::query(
            "delete from session where seen_at < clock_timestamp() - make_interval(secs => $1)
             or made_at < clock_timestamp() - make_interval(secs => $2)",
        )
        .bind(seconds(limits.idle))
        .bind(seconds(limits.longest))
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}

/// Moves the times of sessions along with a step of the clock, so that none ends, or lives on, because of it. Only where the
/// database has the same clock: where its time is nearer to ours before the step than after it, it was not set.
pub(crate) async fn move_sessions(conn: &mut PgConnection, now: Nanos, by: Nanos) -> Result<(), sqlx::Error> {
    sqlx::query(
        "update session set seen_at = seen_at + make_interval(secs => $1), made_at = made_at + make_interval(secs => $1)
         where abs(extract(epoch from clock_timestamp()) - $2) < abs($1) / 2",
    )
    .bind(seconds(by))
    .bind(seconds(now))
    .execute(conn)
    .await?;
    Ok(())
}

fn role(row: &PgRow) -> Result<Role, sqlx::Error> {
    let role: String = row.try_get("role")?;
    Ok(Role::from_name(&role).unwrap_or(Role::Viewer))
}

fn actor(row: &PgRow) -> Result<Actor, DbError> {
    Ok(Actor { account: row.try_get("id")?, name: row.try_get("name")?, role: role(row)? })
}
