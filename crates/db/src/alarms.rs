//! Alarms as they are kept: where each stands, and everything that happened.

use crate::{Db, DbError, pool::Pool};
use havrel_core::{
    alarm::{
        Acknowledgement, AlarmEvent, AlarmStanding, AlarmState, Condition, EventKind, Handling, UnknownCode, past, span::Turn,
    },
    frame::Frame,
    number::Number,
    sample::Value,
    time::Nanos,
};
use sqlx::{PgConnection, Postgres, QueryBuilder, Row, postgres::PgRow, types::Json};
use std::collections::HashMap;
use uuid::Uuid;

/// So many of the last events of a rule are replayed to know how its alarm stood.
const REPLAYED: i64 = 50;

/// Which events are asked for.
#[derive(Clone, Debug)]
pub struct EventFilter {
    /// When they occurred; both included.
    pub from: Nanos,
    pub to: Nanos,
    /// Only of these rules, if given.
    pub rules: Option<Vec<Uuid>>,
    /// Without what suppression by design does and keeps back.
    pub told: bool,
    /// Only of these priorities and kinds; empty for all.
    pub priorities: Vec<u8>,
    pub kinds: Vec<EventKind>,
    /// All of which must occur.
    pub words: Vec<Word>,
}

/// A word that an event holds: in what the list said or in a comment, in who did it, or in the name or the place of its rule.
#[derive(Clone, Debug)]
pub struct Word {
    /// In lower case.
    pub text: String,
    /// The rules in whose name or place it occurs.
    pub rules: Vec<Uuid>,
}

impl EventFilter {
    /// All events.
    pub const ALL: EventFilter = EventFilter {
        from: Nanos::MIN,
        to: Nanos::MAX,
        rules: None,
        told: false,
        priorities: Vec::new(),
        kinds: Vec::new(),
        words: Vec::new(),
    };

    /// Appends it as a condition of a query.
    fn add_to(&self, query: &mut QueryBuilder<Postgres>) {
        query.push(" occurred_at between ").push_bind(self.from).push(" and ").push_bind(self.to);
        if let Some(rules) = &self.rules {
            query.push(" and rule = any(").push_bind(rules).push(")");
        }
        if self.told {
            query.push(" and kind not in (8, 9) and not (suppressed and kind in (1, 2))");
        }
        if !self.priorities.is_empty() {
            let all: Vec<i16> = self.priorities.iter().map(|p| i16::from(*p)).collect();
            query.push(" and priority = any(").push_bind(all).push(")");
        }
        if !self.kinds.is_empty() {
            let all: Vec<i16> = self.kinds.iter().map(|kind| *kind as i16).collect();
            query.push(" and kind = any(").push_bind(all).push(")");
        }
        for word in &self.words {
            query.push(" and (rule = any(").push_bind(&word.rules).push(")");
            query.push(" or strpos(lower(text || ' ' || comment || ' ' || actor), ").push_bind(&word.text).push(") > 0)");
        }
    }
}

