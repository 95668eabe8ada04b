//! Values that somebody set by hand: kept so that a restart knows of them.

use crate::{Db, DbError};
use havrel_core::{sample::Value, time::Nanos};
use serde_json::Value as Json;
use sqlx::Row;
use uuid::Uuid;

/// A value that stands in for what a tag's source says.
#[derive(Clone, Debug, PartialEq)]
pub struct ByHand {
    pub tag: Uuid,
    pub value: Value,
    pub reason: String,
    pub account: Option<Uuid>,
    /// Whose it is, by the name of then.
    pub actor: String,
    pub since: Nanos,
    /// When it ends by itself; `None`: only when somebody releases it.
    pub until: Option<Nanos>,
    /// Whether it outlasts a restart.
    pub keeps: bool,
}

impl Db {
    /// Every value that was set by hand and not released.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn hands(&self) -> Result<Vec<ByHand>, DbError> {
        let rows = sqlx::query("select tag, value, reason, account, actor, since, until, keeps from by_hand order by since")
            .fetch_all(&self.pool)
            .await?;
        rows.iter()
            .map(|r| {
                Ok(ByHand {
                    tag: r.try_get("tag")?,
                    value: value(r.try_get("value")?),
                    reason: r.try_get("reason")?,
                    account: r.try_get("account")?,
                    actor: r.try_get("actor")?,
                    since: r.try_get("since")?,
                    until: r.try_get("until")?,
                    keeps: r.try_get("keeps")?,
                })
            })
            .collect()
    }

    /// Keeps what was set by hand, in place of what was set for the same tag before.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn keep_hand(&self, hand: &ByHand) -> Result<(), DbError> {
        sqlx::query(
            "insert into by_hand (tag, value, reason, account, actor, since, until, keeps) values ($1, $2, $3, $4, $5, $6, $7, $8) \
             on conflict (tag) do update set value = excluded.value, reason = excluded.reason, account = excluded.account, \
             actor = excluded.actor, since = excluded.since, until = excluded.until, keeps = excluded.keeps",
        )
        .bind(hand.tag)
        .bind(stored(&hand.value))
        .bind(&hand.reason)
        .bind(hand.account)
        .bind(&hand.actor)
        .bind(hand.since)
        .bind(hand.until)
        .bind(hand.keeps)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Forgets what was set by hand for a tag, if it is still what was set then.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn forget_hand(&self, tag: Uuid, since: Nanos) -> Result<(), DbError> {
        sqlx::query("delete from by_hand where tag = $1 and since = $2").bind(tag).bind(since).execute(&self.pool).await?;
        Ok(())
    }
}

/// A value as JSON that tells its type: large whole numbers stay numbers, which `jsonb` keeps digit by digit.
fn stored(value: &Value) -> Json {
    match value {
        Value::I64(number) => (*number).into(),
        Value::U64(number) => (*number).into(),
        other => other.to_json(),
    }
}

fn value(json: Json) -> Value {
    match json {
        Json::Bool(on) => Value::Bool(on),
        Json::Number(n) => Value::of_json(&n).unwrap_or(Value::F64(f64::NAN)),
        Json::String(text) => Value::Text(text),
        other => Value::Text(other.to_string()),
    }
}
