//! Calls: who was told of which alarms, when, and what came of it; and whom people are told at.

use crate::{Db, DbError};
use havrel_core::{
    access::Role,
    call_out::{Call, Called, How, Over, message::Message},
    notice::Tries,
    plant::week::Hours,
    time::Nanos,
};
use sqlx::{PgConnection, Row, postgres::PgRow, types::Json};
use std::collections::{BTreeMap, HashMap};
use uuid::Uuid;

/// Somebody who can be told.
#[derive(Clone, Debug, PartialEq)]
pub struct Contact {
    pub account: Uuid,
    pub name: String,
    pub role: Role,
    /// Nobody can sign in with the account.
    pub disabled: bool,
    /// Empty: none.
    pub mail: String,
    /// The times of the week in which they may be told.
    pub hours: Hours,
}

/// A call as it is kept.
#[derive(Clone, Debug, PartialEq)]
pub struct CallRow {
    pub call: Call,
    /// What its plan was called.
    pub plan_name: String,
}

/// Which calls are asked for.
#[derive(Clone, Copy, Debug, Default)]
pub struct CallFilter {
    /// Only those that began before.
    pub before: Option<Nanos>,
    /// Only those that are not over.
    pub open: bool,
    /// Only those of this rule's alarms.
    pub rule: Option<Uuid>,
}

const CALL: &str = "id, plan, plan_name, test, began_at, round, step, next_at, told_at, later_at, held, over_at, over";
const MESSAGE: &str = "id, call, made_at, whom, account, carrier, notice, attempts, next_at, sent_at, answer";