impl Db {
    /// Where every alarm stood last.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn standings(&self) -> Result<Vec<AlarmStanding>, DbError> {
        let rows = sqlx::query("select * from alarm_standing").fetch_all(&self.pool).await?;
        rows.iter().map(standing).collect()
    }

    /// Events by their place in the order “the latest to occur first”: how many there are up to the number `upto` (all if not
    /// given), that number, and at most 1,000 of them from index `from` on.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn alarm_page(
        &self,
        filter: &EventFilter,
        upto: Option<i64>,
        from: i64,
        count: i64,
    ) -> Result<(i64, i64, Vec<(i64, AlarmEvent)>), DbError> {
        let pool = self.pool_for(filter, count);
        let upto = match upto {
            Some(upto) => upto,
            None => sqlx::query_scalar("select coalesce(max(id), 0) from alarm_event").fetch_one(&self.pool).await?,
        };
        let mut query = QueryBuilder::new("select count(*) from alarm_event where id <= ");
        query.push_bind(upto).push(" and");
        filter.add_to(&mut query);
        let total: i64 = query.build_query_scalar().fetch_one(pool).await?;
        let mut query = QueryBuilder::new("select * from alarm_event where id <= ");
        query.push_bind(upto).push(" and");
        filter.add_to(&mut query);
        query.push(" order by occurred_at desc, id desc offset ").push_bind(from.max(0));
        query.push(" limit ").push_bind(count.clamp(0, 1000));
        let rows = query.build().fetch_all(pool).await?;
        Ok((upto, total, rows.iter().map(event).collect::<Result<_, DbError>>()?))
    }

    /// Events with their numbers, the latest to occur first: at most `most`, and only those older than `before`, one of an earlier
    /// answer.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn alarm_events(
        &self,
        filter: &EventFilter,
        before: Option<i64>,
        most: i64,
    ) -> Result<Vec<(i64, AlarmEvent)>, DbError> {
        let mut query = QueryBuilder::new("select * from alarm_event where");
        filter.add_to(&mut query);
        if let Some(before) = before {
            query
                .push(" and (occurred_at, id) < (select occurred_at, id from alarm_event where id = ")
                .push_bind(before)
                .push(")");
        }
        query.push(" order by occurred_at desc, id desc limit ").push_bind(most);
        let rows = query.build().fetch_all(self.pool_for(filter, most)).await?;
        rows.iter().map(event).collect()
    }

    /// Words are looked for in every event of the period, and many events are a long answer.
    fn pool_for(&self, filter: &EventFilter, most: i64) -> &Pool {
        if filter.words.is_empty() && most <= 1000 { &self.pool } else { &self.heavy }
    }

    /// How the alarms of some rules stood at an instant, each with what its rule asked for then; those that were normal are
    /// left out.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn standings_at(&self, rules: &HashMap<Uuid, Handling>, at: Nanos) -> Result<Vec<AlarmStanding>, DbError> {
        // What keeps an alarm from the operator can lie far behind the events that it makes meanwhile.
        let rows = sqlx::query(
            "select e.* from unnest($1::uuid[]) as r(rule), lateral (
                 (select * from alarm_event e where e.rule = r.rule and e.occurred_at <= $2
                  order by e.occurred_at desc, e.id desc limit $3)
                 union
                 (select * from alarm_event e where e.rule = r.rule and e.occurred_at <= $2 and e.kind between 6 and 11
                  order by e.occurred_at desc, e.id desc limit $3)) e
             order by e.rule, e.occurred_at, e.id",
        )
        .bind(rules.keys().copied().collect::<Vec<_>>())
        .bind(at)
        .bind(REPLAYED)
        .fetch_all(&self.heavy)
        .await?;
        let events: Vec<AlarmEvent> = rows.iter().map(|row| event(row).map(|(_, event)| event)).collect::<Result<_, _>>()?;
        let of_rule = events.chunk_by(|a, b| a.rule == b.rule).filter_map(|events| Some((events.first()?.rule, events)));
        let after = |(rule, events)| past::after(rule, rules.get(&rule).copied().unwrap_or_default(), events);
        Ok(of_rule.map(after).filter(|standing: &AlarmStanding| !standing.state.is_normal()).collect())
    }

    /// Everything that happened to alarms in `from..to` that changes what operators are told, of some rules or of all, with what `known`
    /// rules did last before; in the order of its time, at most `most`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn alarm_course(
        &self,
        rules: Option<&[Uuid]>,
        known: &[Uuid],
        (from, to): (Nanos, Nanos),
        most: i64,
    ) -> Result<Vec<Turn>, DbError> {
        let rows = sqlx::query(
            "select rule, kind, priority, suppressed, occurred_at as at, id from (
                 (select e.* from unnest($1::uuid[]) as r(rule), lateral (
                      select * from alarm_event e where e.rule = r.rule and e.occurred_at < $3 and e.kind in (1, 2, 4)
                      order by e.occurred_at desc, e.id desc limit 1) e)
                 union all
                 (select e.* from unnest($1::uuid[]) as r(rule), lateral (
                      select * from alarm_event e where e.rule = r.rule and e.occurred_at < $3 and e.kind between 6 and 11
                      order by e.occurred_at desc, e.id desc limit 1) e)
                 union all
                 (select * from alarm_event where ($2::uuid[] is null or rule = any($2)) and occurred_at >= $3 and occurred_at < $4
                  order by occurred_at limit $5)) found
             order by at, id",
        )
        .bind(known)
        .bind(rules)
        .bind(from)
        .bind(to)
        .bind(most)
        .fetch_all(&self.heavy)
        .await?;
        rows.iter().map(turn).collect()
    }

    /// The rules whose alarms came at some time from an instant on.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn rules_raised(&self, from: Nanos) -> Result<Vec<Uuid>, DbError> {
        let found = sqlx::query_scalar("select distinct rule from alarm_event where kind = 1 and occurred_at >= $1");
        Ok(found.bind(from).fetch_all(&self.heavy).await?)
    }

    /// When the first event of an alarm occurred that history knows.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn first_alarm_event(&self) -> Result<Option<Nanos>, DbError> {
        Ok(sqlx::query_scalar("select min(occurred_at) from alarm_event").fetch_one(&self.pool).await?)
    }

    /// What raised and ended the alarms of some rules in `from..=to`, with the last event of each before, in the order of
    /// their time; at most `most`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn alarm_turns(&self, rules: &[Uuid], from: Nanos, to: Nanos, most: i64) -> Result<Vec<Turn>, DbError> {
        let rows = sqlx::query(
            "select rule, kind, priority, suppressed, occurred_at as at, id from (
                 (select e.* from unnest($1::uuid[]) as r(rule), lateral (
                      select * from alarm_event e where e.rule = r.rule and e.occurred_at < $2 and e.kind = any($4)
                      order by e.occurred_at desc, e.id desc limit 1) e)
                 union all
                 (select * from alarm_event where rule = any($1) and occurred_at between $2 and $3 and kind = any($4)
                  order by occurred_at limit $5)) found
             order by at, id",
        )
        .bind(rules)
        .bind(from)
        .bind(to)
        .bind([EventKind::Raised, EventKind::Returned, EventKind::Withdrawn].map(|kind| kind as i16))
        .bind(most)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(turn).collect()
    }
}

