//! The configuration: one door for edits, numbered revisions, and the way to catch up with them.

use crate::{Db, DbError, nanos_of};
use havrel_core::{
    plant::{Change, Edit, Kind, Own, Plant, Problem, SourceCheck, Stored, edit},
    time::Nanos,
};
use serde_json::Value as Json;
use sqlx::{AssertSqlSafe, Executor, PgConnection, Postgres, Row};
use std::collections::HashMap;
use uuid::Uuid;

/// The channel on which a new revision is announced, without content.
pub const BELL: &str = "havrel_revision";

/// Most changes of revisions that are read at once.
const MOST_CHANGES: i64 = 400_000;
/// Changes that one statement writes.
const AT_ONCE: usize = 5_000;
/// Above this are no numbers of tags: what the database keeps is smaller.
const FIRST_WITHOUT: u32 = i32::MAX.unsigned_abs();
/// How much of a commit is working out what the edits come to; the rest is writing.
const WORKED_OUT: f64 = 0.4;

/// Who changes the configuration, and why.
#[derive(Clone, Debug)]
pub struct By {
    pub account: Option<Uuid>,
    pub actor: String,
    /// Stands in the journal: “Added connection Extraction”.
    pub why: String,
    /// The revision that this one takes back.
    pub undoes: Option<i64>,
}

/// Why nothing was changed.
#[derive(Debug, thiserror::Error)]
pub enum CommitError {
    #[error("the edits were refused")]
    Refused(Vec<Problem>),
    #[error("nothing would change")]
    Nothing,
    #[error("it was stopped before anything changed")]
    Stopped,
    #[error(transparent)]
    Db(#[from] DbError),
}

impl From<sqlx::Error> for CommitError {
    fn from(error: sqlx::Error) -> CommitError {
        CommitError::Db(error.into())
    }
}

/// One revision in the list.
#[derive(Clone, Debug)]
pub struct Revision {
    pub number: i64,
    pub at: Nanos,
    pub actor: String,
    pub why: String,
    pub undoes: Option<i64>,
    pub changes: i64,
}

impl Db {
    /// Reads the whole configuration. Items that no longer resolve are named in the second part.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn load_plant(&self) -> Result<(Plant, Vec<(Uuid, String)>), DbError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("set transaction isolation level repeatable read, read only").execute(&mut *tx).await?;
        let revision: Option<i64> = sqlx::query_scalar("select revision from plant").fetch_optional(&mut *tx).await?;
        let mut stored = Vec::new();
        for kind in Kind::ALL {
            let no = if kind == Kind::Tag { "no" } else { "0" };
            let sql = format!("select id, {no} as no, rev, own from {}", kind.name());
            for row in sqlx::query(AssertSqlSafe(sql)).fetch_all(&mut *tx).await? {
                stored.push(Stored {
                    kind,
                    id: row.try_get("id")?,
                    no: row.try_get::<i32, _>("no")?.unsigned_abs(),
                    revision: row.try_get("rev")?,
                    own: object(row.try_get("own")?),
                });
            }
        }
        tx.commit().await?;
        Ok(Plant::from_stored(revision.unwrap_or(0), stored))
    }

