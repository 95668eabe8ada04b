//! Alarms as they are kept: where each stands, and everything that happened.

use crate::{Db, DbError};
use havrel_core::{
    alarm::{AlarmEvent, AlarmStanding, AlarmState, EventKind, span::Turn},
    time::Nanos,
};
use sqlx::{Row, postgres::PgRow};
use uuid::Uuid;

/// Which events are asked for; newest first.
#[derive(Clone, Debug, Default)]
pub struct EventFilter {
    pub from: Nanos,
    pub to: Nanos,
    /// Only of these rules, if given.
    pub rules: Option<Vec<Uuid>>,
    /// Only events older than this one of an earlier answer.
    pub before: Option<i64>,
    /// At most 1,000.
    pub limit: i64,
}

impl Db {
    /// Where every alarm stood last.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn standings(&self) -> Result<Vec<AlarmStanding>, DbError> {
        let rows = sqlx::query("select * from alarm_standing").fetch_all(&self.pool).await?;
        rows.into_iter()
            .map(|r| {
                let state = AlarmState::from_code(r.try_get::<i16, _>("state")? as u8).unwrap_or(AlarmState::Normal);
                Ok(AlarmStanding {
                    rule: r.try_get("rule")?,
                    state,
                    sequence: r.try_get::<i32, _>("sequence")?.unsigned_abs(),
                    active: r.try_get("active")?,
                    raised_at: r.try_get("raised_at")?,
                    returned_at: r.try_get("returned_at")?,
                    value: r.try_get("value")?,
                    text: r.try_get("text")?,
                    acknowledged_by: r.try_get("acknowledged_by")?,
                    turning_since: r.try_get("turning_since")?,
                })
            })
            .collect()
    }

    /// Events by their place in the order “the latest to occur first”: how many there are up to the number `upto` (all if not
    /// given), that number, and `count` of them from index `from` on.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn alarm_page(
        &self,
        rules: Option<&[Uuid]>,
        upto: Option<i64>,
        from: i64,
        count: i64,
    ) -> Result<(i64, i64, Vec<(i64, AlarmEvent)>), DbError> {
        let upto = match upto {
            Some(upto) => upto,
            None => sqlx::query_scalar("select coalesce(max(id), 0) from alarm_event").fetch_one(&self.pool).await?,
        };
        let total = "select count(*) from alarm_event where id <= $1 and ($2::uuid[] is null or rule = any($2))";
        let total: i64 = sqlx::query_scalar(total).bind(upto).bind(rules).fetch_one(&self.pool).await?;
        let rows = sqlx::query(
            "select * from alarm_event where id <= $1 and ($2::uuid[] is null or rule = any($2))
             order by occurred_at desc, id desc offset $3 limit $4",
        )
        .bind(upto)
        .bind(rules)
        .bind(from.max(0))
        .bind(count.clamp(0, 1000))
        .fetch_all(&self.pool)
        .await?;
        Ok((upto, total, rows.iter().map(event).collect::<Result<_, sqlx::Error>>()?))
    }

    /// Events with their numbers, the latest to occur first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn alarm_events(&self, filter: &EventFilter) -> Result<Vec<(i64, AlarmEvent)>, DbError> {
        let rows = sqlx::query(
            "select * from alarm_event where occurred_at between $1 and $2 and ($3::uuid[] is null or rule = any($3))
             and ($4::bigint is null or (occurred_at, id) < (select occurred_at, id from alarm_event where id = $4))
             order by occurred_at desc, id desc limit $5",
        )
        .bind(filter.from)
        .bind(filter.to)
        .bind(&filter.rules)
        .bind(filter.before)
        .bind(filter.limit.clamp(1, 1000))
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(event).collect::<Result<_, sqlx::Error>>()?)
    }

    /// What raised and ended the alarms of some rules in `from..=to`, with the last event of each before, in the order of
    /// their time; at most `most`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn alarm_turns(&self, rules: &[Uuid], from: Nanos, to: Nanos, most: i64) -> Result<Vec<Turn>, DbError> {
        let rows = sqlx::query(
            "select rule, kind, priority, occurred_at as at, id from (
                 (select e.* from unnest($1::uuid[]) as r(rule), lateral (
                      select * from alarm_event e where e.rule = r.rule and e.occurred_at < $2 and e.kind <> $4
                      order by e.occurred_at desc, e.id desc limit 1) e)
                 union all
                 (select * from alarm_event where rule = any($1) and occurred_at between $2 and $3 and kind <> $4
                  order by occurred_at limit $5)) found
             order by at, id",
        )
        .bind(rules)
        .bind(from)
        .bind(to)
        .bind(EventKind::Acknowledged as i16)
        .bind(most)
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|r| {
                Ok(Turn {
                    rule: r.try_get("rule")?,
                    kind: EventKind::from_code(r.try_get::<i16, _>("kind")? as u8).unwrap_or(EventKind::Withdrawn),
                    priority: r.try_get::<i16, _>("priority")? as u8,
                    at: r.try_get("at")?,
                })
            })
            .collect()
    }
}

fn event(r: &PgRow) -> Result<(i64, AlarmEvent), sqlx::Error> {
    let kind = EventKind::from_code(r.try_get::<i16, _>("kind")? as u8).unwrap_or(EventKind::Withdrawn);
    let event = AlarmEvent {
        rule: r.try_get("rule")?,
        sequence: r.try_get::<i32, _>("sequence")?.unsigned_abs(),
        kind,
        priority: r.try_get::<i16, _>("priority")? as u8,
        occurred_at: r.try_get("occurred_at")?,
        decided_at: r.try_get("decided_at")?,
        value: r.try_get("value")?,
        limit: r.try_get("level")?,
        actor: r.try_get("actor")?,
        comment: r.try_get("comment")?,
        text: r.try_get("text")?,
    };
    Ok((r.try_get("id")?, event))
}