fn turn(r: &PgRow) -> Result<Turn, DbError> {
    Ok(Turn {
        rule: r.try_get("rule")?,
        kind: EventKind::from_code(code(r, "kind")?)?,
        priority: code(r, "priority")?,
        at: r.try_get("at")?,
        suppressed: r.try_get("suppressed")?,
    })
}

/// A small number that stands for one of a few things.
fn code(r: &PgRow, column: &str) -> Result<u8, sqlx::Error> {
    // What does not fit is a number that no version gives a meaning.
    Ok(u8::try_from(r.try_get::<i16, _>(column)?).unwrap_or(u8::MAX))
}

/// The value of an event or of how an alarm stands, with all its digits.
fn number(r: &PgRow) -> Result<Number, sqlx::Error> {
    let digits: Option<String> = r.try_get("digits")?;
    let exact = digits.and_then(|digits| Value::of_digits(&digits)?.exact());
    exact.map_or_else(|| r.try_get("value").map(Number::Float), Ok)
}

/// As the columns `value` and `digits` hold a number.
fn columns(number: Number) -> (f64, Option<String>) {
    (number.float(), number.is_large().then(|| number.print(0)))
}

fn standing(r: &PgRow) -> Result<AlarmStanding, DbError> {
    let (condition, acknowledgement) = (code(r, "condition")?, code(r, "acknowledgement")?);
    let unknown = |what, code| UnknownCode { what, code };
    Ok(AlarmStanding {
        rule: r.try_get("rule")?,
        state: AlarmState {
            condition: Condition::from_code(condition).ok_or(unknown("alarm condition", condition))?,
            acknowledgement: Acknowledgement::from_code(acknowledgement).ok_or(unknown("acknowledgement", acknowledgement))?,
            suppressions: r.try_get::<Json<_>, _>("suppressions")?.0,
        },
        sequence: r.try_get::<i32, _>("sequence")?.unsigned_abs(),
        raised_at: r.try_get("raised_at")?,
        returned_at: r.try_get("returned_at")?,
        value: number(r)?,
        text: r.try_get("text")?,
        acknowledged_by: r.try_get("acknowledged_by")?,
        delay_since: r.try_get("turning_since")?,
        first_out: r.try_get("first_out")?,
    })
}

fn event(r: &PgRow) -> Result<(i64, AlarmEvent), DbError> {
    let event = AlarmEvent {
        rule: r.try_get("rule")?,
        sequence: r.try_get::<i32, _>("sequence")?.unsigned_abs(),
        kind: EventKind::from_code(code(r, "kind")?)?,
        priority: code(r, "priority")?,
        occurred_at: r.try_get("occurred_at")?,
        decided_at: r.try_get("decided_at")?,
        value: number(r)?,
        limit: r.try_get("level")?,
        suppressed: r.try_get("suppressed")?,
        first_out: r.try_get("first_out")?,
        until: r.try_get("until_at")?,
        actor: r.try_get("actor")?,
        comment: r.try_get("comment")?,
        text: r.try_get("text")?,
        values: r.try_get::<Json<_>, _>("values_with")?.0,
    };
    Ok((r.try_get("id")?, event))
}