    /// What changed in the revisions after `revision`, oldest first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn changes_after(&self, revision: i64) -> Result<Vec<(i64, Vec<Change>)>, DbError> {
        Ok(changes(&self.pool, revision, i64::MAX).await?)
    }

    /// Puts edits through the one door: all of them or none. `base` may be older than what is stored; it is brought up
    /// to date first. Gives the new plant.
    ///
    /// # Errors
    /// Every problem of the edits, or the database's own.
    pub async fn commit(
        &self,
        base: &Plant,
        edits: &[Edit],
        by: &By,
        check: impl SourceCheck + Send + 'static,
    ) -> Result<Plant, CommitError> {
        self.commit_watched(base, edits, by, check, |_| true).await
    }

    /// The same for many edits: `watch` hears how much is done, from 0 to 1, and says whether to go on.
    ///
    /// # Errors
    /// Every problem of the edits, that it was told to stop, or the database's own.
    pub async fn commit_watched(
        &self,
        base: &Plant,
        edits: &[Edit],
        by: &By,
        check: impl SourceCheck + Send + 'static,
        mut watch: impl FnMut(f64) -> bool + Send + 'static,
    ) -> Result<Plant, CommitError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("select revision from plant for update").execute(&mut *tx).await?;
        self.in_term(&mut tx).await?;
        let mut base = base.clone();
        for (number, changes) in changes(&mut *tx, base.revision, i64::MAX).await? {
            base = base.absorb(number, &changes).map_err(DbError::Refused)?;
        }
        // A hundred thousand edits take seconds to be worked out: not on a thread that others wait for.
        let edits = edits.to_vec();
        let worked = tokio::task::spawn_blocking(move || {
            // How many tags classes make shows only here, so numbers of their own come behind.
            let mut number = FIRST_WITHOUT;
            let number = || {
                number += 1;
                number
            };
            let worked = edit::apply_watched(&base, &edits, &check, number, &mut |share| watch(share * WORKED_OUT));
            (worked, watch)
        });
        let (worked, mut watch) = worked.await.map_err(|error| DbError::Refused(error.to_string()))?;
        let refused = |problems: Vec<Problem>| match problems.is_empty() {
            true => CommitError::Stopped,
            false => CommitError::Refused(problems),
        };
        let (mut next, mut changes) = worked.map_err(refused)?;
        if changes.is_empty() {
            return Err(CommitError::Nothing);
        }
        let fresh: Vec<Uuid> = changes.iter().filter(|c| c.no > FIRST_WITHOUT).map(|c| c.id).collect();
        if !fresh.is_empty() {
            edit::number(&mut next, &mut changes, &numbers(&mut tx, fresh).await?);
        }
        for (index, some) in changes.chunks(AT_ONCE).enumerate() {
            let from = index * AT_ONCE;
            if !watch(WORKED_OUT + (1.0 - WORKED_OUT) * from as f64 / changes.len() as f64) {
                return Err(CommitError::Stopped);
            }
            write(&mut tx, &next, some, from).await?;
        }
        sqlx::query("insert into revision (number, account, actor, why, undoes) values ($1, $2, $3, $4, $5)")
            .bind(next.revision)
            .bind(by.account)
            .bind(&by.actor)
            .bind(&by.why)
            .bind(by.undoes)
            .execute(&mut *tx)
            .await?;
        sqlx::query("update plant set revision = $1").bind(next.revision).execute(&mut *tx).await?;
        sqlx::query("insert into journal (kind, account, actor, title, detail) values ('configuration', $1, $2, $3, $4)")
            .bind(by.account)
            .bind(&by.actor)
            .bind(&by.why)
            .bind(serde_json::json!({"revision": next.revision, "undoes": by.undoes}))
            .execute(&mut *tx)
            .await?;
        sqlx::query("select pg_notify($1, '')").bind(BELL).execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(next)
    }

    /// The newest revisions before `before`, newest first, at most 200.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn revisions(&self, before: i64, limit: i64) -> Result<Vec<Revision>, DbError> {
        let rows = sqlx::query(concat!(
            "select number, ",
            nanos_of!("at"),
            " as at, actor, why, undoes, (select count(*) from revision_change c where c.revision = number) as changes",
            " from revision where number < $1 order by number desc limit $2"
        ))
        .bind(before)
        .bind(limit.clamp(1, 200))
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                Ok(Revision {
                    number: r.try_get("number")?,
                    at: r.try_get("at")?,
                    actor: r.try_get("actor")?,
                    why: r.try_get("why")?,
                    undoes: r.try_get("undoes")?,
                    changes: r.try_get("changes")?,
                })
            })
            .collect()
    }

    /// The revision that was in force at an instant; `None` before the first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn revision_at(&self, at: Nanos) -> Result<Option<i64>, DbError> {
        let of = concat!("select max(number) from revision where ", nanos_of!("at"), " <= $1");
        Ok(sqlx::query_scalar(of).bind(at).fetch_one(&self.pool).await?)
    }

    /// What one revision changed.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn changes_of(&self, revision: i64) -> Result<Vec<Change>, DbError> {
        self.changes_between(revision.saturating_sub(1), revision).await
    }

    /// What the revisions after `from` up to and with `to` changed, oldest first.
    ///
    /// # Errors
    /// When the database does not answer, or it is more than can be read at once.
    pub async fn changes_between(&self, from: i64, to: i64) -> Result<Vec<Change>, DbError> {
        let count: i64 = sqlx::query_scalar("select count(*) from revision_change where revision > $1 and revision <= $2")
            .bind(from)
            .bind(to)
            .fetch_one(&self.heavy)
            .await?;
        // All of them are held at once.
        if count > MOST_CHANGES {
            return Err(DbError::TooManyChanges(MOST_CHANGES));
        }
        let found = changes(&self.heavy, from, to).await?;
        Ok(found.into_iter().flat_map(|(_, changes)| changes).collect())
    }
}