impl Db {
    /// Everybody with an account, and where they are told.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn contacts(&self) -> Result<Vec<Contact>, DbError> {
        let rows = sqlx::query("select id, name, role, disabled, mail, hours from account order by lower(name)");
        let read = |row: &PgRow| {
            let hours: Option<Json<Hours>> = row.try_get("hours")?;
            let role: String = row.try_get("role")?;
            Ok(Contact {
                account: row.try_get("id")?,
                name: row.try_get("name")?,
                role: Role::from_name(&role).unwrap_or(Role::Viewer),
                disabled: row.try_get("disabled")?,
                mail: row.try_get("mail")?,
                hours: hours.map(|hours| hours.0).unwrap_or_default(),
            })
        };
        rows.fetch_all(&self.pool).await?.iter().map(read).collect()
    }

    /// Sets where somebody is told, and when. Whether there is such an account.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn set_contact(&self, account: Uuid, mail: &str, hours: &Hours) -> Result<bool, DbError> {
        let set = sqlx::query("update account set mail = $2, hours = $3 where id = $1")
            .bind(account)
            .bind(mail)
            .bind(Json(hours))
            .execute(&self.pool)
            .await?;
        Ok(set.rows_affected() > 0)
    }

    /// Keeps calls and messages as they are now.
    ///
    /// # Errors
    /// When the database does not answer; nothing is kept then.
    pub async fn keep_calls(&self, calls: &[CallRow], messages: &[Message]) -> Result<(), DbError> {
        let mut tx = self.pool.begin().await?;
        for row in calls {
            keep_call(&mut tx, row).await?;
        }
        for message in messages {
            keep_message(&mut tx, message).await?;
        }
        Ok(tx.commit().await?)
    }

    /// Calls that are not over, or not for longer than since a time.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn recent_calls(&self, since: Nanos) -> Result<Vec<Call>, DbError> {
        let asked = format!("select {CALL} from call where over_at is null or over_at >= $1");
        let rows = sqlx::query(sqlx::AssertSqlSafe(asked)).bind(since).fetch_all(&self.pool).await?;
        Ok(self.with_alarms(&rows).await?.into_iter().map(|row| row.call).collect())
    }

    /// The alarms of some rules for which somebody was called already, by plan and rule: when they came.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn answered_alarms(&self, rules: &[Uuid]) -> Result<Vec<(Uuid, Uuid, Nanos)>, DbError> {
        let rows = sqlx::query(
            "select c.plan, a.rule, max(a.raised_at) as raised_at from call_alarm a join call c on c.id = a.call
             where a.rule = any($1) and not c.test and not a.gone and c.over ->> 'how' in ('taken', 'unanswered')
             group by c.plan, a.rule",
        )
        .bind(rules)
        .fetch_all(&self.heavy)
        .await?;
        rows.iter().map(|r| Ok((r.try_get("plan")?, r.try_get("rule")?, r.try_get("raised_at")?))).collect()
    }

    /// Messages that are still to be sent.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn open_messages(&self) -> Result<Vec<Message>, DbError> {
        let asked = format!("select {MESSAGE} from call_message where next_at is not null");
        sqlx::query(sqlx::AssertSqlSafe(asked)).fetch_all(&self.pool).await?.iter().map(message).collect()
    }

    /// Calls, the newest first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn calls(&self, filter: &CallFilter, most: i64) -> Result<Vec<CallRow>, DbError> {
        let asked = format!(
            "select {CALL} from call where ($1::bigint is null or began_at < $1) and (not $2 or over_at is null)
             and ($3::uuid is null or exists (select from call_alarm a where a.call = call.id and a.rule = $3))
             order by began_at desc, id desc limit $4"
        );
        let rows = sqlx::query(sqlx::AssertSqlSafe(asked))
            .bind(filter.before)
            .bind(filter.open)
            .bind(filter.rule)
            .bind(most)
            .fetch_all(&self.pool)
            .await?;
        self.with_alarms(&rows).await
    }

    /// A call.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn call(&self, id: Uuid) -> Result<Option<CallRow>, DbError> {
        let asked = format!("select {CALL} from call where id = $1");
        let rows = sqlx::query(sqlx::AssertSqlSafe(asked)).bind(id).fetch_all(&self.pool).await?;
        Ok(self.with_alarms(&rows).await?.pop())
    }

    /// The messages of calls, the oldest first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn messages_of(&self, calls: &[Uuid]) -> Result<Vec<Message>, DbError> {
        let asked = format!("select {MESSAGE} from call_message where call = any($1) order by made_at, id");
        sqlx::query(sqlx::AssertSqlSafe(asked)).bind(calls).fetch_all(&self.pool).await?.iter().map(message).collect()
    }

    /// A message.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn message(&self, id: Uuid) -> Result<Option<Message>, DbError> {
        let asked = format!("select {MESSAGE} from call_message where id = $1");
        let row = sqlx::query(sqlx::AssertSqlSafe(asked)).bind(id).fetch_optional(&self.pool).await?;
        row.as_ref().map(message).transpose()
    }

    /// The events of alarms of some rules that are older than a time go, but for those of alarms that stand, and for what people and
    /// logic did to keep alarms back. Gives how many went, at most `most`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn forget_events(&self, rules: &[Uuid], before: Nanos, most: i64) -> Result<u64, DbError> {
        let gone = sqlx::query(
            "delete from alarm_event where id in (
                 select e.id from alarm_event e left join alarm_standing s on s.rule = e.rule
                 where e.rule = any($1) and e.occurred_at < $2 and e.kind not between 6 and 11 and (s.rule is null or (s.condition = 0 and s.acknowledgement <> 1) or s.raised_at > e.occurred_at) limit $3)",
        )
        .bind(rules)
        .bind(before)
        .bind(most)
        .execute(&self.heavy)
        .await?;
        Ok(gone.rows_affected())
    }

    async fn with_alarms(&self, rows: &[PgRow]) -> Result<Vec<CallRow>, DbError> {
        let ids: Vec<Uuid> = rows.iter().map(|row| row.try_get("id")).collect::<Result<_, sqlx::Error>>()?;
        let mut alarms: HashMap<Uuid, BTreeMap<Uuid, Called>> = HashMap::new();
        let found = sqlx::query("select call, rule, raised_at, priority, text, gone, told from call_alarm where call = any($1)");
        for row in found.bind(&ids).fetch_all(&self.pool).await? {
            let priority: i16 = row.try_get("priority")?;
            let called = Called {
                raised_at: row.try_get("raised_at")?,
                text: row.try_get("text")?,
                priority: u8::try_from(priority).unwrap_or_default(),
                gone: row.try_get("gone")?,
                told: row.try_get("told")?,
            };
            alarms.entry(row.try_get("call")?).or_default().insert(row.try_get("rule")?, called);
        }
        rows.iter().map(|row| call(row, &mut alarms)).collect()
    }
}