/// Stores what frames tell of alarms.
pub(crate) async fn store(conn: &mut PgConnection, frames: &[&Frame]) -> Result<(), sqlx::Error> {
    for frame in frames {
        for e in &frame.events {
            let (value, digits) = columns(e.value);
            sqlx::query(
                "insert into alarm_event (rule, sequence, kind, priority, occurred_at, decided_at, value, digits, level, suppressed,
                     until_at, actor, comment, text, node, first_out, values_with)
                 values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15, $16, $17) on conflict do nothing",
            )
            .bind(e.rule)
            .bind(e.sequence.cast_signed())
            .bind(e.kind as i16)
            .bind(i16::from(e.priority))
            .bind(e.occurred_at)
            .bind(e.decided_at)
            .bind(value)
            .bind(digits)
            .bind(e.limit)
            .bind(e.suppressed)
            .bind(e.until)
            .bind(&e.actor)
            .bind(&e.comment)
            .bind(&e.text)
            .bind(frame.node)
            .bind(e.first_out)
            .bind(Json(&e.values))
            .execute(&mut *conn)
            .await?;
        }
    }
    standings(conn, frames).await
}

/// Where alarms stand by these frames: the last of each rule, in one statement.
async fn standings(conn: &mut PgConnection, frames: &[&Frame]) -> Result<(), sqlx::Error> {
    let last: HashMap<Uuid, &AlarmStanding> = frames.iter().flat_map(|f| &f.states).map(|s| (s.rule, s)).collect();
    if last.is_empty() {
        return Ok(());
    }
    let mut all: Vec<&AlarmStanding> = last.into_values().collect();
    all.sort_unstable_by_key(|s| s.rule);
    let (values, digits): (Vec<f64>, Vec<Option<String>>) = all.iter().map(|s| columns(s.value)).unzip();
    sqlx::query(
        "insert into alarm_standing (rule, state, condition, acknowledgement, suppressions, sequence, active, raised_at, returned_at,
             value, digits, text, acknowledged_by, turning_since, first_out)
         select * from unnest($1::uuid[], $2::smallint[], $3::smallint[], $4::smallint[], $5::jsonb[], $6::int[], $7::bool[],
             $8::bigint[], $9::bigint[], $10::float8[], $11::text[], $12::text[], $13::text[], $14::bigint[], $15::bool[])
         on conflict (rule) do update set state = excluded.state, condition = excluded.condition,
             acknowledgement = excluded.acknowledgement, suppressions = excluded.suppressions, sequence = excluded.sequence,
             active = excluded.active, raised_at = excluded.raised_at, returned_at = excluded.returned_at, value = excluded.value,
             digits = excluded.digits, text = excluded.text, acknowledged_by = excluded.acknowledged_by,
             turning_since = excluded.turning_since, first_out = excluded.first_out
         where excluded.sequence >= alarm_standing.sequence",
    )
    .bind(all.iter().map(|s| s.rule).collect::<Vec<_>>())
    .bind(all.iter().map(|s| s.state.standard() as i16).collect::<Vec<_>>())
    .bind(all.iter().map(|s| s.state.condition as i16).collect::<Vec<_>>())
    .bind(all.iter().map(|s| s.state.acknowledgement as i16).collect::<Vec<_>>())
    .bind(all.iter().map(|s| Json(&s.state.suppressions)).collect::<Vec<_>>())
    .bind(all.iter().map(|s| s.sequence.cast_signed()).collect::<Vec<_>>())
    .bind(all.iter().map(|s| s.is_active()).collect::<Vec<_>>())
    .bind(all.iter().map(|s| s.raised_at).collect::<Vec<_>>())
    .bind(all.iter().map(|s| s.returned_at).collect::<Vec<_>>())
    .bind(values)
    .bind(digits)
    .bind(all.iter().map(|s| s.text.as_str()).collect::<Vec<_>>())
    .bind(all.iter().map(|s| s.acknowledged_by.as_str()).collect::<Vec<_>>())
    .bind(all.iter().map(|s| s.delay_since).collect::<Vec<_>>())
    .bind(all.iter().map(|s| s.first_out).collect::<Vec<_>>())
    .execute(conn)
    .await?;
    Ok(())
}