/// A number for each new tag; one that was there before gets the number that it had, and with it its history.
async fn numbers(conn: &mut PgConnection, tags: Vec<Uuid>) -> Result<HashMap<Uuid, u32>, sqlx::Error> {
    let rows = sqlx::query(
        "select t as item, coalesce(\
           (select c.no from revision_change c where c.kind = 'tag' and c.item = t order by c.revision desc limit 1), \
           nextval('tag_no')::int) as no \
         from unnest($1::uuid[]) as t",
    )
    .bind(tags)
    .fetch_all(conn)
    .await?;
    rows.into_iter().map(|row| Ok((row.try_get("item")?, row.try_get::<i32, _>("no")?.unsigned_abs()))).collect()
}

async fn changes<'e>(
    conn: impl Executor<'e, Database = Postgres>,
    after: i64,
    last: i64,
) -> Result<Vec<(i64, Vec<Change>)>, sqlx::Error> {
    let rows = sqlx::query(
        "select revision, kind, item, no, before, after from revision_change where revision > $1 and revision <= $2 order by revision, ordinal",
    )
    .bind(after)
    .bind(last)
    .fetch_all(conn)
    .await?;
    let mut found: Vec<(i64, Vec<Change>)> = Vec::new();
    for row in rows {
        let number: i64 = row.try_get("revision")?;
        let name: String = row.try_get("kind")?;
        let kind = Kind::from_name(&name).ok_or_else(|| sqlx::Error::Protocol(format!("unknown kind {name}")))?;
        let change = Change {
            kind,
            id: row.try_get("item")?,
            no: row.try_get::<i32, _>("no")?.unsigned_abs(),
            before: row.try_get::<Option<Json>, _>("before")?.map(object),
            after: row.try_get::<Option<Json>, _>("after")?.map(object),
        };
        match found.last_mut() {
            Some((last, changes)) if *last == number => changes.push(change),
            _ => found.push((number, vec![change])),
        }
    }
    Ok(found)
}

fn object(value: Json) -> Own {
    match value {
        Json::Object(map) => map,
        _ => Own::new(),
    }
}

/// Writes what changed, kind by kind, each with one statement; `from` is the place of the first among all changes.
async fn write(conn: &mut PgConnection, next: &Plant, changes: &[Change], from: usize) -> Result<(), sqlx::Error> {
    for kind in Kind::ALL {
        let (mut ids, mut owns, mut numbers, mut gone) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        for change in changes.iter().filter(|c| c.kind == kind) {
            match next.own(kind, change.id) {
                None => gone.push(change.id),
                Some((own, no, _)) => {
                    ids.push(change.id);
                    owns.push(Json::Object(own.clone()));
                    numbers.push(no.cast_signed());
                }
            }
        }
        let table = kind.name();
        if !gone.is_empty() {
            sqlx::query(AssertSqlSafe(format!("delete from {table} where id = any($1)"))).bind(gone).execute(&mut *conn).await?;
        }
        if ids.is_empty() {
            continue;
        }
        let (column, value) = if kind == Kind::Tag { (", no", ", n") } else { ("", "") };
        let sql = format!(
            "insert into {table} (id, rev, own{column}) select i, $1, o{value} from unnest($2::uuid[], $3::jsonb[], $4::int[]) as t(i, o, n) \
             on conflict (id) do update set rev = excluded.rev, own = excluded.own"
        );
        sqlx::query(AssertSqlSafe(sql)).bind(next.revision).bind(ids).bind(owns).bind(numbers).execute(&mut *conn).await?;
    }
    let json = |own: &Option<Own>| own.clone().map(Json::Object);
    sqlx::query(
        "insert into revision_change (revision, ordinal, kind, item, no, before, after) \
         select $1, o, k, i, n, b, a from unnest($2::int[], $3::text[], $4::uuid[], $5::int[], $6::jsonb[], $7::jsonb[]) as t(o, k, i, n, b, a)",
    )
    .bind(next.revision)
    .bind((from..from + changes.len()).map(|n| n as i32).collect::<Vec<_>>())
    .bind(changes.iter().map(|c| c.kind.name()).collect::<Vec<_>>())
    .bind(changes.iter().map(|c| c.id).collect::<Vec<_>>())
    .bind(changes.iter().map(|c| c.no.cast_signed()).collect::<Vec<_>>())
    .bind(changes.iter().map(|c| json(&c.before)).collect::<Vec<_>>())
    .bind(changes.iter().map(|c| json(&c.after)).collect::<Vec<_>>())
    .execute(&mut *conn)
    .await?;
    Ok(())
}