async fn keep_call(conn: &mut PgConnection, row: &CallRow) -> Result<(), sqlx::Error> {
    let CallRow { call, plan_name } = row;
    sqlx::query(
        "insert into call (id, plan, plan_name, test, began_at, round, step, next_at, told_at, over_at, over, later_at, held)
         values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13)
         on conflict (id) do update set round = $6, step = $7, next_at = $8, told_at = $9, over_at = $10, over = $11, later_at = $12,
             held = $13",
    )
    .bind(call.id)
    .bind(call.plan)
    .bind(plan_name)
    .bind(call.test)
    .bind(call.began_at)
    .bind(i32::try_from(call.round).unwrap_or(i32::MAX))
    .bind(i32::try_from(call.step).unwrap_or(i32::MAX))
    .bind(call.next_at)
    .bind(call.told_at)
    .bind(call.over.as_ref().map(|over| over.at))
    .bind(call.over.as_ref().map(|over| Json(&over.how)))
    .bind(call.later)
    .bind(i32::try_from(call.held).unwrap_or(i32::MAX))
    .execute(&mut *conn)
    .await?;
    let alarms: Vec<(&Uuid, &Called)> = call.alarms.iter().collect();
    sqlx::query(
        "insert into call_alarm (call, rule, raised_at, priority, text, gone, told)
         select $1, * from unnest($2::uuid[], $3::bigint[], $4::smallint[], $5::text[], $6::bool[], $7::bool[])
         on conflict (call, rule) do update set raised_at = excluded.raised_at, priority = excluded.priority, text = excluded.text,
             gone = excluded.gone, told = excluded.told",
    )
    .bind(call.id)
    .bind(alarms.iter().map(|(rule, _)| **rule).collect::<Vec<_>>())
    .bind(alarms.iter().map(|(_, a)| a.raised_at).collect::<Vec<_>>())
    .bind(alarms.iter().map(|(_, a)| i16::from(a.priority)).collect::<Vec<_>>())
    .bind(alarms.iter().map(|(_, a)| a.text.as_str()).collect::<Vec<_>>())
    .bind(alarms.iter().map(|(_, a)| a.gone).collect::<Vec<_>>())
    .bind(alarms.iter().map(|(_, a)| a.told).collect::<Vec<_>>())
    .execute(&mut *conn)
    .await?;
    Ok(())
}

async fn keep_message(conn: &mut PgConnection, message: &Message) -> Result<(), sqlx::Error> {
    sqlx::query(
        "insert into call_message (id, call, made_at, whom, account, carrier, notice, attempts, next_at, sent_at, answer)
         values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)
         on conflict (id) do update set attempts = $8, next_at = $9, sent_at = $10, answer = $11",
    )
    .bind(message.notice.id)
    .bind(message.call)
    .bind(message.made_at)
    .bind(&message.whom)
    .bind(message.account)
    .bind(message.carrier)
    .bind(Json(&message.notice))
    .bind(i32::try_from(message.tries.attempts).unwrap_or(i32::MAX))
    .bind(message.tries.next_at)
    .bind(message.tries.sent_at)
    .bind(&message.tries.answer)
    .execute(conn)
    .await?;
    Ok(())
}

fn call(row: &PgRow, alarms: &mut HashMap<Uuid, BTreeMap<Uuid, Called>>) -> Result<CallRow, DbError> {
    let id = row.try_get("id")?;
    let (round, step, held): (i32, i32, i32) = (row.try_get("round")?, row.try_get("step")?, row.try_get("held")?);
    let over: (Option<Nanos>, Option<Json<How>>) = (row.try_get("over_at")?, row.try_get("over")?);
    let call = Call {
        id,
        plan: row.try_get("plan")?,
        test: row.try_get("test")?,
        began_at: row.try_get("began_at")?,
        alarms: alarms.remove(&id).unwrap_or_default(),
        round: u32::try_from(round).unwrap_or_default(),
        step: usize::try_from(step).unwrap_or_default(),
        next_at: row.try_get("next_at")?,
        told_at: row.try_get("told_at")?,
        later: row.try_get("later_at")?,
        held: u32::try_from(held).unwrap_or_default(),
        over: over.0.zip(over.1).map(|(at, how)| Over { at, how: how.0 }),
    };
    Ok(CallRow { call, plan_name: row.try_get("plan_name")? })
}

fn message(row: &PgRow) -> Result<Message, DbError> {
    let attempts: i32 = row.try_get("attempts")?;
    Ok(Message {
        call: row.try_get("call")?,
        made_at: row.try_get("made_at")?,
        whom: row.try_get("whom")?,
        account: row.try_get("account")?,
        carrier: row.try_get("carrier")?,
        notice: row.try_get::<Json<_>, _>("notice")?.0,
        tries: Tries {
            attempts: u32::try_from(attempts).unwrap_or_default(),
            next_at: row.try_get("next_at")?,
            sent_at: row.try_get("sent_at")?,
            answer: row.try_get("answer")?,
        },
    })
}
