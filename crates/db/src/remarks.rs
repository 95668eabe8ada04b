//! What people leave for others: notes at an instant of a tag, and trends and lookups kept under a name.

use crate::{Db, DbError, nanos_of};
use havrel_core::{access::Actor, time::Nanos};
use serde_json::Value as Json;
use sqlx::Row;
use uuid::Uuid;

/// Most notes one question answers.
pub const MOST_NOTES: i64 = 500;
/// Most questions of a kind that can be kept.
pub const MOST_KEPT: i64 = 1000;

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

/// What a kept question asks for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Asks {
    Trend,
    Lookup,
}

impl Asks {
    const fn name(self) -> &'static str {
        match self {
            Asks::Trend => "trend",
            Asks::Lookup => "lookup",
        }
    }
}

/// A question to history under a name.
#[derive(Clone, Debug, PartialEq)]
pub struct KeptQuestion {
    pub id: Uuid,
    pub name: String,
    pub question: Json,
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

    /// Keeps a question. One of the same kind and name, in whatever case, is replaced only if `over` says whose may be: anybody's, or
    /// those of one account. `None` when that name is taken or there is no room.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn keep_question(
        &self,
        asks: Asks,
        name: &str,
        question: &Json,
        by: &Actor,
        over: Option<Option<Uuid>>,
    ) -> Result<Option<Uuid>, DbError> {
        let id = sqlx::query_scalar(
            "insert into kept_question (id, kind, name, question, account, actor) select $1, $9, $2, $3, $4, $5
             where (select count(*) from kept_question where kind = $9) < $6
                 or exists (select from kept_question where kind = $9 and lower(name) = lower($2))
             on conflict (kind, lower(name)) do update set name = excluded.name, question = excluded.question,
                 account = excluded.account, actor = excluded.actor, made_at = clock_timestamp()
             where $7 and ($8::uuid is null or kept_question.account = $8)
             returning id",
        )
        .bind(Uuid::now_v7())
        .bind(name)
        .bind(question)
        .bind(by.account)
        .bind(&by.name)
        .bind(MOST_KEPT)
        .bind(over.is_some())
        .bind(over.flatten())
        .bind(asks.name())
        .fetch_optional(&self.pool)
        .await?;
        Ok(id)
    }

    /// All kept questions of a kind by name.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn kept_questions(&self, asks: Asks) -> Result<Vec<KeptQuestion>, DbError> {
        let rows = sqlx::query(concat!(
            "select id, name, question, account, actor, ",
            nanos_of!("made_at"),
            " as made from kept_question where kind = $1 order by lower(name)"
        ))
        .bind(asks.name())
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                Ok(KeptQuestion {
                    id: r.try_get("id")?,
                    name: r.try_get("name")?,
                    question: r.try_get("question")?,
                    account: r.try_get("account")?,
                    actor: r.try_get("actor")?,
                    made_at: r.try_get("made")?,
                })
            })
            .collect()
    }

    /// Forgets a kept question, of one account only if given; its name if there was one.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn forget_question(&self, asks: Asks, id: Uuid, account: Option<Uuid>) -> Result<Option<String>, DbError> {
        let gone = "delete from kept_question where kind = $3 and id = $1 and ($2 is null or account = $2) returning name";
        Ok(sqlx::query_scalar(gone).bind(id).bind(account).bind(asks.name()).fetch_optional(&self.pool).await?)
    }
}
